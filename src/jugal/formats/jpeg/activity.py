"""Where a progressive scan of AC coefficients goes astray without an error: how busy its blocks are no longer fits the picture.

What a scan adds to a block goes with what the scans before it found there: busy blocks stay busy. Behind lost, put in or
foreign bytes the scan's blocks stand in other places, and the two have nothing to do with each other any more.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft

from jugal.formats.jpeg.decode import Layout, Picture, follow
from jugal.formats.jpeg.parse import Structure

#: More blocks than this are not looked at: the sums over them would take more room than the picture.
_MOST_BLOCKS = 600_000
#: Blocks at the least by which a displacement is told, and the part of a scan's end that they are.
_LEAST, _TAIL = 400, 0.3
#: How well the end must fit the picture some blocks on, by correlation, and how much better than where it stands.
_FITS, _BETTER = 0.3, 0.06
#: Places at most at which the two parts are told apart, and blocks at least on either side.
_PLACES, _SIDE = 3000, 100
#: How much better two parts explain the scan than one, in nats, and by how much worse the second must fit.
_SURE, _WORSE = 40.0, 1.3
#: Correlation below which a scan fits nowhere: it is another picture's, or astray from its start.
_FOREIGN = 0.1
#: Classes of expected values that scatter alike, and the least that they do.
_CLASSES, _LEAST_SCATTER = 16, 0.1


def find_change(picture: Picture, structure: Structure, number: int, noticed: int) -> int | None:
    """The block from which on AC scan ``number``, whose damage showed at block ``noticed``, is astray; None if unclear."""
    decoded = picture.scans[number]
    if decoded.units > _MOST_BLOCKS:
        return None
    component = decoded.scan.components[0][0]
    scans = structure.scans
    before = new = np.zeros(0, np.uint64)
    layout, dc = Layout.of(picture.frame), np.zeros(0, np.int32)
    for count, (_, levels, seen) in enumerate(follow(picture.frame, scans[: number + 1], structure.quant)):
        if count == number - 1:
            before = seen.copy()
        elif count == number and count:
            dc, new = levels, seen & ~before
    if not new.size:
        return None  # no scan of DC values came first
    shape = -(-decoded.units // decoded.units_x), decoded.units_x
    mine = np.log1p(np.bitwise_count(_plane(new, layout, component, shape)).astype(np.float64)).ravel()
    level = _plane(dc, layout, component, shape).astype(np.float64)
    slope = np.zeros(shape)
    slope[1:] += np.abs(np.diff(level, axis=0))
    slope[:, 1:] += np.abs(np.diff(level, axis=1))
    busy = np.bitwise_count(_plane(before, layout, component, shape)).astype(np.float64)
    reference = np.stack((np.ones(mine.size), np.log1p(busy).ravel(), np.log1p(slope).ravel()), axis=1)
    return _change(mine[: min(noticed, decoded.units)], reference)


def _plane(values: NDArray, layout: Layout, component: int, shape: tuple[int, int]) -> NDArray:
    """The blocks of a component that a scan of it alone holds, out of a flat array of all."""
    offset, stride, rows = (int(x[component]) for x in (layout.offset, layout.stride, layout.rows))
    return values[offset : offset + stride * rows].reshape(rows, stride)[: shape[0], : shape[1]]


def _change(values: NDArray[np.float64], reference: NDArray[np.float64]) -> int | None:
    """Where ``values`` part from ``reference`` (blocks, figures): by the number of blocks that the end fits better, or not at all;
    0 where they fit nowhere."""
    count = values.size
    tail = max(_LEAST, round(_TAIL * count))
    if count < 2 * tail or tail < _LEAST:
        return None
    line = np.linalg.lstsq(reference[:count], values, rcond=None)[0]
    shift, best, here = _displacement(values[-tail:], reference @ line, count - tail)
    if best > _FITS and best > here + _BETTER:
        moved = np.arange(count) + shift
        inside = (moved >= 0) & (moved < reference.shape[0])
        rest = inside.copy()
        rest[:-tail] = False
        line = np.linalg.lstsq(reference[moved[rest]], values[rest], rcond=None)[0]
        there = np.full(count, np.var(values))
        there[inside] = (values[inside] - reference[moved[inside]] @ line) ** 2
        stays = (values - reference[:count] @ line) ** 2
        return int(np.argmin(np.cumsum(np.append(0.0, stays - there))))
    expected = reference[:count] @ line
    place = _parting(values, reference[:count], expected)
    return 0 if place is None and _correlation(values, expected) < _FOREIGN else place


def _correlation(one: NDArray[np.float64], other: NDArray[np.float64]) -> float:
    """1 where one of them is the same all along, and nothing can be told."""
    spread = float(one.std() * other.std())
    return float(((one - one.mean()) * (other - other.mean())).mean()) / spread if spread > 0 else 1.0


def _parting(values: NDArray[np.float64], reference: NDArray[np.float64], expected: NDArray[np.float64]) -> int | None:
    """The best parting of ``values`` in two, each explained by a line of its own; None where one line does as well.

    Values are weighed by how much those scatter of which as much is expected: quiet blocks do less than busy ones.
    """
    borders = np.unique(np.quantile(expected, np.linspace(0, 1, _CLASSES + 1)[1:-1]))
    kind = np.searchsorted(borders, expected)
    number = np.maximum(np.bincount(kind, minlength=borders.size + 1), 1)
    means = np.bincount(kind, values, borders.size + 1) / number
    scatter = np.sqrt(np.bincount(kind, (values - means[kind]) ** 2, borders.size + 1) / number)
    weights = 1.0 / np.maximum(scatter, _LEAST_SCATTER)[kind]
    count, sums = values.size, _Sums(values * weights, reference * weights[:, None])
    places = np.arange(_SIDE, count - _SIDE, max(1, count // _PLACES))
    whole = sums.fit(np.array([0]), np.array([count]))
    first, second = sums.fit(np.zeros_like(places), places), sums.fit(places, np.full_like(places, count))
    gain = 0.5 * (count * np.log(whole) - places * np.log(first) - (count - places) * np.log(second))
    gain[second <= _WORSE * first] = 0.0
    best = int(np.argmax(gain))
    return int(places[best]) if gain[best] > _SURE else None


class _Sums:
    """Running sums by which a line can be laid through any stretch of values at once."""

    def __init__(self, values: NDArray[np.float64], reference: NDArray[np.float64]) -> None:
        zero = np.zeros((1, reference.shape[1], reference.shape[1]))
        self._square = np.concatenate((zero, np.cumsum(reference[:, :, None] * reference[:, None, :], axis=0)))
        self._cross = np.concatenate((zero[:, 0], np.cumsum(reference * values[:, None], axis=0)))
        self._own = np.concatenate(([0.0], np.cumsum(values * values)))

    def fit(self, first: NDArray[np.int64], last: NDArray[np.int64]) -> NDArray[np.float64]:
        """The mean squares by which the best lines miss the values of each stretch, from ``first`` to ``last``."""
        square = self._square[last] - self._square[first] + 1e-3 * np.eye(self._square.shape[1])
        cross = self._cross[last] - self._cross[first]
        line = np.linalg.solve(square, cross[..., None])[..., 0]
        explained = (line * (2 * cross - np.einsum("nij,nj->ni", square, line))).sum(axis=1)
        left = self._own[last] - self._own[first] - explained
        return np.maximum(left / (last - first), 1e-3)


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
