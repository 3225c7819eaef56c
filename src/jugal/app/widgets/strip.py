"""The strip, drawn: a file's bytes from start to end as one band. Every matter has its own pattern, not only a colour."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from jugal.app.style.tokens import Theme
from jugal.model.strip import Matter, StripSpan

_PATTERNS = {
    Matter.HOLE: Qt.BrushStyle.BDiagPattern,
    Matter.FILLER: Qt.BrushStyle.Dense6Pattern,
    Matter.FOREIGN: Qt.BrushStyle.DiagCrossPattern,
    Matter.DAMAGED: Qt.BrushStyle.VerPattern,
    Matter.PAST_END: Qt.BrushStyle.FDiagPattern,
    Matter.MISSING: Qt.BrushStyle.NoBrush,
}
#: Damage is drawn at least this wide, else it could not be seen in a large file.
_LEAST = {Matter.HOLE: 3.0, Matter.FOREIGN: 3.0, Matter.DAMAGED: 3.0, Matter.FILLER: 3.0, Matter.MISSING: 6.0}


def extent(spans: Sequence[StripSpan]) -> int:
    """The bytes that a strip stands for, missing ones included."""
    return max((s.span.end for s in spans), default=0)


def in_words(spans: Sequence[StripSpan]) -> str:
    """A strip for those who do not see it."""
    total = extent(spans)
    if not total:
        return "No strip"
    parts: dict[Matter, int] = {}
    for s in spans:
        parts[s.matter] = parts.get(s.matter, 0) + s.span.length
    return ", ".join(f"{m.value} {100 * n / total:.1f} %" for m, n in sorted(parts.items(), key=lambda x: -x[1]))


@cache
def _paints(theme: Theme) -> tuple[dict[Matter, QBrush], dict[Matter, QBrush], QBrush, QPen, QPen]:
    """Of each matter its ground and its pattern, the ink, the dashes of what is missing, the edge: strips are drawn by
    the hundred a second, and making these anew takes longer than drawing with them."""
    ink = QColor(theme.ink)
    grounds = {matter: QBrush(QColor(theme.matter[matter])) for matter in Matter}
    patterns = {m: QBrush(ink, p) for m, p in _PATTERNS.items() if p is not Qt.BrushStyle.NoBrush}
    return grounds, patterns, QBrush(ink), QPen(ink, 1, Qt.PenStyle.DashLine), QPen(QColor(theme.line), 1)


def paint_strip(
    painter: QPainter,
    area: QRectF,
    spans: Sequence[StripSpan],
    theme: Theme,
    first: float = 0.0,
    last: float | None = None,
) -> None:
    """Draws ``spans`` into ``area``; ``first`` to ``last`` are the bytes that the area's width stands for."""
    total = float(extent(spans)) if last is None else last
    width = total - first
    grounds, patterns, ink, dashes, edge = _paints(theme)
    painter.save()
    painter.setClipRect(area)
    painter.fillRect(area, grounds[Matter.UNEXPLAINED])
    if width <= 0:
        painter.restore()
        return
    scale = area.width() / width
    begin, end = area.left(), area.right()
    drawn: tuple[Matter, int] | None = None
    for span in sorted(spans, key=lambda s: s.matter in _LEAST):
        left = begin + (span.span.start - first) * scale
        extent_px = max(span.span.length * scale, _LEAST.get(span.matter, 0.6))
        if left > end or left + extent_px < begin:
            continue
        # A picture's segments lie many to a pixel; one of them is seen.
        fine = (span.matter, int(left)) if extent_px < 1.0 else None
        if fine is not None and fine == drawn:
            continue
        drawn = fine
        left = min(left, area.right() - min(extent_px, 2.0))
        piece = QRectF(left, area.top(), extent_px, area.height())
        painter.fillRect(piece, grounds[span.matter])
        if span.matter in patterns:
            painter.fillRect(piece, patterns[span.matter])
        if span.matter is Matter.STRUCTURE and extent_px > 2:
            painter.fillRect(QRectF(piece.left(), piece.bottom() - 3, piece.width(), 3), ink)
        if span.matter is Matter.MISSING:
            painter.setPen(dashes)
            painter.drawRect(piece.adjusted(0.5, 0.5, -1, -1))
    painter.setPen(edge)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(area.adjusted(0.5, 0.5, -0.5, -0.5))
    painter.restore()


class StripView(QWidget):
    """A large strip that zooms with the wheel or plus and minus and moves with the arrow keys."""

    picked = Signal(object)

    def __init__(self, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme = theme
        self._spans: tuple[StripSpan, ...] = ()
        self._first, self._last = 0.0, 1.0
        self._cursor: int | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(64)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMouseTracking(True)
        self.setAccessibleName("Strip of the file's bytes")

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.update()

    def set_spans(self, spans: tuple[StripSpan, ...]) -> None:
        """Shows another file from start to end."""
        self._spans = spans
        self._first, self._last = 0.0, float(max(1, extent(spans)))
        self._cursor = None
        self.setAccessibleDescription(in_words(spans))
        self.update()

    def point_at(self, offset: int) -> None:
        """Marks a byte and brings it into view."""
        self._cursor = offset
        if not self._first <= offset <= self._last:
            half = (self._last - self._first) / 2
            self._first, self._last = max(0.0, offset - half), max(0.0, offset - half) + 2 * half
        self.update()

    def zoom(self, factor: float, at: float | None = None) -> None:
        """Zooms by ``factor`` about the byte ``at`` (the middle of the view without it)."""
        total = float(max(1, extent(self._spans)))
        middle = (self._first + self._last) / 2 if at is None else at
        width = min(total, max(64.0, (self._last - self._first) / factor))
        share = 0.5 if at is None else (at - self._first) / max(1e-9, self._last - self._first)
        self._first = min(max(0.0, middle - width * share), total - width)
        self._last = self._first + width
        self.update()

    def _byte_at(self, x: float) -> float:
        return self._first + x / max(1, self.width()) * (self._last - self._first)

    def _span_at(self, offset: float) -> StripSpan | None:
        return next((s for s in self._spans if s.span.start <= offset < s.span.end), None)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        area = QRectF(0, 0, self.width(), self.height() - self.fontMetrics().height() - 1)
        paint_strip(painter, area, self._spans, self._theme, self._first, self._last)
        painter.setPen(QColor(self._theme.soft_ink))
        step = max(1, self.width() // 6)
        for x in range(0, self.width() - step // 2, step):
            painter.drawText(QPointF(x + 2, self.height() - 3), f"{int(self._byte_at(x)):,}")
        if self._cursor is not None:
            mark = (self._cursor - self._first) / max(1e-9, self._last - self._first) * self.width()
            painter.setPen(QPen(QColor(self._theme.ink), 2))
            painter.drawLine(QPointF(mark, 0), QPointF(mark, area.height()))
        if self.hasFocus():
            painter.setPen(QPen(QColor(self._theme.accent), 2))
            painter.drawRect(area.adjusted(1, 1, -1, -1))
        painter.end()

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.zoom(1.25 if event.angleDelta().y() > 0 else 0.8, self._byte_at(event.position().x()))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        offset = int(self._byte_at(event.position().x()))
        self.point_at(offset)
        self.picked.emit(offset)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        span = self._span_at(self._byte_at(event.position().x()))
        if span is not None:
            label = f": {span.label}" if span.label else ""
            QToolTip.showText(
                event.globalPosition().toPoint(),
                f"{span.matter.value}{label}\nbytes {span.span.start:,} to {span.span.end:,}",
                self,
            )

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = (self._last - self._first) / 10
        if event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(1.5)
        elif event.key() == Qt.Key.Key_Minus:
            self.zoom(1 / 1.5)
        elif event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            step = -step if event.key() == Qt.Key.Key_Left else step
            width, total = self._last - self._first, float(max(1, extent(self._spans)))
            self._first = min(max(0.0, self._first + step), total - width)
            self._last = self._first + width
            self.update()
        else:
            super().keyPressEvent(event)
