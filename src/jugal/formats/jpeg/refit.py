"""Progressive pictures whose tables for DC values are lost: those that were fitted to them are found again and put back."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from jugal.binary.output import Piece
from jugal.binary.source import Source
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.decode import Decoded, decode
from jugal.formats.jpeg.fitted import fitted_tables
from jugal.formats.jpeg.parse import HuffmanTable, Scan, Structure, walk
from jugal.formats.jpeg.select import decodable, select
from jugal.model.span import ByteSpan

#: Bits behind the last block that may be padding; more is picture data that the frame has no room for.
PADDING = 24
#: Percent of such pictures that come back.
FOUND_TABLES = 75.0


def can_refit(structure: Structure) -> bool:
    """All that is missing are tables of scans of DC values alone."""
    frame = structure.frame
    if frame is None or frame.marker != spec.PROGRESSIVE or structure.missing_quant() or not structure.has_levels:
        return False
    found = {key for scan in structure.scans if _is_first(scan) for key in _needed(scan)}
    return structure.missing_tables() <= found


def _is_first(scan: Scan) -> bool:
    """A scan that brings DC values and nothing else (G.1.1.1.1)."""
    return scan.ss == 0 and scan.se == 0 and scan.ah == 0


def _needed(scan: Scan) -> set[int]:
    return {table for _, table, _ in scan.components}


def refitted(
    structure: Structure, doubted: dict[int, HuffmanTable] | None = None
) -> dict[int, dict[int, HuffmanTable]] | None:
    """Per scan of DC values that lacks some, by where its header begins, the tables found from its data; None where there are
    none by which all of it reads.

    Tables that are there are believed but for those ``doubted``, which are a like picture's. What was found for one scan goes
    for those behind it that have no other.
    """
    frame, known, lent = structure.frame, dict[int, HuffmanTable](), doubted or {}
    found: dict[int, dict[int, HuffmanTable]] = {}
    if frame is None:
        return None
    for scan in structure.scans:
        if not _is_first(scan):
            continue
        own = known | {key: table for key, table in scan.tables.items() if lent.get(key) != table}
        lost = _needed(scan) - set(own)
        if not lost:
            continue
        tables = fitted_tables(frame, replace(scan, tables=own), structure.quant, scan.tables)
        if tables is None:
            return None
        found[scan.segment.start] = {key: tables[key] for key in sorted(lost)}
        known |= found[scan.segment.start]
    return found


def segments_of(tables: dict[int, HuffmanTable]) -> bytes:
    """``tables`` as DHT segments."""
    return b"".join(spec.table_segment(key, table.counts, table.symbols) for key, table in tables.items())


def assembled(own: Structure, added: dict[int, bytes]) -> tuple[Piece, ...]:
    """The picture's good segments and scans with what is ``added`` before those that begin at a place."""
    bad = {segment.start for segment in own.bad_segments}
    pieces: list[Piece] = [spec.MARK_SOI]
    for segment in own.segments:
        if segment.start in added:
            pieces.append(added[segment.start])
        if segment.start not in bad:
            pieces.append(ByteSpan(segment.start, segment.end))
        pieces += [ByteSpan(s.entropy.start, s.entropy.end) for s in own.scans if s.segment.start == segment.start]
    return (*pieces, spec.MARK_EOI)


def as_read(subject: Subject, pieces: Iterable[Piece]) -> Structure:
    """The picture that ``pieces`` of ``subject`` make."""
    return walk(joined(subject, pieces), 0)


def joined(subject: Subject, pieces: Iterable[Piece]) -> Source:
    """What ``pieces`` of ``subject`` make."""
    parts = (p if isinstance(p, bytes) else subject.source.read(p.start, p.length) for p in pieces)
    return Source.from_bytes(b"".join(parts))


def reads_whole(made: Structure, scans: int) -> bool:
    """So many scans, those of all DC values among them, decode to the last block and leave nothing."""
    if not decodable(made) or made.frame is None or len(made.scans) != scans or not made.has_levels:
        return False
    return all(_to_the_end(scan) for scan in decode(made.frame, made.scans, made.quant).scans)


def _to_the_end(scan: Decoded) -> bool:
    """All blocks decode and take all the data: else the frame is of another size."""
    return scan.complete and scan.bits_left < PADDING


def fit_tables(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Repair: the lost tables of DC values found from the data that were coded with them, and put before their scans."""
    own = select(subject.source).structure
    if not can_refit(own):
        raise RepairImpossible("More than tables for DC values is lost.")
    found = refitted(own)
    if not found:
        raise RepairImpossible("No tables were found by which the first scan reads to its end.")
    count = sum(len(tables) for tables in found.values())
    return RepairDraft(
        assembled(own, {at: segments_of(tables) for at, tables in found.items()}),
        (
            f"Found {count} Huffman tables of DC values by which the data read to the last bit, each row like the one above it.",
            f"Kept the {len(own.segments):,} segments and scans that are left.",
        ),
    )
