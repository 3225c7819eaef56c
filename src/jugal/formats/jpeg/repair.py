"""Repairs of a JPEG that leave every surviving entropy-coded bit as it is."""

from __future__ import annotations

import re

import numpy as np

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Report, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.check import examine
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.donor import donor_header
from jugal.formats.jpeg.entropy import neutral_mcu, with_neutral_codes
from jugal.formats.jpeg.estimate import estimate_header
from jugal.formats.jpeg.further import content_end
from jugal.formats.jpeg.importance import missing_share
from jugal.formats.jpeg.indexes import mend_exif, mend_index
from jugal.formats.jpeg.intervals import restore_intervals
from jugal.formats.jpeg.order import reorder
from jugal.formats.jpeg.parse import Scan, Structure
from jugal.formats.jpeg.preview import largest_preview
from jugal.formats.jpeg.refit import fit_tables
from jugal.formats.jpeg.resync import resync
from jugal.formats.jpeg.scans import cut_scans
from jugal.formats.jpeg.select import decodable, select, usable
from jugal.kernels.stuffing import pack_bits
from jugal.model import scoring
from jugal.model.span import ByteSpan

_RESTART = re.compile(rb"\xff+[\xd0-\xd7]")


def _structure(subject: Subject) -> Structure:
    structure = select(subject.source).structure
    if not usable(structure):
        raise RepairImpossible("No picture with a header was found in the file.")
    return structure


def trim(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Keeps the picture alone: bytes before its start and after its end are left out."""
    structure = _structure(subject)
    steps = []
    if structure.start:
        steps.append(f"Left out bytes 0 to {structure.start:,} before the picture.")
    end = content_end(subject, structure)
    if end < subject.size and structure.eoi is not None:
        steps.append(f"Left out bytes {end:,} to {subject.size:,} after the picture.")
    pieces: list[Piece] = [ByteSpan(structure.start, end)]
    if structure.eoi is None:
        pieces.append(spec.MARK_EOI)
        steps.append(f"Added the end-of-image marker at {structure.end:,}.")
    return RepairDraft(tuple(pieces), tuple(steps), kept=_came(structure))


def close(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Adds the missing end-of-image marker after the last entropy-coded byte."""
    structure = _structure(subject)
    end = structure.scans[-1].entropy.end
    pieces: tuple[Piece, ...] = (ByteSpan(structure.start, end), spec.MARK_EOI)
    steps = (f"Kept bytes {structure.start:,} to {end:,} and added the end-of-image marker.",)
    return RepairDraft(pieces, steps, kept=_came(structure), completes=True)


def pad(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The data up to its last whole MCU, then neutral grey to the full size, restart markers kept in step."""
    structure = _structure(subject)
    frame, scan = structure.frame, structure.scans[0]
    if frame is None or not decodable(structure) or len(structure.scans) != 1 or frame.marker not in spec.SEQUENTIAL:
        raise RepairImpossible("Only sequential pictures of one scan can be filled up.")
    decoded = decode(frame, structure.scans, structure.quant).scans[0]
    last = decoded.segments.start.size - 1
    done = int(decoded.done[last])
    first_clean = int(decoded.segments.start[last])
    keep = int(decoded.raw([first_clean * 8])[0])
    if last and (marker := _RESTART.match(subject.source.read(keep, 64))):
        keep += marker.end()  # the marker that the last interval follows stays with what is before it
    reached = int(decoded.segments.mcu[last]) + done
    interval = scan.restart_interval
    if done < int(decoded.segments.count[last]):
        used = int(decoded.unit_pos[reached]) - first_clean * 8
    else:
        used = int(decoded.used[last])
    bits = np.unpackbits(scan.entropy.clean[first_clean : first_clean + used // 8 + 1])[:used]
    roomy, header = with_neutral_codes(structure)
    grey = neutral_mcu(roomy, roomy.scans[0])
    parts: list[Piece] = [*header, ByteSpan(scan.entropy.start, keep)]
    unit = reached
    while unit < decoded.units or bits.size:
        stop = decoded.units if not interval else min(decoded.units, (unit // interval + 1) * interval)
        if bits.size and interval and unit and unit % interval == 0:
            stop = unit
        parts.append(pack_bits(np.concatenate((bits, np.tile(grey, stop - unit)))))
        bits = np.empty(0, np.uint8)
        unit = stop
        if unit < decoded.units and interval:
            parts.append(bytes([0xFF, 0xD0 + (unit // interval - 1) % 8]))
    parts.append(spec.MARK_EOI)
    return RepairDraft(
        tuple(parts),
        (
            f"Kept bytes {structure.start:,} to {scan.entropy.end:,}: {reached:,} of {decoded.units:,} blocks of the picture.",
            f"Wrote {decoded.units - reached:,} grey blocks and the end-of-image marker.",
        ),
        kept=scoring.share(frame.covered(0, reached), frame.pixels),
        completes=True,
    )


def rebuild_header(subject: Subject, donor: Subject | None) -> RepairDraft:
    """A new start from the segments that were found, then the scans as they are."""
    structure = _structure(subject)
    if not decodable(structure):
        raise RepairImpossible("Tables that the picture needs are missing.")
    pieces: list[Piece] = [spec.MARK_SOI]
    steps = ["Wrote the start-of-image marker."]
    scan_starts = {s.segment.start: s for s in structure.scans}
    bad = {s.start for s in structure.bad_segments}
    for segment in structure.segments:
        if segment.start in bad:
            steps.append(
                f"Left out the impossible segment 0xFF{segment.marker:02X}, bytes {segment.start:,} to {segment.end:,}."
            )
            continue
        pieces.append(ByteSpan(segment.start, segment.end))
        steps.append(f"Kept the segment 0xFF{segment.marker:02X}, bytes {segment.start:,} to {segment.end:,}.")
        scan = scan_starts.get(segment.start)
        if scan is not None:
            end = _legal_end(scan)
            pieces.append(ByteSpan(scan.entropy.start, end))
            steps.append(f"Kept the entropy-coded data, bytes {scan.entropy.start:,} to {end:,}.")
    pieces.append(spec.MARK_EOI)
    steps.append("Wrote the end-of-image marker.")
    return RepairDraft(tuple(pieces), tuple(steps), kept=_came(structure))


def _came(structure: Structure) -> float:
    """Percent of the picture that looks right although scans of it never came; once it has an end nothing tells of these."""
    frame = structure.frame
    if frame is None or frame.marker != spec.PROGRESSIVE or structure.eoi is not None or not decodable(structure):
        return 100.0
    return 100.0 * (1.0 - missing_share(frame, structure))


def _legal_end(scan: Scan) -> int:
    """Where a scan's data end for a decoder that refuses reserved markers among them."""
    reserved = np.flatnonzero(~scan.entropy.is_restart)
    return int(scan.entropy.mark_raw[reserved[0]]) if reserved.size else scan.entropy.end


def standard_tables(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The typical Huffman tables (Annex K) inserted before the scan header."""
    structure = _structure(subject)
    report = Report()
    examine(subject, report)
    first = structure.scans[0].segment
    missing = structure.missing_tables()
    blocks = b"".join(spec.table_segment(key, *spec.ANNEX_K[(key & 0x10) | min(key & 1, 1)]) for key in sorted(missing))
    bad = {s.start for s in structure.bad_segments}
    kept = [ByteSpan(s.start, s.end) for s in structure.segments if s.start < first.start and s.start not in bad]
    end = structure.eoi if structure.eoi is not None else structure.scans[-1].entropy.end
    pieces: list[Piece] = [spec.MARK_SOI, *kept, blocks, ByteSpan(first.start, end), spec.MARK_EOI]
    return RepairDraft(
        tuple(pieces),
        (
            f"Inserted {len(missing)} typical Huffman tables before byte {first.start:,}; left out {len(bad)} impossible segments.",
            f"Kept bytes {first.start:,} to {end:,}.",
        ),
        # Data that were coded with other tables decode to something, too, and the output does not tell that these are a guess.
        kept=report.forecast("standard-tables"),
    )


def extract_preview(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The largest whole picture that lies inside the file besides the main one: a preview or thumbnail."""
    preview = largest_preview(subject, select(subject.source).structure)
    if preview is None:
        raise RepairImpossible("No whole preview lies in the file.")
    return RepairDraft(
        (preview.span,),
        (
            f"Took the preview of {preview.width} × {preview.height} pixels, bytes {preview.span.start:,} to {preview.span.end:,}.",
        ),
        kept=preview.worth,
    )


REPAIRS = {
    "extract-preview": extract_preview,
    "trim": trim,
    "close": close,
    "pad": pad,
    "resync": resync,
    "restore-intervals": restore_intervals,
    "rebuild-header": rebuild_header,
    "standard-tables": standard_tables,
    "fit-tables": fit_tables,
    "donor-header": donor_header,
    "estimate-header": estimate_header,
    "cut-scans": cut_scans,
    "reorder": reorder,
    "mend-exif": mend_exif,
    "mend-index": mend_index,
}
