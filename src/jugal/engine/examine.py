"""One file → one Examination. The only place with a broad except."""

from __future__ import annotations

import logging
import os
import time
from dataclasses import replace

from jugal.binary.limits import DEFAULT_LIMITS, Limits
from jugal.binary.source import Source, SourceUnreadable
from jugal.engine.strips import lay_out
from jugal.formats import generic
from jugal.formats.base import Report, Subject
from jugal.formats.detect import UNKNOWN, detect
from jugal.formats.registry import extension_fits, formats, kind_of
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Finding, Severity
from jugal.model.result import Examination, derive_verdict

log = logging.getLogger(__name__)


def examine_file(path: str | os.PathLike[str], limits: Limits = DEFAULT_LIMITS) -> Examination:
    """Examines the file at ``path``. An unreadable file comes back with ``error``, never as an exception."""
    started = time.perf_counter()
    name = os.fspath(path)
    try:
        source = Source.open(path, limits)
    except SourceUnreadable as error:
        return Examination(name, 0, error=str(error), seconds=time.perf_counter() - started)
    result = examine_source(source, limits)
    return replace(result, path=name, seconds=time.perf_counter() - started)


def examine_source(source: Source, limits: Limits = DEFAULT_LIMITS) -> Examination:
    """Examines the bytes of ``source``."""
    subject = Subject(source, limits)
    report = Report()
    detection = UNKNOWN
    if not generic.nothing_there(subject, report):
        detection = detect(source)
        spec = formats().get(detection.format)
        if spec is None:
            generic.examine(subject, report, detection.format)
        else:
            try:
                spec.examine(subject, report)
            except Exception as error:  # an examiner's bug must cost one verdict, not the run
                log.exception("examiner of %s failed on %s", detection.format, source.name)
                report = Report()
                report.add(
                    FindingCode.EXAMINER,
                    Severity.NOTE,
                    f"The examiner of {detection.format} failed: {type(error).__name__}.",
                )
                generic.examine(subject, report, detection.format)
        _name_finding(report, detection.format, source.suffix)
    name = report.format or detection.format
    score, attainable = report.score, report.attainable
    if score is not None:
        score = round(score, 2)
        attainable = round(max(score, attainable if attainable is not None else score), 2)
    findings = tuple(sorted(report.findings, key=lambda f: f.sort_key))
    findings = _bounded(findings, source.size)
    plans = tuple(sorted(report.plans, key=lambda p: (p.needs_donor, -p.attainable)))
    return Examination(
        path=source.name,
        size=source.size,
        kind=kind_of(name),
        format=name,
        score=score,
        attainable=attainable,
        verdict=derive_verdict(score, attainable, findings),
        findings=findings,
        repairs=plans,
        media=dict(report.media),
        strip=lay_out(report.strip, subject),
        regions=tuple(report.regions),
        anchors=tuple(report.anchors),
        thumbnail=report.thumbnail,
    )


def _name_finding(report: Report, name: str, suffix: str) -> None:
    if not extension_fits(report.format or name, suffix):
        report.add(
            FindingCode.NAME,
            Severity.NOTE,
            f"The name says .{suffix}, the content is {report.format or name}.",
            cause=Cause.SOMETHING_ELSE,
        )


def _bounded(findings: tuple[Finding, ...], size: int) -> tuple[Finding, ...]:
    """No finding points past the file's end."""
    out = []
    for finding in findings:
        span = finding.span
        if span is not None and span.end > size:
            finding = replace(finding, span=type(span)(min(span.start, size), size))
        out.append(finding)
    return tuple(out)
