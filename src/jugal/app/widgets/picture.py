"""A picture with zoom and pan, the damaged area drawn over it, and a second version to wipe against."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QBrush,
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from jugal.app.bridge.decode import Preview
from jugal.app.style.tokens import Theme
from jugal.model.result import Region


class PictureView(QWidget):
    """Shows a preview. Wheel or plus and minus zoom, dragging or arrows move, 0 fits, 1 shows single pixels."""

    moved = Signal(float, QPointF)

    def __init__(self, theme: Theme, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._theme = theme
        self._image: QImage | None = None
        self._text = ""
        self._regions: tuple[Region, ...] = ()
        self._along_time = False
        self._damage = True
        self._zoom = 1.0
        self._middle = QPointF(0.5, 0.5)
        self._drag: QPointF | None = None
        self.setMinimumSize(200, 160)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(name)

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.update()

    def set_preview(self, preview: Preview | None, waiting: str = "") -> None:
        """Shows a preview's picture or words; ``waiting`` where there is none yet."""
        self._image = None
        self._text = waiting
        if preview is not None:
            self._text = preview.text
            if preview.width:
                self._image = QImage(
                    preview.rgb, preview.width, preview.height, preview.width * 3, QImage.Format.Format_RGB888
                ).copy()
        self.setAccessibleDescription(self._text[:200] or "Picture")
        self.update()

    def set_regions(self, regions: tuple[Region, ...], along_time: bool) -> None:
        """The stretches that are not right: of the picture's rows, or with ``along_time`` from left to right."""
        self._regions, self._along_time = regions, along_time
        self.update()

    def toggle_damage(self) -> None:
        self._damage = not self._damage
        self.update()

    def view(self, zoom: float, middle: QPointF) -> None:
        """Follows another view."""
        self._zoom, self._middle = zoom, middle
        self.update()

    def _set(self, zoom: float, middle: QPointF) -> None:
        self._zoom = min(32.0, max(1.0, zoom))
        half = 0.5 / self._zoom
        self._middle = QPointF(min(max(middle.x(), half), 1 - half), min(max(middle.y(), half), 1 - half))
        self.update()
        self.moved.emit(self._zoom, self._middle)

    def _target(self) -> QRectF:
        assert self._image is not None
        fit = min(self.width() / self._image.width(), self.height() / self._image.height()) * self._zoom
        width, height = self._image.width() * fit, self._image.height() * fit
        return QRectF(
            self.width() / 2 - width * self._middle.x(),
            self.height() / 2 - height * self._middle.y(),
            width,
            height,
        )

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(self._theme.surface))
        if self._image is None:
            painter.setPen(QColor(self._theme.soft_ink))
            short = len(self._text) < 200
            align = Qt.AlignmentFlag.AlignCenter if short else Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop
            painter.drawText(
                QRectF(self.rect()).adjusted(12, 10, -12, -10),
                align | Qt.TextFlag.TextWordWrap,
                self._text[:6000],
            )
        else:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self._zoom < 4)
            target = self._target()
            painter.drawImage(target, self._image)
            if self._damage:
                self._paint_regions(painter, target)
        painter.setPen(
            QPen(
                QColor(self._theme.accent if self.hasFocus() else self._theme.line),
                2 if self.hasFocus() else 1,
            )
        )
        painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        painter.end()

    def _paint_regions(self, painter: QPainter, target: QRectF) -> None:
        edge = QColor(self._theme.matter_damaged)
        veil = QColor(edge)
        veil.setAlpha(150)
        for number, region in enumerate(self._regions):
            if self._along_time:
                area = QRectF(
                    target.left() + target.width() * region.start,
                    target.bottom() - max(18.0, target.height() * 0.08),
                    max(3.0, target.width() * (region.end - region.start)),
                    max(18.0, target.height() * 0.08),
                )
            else:
                area = QRectF(
                    target.left() + target.width() * region.left,
                    target.top() + target.height() * region.start,
                    target.width() * (region.right - region.left),
                    target.height() * (region.end - region.start),
                )
            painter.fillRect(area, QBrush(veil, Qt.BrushStyle.BDiagPattern))
            painter.setPen(QPen(edge, 2))
            painter.drawRect(area)
            if number < 6 and area.height() > 14:
                painter.setPen(QColor(self._theme.ink))
                label = QRectF(area.left() + 4, area.top() + 3, 190, 18)
                ground = QColor(self._theme.raised)
                ground.setAlpha(225)
                box = painter.boundingRect(label, Qt.AlignmentFlag.AlignLeft, region.label)
                painter.fillRect(box.adjusted(-3, -1, 3, 1), ground)
                painter.drawText(label, Qt.AlignmentFlag.AlignLeft, region.label)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self._set(self._zoom * (1.25 if event.angleDelta().y() > 0 else 0.8), self._middle)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._drag = event.position()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is not None and self._image is not None:
            target = self._target()
            step = event.position() - self._drag
            self._drag = event.position()
            self._set(
                self._zoom,
                QPointF(
                    self._middle.x() - step.x() / target.width(),
                    self._middle.y() - step.y() / target.height(),
                ),
            )

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = 0.1 / self._zoom
        moves = {
            Qt.Key.Key_Left: (-step, 0.0),
            Qt.Key.Key_Right: (step, 0.0),
            Qt.Key.Key_Up: (0.0, -step),
            Qt.Key.Key_Down: (0.0, step),
        }
        key = Qt.Key(event.key())
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self._set(self._zoom * 1.5, self._middle)
        elif key == Qt.Key.Key_Minus:
            self._set(self._zoom / 1.5, self._middle)
        elif key == Qt.Key.Key_0:
            self._set(1.0, QPointF(0.5, 0.5))
        elif key == Qt.Key.Key_1 and self._image is not None:
            fit = min(self.width() / self._image.width(), self.height() / self._image.height())
            self._set(1.0 / fit, self._middle)
        elif key in moves and self._zoom > 1:
            self._set(self._zoom, QPointF(self._middle.x() + moves[key][0], self._middle.y() + moves[key][1]))
        else:
            super().keyPressEvent(event)
