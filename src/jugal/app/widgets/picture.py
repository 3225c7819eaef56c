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
    """Shows a preview; ``picked`` carries where it was pressed, 0 to 1 across and down. Wheel or plus and minus zoom, dragging or arrows move, 0 fits, 1 shows single pixels, comma
    and full stop draw the line between two versions."""

    moved = Signal(float, QPointF)
    picked = Signal(float, float)

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
        self._second: QImage | None = None
        self._wipe = 0.5
        self._on_line = False
        self._pressed: QPointF | None = None
        self._row: float | None = None
        self.setMinimumSize(200, 160)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(name)

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.update()

    def set_preview(self, preview: Preview | None, waiting: str = "") -> None:
        """Shows a preview's picture or words; ``waiting`` where there is none yet."""
        self._image, self._row = None, None
        self._text = waiting
        if preview is not None:
            self._text = preview.text
            if preview.width:
                self._image = QImage(
                    preview.rgb, preview.width, preview.height, preview.width * 3, QImage.Format.Format_RGB888
                ).copy()
        self.setAccessibleDescription(self._text[:200] or "Picture")
        self.update()

    @property
    def image(self) -> QImage | None:
        """What is shown, None where there are only words."""
        return self._image

    def show_image(self, image: QImage) -> None:
        """A frame of a clip that plays."""
        self._image, self._text = image, ""
        self.update()

    def set_second(self, image: QImage | None) -> None:
        """Another version, shown to the right of a line that can be drawn across; None takes it away."""
        self._second = image
        self.update()

    def point_at(self, share: float | None) -> None:
        """Marks a row of the picture, 0 at its top and 1 at its bottom."""
        self._row = share
        self.update()

    @property
    def wipe(self) -> float:
        """Where the line between the versions stands, 0 to 1 of the view's width."""
        return self._wipe

    def move_wipe(self, share: float) -> None:
        """Draws the line between the versions to another place."""
        self._wipe = min(1.0, max(0.0, share))
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
            if self._second is not None:
                self._paint_second(painter, target)
            if self._row is not None:
                y = target.top() + target.height() * self._row
                painter.setPen(QPen(QColor(self._theme.raised), 3))
                painter.drawLine(QPointF(target.left(), y), QPointF(target.right(), y))
                painter.setPen(QPen(QColor(self._theme.accent), 1, Qt.PenStyle.DashLine))
                painter.drawLine(QPointF(target.left(), y), QPointF(target.right(), y))
        painter.setPen(
            QPen(
                QColor(self._theme.accent if self.hasFocus() else self._theme.line),
                2 if self.hasFocus() else 1,
            )
        )
        painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        painter.end()

    def _paint_second(self, painter: QPainter, target: QRectF) -> None:
        """The second version right of the line, over the first and its damage."""
        assert self._second is not None
        x = self.width() * self._wipe
        painter.save()
        painter.setClipRect(QRectF(x, 0, self.width() - x, self.height()))
        painter.fillRect(self.rect(), QColor(self._theme.surface))
        painter.drawImage(target, self._second)
        painter.restore()
        painter.setPen(QPen(QColor(self._theme.raised), 3))
        painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        painter.setPen(QPen(QColor(self._theme.accent), 1))
        painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        for words, align, left in (
            ("as found", Qt.AlignmentFlag.AlignRight, x - 126),
            ("repaired", Qt.AlignmentFlag.AlignLeft, x + 6),
        ):
            box = painter.boundingRect(QRectF(left, 6, 120, 20), align, words)
            painter.fillRect(box.adjusted(-4, -1, 4, 1), QColor(self._theme.raised))
            painter.setPen(QColor(self._theme.ink))
            painter.drawText(box, align, words)

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
        self._on_line = self._second is not None and abs(event.position().x() - self._wipe * self.width()) < 8
        self._drag = self._pressed = event.position()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._on_line and self._drag is not None:
            self.move_wipe(event.position().x() / max(1, self.width()))
        elif self._drag is not None and self._image is not None:
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
        still = self._pressed is not None and (event.position() - self._pressed).manhattanLength() < 4
        if still and not self._on_line and self._image is not None:
            target = self._target()
            x = (event.position().x() - target.left()) / target.width()
            y = (event.position().y() - target.top()) / target.height()
            if 0 <= x <= 1 and 0 <= y <= 1:
                self._row = y
                self.picked.emit(x, y)
                self.update()
        self._drag = self._pressed = None

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
        elif key in (Qt.Key.Key_Comma, Qt.Key.Key_Period) and self._second is not None:
            self.move_wipe(self._wipe + (0.05 if key == Qt.Key.Key_Period else -0.05))
        elif key in moves and self._zoom > 1:
            self._set(self._zoom, QPointF(self._middle.x() + moves[key][0], self._middle.y() + moves[key][1]))
        else:
            super().keyPressEvent(event)
