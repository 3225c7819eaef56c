"""How a row of the triage is drawn, shut and unfolded."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFont, QFontMetricsF, QImage, QPainter, QPen
from PySide6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem

from jugal.app.models.files import (
    NAME,
    SCORE,
    SIZE,
    STRIP,
    THUMB,
    VERDICT,
    DetailRole,
    FilesModel,
)
from jugal.app.style import tokens
from jugal.app.style.tokens import Theme
from jugal.app.widgets.strip import paint_strip
from jugal.case.store import FileRow
from jugal.model.finding import Severity
from jugal.model.result import Verdict
from jugal.model.strip import StripSpan
from jugal.model.words import human_size, shown_score

Index = QModelIndex | QPersistentModelIndex
_MARK = {Severity.NOTE: "·", Severity.MINOR: "–", Severity.MAJOR: "▲", Severity.FATAL: "✕"}


class RowDelegate(QStyledItemDelegate):
    """Draws every column. The row that is open shows its findings and repairs under its name."""

    def __init__(self, theme: Theme, parent: object = None) -> None:
        super().__init__()
        self.theme = theme
        self.open_row = -1

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(60, tokens.OPEN_ROW_HEIGHT if index.row() == self.open_row else tokens.ROW_HEIGHT)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        model: FilesModel = index.model()  # type: ignore[assignment]
        at, column, area = index.row(), index.column(), option.rect
        row = model.row_at(at)
        if row is None:
            return
        theme = self.theme
        selected = bool(option.state & QStyle.StateFlag.State_Selected)
        painter.fillRect(area, QColor(theme.selection if selected else theme.surface))
        painter.setPen(QColor(theme.line))
        painter.drawLine(area.bottomLeft(), area.bottomRight())
        inner = QRectF(area).adjusted(6, 5, -6, -5)
        opened = at == self.open_row
        if column == THUMB:
            self._thumb(painter, inner, model.thumb_at(at), row)
        elif column == NAME:
            self._name(painter, inner, option.font, index, row, opened)
        elif column == STRIP:
            self._strip(painter, inner, index, model.strip_at(at), opened, option.font)
        else:
            line = QRectF(inner.left(), inner.top(), inner.width(), tokens.ROW_HEIGHT - 10)
            if column == SCORE:
                self._score(painter, line, row)
            else:
                self._word(painter, line, column, row)

    def _word(self, painter: QPainter, line: QRectF, column: int, row: FileRow) -> None:
        theme, align = self.theme, Qt.AlignmentFlag.AlignLeft
        if column == VERDICT:
            text, colour = "not examined" if row.error else row.verdict.value, theme.verdict[row.verdict]
        else:
            text, colour = human_size(row.size) if column == SIZE else row.format, theme.soft_ink
            align = Qt.AlignmentFlag.AlignRight if column == SIZE else align
        painter.setPen(QColor(colour))
        painter.drawText(line, align | Qt.AlignmentFlag.AlignVCenter, text)

    def _thumb(self, painter: QPainter, area: QRectF, image: QImage | None, row: FileRow) -> None:
        if image is not None and not image.isNull():
            scale = min(area.width() / image.width(), area.height() / image.height())
            width, height = image.width() * scale, image.height() * scale
            painter.drawImage(QRectF(area.center().x() - width / 2, area.top(), width, height), image)
            return
        painter.setPen(QPen(QColor(self.theme.line), 1))
        box = QRectF(area.left(), area.top(), area.width(), min(area.height(), tokens.ROW_HEIGHT - 10))
        painter.drawRect(box)
        painter.setPen(QColor(self.theme.soft_ink))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, row.format if row.format != "unknown" else "?")

    def _name(self, painter: QPainter, area: QRectF, font: QFont, index: Index, row: FileRow, opened: bool) -> None:
        metrics = QFontMetricsF(font)
        line = metrics.height()
        bold = QFont(font)
        bold.setWeight(QFont.Weight.DemiBold)
        painter.setFont(bold)
        painter.setPen(QColor(self.theme.ink))
        name = QFontMetricsF(bold).elidedText(row.name, Qt.TextElideMode.ElideMiddle, area.width())
        painter.drawText(QRectF(area.left(), area.top(), area.width(), line), Qt.AlignmentFlag.AlignLeft, name)
        painter.setFont(font)
        painter.setPen(QColor(self.theme.soft_ink))
        if not opened:
            text = metrics.elidedText(row.headline, Qt.TextElideMode.ElideRight, area.width())
            painter.drawText(
                QRectF(area.left(), area.top() + line + 2, area.width(), line),
                Qt.AlignmentFlag.AlignLeft,
                text,
            )
            return
        findings, _ = index.data(DetailRole)
        lines = [f"{_MARK[f.severity]} {f.message}" for f in findings] or [row.headline]
        top = area.top() + line + 4
        for text in lines[:6]:
            room = QRectF(area.left(), top, area.width(), area.bottom() - top)
            if room.height() < line:
                break
            box = painter.boundingRect(room, Qt.TextFlag.TextWordWrap, text)
            painter.setPen(QColor(self.theme.ink))
            painter.drawText(room, Qt.TextFlag.TextWordWrap, text)
            top += box.height() + 3

    def _strip(
        self, painter: QPainter, area: QRectF, index: Index, spans: Sequence[StripSpan], opened: bool, font: QFont
    ) -> None:
        band = QRectF(area.left(), area.top() + 11, area.width(), tokens.STRIP_HEIGHT)
        if opened:
            band.setHeight(tokens.STRIP_HEIGHT + 14)
        if spans:
            paint_strip(painter, band, spans, self.theme)
        if not opened:
            return
        _, plans = index.data(DetailRole)
        metrics = QFontMetricsF(font)
        top = band.bottom() + 8
        texts = [
            f"{p.method} → about {p.attainable:.0f}{' (with a donor)' if p.needs_donor else ''}: {p.summary}"
            for p in plans
        ]
        painter.setPen(QColor(self.theme.ink))
        heading = "Repairs that apply" if texts else "No repair is known for this file."
        painter.drawText(QPointF(area.left(), top + metrics.ascent()), heading)
        painter.setPen(QColor(self.theme.soft_ink))
        for text in texts[:3]:
            top += metrics.height() + 3
            painter.drawText(
                QPointF(area.left(), top + metrics.ascent()),
                metrics.elidedText(text, Qt.TextElideMode.ElideRight, area.width()),
            )
        top += metrics.height() + 3
        if top + metrics.height() < area.bottom() and texts:
            painter.setPen(QColor(self.theme.accent))
            hint = metrics.elidedText("Return takes the file to the bench.", Qt.TextElideMode.ElideRight, area.width())
            painter.drawText(QPointF(area.left(), top + metrics.ascent()), hint)

    def _score(self, painter: QPainter, area: QRectF, row: FileRow) -> None:
        """A gauge: filled up to the score, a tick where a repair would take it."""
        theme = self.theme
        if row.score is None:
            painter.setPen(QColor(theme.soft_ink))
            painter.drawText(area, Qt.AlignmentFlag.AlignVCenter, "not judged" if not row.error else "–")
            return
        track = QRectF(area.left(), area.center().y() + 7, area.width(), 5)
        painter.fillRect(track, QColor(theme.line))
        painter.fillRect(
            QRectF(track.left(), track.top(), track.width() * row.score / 100, track.height()),
            QColor(theme.verdict[row.verdict]),
        )
        attainable = row.attainable if row.attainable is not None else row.score
        text = shown_score(row.score)
        if attainable - row.score >= 2:
            x = track.left() + track.width() * attainable / 100
            painter.setPen(QPen(QColor(theme.verdict[Verdict.REPAIRABLE]), 2))
            painter.drawLine(QPointF(x, track.top() - 3), QPointF(x, track.bottom() + 3))
            text = f"{shown_score(row.score)} → {shown_score(attainable)}"
        painter.setPen(QColor(theme.ink))
        painter.drawText(
            QRectF(area.left(), area.top(), area.width(), area.height() / 2 + 4),
            Qt.AlignmentFlag.AlignVCenter,
            text,
        )
