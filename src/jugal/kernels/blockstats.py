"""Statistics of fixed-size blocks of bytes, and searches that touch every byte."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

SECTOR = 512
PAGE = 4096


@njit(cache=True, nogil=True)
def uniform_sectors(data, out):  # type: ignore[no-untyped-def]
    """Per 512-byte sector of uint8 ``data``: its byte value when all bytes are the same, else -1.

    ``out`` is int16, one entry a sector, the last sector may be short. Most sectors cost a few bytes.
    """
    n = data.size
    for block in range(out.size):
        start = block * 512
        end = min(start + 512, n)
        value = data[start]
        same = True
        if data[end - 1] != value:
            same = False
        else:
            for i in range(start + 1, end):
                if data[i] != value:
                    same = False
                    break
        out[block] = value if same else -1


@njit(cache=True, nogil=True)
def page_stats(data, entropy, printable, ff_total, ff_stuffed):  # type: ignore[no-untyped-def]
    """Per 4,096-byte page of uint8 ``data``.

    Fills float32 ``entropy`` (bits per byte, 0..8), float32 ``printable`` (share of tab, line ends and
    0x20..0x7E), int32 ``ff_total`` (0xFF bytes) and ``ff_stuffed`` (those followed by 0x00 or 0xD0..0xD7).
    """
    n = data.size
    hist = np.zeros((4, 256), np.int32)
    for page in range(entropy.size):
        start = page * 4096
        end = min(start + 4096, n)
        hist[:] = 0
        i = start
        while i + 4 <= end:
            hist[0, data[i]] += 1
            hist[1, data[i + 1]] += 1
            hist[2, data[i + 2]] += 1
            hist[3, data[i + 3]] += 1
            i += 4
        while i < end:
            hist[0, data[i]] += 1
            i += 1
        length = end - start
        bits = 0.0
        text = 0
        for value in range(256):
            count = hist[0, value] + hist[1, value] + hist[2, value] + hist[3, value]
            if count:
                p = count / length
                bits -= p * math.log2(p)
                if value == 9 or value == 10 or value == 13 or 32 <= value < 127:
                    text += count
        entropy[page] = bits
        printable[page] = text / length
        total = hist[0, 255] + hist[1, 255] + hist[2, 255] + hist[3, 255]
        stuffed = 0
        if total and total < 512:
            for i in range(start, end):
                if data[i] == 255 and i + 1 < n:
                    following = data[i + 1]
                    if following == 0 or 0xD0 <= following <= 0xD7:
                        stuffed += 1
        ff_total[page] = total
        ff_stuffed[page] = stuffed


@njit(cache=True, nogil=True)
def page_glance(data, entropy, printable):  # type: ignore[no-untyped-def]
    """As ``page_stats``, judged by two stretches of 64 bytes a page: for files too large to be counted in full.

    The entropy of 128 bytes falls short of that of the page; 1.25 bits are added so that dense data reads near 8.
    """
    n = data.size
    hist = np.zeros(256, np.int32)
    logs = np.zeros(129, np.float64)
    for count in range(1, 129):
        logs[count] = count * math.log2(count)
    for page in range(entropy.size):
        start = page * 4096
        end = min(start + 4096, n)
        length = 0
        text = 0
        total = 0.0
        for offset in (1000, 3000):
            first = min(start + offset, max(start, end - 64))
            for i in range(first, min(first + 64, end)):
                value = data[i]
                # The sum of n log n grows by what this byte adds to its value's count.
                total += logs[hist[value] + 1] - logs[hist[value]]
                hist[value] += 1
                length += 1
                if 32 <= value < 127 or value == 9 or value == 10 or value == 13:
                    text += 1
        for offset in (1000, 3000):
            first = min(start + offset, max(start, end - 64))
            for i in range(first, min(first + 64, end)):
                hist[data[i]] = 0
        bits = math.log2(length) - total / length
        entropy[page] = bits + 1.25 if bits > 1e-9 else 0.0
        printable[page] = text / length


@njit(cache=True, nogil=True)
def period_of(data, limit):  # type: ignore[no-untyped-def]
    """Smallest period 1..``limit`` with which uint8 ``data`` repeats throughout; 0 if none."""
    n = data.size
    for period in range(1, min(limit, n // 2) + 1):
        ok = True
        for i in range(n - period):
            if data[i] != data[i + period]:
                ok = False
                break
        if ok:
            return period
    return 0
