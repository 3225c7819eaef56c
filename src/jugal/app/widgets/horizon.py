"""The case's horizon: how many files (or bytes) stand at which score, read and brushed like a level gauge."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from jugal.app.style.tokens import Theme
from jugal.model.result import Verdict

BINS = 51
_PATTERN = {
    Verdict.INTACT: Qt.BrushStyle.NoBrush,
    Verdict.REPAIRABLE: Qt.BrushStyle.HorPattern,
    Verdict.DAMAGED: Qt.BrushStyle.BDiagPattern,
    Verdict.UNRECOVERABLE: Qt.BrushStyle.DiagCrossPattern,
}


class Horizon(QWidget):
    """Bars over the score from 0 to 100; dragging or Shift with the arrow keys chooses a range."""

    brushed = Signal(float, float)

    def __init__(self, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme = theme
        self._counts: dict[Verdict, NDArray[np.float64]] = {}
        self._low, self._high = 0.0, 100.0
        self._anchor: float | None = None
        self._unit = "files"
        self.setFixedHeight(76 + self.fontMetrics().height())
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("How many files stand at which score")

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.update()

    def set_unit(self, unit: str) -> None:
        """What the bars count, in words: files or bytes."""
        self._unit = unit
        self.setAccessibleName(f"How many {unit} stand at which score")

    def set_counts(self, counts: dict[Verdict, NDArray[np.float64]]) -> None:
        """Per verdict the weight in each of 51 classes of two points."""
        self._counts = counts
        total = sum(float(c.sum()) for c in counts.values())
        self.setAccessibleDescription(
            f"{total:,.0f} scored; {', '.join(f'{v.value} {float(c.sum()):,.0f}' for v, c in counts.items())}"
        )
        self.update()

    def range(self) -> tuple[float, float]:
        return self._low, self._high

    def set_range(self, low: float, high: float) -> None:
        """Chooses scores ``low`` to ``high`` and says so."""
        self._low, self._high = max(0.0, min(low, high)), min(100.0, max(low, high))
        self.update()
        self.brushed.emit(self._low, self._high)

    def _plot(self) -> QRectF:
        return QRectF(40, 8, max(10, self.width() - 68), self.height() - 14 - self.fontMetrics().height())

    def _score_at(self, x: float) -> float:
        plot = self._plot()
        return max(0.0, min(100.0, (x - plot.left()) / plot.width() * 100))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        theme, plot = self._theme, self._plot()
        painter.fillRect(self.rect(), QColor(theme.surface))
        stacked = np.zeros(BINS)
        for counts in self._counts.values():
            stacked = stacked + counts
        # A root scale keeps the few damaged files visible beside thousands of whole ones.
        peak = float(np.sqrt(stacked.max())) if stacked.size and stacked.max() > 0 else 1.0
        width = plot.width() / BINS
        for i in range(BINS):
            if stacked[i] <= 0:
                continue
            height = float(np.sqrt(stacked[i])) / peak * plot.height()
            bottom = plot.bottom()
            for verdict, counts in self._counts.items():
                part = height * float(counts[i]) / float(stacked[i])
                if part <= 0:
                    continue
                bar = QRectF(plot.left() + i * width + 1, bottom - part, max(1.5, width - 2), part)
                painter.fillRect(bar, QColor(theme.verdict[verdict]))
                pattern = _PATTERN.get(verdict, Qt.BrushStyle.NoBrush)
                if pattern is not Qt.BrushStyle.NoBrush:
                    painter.fillRect(bar, QBrush(QColor(theme.surface), pattern))
                bottom -= part
        painter.setPen(QPen(QColor(theme.line), 1))
        painter.drawLine(plot.bottomLeft(), plot.bottomRight())
        painter.setPen(QColor(theme.soft_ink))
        for score in (0, 25, 50, 75, 100):
            x = plot.left() + plot.width() * score / 100
            painter.drawText(
                QRectF(x - 30, plot.bottom() + 3, 60, self.fontMetrics().height()),
                Qt.AlignmentFlag.AlignHCenter,
                str(score),
            )
        painter.drawText(
            QRectF(plot.left() + 4, plot.top() - 4, 200, self.fontMetrics().height()), 0, f"{self._unit} by score"
        )
        if (self._low, self._high) != (0.0, 100.0):
            left = plot.left() + plot.width() * self._low / 100
            right = plot.left() + plot.width() * self._high / 100
            veil = QColor(theme.ground)
            veil.setAlpha(190)
            painter.fillRect(QRectF(plot.left(), plot.top(), left - plot.left(), plot.height()), veil)
            painter.fillRect(QRectF(right, plot.top(), plot.right() - right, plot.height()), veil)
            painter.setPen(QPen(QColor(theme.accent), 2))
            for x in (left, right):
                painter.drawLine(QPointF(x, plot.top() - 4), QPointF(x, plot.bottom() + 2))
        if self.hasFocus():
            painter.setPen(QPen(QColor(theme.accent), 2))
            painter.drawRect(self.rect().adjusted(1, 1, -2, -2))
        painter.end()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._anchor = self._score_at(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._anchor is not None:
            self.set_range(self._anchor, self._score_at(event.position().x()))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._anchor is not None and abs(self._score_at(event.position().x()) - self._anchor) < 1:
            self.set_range(0, 100)
        self._anchor = None

    def keyPressEvent(self, event: QKeyEvent) -> None:
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        step = {Qt.Key.Key_Left: -2.0, Qt.Key.Key_Right: 2.0}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
        elif shift:
            self.set_range(self._low, max(self._low, self._high + step))
        else:
            self.set_range(min(self._high, self._low + step), self._high)
