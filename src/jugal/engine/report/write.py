"""Writes what goes with a delivery: the client's report as HTML and PDF, the findings as JSON lines and CSV."""

from __future__ import annotations

import base64
import csv
import io
from dataclasses import asdict, dataclass
from pathlib import Path

from jinja2 import Environment, PackageLoader, StrictUndefined, select_autoescape

from jugal.binary.output import exclusive_output, free_name
from jugal.case.store import Case, FileRow
from jugal.engine.contract import examination_record, line
from jugal.engine.report.pdf import render_pdf
from jugal.engine.report.summary import Summary, display, summarise

_COLUMNS = ("path", "size", "kind", "format", "verdict", "score", "attainable", "main finding", "error")


@dataclass(frozen=True, slots=True)
class Reports:
    """The files written."""

    html: Path
    pdf: Path
    lines: Path
    table: Path


def write_reports(case: Case, target: Path) -> Reports:
    """Writes all reports into ``target``. Nothing is overwritten."""
    rows = list(case.files())
    summary = summarise(case, rows)
    html = _write(target, "report.html", render_html(summary).encode("utf-8", "replace"))
    pdf = _write(target, "report.pdf", render_pdf(summary))
    table = _write(target, "findings.csv", render_csv(rows).encode("utf-8", "replace"))
    lines = free_name(target, "findings.jsonl")
    with exclusive_output(lines) as out:
        for row in rows:
            examination = case.examination(row.id)
            if examination is not None:
                out.write((line(examination_record(examination)) + "\n").encode("ascii"))
    return Reports(html, pdf, lines, table)


def _write(target: Path, name: str, content: bytes) -> Path:
    path = free_name(target, name)
    with exclusive_output(path) as out:
        out.write(content)
    return path


def render_html(summary: Summary) -> str:
    """The report as HTML text, pictures embedded."""
    environment = Environment(
        loader=PackageLoader("jugal.engine.report", "."),
        autoescape=select_autoescape(["html"]),
        undefined=StrictUndefined,
    )
    environment.filters["base64"] = lambda raw: base64.b64encode(raw).decode()
    return environment.get_template("report.html").render(**asdict(summary))


def render_csv(rows: list[FileRow]) -> str:
    """One line a file, for spreadsheets. A cell that a spreadsheet would take for a formula is marked as text."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(_COLUMNS)
    for row in rows:
        cells = (
            display(row.path), row.size, row.kind.value, row.format, row.verdict.value,
            "" if row.score is None else row.score, "" if row.attainable is None else row.attainable,
            row.headline, row.error or "",
        )  # fmt: skip
        writer.writerow([f"'{c}" if isinstance(c, str) and c[:1] in ("=", "+", "-", "@") else c for c in cells])
    return out.getvalue()
