"""FLAC streams (RFC 9639): metadata blocks and frames."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from jugal.binary.source import Source
from jugal.formats.mp3.parse import id3v2_length
from jugal.kernels.flac import CRC8, CRC16, frame_header, walk_frames

_MAX_FRAME = 1 << 20
#: Bytes in which the stream's marker is looked for.
_SEARCHED = 1 << 24


@dataclass(slots=True)
class StreamInfo:
    """STREAMINFO (8.2)."""

    min_block: int
    max_block: int
    max_frame: int
    rate: int
    channels: int
    bits: int
    samples: int


@dataclass(slots=True)
class FlacStream:
    """Metadata and frames of one file."""

    start: int
    marker_ok: bool
    #: Bytes ahead of the stream that are no part of it.
    before: int = 0
    info: StreamInfo | None = None
    blocks: list[tuple[int, int, int]] = field(default_factory=list)
    metadata_broken_at: int | None = None
    audio_at: int = 0
    end: int = 0
    offsets: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))
    ends: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))
    sizes: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))
    numbers: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))
    good: NDArray[np.int8] = field(default_factory=lambda: np.empty(0, np.int8))


def parse_streaminfo(body: bytes) -> StreamInfo | None:
    """STREAMINFO's 34 bytes, None where a value is not allowed."""
    if len(body) < 34:
        return None
    packed = int.from_bytes(body[10:18], "big")
    info = StreamInfo(
        int.from_bytes(body[0:2], "big"), int.from_bytes(body[2:4], "big"), int.from_bytes(body[7:10], "big"),
        packed >> 44, ((packed >> 41) & 7) + 1, ((packed >> 36) & 31) + 1, packed & 0xFFFFFFFFF,
    )  # fmt: skip
    if info.max_block < 16 or info.min_block > info.max_block or info.bits < 4 or info.rate == 0:
        return None
    return info


def looks_like_flac(source: Source) -> bool:
    """Frame headers with right CRC-8 and rising numbers in the first MiB."""
    data = source.array[: 1 << 20]
    if data.size < 4096:
        return False
    spots = np.flatnonzero((data[:-1] == 0xFF) & (data[1:] & 0xFE == 0xF8))
    out = np.zeros(5, np.int64)
    numbers = []
    for at in spots[:2000].tolist():
        if frame_header(source.array, at, CRC8, out):
            numbers.append(int(out[1]))
            if len(numbers) >= 4 and all(a < b for a, b in zip(numbers[-4:], numbers[-3:], strict=False)):
                return True
    return False


def read_flac(source: Source) -> FlacStream:
    """Walks metadata and frames; what is broken is left to the examiner to say."""
    start = id3v2_length(source, 0)
    before = 0
    if source.read(start, 4) != b"fLaC":
        # The marker is followed by the STREAMINFO block, which is 34 bytes long, the only one or not (8.1).
        found = [source.find(b"fLaC" + head + b"\0\0\x22", 0, _SEARCHED) for head in (b"\0", b"\x80")]
        if any(at >= 0 for at in found):
            start = before = min(at for at in found if at >= 0)
    stream = FlacStream(start, source.read(start, 4) == b"fLaC", before)
    at = start + 4
    last = False
    while not last and len(stream.blocks) < 10_000:
        head = source.read(at, 4)
        if len(head) < 4:
            stream.metadata_broken_at = at
            break
        kind, length = head[0] & 127, int.from_bytes(head[1:4], "big")
        if kind > 6 or at + 4 + length > source.size or (not stream.blocks and (kind != 0 or length != 34)):
            stream.metadata_broken_at = at
            break
        if kind == 0 and stream.info is None:
            stream.info = parse_streaminfo(source.read(at + 4, length))
        stream.blocks.append((kind, at, at + 4 + length))
        last = bool(head[0] & 128)
        at += 4 + length
    stream.audio_at = at if stream.metadata_broken_at is None else max(at, start)
    end = source.size
    if source.read(end - 128, 3) == b"TAG" and end > 128:
        end -= 128
    stream.end = end
    room = max(64, (end - stream.audio_at) // 12 + 16)
    arrays = [np.empty(room, np.int64) for _ in range(4)]
    good = np.empty(room, np.int8)
    limit = _MAX_FRAME
    if stream.info is not None and stream.info.max_frame:
        limit = max(64, min(_MAX_FRAME, stream.info.max_frame + 16))
    count = walk_frames(source.array, stream.audio_at, end, CRC8, CRC16, limit, *arrays, good)
    stream.offsets, stream.ends, stream.sizes, stream.numbers = (a[:count].copy() for a in arrays)
    stream.good = good[:count].copy()
    return stream
