"""Long work in threads of its own, told to the window by queued signals. One way there, one way back."""

from __future__ import annotations

import contextlib
import logging
import threading
from collections.abc import Callable, Iterator
from typing import Any

from PySide6.QtCore import QObject, Signal

log = logging.getLogger(__name__)


class Job(QObject):
    """Runs a generator in a thread; each value it yields comes out as ``told``, its end as ``ended``.

    ``ended`` carries an empty string, or the sentence of what went wrong.
    """

    told = Signal(object)
    ended = Signal(str)

    def __init__(self, work: Callable[[], Iterator[Any]], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._work = work
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True)

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        """Asks the job to end after the value it is at."""
        self._stop.set()

    def wait(self, seconds: float = 10.0) -> bool:
        """Waits for the thread; True where it ended."""
        self._thread.join(seconds)
        return not self._thread.is_alive()

    @property
    def running(self) -> bool:
        return self._thread.is_alive()

    def _run(self) -> None:
        problem = ""
        try:
            for value in self._work():
                self._emit(self.told, value)
                if self._stop.is_set():
                    break
        except Exception as error:  # whatever a job meets must reach the window as a sentence, not end the process
            log.exception("a job failed")
            problem = str(error) or type(error).__name__
        self._emit(self.ended, problem)

    @staticmethod
    def _emit(signal: Any, value: Any) -> None:
        # The window may have closed while the job ran; its results are in the case.
        with contextlib.suppress(RuntimeError):
            signal.emit(value)
