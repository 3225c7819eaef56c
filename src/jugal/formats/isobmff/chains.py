"""Video told by its own units, where nothing else of a movie is left: each says how long it is and what it is, and ends where
the next begins (ISO/IEC 14496-15 5.3.3, 8.3.3)."""

from __future__ import annotations

import numpy as np

from jugal.binary.source import Source
from jugal.formats.isobmff.video import AvcStream, HevcStream

#: Bytes that are looked at, and those of a unit at least and at most.
_WINDOW, _SHORTEST, _LONGEST = 1 << 22, 8, 1 << 22
#: Units that follow one another for none to be chance.
_LEAST = 8
_MOST_UNITS = 1 << 16
#: The start codes of a plane and of a program stream's pack, and how many planes there are at least, and in how many bytes one.
_PLANE, _PACK = b"\0\0\1\xb6", b"\0\0\1\xba"
_LEAST_PLANES, _LONGEST_PLANE = 16, 1 << 18


def video_share(source: Source, stream: type[AvcStream] | type[HevcStream]) -> float:
    """How much of the first megabytes of a file behind what is filled are units of AVC or HEVC that follow one another in
    rows of some, 0..1."""
    begin = first_filled(source)
    return _taken(source, begin, stream) / max(1, min(source.size - begin, _WINDOW))


def has_planes(source: Source) -> bool:
    """Planes of MPEG-4 Visual (ISO/IEC 14496-2 6.2.5) lie in the first megabytes of a file behind what is filled, many of
    them and nothing of a program stream."""
    begin = first_filled(source)
    data = source.read(max(0, begin - 2), _WINDOW)
    return data.count(_PLANE) >= max(_LEAST_PLANES, len(data) // _LONGEST_PLANE) and _PACK not in data


def first_filled(source: Source) -> int:
    """The first byte that is not zero, the file's size where none is."""
    for low in range(0, source.size, _WINDOW):
        there = np.flatnonzero(source.array[low : low + _WINDOW])
        if there.size:
            return low + int(there[0])
    return source.size


def _taken(source: Source, begin: int, stream: type[AvcStream] | type[HevcStream]) -> int:
    """Bytes in chains of units from ``begin`` on that hold slices."""
    window = source.array[begin : begin + _WINDOW]
    if window.size < 64:
        return 0
    # A length of four bytes below the longest, and a header without its forbidden bit.
    starts = np.flatnonzero((window[:-6] == 0) & (window[1:-5] < _LONGEST >> 16) & (window[4:-2] < 0x80))
    taken = reached = 0
    for start in starts.tolist():
        if start < reached:
            continue
        at, units, slices = begin + start, 0, 0
        while units < _MOST_UNITS:
            length, kind = source.uint(at, 4) or 0, -1
            if _SHORTEST <= length < _LONGEST and at + 4 + length <= source.size:
                kind = stream.unit_type(source.read(at + 4, 2))
            if kind < 0:
                break
            slices += kind in stream.slices
            units, at = units + 1, at + 4 + length
        if units >= _LEAST and slices:
            taken += min(at - begin, window.size) - start
            reached = at - begin
    return taken
