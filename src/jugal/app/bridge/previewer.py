"""Asks the preview process for pictures. A decoder that dies or hangs costs its preview, never the window."""

from __future__ import annotations

import contextlib
import logging
from concurrent.futures import CancelledError, Future
from functools import partial
from typing import Any

from PySide6.QtCore import QObject, Signal

from jugal.app.bridge.decode import Preview, limit_memory, render
from jugal.engine.workers import DIED, Workers

_DEADLINE_S = 20
log = logging.getLogger(__name__)


def _reason(error: Exception) -> str:
    """What a decoder says, without the path that it says it of."""
    words = str(getattr(error, "strerror", None) or error).split(":")[0].strip().rstrip(".")
    return words[:80].lower() or type(error).__name__


class Previewer(QObject):
    """One child process. ``ready`` carries the request's key and a Preview."""

    ready = Signal(object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._workers = Workers(1, limit_memory)
        self._waiting: dict[object, Future[Any]] = {}

    def ask(self, key: object, path: str, format_name: str, kind: str, position: float = 0.0) -> None:
        """Requests a preview; an older request with the same key is given up."""
        old = self._waiting.pop(key, None)
        if old is not None:
            old.cancel()
        future = self._workers.submit(render, (path, format_name, kind, position), _DEADLINE_S)
        self._waiting[key] = future
        future.add_done_callback(partial(self._answer, key))

    def _answer(self, key: object, future: Future[Any]) -> None:
        try:
            preview = future.result()
        except CancelledError:
            return
        except TimeoutError:
            preview = Preview(text="The decoder took too long and was stopped.")
        except DIED:
            preview = Preview(text="The decoder died of this file. The findings below still hold.")
        except Exception as error:  # a decoder may raise anything; it becomes the preview's words
            log.info("no preview: %s", error)
            preview = Preview(
                text=f"No general decoder opens this file ({_reason(error)}). What was found in it still holds."
            )
        with contextlib.suppress(RuntimeError):  # the window is gone
            self.ready.emit(key, preview)

    def close(self) -> None:
        self._workers.stop()
