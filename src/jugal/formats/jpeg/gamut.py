"""Which brightness a run of MCUs may count from, told by the range of its samples: what a picture shows lies between black
and white, and most pictures reach from one to the other."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.levels import sample_rows
from jugal.formats.jpeg.runs import Run, RunReader

#: Stretches of a run that are looked at, and MCUs of each.
_STRETCHES, _UNITS = 12, 128
_SETTLING = 24
#: The range without its last thousandths.
_ENDS = (0.1, 99.9)
#: Levels by which ends of a range differ within a picture, and how often a part of it reaches as far as another does.
_SOFT, _REACHED = 5.0, 0.5
_LEAST_DOUBT, _MOST_LEVELS = 2.0, 400.0
_SURE = 3.0
_WHITE = 255.0
_NORMAL = float(np.sqrt(2 * np.pi))


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
        shift, doubt[0] = self._shift(found, float(doubt[0]))
        offsets[0] += round(shift / self._reader.steps[0])
        return offsets, doubt

    def _shift(self, found: NDArray[np.float64], doubt: float) -> tuple[float, float]:
        """By how much a range is to be moved, and the doubt that is left: mean and deviation of what is likely.

        Likely is what was matched, within its doubt; what leaves the range between black and white, or that of what is
        known, is not; what ends where that does is more likely than else.
        """
        doubt, known = max(doubt, _LEAST_DOUBT), self._known
        low, high = min(0.0, float(known[0])) - float(found[0]), max(_WHITE, float(known[1])) - float(found[1])
        reach = min(_MOST_LEVELS, max(4 * doubt, abs(low) + 3 * _SOFT, abs(high) + 3 * _SOFT))
        moves = np.linspace(-reach, reach, 801)
        likely = -0.5 * (moves / doubt) ** 2
        for beyond in (low - moves, moves - high):
            likely -= 0.5 * (np.maximum(0.0, beyond) / _SOFT) ** 2
        for end, own in zip(known, found, strict=True):
            near = np.exp(-0.5 * ((own + moves - end) / _SOFT) ** 2) / (_NORMAL * _SOFT)
            likely += np.log((1 - _REACHED) / _WHITE + _REACHED * near)
        weights = np.exp(likely - likely.max())
        weights /= weights.sum()
        mean = float((weights * moves).sum())
        return mean, float(np.sqrt((weights * (moves - mean) ** 2).sum()))

    def _range(self, run: Run, offset: int) -> NDArray[np.float64] | None:
        """Where the samples of the first component end, low and high, with ``offset`` added to its DC values."""
        if not run.count or self._reader.quant[0] is None:
            return None
        # The first MCUs may not be in step yet, and their range would be any.
        begin = min(_SETTLING, run.count // 8)
        most = min(_UNITS, run.count - begin)
        starts = np.unique(np.linspace(begin, run.count - most, _STRETCHES).astype(int)).tolist()
        samples = [sample_rows(self._reader, run, first, most, 0, offset).ravel() for first in starts]
        return np.percentile(np.concatenate(samples), _ENDS) + (_WHITE + 1) / 2
