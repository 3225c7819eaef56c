"""What a JPEG says of itself beside the picture: capture data, its thumbnail, the index of further pictures."""

from __future__ import annotations

from jugal.formats.base import Report, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.further import read_index
from jugal.formats.jpeg.parse import Segment, Structure
from jugal.formats.tiff.exif import Exif, capture_data, read_exif
from jugal.model.codes import FindingCode
from jugal.model.finding import Severity

#: Bytes of the APP1 segment before its TIFF structure: marker, length, "Exif" and two zeros.
EXIF_HEAD = 10


def exif_segment(subject: Subject, structure: Structure) -> Segment | None:
    """The first APP1 segment with Exif data."""
    for segment in structure.segments:
        if segment.marker == spec.APP1 and subject.source.read(segment.start + 4, 4) == b"Exif":
            return segment
    return None


def examine_metadata(subject: Subject, report: Report, structure: Structure) -> None:
    """Exif capture data, and the state of the Exif block and of the picture index themselves."""
    segment = exif_segment(subject, structure)
    if segment is not None:
        data = subject.source.read(segment.start + EXIF_HEAD, segment.end - segment.start - EXIF_HEAD)
        exif = read_exif(data)
        media = capture_data(exif)
        report.media.update(media)
        _exif_findings(subject, report, exif, segment, data)
        frame = structure.frame
        claimed = media.get("exif_width"), media.get("exif_height")
        if frame and frame.width and all(isinstance(x, int) for x in claimed):
            longest = max(int(x) for x in claimed)  # type: ignore[arg-type]
            if longest > 1.5 * max(frame.width, frame.height):
                report.add(
                    FindingCode.JPEG_PREVIEW, Severity.NOTE,
                    f"The picture is {frame.width} × {frame.height} pixels, its Exif data says {claimed[0]} × {claimed[1]}: "
                    "this is a preview or a reduced copy.",
                )  # fmt: skip
    _further_findings(subject, report, structure)


def _exif_findings(subject: Subject, report: Report, exif: Exif, segment: Segment, data: bytes) -> None:
    start, end = segment.start, segment.end
    fills = subject.blocks.fills_in_exact(start, end) if exif.problems else []
    damaged = bool(exif.problems and (fills or not exif.directories))
    if exif.problems:
        severity = Severity.MINOR if damaged else Severity.NOTE
        report.add(FindingCode.JPEG_EXIF, severity, " ".join(exif.problems[:2]), start, end)
    if exif.thumbnail and not exif.problems:
        at, length = exif.thumbnail
        if at + length <= len(data) and data[at : at + 2] != spec.MARK_SOI and length > 512:
            first = start + EXIF_HEAD + at
            report.add(
                FindingCode.JPEG_EXIF, Severity.NOTE, "The embedded thumbnail is no picture.", first, first + length
            )
            damaged = True
    if damaged and report.score:
        report.plan(
            "mend-exif",
            "Write the directories of the Exif data anew around the values that are left, with a thumbnail made from the picture.",
            report.score,
        )


def _further_findings(subject: Subject, report: Report, structure: Structure) -> None:
    index = read_index(subject, structure)
    if index is None:
        return
    report.media["further_pictures"] = len(index.entries) - 1
    astray = [e for e in index.entries[1:] if subject.source.read(e.start, 3) != b"\xff\xd8\xff"]
    if not astray:
        return
    # Programs that keep the picture alone leave the index as it was: that is no damage.
    report.add(
        FindingCode.JPEG_FURTHER, Severity.NOTE,
        f"{len(astray)} of {len(index.entries) - 1} further pictures are not where the index says.",
        index.segment.start, index.segment.end,
    )  # fmt: skip
    if index.found and report.score:
        report.plan("mend-index", "Point the index of further pictures at where they are.", report.score)
