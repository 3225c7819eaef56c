"""Headers as cameras, phones and editors write them, with previews and clips: the picture meant is found whatever is lost of them."""

from __future__ import annotations

import struct
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from bench.healthy import JPEG
from bench.measure import share
from numpy.typing import NDArray
from PIL import Image

from jugal.binary.source import Source
from jugal.engine.examine import examine_file, examine_source
from jugal.engine.repair import repair_file
from jugal.formats.base import Subject
from jugal.formats.detect import detect
from jugal.formats.jpeg.check import entropy_guess
from jugal.formats.jpeg.parse import read_entropy, walk
from jugal.formats.jpeg.preview import largest_preview
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.select import select
from jugal.formats.jpeg.stretches import DENSE, information, stretches
from jugal.model.result import RepairOutcome, Verdict
from jugal.samples import encode, headers
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

SIZE, LARGER = (480, 360), (800, 600)
KINDS = (
    "by-camera", "by-phone", "by-drone", "by-editor", "by-scanner", "for-press", "red-green-blue", "inner-preview", "filler",
)  # fmt: skip


@cache
def made(kind: str, seed: int = 7, size: tuple[int, int] = SIZE) -> bytes:
    return JPEG[kind](seed, size=size)  # type: ignore[call-arg]


def start_of(whole: bytes) -> int:
    """Where the entropy-coded data begin."""
    return walk(Source.from_bytes(whole, "whole"), 0).scans[0].entropy.start


def mended(sick: bytes, kind: str, folder: Path, size: tuple[int, int] = SIZE) -> RepairOutcome:
    path, lender = folder / "sick.jpg", folder / "lender.jpg"
    path.write_bytes(sick)
    lender.write_bytes(made(kind, 8, size))
    return repair_file(examine_file(path), folder / "out", [examine_file(lender)])


def shown(outcome: RepairOutcome, kind: str, size: tuple[int, int] = SIZE) -> float:
    assert outcome.output, outcome.error
    return share("jpeg", made(kind, 7, size), Path(outcome.output).read_bytes()) or 0.0


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("seed", [7, 11])
def test_healthy_ones_are_intact(kind: str, seed: int) -> None:
    found = examine_source(Source.from_bytes(made(kind, seed), "photo.jpg"))
    assert (found.format, found.verdict, found.score) == ("jpeg", Verdict.INTACT, 100.0)
    assert (found.media["width"], found.media["height"]) == SIZE


HARMS = ("no-header", "no-frame-header", "no-start-marker", "junk-before", "lost-start", "segment-length")


@pytest.mark.parametrize("what", HARMS)
@pytest.mark.parametrize("kind", ["by-camera", "by-phone", "by-drone", "for-press", "red-green-blue", "filler"])
def test_a_harmed_header_costs_nothing(kind: str, what: str, tmp_path: Path) -> None:
    if what == "lost-start" and start_of(made(kind)) <= 4096:
        pytest.skip("the first cluster holds picture data")
    outcome = mended(harm(made(kind), "jpeg", what, 3).data, kind, tmp_path)
    assert shown(outcome, kind) == 100.0
    assert outcome.score_after == 100.0


@pytest.mark.parametrize("what", HARMS)
def test_a_photo_with_a_clip_behind_it_is_a_photo(what: str) -> None:
    source = Source.from_bytes(harm(made("by-phone"), "jpeg", what, 3).data, "found.bin")
    assert detect(source).format == "jpeg"


def test_a_clip_alone_and_one_behind_other_bytes_are_clips() -> None:
    clip, noise = encode.clip(seconds=0.5), np.random.default_rng(1).bytes(60_000)
    for ahead in (b"", bytes(60_000), noise):
        assert detect(Source.from_bytes(ahead + clip, "found.bin")).format == "mp4"


def test_what_is_left_of_a_thumbnail_is_not_the_picture(tmp_path: Path) -> None:
    """Filler takes the thumbnail's end, the header and the first data: the thumbnail seems to go on to the picture's end."""
    whole = made("filler", 7, LARGER)
    thumbnail, first = whole.index(b"\xff\xd8\xff", 2), start_of(whole)
    begin, end = (thumbnail + 3000) // 512 * 512, first // 512 * 512 + 4096
    sick = whole[:begin] + bytes(end - begin) + whole[end:]
    source = Source.from_bytes(sick, "sick.jpg")
    assert walk(source, thumbnail).overfull
    assert not select(source).structure.scans
    assert entropy_guess(Subject(source)) == end
    outcome = mended(sick, "filler", tmp_path, LARGER)
    assert outcome.method == "donor-header"
    assert shown(outcome, "filler", LARGER) > 60


def test_text_over_the_header_is_passed_over(tmp_path: Path) -> None:
    whole = made("filler", 7, LARGER)
    begin = start_of(whole) // 512 * 512 - 1024
    text = (b"mussel counts by sheet and hour; " * 400)[:6144]
    sick = whole[:begin] + text + whole[begin + len(text) :]
    assert entropy_guess(Subject(Source.from_bytes(sick, "sick.jpg"))) == begin + len(text)
    found = examine_source(Source.from_bytes(sick, "sick.jpg"))
    place = min(f.span.start for f in found.findings if f.span)
    assert abs(place - begin) < 4096
    assert shown(mended(sick, "filler", tmp_path, LARGER), "filler", LARGER) > 50


def test_a_whole_picture_ahead_of_others_is_the_one_meant() -> None:
    """What is behind a picture that opens is no matter, however much it is."""
    small, large = encode.jpeg(riverbed(320, 240, 1)), encode.jpeg(riverbed(900, 700, 2), quality=95)
    chosen = select(Source.from_bytes(small + large, "both.jpg"))
    assert chosen.opens
    assert chosen.structure.start == 0
    headless = large[walk(Source.from_bytes(large, "large"), 0).scans[0].entropy.start :]
    assert select(Source.from_bytes(small + headless, "both.jpg")).structure.start == 0
    behind = Source.from_bytes(headless + small, "both.jpg")
    assert not select(behind).structure.scans
    # Less of another than it has itself is junk before it.
    assert select(Source.from_bytes(headless[-3000:] + small, "both.jpg")).structure.start == 3000


def test_of_two_views_in_one_file_the_first_is_the_one_meant(tmp_path: Path) -> None:
    """It lacks its quantisation tables, the larger one behind it does not."""
    first, second = encode.jpeg(riverbed(*SIZE, 1)), encode.jpeg(riverbed(*SIZE, 2), quality=91)
    whole = encode.with_further(first, [second])
    sick = harm(whole, "jpeg", "no-quantisation-table", 1).data
    assert select(Source.from_bytes(sick, "views.jpg")).structure.start == 0
    path, lender = tmp_path / "views.jpg", tmp_path / "lender.jpg"
    path.write_bytes(sick)
    lender.write_bytes(encode.with_further(encode.jpeg(riverbed(*SIZE, 3)), [second]))
    outcome = repair_file(examine_file(path), tmp_path / "out", [examine_file(lender)])
    assert outcome.output
    assert share("jpeg", whole, Path(outcome.output).read_bytes()) == 100.0


def test_stretches_are_what_no_marker_parts() -> None:
    whole = encode.jpeg(riverbed(640, 480, 3), quality=90)
    scan = walk(Source.from_bytes(whole, "whole"), 0).scans[0].entropy
    rng = np.random.default_rng(5)
    ahead, behind = rng.bytes(5000), b"\xff\xd9" + b"sheet of the survey " * 500
    source = Source.from_bytes(ahead + whole[scan.start : scan.end] + behind, "parts")
    (found,) = stretches(source)
    assert found.end == len(ahead) + scan.end - scan.start
    assert len(ahead) - 2048 < found.start <= len(ahead)
    middle = (scan.start + scan.end) // 2 // 512 * 512
    parted = Source.from_bytes(whole[:middle] + bytes(2048) + whole[middle + 2048 :], "parted")
    first, second = stretches(parted, scan.start)[:2]
    assert (first.start, first.end) == (scan.start, middle)
    assert second.start == middle + 2048
    assert not stretches(Source.from_bytes(bytes(50_000), "zeros"))
    assert not stretches(Source.from_bytes(b"", "nothing"))


def test_a_stretch_goes_on_from_one_part_that_is_looked_through_to_the_next() -> None:
    data = np.random.default_rng(6).integers(0, 255, 9 << 20).astype(np.uint8)
    assert [(s.start, s.end) for s in stretches(Source.from_bytes(data.tobytes(), "large"))] == [(0, data.size)]
    data[5 << 20 : (5 << 20) + 2] = 0xFF, 0xC4
    spans = [(s.start, s.end) for s in stretches(Source.from_bytes(data.tobytes(), "large"), 700)]
    assert spans == [(700, 5 << 20), (5 << 20, data.size)]


def test_information_is_counted_in_bits() -> None:
    assert information(np.zeros(512, np.uint8)) == 0.0
    assert information(np.arange(256, dtype=np.uint8)) == pytest.approx(8.0)
    assert information(np.tile(np.arange(256, dtype=np.uint8), 9000)) == pytest.approx(8.0), "counted in parts"
    assert information(np.tile(np.array([1, 2], np.uint8), 300)) == pytest.approx(1.0)
    assert information(np.frombuffer(b"notes of the survey, sheet by sheet " * 30, np.uint8)) < DENSE


def test_a_thumbnail_that_breaks_off_is_no_preview_and_no_picture() -> None:
    whole = made("by-drone", 7, LARGER)
    thumbnail = whole.index(b"\xff\xd8\xff", 2)
    end = whole.index(b"\xff\xd9", thumbnail)
    source = Source.from_bytes(whole[:end] + b"\x3c\x3c" + whole[end + 2 :], "photo.jpg")
    main = walk(source, 0)
    assert not main.overfull
    assert largest_preview(Subject(source), main) is None
    assert largest_preview(Subject(Source.from_bytes(whole, "photo.jpg")), main) is not None


def test_noise_at_the_finest_setting_is_not_more_than_a_picture_takes() -> None:
    noise = Image.fromarray(np.random.default_rng(1).integers(0, 256, (240, 320, 3)).astype(np.uint8))
    whole = encode.jpeg(noise, quality=100, subsampling=0)
    found = walk(Source.from_bytes(whole, "noise"), 0)
    assert found.entropy_bytes > 64 * 3 * found.frame.mcus_x * found.frame.mcus_y
    assert not found.overfull
    assert select(Source.from_bytes(b"junk ahead of it" + whole, "noise")).structure.start == 16


@pytest.mark.parametrize("kind", ["for-press", "red-green-blue"])
@pytest.mark.parametrize("what", ["zero-cluster", "ff-cluster", "pattern-cluster"])
def test_inks_and_colours_come_back_each_in_its_own_place(kind: str, what: str, tmp_path: Path) -> None:
    """All components share their tables, so that what follows a hole is as well in step one of them further on."""
    outcome = mended(harm(made(kind), "jpeg", what, 100).data, kind, tmp_path)
    assert shown(outcome, kind) > 90
    assert abs(shown(outcome, kind) - (outcome.score_after or 0.0)) < 8


def test_what_goes_on_in_each_ink_is_learnt_from_what_is_sound() -> None:
    """What fills a hole decodes as well, and as much goes on in each ink of it."""
    whole = made("for-press")
    begins, first = places_of(whole), start_of(whole)
    hole = (first + 3000) // 512 * 512
    behind = hole + 4096
    source = Source.from_bytes(whole[:hole] + b"\xff\x00\x5a\x3c" * 1024 + whole[behind:], "sick")
    reader = RunReader(walk(source, 0), int(np.searchsorted(begins, 8 * hole)) - 1)
    rest = read_entropy(source, behind)
    bit = reader.in_step(Subject(source), behind, rest.end)
    assert bit is not None
    run = reader.follow(rest, bit, 500)
    found = rest.raw_offsets(run.bits[10:-1] >> 3) * 8 + (run.bits[10:-1] & 7)
    assert np.isin(found, begins).all()


def places_of(whole: bytes) -> NDArray[np.int64]:
    """The places of all MCUs, in bits of the file."""
    structure = walk(Source.from_bytes(whole, "whole"), 0)
    reader = RunReader(structure)
    run = reader.read(structure.scans[0].entropy, 0, reader.total)[0]
    return np.asarray(run.entropy.raw_offsets(run.bits >> 3) * 8 + (run.bits & 7))


@pytest.mark.parametrize("what", ["noise-sector", "end-marker-inside", "another-picture", "zero-cluster"])
def test_lines_of_text_are_no_break(what: str) -> None:
    sick = harm(headers.by_scanner(26), "jpeg", what, 7)
    found = examine_source(Source.from_bytes(sick.data, "page.jpg"))
    place = min(f.span.start for f in found.findings if f.span)
    assert abs(place - sick.start) <= 4096


def test_a_segment_that_leads_past_the_picture_is_where_the_header_breaks() -> None:
    whole = made("by-camera")
    exif = whole.index(b"\xff\xe1")
    length = struct.pack(">H", len(whole) // 2 & 0xFFFF)
    found = examine_source(Source.from_bytes(whole[: exif + 2] + length + whole[exif + 4 :], "photo.jpg"))
    finding = next(f for f in found.findings if f.code.value == "jpeg.header")
    assert finding.span is not None
    assert abs(finding.span.start - exif) < 64


def test_filler_in_the_last_scan_of_a_progressive_picture_is_all_the_damage() -> None:
    """It refines what earlier scans brought: these are not to blame."""
    whole = made("by-editor")
    last = walk(Source.from_bytes(whole, "whole"), 0).scans[-1].entropy
    begin = (last.start + 2048) // 512 * 512
    found = examine_source(Source.from_bytes(whole[:begin] + bytes(len(whole) - begin), "photo.jpg"))
    places = [f.span.start for f in found.findings if f.span and f.code.value != "jpeg.eoi"]
    assert places
    assert min(places) >= begin - 64


HOLES = {
    "its end and the header": lambda preview, first: [(preview + 36_000, first + 4096)],
    "the header and more": lambda preview, first: [(first - 2048, first + 4096), (first + 30_000, first + 34_000)],
}


@pytest.mark.parametrize("kind", HOLES)
def test_a_preview_in_the_metadata_is_not_the_picture_whatever_is_lost(kind: str, tmp_path: Path) -> None:
    size = 900, 680
    sick = bytearray(made("inner-preview", 7, size))
    preview = sick.index(b"PRVW") + 4
    for start, end in HOLES[kind](preview, start_of(bytes(sick))):
        begin, stop = start // 512 * 512, end // 512 * 512
        sick[begin:stop] = bytes(stop - begin)
    assert not select(Source.from_bytes(bytes(sick), "sick.jpg")).structure.scans
    outcome = mended(bytes(sick), "inner-preview", tmp_path, size)
    assert outcome.method == "donor-header"
    assert outcome.output
    assert walk(Source.from_bytes(Path(outcome.output).read_bytes()), 0).frame.width == size[0]


def test_a_header_longer_by_a_byte_lends_its_tables_and_not_its_length(tmp_path: Path) -> None:
    """From a byte further on a page decodes as well, but for its first MCU and all its levels."""
    page = Image.fromarray(np.full((*SIZE[::-1], 3), 240, np.uint8))
    page.paste(riverbed(200, 150, 1), (150, 100))
    own, other = (encode.jpeg(page, quality=75, comment=b"sheet" + b"!" * more) for more in (0, 1))
    first = start_of(own)
    path, lender = tmp_path / "sheet.jpg", tmp_path / "lender.jpg"
    path.write_bytes(bytes(first) + own[first:])
    lender.write_bytes(other)
    outcome = repair_file(examine_file(path), tmp_path / "out", [examine_file(lender)])
    assert outcome.output
    assert share("jpeg", own, Path(outcome.output).read_bytes()) == 100.0


@pytest.mark.parametrize("code", [0x02, 0x7E, 0xBF])
def test_a_marker_without_a_meaning_between_segments_stops_decoders(code: int, tmp_path: Path) -> None:
    whole = encode.jpeg(riverbed(*SIZE, 4))
    at = whole.index(b"\xff\xdb")
    for junk, opens in ((bytes((0x11, 0xFF, code, 0x22)), False), (bytes((0x11, 0xFF, 0x00, 0x22)), True)):
        path = tmp_path / "junk.jpg"
        path.write_bytes(whole[:at] + junk + whole[at:])
        found = examine_file(path)
        assert (found.score or 0.0) > 50 if opens else (found.score or 0.0) < 5
        if not opens:
            outcome = repair_file(found, tmp_path / "out")
            assert outcome.output
            assert share("jpeg", whole, Path(outcome.output).read_bytes()) == 100.0


def test_without_a_sound_start_it_is_not_sure_which_ink_is_which(tmp_path: Path) -> None:
    whole = encode.jpeg(riverbed(*SIZE, 5).convert("CMYK"), quality=85)
    begin = start_of(whole) // 512 * 512 + 512
    path = tmp_path / "inks.jpg"
    path.write_bytes(whole[:begin] + bytes(512) + whole[begin + 512 :])
    found = examine_file(path)
    sound = RunReader(walk(Source.from_bytes(whole), 0), 15)
    assert sound.sure_of_component == 0.25
    assert RunReader(walk(Source.from_bytes(whole), 0)).sure_of_component == 1.0
    assert RunReader(walk(Source.from_bytes(encode.jpeg(riverbed(*SIZE, 5))), 0), 0).sure_of_component == 1.0
    forecasts = [p.attainable for p in found.repairs if p.method == "resync"]
    assert forecasts
    assert forecasts[0] < 30


def test_a_large_preview_is_a_choice_and_not_the_repair(tmp_path: Path) -> None:
    size = 900, 680
    whole = made("inner-preview", 7, size)
    first = start_of(whole)
    path = tmp_path / "cut.jpg"
    path.write_bytes(whole[: first + (len(whole) - first) // 4])
    found = examine_file(path)
    assert repair_file(found, tmp_path / "out").method == "pad"
    chosen = repair_file(found, tmp_path / "out", method="extract-preview")
    assert chosen.output
    with Image.open(chosen.output) as preview:
        assert preview.width == 640
