"""The open case and the work done on it: runs, repairs, deliveries. Knows no widget."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from jugal.app.bridge.jobs import Job
from jugal.app.models.files import FilesModel
from jugal.case.schema import CaseError
from jugal.case.store import Case
from jugal.engine.delivery import Arrangement, Delivered, Item, deliver, plan_delivery
from jugal.engine.donors import fitting_donors, is_donor
from jugal.engine.repair import repair_file
from jugal.engine.report.write import Reports, write_reports
from jugal.engine.run import CaseRun, Choice, Progress
from jugal.model.result import Examination, RepairOutcome, RepairStatus


@dataclass(frozen=True, slots=True)
class RunState:
    """What the window says of a run."""

    progress: Progress
    rate: float
    seconds_left: float | None
    paused: bool


@dataclass(frozen=True, slots=True)
class RepairTold:
    """One repair of a batch is done."""

    file: int
    outcome: RepairOutcome
    done: int
    total: int


class Session(QObject):
    """One case at a time. All signals arrive in the interface thread."""

    case_changed = Signal()
    sources_changed = Signal()
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
        self._plan_number = 0
        self._begun = (0.0, 0)

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
            self.case.close()
        self.case = case
        self.model.set_case(case)
        self.case_changed.emit()
        self.sources_changed.emit()
        if case.get("run") == "begun":
            self.said.emit("The last run was broken off. Examine goes on where it was.")
        return True

    def add_sources(self, paths: list[str]) -> None:
        """Adds folders and files; nothing is written to them, ever."""
        if self.case is None:
            return
        for path in paths:
            self.case.add_source(str(Path(path).absolute()))
        self.sources_changed.emit()

    def remove_source(self, path: str) -> None:
        if self.case is not None:
            self.case.remove_source(path)
            self.sources_changed.emit()

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
        path, choice = self.case.path, self.choice

        def work() -> Iterator[Progress]:
            case = Case(path)
            try:
                self._run = CaseRun(case, choice)
                yield from self._run.run()
            finally:
                case.close()

        self._begun = (time.monotonic(), -1)
        self._run_job = Job(work, self)
        self._run_job.told.connect(self._on_progress)
        self._run_job.ended.connect(self._on_run_ended)
        self._run_job.start()

    def _on_progress(self, progress: Progress) -> None:
        started, first = self._begun
        if first < 0:
            self._begun = (time.monotonic(), progress.bytes)
            started, first = self._begun
        self.model.take_in(progress.numbers)
        elapsed = time.monotonic() - started
        rate = (progress.bytes - first) / elapsed if elapsed > 0.5 else 0.0
        left = (progress.bytes_total - progress.bytes) / rate if rate > 0 else None
        self.run_told.emit(RunState(progress, rate, left, self.paused))

    def _on_run_ended(self, problem: str) -> None:
        self.run_ended.emit(problem)
        if problem:
            self.said.emit(f"The run ended early: {problem}")

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
        rows = [r for r in self.model.all_rows() if r.format == examination.format and r.verdict.value == "intact"]
        return fitting_donors(
            examination,
            [e for r in rows[:400] if (e := self.case.examination(r.id)) is not None and is_donor(e)],
        )

    def repair(self, numbers: list[int], method: str | None = None) -> None:
        """Repairs files in the background, each into a new file; the best result of each is kept."""
        if self.case is None or (self._repair_job is not None and self._repair_job.running):
            self.said.emit("A repair is running. The next can begin when it has ended.")
            return
        path, into = self.case.path, self.results_folder

        def work() -> Iterator[RepairTold]:
            case = Case(path)
            try:
                donors = [
                    e for row in case.files() if row.verdict.value == "intact" and (e := case.examination(row.id))
                ]
                for done, number in enumerate(numbers, 1):
                    examination = case.examination(number)
                    if examination is None:
                        continue
                    outcome = repair_file(examination, into, donors, method)
                    case.add_repair(number, outcome, outcome.status is RepairStatus.REPAIRED)
                    yield RepairTold(number, outcome, done, len(numbers))
            finally:
                case.close()

        self._repair_job = Job(work, self)
        self._repair_job.told.connect(self.repair_told)
        self._repair_job.ended.connect(self.repair_ended)
        self._repair_job.start()

    def keep_repair(self, number: int, repair: int | None) -> None:
        """Keeps one result of a file, or none."""
        if self.case is not None:
            self.case.keep_repair(number, repair)

    # Delivery

    def plan(self, numbers: list[int], arrangement: Arrangement, repaired: bool) -> None:
        """Works out the delivery in the background; ``planned`` carries its items. A later request replaces it."""
        if self.case is None:
            return
        path = self.case.path
        self._plan_number += 1
        number = self._plan_number

        def work() -> Iterator[tuple[int, list[Item]]]:
            case = Case(path)
            try:
                yield number, plan_delivery(case, numbers, arrangement, repaired)
            finally:
                case.close()

        job = Job(work, self)
        job.told.connect(self._on_planned)
        self._plan_job = job
        job.start()

    def _on_planned(self, result: tuple[int, list[Item]]) -> None:
        number, items = result
        if number == self._plan_number:
            self.planned.emit(items)

    def deliver(self, items: list[Item], target: Path) -> None:
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

    def close(self) -> None:
        """Ends all work; what is known is in the case."""
        self.stop_run()
        for job in (self._run_job, self._repair_job, self._delivery_job, self._plan_job):
            if job is not None:
                job.stop()
                job.wait(20)
        if self.case is not None:
            self.case.close()
            self.case = None
