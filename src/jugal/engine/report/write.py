"""Writes the client's HTML report and the JSON lines that go with a delivery."""

from __future__ import annotations

import base64
import datetime
import os
from collections import Counter
from dataclasses import dataclass
from pathlib import Path

from jinja2 import Environment, PackageLoader, StrictUndefined, select_autoescape

from jugal.binary.output import exclusive_output, free_name
from jugal.case.store import Case, FileRow
from jugal.engine.contract import examination_record, line
from jugal.model.result import Verdict

_PICTURES = 40

VERDICT_WORDS = {
    Verdict.INTACT: "whole",
    Verdict.REPAIRABLE: "can be repaired",
    Verdict.DAMAGED: "partly lost",
    Verdict.UNRECOVERABLE: "lost",
    Verdict.UNRECOGNISED: "not judged",
}


@dataclass(frozen=True, slots=True)
class _Entry:
    name: str
    words: str
    score: str
    headline: str
    repaired: str
    picture: str | None


def _human(size: int) -> str:
    value = float(size)
    for unit in ("bytes", "KB", "MB", "GB"):
        if value < 1000:
            return f"{value:.0f} {unit}" if unit == "bytes" else f"{value:.1f} {unit}"
        value /= 1000
    return f"{value:.1f} TB"


def write_reports(case: Case, target: Path) -> tuple[Path, Path]:
    """Writes both reports into ``target``; returns the HTML and the JSON lines file. Nothing is overwritten."""
    rows = list(case.files())
    html = free_name(target, "report.html")
    with exclusive_output(html) as out:
        out.write(render(case, rows).encode("utf-8", "replace"))
    lines = free_name(target, "findings.jsonl")
    with exclusive_output(lines) as out:
        for row in rows:
            examination = case.examination(row.id)
            if examination is not None:
                out.write((line(examination_record(examination)) + "\n").encode("ascii"))
    return html, lines


def render(case: Case, rows: list[FileRow]) -> str:
    """The HTML report as text, pictures embedded."""
    environment = Environment(
        loader=PackageLoader("jugal.engine.report", "."),
        autoescape=select_autoescape(["html"]),
        undefined=StrictUndefined,
    )
    kept = {r.file: r.outcome for r in case.repairs() if r.kept and r.outcome.output}
    verdicts = Counter(row.verdict for row in rows if row.error is None)
    kinds = Counter(row.kind.value for row in rows if row.error is None)
    delivered = case.delivered()
    worth_showing = sorted(
        (r for r in rows if r.verdict not in (Verdict.INTACT, Verdict.UNRECOGNISED) and r.error is None),
        key=lambda r: r.path,
    )
    shown = 0
    entries = []
    for row in worth_showing:
        picture = None
        if shown < _PICTURES:
            jpeg = case.thumbnail(row.id)
            if jpeg:
                picture = base64.b64encode(jpeg).decode()
                shown += 1
        outcome = kept.get(row.id)
        repaired = (
            f"repaired: {outcome.score_before:.0f} → {outcome.score_after:.0f}"
            if outcome and outcome.score_after is not None and outcome.score_before is not None
            else ""
        )
        entries.append(
            _Entry(
                _display(row.path),
                VERDICT_WORDS[row.verdict],
                "–" if row.score is None else f"{row.score:.0f}",
                row.headline,
                repaired,
                picture,
            )
        )
    return environment.get_template("report.html").render(
        title=case.get("title", "Recovered files"),
        date=datetime.date.today().isoformat(),
        total=len(rows),
        size=_human(sum(r.size for r in rows)),
        sources=[_display(s) for s in case.sources()],
        verdicts=[(VERDICT_WORDS[v], verdicts.get(v, 0)) for v in Verdict],
        kinds=sorted(kinds.items()),
        entries=entries,
        errors=[(_display(r.path), r.error) for r in rows if r.error],
        delivered=[(_display(p), _human(s), h) for p, s, h in delivered.values()],
        repaired=len(kept),
    )


def _display(path: str) -> str:
    return os.fsencode(path).decode("utf-8", "replace")
