"""Bench: one file. Its strip, structure and bytes, its picture with the damage on it, its repairs, before and after."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QTextCursor
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QDoubleSpinBox,
    QFrame,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QPlainTextEdit,
    QPushButton,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from jugal.app.bridge.previewer import Previewer
from jugal.app.controllers.session import RepairTold, Session, Task
from jugal.app.style import tokens
from jugal.app.style.tokens import Theme
from jugal.app.views.intake import label
from jugal.app.views.stage import Stage
from jugal.app.widgets.elided import ElidedLabel
from jugal.app.widgets.hexview import HexView
from jugal.app.widgets.strip import StripView
from jugal.case.store import KeptRepair
from jugal.engine.donors import why
from jugal.model.result import ADJUSTABLE, Anchor, Examination, Kind, RepairStatus, adjusted
from jugal.model.strip import Matter
from jugal.model.words import human_size, printable_name, shown_score

_MARK = {"note": "·", "minor": "–", "major": "▲", "fatal": "✕"}
_LOUD = (Matter.HOLE, Matter.FILLER, Matter.FOREIGN, Matter.DAMAGED, Matter.PAST_END, Matter.MISSING)


class BenchView(QWidget):
    """What is known of one file and what can be done for it. Strip, outline, bytes, findings and picture follow one
    another: what is pointed at in one is pointed at in all."""

    said = Signal(str)

    def __init__(self, session: Session, theme: Theme, previewer: Previewer) -> None:
        super().__init__()
        self._session = session
        self._number: int | None = None
        self._examination: Examination | None = None
        self._results: list[KeptRepair] = []
        self._donors: list[Examination] = []
        self._undo: list[tuple[int, int | None]] = []
        self._review: list[int] = []
        self._pointing = False
        layout = QVBoxLayout(self)
        layout.setContentsMargins(tokens.MARGIN, 8, tokens.MARGIN, 8)
        layout.addLayout(self._head())
        self.strip = StripView(theme)
        self.strip.picked.connect(lambda offset: self.point_at(offset, self.strip))
        layout.addWidget(self.strip)
        self.stage = Stage(theme, previewer)
        self.stage.said.connect(self.said)
        self.stage.before.picture.picked.connect(lambda x, y: self._share_picked(y))
        self.stage.timeline.sought.connect(self._seconds_picked)
        across = QSplitter(Qt.Orientation.Horizontal)
        across.addWidget(self.stage)
        across.addWidget(self._side())
        across.setStretchFactor(0, 3)
        across.setStretchFactor(1, 2)
        across.setChildrenCollapsible(False)
        across.setHandleWidth(tokens.MARGIN)
        down = QSplitter(Qt.Orientation.Vertical)
        down.addWidget(across)
        down.addWidget(self._inside(theme))
        down.setStretchFactor(0, 4)
        down.setStretchFactor(1, 1)
        down.setChildrenCollapsible(False)
        down.setHandleWidth(tokens.GAP)
        layout.addWidget(down, 1)
        session.repair_told.connect(self._repaired)
        session.repair_ended.connect(self._repair_ended)
        session.case_changed.connect(lambda: self.show_file(None))
        self.show_file(None)

    def _head(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.title = label("", "title")
        self.title.setWordWrap(False)
        self.review_words = label("", "heading")
        self.review_words.setWordWrap(False)
        self.facts = ElidedLabel()
        self.facts.setProperty("role", "soft")
        self.facts.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        row.addWidget(self.title)
        row.addSpacing(tokens.MARGIN)
        row.addWidget(self.review_words)
        row.addWidget(self.facts, 1)
        return row

    def _side(self) -> QWidget:
        side = QFrame()
        side.setProperty("role", "card")
        box = QVBoxLayout(side)
        box.setSpacing(4)
        box.addWidget(label("Findings", "heading"))
        self.findings = self._list("Findings")
        self.findings.currentRowChanged.connect(self._finding_chosen)
        box.addWidget(self.findings, 3)
        box.addWidget(label("Repairs and what to expect of them", "heading"))
        self.plans = self._list("Repairs")
        self.plans.currentRowChanged.connect(self._plan_chosen)
        box.addWidget(self.plans, 3)
        self.donor = QComboBox()
        self.donor.setAccessibleName("Donor")
        self.donor.currentIndexChanged.connect(self._donor_chosen)
        self.donor_words = label("", "soft")
        box.addWidget(self.donor)
        box.addWidget(self.donor_words)
        self.rate = QDoubleSpinBox()
        self.rate.setRange(0, 192_000)
        self.rate.setDecimals(3)
        self.rate.setSpecialValueText("Rate as the data tell it")
        self.rate.setSuffix(" a second")
        self.rate.setAccessibleName("Rate")
        self.rate.setToolTip("Frames a second, or values a second where there is sound alone. 0 leaves it to the data.")
        box.addWidget(self.rate)
        row = QHBoxLayout()
        self.repair = QPushButton("Repair on a copy")
        self.repair.setProperty("role", "main")
        self.repair.clicked.connect(self.do_repair)
        self.every = QPushButton("Try them all")
        self.every.clicked.connect(self.try_all)
        row.addWidget(self.repair, 2)
        row.addWidget(self.every, 1)
        box.addLayout(row)
        box.addWidget(label("Results", "heading"))
        self.results = self._list("Results of repairs")
        self.results.currentRowChanged.connect(self._result_chosen)
        box.addWidget(self.results, 2)
        self.outcome = QPlainTextEdit()
        self.outcome.setReadOnly(True)
        self.outcome.setTabChangesFocus(True)
        self.outcome.setAccessibleName("What the repair did")
        box.addWidget(self.outcome, 2)
        row = QHBoxLayout()
        self.keep = QPushButton("Keep")
        self.drop = QPushButton("Drop")
        for button, call in ((self.keep, self.keep_result), (self.drop, self.drop_result)):
            button.clicked.connect(call)
            row.addWidget(button)
        box.addLayout(row)
        return side

    def _inside(self, theme: Theme) -> QWidget:
        self.inside = QFrame()
        row = QHBoxLayout(self.inside)
        row.setContentsMargins(0, 0, 0, 0)
        self.outline = self._list("Structure of the file")
        self.outline.setWordWrap(False)
        self.outline.currentRowChanged.connect(self._outline_chosen)
        self.bytes = HexView(theme)
        self.bytes.moved.connect(lambda offset: self.point_at(offset, self.bytes))
        row.addWidget(self.outline, 2)
        row.addWidget(self.bytes, 3)
        self.inside.setMinimumHeight(tokens.scaled(70))
        return self.inside

    @staticmethod
    def _list(name: str) -> QListWidget:
        made = QListWidget()
        made.setAccessibleName(name)
        made.setWordWrap(True)
        made.setSpacing(1)
        made.setUniformItemSizes(False)
        made.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        made.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        made.setMinimumHeight(tokens.scaled(36))
        return made

    def set_theme(self, theme: Theme) -> None:
        self.strip.set_theme(theme)
        self.bytes.set_theme(theme)
        self.stage.set_theme(theme)

    # Showing

    def show_file(self, number: int | None) -> None:
        """Lays a file on the bench; with None the bench is empty."""
        self._number = number
        self._examination = e = self._session.examination(number) if number is not None else None
        self._pointing = True
        for shown in (self.findings, self.plans, self.outline):
            shown.clear()
        self.outcome.clear()
        self.rate.setValue(0)
        self._pointing = False
        self._show_review()
        if e is None:
            self.title.setText("The bench is empty")
            self.facts.setText("Choose a file in Triage and press Return.")
            self.strip.set_spans(())
            self.bytes.set_file(None)
            self.stage.show_file(None)
            self.results.clear()
            self._results = []
            self._plan_chosen(-1)
            self._enable()
            return
        self.title.setText(printable_name(e.path))
        self.facts.setText(self._facts(e))
        self.strip.set_spans(e.strip)
        self.bytes.set_file(e.path, e.strip)
        self._fill_outline(e)
        self.stage.show_file(e, self._session.small_picture(number) if number is not None else None)
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
            self._plan_chosen(-1)
        self._show_results()

    def _facts(self, e: Examination) -> str:
        words = [f"{e.verdict.value}, score {shown_score(e.score, 1)}" if e.score is not None else e.verdict.value]
        if e.attainable is not None and e.score is not None and e.attainable - e.score >= 2:
            words.append(f"{e.attainable:.0f} attainable")
        words += [e.format, human_size(e.size)]
        m = e.media
        if "width" in m:
            words.append(f"{m['width']} × {m['height']}")
        if "rotation" in m:
            words.append(f"turned {m['rotation']}°")
        if "duration" in m:
            words.append(f"{m['duration']} s")
        if "pages" in m:
            words.append(f"{m['pages']} pages")
        if "video_followed" in m:
            words.append(f"followed {m['video_followed']}")
        words += [str(m[k]) for k in ("camera", "date_taken") if k in m]
        if isinstance(exposure := m.get("exposure_s"), (int, float)) and exposure > 0:
            words.append(f"1/{1 / exposure:.0f} s" if exposure < 0.4 else f"{exposure:g} s")
        words += [
            f"{name}{m[k]:g}" for k, name in (("f_number", "f/"), ("iso", "ISO ")) if isinstance(m.get(k), (int, float))
        ]
        return " · ".join(words)

    def _fill_outline(self, e: Examination) -> None:
        for span in e.strip:
            name = span.label or span.matter.value
            kind = f"{span.matter.value}: " if span.label and span.matter in _LOUD else ""
            item = QListWidgetItem(f"{span.span.start:>12,}  {kind}{name}  ({span.span.length:,})")
            item.setData(Qt.ItemDataRole.UserRole, span.span.start)
            self.outline.addItem(item)

    def show_inside(self) -> None:
        """Shows or hides the structure and the bytes."""
        self.inside.setVisible(not self.inside.isVisible())

    # Results

    def _tell(self, text: str) -> None:
        self.outcome.setPlainText(text)
        self.outcome.moveCursor(QTextCursor.MoveOperation.Start)

    def _good(self) -> list[KeptRepair]:
        return [r for r in self._results if r.outcome.status is RepairStatus.REPAIRED and r.outcome.output]

    def _show_results(self) -> None:
        self._results = (
            self._session.case.repairs(self._number) if self._session.case and self._number is not None else []
        )
        good = self._good()
        self.results.blockSignals(True)
        self.results.clear()
        for result in good:
            o = result.outcome
            donor = f" with {o.donor.rsplit('/', 1)[-1]}" if o.donor else ""
            kept = "kept · " if result.kept else ""
            self.results.addItem(
                f"{kept}{o.method}{donor}: {shown_score(o.score_before, 1)} → {shown_score(o.score_after, 1)} measured"
            )
        if not good:
            self.results.addItem("No repair has been done yet.")
        self.results.blockSignals(False)
        at = next((i for i, r in enumerate(good) if r.kept), len(good) - 1)
        if good:
            self.results.setCurrentRow(at)
            self._result_chosen(at)
        else:
            failed = self._results[-1].outcome.error if self._results else ""
            self._tell(failed or "")
            self.stage.show_result(None, "Repaired", "No result yet." if failed else "No repair has been done yet.")
        self._enable()

    def _result_chosen(self, row: int) -> None:
        good = self._good()
        if not 0 <= row < len(good):
            return
        o = good[row].outcome
        state = "kept" if good[row].kept else "not kept"
        self.stage.show_result(o.output, f"Repaired by {o.method}, score {shown_score(o.score_after, 1)}, {state}")
        donor = f" Donor: {o.donor.rsplit('/', 1)[-1]}." if o.donor else ""
        measured = (
            f"Score {shown_score(o.score_before, 1)} before, {shown_score(o.score_after, 1)} measured after.{donor}"
        )
        self._tell("\n".join((measured, *o.steps)))
        self._enable()

    def _chosen_result(self) -> KeptRepair | None:
        good, row = self._good(), self.results.currentRow()
        return good[row] if 0 <= row < len(good) else None

    def _enable(self) -> None:
        e, chosen = self._examination, self._chosen_result() if self._examination else None
        self.repair.setEnabled(bool(e and e.repairs))
        self.every.setEnabled(bool(e and len(e.repairs) > 1))
        self.keep.setEnabled(chosen is not None and not chosen.kept)
        self.drop.setEnabled(any(r.kept for r in self._good()) if e else False)

    # Following one another

    def point_at(self, offset: int, source: QWidget | None = None) -> None:
        """Points at a byte everywhere but in ``source``, which points there already."""
        e = self._examination
        if e is None or self._pointing:
            return
        self._pointing = True
        if source is not self.strip:
            self.strip.point_at(offset)
        if source is not self.bytes:
            self.bytes.point_at(offset)
        if source is not self.outline:
            row = next((i for i, s in enumerate(e.strip) if s.span.start <= offset < s.span.end), -1)
            self.outline.setCurrentRow(row)
        if source is not self.findings:
            self.findings.setCurrentRow(self._finding_at(offset))
        share = share_of(e.anchors, offset)
        if share is not None and source is not self.stage:
            self.stage.point_at(share)
        self._pointing = False

    def _finding_at(self, offset: int) -> int:
        e = self._examination
        for row, finding in enumerate(e.findings if e else ()):
            span = finding.span
            if span is not None and span.start <= offset < max(span.end, span.start + 1):
                return row
        return -1

    def _finding_chosen(self, row: int) -> None:
        e = self._examination
        span = e.findings[row].span if e is not None and 0 <= row < len(e.findings) else None
        if span is not None:
            self.point_at(span.start, self.findings)

    def _outline_chosen(self, row: int) -> None:
        item = self.outline.item(row)
        if item is not None:
            self.point_at(item.data(Qt.ItemDataRole.UserRole), self.outline)

    def _share_picked(self, share: float) -> None:
        e = self._examination
        offset = offset_of(e.anchors, share) if e is not None and e.kind is Kind.PHOTO else None
        if offset is not None:
            self.point_at(offset, self.stage)

    def _seconds_picked(self, seconds: float) -> None:
        e = self._examination
        length = float(e.media.get("duration", 0) or 0) if e is not None else 0.0
        offset = offset_of(e.anchors, seconds / length) if e is not None and length else None
        if offset is not None:
            self.point_at(offset, self.stage)

    # Donors

    def _plan_chosen(self, row: int) -> None:
        e = self._examination
        plan = e.repairs[row] if e is not None and 0 <= row < len(e.repairs) else None
        self.rate.setVisible(plan is not None and plan.method in ADJUSTABLE)
        needed = plan is not None and plan.needs_donor and self._number is not None
        self.donor.setVisible(needed)
        self.donor_words.setVisible(needed)
        if not needed or self._number is None:
            self._donors = []
            return
        self._donors = self._session.donors(self._number)[:40]
        self.donor.blockSignals(True)
        self.donor.clear()
        self.donor.addItem("The best fitting donor, the next where it fails")
        self.donor.addItems([f"Donor: {d.path.rsplit('/', 1)[-1]}" for d in self._donors])
        self.donor.setEnabled(bool(self._donors))
        self.donor.blockSignals(False)
        self._donor_chosen(0)

    def _donor_chosen(self, row: int) -> None:
        e = self._examination
        if not self._donors or e is None:
            self.donor_words.setText("No healthy file of this format is in the case; add one as a source.")
            return
        donor = self._donors[max(0, row - 1)]
        begin = f"First {donor.path.rsplit('/', 1)[-1]}: " if row <= 0 else ""
        self.donor_words.setText(f"{begin}{why(e, donor)}")

    # Repair

    def do_repair(self) -> None:
        """Does the chosen repair on a copy, in the background."""
        e = self._examination
        if e is None or self._number is None or not e.repairs:
            return
        row = min(max(0, self.plans.currentRow()), len(e.repairs) - 1)
        donor = None
        if self.donor.isVisible() and self.donor.currentIndex() > 0:
            donor = self._donors[self.donor.currentIndex() - 1].path
        self.repair.setEnabled(False)
        self._tell("Repairing on a copy …")
        method = e.repairs[row].method
        if self.rate.isVisible() and self.rate.value() > 0:
            method = adjusted(method, self.rate.value())
        self._session.repair([Task(self._number, method, donor)])

    def try_all(self) -> None:
        """Does every repair that applies, each on a copy of its own; the best of them is kept."""
        e = self._examination
        if e is None or self._number is None or not e.repairs:
            return
        self._tell(f"Trying {len(e.repairs)} repairs on copies …")
        self._session.repair([Task(self._number, plan.method) for plan in e.repairs])

    def _repaired(self, told: RepairTold) -> None:
        if told.file == self._number:
            self._show_results()
            if told.outcome.error:
                self._tell(told.outcome.error)

    def _repair_ended(self, problem: str) -> None:
        if problem:
            self._tell(f"The repair ended early: {problem}")
        self._enable()

    def _set_kept(self, repair: int | None) -> None:
        if self._number is None:
            return
        before = next((r.id for r in self._results if r.kept), None)
        self._undo.append((self._number, before))
        self._session.keep_repair(self._number, repair)
        row = self.results.currentRow()
        self._show_results()
        self.results.setCurrentRow(row)

    def keep_result(self) -> None:
        """Keeps the chosen result; in a review the next file follows."""
        chosen = self._chosen_result()
        if chosen is None:
            return
        self._set_kept(chosen.id)
        self.said.emit("Kept. The repaired copy goes out in place of the original.")
        self._next_in_review()

    def drop_result(self) -> None:
        """Keeps no result; in a review the next file follows."""
        if self._number is None or not self._good():
            return
        self._set_kept(None)
        self.said.emit("Dropped. The original goes out; the copy stays where it is.")
        self._next_in_review()

    def undo(self) -> None:
        """Takes the last keeping or dropping back."""
        if not self._undo:
            self.said.emit("There is nothing to take back.")
            return
        number, repair = self._undo.pop()
        self._session.keep_repair(number, repair)
        if self._review and number in self._review and number != self._number:
            self.show_file(number)
        else:
            self._show_results()
        self.said.emit("Taken back.")

    # Review of a batch

    def review(self, numbers: list[int]) -> None:
        """Goes through the results of a batch, one file after the other; Keep and Drop lead on to the next."""
        self._review = list(numbers)
        if self._review:
            self.show_file(self._review[0])
        else:
            self.said.emit("No repair has been done in this case yet.")

    def end_review(self) -> None:
        self._review = []
        self._show_review()

    @property
    def reviewing(self) -> list[int]:
        """The files of the review that goes on, none where there is none."""
        return self._review

    def step_review(self, by: int) -> bool:
        """The next or previous file of the review; False at its end."""
        at = self._review.index(self._number) + by if self._number in self._review else 0
        if not 0 <= at < len(self._review):
            return False
        self.show_file(self._review[at])
        return True

    def _next_in_review(self) -> None:
        if self._number in self._review and not self.step_review(1):
            kept = sum(any(r.kept for r in self._session.repairs(n)) for n in self._review)
            self.said.emit(f"The review is through: of {len(self._review)} results {kept} are kept.")
            self.end_review()

    def _show_review(self) -> None:
        inside = self._number in self._review
        at = self._review.index(self._number) + 1 if inside and self._number is not None else 0
        self.review_words.setText(f"Review, {at} of {len(self._review)}: keep or drop" if inside else "")
        self.review_words.setVisible(inside)

    def toggle_damage(self) -> None:
        self.stage.toggle_damage()

    @property
    def number(self) -> int | None:
        return self._number


def share_of(anchors: Sequence[Anchor], offset: int) -> float | None:
    """Which part of the content a byte holds, by the anchors on either side; None outside them."""
    if len(anchors) < 2 or not anchors[0].offset <= offset <= anchors[-1].offset:
        return None
    return float(np.interp(offset, [a.offset for a in anchors], [a.share for a in anchors]))


def offset_of(anchors: Sequence[Anchor], share: float) -> int | None:
    """The byte that holds a part of the content; None where that is not known."""
    if len(anchors) < 2:
        return None
    by_share = sorted(anchors, key=lambda a: a.share)
    return int(np.interp(share, [a.share for a in by_share], [a.offset for a in by_share]))
