"""Starts the window."""

from __future__ import annotations

import logging
import sys
from pathlib import Path

from platformdirs import user_data_path, user_log_path
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from jugal.app.controllers.session import Session
from jugal.app.style import tokens
from jugal.app.views.window import Window


def _log_to_file() -> None:
    folder = user_log_path("jugal")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        logging.basicConfig(
            filename=folder / "jugal.log",
            level=logging.INFO,
            format="%(asctime)s %(levelname)s %(name)s: %(message)s",
        )
    except OSError:
        logging.basicConfig(level=logging.WARNING)


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
