"""All actions by name: a line to type into, and under it what fits."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QAction, QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QHeaderView,
    QLineEdit,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from jugal.app.style import tokens


def fits(typed: str, text: str) -> bool:
    """Whether each typed word begins a word of the text, in any order."""
    words = text.casefold().replace("…", "").split()
    return all(any(word.startswith(part) for word in words) for part in typed.casefold().split())


class Palette(QFrame):
    """Opens over the window; Return does what is chosen, Escape shuts it."""

    def __init__(self, window: QWidget) -> None:
        super().__init__(window)
        self.setProperty("role", "palette")
        self.setAccessibleName("Actions by name")
        self._actions: list[tuple[QAction, str]] = []
        self._before: QWidget | None = None
        self._window = window
        box = QVBoxLayout(self)
        box.setContentsMargins(tokens.GAP, tokens.GAP, tokens.GAP, tokens.GAP)
        self.line = QLineEdit()
        self.line.setPlaceholderText("What shall be done?")
        self.line.setAccessibleName("Part of an action's name")
        self.line.textChanged.connect(self._show)
        self.line.installEventFilter(self)
        self.list = QTableWidget(0, 3)
        self.list.setAccessibleName("Actions")
        self.list.horizontalHeader().hide()
        self.list.verticalHeader().hide()
        self.list.setShowGrid(False)
        self.list.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.list.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.list.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.list.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.cellClicked.connect(lambda *_: self._do())
        box.addWidget(self.line)
        box.addWidget(self.list)
        self.hide()

    def open(self, actions: Iterable[tuple[QAction, str]], before: QWidget | None) -> None:
        """Shows these actions with the place that each belongs to; ``before`` gets the keyboard back afterwards."""
        self._actions, self._before = list(actions), before
        parent = self._window
        width = min(parent.width() - 40, tokens.scaled(560))
        self.setGeometry(
            (parent.width() - width) // 2, tokens.scaled(60), width, min(parent.height() - 120, tokens.scaled(420))
        )
        self.line.clear()
        self._show("")
        self.show()
        self.raise_()
        self.line.setFocus()

    def _show(self, typed: str) -> None:
        self.list.setRowCount(0)
        for action, place in self._actions:
            keys = action.shortcut().toString(QKeySequence.SequenceFormat.NativeText)
            text = action.text().rstrip("…")
            if action.isEnabled() and fits(typed, f"{text} {place}"):
                row = self.list.rowCount()
                self.list.insertRow(row)
                for column, words in enumerate((text, place, keys)):
                    item = QTableWidgetItem(words)
                    item.setData(Qt.ItemDataRole.UserRole, action)
                    self.list.setItem(row, column, item)
        self.list.selectRow(0)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            key, row = event.key(), self.list.currentRow()
            if key in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                step = 1 if key == Qt.Key.Key_Down else -1
                self.list.selectRow(min(max(0, row + step), self.list.rowCount() - 1))
                return True
            if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._do()
                return True
            if key == Qt.Key.Key_Escape:
                self._shut()
                return True
        if event.type() == QEvent.Type.FocusOut and self.isVisible():
            self.hide()
        return super().eventFilter(watched, event)

    def _shut(self) -> None:
        self.hide()
        if self._before is not None:
            self._before.setFocus()

    def _do(self) -> None:
        item = self.list.item(self.list.currentRow(), 0)
        action = item.data(Qt.ItemDataRole.UserRole) if item is not None else None
        self._shut()
        if action is not None:
            action.trigger()
