"""A header lent by a healthy picture: what is left stands where it was, and nothing of the donor's own taking goes along."""

from __future__ import annotations

import io
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from bench.measure import share
from PIL import Image

from conftest import examine
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import RepairImpossible, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.completing import complete_header
from jugal.formats.jpeg.donor import donor_header
from jugal.formats.jpeg.parse import walk
from jugal.formats.jpeg.select import given_up, select
from jugal.model.result import RepairOutcome, Verdict
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

SIZE = 800, 608


@cache
def photo(seed: int, **options: object) -> bytes:
    return encode.jpeg(
        riverbed(*SIZE, seed),
        quality=88,
        exif=encode.exif_of("Lurga M2", f"2026:05:{seed:02} 07:31:00", *SIZE),
        **options,
    )  # type: ignore[arg-type]


def pixels(data: bytes) -> np.ndarray:
    with Image.open(io.BytesIO(data)) as picture:
        return np.asarray(picture.convert("L"), np.float64)


def lent(sick: bytes, lender: bytes, folder: Path) -> RepairOutcome:
    path, donor = folder / "sick.jpg", folder / "lender.jpg"
    path.write_bytes(sick)
    donor.write_bytes(lender)
    return repair_file(examine_file(path), folder / "out", [examine_file(donor)], "donor-header")


def in_place(original: np.ndarray, repaired: np.ndarray, first: int) -> float:
    """Share of the rows from ``first`` on that go with the original's, at whatever level."""
    rows = range(first, original.shape[0] - 8, 7)
    return float(np.mean([np.corrcoef(original[y], repaired[y])[0, 1] > 0.97 for y in rows]))


OPTIONS = [{"subsampling": 2}, {"subsampling": 0}, {"subsampling": 1}]


@pytest.mark.parametrize("options", OPTIONS, ids=str)
def test_a_header_that_is_gone_comes_back_pixel_for_pixel(options: dict[str, object], tmp_path: Path) -> None:
    whole = photo(3, **options)
    outcome = lent(harm(whole, "jpeg", "no-header", 1).data, photo(4, **options), tmp_path)
    assert outcome.output is not None, outcome.error
    assert np.array_equal(pixels(Path(outcome.output).read_bytes()), pixels(whole))
    assert outcome.score_after == 100.0


@pytest.mark.parametrize("options", OPTIONS, ids=str)
@pytest.mark.parametrize("lost", [4096, 20_000])
def test_a_lost_start_is_placed_by_the_pictures_end(options: dict[str, object], lost: int, tmp_path: Path) -> None:
    """The first clusters are not in the file at all, so nothing tells how much of the picture they held but its end."""
    whole = photo(5, **options)
    outcome = lent(whole[lost:], photo(6, **options), tmp_path)
    assert outcome.output is not None, outcome.error
    repaired = pixels(Path(outcome.output).read_bytes())
    first = int(SIZE[1] * lost / len(whole)) + 48
    assert in_place(pixels(whole), repaired, first) > 0.95
    assert outcome.score_after is not None
    assert outcome.score_after < 95 * (1 - lost / len(whole)), "its levels are an estimate"


@pytest.mark.parametrize("marks", [{"restart_marker_rows": 1}, {"restart_marker_blocks": 13}], ids=str)
def test_intervals_behind_a_lost_start_keep_their_levels(marks: dict[str, int], tmp_path: Path) -> None:
    """Restart markers make levels absolute and number what is left: it comes back as it was."""
    whole = photo(7, **marks)
    lost = 12_288
    outcome = lent(whole[lost:], photo(8, **marks), tmp_path)
    assert outcome.output is not None, outcome.error
    original, repaired = pixels(whole), pixels(Path(outcome.output).read_bytes())
    first = int(SIZE[1] * lost / len(whole)) + 64
    assert np.array_equal(repaired[first:], original[first:])
    same = 100 * float((repaired == original).all(axis=1).mean())
    assert outcome.score_after is not None and abs(outcome.score_after - same) < 6


def test_nothing_of_the_donors_taking_goes_along(tmp_path: Path) -> None:
    outcome = lent(harm(photo(9), "jpeg", "no-header", 2).data, photo(10), tmp_path)
    assert outcome.output is not None
    after = examine_file(outcome.output)
    assert after.verdict is Verdict.INTACT
    assert "date_taken" not in after.media and "camera" not in after.media
    assert b"2026:05" not in Path(outcome.output).read_bytes()


@pytest.mark.parametrize("what", ["none", "progressive", "not a picture"])
def test_a_donor_that_cannot_lend_is_refused_in_a_sentence(what: str) -> None:
    sick = Subject(Source.from_bytes(harm(photo(3), "jpeg", "no-header", 1).data))
    lender = {
        "none": None,
        "progressive": Subject(Source.from_bytes(encode.jpeg(riverbed(*SIZE, 2), progressive=True))),
        "not a picture": Subject(Source.from_bytes(b"made up" * 500)),
    }[what]
    with pytest.raises(RepairImpossible, match=r"\.$"):
        donor_header(sick, lender)


def test_a_donor_of_a_smaller_picture_has_no_room_for_what_is_left() -> None:
    small = encode.jpeg(riverbed(320, 240, 4), quality=88)
    with pytest.raises(RepairImpossible, match=r"room|decode"):
        donor_header(Subject(Source.from_bytes(photo(3)[8192:])), Subject(Source.from_bytes(small)))


# --- tables that cannot be


@pytest.mark.parametrize("seed", range(4))
def test_an_impossible_table_keeps_decoders_out_and_the_typical_one_lets_them_in(seed: int, tmp_path: Path) -> None:
    whole = photo(11)
    sick = harm(whole, "jpeg", "tables-damaged", seed).data
    structure = walk(Source.from_bytes(sick), 0)
    if not structure.bad_segments:
        pytest.skip("what was written happens to be a table")
    assert given_up(structure) and not given_up(walk(Source.from_bytes(whole), 0))
    with pytest.raises(OSError):
        pixels(sick)
    found = examine(sick)
    assert found.score is not None and found.score < 5
    path = tmp_path / "sick.jpg"
    path.write_bytes(sick)
    outcome = repair_file(examine_file(path), tmp_path / "out")
    assert outcome.method == "standard-tables" and outcome.output is not None, outcome.error
    assert np.array_equal(pixels(Path(outcome.output).read_bytes()), pixels(whole))


def test_a_bad_application_segment_keeps_nobody_out() -> None:
    whole = photo(12)
    at = whole.find(b"Exif\0\0")
    sick = whole[: at + 6] + bytes(8) + whole[at + 14 :]
    assert not given_up(walk(Source.from_bytes(sick), 0))
    found = examine(sick)
    assert np.array_equal(pixels(sick), pixels(whole)) and found.score == 100.0


CODINGS: dict[str, dict[str, object]] = {
    "baseline": {},
    "optimised": {"optimize": True},
    "progressive": {"progressive": True},
    "fine": {"progressive": True, "subsampling": 0},
}


@pytest.mark.parametrize("what", ["no-frame-header", "no-quantisation-table", "segment-length"])
@pytest.mark.parametrize("coding", CODINGS)
def test_what_a_header_lacks_alone_is_taken_from_the_donor(coding: str, what: str, tmp_path: Path) -> None:
    """Tables fitted to the picture, and those between the scans of a progressive one, are its own still."""
    whole, lender = photo(4, **CODINGS[coding]), photo(5, **CODINGS[coding])
    path, donor = tmp_path / "sick.jpg", tmp_path / "lender.jpg"
    path.write_bytes(harm(whole, "jpeg", what, 100).data)
    donor.write_bytes(lender)
    found = examine_file(path)
    assert found.verdict is Verdict.REPAIRABLE
    outcome = repair_file(found, tmp_path / "out", [examine_file(donor)])
    assert outcome.output and outcome.score_after == 100.0, outcome.error
    after = Path(outcome.output).read_bytes()
    assert np.array_equal(pixels(after), pixels(whole))
    assert b"2026:05:05" not in after, "nothing of the donor's own taking goes along"


def test_a_donor_of_another_size_completes_no_header() -> None:
    """Its frame leaves picture data over, or asks for more than there are."""
    sick = harm(photo(4, progressive=True), "jpeg", "no-frame-header", 100).data
    for size in ((400, 304), (1600, 1216), (808, 608)):
        other = encode.jpeg(riverbed(*size, 5), quality=88, progressive=True)
        donor = Subject(Source.from_bytes(other))
        assert complete_header(Subject(Source.from_bytes(sick)), donor, walk(donor.source, 0)) is None
    whole = Subject(Source.from_bytes(photo(4, progressive=True)))
    assert complete_header(whole, whole, walk(whole.source, 0)) is None, "where nothing is lacking nothing is taken"


@pytest.mark.parametrize("what", ["zero-start", "lost-start"])
def test_scans_that_went_with_the_header_are_not_lent(what: str, tmp_path: Path) -> None:
    """Without the scan of its DC values a progressive picture shows nothing, however whole the others are."""
    path, donor = tmp_path / "sick.jpg", tmp_path / "lender.jpg"
    path.write_bytes(harm(photo(4, progressive=True), "jpeg", what, 100).data)
    donor.write_bytes(photo(5, progressive=True))
    outcome = repair_file(examine_file(path), tmp_path / "out", [examine_file(donor)])
    assert outcome.output is None or (outcome.score_after or 0.0) < 5


def test_a_header_alone_of_a_progressive_picture_is_lent_with_its_scan_header(tmp_path: Path) -> None:
    """The data of the first scan are all there; the tables by which they read are the picture's own, and found from them."""
    whole, lender = (encode.jpeg(riverbed(*SIZE, seed), quality=q, progressive=True) for seed, q in ((4, 88), (5, 70)))
    quant = [s for s in walk(Source.from_bytes(whole), 0).segments if s.marker == 0xDB]
    other = [s for s in walk(Source.from_bytes(lender), 0).segments if s.marker == 0xDB]
    # The donor's own Huffman tables, with the picture's quantisation.
    for one, two in zip(quant, other, strict=True):
        lender = lender[: two.start] + whole[one.start : one.end] + lender[two.end :]
    models = [walk(Source.from_bytes(d), 0).scans[0].tables for d in (whole, lender)]
    assert models[0] != models[1]
    path, donor = tmp_path / "sick.jpg", tmp_path / "lender.jpg"
    path.write_bytes(harm(whole, "jpeg", "no-header", 100).data)
    donor.write_bytes(lender)
    outcome = repair_file(examine_file(path), tmp_path / "out", [examine_file(donor)])
    assert outcome.output is not None and outcome.score_after == 100.0 and outcome.method == "donor-header"
    assert np.array_equal(pixels(Path(outcome.output).read_bytes()), pixels(whole))


def test_a_progressive_picture_without_its_dc_scan_is_not_intact() -> None:
    whole = photo(4, progressive=True)
    first = walk(Source.from_bytes(whole), 0).scans[0]
    without = whole[: first.segment.start] + whole[first.entropy.end :]
    assert (examine(without).score or 0.0) < 5 and examine(whole).score == 100.0


# ---------------------------------------------------------------- pictures with thumbnails, as cameras write them


@cache
def shot(seed: int) -> bytes:
    picture = riverbed(1200, 900, seed)
    exif = encode.exif_of("Lurga M2", "2026:05:14 07:31:00", 1200, 900, thumbnail=encode.thumbnail_of(picture))
    return encode.jpeg(picture, quality=88, exif=exif)


@pytest.mark.parametrize(
    "kind",
    ["no-header", "no-frame-header", "no-quantisation-table", "segment-length", "no-start-marker", "junk-before"],
)
@pytest.mark.parametrize(("own", "other"), [(1, 2), (2, 1)])
def test_a_thumbnail_is_not_taken_for_the_picture(own: int, other: int, kind: str, tmp_path: Path) -> None:
    """It has a header and a scan of its own ahead of the picture's, and headers with thumbnails are not of one length."""
    path, lender = tmp_path / "sick.jpg", tmp_path / "healthy.jpg"
    path.write_bytes(harm(shot(own), "jpeg", kind, 3).data)
    lender.write_bytes(shot(other))
    assert (
        walk(Source.from_bytes(shot(1)), 0).scans[0].entropy.start
        != walk(Source.from_bytes(shot(2)), 0).scans[0].entropy.start
    )
    found = examine_file(path)
    assert (found.media.get("width", 1200), found.score is not None and found.score < 100) == (1200, True)
    if kind == "no-frame-header":
        at = next(s.start for s in walk(Source.from_bytes(shot(own)), 0).segments if s.marker in spec.SEQUENTIAL)
        assert min(f.span.start for f in found.findings if f.span) == at, "not at the file's start, which is whole"
    outcome = repair_file(found, tmp_path / "out", [examine_file(lender)])
    assert outcome.output is not None, outcome.error
    assert share("jpeg", shot(own), Path(outcome.output).read_bytes()) == 100


def test_a_picture_that_begins_in_what_seems_a_segment_and_goes_on_behind_it_is_the_picture() -> None:
    """The start of another file's header, whose segment claims 65,533 bytes, and the picture in the next cluster."""
    stub = b"\xff\xd8\xff\xe1\xff\xff" + b"Exif\0\0" + bytes(range(1, 200))
    whole = stub + b"\x5a" * (4096 - len(stub)) + shot(1)
    found = select(Source.from_bytes(whole)).structure
    assert found.start == 4096 and found.frame is not None and found.frame.width == 1200
