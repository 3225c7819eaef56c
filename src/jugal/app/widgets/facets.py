"""The facets of a case: what its files can be told apart by, with how many files each choice would show."""

from __future__ import annotations

from PySide6.QtCore import QRect, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFontMetrics, QKeyEvent, QPainter, QPen, QResizeEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTabBar,
    QVBoxLayout,
    QWidget,
)

from jugal.app.style import tokens
from jugal.app.style.tokens import Theme
from jugal.case.catalog import Facet, Filter, words_for

_VALUE = Qt.ItemDataRole.UserRole
_COUNT = Qt.ItemDataRole.UserRole + 1
_SHARE = Qt.ItemDataRole.UserRole + 2
_MOST = 400


class FacetBand(QWidget):
    """One facet at a time, its values side by side. ``toggled`` carries the facet and the value to choose or let go."""

    toggled = Signal(object, str)
    wanted = Signal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        box = QVBoxLayout(self)
        box.setContentsMargins(tokens.MARGIN, 0, tokens.MARGIN, 6)
        box.setSpacing(4)
        self.tabs = QTabBar()
        self.tabs.setAccessibleName("What to narrow by")
        self.tabs.setDrawBase(False)
        self.tabs.setExpanding(False)
        self.tabs.setUsesScrollButtons(True)
        for facet in Facet:
            self.tabs.addTab(facet.value)
        self.tabs.currentChanged.connect(lambda _: self.wanted.emit())
        box.addWidget(self.tabs)
        self.search = QLineEdit()
        self.search.setPlaceholderText("which values")
        self.search.setAccessibleName("Part of a value")
        self.search.textChanged.connect(lambda _: self.wanted.emit())
        box.addWidget(self.search)
        self.list = _Values(theme)
        self.list.setAccessibleName("Values with the number of files")
        self.list.itemClicked.connect(self._toggle)
        self.list.itemActivated.connect(self._toggle)
        box.addWidget(self.list)

    @property
    def facet(self) -> Facet:
        """The facet whose values are shown."""
        return list(Facet)[max(0, self.tabs.currentIndex())]

    def set_theme(self, theme: Theme) -> None:
        self.list.theme = theme
        self.list.viewport().update()

    def show_counts(self, wanted: Filter, counts: dict[str, int]) -> None:
        """Shows a facet's values. The chosen ones stay in sight even where no file is left of them."""
        facet, chosen = self.facet, wanted.values(self.facet)
        part = self.search.text().casefold()
        values = [v for v in counts if part in words_for(facet, v).casefold()]
        values += [v for v in chosen if v not in counts]
        self.search.setVisible(len(counts) > 24 or bool(part))
        at = self.list.currentRow()
        most = max(counts.values(), default=1)
        self.list.clear()
        for value in values[:_MOST]:
            words, count = words_for(facet, value), counts.get(value, 0)
            shown = ".../".join(words.rsplit("/", 2)[-2:]) if facet is Facet.FOLDER and words.count("/") > 2 else words
            item = QListWidgetItem(f"{shown}  {count:,}")
            item.setData(_VALUE, value)
            item.setData(_COUNT, count)
            item.setData(_SHARE, count / most)
            item.setToolTip(words)
            item.setCheckState(Qt.CheckState.Checked if value in chosen else Qt.CheckState.Unchecked)
            item.setData(Qt.ItemDataRole.AccessibleTextRole, f"{words}, {count:,} files")
            self.list.addItem(item)
        self.list.fit()
        if at >= 0:
            self.list.setCurrentRow(min(at, self.list.count() - 1))

    def _toggle(self, item: QListWidgetItem) -> None:
        self.toggled.emit(self.facet, item.data(_VALUE))


class _Values(QListWidget):
    """Values one after the other, in as many lines as they need; Space or Return chooses."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.setFlow(QListWidget.Flow.LeftToRight)
        self.setWrapping(True)
        self.setResizeMode(QListWidget.ResizeMode.Adjust)
        self.setSpacing(3)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setItemDelegate(_ValueDelegate(self))

    def fit(self) -> None:
        """As high as the values need, three lines at most."""
        line = self.fontMetrics().height() + 18
        self.doItemsLayout()
        needed = self.visualItemRect(self.item(self.count() - 1)).bottom() if self.count() else 0
        self.setFixedHeight(min(3 * line, max(line, needed + self.verticalOffset() + 8)))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.fit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        item = self.currentItem()
        if event.key() in (Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Enter) and item is not None:
            self.itemClicked.emit(item)
        else:
            super().keyPressEvent(event)


class _ValueDelegate(QStyledItemDelegate):
    """A value: its words, its count, a line under it as long as its share; a filled square where it is chosen."""

    def __init__(self, view: _Values) -> None:
        super().__init__(view)
        self._view = view

    def sizeHint(self, option: QStyleOptionViewItem, index) -> QSize:  # type: ignore[no-untyped-def]
        metrics = QFontMetrics(option.font)
        return QSize(metrics.horizontalAdvance(str(index.data())) + 34, metrics.height() + 10)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index) -> None:  # type: ignore[no-untyped-def]
        theme = self._view.theme
        chosen = index.data(Qt.ItemDataRole.CheckStateRole) == Qt.CheckState.Checked.value
        area = QRect(option.rect)
        painter.save()
        painter.fillRect(area, QColor(theme.selection if chosen else theme.raised))
        current = bool(option.state & QStyle.StateFlag.State_HasFocus)
        painter.setPen(QPen(QColor(theme.accent if current else theme.line), 2 if current else 1))
        painter.drawRect(area.adjusted(0, 0, -1, -1))
        mark = QRect(area.left() + 7, area.center().y() - 4, 9, 9)
        painter.setPen(QPen(QColor(theme.soft_ink), 1))
        painter.drawRect(mark)
        if chosen:
            painter.fillRect(mark.adjusted(2, 2, -1, -1), QColor(theme.accent))
        painter.setPen(QColor(theme.ink if index.data(_COUNT) else theme.soft_ink))
        painter.drawText(area.adjusted(22, 0, -6, 0), Qt.AlignmentFlag.AlignVCenter, str(index.data()))
        share = float(index.data(_SHARE) or 0.0)
        width = round((area.width() - 2) * share)
        painter.fillRect(QRect(area.left() + 1, area.bottom() - 2, width, 2), QColor(theme.soft_ink))
        painter.restore()
