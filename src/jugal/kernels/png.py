"""PNG scanline filters undone (W3C PNG clause 9)."""

from __future__ import annotations

from numba import njit


@njit(cache=True, nogil=True)
def unfilter(rows, unit):  # type: ignore[no-untyped-def]
    """Undoes the filters of uint8 ``rows`` (rows, 1 + bytes a row) in place; ``unit`` is bytes a pixel.

    Rows with an impossible filter type are left as they are.
    """
    height, width = rows.shape
    for y in range(height):
        kind = rows[y, 0]
        for x in range(1, width):
            left = rows[y, x - unit] if x > unit else 0
            above = rows[y - 1, x] if y > 0 else 0
            if kind == 1:
                rows[y, x] = (rows[y, x] + left) & 255
            elif kind == 2:
                rows[y, x] = (rows[y, x] + above) & 255
            elif kind == 3:
                rows[y, x] = (rows[y, x] + ((int(left) + int(above)) >> 1)) & 255
            elif kind == 4:
                corner = rows[y - 1, x - unit] if (y > 0 and x > unit) else 0
                estimate = int(left) + int(above) - int(corner)
                to_left, to_above, to_corner = (
                    abs(estimate - left),
                    abs(estimate - above),
                    abs(estimate - corner),
                )
                if to_left <= to_above and to_left <= to_corner:
                    rows[y, x] = (rows[y, x] + left) & 255
                elif to_above <= to_corner:
                    rows[y, x] = (rows[y, x] + above) & 255
                else:
                    rows[y, x] = (rows[y, x] + corner) & 255
