"""``make bench-window``: how the window holds up with a large case, with large photographs, and while results come in.

Whatever has to be made for it is made in processes of their own, so that the memory measured is the window's.
"""

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
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QApplication

from jugal.app.controllers.session import Session
from jugal.app.views.window import Window
from jugal.case.catalog import Filter, SortKey
from jugal.case.store import Case
from jugal.model.result import Examination

CAMERAS = ("Lurga M2", "Tern Compact 7", "")


def elsewhere(function: Any, *arguments: object) -> Any:
    """Calls a function in a process of its own; what it returns."""
    with ProcessPoolExecutor(1, multiprocessing.get_context("spawn")) as pool:
        return pool.submit(function, *arguments).result()


def make_small_files(place: Path, count: int) -> None:
    """A folder of small photographs, most of them cut short."""
    from jugal.samples import encode
    from jugal.samples.scenes import riverbed

    place.mkdir()
    photo = encode.jpeg(riverbed(200, 150, 1))
    for i in range(count):
        (place / f"{i}.jpg").write_bytes(photo[: len(photo) - i % 7 * 100])


def make_photographs(place: Path, count: int) -> None:
    """A folder of photographs of 20 megapixels: ten of them, each under many names."""
    from jugal.samples import encode
    from jugal.samples.scenes import riverbed

    place.mkdir()
    for i in range(10):
        (place / f"{i}-0000.jpg").write_bytes(encode.jpeg(riverbed(1290, 970, i).resize((5160, 3880)), quality=85))
    for i in range(count - 10):
        os.link(place / f"{i % 10}-0000.jpg", place / f"{i % 10}-{i // 10 + 1:04d}.jpg")


def gap(application: QApplication, folder: Path) -> float:
    """Seconds of the longest gap between two turns of the event loop while 2,000 files come in."""
    place = folder / "in"
    elsewhere(make_small_files, place, 2000)
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


def make_large(path: Path, count: int) -> Examination:
    """A case of ``count`` damaged photographs that was never examined; the examination they share."""
    from jugal.binary.source import Source
    from jugal.engine.examine import examine_source
    from jugal.engine.worker import small_picture
    from jugal.samples import encode
    from jugal.samples.scenes import riverbed

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
    return replace(base, thumbnail=None)


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
    longest, turn = 0.0, time.perf_counter()
    while not ended.is_set():
        while not numbers.empty():
            session.model.take_in(numbers.get())
        application.processEvents()
        longest, turn = max(longest, time.perf_counter() - turn), time.perf_counter()
    return longest


def large(application: QApplication, folder: Path, count: int) -> None:
    """Opening, filtering, sorting and scrolling a case of ``count`` files."""
    path = folder / "large.jugal"
    base = elsewhere(make_large, path, count)
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
    print(f"thumbnails from the case: {leafed(application, window, 40):.0f} a second, sheet by sheet")
    triage.order_by(SortKey.NAME)
    print(f"longest gap while 200 results a second come in: {1000 * fed(application, session, path, base):.0f} ms")
    print(f"memory: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000:.0f} MB")
    window.close()


def leafed(application: QApplication, window: Window, sheets: int) -> float:
    """Small pictures a second while the contact sheet is leafed through, each sheet as soon as the last is complete.

    Counted from the second sheet on: with the first the case is still being opened.
    """
    model, triage = window.session.model, window.triage
    triage.show_as_sheet(True)
    triage.order_by(SortKey.FOUND)
    bar = triage.sheet.verticalScrollBar()
    began, shown = time.perf_counter(), 0
    for page in range(sheets):
        bar.setValue(page * bar.pageStep())
        application.processEvents()
        rows = triage.sheet.visible_rows()
        while any(model.thumb_at(row) is None for row in rows):
            application.processEvents()
            time.sleep(0.001)  # as the event loop does between events; turning on the spot would starve the reader
        if page == 0:
            began = time.perf_counter()
        else:
            shown += len(rows)
        if bar.value() == bar.maximum():
            break
    return shown / (time.perf_counter() - began)


def photographs(application: QApplication, folder: Path, count: int) -> None:
    """The contact sheet of photographs of 20 megapixels, while they are examined and from the stored case."""
    place, path = folder / "photographs", folder / "photographs.jugal"
    elsewhere(make_photographs, place, count)
    session = Session()
    window = Window(session, QSettings(str(folder / "s.ini"), QSettings.Format.IniFormat))
    window.show()
    session.open_case(path)
    session.add_sources([str(place)])
    window.go("triage")
    window.triage.show_as_sheet(True)
    told: dict[int, float] = {}
    behind: list[float] = []
    ended: list[str] = []
    session.run_told.connect(lambda state: told.update(dict.fromkeys(state.progress.numbers, time.perf_counter())))
    session.run_ended.connect(ended.append)
    began = time.perf_counter()
    session.start_run()
    bar, model = window.triage.sheet.verticalScrollBar(), session.model
    while not ended or told:
        application.processEvents()
        bar.setValue(bar.maximum())
        for number in [n for n in told if model.thumb_at(model.place_of(n)) is not None]:
            behind.append(time.perf_counter() - told.pop(number))
    print(
        f"{count} photographs of 20 megapixels: {count / (time.perf_counter() - began):.1f} examined a second, their "
        f"small pictures {1000 * float(np.median(behind)):.0f} ms behind the results, {1000 * max(behind):.0f} ms at most"
    )
    session.open_case(folder / "other.jugal")
    session.open_case(path)
    while model.total() < count:
        application.processEvents()
    print(f"their small pictures from the case: {leafed(application, window, 100):.0f} a second, sheet by sheet")
    window.close()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--gap-only", action="store_true")
    parser.add_argument("--files", type=int, default=100_000)
    parser.add_argument("--photographs", type=int, default=500)
    arguments = parser.parse_args()
    application = QApplication(sys.argv[:1])
    with tempfile.TemporaryDirectory(prefix="jugal-window-") as name:
        if not arguments.gap_only:
            large(application, Path(name), arguments.files)
            photographs(application, Path(name), arguments.photographs)
        print(f"longest gap while 2,000 files are examined: {1000 * gap(application, Path(name)):.0f} ms")


if __name__ == "__main__":
    main()
