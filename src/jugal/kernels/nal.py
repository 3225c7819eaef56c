"""Length-prefixed NAL units (ISO/IEC 14496-15 clause 5.3.4.2.1), walked sample by sample."""

from __future__ import annotations

import numpy as np
from numba import njit

from jugal.kernels.compiling import bare

OK = 0
BAD_LENGTH = 1  # a length prefix leads past the sample's end
BAD_HEADER = 2  # forbidden bit set, or a type no such stream has
ZEROS = 3  # a run of zeros that emulation prevention rules out
SHORT = 4  # the sample lies past the end of the data
EMPTY = 5  # a length prefix of zero
_SPREAD = 64


@bare
def _three_zeros(data, start, stop):  # type: ignore[no-untyped-def]
    """The first of three zero bytes in a row in ``start..stop`` that another byte follows there; -1 where none are."""
    at = start
    while at + 3 < stop:
        if at + _SPREAD + 2 < stop:
            first, found = np.uint64(at), False
            # No leaving at the first: so the processor may take many at once.
            for i in range(np.uint64(_SPREAD)):
                j = first + i
                found = found | ((data[j] | data[j + np.uint64(1)] | data[j + np.uint64(2)]) == 0)
            if not found:
                at += _SPREAD
                continue
        for i in range(at, min(at + _SPREAD, stop - 3)):
            if data[i] == 0 and data[i + 1] == 0 and data[i + 2] == 0:
                # Zeros up to the unit's end may follow its data (B.1, trailing_zero_8bits).
                for k in range(i + 3, stop):
                    if data[k] != 0:
                        return i
                return -1
        at += _SPREAD
    return -1


@njit(cache=True, nogil=True)
def walk_samples(data, offsets, sizes, prefix, hevc, zeros, state, where):  # type: ignore[no-untyped-def]
    """Checks each sample of ``data`` at int64 ``offsets`` with ``sizes`` bytes.

    ``prefix`` is the length field's bytes (1, 2, 4). With ``zeros`` three zero bytes in a row within a slice are damage: they
    never occur (7.4.1), which costs reading every byte. Writes int8 ``state`` and the offset of the fault to int64 ``where``.
    """
    n = data.size
    for s in range(offsets.size):
        at = offsets[s]
        end = at + sizes[s]
        state[s] = 0
        where[s] = at
        if at < 0 or end > n:
            state[s] = 4
            where[s] = n if at < n else at
            continue
        while at < end:
            if end - at < prefix:
                state[s] = 1
                where[s] = at
                break
            length = 0
            for k in range(prefix):
                length = (length << 8) | data[at + k]
            if length == 0:
                # Some writers leave an empty unit or pad the end with zeros.
                clean = True
                for k in range(at, min(end, at + 64)):
                    if data[k] != 0:
                        clean = False
                        break
                if clean and end - at > 16:
                    state[s] = 5
                    where[s] = at
                    break
                at += prefix
                continue
            at += prefix
            if at + length > end:
                state[s] = 1
                where[s] = at - prefix
                break
            head = data[at]
            if head & 0x80:
                state[s] = 2
                where[s] = at
                break
            if hevc:
                kind = (head >> 1) & 63
                slice_unit = kind < 32
                if length > 1 and data[at + 1] & 7 == 0:
                    state[s] = 2
                    where[s] = at
                    break
            else:
                kind = head & 31
                slice_unit = 1 <= kind <= 5
                if kind == 0:
                    state[s] = 2
                    where[s] = at
                    break
            if slice_unit and zeros:
                found = _three_zeros(data, at, at + length)
                if found >= 0:
                    state[s] = 3
                    where[s] = found
                    break
            at += length
