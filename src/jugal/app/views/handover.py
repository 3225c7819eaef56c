"""Handover: what goes out, where, laid out how, does it fit, proven how; the report."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QTimer, QUrl
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from jugal.app.controllers.session import Session
from jugal.app.style import tokens
from jugal.app.views.intake import label
from jugal.engine.delivery import Arrangement, Delivered, Fit, Item, check_fit
from jugal.model.result import Verdict
from jugal.model.words import human_size

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
        layout.addWidget(self._rule_card(), 2)
        layout.addWidget(self._list_card(), 3)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(200)
        self._later.timeout.connect(self.plan)
        session.delivery_told.connect(self._told)
        session.delivery_ended.connect(self._ended)
        session.planned.connect(self._planned)

    def _rule_card(self) -> QWidget:
        card = QFrame()
        card.setProperty("role", "card")
        box = QVBoxLayout(card)
        box.addWidget(label("What goes out?", "title"))
        self.checks: dict[Verdict, QCheckBox] = {}
        for verdict, words in _WORDS.items():
            check = QCheckBox(words)
            check.setChecked(verdict in (Verdict.INTACT, Verdict.REPAIRABLE, Verdict.DAMAGED))
            check.toggled.connect(self._later_plan)
            self.checks[verdict] = check
            box.addWidget(check)
        self.repaired = QCheckBox("Repaired copies in place of their originals")
        self.repaired.setChecked(True)
        self.repaired.toggled.connect(self._later_plan)
        box.addWidget(self.repaired)
        self.hand = label("", "soft")
        box.addWidget(self.hand)
        self.everything = QPushButton("Go by the rule again")
        self.everything.clicked.connect(lambda: self.choose(None))
        box.addWidget(self.everything)
        box.addSpacing(tokens.GAP)
        box.addWidget(label("How is it laid out?", "heading"))
        self.arrangement = QComboBox()
        self.arrangement.setAccessibleName("Arrangement of the delivery")
        for arrangement in Arrangement:
            self.arrangement.addItem(arrangement.value, arrangement)
        self.arrangement.currentIndexChanged.connect(self._later_plan)
        box.addWidget(self.arrangement)
        box.addSpacing(tokens.GAP)
        box.addWidget(label("Where to?", "heading"))
        row = QHBoxLayout()
        self.target = QLineEdit()
        self.target.setAccessibleName("Target folder")
        self.target.setPlaceholderText("a folder on another medium")
        self.target.textChanged.connect(self._later_plan)
        self.browse = QPushButton("Choose…")
        self.browse.clicked.connect(self.ask_target)
        row.addWidget(self.target, 1)
        row.addWidget(self.browse)
        box.addLayout(row)
        self.fit_label = label("", "soft")
        box.addWidget(self.fit_label)
        self.problem = label("", "warning")
        box.addWidget(self.problem)
        box.addStretch(1)
        return card

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
        self.table.setShowGrid(False)
        self.table.setTabKeyNavigation(False)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.table.setColumnWidth(2, 150)
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

    def plan(self) -> None:
        """Works out what goes out and whether it fits, anew."""
        rows = self._session.model.all_rows()
        wanted = {v for v, check in self.checks.items() if check.isChecked()}
        chosen = set(self._by_hand) if self._by_hand is not None else None
        numbers = [
            r.id for r in rows if not r.error and (r.id in chosen if chosen is not None else r.verdict in wanted)
        ]
        self.hand.setText(f"Chosen by hand in Triage: {len(numbers):,} files." if chosen is not None else "")
        self.everything.setVisible(chosen is not None)
        for check in self.checks.values():
            check.setEnabled(chosen is None)
        self.deliver_button.setEnabled(False)
        self._session.plan(numbers, self.arrangement.currentData(), self.repaired.isChecked())

    def _planned(self, items: list[Item]) -> None:
        self._items = items
        size = sum(i.size for i in self._items)
        repaired = sum(i.repaired for i in self._items)
        self.summary.setText(f"{len(self._items):,} files, {human_size(size)}; {repaired} of them repaired copies")
        self.table.setRowCount(min(_SHOWN, len(self._items)))
        for at, item in enumerate(self._items[:_SHOWN]):
            state = "repaired copy" if item.repaired else "as found"
            for column, text in enumerate(
                (item.place.encode("utf-8", "replace").decode(), human_size(item.size), state)
            ):
                self.table.setItem(at, column, QTableWidgetItem(text))
        self._check_fit()

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
            self.table.setItem(row, 2, QTableWidgetItem(told.error or "compared, equal"))

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
