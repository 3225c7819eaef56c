"""MPEG audio: tags, the chain of frames, and the file's own count of them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.binary.source import Source
from jugal.kernels.mp3 import BITRATES, RATES, alike, frame_length, walk_frames


@dataclass(frozen=True, slots=True)
class FrameHeader:
    """The fields of a frame header that matter here (11172-3 2.4.2.3)."""

    version: int
    layer: int
    rate: int
    bitrate: int
    mono: bool
    has_crc: bool

    @property
    def samples(self) -> int:
        """Samples a channel in one frame."""
        if self.layer == 3:
            return 384
        return 1152 if self.layer == 2 or self.version == 3 else 576


@dataclass(slots=True)
class Stream:
    """The frames found and what lies around them. ``gaps`` are (lost at, found again at)."""

    tag_end: int
    frames: NDArray[np.int64]
    gaps: NDArray[np.int64]
    last_end: int
    end: int
    header: FrameHeader | None
    stated_frames: int | None = None
    info_frame: bool = False


def id3v2_length(source: Source, at: int) -> int:
    """End of an ID3v2 tag at ``at``; ``at`` itself where there is none."""
    head = source.read(at, 10)
    if len(head) == 10 and head[:3] == b"ID3" and head[3] < 0xFF and all(b < 0x80 for b in head[6:10]):
        size = head[6] << 21 | head[7] << 14 | head[8] << 7 | head[9]
        return at + 10 + size + (10 if head[5] & 0x10 else 0)
    return at


def parse_frame_header(source: Source, at: int) -> FrameHeader | None:
    """The frame header at ``at``, None where there is none."""
    head = source.read(at, 4)
    if len(head) < 4 or not frame_length(source.array, at, BITRATES, RATES):
        return None
    version, layer = (head[1] >> 3) & 3, (head[1] >> 1) & 3
    return FrameHeader(
        version, layer, int(RATES[version, (head[2] >> 2) & 3]), int(BITRATES[version, layer, head[2] >> 4]),
        head[3] >> 6 == 3, head[1] & 1 == 0,
    )  # fmt: skip


def first_chain(source: Source, start: int, limit: int) -> int | None:
    """Offset of the first of four frames in a row at or after ``start`` and before ``limit``."""
    data = source.array
    stop = min(limit, source.size - 4)
    at = start
    while at < stop:
        if data[at] != 0xFF:
            ahead = np.flatnonzero(data[at : min(stop, at + 4096)] == 0xFF)
            if not ahead.size:
                at += 4096
                continue
            at += int(ahead[0])
        position, count = at, 0
        while count < 4:
            length = frame_length(data, position, BITRATES, RATES)
            if not length or not alike(data, at, position):
                break
            count += 1
            position += length
            if position >= source.size - 4:
                break
        if count >= 4 or (count >= 2 and position == source.size):
            return at
        at += 1
    return None


def trailing_tags(source: Source, end: int) -> int:
    """Where the tags at the file's end (ID3v1, Lyrics3, APEv2) begin."""
    if source.read(end - 128, 3) == b"TAG" and end >= 128:
        end -= 128
    if source.read(end - 9, 9) == b"LYRICS200" and end > 15:
        digits = source.read(end - 15, 6)
        if digits.isdigit():
            end -= int(digits) + 15
    if source.read(end - 32, 8) == b"APETAGEX" and end >= 32:
        size = source.uint(end - 20, 4, "little") or 0
        flags = source.uint(end - 12, 4, "little") or 0
        end -= size + (32 if flags & 0x80000000 else 0)
    return max(0, end)


def read_stream(source: Source) -> Stream:
    """Walks the file's frames from its first chain to the tags at its end."""
    tag_end = min(id3v2_length(source, 0), source.size)
    end = trailing_tags(source, source.size)
    if end <= tag_end:
        end = source.size
    start = (
        tag_end
        if frame_length(source.array, tag_end, BITRATES, RATES)
        else (first_chain(source, tag_end, source.size) or tag_end)
    )
    frames = np.empty(max(16, (end - start) // 24 + 8), np.int64)
    gaps = np.empty((10_000, 2), np.int64)
    count, lost, last_end = walk_frames(source.array, start, end, BITRATES, RATES, frames, gaps)
    header = parse_frame_header(source, int(frames[0])) if count else None
    stream = Stream(tag_end, frames[:count].copy(), gaps[:lost].copy(), int(last_end), end, header)
    if header is not None:
        _own_count(source, stream)
    return stream


def _own_count(source: Source, stream: Stream) -> None:
    """The Xing/Info or VBRI header in the first frame."""
    at = int(stream.frames[0])
    body = source.read(at, 200)
    for mark in (b"Xing", b"Info"):
        hit = body.find(mark, 4, 64)
        if hit > 0:
            stream.info_frame = True
            if len(body) >= hit + 12 and body[hit + 7] & 1:
                stream.stated_frames = int.from_bytes(body[hit + 8 : hit + 12], "big")
    hit = body.find(b"VBRI", 4, 64)
    if hit > 0:
        stream.info_frame = True
        if len(body) >= hit + 18:
            stream.stated_frames = int.from_bytes(body[hit + 14 : hit + 18], "big")
