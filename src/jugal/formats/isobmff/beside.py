"""Tracks beside picture and sound, timecode, text and telemetry: known by where their samples lie and how long they are."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Report, Subject
from jugal.formats.isobmff.movie import Movie
from jugal.formats.isobmff.tables import Track
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity

#: Bytes of a sample that is a count of frames (QuickTime timecode media), by the sample entry.
_COUNTS = {b"tmcd": 4, b"tc64": 8}
#: Samples that begin with the length of a text in two bytes (QuickTime text media, 3GPP TS 26.245 5.17).
_TEXTS = frozenset({b"text", b"tx3g"})
_WORDS = {b"tmcd": "timecode", b"tc64": "timecode", b"text": "text", b"sbtl": "text", b"subt": "text", b"hint": "hints"}


def look_beside(subject: Subject, report: Report, movie: Movie) -> None:
    """Adds minor findings on samples of such tracks that lie past the end of the file or are of an impossible length."""
    for track in movie.tracks:
        if track.kind != "other" or not track.handler or not track.offsets.size or track.astray.any():
            continue
        what = _WORDS.get(track.codec) or _WORDS.get(track.handler) or "data"
        outside = (track.offsets < 0) | (track.offsets + track.sizes > subject.size)
        if outside.any():
            said = f"{int(outside.sum()):,} samples of track {track.ident} ({what}) lie past the end of the file."
            code = FindingCode.MP4_OUTSIDE
            report.add(code, Severity.MINOR, said, subject.size, subject.size, Cause.CUT_SHORT)
        wrong = ~outside & _wrong_length(subject, track, ~outside)
        if wrong.any():
            first = int(np.argmax(wrong))
            start, end = int(track.offsets[first]), int(track.offsets[first] + track.sizes[first])
            said = f"{int(wrong.sum()):,} samples of track {track.ident} ({what}) are not as long as what they hold."
            report.add(FindingCode.MP4_SAMPLE, Severity.MINOR, said, start, end)


def _wrong_length(subject: Subject, track: Track, inside: NDArray[np.bool_]) -> NDArray[np.bool_]:
    if track.codec in _COUNTS:
        return track.sizes != _COUNTS[track.codec]
    wrong = np.zeros(inside.size, np.bool_)
    if track.codec in _TEXTS:
        there = np.flatnonzero(inside & (track.sizes >= 2))
        data, at = subject.source.array, track.offsets[there]
        wrong[there] = (data[at].astype(np.int64) << 8 | data[at + 1]) > track.sizes[there] - 2
        wrong |= track.sizes == 1
    return wrong
