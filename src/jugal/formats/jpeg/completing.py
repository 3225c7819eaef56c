"""A header of which parts are lost, completed from a donor: only what is missing is taken, all that is left stays as it is.

Huffman tables fitted to a picture are good for no other one. Where they went with the header they are found from the data: those
of a progressive picture's first scan, as it has others between its scans, and all those of a sequential one.
"""

from __future__ import annotations

from collections.abc import Callable

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.damage import judge
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.parse import HuffmanTable, Structure, walk
from jugal.formats.jpeg.refit import as_read, assembled, joined, reads_whole, refitted, segments_of
from jugal.formats.jpeg.select import select
from jugal.formats.jpeg.sought import Sought, can_seek, sought_tables
from jugal.model.span import ByteSpan

_FITTED = "Found Huffman tables of DC values by which the data read to the last bit, each row like the one above it."


def complete_header(subject: Subject, donor: Subject, model: Structure) -> RepairDraft | None:
    """The file's own segments and scans with the donor's frame and tables where it has none; None where that does not decode
    to the last block."""
    own = select(subject.source).structure
    if not own.scans or model.frame is None or (own.frame is not None and own.frame.marker != model.frame.marker):
        return None
    lacking = _lacking(own, donor, model)
    first = own.scans[0].segment.start
    tables = {key: model.tables[key] for key in sorted(own.missing_tables()) if key in model.tables}
    if not lacking and not tables:
        return None

    def with_tables(tables: dict[int, HuffmanTable]) -> dict[int, bytes]:
        return {first: b"".join((*lacking.values(), segments_of(tables)))}

    steps, kept = [f"Took the donor's {what}." for what in (*lacking, *map(_name, tables))], 100.0
    pieces = assembled(own, with_tables(tables))
    made = as_read(subject, pieces)
    if not reads_whole(made, len(own.scans)):
        steps = [f"Took the donor's {what}." for what in lacking]
        fitted = _fitted(made, tables)
        if fitted is not None:
            steps.append(_FITTED)
        elif found := search(subject, made, model, lambda t: assembled(own, with_tables(t))):
            fitted, kept = found.tables, kept_with(found)
            steps += steps_of(found)
        if fitted is None:
            return None
        pieces = assembled(own, with_tables(fitted))
        if not reads_whole(as_read(subject, pieces), len(own.scans)):
            return None
    return RepairDraft(pieces, (*steps, f"Kept the {len(own.segments):,} segments and scans that are left."), kept=kept)


def search(
    subject: Subject, made: Structure, model: Structure, pieces_of: Callable[[dict[int, HuffmanTable]], tuple[Piece, ...]]
) -> Sought | None:  # fmt: skip
    """Tables of a picture of one sequential scan found from its data, where the donor has such tables too; None where there are none.

    ``pieces_of`` makes the picture with tables: one that reads but has marks of damage has others.
    """
    if made.frame is None or len(made.scans) != 1 or not can_seek(made.frame, made.scans[0], model):
        return None

    def is_sound(tables: dict[int, HuffmanTable]) -> bool:
        whole = Subject(joined(subject, pieces_of(tables)))
        found = walk(whole.source, 0)
        if found.frame is None or not reads_whole(found, 1):
            return False
        return not judge(whole, found, decode(found.frame, found.scans, found.quant)).damages

    return sought_tables(made, model, is_sound)


def steps_of(found: Sought) -> tuple[str, ...]:
    """What was done to find tables of a sequential scan, and what of them is not sure."""
    return (
        "Found Huffman tables from the data, by what is likely in a picture like the donor, by which they read to the last bit.",
        f"Estimated the symbols of the rarest codes, in {100.0 * found.unsure:.2f} % of the picture.",
    )


def kept_with(found: Sought) -> float:
    """Percent of the picture that such tables bring back for sure."""
    return 100.0 * (1.0 - found.unsure)


def complete_scans(subject: Subject, donor: Subject, model: Structure, start: int) -> RepairDraft | None:
    """All that the donor's first scan needs before the data of a picture of several scans, from byte ``start`` on, and its further
    ones; None where that does not decode to the last block."""
    if model.frame is None or not model.scans or (len(model.scans) == 1 and model.frame.marker != spec.PROGRESSIVE):
        return None
    scan = model.scans[0]
    taken = (spec.APP0, spec.APP14, spec.DQT, spec.DRI, model.frame.marker)
    head = b"".join(
        donor.source.read(s.start, s.end - s.start)
        for s in model.segments
        if s.start < scan.segment.start and s.marker in taken
    )
    header = donor.source.read(scan.segment.start, scan.segment.end - scan.segment.start)
    rest = ByteSpan(start, subject.size)

    def written(tables: dict[int, HuffmanTable]) -> tuple[Piece, ...]:
        return spec.MARK_SOI + head + segments_of(tables) + header, rest

    made, tables = as_read(subject, written(scan.tables)), scan.tables
    steps = ["Wrote the donor's header."]
    if not made.scans or len(made.scans) != len(model.scans):
        return None
    if not reads_whole(made, len(made.scans)):
        fitted = _fitted(made, tables)
        if fitted is None:
            return None
        tables, steps = tables | fitted, ["Wrote the donor's header but for its Huffman tables.", _FITTED]
        made = as_read(subject, written(tables))
        if not reads_whole(made, len(model.scans)):
            return None
    end = start + made.scans[-1].entropy.end - made.scans[0].entropy.start
    kept = f"Kept the {len(made.scans):,} scans, bytes {start:,} to {end:,}."
    return RepairDraft((written(tables)[0], ByteSpan(start, end), spec.MARK_EOI), (*steps, kept))


def _fitted(made: Structure, lent: dict[int, HuffmanTable]) -> dict[int, HuffmanTable] | None:
    """``lent`` with tables found from the data in place of those that the first scan reads by; None where there are none."""
    if made.frame is None or made.frame.marker != spec.PROGRESSIVE or not made.scans:
        return None
    found = refitted(made, lent)
    own = found.get(made.scans[0].segment.start) if found and len(found) == 1 else None
    return lent | own if own else None


def _name(key: int) -> str:
    return f"Huffman table {'AC' if key >> 4 else 'DC'} {key & 15}"


def _lacking(own: Structure, donor: Subject, model: Structure) -> dict[str, bytes]:
    """Segments of the donor but for Huffman tables for what the file does not have, by what they are."""
    frame = own.frame or model.frame
    assert frame is not None
    found: dict[str, bytes] = {}
    for ident in sorted({c.tq for c in frame.components} - set(own.quant)):
        if ident in model.quant:
            found[f"quantisation table {ident}"] = spec.quant_segment(ident, model.quant[ident])
    if own.frame is None:
        header = next(s for s in model.segments if s.marker in spec.SOF)
        found["frame header"] = donor.source.read(header.start, header.end - header.start)
    return found
