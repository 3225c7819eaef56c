"""Statistics of fixed-size blocks of bytes, and searches that touch every byte."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from jugal.kernels.words import has_ff, word64

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


@njit(inline="always")
def _is_strange(value):  # type: ignore[no-untyped-def]
    """No tab, line end or 0x20..0x7E; reckoned without a branch, which no processor could foresee in coded data."""
    return ((value < 32) | (value > 126)) & (value != 9) & (value != 10) & (value != 13)


@njit(cache=True, nogil=True)
def text_pages(data, share, out):  # type: ignore[no-untyped-def]
    """Per 4,096-byte page of uint8 ``data`` whether more than ``share`` (0..1) of it is printable, to bool ``out``.

    Where half of 64 bytes in two places of a page are not, the rest of it is not looked at.
    """
    for page in range(out.size):
        start = page * 4096
        end = min(start + 4096, data.size)
        looked = strange = 0
        for first in (start + 1000, start + 3000):
            for i in range(min(first, end), min(first + 32, end)):
                looked += 1
                strange += _is_strange(data[i])
        out[page] = False
        if 2 * strange > looked:
            continue
        most = (1.0 - share) * (end - start)
        strange = 0
        for i in range(start, end):
            strange += _is_strange(data[i])
        out[page] = strange < most


@njit(cache=True, nogil=True)
def page_entropy(data, pages, out):  # type: ignore[no-untyped-def]
    """Entropy in bits per byte, 0..8, of each of the 4,096-byte ``pages`` (int64 numbers), to float32 ``out``."""
    hist = np.zeros((4, 256), np.int32)
    logs = np.zeros(4097, np.float64)
    for count in range(1, 4097):
        logs[count] = count * math.log2(count)
    for number in range(pages.size):
        start = pages[number] * 4096
        end = min(start + 4096, data.size)
        hist[:] = 0
        i = start
        # Four histograms, since a counter that was just written to cannot be read at once.
        while i + 4 <= end:
            hist[0, data[i]] += 1
            hist[1, data[i + 1]] += 1
            hist[2, data[i + 2]] += 1
            hist[3, data[i + 3]] += 1
            i += 4
        while i < end:
            hist[0, data[i]] += 1
            i += 1
        total = 0.0
        for value in range(256):
            total += logs[hist[0, value] + hist[1, value] + hist[2, value] + hist[3, value]]
        length = end - start
        out[number] = max(0.0, math.log2(length) - total / length)


@njit(cache=True, nogil=True)
def stuffed_pages(data, least, out):  # type: ignore[no-untyped-def]
    """Per 4,096-byte page of uint8 ``data`` whether it holds ``least`` bytes 0xFF or more and each is followed by 0x00 or
    0xD0..0xD7, to bool ``out``."""
    for page in range(out.size):
        end = min((page + 1) * 4096, data.size)
        i, marks = page * 4096, 0
        while i < end:
            # 0xFF is rare, and in other data the first one settles it.
            if i + 8 <= end and not has_ff(word64(data, i)):
                i += 8
                continue
            if data[i] == 255:
                following = data[i + 1] if i + 1 < data.size else 1
                if following != 0 and not 0xD0 <= following <= 0xD7:
                    marks = -1
                    break
                marks += 1
            i += 1
        out[page] = marks >= least


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


@njit(cache=True, nogil=True)
def repeating_sectors(data, limit, out):  # type: ignore[no-untyped-def]
    """Per whole 512-byte sector of uint8 ``data``: the smallest period 1..``limit`` it repeats with, else 0 (int16)."""
    for sector in range(out.size):
        part = data[sector * 512 : (sector + 1) * 512]
        out[sector] = 0
        if part.size < 512:
            continue
        # The first two bytes come again after each period: most sectors are done with here.
        for period in range(1, limit + 1):
            if part[period] == part[0] and part[period + 1] == part[1]:
                out[sector] = period_of(part, limit)
                break


@njit(cache=True, nogil=True)
def page_glance(data, entropy):  # type: ignore[no-untyped-def]
    """Entropy of every page, judged by two stretches of 64 bytes: for files too large to be counted in full.

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
        total = 0.0
        for offset in (1000, 3000):
            first = min(start + offset, max(start, end - 64))
            for i in range(first, min(first + 64, end)):
                value = data[i]
                # The sum of n log n grows by what this byte adds to its value's count.
                total += logs[hist[value] + 1] - logs[hist[value]]
                hist[value] += 1
                length += 1
        for offset in (1000, 3000):
            first = min(start + offset, max(start, end - 64))
            for i in range(first, min(first + 64, end)):
                hist[data[i]] = 0
        bits = math.log2(length) - total / length
        entropy[page] = bits + 1.25 if bits > 1e-9 else 0.0
