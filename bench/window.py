"""``make bench-window``: how the window holds up with a large case and while results come in."""

from __future__ import annotations

import argparse
import multiprocessing
import os
import queue
import resource
import sys
import tempfile
import threading
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QApplication

from jugal.app.bridge.thumbs import ThumbLoader
from jugal.app.controllers.session import Session
from jugal.app.views.window import Window
from jugal.binary.source import Source
from jugal.case.catalog import Filter, SortKey
from jugal.case.store import Case
from jugal.engine.examine import examine_source
from jugal.engine.worker import small_picture
from jugal.model.result import Examination
from jugal.samples import encode
from jugal.samples.scenes import riverbed

CAMERAS = ("Lurga M2", "Tern Compact 7", "")


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


def make_large(path: Path, count: int) -> None:
    """A case of ``count`` damaged photographs that was never examined."""
    base = examine_source(Source.from_bytes(encode.jpeg(riverbed(200, 150, 1))[:-700], "x.jpg"))
    case = Case(path)
    rng = np.random.default_rng(5)
    photo = examine_source(Source.from_bytes(encode.jpeg(riverbed(1600, 1200, 2)), "y.jpg"))
    assert photo.thumbnail is not None
    small = small_picture(photo.thumbnail)
    for at in range(0, count, 5000):
        case.save(
            [
                (
                    replace(
                        base,
                        path=f"/card/{i // 1000}/f{rng.integers(10**7):07d}-{i:06d}.jpg",
                        score=float(i % 101),
                        thumbnail=None,
                        media={
                            **base.media,
                            "camera": CAMERAS[i % 3],
                            "date_taken": f"2026-{1 + i % 12:02d}-{1 + i % 28:02d}T10:00:00",
                        },
                    ),
                    i,
                    small,
                )
                for i in range(at, min(count, at + 5000))
            ]
        )
    case.close()


def fed(application: QApplication, session: Session, path: Path, base: Examination) -> float:
    """Seconds of the longest gap in the event loop while a large case, sorted by name, takes in 200 results a second."""
    numbers: queue.SimpleQueue[list[int]] = queue.SimpleQueue()
    ended = threading.Event()

    def feed() -> None:
        case = Case(path)
        for turn in range(20):
            names = [f"/card/late/{(turn * 50 + i) * 7919 % 100_000:06d}.jpg" for i in range(50)]
            numbers.put(case.save([(replace(base, path=name, thumbnail=None), 1, None) for name in names]))
            time.sleep(0.25)
        case.close()
        ended.set()

    threading.Thread(target=feed).start()
    turns = [time.perf_counter()]
    while not ended.is_set():
        while not numbers.empty():
            session.model.take_in(numbers.get())
        application.processEvents()
        turns.append(time.perf_counter())
    return float(np.diff(turns).max())


def large(application: QApplication, folder: Path, count: int) -> None:
    """Opening, filtering, sorting and scrolling a case of ``count`` files."""
    path = folder / "large.jugal"
    # In a process of its own, so that the memory measured is the window's.
    maker = multiprocessing.get_context("spawn").Process(target=make_large, args=(path, count))
    maker.start()
    maker.join()
    base = examine_source(Source.from_bytes(encode.jpeg(riverbed(200, 150, 1))[:-700], "x.jpg"))
    session = Session()
    window = Window(session, QSettings(str(folder / "s.ini"), QSettings.Format.IniFormat))
    window.show()
    started = time.perf_counter()
    session.open_case(path)
    window.go("triage")
    application.processEvents()
    print(f"open to first rows, {count:,} files: {time.perf_counter() - started:.2f} s")
    while session.model.total() < count:
        application.processEvents()
    print(f"all of them: {time.perf_counter() - started:.2f} s")
    model, triage = session.model, window.triage
    triage.show_facets(True)
    for words, act in (
        ("filter by words", lambda: model.set_filter(Filter("f0123"))),
        ("filter by fields", lambda: model.set_filter(Filter("score<50 -camera:tern size>1KB"))),
        ("filter by score", lambda: model.set_filter(Filter(low=20, high=40))),
        (
            "filter by two facets",
            lambda: model.set_filter(Filter(chosen={"kind": ("photo",), "damage": ("an end missing",)})),
        ),
        ("everything again", lambda: model.set_filter(Filter())),
        *((f"sort by {key.value}", lambda key=key: triage.order_by(key)) for key in SortKey),
    ):
        started = time.perf_counter()
        act()
        application.processEvents()
        print(f"{words}: {1000 * (time.perf_counter() - started):.0f} ms to the first screenful")
    triage.show_facets(False)
    for words, view in (("rows", triage.table), ("contact sheet", triage.sheet)):
        triage.show_as_sheet(view is triage.sheet)
        application.processEvents()
        bar = view.verticalScrollBar()
        started, frames = time.perf_counter(), 200
        for i in range(frames):
            bar.setValue(bar.maximum() * i // frames)
            view.viewport().repaint()
            application.processEvents()
        print(f"scrolling {words}: {frames / (time.perf_counter() - started):.0f} frames a second")
    began = time.perf_counter()
    came: list[int] = []
    loader = ThumbLoader(path)
    loader.ready.connect(lambda number, _: came.append(number))
    for row in model.all_rows()[:2000]:
        loader.ask(row.id)
        application.processEvents()
        while len(came) < row.id - 50:
            application.processEvents()
    loader.close()
    print(f"thumbnails from the case: {len(came) / (time.perf_counter() - began):.0f} a second")
    triage.order_by(SortKey.NAME)
    print(f"longest gap while 200 results a second come in: {1000 * fed(application, session, path, base):.0f} ms")
    print(f"memory: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000:.0f} MB")
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
