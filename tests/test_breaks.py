"""Steps and seams in the levels of a picture: damage that no decoder notices, and subjects that only look like it."""

from __future__ import annotations

import io
from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from bench.measure import share
from numpy.typing import NDArray
from PIL import Image

from conftest import examine
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.jpeg.breaks import STRANGE, find_break, is_of_another, level_offset, strangeness
from jugal.formats.jpeg.colours import levels_shown
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.edges import Edges, read_edges, read_steps
from jugal.formats.jpeg.entropy import neutral_mcu
from jugal.formats.jpeg.parse import walk
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.stairs import Step, is_inside, level_steps, peaks, stands_out
from jugal.kernels.stuffing import pack_bits
from jugal.model.codes import FindingCode
from jugal.model.result import Verdict
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

WIDTH, ROWS = 40, 30


@cache
def photo(seed: int, quality: int = 85, **options: int) -> bytes:
    return encode.jpeg(riverbed(16 * WIDTH, 16 * ROWS, seed), quality=quality, **options)


def test_peaks_are_looked_for_everywhere_or_where_they_may_be() -> None:
    values = np.array([0, 5, 9, 1, 0, 0, 4, 0, 8, 7], np.float32)
    assert peaks(values, 4.0, 3) == [2, 8]
    where = np.array([1, 1, 0, 1, 1, 1, 1, 1, 0, 1], bool)
    assert peaks(values, 4.0, 3, where) == [1, 6, 9] == peaks(values * where, 4.0, 3)


def is_silent_step(step: Step | None, width: int, units: int) -> bool:
    return step is not None and stands_out(step) and is_inside(step, width, units)


def read(data: bytes) -> tuple[Edges, NDArray[np.int64]]:
    """The edges of a picture as far as it decodes, and the byte at which each MCU begins."""
    structure = walk(Source.from_bytes(data), 0)
    assert structure.frame is not None
    one = decode(structure.frame, structure.scans, structure.quant).scans[0]
    edges = read_edges(RunReader(structure), one.scan.entropy, int(one.unit_pos[0]), one.units_x, 0, one.units)
    return edges, one.raw(one.unit_pos)


def step_in(data: bytes) -> Step | None:
    """The clearest step in level, by edges read in whole and by their means alone, which tell the same."""
    structure = walk(Source.from_bytes(data), 0)
    assert structure.frame is not None
    one = decode(structure.frame, structure.scans, structure.quant).scans[0]
    edges, _ = read(data)
    steps = read_steps(RunReader(structure), one.scan.entropy, int(one.unit_pos[0]), one.units_x, 0, one.units)
    assert [s.shape for s in steps] == [s.shape for s in edges.step]
    assert all(np.allclose(a, b, atol=0.01) for a, b in zip(steps, edges.step, strict=True))
    return next(iter(level_steps(steps, edges.width, edges.first)), None)


def moved(data: bytes, unit: int, component: int, by: int) -> bytes:
    """The picture with one component off by ``by`` levels from MCU ``unit`` on, as a flipped bit leaves it."""
    structure = walk(Source.from_bytes(data), 0)
    reader, scan = RunReader(structure), structure.scans[0]
    run, _ = reader.read(scan.entropy, 0, reader.total)
    bits = np.unpackbits(scan.entropy.clean[: scan.entropy.length])
    # A flat MCU that carries the step takes the place of the one before it.
    before, after = int(run.bits[unit - 1]), int(run.bits[unit])
    alone, _ = reader.read(scan.entropy, after, 1)
    changes = []
    for c in range(3):
        own = np.flatnonzero(reader.blocks == c)
        step = round(by / float(reader.steps[c])) if c == component else 0
        wanted = int(run.dc[unit, own[0]]) - int(alone.dc[0, own[0]]) + step
        changes.append(wanted - int(run.dc[unit - 2, own[-1]]))
    parts = (bits[:before], neutral_mcu(structure, scan, changes), bits[after : int(run.bits[-1])])
    return data[: scan.entropy.start] + pack_bits(np.concatenate(parts)) + b"\xff\xd9"


# --- edges


def test_edges_are_the_pixels_that_another_decoder_shows() -> None:
    """Grey, so that nothing but the level comes between the coefficients and the pixels."""
    out = io.BytesIO()
    riverbed(240, 160, 4).convert("L").save(out, "JPEG", quality=92)
    edges, _ = read(out.getvalue())
    with Image.open(io.BytesIO(out.getvalue())) as picture:
        pixels = np.asarray(picture, np.float64)
    rows = np.arange(8, 160, 8)
    lower = 1.5 * pixels[rows - 1] - 0.5 * pixels[rows - 2]
    upper = 1.5 * pixels[rows] - 0.5 * pixels[rows + 1]
    difference = (upper - lower).reshape(-1, 30, 8)
    assert edges.width == edges.first == 30 and edges.end == 600
    assert np.abs(edges.step[0] - difference.mean(axis=2).reshape(-1)).max() < 1.5
    assert np.abs(edges.apart[0] - np.abs(difference).mean(axis=2).reshape(-1)).max() < 1.5


def test_edges_read_in_parts_are_those_read_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    whole, _ = read(photo(1))
    monkeypatch.setattr("jugal.formats.jpeg.runs._ROWS_AT_ONCE", 1)
    monkeypatch.setattr("jugal.formats.jpeg.runs._LEAST_AT_ONCE", 7)
    parted, _ = read(photo(1))
    for one, other in zip([*whole.apart, *whole.step], [*parted.apart, *parted.step], strict=True):
        assert np.abs(one - other).max() < 1e-2
    assert all(a.size == b.size for a, b in zip(whole.strange, parted.strange, strict=True))


def test_of_a_large_picture_some_of_its_strangers_are_enough(monkeypatch: pytest.MonkeyPatch) -> None:
    all_of_them, _ = read(photo(1))
    monkeypatch.setattr("jugal.formats.jpeg.edges._ENOUGH", 200)
    some, _ = read(photo(1))
    assert all(np.array_equal(a, b) for a, b in zip(all_of_them.apart, some.apart, strict=True))
    assert all(np.array_equal(a, b) for a, b in zip(all_of_them.step, some.step, strict=True))
    for one, other in zip(all_of_them.strange, some.strange, strict=True):
        assert one.size / 9 < other.size < one.size / 5 and abs(np.median(one) / np.median(other) - 1) < 0.15


def test_neighbours_meet_better_than_strangers() -> None:
    for seed in range(4):
        edges, _ = read(photo(seed))
        assert np.median(edges.apart[0]) < 0.5 * np.median(edges.strange[0])
        assert abs(np.median(edges.step[0])) < 1.0


# --- steps in level


@pytest.mark.parametrize("component", [0, 1, 2])
@pytest.mark.parametrize("column", [9, 17, 30])
def test_a_step_in_level_is_found_where_it_begins(component: int, column: int) -> None:
    unit = 14 * WIDTH + column
    for seed in range(3):
        data = moved(photo(seed), unit, component, 18)
        step = step_in(data)
        assert step is not None and abs(step.unit - unit) <= 2, "but for the MCU that carries it"
        assert is_silent_step(step, WIDTH, WIDTH * ROWS)


@pytest.mark.parametrize("column", [9, 17, 30])
def test_a_step_that_nothing_else_tells_of_is_damage_from_there_on(column: int) -> None:
    unit = 14 * WIDTH + column
    data = moved(photo(2), unit, 1, 18)
    found = examine(data)
    assert found.verdict is not Verdict.INTACT
    (finding,) = [f for f in found.findings if f.code is FindingCode.JPEG_BREAK]
    assert finding.span is not None and abs(finding.span.start - int(read(data)[1][unit])) < 400
    assert found.score == pytest.approx(100 * unit / (WIDTH * ROWS), abs=1.0)


@pytest.mark.parametrize("column", [4, WIDTH - 4])
@pytest.mark.parametrize("component", [0, 1, 2])
def test_a_step_near_a_side_is_found_and_taken_back(column: int, component: int, tmp_path: Path) -> None:
    whole, path = photo(2), tmp_path / "sick.jpg"
    path.write_bytes(moved(whole, 14 * WIDTH + column, component, 18 if component else 60))
    found = examine_file(path)
    assert [f.code for f in found.findings] == [FindingCode.JPEG_BREAK]
    outcome = repair_file(found, tmp_path / "out")
    assert outcome.output is not None
    true = share("jpeg", whole, Path(outcome.output).read_bytes())
    assert true is not None and true > 99 and outcome.score_after == pytest.approx(true, abs=1.5)


def page(quality: int = 85) -> bytes:
    """A white page with a photograph in the middle of it: both rows of a step are flat but for that."""
    picture = Image.new("RGB", (16 * WIDTH, 16 * ROWS), (244, 244, 240))
    picture.paste(riverbed(200, 90, 3), (200, 30))
    picture.paste(riverbed(200, 90, 4), (200, 16 * ROWS - 110))
    return encode.jpeg(picture, quality=quality)


@pytest.mark.parametrize("component", [0, 1, 2])
def test_on_flat_ground_a_step_is_the_same_all_along(component: int) -> None:
    unit = 14 * WIDTH + 17
    found = examine(moved(page(), unit, component, -18))
    assert [f.code for f in found.findings] == [FindingCode.JPEG_BREAK]
    assert found.score == pytest.approx(100 * unit / (WIDTH * ROWS), abs=1.0)
    assert all(examine(page(quality)).verdict is Verdict.INTACT for quality in (50, 85, 96))


def test_a_step_ahead_of_an_error_is_the_first_damage() -> None:
    unit = 8 * WIDTH + 17
    sick = bytearray(moved(photo(2), unit, 0, 25))
    places = read(bytes(sick))[1]
    begin = int(places[20 * WIDTH])
    sick[begin : begin + 512] = bytes(512)
    found = examine(bytes(sick))
    first = min(f.span.start for f in found.findings if f.span is not None)
    assert abs(first - int(places[unit])) < 400
    assert found.score == pytest.approx(100 * unit / (WIDTH * ROWS), abs=1.0)


def test_levels_shown_are_those_of_the_colour_that_changes_most() -> None:
    assert levels_shown([10.0]) == 10.0 and levels_shown([0.0, 10.0, 0.0]) == pytest.approx(17.72)
    assert levels_shown([10.0, 0.0, -10.0]) == pytest.approx(17.14136)


@pytest.mark.parametrize("seed", range(8))
@pytest.mark.parametrize("quality", [35, 85, 96])
def test_whole_pictures_have_no_step(seed: int, quality: int) -> None:
    assert not is_silent_step(step_in(photo(seed, quality)), WIDTH, WIDTH * ROWS)


def test_a_subject_that_begins_along_a_row_is_no_step() -> None:
    """Sky and land: every MCU of one row differs from the one above, as no break but one at the picture's side makes them."""
    pixels = np.zeros((16 * ROWS, 16 * WIDTH, 3), np.uint8)
    pixels[: 16 * 14] = 200, 210, 230
    pixels[16 * 14 :] = 60, 90, 40
    noise = np.random.default_rng(1).integers(-9, 10, pixels.shape)
    picture = Image.fromarray(np.clip(pixels + noise, 0, 255).astype(np.uint8))
    found = examine(encode.jpeg(picture, quality=85))
    assert found.verdict is Verdict.INTACT, [f.message for f in found.findings]


def test_a_bar_across_the_picture_is_a_part_of_the_subject() -> None:
    """A scale laid along the lower edge, from near one side to near the other, as survey pictures have it."""
    for seed, inset in enumerate((30, 30, 30, 48, 64, 96)):
        for top in (16 * (ROWS - 2), 16 * (ROWS - 2) + 5, 16 * 12, 16 * 12 + 9):
            picture = riverbed(16 * WIDTH, 16 * ROWS, seed)
            picture.paste((235, 215, 120), (inset, top, 16 * WIDTH - inset, min(top + 24, 16 * ROWS)))
            for quality in (75, 95):
                found = examine(encode.jpeg(picture, quality=quality))
                assert found.verdict is Verdict.INTACT, (seed, top, [f.message for f in found.findings])


def test_a_step_near_the_side_or_the_end_is_not_believed() -> None:
    clear = Step(14 * WIDTH + 17, 2.8, 6.0, 30.0)
    assert is_silent_step(clear, WIDTH, WIDTH * ROWS)
    assert not is_silent_step(replace(clear, unit=14 * WIDTH + 2), WIDTH, WIDTH * ROWS)
    assert not is_silent_step(replace(clear, unit=15 * WIDTH - 2), WIDTH, WIDTH * ROWS)
    near = replace(clear, unit=15 * WIDTH - 3)
    assert is_silent_step(near, WIDTH, WIDTH * ROWS), "three MCUs tell, if they are off by as much as the others"
    assert not is_silent_step(replace(near, apart=9.0), WIDTH, WIDTH * ROWS)
    assert not is_silent_step(clear, WIDTH, clear.unit + WIDTH)
    assert not is_silent_step(replace(clear, levels=3.0), WIDTH, WIDTH * ROWS)
    assert not is_silent_step(replace(clear, unusual=1.1, spread=6.0), WIDTH, WIDTH * ROWS)
    assert not is_silent_step(None, WIDTH, WIDTH * ROWS)


def test_what_is_too_small_to_tell_has_no_step() -> None:
    tiny = encode.jpeg(riverbed(96, 80, 1))
    assert step_in(tiny) is None
    edges, places = read(tiny)
    assert find_break(edges, places.take) is None


# --- breaks

BREAKS = ["own-cluster", "lost-cluster", "repeated-cluster", "kindred-cluster", "swapped-clusters"]


@pytest.mark.parametrize(
    "options", [{"quality": 90}, {"quality": 85, "subsampling": 0}, {"quality": 75, "subsampling": 1}], ids=str
)
def test_replaced_and_lost_clusters_are_placed(options: dict[str, int]) -> None:
    far = []
    for what in BREAKS:
        for seed in range(4):
            whole = photo(seed + 10, **options)
            harmed = harm(whole, "jpeg", what, seed)
            places = [
                f.span.start for f in examine(harmed.data).findings if f.span and f.code is not FindingCode.JPEG_EOI
            ]
            if abs(min(places, default=-9999) - harmed.start) > 4096:
                far.append((what, seed, harmed.start, places))
    assert len(far) <= 2, far


def test_a_break_is_not_sought_where_the_file_simply_ends() -> None:
    """A cut picture has lost its end: no edge of its subject is made a break of."""
    for seed in range(6):
        whole = photo(seed)
        cut = whole[: int(len(whole) * 0.7)]
        codes = [f.code for f in examine(cut).findings]
        assert FindingCode.JPEG_BREAK not in codes and FindingCode.JPEG_SHORT in codes


def mottled(seed: int) -> bytes:
    """A photograph above five rows of MCUs of which each has a tint of its own: they meet as strangers."""
    picture = np.asarray(riverbed(16 * WIDTH, 16 * ROWS, seed)).copy()
    tints = np.random.default_rng(seed).integers(20, 230, (5, WIDTH, 3)).astype(np.uint8)
    picture[-80:] = tints.repeat(16, axis=0).repeat(16, axis=1)
    return encode.jpeg(Image.fromarray(picture), quality=85)


def test_the_subjects_own_last_rows_are_not_another_pictures() -> None:
    """Strangers that begin at no cluster, few of them: the file is cut short, and what there is of it stays as it is."""
    strange = 0
    for seed in range(6):
        cut = mottled(seed)[:-40]
        edges, byte_at = read(cut)
        first = (ROWS - 5) * WIDTH
        if int(byte_at[first + 1]) // 4096 > int(byte_at[first - 6]) // 4096:
            continue  # by chance they begin at a cluster
        strange += strangeness(edges, first) > STRANGE and find_break(edges, byte_at.take) is not None
        codes = [f.code for f in examine(cut).findings]
        assert FindingCode.JPEG_BREAK not in codes and FindingCode.JPEG_SHORT in codes
    assert strange >= 3


def test_many_rows_of_strangers_are_another_pictures_wherever_they_begin() -> None:
    """Fewer are, if they begin at a cluster: the bytes of neighbouring MCUs lie in two of them."""
    edges, byte_at = read(photo(3))
    within, at_cluster = np.zeros_like(byte_at), np.arange(byte_at.size) * 4096
    count = edges.end - edges.first
    strange = [np.resize(each, count) for each in edges.strange]
    for rows, places, expected in ((12, within, True), (11, within, False), (11, at_cluster, True)):
        first = ROWS * WIDTH - rows * WIDTH
        apart = [
            np.where(np.arange(count) < first - edges.first, a, s) for a, s in zip(edges.apart, strange, strict=True)
        ]
        odd = Edges(edges.width, edges.first, edges.end, apart, edges.step, edges.strange)
        assert is_of_another(odd, first, places.take) is expected, rows
        assert not is_of_another(edges, first, places.take), "the picture's own rows are none"


def test_another_pictures_bytes_to_the_end_are_told_by_how_they_meet() -> None:
    told = 0
    for seed in range(6):
        whole = photo(seed + 20)
        harmed = harm(whole, "jpeg", "kindred-tail", seed)
        edges, byte_at = read(harmed.data)
        unit = find_break(edges, byte_at.take)
        found = examine(harmed.data)
        first = int(np.searchsorted(byte_at, harmed.start))
        told += found.score is not None and abs(found.score - 100 * first / (WIDTH * ROWS)) < 6
        if unit is not None and edges.end - unit > 4 * WIDTH:
            assert strangeness(edges, unit) > 0.6
    assert told >= 5


def test_a_whole_picture_is_not_strange_in_itself() -> None:
    for seed in range(6):
        edges, _ = read(photo(seed))
        assert strangeness(edges, 12 * WIDTH + 5) < 0.4
        assert strangeness(edges, WIDTH + 5) == 0.0, "too few rows before it to learn from"


def test_levels_are_compared_with_what_is_good_above_only() -> None:
    rows = np.repeat(np.arange(6.0), 20).reshape(6, 20).astype(np.float32)
    stepped = rows.copy()
    stepped.reshape(-1)[47:] += 30
    assert level_offset([rows], 47, 47) == 0.0
    assert level_offset([stepped], 47, 47) == 30.0
    assert level_offset([stepped], 66, 47) == float("inf"), "nothing good is above it"


def test_zeros_are_not_read_as_picture_with_a_borrowed_header(tmp_path: Path) -> None:
    """The tables of four-component pictures read zeros without an error; what follows would stand in the wrong place."""

    def coded(seed: int) -> bytes:
        out = io.BytesIO()
        riverbed(640, 480, seed).convert("CMYK").save(out, "JPEG", quality=85)
        return out.getvalue()

    path, donor = tmp_path / "a.jpg", tmp_path / "donor.jpg"
    whole = coded(3)
    path.write_bytes(bytes(512) + whole[512:])
    donor.write_bytes(coded(4))
    outcome = repair_file(examine_file(path), tmp_path / "out", [examine_file(donor)])
    assert outcome.output is not None and outcome.score_after is not None
    true = share("jpeg", whole, Path(outcome.output).read_bytes())
    assert true is not None and true > 95 and outcome.score_after < 90, "in its place, its levels an estimate"


def test_progressive_scans_are_not_offered_typical_tables() -> None:
    whole = encode.jpeg(riverbed(640, 480, 6), progressive=True)
    found = examine(harm(whole, "jpeg", "no-huffman-tables", 1).data)
    assert FindingCode.JPEG_TABLES in {f.code for f in found.findings} and found.verdict is not Verdict.INTACT
    assert "standard-tables" not in {p.method for p in found.repairs}
    baseline = examine(harm(encode.jpeg(riverbed(640, 480, 6)), "jpeg", "no-huffman-tables", 1).data)
    assert "standard-tables" in {p.method for p in baseline.repairs}
