"""What block statistics tell of any file: empty, one byte throughout, holes, foreign tails. No format needed."""

from __future__ import annotations

import gzip
import re
import zlib

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Report, Subject
from jugal.formats.fills import describe, entropy_drops, foreign_text
from jugal.kernels.blockstats import PAGE, period_of
from jugal.model import scoring
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Region
from jugal.model.span import ByteSpan, merge, total_length
from jugal.model.strip import Matter

#: Formats whose payload is compressed or coded throughout, so that filled sectors are no content of theirs.
DENSE = frozenset({"gif", "webp", "ogg", "opus", "aac", "gzip", "7z", "rar"})
#: Formats that may well hold large uniform areas: plain samples, padding chunks, stuffing packets.
SPARSE = frozenset(
    {"bmp", "tiff", "psd", "tar", "sqlite", "doc", "xls", "ppt", "mxf", "aiff", "unknown"}
    | {"avi", "mkv", "webm", "mpegts", "mpegps"}
)


def nothing_there(subject: Subject, report: Report) -> bool:
    """Empty files, files of one byte value or one short text throughout: judged here, whatever they claim to be."""
    size = subject.size
    if size == 0:
        report.add(FindingCode.EMPTY, Severity.FATAL, "The file holds no bytes.", 0, 0)
        report.score = report.attainable = 0.0
        return True
    data = subject.source.array
    if data[0] == data[-1] and bool((subject.blocks.uniform == data[0]).all()):
        report.add(
            FindingCode.ONE_BYTE,
            Severity.FATAL,
            f"Every byte of the file is 0x{int(data[0]):02X}.",
            0,
            size,
            Cause.UNREADABLE,
        )
        report.mark(0, size, Matter.HOLE, f"filled with 0x{int(data[0]):02X}")
        report.score = report.attainable = 0.0
        return True
    if size >= 1024 and period_of(data[: min(size, 1024)], 64) and period_of(data, 64):
        report.add(
            FindingCode.FILLER,
            Severity.FATAL,
            "One short text is repeated throughout the file.",
            0,
            size,
            Cause.UNREADABLE,
        )
        report.mark(0, size, Matter.FILLER)
        report.score = report.attainable = 0.0
        return True
    return False


def examine(subject: Subject, report: Report, name: str) -> None:
    """Judges by statistics alone a file of format ``name`` (no examiner covers it, or one failed)."""
    size = subject.size
    whole = ByteSpan(0, size)
    report.mark(0, size, Matter.PAYLOAD if name != "unknown" else Matter.UNEXPLAINED)
    lost: list[ByteSpan] = []
    smallest = 512 if name in DENSE else 4096
    for fill in subject.blocks.fills_in(whole, smallest):
        at_end = fill.span.end == size
        if name in SPARSE and not (at_end and fill.span.length > 0.45 * size) and fill.span.start != 0:
            continue
        if name not in DENSE and fill.span.length < size / 10 and fill.span.start != 0:
            continue
        lost.append(fill.span)
        report.mark(fill.span.start, fill.span.end, Matter.HOLE, f"filled with 0x{fill.value:02X}")
    if lost:
        report.add(
            FindingCode.HOLE,
            Severity.MAJOR,
            f"Filled runs of one byte value: {describe(lost)}.",
            lost[0].start,
            lost[0].end,
            Cause.UNREADABLE,
        )
    foreign: list[ByteSpan] = []
    if name in DENSE:
        foreign = merge([*foreign_text(subject, whole)[:64], *subject.blocks.patterns])
        foreign = [s for s in foreign if s.start >= PAGE and s.length >= PAGE]
        if not foreign and name in ("gzip", "7z", "rar"):
            foreign = [s for s in entropy_drops(subject, whole) if s.start >= PAGE and s.end < size - PAGE]
    elif name == "unknown":
        foreign = _foreign_tail(subject)
    if not foreign and name in _HOLDS_NO_FILES:
        foreign = _foreign_start(subject)
    if foreign and name != "unknown":
        report.add(
            FindingCode.FOREIGN,
            Severity.MAJOR,
            f"The bytes change their nature: {describe(foreign)}.",
            foreign[0].start,
            foreign[0].end,
            Cause.OVERWRITTEN,
        )
    for span in foreign:
        report.mark(span.start, span.end, Matter.FOREIGN)
    if name == "gzip":
        lost += _gzip(subject, report)
    if name == "unknown":
        report.add(FindingCode.UNKNOWN, Severity.NOTE, "No known format fits the content.")
        report.score = report.attainable = None
        return
    if name == "gzip" and not lost and not foreign and report.worst is Severity.NOTE:
        # Inflated in full, CRC-32 and length checked: that is proof, not statistics.
        report.score = report.attainable = scoring.FULL
        return
    report.add(
        FindingCode.STATISTICS_ONLY,
        Severity.NOTE,
        "The format is recognised; only its byte statistics were judged.",
    )
    bad = merge([*lost, *foreign])
    if not bad and report.worst is Severity.NOTE:
        report.score = report.attainable = None
        return
    report.score = report.attainable = min(scoring.STATISTICS_ONLY, scoring.share(size - total_length(bad), size))
    for span in bad[:24]:
        report.regions.append(Region(span.start / size, span.end / size, f"bytes {span.start:,} to {span.end:,}"))


#: Formats in which no other file's beginning has a place, least of all at a cluster boundary.
_HOLDS_NO_FILES = frozenset(
    {"gif", "bmp", "webp", "avi", "mpegts", "mpegps", "ogg", "opus", "aac", "aiff", "mxf", "gzip", "mkv", "webm"}
)
_BEGINNINGS = re.compile(
    rb"\xff\xd8\xff[\xe0\xe1]..(JFIF|Exif)\0|\x89PNG\r\n\x1a\n|%PDF-1\.|RIFF....(WAVE|AVI |WEBP)|...[\x10-\x40]ftyp|PK\x03\x04\x14\0",
    re.S,
)


def _foreign_start(subject: Subject) -> list[ByteSpan]:
    """Another file's beginning at a cluster boundary: from there on the bytes are that file's."""
    for at in range(PAGE, min(subject.size, 1 << 32), PAGE):
        if _BEGINNINGS.match(subject.source.array[at : at + 16].tobytes()):
            return [ByteSpan(at, subject.size)]
    return []


def _foreign_tail(subject: Subject) -> list[ByteSpan]:
    """Where entropy steps once and for good at a page boundary: another file's content may follow."""
    entropy = subject.blocks.entropy
    if entropy.size < 16:
        return []
    cuts = np.arange(4, entropy.size - 4)
    before, steady = _level_and_spread(entropy, cuts)
    after, behind = _level_and_spread(entropy[::-1], entropy.size - cuts)
    stepped = np.flatnonzero((np.abs(before - after) > 3) & (steady < 0.4) & (behind < 0.4))
    return [ByteSpan(int(cuts[stepped[0]]) * PAGE, subject.size)] if stepped.size else []


def _level_and_spread(values: NDArray[np.float32], counts: NDArray[np.int64]) -> tuple[NDArray, NDArray]:
    """Mean and standard deviation of the first ``counts`` of ``values``."""
    sums, squares = (np.cumsum(values.astype(np.float64) ** power)[counts - 1] for power in (1, 2))
    mean = sums / counts
    return mean, np.sqrt(np.maximum(0.0, squares / counts - mean**2))


def _gzip(subject: Subject, report: Report) -> list[ByteSpan]:
    """Inflates the whole stream (RFC 1952): CRC-32 and length at its end are checked by the inflater."""
    engine = zlib.decompressobj(31)
    total = 0
    for at in range(0, subject.size, 1 << 16):
        piece = subject.source.read(at, 1 << 16)
        try:
            total += len(engine.decompress(piece, 1 << 26))
        except (zlib.error, gzip.BadGzipFile):
            report.add(
                FindingCode.FOREIGN,
                Severity.MAJOR,
                "The compressed data breaks within these bytes.",
                at,
                min(subject.size, at + (1 << 16)),
            )
            return [ByteSpan(at, subject.size)]
        if engine.eof or total > subject.limits.inflated_member:
            return []
    report.add(
        FindingCode.HOLE,
        Severity.MAJOR,
        "The compressed data ends early.",
        subject.size,
        subject.size,
        Cause.CUT_SHORT,
    )
    return [ByteSpan(max(0, subject.size - 1), subject.size)]
