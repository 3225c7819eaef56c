"""Which picture in the file is the one meant, and whether an ordinary decoder would open it."""

from __future__ import annotations

from dataclasses import dataclass

from jugal.binary.source import Source
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.parse import HuffmanTable, Scan, Segment, Structure, salvage, soi_positions, walk
from jugal.formats.jpeg.stretches import stretches
from jugal.model.span import ByteSpan


@dataclass(frozen=True, slots=True)
class Selection:
    """The structure to judge. ``opens`` says that a decoder that starts at byte 0 gets to its scan; where none does, ``chain`` is
    what it meets from there."""

    structure: Structure
    opens: bool
    chain: Structure | None = None


def usable(structure: Structure) -> bool:
    """All that decoding needs is there, but for Huffman tables."""
    return bool(
        structure.frame is not None and structure.frame.height and structure.scans and structure.entropy_bytes > 0
    )


def decodable(structure: Structure) -> bool:
    return usable(structure) and not structure.missing_tables() and not structure.missing_quant()


def given_up(structure: Structure) -> bool:
    """A segment that decoding needs has an impossible content or length, or a marker that none knows stands between segments: decoders stop
    there and show nothing.

    Of others they take no notice, but in progressive pictures a bad one lies between the scans and keeps them apart.
    """
    frame = structure.frame
    if structure.stopped is not None:
        return True
    needed = {spec.DHT, spec.DQT, spec.DRI, spec.SOS} | spec.SOF
    return any(
        segment.marker in needed or (frame is not None and frame.marker == spec.PROGRESSIVE)
        for segment in structure.bad_segments
    )


def one_sequential_scan(structure: Structure) -> bool:
    """All components in one interleaved sequential scan, and all that decoding it needs."""
    frame = structure.frame
    return (
        frame is not None
        and decodable(structure)
        and frame.marker in spec.SEQUENTIAL
        and len(structure.scans) == 1
        and len(structure.scans[0].components) == len(frame.components)
    )


def select(source: Source) -> Selection:
    """The picture that a viewer opens; where it opens none, the best that is left in the file."""
    chain = walk(source, 0) if source.read(0, 3) == b"\xff\xd8\xff" else None
    candidates: list[Structure] = []
    if chain is not None:
        if (usable(chain) and not chain.missing_quant()) or (
            chain.frame is not None and chain.frame.marker not in (*spec.SEQUENTIAL, spec.PROGRESSIVE) and chain.scans
        ):
            return Selection(chain, True)
        candidates.append(chain)
    elif source.read(2, 1) == b"\xff" and source.uint(3, 1) in (spec.APP0, spec.APP1, spec.DQT, spec.COM):
        bare = walk(source, 2, has_soi=False)
        if usable(bare):
            candidates.append(bare)
    pictures = [walk(source, at) for at in soi_positions(source) if at]
    collected = salvage(source)
    if collected is not None:
        pictures.append(collected)
    # A thumbnail in the metadata is not the picture, whatever became of that.
    segments = [segment for candidate in candidates for segment in candidate.segments]
    candidates += [found for found in pictures if not found.overfull and not _is_inside(source, found, segments)]
    good = [c for c in candidates if usable(c)]
    best = max(good, key=lambda c: (c.entropy_bytes * _credit(c), -c.start), default=None)
    if best is None or (not _at_start(best) and _more_apart(source, best, good)):
        return Selection(next((c for c in candidates if not usable(c)), Structure(0, False)), False, chain)
    return Selection(best, False, chain)


def _is_inside(source: Source, found: Structure, segments: list[Segment]) -> bool:
    """The picture lies in a segment, or breaks off there: what goes on behind a segment without a break is no part of it."""
    begin = found.scans[0].segment.start if found.scans else found.start
    end = next((segment.end for segment in segments if segment.start < begin < segment.end), 0)
    if found.end <= end:
        return True
    starts = (scan.entropy.start for scan in found.scans if scan.entropy.start < end <= scan.entropy.end)
    return any(stretches(source, first, end) not in ([], [ByteSpan(first, end)]) for first in starts)


def _credit(found: Structure) -> float:
    """What a picture's data count: those at the file's start more than further ones behind it, and one found by its own start is the better
    witness than segments that were collected."""
    if found.salvaged:
        return 0.9
    return 2.0 if _at_start(found) else 1.0


def _at_start(found: Structure) -> bool:
    """The picture's markers begin at the file's start, or would if the first was there."""
    return found.start <= len(spec.MARK_SOI)


def _more_apart(source: Source, found: Structure, pictures: list[Structure]) -> bool:
    """More entropy-coded data than a picture has lie before or behind it, and in no other of ``pictures``: it is a preview, and the main
    picture's header is lost.

    What lies behind a picture that does not end may be the rest of it.
    """
    apart = stretches(source, 0, found.start)
    if found.eoi is not None:
        apart += stretches(source, found.end)
    return found.entropy_bytes < sum(
        span.length for span in apart if not any(p.start <= span.start < p.end for p in pictures)
    )


def standard_scans(structure: Structure) -> list[Scan]:
    """The scans with the typical tables (Annex K) in place of missing ones."""
    scans = []
    for scan in structure.scans:
        tables = {key: HuffmanTable(*table) for key, table in spec.ANNEX_K.items()} | scan.tables
        for index, td, ta in scan.components:
            chroma = 1 if index else 0
            tables.setdefault(td, HuffmanTable(*spec.ANNEX_K[chroma]))
            tables.setdefault(ta | 0x10, HuffmanTable(*spec.ANNEX_K[chroma | 0x10]))
        scans.append(
            Scan(
                scan.segment,
                scan.components,
                scan.ss,
                scan.se,
                scan.ah,
                scan.al,
                tables,
                scan.restart_interval,
                scan.entropy,
            )
        )
    return scans
