"""Symbols of rare codes changed together until the places where reading falls out of step with the data are read through."""

from __future__ import annotations

import numpy as np
from numba import njit

from jugal.kernels.optimal import LONGEST
from jugal.kernels.supposed import score_spans

#: From which length on symbols need not ascend, and what two codes cost whose symbols do not, there and elsewhere, in bits.
_LIMITED, _SELDOM, _NEVER = 15, 1.0, 25.0


@njit(cache=True, nogil=True)
def anneal_names(  # type: ignore[no-untyped-def]
    data, begins, ends, lookup, component, dc_table, ac_table, likely, change, table, first, length, symbols, spoken, chances, names,
    steps, hot, cold, seed,
):  # fmt: skip
    """Changes ``names`` of codes to those for which most speaks, of ``steps`` tried, and writes them to ``lookup``; returns how much.

    The codes of a ``table`` begin with int64 ``first`` 16 bits and have a ``length``, ascending; their names are indices of int64
    ``symbols``, of which each is used once. What speaks for them is what spans that begin with MCUs do (see ``score_spans``), and
    float64 ``spoken`` (codes, symbols), which is what is known of other places; codes are drawn by ``chances``. A change is taken
    if more speaks for it, else seldom, the more so the colder it is (bits, from ``hot`` to ``cold``).
    """
    np.random.seed(seed)
    count = symbols.size
    used = np.full(count, -1, np.int64)
    outside = 0.0
    for k in range(names.size):
        used[names[k]] = k
        outside += spoken[k, names[k]]
        _write(lookup[table], first[k], length[k], symbols[names[k]])
    ladder = np.cumsum(chances)
    falls = _falls(length, symbols, names)
    now = score_spans(data, begins, ends, lookup, component, dc_table, ac_table, likely, change) + outside - falls
    best, kept = now, names.copy()
    for step in range(steps):
        heat = hot * (cold / hot) ** (step / steps)
        k = min(names.size - 1, np.searchsorted(ladder, np.random.random() * ladder[-1]))
        old, new = names[k], np.random.randint(count)
        if new == old or (np.random.random() < 0.5 and (symbols[new] ^ symbols[old]) & 15):
            continue
        other = used[new]
        extra = spoken[k, new] - spoken[k, old]
        if other >= 0:
            extra += spoken[other, old] - spoken[other, new]
        _rename(lookup[table], first, length, symbols, names, used, k, new)
        falls = _falls(length, symbols, names)
        tried = outside + extra - falls
        tried += score_spans(data, begins, ends, lookup, component, dc_table, ac_table, likely, change)
        if tried >= now or np.random.random() < np.exp((tried - now) / heat):
            now = tried
            outside += extra
            if now > best:
                best = now
                kept[:] = names
        else:
            _rename(lookup[table], first, length, symbols, names, used, k, old)
    names[:] = kept
    for k in range(names.size):
        _write(lookup[table], first[k], length[k], symbols[names[k]])
    return best


@njit(cache=True, nogil=True)
def _rename(row, first, length, symbols, names, used, k, new):  # type: ignore[no-untyped-def]
    """Gives code ``k`` a new name, and the one that had it the old one."""
    old, other = names[k], used[new]
    names[k], used[new], used[old] = new, k, other
    _write(row, first[k], length[k], symbols[new])
    if other >= 0:
        names[other] = old
        _write(row, first[other], length[other], symbols[old])


@njit(cache=True, nogil=True)
def _write(row, first, length, symbol):  # type: ignore[no-untyped-def]
    row[first : first + (1 << (LONGEST - length))] = (length << 8) | symbol


@njit(cache=True, nogil=True)
def _falls(length, symbols, names):  # type: ignore[no-untyped-def]
    """What codes cost whose symbols do not ascend, in bits."""
    total = 0.0
    for k in range(1, names.size):
        if length[k] == length[k - 1] and symbols[names[k]] < symbols[names[k - 1]]:
            total += _SELDOM if length[k] >= _LIMITED else _NEVER
    return total
