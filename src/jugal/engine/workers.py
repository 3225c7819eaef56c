"""Processes that calls are made in: each call may end its process or take too long, and the next one finds a working one."""

from __future__ import annotations

import multiprocessing
import threading
from collections.abc import Callable
from concurrent.futures import Future, InvalidStateError
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from typing import Any

from pebble import ProcessExpired, ProcessPool

#: What the future of a call raises whose process died. ``BrokenProcessPool`` is raised by all calls that were under way:
#: which one was to blame is not known where a process dies before it is read that it had begun a call.
DIED = (ProcessExpired, BrokenProcessPool, EOFError)


class Workers:
    """``number`` processes, begun with the first call; each runs ``prepare`` first. Safe to use from several threads.

    ``preload`` names the module that the process they are forked from has loaded.
    """

    def __init__(self, number: int, prepare: Callable[[], None], preload: str | None = None) -> None:
        self._number, self._prepare = number, prepare
        self._context = multiprocessing.get_context("forkserver")
        if preload is not None:
            self._context.set_forkserver_preload([preload])
        self._lock = threading.RLock()
        self._under_way: set[Future[Any]] = set()
        self._pool: Any = self._new()

    def submit(self, work: Callable[..., Any], given: tuple[object, ...], seconds: float) -> Future[Any]:
        """``work(*given)``; the future raises TimeoutError ``seconds`` after the call began, DIED, or what it raised."""
        with self._lock:
            self.mend()
            future: Future[Any] = self._pool.schedule(work, args=given, timeout=seconds)
            self._under_way.add(future)
        future.add_done_callback(self._under_way.discard)
        return future

    def mend(self) -> None:
        """Begins the processes anew where they broke; calls that broke with them raise so. At no cost otherwise."""
        with self._lock:
            if self._pool.active:
                return
            self._pool.stop()
            self._pool.join()
            self._pool = self._new()
            for future in tuple(self._under_way):
                with suppress(InvalidStateError):
                    future.set_exception(BrokenProcessPool("The processes broke."))

    def close(self) -> None:
        """Ends the processes when the calls under way are done."""
        self._pool.close()
        self._pool.join()

    def stop(self) -> None:
        """Ends the processes at once."""
        self._pool.stop()
        self._pool.join()

    def _new(self) -> Any:
        return ProcessPool(max_workers=self._number, initializer=self._prepare, context=self._context)
