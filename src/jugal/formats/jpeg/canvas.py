"""What of a picture is in its place: runs of MCUs with the levels they count from, and how sure these are."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.special import erf

from jugal.formats.jpeg.decode import Picture
from jugal.formats.jpeg.parse import Structure
from jugal.formats.jpeg.runs import Run, RunReader

_WITHIN_ONE_DEVIATION = 0.6827
#: Levels by which a stretch may be off and still look right.
_NEAR_LEVELS = 12.0


@dataclass(slots=True)
class Placed:
    """A run at MCU number ``place``; ``offsets`` are added to its DC values, per component.

    ``doubt`` is by how many levels they may be off, as a standard deviation per component.
    """

    run: Run
    place: int
    offsets: NDArray[np.int64]
    doubt: NDArray[np.float64]

    @property
    def end(self) -> int:
        return self.place + self.run.count

    @property
    def surety(self) -> float:
        """What a MCU of the run counts, 0..1: in full where its doubt is no more than levels may be off and look right,
        else by how much less likely they are to."""
        likely = erf(_NEAR_LEVELS / (np.sqrt(2.0) * np.maximum(self.doubt, 1e-9)))
        return float(np.minimum(1.0, likely / _WITHIN_ONE_DEVIATION).min())


class Canvas:
    """Levels of the MCUs known so far, per component, and their blocks where a seam needs the pixels."""

    def __init__(self, picture: Picture, structure: Structure, reader: RunReader, before: int) -> None:
        self.reader = reader
        self.width = picture.frame.mcus_x
        self.known = np.zeros(reader.total, bool)
        self.levels = np.zeros((reader.total, len(reader.shape)))
        self.placed: list[Placed] = []
        head, _ = reader.read(structure.scans[0].entropy, first_bit(picture), before)
        self.add(Placed(head, 0, np.zeros(len(reader.shape), np.int64), np.zeros(len(reader.shape))))

    @property
    def end(self) -> int:
        """The first MCU behind all known ones."""
        return self.placed[-1].end

    def above(self, places: NDArray[np.int64]) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
        """Levels of the nearest known MCU straight above each place, and how many rows up it lies (0: none)."""
        levels = np.zeros((places.size, self.levels.shape[1]))
        rows = np.zeros(places.size, np.int64)
        for up in range(1, 9):
            source = places - up * self.width
            use = (rows == 0) & (source >= 0)
            use[use] = self.known[source[use]]
            levels[use] = self.levels[source[use]]
            rows[use] = up
        return levels, rows

    def add(self, placed: Placed) -> None:
        levels = self.reader.levels(placed.run.dc) + placed.offsets * self.reader.steps
        self.levels[placed.place : placed.end] = levels
        self.known[placed.place : placed.end] = True
        self.placed.append(placed)

    def blocks_at(self, place: int) -> tuple[Placed, int] | None:
        """The run that holds MCU ``place`` and its number in it."""
        for placed in self.placed:
            if placed.place <= place < placed.end:
                return placed, place - placed.place
        return None


def first_bit(picture: Picture) -> int:
    """The bit at which the scan's first MCU begins."""
    return int(picture.scans[0].segments.start[0]) * 8
