"""Runs whose number was lost go back where they stood: by the picture's sides, by what lies above, by the bytes that are gone."""

from __future__ import annotations

import io
from functools import cache
from itertools import pairwise

import numpy as np
import pytest
from bench.healthy import HEALTHY
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image, ImageOps
from scipy.optimize import isotonic_regression

from conftest import examine
from jugal.binary.source import Source
from jugal.formats.base import Subject
from jugal.formats.jpeg import canvas as canvases
from jugal.formats.jpeg import partings, resync, seams
from jugal.formats.jpeg.canvas import Canvas, Placed, rims_of
from jugal.formats.jpeg.columns import find_break_near, find_breaks, read_row_ends
from jugal.formats.jpeg.damage import judge
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.edges import read_edges, read_flanks, read_sides
from jugal.formats.jpeg.entropy import code_bits, codes_nothing_new, neutral_mcu, neutral_tables
from jugal.formats.jpeg.levels import match_levels, sample_rows
from jugal.formats.jpeg.likeness import Likeness, apart, never_rising
from jugal.formats.jpeg.parse import Structure, read_entropy, walk
from jugal.formats.jpeg.partings import _fitting
from jugal.formats.jpeg.places import Spot, Stray, find_places
from jugal.formats.jpeg.resync import find_mosaic
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.formats.jpeg.seams import Seams
from jugal.kernels.stuffing import pack_bits
from jugal.model.codes import FindingCode
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

CLUSTER = 4096


@cache
def photo(seed: int = 3, size: tuple[int, int] = (1200, 900), **options: int) -> bytes:
    return encode.jpeg(riverbed(*size, seed), **({"quality": 88} | options))


def opened(data: bytes) -> tuple[Subject, Structure, RunReader, Run]:
    """The file, its structure, a reader of it, and the whole picture as one run."""
    subject = Subject(Source.from_bytes(data))
    structure = walk(subject.source, 0)
    reader = RunReader(structure)
    whole, _ = reader.read(structure.scans[0].entropy, 0, reader.total)
    return subject, structure, reader, whole


def part(run: Run, first: int, last: int) -> Run:
    return run.without_first(first).only_first(last - first)


def joined(reader: RunReader, *parts: Run) -> Run:
    """Runs whose bits follow one another without a gap, read as one: what decoding makes of a loss that raises no error."""
    bits = np.concatenate([bits for p in parts for bits in p.own_bits()])
    raw = pack_bits(np.concatenate((bits, np.ones(-bits.size % 8, np.uint8))))
    entropy = read_entropy(Source.from_bytes(raw + b"\xff\xd9"), 0)
    run, _ = reader.read(entropy, 0, sum(p.count for p in parts))
    assert run.count == sum(p.count for p in parts) and not run.failed
    return run


def stray(reader: RunReader, run: Run, lost: int, last: bool = False) -> Stray:
    return Stray(run, read_row_ends(reader, run), lost, True, last)


def spots_of(reader: RunReader, head: Run, strays: list[Stray]) -> list[Spot]:
    seams = Seams(reader, [head, *(s.run for s in strays)])
    return find_places(reader.total, head, strays, seams, read_row_ends(reader, head))


def test_a_run_that_was_parted_where_nothing_is_lost_goes_back_where_it_was() -> None:
    _, _, reader, whole = opened(photo())
    width = reader.frame.mcus_x
    begin, at = 6 * width + 5, 9 * width + 3
    behind = stray(reader, part(whole, begin, whole.count), 2000, last=True)
    front, rest = behind.parted(at - begin)
    spots = spots_of(reader, part(whole, 0, 5 * width), [front, rest])
    assert [s.place for s in spots] == [begin, at] and min(s.surety for s in spots) > 0.95


# ---------------------------------------------------------------- sides and what they say


def test_the_sides_of_mcus_are_the_pixels_carried_on_by_half() -> None:
    _, _, reader, whole = opened(photo())
    for c, (rows, columns) in enumerate(reader.shape):
        sides, (left, right) = read_sides(reader, whole, 0, 40), next(read_flanks(reader, whole, 0, 40))[c]
        pixels = sample_rows(reader, whole, 0, 40, c, 0).reshape(40, rows, columns, 8, 8)
        first = pixels.transpose(0, 1, 3, 2, 4).reshape(40, 8 * rows, 8 * columns)
        assert np.allclose(sides.top[c], 1.5 * first[:, 0] - 0.5 * first[:, 1], atol=0.01)
        assert np.allclose(sides.bottom[c], 1.5 * first[:, -1] - 0.5 * first[:, -2], atol=0.01)
        assert np.allclose(left[:40], 1.5 * first[:, :, 0] - 0.5 * first[:, :, 1], atol=0.01)
        assert np.allclose(right[:40], 1.5 * first[:, :, -1] - 0.5 * first[:, :, -2], atol=0.01)


def test_distance_is_a_share_of_what_varies_along_a_side() -> None:
    one = np.tile(np.array([0.0, 10.0, 0.0, 10.0]), (2, 1))
    other = one + np.array([[4.0], [0.0]])
    # Both vary by 5, so that 4 levels apart are (4 + 1) of (5 + 5 + 1); raised by as much nothing but the noise is left.
    assert apart(one, other) == pytest.approx(np.log(np.array([5.0, 1.0]) / 11.0))
    assert apart(one, other, 4.0) == pytest.approx(np.log(np.array([1.0, 5.0]) / 11.0))


@settings(max_examples=60)
@given(st.lists(st.tuples(st.floats(-9, 9), st.floats(0.1, 50)), min_size=1, max_size=24))
def test_what_never_rises_is_what_isotonic_regression_gives(pairs: list[tuple[float, float]]) -> None:
    values, weights = (np.array(column) for column in zip(*pairs, strict=True))
    expected = isotonic_regression(values, weights=weights, increasing=False).x
    assert never_rising(values, weights) == pytest.approx(expected, abs=1e-9)


def test_what_a_distance_says_is_the_ratio_of_how_often_both_have_it_within_limits() -> None:
    rng = np.random.default_rng(1)
    near, far = [rng.normal(-2, 0.5, 4000)], [rng.normal(0, 0.5, 4000)]
    likeness = Likeness.of(near, far)
    assert likeness is not None and Likeness.of(near, [np.zeros(3)]) is None and Likeness.of([], far) is None
    assert likeness.said(np.array([-2.0, 0.0]), 0).tolist() == [2.0, -2.0]
    between = likeness.said(np.linspace(-1.2, -0.8, 41), 0)
    assert abs(between.mean()) < 0.4 and (np.diff(between) <= 0).all()
    assert likeness.said(np.array([-2.0]), 1)[0] == 1.0, "chroma says half"


def test_distances_that_strangers_have_as_often_as_neighbours_say_nothing() -> None:
    """Nine tenths of a drawing are paper; on paper all sides are as far apart, which is not so near as those that go on in detail."""
    rng = np.random.default_rng(2)
    paper = np.zeros(36_000)
    likeness = Likeness.of([paper, rng.normal(-1, 0.3, 4000)], [paper, rng.normal(2, 0.6, 4000)])
    assert likeness is not None
    assert np.abs(likeness.said(np.zeros(1), 0)) < 0.2
    assert likeness.said(np.array([-1.0]), 0) > 1.0 and likeness.said(np.array([2.0]), 0) < -1.0


def test_an_outline_before_a_flat_ground_tells_what_is_missing() -> None:
    """The ground looks the same everywhere, and most of a row is ground."""
    y, x = np.mgrid[:1200, :960]
    grain = np.random.default_rng(0).normal(0, 12, (1200, 960))
    body = np.abs(x - 480 - 120 * np.sin(y / 300)) < 190 + 20 * np.sin(y / 200)
    pixels = np.where(body[..., None], np.stack((190 + grain, 140 + grain, 110 + grain), 2), np.array([0, 30, 255]))
    _, _, reader, whole = opened(encode.jpeg(Image.fromarray(np.clip(pixels, 0, 255).astype(np.uint8)), quality=88))
    width = reader.frame.mcus_x
    at, lost = 20 * width + 25, 5 * width + 47
    broken = joined(reader, part(whole, 0, at), part(whole, at + lost, reader.total))
    parting = Seams(reader, [broken]).parting(0, lost, exactly=True)
    assert parting is not None and abs(parting.at - at) <= 12
    assert Seams(reader, [whole]).parting(0, lost, exactly=True) is None


# ---------------------------------------------------------------- columns


@pytest.mark.parametrize("lost", [7, 31, 60])
def test_a_loss_that_raised_no_error_shows_where_rows_end(lost: int) -> None:
    _, _, reader, whole = opened(photo())
    width = reader.frame.mcus_x
    at = 20 * width + 13
    broken = joined(reader, part(whole, 0, at), part(whole, at + lost, reader.total))
    ends = read_row_ends(reader, broken)
    changes = ends.changes()
    assert len(changes) == 1 and abs(changes[0] - at) <= 2 * width
    found = find_breaks(reader, broken, ends)
    assert len(found) == 1 and abs(found[0] - at) <= width
    behind = ends.of(at, broken.count).columns()
    assert int(np.argmax(behind)) == (at + lost) % width


def test_a_healthy_picture_does_not_break() -> None:
    for seed, options in ((3, {}), (4, {"subsampling": 0}), (5, {"subsampling": 1}), (6, {"quality": 40})):
        _, _, reader, whole = opened(photo(seed, **options))
        assert find_breaks(reader, whole, read_row_ends(reader, whole)) == []
        assert find_break_near(reader, part(whole, 0, 8 * reader.frame.mcus_x), 0) is None


@pytest.mark.parametrize("rows", [0.2, 0.9, 1.6, 3.3])
def test_the_place_and_number_of_mcus_lost_unseen_are_told_by_how_the_run_goes_on(rows: float) -> None:
    """Where the picture's sides do not tell, what lies above does."""
    _, _, reader, whole = opened(photo(7))
    width = reader.frame.mcus_x
    at, lost = 26 * width + 17, round(rows * width)
    broken = joined(reader, part(whole, 0, at), part(whole, at + lost, reader.total))
    found = Seams(reader, [part(whole, 0, 9 * width), broken]).parting(1, 8 * width)
    assert found is not None and abs(found.lost - lost) <= 4 and abs(found.at - at) <= width // 4
    assert Seams(reader, [part(whole, 0, 9 * width), whole]).parting(1, 8 * width, found.nats - 10) is None, (
        "nor nearly"
    )
    most = Seams(reader, [part(whole, 0, 9 * width), broken]).parting(1, lost - 1)
    assert most is None or most.lost < lost, "no more than there is room for"


@pytest.mark.parametrize("seed", [3, 4, 5])
def test_a_run_that_is_whole_or_short_is_not_parted(seed: int) -> None:
    _, _, reader, whole = opened(photo(seed))
    width = reader.frame.mcus_x
    seams = Seams(reader, [part(whole, 0, 9 * width), whole, part(whole, 0, width // 2)])
    assert seams.parting(1, 8 * width) is None
    assert seams.parting(2, 8 * width) is None and seams.parting(1, 0) is None


@pytest.mark.parametrize("lost", [149, 226, 268, 387])
def test_a_page_whose_rows_go_on_is_whole_though_they_would_go_on_elsewhere_too(
    lost: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The same boxes stand further down the page, and paper goes on from paper."""
    pixels, rng = np.full((1200, 960, 3), 255, np.uint8), np.random.default_rng(1)
    pixels[200:230, 60:900] = 210, 220, 235
    for column in range(80, 641, 280):
        for row in (330, 700):
            pixels[row : row + 190, column : column + 200] = rng.integers(60, 200, (190, 200, 3))
            pixels[560:566, column : column + 200] = 40
    _, _, reader, whole = opened(encode.jpeg(Image.fromarray(pixels), quality=88))
    assert Seams(reader, [whole]).parting(0, lost, 8.0, exactly=True) is None
    monkeypatch.setattr(seams, "_GOES_ON", 0.0)
    assert Seams(reader, [whole]).parting(0, lost, 4.0, exactly=True) is not None, (
        "what they would do elsewhere alone misleads"
    )


# ---------------------------------------------------------------- places


@pytest.mark.parametrize("rows", [0.3, 0.8, 1.4, 2.3])
@pytest.mark.parametrize("subsampling", [0, 1, 2])
def test_a_run_between_two_gaps_is_put_where_it_stood(rows: float, subsampling: int) -> None:
    """What is lost before and behind it is known in all, not in which part; the bytes say that to some percent."""
    _, _, reader, whole = opened(photo(4, subsampling=subsampling))
    width = reader.frame.mcus_x
    at, gap = 14 * width + 9, round(rows * width)
    middle, rest = part(whole, at + gap, at + gap + 12 * width), part(whole, at + 2 * gap + 12 * width, reader.total)
    ahead = int(middle.bits[0] - whole.bits[at]) >> 3
    behind = int(rest.bits[0] - middle.bits[-1]) >> 3
    head = part(whole, 0, at)
    spots = spots_of(reader, head, [stray(reader, middle, ahead), stray(reader, rest, behind, last=True)])
    assert [s.place for s in spots] == [at + gap, at + 2 * gap + 12 * width]
    assert spots[0].surety > 0.5 and spots[1].surety == pytest.approx(1.0)


def test_places_follow_one_another_and_end_the_picture() -> None:
    _, _, reader, whole = opened(photo(5))
    width = reader.frame.mcus_x
    cuts = [10 * width, 18 * width + 5, 27 * width + 30, reader.total]
    strays = [
        stray(reader, part(whole, first + 40, last), 2000, last == reader.total) for first, last in pairwise(cuts)
    ]
    spots = spots_of(reader, part(whole, 0, cuts[0]), strays)
    ends = [cuts[0], *(s.place + p.run.count for s, p in zip(spots, strays, strict=True))]
    assert all(s.place > end for s, end in zip(spots, ends, strict=False)) and ends[-1] == reader.total
    assert spots_of(reader, whole, strays) == [], "no room is left"
    assert spots_of(reader, whole, []) == []


def test_runs_that_the_picture_has_no_room_for_are_cut_or_left_out() -> None:
    _, _, reader, whole = opened(photo(5))
    half = reader.total // 2
    head, tail = part(whole, 0, half), stray(reader, part(whole, half, reader.total), 0, last=True)
    small = stray(reader, part(whole, 5, 40), 0)
    fitted = _fitting(reader, head, [small, tail])
    assert len(fitted) == 1 and fitted[0].last and fitted[0].run.count == reader.total - half - 1
    free = _fitting(reader, part(whole, 0, half - 100), [small, tail])
    assert [p.run.count for p in free] == [35, reader.total - half]
    longer = stray(reader, part(whole, 60, 110), 0)
    kept = _fitting(reader, part(whole, 0, half - 60), [longer, small, tail])
    assert kept == [longer, tail], "the shortest one goes first, wherever it stands"


@pytest.mark.parametrize("seed", [3, 4, 6])
def test_runs_between_holes_stand_in_their_place_in_the_file_too(seed: int) -> None:
    data = photo(seed)
    _, _, reader, whole = opened(data)
    starts = whole.entropy.raw_offsets(whole.bits[:-1] >> 3)
    clusters = len(data) // CLUSTER
    sick = bytearray(data)
    for share in (0.35, 0.6):
        at = int(share * clusters) * CLUSTER
        sick[at : at + CLUSTER] = bytes(CLUSTER)
    subject, structure, _, _ = opened(bytes(sick))
    assert structure.frame is not None
    mosaic = find_mosaic(subject, structure, decode(structure.frame, structure.scans, structure.quant))
    assert mosaic is not None and len(mosaic.placed) == 2
    for placed in mosaic.placed:
        middle = placed.run.count // 2
        byte = int(placed.run.entropy.raw_offsets(placed.run.bits[middle : middle + 1] >> 3)[0])
        assert abs(int(starts[placed.place + middle]) - byte) <= 1
        levels = reader.levels(placed.run.dc) + (placed.offsets * reader.steps)[:, None]
        true = reader.levels(whole.dc[placed.place : placed.end])
        assert np.abs(np.median(levels - true, axis=1)).max() < 8


@pytest.mark.parametrize("seed", [3, 4, 5])
def test_what_a_frame_hides_at_the_sides_is_told_by_what_lies_above(seed: int) -> None:
    """Within a plain frame no row's end shows. One loss is seen, the other left no trace: the run between is told from both."""
    framed = ImageOps.expand(riverbed(1536, 1136, seed), 32, (240, 238, 232))
    data = encode.jpeg(framed, quality=92)
    _, _, reader, whole = opened(data)
    clusters = len(data) // CLUSTER
    hole, lost = (int(clusters * share) * CLUSTER for share in (0.35, 0.65))
    sick = data[:hole] + bytes(CLUSTER) + data[hole + CLUSTER : lost] + data[lost + CLUSTER :]
    subject, structure, _, _ = opened(sick)
    assert structure.frame is not None
    mosaic = find_mosaic(subject, structure, decode(structure.frame, structure.scans, structure.quant))
    assert mosaic is not None and len(mosaic.placed) == 2
    lengths = np.diff(whole.bits)
    right = mosaic.before + sum(int((np.diff(p.run.bits) == lengths[p.place : p.end]).sum()) for p in mosaic.placed)
    share = 100 * right / reader.total
    assert share > 95 and abs(share - mosaic.kept) < 2, "what is claimed is what is there"


def test_lost_stretches_have_the_usual_level_of_what_lies_before() -> None:
    """Not that of the last block ahead of the fault, which may be nonsense; what follows keeps its own."""
    data = photo(6)
    clusters = len(data) // CLUSTER
    hole = int(clusters * 0.5) * CLUSTER
    subject, structure, _, _ = opened(data[:hole] + bytes(CLUSTER) + data[hole + CLUSTER :])
    assert structure.frame is not None
    mosaic = find_mosaic(subject, structure, decode(structure.frame, structure.scans, structure.quant))
    assert mosaic is not None and len(mosaic.placed) == 1
    draft = resync.resync(subject, None)
    made = b"".join(p if isinstance(p, bytes) else data[p.start : p.end] for p in draft.pieces)
    _, _, reader, mended = opened(made)
    assert mended.count == reader.total
    first, last = mosaic.before, mosaic.placed[0].place
    row = mended.dc[first - reader.frame.mcus_x : first]
    for c in range(len(reader.shape)):
        own = reader.blocks == c
        assert (mended.dc[first : last - 1][:, own] == round(float(np.median(row[:, own])))).all()
    behind = mosaic.placed[0]
    assert np.array_equal(mended.dc[last:], behind.run.dc + behind.offsets[reader.blocks])


@pytest.mark.parametrize("name", ["grey", "422-optimised"])
def test_swapped_clusters_are_cut_out(name: str) -> None:
    """Decoded in the wrong order they would move and colour all that follows."""
    data = HEALTHY["jpeg"][name](7)
    found, mosaic = None, None
    for seed in range(6):
        subject, structure, _, _ = opened(harm(data, "jpeg", "swapped-clusters", seed).data)
        assert structure.frame is not None
        picture = decode(structure.frame, structure.scans, structure.quant)
        found = judge(subject, structure, picture)
        if found.misplaced:
            mosaic = find_mosaic(subject, structure, picture)
            break
    assert found is not None and found.misplaced and mosaic is not None
    _, _, _, whole = opened(data)
    last = mosaic.placed[-1]
    first = int(last.run.entropy.raw_offsets(last.run.bits[:1] >> 3)[0])
    assert first >= found.misplaced[0].end, "what stands in the wrong place is not shown there"
    assert np.array_equal(np.diff(last.run.bits), np.diff(whole.bits)[last.place : last.end])


# ---------------------------------------------------------------- levels


def test_levels_are_matched_across_a_gap_by_quiet_mcus() -> None:
    data = photo(4, quality=92)
    _, structure, reader, whole = opened(data)
    assert structure.frame is not None
    picture = decode(structure.frame, structure.scans, structure.quant)
    width = reader.frame.mcus_x
    at = 16 * width + 5
    for rows, most in ((0.4, 1.0), (1.6, 6.0)):
        begin = at + round(rows * width)
        run = part(whole, begin, begin + 14 * width)
        moved = np.array([-31, 12, 7])
        shifted = Run(run.entropy, (run.dc - moved[reader.blocks]).astype(np.int32), run.bits, False)
        canvas = Canvas(picture, reader, part(whole, 0, at))
        offsets, doubt = match_levels(canvas, shifted, begin)
        assert (np.abs(offsets - moved) * reader.steps).max() <= most
        assert (doubt < 12).all() and (doubt >= 0).all()
    nothing, doubt = match_levels(Canvas(picture, reader, part(whole, 0, 4)), shifted, begin)
    assert doubt.min() >= 40 and nothing.shape == (3,), "with nothing above a level is anyone's guess"


def test_rims_are_held_as_far_back_as_they_are_asked_for(monkeypatch: pytest.MonkeyPatch) -> None:
    """Of short runs and long ones, taken in one after another, the same is known as where nothing is let go."""
    _, structure, reader, whole = opened(photo(4))
    assert structure.frame is not None
    picture, width = decode(structure.frame, structure.scans, structure.quant), reader.frame.mcus_x
    at, held = 9 * width + 7, []
    monkeypatch.setattr(canvases, "ROWS_ACROSS", 6)
    monkeypatch.setattr(canvases, "ROWS_LEARNT", 3)
    monkeypatch.setattr(canvases, "_MOST_LEARNT", reader.total)
    all_held = Canvas(picture, reader, part(whole, 0, at))
    monkeypatch.setattr(canvases, "_MOST_LEARNT", 5 * width)
    canvas = Canvas(picture, reader, part(whole, 0, at))
    for gap, count in ((3, 2 * width), (width + 5, 8 * width), (2 * width, 40), (9, 3 * width + 1)):
        place = at + gap
        asked = place + np.arange(width)
        for one, other in zip(canvas.above(asked), all_held.above(asked), strict=True):
            assert np.array_equal(one, other)
        near, far = canvas.rims_before(place), all_held.rims_before(place)
        assert np.isfinite(near.top).any() and np.isnan(near.top).any()
        assert np.array_equal(near.top, far.top, equal_nan=True)
        known = np.isfinite(near.top)
        assert np.array_equal(near.bottom[known], far.bottom[known])
        for one in (canvas, all_held):
            one.add(Placed(part(whole, place, place + count), place, np.array([2, 0, 1]), np.zeros(3)))
        at = place + count
        held.append(canvas._known.size)
    assert max(held) <= 12 * width < all_held._known.size, "what is behind is let go"


def test_rims_are_means_at_the_levels_of_the_run() -> None:
    _, _, reader, whole = opened(photo())
    rims = rims_of(reader, whole, 100, 50)
    for c, (rows, columns) in enumerate(reader.shape):
        pixels = sample_rows(reader, whole, 100, 50, c, 0).reshape(50, rows, columns, 8, 8)
        lines = pixels.transpose(0, 1, 3, 2, 4).reshape(50, 8 * rows, 8 * columns).mean(axis=2)
        assert np.allclose(rims.top[:, c], 1.5 * lines[:, 0] - 0.5 * lines[:, 1], atol=0.01)
        assert np.allclose(rims.bottom[:, c], 1.5 * lines[:, -1] - 0.5 * lines[:, -2], atol=0.01)
    sides = read_sides(reader, whole, 0, 150)
    whole_rims = rims_of(reader, whole, 0, 150)
    assert np.allclose(whole_rims.top[:, 0], sides.top[0].mean(axis=1), atol=0.01), "from the start nothing is added"
    assert np.allclose(whole_rims.of(slice(100, 150)).bottom, rims.bottom, atol=0.01), "wherever reading begins"


# ---------------------------------------------------------------- flat areas are no foreign pattern


def test_the_code_of_flat_mcus_is_told_at_any_phase_from_other_patterns() -> None:
    _, structure, _, _ = opened(photo())
    once = neutral_mcu(structure, structure.scans[0])
    for phase in range(once.size):
        flat = pack_bits(np.roll(np.tile(once, 200), phase))[1:-1]
        assert codes_nothing_new(structure, flat)
    assert not codes_nothing_new(structure, b"Odrell gauge " * 40)
    assert not codes_nothing_new(structure, bytes(500)) and not codes_nothing_new(structure, b"")


@pytest.mark.parametrize("lost", [0, 40])
def test_mcus_that_a_seam_has_no_use_for_are_sought_in_what_follows(lost: int) -> None:
    """The last run ends with the picture: what went missing inside it unseen seems to be missing before it."""
    told = 0
    for seed in range(5):
        _, _, reader, whole = opened(photo(seed))
        width = reader.frame.mcus_x
        head, first = part(whole, 0, 8 * width + 9), part(whole, 9 * width + 20, 18 * width + 5)
        second = part(whole, 18 * width + 5 + lost, reader.total)
        run = joined(reader, first, second)
        strays, seams = [stray(reader, run, 1500, last=True)], Seams(reader, [head, run])
        spots = find_places(reader.total, head, strays, seams, read_row_ends(reader, head))
        assert spots[0].place == 9 * width + 20 + lost
        known = read_edges(reader, whole.entropy, 0, width, 0, 8 * width)
        parted = partings._part_behind(reader, head, strays, spots, seams, known, None)
        if parted is not None:
            plain = partings._Place(1000.0, 0, 40)
            assert partings._part_behind(reader, head, strays, spots, seams, known, plain) is None, (
                "it breaks there for sure"
            )
        if not lost:
            assert parted is None, "nothing is missing elsewhere"
        elif parted is not None:
            assert spots[0].sooner == lost and spots[0].gained > 8
            assert len(parted[1]) == 2 and abs(parted[1][0].run.count - first.count) <= 8
            told += 1
    if lost:
        assert told >= 4


def test_a_line_along_a_row_of_blocks_repeats_its_code_and_is_not_foreign() -> None:
    """What was put in begins at a sector; the picture's own repetition, in whole sectors too, begins where it is drawn."""
    rng = np.random.default_rng(5)
    pixels = np.full((960, 3600, 3), 255, np.uint8)
    pixels[:300], pixels[640:] = (rng.integers(90, 170, (n, 3600, 3)) for n in (300, 320))
    pixels[320:640:16] = 40
    pixels[325:640:16] = 120
    data = encode.jpeg(Image.fromarray(pixels), quality=88)
    at = len(data) * 3 // 4 // CLUSTER * CLUSTER
    sick = data[:at] + bytes(CLUSTER) + data[at + CLUSTER :]
    blocks = Subject(Source.from_bytes(sick)).blocks
    assert np.count_nonzero(blocks._survey.periods > 1) > 8 and not blocks.patterns
    assert FindingCode.JPEG_HOLE in {f.code for f in examine(sick).findings}
    assert FindingCode.JPEG_FOREIGN not in {f.code for f in examine(sick).findings}
    text = (b"Odrell gauge, kept dry. " * 200)[:CLUSTER]
    foreign = data[:at] + text + data[at + CLUSTER :]
    assert [(p.start, p.end) for p in Subject(Source.from_bytes(foreign)).blocks.patterns] == [(at, at + CLUSTER)]
    assert FindingCode.JPEG_FOREIGN in {f.code for f in examine(foreign).findings}


def test_a_side_that_is_seen_before_a_gap_and_behind_it_tells_the_column() -> None:
    _, _, reader, whole = opened(photo(3))
    width = reader.frame.mcus_x
    head, run = part(whole, 0, 10 * width + 9), part(whole, 12 * width + 3, 24 * width)
    columns = read_row_ends(reader, run).columns(read_row_ends(reader, head))
    assert int(np.argmax(columns)) == 3 and np.sort(columns)[-1] - np.sort(columns)[-2] > 2.0


def test_unseen_breaks_are_parted_no_more_often_than_is_allowed(monkeypatch: pytest.MonkeyPatch) -> None:
    """Each parting is followed by placing again, the last one too: as many places as runs."""
    _, _, reader, whole = opened(photo(6))
    width = reader.frame.mcus_x
    asked = []

    def always(_: RunReader, run: Run, near: int) -> int | None:
        asked.append(near)
        return run.count // 2 if run.count >= 8 else None

    monkeypatch.setattr(partings, "find_break_near", always)
    monkeypatch.setattr(
        partings,
        "find_places",
        lambda _, head, strays, *__: [Spot(head.count + 9 * k, 1.0, True) for k in range(len(strays))],
    )
    monkeypatch.setattr(Seams, "parting", lambda *_: None)
    strays = [stray(reader, part(whole, 9 * width, 20 * width), 900)]
    known = read_edges(reader, whole.entropy, 0, width, 0, 8 * width)
    ends = read_row_ends(reader, part(whole, 0, 8 * width))
    head, parted, spots = partings.settle(reader, part(whole, 0, 8 * width), strays, known, ends)
    assert len(spots) == len(parted) == 1 + partings._MOST_UNSEEN == 1 + len(asked)
    assert head.count + sum(p.run.count for p in parted) == 19 * width, "no MCU is lost by parting"


def test_a_run_that_goes_on_far_beyond_the_pictures_end_is_another_pictures() -> None:
    _, _, reader, whole = opened(photo(5))
    width = reader.frame.mcus_x
    head = part(whole, 0, reader.total // 2)
    room = reader.total - head.count
    far, near = (stray(reader, part(whole, 0, room + rows * width), 0) for rows in (3, 1))
    assert _fitting(reader, head, [far]) == []
    assert [p.run.count for p in _fitting(reader, head, [near])] == [room - 1], (
        "some of what follows may decode by chance"
    )
    ending = stray(reader, part(whole, reader.total - room - 3 * width, reader.total), 0, last=True)
    assert [p.run.count for p in _fitting(reader, head, [ending])] == [room - 1], "its end is the picture's"


@pytest.mark.parametrize("seed", [3, 4])
def test_tables_of_a_pictures_own_are_given_the_codes_for_any_level(seed: int) -> None:
    """All codes that are there stay as they are, so that another decoder reads the picture as before."""
    data = encode.jpeg(riverbed(320, 240, seed), quality=92, optimize=True)
    structure = walk(Source.from_bytes(data), 0)
    assert any(len(t.symbols) < 12 for key, t in structure.scans[0].tables.items() if key < 0x10), "some sizes lack"
    roomy, added = neutral_tables(structure)
    for key, table in structure.scans[0].tables.items():
        wider = roomy.scans[0].tables[key]
        assert all(code_bits(wider, symbol) == code_bits(table, symbol) for symbol in table.symbols)
        assert set(wider.symbols) >= (set(range(12)) if key < 0x10 else {0})
    at = structure.scans[0].segment.start
    with Image.open(io.BytesIO(data)) as one, Image.open(io.BytesIO(data[:at] + added + data[at:])) as other:
        assert np.array_equal(np.asarray(one), np.asarray(other))
    again, nothing = neutral_tables(roomy)
    assert nothing == b"" and again is roomy
