"""What waits for the run: the files no worker has taken yet, and which of them shall come first."""

from __future__ import annotations

import os
import time
from collections.abc import Sequence

from PySide6.QtCore import (
    QAbstractListModel,
    QItemSelection,
    QItemSelectionModel,
    QModelIndex,
    QPersistentModelIndex,
    Qt,
)
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QLineEdit, QListView, QPushButton, QVBoxLayout, QWidget

from jugal.app.controllers.session import RunState, Session
from jugal.model.words import printable

_REST_S = 1.0
Index = QModelIndex | QPersistentModelIndex


class WaitingModel(QAbstractListModel):
    """Paths in the order in which they will be examined."""

    def __init__(self) -> None:
        super().__init__()
        self.paths: list[str] = []

    def set_paths(self, paths: list[str]) -> None:
        """Shows these; a run only ever takes some away, seldom changes their order."""
        self.beginResetModel()
        self.paths = paths
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self.paths)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if not index.isValid() or role not in (
            Qt.ItemDataRole.DisplayRole,
            Qt.ItemDataRole.ToolTipRole,
            Qt.ItemDataRole.AccessibleTextRole,
        ):
            return None
        path = printable(self.paths[index.row()])
        if role == Qt.ItemDataRole.ToolTipRole:
            return path
        folder, name = os.path.split(path)
        return f"{name}  in {os.path.basename(folder) or folder}"


class WaitingCard(QFrame):
    """The waiting files with a line to find some of them; what is chosen, or else all that is found, can go first."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._read_at = 0.0
        self.setProperty("role", "card")
        self.title = QLabel()
        self.title.setProperty("role", "heading")
        self.finder = QLineEdit()
        self.finder.setPlaceholderText("words of the name or folder")
        self.finder.setAccessibleName("Find waiting files by words")
        self.finder.textChanged.connect(self.refresh)
        self.model = WaitingModel()
        self.list = QListView()
        self.list.setModel(self.model)
        self.list.setUniformItemSizes(True)
        self.list.setSelectionMode(QListView.SelectionMode.ExtendedSelection)
        self.list.setAccessibleName("Files that wait for examination")
        self.list.activated.connect(self.examine_first)
        self.first = QPushButton()
        self.first.clicked.connect(self.examine_first)
        self.list.selectionModel().selectionChanged.connect(self._name)
        layout = QVBoxLayout(self)
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.title, 1)
        row.addWidget(self.finder, 1)
        layout.addWidget(line)
        layout.addWidget(self.list, 1)
        foot = QHBoxLayout()
        foot.addWidget(self.first)
        foot.addStretch(1)
        layout.addLayout(foot)
        session.run_told.connect(self._told)
        self._name()

    def _told(self, state: RunState) -> None:
        # Reading a hundred thousand names takes a while; results come in many times a second.
        if self.isVisible() and not state.progress.finished and time.monotonic() >= self._read_at + _REST_S:
            self.refresh()

    def chosen(self) -> list[str]:
        """The chosen files; with words typed and none chosen, all that are found."""
        rows = self.list.selectionModel().selectedRows()
        if rows:
            return [self.model.paths[index.row()] for index in rows]
        return list(self.model.paths) if self.finder.text().strip() else []

    def refresh(self) -> None:
        """Reads anew what waits; what is chosen stays chosen as far as it still waits."""
        self._read_at = time.monotonic()
        paths = self._session.waiting(self.finder.text())
        if paths != self.model.paths:
            chosen = {self.model.paths[i.row()] for i in self.list.selectionModel().selectedRows()}
            at = self.list.verticalScrollBar().value()
            self.model.set_paths(paths)
            self._choose([n for n, path in enumerate(paths) if path in chosen] if chosen else [])
            self.list.verticalScrollBar().setValue(at)
        self._name()

    def _choose(self, rows: Sequence[int]) -> None:
        selection = QItemSelection()
        for row in rows:
            selection.select(self.model.index(row), self.model.index(row))
        self.list.selectionModel().select(selection, QItemSelectionModel.SelectionFlag.ClearAndSelect)

    def _name(self) -> None:
        count, chosen = len(self.model.paths), len(self.chosen())
        self.title.setText(f"{count:,} {'file waits' if count == 1 else 'files wait'}")
        self.first.setEnabled(chosen > 0)
        self.first.setText(f"Examine these {chosen:,} first" if chosen > 1 else "Examine the chosen first")

    def examine_first(self) -> None:
        """Has what is chosen examined before all else that waits."""
        paths = self.chosen()
        if self._session.examine_first(paths):
            self.list.clearSelection()
            self.refresh()
            self.list.scrollToTop()
