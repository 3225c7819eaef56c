"""A sequential scan whose Huffman tables are not known, read with supposed ones, and what a like picture tells of its symbols."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.decode import scan_units
from jugal.formats.jpeg.parse import Frame, HuffmanTable, Scan
from jugal.formats.jpeg.symbols import AC_SYMBOLS, DC_SYMBOLS, likelihoods
from jugal.kernels.optimal import LONGEST, fill_lookup
from jugal.kernels.supposed import BLOCK, CONTEXTS, WIDTH, in_step, read_scan, score_spans

#: What falling into step with the data costs, in bits.
CHANGE = 12.0
#: Columns of a code that was met, behind those of where: its table, the 16 bits it begins, bits that speak for being in step.
TABLE, WORD, TRAIL = WIDTH, WIDTH + 1, WIDTH + 2
#: From how many bits on a code is met in step, and from how many such codes on a table's symbol is sure of its name.
_STEADY, _SURE = 15, 60
#: How much the donor and the scan itself count for what is likely in it, and how slowly a context becomes sure of itself.
_DONOR, _OWN, _SLOW = 2, 8, 160.0
#: All symbols of all tables.
_ALL = np.ones((4, 256), np.bool_)
#: Codes that are kept of one reading.
_MET = 2_000_000
#: Blocks read behind the last one, for tables that are wrong, and bytes that may be read behind the data.
_MORE, _PADDING = 50, 16
#: What a code that tables do not have speaks against them beyond what it costs to go on behind it, and a block too many or too few (bits).
_PER_UNKNOWN, _PER_BLOCK = 12.0, 3.0
#: Fewer bits than these may be left behind the last block (F.1.2.3).
PADDED = 8

Lookup = NDArray[np.uint16]
Likely = NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class Blocks:
    """Which component and which tables belong to the blocks of an MCU; DC tables are 0 and 1, AC tables 2 and 3."""

    component: NDArray[np.int64]
    dc: NDArray[np.int64]
    ac: NDArray[np.int64]

    @property
    def arrays(self) -> tuple[NDArray[np.int64], ...]:
        """As the kernels take them."""
        return self.component, self.dc, self.ac

    @property
    def tables(self) -> list[int]:
        """Those in use, ascending."""
        return sorted({*self.dc.tolist(), *self.ac.tolist()})


def blocks_of(frame: Frame, scan: Scan) -> Blocks:
    """The blocks of an MCU in their order (A.2.3)."""
    alone = len(scan.components) == 1
    rows = [
        (number, td, 2 + ta)
        for number, (index, td, ta) in enumerate(scan.components)
        for _ in range(1 if alone else frame.components[index].h * frame.components[index].v)
    ]
    return Blocks(*np.array(rows, np.int64).T.copy())


def lookup_of(scan: Scan) -> Lookup:
    """The tables that a scan has as ``fill_lookup`` makes them."""
    found = np.zeros((4, 1 << LONGEST), np.uint16)
    for key in sorted({key for _, td, ta in scan.components for key in (td, ta | 0x10)} & set(scan.tables)):
        table = scan.tables[key]
        number, order = np.zeros(LONGEST + 1, np.int64), np.zeros(256, np.int64)
        number[1:] = list(table.counts)
        order[: len(table.symbols)] = list(table.symbols)
        fill_lookup(number, order, found[(key & 1) + 2 * (key >> 4)])
    return found


Code = tuple[int, int, int]


def codes_of(row: NDArray[np.uint16]) -> list[Code]:
    """The codes of one table of a lookup, ascending: (first of the 16 bits that begin with it, length, symbol)."""
    found, at = [], 0
    while at < row.size:
        entry = int(row[at])
        if entry:
            found.append((at, entry >> 8, entry & 255))
        at += 1 << (LONGEST - (entry >> 8)) if entry else 1
    return found


def table_of(row: NDArray[np.uint16]) -> HuffmanTable:
    """One table of a lookup."""
    codes = codes_of(row)
    counts = bytes(sum(length == n for _, length, _ in codes) for n in range(1, LONGEST + 1))
    return HuffmanTable(counts, bytes(symbol for _, _, symbol in codes))


@dataclass(frozen=True, slots=True)
class Reading:
    """What reading a scan gave: what each block speaks for the tables, which are in step, where they begin, and codes that were met
    (see ``read_scan``)."""

    gains: NDArray[np.float32]
    steady: NDArray[np.bool_]
    starts: NDArray[np.int32]
    met: NDArray[np.int32]

    def often(self, table: int) -> NDArray[np.int64]:
        """How many codes of a table were met in step before so many 16 bits (65537)."""
        met = self.met
        counted = (met[:, TABLE] == table) & (self.steady[met[:, BLOCK]] | (met[:, TRAIL] >= _STEADY))
        counts = np.bincount(met[counted, WORD], minlength=1 << LONGEST)
        return np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)

    def places(self, table: int, begin: int) -> NDArray[np.int32]:
        """Where codes of a table from ``begin`` on were met in step."""
        met = self.met
        return met[(met[:, TABLE] == table) & (met[:, WORD] >= begin) & (met[:, TRAIL] >= _STEADY)]


class KnownScan:
    """A scan that reads rightly: its symbols tell what is likely in another one."""

    def __init__(self, frame: Frame, scan: Scan) -> None:
        self.data, self.end = _bits(scan)
        self.blocks = blocks_of(frame, scan)
        self.units = scan_units(frame, scan)[0]
        self.lookup = lookup_of(scan)

    @cached_property
    def starts(self) -> NDArray[np.int32]:
        """Bit at which each MCU begins."""
        starts = np.zeros((self._count, WIDTH), np.int32)
        self._read(starts, np.zeros(0, np.bool_), np.zeros((0, 0, 0), np.int64))
        return starts[:: self.blocks.component.size, 0]

    def counts(self, units: NDArray[np.bool_] | None = None) -> NDArray[np.int64]:
        """How often each symbol comes in each context (4, CONTEXTS, 256), in all MCUs or those ``units``."""
        found = np.zeros((4, CONTEXTS, 256), np.int64)
        each = np.ones(self.units, np.bool_) if units is None else units
        self._read(np.zeros((0, WIDTH), np.int32), np.repeat(each, self.blocks.component.size), found)
        return found

    def gain(self, likely: Likely) -> float:
        """What all of it speaks for its tables, in bits."""
        return _gain(self.data, self.end, self.lookup, self.blocks, likely)

    @property
    def _count(self) -> int:
        return self.units * self.blocks.component.size

    def _read(self, starts: NDArray[np.int32], chosen: NDArray[np.bool_], counts: NDArray[np.int64]) -> None:
        read_scan(
            self.data, self.end, self.lookup, *self.blocks.arrays, np.zeros((4, CONTEXTS, 256), np.float32),
            np.full(4, LONGEST), np.zeros((0, WIDTH + 3), np.int32), starts, np.zeros(self._count, np.float32), counts, chosen, _ALL,
        )  # fmt: skip


class UnknownScan:
    """A scan whose tables are sought; a ``like`` one tells what is likely in it."""

    def __init__(self, frame: Frame, scan: Scan, like: KnownScan) -> None:
        self.data, self.end = _bits(scan)
        self.blocks, self.like = blocks_of(frame, scan), like
        self.units = scan_units(frame, scan)[0]
        self.count = self.units * self.blocks.component.size
        self._lent = like.counts()
        #: log2 of the probability of symbols in the like picture, (4, CONTEXTS, 256).
        self.usual = likelihoods(self._lent)
        #: log2 of how often each symbol may come in all of the scan, (4, 256).
        self.expected = np.log2(np.maximum(self._lent.sum(axis=1), 0.05) * self.units / like.units)

    def gain(self, lookup: Lookup, likely: Likely) -> float:
        """What all of the scan speaks for tables, in bits."""
        return _gain(self.data, self.end, lookup, self.blocks, likely)

    def amiss(self, lookup: Lookup) -> float:
        """What speaks against tables though reading soon is in step again, in bits: codes that they do not have, and more or fewer
        blocks than the scan's."""
        gains, met = np.zeros(self.count + _MORE, np.float32), np.zeros((_MORE, WIDTH + 3), np.int32)
        none = np.zeros((0, WIDTH), np.int32), gains, np.zeros((0, 0, 0), np.int64), np.zeros(0, np.bool_)
        blocks, unknown, _ = read_scan(
            self.data, self.end, lookup, *self.blocks.arrays, self.usual, np.full(4, LONGEST), met, *none, _ALL
        )
        return _PER_UNKNOWN * unknown + _PER_BLOCK * abs(blocks - self.count)

    def counts(self, lookup: Lookup) -> tuple[NDArray[np.int64], int]:
        """How often each symbol comes (4, 256) in so many blocks as the scan has, and how many bits are left behind them; -1 where
        they do not all come."""
        gains, counts = np.zeros(self.count, np.float32), np.zeros((4, CONTEXTS, 256), np.int64)
        blocks, strange, bit = read_scan(
            self.data, self.end, lookup, *self.blocks.arrays, self.usual, np.full(4, LONGEST), np.zeros((1, WIDTH + 3), np.int32),
            np.zeros((0, WIDTH), np.int32), gains, counts, np.ones(self.count, np.bool_), _ALL,
        )  # fmt: skip
        return counts.sum(axis=1), self.end - bit if blocks == self.count and not strange else -1

    def read(self, lookup: Lookup, likely: Likely) -> Reading:
        """All of the scan, read with supposed tables."""
        gains, starts = np.zeros(self.count + _MORE, np.float32), np.zeros((self.count + _MORE, WIDTH), np.int32)
        met = np.zeros((min(_MET, self.end // 2), WIDTH + 3), np.int32)
        none = np.zeros((0, 0, 0), np.int64), np.zeros(0, np.bool_)
        blocks, codes, _ = read_scan(
            self.data,
            self.end,
            lookup,
            *self.blocks.arrays,
            likely,
            np.zeros(4, np.int64),
            met,
            starts,
            gains,
            *none,
            _ALL,
        )
        steady = np.zeros(blocks, np.bool_)
        in_step(gains[:blocks], CHANGE, steady)
        return Reading(gains[:blocks], steady, starts[:blocks], met[:codes])

    def model(self, lookup: Lookup, likely: Likely) -> tuple[Likely, NDArray[np.int64]]:
        """What is likely in the scan as far as it is read in step, and how often each symbol came there (4, 256).

        How symbols of rare codes are named may be wrong, so only their sizes are learnt, and their runs are those of the like
        picture: else what was named wrongly would be found likely.
        """
        gains, counts = np.zeros(self.count + _MORE, np.float32), np.zeros((4, CONTEXTS, 256), np.int64)
        none = np.zeros((0, WIDTH + 3), np.int32), np.zeros((0, WIDTH), np.int32)
        arguments = (
            self.data,
            self.end,
            lookup,
            *self.blocks.arrays,
            likely,
            np.full(4, LONGEST),
            *none,
            gains,
            counts,
        )
        blocks, _, _ = read_scan(*arguments, np.zeros(0, np.bool_), _ALL)
        chosen = np.zeros(gains.size, np.bool_)
        in_step(gains[:blocks], CHANGE, chosen[:blocks])
        read_scan(*arguments, chosen, _ALL)
        own = counts.sum(axis=1)
        sure = _ALL.copy()
        for table in (t for t in self.blocks.tables if t > 1):
            codes = [symbol for _, _, symbol in codes_of(lookup[table])]
            first = next((k for k, symbol in enumerate(codes) if own[table, symbol] < _SURE), len(codes))
            sure[table] = False
            sure[table, codes[:first]] = True
        counts[:] = 0
        read_scan(*arguments, chosen, sure)
        learnt = counts.astype(np.float64)
        for table in (t for t in self.blocks.tables if t > 1):
            for size in range(11):
                unsure = [s for s in AC_SYMBOLS if s & 15 == size and s and not sure[table, s]]
                if unsure:
                    shares = np.exp2(self.usual[table][:, unsure].astype(np.float64))
                    shares /= shares.sum(axis=1, keepdims=True)
                    learnt[table][:, unsure] = learnt[table][:, unsure].sum(axis=1, keepdims=True) * shares
        return likelihoods(_DONOR * self._lent + _OWN * learnt, _SLOW), own


def symbols_of(table: int) -> tuple[int, ...]:
    """All that a table may have."""
    return AC_SYMBOLS if table > 1 else DC_SYMBOLS


def _gain(data: NDArray[np.uint8], end: int, lookup: Lookup, blocks: Blocks, likely: Likely) -> float:
    whole = np.zeros(1, np.int64), np.full(1, end)
    return float(score_spans(data, *whole, lookup, *blocks.arrays, likely, CHANGE))


def _bits(scan: Scan) -> tuple[NDArray[np.uint8], int]:
    """The scan's data as kernels read them, and how many bits they are."""
    entropy = scan.entropy
    return np.concatenate([np.asarray(entropy.clean, np.uint8)[: entropy.length], np.zeros(_PADDING, np.uint8)]), (
        8 * entropy.length
    )
