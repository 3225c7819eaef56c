"""HEIF items (ISO/IEC 23008-12, ISO/IEC 14496-12 clause 8.11): HEIC and AVIF still pictures."""

from __future__ import annotations

from jugal.formats.base import Report, Subject
from jugal.formats.fills import holes
from jugal.formats.isobmff.boxes import Box, Tree
from jugal.model import scoring
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.span import ByteSpan
from jugal.model.strip import Matter

_MAX_EXTENTS = 100_000


def item_extents(data: bytes) -> list[tuple[int, int, int, int]] | None:
    """(item, construction method, offset, length) per extent of an ``iloc`` body; None where it is cut short."""
    if len(data) < 8:
        return None
    version = data[0]
    offset_size, length_size = data[4] >> 4, data[4] & 15
    base_size, index_size = data[5] >> 4, data[5] & 15 if version in (1, 2) else 0
    at = 6

    def take(width: int) -> int:
        nonlocal at
        value = int.from_bytes(data[at : at + width], "big")
        at += width
        return value

    extents: list[tuple[int, int, int, int]] = []
    count = take(2 if version < 2 else 4)
    for _ in range(min(count, _MAX_EXTENTS)):
        item = take(2 if version < 2 else 4)
        method = take(2) & 15 if version in (1, 2) else 0
        take(2)
        base = take(base_size)
        for _ in range(min(take(2), _MAX_EXTENTS)):
            take(index_size)
            offset, length = take(offset_size), take(length_size)
            extents.append((item, method, base + offset, length))
            if at > len(data) or len(extents) > _MAX_EXTENTS:
                return None
    return extents


def _size_of_primary(subject: Subject, meta: Box) -> tuple[int, int] | None:
    """The largest image spatial extent: the picture itself, since tiles and thumbnails are smaller."""
    ipco = meta.child(b"iprp", b"ipco")
    sizes = []
    for box in ipco.all(b"ispe") if ipco else []:
        raw = subject.source.read(box.body, 12)
        if len(raw) == 12:
            sizes.append((int.from_bytes(raw[4:8], "big"), int.from_bytes(raw[8:12], "big")))
    return max(sizes, key=lambda s: s[0] * s[1], default=None)


def examine_items(subject: Subject, report: Report, tree: Tree, meta: Box) -> None:
    """Judges the items of a still picture: every extent inside the file, free of holes."""
    size = _size_of_primary(subject, meta)
    if size:
        report.media.update(width=size[0], height=size[1])
    iloc = meta.child(b"iloc")
    extents = item_extents(subject.source.read(iloc.body, min(iloc.end - iloc.body, 1 << 22))) if iloc else None
    if not extents:
        report.add(
            FindingCode.MP4_TABLES,
            Severity.FATAL,
            "The item locations are missing or cut short.",
            meta.start,
            meta.end,
        )
        report.score = report.attainable = 0.0
        return
    placed = [e for e in extents if e[1] == 0]
    total = sum(e[3] for e in placed)
    bad = 0
    for item, _, offset, length in placed:
        if offset + length > subject.size:
            missing = offset + length - max(offset, subject.size)
            bad += missing
            report.add(
                FindingCode.MP4_OUTSIDE,
                Severity.MAJOR,
                f"{missing:,} bytes of item {item} lie past the end of the file.",
                subject.size,
                subject.size,
                Cause.CUT_SHORT,
            )
        end = min(offset + length, subject.size)
        if offset >= end:
            continue
        report.mark(offset, end, Matter.PAYLOAD, f"item {item}")
        for fill in holes(subject, ByteSpan(offset, end)):
            bad += end - fill.span.start
            report.add(
                FindingCode.MP4_HOLE,
                Severity.MAJOR,
                f"A filled run lies in item {item}.",
                fill.span.start,
                fill.span.end,
                Cause.UNREADABLE,
            )
            report.mark(fill.span.start, fill.span.end, Matter.HOLE)
            break
    report.score = report.attainable = scoring.share(total - min(bad, total), total)
    report.add(FindingCode.STATISTICS_ONLY, Severity.NOTE, "The coded items were placed and looked at, not decoded.")
