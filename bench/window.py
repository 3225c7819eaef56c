"""``make bench-window``: how the window holds up with a large case and while results come in."""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtWidgets import QApplication

from jugal.app.controllers.session import Session
from jugal.app.models.files import SCORE
from jugal.app.views.window import Window
from jugal.binary.source import Source
from jugal.case.store import Case
from jugal.engine.examine import examine_source
from jugal.model.result import Kind
from jugal.samples import encode
from jugal.samples.scenes import riverbed


def gap(application: QApplication, folder: Path) -> float:
    """Seconds of the longest gap between two turns of the event loop while 2,000 files come in."""
    place = folder / "in"
    place.mkdir()
    photo = encode.jpeg(riverbed(200, 150, 1))
    for i in range(2000):
        (place / f"{i}.jpg").write_bytes(photo[: len(photo) - i % 7 * 100])
    session = Session()
    window = Window(session, QSettings(str(folder / "s.ini"), QSettings.Format.IniFormat))
    session.open_case(folder / "gap.jugal")
    session.add_sources([str(place)])
    window.show()
    turns: list[float] = []
    timer = QTimer()
    timer.setInterval(0)
    timer.timeout.connect(lambda: turns.append(time.perf_counter()))
    ended: list[str] = []
    session.run_ended.connect(ended.append)
    window.start_run()
    timer.start()
    while not ended:
        application.processEvents()
    timer.stop()
    window.close()
    return float(np.diff(turns).max())


def large(application: QApplication, folder: Path, count: int) -> None:
    """Opening, filtering, sorting and scrolling a case of ``count`` files."""
    path = folder / "large.jugal"
    base = examine_source(Source.from_bytes(encode.jpeg(riverbed(200, 150, 1))[:-700], "x.jpg"))
    case = Case(path)
    for at in range(0, count, 5000):
        case.save(
            [
                (replace(base, path=f"/card/{i // 1000}/f{i:06d}.jpg", score=float(i % 101), thumbnail=None), i, None)
                for i in range(at, min(count, at + 5000))
            ]
        )
    case.close()
    session = Session()
    window = Window(session, QSettings(str(folder / "s.ini"), QSettings.Format.IniFormat))
    window.show()
    started = time.perf_counter()
    session.open_case(path)
    window.go("triage")
    application.processEvents()
    print(f"open to first rows, {count:,} files: {time.perf_counter() - started:.2f} s")
    for words, act in (
        ("filter by name", lambda: session.model.set_filter(text="f0123")),
        ("filter by score", lambda: session.model.set_filter(text="", low=20, high=40)),
        ("filter by kind", lambda: session.model.set_filter(low=0, high=100, kind=Kind.PHOTO)),
        ("sort by score", lambda: session.model.sort(SCORE, Qt.SortOrder.DescendingOrder)),
    ):
        started = time.perf_counter()
        act()
        application.processEvents()
        print(f"{words}: {1000 * (time.perf_counter() - started):.0f} ms")
    bar = window.triage.table.verticalScrollBar()
    started, frames = time.perf_counter(), 200
    for i in range(frames):
        bar.setValue(bar.maximum() * i // frames)
        window.triage.table.viewport().repaint()
        application.processEvents()
    print(f"scrolling: {frames / (time.perf_counter() - started):.0f} frames a second")
    window.close()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--gap-only", action="store_true")
    parser.add_argument("--files", type=int, default=100_000)
    arguments = parser.parse_args()
    application = QApplication(sys.argv[:1])
    with tempfile.TemporaryDirectory(prefix="jugal-window-") as name:
        if not arguments.gap_only:
            large(application, Path(name), arguments.files)
        print(f"{1000 * gap(application, Path(name)):.0f} ms")


if __name__ == "__main__":
    main()
