"""Shared healthy files (made once a session) and a window that leaves nothing behind."""

from __future__ import annotations

import gc
import os
import threading
import time
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path

import pytest
import shiboken6
from hypothesis import settings
from PIL import ImageFile
from PySide6.QtCore import QCoreApplication, QEvent, QSettings, QThread, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QWidget

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from jugal.app.controllers.session import Session
from jugal.app.views.window import Window
from jugal.binary.source import Source
from jugal.engine.examine import examine_source
from jugal.formats.base import Subject
from jugal.formats.isobmff.movie import read_movie
from jugal.formats.isobmff.tables import Track
from jugal.model.result import Examination
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

# No test is timed: kernels are compiled on first use, and machines are noisy.
settings.register_profile("untimed", deadline=None)
settings.load_profile("untimed")


@cache
def healthy(name: str) -> bytes:
    """One healthy file by its short name; made on first use."""
    makers: dict[str, Callable[[], bytes]] = {
        "jpeg": lambda: encode.jpeg(riverbed(800, 600, 1, "T1"), exif=encode.exif_of("Lurga M2", "2026:05:14 07:31:00", 800, 600)),
        "jpeg-restart": lambda: encode.jpeg(riverbed(800, 600, 2), restart_marker_rows=1),
        "jpeg-progressive": lambda: encode.jpeg(riverbed(640, 480, 3), progressive=True),
        "jpeg-grey": lambda: encode.jpeg(riverbed(640, 480, 4).convert("L")),
        "jpeg-video": lambda: encode.jpeg_by_video_encoder(riverbed(640, 480, 5)),
        "png": lambda: encode.png(riverbed(320, 240, 6)),
        "png-palette": lambda: encode.png(riverbed(320, 240, 7).quantize(64)),
        "mp4": lambda: encode.clip(2.0, seed=8),
        "mp4-fast": lambda: encode.clip(2.0, seed=9, mux={"movflags": "faststart"}),
        "mp4-long": lambda: encode.clip(30.0, (96, 64), 25, seed=10, bit_rate=40_000),
        "mp4-fragments": lambda: encode.clip(3.0, seed=11, mux={"movflags": "frag_keyframe+empty_moov+default_base_moof"}),
        "mov": lambda: encode.clip(2.0, seed=12, container="mov", audio="pcm_s16le"),
        "m4a": lambda: encode.sound("aac", "ipod", 3.0),
        "wav": lambda: encode.wav(2.0),
        "wav-24": lambda: encode.wav(2.0, width=3),
        "mp3": lambda: encode.sound("libmp3lame", "mp3", 4.0),
        "flac": lambda: encode.sound("flac", "flac", 3.0),
        "pdf": lambda: encode.pdf(3),
        "docx": encode.docx,
        "xlsx": encode.xlsx,
        "odt": encode.odt,
        "zip": encode.archive,
    }  # fmt: skip
    return makers[name]()


HEALTHY = (
    "jpeg", "jpeg-restart", "jpeg-progressive", "jpeg-grey", "jpeg-video", "png", "png-palette", "mp4", "mp4-fast", "mp4-long",
    "mp4-fragments", "mov", "m4a", "wav", "wav-24", "mp3", "flac", "pdf", "docx", "xlsx", "odt", "zip",
)  # fmt: skip


def subject_of(data: bytes) -> Subject:
    """Bytes held in memory as the examiners and repairs take them."""
    return Subject(Source.from_bytes(data))


def examine(data: bytes, name: str = "memory") -> Examination:
    """The examination of bytes held in memory."""
    return examine_source(Source.from_bytes(data, name))


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A folder with a few healthy and damaged files."""
    place = tmp_path / "card"
    place.mkdir()
    (place / "a.jpg").write_bytes(healthy("jpeg"))
    (place / "b.jpg").write_bytes(healthy("jpeg")[: len(healthy("jpeg")) // 2])
    (place / "c.jpg").write_bytes(b"x" * 900 + healthy("jpeg"))
    (place / "d.wav").write_bytes(healthy("wav"))
    (place / ".hidden.txt").write_text("The water was clear to the bottom.\n" * 20)
    return place


def track_of(data: bytes) -> Track:
    """The first track of a movie held in memory."""
    return read_movie(Subject(Source.from_bytes(data))).tracks[0]


# The window


def until(condition: Callable[[], bool], seconds: float = 60.0) -> None:
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "it did not happen in time"
        QApplication.processEvents()
        time.sleep(0.005)


@pytest.fixture
def card(tmp_path: Path) -> Path:
    place = tmp_path / "card"
    place.mkdir()
    (place / "whole.jpg").write_bytes(healthy("jpeg"))
    (place / "junk.jpg").write_bytes(b"x" * 900 + healthy("jpeg"))
    (place / "hole.jpg").write_bytes(harm(healthy("jpeg"), "jpeg", "zero-cluster", 3).data)
    (place / "clip.mp4").write_bytes(harm(healthy("mp4"), "mp4", "offsets-shifted", 3).data)
    (place / "sound.wav").write_bytes(healthy("wav"))
    (place / "notes.docx").write_bytes(healthy("docx"))
    (place / "zeros.bin").write_bytes(bytes(4096))
    return place


@pytest.fixture(autouse=True)
def strict_pillow(monkeypatch: pytest.MonkeyPatch) -> None:
    """What one test lets Pillow forgive, the next one on the same worker must not find forgiven."""
    monkeypatch.setattr(ImageFile, "LOAD_TRUNCATED_IMAGES", False)


@pytest.fixture(autouse=True)
def nothing_left_behind(request: pytest.FixtureRequest) -> Iterator[None]:
    """No test of the window leaves a window, a running timer or a thread of Qt's behind."""
    if not {"qapp", "qtbot", "window"} & set(request.fixturenames):
        yield
        return
    request.getfixturevalue("qapp")
    before = {id(w) for w in QApplication.topLevelWidgets()} | _running()
    yield
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    until(lambda: not [w for w in QApplication.topLevelWidgets() if id(w) not in before], 10)
    until(lambda: not _running() - before, 10)


def _running() -> set[int]:
    """Timers and threads that run, by identity."""
    gc.collect()
    found = [o for o in gc.get_objects() if isinstance(o, (QTimer, QThread)) and shiboken6.isValid(o)]
    return {id(o) for o in found if (o.isActive() if isinstance(o, QTimer) else o.isRunning())}


@pytest.fixture
def window(qapp: QApplication, tmp_path: Path) -> Iterator[Window]:
    session = Session()
    made = Window(session, QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat))
    assert session.open_case(tmp_path / "work" / "case.jugal")
    made.show()
    before = threading.active_count()
    yield made
    made.close()
    until(lambda: threading.active_count() <= before, 20)
    delete(made)


def delete(window: QWidget) -> None:
    """Deletes a closed window now: turns of the event loop made by hand leave deletions undone, and every window that
    is left is styled again with each new one."""
    window.deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    QApplication.processEvents()


def keys(widget: QWidget, text: str) -> None:
    QTest.keySequence(widget, text)
    QApplication.processEvents()


@pytest.fixture
def examined(window: Window, card: Path) -> Window:
    """A window whose case holds the files of ``card``, all examined and looked over."""
    run(window, card)
    return window


def run(window: Window, *sources: Path) -> None:
    """Adds sources, examines them and waits until copies and small pictures are done too."""
    session = window.session
    session.add_sources([str(s) for s in sources])
    ended: list[str] = []
    session.run_ended.connect(ended.append)
    window.start_run()
    until(lambda: bool(ended))
    assert ended == [""]
    until(lambda: not session.looking_over)
    QApplication.processEvents()


def number_of(window: Window, name: str) -> int:
    """The number of the file of that name."""
    return next(r.id for r in window.session.model.all_rows() if r.path.endswith(f"/{name}"))
