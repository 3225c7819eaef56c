"""Bench: one file. Its strip, its picture with the damage on it, its findings, its repairs, before and after."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from jugal.app.bridge.decode import Preview
from jugal.app.bridge.previewer import Previewer
from jugal.app.controllers.session import RepairTold, Session
from jugal.app.style import tokens
from jugal.app.style.tokens import Theme
from jugal.app.views.intake import label
from jugal.app.widgets.picture import PictureView
from jugal.app.widgets.strip import StripView
from jugal.case.store import KeptRepair
from jugal.engine.donors import why
from jugal.model.result import Examination, Kind, RepairStatus
from jugal.model.words import human_size

_MARK = {"note": "·", "minor": "–", "major": "▲", "fatal": "✕"}


class BenchView(QWidget):
    """What is known of one file and what can be done for it."""

    said = Signal(str)

    def __init__(self, session: Session, theme: Theme, previewer: Previewer) -> None:
        super().__init__()
        self._session, self._previewer = session, previewer
        self._number: int | None = None
        self._examination: Examination | None = None
        self._results: list[KeptRepair] = []
        layout = QVBoxLayout(self)
        layout.setContentsMargins(tokens.MARGIN, 10, tokens.MARGIN, 10)
        layout.addLayout(self._head())
        self.strip = StripView(theme)
        self.strip.picked.connect(self._strip_picked)
        layout.addWidget(self.strip)
        split = QSplitter(Qt.Orientation.Horizontal)
        split.addWidget(self._pictures(theme))
        split.addWidget(self._side())
        split.setStretchFactor(0, 3)
        split.setStretchFactor(1, 2)
        split.setChildrenCollapsible(False)
        layout.addWidget(split, 1)
        previewer.ready.connect(self._previewed)
        session.repair_told.connect(self._repaired)
        session.repair_ended.connect(self._repair_ended)
        session.case_changed.connect(lambda: self.show_file(None))
        self.show_file(None)

    def _head(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.title = label("", "title")
        self.title.setWordWrap(False)
        self.facts = label("", "soft")
        self.facts.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        row.addWidget(self.title)
        row.addWidget(self.facts, 1)
        return row

    def _pictures(self, theme: Theme) -> QWidget:
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        self.before = PictureView(theme, "The file as it was found")
        self.after = PictureView(theme, "The repaired file")
        self.before.moved.connect(self.after.view)
        self.after.moved.connect(self.before.view)
        for view, words in ((self.before, "As found"), (self.after, "Repaired")):
            column = QVBoxLayout()
            caption = label(words, "soft")
            if view is self.after:
                self.after_caption = caption
            column.addWidget(caption)
            column.addWidget(view, 1)
            row.addLayout(column, 1)
        return holder

    def _side(self) -> QWidget:
        side = QFrame()
        side.setProperty("role", "card")
        box = QVBoxLayout(side)
        box.addWidget(label("Findings", "heading"))
        self.findings = self._list("Findings")
        self.findings.currentRowChanged.connect(self._finding_chosen)
        box.addWidget(self.findings, 3)
        box.addWidget(label("Repairs and what to expect of them", "heading"))
        self.plans = self._list("Repairs")
        self.plans.currentRowChanged.connect(self._plan_chosen)
        box.addWidget(self.plans, 2)
        self.donor = label("", "soft")
        box.addWidget(self.donor)
        self.outcome = label("", "soft")
        box.addWidget(self.outcome)
        buttons = QHBoxLayout()
        self.repair = QPushButton("Repair on a copy")
        self.repair.setProperty("role", "main")
        self.keep = QPushButton("Keep")
        self.drop = QPushButton("Drop")
        for button, call in (
            (self.repair, self.do_repair),
            (self.keep, self.keep_result),
            (self.drop, self.drop_result),
        ):
            button.clicked.connect(call)
            buttons.addWidget(button)
        box.addLayout(buttons)
        return side

    @staticmethod
    def _list(name: str) -> QListWidget:
        made = QListWidget()
        made.setAccessibleName(name)
        made.setWordWrap(True)
        made.setSpacing(1)
        made.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        made.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        return made

    def set_theme(self, theme: Theme) -> None:
        for view in (self.strip, self.before, self.after):
            view.set_theme(theme)

    # Showing

    def show_file(self, number: int | None) -> None:
        """Lays a file on the bench; with None the bench is empty."""
        self._number = number
        self._examination = e = self._session.examination(number) if number is not None else None
        self.findings.clear()
        self.plans.clear()
        self.outcome.clear()
        self.donor.clear()
        self.after.set_preview(None)
        if e is None:
            self.title.setText("The bench is empty")
            self.facts.setText("Choose a file in Triage and press Return.")
            self.strip.set_spans(())
            self.before.set_preview(None)
            self._enable()
            return
        self.title.setText(e.path.rsplit("/", 1)[-1].encode("utf-8", "replace").decode())
        self.facts.setText(self._facts(e))
        self.strip.set_spans(e.strip)
        along_time = e.kind in (Kind.VIDEO, Kind.AUDIO)
        picture_like = e.kind is Kind.PHOTO or along_time
        self.before.set_regions(e.regions if picture_like else (), along_time)
        self.before.set_preview(None, "The preview is being made …")
        self._previewer.ask(("before",), e.path, e.format, e.kind.value)
        for finding in e.findings:
            place = f"  (byte {finding.span.start:,})" if finding.span else ""
            item = QListWidgetItem(f"{_MARK[finding.severity.value]}  {finding.message}{place}")
            item.setToolTip(f"{finding.severity.value}: {finding.code.meaning}")
            self.findings.addItem(item)
        if not e.findings:
            self.findings.addItem("Nothing wrong was found.")
        for plan in e.repairs:
            donor = ", needs a donor" if plan.needs_donor else ""
            self.plans.addItem(
                QListWidgetItem(f"{plan.method}: about {plan.attainable:.0f} expected{donor}\n{plan.summary}")
            )
        if e.repairs:
            self.plans.setCurrentRow(0)
        else:
            self.plans.addItem("No repair is known for this file.")
        self._show_results()

    def _facts(self, e: Examination) -> str:
        words = [f"{e.verdict.value}, score {e.score:.1f}" if e.score is not None else e.verdict.value]
        if e.attainable is not None and e.score is not None and e.attainable - e.score >= 2:
            words.append(f"{e.attainable:.0f} attainable")
        words += [e.format, human_size(e.size)]
        m = e.media
        if "width" in m:
            words.append(f"{m['width']} × {m['height']}")
        if "duration" in m:
            words.append(f"{m['duration']} s")
        if "pages" in m:
            words.append(f"{m['pages']} pages")
        words += [str(m[k]) for k in ("camera", "date_taken") if k in m]
        return " · ".join(words)

    def _show_results(self) -> None:
        self._results = (
            self._session.case.repairs(self._number) if self._session.case and self._number is not None else []
        )
        good = [r for r in self._results if r.outcome.status is RepairStatus.REPAIRED]
        kept = next((r for r in self._results if r.kept), good[-1] if good else None)
        if kept is not None and kept.outcome.output is not None:
            o = kept.outcome
            state = "kept" if kept.kept else "not kept"
            self.after_caption.setText(f"Repaired by {o.method}, score {o.score_after:.1f}, {state}")
            self.after.set_preview(None, "The preview is being made …")
            kind = self._examination.kind.value if self._examination else "photo"
            self._previewer.ask(
                ("after",), kept.outcome.output, self._examination.format if self._examination else "", kind
            )
            donor = f" Donor: {o.donor.rsplit('/', 1)[-1]}." if o.donor else ""
            self.outcome.setText(
                f"Score {o.score_before:.1f} before, {o.score_after:.1f} measured after.{donor} {' '.join(o.steps[:3])}"
            )
        elif self._results:
            self.after_caption.setText("Repaired")
            self.outcome.setText(self._results[-1].outcome.error or "")
            self.after.set_preview(None, "No result yet.")
        else:
            self.after_caption.setText("Repaired")
            self.after.set_preview(None, "No repair has been done yet.")
        self._enable()

    def _enable(self) -> None:
        e = self._examination
        good = [r for r in self._results if r.outcome.status is RepairStatus.REPAIRED] if e else []
        self.repair.setEnabled(bool(e and e.repairs))
        self.keep.setEnabled(any(not r.kept for r in good))
        self.drop.setEnabled(any(r.kept for r in good))

    def _previewed(self, key: object, preview: object) -> None:
        view = self.before if key == ("before",) else self.after if key == ("after",) else None
        if view is not None and isinstance(preview, Preview):
            view.set_preview(preview)

    # Following one another

    def _finding_chosen(self, row: int) -> None:
        e = self._examination
        span = e.findings[row].span if e is not None and 0 <= row < len(e.findings) else None
        if span is not None:
            self.strip.point_at(span.start)

    def _strip_picked(self, offset: int) -> None:
        e = self._examination
        if e is None:
            return
        for row, finding in enumerate(e.findings):
            if finding.span is not None and finding.span.start <= offset < max(
                finding.span.end, finding.span.start + 1
            ):
                self.findings.setCurrentRow(row)
                return

    def _plan_chosen(self, row: int) -> None:
        e = self._examination
        if e is None or not 0 <= row < len(e.repairs) or self._number is None:
            return
        if not e.repairs[row].needs_donor:
            self.donor.setText("")
            return
        donors = self._session.donors(self._number)
        if donors:
            self.donor.setText(f"Proposed donor: {donors[0].path.rsplit('/', 1)[-1]}. {why(e, donors[0])}")
        else:
            self.donor.setText("No healthy file of this format is in the case; add one as a source.")

    # Repair

    def do_repair(self) -> None:
        """Does the chosen repair on a copy, in the background."""
        e = self._examination
        if e is None or self._number is None or not e.repairs:
            return
        row = max(0, self.plans.currentRow())
        self.repair.setEnabled(False)
        self.outcome.setText("Repairing on a copy …")
        self._session.repair([self._number], e.repairs[min(row, len(e.repairs) - 1)].method)

    def _repaired(self, told: RepairTold) -> None:
        if told.file == self._number:
            self._show_results()
            if told.outcome.error:
                self.outcome.setText(told.outcome.error)

    def _repair_ended(self, problem: str) -> None:
        if problem:
            self.outcome.setText(f"The repair ended early: {problem}")
        self._enable()

    def keep_result(self) -> None:
        good = [r for r in self._results if r.outcome.status is RepairStatus.REPAIRED]
        if good and self._number is not None:
            self._session.keep_repair(self._number, good[-1].id)
            self._show_results()
            self.said.emit("Kept. The repaired copy goes out in place of the original.")

    def drop_result(self) -> None:
        if self._number is not None:
            self._session.keep_repair(self._number, None)
            self._show_results()
            self.said.emit("Dropped. The original goes out; the copy stays where it is.")

    def toggle_damage(self) -> None:
        self.before.toggle_damage()

    def reset_view(self) -> None:
        self.before.view(1.0, QPointF(0.5, 0.5))

    @property
    def number(self) -> int | None:
        return self._number
