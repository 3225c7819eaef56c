"""Scans of DC values read with Huffman tables that are only supposed: how far do they make sense (ITU-T T.81 F.2.2.1, G.1.2.1)."""

from __future__ import annotations

import numpy as np
from numba import njit

from jugal.kernels.jpeg import _extend, _peek16

SYMBOLS = 16


@njit(inline="always")
def _follow(  # type: ignore[no-untyped-def]
    data, begins, ends, interval, limits, shifts, symbols, tables, table_of, h, v, mcus_x, mcus_y, bound, patience, planes,
    offset, counts, most,
):  # fmt: skip
    """Reads MCUs of one scan; returns (score, MCUs up to where it was reached, whether all of it reads).

    A block scores for lying near the one above it, by as much as values usually differ from one block to the next, and so do
    all blocks of a restart interval that ends where its data do.
    """
    pred, usual = np.zeros(h.size, np.int64), np.full(h.size, 4.0)
    total, best, reached = 0.0, 0.0, 0
    part, pos, stop, whole, lost = 0, begins[0], ends[0], True, False
    weight = float((h * v).sum() * interval)
    for unit in range(min(most, mcus_x * mcus_y)):
        if interval and unit and unit % interval == 0:
            ended = not lost and 0 <= stop - pos < 8
            total += weight if ended else -weight
            whole, lost = whole and ended, False
            part += 1
            if part >= begins.size:
                return best, reached, False
            pos, stop = begins[part], ends[part]
            pred[:] = 0
        if lost:
            continue
        my, mx = unit // mcus_x, unit % mcus_x
        for c in range(h.size):
            number, stride = tables[table_of[c]], mcus_x * h[c]
            for block in range(h[c] * v[c]):
                length, bits = 17, 0
                if pos < stop and not lost:
                    bits, length = _peek16(data, pos), 1
                    while length < 17 and bits >= limits[number, length]:
                        length += 1
                if length == 17:
                    lost = True
                    continue
                size = symbols[number, (bits >> (16 - length)) - shifts[number, length]]
                counts[table_of[c], size] += 1
                pos += length
                change = 0
                if size:
                    change = _extend(data, pos, size)
                    pos += size
                    pred[c] += change
                    lost = lost or abs(pred[c]) > bound[c]
                row = my * v[c] + block // h[c]
                at = offset[c] + row * stride + mx * h[c] + block % h[c]
                planes[at] = pred[c]
                usual[c] += (abs(change) - usual[c]) / 128
                if row:
                    total += max(-1.0, 1.0 - abs(pred[c] - planes[at - stride]) / (2.0 * usual[c] + 1.0))
        if total > best:
            best, reached = total, unit + 1
        if (lost and not interval) or total < 0.75 * best - min(patience, 30.0 + best):
            return best, reached, False
    return best, reached, whole and not lost and 0 <= stop - pos < 8 and most >= mcus_x * mcus_y


@njit(cache=True, nogil=True)
def try_tables(  # type: ignore[no-untyped-def]
    data, begins, ends, interval, limits, shifts, symbols, tried, table_of, h, v, mcus_x, mcus_y, bound, patience, planes,
    offset, scores, reached,
):  # fmt: skip
    """Reads a scan with each of ``tried`` (int64: sets of tables by number) until one reads all of it; returns which did, or -1.

    ``data`` is unstuffed, 16 bytes longer than what ``ends`` says; ``begins`` and ``ends`` are the bits of its restart
    intervals of ``interval`` MCUs (0: one). Of table n, codes of length l are below ``limits[n, l]`` as the first of 16
    bits, and ``symbols[n]`` holds the category of code c at ``c - shifts[n, l]``. Component i has ``h[i] * v[i]`` blocks an MCU
    by table ``table_of[i]`` of a set, its values lie within ``bound[i]`` and are kept in int64 ``planes`` from ``offset[i]`` on.
    A set is given up ``patience`` blocks and a quarter of its best behind that, sooner where its best is little. To float64 ``scores`` go about the number of blocks that lie near
    the ones above them, to int64 ``reached`` the MCUs in which they are.
    """
    counts = np.zeros((tried.shape[1], SYMBOLS), np.int64)
    for k in range(tried.shape[0]):
        scores[k], reached[k], whole = _follow(
            data, begins, ends, interval, limits, shifts, symbols, tried[k], table_of, h, v, mcus_x, mcus_y, bound, patience,
            planes, offset, counts, mcus_x * mcus_y,
        )  # fmt: skip
        if whole:
            return k
    return -1


@njit(cache=True, nogil=True)
def count_categories(  # type: ignore[no-untyped-def]
    data, begins, ends, interval, limits, shifts, symbols, tables, table_of, h, v, mcus_x, mcus_y, bound, planes, offset, most,
    counts,
):  # fmt: skip
    """Adds to int64 ``counts`` (tables, 16) how often each category comes in the first ``most`` MCUs; see ``try_tables``."""
    _follow(
        data, begins, ends, interval, limits, shifts, symbols, tables, table_of, h, v, mcus_x, mcus_y, bound, 1e18, planes,
        offset, counts, most,
    )  # fmt: skip
