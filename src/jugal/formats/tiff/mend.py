"""Directories of a TIFF structure written anew around the values that are left, which stay where they are."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from jugal.formats.tiff.exif import SIZES

_MOST_ENTRIES = 200
_LEAST_GOOD = 0.75
_EXIF, _GPS = 0x8769, 0x8825
_THUMBNAIL, _THUMBNAIL_LENGTH = 0x0201, 0x0202
#: Tags by which a directory is known: maker, model, orientation, pointers; exposure, aperture, date, version.
_MAIN_TAGS = frozenset({0x010F, 0x0110, 0x0112, 0x0132, _EXIF, _GPS})
_EXIF_TAGS = frozenset({0x829A, 0x829D, 0x9000, 0x9003, 0x9004, 0x920A, 0xA002, 0xA003})
#: A fill at least so long took a value with it.
_FILL = 16


@dataclass(frozen=True, slots=True)
class Entry:
    """A row of a directory as it stands: its value, or where in the structure its value lies."""

    tag: int
    kind: int
    count: int
    value: bytes


def mended(data: bytes, thumbnail: bytes) -> tuple[bytes, list[str]] | None:
    """``data`` with new directories behind it, and which were found; None where no directory can be read.

    The thumbnail's directory is made anew for ``thumbnail``; an empty one leaves it out.
    """
    order = "<" if data[:2] == b"II" else ">" if data[:2] == b"MM" else _order(data)
    found = {name: rows for name, rows in _directories(data, order).items() if rows}
    if not found:
        return None
    out = bytearray((b"II" if order == "<" else b"MM") + struct.pack(f"{order}HI", 42, 0) + data[8:])
    out += bytes(len(out) % 2)
    pointers = []
    for name, tag in (("exif", _EXIF), ("gps", _GPS)):
        if name in found:
            pointers.append(Entry(tag, 4, 1, struct.pack(f"{order}I", len(out))))
            out += _written(found[name], order, 0)
    main = [e for e in found.get("main", []) if e.tag not in (_EXIF, _GPS)] + pointers
    start = len(out)
    struct.pack_into(f"{order}I", out, 4, start)
    size = 2 + 12 * len(main) + 4
    out += _written(main, order, start + size if thumbnail else 0)
    if thumbnail:
        rows = [
            Entry(0x0103, 3, 1, struct.pack(f"{order}HH", 6, 0)),
            Entry(_THUMBNAIL, 4, 1, struct.pack(f"{order}I", len(out) + 2 + 12 * 3 + 4)),
            Entry(_THUMBNAIL_LENGTH, 4, 1, struct.pack(f"{order}I", len(thumbnail))),
        ]
        out += _written(rows, order, 0) + thumbnail
    return bytes(out), [f"{name} ({len(rows)} entries)" for name, rows in found.items()]


def _order(data: bytes) -> str:
    """The byte order with which more directories can be read."""
    return max("<>", key=lambda order: sum(len(rows) for rows in _directories(data, order).values()))


def _directories(data: bytes, order: str) -> dict[str, list[Entry]]:
    """What looks like a directory, by what it holds; of two of one kind the one with more entries."""
    found: dict[str, list[Entry]] = {}
    at = 8
    while at + 14 <= len(data):
        rows = _rows(data, at, order)
        name = _name({e.tag for e in rows}) if rows else ""
        if name and len(rows) > len(found.get(name, [])):
            found[name] = rows
        at += 2
    return found


def _name(tags: set[int]) -> str:
    if _THUMBNAIL in tags and _THUMBNAIL_LENGTH in tags:
        return ""
    if tags & _MAIN_TAGS:
        return "main"
    if len(tags & _EXIF_TAGS) >= 2:
        return "exif"
    return "gps" if tags <= set(range(32)) and {1, 2} <= tags else ""


def _rows(data: bytes, at: int, order: str) -> list[Entry]:
    """The entries of the directory at ``at`` whose values are there; empty where none stands there.

    Tags ascend in a directory (TIFF 6.0), which keeps values from being taken for one.
    """
    (count,) = struct.unpack_from(f"{order}H", data, at)
    if not 1 <= count <= _MOST_ENTRIES:
        return []
    rows, before, seen = [], -1, 0
    for k in range(count):
        place = at + 2 + 12 * k
        if place + 12 > len(data):
            break
        tag, kind, items, where = struct.unpack_from(f"{order}HHII", data, place)
        if kind not in SIZES or tag <= before or not items:
            continue
        seen += 1
        before = tag
        length = SIZES[kind] * items
        there = length <= 4 or (where >= 8 and where + length <= len(data))
        if there and not (length >= _FILL and not any(data[where : where + length])):
            rows.append(Entry(tag, kind, items, data[place + 8 : place + 12]))
    return rows if seen >= max(2, _LEAST_GOOD * min(count, 40)) or (count == 1 and seen == 1) else []


def _written(rows: list[Entry], order: str, following: int) -> bytes:
    ordered = sorted(rows, key=lambda e: e.tag)
    body = b"".join(struct.pack(f"{order}HHI", e.tag, e.kind, e.count) + e.value for e in ordered)
    return struct.pack(f"{order}H", len(ordered)) + body + struct.pack(f"{order}I", following)
