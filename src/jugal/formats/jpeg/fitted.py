"""Huffman tables for DC values that were fitted to a picture and lost, found again from its data.

Progressive pictures begin with a scan of DC values and tables for these alone, which no other picture has. A table that an
encoder fits follows from how often each category of difference comes (T.81 K.2): few frequencies are likely, so few tables
are. Each is tried; right ones give a picture whose rows are like the rows above them, up to the last bit of the scan. Where some
rows come right, the frequencies in them tell which tables to try next.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.decode import dc_limits, scan_units
from jugal.formats.jpeg.parse import Frame, HuffmanTable, Scan
from jugal.kernels.fitting import SYMBOLS, count_categories, try_tables
from jugal.kernels.optimal import LONGEST, fit_code

Lengths = tuple[int, ...]
#: Categories of DC differences with 8 and with 12 bits a sample (T.81 tables F.1, F.6).
_CATEGORIES = {8: 12, 12: 16}
#: Sets of frequencies that are drawn, and sets of tables that are tried at first and then in each of so many rounds.
_DRAWN, _TRIED_FIRST, _TRIED, _ROUNDS = 12_000, 1_500_000, 30_000, 24
#: Sets that are tried before them, as often the right one is among them, and blocks read at first, a row of MCUs a set, and in a
#: round, as far as the best sets read.
_FEW, _READ_FIRST, _READ_ROUND = 100_000, 2e9, 2e8
#: Sets in whose neighbourhood others are tried in the next round, and rounds without a better one after which none is hoped for.
_KEPT, _IDLE = 10, 5
#: Rows of MCUs behind its best score at which a set of tables is given up, and the share of all blocks that must score.
_PATIENCE, _ENOUGH = 2.0, 0.2
_LEAST_BLOCKS = 200


def code_lengths(counts: NDArray[np.int64]) -> Lengths:
    """The code length of each symbol, 0 for none, as K.2 and K.3 make them from how often each one comes."""
    number, order, sizes = np.zeros(LONGEST + 1, np.int64), np.zeros(256, np.int64), np.zeros(256, np.int64)
    coded = fit_code(np.ascontiguousarray(counts, np.int64), number, order, sizes)
    found = np.zeros(len(counts), np.int64)
    found[order[:coded]] = np.repeat(np.arange(LONGEST + 1), number)
    return tuple(found.tolist())


@dataclass
class _Coded:
    """Tables as the kernel reads them, each made once and known by its number."""

    numbers: dict[Lengths, int]
    lengths: list[Lengths]
    limits: list[NDArray[np.int64]]
    shifts: list[NDArray[np.int64]]
    symbols: list[NDArray[np.int64]]

    def number(self, lengths: Lengths) -> int:
        if lengths not in self.numbers:
            self.numbers[lengths] = len(self.limits)
            self.lengths.append(lengths)
            table = _table(lengths)
            limits, shifts, code, before = np.zeros(17, np.int64), np.zeros(17, np.int64), 0, 0
            for length, count in enumerate(table.counts, 1):
                shifts[length] = code - before
                code, before = code + count, before + count
                limits[length] = code << (16 - length)
                code <<= 1
            self.limits.append(limits)
            self.shifts.append(shifts)
            self.symbols.append(np.frombuffer(table.symbols.ljust(SYMBOLS, b"\0"), np.uint8).astype(np.int64))
        return self.numbers[lengths]


@lru_cache(maxsize=4096)
def _table(lengths: Lengths) -> HuffmanTable:
    symbols = sorted((s for s, length in enumerate(lengths) if length), key=lambda s: (lengths[s], s))
    return HuffmanTable(bytes(lengths.count(length) for length in range(1, 17)), bytes(symbols))


def _lengths(table: HuffmanTable) -> Lengths | None:
    """The code length of each category; None where a symbol is none."""
    found = [0] * SYMBOLS
    sizes = [length for length, count in enumerate(table.counts, 1) for _ in range(count)]
    if len(sizes) != len(table.symbols) or any(s >= SYMBOLS for s in table.symbols):
        return None
    for symbol, length in zip(table.symbols, sizes, strict=True):
        found[symbol] = length
    return tuple(found) if _table(tuple(found)) == table else None


class _Levels:
    """A scan of DC values whose tables are sought, and how sets of tables do with it."""

    def __init__(self, frame: Frame, scan: Scan, quant: dict[int, NDArray[np.uint16]]) -> None:
        self.keys = sorted({table for _, table, _ in scan.components})
        self.lost = [key not in scan.tables for key in self.keys]
        parts = [frame.components[index] for index, _, _ in scan.components]
        alone = len(parts) == 1
        self.h, self.v = (
            np.array([1 if alone else x for x in sizes], np.int64)
            for sizes in zip(*[(p.h, p.v) for p in parts], strict=True)
        )
        units, across = scan_units(frame, scan)
        blocks = self.h * self.v * units
        bound = (dc_limits(frame, quant)[[index for index, _, _ in scan.components]] >> scan.al) + 1
        entropy = scan.entropy
        cuts = entropy.mark_clean[entropy.is_restart].tolist()
        cuts = cuts if scan.restart_interval else []
        self.table_of = np.array([self.keys.index(table) for _, table, _ in scan.components], np.int64)
        self.blocks = np.bincount(self.table_of, blocks, len(self.keys)).astype(np.int64)
        self._scan = (
            np.concatenate([np.asarray(entropy.clean, np.uint8)[: entropy.length], np.zeros(16, np.uint8)]),
            8 * np.array([0, *cuts], np.int64),
            8 * np.array([*cuts, entropy.length], np.int64),
            scan.restart_interval,
        )
        self.across = across
        self.row = across * int((self.h * self.v).sum())
        self._patience = _PATIENCE * self.row
        self._size = (across, units // across, bound)
        self._planes = (
            np.zeros(int(blocks.sum()), np.int64),
            np.concatenate(([0], np.cumsum(blocks)[:-1])).astype(np.int64),
        )
        self._coded = _Coded({}, [], [], [], [])

    def _tables(self) -> tuple[NDArray[np.int64], ...]:
        return tuple(np.stack(rows) for rows in (self._coded.limits, self._coded.shifts, self._coded.symbols))

    def numbers(self, tables: Iterable[Lengths]) -> NDArray[np.int64]:
        """By which numbers the kernel knows ``tables``."""
        return np.array([self._coded.number(lengths) for lengths in tables], np.int64)

    def tried(self, numbers: NDArray[np.int64]) -> tuple[int, NDArray[np.float64], NDArray[np.int64]]:
        """Of sets of tables by their ``numbers`` (one by which all of the scan reads, as it was coded, or -1; per set its score;
        the MCUs in which it was reached)."""
        scores, reached, first = np.zeros(len(numbers)), np.zeros(len(numbers), np.int64), 0
        while first < len(numbers):
            whole = try_tables(
                *self._scan, *self._tables(), numbers[first:], self.table_of, self.h, self.v, *self._size, self._patience,
                *self._planes, scores[first:], reached[first:],
            )  # fmt: skip
            if whole < 0:
                break
            if self._is_right(self.known(numbers[first + whole]), scores[first + whole]):
                return first + whole, scores, reached
            first += whole + 1
        return -1, scores, reached

    def _is_right(self, tables: Sequence[Lengths], score: float) -> bool:
        """Whether rows are like the rows above them, and codes as short as can be for how often each category comes: by wrong
        tables that happen to end with the data they are not."""
        if score < _ENOUGH * int(self.blocks.sum()):
            return False
        for lengths, counts, lost in zip(
            tables, self.counts(tables, self._size[0] * self._size[1]), self.lost, strict=True
        ):
            if lost and counts @ np.array(lengths) > counts @ np.array(code_lengths(counts)):
                return False
        return True

    def score(self, one: Sequence[Lengths]) -> float:
        """That of a set of tables by which all of the scan reads, as it was coded; else 0."""
        whole, scores, _ = self.tried(self.numbers(one)[None])
        return float(scores[0]) if whole == 0 else 0.0

    def combined(self, choices: list[list[Lengths]], most: int) -> NDArray[np.int64]:
        """The numbers of sets of one table of each list, see ``_combined``."""
        ranks = _combined(choices, most)
        return np.stack([self.numbers(c)[ranks[:, k]] for k, c in enumerate(choices)], axis=1)

    def known(self, numbers: NDArray[np.int64]) -> tuple[Lengths, ...]:
        """The tables with these numbers."""
        return tuple(self._coded.lengths[number] for number in numbers.tolist())

    def counts(self, one: Sequence[Lengths], units: int) -> NDArray[np.int64]:
        """How often each category comes in the first ``units`` MCUs, table by table."""
        found = np.zeros((len(self.keys), SYMBOLS), np.int64)
        numbers = self.numbers(one)
        count_categories(
            *self._scan,
            *self._tables(),
            numbers,
            self.table_of,
            self.h,
            self.v,
            *self._size,
            *self._planes,
            units,
            found,
        )
        return found


def fitted_tables(
    frame: Frame, scan: Scan, quant: dict[int, NDArray[np.uint16]], likely: dict[int, HuffmanTable]
) -> dict[int, HuffmanTable] | None:
    """The tables of a scan of DC values alone by which all of it reads; None where none were found.

    Tables that the scan has are kept. Those of a like picture may be ``likely``, and are tried first.
    """
    levels = _Levels(frame, scan, quant)
    if int(levels.blocks.sum()) < _LEAST_BLOCKS:
        return None
    choices = []
    for number, key in enumerate(levels.keys):
        own = None if levels.lost[number] else _lengths(scan.tables[key])
        if own is None and not levels.lost[number]:
            return None  # codes that are not given in the order of their symbols
        near = _lengths(likely[key]) if key in likely else None
        drawn = _drawn(int(levels.blocks[number]), _CATEGORIES.get(frame.precision, SYMBOLS))
        choices.append([own] if own else [*dict.fromkeys([*([near, *_neighbours(near)] if near else []), *drawn])])
    found = _search(levels, choices)
    if found is None:
        return None
    return {key: _table(lengths) for key, lengths in zip(levels.keys, _best_near(levels, found), strict=True)}


def _search(levels: _Levels, choices: list[list[Lengths]]) -> tuple[Lengths, ...] | None:
    """A set of tables by which all reads: one of the ``choices``, else one like those of them that read well at first."""
    rng = np.random.default_rng(0)
    best: dict[float, tuple[int, tuple[Lengths, ...]]] = {}
    tried: set[tuple[Lengths, ...]] = set()
    idle, highest = 0, 0.0
    first = min(_TRIED_FIRST, int(_READ_FIRST / levels.row))
    for number, count in enumerate((min(_FEW, first), first, *[_TRIED] * _ROUNDS)):
        if best:
            sets = [one for s, (units, good) in best.items() if s > 0 for one in _nearby(levels, good, units, rng)]
            # Near sets that read far each takes long, and the best one's come first.
            far = max(units for units, _ in best.values()) * levels.row // levels.across
            sets = [one for one in dict.fromkeys(sets) if one not in tried][
                : min(count, int(_READ_ROUND / max(1, far)))
            ]
            if not sets or idle == _IDLE:
                return None
            tried.update(sets)
            numbers = np.array([levels.numbers(one) for one in sets], np.int64)
        else:
            numbers = levels.combined(choices, count)
        whole, scores, reached = levels.tried(numbers)
        if whole >= 0:
            return levels.known(numbers[whole])
        if number == 0:
            continue
        # Of sets that do alike, as those that differ in codes which do not come, one is enough.
        _, unlike = np.unique(-scores, return_index=True)
        top = {float(scores[k]): (int(reached[k]), levels.known(numbers[k])) for k in unlike[:_KEPT]}
        best = dict(sorted({**top, **best}.items(), reverse=True)[:_KEPT])
        idle, highest = (0, max(best)) if max(best) > highest else (idle + 1, highest)
    return None


def _best_near(levels: _Levels, right: tuple[Lengths, ...]) -> tuple[Lengths, ...]:
    """Of tables by which all reads and which differ little, those with the rows that are most alike.

    By a wrong category that comes once or twice, as the first value's may, data soon fall into step again.
    """
    score = levels.score(right)
    while True:
        near = next((one for one in _one_changed(right, levels.lost) if levels.score(one) > score), None)
        if near is None:
            return right
        right, score = near, levels.score(near)


def _one_changed(tables: tuple[Lengths, ...], lost: Sequence[bool]) -> list[tuple[Lengths, ...]]:
    """Sets in which one of those tables that are ``lost`` is another, changed a little."""
    return [
        (*tables[:k], other, *tables[k + 1 :])
        for k in range(len(tables))
        if lost[k]
        for other in _neighbours(tables[k])
    ]


def _combined(choices: list[list[Lengths]], most: int) -> NDArray[np.int64]:
    """Sets of one table of each list, as their numbers in it, those of early ones first, ``most`` at most."""
    sizes = [len(c) for c in choices]
    while math.prod(sizes) > 4 * most:
        sizes = [max(1, int(0.9 * size)) for size in sizes]
    ranks = np.indices(sizes, np.int32).reshape(len(choices), -1)
    order = np.argsort(np.log1p(ranks, dtype=np.float32).sum(axis=0), kind="stable")[:most]
    return ranks[:, order].T.astype(np.int64)


def _sets(choices: list[list[Lengths]], ranks: NDArray[np.int64]) -> list[tuple[Lengths, ...]]:
    return [tuple(choices[c][k] for c, k in enumerate(row)) for row in ranks.tolist()]


@lru_cache(maxsize=16)
def _drawn(blocks: int, categories: int) -> tuple[Lengths, ...]:
    """Tables of pictures that have up to three kinds of ground, of which each has its own spread of differences."""
    rng = np.random.default_rng(0)
    edges = np.concatenate(([0.0], 2.0 ** np.arange(categories) - 0.5))
    found: dict[Lengths, int] = {}
    for _ in range(_DRAWN):
        shares = np.zeros(categories)
        for kind in range(int(rng.integers(1, 4))):
            spread, shape = math.exp(rng.uniform(math.log(0.1), math.log(120))), rng.uniform(0.6, 1.5)
            if rng.random() < 0.3:
                # Edges of one height.
                within = np.exp(-(((np.arange(categories) - 1.0 - math.log2(spread)) / shape) ** 2))
                within /= within.sum()
            else:
                within = np.diff(1.0 - np.exp(-((edges / spread) ** shape)))
            share = rng.random() if kind else 0.0
            shares = share * shares + (1.0 - share) * within
        if rng.random() < 0.3:
            share = 0.6 * rng.random()  # ground without any
            shares *= 1.0 - share
            shares[0] += share
        counts = rng.poisson(blocks * shares)
        if np.count_nonzero(counts) > 1:
            lengths = (*code_lengths(counts), *([0] * (SYMBOLS - categories)))
            found[lengths] = found.get(lengths, 0) + 1
    return tuple(sorted(found, key=lambda lengths: -found[lengths]))


def _nearby(
    levels: _Levels, good: tuple[Lengths, ...], units: int, rng: np.random.Generator
) -> list[tuple[Lengths, ...]]:
    """Sets like one that reads the first ``units`` MCUs well: one table changed a little, or all as those MCUs make likely."""
    drawn = []
    for k, counts in enumerate(levels.counts(good, units)):
        last = int(np.flatnonzero(counts)[-1]) if counts.any() else 0
        weights = counts + np.where(np.arange(SYMBOLS) <= last + 1, 0.3, 0.0)
        several = [rng.poisson(levels.blocks[k] * rng.dirichlet(weights[: last + 2])) for _ in range(60)]
        several = [c for c in several if np.count_nonzero(c) > 1]
        tables = [(*code_lengths(c), *([0] * (SYMBOLS - c.size))) for c in several]
        drawn.append([good[k]] if not levels.lost[k] or not tables else [*dict.fromkeys([good[k], *tables])])
    return _one_changed(good, levels.lost) + _sets(drawn, _combined(drawn, 1500))


@lru_cache(maxsize=256)
def _neighbours(lengths: Lengths) -> tuple[Lengths, ...]:
    """Tables in which two categories have changed places, or one comes as often as a quarter to four times as much."""
    used = [s for s in range(SYMBOLS) if lengths[s]]
    found: dict[Lengths, None] = {}
    for one in used:
        for other in range(min(SYMBOLS, max(used) + 3)):
            if lengths[one] != lengths[other] and (one < other or not lengths[other]):
                changed = list(lengths)
                changed[one], changed[other] = lengths[other], lengths[one]
                found[tuple(changed)] = None
    plain = np.array([2.0**-length if length else 0.0 for length in lengths])
    for symbol in range(min(SYMBOLS, max(used) + 2)):
        for factor in (0.0, 0.25, 0.5, 0.7, 1.4, 2.0, 4.0):
            shares = plain.copy()
            shares[symbol] = factor * (plain[symbol] or plain[plain > 0].min())
            if np.count_nonzero(shares) > 1:
                found[code_lengths(np.maximum(shares * 2**24, shares > 0).astype(np.int64))] = None
    found.pop(lengths, None)
    return tuple(found)
