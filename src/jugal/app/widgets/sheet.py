"""The contact sheet: the same files as the rows, as a grid of pictures with a strip and a score under each."""

from __future__ import annotations

from PySide6.QtCore import (
    QItemSelection,
    QItemSelectionModel,
    QModelIndex,
    QPersistentModelIndex,
    QPoint,
    QRect,
    QRectF,
    Qt,
    Signal,
)
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPaintEvent, QPen, QRegion
from PySide6.QtWidgets import QAbstractItemView, QWidget

from jugal.app.models.files import NAME, FilesModel
from jugal.app.style import tokens
from jugal.app.style.tokens import Theme
from jugal.app.widgets.strip import paint_strip
from jugal.case.store import FileRow
from jugal.model.words import shown_score

Index = QModelIndex | QPersistentModelIndex
_CURSOR = QAbstractItemView.CursorAction


class ContactSheet(QAbstractItemView):
    """A grid of equal cells: only those in sight are ever asked for. ``opened`` carries the shown row to look at."""

    opened = Signal(int)

    def __init__(self, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.theme = theme
        self.setAccessibleName("Contact sheet of the case's files")
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.doubleClicked.connect(lambda index: self.opened.emit(index.row()))

    # Geometry

    def _cell(self) -> tuple[int, int]:
        """Width and height of a cell: room for the picture, a strip and two lines of text."""
        line = self.fontMetrics().height()
        return tokens.CELL_WIDTH, tokens.CELL_PICTURE + tokens.STRIP_HEIGHT // 2 + 2 * line + 4 * tokens.GAP

    def _columns(self) -> int:
        return max(1, self.viewport().width() // self._cell()[0])

    def _count(self) -> int:
        return self.model().rowCount() if self.model() else 0

    def visualRect(self, index: Index) -> QRect:
        if not index.isValid():
            return QRect()
        width, height = self._cell()
        row, column = divmod(index.row(), self._columns())
        return QRect(column * width, row * height - self.verticalOffset(), width, height)

    def indexAt(self, point: QPoint) -> QModelIndex:
        width, height = self._cell()
        column = point.x() // width
        if not 0 <= column < self._columns():
            return QModelIndex()
        number = (point.y() + self.verticalOffset()) // height * self._columns() + column
        return self.model().index(number, NAME) if 0 <= number < self._count() else QModelIndex()

    def visible_rows(self) -> range:
        """The model's rows that are seen now, in whole or in part."""
        height, columns = self._cell()[1], self._columns()
        first = max(0, self.verticalOffset() // height) * columns
        last = min(self._count(), (self.verticalOffset() + self.viewport().height()) // height * columns + columns)
        return range(first, last)

    def scrollTo(
        self, index: Index, hint: QAbstractItemView.ScrollHint = QAbstractItemView.ScrollHint.EnsureVisible
    ) -> None:
        place, bar = self.visualRect(index), self.verticalScrollBar()
        if place.top() < 0:
            bar.setValue(bar.value() + place.top())
        elif place.bottom() > self.viewport().height():
            bar.setValue(bar.value() + place.bottom() - self.viewport().height())

    def horizontalOffset(self) -> int:
        return 0

    def verticalOffset(self) -> int:
        return self.verticalScrollBar().value()

    def isIndexHidden(self, index: Index) -> bool:
        return False

    def updateGeometries(self) -> None:
        super().updateGeometries()
        height = self._cell()[1]
        rows = -(-self._count() // self._columns())
        bar = self.verticalScrollBar()
        bar.setSingleStep(height // 3)
        bar.setPageStep(self.viewport().height())
        bar.setRange(0, max(0, rows * height - self.viewport().height()))

    def resizeEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().resizeEvent(event)
        self.updateGeometries()

    def doItemsLayout(self) -> None:
        super().doItemsLayout()
        self.updateGeometries()
        self.viewport().update()

    def dataChanged(self, first: Index, last: Index, roles: object = None) -> None:
        """Draws again what is seen; pictures read ahead change nothing of it."""
        seen = self.visible_rows()
        if first.row() < seen.stop and last.row() >= seen.start:
            self.viewport().update()

    def scrollContentsBy(self, dx: int, dy: int) -> None:
        self.viewport().scroll(dx, dy)
        self.viewport().update()

    # Selection

    def moveCursor(self, action: QAbstractItemView.CursorAction, modifiers: Qt.KeyboardModifier) -> QModelIndex:
        count, columns = self._count(), self._columns()
        if not count:
            return QModelIndex()
        page = max(1, self.viewport().height() // self._cell()[1]) * columns
        steps = {
            _CURSOR.MoveLeft: -1,
            _CURSOR.MovePrevious: -1,
            _CURSOR.MoveRight: 1,
            _CURSOR.MoveNext: 1,
            _CURSOR.MoveUp: -columns,
            _CURSOR.MoveDown: columns,
            _CURSOR.MovePageUp: -page,
            _CURSOR.MovePageDown: page,
            _CURSOR.MoveHome: -count,
            _CURSOR.MoveEnd: count,
        }
        current = self.currentIndex()
        at = (current.row() if current.isValid() else 0) + steps.get(action, 0)
        return self.model().index(min(max(at, 0), count - 1), NAME)

    def setSelection(self, rect: QRect, command: QItemSelectionModel.SelectionFlag) -> None:
        width, height = self._cell()
        area = rect.normalized().translated(0, self.verticalOffset())
        columns = self._columns()
        first_row, last_row = max(0, area.top() // height), area.bottom() // height
        first, last = max(0, area.left() // width), min(columns - 1, area.right() // width)
        chosen = QItemSelection()
        for row in range(first_row, last_row + 1):
            begin, end = row * columns + first, min(row * columns + last, self._count() - 1)
            if begin <= end:
                chosen.select(self.model().index(begin, 0), self.model().index(end, self.model().columnCount() - 1))
        self.selectionModel().select(chosen, command)

    def visualRegionForSelection(self, selection: QItemSelection) -> QRegion:
        return QRegion(self.viewport().rect())

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self.viewport())
        painter.fillRect(event.rect(), QColor(self.theme.surface))
        seen = self.visible_rows()
        # The next screen's pictures are read meanwhile; asked for first, they come after those that are seen now.
        model: FilesModel = self.model()  # type: ignore[assignment]
        model.read_ahead(range(seen.stop, min(self._count(), seen.stop + len(seen))))
        for number in seen:
            self._paint_cell(painter, self.model().index(number, NAME))
        painter.end()

    def _paint_cell(self, painter: QPainter, index: QModelIndex) -> None:
        model: FilesModel = index.model()  # type: ignore[assignment]
        row = model.row_at(index.row())
        if row is None:
            return
        theme, metrics = self.theme, QFontMetricsF(self.font())
        cell = QRectF(self.visualRect(index)).adjusted(4, 4, -4, -4)
        chosen = self.selectionModel().hasSelection() and self.selectionModel().isRowSelected(index.row())
        if chosen:
            painter.fillRect(cell, QColor(theme.selection))
        if index.row() == self.currentIndex().row():
            painter.setPen(QPen(QColor(theme.accent), 2 if self.hasFocus() else 1))
            painter.drawRect(cell)
        area = cell.adjusted(6, 6, -6, -4)
        picture = QRectF(area.left(), area.top(), area.width(), tokens.CELL_PICTURE)
        image = model.thumb_at(index.row())
        if image is not None and not image.isNull():
            scale = min(picture.width() / image.width(), picture.height() / image.height())
            width, tall = image.width() * scale, image.height() * scale
            painter.drawImage(
                QRectF(picture.center().x() - width / 2, picture.center().y() - tall / 2, width, tall), image
            )
        else:
            painter.setPen(QPen(QColor(theme.line), 1))
            painter.drawRect(picture)
            painter.setPen(QColor(theme.soft_ink))
            painter.drawText(
                picture, Qt.AlignmentFlag.AlignCenter, row.format if row.format != "unknown" else "not recognised"
            )
        band = QRectF(area.left(), picture.bottom() + 5, area.width(), tokens.STRIP_HEIGHT // 2)
        spans = model.strip_at(index.row())
        if spans:
            paint_strip(painter, band, spans, theme)
        line = QRectF(area.left(), band.bottom() + 4, area.width(), metrics.height())
        painter.setPen(QColor(theme.ink))
        name = metrics.elidedText(row.name, Qt.TextElideMode.ElideMiddle, area.width())
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft, name)
        line.translate(0, metrics.height() + 1)
        painter.setPen(QColor(theme.verdict[row.verdict]))
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft, self._words(row))

    @staticmethod
    def _words(row: FileRow) -> str:
        if row.score is None:
            return "not judged"
        better = row.attainable is not None and row.attainable - row.score >= 2
        return (
            f"{shown_score(row.score)} → {shown_score(row.attainable or 0.0)}"
            if better
            else f"{shown_score(row.score)} {row.verdict.value}"
        )
