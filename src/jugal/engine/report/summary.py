"""What a report says, gathered once from the case: counts, files that are not whole, causes seen case-wide."""

from __future__ import annotations

import datetime
import os
from collections import Counter
from dataclasses import dataclass

from jugal.case.store import Case, FileRow
from jugal.engine.report.marked import draw_damage
from jugal.model.finding import Severity
from jugal.model.result import Examination, Kind, Verdict
from jugal.model.words import human_size, shown_score

_PICTURES = 40

VERDICT_WORDS = {
    Verdict.INTACT: "whole",
    Verdict.REPAIRABLE: "can be repaired",
    Verdict.DAMAGED: "partly lost",
    Verdict.UNRECOVERABLE: "lost",
    Verdict.UNRECOGNISED: "not judged",
}


@dataclass(frozen=True, slots=True)
class Entry:
    """A file that is not whole, in words; ``picture`` is a small JPEG of it."""

    name: str
    words: str
    score: str
    headline: str
    repaired: str
    picture: bytes | None


@dataclass(frozen=True, slots=True)
class Summary:
    """Everything a report shows."""

    title: str
    date: str
    total: int
    size: str
    sources: list[str]
    verdicts: list[tuple[str, int]]
    kinds: list[tuple[str, int]]
    causes: list[tuple[str, int]]
    entries: list[Entry]
    errors: list[tuple[str, str]]
    delivered: list[tuple[str, str, str]]
    repaired: int


def summarise(case: Case, rows: list[FileRow]) -> Summary:
    """Gathers the report of ``rows``."""
    kept = {r.file: r.outcome for r in case.repairs() if r.kept and r.outcome.output}
    verdicts = Counter(row.verdict for row in rows if row.error is None)
    kinds = Counter(row.kind.value for row in rows if row.error is None)
    broken = sorted(
        (r for r in rows if r.verdict not in (Verdict.INTACT, Verdict.UNRECOGNISED) and r.error is None),
        key=lambda r: r.path,
    )
    entries: list[Entry] = []
    causes: Counter[str] = Counter()
    shown = 0
    for row in broken:
        examination = case.examination(row.id)
        causes.update(_causes(examination))
        picture = case.thumbnail(row.id) if shown < _PICTURES else None
        if picture is not None and examination is not None and examination.kind is Kind.PHOTO:
            picture = draw_damage(picture, examination.regions)
        shown += picture is not None
        outcome = kept.get(row.id)
        repaired = (
            f"repaired: {shown_score(outcome.score_before)} → {shown_score(outcome.score_after)}"
            if outcome and outcome.score_after is not None and outcome.score_before is not None
            else ""
        )
        score = "–" if row.score is None else shown_score(row.score)
        entries.append(Entry(display(row.path), VERDICT_WORDS[row.verdict], score, row.headline, repaired, picture))
    return Summary(
        title=str(case.get("title", "Recovered files")),
        date=datetime.date.today().isoformat(),
        total=len(rows),
        size=human_size(sum(r.size for r in rows), "bytes"),
        sources=[display(s) for s in case.sources()],
        verdicts=[(VERDICT_WORDS[v], verdicts.get(v, 0)) for v in Verdict],
        kinds=sorted(kinds.items()),
        causes=causes.most_common(),
        entries=entries,
        errors=[(display(r.path), r.error) for r in rows if r.error],
        delivered=[(display(p), human_size(s, "bytes"), h) for p, s, h, _ in case.delivered().values()],
        repaired=len(kept),
    )


def _causes(examination: Examination | None) -> set[str]:
    """The likely causes of what is wrong with a file, each once."""
    findings = examination.findings if examination else ()
    return {f.cause.value for f in findings if f.cause is not None and f.severity is not Severity.NOTE}


def display(path: str) -> str:
    """A path as text, whatever its bytes."""
    return os.fsencode(path).decode("utf-8", "replace")
