"""Writing boxes and indexes: new bodies in place of old ones, durations, patches laid over the source."""

from __future__ import annotations

import struct
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from jugal.binary.output import Piece
from jugal.formats.base import Subject
from jugal.formats.isobmff.boxes import CONTAINERS, Box
from jugal.formats.isobmff.tables import Track
from jugal.model.span import ByteSpan

#: In place of a new body: the box is left out.
DROP = b"DROP"


def box_bytes(kind: bytes, body: bytes) -> bytes:
    """A box with a 32-bit size."""
    return struct.pack(">I4s", len(body) + 8, kind) + body


def equal_runs(values: NDArray[np.int64]) -> list[tuple[int, int]]:
    """Equal neighbours as (how many, value)."""
    if not values.size:
        return []
    edges = np.append(np.flatnonzero(np.diff(values)) + 1, values.size)
    return list(zip(np.diff(edges, prepend=0).tolist(), values[edges - 1].tolist(), strict=True))


def table_box(kind: bytes, rows: Sequence[tuple[int, ...]], signed: bool = False) -> bytes:
    """A table of rows of 32-bit numbers behind their count."""
    letter = "i" if signed else "I"
    packed = b"".join(struct.pack(f">I{letter * (len(row) - 1)}", *row) for row in rows)
    return box_bytes(kind, struct.pack(">BxxxI", 1 if signed else 0, len(rows)) + packed)


def chunk_table(offsets: NDArray[np.int64], kind: str) -> bytes:
    """The body of a chunk offset box (ISO/IEC 14496-12 8.7.5) with numbers of ``kind``."""
    return struct.pack(">II", 0, offsets.size) + offsets.astype(kind).tobytes()


def runs_table(counts: NDArray[np.int64], descriptions: NDArray[np.int64]) -> bytes:
    """The body of a sample-to-chunk box (8.7.4): how many samples each chunk has, and by which description."""
    changes = np.flatnonzero(np.diff(counts, prepend=-1) | np.diff(descriptions, prepend=-1))
    rows = np.stack((changes + 1, counts[changes], descriptions[changes]), axis=1)
    return struct.pack(">II", 0, changes.size) + rows.astype(">u4").tobytes()


def resized(box: Box, size: int) -> tuple[int, bytes]:
    """The patch that gives ``box`` another size, its header as long as it is."""
    if box.body - box.start == 16:
        return box.start, struct.pack(">I4sQ", 1, box.kind, size)
    return box.start, struct.pack(">I4s", size, box.kind)


def patched(
    subject: Subject, patches: list[tuple[int, bytes]], start: int = 0, end: int | None = None
) -> tuple[Piece, ...]:
    """The source from ``start`` to ``end`` with ``patches`` (offset, bytes) laid over it."""
    pieces: list[Piece] = []
    at, stop = start, subject.size if end is None else end
    for offset, data in sorted(patches):
        if offset > at:
            pieces.append(ByteSpan(at, offset))
        pieces.append(data)
        at = offset + len(data)
    if at < stop:
        pieces.append(ByteSpan(at, stop))
    return tuple(pieces)


def with_new_index(
    subject: Subject, moov: Box, index: bytes, patches: list[tuple[int, bytes]] | None = None
) -> tuple[Piece, ...]:
    """The file with ``index`` in place of the one at its end; else behind all, the old one marked as free.

    All else stays where it is, with ``patches`` laid over it.
    """
    patches = patches or []
    if moov.end >= subject.size:
        return (*patched(subject, patches, 0, moov.start), index)
    return (*patched(subject, [*patches, (moov.start + 4, b"free")]), index)


def set_durations(
    subject: Subject,
    tracks: list[Track],
    moov: Box,
    ends: dict[int, float],
    longest: float,
    new_bodies: dict[int, bytes],
) -> None:
    """mvhd, tkhd and mdhd durations, and edit lists no longer than what is left."""
    source = subject.source
    head = moov.child(b"mvhd")
    scale = 1000
    if head is not None:
        body = bytearray(source.read(head.body, head.end - head.body))
        wide = body[0] == 1
        scale = int.from_bytes(body[20:24] if wide else body[12:16], "big")
        put_duration(body, 24 if wide else 16, wide, round(longest * scale))
        new_bodies[head.start] = bytes(body)
    for track in tracks:
        seconds = ends[id(track)]
        box = track.box.child(b"tkhd")
        if box is not None:
            body = bytearray(source.read(box.body, box.end - box.body))
            wide = body[0] == 1
            put_duration(body, 28 if wide else 20, wide, round(seconds * scale))
            new_bodies[box.start] = bytes(body)
        box = track.box.child(b"mdia", b"mdhd")
        if box is not None:
            body = bytearray(source.read(box.body, box.end - box.body))
            wide = body[0] == 1
            put_duration(body, 24 if wide else 16, wide, round(seconds * track.timescale))
            new_bodies[box.start] = bytes(body)
        box = track.box.child(b"edts", b"elst")
        if box is not None:
            body = bytearray(source.read(box.body, box.end - box.body))
            entries = int.from_bytes(body[4:8], "big")
            wide = body[0] == 1
            if entries == 1:
                put_duration(body, 8, wide, round(seconds * scale))
                new_bodies[box.start] = bytes(body)


def put_duration(body: bytearray, at: int, wide: bool, value: int) -> None:
    """Writes a duration; one that has no room there is all ones, which says that it is not known (8.2.2.3)."""
    width = 8 if wide else 4
    body[at : at + width] = min(value, (1 << 8 * width) - 1).to_bytes(width, "big")


def serialise(subject: Subject, root: Box, new_bodies: dict[int, bytes]) -> bytes:
    """``root`` with the bodies in ``new_bodies`` (by box start) in place of the old ones; DROP leaves a box out."""
    source = subject.source
    done: dict[int, bytes] = {}
    order: list[Box] = []
    stack = [root]
    while stack:
        box = stack.pop()
        order.append(box)
        stack.extend(box.children)
    for box in reversed(order):
        if box.start in new_bodies:
            body = new_bodies[box.start]
            done[box.start] = b"" if body == DROP else box_bytes(box.kind, body)
        elif box.kind in CONTAINERS and box.children:
            prefix = source.read(box.body, box.children[0].start - box.body)
            tail = source.read(box.children[-1].end, box.end - box.children[-1].end)
            done[box.start] = box_bytes(box.kind, prefix + b"".join(done[c.start] for c in box.children) + tail)
        else:
            done[box.start] = source.read(box.start, box.end - box.start)
    return done[root.start]
