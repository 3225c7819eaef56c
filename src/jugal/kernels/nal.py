"""Length-prefixed NAL units (ISO/IEC 14496-15 clause 5.3.4.2.1), walked sample by sample."""

from __future__ import annotations

from numba import njit

OK = 0
BAD_LENGTH = 1  # a length prefix leads past the sample's end
BAD_HEADER = 2  # forbidden bit set, or a type no such stream has
ZEROS = 3  # a run of zeros that emulation prevention rules out
SHORT = 4  # the sample lies past the end of the data
EMPTY = 5  # a length prefix of zero


@njit(cache=True, nogil=True)
def walk_samples(data, offsets, sizes, prefix, hevc, zero_run, state, where):  # type: ignore[no-untyped-def]
    """Checks each sample of ``data`` at int64 ``offsets`` with ``sizes`` bytes.

    ``prefix`` is the length field's bytes (1, 2, 4). In slices a run of ``zero_run`` zeros before the unit's
    last bytes is damage (7.4.1: three zero bytes never occur). Writes int8 ``state`` and the offset of the
    fault to int64 ``where``. Every 8th byte is read, so a page costs little.
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
            if slice_unit and zero_run > 0:
                stop = at + length - zero_run
                i = at + zero_run
                while i < stop:
                    if data[i] == 0:
                        low = i
                        while low > at and data[low - 1] == 0:
                            low -= 1
                        high = i
                        while high < stop and data[high + 1] == 0:
                            high += 1
                        if high - low + 1 >= zero_run and high < at + length - 1:
                            state[s] = 3
                            where[s] = low
                            break
                        i = high
                    i += zero_run - 1
                if state[s]:
                    break
            at += length
