"""Which interval of the picture a chain of them begins with: told for all together, as the places of runs are.

A restart marker's number leaves one place in eight. Between these decide how rows go on from those above and at which levels, in which
column rows end, and how many MCUs the bytes held that were lost.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.canvas import ROWS_LEARNT
from jugal.formats.jpeg.chains import MARKER, NUMBERS, Chain
from jugal.formats.jpeg.columns import read_row_ends
from jugal.formats.jpeg.places import Stray, lost_likely, most_likely
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.seams import Seams

#: Chains that are placed together, and intervals lost of which places are told apart.
_TOGETHER, _MOST_LOST = 16, 16_384
#: Bytes up to which a chain may be of another picture, and the nats that must speak for that.
_MOST_FOREIGN, _FOREIGN = 1 << 16, 6.0


@dataclass(frozen=True, slots=True)
class Numbered:
    """A chain, the ``number`` of its first interval in the picture, and how likely that is, 0..1."""

    chain: Chain
    number: int
    surety: float

    @property
    def end(self) -> int:
        """The number of the interval behind it."""
        return self.number + len(self.chain.spans)


def number_chains(reader: RunReader, chains: list[Chain], size: int) -> list[Numbered]:
    """The chains, in order, that have a place among the picture's intervals of ``size`` MCUs.

    Some are left out where they do not fit in, or go on so badly on both sides that they are another picture's.
    """
    total, fit = -(-reader.total // size), max(1, reader.total // size)
    chains = [c if c.count <= reader.total else c.only_intervals(fit) for c in chains]
    found: list[Numbered] = []
    if chains and chains[0].begins and chains[0].mark == 0:
        found, chains = [Numbered(chains[0], 0, 1.0)], chains[1:]
    while chains:
        together, chains = chains[:_TOGETHER], chains[_TOGETHER:]
        left = total - sum(len(c.spans) for c in chains)
        found += _Placing(reader, size, left, found[-1] if found else None, together).numbered()
    return found


@dataclass(frozen=True, slots=True)
class _Placed:
    """Chains, ``which`` of all they are, how likely their numbers are together, in nats, and how each goes on from the one before."""

    which: list[int]
    chains: list[Numbered]
    nats: float
    meets: list[float]


class _Placing:
    """Some chains between what was placed ``before`` them and interval number ``total``."""

    def __init__(self, reader: RunReader, size: int, total: int, before: Numbered | None, chains: list[Chain]) -> None:
        head = before.chain if before else Chain.none(reader)
        #: What lies before, and the chains.
        self._all = [head, *chains]
        self._first = before.end if before else 0
        self._reader, self._size, self._total, self._before = reader, size, total, before
        self._seams = Seams(reader, self._all, absolute=True)
        self._met: dict[tuple[int, int], NDArray[np.float64]] = {}
        across = reader.frame.mcus_x
        # Where a marker's number leaves places of one column only, this tells nothing.
        most = ROWS_LEARNT * across if NUMBERS * size % across else 0
        end = self._first * size
        begin = -(-(end - min(most, head.count)) // across) * across  # where a row does
        self._ends = [
            read_row_ends(reader, head, min(head.count, begin - (end - head.count))),
            *(read_row_ends(reader, chain, 0, min(chain.count, most)) for chain in chains),
        ]

    def numbered(self) -> list[Numbered]:
        """Those of the chains that have a place."""
        best, (*chains, last) = self._likeliest(), self._all[1:]
        if last.ends and len(best) < len(chains) + 1:
            # What closes the data need not end the picture; whether its last interval is a whole one is not known then.
            opened = [*chains, last.only_intervals(len(last.spans) - 1)] if len(last.spans) > 1 else chains
            if opened:
                other = _Placing(self._reader, self._size, self._total, self._before, opened)._likeliest()
                best = max(best, other, key=lambda found: sum(one.chain.count for one in found))
        return best

    def _likeliest(self) -> list[Numbered]:
        best = self._fitting()
        for one in sorted(best.which, key=lambda n: self._all[n].count):
            rest = [n for n in best.which if n != one]
            if rest and self._astray(best.meets[best.which.index(one) :][:2], one):
                without = self._placed(rest)
                if without is not None and without.nats > best.nats + _FOREIGN:
                    best = without
        return best.chains

    def _fitting(self) -> _Placed:
        """As many of the chains as have places together, the smallest left out first, last of all one that ends the picture."""
        which = list(range(1, len(self._all)))
        while which:
            placed = self._placed(which)
            if placed is not None:
                return placed
            which.remove(min(which, key=lambda n: (self._all[n].ends, self._all[n].count)))
        return _Placed([], [], 0.0, [])

    def _astray(self, meets: list[float], one: int) -> bool:
        """Whether a chain may be another picture's: it is short, and does not go on where it ``meets`` those beside it."""
        chain = self._all[one]
        return not chain.ends and chain.bit_count <= 8 * _MOST_FOREIGN and sum(meets) < 0.0

    def _placed(self, which: list[int]) -> _Placed | None:
        """The chains ``which`` at their likeliest numbers; None where they have none."""
        size, across = self._size, self._reader.frame.mcus_x
        chains = [self._all[n] for n in which]
        room = self._total - self._first - sum(len(c.spans) for c in chains)
        if not chains[-1].ends and self._total * size > self._reader.total:
            # The picture's last interval has fewer MCUs.
            room -= 1
        if room < 0:
            return None
        most = min(room, _MOST_LOST)
        end = room if chains[-1].ends else None
        if end is not None and end > most:
            return None
        strays, before = [], self._all[0]
        for n, chain in zip(which, chains, strict=True):
            gone = chain.spans[0].start - (before.spans[-1].end + MARKER)
            strays.append(Stray(chain, self._ends[n], max(0, gone), False, chain.ends))
            before = chain
        likely = lost_likely(self._all[0], strays, most * size, None if end is None else end * size, size)
        seams, gaps, columns, number = [], [], [], self._first
        for n, ahead, stray, chain, one in zip(which, [0, *which[:-1]], strays, chains, likely, strict=True):
            seams.append(self._between(ahead, n)[: most + 1])
            gaps.append(one + seams[-1])
            numbers = number + np.arange(most + 1)
            by_column = stray.ends.columns(self._ends[0])[numbers * size % across]
            columns.append(np.where(numbers % NUMBERS == chain.mark, by_column, -np.inf))
            number += len(chain.spans)
        lost, sureties = most_likely(gaps, columns, end)
        steps = np.diff([0, *lost])
        nats = sum(g[step] + c[gone] for g, c, step, gone in zip(gaps, columns, steps, lost, strict=True) if step >= 0)
        if steps.min() < 0 or not np.isfinite(nats):
            return None
        found, at = [], self._first
        for chain, gone, sure in zip(chains, lost, sureties, strict=True):
            found.append(Numbered(chain, at + gone, sure))
            at += len(chain.spans)
        return _Placed(which, found, float(nats), [float(seam[step]) for seam, step in zip(seams, steps, strict=True)])

    def _between(self, ahead: int, behind: int) -> NDArray[np.float64]:
        """How one of all goes on from another, for each number of intervals that may be lost between them."""
        if (ahead, behind) not in self._met:
            most = min(self._total - self._first, _MOST_LOST)
            self._met[ahead, behind] = self._seams.between(ahead, most * self._size, behind)[:: self._size]
        return self._met[ahead, behind]
