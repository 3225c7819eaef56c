"""Triage: the case's files as rows with their strips, the horizon above them, the filter as a sentence."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from msgspec.structs import replace
from PySide6.QtCore import QEvent, QItemSelection, QItemSelectionModel, QModelIndex, QObject, QRect, Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QInputDialog,
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
from jugal.app.models.files import FORMAT, NAME, SCORE, SIZE, STRIP, THUMB, VERDICT, DetailRole
from jugal.app.style import tokens
from jugal.app.style.tokens import Theme
from jugal.app.views.batch import BatchBand
from jugal.app.views.intake import label
from jugal.app.widgets.facets import FacetBand
from jugal.app.widgets.flow import FlowLayout
from jugal.app.widgets.horizon import Horizon
from jugal.app.widgets.rows import RowDelegate
from jugal.app.widgets.sheet import ContactSheet
from jugal.case.catalog import Facet, Filter, SortKey, filter_text, parse_filter, phrase
from jugal.model.words import human_size

_WIDTHS = ((NAME, 300), (SCORE, 90), (VERDICT, 112), (FORMAT, 78), (SIZE, 88))
_DOWNWARDS = (SortKey.SCORE, SortKey.GAIN, SortKey.SIZE, SortKey.PIXELS)
QUERY_HELP = (
    "Words must stand in the name, the folder, the camera, the date or the finding.\n"
    "name:  folder:  kind:  format:  verdict:  damage:  cause:  camera:  copies:  hold a text (quotes for several words).\n"
    "score  attainable  size  megapixels  taken  are compared: score<50  size>2MB  taken:2026-05  score:20..40\n"
    "A minus in front turns it around: -format:png"
)
#: Formats whose video is followed bit by bit.
_FOLLOWED = frozenset({"mp4", "mov", "3gp", "heic"})
#: Filters that every case has.
READY_FILTERS = {
    "Worth repairing": Filter(chosen={"verdict": ("repairable",)}),
    "Nothing left of them": Filter(chosen={"verdict": ("unrecoverable",)}),
    "Only the best copies": Filter(query='-copies:"identical to" -copies:"same picture as"'),
    "Previews of larger pictures": Filter(chosen={"picture": ("preview of a larger picture",)}),
}


class WordButton(QToolButton):
    """A word in the filter sentence that opens a menu of what it may say."""

    def __init__(self, text: str, name: str) -> None:
        super().__init__()
        self.setText(text)
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
        self.horizon.brushed.connect(lambda low, high: self._narrow(low=low, high=high))
        layout.addWidget(self.horizon)
        layout.addWidget(self._sentence())
        self.band = FacetBand(theme)
        self.band.toggled.connect(lambda facet, value: self._model.set_filter(self._model.filter.toggled(facet, value)))
        self.band.wanted.connect(self._show_facet)
        self.band.hide()
        layout.addWidget(self.band)
        self.batch = BatchBand(session)
        layout.addWidget(self.batch)
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
        self.by_bytes = False
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
        self._model.layoutChanged.connect(self._refold)
        session.case_changed.connect(self._show_counts)
        self._show_counts()

    def _later(self) -> None:
        if not self._refresh.isActive():
            self._refresh.start()

    def _sentence(self) -> QWidget:
        bar = QFrame()
        row = QHBoxLayout(bar)
        row.setContentsMargins(tokens.MARGIN, 6, tokens.MARGIN, 6)
        row.setSpacing(tokens.GAP)
        words = QWidget()
        self.words = FlowLayout(words, 5)
        self.words.addWidget(QLabel("Files"))
        self.tokens: list[QToolButton] = []
        self.find_edit = QLineEdit()
        self.find_edit.setPlaceholderText("words, or score<50, camera:…, -format:png")
        self.find_edit.setAccessibleName("Find by words or fields")
        self.find_edit.setToolTip(QUERY_HELP)
        self.find_edit.setFixedWidth(tokens.scaled(270))
        self.find_edit.textChanged.connect(lambda text: self._narrow(query=text))
        self.words.addWidget(self.find_edit)
        self.clear = QPushButton("Show everything")
        self.clear.clicked.connect(self.show_everything)
        self.words.addWidget(self.clear)
        self.first = QPushButton("")
        self.first.clicked.connect(lambda: self._session.examine_first(self._session.waiting(self.find_edit.text())))
        self.first.hide()
        self.words.addWidget(self.first)
        self.count = QLabel()
        self.count.setProperty("role", "soft")
        self.words.addWidget(self.count)
        row.addWidget(words, 1)
        self.narrow = QPushButton("Narrow by…")
        self.narrow.setCheckable(True)
        self.narrow.setAccessibleName("Narrow by kind, damage, camera and more")
        self.narrow.toggled.connect(self.show_facets)
        self.order_word = WordButton("Order", "Order of the files")
        self.order_word.menu().aboutToShow.connect(self._fill_order)
        self.saved_word = WordButton("Saved", "Saved filters")
        self.saved_word.menu().aboutToShow.connect(self._fill_saved)
        self.shape = QPushButton("As pictures")
        self.shape.setCheckable(True)
        self.shape.setAccessibleName("Show the files as pictures instead of rows")
        self.shape.toggled.connect(self.show_as_sheet)
        for control in (self.narrow, self.order_word, self.saved_word, self.shape):
            row.addWidget(control)
        return bar

    def _narrow(self, **changes: object) -> None:
        self._model.set_filter(replace(self._model.filter, **changes))

    def _show_tokens(self) -> None:
        """The filter as parts of a sentence, each to be taken away by pressing it."""
        f = self._model.filter
        parts: list[tuple[str, Filter]] = [
            (phrase(facet, f.values(facet)), f.without(facet)) for facet in Facet if f.values(facet)
        ]
        if f.scores_narrowed:
            parts.append((f"with a score from {f.low:.0f} to {f.high:.0f}", replace(f, low=0.0, high=100.0)))
        wanted = [words for words, _ in parts]
        if [t.property("words") for t in self.tokens] != wanted:
            for token in self.tokens:
                self.words.removeWidget(token)
                token.hide()
                token.deleteLater()
            self.tokens = []
            for at, (words, rest) in enumerate(parts):
                token = QToolButton()
                token.setText(f"{words}  ✕")
                token.setProperty("role", "token")
                token.setProperty("words", words)
                token.setAccessibleName(f"{words}; press to take this away")
                token.clicked.connect(lambda _=False, rest=rest: self._use(rest))
                self.words.insert(at + 1, token)
                self.tokens.append(token)
        else:
            for token, (_, rest) in zip(self.tokens, parts, strict=True):
                token.clicked.disconnect()
                token.clicked.connect(lambda _=False, rest=rest: self._use(rest))

    def _use(self, wanted: Filter) -> None:
        """Sets a whole filter, with the controls that show it."""
        self._model.set_filter(wanted)
        self.find_edit.blockSignals(True)
        self.find_edit.setText(wanted.query)
        self.find_edit.blockSignals(False)
        self.horizon.blockSignals(True)
        self.horizon.set_range(wanted.low, wanted.high)
        self.horizon.blockSignals(False)

    def show_facets(self, on: bool) -> None:
        """Opens or shuts the band of facets."""
        self.narrow.setChecked(on)
        self.band.setVisible(on)
        if on:
            self._show_facet()
            self.band.tabs.setFocus()
        else:
            self.files_view().setFocus()

    def _show_facet(self) -> None:
        if self.band.isVisible():
            facet = self.band.facet
            self.band.show_counts(self._model.filter, self._model.counts((facet,))[facet])

    def _fill_order(self) -> None:
        menu = self.order_word.menu()
        menu.clear()
        current = self._model.keys
        for key in SortKey:
            action = menu.addAction(key.value)
            action.setCheckable(True)
            action.setChecked((current[0][0] if current else SortKey.FOUND) is key)
            action.triggered.connect(lambda _=False, key=key: self.order_by(key))
        menu.addSeparator()
        turn = menu.addAction("The other way round")
        turn.triggered.connect(
            lambda: self._order((k, not down) if not i else (k, down) for i, (k, down) in enumerate(current))
        )

    def order_by(self, key: SortKey) -> None:
        """Makes ``key`` the first key; the one before becomes the second."""
        older = [k for k in self._model.keys[:1] if k[0] is not key]
        self._order([] if key is SortKey.FOUND else [(key, key in _DOWNWARDS), *older])

    def _order(self, keys: Iterable[tuple[SortKey, bool]]) -> None:
        header = self.table.horizontalHeader()
        header.blockSignals(True)
        header.setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        header.blockSignals(False)
        self._model.set_keys(tuple(keys))

    def _fill_saved(self) -> None:
        menu = self.saved_word.menu()
        menu.clear()
        for name, text in self._session.saved_filters().items():
            menu.addAction(name).triggered.connect(lambda _=False, text=text: self._use(parse_filter(text)))
        for name, wanted in READY_FILTERS.items():
            menu.addAction(name).triggered.connect(lambda _=False, wanted=wanted: self._use(wanted))
        menu.addSeparator()
        save = menu.addAction("Save this filter…")
        save.setEnabled(not self._model.filter.is_open)
        save.triggered.connect(self.ask_filter_name)
        forget = menu.addMenu("Forget")
        for name in self._session.saved_filters():
            forget.addAction(name).triggered.connect(lambda _=False, name=name: self._session.save_filter(name, ""))
        forget.setEnabled(bool(self._session.saved_filters()))

    def ask_filter_name(self) -> None:
        """Saves the filter in the case, under a name that is asked for."""
        if self._model.filter.is_open:
            return
        text = filter_text(self._model.filter)
        asking = QInputDialog(self)
        asking.setWindowTitle("Save this filter")
        asking.setLabelText("Its name:")
        asking.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        asking.textValueSelected.connect(
            lambda name: self._session.save_filter(name.strip(), text) if name.strip() else None
        )
        asking.setModal(False)
        asking.show()

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
        self._size_columns()
        header.setSectionResizeMode(STRIP, QHeaderView.ResizeMode.Stretch)
        table.selectionModel().currentRowChanged.connect(self._unfold)
        table.selectionModel().selectionChanged.connect(self._say_count)
        table.doubleClicked.connect(lambda _: self.take_to_bench())
        table.installEventFilter(self)
        # The table hears of its new size before its viewport has it.
        table.viewport().installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.table.viewport() and event.type() == QEvent.Type.Resize:
            self._fit_columns()
        if watched is self.table and isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() == Qt.Key.Key_Space:
                self._toggle_fold()
                return True
        return super().eventFilter(watched, event)

    def _size_columns(self) -> None:
        self.table.setColumnWidth(THUMB, tokens.THUMB_WIDTH)
        for column, width in _WIDTHS:
            self.table.setColumnWidth(column, tokens.scaled(width))

    def fit_to_type(self) -> None:
        """After the type has changed its size: rows and columns follow."""
        header = self.table.verticalHeader()
        header.setDefaultSectionSize(tokens.ROW_HEIGHT)
        if 0 <= self.delegate.open_row < self._model.rowCount():
            header.resizeSection(self.delegate.open_row, self._open_height(self.delegate.open_row))
        self._size_columns()
        self.find_edit.setFixedWidth(tokens.scaled(270))
        self._fit_columns()
        self.sheet.doItemsLayout()

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
            header.resizeSection(current.row(), self._open_height(current.row()))
            self.table.scrollTo(current)

    def _refold(self) -> None:
        """Rows have moved: the one that was tall may be another now."""
        header = self.table.verticalHeader()
        if 0 <= self.delegate.open_row < self._model.rowCount():
            header.resizeSection(self.delegate.open_row, tokens.ROW_HEIGHT)
        self.delegate.open_row = -1
        current = self.table.currentIndex()
        if current.isValid():
            self.delegate.open_row = current.row()
            header.resizeSection(current.row(), self._open_height(current.row()))

    def _open_height(self, row: int) -> int:
        """As much as the row's findings and repairs need, within bounds."""
        findings, plans = self._model.index(row, NAME).data(DetailRole) or ((), ())
        metrics = self.table.fontMetrics()
        box = QRect(0, 0, max(80, self.table.columnWidth(NAME) - 14), 1 << 15)
        told = (
            metrics.boundingRect(box, Qt.TextFlag.TextWordWrap, f"✕ {f.message}").height() + 3 for f in findings[:6]
        )
        left = metrics.height() + max(sum(told), metrics.height()) + 2 * tokens.GAP
        right = tokens.STRIP_HEIGHT + 40 + (min(3, len(plans)) + (2 if plans else 1)) * (metrics.height() + 4)
        return int(min(1.4 * tokens.OPEN_ROW_HEIGHT, max(tokens.ROW_HEIGHT + 20, left, right)))

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

    def weigh(self) -> None:
        """The horizon counts files or their bytes."""
        self.by_bytes = not self.by_bytes
        self.horizon.set_unit("bytes" if self.by_bytes else "files")
        self._show_counts()

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

    def follow_to_the_bit(self) -> None:
        """Has the chosen files that hold video or HEVC pictures examined again, every bit of them."""
        shown = {i.row() for i in self.table.selectionModel().selectedRows()}
        rows = [r for row in sorted(shown) if (r := self._model.row_at(row)) is not None]
        paths = [r.path for r in rows if r.format in _FOLLOWED]
        if not paths:
            self._session.said.emit("Choose clips first: MP4, MOV and their kin are followed, and HEIC.")
        elif count := self._session.examine_to_the_bit(paths):
            self._session.said.emit(f"Following {count:,} {'file' if count == 1 else 'files'} to the last bit …")

    def invert(self) -> None:
        """Chooses all shown files that are not chosen, and only those."""
        chosen = {i.row() for i in self.table.selectionModel().selectedRows()}
        self._choose(lambda row: row not in chosen)

    def choose_alike(self, what: str) -> None:
        """Chooses the shown files that share the current one's "folder", "format" or content ("copies")."""
        current = self._model.row_at(self.table.currentIndex().row())
        if current is None:
            return
        key = {
            "folder": lambda r: r.path.rpartition("/")[0],
            "format": lambda r: r.format,
            "copies": lambda r: r.likeness or -r.id,
        }[what]
        wanted = key(current)
        self._choose(lambda row: (r := self._model.row_at(row)) is not None and key(r) == wanted)

    def _choose(self, wanted: Callable[[int], bool]) -> None:
        """Chooses the shown rows for which ``wanted`` holds, in runs, and no others; the current row stays."""
        selection, model = QItemSelection(), self._model
        begin: int | None = None
        for row in range(model.rowCount() + 1):
            inside = row < model.rowCount() and wanted(row)
            if inside and begin is None:
                begin = row
            elif not inside and begin is not None:
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
        self._use(Filter())

    def set_theme(self, theme: Theme) -> None:
        self.horizon.set_theme(theme)
        self.band.set_theme(theme)
        self.delegate.theme = self.sheet.theme = theme
        self.table.viewport().update()
        self.sheet.viewport().update()

    def _show_counts(self) -> None:
        model, f = self._model, self._model.filter
        total = model.total()
        self.table.setVisible(total > 0 and not self.as_sheet)
        self.sheet.setVisible(total > 0 and self.as_sheet)
        self.empty.setVisible(total == 0)
        self.horizon.set_counts(model.horizon(self.by_bytes))
        self._show_tokens()
        self._show_facet()
        waiting = len(self._session.waiting(f.query)) if f.query else 0
        self.first.setVisible(waiting > 0)
        self.first.setText(f"Examine the {waiting:,} waiting ones of that name first")
        self.clear.setVisible(not f.is_open)
        self._say_count()

    def _say_count(self) -> None:
        """How many files are shown and chosen, and their size."""
        model = self._model
        words = [f"{model.rowCount():,} of {model.total():,} files, {human_size(model.shown_bytes())}"]
        apart, why = model.kept_apart
        if apart:
            words.append(f"{apart:,} with {why} kept apart")
        if model.problem:
            words = [model.problem]
        selection = self.table.selectionModel().selection()
        ranges = [(r.top(), r.bottom()) for k in range(selection.count()) if (r := selection.at(k)).left() == 0]
        chosen = sum(bottom - top + 1 for top, bottom in ranges)
        if chosen > 1:
            words.append(f"{chosen:,} chosen, {human_size(sum(model.shown_bytes(*r) for r in ranges))}")
        self.count.setText(" · ".join(words))
