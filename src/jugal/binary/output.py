"""Writing new files: beside their final name, synced, then named, never over an existing one."""

from __future__ import annotations

import errno
import fcntl
import os
import re
import shutil
import tempfile
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

from jugal.binary.source import Source
from jugal.model.span import ByteSpan

#: A stretch of a repaired file: copied from a source, or new bytes.
Piece = ByteSpan | bytes
_BLOCK = 1 << 22
#: Characters of a name that its unfinished file bears.
_NAME_KEPT = 200


class OutputRefused(Exception):
    """The file cannot be written there; the message is one sentence."""


def _sentence(error: OSError, path: Path) -> str:
    if error.errno == errno.ENOSPC:
        return f"There is no space left for {path.name}."
    if error.errno in (errno.EROFS, errno.EACCES, errno.EPERM):
        return f"{path.parent} cannot be written to."
    return f"{path.name} cannot be written: {error.strerror}."


_SCRATCH = ".jugal-"
_PART = re.compile(r"^\.(.*)\.\d+\.part$", re.DOTALL)
#: What ``free_name`` puts before the extension.
_NUMBERED = re.compile(r" \(\d+\)(?=(\.[^.]*)?$)")


def sweep_parts(paths: Iterable[Path]) -> int:
    """Removes the unfinished files that a dead process left of these outputs, and no others; returns how many.

    An output that had to be numbered because its name was taken is the same output.
    """
    names: dict[Path, set[str]] = {}
    for path in paths:
        names.setdefault(path.parent, set()).add(path.name[:_NAME_KEPT])
    return sum(
        _swept(part)
        for folder, mine in names.items()
        for part, name in _parts(folder)
        if not mine.isdisjoint((name, _NUMBERED.sub("", name)))
    )


def sweep_folder(folder: Path) -> int:
    """Removes what dead processes left unfinished in a folder that is the program's own; returns how many."""
    scratch = [p for p in (folder.glob(f"{_SCRATCH}*") if folder.is_dir() else ()) if p.is_dir() and _abandoned(p)]
    for place in scratch:
        shutil.rmtree(place, ignore_errors=True)
    return len(scratch) + sum(_swept(part) for part, _ in _parts(folder))


@contextmanager
def scratch_folder(into: Path) -> Iterator[Path]:
    """A hidden folder in ``into`` for results that are worked on further; gone at the end, with all that is in it.

    It is held by a lock, so that one left by a dead process is told from one in use. Raises OutputRefused.
    """
    try:
        into.mkdir(parents=True, exist_ok=True)
        place = tempfile.TemporaryDirectory(dir=into, prefix=_SCRATCH)
    except OSError as error:
        raise OutputRefused(_sentence(error, into)) from error
    with place as name:
        handle = os.open(name, os.O_RDONLY | os.O_DIRECTORY)
        try:
            with suppress(OSError):
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            yield Path(name)
        finally:
            os.close(handle)


def _parts(folder: Path) -> list[tuple[Path, str]]:
    """The unfinished files in ``folder``, each with the name it was to have."""
    found = [(path, _PART.match(path.name)) for path in (folder.glob(".*.part") if folder.is_dir() else ())]
    return [(path, match.group(1)) for path, match in found if match is not None]


def _swept(part: Path) -> bool:
    if not _abandoned(part):
        return False
    part.unlink(missing_ok=True)
    return True


def _abandoned(part: Path) -> bool:
    """Whether no process works on this file or folder any more: whoever does holds a lock on it until it ends or dies."""
    try:
        handle = os.open(part, os.O_RDONLY)
    except OSError:
        return False
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    finally:
        os.close(handle)
    return True


@contextmanager
def exclusive_output(path: Path) -> Iterator[BinaryIO]:
    """A binary file that appears under ``path`` only when it is complete and on disk.

    Raises OutputRefused when ``path`` exists or cannot be written; nothing is left behind then.
    """
    part = path.with_name(f".{path.name[:_NAME_KEPT]}.{os.getpid()}.part")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o644)
    except OSError as error:
        raise OutputRefused(_sentence(error, path)) from error
    try:
        with os.fdopen(handle, "wb") as stream:
            with suppress(OSError):  # where there are no locks, an unfinished file is never swept
                fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)
            yield stream
            stream.flush()
            os.fsync(stream.fileno())
        # A hard link fails where the name is taken, on every file system that has links; a rename would not.
        try:
            os.link(part, path)
        except FileExistsError as error:
            raise OutputRefused(f"{path.name} is already there.") from error
        except OSError:
            _rename_without_links(part, path)
        _sync_folder(path.parent)
    except OSError as error:
        raise OutputRefused(_sentence(error, path)) from error
    finally:
        part.unlink(missing_ok=True)


def _rename_without_links(part: Path, path: Path) -> None:
    """For file systems without hard links (exFAT, FAT): claims the name first, then moves over the claim."""
    try:
        os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o644))
    except FileExistsError as error:
        raise OutputRefused(f"{path.name} is already there.") from error
    try:
        os.replace(part, path)
    except OSError:
        path.unlink(missing_ok=True)
        raise


def _sync_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(handle)
    except OSError:
        pass  # some network file systems refuse to sync folders; the file itself is on disk
    finally:
        os.close(handle)


def free_name(folder: Path, name: str) -> Path:
    """``name`` in ``folder``, with a running number before the extension where it is taken."""
    wanted = folder / name
    number = 2
    while wanted.exists() or wanted.is_symlink():
        stem, suffix = Path(name).stem, Path(name).suffix
        wanted = folder / f"{stem} ({number}){suffix}"
        number += 1
    return wanted


def pieces_length(pieces: Iterable[Piece]) -> int:
    return sum(p.length if isinstance(p, ByteSpan) else len(p) for p in pieces)


def write_pieces(stream: BinaryIO, pieces: Iterable[Piece], source: Source) -> int:
    """Writes ``pieces`` in order, spans copied from ``source``; returns the bytes written."""
    written = 0
    for piece in pieces:
        if isinstance(piece, ByteSpan):
            for at in range(piece.start, piece.end, _BLOCK):
                block = source.view(at, min(_BLOCK, piece.end - at))
                stream.write(block)
                written += len(block)
        else:
            stream.write(piece)
            written += len(piece)
    return written
