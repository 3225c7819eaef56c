"""What of a picture is in its place: runs of MCUs with the levels they count from, and how sure these are."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.special import stdtr

from jugal.formats.jpeg.colours import doubt_shown
from jugal.formats.jpeg.decode import Picture
from jugal.formats.jpeg.edges import sides_by_rows
from jugal.formats.jpeg.runs import Run, RunReader

#: Rows of MCUs across which a run is compared with what lies above, and rows at its ends from which it is learnt how such differ.
ROWS_ACROSS, ROWS_LEARNT = 32, 48
#: Levels by which a stretch may be off and still look right, and how likely that must be to count for sure.
_NEAR_LEVELS, _AS_GOOD_AS_SURE = 12.0, 0.85
#: How errors of levels are spread about their doubt: by Student's law with so many degrees of freedom (some are far off).
#: Measured where what was cut out of photographs is known.
_FREEDOM = 3.0
#: MCUs ahead of a gap from which it is learnt how levels go on.
_MOST_LEARNT = 24_000


@dataclass(slots=True)
class Placed:
    """A run at MCU number ``place``; ``offsets`` are added to its DC values, per component.

    ``doubt`` is by how many levels they may be off, as a standard deviation per component, ``likely`` how likely the place is.
    """

    run: Run
    place: int
    offsets: NDArray[np.int64]
    doubt: NDArray[np.float64]
    likely: float = 1.0

    @property
    def end(self) -> int:
        return self.place + self.run.count

    @property
    def surety(self) -> float:
        """What an MCU of the run counts, 0..1: how likely its place and levels that look right are, nearly sure ones as sure."""
        likely = 2.0 * stdtr(_FREEDOM, _NEAR_LEVELS / max(doubt_shown(self.doubt), 1e-9)) - 1.0
        return self.likely * float(min(1.0, likely / _AS_GOOD_AS_SURE))


@dataclass(slots=True)
class Rims:
    """Per MCU and component the mean level at its upper and lower side, and how much the levels vary along them."""

    top: NDArray[np.floating]
    bottom: NDArray[np.floating]
    busy: NDArray[np.floating]

    def of(self, which: slice | NDArray[np.generic]) -> Rims:
        return Rims(self.top[which], self.bottom[which], self.busy[which])

    def with_more(self, other: Rims) -> Rims:
        """These and behind them the ``other`` ones, held as these are."""
        pairs = ((self.top, other.top), (self.bottom, other.bottom), (self.busy, other.busy))
        return Rims(*(np.concatenate((own, more.astype(own.dtype))) for own, more in pairs))


def rims_of(reader: RunReader, run: Run, first: int, count: int) -> Rims:
    """The rims of ``count`` MCUs of ``run`` from number ``first`` on, at the levels of its own DC values."""
    base = reader.counted_from(run.without_first(first)) * reader.steps
    shape = (count, len(reader.shape))
    rims, at = Rims(np.empty(shape), np.empty(shape), np.empty(shape)), 0
    for sides in sides_by_rows(reader, run, first, count):
        here = slice(at, at + sides.top[0].shape[0])
        for c, (top, bottom) in enumerate(zip(sides.top, sides.bottom, strict=True)):
            rims.top[here, c] = top.mean(axis=1, dtype=np.float64) + base[c]
            rims.bottom[here, c] = bottom.mean(axis=1, dtype=np.float64) + base[c]
            rims.busy[here, c] = (top.std(axis=1) + bottom.std(axis=1)) / 2
        at = here.stop
    return rims.of(slice(at))


class Canvas:
    """The runs put in their place so far, in order, and the rims of MCUs near their ends."""

    def __init__(self, picture: Picture, reader: RunReader, head: Run) -> None:
        self.reader = reader
        self.width = picture.frame.mcus_x
        parts = len(reader.shape)
        #: How many MCUs ahead of a run anything is asked of.
        self._reach = max(_MOST_LEARNT, (ROWS_ACROSS + 1) * self.width)
        #: The MCUs whose rims are known, ascending, and these.
        self._known = np.zeros(0, np.int64)
        self._rims = Rims(*(np.zeros((0, parts), np.float32) for _ in range(3)))
        self.placed: list[Placed] = []
        self.add(Placed(head, 0, np.zeros(parts, np.int64), np.zeros(parts)))

    @property
    def end(self) -> int:
        """The first MCU behind all known ones."""
        return self.placed[-1].end

    def usual_levels(self) -> NDArray[np.float64]:
        """Per component the median level of all MCUs known so far; mid-grey where there are none."""
        steps, runs = self.reader.steps[:, None], [p for p in self.placed if p.run.count]
        levels = [self.reader.levels(p.run.dc) + (p.offsets[:, None] * steps).astype(np.float32) for p in runs]
        return np.median(np.hstack(levels), axis=1) if runs else np.zeros(len(steps))

    def doubts(self, numbers: NDArray[np.int64]) -> NDArray[np.float64]:
        """(MCUs, components): the doubt in the levels of known MCUs."""
        which = np.searchsorted([p.place for p in self.placed], numbers, side="right") - 1
        return np.array([p.doubt for p in self.placed])[which]

    def rims(self, which: NDArray[np.int64]) -> Rims:
        """Those of MCUs by their numbers; where nothing is known the upper sides are no number."""
        at, known = self._find(which)
        found = self._rims.of(at)
        found.top[~known] = np.nan
        return found

    def _find(self, which: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
        """Where the rims of MCUs are held by their numbers, and whether they are."""
        at = np.searchsorted(self._known, which, side="right") - 1
        known = at >= 0
        known[known] = self._known[at[known]] == which[known]
        return at, known

    def rims_before(self, place: int) -> Rims:
        """Those of the last MCUs ahead of ``place`` from which anything is learnt."""
        return self.rims(np.arange(max(0, place - _MOST_LEARNT), place))

    def above(self, places: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """The nearest MCU straight above each place whose rims are known, and how many rows up it lies (0: none)."""
        found, rows = np.zeros(places.size, np.int64), np.zeros(places.size, np.int64)
        for up in range(1, ROWS_ACROSS + 1):
            source = places - up * self.width
            use = (rows == 0) & self._find(source)[1]
            found[use], rows[use] = source[use], up
        return found, rows

    def add(self, placed: Placed) -> None:
        run = placed.run
        self.placed.append(placed)
        if not run.count:
            return
        learnt, raised = ROWS_LEARNT * self.width, placed.offsets * self.reader.steps
        needed = max(0, run.count - self._reach)
        middle = max(needed, run.count - learnt)
        for first, last in ((needed, min(learnt, middle)), (middle, run.count)):
            if first < last:
                rims = rims_of(self.reader, run, first, last - first)
                numbers = np.arange(placed.place + first, placed.place + first + rims.top.shape[0])
                self._hold(numbers, Rims(rims.top + raised, rims.bottom + raised, rims.busy))

    def _hold(self, numbers: NDArray[np.int64], rims: Rims) -> None:
        """Takes in the rims of MCUs behind all that are held, and lets those go of which nothing is asked any more."""
        kept = slice(int(np.searchsorted(self._known, self.end - self._reach)), None)
        self._known = np.append(self._known[kept], numbers)
        self._rims = self._rims.of(kept).with_more(rims)


def first_bit(picture: Picture) -> int:
    """The bit at which the scan's first MCU begins."""
    return int(picture.scans[0].segments.start[0]) * 8
