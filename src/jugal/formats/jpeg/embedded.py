"""A JPEG that lies inside another file, examined where it lies."""

from __future__ import annotations

from jugal.binary.source import Source
from jugal.formats.base import Report, Subject
from jugal.formats.jpeg.check import examine
from jugal.model.finding import Severity
from jugal.model.span import ByteSpan


def embedded_damage(subject: Subject, span: ByteSpan) -> int | None:
    """Offset in the outer file where the JPEG in ``span`` is first damaged; None where it is whole."""
    inner = Report()
    examine(Subject(Source(subject.source.array[span.start : span.end], "embedded"), subject.limits), inner)
    if inner.score is None or inner.score > 99.9:
        return None
    places = [f.span.start for f in inner.findings if f.span and f.severity in (Severity.MAJOR, Severity.FATAL)]
    return span.start + min(places, default=0)
