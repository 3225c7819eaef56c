"""The arithmetic of placing, held against plain loops: seams by every number of lost MCUs, the likeliest numbers together."""

from __future__ import annotations

from itertools import product

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from jugal.binary.source import Source
from jugal.formats.jpeg.columns import RowEnds
from jugal.formats.jpeg.likeness import borders_of
from jugal.formats.jpeg.parse import walk
from jugal.formats.jpeg.places import Stray as Lost
from jugal.formats.jpeg.places import _density, _spread, lost_likely, most_likely
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.formats.jpeg.seams import Seams, _strange
from jugal.kernels.seams import FEW, seam_scores
from jugal.samples import encode


def run_of(count: int, bits_each: int, begin: int = 0) -> Run:
    """A run of MCUs that take ``bits_each`` bits, without data behind them."""
    run = Run.__new__(Run)
    run.dc = np.zeros((count, 3), np.int32)
    run.bits = begin + bits_each * np.arange(count + 1, dtype=np.int64)
    run.failed = False
    return run


def lost(count: int, bits_each: int, lost_bytes: int, seen: bool = True, last: bool = False) -> Lost:
    return Lost(run_of(count, bits_each), RowEnds(8, np.zeros(max(0, count - 1))), lost_bytes, seen, last)


# ---------------------------------------------------------------- the likeliest numbers together


@settings(max_examples=60)
@given(st.integers(0, 2**32 - 1), st.integers(1, 3), st.booleans())
def test_the_likeliest_numbers_are_those_of_trying_all(seed: int, runs: int, ends: bool) -> None:
    rng = np.random.default_rng(seed)
    size = 9
    gaps = [np.append(-np.inf, rng.normal(0, 3, size - 1)) for _ in range(runs)]
    columns = [rng.normal(0, 3, size) for _ in range(runs)]
    end = int(rng.integers(runs, size)) if ends else None
    best, wanted = -np.inf, None
    for tried in product(range(1, size), repeat=runs):
        sums = np.cumsum(tried)
        if sums[-1] >= size or (end is not None and sums[-1] != end):
            continue
        value = sum(g[n] for g, n in zip(gaps, tried, strict=True)) + sum(
            c[s] for c, s in zip(columns, sums, strict=True)
        )
        if value > best:
            best, wanted = value, sums.tolist()
    found, sureties = most_likely(gaps, columns, end)
    assert found == wanted
    assert all(0 < s <= 1 + 1e-9 for s in sureties)
    if end is not None:
        assert sureties[-1] == pytest.approx(1.0), "where the last ends is known"


def test_one_place_that_nothing_speaks_against_is_sure_and_two_alike_are_not() -> None:
    flat = np.append(-np.inf, np.full(7, -30.0))
    one, two = flat.copy(), flat.copy()
    one[3] = 0.0
    two[[3, 5]] = 0.0
    assert most_likely([one], [np.zeros(8)], None) == ([3], [pytest.approx(1.0, abs=1e-9)])
    assert most_likely([two], [np.zeros(8)], None)[1] == [pytest.approx(0.5, abs=1e-9)]


# ---------------------------------------------------------------- lost bytes


def test_lost_bytes_are_reckoned_by_the_mcus_on_both_sides() -> None:
    # 400 MCUs of 20 bytes ahead and of 10 bytes behind: 8,192 bytes around hold 410 and 819 of them.
    before, behind = run_of(2000, 160), run_of(2000, 80)
    assert _density(before, behind, 1000) == pytest.approx((410 + 819) / (2 * 8192), rel=0.01)
    before.bits, behind.bits = before.bits.astype(np.int32), behind.bits.astype(np.int32)
    whole = (2000 + 2000) / (2000 * 20 + 2000 * 10)
    assert _density(before, behind, 1 << 30) == pytest.approx(whole, rel=0.01), (
        "places in 32 bits, far more than they hold lost"
    )
    assert _spread([run_of(3000, 160), run_of(1000, 160)], 4096) == pytest.approx(0.12), "no less than is ever known"
    twice = [run_of(4000, 160), run_of(8000, 80)] * 6
    assert _spread(twice, 4096) == _spread([run_of(48_000, 160), run_of(96_000, 80)], 4096) == pytest.approx(0.12)
    assert _spread([run_of(200, 160), run_of(800, 40)] * 100, 4000) == pytest.approx(0.8), (
        "nor more: every other stretch holds four times as many"
    )


def test_seen_holes_peak_where_their_bytes_say_and_unseen_ones_may_hold_clusters_more() -> None:
    head = run_of(3000, 160)
    seen = lost_likely(head, [lost(3000, 160, 2000)], 1500, None)[0]
    assert seen[0] == -np.inf and 60 <= int(np.argmax(seen)) <= 100
    unseen = lost_likely(head, [lost(3000, 160, 40, seen=False)], 1500, None)[0]
    # 40 bytes are 2 MCUs; a cluster of 4,096 bytes is 205 more.
    assert int(np.argmax(unseen)) <= 2
    assert unseen[206] > seen[206] and unseen[206] > unseen[100]


def test_behind_a_break_that_only_seemed_one_none_may_be_lost() -> None:
    head = run_of(3000, 160)
    seemed, sought, seen = (lost_likely(head, [one], 1500, None)[0] for one in (
        lost(3000, 160, 0, seen=False), lost(3000, 160, 40, seen=False), lost(3000, 160, 0)
    ))  # fmt: skip
    assert int(np.argmax(seemed)) == 0 and seemed[206] > seemed[100], "none, or what clusters hold"
    assert sought[0] == -np.inf and seen[0] == -np.inf
    assert most_likely([seemed, seemed], [np.zeros(1501)] * 2, None)[0] == [0, 0]


def test_where_all_that_is_lost_was_seen_it_held_all_that_is_missing() -> None:
    head = run_of(3000, 160)
    strays = [lost(500, 160, 4096), lost(500, 160, 8192, last=True)]
    likely = lost_likely(head, strays, 900, 900)
    # By their density the two held 205 and 410; as 900 are missing, 300 and 600.
    assert 250 <= int(np.argmax(likely[0])) <= 300 and 500 <= int(np.argmax(likely[1])) <= 600


# ---------------------------------------------------------------- seams


def slow_seams(above, below, width, absolute, near, deviation, noise, most_said, each, whole, most):  # type: ignore[no-untyped-def]
    out = np.zeros(most + 1)
    known, length = len(above), min(width, len(below))

    def pairs(column: int) -> list[tuple[int, int, int]]:
        """Each lower MCU, the one above it, and how many rows beyond the lost whole ones that is, 0 or 1."""
        parts: list[list[tuple[int, int, int]]] = [[], []]
        for k in range(length):
            over = (column + k) // width
            at = known + column + k - (over + 1) * width
            if at >= 0:
                parts[over].append((k, at, over))
        return [pair for part in parts if len(part) >= FEW for pair in part]

    def distances(found: list[tuple[int, int, int]]) -> dict[int, float]:
        logs = {}
        for over in (0, 1):
            own = [(k, at) for k, at, o in found if o == over]
            if own:
                apart = np.array([below[k] - above[at] for k, at in own])
                off = np.abs(apart - (0.0 if absolute else np.median(apart.mean(axis=1)))).mean(axis=1)
                for (k, at), distance in zip(own, off, strict=True):
                    logs[k] = np.log((distance + noise) / (below[k].std() + above[at].std() + noise))
        return logs

    logs = [distances(pairs(column)) for column in range(width)]
    usual = {
        k: np.mean([column[k] for column in logs if k in column]) for k in range(length) if any(k in c for c in logs)
    }
    for gone in range(most + 1):
        rows, column = divmod(gone, width)
        use = [(k, rows + o) for k, _, o in pairs(column) if rows + o < len(near) and near[rows + o, 1] > 0]
        if rows >= len(near) or len(use) < FEW:
            continue
        less = np.array([logs[column][k] - usual[k] for k, _ in use])
        means, by_row = near[[r for _, r in use]].T
        off, row = (less - means).mean(), by_row.mean()
        ratio = (less**2 - (less - means - off) ** 2) / (2 * deviation**2)
        said = np.clip(ratio, -most_said, most_said).sum()
        out[gone] = each * said - whole * (2 * np.log1p(off**2 / (3 * row**2)) + np.log(row / near[0, 1]))
    return out


@settings(max_examples=25)
@given(st.integers(0, 2**32 - 1), st.integers(5, 12), st.integers(3, 30), st.integers(3, 30), st.booleans())
def test_seams_are_scored_as_plain_loops_do(seed: int, width: int, known: int, length: int, absolute: bool) -> None:
    rng = np.random.default_rng(seed)
    above, below = (rng.normal(0, 20, (n, 8)).astype(np.float32) for n in (known, length))
    near = np.column_stack((rng.normal(-1, 0.3, 3), rng.uniform(0.1, 0.4, 3)))
    near[int(rng.integers(1, 3)), 1] *= rng.choice([0.0, 1.0])
    out, figures = np.zeros(4 * width), (width, absolute, near, 0.5, 1.0, 2.0, 0.35, 1.0)
    seam_scores(above, below[:width], above.std(axis=1), below[:width].std(axis=1), *figures, out)
    assert np.allclose(out, slow_seams(above, below, *figures, out.size - 1), atol=1e-3)


@given(st.integers(0, 2**32 - 1), st.integers(2, 40), st.integers(0, 200))
def test_what_speaks_for_strangers_is_summed_over_each_row_s_length(seed: int, width: int, more: int) -> None:
    meet = np.random.default_rng(seed).choice([-2.0, -0.3, 0.0, 0.1, 2.0], width + more)
    wanted = np.convolve(-meet, np.ones(width), "valid")
    assert np.allclose(_strange(meet.copy(), width), wanted, atol=1e-6)
    level = np.full(width + more, 0.1)
    assert np.unique(_strange(level, width)).size == 1, "the same sums everywhere, so that the first is taken"


def test_of_very_many_distances_a_part_tells_where_classes_part(monkeypatch: pytest.MonkeyPatch) -> None:
    rng, shares = np.random.default_rng(2), np.array([0.1, 0.5, 0.9])
    kinds = [rng.normal(0, 1, 30_000), rng.normal(2, 1, 10_000)]
    whole = borders_of(kinds, shares)
    assert np.array_equal(whole, np.quantile(np.concatenate(kinds), shares))
    monkeypatch.setattr("jugal.formats.jpeg.likeness._ENOUGH", 4000)
    some = borders_of(kinds, shares)
    assert not np.array_equal(some, whole) and np.abs(some - whole).max() < 0.1


@pytest.mark.parametrize("slant", [0, -12, 20])
def test_edges_that_slant_do_not_tell_the_column_to_the_mcu(slant: int) -> None:
    """Bars that move by so many pixels a row of MCUs go on in another column behind a gap."""
    width, rows, gone = 60, 40, 2 * 60
    down, across = np.mgrid[0 : 16 * rows, 0 : 16 * width]
    rng = np.random.default_rng(3)
    bars = np.cumsum(rng.normal(0, 0.15, 40_000))
    shown = 128 + 24 * np.sin(bars[20_000 + across - (slant * down) // 16]) + rng.normal(0, 1, down.shape)
    data = encode.jpeg(Image.fromarray(np.clip(shown, 0, 255).astype(np.uint8)).convert("RGB"), quality=92)
    structure = walk(Source.from_bytes(data), 0)
    reader = RunReader(structure)
    whole, _ = reader.read(structure.scans[0].entropy, 0, reader.total)
    at = 18 * width + 20
    seams = Seams(reader, [whole.only_first(at), whole.without_first(at + gone)])
    plain = seams._seam(seams._tails[0], seams._heads[1], 4 * width)
    found = seams.between(0, 4 * width)
    near = slice(gone - 8, gone + 9)
    assert found[gone] >= found[near].max() - 1e-9 and found[gone] > 5
    if slant:
        assert abs(int(np.argmax(plain[near])) - 8 + 2 * slant / 16) < 1, "by itself it goes on in another column"
        assert found[gone] > plain[gone] + 4
    assert (found >= plain).all() and found.max() == plain.max()


def test_a_seam_fits_best_where_the_rows_were_one_picture() -> None:
    rng = np.random.default_rng(4)
    width = 24
    columns = np.cumsum(rng.normal(0, 12, (width, 8)).reshape(-1)).reshape(width, 8)
    rows = np.concatenate([columns + rng.normal(0, 2, columns.shape) for _ in range(3)]).astype(np.float32)
    above, below = rows[: width + 7], rows[width + 16 :][:width] + 40
    out, near = np.zeros(width), np.array([[-1.5, 0.2], [-1.4, 0.2]])
    seam_scores(above, below, above.std(axis=1), below.std(axis=1), width, False, near, 0.5, 1.0, 2.0, 1.0, 1.0, out)
    assert int(np.argmax(out)) == 9, "16 - 7 MCUs are lost, the level of all was raised by 40"


# ---------------------------------------------------------------- columns


@settings(max_examples=30)
@given(st.integers(0, 2**32 - 1), st.integers(0, 11), st.integers(0, 11))
def test_rows_that_end_elsewhere_from_some_row_on_are_found(seed: int, first: int, second: int) -> None:
    rng = np.random.default_rng(seed)
    width, rows = 12, 80
    strange = rng.normal(-0.6, 0.4, rows * width)
    ends = np.concatenate((np.arange(first, 40 * width, width), np.arange(40 * width + second, rows * width, width)))
    strange[ends] += 3.0
    row_ends = RowEnds(width, strange)
    changes = row_ends.changes()
    if first == second:
        assert changes == []
    else:
        assert len(changes) == 1 and abs(changes[0] - 40 * width) <= 2 * width
        behind = row_ends.of(changes[0] + 2 * width, rows * width).columns()
        # A run that begins in column c ends its first row behind MCU width - 1 - c.
        assert int(np.argmax(behind)) == width - 1 - second


@pytest.mark.parametrize("sides_alike", [True, False])
@settings(max_examples=20)
@given(st.integers(0, 2**32 - 1), st.integers(1, 22), st.integers(0, 23))
def test_an_upright_edge_that_goes_on_is_not_taken_for_the_pictures_side(
    sides_alike: bool, seed: int, edge: int, begin: int
) -> None:
    """What lies before a gap tells which borders of MCUs are strange although no row ends there."""
    rng = np.random.default_rng(seed)
    width, rows = 24, 20

    def ends(column: int) -> RowEnds:
        strange = rng.normal(-0.6, 0.4, rows * width)
        columns = (np.arange(strange.size) + column) % width
        strange[columns == edge] += 3.0
        if not sides_alike:
            strange[columns == width - 1] += 3.0
        return RowEnds(width, strange)

    run, known = ends(begin), ends(0)
    as_if = (width - 1 - edge + begin) % width  # where the run would begin if its rows ended at the edge
    alone, told = run.columns(), run.columns(known)
    if sides_alike:
        assert int(np.argmax(alone)) == as_if and alone[as_if] - alone[begin] > 4.0
        assert told[as_if] - told[begin] < 2.0, "the place of the run is for other things to tell"
    else:
        assert {int(n) for n in np.argsort(told)[-2:]} == {as_if, begin}, "one of the two, whichever fits better"


@settings(max_examples=20)
@given(st.integers(0, 2**32 - 1), st.integers(0, 39), st.integers(3, 9))
def test_the_frame_of_a_page_tells_the_column_and_its_writing_does_not(seed: int, begin: int, thick: int) -> None:
    """The frame stands upright at the same borders in every row, before the gap and behind it; writing does in few rows."""
    rng = np.random.default_rng(seed)
    width, rows = 40, 30

    def page(column: int, count: int) -> RowEnds:
        strange = rng.normal(-0.4, 0.2, count * width)
        columns = (np.arange(strange.size) + column) % width
        written = (columns > 5) & (columns < 34) & (rng.random(strange.size) < 0.1)
        strange[written] += 2.0
        strange[(columns == 0) | (columns == width - 1 - thick)] += 2.0
        return RowEnds(width, strange)

    run, known = page(begin, rows), page(0, 2 * rows)
    told = run.columns(known)
    assert int(np.argmax(told)) == begin
    assert told[begin] - np.sort(told)[-2] > 2.0
