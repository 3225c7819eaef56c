"""A run over many files in worker processes: bounded queue, deadlines, pause, cancel; a dead worker costs one file."""

from __future__ import annotations

import os
import threading
import time
from collections import Counter, deque
from collections.abc import Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, wait
from concurrent.futures.process import BrokenProcessPool
from typing import Any

from jugal.binary.limits import DEFAULT_LIMITS, Limits
from jugal.engine.events import Event, Examined, Finished, Listed
from jugal.engine.walk import Entry
from jugal.engine.worker import examine_group, prepare
from jugal.engine.workers import DIED, Workers
from jugal.model.result import Examination
from jugal.model.small import Small

_GROUP_FILES = 16
_GROUP_BYTES = 1 << 20
_BASE_SECONDS = 90.0
_SLOWEST, _SLOWEST_BITS = 8 << 20, 1 << 19  # bytes a second
_MAX_TRIES = 4  # of one file whose death, or that of another beside it, broke all processes


def default_workers() -> int:
    """One worker a core that this process may use."""
    return max(1, len(os.sched_getaffinity(0)))


class Batch:
    """One run. Iterate ``run`` in a thread of your own; the controls may be called from any thread."""

    def __init__(
        self,
        entries: Iterable[Entry],
        workers: int | None = None,
        thumbnails: bool = True,
        limits: Limits = DEFAULT_LIMITS,
    ) -> None:
        self._entries = list(entries)
        self._limits = limits
        self._workers = workers or default_workers()
        self._thumbnails = thumbnails
        self._go = threading.Event()
        self._go.set()
        self._cancelled = threading.Event()
        self._groups: deque[list[Entry]] = deque()
        self._broken: Counter[str] = Counter()
        self._lock = threading.Lock()

    def pause(self) -> None:
        """No further file is begun until ``resume``; those being examined are finished."""
        self._go.clear()

    def resume(self) -> None:
        self._go.set()

    @property
    def paused(self) -> bool:
        return not self._go.is_set()

    def cancel(self) -> None:
        """Ends the run; what is known so far has been delivered as events."""
        self._cancelled.set()
        self._go.set()

    def waiting(self) -> list[str]:
        """Paths of the files that no worker has taken yet."""
        with self._lock:
            return [e.path for group in self._groups for e in group]

    def bring_forward(self, paths: Iterable[str]) -> None:
        """Has these files examined before all others that wait."""
        wanted = set(paths)
        with self._lock:
            first = [[e] for group in self._groups for e in group if e.path in wanted]
            rest = [[e for e in group if e.path not in wanted] for group in self._groups]
            self._groups = deque([*first, *(group for group in rest if group)])

    def run(self) -> Iterator[Event]:
        """The run's events, in the order in which files are done."""
        files = [e for e in self._entries if e.skipped is None]
        yield Listed(len(self._entries), sum(e.size for e in files))
        done, done_bytes = 0, 0
        for entry in self._entries:
            if entry.skipped is not None:
                done += 1
                yield Examined(entry, Examination(entry.path, 0, error=entry.skipped), None, done, done_bytes)
        pool = Workers(self._workers, prepare, preload="jugal.engine.worker")
        pending: dict[Future[Any], list[Entry]] = {}
        with self._lock:
            self._groups = deque(_groups(files))
        try:
            while self._groups or pending:
                if self._cancelled.is_set():
                    break
                while len(pending) < 3 * self._workers and self._go.is_set():
                    with self._lock:
                        if not self._groups:
                            break
                        group = self._groups.popleft()
                    pending[self._submit(pool, group)] = group
                if not pending:
                    time.sleep(0.05)
                    continue
                finished, _ = wait(pending, timeout=0.2, return_when=FIRST_COMPLETED)
                if not finished:
                    pool.mend()
                for future in finished:
                    group = pending.pop(future)
                    for entry, examination, small in self._collect(future, group):
                        done += 1
                        done_bytes += entry.size
                        yield Examined(entry, examination, small, done, done_bytes)
        finally:
            if pending or self._cancelled.is_set():
                pool.stop()
            else:
                pool.close()
        yield Finished(done, self._cancelled.is_set())

    def _submit(self, pool: Workers, group: list[Entry]) -> Future[Any]:
        size = sum(e.size for e in group)
        # Of video each bit may have to be followed, which takes far longer than reading it.
        deadline = _BASE_SECONDS + size / _SLOWEST + min(size, self._limits.followed) / _SLOWEST_BITS
        return pool.submit(examine_group, ([e.path for e in group], self._thumbnails, self._limits), deadline)

    def _collect(self, future: Future[Any], group: list[Entry]) -> Iterator[tuple[Entry, Examination, Small | None]]:
        """A group's results; where its worker died the files are tried again one by one, then given up one by one."""
        try:
            results = future.result()
        except (TimeoutError, MemoryError, OSError, *DIED) as error:
            again = len(group) > 1
            if isinstance(error, BrokenProcessPool):
                self._broken.update(e.path for e in group)
                again = again or self._broken[group[0].path] < _MAX_TRIES
            if again:
                with self._lock:
                    self._groups.extendleft([e] for e in group)
                return
            sentence = {
                "TimeoutError": "The examination took too long and was given up.",
                "MemoryError": "The examination needed more memory than it is allowed.",
            }.get(type(error).__name__, "The examination's process died on this file.")
            yield group[0], Examination(group[0].path, group[0].size, error=sentence), None
            return
        for entry, (examination, small) in zip(group, results, strict=True):
            yield entry, examination, small


def _groups(files: list[Entry]) -> list[list[Entry]]:
    """Large files first and alone, so that none is left for the end; small ones in groups that go together."""
    large = sorted((e for e in files if e.size > _GROUP_BYTES), key=lambda e: -e.size)
    groups: list[list[Entry]] = []
    current: list[Entry] = []
    weight = 0
    for entry in files:
        if entry.size > _GROUP_BYTES:
            continue
        if current and (len(current) >= _GROUP_FILES or weight + entry.size > _GROUP_BYTES):
            groups.append(current)
            current, weight = [], 0
        current.append(entry)
        weight += entry.size
    if current:
        groups.append(current)
    # Alternate, so that results of both sorts come early.
    mixed: list[list[Entry]] = []
    big = deque([e] for e in large)
    small = deque(groups)
    while big or small:
        if big:
            mixed.append(big.popleft())
        if small:
            mixed.append(small.popleft())
    return mixed
