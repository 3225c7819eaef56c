"""Stairs in values laid out in rows: a change that begins somewhere in a row and has ended at the same column of the next."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def stairs(values, width, first, side, means, before, behind):  # type: ignore[no-untyped-def]
    """For each of float64 ``values``, ``width`` in a row, what a stair that begins there would be like.

    The first value has number ``first``. To float64 ``means``: the lesser of the mean values of both parts, in its own row up
    to the row's end and in the next row up to its column; 0 where they differ in sign. A part of fewer than ``side`` values
    tells nothing. To ``before`` and ``behind``: the means of the ``width`` values before the stair and behind it, fewer at
    the ends counted as if the rest were 0.
    """
    n = values.size
    total = np.zeros(n + 1, np.float64)
    for i in range(n):
        total[i + 1] = total[i] + values[i]
    column = first % width
    for at in range(n):
        row_end = min(n, at + width - column)
        end = min(n, at + width)
        before[at] = (total[at] - total[max(0, at - width)]) / width
        behind[at] = (total[min(n, at + 2 * width)] - total[end]) / width
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
        means[at] = own
        column = column + 1 if column + 1 < width else 0


@njit(cache=True, nogil=True)
def stair_heights(values, width, first, side, at_side, out):  # type: ignore[no-untyped-def]
    """How high a stair begins at each value, to float64 ``out``: what is before and behind it must not be as high.

    Within ``side`` columns of the rows' ends it counts ``at_side`` of that, and -1 where no whole stair fits any more.
    """
    before, behind = np.empty(values.size), np.empty(values.size)
    stairs(values, width, first, side, out, before, behind)
    for at in range(values.size):
        column = (first + at) % width
        height = abs(out[at]) - max(abs(before[at]), 0.6 * abs(behind[at]))
        if column < side or width - column < side:
            height *= at_side
        out[at] = height if at + width <= values.size else -1.0
