"""Intake: what to examine, what is protected, what may lend, where results go, and the earlier cases."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from PySide6.QtCore import QDate, QDateTime, QSettings, QStorageInfo, Qt, QTimer, Signal
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QDateEdit,
    QFileDialog,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QScrollArea,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from jugal.app.bridge.jobs import Job
from jugal.app.controllers.session import Session
from jugal.app.style import tokens
from jugal.app.views.waiting import WaitingCard
from jugal.app.widgets.flow import FlowLayout
from jugal.case.peek import CaseState, peek
from jugal.engine.listing import Amount, Listing
from jugal.engine.run import Choice
from jugal.model.result import Kind
from jugal.model.words import human_size

_KIND_WORDS = {
    Kind.PHOTO: "Photos", Kind.VIDEO: "Clips", Kind.AUDIO: "Sound", Kind.DOCUMENT: "Documents", Kind.ARCHIVE: "Archives",
}  # fmt: skip
_MOST_RECENT = 12
_DAY_NS = 86_400 * 10**9


def label(text: str, role: str = "") -> QLabel:
    """A label with a role that the style knows."""
    made = QLabel(text)
    if role:
        made.setProperty("role", role)
    made.setWordWrap(True)
    return made


def _card(*parts: QWidget) -> tuple[QFrame, QVBoxLayout]:
    card = QFrame()
    card.setProperty("role", "card")
    box = QVBoxLayout(card)
    for part in parts:
        box.addWidget(part)
    return card, box


def _line(*parts: QWidget) -> FlowLayout:
    """Controls that read as one line, or as two where there is no room."""
    row = FlowLayout(spacing=6)
    for part in parts:
        row.addWidget(part)
    return row


def _amount(amount: Amount | None) -> str:
    return f"{amount.files:,} files, {human_size(amount.bytes)}" if amount is not None and amount.files else "none"


class IntakeView(QWidget):
    """Sources by dialog or by drop, what to take in of them, donors, the place of the results, earlier cases."""

    case_wanted = Signal(Path)

    def __init__(self, session: Session, settings: QSettings) -> None:
        super().__init__()
        self._session, self._settings = session, settings
        self._listing = Listing()
        self._peek_job: Job | None = None
        self.setAcceptDrops(True)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(tokens.MARGIN, tokens.MARGIN, tokens.MARGIN, tokens.MARGIN)
        layout.setSpacing(tokens.MARGIN)
        left = QVBoxLayout()
        left.setSpacing(tokens.MARGIN)
        left.addWidget(self._sources_card(), 3)
        self.cases_card = self._cases_card()
        self.waiting = WaitingCard(session)
        self.waiting.hide()
        left.addWidget(self.cases_card, 2)
        left.addWidget(self.waiting, 2)
        right = QVBoxLayout()
        right.setSpacing(tokens.MARGIN)
        right.addWidget(self._choice_card(), 1)
        right.addWidget(self._place_card())
        self.start = QPushButton("Examine")
        self.start.setProperty("role", "main")
        self.start.setMinimumHeight(tokens.scaled(38))
        self.start.clicked.connect(self._session.start_run)
        right.addWidget(self.start)
        layout.addLayout(left, 3)
        layout.addLayout(right, 2)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(120)
        self._later.timeout.connect(self._show_taken)
        session.sources_changed.connect(self._show_sources)
        session.sources_changed.connect(self.show_cases)
        session.case_changed.connect(self._case_changed)
        session.listed.connect(self._listed)
        session.run_told.connect(lambda state: self._show_waiting(not state.progress.finished))
        session.run_ended.connect(lambda _: self._show_waiting(False))

    def _sources_card(self) -> QWidget:
        card, box = _card(
            label("What shall be examined?", "title"),
            label(
                "Drop folders or files anywhere. They are opened for reading only; nothing is ever written there.",
                "soft",
            ),
        )
        self.list = QListWidget()
        self.list.setAccessibleName("Sources")
        self.list.setSelectionMode(QListWidget.SelectionMode.SingleSelection)
        box.addWidget(self.list, 1)
        self.empty = label("No source yet. Add the folder with the recovered files, then examine.", "soft")
        box.addWidget(self.empty)
        buttons = QHBoxLayout()
        self.add_folder = QPushButton("Add a folder…")
        self.add_files = QPushButton("Add files…")
        self.add_donors = QPushButton("Add donors…")
        self.add_donors.setToolTip("A folder of healthy files from the same devices; they lend headers and settings")
        self.remove = QPushButton("Take out")
        for button, call in (
            (self.add_folder, self.ask_folder),
            (self.add_files, self.ask_files),
            (self.add_donors, self.ask_donors),
            (self.remove, self.remove_current),
        ):
            button.clicked.connect(call)
            buttons.addWidget(button)
        buttons.addStretch(1)
        box.addLayout(buttons)
        return card

    def _cases_card(self) -> QWidget:
        card, box = _card(label("Earlier cases", "heading"))
        self.cases = QListWidget()
        self.cases.setAccessibleName("Earlier cases")
        self.cases.itemActivated.connect(self._open_listed)
        box.addWidget(self.cases, 1)
        row = QHBoxLayout()
        self.open_earlier = QPushButton("Open the chosen case")
        self.open_earlier.clicked.connect(lambda: self._open_listed(self.cases.currentItem()))
        row.addWidget(self.open_earlier)
        row.addStretch(1)
        box.addLayout(row)
        return card

    def _choice_card(self) -> QWidget:
        inner = QWidget()
        box = QVBoxLayout(inner)
        box.addWidget(label("Which files matter?", "heading"))
        box.addWidget(
            label("With no kind ticked, all are. Files whose names tell no kind are always taken in.", "soft")
        )
        grid = QGridLayout()
        self.kinds: dict[Kind, QCheckBox] = {}
        self.counts: dict[object, QLabel] = {}
        rows: list[tuple[object, QCheckBox]] = []
        for kind, words in _KIND_WORDS.items():
            self.kinds[kind] = QCheckBox(words)
            rows.append((kind, self.kinds[kind]))
        self.hidden, self.vacant = QCheckBox("Hidden files"), QCheckBox("Empty files")
        for name, check in (("hidden", self.hidden), ("empty", self.vacant)):
            check.setChecked(True)
            rows.append((name, check))
        for at, (key, check) in enumerate(rows):
            check.toggled.connect(self._choose)
            self.counts[key] = label("", "soft")
            grid.addWidget(check, at, 0)
            grid.addWidget(self.counts[key], at, 1)
        grid.setColumnStretch(1, 1)
        box.addLayout(grid)
        self.smallest, self.largest = QSpinBox(), QSpinBox()
        for spin, words in ((self.smallest, "Smallest size in KB"), (self.largest, "Largest size in KB")):
            spin.setRange(0, 2_000_000_000)
            spin.setSpecialValueText("any")
            spin.setAccessibleName(words)
            spin.valueChanged.connect(self._choose)
        box.addLayout(_line(QLabel("From"), self.smallest, QLabel("to"), self.largest, QLabel("KB")))
        self.dated = QCheckBox("Changed from")
        self.since, self.until = QDateEdit(), QDateEdit()
        for date, name in ((self.since, "Changed from this day"), (self.until, "Changed until this day")):
            date.setDisplayFormat("yyyy-MM-dd")
            date.setAccessibleName(name)
            date.setEnabled(False)
            date.dateChanged.connect(self._choose)
            self.dated.toggled.connect(date.setEnabled)
        self.dated.toggled.connect(self._choose)
        box.addLayout(_line(self.dated, self.since, QLabel("to"), self.until))
        self.suffixes = QListWidget()
        self.suffixes.setAccessibleName("Extensions to take in")
        self.suffixes.setFlow(QListWidget.Flow.LeftToRight)
        self.suffixes.setWrapping(True)
        self.suffixes.setResizeMode(QListWidget.ResizeMode.Adjust)
        self.suffixes.setSpacing(2)
        self.suffixes.setTextElideMode(Qt.TextElideMode.ElideNone)
        self.suffixes.itemChanged.connect(self._choose)
        box.addWidget(self.suffixes, 1)
        self.taken = label("", "heading")
        box.addWidget(self.taken)
        area = QScrollArea()
        area.setWidget(inner)
        area.setWidgetResizable(True)
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        card, outer = _card(area)
        outer.setContentsMargins(0, 0, 0, 0)
        return card

    def _place_card(self) -> QWidget:
        card, box = _card(label("Where results go", "heading"))
        self.case_label = label("", "soft")
        self.case_label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.medium = label("", "warning")
        box.addWidget(self.case_label)
        box.addWidget(self.medium)
        return card

    def _show_waiting(self, running: bool) -> None:
        """While a run is on, what waits for it stands where earlier cases do, none of which could be opened."""
        if self.waiting.isHidden() is running:
            self.waiting.setVisible(running)
            self.cases_card.setVisible(not running)

    # What is chosen

    def _choose(self) -> None:
        items = [self.suffixes.item(i) for i in range(self.suffixes.count())]
        without = frozenset(
            i.data(Qt.ItemDataRole.UserRole) for i in items if i.checkState() is Qt.CheckState.Unchecked
        )
        dated = self.dated.isChecked()
        self._session.choice = Choice(
            frozenset(k for k, box in self.kinds.items() if box.isChecked()),
            self.hidden.isChecked(),
            self.vacant.isChecked(),
            self.smallest.value() * 1024,
            self.largest.value() * 1024,
            without,
            _nanoseconds(self.since.date()) if dated else 0,
            _nanoseconds(self.until.date()) + _DAY_NS - 1 if dated else 0,
        )
        self._later.start()

    def _listed(self, listing: Listing) -> None:
        """Shows what each choice means as far as the sources are listed."""
        self._listing = listing
        for kind in _KIND_WORDS:
            self.counts[kind].setText(_amount(listing.kinds.get(kind)))
        self.counts["hidden"].setText(_amount(listing.hidden))
        self.counts["empty"].setText(_amount(listing.empty))
        if not self.dated.isChecked() and listing.oldest_ns:
            for date, ns in ((self.since, listing.oldest_ns), (self.until, listing.newest_ns)):
                date.blockSignals(True)
                date.setDate(_date(ns))
                date.blockSignals(False)
        off = self._session.choice.without_suffixes
        self.suffixes.blockSignals(True)
        self.suffixes.clear()
        for suffix, amount in listing.usual_suffixes():
            item = QListWidgetItem(f"{suffix or 'no extension'}  {amount.files:,}")
            item.setData(Qt.ItemDataRole.UserRole, suffix)
            item.setToolTip(_amount(amount))
            item.setCheckState(Qt.CheckState.Unchecked if suffix in off else Qt.CheckState.Checked)
            self.suffixes.addItem(item)
        self.suffixes.blockSignals(False)
        self._show_taken()

    def _show_taken(self) -> None:
        listing = self._listing
        if not listing.total.files:
            self.taken.setText("" if not self._session.sources else "The sources hold no files.")
            return
        amount = listing.taken_by(self._session.choice)
        still = "" if listing.complete else " so far"
        unread = f"; {listing.unreadable:,} cannot be read" if listing.unreadable else ""
        self.taken.setText(
            f"Takes in {amount.files:,} of {listing.total.files:,} files{still}, {human_size(amount.bytes)}{unread}"
        )

    # Sources, donors, places

    def _show_sources(self) -> None:
        self.list.clear()
        sources, donors = self._session.sources, self._session.donor_folders
        for path, words in [*((s, "read only") for s in sources), *((d, "donors, read only") for d in donors)]:
            storage = QStorageInfo(path)
            where = "not reachable now"
            if storage.isValid() and Path(path).exists():
                device = bytes(storage.device().data()).decode("utf-8", "replace") or "unknown"
                where = f"{storage.rootPath()} on {device}, {human_size(storage.bytesAvailable())} free"
            item = QListWidgetItem(f"{path.encode('utf-8', 'replace').decode()}\n{words} · {where}")
            item.setData(Qt.ItemDataRole.UserRole, path)
            item.setData(Qt.ItemDataRole.UserRole + 1, words != "read only")
            self.list.addItem(item)
        if self.list.count() and self.list.currentRow() < 0:
            self.list.setCurrentRow(0)
        self.empty.setVisible(not sources)
        self.remove.setEnabled(self.list.count() > 0)
        self.start.setEnabled(bool(sources))
        case = self._session.case
        if case is not None:
            free = QStorageInfo(str(case.path.parent)).bytesAvailable()
            self.case_label.setText(
                f"Case: {case.path}\nRepaired copies: {self._session.results_folder}\n{human_size(free)} free there."
            )
            device = QStorageInfo(str(case.path.parent)).rootPath()
            same = [s for s in sources if QStorageInfo(s).rootPath() == device]
            self.medium.setText(
                "The case lies on the same medium as a source. Keep it elsewhere if data was lost on that medium."
                if same
                else ""
            )
            self.medium.setVisible(bool(same))

    def ask_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Add a folder to examine")
        if folder:
            self._session.add_sources([folder])

    def ask_files(self) -> None:
        files, _ = QFileDialog.getOpenFileNames(self, "Add files to examine")
        if files:
            self._session.add_sources(files)

    def ask_donors(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Add a folder of healthy files from the same devices")
        if folder:
            self._session.set_donor_folders([*self._session.donor_folders, folder])

    def remove_current(self) -> None:
        item = self.list.currentItem()
        if item is None:
            return
        path = item.data(Qt.ItemDataRole.UserRole)
        if item.data(Qt.ItemDataRole.UserRole + 1):
            self._session.set_donor_folders([d for d in self._session.donor_folders if d != path])
        else:
            self._session.remove_source(path)

    # Earlier cases

    def _case_changed(self) -> None:
        case = self._session.case
        if case is not None:
            recent = [str(case.path), *(p for p in self._recent() if p != str(case.path))][:_MOST_RECENT]
            self._settings.setValue("recent", recent)
        self._show_sources()

    def _recent(self) -> list[str]:
        stored = self._settings.value("recent", [])
        return [str(p) for p in stored] if isinstance(stored, list) else [str(stored)]

    def show_cases(self) -> None:
        """Looks into the earlier cases, in the background."""
        paths = [Path(p) for p in self._recent()]

        def work() -> Iterator[list[CaseState]]:
            yield [state for path in paths if (state := peek(path)) is not None]

        self._peek_job = Job(work, self)
        self._peek_job.told.connect(self._show_peeked)
        self._peek_job.start()

    def _show_peeked(self, states: list[CaseState]) -> None:
        self.cases.clear()
        here = self._session.case.path if self._session.case else None
        for state in states:
            name = f"{state.path.stem}{' (open)' if state.path == here else ''}"
            sources = ", ".join(Path(s).name or s for s in state.sources[:3]) or "no source"
            item = QListWidgetItem(f"{name}\n{state.words} · {sources}")
            item.setData(Qt.ItemDataRole.UserRole, str(state.path))
            item.setToolTip(str(state.path))
            self.cases.addItem(item)
        self.open_earlier.setEnabled(bool(states))

    def _open_listed(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self.case_wanted.emit(Path(item.data(Qt.ItemDataRole.UserRole)))

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [
            url.toLocalFile()
            for url in event.mimeData().urls()
            if url.isLocalFile() and Path(url.toLocalFile()).exists()
        ]
        if paths:
            self._session.add_sources(paths)
            event.acceptProposedAction()


def _date(nanoseconds: int) -> QDate:
    return QDateTime.fromMSecsSinceEpoch(nanoseconds // 10**6).date()


def _nanoseconds(date: QDate) -> int:
    return date.startOfDay().toMSecsSinceEpoch() * 10**6
