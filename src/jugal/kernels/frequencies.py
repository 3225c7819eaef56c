"""Huffman tables sought by how often symbols may come: codes follow from that (ITU-T T.81 K.2), and what is read by them tells
how near they are.

Frequencies are log2 of how often a symbol comes, float64 (4, 256), DC tables before AC tables; below ``ABSENT`` it does not.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from jugal.kernels.optimal import LONGEST, fill_lookup, fit_code
from jugal.kernels.supposed import score_spans

ABSENT = -30.0
#: More often than this, log2, nothing comes.
_MOST = 40.0


@njit(cache=True, nogil=True)
def fit_lookup(frequencies, number, order, lookup):  # type: ignore[no-untyped-def]
    """The code of one table for ``frequencies`` (256), see ``fit_code`` and ``fill_lookup``."""
    counts = np.zeros(256, np.int64)
    for symbol in range(256):
        if frequencies[symbol] > ABSENT:
            counts[symbol] = np.int64(2.0 ** min(_MOST, max(0.0, frequencies[symbol])))
    fit_code(counts, number, order, np.zeros(256, np.int64))
    fill_lookup(number, order, lookup)


@njit(cache=True, nogil=True)
def score_mixtures(  # type: ignore[no-untyped-def]
    data, begins, ends, palette, shares, component, dc_table, ac_table, likely, change, scores
):  # fmt: skip
    """To float64 ``scores`` what spans speak for the tables that fit mixtures, see ``score_spans``.

    ``palette`` (kinds, 4, 256) holds how often symbols come in so many MCUs of each kind, float64 ``shares`` (n, kinds) of which
    kinds a picture is made.
    """
    lookup = np.zeros((4, 1 << LONGEST), np.uint16)
    number, order, sizes = np.zeros(LONGEST + 1, np.int64), np.zeros(256, np.int64), np.zeros(256, np.int64)
    counts = np.zeros(256, np.int64)
    for k in range(shares.shape[0]):
        for table in range(4):
            for symbol in range(256):
                often = 0.0
                for kind in range(shares.shape[1]):
                    often += shares[k, kind] * palette[kind, table, symbol]
                counts[symbol] = np.int64(max(1.0, often + 0.5)) if often > 0 else 0
            fit_code(counts, number, order, sizes)
            fill_lookup(number, order, lookup[table])
        scores[k] = score_spans(data, begins, ends, lookup, component, dc_table, ac_table, likely, change)


@njit(cache=True, nogil=True)
def anneal(  # type: ignore[no-untyped-def]
    data, begins, ends, frequencies, usual, pull, component, dc_table, ac_table, likely, change, chances, steps, hot, cold, stride,
    seed,
):  # fmt: skip
    """Changes ``frequencies`` to those of ``steps`` tried for whose tables spans of a scan speak most, and returns by how much.

    A step changes one or two symbols of a table by about ``stride``, has two change places, or makes all of it busier or flatter;
    symbols are drawn by ``chances`` (4, 256). It is taken if more speaks for it, else seldom, the more so the colder it is
    (bits, from ``hot`` to ``cold``). Frequencies that differ from ``usual`` ones cost ``pull`` times their square.
    """
    np.random.seed(seed)
    lookup = np.zeros((4, 1 << LONGEST), np.uint16)
    number, order = np.zeros((4, LONGEST + 1), np.int64), np.zeros((4, 256), np.int64)
    cost = 0.0
    for table in range(4):
        fit_lookup(frequencies[table], number[table], order[table], lookup[table])
        cost += _strain(frequencies[table], usual[table], pull)
    now = score_spans(data, begins, ends, lookup, component, dc_table, ac_table, likely, change) - cost
    best, kept = now, frequencies.copy()
    ladder = np.cumsum(chances.ravel())
    tried, new_number, new_order = lookup[0].copy(), number[0].copy(), order[0].copy()
    for step in range(steps):
        heat = hot * (cold / hot) ** (step / steps)
        table, symbol = _draw(ladder)
        old = frequencies[table].copy()
        _change(frequencies[table], table, symbol, ladder, stride)
        extra = _strain(frequencies[table], usual[table], pull) - _strain(old, usual[table], pull)
        fit_lookup(frequencies[table], new_number, new_order, tried)
        if np.array_equal(new_number, number[table]) and np.array_equal(new_order, order[table]):
            new = now - extra
            if new < now and np.random.random() >= np.exp((new - now) / heat):
                frequencies[table] = old
                continue
        else:
            was = lookup[table].copy()
            lookup[table] = tried
            new = score_spans(data, begins, ends, lookup, component, dc_table, ac_table, likely, change) - cost - extra
            if new < now and np.random.random() >= np.exp((new - now) / heat):
                lookup[table] = was
                frequencies[table] = old
                continue
            number[table], order[table] = new_number, new_order
        cost += extra
        now = new
        if now > best:
            best = now
            kept[:] = frequencies
    frequencies[:] = kept
    return best


@njit(cache=True, nogil=True)
def _strain(frequencies, usual, pull):  # type: ignore[no-untyped-def]
    total = 0.0
    for symbol in range(256):
        if frequencies[symbol] > ABSENT:
            total += pull * (frequencies[symbol] - usual[symbol]) ** 2
    return total


@njit(cache=True, nogil=True)
def _draw(ladder):  # type: ignore[no-untyped-def]
    drawn = np.searchsorted(ladder, np.random.random() * ladder[-1])
    return drawn // 256, drawn % 256


@njit(cache=True, nogil=True)
def _change(frequencies, table, symbol, ladder, stride):  # type: ignore[no-untyped-def]
    kind = np.random.random()
    if kind < 0.6:
        frequencies[symbol] += stride * np.random.standard_normal()
        other_table, other = _draw(ladder)
        if kind > 0.45 and other_table == table:
            frequencies[other] += stride * np.random.standard_normal()
    elif kind < 0.8:
        for _ in range(20):
            other_table, other = _draw(ladder)
            if other_table == table and other != symbol and abs(frequencies[symbol] - frequencies[other]) < 3:
                frequencies[symbol], frequencies[other] = frequencies[other], frequencies[symbol]
                break
    else:
        by_size, by_run = 0.5 * stride * np.random.standard_normal(), 0.3 * stride * np.random.standard_normal()
        middle = 4.0 * np.random.random()
        for k in range(256):
            if frequencies[k] > ABSENT:
                frequencies[k] += by_size * ((k & 15) - middle) + (by_run * ((k >> 4) - 1) if table > 1 else 0.0)
