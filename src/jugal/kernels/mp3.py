"""MPEG audio frame chains (ISO/IEC 11172-3 clause 2.4.1.3, 13818-3)."""

from __future__ import annotations

import numpy as np
from numba import njit

# [version: 2.5, reserved, 2, 1][layer: reserved, III, II, I][index] in kbit/s
BITRATES = np.zeros((4, 4, 16), np.int32)
BITRATES[3, 3, 1:15] = (32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448)
BITRATES[3, 2, 1:15] = (32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384)
BITRATES[3, 1, 1:15] = (32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320)
for _version in (0, 2):
    BITRATES[_version, 3, 1:15] = (32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256)
    BITRATES[_version, 2, 1:15] = (8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160)
    BITRATES[_version, 1, 1:15] = BITRATES[_version, 2, 1:15]
RATES = np.array([[11025, 12000, 8000, 0], [0, 0, 0, 0], [22050, 24000, 16000, 0], [44100, 48000, 32000, 0]], np.int32)


@njit(cache=True, nogil=True)
def frame_length(data, at, bitrates, rates):  # type: ignore[no-untyped-def]
    """Bytes of the frame whose header stands at ``at``; 0 where there is no header. Free format counts as none."""
    if at + 4 > data.size or data[at] != 0xFF or data[at + 1] & 0xE0 != 0xE0:
        return 0
    version = (data[at + 1] >> 3) & 3
    layer = (data[at + 1] >> 1) & 3
    if version == 1 or layer == 0:
        return 0
    bitrate = bitrates[version, layer, data[at + 2] >> 4]
    rate = rates[version, (data[at + 2] >> 2) & 3]
    if bitrate == 0 or rate == 0 or data[at + 3] & 3 == 2:
        return 0
    padding = (data[at + 2] >> 1) & 1
    if layer == 3:
        return (12000 * bitrate // rate + padding) * 4
    if layer == 1 and version != 3:
        return 72000 * bitrate // rate + padding
    return 144000 * bitrate // rate + padding


@njit(cache=True, nogil=True)
def alike(data, a, b):  # type: ignore[no-untyped-def]
    """Two headers agree in version, layer and sampling rate."""
    return data[a + 1] & 0xFE == data[b + 1] & 0xFE and data[a + 2] & 0x0C == data[b + 2] & 0x0C


@njit(cache=True, nogil=True)
def walk_frames(data, start, end, bitrates, rates, frames, gaps):  # type: ignore[no-untyped-def]
    """Follows the chain of frames from ``start`` to ``end``.

    Offsets go to int64 ``frames``; where the chain breaks the next place with three frames in a row is searched,
    and (lost at, found again at) goes to int64 ``gaps`` (n, 2). Returns (frames, gaps, end of the last frame).
    """
    count = 0
    lost = 0
    at = start
    reference = -1
    last_end = start
    while at + 4 <= end and count < frames.size:
        length = frame_length(data, at, bitrates, rates)
        if length and (reference < 0 or alike(data, reference, at)):
            reference = at
            frames[count] = at
            count += 1
            last_end = at + length
            at += length
            continue
        begin = at
        at += 1
        found = False
        while at + 4 <= end:
            if data[at] == 0xFF:
                length = frame_length(data, at, bitrates, rates)
                if length and (reference < 0 or alike(data, reference, at)):
                    second = at + length
                    if second >= end - 4:
                        # Too near the end to be proven by its followers.
                        if reference >= 0 and second <= end and second >= end - 132:
                            found = True
                            break
                    else:
                        more = frame_length(data, second, bitrates, rates)
                        if more and alike(data, at, second):
                            third = second + more
                            if third >= end - 4 or (
                                frame_length(data, third, bitrates, rates) and alike(data, at, third)
                            ):
                                found = True
                                break
            at += 1
        if lost < gaps.shape[0]:
            gaps[lost, 0] = begin
            gaps[lost, 1] = at if found else end
            lost += 1
        if not found:
            break
    return count, lost, last_end
