"""Where runs of MCUs belong whose number in the picture was lost: told together, from all that speaks for a place.

Three things do. A row ends where the picture's right side meets its left, and there MCUs meet as strangers do: that gives the
column. What lies above a run goes on in it, the better the fewer rows are between. And lost bytes held about as many MCUs as
others do. The most likely places of all runs at once are found, and how sure each is.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.special import logsumexp

from jugal.formats.jpeg.columns import RowEnds
from jugal.formats.jpeg.reference import Reference
from jugal.formats.jpeg.runs import Run
from jugal.formats.jpeg.seams import Seams
from jugal.formats.jpeg.stairs import MAD_TO_DEVIATION

_CLUSTER = 4096
#: Bytes on both sides of lost ones by whose MCUs theirs are reckoned, in shares of them and at least.
_SHARE_AROUND, _LEAST_AROUND = 2, 8192
#: Deviation of the log of how many MCUs lost bytes held: its limits, and how heavy its tail is.
_LEAST_SPREAD, _MOST_SPREAD, _TAIL = 0.12, 0.8, 3.0
#: Clusters that may have gone without a trace, and how often none has.
_MOST_UNSEEN, _NONE_UNSEEN = 32, 0.4
#: MCUs lost of which places are told apart.
_MOST_LOST = 8_000
#: Nats by which a seam must be better with fewer MCUs lost.
_CLEAR = 30.0


@dataclass(slots=True, eq=False)
class Stray:
    """A run before it is placed: where its rows end, the bytes lost ahead of it, whether those were seen to be bad, whether it
    ends the picture."""

    run: Run
    ends: RowEnds
    lost_bytes: int
    seen: bool
    last: bool

    def part(self, first: int, last: int) -> Stray:
        """Its MCUs ``first`` to ``last``."""
        whole = self.run.count
        run = self.run.without_first(first).only_first(last - first)
        return Stray(run, self.ends.of(first, last), self.lost_bytes, self.seen, self.last and last == whole)

    def parted(self, at: int) -> tuple[Stray, Stray]:
        """The two parts that it breaks into at MCU ``at``, where what was lost left no trace."""
        return self.part(0, at), self.part(at, self.run.count).unseen()

    def unseen(self) -> Stray:
        """The same behind a loss that left no trace."""
        return Stray(self.run, self.ends, 0, False, self.last)

    def freed(self, skip: int) -> Stray:
        """Without its first MCUs, whose bytes are lost too."""
        rest = self.part(skip, self.run.count)
        return Stray(
            rest.run,
            rest.ends,
            self.lost_bytes + (int(self.run.bits[skip] - self.run.bits[0]) >> 3),
            self.seen,
            self.last,
        )


@dataclass(frozen=True, slots=True)
class Spot:
    """MCU number ``place`` for a run's first, and how likely it is, 0..1.

    ``astray``: the two runs would meet much better with less lost between them, so that somewhere near the seam one breaks unseen.
    ``meets`` says in nats how the run goes on there from the one before; with ``sooner`` MCUs less between them it would go on
    better by ``gained``.
    """

    place: int
    surety: float
    astray: bool
    meets: float = 0.0
    sooner: int = 0
    gained: float = 0.0


def find_places(
    total: int, head: Run, pieces: list[Stray], seams: Seams, ends: RowEnds, reference: Reference | None = None
) -> list[Spot]:
    """A spot for each of ``pieces``, which follow the first MCUs, ``head``, of a picture of ``total`` in this order.

    ``seams`` are those of the head and the pieces, ``ends`` those of the head's rows; ``reference`` is a small copy of the
    picture. None where there are none, or more MCUs in them than there is room for.
    """
    room = total - head.count - sum(p.run.count for p in pieces)
    if not pieces or room < len(pieces):
        return []
    most = min(room, _MOST_LOST)
    end = room if pieces[-1].last and room <= most else None
    likely = lost_likely(head, pieces, most, end)
    between = [seams.between(number, most) for number in range(len(pieces))]
    columns, at = [], head.count
    for piece in pieces:
        column = piece.ends.columns(ends)
        columns.append(column[(at + np.arange(most + 1)) % seams.width])
        if reference is not None:
            columns[-1] += reference.places(piece.run, at, most + 1)
        at += piece.run.count
    lost, sureties = most_likely([a + b for a, b in zip(likely, between, strict=True)], columns, end)
    spots, at, before = [], head.count, 0
    for piece, gone, sure, seam in zip(pieces, lost, sureties, between, strict=True):
        gap = gone - before
        nearer = int(np.argmax(seam[1:gap])) + 1 if gap > 1 else gap
        clear = gap > 1 and seam[nearer] > max(0.0, float(seam[gap])) + _CLEAR
        gained = max(0.0, float(seam[nearer] - seam[gap]))
        place = at + (room if piece.last else gone)
        spots.append(Spot(place, sure, bool(clear), float(seam[gap]), gap - nearer, gained))
        at, before = at + piece.run.count, gone
    return spots


def lost_likely(head: Run, pieces: list[Stray], most: int, end: int | None, step: int = 1) -> list[NDArray[np.float64]]:
    """For each run, (most // step + 1,): the log of how likely it is that so many times ``step`` MCUs were lost ahead of it.

    None can be only where the run was parted from the one before, since what looked like a loss may be the picture itself.
    """
    held, before = [], head
    for piece in pieces:
        held.append(piece.lost_bytes * _density(before, piece.run, piece.lost_bytes))
        before = piece.run
    runs = [head, *(p.run for p in pieces)]
    spread = _spread(runs, max(_CLUSTER, int(np.median([p.lost_bytes for p in pieces]))))
    whole = 8.0 * sum(r.count for r in runs) / max(1, sum(r.bit_count for r in runs))
    if end is not None and all(p.seen or p.lost_bytes >= _CLUSTER // 2 for p in pieces):
        # All is known that was lost: together it held what is missing.
        held = [h * end / max(1.0, sum(held)) for h in held]
    number = np.log(np.arange(0, most + 1, step) + 1.0)

    def near(center: float) -> NDArray[np.float64]:
        off = (number - np.log(center + 1.0)) / spread
        return np.asarray(-0.5 * (_TAIL + 1) * np.log1p(off * off / _TAIL) - number)

    found = []
    for piece, center in zip(pieces, held, strict=True):
        if piece.seen:
            likely = near(center)
        else:
            unseen = np.arange(_MOST_UNSEEN + 1)
            weights = np.where(unseen == 0, _NONE_UNSEEN, (1 - _NONE_UNSEEN) / (unseen + 1.0) ** 1.5)
            each = [near(center + k * _CLUSTER * whole) + np.log(w) for k, w in zip(unseen, weights, strict=True)]
            likely = np.asarray(logsumexp(each, axis=0))
        # It was parted because it looked like a loss: that there is none is no likelier than that it is one MCU.
        likely[0] = -np.inf if piece.seen or piece.lost_bytes else likely[min(1, most)]
        peak = likely.max()
        found.append(likely - peak if np.isfinite(peak) else likely)
    return found


def _density(before: Run, behind: Run, lost: int) -> float:
    """MCUs a byte on both sides of ``lost`` bytes."""
    around = 8 * max(_LEAST_AROUND, _SHARE_AROUND * lost)
    first = int(np.searchsorted(before.bits, int(before.bits[-1]) - around))
    last = int(np.searchsorted(behind.bits, int(behind.bits[0]) + around, side="right")) - 1
    count = before.count - first + max(1, last)
    bits = int(before.bits[-1] - before.bits[min(first, before.count)]) + int(
        behind.bits[max(1, last)] - behind.bits[0]
    )
    return 8.0 * count / max(1, bits)


def _spread(runs: list[Run], lost: int) -> float:
    """By how much the log of the MCUs in so many bytes changes from one such stretch of the runs, put end to end, to the next, as a
    deviation."""
    borders = np.arange(0, sum(r.bit_count for r in runs) + 1, 8 * lost)
    before, ahead = np.zeros(borders.size, np.int64), 0
    for run in runs:
        before += np.searchsorted(run.bits[1:], borders - ahead + int(run.bits[0]))
        ahead += run.bit_count
    count = np.diff(before)
    if count.size < 4:
        return 0.4
    return float(
        np.clip(MAD_TO_DEVIATION * np.median(np.abs(np.diff(np.log(count + 1.0)))), _LEAST_SPREAD, _MOST_SPREAD)
    )


def most_likely(
    gaps: list[NDArray[np.float64]], columns: list[NDArray[np.float64]], end: int | None
) -> tuple[list[int], list[float]]:
    """The MCUs lost ahead of each run, all before it counted, that are likeliest together, and how sure each is.

    ``gaps`` says how likely each number is between two runs, ``columns`` what all together speaks for; at the last it is ``end``
    where that is known.
    """
    size = gaps[0].size
    start, last = np.full(size, -np.inf), np.zeros(size)
    start[0] = 0.0
    if end is not None:
        last[:] = -np.inf
        last[end] = 0.0
    forward = [start]
    for gap, column in zip(gaps, columns, strict=True):
        forward.append(_joined(forward[-1], gap) + column)
    backward = [last]
    for gap, column in zip(gaps[:0:-1], columns[:0:-1], strict=True):
        backward.append(_joined((backward[-1] + column)[::-1], gap)[::-1])
    wholes = [f + b for f, b in zip(forward[1:], backward[::-1], strict=True)]
    lost = [int(np.argmax(whole)) for whole in wholes]
    possible = [bool(np.isfinite(whole.max())) for whole in wholes]
    return lost, [
        float(np.exp(w.max() - logsumexp(w))) if can else 0.0 for w, can in zip(wholes, possible, strict=True)
    ]


def _joined(one: NDArray[np.float64], gap: NDArray[np.float64]) -> NDArray[np.float64]:
    """For each sum of a number of ``one`` and one of ``gap`` the likeliest two."""
    out = np.full(one.size, -np.inf)
    reached = np.flatnonzero(np.isfinite(one))
    if not reached.size:
        return out
    if reached.size == 1:
        at = int(reached[0])
        out[at:] = one[at] + gap[: one.size - at]
        return out
    few, other = (one, gap) if reached.size < one.size // 2 else (gap, one)
    for number in np.flatnonzero(np.isfinite(few)).tolist():
        np.maximum(out[number:], other[: one.size - number] + few[number], out=out[number:])
    return out
