"""``make shots``: one current picture of each main view, from the demo case, into docs/screenshots."""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QPoint, QSettings
from PySide6.QtGui import QFont, QPainter
from PySide6.QtWidgets import QApplication

from jugal.app.controllers.session import Session
from jugal.app.style import tokens
from jugal.app.views.window import Window
from jugal.case.catalog import Facet, Filter
from jugal.samples.demo import make_demo


def wait(application: QApplication, until, seconds: float = 120.0) -> None:  # type: ignore[no-untyped-def]
    end = time.monotonic() + seconds
    while time.monotonic() < end and not until():
        application.processEvents()
        time.sleep(0.01)


def settle(application: QApplication, seconds: float = 0.6) -> None:
    wait(application, lambda: False, seconds)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--into", default="docs/screenshots")
    parser.add_argument("--dark", action="store_true")
    parser.add_argument("--size", default="1280x800")
    parser.add_argument("--scale", type=float, default=1.0)
    arguments = parser.parse_args()
    into = Path(arguments.into)
    into.mkdir(parents=True, exist_ok=True)
    application = QApplication(sys.argv[:1])
    application.setStyle("Fusion")
    font = QFont(application.font())
    font.setPointSizeF(font.pointSizeF() * arguments.scale)
    application.setFont(font)
    tokens.grow(font.pointSizeF())
    with tempfile.TemporaryDirectory(prefix="jugal-shots-") as folder:
        files = make_demo()
        session = Session()
        window = Window(session, QSettings(f"{folder}/settings.ini", QSettings.Format.IniFormat))
        window.settings.setValue("theme", "dark" if arguments.dark else "light")
        window.theme_name = "dark" if arguments.dark else "light"
        window._follow_system()
        width, height = (int(x) for x in arguments.size.split("x"))
        window.resize(width, height)
        window.show()
        session.open_case(Path(folder) / "Odrell mussel survey.jugal")
        session.add_sources([str(files)])
        settle(application)
        shoot(window, into / "intake.png")
        ended: list[str] = []
        session.run_ended.connect(ended.append)
        window.start_run()
        window.go("intake")
        wait(application, lambda: window.intake.waiting.isVisible() and session.model.total() > 0)
        session.pause_run()
        settle(application)
        window.intake.waiting.finder.setText("jpg")
        shoot(window, into / "waiting.png")
        session.resume_run()
        wait(application, lambda: bool(ended))
        window.go("triage")
        settle(application)
        window.triage.table.sortByColumn(3, window.triage.table.horizontalHeader().sortIndicatorOrder())
        window.triage.table.selectRow(12)
        settle(application)
        shoot(window, into / "triage.png")
        window.turn_front()
        settle(application)
        shoot_menu(window, into / "actions.png")
        window.turn_front()
        wait(application, lambda: not session.looking_over)
        settle(application)
        window.triage.show_facets(True)
        window.triage.band.tabs.setCurrentIndex(list(Facet).index(Facet.DAMAGE))
        session.model.set_filter(Filter(chosen={"kind": ("photo",), "damage": ("a hole", "an end missing")}))
        settle(application)
        shoot(window, into / "facets.png")
        window.triage.show_facets(False)
        session.model.set_filter(Filter())
        window.triage.show_as_sheet(True)
        settle(application, 1.0)
        shoot(window, into / "sheet.png")
        window.triage.show_as_sheet(False)
        rows = session.model.all_rows()

        def number(name: str) -> int:
            return next(r.id for r in rows if r.path.endswith(name))

        window.triage.table.clearSelection()
        window.plan_repairs()
        repaired: list[str] = []
        session.repair_ended.connect(repaired.append)
        window.triage.batch.begin()
        wait(application, lambda: bool(repaired))
        settle(application)
        shoot(window, into / "batch.png")
        window.triage.batch.hide()
        for name, file in (("bench", "LURGA1016.JPG"), ("bench-damage", "LURGA1004.JPG"), ("clip", "DIVE0009.MP4")):
            window.take_to_bench(number(file))
            window.bench.findings.setCurrentRow(0)
            settle(application, 3.0)
            if name == "bench-damage":
                window.bench.stage.toggle_wipe()
                settle(application)
            shoot(window, into / f"{name}.png")
            if name == "bench-damage":
                window.bench.stage.toggle_wipe()
        window.take_to_bench(number("DIVE0005.MP4"))
        methods = [plan.method for plan in window.bench._examination.repairs]  # type: ignore[union-attr]
        window.bench.plans.setCurrentRow(methods.index("estimate-index"))
        settle(application, 3.0)
        shoot(window, into / "bench-rate.png")
        window.triage.table.clearSelection()
        window.handover.target.setText(f"{folder}/delivery")
        window.go("handover")
        settle(application)
        delivered: list[str] = []
        session.delivery_ended.connect(delivered.append)
        window.handover.deliver()
        wait(application, lambda: bool(delivered))
        settle(application)
        shoot(window, into / "handover.png")
        window.close()


def shoot(window: Window, path: Path) -> None:
    window.grab().save(str(path))
    print(path)


def shoot_menu(window: Window, path: Path) -> None:
    """The window with its menu of actions opened; a menu is a window of its own, so it is drawn where it would stand."""
    picture, menu = window.grab(), window.more.menu()
    menu.ensurePolished()
    menu.resize(menu.sizeHint())
    corner = window.more.mapTo(window, QPoint(window.more.width() - menu.width(), window.more.height()))
    painter = QPainter(picture)
    painter.drawPixmap(corner, menu.grab())
    painter.end()
    picture.save(str(path))
    print(path)


if __name__ == "__main__":
    main()
