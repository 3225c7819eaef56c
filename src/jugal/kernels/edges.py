"""Pixel rows at the edges of blocks, from their coefficients."""

from __future__ import annotations

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
