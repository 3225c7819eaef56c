"""``python -m bench.truth``: harms healthy files in named ways and holds every verdict, place, score and repair against the truth."""

from __future__ import annotations

import argparse
import json
import sys
import tempfile
from collections import defaultdict
from dataclasses import dataclass, field
from pathlib import Path

from pebble import ProcessPool

from bench import record
from bench.healthy import HEALTHY
from bench.measure import in_step, share_of_files
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.model.finding import Severity
from jugal.model.result import Examination, RepairStatus, Verdict
from jugal.samples.harm import harm, harms_for

PLACE_WITHIN = 4096
#: Damages that take none of the content, only what leads to it.
COST_NOTHING = frozenset(
    {
        "no-huffman-tables", "no-header", "no-end-marker", "no-start-marker", "no-quantisation-table", "no-frame-header",
        "segment-length", "mdat-size", "mdat-size-zero", "no-file-type", "offsets-shifted", "no-index", "no-offsets",
        "no-sample-sizes", "no-sample-count", "index-size", "index-bit", "index-sector", "junk-between", "junk-before",
        "sizes-zero", "header-crc", "startxref-wrong", "no-directory",
    }
)  # fmt: skip
#: Percent of frames and sound, each the same and within 20 ms of its time beside the others, with which a clip plays in sync.
ALONE_RIGHT = 98.0


@dataclass
class Tally:
    """The counts of one format."""

    healthy: int = 0
    false_alarms: int = 0
    damaged: int = 0
    found: int = 0
    placeable: int = 0
    placed: int = 0
    errors: list[float] = field(default_factory=list)
    tried: int = 0
    opened: int = 0
    exact: int = 0
    #: Files without an index or header that were mended with no healthy file at hand, and those that came out right.
    alone: int = 0
    alone_right: int = 0
    #: Distances between the score measured after a repair and the share that the decoder shows then.
    after: list[float] = field(default_factory=list)
    #: Percent of the content that is shown rightly in the end, by the name of damages that cost none of it.
    back: dict[str, list[float]] = field(default_factory=lambda: defaultdict(list))

    def add(self, other: Tally) -> None:
        """Takes in the counts of another."""
        for name in (
            "healthy",
            "false_alarms",
            "damaged",
            "found",
            "placeable",
            "placed",
            "tried",
            "opened",
            "exact",
            "alone",
            "alone_right",
        ):
            setattr(self, name, getattr(self, name) + getattr(other, name))
        self.errors += other.errors
        self.after += other.after
        for name, shares in other.back.items():
            self.back[name] += shares


def _first_grave(examination: Examination) -> int | None:
    places = [f.span.start for f in examination.findings if f.span and f.severity in (Severity.MAJOR, Severity.FATAL)]
    return min(places, default=None)


def run(folder: Path, only: str | None, verbose: bool) -> dict[str, Tally]:
    """All variants, two at a time, each in a process of its own."""
    tallies: dict[str, Tally] = defaultdict(Tally)
    jobs = [
        (format_name, variant)
        for format_name, makers in HEALTHY.items()
        for variant in makers
        if not only or only in f"{format_name}/{variant}"
    ]
    with ProcessPool(max_workers=2) as pool:
        futures = [(job, pool.schedule(run_variant, args=(str(folder), *job, verbose))) for job in jobs]
        for (format_name, variant), future in futures:
            try:
                tally, lines = future.result()
            except Exception as error:
                print(f"{format_name}/{variant} could not be measured: {error}")
                continue
            tallies[format_name].add(tally)
            print("\n".join(lines), flush=True) if lines else None
    return tallies


def run_variant(place: str, format_name: str, variant: str, verbose: bool) -> tuple[Tally, list[str]]:
    """One healthy file, harmed in every way, its sibling lending where a repair borrows."""
    folder, tally, lines = Path(place), Tally(), []
    maker = HEALTHY[format_name][variant]
    data, sibling = maker(sum(map(ord, variant)) % 90 + 1), maker(sum(map(ord, variant)) % 90 + 101)
    original = folder / f"{format_name}-{variant}.{format_name}"
    original.write_bytes(data)
    lender = folder / f"{format_name}-{variant}-sibling.{format_name}"
    lender.write_bytes(sibling)
    before, donor = examine_file(original), examine_file(lender)
    for examined in (before, donor):
        tally.healthy += 1
        if examined.verdict is not Verdict.INTACT:
            tally.false_alarms += 1
            lines.append(f"FALSE ALARM {examined.path}: {examined.score} {[f.message for f in examined.findings]}")
    with ProcessPool(max_workers=1) as pool:

        def measure(name: str, original: Path, damaged: Path | str, loose: bool = False) -> float | None:
            work, start = (in_step, ()) if loose else (share_of_files, (name,))
            try:
                return pool.schedule(work, args=(*start, str(original), str(damaged)), timeout=120).result()
            except Exception:
                return None

        for seed, name in enumerate(harms_for(format_name), 100):
            harmed = harm(data, format_name, name, seed)
            if harmed.data == data:
                continue
            path = folder / f"{format_name}-{variant}-{name}.{format_name}"
            path.write_bytes(harmed.data)
            note = _one(tally, format_name, variant, original, path, harmed, donor, folder, measure, verbose)
            lines += [note] if note else []
            path.unlink()
    return tally, lines


def _one(tally, format_name, variant, original, path, harmed, donor, folder, measure, verbose) -> str | None:  # type: ignore[no-untyped-def]
    truth = measure(format_name, original, path)
    examined = examine_file(path)
    shown = 0.0 if truth is None else truth
    score = examined.score if examined.score is not None else 50.0
    # A damage that no decoder shows, and one that is declared harmless, may be called intact.
    counts = not harmed.harmless and shown < 99.9
    found = examined.verdict is not Verdict.INTACT
    notes = []
    if counts:
        tally.damaged += 1
        tally.found += found
        if not found:
            notes.append("MISSED")
        place = _first_grave(examined)
        if found:
            tally.placeable += 1
            good = place is not None and abs(place - min(harmed.start, len(harmed.data))) <= PLACE_WITHIN
            tally.placed += good
            if not good:
                notes.append(f"PLACE {place} for {harmed.start}")
    tally.errors.append(abs(score - shown))
    if abs(score - shown) > 8:
        notes.append("SCORE")
    last = shown
    if examined.worth_repairing:
        outcome = repair_file(examined, folder / "repaired", [donor])
        if outcome.status is RepairStatus.REPAIRED and outcome.output:
            after = measure(format_name, original, outcome.output)
            last = max(last, after or 0.0)
            tally.tried += 1
            tally.opened += after is not None
            tally.exact += after is not None and after >= 99.99
            tally.after.append(abs((after or 0.0) - (outcome.score_after or 0.0)))
            if after is None:
                notes.append(f"REPAIR {outcome.method} does not open (measured {outcome.score_after})")
            elif abs(after - (outcome.score_after or 0)) > 8:
                notes.append(f"REPAIR {outcome.method} measured {outcome.score_after}, truth {after:.1f}")
        else:
            notes.append(f"REPAIR failed: {outcome.error}")
    if harmed.name in COST_NOTHING:
        tally.back[harmed.name].append(last)
    if harmed.name == "no-index":
        outcome = repair_file(examined, folder / "repaired")
        after = measure(format_name, original, outcome.output, loose=True) if outcome.output else None
        tally.alone += 1
        tally.alone_right += (after or 0.0) >= ALONE_RIGHT
        if (after or 0.0) < ALONE_RIGHT:
            notes.append(
                f"ALONE {outcome.method} measured {outcome.score_after}, truth {after or 0.0:.1f} {outcome.error or ''}"
            )
    if not (verbose or notes):
        return None
    codes = [(f.code.value, f.span.start if f.span else None) for f in examined.findings][:3]
    return (
        f"{format_name}/{variant} {harmed.name}: {examined.verdict.value} {examined.score} truth {shown:.1f} "
        f"at {harmed.start} {codes} {'; '.join(notes)}"
    )


def table(tallies: dict[str, Tally]) -> str:
    lines = [
        "| format | healthy | false alarms | damaged | recall | placed | mean score error | repairs tried | opened | exact | score error after |",
        "|---|---|---|---|---|---|---|---|---|---|---|",
    ]

    def percent(part: int, whole: int) -> str:
        return f"{100 * part / whole:.1f} %" if whole else "–"

    whole = Tally()
    for tally in tallies.values():
        whole.add(tally)
    for name, t in [*sorted(tallies.items()), ("**all**", whole)]:
        error = sum(t.errors) / len(t.errors) if t.errors else 0.0
        lines.append(
            f"| {name} | {t.healthy} | {t.false_alarms} | {t.damaged} | {percent(t.found, t.damaged)} | {percent(t.placed, t.placeable)} "
            f"| {error:.1f} | {t.tried} | {percent(t.opened, t.tried)} | {percent(t.exact, t.tried)} "
            f"| {sum(t.after) / len(t.after) if t.after else 0.0:.1f} |"
        )
    lines += ["", *_back(tallies)]
    if whole.alone:
        lines += [
            "",
            f"Clips without an index and without a healthy file at hand: {whole.alone_right} of {whole.alone} play in sync again,",
            "98 % of frames and sound the same and within 20 ms of their time beside each other.",
        ]
    return "\n".join(lines)


def _back(tallies: dict[str, Tally]) -> list[str]:
    """What came back where no content was damaged, by format and damage."""
    lines = [
        "What came back of content that was all there, damage by damage:",
        "",
        "| format | damage | files | all of it | at least 98 % | mean |",
        "|---|---|---|---|---|---|",
    ]
    for name, tally in sorted(tallies.items()):
        for damage, shares in sorted(tally.back.items()):
            whole, nearly = (sum(s >= least for s in shares) for least in (99.99, 98.0))
            lines.append(
                f"| {name} | {damage} | {len(shares)} | {whole} | {nearly} | {sum(shares) / len(shares):.1f} % |"
            )
    return lines


_TITLE = "Files harmed in named ways"
_TEXT = """`python -m bench.truth`: healthy files by general encoders, harmed in the ways of `jugal.samples.harm` with fixed seeds, held
against Pillow, FFmpeg (PyAV), PDFium and zipfile. Recall counts damages that such a decoder shows (under 99.9 % of the content
right); a place counts when the first grave finding starts within 4,096 bytes of the first damaged byte; the score error is
the mean distance between the score and the share of the content that the decoder shows rightly. Repairs are counted when
one was offered and measured as better; *exact* means that all of the original's content came back, *score error after*
is the mean distance between the score measured on the repaired file and what the decoder shows of the original in it.
Headers and indexes are lent by a sibling: other content from the same encoder and settings.

"""


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", help="formats or variants whose name holds this")
    parser.add_argument("--verbose", action="store_true")
    arguments = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="jugal-truth-") as name:
        tallies = run(Path(name), arguments.only, arguments.verbose)
    text = table(tallies)
    print(text)
    if not arguments.only:
        record.put(_TITLE, _TEXT + text)
    sys.stdout.write(json.dumps({k: v.found for k, v in tallies.items()}) + "\n")


if __name__ == "__main__":
    main()
