"""JPEG byte stuffing: entropy-coded bytes without their stuffed zeros and markers, and back (T.81 B.1.1.5, F.1.2.3)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
from numba import njit
from numpy.typing import NDArray

from jugal.kernels.words import has_ff, word64


@njit(cache=True, nogil=True)
def unstuff(raw, start, end, out, mark_raw, mark_clean, mark_code):  # type: ignore[no-untyped-def]
    """Copies entropy-coded bytes of uint8 ``raw[start:end]`` to ``out`` without stuffed zeros and markers.

    Restart markers are listed in ``mark_*`` (raw offset, offset in ``out``, code) and passed over, as are
    codes 0x01..0xBF, which no decoder takes for a marker segment. The first other marker ends the copy.
    Returns (bytes in ``out``, raw offset of the end, number of listed markers).
    """
    n = 0
    marks = 0
    i = start
    while i < end:
        # 0xFF is rare: what lies up to the next one is copied at once.
        stop = i
        while stop + 8 <= end and not has_ff(word64(raw, stop)):
            stop += 8
        while stop < end and raw[stop] != 0xFF:
            stop += 1
        length = stop - i
        source, target = raw[i:stop], out[n : n + length]
        for k in range(length):
            target[k] = source[k]
        n += length
        i = stop
        if i >= end:
            break
        j = i + 1
        while j < end and raw[j] == 0xFF:
            j += 1
        if j >= end:
            i = end
            break
        code = raw[j]
        if code == 0:
            out[n] = 0xFF
            n += 1
        elif 0xD0 <= code <= 0xD7 or code < 0xC0:
            if marks >= mark_raw.size:
                break
            mark_raw[marks] = i
            mark_clean[marks] = n
            mark_code[marks] = code
            marks += 1
        else:
            break
        i = j + 1
    return n, i, marks


@njit(cache=True, nogil=True)
def stuffed_offset(raw, start, clean):  # type: ignore[no-untyped-def]
    """Raw offsets for ascending offsets ``clean`` (int64) in the unstuffed data that began at ``start``."""
    out = np.empty(clean.size, np.int64)
    n = 0
    i = start
    for k in range(clean.size):
        goal = clean[k]
        while n < goal and i < raw.size:
            if n + 8 <= goal and i + 8 <= raw.size and not has_ff(word64(raw, i)):
                n += 8
                i += 8
                continue
            if raw[i] != 0xFF:
                n += 1
                i += 1
                continue
            j = i + 1
            while j < raw.size and raw[j] == 0xFF:
                j += 1
            if j < raw.size and raw[j] == 0:
                n += 1
            i = j + 1
        out[k] = i
    return out


def pack_bits(bits: NDArray[np.uint8]) -> bytes:
    """Entropy-coded bytes of an array of 0 and 1: padded with ones, 0xFF stuffed (T.81 F.1.2.3)."""
    return b"".join(pack_parts([bits]))


def pack_parts(parts: Iterable[NDArray[np.uint8]]) -> Iterator[bytes]:
    """The same of several arrays as if they were one, piece by piece: a bit takes a byte in no more than one of them."""
    rest = np.zeros(0, np.uint8)
    for part in parts:
        bits = np.concatenate((rest, part)) if rest.size else part
        whole = bits.size & ~7
        yield _packed(bits[:whole])
        rest = bits[whole:]
    if rest.size:
        yield _packed(np.concatenate((rest, np.ones(8 - rest.size, np.uint8))))


def _packed(bits: NDArray[np.uint8]) -> bytes:
    return np.packbits(bits).tobytes().replace(b"\xff", b"\xff\x00")
