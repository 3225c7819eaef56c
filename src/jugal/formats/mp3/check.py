"""Judges MPEG audio files: the chain of frames, its gaps in seconds, the count the file gives of itself."""

from __future__ import annotations

import numpy as np

from jugal.formats.base import Report, Subject
from jugal.formats.mp3.parse import Stream, read_stream
from jugal.model import scoring
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Region
from jugal.model.strip import Matter


def examine(subject: Subject, report: Report) -> None:
    """Examines the MPEG audio file in ``subject``; never raises for its content."""
    source = subject.source
    stream = read_stream(source)
    if stream.header is None:
        report.add(
            FindingCode.MP3_JUNK,
            Severity.FATAL,
            "No chain of audio frames is left.",
            stream.tag_end,
            subject.size,
        )
        report.score = report.attainable = 0.0
        return
    header = stream.header
    report.mark(0, stream.tag_end, Matter.STRUCTURE, "ID3 tag")
    report.mark(stream.tag_end, stream.end, Matter.PAYLOAD, "audio frames")
    report.mark(stream.end, subject.size, Matter.STRUCTURE, "tags")
    found = len(stream.frames) - (1 if stream.info_frame else 0)
    seconds = header.samples / header.rate
    lost = _gaps(subject, report, stream, seconds)
    cut = stream.last_end > stream.end
    if cut:
        found = max(0, found - 1)
        report.add(
            FindingCode.MP3_SHORT,
            Severity.MAJOR,
            "The last frame is cut off.",
            stream.end,
            stream.end,
            Cause.CUT_SHORT,
        )
    expected = found + lost + (1 if cut else 0)
    if stream.stated_frames and stream.info_frame:
        missing = stream.stated_frames - expected
        if missing > 1 and missing < 100 * (expected + 1000):
            if not lost:
                place = int(stream.gaps[-1][0]) if len(stream.gaps) else min(stream.end, subject.size)
                if not cut:
                    report.add(
                        FindingCode.MP3_COUNT,
                        Severity.MAJOR,
                        f"{missing:,} frames ({missing * seconds:.1f} s) of {stream.stated_frames:,} are missing.",
                        place,
                        place,
                        Cause.CUT_SHORT,
                    )
            expected = max(expected, stream.stated_frames)
    report.media.update(
        duration=round(found * seconds, 3), sample_rate=header.rate, channels=1 if header.mono else 2,
        bitrate_kbps=round((stream.last_end - int(stream.frames[0])) * 8 / max(1e-9, len(stream.frames) * seconds) / 1000),
    )  # fmt: skip
    first = int(stream.frames[0])
    report.anchor(stream.frames, np.arange(len(stream.frames)) / max(1, expected))
    if first > stream.tag_end + 4:
        junk = subject.source.array[stream.tag_end : first]
        if junk[:256].any():
            report.add(
                FindingCode.MP3_JUNK,
                Severity.MAJOR,
                f"{first - stream.tag_end:,} bytes that are no frame stand before the first one.",
                stream.tag_end,
                first,
            )
        elif first - stream.tag_end >= 512 and stream.tag_end == 0:
            report.add(
                FindingCode.HOLE,
                Severity.MAJOR,
                f"The first {first:,} bytes hold no frame; they begin with zeros.",
                0,
                first,
                Cause.START_OVERWRITTEN,
            )
            expected += max(1, round(first / (max(1, stream.last_end - first) / max(1, found))))
    report.score = report.attainable = scoring.share(found, expected)
    if expected > found and (stream.stated_frames or cut) and not lost:
        report.regions.append(Region(found / expected, 1.0, f"from {found * seconds:.1f} s on"))
    if report.counts:
        report.plan("rewrite-frames", "Keep the good frames alone, with a new count in front.", report.attainable)


def _gaps(subject: Subject, report: Report, stream: Stream, seconds: float) -> int:
    """Findings for breaks in the chain; returns how many frames' worth was lost in them."""
    lost = 0
    count = max(1, len(stream.frames))
    usual = max(24.0, (stream.last_end - int(stream.frames[0]) - sum(int(b - a) for a, b in stream.gaps)) / count)
    for begin, end in stream.gaps.tolist():
        to_end = end >= stream.end
        rest = subject.source.array[begin:end]
        before = int((stream.frames < begin).sum())
        if to_end and not rest.any():
            if stream.stated_frames is None or before - 1 >= stream.stated_frames - 1:
                report.add(
                    FindingCode.TAIL,
                    Severity.NOTE,
                    f"{end - begin:,} zeros follow the last frame.",
                    begin,
                    end,
                )
                report.mark(begin, end, Matter.PAST_END)
                continue
        if to_end and end - begin < 4:
            continue
        if to_end and stream.stated_frames is not None and before - 1 >= stream.stated_frames:
            report.add(FindingCode.TAIL, Severity.NOTE, f"{end - begin:,} bytes follow the last frame.", begin, end)
            report.mark(begin, end, Matter.PAST_END)
            continue
        # The damage began in the frame before the header that is missing.
        frame = int(stream.frames[before - 1]) if before else begin
        start = begin
        cause = None
        fill = next((f for f in subject.blocks.fills if f.span.end > frame and f.span.start < end), None)
        if fill is not None:
            start, cause = max(frame, min(begin, fill.span.start)), Cause.UNREADABLE
        elif begin - frame > 0:
            boundary = -(-frame // 512) * 512
            start = boundary if frame < boundary <= begin else begin
            cause = Cause.OVERWRITTEN if end - begin > 512 else None
        frames = max(1, round((end - begin) / usual)) + (1 if start < begin else 0)
        if end - begin < usual / 2 and not to_end:
            frames = 1
        lost += frames
        code = FindingCode.MP3_HOLE if fill is not None else FindingCode.MP3_JUNK
        report.add(
            code,
            Severity.MAJOR,
            f"The chain of frames breaks at {before * seconds:.1f} s; about {frames * seconds:.1f} s are lost.",
            start,
            end,
            cause,
        )
        report.mark(start, end, Matter.HOLE if fill is not None else Matter.FOREIGN)
        total = len(stream.frames) + lost
        report.regions.append(
            Region(
                min(1.0, before / total),
                min(1.0, (before + frames) / total),
                f"{before * seconds:.1f} s to {(before + frames) * seconds:.1f} s",
            )
        )
    return lost
