"""Exif (CIPA DC-008, Exif 3.0): the image file directories and the capture data in them."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

from jugal.model.result import MediaValue

#: Bytes of a value by its TIFF type.
SIZES = {
    1: 1,
    2: 1,
    3: 2,
    4: 4,
    5: 8,
    6: 1,
    7: 1,
    8: 2,
    9: 4,
    10: 8,
    11: 4,
    12: 8,
    13: 4,
    16: 8,
    17: 8,
    18: 8,
}
_MAX_ENTRIES = 1000
_MAX_IFDS = 32

Value = int | float | str | bytes | tuple


@dataclass(slots=True)
class Directory:
    """One image file directory: tag → value; values too long to matter are left out."""

    offset: int
    entries: dict[int, Value] = field(default_factory=dict)
    next_offset: int = 0


@dataclass(slots=True)
class Exif:
    """The directories found in one TIFF structure, and what is wrong with them in sentences."""

    directories: dict[str, Directory] = field(default_factory=dict)
    problems: list[str] = field(default_factory=list)
    thumbnail: tuple[int, int] | None = None

    def get(self, directory: str, tag: int) -> Value | None:
        found = self.directories.get(directory)
        return None if found is None else found.entries.get(tag)


def _number(data: bytes, order: str, signed: bool = False) -> int:
    return int.from_bytes(data, "little" if order == "little" else "big", signed=signed)


def read_value(data: bytes, kind: int, count: int, order: str) -> Value:
    """``count`` values of TIFF type ``kind``; one value alone, several as a tuple."""
    if kind == 2:
        return data.split(b"\0")[0].decode("utf-8", "replace").strip()
    if kind in (1, 6, 7):
        return data if count > 1 else (data[0] if data else b"")
    size = SIZES[kind]
    values: list[int | float] = []
    for at in range(0, min(count, 64) * size, size):
        piece = data[at : at + size]
        if kind in (5, 10):
            top = _number(piece[:4], order, kind == 10)
            bottom = _number(piece[4:], order, kind == 10)
            values.append(top / bottom if bottom else math.nan)
        elif kind in (11, 12):
            values.append(0.0)
        else:
            values.append(_number(piece, order, kind in (8, 9, 17)))
    return values[0] if len(values) == 1 else tuple(values)


def read_directory(data: bytes, offset: int, order: str, problems: list[str], name: str) -> Directory | None:
    """One directory at ``offset`` in ``data``; what does not fit goes to ``problems``."""
    if offset + 2 > len(data) or offset < 8:
        problems.append(f"The {name} directory lies outside the Exif data.")
        return None
    count = _number(data[offset : offset + 2], order)
    if count == 0 or count > _MAX_ENTRIES or offset + 2 + 12 * count > len(data):
        problems.append(f"The {name} directory has an impossible entry count of {count}.")
        return None
    found = Directory(offset)
    strange = 0
    for i in range(count):
        entry = data[offset + 2 + 12 * i : offset + 14 + 12 * i]
        tag, kind = _number(entry[:2], order), _number(entry[2:4], order)
        items = _number(entry[4:8], order)
        if kind not in SIZES:
            strange += 1
            continue
        length = SIZES[kind] * items
        if length <= 4:
            raw = entry[8 : 8 + length]
        else:
            at = _number(entry[8:12], order)
            raw = data[at : at + min(length, 4096)]
            if at + length > len(data):
                # Maker notes and padding tags point where they like; others should not.
                if tag not in (0x927C, 0xEA1C, 0x0201):
                    strange += 1
                continue
        if items and raw:
            found.entries[tag] = read_value(raw, kind, items, order)
    if strange > max(1, count // 3):
        problems.append(f"{strange} of {count} entries of the {name} directory are impossible.")
    at = offset + 2 + 12 * count
    found.next_offset = _number(data[at : at + 4], order) if at + 4 <= len(data) else 0
    return found


def read_exif(data: bytes) -> Exif:
    """The TIFF structure ``data`` (from its byte-order mark) with its Exif and GPS directories."""
    result = Exif()
    order = {b"II": "little", b"MM": "big"}.get(data[:2], "")
    if not order or _number(data[2:4], order) not in (42, 0x55, 0x4F52, 0x5352):
        result.problems.append("The Exif data has no TIFF header.")
        return result
    main = read_directory(data, _number(data[4:8], order), order, result.problems, "main")
    if main is None:
        return result
    result.directories["main"] = main
    for tag, name in ((0x8769, "exif"), (0x8825, "gps")):
        at = main.entries.get(tag)
        if isinstance(at, int) and at:
            found = read_directory(data, at, order, result.problems, name)
            if found is not None:
                result.directories[name] = found
    if main.next_offset:
        second = read_directory(data, main.next_offset, order, result.problems, "thumbnail")
        if second is not None:
            result.directories["thumbnail"] = second
            at, length = second.entries.get(0x0201), second.entries.get(0x0202)
            if isinstance(at, int) and isinstance(length, int) and length:
                result.thumbnail = (at, length)
    return result


def capture_data(exif: Exif) -> dict[str, MediaValue]:
    """What the picture says of its making: camera, date, exposure, place, claimed size."""
    media: dict[str, MediaValue] = {}
    maker, model = exif.get("main", 0x010F), exif.get("main", 0x0110)
    if isinstance(model, str) and model:
        prefix = maker if isinstance(maker, str) and maker and not model.startswith(maker.split()[0]) else ""
        media["camera"] = f"{prefix} {model}".strip()
    taken = exif.get("exif", 0x9003) or exif.get("main", 0x0132)
    if isinstance(taken, str) and len(taken) >= 19 and taken[:4].isdigit():
        media["date_taken"] = f"{taken[:10].replace(':', '-')}T{taken[11:19]}"
    for tag, key in (
        (0x829A, "exposure_s"),
        (0x829D, "f_number"),
        (0x8827, "iso"),
        (0x920A, "focal_length_mm"),
    ):
        value = exif.get("exif", tag)
        if isinstance(value, tuple) and value:
            value = value[0]
        if isinstance(value, (int, float)) and math.isfinite(value):
            media[key] = round(value, 6)
    for tag, key in ((0xA002, "exif_width"), (0xA003, "exif_height")):
        value = exif.get("exif", tag)
        if isinstance(value, int) and value:
            media[key] = value
    orientation = exif.get("main", 0x0112)
    if isinstance(orientation, int) and 2 <= orientation <= 8:
        media["orientation"] = orientation
    for name, reference, tag in (("latitude", 1, 2), ("longitude", 3, 4)):
        value, sign = exif.get("gps", tag), exif.get("gps", reference)
        if isinstance(value, tuple) and len(value) == 3 and all(math.isfinite(x) for x in value):
            degrees = value[0] + value[1] / 60 + value[2] / 3600
            media[name] = round(-degrees if sign in ("S", "W") else degrees, 6)
    return media
