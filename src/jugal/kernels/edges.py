"""Pixel rows at the edges of blocks, from their coefficients."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def edge_rows(coefficients, blocks, level, basis, out):  # type: ignore[no-untyped-def]
    """Adds to float32 ``out`` (units, 8 a block) what int16 ``coefficients`` (units, blocks, 64) give to one row of pixels.

    Only the numbers in int64 ``blocks`` count; ``level`` is added to their first coefficient. ``basis`` (64, 8), float32, is
    what each coefficient gives. Most coefficients are 0 and cost nothing.
    """
    for unit in range(coefficients.shape[0]):
        for number in range(blocks.size):
            block = coefficients[unit, blocks[number]]
            row = out[unit, 8 * number : 8 * number + 8]
            for k in range(64):
                value = block[k] + (level if k == 0 else 0)
                if value:
                    for x in range(8):
                        row[x] += value * basis[k, x]


@njit(cache=True, nogil=True)
def edge_means(coefficients, blocks, level, which, weights, out):  # type: ignore[no-untyped-def]
    """The mean of such a row over all of ``blocks``, to float32 ``out`` (units).

    Only the coefficients ``which`` (int64) without horizontal frequency tell of it, by their float32 ``weights``; the first
    is that of all.
    """
    for unit in range(coefficients.shape[0]):
        total = np.float32(0.0)
        for number in range(blocks.size):
            block = coefficients[unit, blocks[number]]
            total += (block[0] + level) * weights[0]
            for k in range(1, which.size):
                total += block[which[k]] * weights[k]
        out[unit] = total / np.float32(blocks.size)
