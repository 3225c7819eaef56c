"""Items of a still picture (ISO/IEC 14496-12 8.11, ISO/IEC 23008-12): what each is, where it lies, what it belongs to."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, field

from jugal.binary.source import Source
from jugal.formats.isobmff.boxes import Box

_MAX_EXTENTS = 100_000
_MAX_ITEMS = 20_000
#: Types of items that are coded pictures.
CODED = frozenset({b"hvc1", b"av01", b"avc1", b"jpeg", b"vvc1"})


@dataclass(frozen=True, slots=True)
class Extent:
    """A stretch of an item's data (8.11.3): ``place`` and ``width`` tell which bytes of the ``iloc`` body its offset stands in,
    counted from ``base``; a width of 0 where it has none of its own."""

    item: int
    method: int
    offset: int
    length: int
    place: int
    width: int
    base: int


@dataclass(slots=True)
class Item:
    """One item. ``extents`` are (file offset, length) of its data where they lie in the file itself."""

    ident: int
    kind: bytes = b""
    extents: list[tuple[int, int]] = field(default_factory=list)
    properties: list[Box] = field(default_factory=list)

    @property
    def size(self) -> int:
        return sum(length for _, length in self.extents)


@dataclass(slots=True)
class Items:
    """All items, the primary one's number, what each is laid out of, and what others are to another (a reference's kind)."""

    by_ident: dict[int, Item] = field(default_factory=dict)
    primary: int = 0
    derived: dict[int, list[int]] = field(default_factory=dict)
    roles: dict[int, bytes] = field(default_factory=dict)

    def picture(self) -> list[Item]:
        """The coded items that make up the primary picture: itself, or the tiles it is laid out of (6.6.2.3)."""
        seen: dict[int, None] = {}
        waiting = deque([self.primary])
        while waiting and len(seen) < _MAX_ITEMS:
            ident = waiting.popleft()
            if ident not in seen:
                seen[ident] = None
                waiting.extend(self.derived.get(ident, ()))
        return [i for ident in seen if (i := self.by_ident.get(ident)) is not None and i.kind in CODED]

    def role(self, ident: int) -> str:
        """What an item is to the picture, in a word or two."""
        item = self.by_ident.get(ident)
        told = {b"thmb": "thumbnail", b"auxl": "auxiliary picture"}.get(self.roles.get(ident, b""))
        return told or {b"Exif": "Exif data", b"mime": "metadata"}.get(item.kind if item else b"", "item")


def read_items(source: Source, meta: Box) -> Items | None:
    """The items of a ``meta`` box; None where their locations are missing or cut short."""
    iloc = meta.child(b"iloc")
    extents = item_extents(source.read(iloc.body, min(iloc.end - iloc.body, 1 << 22))) if iloc else None
    if not extents:
        return None
    found = Items()
    for extent in extents:
        item = found.by_ident.setdefault(extent.item, Item(extent.item))
        if extent.method == 0:
            item.extents.append((extent.offset, extent.length))
    for ident, kind in _kinds(source, meta.child(b"iinf")):
        if ident in found.by_ident:
            found.by_ident[ident].kind = kind
    pitm = meta.child(b"pitm")
    if pitm is not None:
        found.primary = source.uint(pitm.body + 4, 2 if source.uint(pitm.body, 1) == 0 else 4) or 0
    for name, begin, ends in _references(source, meta.child(b"iref")):
        found.roles[begin] = name
        if name == b"dimg":
            found.derived.setdefault(begin, []).extend(ends)
    _associate(source, meta, found)
    if not any(item.kind for item in found.by_ident.values()):
        # Without a list of items all are taken for parts of the picture.
        for item in found.by_ident.values():
            item.kind = b"hvc1"
    return found


def item_extents(data: bytes) -> list[Extent] | None:
    """The extents that an ``iloc`` body lists; None where it is cut short."""
    if len(data) < 8:
        return None
    version = data[0]
    offset_size, length_size = data[4] >> 4, data[4] & 15
    base_size, index_size = data[5] >> 4, data[5] & 15 if version in (1, 2) else 0
    at = 6

    def take(width: int) -> int:
        nonlocal at
        value = int.from_bytes(data[at : at + width], "big")
        at += width
        return value

    extents: list[Extent] = []
    count = take(2 if version < 2 else 4)
    for _ in range(min(count, _MAX_EXTENTS)):
        item = take(2 if version < 2 else 4)
        method = take(2) & 15 if version in (1, 2) else 0
        take(2)
        base = take(base_size)
        for _ in range(min(take(2), _MAX_EXTENTS)):
            take(index_size)
            place = at
            offset, length = take(offset_size), take(length_size)
            extents.append(Extent(item, method, base + offset, length, place, offset_size, base))
            if at > len(data) or len(extents) > _MAX_EXTENTS:
                return None
    return extents


def _kinds(source: Source, iinf: Box | None) -> Iterator[tuple[int, bytes]]:
    """(item, type) of each item information entry (8.11.6)."""
    if iinf is None:
        return
    at = iinf.body + (6 if source.uint(iinf.body, 1) == 0 else 8)
    for _ in range(_MAX_ITEMS):
        size = source.uint(at, 4) or 0
        if at + 12 > iinf.end or size < 12 or source.read(at + 4, 4) != b"infe":
            return
        body = source.read(at + 8, 16)
        wide = body[:1] == b"\3"
        if body[:1] in (b"\2", b"\3"):
            ident = int.from_bytes(body[4 : 8 if wide else 6], "big")
            kind = body[10:14] if wide else body[8:12]
            yield ident, kind
        at += size


def _references(source: Source, iref: Box | None) -> Iterator[tuple[bytes, int, tuple[int, ...]]]:
    """Item references (8.11.12)."""
    if iref is None:
        return
    width = 2 if source.uint(iref.body, 1) == 0 else 4
    at = iref.body + 4
    for _ in range(_MAX_ITEMS):
        size = source.uint(at, 4) or 0
        if size < 8 + width + 2 or at + size > iref.end:
            return
        body = source.read(at + 8, size - 8)
        count = int.from_bytes(body[width : width + 2], "big")
        ends = [
            int.from_bytes(body[k : k + width], "big")
            for k in range(width + 2, min(len(body), width + 2 + count * width), width)
        ]
        yield source.read(at + 4, 4), int.from_bytes(body[:width], "big"), tuple(ends)
        at += size


def _associate(source: Source, meta: Box, found: Items) -> None:
    """Gives each item its properties (ISO/IEC 23008-12 9.3.2)."""
    ipco, ipma = meta.child(b"iprp", b"ipco"), meta.child(b"iprp", b"ipma")
    if ipco is None or ipma is None:
        return
    data = source.read(ipma.body, min(ipma.end - ipma.body, 1 << 20))
    if len(data) < 8:
        return
    wide_item, wide_index = data[0] > 0, bool(data[3] & 1)
    at = 8
    for _ in range(min(int.from_bytes(data[4:8], "big"), _MAX_ITEMS)):
        width = 4 if wide_item else 2
        item = found.by_ident.get(int.from_bytes(data[at : at + width], "big"))
        at += width
        count = data[at] if at < len(data) else 0
        at += 1
        for _ in range(count):
            step = 2 if wide_index else 1
            index = int.from_bytes(data[at : at + step], "big") & (0x7FFF if wide_index else 0x7F)
            at += step
            if item is not None and 0 < index <= len(ipco.children):
                item.properties.append(ipco.children[index - 1])
