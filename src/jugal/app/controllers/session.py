"""The open case and the work done on it: runs, repairs, deliveries. Knows no widget."""

from __future__ import annotations

import contextlib
import itertools
import json
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from jugal.app.bridge.jobs import Job
from jugal.app.bridge.smalls import draw_missing
from jugal.app.models.files import CHUNK, FilesModel
from jugal.binary.output import sweep_folder
from jugal.case.schema import CaseError
from jugal.case.store import Case, FileRow, KeptRepair
from jugal.engine.child import Child
from jugal.engine.copies import find_copies
from jugal.engine.delivery import Delivered, Item, Layout, Rule, deliver, only_new, plan_delivery
from jugal.engine.donors import fitting_donors, is_donor
from jugal.engine.listing import list_sources
from jugal.engine.naming import PatternError
from jugal.engine.rate import Rate
from jugal.engine.report.write import Reports, write_reports
from jugal.engine.run import CaseRun, Choice, Progress
from jugal.engine.walk import walk
from jugal.formats.registry import akin
from jugal.model.result import Examination, RepairOutcome, RepairStatus
from jugal.model.words import printable

_LENDERS = 400
#: Fewer where the window waits for them: reading each takes its time.
_LENDERS_SHOWN = 40


@dataclass(frozen=True, slots=True)
class RunState:
    """What the window says of a run."""

    progress: Progress
    rate: float
    seconds_left: float | None
    paused: bool


@dataclass(frozen=True, slots=True)
class Task:
    """One repair to do: of which file, by which method (the best without one), with which donor (the likeliest)."""

    file: int
    method: str | None = None
    donor: str | None = None


@dataclass(frozen=True, slots=True)
class RepairTold:
    """One repair of a batch is done."""

    file: int
    outcome: RepairOutcome
    done: int
    total: int


@dataclass(frozen=True, slots=True)
class Planned:
    """A delivery worked out: its items, how many are at the target already, and why it cannot be, where so."""

    items: tuple[Item, ...]
    there: int = 0
    problem: str = ""


class Session(QObject):
    """One case at a time. All signals arrive in the interface thread."""

    case_changed = Signal()
    sources_changed = Signal()
    listed = Signal(object)
    run_told = Signal(object)
    run_ended = Signal(str)
    repair_told = Signal(object)
    repair_ended = Signal(str)
    delivery_told = Signal(object)
    delivery_ended = Signal(str)
    planned = Signal(object)
    said = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.case: Case | None = None
        self.model = FilesModel()
        self.choice = Choice()
        self.reports: Reports | None = None
        self._run: CaseRun | None = None
        self._run_job: Job | None = None
        self._repair_job: Job | None = None
        self._delivery_job: Job | None = None
        self._plan_job: Job | None = None
        self._load_job: Job | None = None
        self._copies_job: Job | None = None
        self._list_job: Job | None = None
        self._donor_job: Job | None = None
        self.lenders: list[Examination] = []
        #: The index of repaired clips goes before their media data.
        self.in_front = False
        self._plan_number = 0
        self._rate = Rate()
        self._taken_out: list[str] = []

    # Case and sources

    def open_case(self, path: Path) -> bool:
        """Opens or starts the case at ``path``; says why not where it cannot."""
        if self.busy:
            self.said.emit("Another case can be opened when the run, repair or delivery has ended.")
            return False
        try:
            case = Case(path)
        except CaseError as error:
            self.said.emit(str(error))
            return False
        if self.case is not None:
            self.case.put("window", "closed")
            self.case.close()
        self.case = case
        self._taken_out.clear()
        after = self.model.set_case(case)
        if after:
            self._load_rest(path, after)
        self.case_changed.emit()
        self.sources_changed.emit()
        self.list_sources()
        self.examine_donors()
        if case.get("window") == "open":
            self.said.emit(
                "Jugal was not closed properly last time. The case is whole, nothing that was known is lost."
            )
        case.put("window", "open")
        if case.get("run") == "finished":
            self.look_over()
        if case.get("run") == "begun":
            self.said.emit("The last run was broken off. Examine goes on where it was.")
        return True

    def _load_rest(self, path: Path, after: int) -> None:
        """The rest of a large case comes in pieces, so that its first rows are there at once."""

        def work() -> Iterator[list[FileRow]]:
            case, last = Case(path), after
            try:
                while rows := case.some_files(last, CHUNK):
                    last = rows[-1].id
                    yield rows
                    # The window takes a piece in before the next is read: reading faster would only freeze it.
                    time.sleep(0.03)
            finally:
                case.close()

        model, mine = self.model, self.case
        self._load_job = Job(work, self)
        self._load_job.told.connect(lambda rows: model.take_rows(rows) if self.case is mine else None)
        self._load_job.start()

    def look_over(self) -> None:
        """Looks for copies among all that is known and draws the small pictures that are missing, in the background."""
        if self.case is None or (self._copies_job is not None and self._copies_job.running):
            return
        path, mine = self.case.path, self.case

        def work() -> Iterator[tuple[int, ...]]:
            case = Case(path)
            try:
                yield from find_copies(case)
                yield from draw_missing(case)
            finally:
                case.close()

        self._copies_job = Job(work, self)
        self._copies_job.told.connect(lambda numbers: self.model.take_in(numbers) if self.case is mine else None)
        self._copies_job.start()

    def remember(self, what: str, state: dict[str, object]) -> None:
        """Keeps the choices of a place with the case."""
        if self.case is not None:
            self.case.put(f"choices {what}", json.dumps(state))

    def recall(self, what: str) -> dict[str, Any]:
        """The choices of a place that were kept with the case, empty where there are none."""
        text = self.case.get(f"choices {what}") if self.case else ""
        return dict(json.loads(text)) if text else {}

    def saved_filters(self) -> dict[str, str]:
        """The case's own filters by name, in their stored form."""
        text = self.case.get("filters") if self.case else ""
        return dict(json.loads(text)) if text else {}

    def save_filter(self, name: str, text: str) -> None:
        """Keeps a filter with the case; an empty text forgets it."""
        if self.case is not None:
            filters = {k: v for k, v in self.saved_filters().items() if k != name}
            self.case.put("filters", json.dumps({**filters, name: text} if text else filters))

    @property
    def looking_over(self) -> bool:
        """Copies are looked for, or missing small pictures drawn."""
        return self._copies_job is not None and self._copies_job.running

    def add_sources(self, paths: list[str]) -> None:
        """Adds folders and files; nothing is written to them, ever."""
        if self.case is None:
            return
        for path in paths:
            self.case.add_source(str(Path(path).absolute()))
        self.sources_changed.emit()
        self.list_sources()

    def remove_source(self, path: str) -> None:
        """Takes a source out of the case; what is known of its files stays."""
        if self.case is not None:
            self.case.remove_source(path)
            self._taken_out.append(path)
            self.sources_changed.emit()
            self.list_sources()
            self.said.emit(f"{printable(path)} is taken out; Ctrl+Z puts it back.")

    def put_source_back(self) -> None:
        """Adds the source again that was taken out last."""
        if self._taken_out:
            path = self._taken_out.pop()
            self.add_sources([path])
            self.said.emit(f"{printable(path)} is a source again.")
        else:
            self.said.emit("No source was taken out.")

    def list_sources(self) -> None:
        """Lists what lies in the sources, in the background; ``listed`` carries the listing as it grows."""
        if self._list_job is not None:
            self._list_job.stop()
        paths = self.sources
        self._list_job = Job(lambda: list_sources(paths), self)
        job = self._list_job
        job.told.connect(lambda listing: self.listed.emit(listing) if self._list_job is job else None)
        job.start()

    # Donors named beforehand

    @property
    def donor_folders(self) -> list[str]:
        """Folders with healthy files that may lend to any damaged one."""
        return list(self.recall("donors").get("folders", []))

    def set_donor_folders(self, folders: Sequence[str]) -> None:
        """Names the donor folders anew and examines what lies there."""
        self.remember("donors", {"folders": list(dict.fromkeys(folders))})
        self.sources_changed.emit()
        self.examine_donors()

    def examine_donors(self) -> None:
        """Examines the files in the donor folders, in the background; the whole ones become lenders."""
        self.lenders = []
        if self._donor_job is not None:
            self._donor_job.stop()
        folders = self.donor_folders
        if not folders:
            return

        def work() -> Iterator[Examination]:
            with Child() as child:
                for entry in itertools.islice(walk(folders), _LENDERS):
                    if entry.skipped is None:
                        yield child.examine(entry.path)

        self._donor_job = job = Job(work, self)
        job.told.connect(lambda e: self.lenders.append(e) if is_donor(e) and self._donor_job is job else None)
        job.ended.connect(
            lambda _: (
                self.said.emit(f"{len(self.lenders):,} healthy files can lend to damaged ones.")
                if self._donor_job is job
                else None
            )
        )
        job.start()

    @property
    def sources(self) -> list[str]:
        return self.case.sources() if self.case else []

    @property
    def results_folder(self) -> Path:
        """Where repaired copies go: beside the case, never beside a source."""
        assert self.case is not None
        return self.case.path.parent / f"{self.case.path.stem} repaired"

    @property
    def busy(self) -> bool:
        return any(job is not None and job.running for job in (self._run_job, self._repair_job, self._delivery_job))

    @property
    def run_running(self) -> bool:
        return self._run_job is not None and self._run_job.running

    # The run

    def start_run(self) -> None:
        """Begins a run, or goes on with one that is paused."""
        if self.run_running:
            self.resume_run()
            return
        if self.case is None or not self.sources:
            self.said.emit("Add a folder or files first: drop them here or use Add a folder.")
            return
        self._begin_run([])

    def examine_to_the_bit(self, paths: Sequence[str]) -> int:
        """Examines these files once more, following every bit of their video; how many they are."""
        if self.case is None or not paths:
            return 0
        if self.run_running:
            self.said.emit("A run is going on; wait for its end or stop it first.")
            return 0
        self._begin_run(paths)
        return len(paths)

    def _begin_run(self, again: Sequence[str]) -> None:
        assert self.case is not None
        path, choice = self.case.path, self.choice

        def work() -> Iterator[Progress]:
            case = Case(path)
            try:
                self._run = CaseRun(case, choice, again=again)
                yield from self._run.run()
            finally:
                case.close()

        self._rate = Rate()
        self._run_job = Job(work, self)
        self._run_job.told.connect(self._on_progress)
        self._run_job.ended.connect(self._on_run_ended)
        self._run_job.start()

    def _on_progress(self, progress: Progress) -> None:
        self.model.take_in(progress.numbers)
        rate = self._rate.after(progress.bytes, time.monotonic(), self.paused)
        left = (progress.bytes_total - progress.bytes) / rate if rate > 0 else None
        self.run_told.emit(RunState(progress, rate, left, self.paused))

    def _on_run_ended(self, problem: str) -> None:
        self.run_ended.emit(problem)
        if problem:
            self.said.emit(f"The run ended early: {problem}")
        self.look_over()

    @property
    def paused(self) -> bool:
        return self._run is not None and self._run.batch.paused

    def pause_run(self) -> None:
        """Pauses a run, or goes on with it."""
        if self._run is not None and self.run_running:
            if self._run.batch.paused:
                self._run.batch.resume()
            else:
                self._run.batch.pause()

    def resume_run(self) -> None:
        if self._run is not None:
            self._run.batch.resume()

    def waiting(self, text: str) -> list[str]:
        """Paths of files that wait for the run and hold all words of ``text``, in the order they will be examined."""
        words = text.casefold().split()
        if self._run is None or not self.run_running:
            return []
        return [p for p in self._run.batch.waiting() if all(w in p.casefold() for w in words)]

    def examine_first(self, paths: Sequence[str]) -> int:
        """Brings waiting files forward; how many they are."""
        if not paths or self._run is None or not self.run_running:
            return 0
        self._run.batch.bring_forward(paths)
        self.said.emit(f"{len(paths):,} {'file comes' if len(paths) == 1 else 'files come'} next.")
        return len(paths)

    def stop_run(self) -> None:
        if self._run is not None:
            self._run.batch.cancel()

    # Repairs

    def examination(self, number: int) -> Examination | None:
        return self.case.examination(number) if self.case else None

    def donors(self, number: int) -> list[Examination]:
        """Healthy files of the case that may lend to this one, likeliest first."""
        examination = self.examination(number)
        if examination is None or self.case is None:
            return []
        return fitting_donors(examination, [*self.lenders, *self._lenders(self.case, examination, _LENDERS_SHOWN)])

    @staticmethod
    def _lenders(case: Case, examination: Examination, most: int) -> list[Examination]:
        """Whole files of the same format and those akin, of the same camera first; as many of each as are worth comparing."""
        camera = str(examination.media.get("camera", ""))
        numbers = (n for name in akin(examination.format) for n in case.whole_files(name, camera, most))
        found = (case.examination(n) for n in numbers)
        return [e for e in found if e is not None and is_donor(e)]

    def repair(self, tasks: Sequence[Task]) -> None:
        """Repairs files in the background, each into a new file; the best result of each is kept."""
        if self.case is None or (self._repair_job is not None and self._repair_job.running):
            self.said.emit("A repair is running. The next can begin when it has ended.")
            return
        path, into, named = self.case.path, self.results_folder, tuple(self.lenders)
        in_front = self.in_front

        def work() -> Iterator[RepairTold]:
            case = Case(path)
            sweep_folder(into)
            with contextlib.closing(case), Child() as child:
                for done, task in enumerate(tasks, 1):
                    examination = case.examination(task.file)
                    if examination is None:
                        continue
                    if task.donor is not None:
                        known = [e for e in named if e.path == task.donor]
                        lenders = known or [e for e in (case.examination_of(task.donor),) if e is not None]
                    else:
                        lenders = [*named, *self._lenders(case, examination, _LENDERS)]
                    outcome = child.repair(examination, into, lenders, task.method, in_front=in_front)
                    best = max((r.outcome.score_after or 0.0 for r in case.repairs(task.file) if r.kept), default=-1.0)
                    case.add_repair(
                        task.file,
                        outcome,
                        outcome.status is RepairStatus.REPAIRED and (outcome.score_after or 0.0) >= best,
                    )
                    yield RepairTold(task.file, outcome, done, len(tasks))

        self._repair_job = Job(work, self)
        self._repair_job.told.connect(self.repair_told)
        self._repair_job.ended.connect(self.repair_ended)
        self._repair_job.start()

    @property
    def repairing(self) -> bool:
        """Repairs are being done."""
        return self._repair_job is not None and self._repair_job.running

    def stop_repairs(self) -> None:
        """Ends a batch after the repair it is at; what is done stays."""
        if self._repair_job is not None:
            self._repair_job.stop()

    def repairs(self, number: int | None = None) -> list[KeptRepair]:
        """The repairs done to a file, or in the whole case."""
        return self.case.repairs(number) if self.case else []

    def small_picture(self, number: int) -> QImage | None:
        """A file's small picture, None where there is none."""
        jpeg = self.case.thumbnail(number) if self.case else None
        return QImage.fromData(jpeg) if jpeg else None

    def keep_repair(self, number: int, repair: int | None) -> None:
        """Keeps one result of a file, or none."""
        if self.case is not None:
            self.case.keep_repair(number, repair)

    # Delivery

    def plan(self, chosen: list[int] | None, rule: Rule, layout: Layout, new_for: Path | None = None) -> None:
        """Works out the delivery in the background; ``planned`` carries a Planned. A later request replaces it.

        ``chosen`` goes out instead of what the rule admits; with ``new_for`` only what that target does not have.
        """
        if self.case is None:
            return
        path, rows = self.case.path, tuple(self.model.all_rows())
        self._plan_number += 1
        number = self._plan_number

        def work() -> Iterator[tuple[int, Planned]]:
            case = Case(path)
            try:
                after = {r.file: r.outcome.score_after for r in case.repairs() if r.kept}
                if chosen is not None:
                    numbers = chosen
                else:
                    numbers = [r.id for r in rows if rule.admits(r, after.get(r.id) if layout.repaired else None)]
                items = plan_delivery(case, numbers, layout)
                there = len(items)
                if new_for is not None:
                    items = only_new(case, items, new_for)
                yield number, Planned(tuple(items), there - len(items))
            except PatternError as error:
                yield number, Planned((), 0, str(error))
            finally:
                case.close()

        job = Job(work, self)
        job.told.connect(self._on_planned)
        self._plan_job = job
        job.start()

    def _on_planned(self, result: tuple[int, Planned]) -> None:
        number, planned = result
        if number == self._plan_number:
            self.planned.emit(planned)

    def deliver(self, items: Sequence[Item], target: Path) -> None:
        """Copies and compares in the background, then writes the reports."""
        if self.case is None or (self._delivery_job is not None and self._delivery_job.running):
            return
        path = self.case.path

        def work() -> Iterator[Delivered]:
            case = Case(path)
            try:
                yield from deliver(case, items, target)
                self.reports = write_reports(case, target)
            finally:
                case.close()

        self._delivery_job = Job(work, self)
        self._delivery_job.told.connect(self.delivery_told)
        self._delivery_job.ended.connect(self.delivery_ended)
        self._delivery_job.start()

    def _jobs(self) -> tuple[Job | None, ...]:
        return (
            self._run_job, self._repair_job, self._delivery_job, self._plan_job, self._load_job, self._copies_job,
            self._list_job, self._donor_job,
        )  # fmt: skip

    def close(self) -> None:
        """Ends all work; what is known is in the case."""
        self.stop_run()
        for job in self._jobs():
            if job is not None:
                job.stop()
                job.wait(20)
        self.model.close()
        if self.case is not None:
            self.case.put("window", "closed")
            self.case.close()
            self.case = None
