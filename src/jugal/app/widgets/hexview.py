"""The bytes of a file, sixteen a line, marked by what they are; only what is in sight is ever read."""

from __future__ import annotations

import os

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QFontDatabase, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QAbstractScrollArea

from jugal.app.style.tokens import Theme
from jugal.model.strip import Matter, StripSpan

#: Bytes of a line where there is room, and where there is not.
_WIDE, _NARROW = 16, 8
_MOST_STEPS = 1 << 30
_QUIET = (Matter.PAYLOAD, Matter.UNEXPLAINED)


class HexView(QAbstractScrollArea):
    """Shows any place of a file of any size. ``moved`` carries the byte that the cursor stands on."""

    moved = Signal(object)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._handle = -1
        self._size = 0
        self._first = 0
        self._cursor = 0
        self._spans: tuple[StripSpan, ...] = ()
        self._wide = _WIDE
        self._font = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
        self._font.setPointSizeF(self.font().pointSizeF())
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Bytes of the file")
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        # A scroll bar counts to some two thousand million: in files with more lines a step is several of them.
        self._lines_a_step = 1
        self.verticalScrollBar().valueChanged.connect(self._scrolled)

    def changeEvent(self, event: QEvent) -> None:
        """Bytes grow with all other type."""
        super().changeEvent(event)
        if event.type() == QEvent.Type.FontChange and self.font().pointSizeF() > 0:
            self._font.setPointSizeF(self.font().pointSizeF())
            self._measure()
            self.viewport().update()

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.viewport().update()

    def set_file(self, path: str | None, spans: tuple[StripSpan, ...] = ()) -> None:
        """Opens another file for reading only; an unreadable one shows nothing."""
        self.close_file()
        self._spans, self._size, self._first, self._cursor = spans, 0, 0, 0
        if path is not None:
            try:
                self._handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
                self._size = os.fstat(self._handle).st_size
            except OSError:
                self.close_file()
        self._measure()
        self._describe()

    def close_file(self) -> None:
        """Lets go of the file."""
        if self._handle >= 0:
            os.close(self._handle)
            self._handle = -1

    @property
    def offset(self) -> int:
        """The byte that the cursor stands on."""
        return self._cursor

    def point_at(self, offset: int) -> None:
        """Puts the cursor on a byte and brings it into sight; tells nobody."""
        self._cursor = max(0, min(offset, self._size - 1))
        line, top, rows = self._cursor // self._wide, self._first // self._wide, self._rows()
        if not top <= line < top + rows:
            self._show_from(line - rows // 3)
        self._describe()
        self.viewport().update()

    def _rows(self) -> int:
        return max(1, int(self.viewport().height() / self._line()))

    def _line(self) -> float:
        return QFontMetricsF(self._font).height() + 1

    def _lines(self) -> int:
        return -(-self._size // self._wide)

    def _left(self) -> float:
        """Where the bytes begin, behind the offsets."""
        return 8 + QFontMetricsF(self._font).horizontalAdvance("0") * (len(f"{self._size:x}") + 2)

    def _measure(self) -> None:
        needed = self._left() + QFontMetricsF(self._font).horizontalAdvance("0") * (4 * _WIDE + 2)
        self._wide = _WIDE if needed <= self.viewport().width() else _NARROW
        self._first -= self._first % self._wide
        bar = self.verticalScrollBar()
        bar.blockSignals(True)
        bar.setPageStep(self._rows())
        last = max(0, self._lines() - self._rows())
        self._lines_a_step = 1 + last // _MOST_STEPS
        bar.setRange(0, last // self._lines_a_step)
        bar.setValue(self._first // self._wide // self._lines_a_step)
        bar.blockSignals(False)
        self.viewport().update()

    def _show_from(self, line: int) -> None:
        self._first = max(0, min(line, max(0, self._lines() - self._rows()))) * self._wide
        self._measure()

    def _scrolled(self, value: int) -> None:
        self._first = value * self._lines_a_step * self._wide
        self.viewport().update()

    def _describe(self) -> None:
        span = self._span_at(self._cursor)
        byte = self._read(self._cursor, 1)
        words = f"byte {self._cursor:,}"
        if byte:
            words += f", value {byte[0]:02x}"
        if span is not None:
            words += f", {span.matter.value} {span.label}"
        self.setAccessibleDescription(words)

    def _read(self, at: int, count: int) -> bytes:
        if self._handle < 0 or count <= 0:
            return b""
        try:
            return os.pread(self._handle, count, at)
        except OSError:
            return b""

    def _span_at(self, offset: int) -> StripSpan | None:
        return next((s for s in self._spans if s.span.start <= offset < s.span.end), None)

    def resizeEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().resizeEvent(event)
        self._measure()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self.viewport())
        theme, metrics = self._theme, QFontMetricsF(self._font)
        painter.fillRect(event.rect(), QColor(theme.surface))
        painter.setFont(self._font)
        digit, line = metrics.horizontalAdvance("0"), self._line()
        rows = self._rows() + 1
        data = self._read(self._first, rows * self._wide)
        left = self._left()
        text_left = left + digit * (self._wide * 3 + 2)
        seen = [s for s in self._spans if s.span.end > self._first and s.span.start < self._first + len(data)]
        for at in range(0, len(data), self._wide):
            y = at // self._wide * line
            base = y + metrics.ascent()
            painter.setPen(QColor(theme.soft_ink))
            painter.drawText(QPointF(8, base), f"{self._first + at:0{len(f'{self._size:x}')}x}")
            part = data[at : at + self._wide]
            self._mark(painter, seen, self._first + at, len(part), y, line, left, text_left, digit)
            painter.setPen(QColor(theme.ink))
            painter.drawText(QPointF(left, base), part.hex(" "))
            painter.drawText(QPointF(text_left, base), "".join(chr(b) if 32 <= b < 127 else "·" for b in part))
        column, row = self._cursor % self._wide, (self._cursor - self._first) // self._wide
        if self._size and 0 <= row < rows:
            painter.setPen(QColor(theme.accent if self.hasFocus() else theme.soft_ink))
            painter.drawRect(QRectF(left + digit * (3 * column - 0.4), row * line, digit * 2.8, line - 1))
            painter.drawRect(QRectF(text_left + digit * column, row * line, digit, line - 1))
        painter.end()

    def _mark(
        self,
        painter: QPainter,
        seen: list[StripSpan],
        first: int,
        count: int,
        top: float,
        line: float,
        left: float,
        text_left: float,
        digit: float,
    ) -> None:
        """A bar under the bytes of a line that are not simply content."""
        for span in seen:
            begin, end = max(span.span.start - first, 0), min(span.span.end - first, count)
            if begin >= end or span.matter in _QUIET:
                continue
            colour = QColor(self._theme.matter[span.matter])
            under = top + line - 3
            painter.fillRect(QRectF(left + digit * 3 * begin, under, digit * (3 * (end - begin) - 1), 3), colour)
            painter.fillRect(QRectF(text_left + digit * begin, under, digit * (end - begin), 3), colour)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        metrics = QFontMetricsF(self._font)
        digit = metrics.horizontalAdvance("0")
        left = self._left()
        x = event.position().x()
        text_left = left + digit * (self._wide * 3 + 2)
        column = int((x - text_left) / digit) if x >= text_left else int((x - left) / (3 * digit))
        row = int(event.position().y() / self._line())
        self._go(self._first + row * self._wide + max(0, min(column, self._wide - 1)))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        page = self._rows() * self._wide
        steps = {
            Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Up: -self._wide, Qt.Key.Key_Down: self._wide,
            Qt.Key.Key_PageUp: -page, Qt.Key.Key_PageDown: page, Qt.Key.Key_Home: -self._size, Qt.Key.Key_End: self._size,
        }  # fmt: skip
        step = steps.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
        else:
            self._go(self._cursor + step)

    def _go(self, offset: int) -> None:
        self.point_at(offset)
        self.moved.emit(self._cursor)
