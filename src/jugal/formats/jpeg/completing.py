"""A header of which parts are lost, completed from a donor: only what is missing is taken, all that is left stays as it is.

Huffman tables fitted to a picture are good for no other one, and progressive pictures have them between their scans.
"""

from __future__ import annotations

from jugal.binary.output import Piece
from jugal.binary.source import Source
from jugal.formats.base import RepairDraft, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.decode import Decoded, decode
from jugal.formats.jpeg.parse import Structure, walk
from jugal.formats.jpeg.select import decodable, select
from jugal.model.span import ByteSpan

_SOI, _EOI = b"\xff\xd8", b"\xff\xd9"
#: Bits behind the last block that may be padding; more is picture data that the donor's size has no room for.
PADDING = 24


def complete_header(subject: Subject, donor: Subject, model: Structure) -> RepairDraft | None:
    """The file's own segments and scans with the donor's frame and tables where it has none; None where that does not decode
    to the last block."""
    own = select(subject.source).structure
    if not own.scans or model.frame is None or (own.frame is not None and own.frame.marker != model.frame.marker):
        return None
    lacking = _lacking(own, donor, model)
    if not lacking:
        return None
    bad = {segment.start for segment in own.bad_segments}
    pieces: list[Piece] = [_SOI]
    for segment in own.segments:
        if segment.start == own.scans[0].segment.start:
            pieces += lacking.values()
        if segment.start not in bad:
            pieces.append(ByteSpan(segment.start, segment.end))
        pieces += [ByteSpan(s.entropy.start, s.entropy.end) for s in own.scans if s.segment.start == segment.start]
    pieces.append(_EOI)
    whole = b"".join(p if isinstance(p, bytes) else subject.source.read(p.start, p.length) for p in pieces)
    made = walk(Source.from_bytes(whole), 0)
    if not decodable(made) or made.frame is None or len(made.scans) != len(own.scans):
        return None
    if not made.has_levels:
        return None  # scans went with the header
    if not all(_to_the_end(scan) for scan in decode(made.frame, made.scans, made.quant).scans):
        return None
    steps = [f"Took the donor's {what}." for what in lacking]
    return RepairDraft(tuple(pieces), (*steps, f"Kept the {len(own.segments):,} segments and scans that are left."))


def _to_the_end(scan: Decoded) -> bool:
    """All blocks decode and take all the data: else the donor's size is another."""
    return scan.complete and scan.bits_left < PADDING


def _lacking(own: Structure, donor: Subject, model: Structure) -> dict[str, bytes]:
    """Segments of the donor for what the file does not have, by what they are."""
    frame = own.frame or model.frame
    assert frame is not None
    found: dict[str, bytes] = {}
    for ident in sorted({c.tq for c in frame.components} - set(own.quant)):
        if ident in model.quant:
            found[f"quantisation table {ident}"] = spec.quant_segment(ident, model.quant[ident])
    for key in sorted(own.missing_tables()):
        if key in model.tables:
            table = model.tables[key]
            kind = "AC" if key >> 4 else "DC"
            found[f"Huffman table {kind} {key & 15}"] = spec.table_segment(key, table.counts, table.symbols)
    if own.frame is None:
        header = next(s for s in model.segments if s.marker in spec.SOF)
        found["frame header"] = donor.source.read(header.start, header.end - header.start)
    return found
