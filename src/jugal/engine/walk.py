"""Which files a run examines: folders walked, hidden files included, links not followed."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Iterator
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Entry:
    """A file to examine, or with ``skipped`` a sentence why it is not one. ``path`` is absolute."""

    path: str
    size: int = 0
    mtime_ns: int = 0
    skipped: str | None = None


_SPECIAL = {
    stat.S_IFIFO: "a named pipe",
    stat.S_IFSOCK: "a socket",
    stat.S_IFCHR: "a character device",
    stat.S_IFBLK: "a block device",
}


def entry_of(path: str) -> Entry:
    """The entry for one path, which is not followed where it is a link inside a folder."""
    try:
        info = os.lstat(path)
    except OSError as error:
        return Entry(path, skipped=f"The file cannot be read: {error.strerror}.")
    kind = stat.S_IFMT(info.st_mode)
    if kind in _SPECIAL:
        return Entry(path, skipped=f"This is {_SPECIAL[kind]}, not a file; it was left alone.")
    return Entry(path, info.st_size, info.st_mtime_ns)


def walk(paths: Iterable[str | os.PathLike[str]]) -> Iterator[Entry]:
    """All files under ``paths``, folder by folder in name order; each once. Paths given may themselves be links."""
    seen: set[tuple[int, int]] = set()
    for given in paths:
        top = os.path.abspath(os.fspath(given))
        try:
            info = os.stat(top)
        except OSError as error:
            yield Entry(top, skipped=f"The file cannot be read: {error.strerror}.")
            continue
        if not stat.S_ISDIR(info.st_mode):
            if stat.S_ISREG(info.st_mode):
                yield Entry(top, info.st_size, info.st_mtime_ns)
            else:
                yield entry_of(top)
            continue
        yield from _walk_folder(top, seen)


def _walk_folder(top: str, seen: set[tuple[int, int]]) -> Iterator[Entry]:
    stack = [top]
    while stack:
        folder = stack.pop()
        try:
            info = os.stat(folder)
            if (info.st_dev, info.st_ino) in seen:
                continue  # the same folder by a second way (a bind mount, or a path given twice)
            seen.add((info.st_dev, info.st_ino))
            with os.scandir(folder) as listing:
                entries = sorted(listing, key=lambda e: e.name)
        except OSError as error:
            yield Entry(folder, skipped=f"The folder cannot be read: {error.strerror}.")
            continue
        below: list[str] = []
        for entry in entries:
            try:
                if entry.is_symlink():
                    continue
                if entry.is_dir(follow_symlinks=False):
                    below.append(entry.path)
                    continue
            except OSError:
                pass
            yield entry_of(entry.path)
        stack.extend(reversed(below))
