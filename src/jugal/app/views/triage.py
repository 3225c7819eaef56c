"""Triage: the case's files as rows with their strips, the horizon above them, the filter as a sentence."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QItemSelection, QItemSelectionModel, QModelIndex, QObject, Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QMenu,
    QPushButton,
    QTableView,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from jugal.app.controllers.session import Session
from jugal.app.models.files import FORMAT, NAME, SCORE, SIZE, STRIP, THUMB, VERDICT
from jugal.app.style import tokens
from jugal.app.style.tokens import Theme
from jugal.app.views.intake import label
from jugal.app.widgets.elided import ElidedLabel
from jugal.app.widgets.horizon import Horizon
from jugal.app.widgets.rows import RowDelegate
from jugal.app.widgets.sheet import ContactSheet
from jugal.model.result import Kind, Verdict
from jugal.model.words import human_size


class WordButton(QToolButton):
    """A word in the filter sentence that opens a menu of what it may say."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setProperty("role", "word")
        self.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.setMenu(QMenu(self))
        self.setAccessibleName(name)
        self.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextOnly)


class TriageView(QWidget):
    """Rows that unfold in place; ``to_bench`` carries the file to look at closely."""

    to_bench = Signal(int)

    def __init__(self, session: Session, theme: Theme) -> None:
        super().__init__()
        self._session = session
        self._model = session.model
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.horizon = Horizon(theme)
        self.horizon.brushed.connect(lambda low, high: self._model.set_filter(low=low, high=high))
        layout.addWidget(self.horizon)
        layout.addWidget(self._sentence())
        self.table = QTableView()
        self.table.setModel(self._model)
        self.delegate = RowDelegate(theme)
        self.table.setItemDelegate(self.delegate)
        self._dress_table()
        layout.addWidget(self.table, 1)
        self.sheet = ContactSheet(theme)
        self.sheet.setModel(self._model)
        # One choice for both: what is chosen in the rows is chosen in the sheet.
        own = self.sheet.selectionModel()
        self.sheet.setSelectionModel(self.table.selectionModel())
        own.deleteLater()
        self.sheet.opened.connect(lambda _: self.take_to_bench())
        self.sheet.hide()
        self.as_sheet = False
        layout.addWidget(self.sheet, 1)
        self.empty = label(
            "Nothing has been examined yet. Go to Intake (Ctrl+1), add a folder and press Examine.", "soft"
        )
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        layout.addWidget(self.empty, 1)
        self._refresh = QTimer(self)
        self._refresh.setSingleShot(True)
        self._refresh.setInterval(150)
        self._refresh.timeout.connect(self._show_counts)
        self._model.changed.connect(self._later)
        session.case_changed.connect(self._show_counts)
        self._show_counts()

    def _later(self) -> None:
        if not self._refresh.isActive():
            self._refresh.start()

    def _sentence(self) -> QWidget:
        bar = QWidget()
        row = QHBoxLayout(bar)
        row.setContentsMargins(tokens.MARGIN, 6, tokens.MARGIN, 6)
        row.setSpacing(4)
        row.addWidget(QLabel("Show"))
        self.kind_word, self.format_word, self.verdict_word = (
            WordButton("Kind"),
            WordButton("Format"),
            WordButton("Verdict"),
        )
        self.name_edit = QLineEdit()
        self.name_edit.setPlaceholderText("any name")
        self.name_edit.setAccessibleName("Part of the name")
        self.name_edit.setMaximumWidth(180)
        self.name_edit.textChanged.connect(lambda text: self._model.set_filter(text=text))
        self.score_word = QLabel()
        for widget in (
            self.kind_word,
            QLabel("of"),
            self.format_word,
            QLabel("that are"),
            self.verdict_word,
            QLabel("named"),
            self.name_edit,
            self.score_word,
        ):
            row.addWidget(widget)
        self.clear = QPushButton("Show everything")
        self.clear.clicked.connect(self.show_everything)
        row.addWidget(self.clear)
        self.shape = QPushButton("As pictures")
        self.shape.setCheckable(True)
        self.shape.setAccessibleName("Show the files as pictures instead of rows")
        self.shape.toggled.connect(self.show_as_sheet)
        self.count = ElidedLabel()
        self.count.setProperty("role", "soft")
        self.count.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        row.addWidget(self.count, 1)
        row.addSpacing(tokens.GAP)
        row.addWidget(self.shape)
        return bar

    def _dress_table(self) -> None:
        table = self.table
        table.setAccessibleName("Files of the case")
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        table.setShowGrid(False)
        table.setTabKeyNavigation(False)
        table.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        table.verticalHeader().hide()
        table.verticalHeader().setDefaultSectionSize(tokens.ROW_HEIGHT)
        table.verticalHeader().setMinimumSectionSize(20)
        header = table.horizontalHeader()
        header.setSectionsClickable(True)
        header.setSortIndicatorShown(True)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        header.setHighlightSections(False)
        header.setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        header.sortIndicatorChanged.connect(self._model.sort)
        for column, width in (
            (THUMB, tokens.THUMB_WIDTH),
            (NAME, 300),
            (SCORE, 90),
            (VERDICT, 112),
            (FORMAT, 78),
            (SIZE, 88),
        ):
            table.setColumnWidth(column, width if column == THUMB else tokens.scaled(width))
        header.setSectionResizeMode(STRIP, QHeaderView.ResizeMode.Stretch)
        table.selectionModel().currentRowChanged.connect(self._unfold)
        table.selectionModel().selectionChanged.connect(self._say_count)
        table.doubleClicked.connect(lambda _: self.take_to_bench())
        table.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.table and event.type() == QEvent.Type.Resize:
            self._fit_columns()
        if watched is self.table and isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() == Qt.Key.Key_Space:
                self._toggle_fold()
                return True
        return super().eventFilter(watched, event)

    def _fit_columns(self) -> None:
        """In a narrow window the strip keeps its room: the name gives way, then the format."""
        width = self.table.viewport().width()
        usual = tokens.scaled(300)
        self.table.setColumnHidden(FORMAT, width < 3.4 * usual)
        fixed = sum(self.table.columnWidth(c) for c in (THUMB, SCORE, VERDICT, SIZE))
        spare = width - fixed - (0 if self.table.isColumnHidden(FORMAT) else self.table.columnWidth(FORMAT))
        self.table.setColumnWidth(NAME, max(usual // 2, min(usual, spare // 2)))

    def _unfold(self, current: QModelIndex, previous: QModelIndex = QModelIndex()) -> None:
        """The current row is tall, all others as usual."""
        header = self.table.verticalHeader()
        if 0 <= self.delegate.open_row < self._model.rowCount():
            header.resizeSection(self.delegate.open_row, tokens.ROW_HEIGHT)
        self.delegate.open_row = current.row() if current.isValid() else -1
        if current.isValid():
            header.resizeSection(current.row(), tokens.OPEN_ROW_HEIGHT)
            self.table.scrollTo(current)

    def show_as_sheet(self, on: bool) -> None:
        """Pictures instead of rows, or back; the current file stays in sight."""
        self.as_sheet = on
        self.shape.setChecked(on)
        self.shape.setText("As rows" if on else "As pictures")
        self._show_counts()
        shown = self.files_view()
        shown.setFocus()
        if shown.currentIndex().isValid():
            shown.scrollTo(shown.currentIndex())

    def files_view(self) -> QAbstractItemView:
        """The rows or the contact sheet, whichever is shown."""
        return self.sheet if self.as_sheet else self.table

    def _toggle_fold(self) -> None:
        current = self.table.currentIndex()
        if self.delegate.open_row == current.row():
            self._unfold(QModelIndex())
            self.table.viewport().update()
        else:
            self._unfold(current)

    def take_to_bench(self) -> None:
        number = self._model.number_at(self.table.currentIndex().row())
        if number is not None:
            self.to_bench.emit(number)

    def selected_numbers(self) -> list[int]:
        """The files chosen by hand, in shown order."""
        rows = sorted({i.row() for i in self.table.selectionModel().selectedRows()})
        return [n for r in rows if (n := self._model.number_at(r)) is not None]

    def invert(self) -> None:
        """Chooses all shown files that are not chosen, and only those."""
        chosen = {i.row() for i in self.table.selectionModel().selectedRows()}
        selection, model = QItemSelection(), self._model
        begin: int | None = None
        for row in range(model.rowCount() + 1):
            free = row < model.rowCount() and row not in chosen
            if free and begin is None:
                begin = row
            elif not free and begin is not None:
                selection.select(model.index(begin, 0), model.index(row - 1, model.columnCount() - 1))
                begin = None
        self.table.selectionModel().select(selection, QItemSelectionModel.SelectionFlag.ClearAndSelect)

    def step(self, by: int) -> int | None:
        """The file ``by`` rows on from the current one, which becomes the current one."""
        row = self.table.currentIndex().row() + by
        number = self._model.number_at(row)
        if number is not None:
            self.table.selectRow(row)
        return number

    def point_at(self, number: int) -> None:
        row = self._model.place_of(number)
        if row >= 0:
            self.table.selectRow(row)

    def show_everything(self) -> None:
        self.name_edit.clear()
        self.horizon.set_range(0, 100)
        self._model.clear_filter()

    def set_theme(self, theme: Theme) -> None:
        self.horizon.set_theme(theme)
        self.delegate.theme = self.sheet.theme = theme
        self.table.viewport().update()
        self.sheet.viewport().update()

    def _show_counts(self) -> None:
        model, counts, f = self._model, self._model.counts(), self._model.filter
        total = model.total()
        self.table.setVisible(total > 0 and not self.as_sheet)
        self.sheet.setVisible(total > 0 and self.as_sheet)
        self.empty.setVisible(total == 0)
        self.horizon.set_counts(model.horizon())
        self._fill(
            self.kind_word,
            "files of all kinds" if f.kind is None else f"{f.kind.value} files",
            "kind",
            [
                (None, "all kinds", total),
                *((k, k.value, counts["kind"][k]) for k in Kind if counts["kind"][k]),
            ],
        )
        self._fill(
            self.format_word,
            f.format or "any format",
            "format",
            [("", "any format", total), *((n, n, c) for n, c in sorted(counts["format"].items()))],
        )
        self._fill(
            self.verdict_word,
            "in any state" if f.verdict is None else f.verdict.value,
            "verdict",
            [
                (None, "in any state", total),
                *((v, v.value, counts["verdict"][v]) for v in Verdict if counts["verdict"][v]),
            ],
        )
        narrowed = (f.low, f.high) != (0.0, 100.0)
        self.score_word.setText(f"with a score from {f.low:.0f} to {f.high:.0f}" if narrowed else "")
        self.clear.setVisible(not f.is_open)
        self._say_count()

    def _say_count(self) -> None:
        """How many files are shown and chosen, and their size."""
        model = self._model
        words = [f"{model.rowCount():,} of {model.total():,} files, {human_size(model.shown_bytes())}"]
        if model.without_score:
            words.append(f"{model.without_score:,} without a score are kept apart")
        selection = self.table.selectionModel().selection()
        ranges = [(r.top(), r.bottom()) for k in range(selection.count()) if (r := selection.at(k)).left() == 0]
        chosen = sum(bottom - top + 1 for top, bottom in ranges)
        if chosen > 1:
            words.append(f"{chosen:,} chosen, {human_size(sum(model.shown_bytes(*r) for r in ranges))}")
        self.count.setText(" · ".join(words))

    def _fill(self, button: WordButton, text: str, key: str, options: list[tuple[object, str, int]]) -> None:
        button.setText(text)
        menu = button.menu()
        if menu.isVisible():
            return
        menu.clear()
        for value, words, count in options:
            menu.addAction(f"{words}  ({count:,})").triggered.connect(
                lambda _=False, v=value: self._model.set_filter(**{key: v})
            )
