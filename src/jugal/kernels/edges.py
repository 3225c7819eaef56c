"""Pixel rows at the edges of blocks, from their coefficients."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def edge_means(coefficients, blocks, level, which, weights, out):  # type: ignore[no-untyped-def]
    """The mean of one row of pixels over all of ``blocks``, to float32 ``out`` (units).

    ``coefficients`` are int16 (units, blocks, 64) in zigzag order, of which the numbers in int64 ``blocks`` count; ``level`` is
    added to the first of each. Only the coefficients ``which`` (int64) without horizontal frequency tell of it, by their float32
    ``weights``; the first is that of all.
    """
    for unit in range(coefficients.shape[0]):
        total = np.float32(0.0)
        for number in range(blocks.size):
            block = coefficients[unit, blocks[number]]
            total += (block[0] + level) * weights[0]
            for k in range(1, which.size):
                total += block[which[k]] * weights[k]
        out[unit] = total / np.float32(blocks.size)
