"""Judges a JPEG: structure, scans, score, regions, thumbnail, and which repairs apply."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Report, Subject
from jugal.formats.fills import trailing_fill
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.alike import looking_right
from jugal.formats.jpeg.canvas import Placed
from jugal.formats.jpeg.damage import Verdicts, begin_at, judge, mcus_of, spoiled_mask
from jugal.formats.jpeg.decode import Picture, decode, unit_height
from jugal.formats.jpeg.estimate import WORTH, estimate
from jugal.formats.jpeg.further import content_end
from jugal.formats.jpeg.intervals import find_intervals
from jugal.formats.jpeg.lossless import decode_lines, followed
from jugal.formats.jpeg.metadata import examine_metadata
from jugal.formats.jpeg.order import find_order
from jugal.formats.jpeg.parse import Frame, Structure, walk
from jugal.formats.jpeg.preview import largest_preview
from jugal.formats.jpeg.refit import FOUND_TABLES, can_refit
from jugal.formats.jpeg.resync import find_mosaic
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.scans import find_cuts, past_false_end, stops_decoders
from jugal.formats.jpeg.select import Selection, decodable, given_up, select, standard_scans, usable
from jugal.formats.jpeg.sought import may_seek
from jugal.formats.jpeg.stretches import stretches
from jugal.formats.jpeg.thumbnail import dc_rgb, is_luminance_first, thumbnail_of
from jugal.kernels.blockstats import SECTOR
from jugal.model import scoring
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Region
from jugal.model.strip import Matter

_SHOWN_REGIONS = 12
_TAKE_HEADER = "Take the header from a healthy picture of the same camera and settings."
#: Bytes at a file's start of one value from which they are filler.
_LEAST_FILLED = 32
#: Bytes more of it, behind whole sectors.
_FEW_FILLED = 8
#: How many times as much data as a thumbnail a picture has at least.
_PICTURE_TO_THUMBNAIL = 2
#: How sure of its place and levels a run must be for what is shown to be held against it.
_SURE_ENOUGH = 0.8


def examine(subject: Subject, report: Report) -> None:
    """Examines the JPEG in ``subject``; never raises for its content."""
    selection = select(subject.source)
    structure = selection.structure
    _judge_main(subject, report, selection)
    examine_metadata(subject, report, structure)
    if report.score is not None and report.score < 98:
        preview = largest_preview(subject, structure)
        if preview is not None:
            what = f"Take out the preview of {preview.width} × {preview.height} pixels that is whole."
            report.plan("extract-preview", what, preview.worth)


def _judge_main(subject: Subject, report: Report, selection: Selection) -> None:
    """Judges the main picture."""
    structure = selection.structure
    _segment_findings(subject, report, selection)
    if not usable(structure):
        _no_picture(subject, report, selection)
        return
    frame = structure.frame
    assert frame is not None
    report.media.update(width=frame.width, height=frame.height, coding=spec.SOF_NAMES[frame.marker])
    lossless = followed(frame, structure.scans)
    if frame.marker not in (*spec.SEQUENTIAL, spec.PROGRESSIVE) and not lossless:
        _walked_only(subject, report, selection)
        return
    if frame.mcus_x * frame.mcus_y * 64 * len(frame.components) > subject.limits.pixels * 3:
        report.add(
            FindingCode.BUDGET,
            Severity.NOTE,
            f"{frame.width} × {frame.height} pixels are too many to decode.",
        )
        _walked_only(subject, report, selection)
        return
    missing = structure.missing_tables()
    scans = standard_scans(structure) if missing else structure.scans
    picture = decode_lines(frame, scans) if lossless else decode(frame, scans, structure.quant)
    verdicts = judge(subject, structure, picture)
    order = find_order(subject, structure, picture, verdicts.damages)
    if order is not None:
        begin_at(verdicts, picture, order.concerned.start)
    shown = _shown(frame, spoiled_mask(picture, verdicts.damages))
    # Read with other tables than its own an interval hardly fails, but it does not end with its data, nor does a DC scan.
    every = scans[0].restart_interval if scans else 0
    intervals = -(-frame.mcus_x * frame.mcus_y // every) if every else 0
    typical = frame.marker != spec.PROGRESSIVE and shown > 50 and not 0 < intervals < 2 * len(verdicts.damages)
    believable = not missing or not verdicts.damages or typical
    # Common decoders put the typical tables in where none are given, so that alone keeps no viewer from opening it.
    stopped = stops_decoders(structure)
    broken = stopped or given_up(structure)
    opens = selection.opens and not structure.missing_quant() and not broken and (not missing or believable)
    restored = []
    if opens and verdicts.damages and shown < 98:
        restored = _restored(subject, structure, picture, verdicts)
    # Of a large picture it is large: it is not kept while that is restored.
    mask = spoiled_mask(picture, verdicts.damages)
    for each in restored:
        mask *= 1.0 - looking_right(picture, each.reader, each.parts)
    shown = _shown(frame, mask)
    longer = past_false_end(subject.source, structure, picture)
    _scan_findings(subject, report, structure, picture, verdicts, longer is not None)
    _strip(report, structure, verdicts)
    _regions(report, mask, frame)
    _anchors(report, picture)
    rgb = dc_rgb(picture, structure, is_luminance_first(subject, structure))
    report.thumbnail = thumbnail_of(rgb)
    if structure.missing_quant():
        shown = min(shown, 50.0)
    report.score = shown if opens else scoring.UNOPENABLE
    report.attainable = report.score
    cuts = (
        find_cuts(picture, verdicts.damages)
        if longer is None
        else find_cuts(longer[1], judge(subject, *longer).damages)
    )
    if cuts is not None and (stopped or longer is not None or cuts.kept > shown + 1):
        report.plan("cut-scans", "Keep each scan up to its first damage; what it would refine stays coarse.", cuts.kept)
        report.attainable = max(report.attainable, cuts.kept)
    _plans(subject, report, selection, shown, believable)
    # A step in level may be too small to count for wrong and is seen all the same.
    steps = all(d.code is FindingCode.JPEG_BREAK for d in verdicts.damages)
    for each in restored:
        if each.kept > shown + (-1 if steps else 1):
            report.plan(each.method, each.what, each.kept)
            report.attainable = max(report.attainable, each.kept)
    if order is not None:
        report.plan(
            "reorder", "Put the clusters in their order, and take out those that are not the picture's.", scoring.FULL
        )
        report.attainable = scoring.FULL


def _shown(frame: Frame, mask: NDArray[np.float32]) -> float:
    """Percent of a picture that is shown rightly where ``mask`` is the spoiled share of each MCU."""
    return scoring.share(1.0 - frame.mean_of(mask), 1.0)


@dataclass(frozen=True, slots=True)
class _Restored:
    """What a repair of the scan would put back where, ``kept`` percent of the picture in all."""

    method: str
    what: str
    kept: float
    reader: RunReader
    parts: list[Placed]


def _restored(subject: Subject, structure: Structure, picture: Picture, verdicts: Verdicts) -> list[_Restored]:
    """What repairs inside the scan would give."""
    out = []
    mosaic = find_mosaic(subject, structure, picture, verdicts)
    if mosaic is not None:
        parts = [p for p in mosaic.placed if p.surety > _SURE_ENOUGH]
        what = "Take up decoding behind each damage and put what survives back in its place."
        out.append(_Restored("resync", what, mosaic.kept, mosaic.reader, parts))
    found = find_intervals(subject, structure)
    if found is not None:
        what = "Put every whole interval between restart markers back in its place."
        parts = [p for p in found.placed() if p.surety > _SURE_ENOUGH]
        out.append(_Restored("restore-intervals", what, found.kept, found.reader, parts))
    return out


def _segment_findings(subject: Subject, report: Report, selection: Selection) -> None:
    """What is wrong with the marker chain and the tables."""
    structure, source = selection.structure, subject.source
    if not structure.has_soi and not structure.salvaged and usable(structure):
        report.add(
            FindingCode.JPEG_SOI,
            Severity.FATAL,
            "The start-of-image marker is missing.",
            0,
            2,
            Cause.START_OVERWRITTEN,
        )
    elif structure.salvaged or (not usable(structure) and source.size):
        filled = subject.blocks.fills[0] if subject.blocks.fills and subject.blocks.fills[0].span.start == 0 else None
        start_lost = source.read(0, 3) != b"\xff\xd8\xff"
        place = 0 if start_lost else _chain_breaks(selection)
        report.add(
            FindingCode.JPEG_HEADER, Severity.FATAL,
            "The header cannot be followed to the picture; what is left of it was collected by searching."
            if usable(structure) else "No header with size, tables and scan could be found.",
            place, filled.span.end if filled else place, Cause.START_OVERWRITTEN if start_lost else None,
        )  # fmt: skip
    elif structure.start > 0:
        report.add(
            FindingCode.JPEG_BEFORE, Severity.FATAL,
            f"{structure.start:,} bytes stand before the picture, so that no viewer opens it.", 0, structure.start,
        )  # fmt: skip
    for segment in structure.bad_segments:
        report.add(
            FindingCode.JPEG_SEGMENT, Severity.MAJOR if selection.opens else Severity.FATAL,
            f"The marker segment 0xFF{segment.marker:02X} has an impossible length or content.", segment.start, segment.end,
        )  # fmt: skip
    for start, end in structure.gaps:
        if not structure.salvaged:
            report.add(
                FindingCode.JPEG_BETWEEN, Severity.MAJOR if end - start > 64 else Severity.MINOR,
                f"{end - start:,} bytes that belong to no segment stand between two segments.", start, end,
            )  # fmt: skip
    first_scan = structure.scans[0].entropy.start if structure.scans else structure.end
    for fill in subject.blocks.fills:
        if fill.span.start < first_scan and any(
            s.start < fill.span.start
            and fill.span.start < s.end
            and s.marker not in range(0xE0, 0xF0)
            and s.marker != spec.COM
            for s in structure.segments
        ):
            report.add(
                FindingCode.HOLE,
                Severity.MAJOR,
                "A filled run lies in the header.",
                fill.span.start,
                fill.span.end,
                Cause.UNREADABLE,
            )
    if usable(structure):
        for key in sorted(structure.missing_tables()):
            kind = "AC" if key >> 4 else "DC"
            report.add(
                FindingCode.JPEG_TABLES, Severity.MAJOR, f"The Huffman table {kind} {key & 15} that the scan uses is missing.",
                structure.scans[0].segment.start, structure.scans[0].segment.end,
            )  # fmt: skip
        for ident in sorted(structure.missing_quant()):
            report.add(
                FindingCode.JPEG_TABLES, Severity.FATAL, f"The quantisation table {ident} is missing.",
                structure.scans[0].segment.start, structure.scans[0].segment.end,
            )  # fmt: skip


def _chain_breaks(selection: Selection) -> int:
    """Where the markers from the file's start on lead to no picture: at a segment that leads past its start, or into nowhere."""
    chain, start = selection.chain or selection.structure, selection.structure.start
    past = [s.start for s in chain.segments if s.start < start < s.end]
    broken = [*past, *(s.start for s in chain.bad_segments), *(start for start, _ in chain.gaps)]
    return min(broken, default=chain.end)


def _no_picture(subject: Subject, report: Report, selection: Selection) -> None:
    """Nothing decodable: entropy-coded data may be there for a donor's header."""
    structure = selection.structure
    if structure.frame is not None and structure.frame.width and structure.frame.height:
        report.media.update(width=structure.frame.width, height=structure.frame.height)
    report.score = 0.0
    report.attainable = 0.0
    head = (
        structure.bad_segments[0].start
        if structure.bad_segments
        else (structure.end if selection.structure.segments else 0)
    )
    start = entropy_guess(subject)
    if structure.segments and not structure.scans and structure.end >= subject.size - 2 and not start:
        report.add(
            FindingCode.JPEG_SHORT,
            Severity.FATAL,
            "The file ends in the header, before any picture data.",
            subject.size,
            subject.size,
            Cause.CUT_SHORT,
        )
        report.mark(0, subject.size, Matter.STRUCTURE, "header")
        return
    if start is not None:
        length = subject.size - start
        report.mark(0, start, Matter.DAMAGED, "lost header")
        report.mark(start, subject.size, Matter.PAYLOAD, "entropy-coded data")
        for fill in subject.blocks.fills:
            report.mark(fill.span.start, fill.span.end, Matter.HOLE, f"filled with 0x{fill.value:02X}")
        filled = sum(f.span.length for f in subject.blocks.fills if f.span.start >= start)
        good = scoring.share(length - filled, subject.size)
        report.attainable = 0.85 * good if length > 2048 else 0.0
        if report.attainable >= scoring.UNRECOVERABLE_BELOW:
            report.plan(
                "donor-header",
                _TAKE_HEADER,
                report.attainable,
                True,
            )
            found = estimate(subject, start)
            if found is not None:
                report.plan(
                    "estimate-header",
                    f"Make a header from the data alone, which read as {found.width} × {found.height} pixels; contrast and tint are guessed.",
                    min(report.attainable, WORTH * found.share),
                )
    else:
        report.mark(head, subject.size, Matter.UNEXPLAINED)


def entropy_guess(subject: Subject) -> int | None:
    """Where entropy-coded data may begin in a file without a usable header: after the filled start, or where most of them lie."""
    at, value = 0, 0
    # Behind a start-of-image marker filler is a part of the header, or what took one.
    for fill in subject.blocks.fills if subject.source.read(0, 2) != spec.MARK_SOI else ():
        if fill.span.start <= at + SECTOR:
            at, value = fill.span.end, fill.value
    if at:
        # Filler that goes on into a sector is none of the data.
        other = np.flatnonzero(subject.source.array[at : at + SECTOR] != value)
        same = int(other[0]) if other.size else 0
        at += same if same >= _FEW_FILLED else 0
    else:
        at = filled_start(subject) or _longest(subject)
    return at if at < subject.size else None


def _longest(subject: Subject) -> int:
    """Where the longest stretch of what reads as entropy-coded data begins, but for those in segments; 0 for none.

    Before filler that parts it may lie what is left of a thumbnail, which is short beside the picture.
    """
    chain = walk(subject.source, 0).segments if subject.source.read(0, 2) == spec.MARK_SOI else ()
    spans = [s for s in stretches(subject.source) if not any(c.start < s.start and s.end <= c.end for c in chain)]
    longest = max((s.length for s in spans), default=0)
    return next((s.start for s in spans if _PICTURE_TO_THUMBNAIL * s.length >= longest), 0)


def filled_start(subject: Subject) -> int:
    """The bytes at the file's start that are all the same, of two sectors at most; 0 where they are too few to be filler."""
    head = subject.source.array[: 2 * SECTOR]
    other = np.flatnonzero(head != head[:1])
    same = int(other[0]) if other.size else head.size
    return same if same >= _LEAST_FILLED else 0


def _walked_only(subject: Subject, report: Report, selection: Selection) -> None:
    structure = selection.structure
    assert structure.frame is not None
    name = spec.SOF_NAMES[structure.frame.marker]
    report.add(
        FindingCode.JPEG_WALKED,
        Severity.NOTE,
        f"The {name} coding was walked and its bytes looked at, not decoded.",
    )
    start, end = structure.scans[0].entropy.start, structure.scans[-1].entropy.end
    report.mark(0, start, Matter.STRUCTURE, "header")
    report.mark(start, end, Matter.PAYLOAD, name)
    report.score = scoring.FULL if selection.opens else scoring.UNOPENABLE
    for fill in subject.blocks.fills:
        if start <= fill.span.start < end and fill.span.length >= 1024:
            share = scoring.share(fill.span.start - start, end - start)
            report.add(
                FindingCode.JPEG_HOLE,
                Severity.MAJOR,
                "A filled run lies in the entropy-coded data.",
                fill.span.start,
                fill.span.end,
                Cause.UNREADABLE,
            )
            report.mark(fill.span.start, fill.span.end, Matter.HOLE)
            report.score = min(report.score, share)
    if structure.eoi is None:
        report.add(
            FindingCode.JPEG_EOI,
            Severity.MAJOR,
            "The end-of-image marker is missing; how much picture data is lost cannot be told.",
            structure.end,
            structure.end,
            Cause.CUT_SHORT,
        )
        report.score = min(report.score, scoring.STATISTICS_ONLY)
    report.attainable = report.score


_SENTENCES = {
    FindingCode.JPEG_CODE: "The entropy-coded data turns impossible",
    FindingCode.JPEG_BREAK: "The picture breaks: what follows is displaced or discoloured",
    FindingCode.JPEG_SURPLUS: "Picture data is left over at the end, so part of it was replaced or inserted before",
    FindingCode.JPEG_SHORT: "The picture data ends early",
    FindingCode.JPEG_HOLE: "A filled run lies in the picture data",
    FindingCode.JPEG_FOREIGN: "Foreign bytes lie in the picture data",
    FindingCode.JPEG_RESTART: "Restart intervals are missing",
}


def _scan_findings(
    subject: Subject, report: Report, structure: Structure, picture: Picture, verdicts: Verdicts, goes_on: bool
) -> None:
    """What is wrong with the scans, and what follows the picture unless it ``goes_on`` there."""
    frame = picture.frame
    size = subject.size
    for damage in sorted(verdicts.damages, key=lambda d: d.start):
        decoded = picture.scans[damage.scan]
        row = damage.first // max(1, decoded.units_x) * unit_height(frame, decoded.scan)
        spoiled = scoring.share(frame.covered(*mcus_of(picture, damage)), frame.pixels)
        sentence = _SENTENCES[damage.code]
        if damage.weight is not None:
            sentence, spoiled = "Scans of the picture never came", 100.0 * damage.weight
        cause: Cause | None = None
        code = damage.code
        if code is FindingCode.JPEG_SHORT:
            if damage.start >= size - 16:
                cause = Cause.CUT_SHORT
            elif structure.eoi is None or decoded.scan.entropy.end < size - 2:
                marker = subject.source.read(decoded.scan.entropy.end, 2)
                if marker[:1] == b"\xff" and marker[1:] != b"\xd9":
                    code = FindingCode.JPEG_MARKER
                    sentence = (
                        f"A marker 0xFF{marker[1]:02X} interrupts the picture data" if len(marker) > 1 else sentence
                    )
        elif code is FindingCode.JPEG_HOLE:
            cause = Cause.UNREADABLE
        elif code is FindingCode.JPEG_FOREIGN or (damage.start % 512 == 0 and damage.start):
            cause = Cause.OVERWRITTEN
        certain = (
            " (noticed here; it may begin earlier)"
            if damage.noticed_only and code is not FindingCode.JPEG_SHORT
            else ""
        )
        what = f"from row {int(row):,} of {frame.height:,}, {spoiled:.1f} % of the picture"
        report.add(
            code,
            Severity.MAJOR,
            f"{sentence}{certain}: {what}.",
            damage.start,
            max(damage.start, damage.end),
            cause,
        )
    surviving = structure.eoi is None
    end = structure.end
    several = frame.marker == spec.PROGRESSIVE
    if surviving and (several or not report.has(FindingCode.JPEG_SHORT, FindingCode.JPEG_MARKER)):
        report.add(
            FindingCode.JPEG_EOI,
            Severity.MINOR,
            "The end-of-image marker is missing.",
            end,
            end,
            Cause.CUT_SHORT,
        )
    belongs = content_end(subject, structure)
    if structure.eoi is not None and belongs < size and not goes_on:
        rest = size - belongs
        kind = "zeros or filler" if trailing_fill(subject, belongs) else "bytes"
        report.add(
            FindingCode.TAIL,
            Severity.NOTE,
            f"{rest:,} {kind} follow the marker that ends the picture.",
            belongs,
            size,
        )


def _strip(report: Report, structure: Structure, verdicts: Verdicts) -> None:
    report.mark(0, structure.start, Matter.FOREIGN, "before the picture")
    if structure.has_soi:
        report.mark(structure.start, structure.start + 2, Matter.STRUCTURE, spec.marker_name(spec.SOI))
    for segment in structure.segments:
        report.mark(segment.start, segment.end, Matter.STRUCTURE, spec.marker_name(segment.marker))
    for scan in structure.scans:
        report.mark(scan.entropy.start, scan.entropy.end, Matter.PAYLOAD, "entropy-coded data")
    for damage in verdicts.damages:
        end = structure.scans[damage.scan].entropy.end
        if damage.code not in (FindingCode.JPEG_SHORT, FindingCode.JPEG_RESTART):
            report.mark(
                damage.start,
                max(damage.end, min(end, damage.start + 4096)),
                Matter.DAMAGED,
                damage.code.meaning,
            )
    for fill in verdicts.fills:
        report.mark(fill.span.start, fill.span.end, Matter.HOLE, f"filled with 0x{fill.value:02X}")
    for span in verdicts.foreign:
        report.mark(span.start, span.end, Matter.FOREIGN, "foreign bytes")


def _regions(report: Report, mask: NDArray[np.float32], frame: Frame) -> None:
    """Runs of spoiled MCU rows as shares of the height; partly spoiled rows with their columns."""
    rows = mask.shape[0]
    # The last MCUs may reach beyond the picture's edges.
    down, across = 8 * frame.v_max / frame.height, 8 * frame.h_max / frame.width
    bad = mask > 0.3
    share = bad.mean(axis=1)
    row = 0
    while row < rows and len(report.regions) < _SHOWN_REGIONS:
        if share[row] == 0:
            row += 1
            continue
        end = row + 1
        partial = share[row] < 1
        while not partial and end < rows and share[end] == 1:
            end += 1
        columns = np.flatnonzero(bad[row])
        left, right = (columns[0] * across, min(1.0, (columns[-1] + 1) * across)) if partial else (0.0, 1.0)
        top, bottom = row * down, min(1.0, end * down)
        label = f"rows {round(top * frame.height):,} to {round(bottom * frame.height):,}"
        report.regions.append(Region(top, bottom, label, float(left), float(right)))
        row = end


def _anchors(report: Report, picture: Picture) -> None:
    """Where the rows of MCUs begin in the file. In a progressive picture many scans hold each row: none is named."""
    if len(picture.scans) != 1:
        return
    decoded = picture.scans[0]
    rows = np.arange(0, decoded.units, decoded.units_x)
    places = decoded.unit_pos[rows]
    # What was not decoded has no place; what was taken up again further on may lie before what came earlier.
    known = np.flatnonzero((places > 0) | (rows == 0))
    known = known[places[known] >= np.maximum.accumulate(places[known])]
    if known.size > 1:
        height = unit_height(picture.frame, decoded.scan) / picture.frame.height
        report.anchor(decoded.raw(places[known]), known.astype(np.float64) * height)


def _may_be_sought(structure: Structure) -> bool:
    """Huffman tables of the picture are sought if a donor has such as are fitted to it."""
    return structure.frame is not None and len(structure.scans) == 1 and may_seek(structure.frame, structure.scans[0])


def _plans(subject: Subject, report: Report, selection: Selection, shown: float, believable: bool) -> None:
    structure = selection.structure
    missing = structure.missing_tables()
    if structure.missing_quant():
        report.attainable = max(report.attainable or 0.0, 0.9 * shown)
        report.plan(
            "donor-header",
            _TAKE_HEADER,
            90.0,
            True,
        )
        report.attainable = max(report.attainable, 90.0)
        return
    broken = given_up(structure)
    if not selection.opens or missing or broken:
        reachable = shown if believable else 10.0
        if missing and structure.frame is not None and structure.frame.marker == spec.PROGRESSIVE:
            # Such scans have tables of their own always: the typical ones do not even have all their symbols.
            if can_refit(structure):
                what = "Find the Huffman tables that were fitted to the picture from its data."
                # They are found where all of the scan is there, and not at all where it is not.
                report.plan("fit-tables", what, FOUND_TABLES)
                report.plan("donor-header", _TAKE_HEADER, FOUND_TABLES, True)
                report.attainable = max(report.attainable or 0.0, FOUND_TABLES)
            return
        if missing:
            report.plan(
                "standard-tables",
                "Put the standard's typical Huffman tables where the lost ones were.",
                reachable,
            )
        elif structure.has_soi and not structure.salvaged and not broken:
            report.plan("trim", "Cut the bytes before and after the picture away.", reachable)
        else:
            report.plan("rebuild-header", "Write a new start from the segments that are left.", reachable)
        if structure.salvaged or missing:
            # Tables fitted to the picture are found from its data by what they are in one like it.
            sought = not believable and _may_be_sought(structure)
            lent = FOUND_TABLES if sought else min(reachable, 90.0)
            report.plan("donor-header", _TAKE_HEADER, lent, True)
            reachable = max(reachable, lent)
        report.attainable = max(report.attainable or 0.0, reachable)
    else:
        report.attainable = max(report.attainable or 0.0, shown)
        if structure.eoi is None and decodable(structure):
            if (
                report.has(FindingCode.JPEG_SHORT)
                and len(structure.scans) == 1
                and structure.frame
                and structure.frame.marker in spec.SEQUENTIAL
            ):
                report.plan("pad", "Fill the lost part with neutral grey to the full size and end the file.", shown)
            elif not (
                structure.frame and structure.frame.marker == spec.LOSSLESS and report.has(FindingCode.JPEG_SHORT)
            ):
                report.plan("close", "End the file with the marker that is missing.", shown)
        elif report.has(FindingCode.TAIL):
            report.plan("trim", "Cut the bytes after the picture away.", shown)
