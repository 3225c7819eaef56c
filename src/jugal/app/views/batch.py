"""Many repairs at once: planned as a list with forecasts, done in the background, then gone through one by one."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QProgressBar,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
)

from jugal.app.controllers.session import RepairTold, Session, Task
from jugal.app.style import tokens
from jugal.app.views.intake import label
from jugal.model.result import BY_CHOICE, RepairStatus
from jugal.model.words import printable_name, shown_score

_MOST_SHOWN = 5000
FILE, METHOD, NOW, EXPECTED, DONOR, RESULT = range(6)
_HEADS = ("File", "Method", "Now", "Expected", "Donor", "Result")


class BatchBand(QFrame):
    """A band in Triage. Ticked rows are repaired; ``review`` carries the files that have a result to look at."""

    review = Signal(list)
    said = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setProperty("role", "card")
        self._session = session
        self._rows: dict[int, int] = {}
        self._done: list[int] = []
        self._mine = False
        box = QVBoxLayout(self)
        head = QHBoxLayout()
        self.title = label("", "heading")
        self.start = QPushButton("Repair these on copies")
        self.start.setProperty("role", "main")
        self.start.clicked.connect(self.begin)
        self.stop = QPushButton("Stop")
        self.stop.clicked.connect(session.stop_repairs)
        self.look = QPushButton("Go through the results")
        self.look.clicked.connect(lambda: self.review.emit(list(self._done)))
        self.shut = QPushButton("Close the plan")
        self.shut.clicked.connect(self.hide)
        head.addWidget(self.title, 1)
        for button in (self.start, self.stop, self.look, self.shut):
            head.addWidget(button)
        box.addLayout(head)
        self.table = QTableWidget(0, len(_HEADS))
        self.table.setAccessibleName("Planned repairs")
        self.table.setHorizontalHeaderLabels(_HEADS)
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        self.table.setTabKeyNavigation(False)
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        header = self.table.horizontalHeader()
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        for column, width in ((METHOD, 170), (NOW, 60), (EXPECTED, 80), (DONOR, 90)):
            self.table.setColumnWidth(column, tokens.scaled(width))
        header.setSectionResizeMode(FILE, QHeaderView.ResizeMode.Stretch)
        header.setSectionResizeMode(RESULT, QHeaderView.ResizeMode.Stretch)
        self.table.itemChanged.connect(self._count)
        box.addWidget(self.table, 1)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setAccessibleName("Progress of the repairs")
        box.addWidget(self.progress)
        self.setMinimumHeight(tokens.scaled(230))
        session.repair_told.connect(self._told)
        session.repair_ended.connect(self._ended)
        session.case_changed.connect(self.hide)
        self.hide()

    def plan(self, numbers: list[int]) -> int:
        """Lists the files for which a repair is worth doing, the largest gain first; returns how many they are."""
        found = []
        for number in numbers:
            e = self._session.examination(number)
            if e is None or not e.worth_repairing:
                continue
            best = max(
                (p for p in e.repairs if p.method not in BY_CHOICE), key=lambda p: (p.attainable, not p.needs_donor)
            )
            found.append((best.attainable - (e.score or 0.0), number, e, best))
        found.sort(key=lambda row: -row[0])
        self._rows, self._done, self._mine = {}, [], False
        self.table.blockSignals(True)
        self.table.setRowCount(len(found[:_MOST_SHOWN]))
        for row, (_, number, e, best) in enumerate(found[:_MOST_SHOWN]):
            self._rows[number] = row
            name = printable_name(e.path)
            words = (
                name,
                best.method,
                shown_score(e.score or 0.0),
                f"{best.attainable:.0f}",
                "needed" if best.needs_donor else "",
                "",
            )
            for column, text in enumerate(words):
                item = QTableWidgetItem(text)
                if column == FILE:
                    item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                    item.setCheckState(Qt.CheckState.Checked)
                    item.setData(Qt.ItemDataRole.UserRole, number)
                    item.setToolTip(e.path)
                if column == METHOD:
                    item.setToolTip(best.summary)
                self.table.setItem(row, column, item)
        self.table.blockSignals(False)
        self.progress.setRange(0, max(1, len(found)))
        self.progress.setValue(0)
        self.setVisible(bool(found))
        self._count()
        if found:
            self.table.setCurrentCell(0, FILE)
            self.table.setFocus()
        return len(found)

    def chosen(self) -> list[int]:
        """The ticked files, in the order of the plan."""
        items = [self.table.item(row, FILE) for row in range(self.table.rowCount())]
        return [i.data(Qt.ItemDataRole.UserRole) for i in items if i and i.checkState() is Qt.CheckState.Checked]

    def _count(self) -> None:
        chosen, running = len(self.chosen()), self._session.repairing and self._mine
        if self._done:
            self.title.setText(f"{len(self._done)} repaired so far" if running else f"{len(self._done)} repaired")
        else:
            self.title.setText(f"{chosen} of {self.table.rowCount()} repairs planned; the forecasts are no promises")
        self.start.setEnabled(bool(chosen) and not self._session.repairing)
        self.stop.setVisible(running)
        self.start.setVisible(not running and not self._done)
        self.look.setVisible(bool(self._done))

    def begin(self) -> None:
        """Repairs what is ticked, in the background."""
        numbers = self.chosen()
        if not numbers or self._session.repairing:
            return
        self._mine = True
        self.progress.setRange(0, len(numbers))
        self._session.repair([Task(n) for n in numbers])
        self._count()

    def _told(self, told: RepairTold) -> None:
        row = self._rows.get(told.file)
        if row is None or not self._mine:
            return
        o = told.outcome
        if o.status is RepairStatus.REPAIRED:
            words = f"{shown_score(o.score_after)} measured, by {o.method}"
            self._done.append(told.file)
        else:
            words = o.error or "unchanged"
        item = QTableWidgetItem(words)
        item.setToolTip(words)
        self.table.blockSignals(True)
        self.table.setItem(row, RESULT, item)
        self.table.blockSignals(False)
        self.progress.setValue(told.done)
        self._count()

    def _ended(self, problem: str) -> None:
        if self._mine and self.isVisible():
            self._count()
            if self._done:
                self.look.setFocus()
                self.said.emit(
                    f"{len(self._done)} files are repaired on copies. Go through the results to keep or drop them."
                )
