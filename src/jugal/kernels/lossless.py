"""Lossless JPEG entropy-coded data: Huffman-coded differences to a prediction. ITU-T T.81 Annex H."""

from __future__ import annotations

import numpy as np
from numba import njit

from jugal.kernels.jpeg import ERROR_CODE, ERROR_DC
from jugal.kernels.words import word64

_WHOLE = 0xFFFF


@njit(inline="always")
def _predicted(predictor, left, above, corner):  # type: ignore[no-untyped-def]
    """Table H.1: what a sample with neighbours on both sides is predicted to be."""
    if predictor == 1:
        return left
    if predictor == 2:
        return above
    if predictor == 3:
        return corner
    if predictor == 4:
        return left + above - corner
    if predictor == 5:
        return left + ((above - corner) >> 1)
    if predictor == 6:
        return above + ((left - corner) >> 1)
    return (left + above) >> 1


@njit(cache=True, nogil=True)
def decode_lossless(  # type: ignore[no-untyped-def]
    data, seg_start, seg_end, seg_line, seg_count, units_x, h, v, tab, fast, full, predictor, bits,
    stride, offset, sums, line_pos, seg_done, seg_used, err_pos, err_line, err_kind,
):  # fmt: skip
    """Follows one lossless scan, a line of MCUs after another, and sums its samples up over 8 × 8.

    ``data`` is unstuffed uint8 with at least 16 bytes of padding; segment ``s`` covers bytes ``seg_start[s]`` to
    ``seg_end[s]`` and should hold ``seg_count[s]`` lines from number ``seg_line[s]``. An MCU is ``h`` × ``v`` samples
    of each component, ``units_x`` a line; ``bits`` is the precision less the point transform (H.1.2.1). Adds each
    sample's distance from the middle to int32 ``sums`` (per component a plane at ``offset`` with ``stride`` a row),
    writes the bit at which each line begins to int64 ``line_pos``, per segment the lines done and the bits used. A
    segment ends at its first error: all that follows it is predicted from it. Returns the number of errors, of a code
    that no table knows and of a sample that the precision has no room for.
    """
    ncomp = h.size
    errors = 0
    widest, tallest = 0, 0
    for c in range(ncomp):
        widest, tallest = max(widest, units_x * h[c]), max(tallest, v[c])
    lines = np.zeros((ncomp, tallest + 1, widest), np.int32)
    middle = 1 << (bits - 1)
    for s in range(seg_start.size):
        pos, stop = seg_start[s] * 8, seg_end[s] * 8
        done, halted = 0, False
        for line in range(seg_line[s], seg_line[s] + seg_count[s]):
            line_pos[line] = pos
            first = line == seg_line[s]
            for mx in range(units_x):
                for c in range(ncomp):
                    for by in range(v[c]):
                        for bx in range(h[c]):
                            if pos >= stop or halted:
                                halted = True
                                break
                            word = word64(data, pos >> 3)
                            look = np.int64((word >> np.uint64(48 - (pos & 7))) & np.uint64(_WHOLE))
                            entry = np.int64(fast[tab[c], look >> 6])
                            if entry == 0:
                                entry = np.int64(full[tab[c], look])
                            size = entry & 255
                            if entry == 0 or size > 16:
                                if errors < err_pos.size:
                                    err_pos[errors], err_line[errors], err_kind[errors] = pos, line, ERROR_CODE
                                errors += 1
                                halted = True
                                break
                            used = (pos & 7) + (entry >> 8)
                            pos += entry >> 8
                            difference = np.int64(0)
                            if size == 16:
                                difference = np.int64(32768)
                            elif size:
                                look = np.int64((word >> np.uint64(48 - used)) & np.uint64(_WHOLE)) >> (16 - size)
                                difference = look if look >= (1 << (size - 1)) else look - ((1 << size) - 1)
                                pos += size
                            x = mx * h[c] + bx
                            if x == 0:
                                ahead = middle if first and by == 0 else lines[c, by, 0]
                            elif first and by == 0:
                                ahead = lines[c, 1, x - 1]
                            else:
                                ahead = _predicted(
                                    predictor, lines[c, by + 1, x - 1], lines[c, by, x], lines[c, by, x - 1]
                                )
                            value = (ahead + difference) & _WHOLE
                            if value >> bits:
                                if errors < err_pos.size:
                                    err_pos[errors], err_line[errors], err_kind[errors] = pos, line, ERROR_DC
                                errors += 1
                                halted = True
                                break
                            lines[c, by + 1, x] = value
                            sums[offset[c] + ((line * v[c] + by) >> 3) * stride[c] + (x >> 3)] += value - middle
                if halted:
                    break
            if halted or pos > stop:
                break
            for c in range(ncomp):
                lines[c, 0, :] = lines[c, v[c], :]
            done += 1
        seg_done[s] = done
        seg_used[s] = pos - seg_start[s] * 8
    return errors
