"""Statistics of fixed-size blocks of bytes, and searches that touch every byte."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from jugal.kernels.words import has_ff, has_zeros, word64

SECTOR = 512
PAGE = 4096
_EACH = np.uint64(0x0101010101010101)


@njit(inline="always")
def _one_value(data, start, end):  # type: ignore[no-untyped-def]
    """The byte value when all bytes from ``start`` to ``end`` are the same, else -1. Most sectors cost one line of the cache."""
    value = data[start]
    if end - start >= 8 and word64(data, start) != np.uint64(value) * _EACH:
        return -1
    for i in range(start + 1, end):
        if data[i] != value:
            return -1
    return np.int64(value)


@njit(inline="always")
def _is_strange(value):  # type: ignore[no-untyped-def]
    """No tab, line end or 0x20..0x7E; reckoned without a branch, which no processor could foresee in coded data."""
    return ((value < 32) | (value > 126)) & (value != 9) & (value != 10) & (value != 13)


@njit(inline="always")
def _is_text(data, start, end, share):  # type: ignore[no-untyped-def]
    """Whether more than ``share`` of a page is printable; where half of 64 bytes in two places are not, no more is looked at.

    The two places begin sectors whose beginning is looked at anyway.
    """
    strange = 0
    if end - start == PAGE:
        for i in range(32):
            strange += _is_strange(data[start + SECTOR + i])
        for i in range(32):
            strange += _is_strange(data[start + 5 * SECTOR + i])
        if strange > 32:
            return False
    most = (1.0 - share) * (end - start)
    strange = 0
    for i in range(start, end):
        strange += _is_strange(data[i])
    return strange < most


@njit(inline="always")
def _is_stuffed(data, start, end, least):  # type: ignore[no-untyped-def]
    """Whether a page holds ``least`` bytes 0xFF or more and each is followed by 0x00 or 0xD0..0xD7."""
    i, marks = start, 0
    while i < end:
        # 0xFF is rare, and in other data the first one settles it.
        if i + 8 <= end and not has_ff(word64(data, i)):
            i += 8
            continue
        if data[i] == 255:
            following = data[i + 1] if i + 1 < data.size else 1
            if following != 0 and not 0xD0 <= following <= 0xD7:
                return False
            marks += 1
        i += 1
    return marks >= least


@njit(inline="always")
def _may_repeat(data, start, limit):  # type: ignore[no-untyped-def]
    """Whether the first two bytes of a sector come again within ``limit``, looked for at eight places at once."""
    one, two = np.uint64(data[start]) * _EACH, np.uint64(data[start + 1]) * _EACH
    for first in range(start + 1, start + 1 + limit, 8):
        if has_zeros(word64(data, first) ^ one, word64(data, first + 1) ^ two):
            return True
    return False


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
def survey_pages(data, share, least, limit, uniform, text, stuffed, periods):  # type: ignore[no-untyped-def]
    """What can be told of uint8 ``data`` by a few bytes of each 4,096-byte page, in one pass: memory is the slow part.

    To int16 ``uniform``, per 512-byte sector, of which the last may be short, its byte value when all its bytes are the
    same, else -1. To bool ``text`` whether more than ``share`` (0..1) of a page is printable; to bool ``stuffed`` whether it holds
    ``least`` bytes 0xFF or more and each is followed by 0x00 or 0xD0..0xD7; to int16 ``periods``, per whole 512-byte
    sector, the smallest period 1..``limit`` (up to 256) it repeats with, else 0. Periods are looked for in every second
    sector and, where one has any, in its neighbours: enough to meet all runs of two.
    """
    periods[:] = 0
    for page in range(text.size):
        start = page * PAGE
        end = min(start + PAGE, data.size)
        for sector in range(start // SECTOR, -(-end // SECTOR)):
            uniform[sector] = _one_value(data, sector * SECTOR, min((sector + 1) * SECTOR, end))
        for sector in range(start // SECTOR + 1, end // SECTOR, 2):
            if _may_repeat(data, sector * SECTOR, limit):
                periods[sector] = period_of(data[sector * SECTOR : (sector + 1) * SECTOR], limit)
                if periods[sector]:
                    for near in (sector - 1, sector + 1):
                        if near < periods.size:
                            periods[near] = period_of(data[near * SECTOR : (near + 1) * SECTOR], limit)
        text[page] = _is_text(data, start, end, share)
        stuffed[page] = _is_stuffed(data, start, end, least)


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
def find_bytes(data, needle, start, stop):  # type: ignore[no-untyped-def]
    """Offset of the first uint8 ``needle`` of two bytes or more in ``start..stop`` of uint8 ``data``; -1 if none."""
    # The complement of the first byte, eight times: where that byte stands, the two differ in every bit.
    flip, size = np.uint64(255 - needle[0]) * _EACH, needle.size
    at = start
    while at + size <= stop:
        if at + 8 <= stop and not has_ff(word64(data, at) ^ flip):
            at += 8
            continue
        for i in range(at, min(at + 8, stop - size + 1)):
            same = True
            for k in range(size):
                if data[i + k] != needle[k]:
                    same = False
                    break
            if same:
                return i
        at += 8
    return -1


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
