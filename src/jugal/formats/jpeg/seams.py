"""How runs of MCUs go on from one another, for every number of MCUs that may be lost between them.

The lower sides of the last MCUs ahead of a gap and the upper sides of the first behind it meet the better the nearer they are.
How well they do so many rows apart, and how strangers do, is learnt from the runs themselves.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.canvas import ROWS_LEARNT
from jugal.formats.jpeg.edges import Sides, read_sides, sides_by_rows
from jugal.formats.jpeg.likeness import CHROMA, LEAST_DEVIATION, MOST_SAID, NOISE, Likeness, apart
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.kernels.seams import row_distances, seam_scores

#: Rows of MCUs across which sides may still tell that they belong together.
_ROWS_APART = 8
#: MCUs at a run's ends that are enough to learn how rows meet.
_ENOUGH = 12_000
#: What one MCU of a seam counts, since its neighbours say much the same.
_TEMPER = 0.35
#: Columns apart, as parts of a row, in which MCUs are strangers.
_COLUMNS = 4
#: Rows that MCUs may stand under: the last whole one and the one before it.
_ROWS_MET = 2
#: Rows from which it is learnt how rows differ, and the least deviation of their means.
_FEW_ROWS, _LEAST_BY_ROW = 4, 0.1
#: Nats that a break must bring that shows by nothing else, and how many of a run's places are looked at.
_SURELY_BROKEN, _PLACES_TRIED = 12.0, 16
#: What a nat counts by which MCUs go on where they stand, and columns from their own up to which displaced ones may seem to.
_GOES_ON, _NEAR_COLUMNS = 5.0, 8
#: Rows that are left out at most to see how far what is shown is displaced across as many, and nats by which it must look so; across
#: more rows it tells too little.
_SLANTED_ROWS, _SLANTED = 2, 1.0
#: Digits of sums that are looked at, and how many of them at once.
_DIGITS, _AT_ONCE = 6, 1 << 16


@dataclass(frozen=True, slots=True)
class Parting:
    """A run goes on from MCU number ``at`` as if so many were ``lost`` there, or as many too much if it is less than zero, which is so
    many ``nats`` likelier than that none are."""

    at: int
    lost: int
    nats: float


@dataclass(frozen=True, slots=True)
class _Meeting:
    """How a component's MCUs meet those above, and what the distance of two tells: their ``likeness``.

    ``rows`` (rows, 2) says of those so many rows apart by how much nearer they are than strangers in the same rows are, as a mean
    and the deviation of the means of rows, zero where too few are known; ``deviation`` is that of single MCUs.
    """

    likeness: Likeness
    rows: NDArray[np.float64]
    deviation: float


class _Learning:
    """Collects how MCUs of one component meet, from lower and upper sides of MCUs on end, to make a ``_Meeting`` of it."""

    def __init__(self, width: int, absolute: bool) -> None:
        self._width, self._absolute = width, absolute
        #: By how much those so many rows apart are nearer than strangers in the same rows, in the mean of each row.
        self._nearer: list[list[NDArray[np.float64]]] = [[] for _ in range(_ROWS_APART)]
        self._straight: list[NDArray[np.float64]] = []
        self._strange: list[NDArray[np.float64]] = []
        self._alone: list[float] = []

    def add(self, bottom: NDArray[np.floating], top: NDArray[np.floating]) -> None:
        width = self._width
        levels = bottom.mean(axis=1), top.mean(axis=1)
        for number, nearer in enumerate(self._nearer):
            first, up = (number + 2) * width, (number + 1) * width
            straight, *others = (
                _by_row(bottom, top, levels, first, up + width * k // _COLUMNS, width, self._absolute)
                for k in range(_COLUMNS)
            )
            if not straight.size:
                break
            usual = np.mean(others, axis=0)
            nearer.append((straight - usual).mean(axis=1))
            self._alone.append(float(np.mean((others[0] - usual) ** 2)))
            if number == 0:
                self._straight.append(straight.reshape(-1))
                self._strange += [other.reshape(-1) for other in others]

    def meeting(self) -> _Meeting | None:
        """None where too few were seen."""
        table = np.zeros((_ROWS_APART, 2))
        for number, nearer in enumerate(self._nearer):
            means = np.concatenate(nearer) if nearer else np.zeros(0)
            if means.size >= _FEW_ROWS:
                table[number] = means.mean(), max(_LEAST_BY_ROW, float(means.std()))
        likeness = Likeness.of(self._straight, self._strange)
        if likeness is None or not table[0, 1]:
            return None
        return _Meeting(likeness, table, max(LEAST_DEVIATION, float(np.sqrt(np.mean(self._alone)))))


class Seams:
    """What is seen at the sides of runs: their first rows and their last ones, and how far apart such sides are.

    Levels of runs count from anything unless they are ``absolute``.
    """

    def __init__(self, reader: RunReader, runs: Sequence[Run], absolute: bool = False) -> None:
        self.width = reader.frame.mcus_x
        self._reader, self._runs, self._absolute = reader, runs, absolute
        self._parts = min(3, len(reader.shape))
        told = min(ROWS_LEARNT, max(_ROWS_APART + _FEW_ROWS, _ENOUGH // self.width)) * self.width
        learning = [_Learning(self.width, absolute) for _ in range(self._parts)]
        #: Per run the sides of its first MCUs and of its last ones.
        self._heads: list[list[NDArray[np.float32]]] = []
        self._tails: list[list[NDArray[np.float32]]] = []
        for number, run in enumerate(runs):
            head = read_sides(reader, run, 0, min(run.count, told))
            self._heads.append([top[: self.width].copy() for top in head.top])
            tail = head if run.count <= told else read_sides(reader, run, run.count - told, told)
            self._tails.append([bottom[-_ROWS_MET * self.width :].copy() for bottom in tail.bottom])
            # Of the picture's first MCUs those near the damage tell more.
            for sides in [head, tail] if number else [tail]:
                for one, bottom, top in zip(learning, sides.bottom, sides.top, strict=False):
                    one.add(bottom, top)
        self._meetings = [one.meeting() for one in learning]

    def between(self, number: int, most: int, behind: int | None = None) -> NDArray[np.float64]:
        """(most + 1,): how run ``behind``, the next one if that is not said, goes on from the end of run ``number`` with so many MCUs
        lost between them."""
        behind = number + 1 if behind is None else behind
        seam = self._seam(self._tails[number], self._heads[behind], most)
        return self._widened(seam, self._runs[number], self._runs[behind])

    def _widened(self, seam: NDArray[np.float64], ahead: Run, behind: Run) -> NDArray[np.float64]:
        """A seam as it would be at best if what is shown there is displaced across the gap as it is in the rows of the runs ``ahead`` of
        it and ``behind``: edges that slant go on in another column, so that the one they meet in tells less."""
        out, count = seam.copy(), (_ROWS_MET + _SLANTED_ROWS + 1) * self.width
        places = ((run, first) for run, first in ((ahead, ahead.count - count), (behind, 0)) if run.count >= count)
        rows = [read_sides(self._reader, run, first, count) for run, first in places]
        for gone in range(_SLANTED_ROWS + 1):
            low = gone * self.width - self.width // 2
            high = low + self.width
            found = [self._slant(sides, gone) for sides in rows]
            for columns in range(min([0, *found]), max([0, *found]) + 1):
                start, stop = max(0, low, -columns), min(high, seam.size - max(0, columns))
                if start < stop:
                    moved = seam[start + columns : stop + columns]
                    np.maximum(out[start:stop], moved, out=out[start:stop])
        return out

    def _slant(self, rows: Sides, gone: int) -> int:
        """By how many columns more than none one of the rows seems to be displaced from where so many rows are left out ahead of it."""
        width, place = self.width, gone * self.width
        begin = rows.top[0].shape[0] - (gone + _ROWS_MET + 1) * width
        above = [bottom[begin : begin + _ROWS_MET * width] for bottom in rows.bottom]
        seam = self._seam(above, [top[-width:] for top in rows.top], place + _NEAR_COLUMNS)
        low = max(0, place - _NEAR_COLUMNS)
        best = low + int(np.argmax(seam[low:]))
        return best - place if seam[best] > seam[place] + _SLANTED else 0

    def parting(
        self, number: int, most: int, least: float = _SURELY_BROKEN, extra: int = 0, exactly: bool = False
    ) -> Parting | None:
        """Where in run ``number`` up to ``most`` MCUs were lost without an error, or up to ``extra`` came that are none of the
        picture's, or ``exactly`` as many, since it goes on better so by ``least`` nats."""
        run, width = self._runs[number], self.width
        if run.count <= 3 * width or most + extra < 1:
            return None
        meet = self.meet(number)
        if meet.size < width:
            return None
        strange = _strange(meet, width)
        whole = 0 if extra else most
        best: Parting | None = None
        for _ in range(_PLACES_TRIED):
            at = int(np.argmax(strange))
            if not np.isfinite(strange[at]):
                break
            first = at + width
            known = min(first, _ROWS_MET * width + extra)
            above = read_sides(self._reader, run, first - known, max(0, known - extra))
            # Without the last ``extra`` MCUs above, none of them are lost where that many are.
            seam = self._seam(above.bottom, read_sides(self._reader, run, first, width).top, most + extra)
            shift = whole if exactly else int(np.argmax(seam))
            # Both by what pairs of MCUs say alone and by what they do beside other columns of the same rows.
            nats = float(seam[shift] + min(-seam[extra], _TEMPER * strange[at]))
            nats -= self._goes_on(float(seam[extra]), shift - extra)
            fits = seam[shift] > 0.0 or not exactly
            if fits and nats > least and (best is None or nats > best.nats):
                best = Parting(first, shift - extra, nats)
            strange[max(0, at - width // 2) : at + width // 2 + 1] = -np.inf
        return None if best is None else self._refined(run, best)

    def _goes_on(self, here: float, lost: int) -> float:
        """What speaks against a break, in nats, where MCUs go on ``here``, where they stand, as in no other column, although with so
        many ``lost`` they would be far from theirs."""
        beside = min(lost % self.width, -lost % self.width)
        return _GOES_ON * max(0.0, here) if beside > _NEAR_COLUMNS else 0.0

    def meet(self, number: int) -> NDArray[np.float32]:
        """How each MCU of run ``number`` from its second row on speaks for going on from the one above, in nats."""
        run, width = self._runs[number], self.width
        # A large picture has millions: they are put where they stay.
        found, known = np.zeros(max(0, run.count - width), np.float32), 0
        lower: list[NDArray[np.float32]] = []
        for sides in sides_by_rows(self._reader, run, 0, run.count):
            lower = [np.concatenate(both) for both in zip(lower, sides.bottom, strict=True)] if lower else sides.bottom
            count = max(0, lower[0].shape[0] - width)
            met = [(below[:count], top[top.shape[0] - count :]) for below, top in zip(lower, sides.top, strict=True)]
            found[known : known + count] = self._said(met)
            known += count
            lower = [below[count:] for below in lower]
        return found[:known]

    def _said(self, pairs: list[tuple[NDArray, NDArray]], raised: list[float] | None = None) -> NDArray:
        """How pairs of sides, (MCUs, pixels) a component, speak for neighbours, in nats."""
        out = np.zeros(pairs[0][0].shape[0])
        for c, (above, below) in enumerate(pairs[: self._parts]):
            meeting = self._meetings[c]
            if meeting is not None:
                out += meeting.likeness.said(apart(above, below, raised[c] if raised else 0.0), c)
        return out

    def _refined(self, run: Run, rough: Parting) -> Parting:
        """The same, to the MCU: those ahead of it go on from the one above, those behind it from the one ``lost`` further on."""
        width, lost = self.width, rough.lost
        first = max(0, rough.at - (_ROWS_APART + 1) * width)
        sides = read_sides(self._reader, run, first, rough.at + width - first)
        numbers = np.arange(max(width, rough.at - first - width // 2), sides.top[0].shape[0])
        behind = numbers + first >= rough.at
        gained = np.zeros(numbers.size)
        rows = np.maximum((np.maximum(numbers + first - rough.at, 0) + lost) // width + 1, 1)
        for r in np.unique(rows).tolist():
            use = (rows == r) & (numbers + lost - r * width >= 0)
            if r > _ROWS_APART or not (use & behind).any():
                continue
            displaced = [
                (b[numbers + lost - r * width], t[numbers]) for b, t in zip(sides.bottom, sides.top, strict=True)
            ]
            raised = [float(np.median((t - b).mean(axis=1)[use & behind])) for b, t in displaced]
            gained[use] = self._said([(b[use], t[use]) for b, t in displaced], raised)
        gained -= self._said([(b[numbers - width], t[numbers]) for b, t in zip(sides.bottom, sides.top, strict=True)])
        sums = np.cumsum(gained[::-1])[::-1]
        return Parting(first + int(numbers[np.argmax(sums)]), lost, rough.nats)

    def _seam(self, tail: list[NDArray[np.float32]], head: list[NDArray[np.float32]], most: int) -> NDArray[np.float64]:
        out = np.zeros(most + 1)
        for c, meeting in enumerate(self._meetings):
            if meeting is None:
                continue
            above, below = tail[c], head[c]
            counts = CHROMA if c else 1.0
            seam_scores(
                above, below, above.std(axis=1), below.std(axis=1), self.width, self._absolute, meeting.rows, meeting.deviation, NOISE, MOST_SAID,
                _TEMPER * counts, counts, out,
            )  # fmt: skip
        return out


def _strange(meet: NDArray[np.float32], width: int) -> NDArray[np.float32]:
    """For each ``width`` values on end how they speak for strangers, which is less than zero where they ``meet``, in nats."""
    strange = np.empty(meet.size - width + 1, np.float32)
    for first in range(0, strange.size, _AT_ONCE):
        some = strange[first : first + _AT_ONCE]
        sums = np.append(0.0, np.cumsum(meet[first : first + some.size + width - 1], dtype=np.float64))
        # Sums of the same values are to be the same wherever they stand.
        some[:] = np.round(sums[:-width] - sums[width:], _DIGITS)
    return strange


def _by_row(
    bottom: NDArray, top: NDArray, levels: tuple[NDArray, NDArray], first: int, shift: int, width: int, absolute: bool
) -> NDArray[np.float64]:
    """(rows, width): how far apart the upper sides of MCUs from number ``first`` on and the lower ones ``shift`` MCUs before
    them are, each row but for a constant unless levels are ``absolute``. ``levels`` are the means of both, one an MCU."""
    out = np.empty((max(0, (top.shape[0] - first) // width), width))
    below, above = slice(first, first + out.size), slice(first - shift, first - shift + out.size)
    row_distances(
        bottom[above], top[below], levels[0][above], levels[1][below], width, absolute, NOISE, out.reshape(-1)
    )
    return out
