"""The case's files as a Qt model: all rows held as columns, the shown ones an index over them."""

from __future__ import annotations

from collections import Counter, OrderedDict
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QImage

from jugal.app.widgets.horizon import BINS
from jugal.app.widgets.strip import in_words
from jugal.case.store import Case, FileRow
from jugal.model.finding import Finding
from jugal.model.result import Kind, RepairPlan, Verdict
from jugal.model.strip import StripSpan

COLUMNS = ("", "File", "Strip", "Score", "Verdict", "Format", "Size")
THUMB, NAME, STRIP, SCORE, VERDICT, FORMAT, SIZE = range(7)
RowRole = Qt.ItemDataRole.UserRole + 1
StripRole = Qt.ItemDataRole.UserRole + 2
ThumbRole = Qt.ItemDataRole.UserRole + 3
DetailRole = Qt.ItemDataRole.UserRole + 4
Index = QModelIndex | QPersistentModelIndex
_VERDICTS = list(Verdict)
_KINDS = list(Kind)
_CACHE = 600


@dataclass(frozen=True, slots=True)
class Filter:
    """What is shown. Files without a score pass unless the score range is narrowed; they are counted apart then."""

    text: str = ""
    kind: Kind | None = None
    format: str = ""
    verdict: Verdict | None = None
    low: float = 0.0
    high: float = 100.0

    @property
    def is_open(self) -> bool:
        return self == Filter()


class FilesModel(QAbstractTableModel):
    """Rows of a case. ``changed`` tells that counts or the shown rows are others."""

    changed = Signal()

    def __init__(self, parent: object = None) -> None:
        super().__init__()
        self._case: Case | None = None
        self._rows: list[FileRow] = []
        self._at: dict[int, int] = {}
        self._names: list[str] = []
        self._columns: dict[str, NDArray] = {}
        self._shown: NDArray[np.int64] = np.empty(0, np.int64)
        self._filter = Filter()
        self._sort: tuple[int, bool] | None = None
        self._strips: OrderedDict[int, tuple[StripSpan, ...]] = OrderedDict()
        self._thumbs: OrderedDict[int, QImage | None] = OrderedDict()
        self._details: OrderedDict[int, tuple[tuple[Finding, ...], tuple[RepairPlan, ...]]] = OrderedDict()
        self.without_score = 0
        self._rebuild()

    # Content

    def set_case(self, case: Case | None) -> None:
        """Shows another case."""
        self.beginResetModel()
        self._case = case
        self._rows = list(case.files()) if case else []
        self._at = {row.id: i for i, row in enumerate(self._rows)}
        self._names = [row.path.rsplit("/", 1)[-1].casefold() for row in self._rows]
        self._forget()
        self._rebuild()
        self.endResetModel()
        self.changed.emit()

    def take_in(self, numbers: tuple[int, ...]) -> None:
        """Rows that are new or changed in the case."""
        if self._case is None or not numbers:
            return
        for at in range(0, len(numbers), 500):
            for row in self._case.rows(numbers[at : at + 500]):
                place = self._at.get(row.id)
                if place is None:
                    self._at[row.id] = len(self._rows)
                    self._rows.append(row)
                    self._names.append(row.path.rsplit("/", 1)[-1].casefold())
                else:
                    self._rows[place] = row
                for cache in (self._strips, self._thumbs, self._details):
                    cache.pop(row.id, None)
        self._reshow()

    def _forget(self) -> None:
        self._strips.clear()
        self._thumbs.clear()
        self._details.clear()

    def _rebuild(self) -> None:
        rows = self._rows
        self._columns = {
            "score": np.array([np.nan if r.score is None else r.score for r in rows], np.float64),
            "size": np.array([r.size for r in rows], np.int64),
            "kind": np.array([_KINDS.index(r.kind) for r in rows], np.int8),
            "verdict": np.array([_VERDICTS.index(r.verdict) for r in rows], np.int8),
            "format": np.array([r.format for r in rows], object),
        }
        self._shown = self._select()

    def _select(self) -> NDArray[np.int64]:
        f, c = self._filter, self._columns
        keep = np.ones(len(self._rows), bool)
        if f.kind is not None:
            keep &= c["kind"] == _KINDS.index(f.kind)
        if f.verdict is not None:
            keep &= c["verdict"] == _VERDICTS.index(f.verdict)
        if f.format:
            keep &= c["format"] == f.format
        if f.text:
            wanted = f.text.casefold().split()
            keep &= np.array([all(w in name for w in wanted) for name in self._names], bool)
        self.without_score = 0
        if (f.low, f.high) != (0.0, 100.0):
            unscored = np.isnan(c["score"])
            self.without_score = int((keep & unscored).sum())
            keep &= ~unscored & (c["score"] >= f.low) & (c["score"] <= f.high)
        shown = np.flatnonzero(keep)
        if self._sort is not None and shown.size:
            column, descending = self._sort
            order = self._order(column, shown)
            shown = shown[order[::-1] if descending else order]
        return shown

    def _order(self, column: int, shown: NDArray[np.int64]) -> NDArray[np.int64]:
        if column == SCORE:
            return np.argsort(np.nan_to_num(self._columns["score"][shown], nan=101.0), kind="stable")
        if column in (SIZE, VERDICT):
            return np.argsort(self._columns["size" if column == SIZE else "verdict"][shown], kind="stable")
        if column == FORMAT:
            return np.argsort(self._columns["format"][shown].astype(str), kind="stable")
        names = np.array([self._names[i] for i in shown], object)
        return np.argsort(names.astype(str), kind="stable")

    def _reshow(self) -> None:
        """New rows at the end come in as insertions where nothing else moves; else everything is laid out anew."""
        before = self._shown
        self._rebuild()
        after = self._shown
        self._shown = before
        if after.size >= before.size and np.array_equal(after[: before.size], before):
            if after.size > before.size:
                self.beginInsertRows(QModelIndex(), before.size, after.size - 1)
                self._shown = after
                self.endInsertRows()
            if before.size:
                self.dataChanged.emit(self.index(0, 0), self.index(int(before.size) - 1, len(COLUMNS) - 1))
        else:
            self._relay(after)
        self.changed.emit()

    def _relay(self, after: NDArray[np.int64]) -> None:
        self.layoutAboutToBeChanged.emit()
        old = [(index, self.number_at(index.row())) for index in self.persistentIndexList()]
        self._shown = after
        place = {self._rows[i].id: at for at, i in enumerate(after)}
        for index, number in old:
            to = place.get(number if number is not None else -1)
            self.changePersistentIndex(index, self.index(to, index.column()) if to is not None else QModelIndex())
        self.layoutChanged.emit()

    # Filter and sort

    @property
    def filter(self) -> Filter:
        return self._filter

    def set_filter(self, **changes: object) -> None:
        """Changes parts of the filter."""
        self._filter = replace(self._filter, **changes)  # type: ignore[arg-type]
        self._relay(self._select())
        self.changed.emit()

    def clear_filter(self) -> None:
        self._filter = Filter()
        self._relay(self._select())
        self.changed.emit()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self._sort = (column, order == Qt.SortOrder.DescendingOrder) if column >= 0 else None
        self._relay(self._select())
        self.changed.emit()

    # Counts

    def counts(self) -> dict[str, Counter]:
        """How many files there are of each kind, format and verdict, whatever is shown."""
        return {
            "kind": Counter(r.kind for r in self._rows),
            "format": Counter(r.format for r in self._rows),
            "verdict": Counter(r.verdict for r in self._rows),
        }

    def horizon(self) -> dict[Verdict, NDArray[np.float64]]:
        """Per verdict the number of files in each class of score, for the kind and format shown."""
        out: dict[Verdict, NDArray[np.float64]] = {}
        score, verdict = self._columns["score"], self._columns["verdict"]
        known = ~np.isnan(score)
        for v in (Verdict.INTACT, Verdict.REPAIRABLE, Verdict.DAMAGED, Verdict.UNRECOVERABLE):
            values = score[known & (verdict == _VERDICTS.index(v))]
            out[v] = np.bincount((values / 2).astype(np.int64).clip(0, BINS - 1), minlength=BINS).astype(np.float64)
        return out

    def total(self) -> int:
        return len(self._rows)

    def shown_numbers(self) -> list[int]:
        return [self._rows[i].id for i in self._shown]

    def shown_bytes(self, top: int = 0, bottom: int | None = None) -> int:
        """Bytes of the shown files from row ``top`` to ``bottom``, both among them."""
        part = self._shown[top : None if bottom is None else bottom + 1]
        return int(self._columns["size"][part].sum()) if self._rows else 0

    def all_rows(self) -> list[FileRow]:
        return self._rows

    def number_at(self, row: int) -> int | None:
        return self._rows[self._shown[row]].id if 0 <= row < self._shown.size else None

    def place_of(self, number: int) -> int:
        """The shown row of a file, -1 where it is not shown."""
        at = self._at.get(number)
        if at is None:
            return -1
        hits = np.flatnonzero(self._shown == at)
        return int(hits[0]) if hits.size else -1

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
        row = self._rows[self._shown[index.row()]]
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
            return row.path.rsplit("/", 1)[-1].encode("utf-8", "replace").decode()
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
        if number not in self._strips:
            self._strips[number] = self._case.strip(number)[0] if self._case else ()
            if len(self._strips) > _CACHE:
                self._strips.popitem(last=False)
        return self._strips[number]

    def _thumb(self, number: int) -> QImage | None:
        if number not in self._thumbs:
            jpeg = self._case.thumbnail(number) if self._case else None
            self._thumbs[number] = QImage.fromData(jpeg) if jpeg else None
            if len(self._thumbs) > _CACHE:
                self._thumbs.popitem(last=False)
        return self._thumbs[number]

    def _detail(self, number: int) -> tuple[tuple[Finding, ...], tuple[RepairPlan, ...]]:
        if number not in self._details:
            examination = self._case.examination(number) if self._case else None
            self._details[number] = (examination.findings, examination.repairs) if examination else ((), ())
            if len(self._details) > _CACHE:
                self._details.popitem(last=False)
        return self._details[number]
