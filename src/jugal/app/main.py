"""Starts the window."""

from __future__ import annotations

import faulthandler
import logging
import sys
from pathlib import Path
from types import TracebackType

from platformdirs import user_data_path, user_log_path
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from jugal.app.controllers.session import Session
from jugal.app.style import tokens
from jugal.app.views.window import Window


def _log_to_file() -> None:
    try:
        log_file().parent.mkdir(parents=True, exist_ok=True)
        logging.basicConfig(
            filename=log_file(),
            level=logging.INFO,
            format="%(asctime)s %(levelname)s %(name)s: %(message)s",
        )
    except OSError:
        logging.basicConfig(level=logging.WARNING)


def log_file() -> Path:
    """Where the program writes what it does."""
    return user_log_path("jugal") / "jugal.log"


def _catch_errors(window: Window) -> None:
    """An error inside is logged and told, and the window goes on; a death by the system leaves its trace in the log."""
    window_says = window.say

    def caught(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        logging.getLogger("jugal").critical("an error inside", exc_info=(kind, error, trace))
        window_says(f"Something went wrong inside ({kind.__name__}). The case is whole; the log is {log_file()}.")

    sys.excepthook = caught
    try:
        faulthandler.enable(open(log_file(), "a", encoding="utf-8"))  # noqa: SIM115 (open as long as the process lives)
    except OSError:
        faulthandler.enable()


def _application() -> QApplication:
    existing = QApplication.instance()
    application = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    application.setApplicationName("Jugal")
    application.setStyle("Fusion")
    application.setWindowIcon(QIcon(str(Path(__file__).parent / "style" / "jugal.svg")))
    return application


def open_window(case: Path | None = None, sources: list[str] | None = None) -> int:
    """Opens the window on ``case`` (the last free one without it) and runs until it is closed."""
    _log_to_file()
    application = _application()
    tokens.grow(application.font().pointSizeF())
    session = Session()
    window = Window(session)
    _catch_errors(window)
    session.open_case(case or user_data_path("jugal") / "cases" / "first.jugal")
    if sources:
        session.add_sources([s for s in sources if s not in session.sources])
        if not session.model.total():
            window.start_run()
        else:
            window.go("triage")
    window.show()
    return application.exec()


def open_demo() -> int:
    """Opens the window on the demo case, made first where it is not there yet."""
    from jugal.samples.demo import demo_root, make_demo

    print("Making the demo case …", file=sys.stderr)
    files = make_demo()
    return open_window(demo_root() / "Odrell mussel survey.jugal", [str(files)])
