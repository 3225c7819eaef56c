"""The levels that a run of MCUs counts from, lost with what was before it: matched to what is known above it.

Each MCU of the run's first row says by how much it is off from the nearest known one above, the slopes on both sides carried on
across the gap. How far such a guess is off is learnt where both sides are known, by how much is going on in the MCUs: those of
a quiet sky tell the level of the whole run. MCUs that contradict each other more than is usual make it more doubtful.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.canvas import ROWS_LEARNT, Canvas, Rims, rims_of
from jugal.formats.jpeg.pixels import samples_of
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.formats.jpeg.stairs import MAD_TO_DEVIATION

#: The doubt in levels where nothing stands above a run.
_NO_NEIGHBOUR = 40.0
#: Shares of the slope of which the one that guesses best is taken.
_SHARES = (0.0, 0.25, 0.5, 0.75, 1.0)
#: Classes of how much is going on in a pair of MCUs, the least deviation of a guess, and fewest pairs from which any is learnt.
_CLASSES, _LEAST_DEVIATION, _FEW = 10, 0.25, 24
#: Rows on which a guess is tried to learn how far it is off, and fewest of them.
_TRIED, _FEW_TRIED = 24, 3
#: By how much the doubt grows with how far the MCUs of a row disagree, at least and at most; the least disagreement, in levels
#: and as a share of the usual one.
_AGREED, _AT_ODDS, _LEAST_SPREAD, _SPREAD_SHARE = 0.25, 20.0, 0.25, 0.5
#: Of how many of the rows that are tried the guesses are off by no more than so many deviations.
_OFF_SHARE, _OFF_DEVIATIONS = 0.8, 1.28


def match_levels(canvas: Canvas, run: Run, place: int) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Per component what to add to the run's DC values so that it goes on from what is known above it, and the doubt."""
    reader, width = canvas.reader, canvas.width
    own = rims_of(reader, run, 0, min(run.count, ROWS_LEARNT * width))
    numbers = np.arange(min(own.top.shape[0], width))
    above, rows = canvas.above(place + numbers)
    use = rows > 0
    parts = len(reader.shape)
    offsets, doubt = np.zeros(parts, np.int64), np.full(parts, _NO_NEIGHBOUR)
    if use.sum() < 3:
        apart = canvas.usual_levels() - np.median(reader.levels(run.dc), axis=1)
        return np.round(apart / reader.steps).astype(np.int64), doubt
    numbers, above, rows = numbers[use], above[use], rows[use]
    over, under = canvas.rims(above), own.of(numbers)
    carried = canvas.doubts(above)
    # What whole rows are off by is learnt; a part of one is off by more, and that a few MCUs agree says little.
    fewer = np.sqrt(width / numbers.size)
    least = _AGREED if 2 * numbers.size >= width else 1.0
    for c in range(parts):
        guesses, deviations = np.zeros(numbers.size), np.ones(numbers.size)
        off = spread = 0.0
        for r in np.unique(rows).tolist():
            same = rows == r
            learnt = _Guess.learn([canvas.rims_before(place), own], c, r, width)
            guesses[same], deviations[same] = learnt.guess(over.of(same), under.of(same), c)
            off += float(same.mean()) * learnt.off
            spread += float(same.mean()) * learnt.spread
        offset, disagreed = _middle(guesses, deviations)
        offsets[c] = round(offset / reader.steps[c])
        at_odds = float(np.clip(disagreed / max(spread, _LEAST_SPREAD), least, _AT_ODDS))
        doubt[c] = np.hypot(float(np.median(carried[:, c])), at_odds * off * fewer)
    return offsets, doubt


@dataclass(frozen=True, slots=True)
class _Guess:
    """How the level of one MCU is guessed from that of another ``rows`` rows above it, and how far off that is.

    ``share`` of the mean slope is carried on over the gap; ``borders`` part classes of how busy a pair is, ``deviations`` those
    of their guesses; ``off`` is that of the guess for a whole row, where its MCUs disagree by ``spread``.
    """

    rows: int
    share: float
    borders: NDArray[np.float64]
    deviations: NDArray[np.float64]
    off: float
    spread: float

    @classmethod
    def learn(cls, parts: list[Rims], c: int, rows: int, width: int) -> _Guess:
        """From all pairs of MCUs in ``parts`` that stand so far above one another."""
        pairs = [
            (p.of(slice(None, -rows * width)), p.of(slice(rows * width, None)))
            for p in parts
            if p.top.shape[0] > rows * width
        ]
        pairs = [(u, v) for u, v in pairs if np.isfinite(u.top[:, c] + v.top[:, c]).sum() >= _FEW]
        if not pairs:
            return cls(rows, 0.0, np.zeros(0), np.ones(1), _NO_NEIGHBOUR, _LEAST_SPREAD)
        best = min(_SHARES, key=lambda s: sum(float(np.nanmean(np.abs(_apart(u, v, c, rows, s)))) for u, v in pairs))
        apart = np.concatenate([_apart(u, v, c, rows, best) for u, v in pairs])
        busy = np.concatenate([_busy(u, v, c) for u, v in pairs])
        known = np.isfinite(apart)
        borders = np.unique(np.quantile(busy[known], np.linspace(0, 1, _CLASSES + 1)[1:-1]))
        number = np.searchsorted(borders, busy[known])
        deviations = np.array([_deviation(apart[known][number == k]) for k in range(borders.size + 1)])
        guess = cls(rows, best, borders, deviations, _NO_NEIGHBOUR, _LEAST_SPREAD)
        return cls(rows, best, borders, deviations, *guess._usually_off(pairs, c, width))

    def guess(self, over: Rims, under: Rims, c: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """What to add to each MCU of ``under``, and the deviation of that."""
        number = np.searchsorted(self.borders, _busy(over, under, c))
        return _apart(over, under, c, self.rows, self.share), self.deviations[number]

    def _usually_off(self, pairs: list[tuple[Rims, Rims]], c: int, width: int) -> tuple[float, float]:
        """How far the guess for a row is off where the truth is known, as a deviation, if its MCUs disagree by the second value."""
        offs, spreads = [], []
        for over, under in pairs:
            rows = over.top.shape[0] // width
            for row in np.unique(np.linspace(0, rows - 1, _TRIED).astype(int)).tolist():
                part = slice(row * width, (row + 1) * width)
                guesses, deviations = self.guess(over.of(part), under.of(part), c)
                known = np.isfinite(guesses)
                if known.sum() >= width // 2:
                    off, spread = _middle(guesses[known], deviations[known])
                    offs.append(off)
                    spreads.append(spread)
        if len(offs) < _FEW_TRIED:
            return _NO_NEIGHBOUR, _LEAST_SPREAD
        usual = max(_LEAST_SPREAD, _SPREAD_SHARE * float(np.sqrt(np.mean(np.square(spreads)))))
        # A row whose MCUs disagree is the further off.
        relative = np.abs(offs) / np.maximum(usual, spreads)
        return usual * float(np.quantile(relative, _OFF_SHARE)) / _OFF_DEVIATIONS, usual


def _apart(over: Rims, under: Rims, c: int, rows: int, share: float) -> NDArray[np.float64]:
    """By how much the upper side of each MCU is darker than the one above it lets expect."""
    slope = (over.bottom[:, c] - over.top[:, c] + under.bottom[:, c] - under.top[:, c]) / 2
    return np.asarray(over.bottom[:, c] + share * slope * (rows - 1) - under.top[:, c])


def _busy(over: Rims, under: Rims, c: int) -> NDArray[np.float64]:
    """How much is going on in each pair of MCUs: slopes and what varies along their sides."""
    slopes = np.abs(over.bottom[:, c] - over.top[:, c]) + np.abs(under.bottom[:, c] - under.top[:, c])
    return np.asarray(slopes + over.busy[:, c] + under.busy[:, c])


def _deviation(values: NDArray[np.float64]) -> float:
    if not values.size:
        return 1.0
    return max(_LEAST_DEVIATION, MAD_TO_DEVIATION * float(np.median(np.abs(values))))


def _middle(guesses: NDArray[np.float64], deviations: NDArray[np.float64]) -> tuple[float, float]:
    """What MCUs guess together, the surer ones weighing more, and how far they are from it themselves."""
    middle = weighted_median(guesses, 1.0 / deviations)
    return middle, weighted_median(np.abs(guesses - middle), 1.0 / deviations)


def weighted_median(values: NDArray[np.float64], weights: NDArray[np.float64]) -> float:
    """The value at which half of all weight is reached."""
    order = np.argsort(values)
    sums = np.cumsum(weights[order])
    return float(values[order[np.searchsorted(sums, sums[-1] / 2)]])


def sample_rows(reader: RunReader, run: Run, first: int, most: int, c: int, offset: int) -> NDArray[np.float32]:
    """(MCUs, samples): those of component ``c`` of up to ``most`` MCUs from number ``first``, mid-grey at 0, with ``offset``
    added to the quantised DC values."""
    part, coefficients = reader.read(run.entropy, int(run.bits[first]), most, most)
    own = np.flatnonzero(reader.blocks == c)
    blocks = coefficients[: part.count, own].astype(np.float32)
    blocks[..., 0] = run.dc[first : first + part.count, own].astype(np.int32) + offset
    return samples_of(blocks, reader.quant[c]).reshape(part.count, -1)
