"""Slice segment data of HEVC (ISO/IEC 23008-2 7.3.8, 9.3), followed to their last bit: pictures of one tile in 4:2:0 or grey."""

from __future__ import annotations

import json
from importlib.resources import files
from typing import NamedTuple

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
from jugal.kernels.compiling import bare, inlined
from jugal.kernels.macroblocks import BREAKS, ENDS_EARLY, ENDS_LATE, WHOLE_SLICE

#: Kinds of slice (table 7-7).
B, P, I = 0, 1, 2  # noqa: E741
# Contexts in the order of their first states (tables 9-5 to 9-37).
_SAO_MERGE, _SAO_TYPE, _SPLIT, _BYPASSED, _SKIP, _QP_DELTA, _PREDICTION, _PARTS = 0, 1, 2, 5, 6, 9, 12, 13
_LUMA_MODE, _CHROMA_MODE, _MERGE, _MERGE_WHICH, _LISTS, _REFERENCE, _MOVES, _MOVES_FAR = 17, 18, 20, 21, 22, 27, 31, 34
_PREDICTOR, _RESIDUAL, _SPLIT_TRANSFORM, _CODED_LUMA, _CODED_CHROMA, _UNTRANSFORMED = 35, 36, 37, 40, 42, 47
_LAST_X, _LAST_Y, _GROUP, _SIGNIFICANT, _GREATER_1, _GREATER_2 = 53, 71, 89, 93, 137, 161
_SLACK = 16
_PLANAR, _DC, _VERTICAL, _HORIZONTAL, _LAST_MODE = 0, 1, 26, 10, 34
_DIAGONAL, _ACROSS, _DOWN = 0, 1, 2
_LARGEST_QP_DELTA = 40
# Orders of parts (table 7-10) as the number of prediction units.
_WHOLE, _DOWN_2, _ACROSS_2, _QUARTERS, _DOWN_UPPER, _DOWN_LOWER, _ACROSS_LEFT, _ACROSS_RIGHT = range(8)
# Context increments of significance in a block of 4x4 (table 9-50).
_SMALL_SIGNIFICANCE = np.array((0, 1, 4, 5, 2, 3, 4, 5, 6, 6, 8, 8, 7, 7, 8, 8), np.int64)
_CONTEXTS = 167
_STARTS = np.array(json.loads(files("jugal.kernels").joinpath("hevc_tables.json").read_text())["starts"], np.int64)


def _scans() -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Places as 8 * row + column in the order of each scan (6.5.3 to 6.5.5) of blocks of side 1, 2, 4, 8, and their ranks."""
    places, ranks = np.zeros((3, 4, 64), np.int64), np.zeros((3, 4, 64), np.int64)
    for size in range(4):
        cells = [(x, y) for y in range(1 << size) for x in range(1 << size)]
        diagonal = sorted(cells, key=lambda c: (c[0] + c[1], c[0]))
        for scan, order in enumerate((diagonal, cells, sorted(cells))):
            for rank, (x, y) in enumerate(order):
                places[scan, size, rank] = 8 * y + x
                ranks[scan, size, 8 * y + x] = rank
    return places, ranks


_PLACES, _RANKS = _scans()


class Form(NamedTuple):
    """What a slice segment's data depend on; sizes of blocks are logarithms to base 2, of the picture in luma samples.

    ``first`` is the address of its first coding tree block; ``starts`` which first states its contexts have; ``sync``
    says that each row of them is a stream of its own.
    """

    kind: int
    first: int
    width: int
    height: int
    tree: int
    least_block: int
    least_transform: int
    largest_transform: int
    intra_depth: int
    inter_depth: int
    uneven_parts: int
    sao_luma: int
    sao_chroma: int
    raw: int
    raw_least: int
    raw_largest: int
    raw_bits_luma: int
    raw_bits_chroma: int
    depth_luma: int
    depth_chroma: int
    qp_delta: int
    qp_group: int
    untransformed: int
    lossless: int
    hidden_signs: int
    sync: int
    merges: int
    list_0: int
    list_1: int
    no_second_difference: int
    colour: int
    starts: int


@inlined
def _bits(data, state, count):  # type: ignore[no-untyped-def]
    """``count`` bins without context as a number."""
    value = 0
    for _ in range(count):
        value = value << 1 | bypass(data, state)
    return value


@bare
def _adaptive(data, state, contexts, form, beside, over):  # type: ignore[no-untyped-def]
    """sao (7.3.8.3); ``beside`` and ``over`` say which neighbours there are to take it from."""
    if beside and decision(data, state, contexts, _SAO_MERGE):
        return
    if over and decision(data, state, contexts, _SAO_MERGE):
        return
    kind = 0
    for plane in range(3 if form.colour else 1):
        if not (form.sao_chroma if plane else form.sao_luma):
            continue
        if plane < 2:
            kind = 0
            if decision(data, state, contexts, _SAO_TYPE):
                kind = 1 + bypass(data, state)
        if kind == 0:
            continue
        depth = form.depth_chroma if plane else form.depth_luma
        most = (1 << (min(depth, 10) - 5)) - 1
        signs = 0
        for _ in range(4):
            size = 0
            while size < most and bypass(data, state):
                size += 1
            signs += size > 0
        if kind == 1:
            _bits(data, state, signs + 5)
        elif plane < 2:
            _bits(data, state, 2)


@bare
def _golomb(data, state, order):  # type: ignore[no-untyped-def]
    """An Exp-Golomb code of bins without context (9.3.3.5); -1 where it is beyond all bounds."""
    value = 0
    while bypass(data, state):
        value += 1 << order
        order += 1
        if order > 30:
            return -1
    return value + _bits(data, state, order)


@inlined
def _prefix(data, contexts, base, shift, size, width, value, ahead, at):  # type: ignore[no-untyped-def]
    """(prefix, width, value, ahead, at): last_sig_coeff_x_prefix and its like of y (9.3.3.2), of a block of side 2**size."""
    prefix = 0
    while prefix < 2 * size - 1:
        which = base + (prefix >> shift)
        found, width, value, ahead, at = context_bin(data, contexts, which, width, value, ahead, at)
        if not found:
            break
        prefix += 1
    return prefix, width, value, ahead, at


@inlined
def _with_suffix(data, prefix, width, value, ahead, at):  # type: ignore[no-untyped-def]
    """(place, value, ahead, at): the coordinate that a prefix and the bins behind it mean (7.4.9.11)."""
    place = prefix
    if prefix > 3:
        suffix, count = 0, (prefix >> 1) - 1
        for _ in range(count):
            found, value, ahead, at = even_bin(data, width, value, ahead, at)
            suffix = suffix << 1 | found
        place = (2 + (prefix & 1) << count) + suffix
    return place, value, ahead, at


@bare
def _residual(data, state, contexts, form, size, plane, scan, lossless):  # type: ignore[no-untyped-def]
    """residual_coding (7.3.8.11) of a block of side 2**size; False where a level is beyond all bounds."""
    width, value, ahead, at = state[RANGE], state[VALUE], state[AHEAD], state[AT]
    chroma = 1 if plane else 0
    if form.untransformed and not lossless and size == 2:
        _, width, value, ahead, at = context_bin(data, contexts, _UNTRANSFORMED + chroma, width, value, ahead, at)
    if chroma:
        offset, shift = 15, size - 2
    else:
        offset, shift = 3 * (size - 2) + ((size - 1) >> 2), (size + 1) >> 2
    last_x, width, value, ahead, at = _prefix(data, contexts, _LAST_X + offset, shift, size, width, value, ahead, at)
    last_y, width, value, ahead, at = _prefix(data, contexts, _LAST_Y + offset, shift, size, width, value, ahead, at)
    last_x, value, ahead, at = _with_suffix(data, last_x, width, value, ahead, at)
    last_y, value, ahead, at = _with_suffix(data, last_y, width, value, ahead, at)
    if scan == _DOWN:
        last_x, last_y = last_y, last_x
    side = 1 << (size - 2)
    last_group = _RANKS[scan, size - 2, 8 * (last_y >> 2) + (last_x >> 2)]
    last_place = _RANKS[scan, 2, 8 * (last_y & 3) + (last_x & 3)]
    groups = np.uint64(0)
    one = np.uint64(1)
    greater_context = 1
    for group in range(last_group, -1, -1):
        cell = _PLACES[scan, size - 2, group]
        group_x, group_y = cell & 7, cell >> 3
        right = group_x + 1 < side and (groups >> np.uint64(cell + 1)) & one != 0
        below = group_y + 1 < side and (groups >> np.uint64(cell + 8)) & one != 0
        infer = False
        coded = True
        if 0 < group < last_group:
            which = _GROUP + 2 * chroma + (1 if right or below else 0)
            found, width, value, ahead, at = context_bin(data, contexts, which, width, value, ahead, at)
            coded = found == 1
            infer = True
        if not coded:
            continue
        groups |= one << np.uint64(cell)
        count, highest, lowest = 0, 0, 0
        n = 15
        if group == last_group:
            count, highest, lowest = 1, last_place, last_place
            n = last_place - 1
        while n >= 0:
            place = _PLACES[scan, 2, n]
            x, y = place & 7, place >> 3
            if n == 0 and infer:
                found = 1
            else:
                if size == 2:
                    increment = _SMALL_SIGNIFICANCE[4 * y + x]
                elif n == 0 and group == 0:
                    increment = 0
                else:
                    if right and below:
                        increment = 2
                    elif right:
                        increment = 2 if y == 0 else 1 if y == 1 else 0
                    elif below:
                        increment = 2 if x == 0 else 1 if x == 1 else 0
                    else:
                        increment = 2 if x + y == 0 else 1 if x + y < 3 else 0
                    if not chroma:
                        if group > 0:
                            increment += 3
                        increment += (9 if scan == _DIAGONAL else 15) if size == 3 else 21
                    else:
                        increment += 9 if size == 3 else 12
                which = _SIGNIFICANT + 27 * chroma + increment
                found, width, value, ahead, at = context_bin(data, contexts, which, width, value, ahead, at)
            if found:
                if count == 0:
                    highest = n
                lowest = n
                count += 1
                infer = False
            n -= 1
        if count == 0:
            continue
        chosen = 0 if group == 0 or chroma else 2
        if group != last_group and greater_context == 0:
            chosen += 1
        greater_context = 1
        greater, first_greater = 0, -1
        for k in range(min(8, count)):
            which = _GREATER_1 + 16 * chroma + 4 * chosen + greater_context
            found, width, value, ahead, at = context_bin(data, contexts, which, width, value, ahead, at)
            if found:
                greater |= 1 << k
                greater_context = 0
                if first_greater < 0:
                    first_greater = k
            elif 0 < greater_context < 3:
                greater_context += 1
        twice = 0
        if first_greater >= 0:
            which = _GREATER_2 + 4 * chroma + chosen
            twice, width, value, ahead, at = context_bin(data, contexts, which, width, value, ahead, at)
        hidden = form.hidden_signs and not lossless and highest - lowest > 3
        for _ in range(count - 1 if hidden else count):
            found, value, ahead, at = even_bin(data, width, value, ahead, at)
        rice = 0
        for k in range(count):
            level = 1 + (greater >> k & 1) + (twice if k == first_greater else 0)
            if level != (3 if k == first_greater else 2) and k < 8:
                continue
            prefix = 0
            while True:
                found, value, ahead, at = even_bin(data, width, value, ahead, at)
                if not found:
                    break
                prefix += 1
                if prefix > 24:
                    return False
            length = rice if prefix <= 3 else prefix - 3 + rice
            rest = prefix << rice if prefix <= 3 else (1 << (prefix - 3)) + 2 << rice
            tail = 0
            for _ in range(length):
                found, value, ahead, at = even_bin(data, width, value, ahead, at)
                tail = tail << 1 | found
            if level + rest + tail > 3 << rice:
                rice = min(rice + 1, 4)
    state[RANGE], state[VALUE], state[AHEAD], state[AT] = width, value, ahead, at
    return True


@bare
def _which_merge(data, state, contexts, form):  # type: ignore[no-untyped-def]
    if form.merges > 1 and decision(data, state, contexts, _MERGE_WHICH):
        which = 1
        while which < form.merges - 1 and bypass(data, state):
            which += 1


@bare
def _difference(data, state, contexts):  # type: ignore[no-untyped-def]
    """mvd_coding (7.3.8.9); False where it is beyond all bounds."""
    across = decision(data, state, contexts, _MOVES)
    down = decision(data, state, contexts, _MOVES)
    far_across = across and decision(data, state, contexts, _MOVES_FAR)
    far_down = down and decision(data, state, contexts, _MOVES_FAR)
    for some, far in ((across, far_across), (down, far_down)):
        if some:
            if far:
                size = _golomb(data, state, 1)
                if size < 0 or size > 1 << 16:
                    return False
            bypass(data, state)
    return True


@bare
def _motion(data, state, contexts, form, depth, small):  # type: ignore[no-untyped-def]
    """prediction_unit (7.3.8.6): 1 where it is merged, 0 where not, -1 where it says what it cannot. ``small`` is one of
    8x4 or 4x8."""
    if decision(data, state, contexts, _MERGE):
        _which_merge(data, state, contexts, form)
        return 1
    lists = 1
    if form.kind == B:
        if not small and decision(data, state, contexts, _LISTS + depth):
            lists = 3
        else:
            lists = 1 + decision(data, state, contexts, _LISTS + 4)
    for which in range(2):
        if not lists >> which & 1:
            continue
        most = (form.list_1 if which else form.list_0) - 1
        number = 0
        while number < most:
            found = decision(data, state, contexts, _REFERENCE + number) if number < 2 else bypass(data, state)
            if not found:
                break
            number += 1
        if not (which and lists == 3 and form.no_second_difference) and not _difference(data, state, contexts):
            return -1
        decision(data, state, contexts, _PREDICTOR)
    return 0


@bare
def _part_mode(data, state, contexts, form, size, intra):  # type: ignore[no-untyped-def]
    """part_mode (9.3.3.7)."""
    if decision(data, state, contexts, _PARTS):
        return _WHOLE
    if intra:
        return _QUARTERS
    down = decision(data, state, contexts, _PARTS + 1)
    if size == form.least_block:
        if down:
            return _DOWN_2
        if size == 3 or decision(data, state, contexts, _PARTS + 2):
            return _ACROSS_2
        return _QUARTERS
    if not form.uneven_parts or decision(data, state, contexts, _PARTS + 3):
        return _DOWN_2 if down else _ACROSS_2
    return (_DOWN_UPPER if down else _ACROSS_LEFT) + bypass(data, state)


@bare
def _motions(data, state, contexts, form, size, depth, mode):  # type: ignore[no-untyped-def]
    """All prediction units of a block: as ``_motion`` for one, 0 for several."""
    units = 1 if mode == _WHOLE else 4 if mode == _QUARTERS else 2
    small = size == 3 and units == 2
    merged = 0
    for _ in range(units):
        merged = _motion(data, state, contexts, form, depth, small)
        if merged < 0:
            return -1
    return merged if units == 1 else 0


@bare
def _luma_modes(data, state, contexts, form, x, y, size, count, modes, own):  # type: ignore[no-untyped-def]
    """Intra modes of a block's one or four parts (7.3.8.5, 8.4.2), kept in ``own`` and, plus one, in ``modes``."""
    listed = 0
    for part in range(count):
        listed |= decision(data, state, contexts, _LUMA_MODE) << part
    side = 1 << (size - 2) if count == 1 else 1 << (size - 3)
    for part in range(count):
        column, row = (x >> 2) + side * (part & 1), (y >> 2) + side * (part >> 1)
        which = 0
        if listed >> part & 1:
            if bypass(data, state):
                which = 1 + bypass(data, state)
        else:
            which = _bits(data, state, 5)
        left = modes[row + 1, column] - 1
        above = modes[row, column + 1] - 1
        if left < 0:
            left = _DC
        if above < 0 or 4 * row & ((1 << form.tree) - 1) == 0:
            above = _DC
        if left == above:
            if left < 2:
                first, second, third = _PLANAR, _DC, _VERTICAL
            else:
                first = left
                second = 2 + (left + 29) % 32
                third = 2 + (left - 2 + 1) % 32
        else:
            first, second = left, above
            if _PLANAR not in (left, above):
                third = _PLANAR
            elif _DC not in (left, above):
                third = _DC
            else:
                third = _VERTICAL
        if listed >> part & 1:
            mode = first if which == 0 else second if which == 1 else third
        else:
            if first > second:
                first, second = second, first
            if first > third:
                first, third = third, first
            if second > third:
                second, third = third, second
            mode = which
            mode += mode >= first
            mode += mode >= second
            mode += mode >= third
        own[part] = mode
        for j in range(row + 1, row + 1 + side):
            for k in range(column + 1, column + 1 + side):
                modes[j, k] = mode + 1


@bare
def _scan_of(mode):  # type: ignore[no-untyped-def]
    """How levels are ordered in small blocks predicted with intra ``mode`` (7.4.9.11)."""
    if 6 <= mode <= 14:
        return _DOWN
    return _ACROSS if 22 <= mode <= 30 else _DIAGONAL


@bare
def _transforms(data, state, contexts, form, size, intra, parts, lossless, own, chroma_mode, coded, group):  # type: ignore[no-untyped-def]
    """transform_tree and transform_unit (7.3.8.8, 7.3.8.10) of a coding block; False where they say what they cannot.

    ``coded`` is room for the flags of chroma by depth, ``group[0]`` says that the group's quantiser is known.
    """
    quartered = intra and parts == _QUARTERS
    most_depth = form.intra_depth + quartered if intra else form.inter_depth
    inferred = form.inter_depth == 0 and not intra and parts != _WHOLE
    step = form.least_transform
    z, end = 0, 1 << 2 * (size - step)
    while z < end:
        this = size
        if z:
            this = step
            while z >> 2 * (this - step) & 3 == 0:
                this += 1
        while True:
            depth = size - this
            if this <= form.largest_transform and this > step and depth < most_depth and not (quartered and depth == 0):
                split = decision(data, state, contexts, _SPLIT_TRANSFORM + 5 - this) == 1
            else:
                split = this > form.largest_transform or (quartered and depth == 0) or (inferred and depth == 0)
            for plane in range(2):
                if this > 2:
                    flag = 0
                    if form.colour and (depth == 0 or coded[plane, depth - 1]):
                        flag = decision(data, state, contexts, _CODED_CHROMA + depth)
                    coded[plane, depth] = flag
                else:
                    coded[plane, depth] = coded[plane, depth - 1] if depth else 0
            if not split:
                break
            this -= 1
        depth = size - this
        blue, red = coded[0, depth], coded[1, depth]
        luma = 1
        if intra or depth or blue or red:
            luma = decision(data, state, contexts, _CODED_LUMA + (1 if depth == 0 else 0))
        if luma or blue or red:
            if form.qp_delta and not group[0]:
                group[0] = 1
                delta = 0
                while delta < 5 and decision(data, state, contexts, _QP_DELTA + (1 if delta else 0)):
                    delta += 1
                if delta == 5:
                    more = _golomb(data, state, 0)
                    if more < 0 or more > _LARGEST_QP_DELTA:
                        return False
                if delta:
                    bypass(data, state)
            if luma:
                scan = _DIAGONAL
                if intra and this <= 3:
                    scan = _scan_of(own[z >> 2 * (size - 1 - step) if quartered else 0])
                if not _residual(data, state, contexts, form, this, 0, scan, lossless):
                    return False
            last_of_four = this == 2 and z & 3 == 3
            if this > 2 or last_of_four:
                chroma_size = max(2, this - 1)
                scan = _scan_of(chroma_mode) if intra and chroma_size == 2 else _DIAGONAL
                for plane in range(2):
                    if (red if plane else blue) and not _residual(
                        data, state, contexts, form, chroma_size, 1 + plane, scan, lossless
                    ):
                        return False
        z += 1 << 2 * (this - step)
    return True


@bare
def _block(data, state, contexts, form, x, y, size, depths, skips, modes, own, coded, group, end_bit):  # type: ignore[no-untyped-def]
    """coding_unit (7.3.8.5); False where it says what it cannot."""
    column, row = x >> 2, y >> 2
    depth = form.tree - size
    lossless = form.lossless and decision(data, state, contexts, _BYPASSED) == 1
    skipped, intra, parts, merged, raw = False, True, _WHOLE, 0, False
    if form.kind != I:
        which = _SKIP + (skips[row + 1, column] == 2) + (skips[row, column + 1] == 2)
        skipped = decision(data, state, contexts, which) == 1
    if skipped:
        intra = False
        _which_merge(data, state, contexts, form)
    else:
        if form.kind != I:
            intra = decision(data, state, contexts, _PREDICTION) == 1
        if not intra or size == form.least_block:
            parts = _part_mode(data, state, contexts, form, size, intra)
        if not intra:
            merged = _motions(data, state, contexts, form, size, depth, parts)
            if merged < 0:
                return False
    units = 1 << (size - 2)
    for j in range(row + 1, row + 1 + units):
        for k in range(column + 1, column + 1 + units):
            depths[j, k] = depth + 1
            skips[j, k] = 2 if skipped else 1
            modes[j, k] = _DC + 1
    if skipped:
        return True
    chroma_mode = _DC
    if intra:
        if parts == _WHOLE and form.raw and form.raw_least <= size <= form.raw_largest:
            raw = terminate(data, state)
        if raw:
            bits = form.raw_bits_luma << 2 * size
            if form.colour:
                bits += form.raw_bits_chroma << (2 * size - 1)
            at = (position(state) + 7 & ~7) + bits
            if at > end_bit:
                return False
            begin(data, state, at >> 3)
            return True
        _luma_modes(data, state, contexts, form, x, y, size, 4 if parts == _QUARTERS else 1, modes, own)
        if form.colour:
            chroma_mode = own[0]
            if decision(data, state, contexts, _CHROMA_MODE):
                which = _bits(data, state, 2)
                chroma_mode = _PLANAR if which == 0 else _VERTICAL if which == 1 else _HORIZONTAL if which == 2 else _DC
                if chroma_mode == own[0]:
                    chroma_mode = _LAST_MODE
    elif not merged and not decision(data, state, contexts, _RESIDUAL):
        return True
    return _transforms(data, state, contexts, form, size, intra, parts, lossless, own, chroma_mode, coded, group)


def read_segment(data: NDArray[np.uint8], start: int, end_bit: int, qp: int, form: Form) -> tuple[int, int, int]:
    """Follows the slice segment of ``form`` whose data begin with byte ``start`` of ``data``, a unit without escapes.

    ``end_bit`` is the place of the last bit set in the unit, ``qp`` SliceQpY. Returns (coding tree blocks read, the bit
    reached, what it came to) as ``cabac.read_slice`` does.
    """
    values = _STARTS[form.starts]
    first = (((values >> 4) * 5 - 45) * min(max(qp, 0), 51) >> 4) + ((values & 15) << 3) - 16
    first = np.clip(first, 1, 126)
    fresh = np.where(first <= 63, (63 - first) << 1, (first - 64) << 1 | 1).astype(np.uint8)
    across, down = -(-form.width >> form.tree), -(-form.height >> form.tree)
    side = 1 << (form.tree - 2)
    maps = np.zeros((3, 1 + down * side, 1 + across * side), np.int8)
    found: tuple[int, int, int] = _read(
        data, start, end_bit, form, fresh, fresh.copy(), fresh.copy(), np.zeros(4, np.int64), across, across * down,
        maps[0], maps[1], maps[2], np.zeros(4, np.int64), np.zeros((2, 6), np.int64), np.zeros(1, np.int64),
    )  # fmt: skip
    return found


@bare
def _read(  # type: ignore[no-untyped-def]
    data, start, end_bit, form, fresh, contexts, saved, state, across, most, depths, skips, modes, own, coded, group
):  # type: ignore[no-untyped-def]
    """``read_segment`` with room to work in: by blocks of 4x4, with a border above and on the left, ``depths`` plus one,
    ``skips`` (2 where a block is), intra ``modes`` plus one; 0 where nothing was read."""
    begin(data, state, start)
    is_saved = False
    step = form.least_block
    cells = 1 << 2 * (form.tree - step)
    done = 0
    while form.first + done < most:
        address = form.first + done
        left, top = address % across, address // across
        if form.sync and done and left == 0:
            # A row is a stream of its own; its contexts go on from the second block of the row above.
            if not terminate(data, state):
                return done, position(state), BREAKS
            at = position(state) - 1
            if not data[min(at >> 3, data.size - 1)] >> (7 - (at & 7)) & 1:
                return done, at, BREAKS
            begin(data, state, position(state) + 7 >> 3)
            use = is_saved and address - across + 1 >= form.first and across > 1
            for k in range(_CONTEXTS):
                contexts[k] = saved[k] if use else fresh[k]
        if form.sao_luma or form.sao_chroma:
            over = top > 0 and address - across >= form.first
            _adaptive(data, state, contexts, form, left > 0 and done > 0, over)
        z = 0
        while z < cells:
            size = form.tree
            if z:
                size = step
                while z >> 2 * (size - step) & 3 == 0:
                    size += 1
            x, y = left << form.tree, top << form.tree
            for k in range(form.tree - step):
                x += (z >> 2 * k & 1) << (step + k)
                y += (z >> (2 * k + 1) & 1) << (step + k)
            if x >= form.width or y >= form.height:
                z += 1 << 2 * (size - step)
                continue
            while True:
                if form.qp_delta and size >= form.qp_group:
                    group[0] = 0
                if size == step:
                    break
                if x + (1 << size) <= form.width and y + (1 << size) <= form.height:
                    deeper = form.tree - size + 1
                    which = _SPLIT + (depths[(y >> 2) + 1, x >> 2] > deeper) + (depths[y >> 2, (x >> 2) + 1] > deeper)
                    if not decision(data, state, contexts, which):
                        break
                size -= 1
            if not _block(data, state, contexts, form, x, y, size, depths, skips, modes, own, coded, group, end_bit):
                return done, position(state), BREAKS
            z += 1 << 2 * (size - step)
        done += 1
        if form.sync and left == 1:
            for k in range(_CONTEXTS):
                saved[k] = contexts[k]
            is_saved = True
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
