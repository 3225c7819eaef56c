"""Judges FLAC files: metadata, each frame's CRCs, the sequence of frames, seconds that are lost."""

from __future__ import annotations

import numpy as np

from jugal.formats.base import Report, Subject
from jugal.formats.fills import foreign_text, holes, trailing_fill
from jugal.formats.flac.parse import FlacStream, StreamInfo, read_flac
from jugal.model import scoring
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Region
from jugal.model.span import ByteSpan
from jugal.model.strip import Matter

_RATES = {
    1: 88200,
    2: 176400,
    3: 192000,
    4: 8000,
    5: 16000,
    6: 22050,
    7: 24000,
    8: 32000,
    9: 44100,
    10: 48000,
    11: 96000,
}


def examine(subject: Subject, report: Report) -> None:
    """Examines the FLAC file in ``subject``; never raises for its content."""
    stream = read_flac(subject.source)
    report.mark(stream.before, stream.audio_at, Matter.STRUCTURE, "metadata")
    report.mark(stream.audio_at, stream.end, Matter.PAYLOAD, "frames")
    opens = not stream.before
    if stream.before:
        report.mark(0, stream.before, Matter.FOREIGN, "before the stream")
        report.add(
            FindingCode.FLAC_BEFORE,
            Severity.FATAL,
            f"{stream.before:,} bytes stand before the stream, so that most players do not open it.",
            0,
            stream.before,
        )
    elif not stream.marker_ok:
        opens = False
        report.add(
            FindingCode.FLAC_MARKER,
            Severity.FATAL,
            "The stream marker is missing.",
            stream.start,
            stream.start + 4,
            Cause.START_OVERWRITTEN,
        )
    if stream.info is None:
        opens = False
        report.add(
            FindingCode.FLAC_STREAMINFO,
            Severity.FATAL,
            "The STREAMINFO block is missing or impossible.",
            stream.start + 4,
            stream.start + 42,
        )
    elif stream.metadata_broken_at is not None:
        at = stream.metadata_broken_at
        report.add(FindingCode.FLAC_METADATA, Severity.MAJOR, "The chain of metadata blocks breaks here.", at, at)
    if not stream.offsets.size:
        if not (stream.info is not None and stream.info.samples == 0 and stream.audio_at >= stream.end):
            report.add(
                FindingCode.FLAC_SHORT,
                Severity.FATAL,
                "No audio frame is left.",
                min(stream.audio_at, subject.size),
                subject.size,
            )
        report.score = report.attainable = 0.0
        return
    _judge(subject, report, stream, opens)


def _judge(subject: Subject, report: Report, stream: FlacStream, opens: bool) -> None:
    info = stream.info
    rate = info.rate if info else _rate_of(subject, stream)
    believable = in_sequence(stream)
    good = (stream.good == 1) & believable
    have = int(stream.sizes[good].sum())
    positions = _positions(stream, info)
    total = info.samples if info is not None and info.samples else 0
    if good.any():
        last = int(np.flatnonzero(good)[-1])
        reached = int(positions[last] + stream.sizes[last])
    else:
        reached = 0
    expected = max(total, reached, 1)
    _gaps(subject, report, stream, good, positions, rate, total)
    if total and reached < total:
        last_good_end = int(stream.ends[np.flatnonzero(good)[-1]]) if good.any() else stream.audio_at
        tail = subject.size - last_good_end
        truncated = tail < max(65536, (info.max_frame if info else 0) + 64)
        if (truncated and not report.has(FindingCode.FLAC_GAP, FindingCode.FLAC_FRAME)) or tail == 0:
            report.add(
                FindingCode.FLAC_SHORT,
                Severity.MAJOR,
                f"The stream ends {(total - reached) / max(1, rate):.1f} s early.",
                subject.size,
                subject.size,
                Cause.CUT_SHORT,
            )
            report.mark(subject.size, subject.size + 1, Matter.MISSING)
        report.regions.append(Region(reached / expected, 1.0, f"from {reached / max(1, rate):.1f} s on"))
    report.anchor(stream.offsets, np.minimum(1.0, positions / expected))
    if info is not None:
        report.media.update(sample_rate=info.rate, channels=info.channels, bits=info.bits)
    report.media["duration"] = round(expected / max(1, rate), 3)
    usable = scoring.share(have, expected)
    report.score = usable if opens else min(usable, scoring.UNOPENABLE)
    report.attainable = report.score
    if report.worst is not Severity.NOTE and info is not None:
        report.attainable = max(report.score, usable)
        report.plan(
            "rewrite-stream",
            "Keep the good frames alone behind a STREAMINFO block that tells their number.",
            report.attainable,
        )


def _rate_of(subject: Subject, stream: FlacStream) -> int:
    code = (subject.source.uint(int(stream.offsets[0]) + 2, 1) or 0) & 15
    return _RATES.get(code, 44100)


def in_sequence(stream: FlacStream) -> np.ndarray:
    """Frames whose coded number goes on from the frames before; chance headers do not."""
    keep = np.ones(stream.numbers.size, bool)
    highest = -1
    for i, (number, good) in enumerate(zip(stream.numbers.tolist(), stream.good.tolist(), strict=True)):
        if number <= highest:
            keep[i] = False
        elif good:
            highest = number
    return keep


def _positions(stream: FlacStream, info: StreamInfo | None) -> np.ndarray:
    """First sample of each frame: the coded number itself, or times the fixed block size."""
    numbers = stream.numbers
    good = np.flatnonzero(stream.good == 1)
    variable = good.size > 1 and int(numbers[good[1]] - numbers[good[0]]) >= int(stream.sizes[good[0]])
    if variable:
        return numbers
    fixed = info.max_block if info is not None else (int(np.median(stream.sizes[good])) if good.size else 4096)
    return numbers * fixed


def _gaps(
    subject: Subject,
    report: Report,
    stream: FlacStream,
    good: np.ndarray,
    positions: np.ndarray,
    rate: int,
    total: int,
) -> None:
    """Findings for stretches between good frames that are no good frames, or where numbers jump."""
    index = np.flatnonzero(good)
    previous_end, expected = stream.audio_at, 0
    for i in index.tolist():
        start = int(stream.offsets[i])
        jump = int(positions[i]) - expected
        if start > previous_end or jump > 0:
            _gap(subject, report, stream, previous_end, start, expected, int(positions[i]), rate)
        previous_end, expected = int(stream.ends[i]), int(positions[i] + stream.sizes[i])
    if previous_end < stream.end:
        complete = bool(total) and expected >= total
        if complete or (not total and trailing_fill(subject, previous_end)):
            kind = "zeros or filler" if trailing_fill(subject, previous_end) else "bytes"
            report.add(
                FindingCode.TAIL,
                Severity.NOTE,
                f"{stream.end - previous_end:,} {kind} follow the last frame.",
                previous_end,
                stream.end,
            )
            report.mark(previous_end, stream.end, Matter.PAST_END)
        else:
            broken = subject.size - previous_end
            only_cut = broken < 65536 and not holes(subject, ByteSpan(previous_end, subject.size)) and not (
                np.flatnonzero(stream.offsets >= previous_end).size > 1
            )  # fmt: skip
            if not only_cut:
                _gap(subject, report, stream, previous_end, stream.end, expected, max(total, expected), rate)


def _gap(
    subject: Subject,
    report: Report,
    stream: FlacStream,
    start: int,
    end: int,
    first: int,
    last: int,
    rate: int,
) -> None:
    span = ByteSpan(start, max(start, end))
    evidence = [f.span for f in holes(subject, span)] + foreign_text(subject, span)
    filled = bool(holes(subject, span))
    place, cause = start, None
    if evidence:
        place = min(s.start for s in evidence)
        cause = Cause.UNREADABLE if filled else Cause.OVERWRITTEN
    elif span.length == 0:
        cause = Cause.CLUSTERS_LOST
    else:
        frames = int(((stream.offsets >= start) & (stream.offsets < end)).sum())
        # A checksum tells the frame, not the byte. An overwritten cluster begins at its boundary inside the frame.
        boundary = -(-start // 4096) * 4096
        place = boundary if boundary < end else start
        cause = Cause.OVERWRITTEN if frames != 1 else None
    seconds = f"{first / max(1, rate):.2f} s to {max(first, last) / max(1, rate):.2f} s"
    code = FindingCode.FLAC_LOST if span.length == 0 else (FindingCode.FLAC_GAP if evidence else FindingCode.FLAC_FRAME)
    sentence = "Frames are missing" if span.length == 0 else "Frames fail their checksums"
    report.add(code, Severity.MAJOR, f"{sentence}: {seconds} are lost.", place, max(place, end), cause)
    report.mark(span.start, span.end, Matter.DAMAGED)
    for hole in evidence:
        report.mark(hole.start, hole.end, Matter.HOLE if filled else Matter.FOREIGN)
    info = stream.info
    whole = max(info.samples if info else 0, last, 1)
    report.regions.append(Region(min(1.0, first / whole), min(1.0, last / whole), seconds))
