"""Plan → write beside → examine what was written → outcome. The source is only ever read."""

from __future__ import annotations

import logging
import os
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from jugal.binary.output import OutputRefused, exclusive_output, free_name, scratch_folder, write_pieces
from jugal.binary.source import Source, SourceUnreadable
from jugal.engine.donors import fitting_donors
from jugal.engine.examine import examine_file
from jugal.engine.memory import give_back
from jugal.formats.base import RepairDraft, Repairer, RepairImpossible, Subject
from jugal.formats.registry import formats
from jugal.model.finding import Severity
from jugal.model.result import (
    ADJUSTABLE,
    BY_CHOICE,
    ESTIMATES,
    Examination,
    RepairOutcome,
    RepairPlan,
    RepairStatus,
    Verdict,
    adjusted,
    parted,
)

#: Donors that are tried, and seconds after which no further one is: what is sought with one for minutes is with others as well.
_MAX_DONORS, _PATIENCE = 6, 60.0
#: Puts a clip's index before its media data.
_FRONT = "index-in-front"
log = logging.getLogger(__name__)


def check_destination(into: Path, paths: Sequence[str | os.PathLike[str]]) -> str | None:
    """Why results may not go to ``into``; None where they may. A folder that holds a source never may."""
    target = into.resolve()
    for given in paths:
        source = Path(given).resolve()
        if source == target or source.is_relative_to(target):
            return f"The results may not go to {into}: it holds the source {given}."
        if source.is_dir() and target.is_relative_to(source):
            return f"The results may not go to {into}: it lies inside the source {given}."
    if into.exists() and not into.is_dir():
        return f"{into} is not a folder."
    return None


def repair_file(
    examination: Examination,
    into: Path,
    donors: Sequence[Examination] = (),
    method: str | None = None,
    name: str | None = None,
    rounds: int = 3,
    without: frozenset[str] = frozenset(),
    in_front: bool = False,
) -> RepairOutcome:
    """Repairs one examined file into the folder ``into``; the best measured result is kept.

    ``donors`` are healthy files to choose from; ``method`` says which repair begins, and behind an @ at what rate, where it
    is an estimate that takes one. An output no better than the source is removed again. Where the output of a repair can
    itself be repaired (its boxes are right now, its offsets not yet), it is, ``rounds`` repairs in all at most and none
    ``without`` names; the outcome's method then names them all. With ``in_front`` the index of a repaired clip goes before
    its media data, so that playing can begin before all is read.
    """
    path = examination.path
    base = RepairOutcome(path, RepairStatus.FAILED, score_before=examination.score)
    if examination.error is not None:
        return _with(base, error=examination.error)
    # What would bring less than is there now (a preview in place of half a picture) is done only when asked for.
    floor = (examination.score or 0.0) - 1.0
    usual = [p for p in examination.repairs if p.attainable >= floor and p.method not in BY_CHOICE | without]
    try:
        asked, rate = parted(method) if method is not None else (None, None)
    except ValueError:
        return _with(base, error=f"What stands behind the @ of '{method}' is no rate.")
    if rate is not None and asked not in ADJUSTABLE:
        return _with(base, error=f"The repair '{asked}' takes no rate.")
    plans = usual if method is None else [p for p in examination.repairs if p.method == asked]
    if method is None and not (plans and examination.worth_repairing):
        if examination.verdict in (Verdict.INTACT, Verdict.UNRECOGNISED):
            return _with(base, status=RepairStatus.UNCHANGED, score_after=examination.score)
        return _with(base, error="No repair is known for what is wrong with this file.")
    if not plans:
        return _with(base, error=f"The repair '{method}' does not apply to this file.")
    problem = "No repair could be carried out."
    best: RepairOutcome | None = None
    for plan in sorted(plans, key=lambda p: -p.attainable):
        if best is not None and (best.score_after or 0) >= plan.attainable - 0.5:
            break
        candidates: Sequence[Examination | None] = [None]
        if plan.needs_donor:
            candidates = fitting_donors(examination, donors)[:_MAX_DONORS]
            if not candidates:
                problem = "This repair needs a healthy file from the same device, and none was found."
                continue
        begun = time.monotonic()
        for number, donor in enumerate(candidates):
            if number and time.monotonic() - begun > _PATIENCE:
                break
            outcome = _attempt(examination, plan, rate, donor, into, name or os.path.basename(path), base)
            if outcome.status is not RepairStatus.REPAIRED:
                problem = outcome.error or problem
                continue
            if rounds > 1 and plan.method not in BY_CHOICE | ESTIMATES:
                outcome = _carried_on(outcome, into, donors, rounds - 1, without | {plan.method})
            if best is None or (outcome.score_after or 0) > (best.score_after or 0) + 0.01:
                if best is not None and best.output:
                    os.unlink(best.output)
                best = outcome
            elif outcome.output:
                os.unlink(outcome.output)
            if (best.score_after or 0) >= 99.5:
                break
    if best is None:
        return _with(base, error=problem)
    return _put_in_front(best, into) if in_front else best


def _attempt(
    examination: Examination,
    plan: RepairPlan,
    rate: float | None,
    donor: Examination | None,
    into: Path,
    name: str,
    base: RepairOutcome,
) -> RepairOutcome:
    spec = formats().get(examination.format)
    apply = spec.repairs.get(plan.method) if spec else None
    if apply is None:
        return _with(base, error=f"The repair '{plan.method}' does not exist for {examination.format}.")
    # An examination of a large file leaves much behind in pieces, and so does what writes its repair.
    give_back()
    try:
        output, draft = _made(apply, examination.path, donor.path if donor else None, rate, into, name)
    except (RepairImpossible, SourceUnreadable, OutputRefused) as error:
        return _with(base, error=str(error))
    give_back()
    measured = examine_file(output)
    if measured.score is not None and measured.score > draft.kept:
        measured = replace(measured, score=round(draft.kept, 2))
    before, after = examination.score or 0.0, measured.score
    asked_for = plan.attainable < before - 1.0 or plan.method in BY_CHOICE
    better = draft.completes or _better(examination, measured)
    if after is None or not (asked_for or (after >= before - 1.0 and better)):
        output.unlink()
        return _with(
            base,
            error=f"The repair '{plan.method}' brought nothing: {before:.1f} before, {after or 0:.1f} after.",
        )
    return RepairOutcome(
        examination.path, RepairStatus.REPAIRED, str(output), adjusted(plan.method, rate) if rate else plan.method, donor.path if donor else None,
        examination.score, after, draft.steps, None, measured, draft.kept,
    )  # fmt: skip


def _made(
    apply: Repairer, path: str, donor: str | None, rate: float | None, into: Path, name: str
) -> tuple[Path, RepairDraft]:
    """The file that a repair writes, and what it says of it; nothing of what was read for it is held any longer."""
    subject = Subject(Source.open(path))
    lender = Subject(Source.open(donor)) if donor is not None else None
    draft = apply(subject, lender) if rate is None else apply(subject, lender, rate=rate)
    return _write(draft, subject, into, name), replace(draft, pieces=())


def _carried_on(
    outcome: RepairOutcome, into: Path, donors: Sequence[Examination], rounds: int, without: frozenset[str]
) -> RepairOutcome:
    """The outcome of repairing an output further, by no method twice; the same where that brings nothing."""
    measured, score = outcome.examined, outcome.score_after or 0.0
    if measured is None or not measured.worth_repairing or (measured.attainable or 0) < score + 1:
        return outcome

    def work(examined: Examination, place: Path, name: str) -> RepairOutcome:
        return repair_file(examined, place, donors, name=name, rounds=rounds, without=without)

    return _worked_on(outcome, into, work, score + 0.5)


def _put_in_front(outcome: RepairOutcome, into: Path) -> RepairOutcome:
    """The outcome with the index of its clip before the media data; the same where there is none to be moved."""
    if outcome.examined is None or all(p.method != _FRONT for p in outcome.examined.repairs):
        return outcome

    def work(examined: Examination, place: Path, name: str) -> RepairOutcome:
        return repair_file(examined, place, (), _FRONT, name, rounds=1)

    return _worked_on(outcome, into, work, (outcome.score_after or 0.0) - 0.5)


def _worked_on(
    outcome: RepairOutcome, into: Path, work: Callable[[Examination, Path, str], RepairOutcome], least: float
) -> RepairOutcome:
    """The outcome with its output worked on further, in a folder beside and by its name; the same where that brings less than
    ``least``."""
    measured, output = outcome.examined, outcome.output
    if measured is None or output is None:
        return outcome
    name = os.path.basename(output)
    try:
        with scratch_folder(into) as place:
            further = work(measured, place, name)
            if further.output is None or further.examined is None or os.path.basename(further.output) != name:
                return outcome
            # What the first repair could not keep, the second does not bring back.
            gained = round(min(further.score_after or 0.0, outcome.limit), 2)
            if gained < least:
                return outcome
            # The output is our own of a moment ago; whoever looks meanwhile sees the one or the other, whole.
            os.replace(further.output, output)
    except (OutputRefused, OSError) as error:
        log.warning("%s was not repaired further: %s", output, error)
        return outcome
    return _with(
        outcome,
        method=f"{outcome.method}, {further.method}",
        donor=outcome.donor or further.donor,
        score_after=gained,
        steps=(*outcome.steps, *further.steps),
        examined=replace(further.examined, path=output, score=gained),
        limit=min(outcome.limit, further.limit),
    )


def _better(before: Examination, after: Examination) -> bool:
    """A higher score, or the same with less that is wrong or to be cut off."""
    if (after.score or 0) > (before.score or 0) + 0.01:
        return True

    def weight(examination: Examination) -> tuple[int, int]:
        wrong = sum(f.severity is not Severity.NOTE for f in examination.findings)
        return wrong, len(examination.findings)

    return weight(after) < weight(before) or after.size < before.size


def _write(draft: RepairDraft, subject: Subject, into: Path, name: str) -> Path:
    if draft.suffix:
        name = f"{Path(name).stem}.{draft.suffix}"
    target = free_name(into, name)
    with exclusive_output(target) as stream:
        write_pieces(stream, draft.pieces, subject.source)
    return target


def _with(outcome: RepairOutcome, **changes: object) -> RepairOutcome:
    return replace(outcome, **changes)  # type: ignore[arg-type]
