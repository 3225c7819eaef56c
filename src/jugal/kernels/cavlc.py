"""Slice data of AVC in CAVLC (ISO/IEC 14496-10 9.2), followed to their last bit."""

from __future__ import annotations

import json
from functools import cache
from importlib.resources import files
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jugal.kernels.compiling import bare
from jugal.kernels.macroblocks import (
    B_FIRST,
    B_QUARTER_LISTS,
    B_QUARTER_SHAPES,
    B_SECOND,
    B_SHAPES,
    BREAKS,
    ENDS_EARLY,
    ENDS_LATE,
    HALVES_ACROSS,
    INTER,
    ONE,
    P_QUARTER_SHAPES,
    QUARTERS,
    RAW,
    SMALL,
    WHOLE,
    WHOLE_SLICE,
    Form,
    I,
    P,
)

_FAST = 16
# Rows of the code tables: coefficients by context, chroma DC; zeros of a block, of chroma DC.
_CHROMA_TOKENS, _CHROMA_ZEROS = 4, 15
# Coefficients of a block by place: 16 of luma, 4 of each chroma plane.
_BLOCKS = 24
_LARGEST_DELTA = 32
#: Zeros before a level: more than these say levels beyond 14 bits.
_LONGEST_PREFIX = 22
#: Types of P slices (table 7-13) by how they part a macroblock; from this number on they are intra, as in B slices.
_P_SHAPES = np.array((0, 1, 2, 3, 3), np.int64)
_WITHOUT_REFERENCES = 4
_INTRA_FROM = np.array((5, 23, 0), np.int64)


class Figures(NamedTuple):
    """Codes of coefficients, zeros and runs (tables 9-5, 9-7 to 9-10), patterns of intra and of other macroblocks (9-4).

    A row of codes has an entry for any 16 bits: value << 8 | length, 0 where they begin with no code.
    """

    tokens: NDArray[np.int64]
    zeros: NDArray[np.int64]
    runs: NDArray[np.int64]
    intra_patterns: NDArray[np.int64]
    inter_patterns: NDArray[np.int64]


@cache
def figures() -> Figures:
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

    patterns = (np.array(loaded[f"{kind}_patterns"], np.int64) for kind in ("intra", "inter"))
    return Figures(looked_up("token"), looked_up("zeros"), looked_up("run"), *patterns)


@bare
def _peek(data, bit, count):  # type: ignore[no-untyped-def]
    """``count`` bits from ``bit`` on, 25 at most; zeros behind the end."""
    at = bit >> 3
    value = np.int64(0)
    for k in range(4):
        value = value << 8 | (np.int64(data[at + k]) if at + k < data.size else 0)
    return (value >> (32 - count - (bit & 7))) & ((1 << count) - 1)


@bare
def _number(data, bit):  # type: ignore[no-untyped-def]
    """(value, next bit) of an Exp-Golomb code (9.1) of at most 16 leading zeros; -1 where there is none."""
    zeros = 0
    while zeros <= 16 and not _peek(data, bit + zeros, 1):
        zeros += 1
    if zeros > 16:
        return -1, bit
    return _peek(data, bit + zeros, zeros + 1) - 1, bit + 2 * zeros + 1


@bare
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
            if prefix > _LONGEST_PREFIX:
                return -1, bit
        bit += 1
        tail = size
        if prefix == 14 and size == 0:
            tail = 4
        elif prefix >= 15:
            tail = prefix - 3
        code = (min(prefix, 15) << size) + _peek(data, bit, tail)
        bit += tail
        if prefix >= 15 and size == 0:
            code += 15
        if prefix > 15:
            code += (1 << (prefix - 3)) - 4096
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


@bare
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


@bare
def _motion(data, bit, form, shape, lists, quarters, with_references):  # type: ignore[no-untyped-def]
    """The bit behind a macroblock's references and vectors (7.3.5.1, 7.3.5.2); -1 where there are none such.

    ``lists`` are those that each quarter uses, ``quarters`` their shapes.
    """
    for which in range(1 if form.kind == P else 2):
        count = form.list_1 if which else form.list_0
        if count < 2 or not with_references:
            continue
        for part in range(4):
            if _is_inner(shape, part) or not lists[part] >> which & 1:
                continue
            if count == 2:
                bit += 1
                continue
            number, bit = _number(data, bit)
            if number < 0 or number >= count:
                return -1
    for which in range(1 if form.kind == P else 2):
        for part in range(4):
            if _is_inner(shape, part) or not lists[part] >> which & 1:
                continue
            vectors = 1
            if shape == QUARTERS:
                vectors = (2 if quarters[part] & 2 else 1) * (2 if quarters[part] & 1 else 1)
            for _ in range(2 * vectors):
                number, bit = _number(data, bit)
                if number < 0:
                    return -1
    return bit


@bare
def _is_inner(shape, part):  # type: ignore[no-untyped-def]
    """Quarter ``part`` is not the first of a part of ``shape``."""
    return (part & 1 and not shape & 2) or (part & 2 and not shape & 1)


def read_slice(data: NDArray[np.uint8], start: int, end_bit: int, form: Form, figures: Figures) -> tuple[int, int, int]:
    """Follows the slice of ``form`` whose macroblocks begin with bit ``start`` of ``data``, a unit without escapes; as
    ``cabac.read_slice``. Chroma is 4:2:0."""
    counts, own, parts = (np.zeros(shape, np.int64) for shape in ((form.width + 1, _BLOCKS), _BLOCKS, (2, 4)))
    there = np.zeros(form.width + 1, np.bool_)
    found: tuple[int, int, int] = _read(data, start, end_bit, form, figures, counts, there, own, parts)
    return found


@bare
def _read(data, start, end_bit, form, figures, counts, there, own, parts):  # type: ignore[no-untyped-def]
    """``read_slice`` with room to work in: of ``counts`` and ``there`` a column each of the row above or, right of where
    we are, of the row before it; the last is the one left of us."""
    width = form.width
    lists, quarters = parts[0], parts[1]
    tokens, zeros, runs = figures.tokens, figures.zeros, figures.runs
    bit, done = start, 0
    to_skip = 0
    run_read = form.kind == I
    while form.first + done < form.most:
        x = (form.first + done) % width
        if x == 0:
            there[width] = False
        own[:] = 0
        if not run_read:
            to_skip, bit = _number(data, bit)
            if to_skip < 0 or to_skip > form.most:
                return done, bit, BREAKS
            run_read = True
        skipped = to_skip > 0
        if skipped:
            to_skip -= 1
        else:
            is_left, is_above = there[width], there[x]
            code, bit = _number(data, bit)
            from_intra = _INTRA_FROM[form.kind]
            if code < 0 or code > from_intra + 25:
                return done, bit, BREAKS
            kind, pattern, tint, transform = INTER, 0, 0, 0
            fine_parts = False
            if code >= from_intra:
                code -= from_intra
                kind = RAW if code == 25 else WHOLE if code else SMALL
                if kind == WHOLE:
                    pattern, tint = 15 if code > 12 else 0, (code - 1) // 4 % 3
            elif form.kind == P or code:
                shape = _P_SHAPES[code] if form.kind == P else B_SHAPES[code - 1]
                lists[:] = 1
                if form.kind != P:
                    for k in range(4):
                        second = shape != ONE and (k & 1 if shape == HALVES_ACROSS else k >> 1)
                        lists[k] = B_SECOND[code - 1] if second else B_FIRST[code - 1]
                if shape == QUARTERS:
                    for k in range(4):
                        quarter, bit = _number(data, bit)
                        if quarter < 0 or quarter > (3 if form.kind == P else 12):
                            return done, bit, BREAKS
                        if form.kind == P:
                            quarters[k] = P_QUARTER_SHAPES[quarter]
                        else:
                            quarters[k], lists[k] = B_QUARTER_SHAPES[quarter], B_QUARTER_LISTS[quarter]
                            fine_parts |= quarter == 0 and not form.direct_eight
                        fine_parts |= quarters[k] != ONE
                with_references = form.kind != P or code != _WITHOUT_REFERENCES
                after = _motion(data, bit, form, shape, lists, quarters, with_references)
                if after < 0:
                    return done, bit, BREAKS
                bit = after
            else:
                fine_parts = not form.direct_eight
            if kind == RAW:
                bit = (bit + 7 & ~7) + form.raw_bits
                own[:] = 16
            else:
                if kind == SMALL:
                    if form.eight:
                        transform = _peek(data, bit, 1)
                        bit += 1
                    for _ in range(4 if transform else 16):
                        bit += 1 if _peek(data, bit, 1) else 4
                if kind != INTER:
                    mode, bit = _number(data, bit)
                    if mode < 0 or mode > 3:
                        return done, bit, BREAKS
                if kind != WHOLE:
                    code, bit = _number(data, bit)
                    if code < 0 or code > 47:
                        return done, bit, BREAKS
                    both = figures.inter_patterns[code] if kind == INTER else figures.intra_patterns[code]
                    pattern, tint = both & 15, both >> 4
                if kind == INTER and pattern and form.eight and not fine_parts:
                    bit += 1
                if kind == WHOLE or pattern or tint:
                    delta, bit = _number(data, bit)
                    if delta < 0 or (delta + 1) // 2 > _LARGEST_DELTA:
                        return done, bit, BREAKS
                if kind == WHOLE:
                    near = _context(own, counts[width], counts[x], is_left, is_above, 0, 4)
                    count, bit = _block(data, bit, near, 16, tokens, zeros, runs)
                    if count < 0:
                        return done, bit, BREAKS
                for part in range(4):
                    if not pattern >> part & 1:
                        continue
                    for k in range(4):
                        at = 4 * (2 * (part >> 1) + (k >> 1)) + 2 * (part & 1) + (k & 1)
                        near = _context(own, counts[width], counts[x], is_left, is_above, at, 4)
                        count, bit = _block(data, bit, near, 15 if kind == WHOLE else 16, tokens, zeros, runs)
                        if count < 0:
                            return done, bit, BREAKS
                        own[at] = count
                if tint:
                    for _ in range(2):
                        count, bit = _block(data, bit, -1, 4, tokens, zeros, runs)
                        if count < 0:
                            return done, bit, BREAKS
                if tint == 2:
                    for plane in range(2):
                        first = 16 + 4 * plane
                        for at in range(4):
                            near = _context(
                                own[first:], counts[width, first:], counts[x, first:], is_left, is_above, at, 2
                            )
                            count, bit = _block(data, bit, near, 15, tokens, zeros, runs)
                            if count < 0:
                                return done, bit, BREAKS
                            own[first + at] = count
            run_read = form.kind == I
        for column in (x, width):
            for k in range(_BLOCKS):
                counts[column, k] = own[k]
            there[column] = True
        done += 1
        if bit >= end_bit and to_skip == 0:
            return done, bit, WHOLE_SLICE if bit == end_bit else ENDS_LATE
    return done, bit, ENDS_EARLY if bit < end_bit else ENDS_LATE
