"""Intake: what to examine, what is protected, where results go."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QStorageInfo, Qt
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from jugal.app.controllers.session import Session
from jugal.app.style import tokens
from jugal.engine.run import Choice
from jugal.model.result import Kind
from jugal.model.words import human_size

_KIND_WORDS = {
    Kind.PHOTO: "Photos", Kind.VIDEO: "Clips", Kind.AUDIO: "Sound", Kind.DOCUMENT: "Documents", Kind.ARCHIVE: "Archives",
}  # fmt: skip


def label(text: str, role: str = "") -> QLabel:
    """A label with a role that the style knows."""
    made = QLabel(text)
    if role:
        made.setProperty("role", role)
    made.setWordWrap(True)
    return made


class IntakeView(QWidget):
    """Sources by dialog or by drop, what to take in, and the place of the results."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.setAcceptDrops(True)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(tokens.MARGIN, tokens.MARGIN, tokens.MARGIN, tokens.MARGIN)
        layout.setSpacing(tokens.MARGIN)
        layout.addWidget(self._sources_card(), 3)
        layout.addWidget(self._choice_card(), 2)
        session.sources_changed.connect(self._show_sources)
        session.case_changed.connect(self._show_sources)

    def _sources_card(self) -> QWidget:
        card = QFrame()
        card.setProperty("role", "card")
        box = QVBoxLayout(card)
        box.addWidget(label("What shall be examined?", "title"))
        box.addWidget(
            label(
                "Drop folders or files anywhere on this page. They are opened for reading only; nothing is ever written there.",
                "soft",
            )
        )
        self.list = QListWidget()
        self.list.setAccessibleName("Sources")
        self.list.setSelectionMode(QListWidget.SelectionMode.SingleSelection)
        box.addWidget(self.list, 1)
        self.empty = label("No source yet. Add the folder with the recovered files, then examine.", "soft")
        box.addWidget(self.empty)
        buttons = QHBoxLayout()
        self.add_folder = QPushButton("Add a folder…")
        self.add_files = QPushButton("Add files…")
        self.remove = QPushButton("Take out")
        for button in (self.add_folder, self.add_files, self.remove):
            buttons.addWidget(button)
        buttons.addStretch(1)
        box.addLayout(buttons)
        self.add_folder.clicked.connect(self.ask_folder)
        self.add_files.clicked.connect(self.ask_files)
        self.remove.clicked.connect(self.remove_current)
        return card

    def _choice_card(self) -> QWidget:
        side = QWidget()
        outer = QVBoxLayout(side)
        outer.setContentsMargins(0, 0, 0, 0)
        card = QFrame()
        card.setProperty("role", "card")
        box = QVBoxLayout(card)
        box.addWidget(label("Which files matter?", "heading"))
        box.addWidget(
            label(
                "With no kind ticked, everything is examined. Files whose names tell no kind are always taken in.",
                "soft",
            )
        )
        grid = QGridLayout()
        self.kinds: dict[Kind, QCheckBox] = {}
        for at, (kind, words) in enumerate(_KIND_WORDS.items()):
            check = QCheckBox(words)
            check.toggled.connect(self._choose)
            self.kinds[kind] = check
            grid.addWidget(check, at // 2, at % 2)
        self.hidden = QCheckBox("Hidden files")
        self.hidden.setChecked(True)
        self.vacant = QCheckBox("Empty files")
        self.vacant.setChecked(True)
        grid.addWidget(self.hidden, 3, 0)
        grid.addWidget(self.vacant, 3, 1)
        box.addLayout(grid)
        least = QHBoxLayout()
        least.addWidget(label("Smallest size in KB"))
        self.smallest = QSpinBox()
        self.smallest.setRange(0, 1_000_000)
        self.smallest.setAccessibleName("Smallest size in KB")
        least.addWidget(self.smallest)
        least.addStretch(1)
        box.addLayout(least)
        for check in (self.hidden, self.vacant):
            check.toggled.connect(self._choose)
        self.smallest.valueChanged.connect(self._choose)
        outer.addWidget(card)
        place = QFrame()
        place.setProperty("role", "card")
        box = QVBoxLayout(place)
        box.addWidget(label("Where results go", "heading"))
        self.case_label = label("", "soft")
        self.case_label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        box.addWidget(self.case_label)
        self.medium = label("", "warning")
        box.addWidget(self.medium)
        outer.addWidget(place)
        outer.addStretch(1)
        self.start = QPushButton("Examine")
        self.start.setProperty("role", "main")
        self.start.setMinimumHeight(40)
        self.start.clicked.connect(self._session.start_run)
        outer.addWidget(self.start)
        return side

    def _choose(self) -> None:
        self._session.choice = Choice(
            frozenset(k for k, box in self.kinds.items() if box.isChecked()),
            self.hidden.isChecked(),
            self.vacant.isChecked(),
            self.smallest.value() * 1024,
        )

    def _show_sources(self) -> None:
        self.list.clear()
        sources = self._session.sources
        for path in sources:
            storage = QStorageInfo(path)
            where = (
                f"{storage.rootPath()} on {bytes(storage.device().data()).decode('utf-8', 'replace') or 'unknown'}"
                if storage.isValid()
                else "not reachable now"
            )
            shown = path.encode("utf-8", "replace").decode()
            item = QListWidgetItem(f"{shown}\nread only · {where}")
            item.setData(Qt.ItemDataRole.UserRole, path)
            self.list.addItem(item)
        if sources and self.list.currentRow() < 0:
            self.list.setCurrentRow(0)
        self.empty.setVisible(not sources)
        self.remove.setEnabled(bool(sources))
        self.start.setEnabled(bool(sources))
        case = self._session.case
        if case is not None:
            free = QStorageInfo(str(case.path.parent)).bytesAvailable()
            self.case_label.setText(
                f"Case: {case.path}\nRepaired copies: {self._session.results_folder}\n{human_size(free)} free there."
            )
            device = QStorageInfo(str(case.path.parent)).rootPath()
            same = [s for s in sources if QStorageInfo(s).rootPath() == device]
            self.medium.setText(
                "The case lies on the same medium as a source. Keep it elsewhere if data was lost on that medium."
                if same
                else ""
            )
            self.medium.setVisible(bool(same))

    def ask_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Add a folder to examine")
        if folder:
            self._session.add_sources([folder])

    def ask_files(self) -> None:
        files, _ = QFileDialog.getOpenFileNames(self, "Add files to examine")
        if files:
            self._session.add_sources(files)

    def remove_current(self) -> None:
        item = self.list.currentItem()
        if item is not None:
            self._session.remove_source(item.data(Qt.ItemDataRole.UserRole))

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [
            url.toLocalFile()
            for url in event.mimeData().urls()
            if url.isLocalFile() and Path(url.toLocalFile()).exists()
        ]
        if paths:
            self._session.add_sources(paths)
            event.acceptProposedAction()
