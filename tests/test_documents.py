"""PDF, ZIP and what is built on it against PDFium, zipfile and python-docx: pages and members that open with their content."""

from __future__ import annotations

import io
import re
import struct
import zipfile
import zlib
from dataclasses import replace
from pathlib import Path

import docx
import numpy as np
import openpyxl
import pypdfium2
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examine, healthy
from jugal.binary.limits import DEFAULT_LIMITS
from jugal.binary.source import Source
from jugal.engine.examine import examine_file, examine_source
from jugal.engine.repair import repair_file
from jugal.formats.base import Subject
from jugal.formats.zip.check import gather
from jugal.model.codes import FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Examination, RepairOutcome, RepairStatus, Verdict
from jugal.samples import encode


def pages(data: bytes) -> list[np.ndarray]:
    """What PDFium shows of each page, small."""
    document = pypdfium2.PdfDocument(data)
    try:
        return [page.render(scale=0.4).to_numpy().copy() for page in document]
    finally:
        document.close()


def members(data: bytes) -> dict[str, bytes]:
    with zipfile.ZipFile(io.BytesIO(data)) as file:
        return {name: file.read(name) for name in file.namelist()}


def gauges(count: int, size: int) -> bytes:
    """An archive of so many members of letters, each of ``size`` bytes before it is packed."""
    rng = np.random.default_rng(6)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as file:
        for number in range(count):
            file.writestr(f"gauge{number}.csv", rng.integers(65, 91, size, np.uint8).tobytes())
    return out.getvalue()


def readable(data: bytes, whole: bytes) -> set[str]:
    """The members that another reader gets out as they were."""
    right, found = members(whole), set()
    with zipfile.ZipFile(io.BytesIO(data)) as file:
        for name in file.namelist():
            try:
                if file.read(name) == right[name]:
                    found.add(name)
            except (zipfile.BadZipFile, zlib.error, ValueError, EOFError):
                continue
    return found


def mended(data: bytes, folder: Path, suffix: str) -> tuple[Examination, RepairOutcome]:
    path = folder / f"sick.{suffix}"
    path.write_bytes(data)
    found = examine_file(path)
    outcome = repair_file(found, folder / "out", [])
    assert path.read_bytes() == data, "the source is never written"
    return found, outcome


# --- PDF


@pytest.mark.parametrize("compressed", [True, False])
@pytest.mark.parametrize("count", [1, 7])
def test_healthy_documents_have_the_pages_that_another_reader_counts(count: int, compressed: bool) -> None:
    data = encode.pdf(count, compressed=compressed)
    found = examine(data)
    assert found.verdict is Verdict.INTACT, [f.message for f in found.findings]
    assert found.media["pages"] == len(pages(data)) == count


def test_an_incremental_update_is_no_fault() -> None:
    """A new trailer that leads back to the old one (ISO 32000-2 7.5.6), with one object written anew."""
    whole = healthy("pdf")
    start = int(re.findall(rb"startxref\s+(\d+)", whole)[-1])
    root = re.findall(rb"/Root (\d+ \d+ R)", whole)[-1]
    size = int(re.findall(rb"/Size (\d+)", whole)[-1])
    at = len(whole)
    added = b"%d 0 obj\n<< /Made (up) >>\nendobj\n" % size
    table = b"xref\n%d 1\n%010d 00000 n \ntrailer\n<< /Size %d /Root %s /Prev %d >>\nstartxref\n%d\n%%%%EOF\n" % (
        size, at, size + 1, root, start, at + len(added),
    )  # fmt: skip
    data = whole + added + table
    assert len(pages(data)) == 3
    assert examine(data).verdict is Verdict.INTACT


@pytest.mark.parametrize("what", ["no startxref", "no table", "wrong offsets", "cut tail"])
def test_a_lost_table_comes_back_and_every_page_shows_the_same(what: str, tmp_path: Path) -> None:
    whole = healthy("pdf")
    start = int(re.findall(rb"startxref\s+(\d+)", whole)[-1])
    sick = {
        "no startxref": re.sub(rb"startxref\s+\d+", b"startxref\n7", whole),
        "no table": whole[:start] + bytes(len(whole) - start),
        "wrong offsets": re.sub(rb"(\d{10}) 00000 n", b"0000000099 00000 n", whole),
        "cut tail": whole[:start],
    }[what]
    found, outcome = mended(sick, tmp_path, "pdf")
    assert found.verdict is not Verdict.INTACT and found.score is not None
    assert outcome.status is RepairStatus.REPAIRED and outcome.output is not None, outcome.error
    right, shown = pages(whole), pages(Path(outcome.output).read_bytes())
    assert len(shown) == len(right) and all(np.array_equal(a, b) for a, b in zip(right, shown, strict=True))
    assert outcome.score_after == 100.0


def test_one_broken_page_costs_its_share(tmp_path: Path) -> None:
    whole = encode.pdf(5)
    streams = [m.end() for m in re.finditer(rb"stream\r?\n", whole) if whole[m.start() - 3 : m.start()] != b"end"]
    lengths = [whole.find(b"endstream", s) - s for s in streams]
    at = streams[int(np.argsort(lengths)[len(lengths) // 2])]
    sick = whole[: at + 20] + bytes(80) + whole[at + 100 :]
    found = examine(sick)
    right, shown = pages(whole), pages(sick)
    same = sum(np.array_equal(a, b) for a, b in zip(right, shown, strict=True))
    assert found.verdict is not Verdict.INTACT
    assert found.score == pytest.approx(100 * same / 5, abs=21)


@settings(max_examples=40)
@given(data=st.data())
def test_any_bytes_in_a_document_give_a_verdict_and_places_inside(data: st.DataObject) -> None:
    whole = healthy("pdf")
    at = data.draw(st.integers(0, len(whole) - 1))
    new = data.draw(
        st.one_of(
            st.binary(min_size=1, max_size=60), st.sampled_from([b"endobj", b"obj", b"<<", b">>", b"/Kids [1 0 R]"])
        )
    )
    sick = whole[:at] + new + whole[at + len(new) :]
    found = examine(sick)
    assert found.error is None and found.score is not None
    assert all(f.span is None or 0 <= f.span.start <= f.span.end <= len(sick) for f in found.findings)


# --- ZIP


@settings(max_examples=30)
@given(
    files=st.dictionaries(
        st.from_regex(r"[a-z]{1,8}(/[a-z]{1,5})?\.txt", fullmatch=True),
        st.binary(max_size=3000),
        min_size=1,
        max_size=8,
    ),
    stored=st.booleans(),
    streamed=st.booleans(),
    comment=st.binary(max_size=40).filter(lambda c: b"PK" not in c),
)
def test_healthy_archives_are_intact(files: dict[str, bytes], stored: bool, streamed: bool, comment: bytes) -> None:
    """Deflated or stored, with sizes in front or in data descriptors behind, with a comment at the end."""

    class Stream(io.BytesIO):
        def seekable(self) -> bool:
            return not streamed

        def seek(self, *at: int) -> int:
            if streamed:
                raise OSError("not seekable")
            return super().seek(*at)

        def tell(self) -> int:
            if streamed:
                raise OSError("not seekable")
            return super().tell()

    out = Stream()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED if stored else zipfile.ZIP_DEFLATED) as file:
        for name, content in files.items():
            file.writestr(name, content)
        file.comment = comment
    data = out.getvalue()
    assert members(data) == files
    found = examine(data)
    assert found.verdict is Verdict.INTACT, [f.message for f in found.findings]


def test_a_lost_directory_is_written_anew_with_every_member(tmp_path: Path) -> None:
    whole = healthy("zip")
    found, outcome = mended(whole[: whole.find(b"PK\x01\x02")], tmp_path, "zip")
    assert found.score is not None and found.score < 5
    assert outcome.output is not None, outcome.error
    assert members(Path(outcome.output).read_bytes()) == members(whole)


def test_only_the_member_that_is_hit_is_lost(tmp_path: Path) -> None:
    whole = healthy("zip")
    with zipfile.ZipFile(io.BytesIO(whole)) as file:
        names = file.namelist()
        victim = max(file.infolist(), key=lambda i: i.compress_size)
    at = victim.header_offset + 30 + len(victim.filename) + victim.compress_size // 2
    sick = whole[:at] + bytes(b ^ 0x55 for b in whole[at : at + 16]) + whole[at + 16 :]
    found, outcome = mended(sick, tmp_path, "zip")
    first = min(f.span.start for f in found.findings if f.span and f.severity in (Severity.MAJOR, Severity.FATAL))
    assert victim.header_offset <= first <= at + 4096
    assert found.score is not None and 0 < found.score < 100
    if outcome.output is not None:
        after = members(Path(outcome.output).read_bytes())
        before = members(whole)
        assert all(after[name] == before[name] for name in names if name != victim.filename)


@pytest.mark.parametrize("change", [4096, 100, -4096, -100])
def test_members_behind_bytes_put_in_or_lost_are_found_where_they_lie(change: int, tmp_path: Path) -> None:
    """The directory is whole and misses what lies ahead of the change: decoders reckon all places from the end."""
    rng, whole = np.random.default_rng(6), gauges(9, 9000)
    with zipfile.ZipFile(io.BytesIO(whole)) as file:
        victim = file.infolist()[5]
    at = victim.header_offset + 30 + len(victim.filename) + 600
    sick = whole[:at] + rng.bytes(change) + whole[at:] if change > 0 else whole[:at] + whole[at - change :]
    found, outcome = mended(sick, tmp_path, "zip")
    assert found.verdict is Verdict.REPAIRABLE
    grave = [f for f in found.findings if f.span and f.severity in (Severity.MAJOR, Severity.FATAL)]
    assert FindingCode.ZIP_DIRECTORY in {f.code for f in grave}
    assert all(abs(f.span.start - at) <= 4096 for f in grave if f.span)
    shown = readable(sick, whole)
    assert found.score == pytest.approx(100 * len(shown) / 9, abs=0.1)
    assert outcome.output is not None, outcome.error
    after, before = members(Path(outcome.output).read_bytes()), members(whole)
    lost = {name for name in before if after.get(name) != before[name]}
    assert victim.filename in lost and len(lost) <= (2 if change < 0 else 1)


@pytest.mark.parametrize("cut", [300, 3000])
def test_an_archive_without_its_start_keeps_what_lies_behind(cut: int) -> None:
    """Places reckoned from the end fall ahead of the file for members that are gone: these are lost, the others are there."""
    whole = gauges(6, 1500)
    found = examine(whole[cut:])
    assert found.score == pytest.approx(100 * len(readable(whole[cut:], whole)) / 6, abs=0.1) and 0 < found.score < 100
    grave = [f.span.start for f in found.findings if f.span and f.severity in (Severity.MAJOR, Severity.FATAL)]
    assert min(grave) == 0
    assert "lay ahead of where the file begins" in " ".join(f.message for f in found.findings)
    assert all(0 <= r.start <= r.end <= 1 for r in found.regions)


def test_members_that_lie_where_the_directory_says_have_not_moved() -> None:
    whole = healthy("zip")
    for junk in (b"", bytes(700)):
        archive, contents, served = gather(Subject(Source.from_bytes(junk + whole)))
        assert served and archive.base == len(junk)
        assert all(c.whole and c.member.moved == 0 for c in contents)


def test_damage_in_a_packed_picture_is_placed_where_it_lies() -> None:
    picture = healthy("jpeg")
    for method in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
        hit = len(picture) // 2
        sick = picture[:hit] + bytes(600) + picture[hit + 600 :]
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", method) as file:
            file.writestr("plate.jpg", sick)
        data = bytearray(out.getvalue())
        # The CRC of the whole picture: the archive was made before the damage.
        right, wrong = (struct.pack("<I", zlib.crc32(p)) for p in (picture, sick))
        found = examine(bytes(data).replace(wrong, right))
        grave = [f.span.start for f in found.findings if f.span and f.severity is Severity.MAJOR]
        assert grave and abs(min(grave) - 39 - hit) < 2048


def test_a_bomb_is_a_finding_not_an_inflation() -> None:
    out = io.BytesIO()
    with (
        zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as file,
        file.open("zeros", "w", force_zip64=True) as member,
    ):
        for _ in range(80):
            member.write(bytes(1 << 22))
    found = examine_source(Source.from_bytes(out.getvalue()), replace(DEFAULT_LIMITS, inflated_member=1 << 28))
    assert FindingCode.ZIP_BOMB in {f.code for f in found.findings}
    assert DEFAULT_LIMITS.inflated_member == 1 << 30


def test_encrypted_members_are_said_to_be() -> None:
    whole = bytearray(healthy("zip"))
    for mark, at in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
        start = bytes(whole).find(mark)
        whole[start + at] |= 1
    found = examine(bytes(whole))
    assert FindingCode.ZIP_ENCRYPTED in {f.code for f in found.findings}


# --- office packages


def text_of(name: str, data: bytes) -> str:
    """What an independent library reads."""
    if name == "docx":
        return "\n".join(p.text for p in docx.Document(io.BytesIO(data)).paragraphs)
    sheet = openpyxl.load_workbook(io.BytesIO(data)).active
    assert sheet is not None
    return "\n".join(str(row) for row in sheet.iter_rows(values_only=True))


@pytest.mark.parametrize("name", ["docx", "xlsx"])
def test_a_package_without_its_directory_reads_the_same_again(name: str, tmp_path: Path) -> None:
    whole = healthy(name)
    _, outcome = mended(whole[: whole.find(b"PK\x01\x02")], tmp_path, name)
    assert outcome.output is not None, outcome.error
    assert text_of(name, Path(outcome.output).read_bytes()) == text_of(name, whole)


def test_text_before_the_damage_opens_again(tmp_path: Path) -> None:
    """The body inflates to the damage, its XML is closed at the last whole element, and the package opens."""
    whole = encode.docx(paragraphs=4000)
    with zipfile.ZipFile(io.BytesIO(whole)) as file:
        body = file.getinfo("word/document.xml")
    at = body.header_offset + 30 + len(body.filename) + body.compress_size * 6 // 10
    found, outcome = mended(whole[:at] + bytes(512) + whole[at + 512 :], tmp_path, "docx")
    assert found.verdict is not Verdict.INTACT
    assert outcome.output is not None, (outcome.error, found.score, found.repairs)
    right, left = text_of("docx", whole), text_of("docx", Path(outcome.output).read_bytes())
    assert right.startswith(left[: len(left) * 95 // 100]) and 0.3 < len(left) / len(right) < 0.9


@pytest.mark.parametrize("name", ["docx", "xlsx", "odt"])
def test_a_package_without_its_styles_is_still_known_and_worth_its_content(name: str) -> None:
    content = members(healthy(name))
    victim = {"docx": "word/styles.xml", "xlsx": "xl/styles.xml", "odt": "styles.xml"}[name]
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as file:
        for key, value in content.items():
            if key != victim:
                file.writestr(key, value, zipfile.ZIP_STORED if key == "mimetype" else None)
    found = examine(out.getvalue())
    assert found.format == name
    assert found.score is not None and found.score > 60


@settings(max_examples=40)
@given(data=st.data(), name=st.sampled_from(["zip", "docx", "xlsx", "odt"]))
def test_any_bytes_in_an_archive_give_a_verdict_and_places_inside(data: st.DataObject, name: str) -> None:
    whole = healthy(name)
    at = data.draw(st.integers(0, len(whole) - 1))
    new = data.draw(
        st.one_of(
            st.binary(min_size=1, max_size=60),
            st.sampled_from([b"PK\x03\x04", b"PK\x05\x06", struct.pack("<I", 0xFFFFFFFF)]),
        )
    )
    sick = whole[:at] + new + whole[at + len(new) :]
    found = examine(sick)
    assert found.error is None
    assert all(f.span is None or 0 <= f.span.start <= f.span.end <= len(sick) for f in found.findings)
