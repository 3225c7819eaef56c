"""Slice data of AVC in CABAC (ISO/IEC 14496-10 9.3), followed to their last bit."""

from __future__ import annotations

import json
from importlib.resources import files

import numpy as np
from numpy.typing import NDArray

from jugal.kernels.arithmetic import (
    AHEAD,
    AT,
    RANGE,
    VALUE,
    begin,
    bypass,
    context_bin,
    decision,
    even_bin,
    position,
    terminate,
)
from jugal.kernels.compiling import bare
from jugal.kernels.macroblocks import (
    B_FIRST,
    B_QUARTER_LISTS,
    B_QUARTER_SHAPES,
    B_SECOND,
    B_SHAPES,
    BREAKS,
    DIRECT,
    ENDS_EARLY,
    ENDS_LATE,
    HALVES_ACROSS,
    HALVES_DOWN,
    INTER,
    ONE,
    QUARTERS,
    RAW,
    SKIPPED,
    SMALL,
    WHOLE,
    WHOLE_SLICE,
    Form,
    I,
    P,
)

# Context offsets (table 9-34).
_MB_TYPE, _QP_DELTA, _CHROMA_MODE, _PREDICTED, _REMAINING = 3, 60, 64, 68, 69
_LUMA_PATTERN, _CHROMA_PATTERN, _CODED, _EIGHT = 73, 77, 85, 399
_SKIP = np.array((11, 24), np.int64)
_P_TYPE, _B_TYPE, _P_QUARTER, _B_QUARTER, _VECTOR, _REFERENCE = 14, 27, 21, 36, 40, 54
# Prefix and suffix of intra types in P and B slices.
_INTRA_TYPE = np.array((17, 32), np.int64)
# By block category (table 9-42): luma DC, luma AC, luma 4x4, chroma DC, chroma AC, luma 8x8.
_CODED_OF = np.array((0, 4, 8, 12, 16, 0), np.int64)
_SIGNIFICANT_OF = np.array((105, 120, 134, 149, 152, 402), np.int64)
_LAST_OF = np.array((166, 181, 195, 210, 213, 417), np.int64)
_LEVEL_OF = np.array((227, 237, 247, 257, 266, 426), np.int64)
_LENGTH_OF = np.array((16, 15, 16, 4, 15, 64), np.int64)
_CHROMA_DC_BLOCK = 3
_LUMA_8X8_BLOCK = 5
# Bits of a macroblock's coded blocks: 16 luma blocks by place, DC of luma and chroma, up to eight of each chroma plane.
_LUMA_DC, _CHROMA_DC, _CHROMA_AC = 16, 17, 19
_ALL_CODED = (1 << 35) - 1
_LARGEST_DELTA = 104
# Contexts of motion depend on sums of up to 33 (9.3.3.1.1.7): more need not be kept.
_LARGEST_KEPT = 64
# Bits that encoders leave set behind the one that ends a slice.
_SLACK = 16
_CONTEXTS = 460


def _loaded() -> dict[str, NDArray[np.int64]]:
    text = files("jugal.kernels").joinpath("cabac_tables.json").read_text()
    return {name: np.array(rows, np.int64) for name, rows in json.loads(text).items()}


_TABLES = _loaded()
# 8x8 context increments of frames (table 9-43).
_SIGNIFICANT_8X8, _LAST_8X8 = _TABLES["significant_8x8"], _TABLES["last_8x8"]


def context_starts(inter: int) -> NDArray[np.int64]:
    """Slope and offset of each context's first state (table 9-12 and on): of intra slices for -1, else by cabac_init_idc."""
    return _TABLES["intra_start"] if inter < 0 else _TABLES["inter_start"][inter]


@bare
def _block(data, state, contexts, kind, form):  # type: ignore[no-untyped-def]
    """A residual block whose coded flag is set (7.3.5.3.3); False where a level is beyond all bounds."""
    width, value, ahead, next_byte = state[RANGE], state[VALUE], state[AHEAD], state[AT]
    length = 2 * form.chroma if kind == _CHROMA_DC_BLOCK else _LENGTH_OF[kind]
    significant, last = _SIGNIFICANT_OF[kind], _LAST_OF[kind]
    count = 0
    at = 0
    while at < length - 1:
        if kind == _LUMA_8X8_BLOCK:
            one, other = _SIGNIFICANT_8X8[at], _LAST_8X8[at]
        else:
            one = min(2 * at // form.chroma, 2) if kind == _CHROMA_DC_BLOCK else at
            other = one
        found, width, value, ahead, next_byte = context_bin(
            data, contexts, significant + one, width, value, ahead, next_byte
        )
        if found:
            count += 1
            found, width, value, ahead, next_byte = context_bin(
                data, contexts, last + other, width, value, ahead, next_byte
            )
            if found:
                break
        at += 1
    if at == length - 1:
        count += 1
    ones, larger = 0, 0
    base = _LEVEL_OF[kind]
    most_larger = 3 if kind == _CHROMA_DC_BLOCK else 4
    for _ in range(count):
        which = base + (0 if larger else min(4, 1 + ones))
        found, width, value, ahead, next_byte = context_bin(data, contexts, which, width, value, ahead, next_byte)
        if not found:
            ones += 1
        else:
            which = base + 5 + min(most_larger, larger)
            level = 1
            while level < 14:
                found, width, value, ahead, next_byte = context_bin(
                    data, contexts, which, width, value, ahead, next_byte
                )
                if not found:
                    break
                level += 1
            larger += 1
            if level == 14:
                order = 0
                while True:
                    found, value, ahead, next_byte = even_bin(data, width, value, ahead, next_byte)
                    if not found:
                        break
                    order += 1
                    if order > 16:
                        return False
                for _ in range(order):
                    found, value, ahead, next_byte = even_bin(data, width, value, ahead, next_byte)
        found, value, ahead, next_byte = even_bin(data, width, value, ahead, next_byte)
    state[RANGE], state[VALUE], state[AHEAD], state[AT] = width, value, ahead, next_byte
    return True


@bare
def _coded(left, above, is_left, is_above, at_left, at_above, absent):  # type: ignore[no-untyped-def]
    """Context increment of a coded block flag from the flags of the neighbours; ``absent`` counts for one that is not there."""
    one = (left >> at_left & 1) if is_left else absent
    other = (above >> at_above & 1) if is_above else absent
    return one + 2 * other


@bare
def _intra_type(data, state, contexts, base, spread):  # type: ignore[no-untyped-def]
    """(kind, luma pattern, chroma pattern) from the bins behind the first of an intra type (table 9-36).

    ``base`` is the first context after that bin's; ``spread`` is 1 in intra slices, where bins have contexts of their own.
    """
    if terminate(data, state):
        return RAW, 15, 2
    pattern, tint = 0, 0
    if decision(data, state, contexts, base):
        pattern = 15
    if decision(data, state, contexts, base + 1):
        tint = 1 + decision(data, state, contexts, base + 1 + spread)
    decision(data, state, contexts, base + 2 + spread)
    decision(data, state, contexts, base + 2 + 2 * spread)
    return WHOLE, pattern, tint


@bare
def _b_type(data, state, contexts, first):  # type: ignore[no-untyped-def]
    """mb_type in B slices (table 9-37): 0 to 22, or 23 for any intra type. ``first`` is the increment of the first bin."""
    if not decision(data, state, contexts, _B_TYPE + first):
        return 0
    if not decision(data, state, contexts, _B_TYPE + 3):
        return 1 + decision(data, state, contexts, _B_TYPE + 5)
    bits = decision(data, state, contexts, _B_TYPE + 4)
    for _ in range(3):
        bits = bits << 1 | decision(data, state, contexts, _B_TYPE + 5)
    if bits < 8:
        return bits + 3
    if bits >= 13:
        return 23 if bits == 13 else 11 if bits == 14 else 22
    return (bits << 1 | decision(data, state, contexts, _B_TYPE + 5)) - 4


@bare
def _b_quarter(data, state, contexts):  # type: ignore[no-untyped-def]
    """sub_mb_type in B slices (table 9-38)."""
    if not decision(data, state, contexts, _B_QUARTER):
        return 0
    if not decision(data, state, contexts, _B_QUARTER + 1):
        return 1 + decision(data, state, contexts, _B_QUARTER + 3)
    kind = 3
    if decision(data, state, contexts, _B_QUARTER + 2):
        if decision(data, state, contexts, _B_QUARTER + 3):
            return 11 + decision(data, state, contexts, _B_QUARTER + 3)
        kind = 7
    kind += 2 * decision(data, state, contexts, _B_QUARTER + 3)
    return kind + decision(data, state, contexts, _B_QUARTER + 3)


@bare
def _p_quarter(data, state, contexts):  # type: ignore[no-untyped-def]
    """sub_mb_type in P slices."""
    if decision(data, state, contexts, _P_QUARTER):
        return 0
    if not decision(data, state, contexts, _P_QUARTER + 1):
        return 1
    return 2 if decision(data, state, contexts, _P_QUARTER + 2) else 3


@bare
def _difference(data, state, contexts, base, around):  # type: ignore[no-untyped-def]
    """The size of a motion vector difference's component (9.3.3.1.1.7); -1 where it is beyond all bounds."""
    which = base + (0 if around < 3 else 1 if around < 33 else 2)
    if not decision(data, state, contexts, which):
        return 0
    size, which = 1, base + 3
    while size < 9 and decision(data, state, contexts, which):
        if size < 4:
            which += 1
        size += 1
    if size == 9:
        order = 3
        while bypass(data, state):
            size += 1 << order
            order += 1
            if order > 16:
                return -1
        for k in range(order):
            size += bypass(data, state) << (order - 1 - k)
    bypass(data, state)
    return size


@bare
def _vector(data, state, contexts, own, left, above, column, row, across, down):  # type: ignore[no-untyped-def]
    """Reads the motion vector difference of the part at ``column``, ``row`` in 4x4 blocks and keeps its size in ``own``.

    ``own``, ``left`` and ``above`` are of one list: by component, then block. False where there is none such.
    """
    for component in range(2):
        around = own[component, 4 * row + column - 1] if column else left[component, row]
        around += own[component, 4 * row + column - 4] if row else above[component, column]
        size = _difference(data, state, contexts, _VECTOR + 7 * component, around)
        if size < 0:
            return False
        for y in range(row, row + down):
            for x in range(column, column + across):
                own[component, 4 * y + x] = min(size, _LARGEST_KEPT)
    return True


@bare
def _reference(data, state, contexts, around, count):  # type: ignore[no-untyped-def]
    """ref_idx (9.3.3.1.1.6), of ``count`` pictures; -1 where there is no such picture."""
    number, which = 0, around
    while decision(data, state, contexts, _REFERENCE + which):
        number += 1
        which = 4 if number == 1 else 5
        if number >= count:
            return -1
    return number


@bare
def _motion(  # type: ignore[no-untyped-def]
    data,
    state,
    contexts,
    form,
    shape,
    lists,
    quarters,
    vectors,
    vectors_left,
    vectors_above,
    later,
    later_left,
    later_above,
):  # type: ignore[no-untyped-def]
    """References and vectors of a macroblock (7.3.5.1, 7.3.5.2) of ``shape``; ``lists`` are those that each quarter uses,
    ``quarters`` their shapes. ``later`` tells of each quarter and list whether a later picture than the first is meant."""
    across, down = 2 if shape & 2 else 4, 2 if shape & 1 else 4
    for which in range(1 if form.kind == P else 2):
        count = form.list_1 if which else form.list_0
        if count < 2:
            continue
        for part in range(4):
            column, row = 2 * (part & 1), 2 * (part >> 1)
            if column % across or row % down or not lists[part] >> which & 1:
                continue
            around = later[which, part - 1] if column else later_left[which, part >> 1]
            around += 2 * (later[which, part - 2] if row else later_above[which, part & 1])
            number = _reference(data, state, contexts, around, count)
            if number < 0:
                return False
            for y in range(row, row + down, 2):
                for x in range(column, column + across, 2):
                    later[which, y + (x >> 1)] = number > 0
    for which in range(1 if form.kind == P else 2):
        own, left, above = vectors[which], vectors_left[which], vectors_above[which]
        for part in range(4):
            column, row = 2 * (part & 1), 2 * (part >> 1)
            if column % across or row % down or not lists[part] >> which & 1:
                continue
            if shape != QUARTERS:
                if not _vector(data, state, contexts, own, left, above, column, row, across, down):
                    return False
                continue
            wide, high = 1 if quarters[part] & 2 else 2, 1 if quarters[part] & 1 else 2
            for y in range(row, row + 2, high):
                for x in range(column, column + 2, wide):
                    if not _vector(data, state, contexts, own, left, above, x, y, wide, high):
                        return False
    return True


def read_slice(
    data: NDArray[np.uint8], start: int, end_bit: int, qp: int, form: Form, starts: NDArray[np.int64]
) -> tuple[int, int, int]:
    """Follows the slice of ``form`` whose arithmetic code begins with byte ``start`` of ``data``, a unit without escapes.

    ``end_bit`` is the place of the last bit set in the unit, ``qp`` SliceQPY, ``starts`` the contexts' first states.
    Returns (macroblocks read, the bit reached, what it came to): WHOLE_SLICE where the slice ends with its unit,
    BREAKS where the data say what they cannot, ENDS_EARLY or ENDS_LATE where the slice or its unit is the longer one.
    """
    first = np.clip((starts[:, 0] * max(0, qp) >> 4) + starts[:, 1], 1, 126)
    contexts = np.where(first <= 63, (63 - first) << 1, (first - 64) << 1 | 1).astype(np.uint8)
    shapes = (
        (6, form.width + 1),
        (2, 2, 16),
        (2, 2, 4),
        (form.width, 2, 2, 4),
        (2, 4),
        (2, 2),
        (form.width, 2, 2),
        (2, 4),
    )
    found: tuple[int, int, int] = _read(
        data, start, end_bit, form, contexts, np.zeros(4, np.int64), *(np.zeros(shape, np.int64) for shape in shapes)
    )
    return found


@bare
def _read(  # type: ignore[no-untyped-def]
    data,
    start,
    end_bit,
    form,
    contexts,
    state,
    near,
    vectors,
    vectors_left,
    vectors_above,
    later,
    later_left,
    later_above,
    parts,
):  # type: ignore[no-untyped-def]
    """``read_slice`` with room to work in: ``near`` has a column each of the row above or, right of where we are, of the
    row before it, the last is the one left of us; ``vectors`` and ``later`` keep of motion, by list, what the next
    macroblocks meet (see ``_motion``)."""
    begin(data, state, start)
    width, chroma = form.width, form.chroma
    kinds, luma, tints, modes, eights, blocks = near[0], near[1], near[2], near[3], near[4], near[5]
    lists, quarters = parts[0], parts[1]
    moved = False
    delta_before = False
    done = 0
    while form.first + done < form.most:
        x = (form.first + done) % width
        if x == 0:
            kinds[width] = 0
            vectors_left[:] = 0
            later_left[:] = 0
        is_left, is_above = kinds[width] != 0, kinds[x] != 0
        kind, transform, pattern, tint, mode, coded = SMALL, 0, 0, 0, 0, 0
        fine_parts = False
        if moved:
            vectors[:] = 0
            later[:] = 0
            moved = False
        if form.kind != I:
            which = _SKIP[form.kind] + (is_left and kinds[width] != SKIPPED) + (is_above and kinds[x] != SKIPPED)
            if decision(data, state, contexts, which):
                kind, delta_before = SKIPPED, False
        if kind == SKIPPED:
            pass
        elif form.kind == I:
            which = _MB_TYPE + (is_left and kinds[width] != SMALL) + (is_above and kinds[x] != SMALL)
            if decision(data, state, contexts, which):
                kind, pattern, tint = _intra_type(data, state, contexts, _MB_TYPE + 3, 1)
        else:
            shape, intra = ONE, False
            lists[:] = 1
            if form.kind == P:
                if decision(data, state, contexts, _P_TYPE):
                    intra = True
                elif not decision(data, state, contexts, _P_TYPE + 1):
                    shape = QUARTERS if decision(data, state, contexts, _P_TYPE + 2) else ONE
                else:
                    shape = HALVES_DOWN if decision(data, state, contexts, _P_TYPE + 3) else HALVES_ACROSS
                if shape == QUARTERS:
                    for k in range(4):
                        quarters[k] = _p_quarter(data, state, contexts)
                        fine_parts |= quarters[k] != ONE
            else:
                which = is_left and kinds[width] != SKIPPED and kinds[width] != DIRECT
                which += is_above and kinds[x] != SKIPPED and kinds[x] != DIRECT
                kind_read = _b_type(data, state, contexts, which)
                if kind_read == 0:
                    kind = DIRECT
                    fine_parts = not form.direct_eight
                elif kind_read == 23:
                    intra = True
                else:
                    shape = B_SHAPES[kind_read - 1]
                    for k in range(4):
                        second = k & 1 if shape == HALVES_ACROSS else k >> 1
                        lists[k] = B_SECOND[kind_read - 1] if shape != ONE and second else B_FIRST[kind_read - 1]
                    if shape == QUARTERS:
                        for k in range(4):
                            quarter = _b_quarter(data, state, contexts)
                            quarters[k], lists[k] = B_QUARTER_SHAPES[quarter], B_QUARTER_LISTS[quarter]
                            fine_parts |= quarters[k] != ONE or (quarter == 0 and not form.direct_eight)
            if intra:
                base = _INTRA_TYPE[form.kind]
                if decision(data, state, contexts, base):
                    kind, pattern, tint = _intra_type(data, state, contexts, base + 1, 0)
            elif kind != DIRECT:
                kind, moved = INTER, True
                if not _motion(
                    data, state, contexts, form, shape, lists, quarters, vectors, vectors_left, vectors_above[x],
                    later, later_left, later_above[x],
                ):  # fmt: skip
                    return done, position(state), BREAKS
        if kind == RAW:
            at = (position(state) + 7 & ~7) + form.raw_bits
            if at > end_bit:
                return done, position(state), ENDS_LATE
            begin(data, state, at >> 3)
            coded, delta_before = _ALL_CODED, False
        elif kind != SKIPPED:
            intra = kind in (SMALL, WHOLE)
            if kind == SMALL:
                if form.eight:
                    which = _EIGHT + (is_left and eights[width]) + (is_above and eights[x])
                    transform = decision(data, state, contexts, which)
                for _ in range(4 if transform else 16):
                    if not decision(data, state, contexts, _PREDICTED):
                        for _ in range(3):
                            decision(data, state, contexts, _REMAINING)
            if intra and chroma:
                which = _CHROMA_MODE + (is_left and modes[width] != 0) + (is_above and modes[x] != 0)
                if decision(data, state, contexts, which):
                    mode = 1
                    while mode < 3 and decision(data, state, contexts, _CHROMA_MODE + 3):
                        mode += 1
            if kind != WHOLE:
                for part in range(4):
                    if part & 1:
                        beside = not pattern >> (part - 1) & 1
                    else:
                        beside = is_left and not luma[width] >> (part + 1) & 1
                    if part & 2:
                        over = not pattern >> (part - 2) & 1
                    else:
                        over = is_above and not luma[x] >> (part + 2) & 1
                    which = _LUMA_PATTERN + beside + 2 * over
                    pattern |= decision(data, state, contexts, which) << part
                if chroma:
                    which = _CHROMA_PATTERN + (is_left and tints[width] != 0) + 2 * (is_above and tints[x] != 0)
                    if decision(data, state, contexts, which):
                        which = _CHROMA_PATTERN + 4 + (is_left and tints[width] == 2) + 2 * (is_above and tints[x] == 2)
                        tint = 1 + decision(data, state, contexts, which)
            if not intra and form.eight and pattern and not fine_parts:
                which = _EIGHT + (is_left and eights[width]) + (is_above and eights[x])
                transform = decision(data, state, contexts, which)
            if kind == WHOLE or pattern or tint:
                delta = 0
                which = _QP_DELTA + delta_before
                while decision(data, state, contexts, which):
                    which = _QP_DELTA + (2 if delta == 0 else 3)
                    delta += 1
                    if delta > _LARGEST_DELTA:
                        return done, position(state), BREAKS
                delta_before = delta != 0
            else:
                delta_before = False
            beside, over, absent = blocks[width], blocks[x], 1 if intra else 0
            good = True
            if kind == WHOLE:
                which = _CODED + _coded(beside, over, is_left, is_above, _LUMA_DC, _LUMA_DC, absent)
                if decision(data, state, contexts, which):
                    coded |= 1 << _LUMA_DC
                    good = _block(data, state, contexts, 0, form)
            for part in range(4):
                if not pattern >> part & 1:
                    continue
                if transform:
                    good &= _block(data, state, contexts, _LUMA_8X8_BLOCK, form)
                    coded |= 0x33 << (8 * (part >> 1) + 2 * (part & 1))
                    continue
                category = 1 if kind == WHOLE else 2
                for k in range(4):
                    column, row = 2 * (part & 1) + (k & 1), 2 * (part >> 1) + (k >> 1)
                    place = 4 * row + column
                    increment = _coded(
                        coded if column else beside, coded if row else over, column > 0 or is_left, row > 0 or is_above,
                        place - 1 if column else place + 3, place - 4 if row else place + 12, absent,
                    )  # fmt: skip
                    if decision(data, state, contexts, _CODED + _CODED_OF[category] + increment):
                        coded |= 1 << place
                        good &= _block(data, state, contexts, category, form)
            if tint:
                for plane in range(2):
                    place = _CHROMA_DC + plane
                    increment = _coded(beside, over, is_left, is_above, place, place, absent)
                    if decision(data, state, contexts, _CODED + 12 + increment):
                        coded |= 1 << place
                        good &= _block(data, state, contexts, _CHROMA_DC_BLOCK, form)
            if tint == 2:
                for k in range(4 * chroma):
                    place, row = _CHROMA_AC + k, k % (2 * chroma) >> 1
                    increment = _coded(
                        coded if k & 1 else beside, coded if row else over, bool(k & 1) or is_left, row > 0 or is_above,
                        place - 1 if k & 1 else place + 1, place - 2 if row else place + 2 * chroma - 2, absent,
                    )  # fmt: skip
                    if decision(data, state, contexts, _CODED + 16 + increment):
                        coded |= 1 << place
                        good &= _block(data, state, contexts, 4, form)
            if not good:
                return done, position(state), BREAKS
        for column in (x, width):
            kinds[column], luma[column], tints[column] = kind, pattern, tint
            modes[column], eights[column], blocks[column] = mode, transform, coded
        if form.kind != I:
            for which in range(2):
                for k in range(4):
                    for component in range(2):
                        vectors_left[which, component, k] = vectors[which, component, 4 * k + 3]
                        vectors_above[x, which, component, k] = vectors[which, component, 12 + k]
                for k in range(2):
                    later_left[which, k] = later[which, 2 * k + 1]
                    later_above[x, which, k] = later[which, 2 + k]
        done += 1
        at = position(state) - 1
        if terminate(data, state):
            at = position(state) - 1
            if end_bit - at >= _SLACK:
                return done, at, ENDS_EARLY
            fits = at <= end_bit and data[at >> 3] >> (7 - (at & 7)) & 1
            return done, at, WHOLE_SLICE if fits else ENDS_LATE
        if at > end_bit:
            return done, end_bit, ENDS_LATE
    return done, position(state), ENDS_LATE
