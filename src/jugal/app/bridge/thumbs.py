"""Small pictures read from the case and decoded in a thread of their own, so that scrolling never waits for them."""

from __future__ import annotations

import contextlib
import io
import logging
import threading
import time
from pathlib import Path

from PIL import Image
from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from jugal.case.schema import CaseError
from jugal.case.store import Case

#: What was asked for longer ago than this many requests has been scrolled away and is not read any more.
_PENDING = 120
_REST_S = 0.005
_LONGEST_WAIT_S = 0.15


def _decoded(jpeg: bytes) -> QImage:
    """Our own small JPEG as an image. Decoded by Pillow, which lets the interface thread run meanwhile."""
    with Image.open(io.BytesIO(jpeg)) as picture:
        pixels = (picture if picture.mode == "RGB" else picture.convert("RGB")).tobytes("raw", "BGRX")
        return QImage(pixels, picture.width, picture.height, QImage.Format.Format_RGB32).copy()


log = logging.getLogger(__name__)


class ThumbLoader(QObject):
    """``ready`` carries the loader itself, a file's number and its QImage, or None where the file has none.

    Newest requests come first.
    """

    ready = Signal(object, int, object)

    def __init__(self, path: Path) -> None:
        super().__init__()
        self._path = path
        self._wanted: list[int] = []
        self._change = threading.Condition()
        self._closed = False
        self._asked_at = 0.0
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def ask(self, number: int) -> list[int]:
        """Requests a picture; returns the numbers of older requests that are given up for it."""
        with self._change:
            self._asked_at = time.monotonic()
            if number not in self._wanted:
                self._wanted.append(number)
            given_up = self._wanted[:-_PENDING]
            del self._wanted[:-_PENDING]
            self._change.notify()
        return given_up

    def close(self) -> None:
        """Ends the thread."""
        with self._change:
            self._closed = True
            self._change.notify()
        self._thread.join(10)

    def _wait_for_rest(self) -> None:
        """While rows rush by, the interface thread needs the interpreter for itself; pictures come when they rest."""
        end = time.monotonic() + _LONGEST_WAIT_S
        while not self._closed and time.monotonic() < min(end, self._asked_at + _REST_S):
            time.sleep(_REST_S / 4)

    def _run(self) -> None:
        try:
            case = Case(self._path)
        except CaseError as error:
            log.warning("small pictures cannot be read: %s", error)
            return
        try:
            while True:
                with self._change:
                    self._change.wait_for(lambda: self._closed or bool(self._wanted))
                    if self._closed:
                        return
                self._wait_for_rest()
                with self._change:
                    if self._closed or not self._wanted:
                        continue
                    number = self._wanted.pop()
                jpeg = case.thumbnail(number)
                image = _decoded(jpeg) if jpeg else None
                with contextlib.suppress(RuntimeError):  # the window is gone
                    self.ready.emit(self, number, image)
        finally:
            case.close()
