"""Further pictures behind the main one: the multi-picture index (CIPA DC-007) and what really lies there."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from jugal.formats.base import Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.parse import Segment, Structure, walk
from jugal.model.span import ByteSpan

ByteOrder = Literal["little", "big"]

_MARK = b"MPF\0"
_ENTRIES = 0xB002
_ENTRY = 16
_MOST = 64
#: Starts of pictures looked at behind the main one; in damaged data many are none.
_MOST_TRIES = 256
#: Bytes between two pictures of a file.
_MOST_PADDING = 1 << 16


@dataclass(frozen=True, slots=True)
class Further:
    """One entry of the index: where the picture should lie and how long it should be, and where the entry itself is."""

    start: int
    size: int
    entry: int


@dataclass(slots=True)
class FurtherIndex:
    """The index. ``base`` is the file offset that its own offsets count from, ``found`` what lies behind the picture."""

    segment: Segment
    base: int
    order: ByteOrder
    entries: list[Further] = field(default_factory=list)
    found: list[ByteSpan] = field(default_factory=list)


def read_index(subject: Subject, structure: Structure) -> FurtherIndex | None:
    """The index of a picture that has one of two entries and more; None for all others."""
    for segment in structure.segments:
        if segment.marker != spec.APP2 or subject.source.read(segment.start + 4, 4) != _MARK:
            continue
        base = segment.start + 8
        data = subject.source.read(base, segment.end - base)
        order: ByteOrder = "little" if data[:2] == b"II" else "big"
        index = FurtherIndex(segment, base, order)
        index.entries = [
            Further(
                base + offset if offset else structure.start, int.from_bytes(data[at + 4 : at + 8], order), base + at
            )
            for at in _entry_places(data, order)
            for offset in (int.from_bytes(data[at + 8 : at + 12], order),)
        ]
        if len(index.entries) < 2:
            return None
        index.found = pictures_behind(subject, structure)
        return index
    return None


def _entry_places(data: bytes, order: ByteOrder) -> list[int]:
    """Offsets of the entries in the TIFF structure ``data``."""
    at = int.from_bytes(data[4:8], order)
    count = int.from_bytes(data[at : at + 2], order)
    for k in range(min(count, _MOST)):
        row = data[at + 2 + 12 * k : at + 14 + 12 * k]
        if len(row) == 12 and int.from_bytes(row[:2], order) == _ENTRIES:
            length, first = (int.from_bytes(row[n : n + 4], order) for n in (4, 8))
            room = min(length, _MOST * _ENTRY, max(0, len(data) - first))
            return list(range(first, first + room // _ENTRY * _ENTRY, _ENTRY))
    return []


def content_end(subject: Subject, structure: Structure) -> int:
    """Where what belongs to the file ends: behind the further pictures of its index, and behind a clip that follows."""
    end = structure.end
    if structure.eoi is None:
        return end
    index = read_index(subject, structure)
    for span in index.found if index is not None else ():
        if span.start - end > _MOST_PADDING:
            break
        end = span.end
    return subject.size if subject.source.read(end + 4, 4) == b"ftyp" else end


def pictures_behind(subject: Subject, structure: Structure) -> list[ByteSpan]:
    """The pictures behind the main one's end, as many as an index may name."""
    found: list[ByteSpan] = []
    at = structure.end
    for _ in range(_MOST_TRIES if structure.eoi is not None else 0):
        at = subject.source.find(b"\xff\xd8\xff", at)
        if at < 0 or len(found) >= _MOST:
            break
        inner = walk(subject.source, at)
        if inner.frame is not None and inner.scans and inner.eoi is not None:
            found.append(ByteSpan(at, inner.end))
            at = inner.end
        else:
            at += 2
    return found
