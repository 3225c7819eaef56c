"""The box tree of ISO base media files (ISO/IEC 14496-12 clause 4.2), read iteratively and bounded."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass, field, replace

from jugal.binary.limits import DEFAULT_LIMITS, Limits
from jugal.binary.source import Source

CONTAINERS = frozenset(
    b"moov trak mdia minf stbl dinf edts udta mvex moof traf mfra meta iprp ipco tref gmhd wave sinf schi".split()
)
#: Boxes that tell of a movie and are not needed for playing it.
DESCRIBING = frozenset(b"udta meta free skip uuid".split())
TOP_LEVEL = frozenset(
    b"ftyp moov mdat moof mfra free skip wide uuid pnot meta sidx styp ssix prft emsg udta PICT pdin bloc beam mvcg".split()
)


#: Boxes that only lie within others (table 1): where one seems to begin the next, something is missing before it.
WITHIN_OTHERS = frozenset(
    b"mfhd traf tfhd tfdt trun mvhd trak tkhd mdia mdhd minf stbl stsd stts stsz stsc stco co64".split()
)
#: Boxes that never lie in a movie's index (8.2.1): where one seems to, the index ends before it.
_BESIDE_MOOV = frozenset(b"ftyp styp moov moof mdat sidx mfra".split())
#: Places that look like the header of a media data box and are asked whether they are one.
_MOST_ASKED = 8
#: Boxes in an index that are looked at for where it ends.
_MOST_IN_MOOV = 1000


@dataclass(slots=True)
class Box:
    """A box: ``start`` of its header, ``body`` of its content, ``end``; clipped to its parent when ``cut``."""

    kind: bytes
    start: int
    body: int
    end: int
    depth: int = 0
    cut: bool = False
    #: The size field as written: 0 means to the end of the file.
    stated: int = 0
    children: list[Box] = field(default_factory=list)

    def child(self, *path: bytes) -> Box | None:
        """The first descendant along ``path``."""
        found: Box | None = self
        for kind in path:
            found = next((c for c in found.children if c.kind == kind), None) if found else None
        return found

    def all(self, kind: bytes) -> list[Box]:
        return [c for c in self.children if c.kind == kind]

    @property
    def complete(self) -> bool:
        """All that players need of it is there: it is not cut, or says to be longer than the boxes in it, of which only one
        that describes, the last, may be cut."""
        last = self.children[-1] if self.children else None
        return not self.cut or (last is not None and last.end == self.end and (not last.cut or last.kind in DESCRIBING))

    @property
    def name(self) -> str:
        return self.kind.decode("latin-1")


def is_kind(raw: bytes) -> bool:
    """Four characters as box types are made of."""
    return len(raw) == 4 and all(c == 0xA9 or 0x20 <= c < 0x7F for c in raw)


@dataclass(slots=True)
class Tree:
    """All boxes from the top. ``broken_at`` is where the top-level chain stops making sense."""

    top: list[Box] = field(default_factory=list)
    broken_at: int | None = None
    #: Boxes whose size does not fit their parent.
    misfits: list[Box] = field(default_factory=list)
    too_deep: int | None = None
    over_budget: bool = False

    def first(self, kind: bytes) -> Box | None:
        return next((b for b in self.top if b.kind == kind), None)

    def all(self, kind: bytes) -> list[Box]:
        return [b for b in self.top if b.kind == kind]

    def walk(self) -> Iterator[Box]:
        stack = list(reversed(self.top))
        while stack:
            box = stack.pop()
            yield box
            stack.extend(reversed(box.children))


def read_header(source: Source, at: int, limit: int) -> Box | None:
    """The box header at ``at``; None where there is none. ``end`` is as stated, not clipped."""
    head = source.read(at, 16)
    if len(head) < 8 or not is_kind(head[4:8]):
        return None
    size, kind = struct.unpack(">I4s", head[:8])
    body = at + 8
    stated = size
    if size == 1:
        if len(head) < 16:
            return None
        size = int.from_bytes(head[8:16], "big")
        stated = size
        body = at + 16
        if size < 16:
            return None
    elif size == 0:
        size = limit - at
    elif size < 8:
        return None
    return Box(kind, at, body, at + size, stated=stated)


def read_tree(source: Source, start: int = 0, limits: Limits = DEFAULT_LIMITS) -> Tree:
    """The box tree from ``start`` to the end of the file."""
    tree = Tree()
    at, size, count = start, source.size, 0
    while at < size:
        box = read_header(source, at, size)
        if box is None or (
            box.kind not in TOP_LEVEL and box.kind not in (b"jp2c",) and not _plausible_top(source, box)
        ):
            tree.broken_at = at
            break
        end = _end_of_index(source, box) if box.kind == b"moov" else min(box.end, size)
        if box.end > end:
            box.cut = True
            tree.misfits.append(box)
            box.end = end
        tree.top.append(box)
        count += 1
        if count > 200_000:
            tree.over_budget = True
            break
        at = box.end
    for box in tree.top:
        if box.kind in CONTAINERS and not (box.kind == b"moof" and count > 100_000):
            read_children(source, tree, box, limits)
    return tree


def _end_of_index(source: Source, moov: Box) -> int:
    """Where the index in ``moov`` ends: before the first box that never lies in one, though its size may cover it."""
    end = min(moov.end, source.size)
    at = moov.body
    for _ in range(_MOST_IN_MOOV):
        box = read_header(source, at, end) if at + 8 <= end else None
        if box is None:
            return end
        if box.kind in _BESIDE_MOOV and at > moov.body:
            return at
        at = box.end
    return end


def _plausible_top(source: Source, box: Box) -> bool:
    """An unknown box is believed when it ends where another begins, or at the file's end."""
    if box.kind in WITHIN_OTHERS:
        return False
    return box.end == source.size or (box.end < source.size and read_header(source, box.end, source.size) is not None)


def read_children(source: Source, tree: Tree, root: Box, limits: Limits = DEFAULT_LIMITS) -> None:
    """Fills ``root.children`` and below, with an explicit stack."""
    stack = [root]
    count = 0
    while stack:
        parent = stack.pop()
        if parent.depth >= limits.depth:
            tree.too_deep = parent.start
            continue
        at = parent.body
        if parent.kind == b"meta" and source.read(at + 4, 4) != b"hdlr":
            at += 4
        while at + 8 <= parent.end:
            box = read_header(source, at, parent.end) or _nameless(source, at, parent)
            if box is not None and not is_kind(box.kind):
                tree.misfits.append(replace(box, kind=b"????"))
            if box is None:
                rest = 4 if parent.kind != b"moov" else parent.end - at
                if parent.kind != b"udta" and any(source.read(at, rest)):
                    tree.misfits.append(Box(b"????", at, at, parent.end, parent.depth + 1))
                break
            box.depth = parent.depth + 1
            if box.end > parent.end:
                box.cut = True
                tree.misfits.append(box)
                box.end = parent.end
            parent.children.append(box)
            count += 1
            if count > limits.items:
                tree.over_budget = True
                return
            if box.kind in CONTAINERS:
                stack.append(box)
            at = box.end


def _nameless(source: Source, at: int, parent: Box) -> Box | None:
    """A box whose name is none, which decoders step over, where it ends with its parent or before another box."""
    size = source.uint(at, 4) or 0
    if parent.kind == b"udta" or size < 8 or at + size > parent.end:
        return None
    follows = at + size == parent.end or read_header(source, at + size, parent.end) is not None
    return Box(source.read(at + 4, 4), at, at + 8, at + size, stated=size) if follows else None


def find_box(source: Source, kind: bytes, inner: frozenset[bytes], start: int = 0) -> Box | None:
    """A box of ``kind`` found by searching: its first child must be one of ``inner``."""
    at = source.find(kind, start)
    while at >= 0:
        box = read_header(source, at - 4, source.size) if at >= 4 else None
        if box is not None and source.read(box.body + 4, 4) in inner:
            return box
        at = source.find(kind, at + 4)
    return None


def find_media_box(source: Source) -> Box | None:
    """A media data box found by searching: it ends where the file does, or where another box begins."""
    at = source.find(b"mdat")
    for _ in range(_MOST_ASKED):
        if at < 4:
            return None
        box = read_header(source, at - 4, source.size)
        if box is not None and box.stated and (box.end == source.size or source.read(box.end + 4, 4) in TOP_LEVEL):
            return box
        at = source.find(b"mdat", at + 4)
    return None


def find_stranded(source: Source, tree: Tree, limits: Limits = DEFAULT_LIMITS) -> list[Box]:
    """Fragments that no chain of boxes leads to; they and their media data are added to ``tree``.

    Looked for behind the last box that is surely right; a media data box that covers one is cut off before it.
    """
    if tree.broken_at is None or not tree.top:
        return []
    last = tree.top[-1]
    found: list[Box] = []
    at = source.find(b"moof", last.body)
    while at >= 4:
        moof = read_header(source, at - 4, source.size)
        if moof is None or source.read(moof.body + 4, 4) != b"mfhd" or moof.end > source.size:
            at = source.find(b"moof", at + 4)
            continue
        mdat = read_header(source, moof.end, source.size)
        if mdat is None or mdat.kind != b"mdat":
            at = source.find(b"moof", at + 4)
            continue
        read_children(source, tree, moof, limits)
        if not found and last.end > moof.start:
            last.end = moof.start
        for box in found[-1:]:
            following = next(b for b in tree.top if b.kind == b"mdat" and b.start > box.start)
            following.end = min(following.end, moof.start)
        mdat.end = min(mdat.end, source.size)
        tree.top += [moof, mdat]
        found.append(moof)
        direct = read_header(source, mdat.end, source.size)
        at = mdat.end + 4 if direct is not None and direct.kind == b"moof" else source.find(b"moof", mdat.body)
    return found
