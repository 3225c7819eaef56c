"""HEIC and AVIF: items, tiles and the units in them, against files that an independent decoder opens."""

from __future__ import annotations

import io
import struct
from dataclasses import replace
from functools import cache
from pathlib import Path

import av
import numpy as np
import pillow_heif
import pytest

from conftest import examine
from jugal.binary.limits import DEFAULT_LIMITS
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import Subject
from jugal.formats.isobmff import heif
from jugal.formats.isobmff.boxes import read_tree
from jugal.formats.isobmff.items import item_extents, read_items
from jugal.formats.isobmff.write import box_bytes
from jugal.model.codes import FindingCode
from jugal.model.result import RepairOutcome, RepairStatus, Verdict
from jugal.samples import encode
from jugal.samples.scenes import riverbed


@cache
def single(seed: int = 1, size: tuple[int, int] = (640, 480)) -> bytes:
    out = io.BytesIO()
    pillow_heif.from_pillow(riverbed(*size, seed)).save(out, quality=80)
    return out.getvalue()


@cache
def avif() -> bytes:
    out = io.BytesIO()
    with av.open(out, "w", format="avif") as file:
        stream = file.add_stream("libsvtav1", rate=1)
        stream.width, stream.height, stream.pix_fmt = 320, 240, "yuv420p"
        picture = np.asarray(riverbed(320, 240, 2).convert("RGB"))
        file.mux(stream.encode(av.VideoFrame.from_ndarray(picture, format="rgb24")))
        file.mux(stream.encode(None))
    return out.getvalue()


def meta_of(data: bytes):  # type: ignore[no-untyped-def]
    source = Source.from_bytes(data)
    items = read_items(source, read_tree(source, 0, DEFAULT_LIMITS).first(b"meta"))
    assert items is not None
    return source, items


@cache
def tiled(seeds: tuple[int, int] = (11, 12)) -> bytes:
    """Two pictures side by side as tiles of a grid (ISO/IEC 23008-12 6.6.2.3), written box by box."""
    tiles = []
    for seed in seeds:
        source, items = meta_of(single(seed, (256, 256)))
        item = items.by_ident[items.primary]
        offset, length = item.extents[0]
        config = next(b for b in item.properties if b.kind == b"hvcC")
        tiles.append((source.read(offset, length), source.read(config.start, config.end - config.start)))
    full = lambda kind, body, version=0, flags=0: box_bytes(kind, struct.pack(">I", version << 24 | flags) + body)  # noqa: E731
    entries = b"".join(
        full(b"infe", struct.pack(">HH4sx", number, 0, kind), 2)
        for number, kind in ((1, b"hvc1"), (2, b"hvc1"), (3, b"grid"))
    )
    properties = tiles[0][1] + full(b"ispe", struct.pack(">II", 256, 256)) + full(b"ispe", struct.pack(">II", 512, 256))
    association = struct.pack(">I", 3) + b"".join(
        struct.pack(">HBBB", n, 2, 0x81, 0x02) if n < 3 else struct.pack(">HBB", n, 1, 0x03) for n in (1, 2, 3)
    )
    grid = struct.pack(">BBBBHH", 0, 0, 0, 1, 512, 256)
    kind = box_bytes(b"ftyp", b"heic\0\0\0\0mif1heic")
    lengths = [len(tiles[0][0]), len(tiles[1][0]), len(grid)]

    def meta(start: int) -> bytes:
        rows = b""
        for number, length in enumerate(lengths, 1):
            rows += struct.pack(">HHHII", number, 0, 1, start, length)
            start += length
        inner = full(b"hdlr", struct.pack(">I4s12xx", 0, b"pict")) + full(b"pitm", struct.pack(">H", 3))
        inner += full(b"iloc", b"\x44\0" + struct.pack(">H", 3) + rows) + full(b"iinf", struct.pack(">H", 3) + entries)
        inner += full(b"iref", box_bytes(b"dimg", struct.pack(">HHHH", 3, 2, 1, 2)))
        inner += box_bytes(b"iprp", box_bytes(b"ipco", properties) + full(b"ipma", association))
        return full(b"meta", inner)

    size = len(meta(0))
    return kind + meta(len(kind) + size + 8) + box_bytes(b"mdat", tiles[0][0] + tiles[1][0] + grid)


def shown(data: bytes) -> np.ndarray:
    return np.asarray(pillow_heif.open_heif(io.BytesIO(data)).to_pillow().convert("RGB"), np.int16)


def test_the_tiled_sample_is_what_an_ordinary_decoder_opens() -> None:
    picture = shown(tiled())
    assert picture.shape == (256, 512, 3)
    for number, seed in enumerate((11, 12)):
        tile = np.asarray(riverbed(256, 256, seed).convert("RGB"), np.int16)
        assert np.abs(picture[:, 256 * number : 256 * number + 256] - tile).mean() < 12


@pytest.mark.parametrize("make", [single, tiled, avif])
def test_healthy_pictures_are_intact(make) -> None:  # type: ignore[no-untyped-def]
    found = examine(make())
    assert found.verdict is Verdict.INTACT and found.score == 100, found.findings
    assert found.media["width"] and found.media["height"]


def test_capture_data_are_read() -> None:
    out = io.BytesIO()
    exif = encode.exif_of("Lurga M2", "2026:05:14 07:31:00", 640, 480)
    pillow_heif.from_pillow(riverbed(640, 480, 1)).save(out, quality=60, exif=exif)
    found = examine(out.getvalue())
    assert found.verdict is Verdict.INTACT
    assert found.media["camera"] == "Lurga M2" and found.media["date_taken"] == "2026-05-14T07:31:00"


def test_tiles_are_counted_and_judged_one_by_one() -> None:
    data = tiled()
    assert examine(data).media["tiles"] == 2
    _, items = meta_of(data)
    assert [i.ident for i in items.picture()] == [1, 2]
    offset, _ = items.by_ident[2].extents[0]
    sick = data[:offset] + bytes([data[offset] ^ 0x40]) + data[offset + 1 :]
    found = examine(sick)
    assert found.score == pytest.approx(50, abs=1)
    assert [f.span.start for f in found.findings if f.code is FindingCode.MP4_SAMPLE and f.span] == [offset]


@pytest.mark.parametrize(
    "new", [bytes(4096), b"\xff" * 4096, b"a made-up remark on the riverbed. " * 130, b"mussel\0shell " * 340]
)
def test_replaced_clusters_are_found_where_they_lie(new: bytes) -> None:
    data = single(3, (1200, 900))
    at = len(data) // 2 // 4096 * 4096
    assert len(data) > 3 * 4096
    found = examine(data[:at] + new[:4096] + data[at + 4096 :])
    marks = [
        f.span.start for f in found.findings if f.span and f.code in (FindingCode.MP4_HOLE, FindingCode.MP4_SAMPLE)
    ]
    assert marks and abs(min(marks) - at) <= 512
    assert 20 < (found.score or 0) < 80


def test_a_cut_picture_is_scored_by_what_is_there() -> None:
    data = single(4, (1200, 900))
    found = examine(data[: len(data) * 2 // 3])
    assert found.verdict is not Verdict.INTACT and 50 < (found.score or 0) < 75


def test_units_of_av1_are_followed() -> None:
    data = avif()
    _, items = meta_of(data)
    offset, _ = items.picture()[0].extents[0]
    assert items.picture()[0].kind == b"av01"
    sick = data[:offset] + b"\x8a" + data[offset + 1 :]
    assert examine(sick).verdict is not Verdict.INTACT


def test_locations_cut_short_are_fatal() -> None:
    data = single()
    at = data.index(b"iloc")
    assert data[at + 20 : at + 22] == b"\0\1"  # how many extents the only item has
    sick = data[: at + 20] + b"\xff\xff" + data[at + 22 :]
    found = examine(sick)
    assert FindingCode.MP4_TABLES in {f.code for f in found.findings} and found.score == 0
    assert item_extents(b"\0\0") is None


# --- repairs


def mended(data: bytes, folder: Path, method: str | None = None) -> RepairOutcome:
    path = folder / "sick.heic"
    path.write_bytes(data)
    return repair_file(examine_file(path), folder / "out", [], *([method] if method else []))


@pytest.mark.parametrize("by", [9, 37, 512, 4096, 70_001])
@pytest.mark.parametrize("make", [single, tiled])
def test_items_behind_a_change_of_length_are_led_to_again(make, by: int, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    """A box put in before the media data: every item lies elsewhere than the index says."""
    whole = make()
    at = whole.find(b"mdat") - 4
    moved = whole[:at] + box_bytes(b"free", bytes(by - 8)) + whole[at:]
    found = examine(moved)
    assert found.score is not None and found.score < 60 and "fix-items" in {p.method for p in found.repairs}
    outcome = mended(moved, tmp_path)
    assert outcome.method == "fix-items" and outcome.output is not None, outcome.error
    assert np.array_equal(shown(Path(outcome.output).read_bytes()), shown(whole))
    assert outcome.score_after == 100.0


def test_only_the_tile_behind_the_change_is_moved(tmp_path: Path) -> None:
    whole = tiled()
    _, items = meta_of(whole)
    offset, _ = items.by_ident[2].extents[0]
    sick = whole[:offset] + b"\xaa" * 64 + whole[offset:]
    outcome = mended(sick, tmp_path)
    assert outcome.output is not None and [s.split(" from")[0] for s in outcome.steps] == [
        "Moved item 2",
        "Moved item 3",
    ]
    assert np.array_equal(shown(Path(outcome.output).read_bytes()), shown(whole))


def test_items_whose_data_are_gone_are_not_led_elsewhere(tmp_path: Path) -> None:
    whole = bytearray(single(3))
    start = bytes(whole).find(b"mdat") + 4
    whole[start:] = np.random.default_rng(2).bytes(len(whole) - start)
    found = examine(bytes(whole))
    assert "fix-items" not in {p.method for p in found.repairs}
    assert mended(bytes(whole), tmp_path, "fix-items").status is RepairStatus.FAILED


def test_a_preview_is_taken_out_where_the_picture_is_lost(tmp_path: Path) -> None:
    """A JPEG picture among the boxes, as cameras put it there, survives what the coded items do not."""
    preview = encode.jpeg(riverbed(320, 240, 9))
    data = bytearray(single(5) + box_bytes(b"uuid", bytes(16) + preview))
    start = bytes(data).find(b"mdat") + 4
    data[start + 4 : start + 8192] = bytes(8188)
    found = examine(bytes(data))
    plan = next(p for p in found.repairs if p.method == "extract-preview")
    assert plan.attainable == pytest.approx(25.0)
    outcome = mended(bytes(data), tmp_path, "extract-preview")
    assert (
        outcome.output is not None and outcome.output.endswith(".jpg") and Path(outcome.output).read_bytes() == preview
    )


def test_extents_know_where_their_offsets_stand() -> None:
    for data in (single(), tiled(), avif()):
        source, items = meta_of(data)
        iloc = read_tree(source, 0, DEFAULT_LIMITS).first(b"meta").child(b"iloc")  # type: ignore[union-attr]
        assert iloc is not None
        body = source.read(iloc.body, iloc.end - iloc.body)
        listed = item_extents(body)
        assert listed
        for extent in listed:
            stated = int.from_bytes(body[extent.place : extent.place + extent.width], "big")
            assert stated + extent.base == extent.offset
            assert extent.method or (extent.offset, extent.length) in items.by_ident[extent.item].extents


def test_items_that_are_gone_are_sought_a_few_times_only(monkeypatch: pytest.MonkeyPatch) -> None:
    """A picture of many tiles whose data are noise: the cost does not grow with the tiles."""
    sought: list[int] = []
    real = heif._sought
    monkeypatch.setattr(heif, "_sought", lambda *given: sought.append(1) or real(*given))
    whole = bytearray(tiled())
    start = bytes(whole).find(b"mdat") + 4
    whole[start:] = np.random.default_rng(4).bytes(len(whole) - start)
    source, items = meta_of(bytes(whole))
    many = dict(items.by_ident)
    for number in range(10, 40):
        many[number] = replace(items.by_ident[1], ident=number)
    items.by_ident.clear()
    items.by_ident.update(many)
    meta = read_tree(source, 0, DEFAULT_LIMITS).first(b"meta")
    assert meta is not None
    assert heif.find_moved(Subject(source), meta, items) == {}
    assert 1 <= len(sought) <= 3
