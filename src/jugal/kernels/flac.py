"""FLAC frame headers and checksums (RFC 9639 clauses 9.1 and 9.3)."""

from __future__ import annotations

import numpy as np
from numba import njit


def _crc_tables() -> tuple[np.ndarray, np.ndarray]:
    eight, sixteen = np.zeros(256, np.uint8), np.zeros(256, np.uint16)
    for value in range(256):
        a, b = value, value << 8
        for _ in range(8):
            a = ((a << 1) ^ 0x07 if a & 0x80 else a << 1) & 0xFF
            b = ((b << 1) ^ 0x8005 if b & 0x8000 else b << 1) & 0xFFFF
        eight[value], sixteen[value] = a, b
    return eight, sixteen


CRC8, CRC16 = _crc_tables()


@njit(cache=True, nogil=True)
def frame_header(data, at, crc8, out):  # type: ignore[no-untyped-def]
    """The frame header at ``at``: True where its fields are allowed and its CRC-8 fits.

    ``out`` (int64[5]) gets block size, coded number, variable-blocking flag, header bytes, sample rate code.
    """
    n = data.size
    if at + 6 > n or data[at] != 0xFF or data[at + 1] & 0xFE != 0xF8:
        return False
    block_code = data[at + 2] >> 4
    rate_code = data[at + 2] & 15
    channels = data[at + 3] >> 4
    depth = (data[at + 3] >> 1) & 7
    if block_code == 0 or rate_code == 15 or channels > 10 or depth == 3 or data[at + 3] & 1:
        return False
    i = at + 4
    first = data[i]
    extra = 0
    number = np.int64(first)
    if first >= 0x80:
        mask = 0x40
        while first & mask:
            extra += 1
            mask >>= 1
        if extra == 0 or extra > 6:
            return False
        number = np.int64(first & (mask - 1))
    if i + extra + 1 > n:
        return False
    for k in range(extra):
        byte = data[i + 1 + k]
        if byte & 0xC0 != 0x80:
            return False
        number = (number << 6) | (byte & 0x3F)
    i += 1 + extra
    size = 0
    if block_code == 1:
        size = 192
    elif block_code <= 5:
        size = 576 << (block_code - 2)
    elif block_code == 6:
        if i + 1 > n:
            return False
        size = int(data[i]) + 1
        i += 1
    elif block_code == 7:
        if i + 2 > n:
            return False
        size = (int(data[i]) << 8 | int(data[i + 1])) + 1
        i += 2
    else:
        size = 256 << (block_code - 8)
    if rate_code == 12:
        i += 1
    elif rate_code == 13 or rate_code == 14:
        i += 2
    if i >= n:
        return False
    crc = 0
    for k in range(at, i):
        crc = crc8[crc ^ data[k]]
    if crc != data[i]:
        return False
    out[0] = size
    out[1] = number
    out[2] = data[at + 1] & 1
    out[3] = i + 1 - at
    out[4] = rate_code
    return True


@njit(cache=True, nogil=True)
def walk_frames(data, start, end, crc8, crc16, max_frame, offsets, ends, sizes, numbers, good):  # type: ignore[no-untyped-def]
    """Finds the frames in ``data[start:end]``: a header with right CRC-8, ended where the CRC-16 fits.

    Writes offsets, ends, block sizes, coded numbers and int8 ``good``. A header whose frame has no fitting end
    before the next headers is listed as not good, up to the next believable header. Returns the frame count.
    """
    count = 0
    at = start
    info = np.zeros(5, np.int64)
    nested = np.zeros(5, np.int64)
    while at + 6 <= end and count < offsets.size:
        if data[at] != 0xFF or not frame_header(data, at, crc8, info):
            at += 1
            continue
        crc = 0
        stop = -1
        first_next = -1
        limit = min(end, at + max_frame)
        i = at
        while i < limit:
            if i > at + 8 and crc == 0:
                # All bytes so far, the CRC among them, divide evenly: the frame may end here.
                if i == end or (
                    data[i] == 0xFF
                    and i + 1 < end
                    and data[i + 1] & 0xFE == 0xF8
                    and frame_header(data, i, crc8, nested)
                ):
                    stop = i
                    break
            if first_next < 0 and i > at + 8 and data[i] == 0xFF and frame_header(data, i, crc8, nested):
                if nested[1] > info[1] and nested[1] - info[1] <= max(64, 64 * info[0] * info[2]):
                    first_next = i
            crc = (crc16[((crc >> 8) ^ data[i]) & 255] ^ (crc << 8)) & 0xFFFF
            i += 1
        if stop < 0 and i == end and crc == 0:
            stop = end
        offsets[count] = at
        sizes[count] = info[0]
        numbers[count] = info[1]
        if stop >= 0:
            good[count] = 1
            ends[count] = stop
            at = stop
        else:
            good[count] = 0
            ends[count] = first_next if first_next >= 0 else limit
            at = first_next if first_next >= 0 else at + 2
        count += 1
    return count
