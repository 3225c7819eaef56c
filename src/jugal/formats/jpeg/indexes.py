"""Repairs of what points into a JPEG: Exif directories, the thumbnail, the index of further pictures."""

from __future__ import annotations

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.further import read_index
from jugal.formats.jpeg.metadata import EXIF_HEAD, exif_segment
from jugal.formats.jpeg.parse import Structure
from jugal.formats.jpeg.select import decodable, select
from jugal.formats.jpeg.thumbnail import dc_rgb, is_luminance_first
from jugal.formats.jpeg.writer import picture_bytes
from jugal.formats.tiff.mend import mended
from jugal.model.span import ByteSpan

#: Pixels of an Exif thumbnail's longer side (Exif 3.0 4.5.7), and the bytes a segment has room for.
_SIDE = 160
_ROOM = 65_533 - EXIF_HEAD


def mend_exif(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The Exif segment with new directories around the values that are left, and a thumbnail of this picture."""
    structure = select(subject.source).structure
    segment = exif_segment(subject, structure)
    if segment is None:
        raise RepairImpossible("The picture has no Exif data.")
    data = subject.source.read(segment.start + EXIF_HEAD, segment.end - segment.start - EXIF_HEAD)
    thumbnail = _thumbnail(subject, structure)
    result = mended(data, thumbnail)
    if result is None:
        raise RepairImpossible("No directory of the Exif data can be read.")
    body, found = result
    steps = [f"Wrote the directories of the Exif data anew: {', '.join(found)}."]
    if len(body) > _ROOM and thumbnail:
        body, thumbnail = (mended(data, b"") or (b"", []))[0], b""
    if len(body) > _ROOM:
        raise RepairImpossible("The mended Exif data is too long for its segment.")
    if thumbnail:
        steps.append("Made the thumbnail from the picture.")
    length = len(body) + EXIF_HEAD - 2
    head = b"\xff\xe1" + length.to_bytes(2, "big") + b"Exif\0\0"
    return RepairDraft((ByteSpan(0, segment.start), head + body, ByteSpan(segment.end, subject.size)), tuple(steps))


def _thumbnail(subject: Subject, structure: Structure) -> bytes:
    """The picture at Exif's size as a JPEG of its own; empty where the picture cannot be decoded."""
    if structure.frame is None or not decodable(structure):
        return b""
    rgb = dc_rgb(
        decode(structure.frame, structure.scans, structure.quant), structure, is_luminance_first(subject, structure)
    )
    step = max(1, -(-max(rgb.shape[:2]) // _SIDE))
    return picture_bytes(rgb[::step, ::step])


def mend_index(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The index of further pictures pointed at the pictures that lie behind the main one, in their order."""
    structure = select(subject.source).structure
    index = read_index(subject, structure)
    if index is None or not index.found:
        raise RepairImpossible("No further pictures lie behind the picture.")
    pieces: list[Piece] = []
    at, steps = 0, []
    spans = [ByteSpan(structure.start, structure.end), *index.found]
    # Where fewer pictures are left than entries, sizes tell which: an entry keeps the picture of its own size.
    left = list(spans[1:])
    chosen = [spans[0]]
    for entry in index.entries[1:]:
        own = next(
            (s for s in left if s.length == entry.size), left[0] if len(left) >= len(index.entries) - 1 else None
        )
        if own is not None and own in left:
            left.remove(own)
        chosen.append(own or ByteSpan(0, 0))
    for number, (entry, span) in enumerate(zip(index.entries, chosen, strict=True)):
        place = entry.entry + 4
        offset = 0 if number == 0 or not span.length else span.start - index.base
        pieces += [ByteSpan(at, place), span.length.to_bytes(4, index.order) + offset.to_bytes(4, index.order)]
        at = place + 8
        if number and span.length:
            steps.append(f"Pointed entry {number + 1} at bytes {span.start:,} to {span.end:,}.")
    pieces.append(ByteSpan(at, subject.size))
    if not steps:
        raise RepairImpossible("No picture of the size that an entry names lies in the file.")
    return RepairDraft(tuple(pieces), tuple(steps))
