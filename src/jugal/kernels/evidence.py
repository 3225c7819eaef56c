"""What places at which a code came say of its length and symbol: how well reading goes on behind each (ITU-T T.81 F.2.2)."""

from __future__ import annotations

import numpy as np
from numba import njit

from jugal.kernels.compiling import bare
from jugal.kernels.jpeg import _peek16
from jugal.kernels.optimal import LONGEST
from jugal.kernels.supposed import (
    BIT,
    BITS,
    BUSY,
    INDEX,
    LAST,
    PLACE,
    SIZE,
    WIDTH,
    business,
    context,
    take,
    weight,
)  # fmt: skip

#: Symbols that are read behind a place, and how far what they speak may fall below the best before (bits).
_AHEAD, _HOPELESS = 60, 14.0
#: What a symbol that is not expected speaks against being the one, at most, in bits.
_STRANGE = -9.0


@njit(cache=True, nogil=True)
def gather(  # type: ignore[no-untyped-def]
    data, end, lookup, component, dc_table, ac_table, likely, usual, met, shortest, symbols, evidence
):  # fmt: skip
    """What speaks for each length from ``shortest`` on and each of int64 ``symbols`` at places ``met`` (see ``read_scan``), in bits.

    To float32 ``evidence`` (places, lengths, symbols) goes how likely the symbol is there by float32 ``usual`` (4, CONTEXTS, 256), and
    the best that reading behind it by ``lookup`` and ``likely`` comes to.
    """
    at = np.zeros(WIDTH, np.int64)
    # Codes with as many bits in all, the same run and a size of the same class lead to the same.
    known = np.empty((32, 16, 4))
    for k in range(met.shape[0]):
        row = met[k]
        place, index = row[PLACE], row[INDEX]
        c = component[place]
        table = ac_table[place] if index else dc_table[place]
        where = context(index, row[LAST], row[SIZE + c], row[BUSY + c])
        known[:] = -1.0
        for length in range(shortest, LONGEST + 1):
            for j in range(symbols.size):
                size, run, kind = symbols[j] & 15, symbols[j] >> 4, min(symbols[j] & 15, 3)
                found = known[length + size, run, kind] if index and size else -1.0
                if found < 0.0:
                    at[:] = row[:WIDTH]
                    found = _ahead(
                        data, end, lookup, component, dc_table, ac_table, likely, at, length, symbols[j]
                    )  # fmt: skip
                    known[length + size, run, kind] = found
                evidence[k, length - shortest, j] = max(np.float64(usual[table, where, symbols[j]]), _STRANGE) + found


@bare
def _ahead(data, end, lookup, component, dc_table, ac_table, likely, at, length, symbol):  # type: ignore[no-untyped-def]
    """The best that is read behind a code of ``length`` bits for ``symbol`` where row ``at`` stands, in bits; moves the row."""
    place, gain, best = at[PLACE], 0.0, 0.0
    c = component[place]
    if at[INDEX] == 0:
        at[SIZE + c] = symbol & 15
    bit, index, last, spent = take(at[BIT], at[INDEX], at[LAST], at[BITS], length, symbol)
    for _ in range(_AHEAD):
        if index == 64:
            at[BUSY + c] = business(spent)
            place = place + 1 if place + 1 < component.size else 0
            c = component[place]
            index, last, spent = 0, 0, 0
        if index > 64 or bit >= end or gain < best - _HOPELESS:
            break
        table = ac_table[place] if index else dc_table[place]
        entry = np.int64(lookup[table, _peek16(data, bit)])
        if entry == 0:
            break
        step = weight(entry >> 8, likely[table, context(index, last, at[SIZE + c], at[BUSY + c]), entry & 255])
        if index == 0:
            at[SIZE + c] = entry & 15
        bit, index, last, spent = take(bit, index, last, spent, entry >> 8, entry & 255)
        if index <= 64:
            gain += step
            best = max(best, gain)
    return best
