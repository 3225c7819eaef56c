"""Slice data of AVC in CABAC (ISO/IEC 14496-10 9.3): intra slices of frames followed to their last bit."""

from __future__ import annotations

import json
from functools import cache
from importlib.resources import files

import numpy as np
from numba import njit
from numpy.typing import NDArray

# Kinds of macroblock, 0 for one outside of the slice.
_SMALL, _WHOLE, _RAW = 1, 2, 3
# State of the arithmetic decoder.
_RANGE, _OFFSET, _AT = 0, 1, 2
# Context offsets (table 9-34).
_MB_TYPE, _QP_DELTA, _CHROMA_MODE, _PREDICTED, _REMAINING = 3, 60, 64, 68, 69
_LUMA_PATTERN, _CHROMA_PATTERN, _CODED, _EIGHT = 73, 77, 85, 399
# By block category (table 9-42): luma DC, luma AC, luma 4x4, chroma DC, chroma AC, luma 8x8.
_CODED_OF = np.array((0, 4, 8, 12, 16, 0), np.int64)
_SIGNIFICANT_OF = np.array((105, 120, 134, 149, 152, 402), np.int64)
_LAST_OF = np.array((166, 181, 195, 210, 213, 417), np.int64)
_LEVEL_OF = np.array((227, 237, 247, 257, 266, 426), np.int64)
_LENGTH_OF = np.array((16, 15, 16, 4, 15, 64), np.int64)
# Bits of a macroblock's coded blocks: 16 luma blocks by place, DC of luma and chroma, four each of chroma AC.
_LUMA_DC, _CHROMA_DC, _CHROMA_AC = 16, 17, 19
_LARGEST_DELTA = 104
# Bits that encoders leave set behind the one that ends a slice.
_SLACK = 16


@cache
def tables() -> tuple[NDArray[np.int64], ...]:
    """Context starts of intra slices (table 9-12 and on), LPS ranges and followers, 8x8 context increments."""
    loaded = json.loads(files("jugal.kernels").joinpath("cabac_tables.json").read_text())
    names = ("intra_start", "lps_range", "after_lps", "significant_8x8", "last_8x8")
    return tuple(np.array(loaded[name], np.int64) for name in names)


@njit(cache=True, nogil=True)
def _bit(data, state):  # type: ignore[no-untyped-def]
    at = state[_AT]
    state[_AT] = at + 1
    return (data[at >> 3] >> (7 - (at & 7))) & 1 if at >> 3 < data.size else 0


@njit(cache=True, nogil=True)
def _begin(data, state):  # type: ignore[no-untyped-def]
    state[_RANGE] = 510
    offset = 0
    for _ in range(9):
        offset = offset << 1 | _bit(data, state)
    state[_OFFSET] = offset


@njit(cache=True, nogil=True)
def _decision(data, state, contexts, which, lps_range, after_lps):  # type: ignore[no-untyped-def]
    """A bin with a context, which holds its state twice plus its likelier value."""
    context = contexts[which]
    least = lps_range[context >> 1, state[_RANGE] >> 6 & 3]
    width = state[_RANGE] - least
    value = context & 1
    if state[_OFFSET] >= width:
        state[_OFFSET] -= width
        width = least
        contexts[which] = after_lps[context >> 1] << 1 | (value ^ 1 if context < 2 else value)
        value ^= 1
    elif context < 124:
        contexts[which] = context + 2
    while width < 256:
        width <<= 1
        state[_OFFSET] = state[_OFFSET] << 1 | _bit(data, state)
    state[_RANGE] = width
    return value


@njit(cache=True, nogil=True)
def _bypass(data, state):  # type: ignore[no-untyped-def]
    state[_OFFSET] = state[_OFFSET] << 1 | _bit(data, state)
    if state[_OFFSET] >= state[_RANGE]:
        state[_OFFSET] -= state[_RANGE]
        return 1
    return 0


@njit(cache=True, nogil=True)
def _terminate(data, state):  # type: ignore[no-untyped-def]
    """The bin before an end; where it is 1, the last bit read is the one that ends the data."""
    state[_RANGE] -= 2
    ends = state[_OFFSET] >= state[_RANGE]
    if not ends and state[_RANGE] < 256:
        state[_RANGE] <<= 1
        state[_OFFSET] = state[_OFFSET] << 1 | _bit(data, state)
    return ends


@njit(cache=True, nogil=True)
def _block(data, state, contexts, kind, lps_range, after_lps, significant_8x8, last_8x8, places):  # type: ignore[no-untyped-def]
    """A residual block whose coded flag is set (7.3.5.3.3); False where a level is beyond all bounds."""
    length = _LENGTH_OF[kind]
    count = 0
    at = 0
    while at < length - 1:
        plain = min(at, 2) if kind == 3 else at
        which = _SIGNIFICANT_OF[kind] + (significant_8x8[at] if kind == 5 else plain)
        if _decision(data, state, contexts, which, lps_range, after_lps):
            places[count] = at
            count += 1
            which = _LAST_OF[kind] + (last_8x8[at] if kind == 5 else plain)
            if _decision(data, state, contexts, which, lps_range, after_lps):
                break
        at += 1
    if at == length - 1:
        count += 1
    ones, larger = 0, 0
    base = _LEVEL_OF[kind]
    for _ in range(count):
        which = base + (0 if larger else min(4, 1 + ones))
        if not _decision(data, state, contexts, which, lps_range, after_lps):
            ones += 1
        else:
            which = base + 5 + min(4 - (1 if kind == 3 else 0), larger)
            level = 1
            while level < 14 and _decision(data, state, contexts, which, lps_range, after_lps):
                level += 1
            larger += 1
            if level == 14:
                order = 0
                while _bypass(data, state):
                    order += 1
                    if order > 16:
                        return False
                for _ in range(order):
                    _bypass(data, state)
        _bypass(data, state)
    return True


@njit(cache=True, nogil=True)
def _coded(left, above, is_left, is_above, at_left, at_above):  # type: ignore[no-untyped-def]
    """Context increment of a coded block flag from the flags of the neighbours; what is not there counts as coded."""
    one = (left >> at_left & 1) if is_left else 1
    other = (above >> at_above & 1) if is_above else 1
    return one + 2 * other


@njit(cache=True, nogil=True)
def read_intra_slice(  # type: ignore[no-untyped-def]
    data, start, end_bit, qp, width, eight, most, intra_start, lps_range, after_lps, significant_8x8, last_8x8
):  # type: ignore[no-untyped-def]
    """Follows the intra slice of a frame (4:2:0) whose arithmetic code begins with byte ``start`` of ``data``.

    ``end_bit`` is the place of the last bit set in the unit, ``width`` the picture's in macroblocks, ``eight`` says that
    8x8 transforms are allowed, ``most`` bounds the macroblocks. Returns how many there are; 0 where the data do not
    end where they must.
    """
    contexts = np.empty(460, np.uint8)
    for k in range(460):
        at = min(max((intra_start[k, 0] * qp >> 4) + intra_start[k, 1], 1), 126)
        contexts[k] = (63 - at) << 1 if at <= 63 else (at - 64) << 1 | 1
    state = np.zeros(3, np.int64)
    state[_AT] = 8 * start
    _begin(data, state)
    places = np.zeros(64, np.int64)
    # A column each, of the row above or, right of where we are, of the row before it; the last is the one left of us.
    kinds = np.zeros(width + 1, np.int64)
    luma = np.zeros(width + 1, np.int64)
    chroma = np.zeros(width + 1, np.int64)
    modes = np.zeros(width + 1, np.int64)
    eights = np.zeros(width + 1, np.int64)
    blocks = np.zeros(width + 1, np.int64)
    delta_before = False
    done = 0
    while done < most:
        x = done % width
        if x == 0:
            kinds[width] = 0
        is_left, is_above = kinds[width] != 0, kinds[x] != 0
        which = _MB_TYPE + (is_left and kinds[width] != _SMALL) + (is_above and kinds[x] != _SMALL)
        kind, transform, pattern, tint, mode, coded = _SMALL, 0, 0, 0, 0, 0
        if _decision(data, state, contexts, which, lps_range, after_lps):
            if _terminate(data, state):
                kind = _RAW
            else:
                kind = _WHOLE
                if _decision(data, state, contexts, _MB_TYPE + 3, lps_range, after_lps):
                    pattern = 15
                if _decision(data, state, contexts, _MB_TYPE + 4, lps_range, after_lps):
                    tint = 1 + _decision(data, state, contexts, _MB_TYPE + 5, lps_range, after_lps)
                _decision(data, state, contexts, _MB_TYPE + 6, lps_range, after_lps)
                _decision(data, state, contexts, _MB_TYPE + 7, lps_range, after_lps)
        if kind == _RAW:
            state[_AT] = (state[_AT] + 7 & ~7) + 8 * 384
            _begin(data, state)
            pattern, tint, coded, delta_before = 15, 2, (1 << 27) - 1, False
        else:
            if kind == _SMALL:
                if eight:
                    which = _EIGHT + (is_left and eights[width]) + (is_above and eights[x])
                    transform = _decision(data, state, contexts, which, lps_range, after_lps)
                for _ in range(4 if transform else 16):
                    if not _decision(data, state, contexts, _PREDICTED, lps_range, after_lps):
                        for _ in range(3):
                            _decision(data, state, contexts, _REMAINING, lps_range, after_lps)
            which = _CHROMA_MODE + (is_left and modes[width] != 0) + (is_above and modes[x] != 0)
            if _decision(data, state, contexts, which, lps_range, after_lps):
                mode = 1
                while mode < 3 and _decision(data, state, contexts, _CHROMA_MODE + 3, lps_range, after_lps):
                    mode += 1
            if kind == _SMALL:
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
                    pattern |= _decision(data, state, contexts, which, lps_range, after_lps) << part
                which = _CHROMA_PATTERN + (is_left and chroma[width] != 0) + 2 * (is_above and chroma[x] != 0)
                if _decision(data, state, contexts, which, lps_range, after_lps):
                    which = _CHROMA_PATTERN + 4 + (is_left and chroma[width] == 2) + 2 * (is_above and chroma[x] == 2)
                    tint = 1 + _decision(data, state, contexts, which, lps_range, after_lps)
            if kind == _WHOLE or pattern or tint:
                delta = 0
                which = _QP_DELTA + delta_before
                while _decision(data, state, contexts, which, lps_range, after_lps):
                    which = _QP_DELTA + (2 if delta == 0 else 3)
                    delta += 1
                    if delta > _LARGEST_DELTA:
                        return 0
                delta_before = delta != 0
            else:
                delta_before = False
            beside, over = blocks[width], blocks[x]
            if kind == _WHOLE:
                which = _CODED + _coded(beside, over, is_left, is_above, _LUMA_DC, _LUMA_DC)
                if _decision(data, state, contexts, which, lps_range, after_lps):
                    coded |= 1 << _LUMA_DC
                    if not _block(data, state, contexts, 0, lps_range, after_lps, significant_8x8, last_8x8, places):
                        return 0
            for part in range(4):
                if not pattern >> part & 1:
                    continue
                if transform:
                    if not _block(data, state, contexts, 5, lps_range, after_lps, significant_8x8, last_8x8, places):
                        return 0
                    coded |= 0x33 << (8 * (part >> 1) + 2 * (part & 1))
                    continue
                category = 1 if kind == _WHOLE else 2
                for k in range(4):
                    column, row = 2 * (part & 1) + (k & 1), 2 * (part >> 1) + (k >> 1)
                    place = 4 * row + column
                    which = (
                        _CODED
                        + _CODED_OF[category]
                        + _coded(
                            coded if column else beside,
                            coded if row else over,
                            column > 0 or is_left,
                            row > 0 or is_above,
                            place - 1 if column else place + 3,
                            place - 4 if row else place + 12,
                        )
                    )
                    if _decision(data, state, contexts, which, lps_range, after_lps):
                        coded |= 1 << place
                        if not _block(
                            data, state, contexts, category, lps_range, after_lps, significant_8x8, last_8x8, places
                        ):
                            return 0
            if tint:
                for plane in range(2):
                    place = _CHROMA_DC + plane
                    which = _CODED + 12 + _coded(beside, over, is_left, is_above, place, place)
                    if _decision(data, state, contexts, which, lps_range, after_lps):
                        coded |= 1 << place
                        if not _block(
                            data, state, contexts, 3, lps_range, after_lps, significant_8x8, last_8x8, places
                        ):
                            return 0
            if tint == 2:
                for k in range(8):
                    place = _CHROMA_AC + k
                    which = (
                        _CODED
                        + 16
                        + _coded(
                            coded if k & 1 else beside,
                            coded if k & 2 else over,
                            bool(k & 1) or is_left,
                            bool(k & 2) or is_above,
                            place - 1 if k & 1 else place + 1,
                            place - 2 if k & 2 else place + 2,
                        )
                    )
                    if _decision(data, state, contexts, which, lps_range, after_lps):
                        coded |= 1 << place
                        if not _block(
                            data, state, contexts, 4, lps_range, after_lps, significant_8x8, last_8x8, places
                        ):
                            return 0
        for column in (x, width):
            kinds[column], luma[column], chroma[column] = kind, pattern, tint
            modes[column], eights[column], blocks[column] = mode, transform, coded
        done += 1
        if _terminate(data, state):
            last = state[_AT] - 1
            fits = 0 <= end_bit - last < _SLACK and data[last >> 3] >> (7 - (last & 7)) & 1
            return done if fits else 0
        if state[_AT] > end_bit + 1:
            return 0
    return 0
