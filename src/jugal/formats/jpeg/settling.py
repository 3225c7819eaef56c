"""Which table of all possible ones it was, of what speaks for the codes behind those that are trusted.

How often codes come gives their lengths (T.81 K.2), so of lengths that go with how often codes of such lengths come there are
few. Symbols ascend among codes of one length, and each has one code; of those orders the likeliest is taken.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.evidence import Evidence
from jugal.formats.jpeg.unknown import CHANGE, Code, Lookup, Reading, UnknownScan, codes_of
from jugal.kernels.naming import anneal_names
from jugal.kernels.optimal import LONGEST
from jugal.kernels.settling import MOST_CODES, fills, misfit, place_symbols, settle_lengths

#: Changes of lengths tried, from how hot on (bits), each time from the best so far.
_TRIES = ((15_000, 20.0), (7_500, 8.0), (7_500, 8.0))
#: Lengths of each time, and of all, that are compared by reading all of the scan with them.
_LENGTHS, _COMPARED = 60, 80
#: Names tried where reading falls out of step, from how hot to how cold (bits), the share of the scan that may do so, and MCUs
#: around such places that are read too.
_RENAMED, _NAME_HEAT, _HOLES, _AROUND = 20_000, (12.0, 0.7), 0.3, 6
#: What a code costs, so that there are no more than needed, by evidence and where all is read (bits).
_PER_CODE, _PER_CODE_READ = 2.0, 10.0
#: Rounds in which symbols that are asked for twice get prices, of many lengths and of some, and the first price asked (bits).
_ROUNDS, _ALL_ROUNDS, _PRICE = 150, 400, 3.0
#: More than all evidence says against a symbol, in bits.
_NEVER_SAID = 1e9


def settled(
    scan: UnknownScan, lookup: Lookup, evidence: Evidence, table: int, per_misfit: float, seed: int, stopped: Callable[[], bool]
) -> NDArray[np.uint16]:  # fmt: skip
    """One table of a lookup with all behind its trusted codes settled anew.

    A code by which it differs from what K.2 makes of how often its codes come costs ``per_misfit`` bits.
    """
    if evidence.trust.length == LONGEST:
        return lookup[table]
    bench = _Bench(evidence)
    number, price = bench.numbers(lookup[table]), np.zeros(evidence.symbols.size)
    best = dict[tuple[int, ...], float]()
    found, values = np.zeros((_LENGTHS, LONGEST + 1), np.int64), np.zeros(_LENGTHS)
    for turn, (steps, hot) in enumerate(_TRIES):
        bench.settle(number, price, per_misfit, steps, hot, seed + turn, found, values)
        best |= {tuple(row): value for row, value in zip(found.tolist(), values.tolist(), strict=True) if any(row)}
        if not best:
            return lookup[table]
        number = np.array(max(best, key=lambda row: best[row]), np.int64)
        price = bench.placed(number, price, _ALL_ROUNDS)[1]
    chosen, most = lookup[table], -np.inf
    for row in sorted(best, key=lambda row: -best[row])[:_COMPARED]:
        if stopped():
            break
        number = np.array(row, np.int64)
        names = bench.placed(number, price, _ROUNDS)[0]
        tried = lookup.copy()
        bench.write(tried[table], number, names)
        gain = scan.gain(tried, scan.usual) - scan.amiss(tried)
        gain -= per_misfit * bench.misfit(number, names) + _PER_CODE_READ * len(names)
        if gain > most:
            chosen, most = tried[table], gain
    return chosen


def named(lookup: Lookup, evidence: Evidence, table: int) -> NDArray[np.uint16]:
    """One table of a lookup that has the right lengths with its symbols in the order that K.2 gives them."""
    bench, row = _Bench(evidence), lookup[table]
    _, names = bench.codes(row)
    number = bench.numbers(row)
    if int(number.sum()) != bench.known.size + names.size:
        return row
    bench.misfit(number, names)
    groups = bench.groups(number, names)
    names = bench.placed(number, np.zeros(evidence.symbols.size), _ALL_ROUNDS, groups)[0]
    made = row.copy()
    bench.write(made, number, names)
    return made


def exchanged(lookup: Lookup, evidence: Evidence, table: int) -> NDArray[np.uint16]:
    """One table of a lookup by which all reads with other symbols of the same size, in any order: all reads as well with them.

    Where lengths are not quite right their order tells nothing.
    """
    # Every worker would hold it, and few ever need it.
    from scipy.optimize import linear_sum_assignment

    bench, made = _Bench(evidence), lookup[table].copy()
    codes, names = bench.codes(made)
    sizes = evidence.symbols & 15
    said = np.where(sizes == sizes[names][:, None], bench.said(made), -_NEVER_SAID)
    for k, name in zip(*linear_sum_assignment(said, maximize=True), strict=True):
        first, length, _ = codes[k]
        made[first : first + (1 << (LONGEST - length))] = length << 8 | int(evidence.symbols[name])
    return made


def renamed(
    scan: UnknownScan, lookup: Lookup, evidence: Evidence, reading: Reading, table: int, seed: int
) -> NDArray[np.uint16]:
    """One table of a lookup with other symbols for codes behind the trusted ones, by which more of the scan is read in step."""
    bench = _Bench(evidence)
    codes, names = bench.codes(lookup[table])
    begins, ends = _holes(scan, reading)
    if not names.size or not begins.size or int((ends - begins).sum()) > _HOLES * scan.end:
        return lookup[table]
    first, length = (np.array([code[k] for code in codes], np.int64) for k in (0, 1))
    low, high = evidence.placed[first], evidence.placed[first + (1 << (LONGEST - length))]
    tried = lookup.copy()
    anneal_names(
        scan.data, begins, ends, tried, *scan.blocks.arrays, scan.usual, CHANGE, table, first, length, evidence.symbols, bench.said(lookup[table]),
        1.0 / (1.0 + high - low), names, _RENAMED, *_NAME_HEAT, seed,
    )  # fmt: skip
    return tried[table]


def _holes(scan: UnknownScan, reading: Reading) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Bits from and to which the scan is not read in step, each with some MCUs around it, from where an MCU begins."""
    size = scan.blocks.component.size
    units = len(reading.steady) // size
    out = ~reading.steady[: units * size].reshape(units, size).all(axis=1)
    near = np.convolve(out, np.ones(2 * _AROUND + 1), "same")[:units] > 0.5
    edges = np.flatnonzero(np.diff(np.concatenate([[0], near, [0]])))
    starts = np.append(reading.starts[: units * size : size, 0], scan.end)
    return starts[edges[::2]].copy(), starts[edges[1::2]].copy()


Groups = tuple[NDArray[np.int64], NDArray[np.int64]]


class _Bench:
    """Codes of one table behind its trusted ones, tried in lengths and symbols."""

    def __init__(self, evidence: Evidence) -> None:
        self.evidence, self.trust = evidence, evidence.trust
        self.known = np.array([symbol for _, _, symbol in evidence.trust.codes], np.int64)
        self.prior = np.ascontiguousarray(evidence.prior[:, evidence.symbols]) - _PER_CODE
        self.room = np.zeros((3, 256), np.int64)

    def codes(self, row: NDArray[np.uint16]) -> tuple[list[Code], NDArray[np.int64]]:
        """A table's codes behind the trusted ones, and their symbols as indices; none where a symbol is not one of those left."""
        index = {int(s): k for k, s in enumerate(self.evidence.symbols)}
        codes = [code for code in codes_of(row) if code[0] >= self.trust.begin]
        if any(symbol not in index for _, _, symbol in codes):
            return [], np.zeros(0, np.int64)
        return codes, np.array([index[symbol] for _, _, symbol in codes], np.int64)

    def said(self, row: NDArray[np.uint16]) -> NDArray[np.float64]:
        """(codes, symbols): what speaks for each symbol of each of a table's codes behind the trusted ones, in bits."""
        codes, e = self.codes(row)[0], self.evidence
        first, length = np.array([code[:2] for code in codes], np.int64).reshape(-1, 2).T
        low, high = e.placed[first], e.placed[first + (1 << (LONGEST - length))]
        which = length - self.trust.length - 1
        return e.summed[high, which].astype(np.float64) - e.summed[low, which] + self.prior[length]

    def numbers(self, row: NDArray[np.uint16]) -> NDArray[np.int64]:
        """How many codes of each length a table has (17), made to leave no room but for that of ones alone."""
        number, shortest = np.zeros(LONGEST + 1, np.int64), self.trust.length + 1
        for _, length, _ in self.trust.codes:
            number[length] += 1
        trusted = number.copy()
        for first, length, _ in codes_of(row):
            number[length] += first >= self.trust.begin and length >= shortest
        room = (1 << LONGEST) - self.trust.begin
        spare = room - 1 - int(sum(int(number[n]) << (LONGEST - n) for n in range(shortest, LONGEST + 1)))
        if not fills(number, self.trust.begin, shortest) and 0 <= spare < MOST_CODES - number.sum():
            number[LONGEST] += spare
        if not fills(number, self.trust.begin, shortest):
            # Half of what is left to each length.
            number = trusted
            for length in range(shortest, LONGEST + 1):
                number[length] = room >> (LONGEST - length) >> (length < LONGEST)
                room -= int(number[length]) << (LONGEST - length)
            number[LONGEST] -= 1
        return number

    def settle(
        self, number: NDArray[np.int64], price: NDArray[np.float64], per_misfit: float, steps: int, hot: float, seed: int,
        found: NDArray[np.int64], values: NDArray[np.float64],
    ) -> None:  # fmt: skip
        """See ``settle_lengths``."""
        e = self.evidence
        found[:] = 0
        settle_lengths(
            number, self.trust.begin, e.placed, e.often, self.known, e.symbols, e.summed, self.prior, price, per_misfit,
            steps, hot, seed, found, values,
        )  # fmt: skip

    def placed(
        self, number: NDArray[np.int64], price: NDArray[np.float64], rounds: int, groups: Groups | None = None
    ) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """The best symbols for codes of such lengths, each used once, as indices, and the prices that bring this about.

        ``groups`` of codes, their lengths and numbers, are those among which symbols surely ascend.
        """
        e, price = self.evidence, price.copy()
        shortest = self.trust.length + 1
        lengths, sizes = groups or (np.arange(shortest, LONGEST + 1), number[shortest:])
        chosen, total = np.zeros(MOST_CODES, np.int64), int(sizes.sum())
        best, fewest, paid = chosen[:total], total + 1, price
        for turn in range(rounds):
            place_symbols(
                lengths, sizes, groups is not None, self.trust.begin, e.placed, e.summed, self.prior, price, chosen
            )
            asked = np.bincount(chosen[:total], minlength=e.symbols.size)
            twice = int((asked > 1).sum())
            if twice < fewest:
                best, fewest, paid = chosen[:total].copy(), twice, price.copy()
            if twice == 0:
                break
            step = _PRICE * (1 - turn / rounds) + 0.1
            change = np.where(asked > 1, 1.0, np.where((asked == 0) & (price > 0), -1.0, 0.0))
            price = np.maximum(0.0, price + step * change)
        return self._once_each(best), paid

    def _once_each(self, names: NDArray[np.int64]) -> NDArray[np.int64]:
        """Symbols of which a later one that came before is one that none has."""
        likeliest = np.argsort(-self.prior.max(axis=0), kind="stable").tolist()
        free = [k for k in likeliest if k not in set(names.tolist())]
        found, seen = names.copy(), set[int]()
        for k, name in enumerate(names.tolist()):
            if name in seen and free:
                found[k] = free.pop(0)
            seen.add(name)
        return found

    def misfit(self, number: NDArray[np.int64], names: NDArray[np.int64]) -> int:
        """See the kernel of this name."""
        return int(misfit(number, self.evidence.often, self.known, self.evidence.symbols, names, self.room))

    def groups(self, number: NDArray[np.int64], names: NDArray[np.int64]) -> Groups:
        """Codes that have the same size before they are limited to 16 bits, as ``misfit`` left them."""
        sizes = np.sort(self.room[2, [*self.known.tolist(), *self.evidence.symbols[names].tolist()]])[self.known.size :]
        lengths = np.repeat(np.arange(LONGEST + 1), number)[self.known.size :]
        pairs, first = np.unique(np.stack([lengths, sizes]), axis=1, return_counts=True)
        return np.ascontiguousarray(pairs[0]), first.astype(np.int64)

    def write(self, row: NDArray[np.uint16], number: NDArray[np.int64], names: NDArray[np.int64]) -> None:
        """Puts codes into one table of a lookup."""
        at, k = self.trust.begin, 0
        row[at:] = 0
        for length in range(self.trust.length + 1, LONGEST + 1):
            for _ in range(int(number[length])):
                size = 1 << (LONGEST - length)
                row[at : at + size] = length << 8 | int(self.evidence.symbols[names[k]])
                at, k = at + size, k + 1
