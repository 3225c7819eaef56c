"""The case's files as a Qt model: all rows held as columns, the shown ones an index over them."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterable, Sequence
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt, QTimer, Signal
from PySide6.QtGui import QImage

from jugal.app.bridge.thumbs import ThumbLoader
from jugal.app.widgets.horizon import BINS
from jugal.app.widgets.strip import in_words
from jugal.case.catalog import Catalog, Facet, Filter, Shown, SortKey
from jugal.case.store import Case, FileRow
from jugal.model.finding import Finding
from jugal.model.result import RepairPlan, Verdict
from jugal.model.strip import StripSpan

COLUMNS = ("", "File", "Strip", "Score", "Verdict", "Format", "Size")
THUMB, NAME, STRIP, SCORE, VERDICT, FORMAT, SIZE = range(7)
RowRole = Qt.ItemDataRole.UserRole + 1
StripRole = Qt.ItemDataRole.UserRole + 2
ThumbRole = Qt.ItemDataRole.UserRole + 3
DetailRole = Qt.ItemDataRole.UserRole + 4
_Held = TypeVar("_Held")
Index = QModelIndex | QPersistentModelIndex
_KEY_OF = {
    NAME: SortKey.NAME, SCORE: SortKey.SCORE, VERDICT: SortKey.VERDICT, FORMAT: SortKey.FORMAT, SIZE: SortKey.SIZE,
}  # fmt: skip
_CACHE = 600
#: Small pictures held, some ten screens of the contact sheet.
_PICTURES = 360
_AHEAD = 30
_TOGETHER_MS = 60
#: Rows that are read while a case is opened, some screens full; of the rest as many are taken in between two turns of
#: the event loop.
_FIRST = 300
CHUNK = 3000


def _used(cache: OrderedDict[int, _Held], number: int) -> _Held:
    """What is held for a file; what is shown now is given up last, else a screen could push itself out."""
    cache.move_to_end(number)
    return cache[number]


class FilesModel(QAbstractTableModel):
    """Rows of a case. ``changed`` tells that counts or the shown rows are others."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._case: Case | None = None
        self.catalog = Catalog()
        self._filter = Filter()
        self._result = Shown(np.empty(0, np.int64))
        self._shown: NDArray[np.int64] = self._result.numbers
        self._where: NDArray[np.int64] | None = None
        self._keys: tuple[tuple[SortKey, bool], ...] = ()
        self._strips: OrderedDict[int, tuple[StripSpan, ...]] = OrderedDict()
        self._thumbs: OrderedDict[int, QImage | None] = OrderedDict()
        self._details: OrderedDict[int, tuple[tuple[Finding, ...], tuple[RepairPlan, ...]]] = OrderedDict()
        self._loader: ThumbLoader | None = None
        self._asked: set[int] = set()
        self._fresh: set[int] = set()
        self._came = QTimer(self)
        self._came.setSingleShot(True)
        self._came.setInterval(_TOGETHER_MS)
        self._came.timeout.connect(self._show_thumbs)

    # Content

    def set_case(self, case: Case | None) -> int:
        """Shows another case: its first rows at once. Returns the number after which ``take_rows`` goes on, 0 at the end."""
        self.beginResetModel()
        self._case = case
        self.close()
        self._loader = ThumbLoader(case.path) if case else None
        if self._loader is not None:
            self._loader.ready.connect(self._thumb_came)
        self.catalog = Catalog()
        rows = case.some_files(0, _FIRST) if case else []
        self.catalog.take_in(rows)
        for cache in (self._strips, self._thumbs, self._details):
            cache.clear()
        self._asked.clear()
        self._fresh.clear()
        self._result = self.catalog.select(self._filter)
        self._shown, self._where = self.catalog.order(self._result.numbers, self._keys), None
        self.endResetModel()
        self.changed.emit()
        return rows[-1].id if len(rows) == _FIRST else 0

    def close(self) -> None:
        """Ends the thread that reads small pictures."""
        if self._loader is not None:
            self._loader.close()
            self._loader = None

    def take_in(self, numbers: Sequence[int]) -> None:
        """Rows that are new or changed in the case."""
        if self._case is None or not numbers:
            return
        rows: list[FileRow] = []
        for at in range(0, len(numbers), 500):
            rows += self._case.rows(numbers[at : at + 500])
        for row in rows:
            for cache in (self._strips, self._thumbs, self._details):
                cache.pop(row.id, None)
        self.take_rows(rows)

    def take_rows(self, rows: list[FileRow]) -> None:
        """Adds rows or puts them in place of older ones.

        New rows at the end come in as insertions where nothing else moves; else everything is laid out anew.
        """
        self.catalog.take_in(rows)
        before = self._shown
        self._result = self.catalog.select(self._filter)
        after = self.catalog.order(self._result.numbers, self._keys)
        if after.size >= before.size and np.array_equal(after[: before.size], before):
            if after.size > before.size:
                self.beginInsertRows(QModelIndex(), before.size, after.size - 1)
                self._shown, self._where = after, None
                self.endInsertRows()
            if before.size:
                self.dataChanged.emit(self.index(0, 0), self.index(int(before.size) - 1, len(COLUMNS) - 1))
        else:
            self._relay(after)
        self.changed.emit()

    def _relay(self, after: NDArray[np.int64]) -> None:
        self.layoutAboutToBeChanged.emit()
        held = [(index, int(self._shown[index.row()])) for index in self.persistentIndexList()]
        self._shown, self._where = after, None
        place = np.full(len(self.catalog), -1, np.int64)
        place[after] = np.arange(after.size)
        # One call for all: an index at a time takes seconds where thousands of rows are chosen.
        to = [self.index(int(place[at]), index.column()) if place[at] >= 0 else QModelIndex() for index, at in held]
        self.changePersistentIndexList([index for index, _ in held], to)
        self.layoutChanged.emit()

    # Filter and sort

    @property
    def filter(self) -> Filter:
        return self._filter

    def set_filter(self, wanted: Filter) -> None:
        """Shows what the filter lets through."""
        if wanted == self._filter:
            return
        self._filter = wanted
        self._result = self.catalog.select(wanted)
        self._relay(self.catalog.order(self._result.numbers, self._keys))
        self.changed.emit()

    @property
    def kept_apart(self) -> tuple[int, str]:
        """How many files lack what the filter asks for, and what that is."""
        return self._result.lacking, self._result.lacking_words

    @property
    def problem(self) -> str:
        """What is wrong with the query, empty where it was understood."""
        return self._result.problem

    @property
    def keys(self) -> tuple[tuple[SortKey, bool], ...]:
        """The order: keys with whether they run downwards, the first first."""
        return self._keys

    def set_keys(self, keys: Sequence[tuple[SortKey, bool]]) -> None:
        """Puts the rows in the order of ``keys``; none is as found."""
        self._keys = tuple(keys)
        self._relay(self.catalog.order(self._result.numbers, self._keys))
        self.changed.emit()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        """By a column; what was the first key becomes the second."""
        key = _KEY_OF.get(column)
        if key is None:
            self.set_keys(())
            return
        older = next((k for k in self._keys if k[0] is not key), None)
        self.set_keys(((key, order == Qt.SortOrder.DescendingOrder), *([older] if older else [])))

    def counts(self, facets: Sequence[Facet] = tuple(Facet)) -> dict[Facet, dict[str, int]]:
        """How many files each value of these facets would show, the rest of the filter holding."""
        return self.catalog.counts(self._filter, facets)

    def horizon(self, of_bytes: bool = False) -> dict[Verdict, NDArray[np.float64]]:
        """Per verdict the number of files (or bytes) in each class of score, the rest of the filter holding."""
        return self.catalog.weights(self._filter, of_bytes, BINS)

    def total(self) -> int:
        return len(self.catalog)

    def shown_numbers(self) -> list[int]:
        return [self.catalog.rows[i].id for i in self._shown]

    def shown_bytes(self, top: int = 0, bottom: int | None = None) -> int:
        """Bytes of the shown files from row ``top`` to ``bottom``, both among them."""
        part = self._shown[top : None if bottom is None else bottom + 1]
        return int(self.catalog.column("bytes")[part].sum())

    def all_rows(self) -> list[FileRow]:
        return self.catalog.rows

    def row_at(self, row: int) -> FileRow | None:
        """What is shown in a row; for painting, which would lose half its time on the way through roles."""
        return self.catalog.rows[self._shown[row]] if 0 <= row < self._shown.size else None

    def strip_at(self, row: int) -> tuple[StripSpan, ...]:
        """The strip of a shown row."""
        number = self.number_at(row)
        return self._strip(number) if number is not None else ()

    def thumb_at(self, row: int) -> QImage | None:
        """The small picture of a shown row, None while it is being read."""
        number = self.number_at(row)
        return self._thumb(number) if number is not None else None

    def read_ahead(self, rows: Iterable[int]) -> None:
        """Has the small pictures of shown rows read that will be wanted soon."""
        for row in rows:
            self.thumb_at(row)

    def number_at(self, row: int) -> int | None:
        return self.catalog.rows[self._shown[row]].id if 0 <= row < self._shown.size else None

    def place_of(self, number: int) -> int:
        """The shown row of a file, -1 where it is not shown."""
        at = self.catalog.place(number)
        if at is None:
            return -1
        if self._where is None or at >= self._where.size:
            self._where = np.full(len(self.catalog), -1, np.int64)
            self._where[self._shown] = np.arange(self._shown.size)
        return int(self._where[at])

    # Qt

    def rowCount(self, parent: Index = QModelIndex()) -> int:
        return 0 if parent.isValid() else int(self._shown.size)

    def columnCount(self, parent: Index = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return COLUMNS[section]
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if not index.isValid() or index.row() >= self._shown.size:
            return None
        row = self.catalog.rows[self._shown[index.row()]]
        if role == RowRole:
            return row
        if role == StripRole:
            return self._strip(row.id)
        if role == ThumbRole:
            return self._thumb(row.id)
        if role == DetailRole:
            return self._detail(row.id)
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return self._text(row, index.column())
        if role == Qt.ItemDataRole.AccessibleDescriptionRole and index.column() == STRIP:
            return in_words(self._strip(row.id))
        if role == Qt.ItemDataRole.ToolTipRole:
            return f"{row.path}\n{row.headline}"
        return None

    def _text(self, row: FileRow, column: int) -> str:
        if column == NAME:
            return row.name
        if column == SCORE:
            return "–" if row.score is None else f"{row.score:.0f}"
        if column == VERDICT:
            return "not examined" if row.error else row.verdict.value
        if column == FORMAT:
            return row.format
        if column == SIZE:
            return f"{row.size:,}"
        return ""

    def _strip(self, number: int) -> tuple[StripSpan, ...]:
        """A file's strip. Those of the rows below it come with it, since they are asked for next."""
        if number not in self._strips:
            row = max(0, self.place_of(number))
            wanted = {number, *(self.catalog.rows[i].id for i in self._shown[row : row + _AHEAD])} - self._strips.keys()
            self._strips.update(dict.fromkeys(wanted, ()))
            self._strips.update(self._case.strips(sorted(wanted)) if self._case else {})
            while len(self._strips) > _CACHE:
                self._strips.popitem(last=False)
        return _used(self._strips, number)

    def _thumb(self, number: int) -> QImage | None:
        """The small picture, or None while it is being read; the row is then drawn again when it has come."""
        if number not in self._thumbs and number not in self._asked and self._loader is not None:
            self._asked.add(number)
            self._asked.difference_update(self._loader.ask(number))
        return _used(self._thumbs, number) if number in self._thumbs else None

    def _thumb_came(self, loader: ThumbLoader, number: int, image: QImage | None) -> None:
        if loader is not self._loader:
            return  # of the case that was open before
        self._asked.discard(number)
        self._thumbs[number] = image
        self._fresh.add(number)
        if len(self._thumbs) > _PICTURES:
            self._thumbs.popitem(last=False)
        if not self._came.isActive():
            self._came.start()

    def _show_thumbs(self) -> None:
        """The rows are drawn again once for all pictures that came meanwhile."""
        rows = [row for number in self._fresh if (row := self.place_of(number)) >= 0]
        self._fresh.clear()
        if rows:
            self.dataChanged.emit(self.index(min(rows), THUMB), self.index(max(rows), NAME), [ThumbRole])

    def _detail(self, number: int) -> tuple[tuple[Finding, ...], tuple[RepairPlan, ...]]:
        if number not in self._details:
            examination = self._case.examination(number) if self._case else None
            self._details[number] = (examination.findings, examination.repairs) if examination else ((), ())
            if len(self._details) > _CACHE:
                self._details.popitem(last=False)
        return _used(self._details, number)
