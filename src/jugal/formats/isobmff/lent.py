"""A still picture whose items nothing points to any more: the index of a healthy picture laid over what is found."""

from __future__ import annotations

import re
import struct

from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.isobmff.boxes import read_tree
from jugal.formats.isobmff.items import CODED, Extent, Items, item_extents, read_items
from jugal.formats.isobmff.pictures import find_pictures
from jugal.formats.isobmff.write import serialise
from jugal.model import scoring
from jugal.model.span import ByteSpan

_MOST_ILOC = 1 << 22
_MOST_TEXT = 1 << 20
#: Data of these say how tiles are laid out; the same camera lays them out alike (ISO/IEC 23008-12 6.6.2).
_LAYOUT = frozenset({b"grid", b"iovl", b"tmap"})
#: An Exif item (A.2.1): how far its TIFF header lies behind, most often behind a name of its own.
_EXIF = re.compile(rb"\x00\x00\x00(?:\x06Exif\x00\x00|\x00)(?:II\*\x00|MM\x00\*)")
_XMP, _XMP_ENDS = (
    re.compile(rb"<\?xpacket begin|<x:xmpmeta"),
    (b"<?xpacket end='w'?>", b'<?xpacket end="w"?>', b"</x:xmpmeta>"),
)


def coding_of(items: Items) -> bytes | None:
    """What the coded items are coded in, ``hvc1`` or ``av01``; None where it is neither or both."""
    kinds = {item.kind for item in items.by_ident.values() if item.kind in CODED and item.size}
    return kinds.pop() if len(kinds) == 1 and kinds <= {b"hvc1", b"av01"} else None


def matched(items: Items, found: list[ByteSpan], cut: bool) -> dict[int, ByteSpan]:
    """Which of the lender's coded items each found picture is: in the order of the file, counted from its end where
    the start is lost and from its start where it is ``cut``. Empty where there are more pictures than items."""
    coded = sorted((i for i in items.by_ident.values() if i.kind in CODED and i.size), key=lambda i: i.extents[0][0])
    if len(found) > len(coded):
        return {}
    own = coded[: len(found)] if cut else coded[len(coded) - len(found) :]
    return {item.ident: span for item, span in zip(own, found, strict=True)}


def donor_items(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Repair: the donor's index over the pictures found in the file; Exif and XMP only where they are in it."""
    if donor is None:
        raise RepairImpossible("A healthy picture of the same camera and settings is needed.")
    tree = read_tree(donor.source, 0, donor.limits)
    meta = tree.first(b"meta")
    iloc = meta.child(b"iloc") if meta else None
    items = read_items(donor.source, meta) if meta else None
    if meta is None or iloc is None or items is None or (coding := coding_of(items)) is None:
        raise RepairImpossible("The donor's items are not all HEVC or all AV1 pictures.")
    found = find_pictures(subject.source, 0, coding)
    if not found:
        raise RepairImpossible("No coded picture was found in the file.")
    places = matched(items, found, is_cut(subject, found[-1]))
    if not places:
        raise RepairImpossible(f"{len(found):,} coded pictures were found, more than the donor's index has room for.")
    places |= _described(subject, items, found)
    appended, layout = _layouts(donor, items)
    ftyp = tree.first(b"ftyp")
    head = donor.source.read(ftyp.start, ftyp.end - ftyp.start) if ftyp else b""
    extents = item_extents(donor.source.read(iloc.body, min(iloc.end - iloc.body, _MOST_ILOC))) or []
    first, last = min(s.start for s in places.values()), max(s.end for s in places.values())
    blank = serialise(donor, meta, {iloc.start: _locations(extents, places, layout, 0, 0)})
    begin = len(head) + len(blank) + 8
    body = _locations(extents, places, layout, begin - first, begin + last - first)
    size = 8 + last - first + len(appended)
    if begin + size >= 1 << 32:
        raise RepairImpossible("The file is too large for item locations of 32 bits.")
    picture = items.picture()
    kept = scoring.share(sum(i.ident in places for i in picture), len(picture))
    steps = [
        f"Found {len(found):,} coded pictures by their own units, bytes {first:,} to {last:,}.",
        "Wrote the donor's index over them: configuration, colour and orientation are the donor's.",
    ]
    lost = sum(i.ident not in places for i in picture)
    if lost:
        steps.append(f"Left {lost:,} of {len(picture):,} parts of the picture empty, whose data are lost.")
    return RepairDraft(
        (head, serialise(donor, meta, {iloc.start: body}), struct.pack(">I4s", size, b"mdat"), ByteSpan(first, last), appended),
        tuple(steps),
        kept=kept,
    )  # fmt: skip


def is_cut(subject: Subject, last: ByteSpan) -> bool:
    """Whether the file ends in the middle of a unit behind the last whole picture."""
    length = subject.source.uint(last.end, 4)
    head = subject.source.uint(last.end + 4, 1)
    return (
        length is not None and head is not None and length > 16 and last.end + 4 + length > subject.size and head < 128
    )


def _described(subject: Subject, items: Items, pictures: list[ByteSpan]) -> dict[int, ByteSpan]:
    """Where the Exif and XMP data of the picture stand between its coded parts, as far as they are there."""
    found: dict[int, ByteSpan] = {}
    gaps = zip([0, *(p.end for p in pictures)], [*(p.start for p in pictures), subject.size], strict=True)
    data = memoryview(subject.source.array)  # type: ignore[arg-type]
    owners = {i.kind: i.ident for i in items.by_ident.values() if i.kind in (b"Exif", b"mime")}
    for start, end in [(s, e) for s, e in gaps if e - s > 16]:
        text = _XMP.search(data, start, min(end, start + _MOST_TEXT))
        if text and b"mime" in owners:
            stops = (subject.source.find(mark, text.start(), end) for mark in _XMP_ENDS)
            stop = next((at + len(mark) for at, mark in zip(stops, _XMP_ENDS, strict=True) if at >= 0), end)
            found.setdefault(owners[b"mime"], ByteSpan(text.start(), stop))
        exif = _EXIF.search(data, start, min(end, start + _MOST_TEXT))
        if exif and b"Exif" in owners:
            stop = text.start() if text and text.start() > exif.start() else end
            found.setdefault(owners[b"Exif"], ByteSpan(exif.start(), stop))
    return found


def _layouts(donor: Subject, items: Items) -> tuple[bytes, dict[int, tuple[int, int]]]:
    """The donor's layouts of tiles that lie in its media data, one after another, and where each stands in them."""
    out, where = b"", {}
    for item in items.by_ident.values():
        if item.kind in _LAYOUT and item.size:
            where[item.ident] = (len(out), item.size)
            out += b"".join(donor.source.read(*extent) for extent in item.extents)
    return out, where


def _locations(
    extents: list[Extent], places: dict[int, ByteSpan], layout: dict[int, tuple[int, int]], shift: int, behind: int
) -> bytes:
    """An ``iloc`` body (ISO/IEC 14496-12 8.11.3), version 2: items at ``places`` moved by ``shift``, layouts from
    ``behind`` on; what lies in the index itself stays, what is lost is empty."""
    by_item: dict[int, list[Extent]] = {}
    for extent in extents:
        by_item.setdefault(extent.item, []).append(extent)
    body = struct.pack(">IBBI", 2 << 24, 0x44, 0, len(by_item))
    for ident, own in by_item.items():
        method = own[0].method
        if method:
            pairs = [(e.offset, e.length) for e in own]
        elif ident in layout:
            pairs = [(behind + layout[ident][0], layout[ident][1])]
        elif ident in places:
            pairs = [(places[ident].start + shift, places[ident].length)]
        else:
            pairs = [(0, 0)]
        body += struct.pack(">IHHH", ident, method, 0, len(pairs))
        body += b"".join(struct.pack(">II", *pair) for pair in pairs)
    return body
