"""Raw photographs in boxes (CR3): a movie of one frame a track, of which some are pictures as JPEG and some coded raw samples.

The layout is its makers'; known of it is used only: tracks of the sample entry ``CRAW``, pictures that hold a box ``JPEG``, raw
data that begin with a marker's byte 0xFF, and capture data as TIFF structures in boxes ``CMT1`` and ``CMT2``.
"""

from __future__ import annotations

from jugal.formats.base import Report, Subject
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.heif import plan_preview
from jugal.formats.isobmff.movie import Movie
from jugal.formats.tiff.exif import capture_data, read_exif

#: What a picture counts that was developed in the camera, against the raw samples it was made of.
_DEVELOPED = 0.5
#: A score from which on no preview is needed, and the most bytes of capture data that are read.
_WHOLE, _MOST_CAPTURE = 98.0, 1 << 20
_CAPTURE = (b"CMT1", b"CMT2")


def examine_raw_photo(subject: Subject, report: Report, movie: Movie) -> None:
    """What such a file says of itself, and the preview to take out where the rest is damaged."""
    assert movie.moov is not None
    size = max(((t.width, t.height) for t in movie.tracks if t.raw_photo), key=lambda s: s[0] * s[1])
    for key in ("frame_rate", "duration"):
        report.media.pop(key, None)
    report.media.update(width=size[0], height=size[1], video_codec="CRAW")
    _capture_data(subject, report, movie.moov)
    if report.score is not None and report.score < _WHOLE:
        plan_preview(subject, report, size, _DEVELOPED)
        report.attainable = max(report.attainable or 0.0, *(p.attainable for p in report.plans), 0.0)


def _capture_data(subject: Subject, report: Report, moov: Box) -> None:
    """From the maker's box at the start of the index: TIFF structures, found by their names."""
    own = moov.child(b"uuid")
    if own is None:
        return
    for name in _CAPTURE:
        at = subject.source.find(name, own.body, own.end)
        if at < own.body + 4:
            continue
        length = min((subject.source.uint(at - 4, 4) or 0) - 8, own.end - at - 4, _MOST_CAPTURE)
        if length > 8:
            report.media.update(capture_data(read_exif(subject.source.read(at + 4, length))))
