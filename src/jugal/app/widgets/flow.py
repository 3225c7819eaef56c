"""A layout that sets its items one after the other and goes on in a new line where there is no more room."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem, QWidget


class FlowLayout(QLayout):
    """Items keep their own size and stand centred in their line."""

    def __init__(self, parent: QWidget | None = None, spacing: int = 4) -> None:
        super().__init__(parent)
        self._items: list[QLayoutItem] = []
        self.setSpacing(spacing)
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def insert(self, at: int, widget: QWidget) -> None:
        """Puts a widget before the one that is at ``at``."""
        self.addWidget(widget)
        self._items.insert(at, self._items.pop())
        self.invalidate()

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:  # type: ignore[override]
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:  # type: ignore[override]
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        return self._arrange(QRect(0, 0, width, 0), False)

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        size = QSize(0, 0)
        for item in self._items:
            size = size.expandedTo(item.minimumSize())
        return size

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._arrange(rect, True)

    def _arrange(self, rect: QRect, really: bool) -> int:
        """The height that the items take in ``rect``; with ``really`` they are put there."""
        line: list[QLayoutItem] = []
        top, used = rect.top(), 0
        for item in [*self._items, None]:
            size = item.sizeHint() if item is not None and not item.isEmpty() else QSize(0, 0)
            full = item is None or (line and used + size.width() > rect.width())
            if full and line:
                height = max(i.sizeHint().height() for i in line)
                x = rect.left()
                for placed in line:
                    hint = placed.sizeHint()
                    if really:
                        placed.setGeometry(QRect(QPoint(x, top + (height - hint.height()) // 2), hint))
                    x += hint.width() + self.spacing()
                top += height + self.spacing()
                line, used = [], 0
            if item is not None and not item.isEmpty():
                line.append(item)
                used += size.width() + self.spacing()
        return max(0, top - self.spacing() - rect.top())
