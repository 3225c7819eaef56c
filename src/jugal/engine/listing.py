"""What lies in the sources before anything is examined: how many files and bytes each choice would take in."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from jugal.engine.run import Choice, admits, guess_kind
from jugal.engine.walk import Entry, walk
from jugal.model.result import Kind

_EVERY = 5000


@dataclass(slots=True)
class Amount:
    """A number of files and their bytes."""

    files: int = 0
    bytes: int = 0

    def add(self, size: int) -> None:
        self.files += 1
        self.bytes += size


@dataclass(slots=True)
class Listing:
    """All entries of the sources, and what they come to by kind and by extension (the names' word, not judged yet)."""

    entries: list[Entry] = field(default_factory=list)
    total: Amount = field(default_factory=Amount)
    kinds: dict[Kind, Amount] = field(default_factory=dict)
    suffixes: dict[str, Amount] = field(default_factory=dict)
    hidden: Amount = field(default_factory=Amount)
    empty: Amount = field(default_factory=Amount)
    unreadable: int = 0
    oldest_ns: int = 0
    newest_ns: int = 0
    complete: bool = False

    def add(self, entry: Entry) -> None:
        """Counts one entry in."""
        self.entries.append(entry)
        if entry.skipped is not None:
            self.unreadable += 1
            return
        self.total.add(entry.size)
        self.kinds.setdefault(guess_kind(entry.path), Amount()).add(entry.size)
        self.suffixes.setdefault(suffix_of(entry.path), Amount()).add(entry.size)
        if os.path.basename(entry.path).startswith("."):
            self.hidden.add(entry.size)
        if entry.size == 0:
            self.empty.add(0)
        self.oldest_ns = min(self.oldest_ns or entry.mtime_ns, entry.mtime_ns)
        self.newest_ns = max(self.newest_ns, entry.mtime_ns)

    def taken_by(self, choice: Choice) -> Amount:
        """What a run with this choice would examine."""
        amount = Amount()
        for entry in self.entries:
            if entry.skipped is None and admits(choice, entry):
                amount.add(entry.size)
        return amount

    def usual_suffixes(self, most: int = 60) -> list[tuple[str, Amount]]:
        """The extensions with the most files, those first."""
        ranked = Counter({suffix: amount.files for suffix, amount in self.suffixes.items()})
        return [(suffix, self.suffixes[suffix]) for suffix, _ in ranked.most_common(most)]


def suffix_of(path: str) -> str:
    """A file's extension in small letters without the dot, empty where it has none."""
    return os.path.splitext(path)[1].lower().lstrip(".")


def list_sources(paths: Iterable[str]) -> Iterator[Listing]:
    """Walks the sources; yields the listing as it grows, and once more when it is complete. Each file counts once."""
    listing = Listing()
    seen: set[str] = set()
    for entry in walk(paths):
        if entry.path in seen:
            continue
        seen.add(entry.path)
        listing.add(entry)
        if len(listing.entries) % _EVERY == 0:
            yield listing
    listing.complete = True
    yield listing
