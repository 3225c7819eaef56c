"""A line of text that gives way: where there is no room it ends in an ellipsis, and the whole shows as a tip."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QLabel, QSizePolicy


class ElidedLabel(QLabel):
    """A label of one line that never widens what it stands in."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    def setText(self, text: str) -> None:
        super().setText(text)
        self.setToolTip(text if self.fontMetrics().horizontalAdvance(text) > self.contentsRect().width() else "")

    def minimumSizeHint(self) -> QSize:
        return QSize(0, super().minimumSizeHint().height())

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        room = self.contentsRect()
        words = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, room.width())
        painter.drawText(room, self.alignment(), words)
        painter.end()
