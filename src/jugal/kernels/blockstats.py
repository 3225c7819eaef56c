"""Statistics of fixed-size blocks of bytes, and searches that touch every byte."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from jugal.kernels.words import has_ff, word64

SECTOR = 512
PAGE = 4096
_EACH = np.uint64(0x0101010101010101)
#: Places at which two bytes are looked for at once.
_SPREAD = 64


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
def _surely_strange(data, start):  # type: ignore[no-untyped-def]
    """At least how many of 32 bytes are strange: those below 8, from 16 to 31 and from 128, eight at a time."""
    counts = np.uint64(0)
    for i in range(start, start + 32, 8):
        # Of each byte the highest bit stands for it: those of the bits 6, 5, 4 and 3 are brought there.
        word = word64(data, i)
        below_32 = ~(word | (word << np.uint64(1)) | (word << np.uint64(2)))
        below_8 = ~((word << np.uint64(3)) | (word << np.uint64(4)))
        strange = word | (below_32 & (below_8 | (word << np.uint64(3))))
        counts += (strange >> np.uint64(7)) & _EACH
    return np.int64((counts * _EACH) >> np.uint64(56))


@njit(inline="always")
def _is_text(data, start, end, share):  # type: ignore[no-untyped-def]
    """Whether more than ``share`` of a page is printable; where half of 64 bytes in two places are not, no more is looked at.

    The two places begin sectors whose beginning is looked at anyway.
    """
    strange = 0
    if end - start == PAGE:
        one, two = start + SECTOR, start + 5 * SECTOR
        if _surely_strange(data, one) + _surely_strange(data, two) > 32:
            return False
        for i in range(32):
            strange += _is_strange(data[one + i]) + _is_strange(data[two + i])
        if strange > 32:
            return False
    most = (1.0 - share) * (end - start)
    strange = 0
    for i in range(start, end - 31, 32):
        strange += _surely_strange(data, i)
        if strange >= most:
            return False
    strange = 0
    for i in range(start, end):
        strange += _is_strange(data[i])
    return strange < most


@njit(inline="always")
def _has_bare_mark(data, start):  # type: ignore[no-untyped-def]
    """Whether one of 64 bytes is 0xFF and followed by neither 0x00 nor 0xD0..0xD7; byte 65 is there."""
    at, bare = np.uint64(start), False
    # No leaving at the first: so the processor may take many at once.
    for i in range(np.uint64(64)):
        following = data[at + i + np.uint64(1)]
        bare = bare | ((data[at + i] == 255) & (following != 0) & ((following < 0xD0) | (following > 0xD7)))
    return bare


@njit(inline="always")
def _is_stuffed(data, start, end, least):  # type: ignore[no-untyped-def]
    """Whether a page holds ``least`` bytes 0xFF or more and each is followed by 0x00 or 0xD0..0xD7."""
    if end - start == PAGE and end < data.size:
        # The beginnings of sectors are looked at anyway, and of coded data they mostly settle it.
        bare = False
        for sector in range(start, end, SECTOR):
            bare |= _has_bare_mark(data, sector)
        if bare:
            return False
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
def _has_pair(data, start, one, two, count=_SPREAD):  # type: ignore[no-untyped-def]
    """Whether ``one`` and ``two`` follow each other at one of ``count`` places from ``start``; a byte more is there."""
    at, found = np.uint64(start), False
    # No leaving at the first: so the processor may take many at once.
    for i in range(np.uint64(count)):
        found = found | ((data[at + i] == one) & (data[at + i + np.uint64(1)] == two))
    return found


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
            # A sector that repeats has its first two bytes again.
            at = sector * SECTOR
            if _has_pair(data, at + 1, data[at], data[at + 1], limit):
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
    at = start
    while at + needle.size <= stop:
        if at + _SPREAD < stop and not _has_pair(data, at, needle[0], needle[1]):
            at += _SPREAD
            continue
        for i in range(at, min(at + _SPREAD, stop - needle.size + 1)):
            same = True
            for k in range(needle.size):
                if data[i + k] != needle[k]:
                    same = False
                    break
            if same:
                return i
        at += _SPREAD
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
