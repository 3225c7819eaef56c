"""Handing over: what goes where under which name, whether it fits, copied, read back and compared."""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from pathlib import Path

from jugal.binary.output import OutputRefused, exclusive_output, free_name, sweep_parts
from jugal.case.store import Case, FileRow, HandedOver
from jugal.engine.copies import Standing
from jugal.engine.naming import AS_FOUND, check_pattern, name_for, safe_name
from jugal.model.result import Verdict

_BLOCK = 1 << 22
#: The list of SHA-256 sums that lies at the top of a delivery.
_SUMS = "checksums.sha256"


class Arrangement(StrEnum):
    """How delivered files are laid out in folders."""

    AS_FOUND = "as found"
    BY_KIND = "by kind"
    BY_DATE = "by date taken"
    BY_CAMERA = "by camera"


@dataclass(frozen=True, slots=True)
class Item:
    """One file to hand over: where it comes from (itself or its repaired version) and its place in the delivery.

    ``note`` says what was done about the name, where something had to be.
    """

    file: int
    origin: str
    place: str
    size: int
    repaired: bool
    note: str = ""


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


@dataclass(frozen=True, slots=True)
class Layout:
    """How a delivery is laid out: the folders, the names, and how many files a folder holds at most (0: all)."""

    arrangement: Arrangement = Arrangement.AS_FOUND
    pattern: str = AS_FOUND
    most: int = 0
    repaired: bool = True


@dataclass(frozen=True, slots=True)
class Rule:
    """Which files go out: those of a verdict, from a score on, and of copies only the best or all."""

    verdicts: frozenset[Verdict] = frozenset({Verdict.INTACT, Verdict.REPAIRABLE, Verdict.DAMAGED})
    least_score: float = 0.0
    best_copies: bool = False

    def admits(self, row: FileRow, kept_score: float | None = None) -> bool:
        """Whether a file goes out; ``kept_score`` is that of its repaired copy, where one is kept."""
        if row.error or row.verdict not in self.verdicts:
            return False
        score = max(row.score or 0.0, kept_score or 0.0) if row.score is not None else kept_score
        if self.least_score > 0 and (score is None or score < self.least_score):
            return False
        return not (self.best_copies and row.copies in (Standing.IDENTICAL, Standing.ALIKE))


def _folder(row: FileRow, arrangement: Arrangement, sources: Sequence[str]) -> str:
    if arrangement is Arrangement.BY_KIND:
        return row.kind.value
    if arrangement is Arrangement.BY_DATE:
        return safe_name(row.taken[:10]) if row.taken else "date unknown"
    if arrangement is Arrangement.BY_CAMERA:
        return safe_name(row.camera) if row.camera else "camera unknown"
    for source in sources:
        if row.path.startswith(source.rstrip(os.sep) + os.sep):
            inside = os.path.relpath(os.path.dirname(row.path), os.path.dirname(source.rstrip(os.sep)))
            return os.path.join(*(safe_name(part) for part in inside.split(os.sep) if part not in ("", ".", "..")))
    return ""


def plan_delivery(case: Case, numbers: Sequence[int], layout: Layout = Layout()) -> list[Item]:
    """The items for these files, each with a place of its own; the repaired version where one is kept.

    Raises PatternError.
    """
    check_pattern(layout.pattern)
    kept = {r.file: r.outcome for r in case.repairs() if r.kept and r.outcome.output} if layout.repaired else {}
    sources = case.sources()
    taken: dict[str, int] = {}
    filled: dict[str, int] = {}
    items: list[Item] = []
    for at in range(0, len(numbers), 500):
        for row in case.rows(numbers[at : at + 500]):
            outcome = kept.get(row.id)
            origin = outcome.output if outcome and outcome.output and os.path.exists(outcome.output) else row.path
            folder = _folder(row, layout.arrangement, sources)
            held = filled[folder] = filled.get(folder, 0) + 1
            if layout.most:
                folder = os.path.join(folder, f"part {(held - 1) // layout.most + 1}")
            place = os.path.join(folder, name_for(row, origin, layout.pattern, len(items) + 1))
            free = _free(place, taken)
            notes = [] if os.path.splitext(free)[1] == os.path.splitext(origin)[1] else ["extension set right"]
            notes += ["name was taken, numbered"] if free != place else []
            items.append(Item(row.id, origin, free, _size(origin, row), origin != row.path, ", ".join(notes)))
    return items


def _free(place: str, taken: dict[str, int]) -> str:
    """``place``, or where it is taken the same with a number in brackets. Names that differ in case only collide."""
    stem, suffix = os.path.splitext(place)
    key = place.casefold()
    while key in taken:
        taken[key] += 1
        place = f"{stem} ({taken[key]}){suffix}"
        if place.casefold() not in taken:
            break
    taken[place.casefold()] = 1
    return place


def _size(origin: str, row: FileRow) -> int:
    try:
        return os.stat(origin).st_size
    except OSError:
        return row.size


def only_new(case: Case, items: Sequence[Item], target: Path) -> list[Item]:
    """Without what this target got in earlier deliveries, as far as it still lies there.

    A file that went out before and goes out in another version now (repaired since, say) gets a place beside it.
    """
    before = case.delivered(str(target))
    places = {i.place.casefold() for i in items}
    new = []
    for item in items:
        copy = before.get(item.file)
        if copy is None or not os.path.exists(copy.path):
            new.append(item)
        elif copy.origin != item.origin:
            place = _beside(item.place, places, target)
            places.add(place.casefold())
            new.append(replace(item, place=place, note="another version than delivered before"))
    return new


def _beside(place: str, places: set[str], target: Path) -> str:
    """``place`` where nothing lies there, else the first number in brackets that neither target nor delivery has."""
    stem, suffix = os.path.splitext(place)
    number = 2
    while os.path.lexists(target / place) or (number > 2 and place.casefold() in places):
        place = f"{stem} ({number}){suffix}"
        number += 1
    return place


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
    sweep_parts([*(target / item.place for item in items), target / _SUMS])
    delivery = case.begin_delivery(str(target))
    done_bytes = 0
    sums: list[str] = []
    for number, item in enumerate(items, 1):
        path = target / item.place
        try:
            there = _there_already(item, path, before.get(item.file))
            if there is not None:
                digest = there
            elif shutil.disk_usage(target if target.exists() else target.parent).free < item.size:
                raise OutputRefused(f"There is no space left at the target for {item.place}.")
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


def _there_already(item: Item, path: Path, known: HandedOver | None) -> str | None:
    """The SHA-256 of a copy that lies at its place already and is equal, None where there is none.

    The case may not know of it: a delivery that was killed has named its last copy before it could be noted.
    """
    if not path.is_file() or path.stat().st_size != item.size:
        return None
    digest = sha256_of(path)
    if known is not None and known.path == str(path) and known.sha256 != digest:
        return None
    return digest if sha256_of(item.origin) == digest else None


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
    with exclusive_output(free_name(target, _SUMS)) as out:
        out.write("".join(sums).encode("utf-8", "surrogateescape"))
