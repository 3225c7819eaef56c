"""Stairs in values laid out in rows: a change that begins somewhere in a row and has ended at the same column of the next."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(inline="always")
def _sums(values):  # type: ignore[no-untyped-def]
    """Sums of all values before each and, last, of all."""
    total = np.zeros(values.size + 1, np.float64)
    for i in range(values.size):
        total[i + 1] = total[i] + values[i]
    return total


@njit(inline="always")
def _stair(total, at, column, width, side):  # type: ignore[no-untyped-def]
    """What a stair that begins at value ``at`` in ``column`` of its row would be like: three means.

    Of itself the lesser of the mean values of both parts, in its own row up to the row's end and in the next row up to its
    column; 0 where they differ in sign. A part of fewer than ``side`` values tells nothing. And of the ``width`` values before
    the stair and behind it, fewer at the ends counted as if the rest were 0.
    """
    n = total.size - 1
    row_end = min(n, at + width - column)
    end = min(n, at + width)
    before = (total[at] - total[max(0, at - width)]) / width
    behind = (total[min(n, at + 2 * width)] - total[end]) / width
    own = (total[row_end] - total[at]) / (row_end - at)
    have = end - row_end
    if have >= side:
        following = (total[end] - total[row_end]) / have
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
    total = _sums(values)
    for at in range(values.size):
        own, before, _ = _stair(total, at, (first + at) % width, width, side)
        whole = min(width, values.size - at) * own
        out[at] = min(whole, whole - width * before)


@njit(cache=True, nogil=True)
def stair_heights(values, width, first, side, at_side, out):  # type: ignore[no-untyped-def]
    """How high a stair begins at each value, to float32 ``out``, which may be ``values``: what is before and behind it must not be
    as high.

    Within ``side`` columns of the rows' ends it counts ``at_side`` of that, and -1 where no whole stair fits any more.
    """
    total = _sums(values)
    for at in range(values.size):
        column = (first + at) % width
        own, before, behind = _stair(total, at, column, width, side)
        height = abs(own) - max(abs(before), 0.6 * abs(behind))
        if column < side or width - column < side:
            height *= at_side
        out[at] = height if at + width <= values.size else -1.0
