"""Searches in planes of decoded levels, one value an MCU."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def stair_likeness(flat, width, cap, margin, out):  # type: ignore[no-untyped-def]
    """How much the levels change like a stair at each MCU: to float64 ``out`` for float64 ``flat``, ``width`` MCUs a row.

    A stair shows in the differences to the row above, none counted beyond ``cap``: one mean level from the MCU to that
    below it, none left of it in its own row and right of it in the next. -1 where there is no telling: within
    ``margin`` MCUs of the picture's sides and two rows of its ends.
    """
    total = np.zeros(flat.size + 1, np.float64)
    for i in range(width, flat.size):
        total[i + 1] = total[i] + min(cap, max(-cap, flat[i] - flat[i - width]))
    out[:] = -1.0
    for at in range(2 * width, flat.size - 2 * width):
        column = at % width
        if column < margin or width - column < margin:
            continue
        inside = abs(total[at + width] - total[at]) / width
        left = abs(total[at] - total[at - column]) / column
        right = abs(total[at - column + 2 * width] - total[at + width]) / (width - column)
        out[at] = inside - left - right
