"""Stairs in values laid out in rows: a change that begins somewhere in a row and has ended at the same column of the next."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(inline="always")
def _room(width):  # type: ignore[no-untyped-def]
    """Room for the sums that a stair is told from, those before each of three widths of values: a power of two, used in turn."""
    size = 1
    while size < 3 * width + 1:
        size *= 2
    return np.zeros(size, np.float64)


@njit(inline="always")
def _sum_up(values, at, width, known, total):  # type: ignore[no-untyped-def]
    """Sums up all values before each of those up to two widths behind ``at``; ``known`` are in ``total``, and how many is returned."""
    mask = total.size - 1
    while known < min(values.size, at + 2 * width):
        total[(known + 1) & mask] = total[known & mask] + values[known]
        known += 1
    return known


@njit(inline="always")
def _stair(total, n, at, column, width, side):  # type: ignore[no-untyped-def]
    """What a stair that begins at value ``at`` of ``n`` in ``column`` of its row would be like: three means.

    Of itself the lesser of the mean values of both parts, in its own row up to the row's end and in the next row up to its
    column; 0 where they differ in sign. A part of fewer than ``side`` values tells nothing. And of the ``width`` values before
    the stair and behind it, fewer at the ends counted as if the rest were 0.
    """
    mask = total.size - 1
    row_end = min(n, at + width - column)
    end = min(n, at + width)
    before = (total[at & mask] - total[max(0, at - width) & mask]) / width
    behind = (total[min(n, at + 2 * width) & mask] - total[end & mask]) / width
    own = (total[row_end & mask] - total[at & mask]) / (row_end - at)
    have = end - row_end
    if have >= side:
        following = (total[end & mask] - total[row_end & mask]) / have
        if width - column < side:
            own = following
        elif own * following <= 0.0:
            own = 0.0
        elif abs(following) < abs(own):
            own = following
    return own, before, behind


@njit(cache=True, nogil=True)
def stair_sums(values, width, first, side, out):  # type: ignore[no-untyped-def]
    """For each of float32 ``values``, ``width`` in a row, what the values of a stair that begins there say in all, to float32 ``out``,
    which may be ``values``.

    The first value has number ``first``. That is the mean of the stair by as many values as it may have, at the end fewer than
    ``width``; or as much less as the ``width`` values before it say, fewer at the start.
    """
    total, known = _room(width), 0
    for at in range(values.size):
        known = _sum_up(values, at, width, known, total)
        own, before, _ = _stair(total, values.size, at, (first + at) % width, width, side)
        whole = min(width, values.size - at) * own
        out[at] = min(whole, whole - width * before)


@njit(cache=True, nogil=True)
def stair_heights(values, width, first, side, at_side, least, out):  # type: ignore[no-untyped-def]
    """How high a stair begins at each value, to float32 ``out``, which may be ``values``: what is before and behind it must not be
    as high.

    Within ``side`` columns of the rows' ends it counts ``at_side`` of that, 1 at most, and -1 where no whole stair fits any more.
    Those lower than ``least`` may be told as -1 too.
    """
    total, known = _room(width), 0
    mask = total.size - 1
    for at in range(values.size):
        known = _sum_up(values, at, width, known, total)
        if at + width > values.size:
            out[at] = -1.0
            continue
        column = (first + at) % width
        beside = column < side or width - column < side
        # Both parts are as high as the stair: most values are no stairs, as their sum alone tells.
        if not beside and abs(total[(at + width) & mask] - total[at & mask]) < least * width:
            out[at] = -1.0
            continue
        own, before, behind = _stair(total, values.size, at, column, width, side)
        height = abs(own) - max(abs(before), 0.6 * abs(behind))
        out[at] = height * at_side if beside else height
