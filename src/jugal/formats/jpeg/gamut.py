"""Which brightness and tint a run of MCUs may count from, told by the range of its samples: what a picture shows lies between
black and white, most pictures reach from one to the other, and what is black or white has no tint."""

from __future__ import annotations

from collections.abc import Sequence as Several

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d
from scipy.special import erf

from jugal.formats.jpeg.levels import sample_rows, weighted_median
from jugal.formats.jpeg.runs import Run, RunReader

#: Stretches of a run that are looked at, and MCUs of each.
_STRETCHES, _UNITS = 12, 128
_SETTLING = 24
#: The range without its last thousandths.
_ENDS = (0.1, 99.9)
#: Levels by which ends of a range differ within a picture, and how often a part of it reaches as far as another does.
_SOFT, _REACHED = 5.0, 0.5
#: The same of an end from black or white, where no part of the picture is known.
_SOFT_UNKNOWN = 8.0
_LEAST_DOUBT, _MOST_LEVELS = 2.0, 400.0
_SURE = 3.0
_WHITE = 255.0
_NORMAL = float(np.sqrt(2 * np.pi))
#: How far a picture's middle level is usually from another's; from one of a scene alike, to which twice the difference adds
#: by which their levels are spread; up to which share of the spread, and to how many levels, they are alike.
_USUAL_DOUBT, _ALIKE_DOUBT, _ALIKE_SHARE, _ALIKE = 60.0, 3.0, 0.25, 4.0
_TENTHS = tuple(range(5, 100, 10))
#: How far a tint is off that is told by what is black or white, and where nothing is.
_NEUTRAL_DOUBT, _UNSEEN_DOUBT = 5.0, 25.0
#: Samples within so many levels of their range's end are piled up there: that is where clipping puts them. From how often an
#: end with nothing piled up is black or white, with each share piled up by how much oftener, and at most how often.
_PILE, _BARE, _PILED, _MOST_SURE = 4.0, 0.3, 12.0, 0.97
#: Levels above the last sample within which a pile is looked for, and by how many the density is blurred.
_REACH, _BLUR = 40, 2.0
#: How often as dense as so many levels further a pile is, how dense it is at most as many levels outside, and the least share
#: of all samples in one.
_STANDS_OUT, _BESIDE, _OUTSIDE, _LEAST_PILE = 1.3, 12, 0.25, 0.01
#: Levels within which a sample is as good as black or white, and what the white ones weigh: a sky may be bright and blue.
_NEUTRAL, _BRIGHT = 6.0, 0.2
#: Levels that a viewer forgives, how often each of two tints is right to so many where something is black or white, and where
#: not, and by how much more levels of a tint change a colour.
_FORGIVEN, _TINT_RIGHT, _TINT_GUESSED, _TINT_SHOWS = 12.0, 0.95, 0.7, 1.7
_LEAST_NEUTRAL = 4.0


class Gamut:
    """The range of the samples of the first component that are known to be right.

    Of colour only means of MCUs could be compared, whose ranges tell less than the picture around a gap does.
    """

    def __init__(self, reader: RunReader, head: Run) -> None:
        self._reader = reader
        found = self._range(head, 0) if head.count >= _UNITS else None
        self._known = found if found is not None else np.array((0.0, _WHITE))

    def settle(
        self, run: Run, offsets: NDArray[np.int64], doubt: NDArray[np.float64]
    ) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """``offsets`` and ``doubt`` of ``match_levels`` after a look at the range that the run would have with them."""
        # What is known better than a range's ends are alike needs no second opinion.
        found = self._range(run, int(offsets[0])) if doubt[0] > _SURE else None
        if found is None:
            return offsets, doubt
        offsets, doubt = offsets.copy(), doubt.copy()
        known = self._known
        # Nothing is likely beyond black and white, or beyond what is known to be right.
        limits = np.array((min(0.0, float(known[0])), max(_WHITE, float(known[1]))))
        moves, likely = _moves(found, known, limits, 0.0, max(float(doubt[0]), _LEAST_DOUBT), (_REACHED, _REACHED))
        shift = float((likely * moves).sum())
        doubt[0] = float(np.sqrt((likely * (moves - shift) ** 2).sum()))
        offsets[0] += round(shift / self._reader.steps[0])
        return offsets, doubt

    def _range(self, run: Run, offset: int) -> NDArray[np.float64] | None:
        """Where the samples of the first component end, low and high, with ``offset`` added to its DC values."""
        if not run.count or self._reader.quant[0] is None:
            return None
        return _ends(_samples(self._reader, run, 0, offset))


def absolute_levels(
    reader: RunReader, run: Run, other: Several[NDArray[np.float64]] | None = None
) -> tuple[list[int], float]:
    """Per component what to add to the DC values of a run that nothing known stands above, and how sure that is right, 0 to 1.

    ``other`` are the levels, mid-grey at 0, of all blocks of each component of a picture that may be of the same kind: if their
    brightness is spread alike the levels are about the same.
    """
    samples = [_samples(reader, run, c, 0) + (_WHITE + 1) / 2 for c in range(len(reader.shape))]
    own = [run.dc[:, reader.blocks == c].ravel() * reader.steps[c] for c in range(len(samples))]
    apart = [_apart(a, b) for a, b in zip(own, other, strict=True)] if other else []
    alike = bool(apart) and apart[0] < np.clip(_ALIKE_SHARE * np.abs(own[0] - np.median(own[0])).mean(), 1.0, _ALIKE)
    shifts, sure = np.zeros(len(samples)), 1.0
    # Red, green and blue share their tables; brightness and colour differences hardly ever do.
    tinted = len(samples) == 3 and not reader.interchangeable
    for c in range(1 if tinted else len(samples)):
        middle = (float(np.median(other[c])) if other else 0.0) - float(np.median(own[c]))
        # Of four inks two make each colour, and the errors of both add up.
        forgiven = _FORGIVEN if len(samples) < 4 else _FORGIVEN / np.sqrt(2)
        shifts[c], likely = _placed(samples[c], middle, _ALIKE_DOUBT + 2 * apart[c] if alike else None, forgiven)
        sure *= likely
    for c in (1, 2) if tinted else ():
        brightness = _on_grid(reader, samples[0] + shifts[0], c).ravel()
        weights = np.exp(-np.clip(brightness, 0, _WHITE) / _NEUTRAL)
        weights += _BRIGHT * np.exp(-np.clip(_WHITE - brightness, 0, _WHITE) / _NEUTRAL)
        neutral = weights.sum() >= _LEAST_NEUTRAL
        shifts[c] = (_WHITE + 1) / 2 - weighted_median(_tiles(reader, samples[c], c).ravel(), weights)
        doubt, likely = (_NEUTRAL_DOUBT, _TINT_RIGHT) if neutral else (_UNSEEN_DOUBT, _TINT_GUESSED)
        if alike and other and _ALIKE_DOUBT + 2 * apart[c] < doubt:
            shifts[c], doubt = float(np.median(other[c]) - np.median(own[c])), _ALIKE_DOUBT + 2 * apart[c]
            likely = float(erf(_FORGIVEN / _TINT_SHOWS / (np.sqrt(2) * doubt)))
        sure *= likely
    return [round(shift / step) for shift, step in zip(shifts, reader.steps, strict=True)], float(sure)


def _apart(one: NDArray[np.float64], other: NDArray[np.float64]) -> float:
    """By how many levels the values of both are spread differently about their middles."""
    spreads = [np.percentile(values, _TENTHS) - np.median(values) for values in (one, other)]
    return float(np.abs(spreads[0] - spreads[1]).mean())


def _samples(reader: RunReader, run: Run, c: int, offset: int) -> NDArray[np.float64]:
    """(MCUs, samples) of component ``c`` from stretches all along the run, mid-grey at 0, with ``offset`` added to its DC values."""
    # The first MCUs may not be in step yet, and their range would be any.
    begin = min(_SETTLING, run.count // 8)
    most = min(_UNITS, run.count - begin)
    starts = np.unique(np.linspace(begin, run.count - most, _STRETCHES).astype(int)).tolist()
    return np.concatenate([sample_rows(reader, run, first, most, c, offset) for first in starts])


def _ends(samples: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.percentile(samples, _ENDS) + (_WHITE + 1) / 2


def _moves(
    found: NDArray[np.float64],
    known: NDArray[np.float64],
    limits: NDArray[np.float64],
    middle: float,
    doubt: float,
    reached: tuple[float, float],
    soft: float = _SOFT,
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """By how much a range may be moved, and how likely each is, adding up to 1.

    Likely is what lies about ``middle``, within ``doubt``; what leaves ``limits`` is not; what ends where ``known`` does is
    more likely than else, by how often either end is ``reached``. ``soft`` is by how many levels ends may differ.
    """
    low, high = float(limits[0] - found[0]), float(limits[1] - found[1])
    reach = min(_MOST_LEVELS, max(4 * doubt + abs(middle), abs(low) + 3 * soft, abs(high) + 3 * soft))
    moves = np.linspace(-reach, reach, 801)
    likely = -0.5 * ((moves - middle) / doubt) ** 2
    for beyond in (low - moves, moves - high):
        likely -= 0.5 * (np.maximum(0.0, beyond) / soft) ** 2
    for end, own, often in zip(known, found, reached, strict=True):
        near = np.exp(-0.5 * ((own + moves - end) / soft) ** 2) / (_NORMAL * soft)
        likely += np.log((1 - often) / _WHITE + often * near)
    weights = np.exp(likely - likely.max())
    return moves, weights / weights.sum()


def _placed(samples: NDArray[np.float64], middle: float, doubt: float | None, forgiven: float) -> tuple[float, float]:
    """By how much samples are to be moved for black and white to lie where they most likely do, and how likely that is right to
    ``forgiven`` levels.

    By ``middle`` they would be moved if nothing else told; where that is known within ``doubt``, whether they pile up where black
    and white are says less: something else may be the brightest in such a scene.
    """
    (low, dark), (high, bright) = _piled_end(samples), _piled_end(-samples)
    limits = np.array((0.0, _WHITE))
    often = [0.0 if doubt else min(_MOST_SURE, _BARE + _PILED * share) for share in (dark, bright)]
    ends = np.array((low, -high))
    moves, likely = _moves(ends, limits, limits, middle, doubt or _USUAL_DOUBT, (often[0], often[1]), _SOFT_UNKNOWN)
    best = float(moves[likely.argmax()])
    return best, float(likely[np.abs(moves - best) <= forgiven].sum())


def _piled_end(samples: NDArray[np.float64]) -> tuple[float, float]:
    """Where the lower end of samples lies, and the share of them that is piled up there.

    Coding scatters what was clipped about the clipping level, so that is where they are densest, not where the last one is.
    """
    end = float(np.percentile(samples, _ENDS[0]))
    numbers = np.clip(np.round(samples - end), -_REACH, 2 * _REACH).astype(np.int64) + _REACH
    density = gaussian_filter1d(np.bincount(numbers.ravel(), minlength=3 * _REACH + 1) / samples.size, _BLUR)[_REACH:]
    for peak in range(1, _REACH):
        piled = float((samples <= end + peak + _PILE).mean())
        highest = density[peak] >= density[[peak - 1, peak + 1]].max()
        steep = density[max(0, peak - _BESIDE)] <= _OUTSIDE * density[peak]
        if highest and steep and density[peak] >= _STANDS_OUT * density[peak + _BESIDE] and piled >= _LEAST_PILE:
            return end + peak, piled
    return end, float((samples <= end + _PILE).mean())


def _tiles(reader: RunReader, samples: NDArray[np.float64], c: int) -> NDArray[np.float64]:
    """(MCUs, rows, columns) of samples as ``_samples`` gives them, block by block."""
    down, across = reader.shape[c]
    blocks = samples.reshape(-1, down, across, 8, 8)
    return blocks.transpose(0, 1, 3, 2, 4).reshape(-1, 8 * down, 8 * across)


def _on_grid(reader: RunReader, samples: NDArray[np.float64], c: int) -> NDArray[np.float64]:
    """The first component's samples, averaged to where component ``c`` has its own, in the order of these."""
    down, across = reader.shape[c]
    tiles = _tiles(reader, samples, 0)
    rows, columns = tiles.shape[1] // (8 * down), tiles.shape[2] // (8 * across)
    if rows == 0 or columns == 0:
        return np.repeat(tiles.mean(axis=(1, 2))[:, None], 64 * down * across, axis=1)
    tiles = tiles[:, : 8 * down * rows, : 8 * across * columns]
    return np.asarray(tiles.reshape(-1, 8 * down, rows, 8 * across, columns).mean(axis=(2, 4)))
