"""Symbols of rare codes told by how blocks go on from those around them."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

import numpy as np
import pytest

from jugal.binary.source import Source
from jugal.formats.jpeg.evidence import SHARE, Evidence, evidence_of, trusted
from jugal.formats.jpeg.parse import Structure, walk
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.settling import exchanged, named
from jugal.formats.jpeg.surroundings import Surroundings, _moved
from jugal.formats.jpeg.unknown import KnownScan, Lookup, UnknownScan, codes_of, lookup_of, table_of
from jugal.kernels.supposed import BIT, BLOCK, INDEX
from jugal.samples import encode
from jugal.samples.scenes import riverbed

Change = Callable[[Lookup, Evidence, int], np.ndarray]


@cache
def picture(seed: int = 4) -> Structure:
    return walk(Source.from_bytes(encode.jpeg(riverbed(640, 480, seed), quality=85, optimize=True)), 0)


@cache
def scan() -> UnknownScan:
    whole, like = picture(), picture(9)
    assert whole.frame is not None and like.frame is not None
    return UnknownScan(whole.frame, whole.scans[0], KnownScan(like.frame, like.scans[0]))


def with_lookup(lookup: Lookup) -> Structure:
    whole = walk(Source.from_bytes(encode.jpeg(riverbed(640, 480, 4), quality=85, optimize=True)), 0)
    whole.scans[0].tables = {key: table_of(lookup[key % 16 + 2 * (key >> 4)]) for key in whole.scans[0].tables}
    return whole


def swapped(lookup: Lookup, one: int, other: int) -> Lookup:
    """Tables in which two symbols of the first AC table stand for each other."""
    made = lookup.copy()
    symbol = made[2] & 255
    made[2] = np.where(symbol == one, made[2] - one + other, np.where(symbol == other, made[2] - other + one, made[2]))
    return made


def reads(lookup: Lookup) -> bool:
    reader = RunReader(picture())
    whole = with_lookup(lookup)
    return RunReader(whole).read(whole.scans[0].entropy, 0, reader.total)[0].count == reader.total


def rare_places(lookup: Lookup, begin: int) -> np.ndarray:
    return scan().read(lookup, scan().usual).places(2, begin).astype(np.int64)


def around(lookup: Lookup) -> Surroundings:
    starts = scan().read(lookup, scan().usual).starts
    return Surroundings(with_lookup(lookup), starts[:: scan().blocks.component.size, BIT])


def test_a_run_of_another_length_moves_what_follows() -> None:
    block = np.zeros((1, 64), np.int16)
    block[0, [0, 1, 5, 6, 9]] = 40, 3, -7, 2, 1
    # The code that begins at coefficient 2 leaves out three.
    moved, lost = _moved(block, np.array([2]), np.array([3]))
    assert moved.shape == (1, 16, 64) and np.array_equal(moved[0, 3], block[0]) and not lost[0, 3]
    for run in (0, 5):
        expected = np.zeros(64, np.int16)
        expected[[0, 1, 2 + run, 3 + run, 6 + run]] = 40, 3, -7, 2, 1
        assert np.array_equal(moved[0, run], expected) and not lost[0, run]
    far = np.zeros((1, 64), np.int16)
    far[0, [50, 60]] = 1, 1
    assert _moved(far, np.array([48]), np.array([2]))[1].tolist() == [[run > 5 for run in range(16)]]


def test_right_symbols_fit_best_and_exchanged_ones_do_not() -> None:
    right = lookup_of(picture().scans[0])
    symbols = np.array(sorted({symbol for _, _, symbol in codes_of(right[2])}))
    pairs = [(a, b) for a in symbols.tolist() for b in symbols.tolist() if a < b and a & 15 == b & 15 and a & 15 > 2]
    often = scan().counts(right)[0][2]
    one, other = next(
        (a, b)
        for a, b in pairs
        if min(often[a], often[b]) >= 3 and max(often[a], often[b]) < 60 and reads(swapped(right, a, b))
    )
    for lookup, better in ((right, one), (swapped(right, one, other), other)):
        places = rare_places(lookup, 0)
        now = (lookup[2][places[:, -2]] & 255).astype(np.int64)
        said = around(lookup).said(places[now == one], now[now == one], symbols)
        assert said.shape == (int((now == one).sum()), symbols.size) and said.max() <= 0.0
        summed = {s: float(total) for s, total in zip(symbols.tolist(), said.sum(axis=0), strict=True)}
        assert summed[better] > summed[one + other - better] + 3
        # Codes of another size lead elsewhere: they fit as most wrong ones do.
        sizes = said[:, symbols & 15 != one & 15]
        assert np.ptp(sizes, axis=1).max() == 0.0 and sizes.sum(axis=0).max() < summed[better] - 2


def test_symbols_without_a_magnitude_are_not_told() -> None:
    right = lookup_of(picture().scans[0])
    places = rare_places(right, 0)[:50]
    said = around(right).said(places, np.zeros(len(places), np.int64), np.arange(256))
    assert not said.any()


@pytest.mark.parametrize("seen", [True, False])
@pytest.mark.parametrize("change", [named, exchanged])
def test_rare_symbols_are_named_rightly_where_their_blocks_are_looked_at(change: Change, seen: bool) -> None:
    right = lookup_of(picture().scans[0])
    often, wrong = scan().counts(right)[0][2], right
    rare = [s for _, _, s in codes_of(right[2]) if 2 <= often[s] < 40 and s & 15 > 1]
    for one, other in [(a, b) for k, a in enumerate(rare) for b in rare[k + 1 :] if a & 15 == b & 15]:
        if {one, other} <= set(rare) and reads(swapped(wrong, one, other)):
            wrong = swapped(wrong, one, other)
            rare = [s for s in rare if s not in (one, other)]
    assert table_of(wrong[2]) != table_of(right[2])
    likely, own = scan().model(wrong, scan().usual)
    reading = scan().read(wrong, likely)
    trust = trusted(wrong[2], own[2], SHARE)
    made = change(
        wrong, evidence_of(scan(), wrong, likely, own, reading, 2, trust, 0, around(wrong) if seen else None), 2
    )

    def misread(row: np.ndarray) -> int:
        return sum(int(often[a[2]]) for a, b in zip(codes_of(right[2]), codes_of(row), strict=True) if a != b)

    assert misread(wrong[2]) > 100
    assert (misread(made) < misread(wrong[2]) / 5) is seen, misread(made)


def test_what_is_read_is_laid_out_as_the_picture_is() -> None:
    """Each place's block is the one that another way of reading finds there."""
    whole = picture()
    reader = RunReader(whole)
    _, coefficients = reader.read(whole.scans[0].entropy, 0, reader.total, reader.total)
    right = lookup_of(whole.scans[0])
    seen, places = around(right), rare_places(right, 0)
    for row in places[:: max(1, len(places) // 50)]:
        c, y, x = seen._where[row[BLOCK]]
        mcu, block = divmod(int(row[BLOCK]), reader.blocks.size)
        assert np.array_equal(seen._planes[c][y, x], coefficients[mcu, block])
        down, across = reader.shape[c]
        assert (y // down, x // across) == divmod(mcu, reader.frame.mcus_x)
        assert 1 <= row[INDEX] < 64


def test_behind_an_mcu_that_does_not_read_the_rest_is_looked_at() -> None:
    right = lookup_of(picture().scans[0])
    symbols = [symbol for _, _, symbol in codes_of(right[2])]
    often = scan().counts(right)[0][2]
    pairs = [(a, b) for a in symbols for b in symbols if a < b and a & 15 == b & 15 > 2 and often[a] + often[b] < 60]
    wrong = next(made for made in (swapped(right, a, b) for a, b in pairs) if not reads(made))
    whole, holed = around(right), around(wrong)
    for one, other in zip(whole._planes, holed._planes, strict=True):
        same = (one[..., 1:] == other[..., 1:]).all(axis=2)
        assert 0.9 < same.mean() < 1.0
        # Levels go on from the last one that was known.
        assert np.median(np.abs(one[..., 0].astype(int) - other[..., 0])) < 40


def test_a_place_whose_code_no_table_has_tells_nothing() -> None:
    """What is read behind the last block may be anything."""
    right = lookup_of(picture().scans[0])
    holed = right.copy()
    first = codes_of(right[2])[-6][0]
    holed[2, first:] = 0
    likely, own = scan().model(holed, scan().usual)
    reading = scan().read(holed, likely)
    trust = trusted(holed[2], own[2], 0.0)
    assert trust.length >= 8, "else a row before the first is one of the last"
    plain, seen = (evidence_of(scan(), holed, likely, own, reading, 2, trust, 0, e) for e in (None, around(holed)))
    assert len(reading.places(2, first)) and seen.placed[first] < len(seen.summed) - 1
    behind = seen.summed[-1] - seen.summed[seen.placed[first]]
    assert np.allclose(behind, plain.summed[-1] - plain.summed[plain.placed[first]], atol=0.1)
