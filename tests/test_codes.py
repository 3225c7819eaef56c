"""Every finding code: a file that fires it, and the healthy twin that does not."""

from __future__ import annotations

import io
import struct
import zipfile
import zlib
from collections.abc import Callable

import numpy as np
import pytest

from conftest import HEALTHY, examine, healthy
from jugal.binary.limits import DEFAULT_LIMITS
from jugal.binary.source import Source
from jugal.engine import examine as engine_examine
from jugal.formats.base import FormatSpec
from jugal.formats.isobmff.boxes import find_box, read_tree
from jugal.formats.isobmff.repair import box_bytes
from jugal.formats.png.parse import read_chunks
from jugal.formats.png.repair import chunk_bytes
from jugal.model.codes import FindingCode as C
from jugal.model.finding import Severity
from jugal.model.result import Kind, Verdict
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import PARAGRAPHS, riverbed

NOISE = np.random.default_rng(7).bytes(40_000)
TEXT = ("\n".join(PARAGRAPHS) * 30).encode()


def put(data: bytes, at: int, new: bytes) -> bytes:
    return data[:at] + new + data[at + len(new) :]


def done(name: str, what: str, seed: int = 3) -> bytes:
    kind = name.split("-")[0]
    return harm(healthy(name), kind, what, seed).data


def segment(data: bytes, marker: int) -> int:
    return data.index(bytes([0xFF, marker]))


def middle(data: bytes, size: int = 4096) -> int:
    return len(data) // 2 // size * size


def png_without(kind: bytes) -> bytes:
    data = healthy("png")
    chunks, _ = read_chunks(Source.from_bytes(data), DEFAULT_LIMITS)
    return data[:8] + b"".join(data[c.start : c.end] for c in chunks if c.kind != kind)


def png_less_rows() -> bytes:
    data = healthy("png")
    header = data[16:29]
    return data[:8] + chunk_bytes(b"IHDR", header[:4] + struct.pack(">I", 200) + header[8:]) + data[33:]


def png_palette_crc() -> bytes:
    data = healthy("png-palette")
    at = data.index(b"PLTE") + 4 + 192
    return put(data, at, bytes([data[at] ^ 1]))


def png_data_crc() -> bytes:
    data = healthy("png")
    chunks, _ = read_chunks(Source.from_bytes(data), DEFAULT_LIMITS)
    last = [c for c in chunks if c.kind == b"IDAT"][-1]
    return put(data, last.end - 4, b"\0\0\0\1")


def png_huge() -> bytes:
    header = struct.pack(">IIBBBBB", 2**31 - 1, 2**31 - 1, 8, 6, 0, 0, 0)
    return (
        b"\x89PNG\r\n\x1a\n"
        + chunk_bytes(b"IHDR", header)
        + chunk_bytes(b"IDAT", zlib.compress(bytes(5000)))
        + chunk_bytes(b"IEND", b"")
    )


def nested_boxes(depth: int = 3000) -> bytes:
    inner = box_bytes(b"free", b"")
    for _ in range(depth):
        inner = box_bytes(b"moov", inner)
    return box_bytes(b"ftyp", b"isom\0\0\2\0isom") + inner


def mp4_hole_in_table() -> bytes:
    data = healthy("mp4-long")
    tree = read_tree(Source.from_bytes(data))
    moov = tree.first(b"moov")
    assert moov is not None
    table = moov.all(b"trak")[1].child(b"mdia", b"minf", b"stbl", b"stsz")
    assert table is not None
    start = -(-(table.body + 12) // 512) * 512
    assert start + 512 <= table.end
    return put(data, start, bytes(512))


def mp4_counts() -> bytes:
    data = healthy("mp4")
    at = data.index(b"stsz") + 12
    count = int.from_bytes(data[at : at + 4], "big")
    return put(data, at, (count - 5).to_bytes(4, "big"))


def mp4_empty_fragments() -> bytes:
    data = healthy("mp4-fragments")
    return data[: data.index(b"moof") - 4]


def mp4_bad_run() -> bytes:
    data = healthy("mp4-fragments")
    at = data.index(b"trun") + 8
    return put(data, at, (10_000_000).to_bytes(4, "big"))


def riff_small() -> bytes:
    data = healthy("wav")
    at = data.index(b"data") + 4
    return put(data, at, (20_000).to_bytes(4, "little"))


def mp3_fewer() -> bytes:
    data = healthy("mp3")
    from jugal.formats.mp3.parse import read_stream

    stream = read_stream(Source.from_bytes(data))
    return data[: int(stream.frames[-40])]


def flac_without_frames(count: int) -> bytes:
    data = healthy("flac")
    from jugal.formats.flac.parse import read_flac

    stream = read_flac(Source.from_bytes(data))
    return data[: int(stream.offsets[5])] + data[int(stream.offsets[5 + count]) :]


def pdf_edit(old: bytes, new: bytes, last: bool = False) -> bytes:
    data = healthy("pdf")
    at = data.rindex(old) if last else data.index(old)
    return data[:at] + new + data[at + len(old) :]


def wrong_offset() -> bytes:
    data = healthy("pdf")
    at = data.index(b" 00000 n")
    return put(data, at - 4, b"9999")


def small_pdf(
    kids: bytes = b"[3 0 R]",
    page: bytes = b"<</Type/Page/Parent 2 0 R/MediaBox[0 0 9 9]>>",
    trailer: bytes = b"",
) -> bytes:
    """A PDF by hand with right offsets."""
    bodies = [b"<</Type/Catalog/Pages 2 0 R>>", b"<</Type/Pages/Count 1/Kids" + kids + b">>", page]
    out = b"%PDF-1.4\n"
    offsets = []
    for number, body in enumerate(bodies, 1):
        offsets.append(len(out))
        out += b"%d 0 obj\n%s\nendobj\n" % (number, body)
    xref = len(out)
    out += b"xref\n0 4\n0000000000 65535 f \n" + b"".join(b"%010d 00000 n \n" % o for o in offsets)
    return out + b"trailer\n<</Size 4/Root 1 0 R" + trailer + b">>\nstartxref\n%d\n%%%%EOF\n" % xref


def bomb() -> bytes:
    """Zeros that deflate a thousand to one; the test lowers the limit instead of writing gigabytes."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as file:
        file.writestr("zeros.bin", bytes(64 << 20))
    return out.getvalue()


def zip_flag(flags: int, method: int | None = None) -> bytes:
    data = bytearray(healthy("zip"))
    at = data.find(b"PK\x01\x02")
    while at >= 0:
        data[at + 8] |= flags
        if method is not None:
            data[at + 10] = method
        at = data.find(b"PK\x01\x02", at + 4)
    return bytes(data)


def docx_without(name: str) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(healthy("docx"))) as old, zipfile.ZipFile(out, "w") as new:
        for info in old.infolist():
            if info.filename != name:
                new.writestr(info, old.read(info.filename))
    return out.getvalue()


def docx_bad_xml() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(healthy("docx"))) as old, zipfile.ZipFile(out, "w") as new:
        for info in old.infolist():
            body = old.read(info.filename)
            new.writestr(info, body[:-20] if info.filename == "word/document.xml" else body)
    return out.getvalue()


def exif_broken() -> bytes:
    data = healthy("jpeg")
    at = data.index(b"Exif") + 6 + 4
    return put(data, at, b"\xff\xff\xff\x7f")


def further_astray() -> bytes:
    """A picture with an index of two more, and a segment put in between later."""
    data = encode.with_further(healthy("jpeg"), [healthy("jpeg-progressive"), healthy("jpeg-restart")])
    at = data.index(b"\xff\xe0")
    return data[:at] + b"\xff\xfe\x00\x12made-up remark\0\0" + data[at:]


def jpeg_spurious_marker() -> bytes:
    data = healthy("jpeg")
    return put(data, middle(data), b"\xff\xc4")


def jpeg_doubled() -> bytes:
    """A frame header that claims fewer rows than the scan holds."""
    data = healthy("jpeg-grey")
    return put(data, segment(data, 0xC0) + 5, (320).to_bytes(2, "big"))


def jpeg_lost_intervals() -> bytes:
    data = healthy("jpeg-restart")
    first = data.index(b"\xff\xd2")
    return data[:first] + data[data.index(b"\xff\xd4") :]


def jpeg_other_coding() -> bytes:
    data = healthy("jpeg")
    return put(data, segment(data, 0xC0), b"\xff\xc9")


FIRES: dict[C, Callable[[], bytes]] = {
    C.EMPTY: lambda: b"",
    C.ONE_BYTE: lambda: bytes(5000),
    C.FILLER: lambda: b"UNREADABLE SECTOR " * 500,
    C.HOLE: lambda: done("png", "zero-cluster"),
    C.FOREIGN: lambda: put(healthy("png"), middle(healthy("png")), TEXT[:4096]),
    C.TAIL: lambda: healthy("jpeg") + NOISE,
    C.UNKNOWN: lambda: NOISE,
    C.STATISTICS_ONLY: lambda: b"GIF89a" + NOISE,
    C.BUDGET: png_huge,
    C.JPEG_SOI: lambda: bytes(2) + healthy("jpeg")[2:],
    C.JPEG_BEFORE: lambda: NOISE[:700] + healthy("jpeg"),
    C.JPEG_EOI: lambda: healthy("jpeg")[:-2],
    C.JPEG_SEGMENT: lambda: put(healthy("jpeg"), segment(healthy("jpeg"), 0xDB) + 4, b"\x77"),
    C.JPEG_BETWEEN: lambda: healthy("jpeg").replace(b"\xff\xc0\x00\x11", bytes(100) + b"\xff\xc0\x00\x11", 1),
    C.JPEG_HEADER: lambda: done("jpeg", "no-header"),
    C.JPEG_TABLES: lambda: done("jpeg", "no-huffman-tables"),
    C.JPEG_CODE: lambda: done("jpeg-restart", "own-cluster", 5),
    C.JPEG_MARKER: jpeg_spurious_marker,
    C.JPEG_SHORT: lambda: done("jpeg", "truncate"),
    C.JPEG_SURPLUS: jpeg_doubled,
    C.JPEG_RESTART: jpeg_lost_intervals,
    C.JPEG_HOLE: lambda: done("jpeg", "zero-cluster"),
    C.JPEG_FOREIGN: lambda: put(healthy("jpeg"), middle(healthy("jpeg")), TEXT[:8192]),
    C.JPEG_BREAK: lambda: done("jpeg", "lost-cluster", 12),
    C.JPEG_EXIF: exif_broken,
    C.JPEG_FURTHER: further_astray,
    C.JPEG_WALKED: jpeg_other_coding,
    C.JPEG_PREVIEW: lambda: encode.jpeg(riverbed(160, 120, 1), exif=encode.exif_of("Lurga M2", "2026:05:14 07:31:00", 1600, 1200)),
    C.PNG_SIGNATURE: lambda: put(healthy("png"), 1, b"pNG"),
    C.PNG_CHUNK: lambda: healthy("png")[:33] + NOISE[:300] + healthy("png")[33:],
    C.PNG_HEADER: lambda: done("png", "header-crc"),
    C.PNG_CRC: png_palette_crc,
    C.PNG_CRC_ONLY: png_data_crc,
    C.PNG_DATA: lambda: done("png", "lost-cluster"),
    C.PNG_SHORT: lambda: done("png", "truncate"),
    C.PNG_SURPLUS: png_less_rows,
    C.PNG_END: lambda: done("png", "no-end"),
    C.BOX_SIZE: lambda: done("mp4", "mdat-size"),
    C.BOX_DEPTH: nested_boxes,
    C.MP4_FTYP: lambda: done("mp4", "no-file-type"),
    C.MP4_INDEX: lambda: done("mp4", "no-index"),
    C.MP4_INDEX_BROKEN: mp4_hole_in_table,
    C.MP4_MEDIA: mp4_empty_fragments,
    C.MP4_TABLES: mp4_counts,
    C.MP4_OUTSIDE: lambda: done("mp4-fast", "truncate"),
    C.MP4_SHIFTED: lambda: done("mp4-fast", "offsets-shifted"),
    C.MP4_SAMPLE: lambda: done("mp4", "text-cluster"),
    C.MP4_HOLE: lambda: done("mp4", "zero-cluster"),
    C.MP4_FRAGMENT: mp4_bad_run,
    C.WAV_SIZE: riff_small,
    C.WAV_HEADER: lambda: put(healthy("wav"), 0, bytes(4)),
    C.WAV_DATA: lambda: healthy("wav").replace(b"data", b"\1\2\3\4", 1),
    C.WAV_SHORT: lambda: done("wav", "truncate"),
    C.WAV_HOLE: lambda: done("wav", "zero-several"),
    C.WAV_FOREIGN: lambda: done("wav", "noise-cluster"),
    C.MP3_JUNK: lambda: done("mp3", "noise-cluster"),
    C.MP3_SHORT: lambda: healthy("mp3")[: len(healthy("mp3")) // 2 + 7],
    C.MP3_COUNT: mp3_fewer,
    C.MP3_HOLE: lambda: done("mp3", "zero-cluster"),
    C.FLAC_BEFORE: lambda: done("flac", "junk-before"),
    C.FLAC_MARKER: lambda: put(healthy("flac"), 0, b"flac"),
    C.FLAC_METADATA: lambda: put(healthy("flac"), 43, b"\xff\xff\xff"),
    C.FLAC_STREAMINFO: lambda: put(healthy("flac"), 8, bytes(30)),
    C.FLAC_FRAME: lambda: done("flac", "flip-bits"),
    C.FLAC_GAP: lambda: done("flac", "zero-cluster"),
    C.FLAC_LOST: lambda: flac_without_frames(3),
    C.FLAC_SHORT: lambda: done("flac", "truncate"),
    C.PDF_HEADER: lambda: put(small_pdf(), 0, b"%XYZ-"),
    C.PDF_XREF: lambda: done("pdf", "startxref-wrong"),
    C.PDF_OFFSET: wrong_offset,
    C.PDF_TRAILER: lambda: small_pdf().replace(b"/Root 1 0 R", b"/Boot 1 0 R"),
    C.PDF_PAGES: lambda: small_pdf(kids=b"[9 0 R]"),
    C.PDF_LOOP: lambda: small_pdf(kids=b"[3 0 R 2 0 R]"),
    C.PDF_OBJECT: lambda: healthy("pdf")[: healthy("pdf").index(b"/Type /Page") + 11],
    C.PDF_STREAM: lambda: done("pdf", "noise-cluster"),
    C.PDF_LENGTH: lambda: pdf_edit(b"/Length ", b"/Length 1"),
    C.PDF_EOF: lambda: healthy("pdf")[: healthy("pdf").rindex(b"startxref")],
    C.PDF_ENCRYPTED: lambda: small_pdf(trailer=b"/Encrypt<</Filter/Standard>>"),
    C.ZIP_END: lambda: done("zip", "no-directory"),
    C.ZIP_DIRECTORY: lambda: put(healthy("zip"), healthy("zip").index(b"PK\x01\x02"), bytes(4)),
    C.ZIP_LOCAL: lambda: put(healthy("zip"), 0, bytes(4)),
    C.ZIP_MEMBER: lambda: done("docx", "noise-cluster"),
    C.ZIP_CRC: lambda: done("zip", "text-cluster"),
    C.ZIP_BOMB: bomb,
    C.ZIP_ENCRYPTED: lambda: zip_flag(1),
    C.ZIP_METHOD: lambda: zip_flag(0, 97),
    C.PACKAGE_PART: lambda: docx_without("[Content_Types].xml"),
    C.PACKAGE_XML: docx_bad_xml,
    C.TEXT_BINARY: lambda: put(TEXT, 512, bytes(512)),
    C.TEXT_FORM: lambda: b'{"transects": [1, 2, {"shells": 14',
}  # fmt: skip


@pytest.mark.parametrize("code", [c for c in C if c not in (C.NAME, C.EXAMINER, C.ZIP_BOMB)], ids=str)
def test_code_fires(code: C) -> None:
    found = examine(FIRES[code]())
    assert code in {f.code for f in found.findings}, [(f.code.value, f.message) for f in found.findings]
    assert all(f.message.endswith(".") for f in found.findings)
    assert all(f.message[0].isupper() or f.message[0] in "'0123456789" for f in found.findings)
    assert all(f.span is None or f.span.end <= found.size for f in found.findings)


@pytest.mark.parametrize("name", HEALTHY)
def test_healthy_twin_is_intact(name: str) -> None:
    found = examine(healthy(name))
    assert found.verdict is Verdict.INTACT, [(f.code.value, f.message) for f in found.findings]
    assert found.score == 100.0
    assert not [f for f in found.findings if f.severity is not Severity.NOTE]


def test_every_code_has_a_case() -> None:
    assert set(FIRES) | {C.NAME, C.EXAMINER} == set(C)
    assert all(c.meaning.endswith(".") for c in C)


def test_bomb_is_not_inflated() -> None:
    from jugal.binary.limits import Limits

    found = engine_examine.examine_source(Source.from_bytes(bomb()), Limits(inflated_member=1 << 20))
    assert C.ZIP_BOMB in {f.code for f in found.findings}


def test_name_that_lies() -> None:
    found = examine(healthy("png"), "holiday.jpg")
    assert C.NAME in {f.code for f in found.findings}
    assert found.format == "png" and found.verdict is Verdict.INTACT


def test_failing_examiner_costs_one_verdict(monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture) -> None:
    def broken(subject: object, report: object) -> None:
        raise ZeroDivisionError

    monkeypatch.setattr(engine_examine, "formats", lambda: {"png": FormatSpec(("png",), Kind.PHOTO, broken)})
    found = examine(healthy("png"))
    assert C.EXAMINER in {f.code for f in found.findings}
    assert found.verdict is Verdict.UNRECOGNISED
    assert "failed" in caplog.text


def test_moov_found_by_search() -> None:
    data = done("mp4", "mdat-size")
    box = find_box(Source.from_bytes(data), b"moov", frozenset({b"mvhd"}))
    assert box is not None and data[box.start + 4 : box.start + 8] == b"moov"
