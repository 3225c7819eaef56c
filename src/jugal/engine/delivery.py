"""Handing over: what goes where under which name, whether it fits, copied, read back and compared."""

from __future__ import annotations

import hashlib
import os
import re
import shutil
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from jugal.binary.output import OutputRefused, exclusive_output
from jugal.case.store import Case, FileRow
from jugal.formats.registry import extension_fits, usual_extension

_BLOCK = 1 << 22


class Arrangement(StrEnum):
    """How delivered files are laid out in folders."""

    AS_FOUND = "as found"
    BY_KIND = "by kind"
    BY_DATE = "by date taken"
    BY_CAMERA = "by camera"


@dataclass(frozen=True, slots=True)
class Item:
    """One file to hand over: where it comes from (itself or its repaired version) and its place in the delivery."""

    file: int
    origin: str
    place: str
    size: int
    repaired: bool


@dataclass(frozen=True, slots=True)
class Fit:
    """Whether a delivery fits its target. ``problem`` forbids it, ``warning`` does not."""

    needed: int
    free: int
    problem: str | None = None
    warning: str | None = None


@dataclass(frozen=True, slots=True)
class Delivered:
    """One item was delivered, or with ``error`` was not."""

    item: Item
    path: str | None
    sha256: str | None
    error: str | None
    files_done: int
    bytes_done: int


def safe_name(name: str) -> str:
    """A name that every common file system takes."""
    cleaned = re.sub(r'[<>:"/\\|?*\x00-\x1f]', "_", name.encode("utf-8", "replace").decode("utf-8")).strip(" .")
    return cleaned[:180] or "unnamed"


def _folder(row: FileRow, arrangement: Arrangement, sources: Sequence[str]) -> str:
    if arrangement is Arrangement.BY_KIND:
        return row.kind.value
    if arrangement is Arrangement.BY_DATE:
        taken = row.media.get("date_taken")
        return str(taken)[:10] if taken else "date unknown"
    if arrangement is Arrangement.BY_CAMERA:
        camera = row.media.get("camera")
        return safe_name(str(camera)) if camera else "camera unknown"
    for source in sources:
        if row.path.startswith(source.rstrip(os.sep) + os.sep):
            inside = os.path.relpath(os.path.dirname(row.path), os.path.dirname(source.rstrip(os.sep)))
            return os.path.join(*(safe_name(part) for part in inside.split(os.sep) if part not in ("", ".", "..")))
    return ""


def plan_delivery(case: Case, numbers: Sequence[int], arrangement: Arrangement, repaired: bool = True) -> list[Item]:
    """The items for these files, each with a place of its own; the repaired version where one is kept."""
    kept = {r.file: r.outcome for r in case.repairs() if r.kept and r.outcome.output} if repaired else {}
    sources = case.sources()
    taken: set[str] = set()
    items = []
    for at in range(0, len(numbers), 500):
        for row in case.rows(numbers[at : at + 500]):
            outcome = kept.get(row.id)
            origin = outcome.output if outcome and outcome.output and os.path.exists(outcome.output) else row.path
            name = safe_name(os.path.basename(origin if origin != row.path else row.path))
            stem, suffix = os.path.splitext(name)
            if not extension_fits(row.format, suffix.lower().lstrip(".")):
                suffix = f".{usual_extension(row.format)}"
            place = os.path.join(_folder(row, arrangement, sources), stem + suffix)
            number = 2
            while place.casefold() in taken:
                place = os.path.join(_folder(row, arrangement, sources), f"{stem} ({number}){suffix}")
                number += 1
            taken.add(place.casefold())
            try:
                size = os.stat(origin).st_size
            except OSError:
                size = row.size
            items.append(Item(row.id, origin, place, size, origin != row.path))
    return items


def check_fit(items: Sequence[Item], target: Path, sources: Sequence[str]) -> Fit:
    """Space, place and permission, before anything is written."""
    needed = sum(i.size for i in items)
    existing = target
    while not existing.exists():
        if existing == existing.parent:
            break
        existing = existing.parent
    try:
        free = shutil.disk_usage(existing).free
    except OSError as error:
        return Fit(needed, 0, f"{target} cannot be reached: {error.strerror}.")
    resolved = target.resolve()
    for source in sources:
        root = Path(source).resolve()
        if resolved == root or resolved.is_relative_to(root):
            return Fit(needed, free, f"{target} lies in the source {source}; nothing is ever written there.")
        if root.is_relative_to(resolved):
            return Fit(needed, free, f"{target} holds the source {source}; choose a folder of its own.")
    if not existing.is_dir() or not os.access(existing, os.W_OK):
        return Fit(needed, free, f"{existing} cannot be written to.")
    if needed > free:
        return Fit(needed, free, "The delivery does not fit: there is not enough space at the target.")
    warning = None
    for source in sources:
        try:
            if os.stat(source).st_dev == os.stat(existing).st_dev:
                warning = "The target lies on the same medium as the source. Another medium is safer."
        except OSError:
            continue
    return Fit(needed, free, None, warning)


def sha256_of(path: str | os.PathLike[str]) -> str:
    """SHA-256 of a file as read back from where it lies."""
    digest = hashlib.sha256()
    with open(path, "rb", buffering=0) as stream:
        if hasattr(os, "posix_fadvise"):
            os.posix_fadvise(stream.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
        while block := stream.read(_BLOCK):
            digest.update(block)
    return digest.hexdigest()


def deliver(case: Case, items: Sequence[Item], target: Path) -> Iterator[Delivered]:
    """Copies the items, reads each copy back and compares it. What this target already got is passed over.

    A name taken by another file is refused for that item; nothing is overwritten. Ends with the checksum list.
    """
    before = case.delivered(str(target))
    delivery = case.begin_delivery(str(target))
    done_bytes = 0
    sums: list[str] = []
    for number, item in enumerate(items, 1):
        path = target / item.place
        known = before.get(item.file)
        try:
            if (
                known is not None
                and known[0] == str(path)
                and path.exists()
                and sha256_of(path) == known[2] == sha256_of(item.origin)
            ):
                digest = known[2]
            else:
                digest = _copy(item, path)
        except (OutputRefused, OSError) as error:
            sentence = (
                str(error) if isinstance(error, OutputRefused) else f"{item.origin} cannot be read: {error.strerror}."
            )
            yield Delivered(item, None, None, sentence, number, done_bytes)
            continue
        case.add_delivered(delivery, item.file, item.origin, str(path), item.size, digest)
        sums.append(f"{digest}  {item.place}\n")
        done_bytes += item.size
        yield Delivered(item, str(path), digest, None, number, done_bytes)
    if sums:
        _write_sums(target, sums)
    case.finish_delivery(delivery)


def _copy(item: Item, path: Path) -> str:
    digest = hashlib.sha256()
    with open(item.origin, "rb") as source, exclusive_output(path) as out:
        while block := source.read(_BLOCK):
            digest.update(block)
            out.write(block)
    expected = digest.hexdigest()
    if sha256_of(path) != expected:
        path.unlink()
        raise OutputRefused(f"{path.name} read back differently from what was written; the copy was removed.")
    return expected


def _write_sums(target: Path, sums: list[str]) -> None:
    from jugal.binary.output import free_name

    with exclusive_output(free_name(target, "checksums.sha256")) as out:
        out.write("".join(sums).encode("utf-8", "surrogateescape"))
