"""Sequential JPEG scans read with Huffman tables that are only supposed, and how likely what is read is (ITU-T T.81 F.2.2).

A code of n bits that stands for a symbol of probability p where it comes speaks for the tables by ``n + log2 p`` bits: data that
are random, as seen by wrong tables they are, begin with it in one of ``2 ** n`` cases. Over the data that are read rightly this adds
up to what the context tells of the symbols, elsewhere it falls.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from jugal.kernels.compiling import inlined
from jugal.kernels.jpeg import _peek16

#: Where reading stands, as one row: bit, number of the block, block of the MCU, coefficient, class of the size before in
#: this block, bits of the block's AC coefficients so far, then per component the DC size and the business of its block before.
BIT, BLOCK, PLACE, INDEX, LAST, BITS, SIZE, BUSY, WIDTH = 0, 1, 2, 3, 4, 5, 6, 10, 14
#: Contexts of a symbol: by the coefficient it begins at, the class of the size before, and how busy the block before was.
INDEXES, LASTS, BUSIES = 16, 4, 8
CONTEXTS = INDEXES * LASTS * BUSIES
#: What a symbol that is not expected speaks against the tables at most, and what a code that cannot be speaks against them, in bits.
_UNLIKELY, _IMPOSSIBLE = -2.5, -8.0
#: DC sizes of 8 bits a sample (T.81 table F.1).
_LARGEST_DC = 11


@inlined
def _index_class(index):  # type: ignore[no-untyped-def]
    """In which of 15 classes an AC coefficient lies, by itself where symbols are common."""
    if index < 11:
        return index - 1
    if index < 19:
        return 10 if index < 14 else 11
    if index < 41:
        return 12 if index < 27 else 13
    return 14


@inlined
def business(bits):  # type: ignore[no-untyped-def]
    """In which of 8 classes a block lies, by the bits of its AC coefficients: about their logarithm."""
    if bits < 24:
        return 0 if bits < 4 else (1 if bits < 12 else 2)
    if bits < 68:
        return 3 if bits < 42 else 4
    return 5 if bits < 105 else (6 if bits < 160 else 7)


@inlined
def context(index, last, size, busy):  # type: ignore[no-untyped-def]
    """The context of the symbol that begins at coefficient ``index``, behind one of class ``last``, behind a block of DC ``size``."""
    return (size if index == 0 else _index_class(index) * LASTS + last) * BUSIES + busy


@inlined
def take(bit, index, last, bits, length, symbol):  # type: ignore[no-untyped-def]
    """Where reading stands behind a symbol of ``length`` bits and its magnitude: (bit, coefficient, class of its size, AC bits of
    the block); the coefficient is 64 where the block ends, more where there can be no such symbol."""
    size = symbol & 15
    if index == 0:
        return bit + length + symbol, 1 if symbol <= _LARGEST_DC else 99, 0, 0
    if size == 0 and symbol != 0xF0:
        return bit + length, 64, last, bits
    return bit + length + size, index + (symbol >> 4) + 1, min(size, 3), bits + 3 + size


@inlined
def weight(length, likely):  # type: ignore[no-untyped-def]
    """What a symbol speaks for the tables, in bits."""
    return max(length + likely, _UNLIKELY)


@njit(cache=True, nogil=True)
def read_scan(  # type: ignore[no-untyped-def]
    data, end, lookup, component, dc_table, ac_table, likely, longer, met, starts, gains, counts, chosen, sure,
):  # fmt: skip
    """Reads the blocks of a scan from bit 0 to ``end``; returns (blocks, codes met, the bit it came to).

    ``data`` is unstuffed uint8 with 16 bytes of padding; ``lookup`` uint16 (4, 65536), see ``fill_lookup``, DC tables before AC
    tables; int64 ``component``, ``dc_table`` and ``ac_table`` belong to the blocks of an MCU; float32 ``likely`` (4, CONTEXTS, 256)
    holds log2 of the probability of a symbol. After an impossible code reading goes on with the next block.
    To int32 ``met`` (n, WIDTH + 3) go the codes that are longer than ``longer`` of their table, or none: where, the table, the
    16 bits they begin, and how many bits what was read before them speaks for being in step. To int32 ``starts`` (n, WIDTH) goes
    where each block begins, to float32 ``gains`` what it speaks for the tables. Of blocks that are ``chosen`` (bool) symbols
    are counted in int64 ``counts`` (4, CONTEXTS, 256), up to the first of each that is not ``sure`` (bool, (4, 256)): where those
    behind it belong is not sure either. What is empty is not written; ``gains`` sets how many blocks are read.
    """
    sizes, busies = np.zeros(4, np.int64), np.zeros(4, np.int64)
    bit, place, found, trail, block = 0, 0, 0, 20.0, 0
    while bit < end and block < gains.size:
        c = component[place]
        if starts.shape[0]:
            _note(starts[block], bit, block, place, 0, 0, 0, sizes, busies)
        gain, index, last, spent = 0.0, 0, 0, 0
        counting = chosen.size > 0 and chosen[block]
        while index < 64 and (bit < end or index == 0):
            table = ac_table[place] if index else dc_table[place]
            bits = _peek16(data, bit)
            entry = np.int64(lookup[table, bits])
            if (entry == 0 or entry >> 8 > longer[table]) and found < met.shape[0]:
                _note(met[found], bit, block, place, index, last, spent, sizes, busies)
                met[found, WIDTH] = table
                met[found, WIDTH + 1] = bits
                met[found, WIDTH + 2] = np.int32(trail)
                found += 1
            if entry == 0:
                bit += 1
                index = 99
                break
            where = context(index, last, sizes[c], busies[c])
            step = weight(entry >> 8, likely[table, where, entry & 255])
            gain += step
            trail = min(60.0, max(0.0, trail + step))
            if counting:
                counts[table, where, entry & 255] += 1
                counting = sure[table, entry & 255]
            if index == 0:
                sizes[c] = entry & 15
            bit, index, last, spent = take(bit, index, last, spent, entry >> 8, entry & 255)
        busies[c] = business(spent)
        if index > 64:
            gain += _IMPOSSIBLE
            trail = 0.0
        gains[block] = gain
        block += 1
        place = place + 1 if place + 1 < component.size else 0
    return block, found, bit


@inlined
def _note(row, bit, block, place, index, last, bits, sizes, busies):  # type: ignore[no-untyped-def]
    row[BIT], row[BLOCK], row[PLACE], row[INDEX], row[LAST], row[BITS] = bit, block, place, index, last, bits
    for k in range(4):
        row[SIZE + k], row[BUSY + k] = sizes[k], busies[k]


@njit(cache=True, nogil=True)
def score_spans(  # type: ignore[no-untyped-def]
    data, begins, ends, lookup, component, dc_table, ac_table, likely, change
):  # fmt: skip
    """What spans of a scan speak for the tables where they are read in step, in bits; ``change`` is what falling into step costs.

    See ``read_scan``; each span is read as if an MCU began with its first bit.
    """
    total = 0.0
    sizes, busies = np.zeros(4, np.int64), np.zeros(4, np.int64)
    for k in range(begins.size):
        sizes[:], busies[:] = 0, 0
        bit, place, inside, outside = begins[k], 0, 0.0, 0.0
        while bit < ends[k]:
            c = component[place]
            gain, index, last, spent = 0.0, 0, 0, 0
            while index < 64 and (bit < ends[k] or index == 0):
                table = ac_table[place] if index else dc_table[place]
                entry = np.int64(lookup[table, _peek16(data, bit)])
                if entry == 0:
                    bit += 1
                    index = 99
                    break
                gain += weight(entry >> 8, likely[table, context(index, last, sizes[c], busies[c]), entry & 255])
                if index == 0:
                    sizes[c] = entry & 15
                bit, index, last, spent = take(bit, index, last, spent, entry >> 8, entry & 255)
            busies[c] = business(spent)
            if index > 64:
                gain += _IMPOSSIBLE
            inside, outside = max(inside, outside - change) + gain, max(outside, inside)
            place = place + 1 if place + 1 < component.size else 0
        total += max(inside, outside)
    return total


@njit(cache=True, nogil=True)
def in_step(gains, change, chosen):  # type: ignore[no-untyped-def]
    """Which blocks are read in step, most likely, to bool ``chosen``: the path of most gain through those that are and those that
    are not, of which each change costs ``change``."""
    inside, outside = 0.0, 0.0
    kept, came = np.zeros(gains.size, np.bool_), np.zeros(gains.size, np.bool_)
    for k in range(gains.size):
        kept[k] = inside >= outside - change
        came[k] = inside > outside
        inside, outside = max(inside, outside - change) + gains[k], max(outside, inside)
    state = inside > outside
    for k in range(gains.size - 1, -1, -1):
        chosen[k] = state
        state = kept[k] if state else came[k]
