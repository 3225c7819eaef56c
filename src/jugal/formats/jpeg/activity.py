"""Where a progressive scan of AC coefficients goes astray without an error: how busy its blocks are no longer fits the picture.

What a scan adds to a block goes with what the scans before it found there: busy blocks stay busy. Behind lost, put in or
foreign bytes the scan's blocks stand in other places, and the two have nothing to do with each other any more.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft
from scipy.ndimage import uniform_filter1d

from jugal.formats.jpeg.decode import Layout, Picture, follow
from jugal.formats.jpeg.parse import Structure

#: More blocks than this are not looked at: each look decodes all scans again.
_MOST_BLOCKS = 600_000
#: Blocks at the least by which a displacement is told, and the part of a scan's end that they are.
_LEAST, _TAIL = 400, 0.3
#: How well the end must fit the picture some blocks on, by correlation, and how much better than where it stands.
_FITS, _BETTER = 0.3, 0.06
#: Blocks at least on either side of a place, where it is looked for first, as shares of the scan, and rounds of it.
_SIDE, _STARTS, _ROUNDS = 100, (0.1, 0.35, 0.6, 0.85), 6
#: How much better two parts must explain a scan than one, in nats: where it is damaged for certain, and where it may just end.
KNOWN, UNKNOWN = 40.0, 80.0
#: Blocks about each that are near it, the dependence, times their number, that comes by chance, and by how much less it must be
#: behind a place than ahead of it.
_NEAR, _BY_CHANCE, _LESS = 17, 20.0, 0.45
#: Blocks behind a place from which it is told whether a scan is astray that shows no damage.
_FOLLOWING = 1200
#: Classes of expected values and of values, and how often each is taken to have been seen before any was.
_CLASSES, _KINDS, _UNSEEN = 8, 8, 0.5


def find_change(picture: Picture, structure: Structure, number: int, noticed: int, sure: float = KNOWN) -> int | None:
    """The block from which on AC scan ``number``, whose damage showed at block ``noticed``, is astray; None if unclear.

    It must be likelier by ``sure`` nats than that none is.
    """
    decoded = picture.scans[number]
    if decoded.units > _MOST_BLOCKS:
        return None
    values, reference = busyness(picture, structure, number)
    # Behind the end of the data there are only zeros.
    count = min(noticed, int(decoded.done.sum()))
    return _change(values[:count], reference, sure) if values.size else None


def is_astray(picture: Picture, structure: Structure, number: int, block: int) -> bool:
    """Whether AC scan ``number``, that shows no damage itself, no longer fits the picture from ``block`` on: it must be the block
    at which one that refines it goes astray."""
    decoded = picture.scans[number]
    # A scan that refines nothing seldom goes astray without an error, and what went before says too little of it.
    if not decoded.scan.ah or decoded.units > _MOST_BLOCKS or not _SIDE <= block <= decoded.units - _SIDE:
        return False
    values, reference = busyness(picture, structure, number)
    if not values.size:
        return False
    kinds = _classes(values, _KINDS)
    said = _fits(kinds, values, reference, block) - _foreign(kinds, block)
    return float(said[block : block + _FOLLOWING].mean()) < 0.0


def busyness(picture: Picture, structure: Structure, number: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """What AC scan ``number`` brings to each of its blocks, (blocks,), and what went before it, (blocks, figures): 1, how many
    values scans before it brought, and how steep the levels are there. Nothing where no scan of DC values came first."""
    decoded = picture.scans[number]
    component = decoded.scan.components[0][0]
    scans = structure.scans
    before = new = np.zeros(0, np.uint64)
    layout, dc = Layout.of(picture.frame), np.zeros(0, np.int16)
    for count, (_, levels, seen) in enumerate(follow(picture.frame, scans[: number + 1], structure.quant)):
        if count == number - 1:
            before = seen.copy()
        elif count == number and count:
            dc, new = levels, seen & ~before
    if not new.size:
        return np.zeros(0), np.zeros((0, 3))
    shape = -(-decoded.units // decoded.units_x), decoded.units_x
    mine = np.log1p(np.bitwise_count(_plane(new, layout, component, shape)).astype(np.float64)).ravel()
    level = _plane(dc, layout, component, shape).astype(np.float64)
    slope = np.zeros(shape)
    slope[1:] += np.abs(np.diff(level, axis=0))
    slope[:, 1:] += np.abs(np.diff(level, axis=1))
    busy = np.bitwise_count(_plane(before, layout, component, shape)).astype(np.float64)
    return mine, np.stack((np.ones(mine.size), np.log1p(busy).ravel(), np.log1p(slope).ravel()), axis=1)


def _plane(values: NDArray, layout: Layout, component: int, shape: tuple[int, int]) -> NDArray:
    """The blocks of a component that a scan of it alone holds, out of a flat array of all."""
    offset, stride, rows = (int(x[component]) for x in (layout.offset, layout.stride, layout.rows))
    return values[offset : offset + stride * rows].reshape(rows, stride)[: shape[0], : shape[1]]


def _change(values: NDArray[np.float64], reference: NDArray[np.float64], sure: float) -> int | None:
    """Where ``values`` part from ``reference`` (blocks, figures): by the number of blocks that the end fits better, or not at all;
    0 where they fit nowhere."""
    count = values.size
    tail = max(_LEAST, round(_TAIL * count))
    if count < 2 * tail or tail < _LEAST:
        return None
    line = np.linalg.lstsq(reference[:count], values, rcond=None)[0]
    shift, best, here = _displacement(values[-tail:], reference @ line, count - tail)
    # By how much likelier correlated values are, in nats.
    likelier = 0.5 * tail * float(np.log((1 - here**2) / max(1e-9, 1 - best**2)))
    if best > _FITS and best > here + _BETTER and likelier > sure:
        moved = np.arange(count) + shift
        inside = (moved >= 0) & (moved < reference.shape[0])
        rest = inside.copy()
        rest[:-tail] = False
        line = np.linalg.lstsq(reference[moved[rest]], values[rest], rcond=None)[0]
        there = np.full(count, np.var(values))
        there[inside] = (values[inside] - reference[moved[inside]] @ line) ** 2
        stays = (values - reference[:count] @ line) ** 2
        return int(np.argmin(np.cumsum(np.append(0.0, stays - there))))
    place = _parting(values, reference[:count], sure)
    return 0 if place is None and _dependence(values, reference[:count]) < _BY_CHANCE / count else place


def _dependence(values: NDArray[np.float64], reference: NDArray[np.float64]) -> float:
    """How much of what ``values`` vary among near blocks goes with ``reference``, 0..1; 1 where they do not vary.

    Both follow the picture at large, which lies beneath even where they belong to other blocks.
    """
    ups = values - uniform_filter1d(values, _NEAR)
    expected = reference[:, 1:] - uniform_filter1d(reference[:, 1:], _NEAR, axis=0)
    spread = float(np.var(ups))
    return (
        1.0 - float(np.var(ups - expected @ np.linalg.lstsq(expected, ups, rcond=None)[0])) / spread if spread else 1.0
    )


def _parts(values: NDArray[np.float64], reference: NDArray[np.float64], place: int) -> bool:
    """Whether what goes with ``reference`` ahead of ``place`` does so no more behind it. What refines values is bound to those
    that are there even when it is astray, but far less."""
    behind = _dependence(values[place:], reference[place:])
    return behind < max(_LESS * _dependence(values[:place], reference[:place]), _BY_CHANCE / (values.size - place))


def _parting(values: NDArray[np.float64], reference: NDArray[np.float64], sure: float) -> int | None:
    """The place from which on ``values`` no longer go with ``reference`` (blocks, figures); None where they go with it to the end.

    How often each value comes where so much is expected is learnt ahead of the place, how often it comes at all behind it; where
    the place lies best is tried with what was learnt of the one before.
    """
    count = values.size
    if count < 2 * _SIDE:
        return None
    kinds = _classes(values, _KINDS)
    best, gain = 0, 0.0
    whole = _fits(kinds, values, reference, count).sum()
    for start in _STARTS:
        place = max(_SIDE, int(start * count))
        for _ in range(_ROUNDS):
            fits, foreign = _fits(kinds, values, reference, place), _foreign(kinds, place)
            sums = np.concatenate(([0.0], np.cumsum(fits - foreign)))
            before, place = place, _SIDE + int(np.argmax(sums[_SIDE : count - _SIDE + 1]))
            if place == before:
                break
        likely = float(fits[:place].sum() + foreign[place:].sum())
        if likely - whole > gain and place <= count - _SIDE and _parts(values, reference, place):
            best, gain = place, likely - whole
    return best if gain > sure else None


def _classes(values: NDArray[np.float64], most: int) -> NDArray[np.int64]:
    """Up to ``most`` classes of values by size, of about as many each."""
    return np.searchsorted(np.unique(np.quantile(values, np.linspace(0, 1, most + 1)[1:-1])), values)


def _fits(
    kinds: NDArray[np.int64], values: NDArray[np.float64], reference: NDArray[np.float64], place: int
) -> NDArray[np.float64]:
    """The log of how likely each block's kind is where so much is expected, learnt from those ahead of ``place``."""
    line = np.linalg.lstsq(reference[:place], values[:place], rcond=None)[0]
    expected = _classes(reference @ line, _CLASSES)
    number = int(kinds.max()) + 1
    seen = np.bincount(expected[:place] * number + kinds[:place], minlength=(int(expected.max()) + 1) * number)
    table = seen.reshape(-1, number) + _UNSEEN
    return np.asarray(np.log(table / table.sum(axis=1, keepdims=True))[expected, kinds])


def _foreign(kinds: NDArray[np.int64], place: int) -> NDArray[np.float64]:
    """The log of how likely each block's kind is whatever is expected, learnt from those behind ``place``."""
    seen = np.bincount(kinds[place:], minlength=int(kinds.max()) + 1) + _UNSEEN
    return np.asarray(np.log(seen / seen.sum())[kinds])


def _displacement(values: NDArray[np.float64], expected: NDArray[np.float64], first: int) -> tuple[int, float, float]:
    """By how many places ``values``, which begin at place ``first``, fit ``expected`` best; the correlation there and at 0."""
    own = values - values.mean()
    length = next_fast_len(expected.size + own.size - 1, real=True)
    spectrum = rfft(expected - expected.mean(), length) * rfft(own[::-1], length)
    products = irfft(spectrum, length)[own.size - 1 : expected.size]
    sums = np.concatenate(([0.0], np.cumsum(expected))), np.concatenate(([0.0], np.cumsum(expected**2)))
    n = values.size
    totals, squares = (s[n:] - s[:-n] for s in sums)
    spread = np.sqrt(np.maximum(squares - totals**2 / n, 1e-9)) * max(float(np.sqrt((own**2).sum())), 1e-9)
    fits = products / spread
    place = int(np.argmax(fits))
    return place - first, float(fits[place]), float(fits[first])
