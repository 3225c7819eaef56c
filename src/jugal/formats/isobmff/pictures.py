"""Coded still pictures found in media data by their own marks, where no item location tells where they lie."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from jugal.binary.source import Source
from jugal.formats.isobmff.chains import first_filled, video_share
from jugal.formats.isobmff.video import AvcStream
from jugal.model.span import ByteSpan

_MOST_PICTURES = 20_000
_MOST_UNITS = 4096
_LEAST_PICTURE = 64
#: NAL unit types of pictures that are decoded by themselves (ITU-T H.265 table 7-1): BLA, IDR, CRA.
_INTRA = range(16, 22)
#: Parameter sets, delimiters and messages that stand before a picture; messages behind one.
_BEFORE, _BEHIND = range(32, 40), 40
#: Open bitstream unit types of AV1 (6.2.2).
_SEQUENCE, _DELIMITER, _FRAME_UNITS, _OTHER = 1, 2, (3, 4, 6), (5, 7, 8, 15)
_LONGEST_SEQUENCE = 24
_WINDOW = 1 << 22
#: Bytes of what describes a picture that may stand before it.
_NEAR_START = 1 << 16
#: Share of a file from which on it is mostly something.
_MOSTLY = 0.5


def find_pictures(source: Source, start: int, coding: bytes) -> list[ByteSpan]:
    """Every picture from ``start`` on whose units chain to its end, in order; ``coding`` is ``hvc1`` or ``av01``.

    A HEVC picture is a chain of units behind lengths of four bytes, intra slices of which the first says so
    (ISO/IEC 14496-15, H.265 7.3.6.1); one of AV1 begins with its sequence header (AV1 7.5).
    """
    found: list[ByteSpan] = []
    reached = start
    for at in _starts(source, start, coding):
        if at < reached:
            continue
        while len(found) < _MOST_PICTURES:
            end = _hevc_end(source, at) if coding == b"hvc1" else _av1_end(source, at)
            if end is None or end - at < _LEAST_PICTURE:
                break
            found.append(ByteSpan(at, end))
            at = reached = end
    return found


def pictures_share(source: Source) -> tuple[str, float]:
    """What most of a file is coded in, HEVC or AV1, and which share of its bytes that are not zero such pictures take.

    One unit alone, far inside, is a length and a header as they come up by chance in media data of any kind.
    """
    name, most = "HEVC", 0
    if video_share(source, AvcStream) > _MOSTLY:
        return name, 0.0  # whose slices look like those of HEVC pictures
    filled = first_filled(source)
    for words, coding in (("HEVC", b"hvc1"), ("AV1", b"av01")):
        found = find_pictures(source, 0, coding)
        if len(found) == 1 and found[0].start > filled + _NEAR_START:
            continue
        taken = sum(span.length for span in found)
        if taken > most:
            name, most = words, taken
    return name, most / max(1, source.size - filled)


def _starts(source: Source, start: int, coding: bytes) -> Iterator[int]:
    """Where a picture may begin: a few places in a million bytes that hold none."""
    for low in range(start, source.size, _WINDOW):
        data = source.array[low : low + _WINDOW + 8]
        if data.size <= 8:
            return
        if coding == b"av01":
            marks = data[:-8] == _SEQUENCE << 3 | 2
            marks &= (data[1:-7] < _LONGEST_SEQUENCE) & (data[1:-7] > 5) & _sequence_heads(data[2:-6], data[3:-5])
            places = np.flatnonzero(marks)
            # A delimiter before the sequence header belongs to the picture.
            delimited = (places >= 2) & (data[places - 2] == _DELIMITER << 3 | 2) & (data[places - 1] == 0)
            yield from (places - 2 * delimited + low).tolist()
        else:
            yield from (_heads(data) + low).tolist()


def _sequence_heads(first: NDArray[np.uint8], second: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Where two bytes begin a sequence header (AV1 5.5.1): a known profile, and a reduced header of a still picture or
    one with neither clock nor several operating points."""
    reduced = first & 0x18 == 0x18
    return (first >> 5 <= 2) & (reduced | ((first & 0x0D == 0) & (second & 0xF0 == 0)))


def _heads(data: NDArray[np.uint8]) -> NDArray[np.int64]:
    """Places of length fields before the header of an intra slice that says it is its picture's first, or of what
    stands before one."""
    kind = data[4:-4] >> 1
    own = (data[4:-4] < 128) & (data[4:-4] & 1 == 0) & (data[5:-3] == 1) & (data[:-8] == 0)
    slices = (kind >= _INTRA.start) & (kind < _INTRA.stop) & (data[6:-2] >= 128)
    before = (kind >= _BEFORE.start) & (kind < _BEFORE.stop)
    return np.flatnonzero(own & (slices | before))


def _hevc_end(source: Source, at: int) -> int | None:
    """Where the picture that begins at ``at`` ends; None where none does."""
    slices = 0
    for _ in range(_MOST_UNITS):
        length = source.uint(at, 4)
        head = source.read(at + 4, 3)
        if length is None or length < 3 or at + 4 + length > source.size or len(head) < 3:
            break
        kind = head[0] >> 1
        if head[0] & 0x81 or head[1] != 1:
            break
        if kind in _INTRA:
            if (head[2] & 0x80 == 0) != (slices > 0):
                break
            slices += 1
        elif kind in _BEFORE:
            if slices:
                break
        elif kind != _BEHIND or not slices:
            break
        at += 4 + length
    return at if slices else None


def _av1_end(source: Source, at: int) -> int | None:
    """Where the units of one picture end; None where there are none."""
    frames = sequences = 0
    for _ in range(_MOST_UNITS):
        head = source.uint(at, 1)
        if head is None or head & 0x81 or not head & 2:
            break
        kind = head >> 3 & 15
        if kind == _SEQUENCE and not frames:
            sequences += 1
        elif kind in _FRAME_UNITS and sequences and head & 4 == 0:
            frames += 1
        elif kind not in _OTHER and (kind != _DELIMITER or sequences):
            break
        here = at + 1 + (head >> 2 & 1)
        size = shift = 0
        for _digit in range(8):
            byte = source.uint(here, 1)
            if byte is None:
                return at if frames else None
            here += 1
            size |= (byte & 127) << shift
            shift += 7
            if byte < 128:
                break
        if here + size > source.size:
            break
        at = here + size
    return at if frames else None
