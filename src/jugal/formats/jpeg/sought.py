"""Huffman tables that were fitted to a sequential picture and lost, sought by what a like picture tells of its symbols.

Tables that suit the data somewhat come from how often symbols may come. Reading by those goes wrong at rare codes only; which codes
these are is settled for each table as a whole, and where reading still falls out of step their symbols are changed together until
it no longer does. What is found reads to the last bit. Symbols of codes that hardly come remain the likeliest ones.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg import spec
from jugal.formats.jpeg.evidence import SHARE, Evidence, evidence_of, trusted
from jugal.formats.jpeg.frequencies import likely_tables
from jugal.formats.jpeg.parse import Frame, HuffmanTable, Scan, Structure
from jugal.formats.jpeg.settling import exchanged, named, renamed, settled
from jugal.formats.jpeg.surroundings import Surroundings
from jugal.formats.jpeg.unknown import (
    PADDED,
    KnownScan,
    Likely,
    Lookup,
    Reading,
    UnknownScan,
    codes_of,
    table_of,
)  # fmt: skip
from jugal.kernels.optimal import LONGEST, fit_code
from jugal.kernels.supposed import BIT

#: Bits of a scan that is large enough to tell, and small enough to be read often.
_LEAST_BITS, _MOST_BITS = 200_000, 6_000_000
#: Seconds of one processor after which the search is given up.
_SECONDS = 480.0
#: Per round the share of all bits behind the codes that are trusted, and what a code costs that K.2 does not make (bits).
_SETTLED = (
    *((SHARE, 2.0), (0.25, 2.0), (SHARE, 2.0), (0.5, 2.0)) * 4,
    *((SHARE, 4.0), (0.25, 4.0), (SHARE, 8.0), (0.5, 8.0)),
)
#: From which round on DC tables, which the first step mostly finds, and from which on names are settled as well.
_DC_ROUND, _NAMES_ROUND = 3, 1
#: What a code costs (bits), and how much less may speak for tables that are taken nevertheless, in the first round.
_PER_CODE, _SLACK = 10.0, 300.0
#: Rounds in which nothing better is found after which none is hoped for, once all is read; and ones that change nothing after
#: which those follow that make more of what K.2 does not make.
_IDLE, _STILL = 2, 3
#: The share of blocks, or of data, by which reading with tables that are nearly right may be out.
_FAR = 0.015
#: Codes by which all tables together may differ from what K.2 makes, and where none such are found.
_NEARLY, _ANY = 2, 1 << LONGEST
#: How often symbols are given anew by how blocks go on, at most.
_NAMINGS = 3
#: A code that comes so often has its name from what is read, a rarer one perhaps from what is likely; and where the order of symbols does
#: not tell, since lengths are not quite right.
_NAMED_SURELY, _NAMED_WITHOUT_ORDER = 16, 32


Tables = dict[int, HuffmanTable]


@dataclass(frozen=True, slots=True)
class Sought:
    """Tables by the key of their segment (B.2.4.2), and the share of the picture that has codes whose symbol is not sure, 0..1."""

    tables: Tables
    unsure: float


def may_seek(frame: Frame, scan: Scan) -> bool:
    """The scan is one of all components and of a length for which tables are sought."""
    return _is_plain(frame, scan) and _LEAST_BITS <= 8 * scan.entropy.length <= _MOST_BITS


def can_seek(frame: Frame, scan: Scan, like: Structure) -> bool:
    """Tables of the scan are sought, and a like picture has such as are fitted to it."""
    if like.frame is None or len(like.scans) != 1:
        return False
    return (
        may_seek(frame, scan)
        and _is_plain(like.frame, like.scans[0])
        and _shape(frame, scan) == _shape(like.frame, like.scans[0])
        and 8 * like.scans[0].entropy.length <= _MOST_BITS
        and _is_fitted(like.frame, like.scans[0])
    )


def _is_plain(frame: Frame, scan: Scan) -> bool:
    return (
        frame.marker in spec.SEQUENTIAL
        and frame.precision == 8
        and len(scan.components) == len(frame.components) <= 4
        and not scan.restart_interval
        and max(max(td, ta) for _, td, ta in scan.components) < 2
    )


def _shape(frame: Frame, scan: Scan) -> list[tuple[int, int, int, int]]:
    return [(frame.components[index].h, frame.components[index].v, td, ta) for index, td, ta in scan.components]


def _is_fitted(frame: Frame, scan: Scan) -> bool:
    """All of a scan's tables are those that K.2 makes of how often its codes come."""
    known = KnownScan(frame, scan)
    often = known.counts().sum(axis=1)
    return all(_misfit(known.lookup, often, table) == 0 for table in known.blocks.tables)


def _misfit(lookup: Lookup, often: NDArray[np.int64], table: int) -> int:
    """By how many codes a table differs from what K.2 makes of how often its symbols come."""
    number = np.zeros(LONGEST + 1, np.int64)
    fit_code(often[table], number, np.zeros(256, np.int64), np.zeros(256, np.int64))
    lengths = [length for _, length, _ in codes_of(lookup[table])]
    return int(np.abs(np.bincount(lengths, minlength=LONGEST + 1) - number).sum())


def sought_tables(made: Structure, like: Structure, is_sound: Callable[[Tables], bool]) -> Sought | None:
    """The tables by which all of a picture's scan reads, none of which is known, and the picture ``is_sound``; None where they are not
    found.

    See ``can_seek``.
    """
    return _Search(made, like, is_sound).run()


def _dearer(number: int) -> int:
    """The first round behind round ``number`` in which what K.2 does not make costs more."""
    return next((k for k in range(number, len(_SETTLED)) if _SETTLED[k][1] > _SETTLED[number][1]), len(_SETTLED))


class _Search:
    """A search for the tables of one scan, and how far it has come."""

    def __init__(self, made: Structure, like: Structure, is_sound: Callable[[Tables], bool]) -> None:
        assert made.frame is not None and like.frame is not None
        self.scan = UnknownScan(made.frame, made.scans[0], KnownScan(like.frame, like.scans[0]))
        self._made, self._is_sound = made, is_sound
        self._until = time.thread_time() + _SECONDS
        #: Codes by which all tables together may differ from what K.2 makes.
        self._allowed = _NEARLY
        self.lookup: Lookup
        self.likely: Likely
        self.own: NDArray[np.int64]

    def run(self) -> Sought | None:
        """The best tables that are proven, when nothing better came for some rounds; else the best by which all reads to a sound
        picture; None where none are."""
        lookup = likely_tables(self.scan, self.stopped)
        if lookup is None:
            return None
        self.lookup, self.likely = lookup, self.scan.usual
        for _ in range(2):
            self._learn()
        best, most, idle, still, number = None, -np.inf, 0, 0, 0
        # Of tables that are not quite as K.2 makes them the best are better than none.
        fair: tuple[Lookup | None, float] = None, -np.inf
        while number < len(_SETTLED):
            before = self.lookup
            self._settle(number, *_SETTLED[number])
            idle += best is not None
            proven = self._is_proven() or (best is None and self._ends() and self._name())
            worth = self._worth(self.lookup)
            if proven and worth > most:
                best, most, idle = self.lookup, worth, 0
            elif best is None and worth > fair[1] and self._is_proven(_ANY):
                fair = self.lookup, worth
            if self.stopped() or idle == _IDLE or (number >= _NAMES_ROUND and not self._fits()):
                break
            still = still + 1 if np.array_equal(before, self.lookup) else 0
            number, still = (number + 1, still) if still < _STILL else (_dearer(number), 0)
        if best is None and fair[0] is not None:
            best, self._allowed = fair[0], _ANY
        return None if best is None else self._sought(best)

    def _settle(self, number: int, share: float, per_misfit: float) -> None:
        """A round: every table settled anew, then names where reading falls out of step."""
        slack = _SLACK * (1.0 - number / len(_SETTLED))
        for table in self.scan.blocks.tables:
            if table > 1 or number >= _DC_ROUND:
                evidence, _ = self._evidence(table, share, number)
                seed = len(_SETTLED) * number
                self._take(
                    table, settled(self.scan, self.lookup, evidence, table, per_misfit, seed, self.stopped), slack
                )
        self._learn()
        for table in self.scan.blocks.tables if number >= _NAMES_ROUND else ():
            evidence, reading = self._evidence(table, SHARE, number)
            self._take(table, renamed(self.scan, self.lookup, evidence, reading, table, number), slack)
        self._learn()

    def stopped(self) -> bool:
        """Whether it has gone on for too long."""
        return time.thread_time() > self._until

    def _learn(self) -> None:
        self.likely, self.own = self.scan.model(self.lookup, self.likely)

    def _evidence(self, table: int, share: float, seed: int, looked_at: bool = False) -> tuple[Evidence, Reading]:
        """What is known of a table's codes; where the picture is ``looked_at`` by how blocks go on as well."""
        reading = self.scan.read(self.lookup, self.likely)
        trust = trusted(self.lookup[table], self.own[table], share if table > 1 else 0.0)
        starts = reading.starts[:: self.scan.blocks.component.size, BIT]
        surroundings = Surroundings(self._with(self._tables()), starts) if looked_at else None
        return evidence_of(
            self.scan, self.lookup, self.likely, self.own, reading, table, trust, seed, surroundings
        ), reading

    def _take(self, table: int, row: NDArray[np.uint16], slack: float) -> None:
        """Puts another table in place of the one there is, unless much less speaks for it."""
        tried = self.lookup.copy()
        tried[table] = row
        if self._worth(tried) > self._worth(self.lookup) - slack:
            self.lookup = tried

    def _worth(self, lookup: Lookup) -> float:
        codes = sum(len(codes_of(lookup[table])) for table in self.scan.blocks.tables)
        return self.scan.gain(lookup, self.scan.usual) - self.scan.amiss(lookup) - _PER_CODE * codes

    def _fits(self) -> bool:
        """About so many blocks read as the scan has, from about all of the data: not where some are lost."""
        starts = self.scan.read(self.lookup, self.likely).starts
        return len(starts) >= (1.0 - _FAR) * self.scan.count and starts[-1, BIT] >= (1.0 - _FAR) * self.scan.end

    def _ends(self) -> bool:
        """All codes are known ones, and as many blocks as the scan has end with its data, whatever they show."""
        return 0 <= self.scan.counts(self.lookup)[1] < PADDED

    def _is_proven(self, misfit: int | None = None) -> bool:
        """All of the scan reads, by tables that are about as K.2 makes them, and gives a sound picture.

        Where a symbol of a rare code is not the right one yet, a count may be off by one, and so may a length: by ``misfit`` codes
        tables may differ from that.
        """
        often, _ = self.scan.counts(self.lookup)
        off = sum(_misfit(self.lookup, often, table) for table in self.scan.blocks.tables)
        allowed = self._allowed if misfit is None else misfit
        return off <= allowed and self._ends() and self._is_sound(self._tables())

    def _tables(self) -> Tables:
        return {table % 2 + 16 * (table > 1): table_of(self.lookup[table]) for table in self.scan.blocks.tables}

    def _sought(self, best: Lookup) -> Sought:
        """What was found, with symbols in the order that K.2 gives them and by how blocks then go on from those around them."""
        self.lookup = best
        self._learn()
        for _ in range(_NAMINGS):
            before = self.lookup
            if not self._name() or np.array_equal(before, self.lookup):
                break
        often, _ = self.scan.counts(self.lookup)
        return Sought(self._tables(), min(1.0, self._unsure(often)))

    def _name(self) -> bool:
        """Gives rare codes symbols by how blocks go on; whether tables came of it that are proven, else they stay as they were."""
        before = self.lookup
        # The order of symbols tells where lengths are right.
        for change in (named, exchanged) if self._allowed == _NEARLY else (exchanged,):
            for table in (t for t in self.scan.blocks.tables if t > 1):
                evidence, _ = self._evidence(table, SHARE, 0, looked_at=True)
                self.lookup = self.lookup.copy()
                self.lookup[table] = change(self.lookup, evidence, table)
            if self._is_proven():
                return True
            self.lookup = before
        return False

    def _with(self, tables: Tables) -> Structure:
        """The picture with ``tables``."""
        return replace(self._made, scans=[replace(self._made.scans[0], tables=tables)])

    def _unsure(self, often: NDArray[np.int64]) -> float:
        """The share of the picture whose blocks have a rare code, of which each block of an MCU covers as much as its like."""
        blocks, unsure = self.scan.blocks, 0.0
        surely = _NAMED_SURELY if self._allowed == _NEARLY else _NAMED_WITHOUT_ORDER
        for table in (t for t in blocks.tables if t > 1):
            rare = int(often[table][(often[table] > 0) & (often[table] < surely)].sum())
            parts = np.bincount(blocks.component[blocks.ac == table])
            unsure += rare / int(parts[parts > 0].min())
        return unsure / self.scan.units
