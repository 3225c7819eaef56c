"""What is lost without an error, and what is shown in the wrong place and looks right all the same."""

from __future__ import annotations

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
from jugal.formats.base import Subject
from jugal.formats.detect import detect
from jugal.formats.jpeg.alike import _as_shown, looking_right
from jugal.formats.jpeg.canvas import Placed
from jugal.formats.jpeg.check import filled_start
from jugal.formats.jpeg.columns import RowEnds
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.donor import _off_level
from jugal.formats.jpeg.losses import find_loss, read_with_extra
from jugal.formats.jpeg.parse import Structure, walk
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.model.codes import FindingCode
from jugal.model.result import Verdict
from jugal.samples import encode, headers
from jugal.samples.harm import harm, harms_for
from jugal.samples.scenes import riverbed


@cache
def photo(seed: int) -> bytes:
    return encode.jpeg(riverbed(800, 600, seed), quality=80)


def opened(data: bytes) -> tuple[Structure, RunReader, Run]:
    structure = walk(Source.from_bytes(data), 0)
    reader = RunReader(structure)
    return structure, reader, read_with_extra(reader, structure.scans[0].entropy, 0)


def silently_changed(seed: int, more: bool) -> tuple[bytes, int]:
    """The photograph with a few bytes gone, or ``more`` put in, so that without an error it comes to its end some MCUs early, or
    has some too many; and where they were."""
    data = photo(seed)
    scan = opened(data)[0].scans[0].entropy
    rng = np.random.default_rng(seed)
    for _ in range(400):
        at = int(rng.integers(scan.start + scan.length // 4, scan.start + scan.length * 3 // 4))
        count = int(rng.integers(2, 9))
        put_in = rng.integers(0, 0xFF, count).astype(np.uint8).tobytes() if more else b""
        sick = data[:at] + put_in + data[at if more else at + count :]
        _, reader, run = opened(sick)
        missing = reader.total - run.count
        if run.ends_with_data and 0 < (-missing if more else missing) < 20:
            return sick, at
    raise AssertionError("no such place was met")


@pytest.mark.parametrize("more", [False, True])
def test_a_scan_with_another_number_of_mcus_lost_or_got_them_inside(more: bool, tmp_path: Path) -> None:
    restored = []
    for seed in range(4):
        sick, at = silently_changed(seed, more)
        path = tmp_path / f"{seed}.jpg"
        path.write_bytes(sick)
        found = examine_file(path)
        assert found.findings[0].code in (FindingCode.JPEG_BREAK, FindingCode.JPEG_CODE)
        span = found.findings[0].span
        assert span is not None and abs(span.start - at) < 400
        before = share("jpeg", photo(seed), sick)
        assert before is not None and found.score == pytest.approx(before, abs=12)
        outcome = repair_file(found, tmp_path / "out")
        assert outcome.output is not None and outcome.score_after is not None
        after = share("jpeg", photo(seed), Path(outcome.output).read_bytes())
        assert after is not None and outcome.score_after < after + 1
        restored.append(after)
    assert np.median(restored) > 99


@pytest.mark.parametrize("seed", range(4))
def test_of_a_whole_or_a_cut_picture_no_mcu_was_lost_inside(seed: int) -> None:
    _, reader, run = opened(photo(seed))
    assert find_loss(reader, run) is None
    assert find_loss(reader, run.only_first(reader.total * 2 // 3)) is None, "an error is not the data's end"
    data = photo(seed)
    cut = opened(data[: len(data) * 2 // 3])
    assert cut[2].count < reader.total and find_loss(cut[1], cut[2]) is None


@pytest.mark.parametrize("seed", range(4))
def test_where_only_the_last_mcus_are_gone_none_was_lost_inside(seed: int) -> None:
    """The data end with an MCU, as they do where some are lost inside; but nothing in the picture goes on better so."""
    data = photo(seed)
    _, reader, run = opened(data)
    ends = np.flatnonzero(run.bits[1:] % 8 == 0) + 1
    last = int(ends[ends < reader.total - 3][-1])
    kept = int(run.entropy.raw_offsets(run.bits[last : last + 1] >> 3)[0])
    sick = data[:kept] + b"\xff\xd9"
    _, reader, short = opened(sick)
    assert short.ends_with_data and short.count < reader.total and find_loss(reader, short) is None


@pytest.mark.parametrize("more", [False, True])
def test_the_row_that_is_named_is_one_that_mcus_begin_in(more: bool) -> None:
    """Of 600 rows, which 16 does not divide; by the MCU that the place leads to."""
    sick, _ = silently_changed(0, more)
    finding = examine(sick).findings[0]
    _, reader, run = opened(sick)
    assert finding.span is not None
    unit = int(np.searchsorted(run.entropy.raw_offsets(run.bits >> 3), finding.span.start))
    assert f"from row {unit // reader.frame.mcus_x * 16} of 600" in finding.message


# --- looking right in the wrong place


def leaflet(**options: int) -> bytes:
    """A white page with a few photographs on it."""
    picture = Image.new("RGB", (640, 960), (250, 250, 250))
    for row in range(4):
        picture.paste(riverbed(160, 120, row), (40 + 100 * row, 60 + 220 * row))
    return encode.jpeg(picture, quality=85, subsampling=0, **options)


@pytest.mark.parametrize("kind", ["zero-cluster", "noise-cluster", "lost-cluster", "own-cluster"])
@pytest.mark.parametrize("seed", range(2))
def test_white_paper_moved_along_is_shown_rightly(kind: str, seed: int) -> None:
    """The score is the share that an independent decoder shows rightly, though all behind the damage stands elsewhere."""
    whole = leaflet(restart_marker_blocks=10)
    sick = harm(whole, "jpeg", kind, seed).data
    truth = share("jpeg", whole, sick)
    found = examine(sick)
    assert found.verdict is not Verdict.INTACT and found.score is not None and truth is not None
    assert found.score == pytest.approx(truth, abs=15) and found.score <= truth + 5


# --- one component


@pytest.mark.parametrize("sampling", [0x12, 0x21, 0x22])
def test_sampling_of_a_component_alone_says_nothing(sampling: int) -> None:
    """T.81 A.2.2: in a scan of one component the order of blocks does not depend on it."""
    whole = encode.jpeg(riverbed(808, 600, 3).convert("L"), quality=80)
    frame = whole.index(b"\xff\xc0")
    stated = bytearray(whole)
    stated[frame + 11] = sampling
    assert examine(bytes(stated)).verdict is Verdict.INTACT
    for kind in ("zero-cluster", "lost-cluster", "inserted-cluster", "flip-bits"):
        one, other = (examine(harm(data, "jpeg", kind, 2).data) for data in (whole, bytes(stated)))
        assert one.score == other.score and one.attainable == other.attainable
        assert [(f.code, f.span) for f in one.findings] == [(f.code, f.span) for f in other.findings]


# --- filler that reaches into the data behind a lost header


def page(seed: int) -> bytes:
    """A white page with photographs, in grey: it reaches from black to white."""
    picture = Image.new("L", (608, 800), 255)
    for row in range(3):
        part = np.asarray(riverbed(160, 120, seed + row).convert("L"), np.float64)
        low, high = part.min(), part.max()
        stretched = Image.fromarray(((part - low) * 255.0 / (high - low)).astype(np.uint8))
        picture.paste(stretched, (60 + 120 * row, 140 + 200 * row))
    return encode.jpeg(picture, quality=80)


@pytest.mark.parametrize("skipped", [0, 1])
def test_a_run_at_levels_that_no_such_picture_has_is_not_its_start(skipped: int) -> None:
    """What the first MCU's difference lost moves the whole picture; read from behind it white paper is grey."""
    donor = Subject(Source.from_bytes(page(5)))
    structure, reader, run = opened(page(1))
    behind = reader.read(structure.scans[0].entropy, int(run.bits[skipped]), reader.total)[0]
    assert _off_level(donor, walk(donor.source, 0), behind) is bool(skipped)


def test_bytes_of_one_value_at_the_start_are_filler_if_they_are_many() -> None:
    data = page(1)
    start = opened(data)[0].scans[0].entropy.start
    for count, expected in ((start + 4, start + 4), (20, 0)):
        assert filled_start(Subject(Source.from_bytes(bytes(count) + b"\x4b" + data[count + 1 :]))) == expected


def test_a_scan_without_a_header_is_known_by_few_stuffed_bytes_if_no_other_stands_beside_them() -> None:
    """Of a drawing, whose data are not dense: each 0xFF in a scan is stuffed, and the end-of-image marker closes the file."""
    rng = np.random.default_rng(3)
    body = np.where(rng.random(9000) < 0.6, 0x28, rng.integers(0, 0xFF, 9000)).astype(np.uint8)
    body[2000:9000:800], body[2001:9000:800] = 0xFF, 0
    closed = bytes(512) + body.tobytes() + b"\xff\xd9"
    assert detect(Source.from_bytes(closed)).format == "jpeg"
    body[5000:5002] = 0xFF, 0x28
    assert detect(Source.from_bytes(bytes(512) + body.tobytes() + b"\xff\xd9")).format != "jpeg"


def test_a_run_that_goes_on_behind_the_picture_is_looked_at_as_far_as_it_lies_in_it() -> None:
    data = photo(1)
    structure, reader, run = opened(data)
    picture = decode(structure.frame, structure.scans, structure.quant)
    none = np.zeros(3, np.int64)
    in_place = looking_right(picture, reader, [Placed(run, 0, none, np.zeros(3))])
    assert in_place.shape == (reader.frame.mcus_y, reader.frame.mcus_x) and (in_place == 1).all()
    beyond = looking_right(picture, reader, [Placed(run, 100, none, np.zeros(3))]).reshape(-1)
    assert not beyond[:100].any() and 0 < beyond[100:].mean() < 1


@pytest.mark.parametrize("lost", [3, -3])
def test_rows_end_in_a_column_however_many_whole_rows_are_missing(lost: int) -> None:
    strange = np.random.default_rng(1).normal(size=45)
    ends = RowEnds(10, strange)
    rows = np.array([19, 29, 39])
    assert ends.moved(1, lost) == pytest.approx(0.35 * (strange[rows - lost] - strange[rows]).sum())
    assert ends.moved(1, lost + (20 if lost > 0 else -20)) == ends.moved(1, lost)


@pytest.mark.parametrize("kind", ["zero-cluster", "repeated-cluster", "lost-cluster"])
def test_paper_that_counts_from_beyond_white_is_shown_white(kind: str) -> None:
    """Levels that no picture has are cut off where they are shown, and with them a tint: such paper looks right."""
    whole = headers.by_scanner(21)
    sick = harm(whole, "jpeg", kind, 100 + harms_for("jpeg").index(kind)).data
    shown = share("jpeg", whole, sick)
    assert shown > 80
    assert abs((examine(sick).score or 0.0) - shown) < 8


def test_what_is_shown_lies_between_black_and_white() -> None:
    levels = np.array([-300.0, -128.0, 0.0, 127.0, 200.0], np.float32)
    assert _as_shown(levels).tolist() == [-128.0, -128.0, 0.0, 127.0, 127.0]
