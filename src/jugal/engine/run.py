"""A run into a case: what is known already is not examined again, results are stored as they come."""

from __future__ import annotations

import os
import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cache

from jugal.binary.limits import TO_THE_BIT
from jugal.case.store import Case
from jugal.engine.batch import Batch
from jugal.engine.events import Examined, Finished, Listed
from jugal.engine.walk import Entry, walk
from jugal.formats.registry import RECOGNISED, extension_fits, formats, kind_of
from jugal.model.result import Kind

_SAVE_EVERY_S = 0.25
_SAVE_MOST = 200


@dataclass(frozen=True, slots=True)
class Choice:
    """What a run shall take in. No kind ticked is every kind; sizes in bytes, 0 for no limit; times as of ``os.stat``."""

    kinds: frozenset[Kind] = frozenset()
    hidden: bool = True
    empty: bool = True
    smallest: int = 0
    largest: int = 0
    without_suffixes: frozenset[str] = frozenset()
    since_ns: int = 0
    until_ns: int = 0


@cache
def _kind_of_suffix(suffix: str) -> Kind:
    for name in (*formats(), *RECOGNISED):
        if name not in ("unknown", "text", "xml", "json") and extension_fits(name, suffix):
            return kind_of(name)
    return Kind.DOCUMENT if suffix in ("txt", "csv", "md", "log", "xml", "json") else Kind.OTHER


def guess_kind(path: str) -> Kind:
    """The kind a file's name speaks of; used to choose before a run, never to judge."""
    suffix = os.path.splitext(path)[1].lower().lstrip(".")
    return _kind_of_suffix(suffix) if suffix else Kind.OTHER


def admits(choice: Choice, entry: Entry) -> bool:
    """Whether a choice lets a file through. A name that speaks of no kind is let through, so that none is hidden."""
    name = os.path.basename(entry.path)
    if not choice.hidden and name.startswith("."):
        return False
    if entry.skipped is not None:
        return True
    if (entry.size == 0 and not choice.empty) or entry.size < choice.smallest:
        return False
    if choice.largest and entry.size > choice.largest:
        return False
    if (choice.since_ns and entry.mtime_ns < choice.since_ns) or (choice.until_ns and entry.mtime_ns > choice.until_ns):
        return False
    if choice.without_suffixes and os.path.splitext(name)[1].lower().lstrip(".") in choice.without_suffixes:
        return False
    kind = guess_kind(entry.path) if choice.kinds else Kind.OTHER
    return kind is Kind.OTHER or kind in choice.kinds


def chosen(entries: Iterable[Entry], choice: Choice) -> list[Entry]:
    """The entries that a choice lets through."""
    return [entry for entry in entries if admits(choice, entry)]


@dataclass(frozen=True, slots=True)
class Progress:
    """How far a run is. ``numbers`` are the files stored since the last progress."""

    files: int
    files_total: int
    bytes: int
    bytes_total: int
    numbers: tuple[int, ...] = ()
    finished: bool = False
    cancelled: bool = False


class CaseRun:
    """A run over the case's sources. Iterate ``run`` in a thread of its own, with a Case opened in that thread.

    With ``again`` it is one over these files instead, known or not, of whose video every bit is followed.
    """

    def __init__(
        self,
        case: Case,
        choice: Choice = Choice(),
        workers: int | None = None,
        first: Iterable[str] = (),
        again: Iterable[str] = (),
    ) -> None:
        self._case = case
        if paths := list(again):
            self._todo = [e for e in walk(paths) if e.skipped is None]
            self._done = self._done_bytes = 0
            self.batch = Batch(self._todo, workers, limits=TO_THE_BIT)
            return
        first_paths = list(first)
        entries = chosen(walk([*first_paths, *case.sources()]), choice)
        seen: set[str] = set()
        unique = [e for e in entries if not (e.path in seen or seen.add(e.path))]  # type: ignore[func-returns-value]
        known = case.known()
        self._todo = [e for e in unique if known.get(e.path) != (e.size, e.mtime_ns)]
        self._done = len(unique) - len(self._todo)
        self._done_bytes = sum(e.size for e in unique) - sum(e.size for e in self._todo)
        self.batch = Batch(self._todo, workers)

    def run(self) -> Iterator[Progress]:
        """Progress after each storing of results, at most a few times a second."""
        total, total_bytes = self._done, self._done_bytes
        waiting: list[Examined] = []
        saved_at = time.monotonic()
        done, done_bytes = self._done, self._done_bytes
        for event in self.batch.run():
            if isinstance(event, Listed):
                total, total_bytes = self._done + event.files, self._done_bytes + event.bytes
                self._case.put("run", "begun")
                yield Progress(done, total, done_bytes, total_bytes)
            elif isinstance(event, Examined):
                waiting.append(event)
                done, done_bytes = self._done + event.files_done, self._done_bytes + event.bytes_done
                if len(waiting) >= _SAVE_MOST or time.monotonic() - saved_at > _SAVE_EVERY_S:
                    yield Progress(done, total, done_bytes, total_bytes, self._store(waiting))
                    waiting, saved_at = [], time.monotonic()
            elif isinstance(event, Finished):
                numbers = self._store(waiting)
                self._case.put("run", "cancelled" if event.cancelled else "finished")
                yield Progress(done, total, done_bytes, total_bytes, numbers, True, event.cancelled)

    def _store(self, waiting: list[Examined]) -> tuple[int, ...]:
        return tuple(self._case.save([(e.examination, e.entry.mtime_ns, e.small) for e in waiting]))
