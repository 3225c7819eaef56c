"""Handover: what goes out, where, laid out how, does it fit, proven how; the report."""

from __future__ import annotations

import os
from pathlib import Path

from PySide6.QtCore import Qt, QTimer, QUrl
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QMenu,
    QProgressBar,
    QPushButton,
    QScrollArea,
    QSpinBox,
    QTableWidget,
    QTableWidgetItem,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from jugal.app.controllers.session import Planned, Session
from jugal.app.style import tokens
from jugal.app.views.intake import label
from jugal.app.widgets.flow import FlowLayout
from jugal.engine.delivery import Arrangement, Delivered, Fit, Item, Layout, Rule, check_fit
from jugal.engine.naming import AS_FOUND, FIELDS
from jugal.model.result import Verdict
from jugal.model.words import human_size, printable

_SHOWN = 400
_WORDS = {
    Verdict.INTACT: "Intact files", Verdict.REPAIRABLE: "Repairable files", Verdict.DAMAGED: "Damaged files",
    Verdict.UNRECOVERABLE: "Unrecoverable files", Verdict.UNRECOGNISED: "Files that could not be judged",
}  # fmt: skip


class HandoverView(QWidget):
    """The rule for what goes out, the target, and the delivery itself."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._by_hand: list[int] | None = None
        self._items: list[Item] = []
        self._fit: Fit | None = None
        self._failed = 0
        layout = QHBoxLayout(self)
        layout.setContentsMargins(tokens.MARGIN, tokens.MARGIN, tokens.MARGIN, tokens.MARGIN)
        layout.setSpacing(tokens.MARGIN)
        layout.addWidget(self._rule_card(), 5)
        layout.addWidget(self._list_card(), 6)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(200)
        self._later.timeout.connect(self.plan)
        session.delivery_told.connect(self._told)
        session.delivery_ended.connect(self._ended)
        session.planned.connect(self._planned)
        session.case_changed.connect(self._recall)

    def _rule_card(self) -> QWidget:
        card = QFrame()
        card.setProperty("role", "card")
        outer = QVBoxLayout(card)
        outer.setContentsMargins(0, 0, 0, 0)
        inner = QWidget()
        box = QVBoxLayout(inner)
        box.addWidget(label("What goes out?", "title"))
        self.hand = label("", "soft")
        box.addWidget(self.hand)
        self.everything = QPushButton("Go by the rule again")
        self.everything.clicked.connect(lambda: self.choose(None))
        box.addWidget(self.everything)
        ticks = FlowLayout(spacing=10)
        self.checks: dict[Verdict, QCheckBox] = {}
        for verdict, words in _WORDS.items():
            check = QCheckBox(words)
            check.setChecked(verdict in Rule().verdicts)
            check.toggled.connect(self._later_plan)
            self.checks[verdict] = check
            ticks.addWidget(check)
        box.addLayout(ticks)
        self.least = QSpinBox()
        self.least.setRange(0, 100)
        self.least.setAccessibleName("Lowest score that goes out")
        self.least.valueChanged.connect(self._later_plan)
        box.addLayout(self._line("From a score of", self.least))
        self.best = QCheckBox("Of copies only the best one")
        self.repaired = QCheckBox("Repaired copies instead of originals")
        self.repaired.setChecked(True)
        for check in (self.best, self.repaired):
            check.toggled.connect(self._later_plan)
            box.addWidget(check)
        box.addSpacing(tokens.GAP)
        box.addWidget(label("How is it laid out?", "heading"))
        self.arrangement = QComboBox()
        self.arrangement.setAccessibleName("Arrangement of the delivery")
        for arrangement in Arrangement:
            self.arrangement.addItem(arrangement.value, arrangement)
        self.arrangement.currentIndexChanged.connect(self._later_plan)
        self.most = QSpinBox()
        self.most.setRange(0, 100_000)
        self.most.setSpecialValueText("any number of")
        self.most.setAccessibleName("Most files in a folder")
        self.most.valueChanged.connect(self._later_plan)
        box.addLayout(self._line("Folders", self.arrangement, "with", self.most, "files each"))
        self.pattern = QLineEdit(AS_FOUND)
        self.pattern.setAccessibleName("Pattern of the names")
        self.pattern.setToolTip("\n".join(f"{{{field}}}: {words}" for field, words in FIELDS.items()))
        self.pattern.textChanged.connect(self._later_plan)
        self.fields = QToolButton()
        self.fields.setText("Fields")
        self.fields.setAccessibleName("Fields for the names")
        self.fields.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.fields)
        for field, words in FIELDS.items():
            menu.addAction(f"{{{field}}}  {words}").triggered.connect(
                lambda _=False, field=field: self.pattern.insert(f"{{{field}}}")
            )
        self.fields.setMenu(menu)
        box.addLayout(self._stretched(self.pattern, QLabel("Names"), self.pattern, self.fields))
        self.example = label("", "soft")
        box.addWidget(self.example)
        box.addSpacing(tokens.GAP)
        box.addWidget(label("Where to?", "heading"))
        self.target = QLineEdit()
        self.target.setAccessibleName("Target folder")
        self.target.setPlaceholderText("a folder on another medium")
        self.target.textChanged.connect(self._later_plan)
        self.browse = QPushButton("Choose…")
        self.browse.clicked.connect(self.ask_target)
        box.addLayout(self._stretched(self.target, self.target, self.browse))
        self.new_only = QCheckBox("Only what is not there yet")
        self.new_only.toggled.connect(self._later_plan)
        box.addWidget(self.new_only)
        self.fit_label = label("", "soft")
        box.addWidget(self.fit_label)
        self.problem = label("", "warning")
        box.addWidget(self.problem)
        box.addStretch(1)
        area = QScrollArea()
        area.setWidget(inner)
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        outer.addWidget(area)
        return card

    @staticmethod
    def _line(*parts: str | QWidget) -> FlowLayout:
        """Words and controls that read as one line, as two where there is no room."""
        row = FlowLayout(spacing=6)
        for part in parts:
            row.addWidget(QLabel(part) if isinstance(part, str) else part)
        return row

    @staticmethod
    def _stretched(long: QWidget, *parts: QWidget) -> QHBoxLayout:
        """Controls in a line, of which ``long`` takes what room there is."""
        row = QHBoxLayout()
        for part in parts:
            row.addWidget(part, 1 if part is long else 0)
        return row

    def _list_card(self) -> QWidget:
        card = QFrame()
        card.setProperty("role", "card")
        box = QVBoxLayout(card)
        self.summary = label("", "heading")
        box.addWidget(self.summary)
        self.table = QTableWidget(0, 3)
        self.table.setAccessibleName("Files of the delivery")
        self.table.setHorizontalHeaderLabels(["Place in the delivery", "Size", "State"])
        self.table.verticalHeader().hide()
        self.table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.table.setShowGrid(False)
        self.table.setTabKeyNavigation(False)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        stretch, fitted = QHeaderView.ResizeMode.Stretch, QHeaderView.ResizeMode.ResizeToContents
        for column, mode in enumerate((stretch, fitted, stretch)):
            self.table.horizontalHeader().setSectionResizeMode(column, mode)
        self.table.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        box.addWidget(self.table, 1)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setVisible(False)
        box.addWidget(self.progress)
        self.result = label(
            "Every copy is read back and compared by SHA-256. A report for the client and one for the file are written beside it.",
            "soft",
        )
        box.addWidget(self.result)
        row = QHBoxLayout()
        self.open_folder = QPushButton("Open the folder")
        self.open_folder.clicked.connect(self.show_folder)
        self.open_folder.setEnabled(False)
        self.deliver_button = QPushButton("Deliver")
        self.deliver_button.setProperty("role", "main")
        self.deliver_button.setMinimumHeight(36)
        self.deliver_button.clicked.connect(self.deliver)
        row.addWidget(self.open_folder)
        row.addStretch(1)
        row.addWidget(self.deliver_button)
        box.addLayout(row)
        return card

    def _later_plan(self) -> None:
        self._later.start()

    def choose(self, numbers: list[int] | None) -> None:
        """Hands over these files only; with None the rule decides again."""
        self._by_hand = numbers
        self.plan()

    def ask_target(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Choose the folder for the delivery")
        if folder:
            self.target.setText(folder)

    def rule(self) -> Rule:
        """What the controls say goes out."""
        return Rule(
            frozenset(v for v, check in self.checks.items() if check.isChecked()),
            float(self.least.value()),
            self.best.isChecked(),
        )

    def layout_wanted(self) -> Layout:
        """How the controls say it is laid out."""
        return Layout(self.arrangement.currentData(), self.pattern.text(), self.most.value(), self.repaired.isChecked())

    def plan(self) -> None:
        """Works out what goes out and whether it fits, anew."""
        self.hand.setText(f"Chosen by hand in Triage: {len(self._by_hand):,} files." if self._by_hand else "")
        for widget in (self.hand, self.everything):
            widget.setVisible(self._by_hand is not None)
        for control in (*self.checks.values(), self.least, self.best):
            control.setEnabled(self._by_hand is None)
        self.deliver_button.setEnabled(False)
        text = self.target.text().strip()
        new_for = Path(text) if text and self.new_only.isChecked() else None
        self._session.plan(self._by_hand, self.rule(), self.layout_wanted(), new_for)
        self._session.remember("handover", self._state())

    def _state(self) -> dict[str, object]:
        """The choices as they are kept with the case."""
        return {
            "verdicts": [v.value for v, check in self.checks.items() if check.isChecked()], "least": self.least.value(),
            "best": self.best.isChecked(), "repaired": self.repaired.isChecked(), "arrangement": self.arrangement.currentText(),
            "most": self.most.value(), "pattern": self.pattern.text(), "target": self.target.text(), "new_only": self.new_only.isChecked(),
        }  # fmt: skip

    def _recall(self) -> None:
        """Sets the choices that were kept with the case."""
        state = self._session.recall("handover")
        if not state:
            return
        for verdict, check in self.checks.items():
            check.setChecked(verdict.value in state["verdicts"])
        self.least.setValue(state["least"])
        self.most.setValue(state["most"])
        self.best.setChecked(state["best"])
        self.repaired.setChecked(state["repaired"])
        self.new_only.setChecked(state["new_only"])
        self.arrangement.setCurrentText(state["arrangement"])
        self.pattern.setText(state["pattern"])
        self.target.setText(state["target"])

    def _planned(self, planned: Planned) -> None:
        self._items = list(planned.items)
        size = sum(i.size for i in self._items)
        repaired = sum(i.repaired for i in self._items)
        there = f"; {planned.there:,} are there already" if planned.there else ""
        self.summary.setText(
            f"{len(self._items):,} files, {human_size(size)}; {repaired} of them repaired copies{there}"
        )
        first = next((i for i in self._items), None)
        names = f"For instance {os.path.basename(first.place)}" if first else "No file goes out by this rule."
        self.example.setText(planned.problem or names)
        self.table.setRowCount(min(_SHOWN, len(self._items)))
        for at, item in enumerate(self._items[:_SHOWN]):
            state = "repaired copy" if item.repaired else "as found"
            state = f"{state}, {item.note}" if item.note else state
            for column, text in enumerate((printable(item.place), human_size(item.size), state)):
                self._put(at, column, text)
        self._check_fit()

    def _put(self, row: int, column: int, text: str) -> None:
        item = QTableWidgetItem(text)
        item.setToolTip(text)
        self.table.setItem(row, column, item)

    def _check_fit(self) -> None:
        text = self.target.text().strip()
        self._fit = check_fit(self._items, Path(text), self._session.sources) if text else None
        if self._fit is None:
            self.fit_label.setText("Choose a folder for the delivery.")
            self.problem.setText("")
        else:
            self.fit_label.setText(f"{human_size(self._fit.needed)} needed, {human_size(self._fit.free)} free.")
            self.problem.setText(self._fit.problem or self._fit.warning or "")
        self.problem.setVisible(bool(self.problem.text()))
        self.deliver_button.setEnabled(bool(self._items) and self._fit is not None and self._fit.problem is None)

    def deliver(self) -> None:
        """Begins the delivery in the background."""
        if not self.deliver_button.isEnabled():
            return
        self._failed = 0
        self.deliver_button.setEnabled(False)
        self.progress.setVisible(True)
        self.progress.setRange(0, len(self._items))
        self.result.setText("Copying and comparing …")
        self._session.deliver(self._items, Path(self.target.text().strip()))

    def _told(self, told: Delivered) -> None:
        self.progress.setValue(told.files_done)
        row = told.files_done - 1
        if told.error:
            self._failed += 1
        if row < self.table.rowCount():
            self._put(row, 2, told.error or "compared, equal")

    def _ended(self, problem: str) -> None:
        self.progress.setVisible(False)
        self.open_folder.setEnabled(True)
        if problem:
            self.result.setText(
                f"The delivery ended early: {problem} What was copied is sound; Deliver goes on with the rest."
            )
        elif self._failed:
            self.result.setText(
                f"{self._failed} files could not be delivered; the list says why. The reports are in the folder."
            )
        else:
            reports = self._session.reports
            names = f" {reports.html.name} and {reports.pdf.name} lie beside them." if reports else ""
            self.result.setText(f"All {len(self._items):,} files were copied, read back and found equal.{names}")
        self._check_fit()

    def show_folder(self) -> None:
        if self.target.text().strip():
            QDesktopServices.openUrl(QUrl.fromLocalFile(self.target.text().strip()))
