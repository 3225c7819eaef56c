"""Judges text: runs of zeros and binary islands in it, and whether XML, JSON and RTF are well formed."""

from __future__ import annotations

import json

import numpy as np

from jugal.formats.base import Report, Subject
from jugal.formats.zip.package import xml_error
from jugal.model import scoring
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Region
from jugal.model.span import ByteSpan, merge, total_length
from jugal.model.strip import Matter

_MAX_PARSED = 64 << 20


def examine(subject: Subject, report: Report) -> None:
    """Examines the text in ``subject``; never raises for its content."""
    data = subject.source.array
    size = subject.size
    report.mark(0, size, Matter.PAYLOAD, "text")
    wide = subject.source.read(0, 2) in (b"\xff\xfe", b"\xfe\xff")
    lost = [] if wide else _islands(data)
    for span in lost:
        zeros = not data[span.start : span.end].any()
        aligned = span.start % 512 == 0
        what = "zeros" if zeros else "bytes that are no text"
        cause = Cause.UNREADABLE if zeros and aligned else (Cause.OVERWRITTEN if aligned else None)
        report.add(
            FindingCode.TEXT_BINARY,
            Severity.MAJOR,
            f"{span.length:,} {what} lie in the text.",
            span.start,
            span.end,
            cause,
        )
        report.mark(span.start, span.end, Matter.HOLE if zeros else Matter.FOREIGN)
        report.regions.append(Region(span.start / size, span.end / size, f"bytes {span.start:,} to {span.end:,}"))
    report.score = report.attainable = scoring.share(size - total_length(lost), size)
    if not lost and size <= _MAX_PARSED:
        _form(subject, report)


def _islands(data: np.ndarray) -> list[ByteSpan]:
    """Stretches with control bytes: three or more zeros in a row, or many controls within 64 bytes."""
    control = (data < 32) & (data != 9) & (data != 10) & (data != 13) & (data != 12) & (data != 27) & (data != 26)
    spots = np.flatnonzero(control)
    if spots.size == 0:
        return []
    groups = np.split(spots, np.flatnonzero(np.diff(spots) > 64) + 1)
    spans = []
    for group in groups:
        start, end = int(group[0]), int(group[-1]) + 1
        if group.size >= 8 and group.size > (end - start) / 24:
            spans.append(ByteSpan(start, end))
    return merge(spans, 64)


def _form(subject: Subject, report: Report) -> None:
    """What the format itself demands of the end of the text."""
    source, size = subject.source, subject.size
    head = source.read(0, 512).lstrip(b"\xef\xbb\xbf \t\r\n")
    if head.startswith(b"{\\rtf"):
        _rtf(subject, report)
    elif head.startswith(b"<?xml"):
        error = xml_error(source.read(0, size))
        if error is not None and "undefined entity" not in error[1] and "encoding" not in error[1]:
            at_end = error[0] >= size - 4096
            cut = error[1] in ("no element found", "unclosed token", "unclosed CDATA section") and at_end
            report.add(
                FindingCode.TEXT_FORM,
                Severity.MAJOR if cut else Severity.NOTE,
                f"The XML is not well formed: {error[1]}.",
                min(size, error[0]) if not cut else size,
                size,
                Cause.CUT_SHORT if cut else None,
            )
    elif head[:1] in (b"{", b"["):
        text = source.read(0, size)
        try:
            json.loads(text)
        except ValueError as error:
            position = getattr(error, "pos", None)
            lines = [line for line in text.splitlines() if line.strip()][:3]
            if _each_is_json(lines):
                return
            if isinstance(position, int) and position >= len(text.rstrip()) - 2:
                report.add(
                    FindingCode.TEXT_FORM,
                    Severity.MAJOR,
                    "The JSON text ends before it is complete.",
                    size,
                    size,
                    Cause.CUT_SHORT,
                )
            else:
                report.add(FindingCode.TEXT_FORM, Severity.NOTE, "The text is no valid JSON.", position, position)
        except RecursionError:
            report.add(FindingCode.BUDGET, Severity.NOTE, "The JSON text is nested too deeply to be followed.")


def _each_is_json(lines: list[bytes]) -> bool:
    try:
        return len(lines) > 0 and all(json.loads(line) is not None for line in lines[:2])
    except (ValueError, RecursionError):
        return False


def _rtf(subject: Subject, report: Report) -> None:
    """Braces balance at the end of an RTF text (RTF 1.9.1); escaped ones do not count."""
    data = subject.source.read(0, subject.size)
    depth = data.count(b"{") - data.count(b"\\{") - data.count(b"}") + data.count(b"\\}")
    if depth > 0 and not data.rstrip(b"\0\r\n ").endswith(b"}"):
        report.add(
            FindingCode.TEXT_FORM,
            Severity.MAJOR,
            f"The text ends with {depth} groups open.",
            subject.size,
            subject.size,
            Cause.CUT_SHORT,
        )
