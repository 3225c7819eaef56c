"""Examinations and outcomes as the JSON objects that the command line promises."""

from __future__ import annotations

import json
from typing import Any

from jugal.model.result import Examination, RepairOutcome


def examination_record(examination: Examination) -> dict[str, Any]:
    """One line of ``jugal check``."""
    record: dict[str, Any] = {
        "path": examination.path,
        "size": examination.size,
        "kind": examination.kind.value,
        "format": examination.format,
        "score": examination.score,
        "attainable": examination.attainable,
        "verdict": examination.verdict.value,
        "findings": [
            {
                "code": f.code.value,
                "severity": f.severity.value,
                "start": f.span.start if f.span else None,
                "end": f.span.end if f.span else None,
                "message": f.message,
            }
            for f in examination.findings
        ],
        "repairs": [
            {
                "method": p.method,
                "needs_donor": p.needs_donor,
                "attainable": round(p.attainable, 2),
                "summary": p.summary,
            }
            for p in examination.repairs
        ],
        "media": examination.media,
        "seconds": round(examination.seconds, 6),
    }
    if examination.error is not None:
        record["error"] = examination.error
    return record


def outcome_record(outcome: RepairOutcome) -> dict[str, Any]:
    """One line of ``jugal repair``."""
    record: dict[str, Any] = {
        "path": outcome.path,
        "output": outcome.output,
        "status": outcome.status.value,
        "method": outcome.method,
        "donor": outcome.donor,
        "score_before": outcome.score_before,
        "score_after": outcome.score_after,
        "steps": list(outcome.steps),
    }
    if outcome.error is not None:
        record["error"] = outcome.error
    return record


def line(record: dict[str, Any]) -> str:
    """``record`` as one line; names that are not UTF-8 come out as escapes, so that every line is valid JSON."""
    return json.dumps(record, ensure_ascii=True, allow_nan=False)
