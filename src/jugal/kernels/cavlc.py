"""Slice data of AVC in CAVLC (ISO/IEC 14496-10 9.2): intra slices of frames followed to their last bit."""

from __future__ import annotations

import json
from functools import cache
from importlib.resources import files

import numpy as np
from numba import njit
from numpy.typing import NDArray

_SMALL, _WHOLE, _RAW = 1, 2, 3
_FAST = 16
# Rows of the code tables: coefficients by context, chroma DC; zeros of a block, of chroma DC.
_CHROMA_TOKENS, _CHROMA_ZEROS = 4, 15
# Coefficients of a block by place: 16 of luma, 4 of each chroma plane.
_BLOCKS = 24
_LARGEST_DELTA = 26


@cache
def tables() -> tuple[NDArray[np.int64], ...]:
    """Codes of coefficients, zeros and runs (tables 9-5, 9-7 to 9-10) and intra patterns (9-4).

    A row of codes has an entry for any 16 bits: value << 8 | length, 0 where they begin with no code.
    """
    loaded = json.loads(files("jugal.kernels").joinpath("cavlc_tables.json").read_text())

    def looked_up(name: str) -> NDArray[np.int64]:
        rows = list(zip(loaded[f"{name}_lengths"], loaded[f"{name}_codes"], strict=True))
        out = np.zeros((len(rows), 1 << _FAST), np.int64)
        for row, (lengths, codes) in enumerate(rows):
            for value, (length, code) in enumerate(zip(lengths, codes, strict=True)):
                if length:
                    first = code << (_FAST - length)
                    out[row, first : first + (1 << (_FAST - length))] = value << 8 | length
        return out

    patterns = np.array(loaded["intra_patterns"], np.int64)
    return looked_up("token"), looked_up("zeros"), looked_up("run"), patterns


@njit(cache=True, nogil=True)
def _peek(data, bit, count):  # type: ignore[no-untyped-def]
    """``count`` bits from ``bit`` on, 25 at most; zeros behind the end."""
    at = bit >> 3
    value = np.int64(0)
    for k in range(4):
        value = value << 8 | (np.int64(data[at + k]) if at + k < data.size else 0)
    return (value >> (32 - count - (bit & 7))) & ((1 << count) - 1)


@njit(cache=True, nogil=True)
def _number(data, bit):  # type: ignore[no-untyped-def]
    """(value, next bit) of an Exp-Golomb code (9.1) of at most 12 leading zeros; -1 where there is none."""
    zeros = 0
    while zeros <= 12 and not _peek(data, bit + zeros, 1):
        zeros += 1
    if zeros > 12:
        return -1, bit
    return _peek(data, bit + zeros, zeros + 1) - 1, bit + 2 * zeros + 1


@njit(cache=True, nogil=True)
def _block(data, bit, context, length, tokens, zeros, runs):  # type: ignore[no-untyped-def]
    """(coefficients, next bit) of a residual block (7.3.5.3.2) of ``length`` places; -1 where it is none.

    ``context`` is the neighbours' number of coefficients, -1 for chroma DC.
    """
    if context < 0:
        row = _CHROMA_TOKENS
    elif context < 2:
        row = 0
    elif context < 4:
        row = 1
    else:
        row = 2 if context < 8 else 3
    token = tokens[row, _peek(data, bit, 16)]
    if token == 0:
        return -1, bit
    bit += token & 255
    total, ones = token >> 10, token >> 8 & 3
    if total > length:
        return -1, bit
    if total == 0:
        return 0, bit
    size = 1 if total > 10 and ones < 3 else 0
    bit += ones
    for k in range(ones, total):
        prefix = 0
        while not _peek(data, bit, 1):
            prefix += 1
            bit += 1
            if prefix > 15:
                return -1, bit
        bit += 1
        tail = size
        if prefix == 14 and size == 0:
            tail = 4
        elif prefix == 15:
            tail = 12
        code = (prefix << size) + _peek(data, bit, tail)
        bit += tail
        if prefix == 15 and size == 0:
            code += 15
        if k == ones and ones < 3:
            code += 2
        level = (code + 2) >> 1
        if size == 0:
            size = 1
        if level > 3 << (size - 1) and size < 6:
            size += 1
    left = 0
    if total < length:
        row = _CHROMA_ZEROS + total - 1 if length == 4 else total - 1
        found = zeros[row, _peek(data, bit, 16)]
        if found == 0:
            return -1, bit
        bit += found & 255
        left = found >> 8
        if left > length - total:
            return -1, bit
    for _ in range(total - 1):
        if left <= 0:
            break
        found = runs[min(left, 7) - 1, _peek(data, bit, 16)]
        if found == 0 or found >> 8 > left:
            return -1, bit
        bit += found & 255
        left -= found >> 8
    return total, bit


@njit(cache=True, nogil=True)
def _context(counts, left, above, is_left, is_above, at, side):  # type: ignore[no-untyped-def]
    """The neighbours' number of coefficients (9.2.1) for the block at ``at`` of a plane ``side`` blocks wide.

    Places count from the plane's first block, which is what ``counts`` and its neighbours begin with.
    """
    column, row = at % side, at // side
    has_left, has_above = column > 0 or is_left, row > 0 or is_above
    one = counts[at - 1] if column else left[at + side - 1]
    other = counts[at - side] if row else above[at + side * (side - 1)]
    if has_left and has_above:
        return (one + other + 1) >> 1
    if has_left:
        return one
    return other if has_above else 0


@njit(cache=True, nogil=True)
def read_intra_slice(data, start, end_bit, width, eight, most, tokens, zeros, runs, patterns):  # type: ignore[no-untyped-def]
    """Follows the intra slice of a frame (4:2:0) whose macroblocks begin with bit ``start`` of ``data``.

    ``end_bit`` is the place of the last bit set, before which the slice must end; ``width`` is the picture's in
    macroblocks, ``eight`` says that 8x8 transforms are allowed, ``most`` bounds the macroblocks. Returns how many there
    are; 0 where the data do not end where they must.
    """
    # A column each, of the row above or, right of where we are, of the row before it; the last is the one left of us.
    counts = np.zeros((width + 1, _BLOCKS), np.int64)
    there = np.zeros(width + 1, np.bool_)
    own = np.zeros(_BLOCKS, np.int64)
    bit, done = start, 0
    while done < most:
        x = done % width
        if x == 0:
            there[width] = False
        is_left, is_above = there[width], there[x]
        own[:] = 0
        code, bit = _number(data, bit)
        if code < 0 or code > 25:
            return 0
        kind, pattern, tint, transform = _SMALL, 0, 0, 0
        if code == 25:
            bit = (bit + 7 & ~7) + 8 * 384
            own[:] = 16
            kind = _RAW
        elif code:
            kind = _WHOLE
            pattern, tint = 15 if code > 12 else 0, (code - 1) // 4 % 3
        if kind == _SMALL:
            if eight:
                transform = _peek(data, bit, 1)
                bit += 1
            for _ in range(4 if transform else 16):
                bit += 1 if _peek(data, bit, 1) else 4
        if kind != _RAW:
            mode, bit = _number(data, bit)
            if mode < 0 or mode > 3:
                return 0
            if kind == _SMALL:
                code, bit = _number(data, bit)
                if code < 0 or code > 47:
                    return 0
                pattern, tint = patterns[code] & 15, patterns[code] >> 4
        if kind == _WHOLE or (kind == _SMALL and (pattern or tint)):
            delta, bit = _number(data, bit)
            if delta < 0 or (delta + 1) // 2 > _LARGEST_DELTA:
                return 0
            if kind == _WHOLE:
                near = _context(own, counts[width], counts[x], is_left, is_above, 0, 4)
                count, bit = _block(data, bit, near, 16, tokens, zeros, runs)
                if count < 0:
                    return 0
            for part in range(4):
                if not pattern >> part & 1:
                    continue
                for k in range(4):
                    at = 4 * (2 * (part >> 1) + (k >> 1)) + 2 * (part & 1) + (k & 1)
                    near = _context(own, counts[width], counts[x], is_left, is_above, at, 4)
                    count, bit = _block(data, bit, near, 15 if kind == _WHOLE else 16, tokens, zeros, runs)
                    if count < 0:
                        return 0
                    own[at] = count
            if tint:
                for _ in range(2):
                    count, bit = _block(data, bit, -1, 4, tokens, zeros, runs)
                    if count < 0:
                        return 0
            if tint == 2:
                for plane in range(2):
                    first = 16 + 4 * plane
                    for at in range(4):
                        near = _context(own[first:], counts[width, first:], counts[x, first:], is_left, is_above, at, 2)
                        count, bit = _block(data, bit, near, 15, tokens, zeros, runs)
                        if count < 0:
                            return 0
                        own[first + at] = count
        for column in (x, width):
            counts[column] = own
            there[column] = True
        done += 1
        if bit >= end_bit:
            return done if bit == end_bit else 0
    return 0
