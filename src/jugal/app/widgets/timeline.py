"""The time of a clip or a sound from left to right: what is lost of it, and where it plays."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from jugal.app.style.tokens import Theme
from jugal.model.result import Region


def clock(seconds: float) -> str:
    """Seconds as minutes and seconds with tenths."""
    return f"{int(seconds // 60)}:{seconds % 60:04.1f}"


def lost_share(regions: Sequence[Region]) -> float:
    """The part of the time in which picture or sound is lost, 0..1; where both are, it counts once."""
    total, reached = 0.0, 0.0
    for region in sorted(regions, key=lambda r: r.start):
        total += max(0.0, region.end - max(region.start, reached))
        reached = max(reached, region.end)
    return total


class Timeline(QWidget):
    """Pressing it or the arrow keys (one second, with Control ten) seek; Home and End too. ``sought`` carries seconds."""

    sought = Signal(float)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._length = 0.0
        self._at = 0.0
        self._lost = 0.0
        self._regions: tuple[Region, ...] = ()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Time line")

    def sizeHint(self) -> QSize:
        return QSize(200, 2 * self.fontMetrics().height() + 8)

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.update()

    def set_track(self, seconds: float, regions: tuple[Region, ...]) -> None:
        """Another clip: its length and the stretches of its time that are lost."""
        self._length, self._regions, self._at = max(0.0, seconds), regions, 0.0
        self._lost = lost_share(regions) * self._length
        self.setAccessibleDescription(
            f"{clock(self._length)} long, {self._lost_words} lost in {len(regions)} stretches"
        )
        self.update()

    @property
    def _lost_words(self) -> str:
        return f"{self._lost:.1f} s" if self._lost >= 0.05 else "less than 0.1 s"

    def show_at(self, seconds: float) -> None:
        """Moves the mark of what is played now."""
        self._at = min(max(0.0, seconds), self._length)
        self.update()

    @property
    def length(self) -> float:
        """Seconds from start to end, 0 where that is not known."""
        return self._length

    @property
    def at(self) -> float:
        """Seconds from the start that the mark stands at."""
        return self._at

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        theme, high = self._theme, self.fontMetrics().height()
        track = QRectF(0, 2, self.width() - 1, max(8, self.height() - high - 6))
        painter.fillRect(track, QColor(theme.matter_payload))
        for region in self._regions:
            lost = QRectF(
                track.width() * region.start,
                track.top(),
                max(2.0, track.width() * (region.end - region.start)),
                track.height(),
            )
            painter.fillRect(lost, QColor(theme.matter_damaged))
            painter.fillRect(lost, QBrush(QColor(theme.ink), Qt.BrushStyle.BDiagPattern))
        x = track.width() * (self._at / self._length if self._length else 0.0)
        painter.setPen(QPen(QColor(theme.ink), 2))
        painter.drawLine(QPointF(x, 0), QPointF(x, track.bottom() + 2))
        painter.setPen(QColor(theme.soft_ink))
        words = QRectF(0, track.bottom() + 2, self.width(), high)
        painter.drawText(words, Qt.AlignmentFlag.AlignLeft, clock(self._at))
        painter.drawText(words, Qt.AlignmentFlag.AlignRight, clock(self._length))
        if self._regions:
            painter.drawText(words, Qt.AlignmentFlag.AlignHCenter, f"{self._lost_words} lost")
        if self.hasFocus():
            painter.setPen(QPen(QColor(theme.accent), 2))
            painter.drawRect(track)
        painter.end()

    def _seek(self, seconds: float) -> None:
        self.show_at(seconds)
        self.sought.emit(self._at)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._seek(event.position().x() / max(1, self.width()) * self._length)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = 10.0 if event.modifiers() & Qt.KeyboardModifier.ControlModifier else 1.0
        places = {
            Qt.Key.Key_Left: self._at - step, Qt.Key.Key_Right: self._at + step, Qt.Key.Key_Home: 0.0, Qt.Key.Key_End: self._length,
        }  # fmt: skip
        place = places.get(Qt.Key(event.key()))
        if place is None:
            super().keyPressEvent(event)
        else:
            self._seek(place)
