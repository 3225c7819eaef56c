"""Judges the chain of boxes: what is missing, misfits, covers or breaks it (ISO/IEC 14496-12 4.2)."""

from __future__ import annotations

from dataclasses import replace

from jugal.formats.base import Report, Subject
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.movie import Movie
from jugal.kernels.blockstats import SECTOR
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.span import ByteSpan
from jugal.model.strip import Matter

#: Bytes that may have been lost or put in for a wrong size of the media data box to be no more than their consequence.
_MOST_MOVED = 1 << 20
#: Tables whose entries players read by the number that is stated; of chunks they take those there are, as far as no other table
#: tells of more.
_RELIED_ON = frozenset(b"stsd stts ctts stss stsc stsz stz2".split())


def late_start(subject: Subject) -> int | None:
    """Where the file type box lies when other bytes stand before it; None where the file starts as it should."""
    source = subject.source
    head = source.read(0, 8)
    if head[4:8] in (b"ftyp", b"moov", b"mdat", b"wide", b"free", b"skip", b"pnot", b"styp") or not any(head):
        return None
    at = source.find(b"ftyp", 0, 16 << 20)
    if at < 8:
        return None
    size = source.uint(at - 4, 4) or 0
    following = source.read(at - 4 + size + 4, 4)
    return (
        at - 4
        if 16 <= size <= 512 and following in (b"moov", b"mdat", b"free", b"skip", b"wide", b"moof", b"meta", b"uuid")
        else None
    )


def mark_boxes(report: Report, movie: Movie) -> None:
    """The top-level boxes for the strip."""
    for box in movie.tree.top:
        payload_box = box.kind in (b"mdat", b"free", b"skip", b"wide")
        report.mark(box.start, box.end, Matter.PAYLOAD if payload_box else Matter.STRUCTURE, box.name)
    if movie.hidden and movie.moov is not None:
        report.mark(movie.moov.start, movie.moov.end, Matter.STRUCTURE, "moov")


def structure_findings(subject: Subject, report: Report, movie: Movie) -> bool:
    """Findings of the box chain; True where an ordinary player would get to the index."""
    tree, size = movie.tree, subject.size
    opens = movie.moov is not None and not movie.hidden
    fills = subject.blocks.fills
    start_filled = fills[0].span if fills and fills[0].span.start == 0 else None
    if tree.too_deep is not None:
        report.add(
            FindingCode.BOX_DEPTH,
            Severity.MAJOR,
            "Boxes are nested deeper than 64 levels; the rest was not followed.",
            tree.too_deep,
            tree.too_deep,
        )
    if not tree.top:
        report.add(
            FindingCode.MP4_FTYP, Severity.FATAL, "The file's first boxes are lost.", 0, start_filled.end if start_filled else 0,
            Cause.START_OVERWRITTEN,
        )  # fmt: skip
        opens = False
    elif not any(b.kind in (b"ftyp", b"styp") for b in tree.top[:3]) and tree.top[0].kind != b"wide":
        severity = Severity.MINOR if opens else Severity.MAJOR
        if not (tree.first(b"moov") and tree.top[0].kind in (b"moov", b"mdat", b"free", b"skip", b"pnot")):
            report.add(FindingCode.MP4_FTYP, severity, "The file type box is missing.", 0, 0)
        else:
            report.add(
                FindingCode.MP4_FTYP,
                Severity.NOTE,
                "There is no file type box, as in old QuickTime files.",
                0,
                0,
            )
    for box in tree.misfits:
        if box.depth == 0 and box.kind == b"mdat" and box.cut:
            missing = box.stated - (size - box.start)
            if movie.hidden:
                report.add(
                    FindingCode.BOX_SIZE,
                    Severity.FATAL,
                    "The media data box claims more than the file holds and covers the index.",
                    box.start,
                    box.body,
                )
            else:
                report.add(
                    FindingCode.BOX_SIZE,
                    Severity.MAJOR,
                    f"The media data box claims {missing:,} bytes more than the file holds.",
                    size,
                    size,
                    Cause.CUT_SHORT,
                )
                report.mark(size, size + missing, Matter.MISSING, "missing media data")
        elif box.kind == b"moov" and box.complete:
            over = "the file holds" if box.end == size else "its own, and covers the boxes behind it"
            report.add(
                FindingCode.BOX_SIZE,
                Severity.MAJOR,
                f"The box 'moov' claims more than {over}, though all that players need of it is there.",
                box.start if not box.children[-1].cut else size,
                box.body if not box.children[-1].cut else size,
            )
        elif box.cut:
            at = size if box.depth == 0 else box.start
            severity = Severity.MAJOR if box.depth == 0 and box.kind in (b"moov", b"moof") else Severity.MINOR
            report.add(
                FindingCode.BOX_SIZE,
                severity,
                f"The box '{box.name}' does not fit where it lies.",
                at,
                at,
                Cause.CUT_SHORT if box.depth == 0 else None,
            )
        else:
            report.add(
                FindingCode.BOX_SIZE,
                Severity.MINOR,
                "Bytes that are no box lie among boxes.",
                box.start,
                box.end,
            )
    if movie.stranded:
        return opens
    if tree.broken_at is not None and tree.top:
        _broken_chain(subject, report, movie)
    elif movie.hidden and not report.has(FindingCode.BOX_SIZE) and tree.top:
        culprit = next((b for b in tree.top if movie.moov and b.start < movie.moov.start < b.end), tree.top[-1])
        report.add(
            FindingCode.BOX_SIZE,
            Severity.FATAL,
            f"The box '{culprit.name}' has a wrong size and covers the index.",
            culprit.start,
            culprit.body,
        )
    return opens


def opens_though_cut(moov: Box) -> bool:
    """Whether players get along with an index that is cut short: a track in it is whole, and no table is cut whose length
    they rely on."""
    leaf = moov
    while leaf.children and leaf.children[-1].cut:
        leaf = leaf.children[-1]
    kinds = {b.kind for b in leaf.children}
    sizes_lack = leaf.kind == b"stbl" and b"stsc" in kinds and not kinds & {b"stsz", b"stz2"}
    whole = any(b.kind == b"trak" and not b.cut for b in moov.children)
    return whole and leaf.kind not in _RELIED_ON and not sizes_lack


def filled_across(subject: Subject, movie: Movie) -> ByteSpan | None:
    """A filled run to the end of the file that begins before the last fragment's media data end."""
    at, fills = movie.tree.broken_at, subject.blocks.fills
    last = fills[-1].span if fills else None
    if at is None or last is None or last.end < subject.size or not movie.tree.all(b"moof"):
        return None
    return last if last.start + SECTOR <= at else None


def _broken_chain(subject: Subject, report: Report, movie: Movie) -> None:
    tree, size = movie.tree, subject.size
    at = tree.broken_at
    assert at is not None
    last = tree.top[-1]
    whole = movie.moov is not None and not movie.hidden
    rest = subject.source.array[at:]
    filled = filled_across(subject, movie)
    if whole and filled is not None:
        report.add(
            FindingCode.HOLE,
            Severity.MAJOR,
            "The file is filled from here to its end; of fragments that followed nothing is left.",
            filled.start,
            filled.end,
            Cause.UNREADABLE,
        )
        report.mark(filled.start, filled.end, Matter.HOLE)
    elif whole and _all_samples_before(movie, at):
        kind = "zeros" if not rest.any() else "bytes"
        report.add(
            FindingCode.TAIL,
            Severity.NOTE,
            f"{size - at:,} {kind} follow the last box.",
            at,
            size,
            Cause.NO_KNOWN_END if rest.size > 512 else None,
        )
        report.mark(at, size, Matter.PAST_END)
    elif movie.hidden and movie.moov is not None and movie.moov.start > at and last.kind == b"mdat":
        report.add(
            FindingCode.BOX_SIZE,
            Severity.FATAL,
            f"The size of the box '{last.name}' is wrong: no box follows where it ends.",
            last.start,
            last.body,
        )
    else:
        fill = next((f for f in subject.blocks.fills if f.span.start <= at + 512 and f.span.end > at), None)
        severity = Severity.MAJOR if whole else Severity.FATAL
        report.add(
            FindingCode.HOLE if fill else FindingCode.BOX_SIZE, severity, "The chain of boxes breaks here.",
            min(at, fill.span.start) if fill else at, fill.span.end if fill else at, Cause.UNREADABLE if fill else None,
        )  # fmt: skip
        report.mark(at, size, Matter.UNEXPLAINED)


def _all_samples_before(movie: Movie, at: int) -> bool:
    return all(int((t.offsets + t.sizes).max()) <= at for t in movie.tracks if t.offsets.size)


def soften(report: Report, movie: Movie, first_bad: bool) -> None:
    """A box size that is off because bytes were lost further on is a consequence, not the damage itself."""
    samples = [f for f in report.findings if f.code in (FindingCode.MP4_SAMPLE, FindingCode.MP4_HOLE) and f.span]
    if not first_bad or not samples:
        return
    first = min(f.span.start for f in samples if f.span)
    covers = next((b for b in movie.mdats if movie.hidden and movie.moov and b.start < movie.moov.start), None)
    # By how much the index lies elsewhere than it should: so many bytes were lost or put in on the way.
    moved = abs(covers.start + covers.stated - movie.moov.start) if covers and movie.moov else 0
    for at, finding in enumerate(report.findings):
        if (
            finding.code is FindingCode.BOX_SIZE
            and finding.severity is Severity.FATAL
            and finding.span
            and (first - finding.span.start > 65_536 or 0 < moved <= _MOST_MOVED)
        ):
            report.findings[at] = replace(finding, severity=Severity.MINOR)
