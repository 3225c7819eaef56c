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
from jugal.formats.jpeg.likeness import AT_ONCE, Likeness, apart
from jugal.formats.jpeg.runs import Run, RunReader

#: What a row's end counts, since those of the next rows say much the same, and how often a picture's sides look alike, so that
#: where they meet tells nothing.
_TEMPER, _SIDES_ALIKE = 0.35, 0.3
#: How many borders of a row are taken to be upright edges of the subject and how often one stays so in the next rows, before any
#: was seen, and how often the sides look alike in one part of a picture and not in the next.
_FEW_UPRIGHT, _STAYS, _SEEN_ALIKE = 0.3, 0.3, 0.15
#: Nats from which a border is seen to be strange, in all rows and in one.
_SEEN, _STRANGE = 2.0, 0.5
#: Nats that a change of column must bring, rows around it in which the break is looked for, and rows a part must have.
_CHANGE, _ROWS_AROUND, _LEAST_ROWS = 14.0, 10, 3
#: MCUs of whose strangers all are looked at; of more only as many.
_ENOUGH = 1 << 18


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

        ``known`` are those of what lies before it, which begins where a row does.
        """
        sums, edges = self._sums(), _Upright.of(known, self.strange.size // self.width) if known else _Upright()
        shares = edges.stays, 1 - edges.alike, edges.comes / self.width
        there, ending, inside = (np.logaddexp(np.log(1 - share), np.log(share) + sums) for share in shares)
        # Where MCU number k ends a row, the run begins in column width - 1 - k, and what stood behind column c of the rows before
        # stands behind MCU number k + 1 + c.
        found = ending - inside
        for column in edges.columns:
            found += np.roll(there - inside, -1 - column)
        return np.asarray(found[::-1])

    def seen(self, first: int, last: int) -> NDArray[np.bool_]:
        """(width,): whether the border behind each column is seen to be strange in most of the rows ``first`` to ``last``."""
        rows = self.strange[first * self.width : last * self.width].reshape(-1, self.width)
        mostly = np.count_nonzero(rows > _STRANGE, axis=0) > rows.shape[0] / 2
        return np.asarray(mostly & (_TEMPER * rows.sum(axis=0, dtype=np.float64) > _SEEN))

    def _sums(self) -> NDArray[np.float64]:
        """(width,): what all borders as far from the run's start, but for whole rows, say for being that of two rows."""
        width, whole = self.width, self.strange.size // self.width * self.width
        sums = self.strange[:whole].reshape(-1, width).sum(axis=0, dtype=np.float64)
        sums[: self.strange.size - whole] += self.strange[whole:]
        return np.asarray(_TEMPER * sums)

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
        strange = self.strange[: rows * width].reshape(rows, width)
        best, came = (_TEMPER * strange[0]).astype(np.float64), np.zeros((rows, width), np.uint16)
        for row in range(1, rows):
            other = int(np.argmax(best))
            came[row] = np.where(best[other] - _CHANGE > best, other, np.arange(width))
            best = best[came[row]] - np.where(came[row] == np.arange(width), 0.0, _CHANGE) + _TEMPER * strange[row]
        state = int(np.argmax(best))
        found = []
        for row in range(rows - 1, 0, -1):
            if came[row][state] != state:
                found.append(row * width)
                state = int(came[row][state])
        return found[::-1]


@dataclass(frozen=True, slots=True)
class _Upright:
    """How often something besides the ends of rows stands upright at a border of MCUs, the side of a frame or of a house.

    One of those seen behind ``columns`` of the rows before ``stays`` so often, and so many others a row come. The picture's sides look
    ``alike`` so often, so that where they meet tells nothing.
    """

    columns: tuple[int, ...] = ()
    stays: float = _STAYS
    comes: float = _FEW_UPRIGHT
    alike: float = _SIDES_ALIKE

    @classmethod
    def of(cls, known: RowEnds, rows: int) -> _Upright:
        """Learnt for a run of so many ``rows`` from the last of those before it, and how often they stayed from as many before."""
        last = known.strange.size // known.width
        rows = min(rows, last)
        if rows < _LEAST_ROWS:
            return cls()
        *seen, end = known.seen(last - rows, last).tolist()
        alike, columns = _SEEN_ALIKE if end else 1 - _SEEN_ALIKE, tuple(np.flatnonzero(seen).tolist())
        if last - rows < _LEAST_ROWS:
            return cls(columns, _STAYS, _FEW_UPRIGHT + len(columns), alike)
        before = known.seen(max(0, last - 2 * rows), last - rows)[:-1]
        there, both = int(np.count_nonzero(before)), int(np.count_nonzero(before & seen))
        comes = known.width * (len(columns) - both + _FEW_UPRIGHT) / (known.width - there)
        return cls(columns, (both + _STAYS) / (there + 1), comes, alike)


def read_row_ends(reader: RunReader, run: Run, first: int = 0, last: int | None = None) -> RowEnds:
    """Those of a run's MCUs ``first`` to ``last``, of all if that is not said."""
    count = (run.count if last is None else last) - first
    width, components = reader.frame.mcus_x, min(3, len(reader.shape))
    shift, every = width // 3 + 1, 1 + count // _ENOUGH
    # A large picture has millions: they are put where they stay.
    near = np.empty((components, max(0, count - 1)), np.float32)
    far: list[list[NDArray[np.float32]]] = [[] for _ in range(components)]
    end: list[NDArray[np.float32]] = []
    known = 0
    for flanks in read_flanks(reader, run, first, count):
        seen, known = known, known + flanks[0][0].shape[0] - (0 if end else 1)
        for c, (left, right) in enumerate(flanks[:components]):
            before = np.concatenate((end[c], right[:-1])) if end else right[:-1]
            near[c, seen:known] = apart(before, left if end else left[1:])
            far[c].append(apart(right[:-shift:every], left[shift::every]).astype(np.float32))
        end = [right[-1:] for _, right in flanks]
    strange = np.zeros(max(0, count - 1), np.float32)
    for c in range(components):
        likeness = Likeness.of([near[c, :known]], far[c])
        if likeness is not None:
            for at in range(0, known, AT_ONCE):
                some = slice(at, min(known, at + AT_ONCE))
                strange[some] -= likeness.said(near[c, some], c)
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
    at = find_break(edges, lambda units: run.entropy.raw_offsets(run.bits[first + units] >> 3))
    return None if at is None else first + at
