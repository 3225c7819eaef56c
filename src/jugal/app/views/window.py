"""The window: the line of work along the top, the four places under it, one line of words at the bottom."""

from __future__ import annotations

import gc
import sys
from pathlib import Path

from platformdirs import user_log_path
from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QFont,
    QGuiApplication,
    QImage,
    QKeySequence,
    QPainter,
)
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QProgressBar,
    QPushButton,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from jugal.app.actions.build import build_actions
from jugal.app.actions.registry import ACTIONS, by_ident
from jugal.app.bridge.previewer import Previewer
from jugal.app.controllers.session import RepairTold, RunState, Session
from jugal.app.style import tokens
from jugal.app.style.tokens import DARK, LIGHT, Theme
from jugal.app.views.bench import BenchView
from jugal.app.views.handover import HandoverView
from jugal.app.views.intake import IntakeView
from jugal.app.views.triage import TriageView
from jugal.app.widgets.elided import ElidedLabel
from jugal.app.widgets.happened import Happened
from jugal.app.widgets.palette import Palette
from jugal.case.catalog import Facet, Filter
from jugal.model.result import RepairStatus, Verdict
from jugal.model.words import human_size, printable_name, shown_score

_SWITCH_S = 0.001
PLACES = ("intake", "triage", "bench", "handover")


def _load_glyphs(widget: QWidget) -> None:
    """Signs that the rows use may come from another font; loading it takes longer than a turn of the event loop may."""
    image = QImage(8, 8, QImage.Format.Format_RGB32)
    painter = QPainter(image)
    for weight in (QFont.Weight.Normal, QFont.Weight.DemiBold):
        font = QFont(widget.font())
        font.setWeight(weight)
        painter.setFont(font)
        painter.drawText(0, 8, "→▲✕·–…×")
    painter.end()


class Window(QMainWindow):
    """Everything the technician sees."""

    def __init__(self, session: Session, settings: QSettings | None = None) -> None:
        super().__init__()
        self.session = session
        self.settings = settings or QSettings("jugal", "jugal")
        self.theme_name = str(self.settings.value("theme", "system"))
        self.theme: Theme = LIGHT
        self.previewer = Previewer(self)
        self.setWindowTitle("Jugal")
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.intake = IntakeView(session, self.settings)
        self.triage = TriageView(session, self.theme)
        self.bench = BenchView(session, self.theme, self.previewer)
        self.handover = HandoverView(session)
        self.stack = QStackedWidget()
        for view in (self.intake, self.triage, self.bench, self.handover):
            self.stack.addWidget(view)
        body = QWidget()
        layout = QVBoxLayout(body)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self._line_of_work())
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setRange(0, 1000)
        self.progress.setAccessibleName("Progress of the run, by bytes")
        self.progress.setVisible(False)
        layout.addWidget(self.progress)
        layout.addWidget(self.stack, 1)
        self.happened = Happened(f"The log: {user_log_path('jugal') / 'jugal.log'}")
        self.happened.hide()
        layout.addWidget(self.happened)
        self.words = ElidedLabel()
        self.words.setContentsMargins(tokens.MARGIN, 5, tokens.MARGIN, 6)
        self.words.setAccessibleName("What the program has to say")
        layout.addWidget(self.words)
        self.setCentralWidget(body)
        places = {
            "intake": self.intake,
            "triage": self.triage,
            "bench": self.bench,
            "handover": self.handover,
        }
        self.actions_by_name = build_actions(self, self._handlers(), places)
        self._fill_menu()
        session.in_front = str(self.settings.value("in_front", "")) == "yes"
        self.actions_by_name["repair.front"].setChecked(session.in_front)
        self.palette_of_actions = Palette(self)
        self._connect()
        self._follow_system()
        self.apply_scale()
        # By method, not by lambda: the hints outlive the window and would keep all of it.
        QGuiApplication.styleHints().colorSchemeChanged.connect(self._follow_system)
        _load_glyphs(self)
        # Threads that work in the background hand the interpreter over sooner than is usual: the window comes first.
        sys.setswitchinterval(_SWITCH_S)
        # What is loaded by now stays: going through it all again in every full collection would stall the window.
        gc.collect()
        gc.freeze()
        self.go("intake")
        geometry = self.settings.value("geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)

    def _line_of_work(self) -> QWidget:
        bar = QFrame()
        bar.setProperty("role", "bar")
        row = QHBoxLayout(bar)
        row.setContentsMargins(tokens.MARGIN, 0, tokens.MARGIN, 0)
        row.setSpacing(0)
        self.stations: dict[str, QToolButton] = {}
        for place in PLACES:
            button = QToolButton()
            button.setProperty("role", "station")
            button.setCheckable(True)
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextOnly)
            button.clicked.connect(lambda _=False, p=place: self.go(p))
            self.stations[place] = button
            row.addWidget(button)
            if place != PLACES[-1]:
                arrow = QLabel("›")
                arrow.setProperty("role", "soft")
                row.addWidget(arrow)
        self.run_words = ElidedLabel()
        self.run_words.setProperty("role", "soft")
        self.run_words.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        row.addWidget(self.run_words, 1)
        row.addSpacing(tokens.GAP)
        self.pause = QPushButton("Pause")
        self.stop = QPushButton("Stop")
        for control in (self.pause, self.stop):
            control.setVisible(False)
            row.addWidget(control)
        self.more = QToolButton()
        self.more.setText("Case and actions")
        self.more.setAccessibleName("Case and actions")
        self.more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.more.setMenu(QMenu(self.more))
        row.addSpacing(tokens.GAP)
        row.addWidget(self.more)
        return bar

    def _fill_menu(self) -> None:
        menu = self.more.menu()
        for ident in (
            "case.open",
            "run.start",
            "run.pause",
            "run.stop",
            "triage.bits",
            "repair.all",
            "repair.front",
            "view.theme",
            "help.keys",
            "app.quit",
        ):
            menu.addAction(self.actions_by_name[ident])

    def _handlers(self) -> dict:  # type: ignore[type-arg]
        return {
            "go.intake": lambda: self.go("intake"), "go.triage": lambda: self.go("triage"),
            "go.bench": lambda: self.go("bench"), "go.handover": lambda: self.go("handover"),
            "case.open": self.ask_case, "source.folder": self.intake.ask_folder, "source.files": self.intake.ask_files,
            "source.donors": self.intake.ask_donors, "source.remove": self.intake.remove_current, "source.undo": self.session.put_source_back, "run.first": self.intake.waiting.examine_first, "run.start": self.start_run, "run.pause": self.session.pause_run,
            "run.stop": self.session.stop_run, "triage.find": self.triage.find_edit.setFocus, "triage.clear": self.triage.show_everything,
            "triage.sheet": lambda: self.triage.show_as_sheet(not self.triage.as_sheet), "triage.invert": self.triage.invert,
            "triage.narrow": lambda: self.triage.show_facets(not self.triage.band.isVisible()), "triage.weigh": self.triage.weigh,
            "triage.folder": lambda: self.triage.choose_alike("folder"), "triage.format": lambda: self.triage.choose_alike("format"),
            "triage.copies": lambda: self.triage.choose_alike("copies"),
            "triage.save": self.triage.ask_filter_name, "triage.bits": self.triage.follow_to_the_bit,
            "triage.bench": self.triage.take_to_bench, "bench.next": lambda: self.step(1), "bench.previous": lambda: self.step(-1),
            "bench.repair": self.bench.do_repair, "bench.keep": self.bench.keep_result, "bench.drop": self.bench.drop_result,
            "bench.inside": self.bench.show_inside, "bench.compare": self.bench.stage.toggle_wipe,
            "bench.play": self.bench.stage.play_or_pause, "bench.page_on": lambda: self.bench.stage.turn_page(1),
            "bench.page_back": lambda: self.bench.stage.turn_page(-1), "bench.every": self.bench.try_all, "bench.undo": self.bench.undo,
            "bench.review": lambda: self.review(), "view.larger": lambda: self.scale_by(1), "view.smaller": lambda: self.scale_by(-1),
            "help.palette": self.show_palette, "help.happened": self.show_happened,
            "bench.damage": self.bench.toggle_damage, "repair.all": self.plan_repairs, "repair.front": self.turn_front, "handover.target": self.handover.ask_target,
            "handover.deliver": self.handover.deliver, "handover.open": self.handover.show_folder, "view.theme": self.toggle_theme,
            "help.keys": self.show_keys, "app.quit": self.close,
        }  # fmt: skip

    def _connect(self) -> None:
        session = self.session
        session.run_told.connect(self._run_told)
        session.run_ended.connect(self._run_ended)
        session.repair_told.connect(self._repair_told)
        session.said.connect(self.say)
        self.bench.said.connect(self.say)
        session.case_changed.connect(self._case_changed)
        session.sources_changed.connect(self._name_stations)
        session.model.changed.connect(self._name_stations)
        self.intake.case_wanted.connect(self.session.open_case)
        self.triage.to_bench.connect(self.take_to_bench)
        self.triage.batch.review.connect(self.review)
        self.triage.batch.said.connect(self.say)
        self.pause.clicked.connect(session.pause_run)
        self.stop.clicked.connect(session.stop_run)
        self.intake.start.clicked.connect(lambda: self.go("triage"))

    # Going places

    def go(self, place: str) -> None:
        """Shows one of the four places and puts the keyboard where work goes on."""
        view = {"intake": self.intake, "triage": self.triage, "bench": self.bench, "handover": self.handover}[place]
        if place == "handover":
            chosen = self.triage.selected_numbers()
            self.handover.choose(chosen if len(chosen) > 1 else None)
        if place == "bench" and self.bench.number is None:
            number = self.session.model.number_at(max(0, self.triage.table.currentIndex().row()))
            self.bench.show_file(number)
        self.stack.setCurrentWidget(view)
        for name, button in self.stations.items():
            button.setChecked(name == place)
        focus = {
            "intake": self.intake.list,
            "triage": self.triage.files_view(),
            "bench": self.bench.plans,
            "handover": self.handover.target,
        }[place]
        focus.setFocus()
        if place == "triage" and not self.triage.table.currentIndex().isValid() and self.session.model.rowCount():
            self.triage.table.selectRow(0)

    def take_to_bench(self, number: int) -> None:
        self.bench.end_review()
        self.bench.show_file(number)
        self.go("bench")

    def step(self, by: int) -> None:
        if self.bench.reviewing:
            if not self.bench.step_review(by):
                self.say("The review has no further file.")
            return
        number = self.triage.step(by)
        if number is not None:
            self.bench.show_file(number)
        else:
            self.say("There is no further file in what Triage shows.")

    def _name_stations(self) -> None:
        sources, total = len(self.session.sources), self.session.model.total()
        words = {
            "intake": f"1  Intake\n{sources} {'source' if sources == 1 else 'sources'}",
            "triage": f"2  Triage\n{total:,} files",
            "bench": "3  Bench\none file",
            "handover": "4  Handover\ndelivery and report",
        }
        for place, button in self.stations.items():
            button.setText(words[place])
            button.setAccessibleName(words[place].replace("\n", ", "))
            button.setToolTip(QKeySequence(by_ident(f"go.{place}").keys).toString())

    # The case and the run

    def ask_case(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self,
            "Open a case or name a new one",
            str(Path.home() / "case.jugal"),
            "Cases (*.jugal)",
            options=QFileDialog.Option.DontConfirmOverwrite,
        )
        if name:
            path = Path(name if name.endswith(".jugal") else f"{name}.jugal")
            self.session.open_case(path)

    def _case_changed(self) -> None:
        case = self.session.case
        self.setWindowTitle(f"{case.path.stem} – Jugal" if case else "Jugal")
        self._name_stations()

    def start_run(self) -> None:
        self.session.start_run()
        if self.session.run_running:
            self.go("triage")

    def _run_told(self, state: RunState) -> None:
        p = state.progress
        self.progress.setValue(round(1000 * p.bytes / p.bytes_total) if p.bytes_total else 1000)
        self.progress.setVisible(not p.finished)
        self.pause.setVisible(not p.finished)
        self.stop.setVisible(not p.finished)
        self.pause.setText("Go on" if state.paused else "Pause")
        words = [
            f"{p.files:,} of {p.files_total:,} files",
            f"{human_size(p.bytes)} of {human_size(p.bytes_total)}",
        ]
        if not p.finished and state.rate:
            words.append(f"{human_size(int(state.rate))}/s")
            if state.seconds_left is not None:
                words.append(f"{int(state.seconds_left // 60)}:{int(state.seconds_left % 60):02d} left")
        if state.paused and not p.finished:
            words.append("paused")
        self.run_words.setText(" · ".join(words))
        if p.finished:
            self.say("The run was stopped; Examine goes on with the rest." if p.cancelled else self._summary())

    def _summary(self) -> str:
        counts = self.session.model.catalog.counts(Filter(), (Facet.VERDICT,))[Facet.VERDICT]
        return "Examined: " + ", ".join(f"{counts[v]:,} {v.value}" for v in Verdict if counts.get(v)) + "."

    def _run_ended(self, problem: str) -> None:
        self.pause.setVisible(False)
        self.stop.setVisible(False)

    def plan_repairs(self) -> None:
        """Plans the repair of every shown file (or of the chosen ones) for which one is worth doing."""
        chosen = self.triage.selected_numbers()
        numbers = chosen if len(chosen) > 1 else self.session.model.shown_numbers()
        if self.session.repairing:
            self.say("Repairs are being done; the next can be planned when they have ended.")
        elif not self.triage.batch.plan(numbers):
            self.say("Nothing that is shown has a repair worth doing.")

    def review(self, numbers: list[int] | None = None) -> None:
        """Goes through the results of a batch, or of all repairs in the case."""
        numbers = numbers or list(dict.fromkeys(r.file for r in self.session.repairs() if r.outcome.output))
        self.bench.review(numbers)
        if self.bench.reviewing:
            self.go("bench")
            self.bench.results.setFocus()

    def _repair_told(self, told: RepairTold) -> None:
        name = printable_name(told.outcome.path)
        if told.outcome.status is RepairStatus.REPAIRED:
            text = f"{name}: {shown_score(told.outcome.score_before)} → {shown_score(told.outcome.score_after)} by {told.outcome.method}"
        else:
            text = f"{name}: {told.outcome.error or 'unchanged'}"
        self.say(f"{told.done} of {told.total}. {text}")

    # Everywhere

    def say(self, sentence: str) -> None:
        """One sentence at the bottom; it stays in what happened."""
        self.words.setText(sentence)
        self.happened.add(sentence)

    def turn_front(self) -> None:
        """From now on the index of repaired clips goes before their media data, or where it was."""
        self.session.in_front = not self.session.in_front
        self.actions_by_name["repair.front"].setChecked(self.session.in_front)
        self.settings.setValue("in_front", "yes" if self.session.in_front else "no")
        where = (
            "begin with their index: playing begins before all is read"
            if self.session.in_front
            else "keep their index where it is"
        )
        self.say(f"Repaired clips {where}.")

    def toggle_theme(self) -> None:
        """Light, then dark, then as the system has it."""
        names = ["light", "dark", "system"]
        name = names[(names.index(self.theme_name) + 1) % 3]
        self.theme_name = name
        self.settings.setValue("theme", name)
        self._follow_system()
        self.say(f"Colours: {name if name != 'system' else 'as the system has them'}.")

    def _follow_system(self, _: object = None) -> None:
        """Works out which theme is wanted now, and shows it."""
        dark = self.theme_name == "dark"
        if self.theme_name == "system":
            dark = QGuiApplication.styleHints().colorScheme() is Qt.ColorScheme.Dark
        self.theme = DARK if dark else LIGHT
        self.apply_theme()

    def scale_by(self, steps: int) -> None:
        """Type and distances larger or smaller by tenths, from 100 to 200 percent; kept for the next start."""
        percent = min(200, max(100, int(str(self.settings.value("scale", 100))) + 10 * steps))
        self.settings.setValue("scale", percent)
        self.apply_scale()
        self.say(f"Type at {percent} percent.")

    def apply_scale(self) -> None:
        """Sets the application's font and the distances by the scale in the settings."""
        application = QApplication.instance()
        if not isinstance(application, QApplication):
            return
        if application.property("base points") is None:
            application.setProperty("base points", application.font().pointSizeF())
        percent = int(str(self.settings.value("scale", 100)))
        font = QFont(application.font())
        font.setPointSizeF(float(application.property("base points")) * percent / 100)
        if font == application.font():
            return
        application.setFont(font)
        tokens.grow(font.pointSizeF())
        self.apply_theme()
        self.triage.fit_to_type()

    def show_palette(self) -> None:
        """All actions that can be done here, by name."""
        place = next(name for name, button in self.stations.items() if button.isChecked())
        listed = [
            (self.actions_by_name[a.ident], a.place)
            for a in sorted(ACTIONS, key=lambda a: a.place not in (place, ""))
            if a.place in ("", place) and a.ident != "help.palette"
        ]
        self.palette_of_actions.open(listed, QApplication.focusWidget())

    def show_happened(self) -> None:
        """Shows or hides what the program has said so far."""
        self.happened.setVisible(not self.happened.isVisible())
        if self.happened.isVisible():
            self.happened.list.setFocus()

    def apply_theme(self) -> None:
        application = QApplication.instance()
        if isinstance(application, QApplication):
            application.setPalette(tokens.palette(self.theme))
            application.setStyleSheet(tokens.stylesheet(self.theme))
        self.triage.set_theme(self.theme)
        self.bench.set_theme(self.theme)
        self._name_stations()

    def show_keys(self) -> None:
        """All actions and their keys, in a window of its own that blocks nothing."""
        text = "".join(
            f"<tr><td style='padding-right:24px'>{a.text.rstrip('…')}</td><td>{QKeySequence(a.keys).toString()}</td><td style='padding-left:16px'>{a.place}</td></tr>"
            for a in ACTIONS
        )
        sheet = QLabel(f"<table>{text}</table>", self, Qt.WindowType.Tool)
        sheet.setWindowTitle("Actions and keys")
        sheet.setContentsMargins(16, 16, 16, 16)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.show()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        self.intake.dropEvent(event)
        self.go("intake")

    def closeEvent(self, event: QCloseEvent) -> None:
        self.settings.setValue("geometry", self.saveGeometry())
        self.session.close()
        self.previewer.close()
        super().closeEvent(event)
