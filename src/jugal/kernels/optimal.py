"""Huffman codes as an encoder fits them to how often its symbols come (ITU-T T.81 K.2)."""

from __future__ import annotations

import numpy as np
from numba import njit

#: Bits that a code may have.
LONGEST = 16


@njit(cache=True, nogil=True)
def fit_code(counts, number, order, sizes):  # type: ignore[no-untyped-def]
    """The code that K.2 makes for symbols that come ``counts`` (int64, 256 at most) times; returns how many symbols have one.

    To int64 ``number`` (17) goes how many codes have each length, to ``order`` (256) the symbols in the order of their codes,
    to ``sizes`` (256) the length that each symbol's code has before it is limited to 16 bits, 0 for none. Of symbols that come
    as often as each other, the later one is joined first, as the procedure says; the code of ones alone belongs to none.
    """
    symbols, weights = np.empty(counts.size + 1, np.int64), np.empty(counts.size + 1, np.int64)
    live = 0
    for symbol in range(counts.size):
        if counts[symbol] > 0:
            symbols[live], weights[live] = symbol, counts[symbol]
            live += 1
    symbols[live], weights[live] = counts.size, 1
    coded = live
    live += 1
    size, other = np.zeros(counts.size + 1, np.int64), np.full(counts.size + 1, -1, np.int64)
    while live > 1:
        first = _rarest(symbols, weights, live, -1)
        second = _rarest(symbols, weights, live, first)
        joined = symbols[first]
        size[joined] += 1
        while other[joined] >= 0:
            joined = other[joined]
            size[joined] += 1
        other[joined] = symbols[second]
        joined = symbols[second]
        size[joined] += 1
        while other[joined] >= 0:
            joined = other[joined]
            size[joined] += 1
        weights[first] += weights[second]
        live -= 1
        weights[second], symbols[second] = weights[live], symbols[live]
    most = max(size.max(), LONGEST)
    lengths = np.zeros(most + 1, np.int64)
    for symbol in range(counts.size + 1):
        if size[symbol]:
            lengths[size[symbol]] += 1
    for length in range(most, LONGEST, -1):
        while lengths[length] > 0:
            shorter = length - 2
            while lengths[shorter] == 0:
                shorter -= 1
            lengths[length] -= 2
            lengths[length - 1] += 1
            lengths[shorter + 1] += 2
            lengths[shorter] -= 1
    last = LONGEST
    while last and lengths[last] == 0:
        last -= 1
    lengths[last] -= 1
    number[:] = lengths[: LONGEST + 1]
    placed = 0
    for length in range(1, most + 1):
        for symbol in range(counts.size):
            if size[symbol] == length:
                order[placed] = symbol
                placed += 1
    sizes[: counts.size] = size[: counts.size]
    return coded


@njit(cache=True, nogil=True)
def _rarest(symbols, weights, live, but):  # type: ignore[no-untyped-def]
    found = -1
    for k in range(live):
        if k != but and (
            found < 0 or weights[k] < weights[found] or (weights[k] == weights[found] and symbols[k] > symbols[found])
        ):
            found = k
    return found


@njit(cache=True, nogil=True)
def fill_lookup(number, order, lookup):  # type: ignore[no-untyped-def]
    """Fills uint16 ``lookup`` (65536) by the 16 bits that a code begins: ``length << 8 | symbol``, 0 where none begins."""
    lookup[:] = 0
    first, placed = 0, 0
    for length in range(1, LONGEST + 1):
        span = 1 << (LONGEST - length)
        for _ in range(number[length]):
            if first + span > lookup.size:
                return
            lookup[first : first + span] = (length << 8) | order[placed]
            first += span
            placed += 1
