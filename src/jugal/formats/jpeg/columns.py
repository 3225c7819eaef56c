"""In which column of the picture a run of MCUs begins, and where inside a run that changes.

A row ends where the picture's right side meets its left, and there MCUs meet as strangers do. Once a row's length that shows;
where bytes went missing and decoding fell into step again without an error, it moves to another column.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.breaks import find_break
from jugal.formats.jpeg.edges import read_edges, read_flanks
from jugal.formats.jpeg.likeness import Usual, apart, said
from jugal.formats.jpeg.runs import Run, RunReader

#: What a row's end counts, since those of the next rows say much the same, and how often a picture's sides look alike, so that
#: where they meet tells nothing.
_TEMPER, _SIDES_ALIKE = 0.35, 0.3
#: How many borders of a row are taken to be upright edges of the subject besides those that are known, nats from which one is seen
#: to be strange, and how often the sides look alike in one part of a picture and not in the next.
_FEW_UPRIGHT, _SEEN, _SEEN_ALIKE = 0.3, 2.0, 0.15
#: Nats that a change of column must bring, rows around it in which the break is looked for, and rows a part must have.
_CHANGE, _ROWS_AROUND, _LEAST_ROWS = 14.0, 10, 3


@dataclass(frozen=True, slots=True)
class RowEnds:
    """How the border behind each MCU of a run speaks for being that of two rows, in nats; ``width`` MCUs make one."""

    width: int
    strange: NDArray[np.floating]

    def of(self, first: int, last: int) -> RowEnds:
        """Those of the run's MCUs ``first`` to ``last``."""
        return RowEnds(self.width, self.strange[first : max(first, last - 1)])

    def columns(self, known: RowEnds | None = None) -> NDArray[np.float64]:
        """(width,): how likely it is that the run begins in each column, in nats.

        ``known`` are those of what lies before it, which begins where a row does. They tell how often something else stands upright at
        a border of MCUs for as many rows, the side of a frame or of a house, and whether the picture's sides look alike there.
        """
        sums = self._sums()
        alike, upright = _SIDES_ALIKE, _FEW_UPRIGHT / self.width
        rows = min(self.strange.size, known.strange.size) // self.width if known else 0
        if known and rows >= _LEAST_ROWS:
            last = known.strange.size // self.width * self.width
            *borders, end = RowEnds(self.width, known.strange[last - rows * self.width : last])._sums() > _SEEN
            alike = _SEEN_ALIKE if end else 1 - _SEEN_ALIKE
            upright += sum(borders) / self.width
        ending = np.logaddexp(np.log(1 - alike) + sums, np.log(alike))
        inside = np.logaddexp(np.log(1 - upright), np.log(upright) + sums)
        # Where MCU number k ends a row, the run begins in column width - 1 - k.
        return np.asarray((ending - inside)[::-1])

    def _sums(self) -> NDArray[np.float64]:
        """(width,): what all borders as far from the run's start, but for whole rows, say for being that of two rows."""
        counted = np.bincount(np.arange(self.strange.size) % self.width, self.strange, self.width)
        return np.asarray(_TEMPER * counted, np.float64)

    def moved(self, row: int, lost: int) -> float:
        """How rows from number ``row`` on speak for ending ``lost`` MCUs early rather than where they do, in nats; late, if that
        is less than zero.

        The run begins where a row does.
        """
        shift = lost % self.width if lost > 0 else -(-lost % self.width)
        ends = np.arange(row + 1, (self.strange.size + min(0, shift)) // self.width + 1) * self.width - 1
        return _TEMPER * float((self.strange[ends - shift] - self.strange[ends]).sum(dtype=np.float64))

    def changes(self) -> list[int]:
        """The MCUs, to a row or so, from which on rows end in another column."""
        width, rows = self.width, self.strange.size // self.width
        if rows < 2 * _LEAST_ROWS:
            return []
        said_by_row = _TEMPER * self.strange[: rows * width].reshape(rows, width)
        best, came = said_by_row[0].astype(np.float64), np.zeros((rows, width), np.int64)
        for row in range(1, rows):
            other = int(np.argmax(best))
            came[row] = np.where(best[other] - _CHANGE > best, other, np.arange(width))
            best = best[came[row]] - np.where(came[row] == np.arange(width), 0.0, _CHANGE) + said_by_row[row]
        state = int(np.argmax(best))
        found = []
        for row in range(rows - 1, 0, -1):
            if came[row][state] != state:
                found.append(row * width)
                state = int(came[row][state])
        return found[::-1]


def read_row_ends(reader: RunReader, run: Run) -> RowEnds:
    """Those of a whole run."""
    width, components = reader.frame.mcus_x, min(3, len(reader.shape))
    shift = width // 3 + 1
    near: list[list[NDArray[np.float32]]] = [[] for _ in range(components)]
    far: list[list[NDArray[np.float32]]] = [[] for _ in range(components)]
    last: list[NDArray[np.float32]] = []
    for flanks in read_flanks(reader, run):
        for c, (left, right) in enumerate(flanks[:components]):
            before = np.concatenate((last[c], right[:-1])) if last else right[:-1]
            near[c].append(apart(before, left if last else left[1:]).astype(np.float32))
            far[c].append(apart(right[:-shift], left[shift:]).astype(np.float32))
        last = [right[-1:] for _, right in flanks]
    strange = np.zeros(max(0, run.count - 1), np.float32)
    for c in range(components):
        usual, other = Usual.of(near[c]), Usual.of(far[c])
        if usual is not None and other is not None:
            distance = np.concatenate(near[c])
            strange[: distance.size] -= said(distance, usual, other, c)
    return RowEnds(width, strange)


def find_breaks(reader: RunReader, run: Run, ends: RowEnds) -> list[int]:
    """The MCUs of a run from which on it stands in the wrong place though it decoded without an error."""
    found: list[int] = []
    for near in ends.changes():
        at = find_break_near(reader, run, near)
        if at is not None and at > (found[-1] if found else 0):
            found.append(at)
    return found


def find_break_near(reader: RunReader, run: Run, near: int) -> int | None:
    """The MCU within some rows of number ``near`` at which a run surely breaks; None where none stands out."""
    width = reader.frame.mcus_x
    first, last = max(0, near - _ROWS_AROUND * width), min(run.count, near + _ROWS_AROUND * width)
    edges = read_edges(reader, run.entropy, int(run.bits[first]), width, 0, last - first)
    at = find_break(edges, run.entropy.raw_offsets(run.bits[first : last + 1] >> 3))
    return None if at is None else first + at
