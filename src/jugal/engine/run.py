"""A run into a case: what is known already is not examined again, results are stored as they come."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from jugal.case.store import Case
from jugal.engine.batch import Batch
from jugal.engine.events import Examined, Finished, Listed
from jugal.engine.walk import Entry, walk
from jugal.formats.registry import kind_of
from jugal.model.result import Kind

_SAVE_EVERY_S = 0.25
_SAVE_MOST = 200


@dataclass(frozen=True, slots=True)
class Choice:
    """What a run shall take in."""

    kinds: frozenset[Kind] = frozenset()
    hidden: bool = True
    empty: bool = True
    smallest: int = 0


def guess_kind(path: str) -> Kind:
    """The kind a file's name speaks of; used to choose before a run, never to judge."""
    import os

    from jugal.formats.registry import RECOGNISED, extension_fits, formats

    suffix = os.path.splitext(path)[1].lower().lstrip(".")
    if not suffix:
        return Kind.OTHER
    for name in (*formats(), *RECOGNISED):
        if name not in ("unknown", "text", "xml", "json") and extension_fits(name, suffix):
            return kind_of(name)
    return Kind.DOCUMENT if suffix in ("txt", "csv", "md", "log", "xml", "json") else Kind.OTHER


def chosen(entries: Iterable[Entry], choice: Choice) -> list[Entry]:
    """The entries that a choice lets through. Names that speak of no kind are always let through, so that none is hidden."""
    import os

    kept = []
    for entry in entries:
        name = os.path.basename(entry.path)
        if not choice.hidden and name.startswith("."):
            continue
        if entry.skipped is None:
            if entry.size == 0 and not choice.empty:
                continue
            if entry.size < choice.smallest:
                continue
            if choice.kinds:
                kind = guess_kind(entry.path)
                if kind is not Kind.OTHER and kind not in choice.kinds:
                    continue
        kept.append(entry)
    return kept


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
    """A run over the case's sources. Iterate ``run`` in a thread of its own, with a Case opened in that thread."""

    def __init__(
        self, case: Case, choice: Choice = Choice(), workers: int | None = None, first: Iterable[str] = ()
    ) -> None:
        self._case = case
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
        return tuple(self._case.save([(e.examination, e.entry.mtime_ns, e.thumbnail) for e in waiting]))
