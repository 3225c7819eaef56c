"""Samples of AMR speech: frames whose first byte gives their length (3GPP TS 26.244 6.5, RFC 4867 5.3)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

#: Bytes of a narrow-band and a wide-band frame by frame type, with its header; 0 for a type that is none.
FRAME_BYTES = {
    b"samr": (13, 14, 16, 18, 20, 21, 27, 32, 6, 0, 0, 0, 0, 0, 0, 1),
    b"sawb": (18, 24, 33, 37, 41, 47, 51, 59, 61, 6, 0, 0, 0, 0, 1, 1),
}
#: Bits of a frame's first byte that are always 0.
_PADDING = 0x83
_MOST_FRAMES = 256


def frame_bytes(codec: bytes, head: int) -> int:
    """Bytes of the frame that begins with byte ``head``; 0 where none does."""
    return 0 if head & _PADDING else FRAME_BYTES[codec][head >> 3 & 15]


def broken_samples(
    data: NDArray[np.uint8], codec: bytes, offsets: NDArray[np.int64], sizes: NDArray[np.int64]
) -> NDArray[np.int64]:
    """For each sample in uint8 ``data`` the byte at which its frames do not add up to its size, -1 where they do."""
    lengths = np.array([frame_bytes(codec, head) for head in range(256)], np.int64)
    at, ends = offsets.copy(), offsets + sizes
    fault = np.full(offsets.size, -1, np.int64)
    for _ in range(_MOST_FRAMES):
        left = np.flatnonzero((at < ends) & (fault < 0))
        if not left.size:
            break
        steps = lengths[data[at[left]]]
        wrong = (steps == 0) | (at[left] + steps > ends[left])
        fault[left[wrong]] = at[left[wrong]]
        at[left] += steps
    return fault
