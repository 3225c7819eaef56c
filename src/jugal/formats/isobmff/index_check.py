"""What is found wrong in a movie's index and in those of its fragments, and what decoders make of it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Report, Subject
from jugal.formats.isobmff import payload
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.faults import Fault
from jugal.formats.isobmff.fragment_playing import refused_part
from jugal.formats.isobmff.movie import Movie
from jugal.formats.isobmff.references import refused_for
from jugal.formats.isobmff.tables import Track
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.span import ByteSpan
from jugal.model.strip import Matter

#: Bytes of the description of a track.
_SMALLEST_TRACK = 300
_TABLE_BOXES = frozenset(b"stts stsc stsz stco co64 stss".split())


def table_findings(
    subject: Subject, report: Report, movie: Movie, faults: list[Fault], as_restored: Movie | None
) -> None:
    """Reports what is wrong in the index; broken fragments only where they are in the movie ``as_restored``, too."""
    moov = movie.moov
    assert moov is not None
    # What is known to be wrong says more than that tables contradict each other.
    known = [id(f.track) for f in faults if f.patches]
    for fault in faults:
        if fault.patches or fault.track is None or not fault.track.problems:
            report.add(FindingCode.MP4_TABLES, Severity.MAJOR, fault.told, fault.at, fault.end)
    for track in movie.tracks:
        severity = Severity.MAJOR if track.kind != "other" or not track.handler else Severity.MINOR
        for problem in track.problems[: 0 if id(track) in known else 4]:
            report.add(
                FindingCode.MP4_TABLES,
                severity,
                f"Track {track.ident}: {problem.text}",
                problem.start,
                problem.end,
            )
    for box in _descendants(moov):
        if box.kind not in _TABLE_BOXES:
            continue
        for fill in subject.blocks.fills_in(ByteSpan(box.body, box.end)):
            if fill.value in (0, 0xFF):
                report.add(
                    FindingCode.MP4_INDEX_BROKEN,
                    Severity.MAJOR,
                    f"A filled run lies in the index table '{box.name}'.",
                    fill.span.start,
                    fill.span.end,
                    Cause.UNREADABLE,
                )
                report.mark(fill.span.start, fill.span.end, Matter.HOLE)
    for box, reason in movie.broken_fragments if as_restored is None or as_restored.broken_fragments else ():
        report.add(FindingCode.MP4_FRAGMENT, Severity.MAJOR, reason, box.start, box.end)


def part_unread(report: Report, movie: Movie) -> bool:
    """Bytes in the index are no box, and enough for a track."""
    assert movie.moov is not None
    for box in movie.tree.misfits:
        inside = box.depth == 1 and movie.moov.start < box.start < movie.moov.end
        if inside and box.kind == b"????" and box.end - box.start >= _SMALLEST_TRACK:
            said = "Part of the index is no box; a track may have been described there."
            report.add(FindingCode.MP4_INDEX_BROKEN, Severity.MAJOR, said, box.start, box.end, Cause.OVERWRITTEN)
            return True
    return False


def refused(subject: Subject, report: Report, movie: Movie) -> bool:
    """Decoders refuse the file for one of its tracks or fragments."""
    boxes = [box for track in movie.tracks if (box := refused_for(subject.source, track)) is not None]
    for box in boxes:
        said = f"For the entries that '{box.name}' states decoders refuse the file."
        report.add(FindingCode.MP4_TABLES, Severity.FATAL, said, box.start, box.end)
    part = refused_part(subject.source, movie)
    if part is not None:
        said = "For what this fragment says of itself decoders refuse the file."
        report.add(FindingCode.MP4_FRAGMENT, Severity.FATAL, said, part.start, part.end)
    return bool(boxes) or part is not None


def explained(subject: Subject, track: Track, right: Track | None, bad: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """The ``bad`` samples that are whole where the index leads once it is put right: nothing is wrong with their bytes."""
    if right is None or not bad.any() or not right.offsets.size:
        return np.zeros(bad.size, np.bool_)
    whole = payload.inspect(subject, right, [], to_the_bit=True).state == 0
    if right.offsets.size == bad.size and not right.fragmented:
        return bad & whole
    # Those that begin within a whole one, or nowhere.
    order = np.argsort(right.offsets, kind="stable")
    number = order[np.maximum(np.searchsorted(right.offsets[order], track.offsets, "right") - 1, 0)]
    ends = right.offsets[number] + right.sizes[number]
    return bad & (whole[number] | (track.offsets >= ends) | (track.offsets < right.offsets[number]))


def _descendants(box: Box) -> list[Box]:
    found, stack = [], [box]
    while stack:
        current = stack.pop()
        found.append(current)
        stack.extend(current.children)
    return found
