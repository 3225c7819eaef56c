"""JPEG byte stuffing: entropy-coded bytes without their stuffed zeros and markers, and back (T.81 B.1.1.5, F.1.2.3)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
from numba import njit
from numpy.typing import NDArray

from jugal.kernels.words import has_ff, word64


@njit(cache=True, nogil=True)
def unstuff(raw, start, stop, end, out, done, skip_at, skip_size, mark_raw, mark_clean, mark_code):  # type: ignore[no-untyped-def]
    """Copies entropy-coded bytes of uint8 ``raw[start:end]`` to ``out[done:]`` without stuffed zeros and markers.

    It stops ahead of the first marker, but for restart markers and codes 0x01..0xBF, which no decoder takes for a marker segment:
    these are listed in ``mark_*`` (raw offset, offset in ``out``, code) and passed over. It stops as well at ``stop`` or, where
    that lies in a marker, behind it. ``skip_*`` list where bytes are left out (the offset in ``out`` from behind which) and how
    many. The lists must have room for half of ``stop - start``, rounded up.
    Returns (bytes in ``out``, raw offset it came to, length of the ``skip_*`` and of the ``mark_*`` lists, whether data end there).
    """
    n = done
    skips, marks = 0, 0
    i = start
    while i < stop:
        # 0xFF is rare: what lies up to the next one is copied at once.
        edge = i
        while edge + 8 <= stop and not has_ff(word64(raw, edge)):
            edge += 8
        while edge < stop and raw[edge] != 0xFF:
            edge += 1
        length = edge - i
        source, target = raw[i:edge], out[n : n + length]
        for k in range(length):
            target[k] = source[k]
        n += length
        i = edge
        if i >= stop:
            break
        j = i + 1
        while j < end and raw[j] == 0xFF:
            j += 1
        if j >= end:
            return n, end, skips, marks, True
        code = raw[j]
        if code >= 0xC0 and not 0xD0 <= code <= 0xD7:
            return n, i, skips, marks, True
        skip_at[skips] = n
        skip_size[skips] = j + 1 - i
        if code == 0:
            skip_size[skips] -= 1
            out[n] = 0xFF
            n += 1
        else:
            mark_raw[marks] = i
            mark_clean[marks] = n
            mark_code[marks] = code
            marks += 1
        skips += 1
        i = j + 1
    return n, i, skips, marks, i >= end


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
