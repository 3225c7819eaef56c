"""Pictures inside a JPEG besides the main one: thumbnails in Exif data, previews behind it."""

from __future__ import annotations

from dataclasses import dataclass

from jugal.formats.base import Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.parse import Structure, soi_positions, walk
from jugal.formats.jpeg.refit import PADDING
from jugal.formats.jpeg.select import decodable
from jugal.model.span import ByteSpan

_MOST_TRIED = 12
#: Percent of the main picture's pixels that a small copy of it has at most: one as large may be another view, taken beside it.
COPY = 50.0
#: Percent of a main picture of unknown size that a preview is taken for, and what one is worth at most in place of a JPEG.
_UNKNOWN_SHARE, _MOST_WORTH = 1.0, 12.0


@dataclass(frozen=True, slots=True)
class Preview:
    """A whole picture at ``span``; ``share`` is its part of the main picture's pixels in percent, at most 100."""

    span: ByteSpan
    width: int
    height: int
    share: float

    @property
    def worth(self) -> float:
        """What it counts in place of the JPEG that it lies in, in percent: it is the last resort, and one as large may be another view."""
        return min(_MOST_WORTH, self.share)


def largest_preview(subject: Subject, main: Structure, most: float = 100.0) -> Preview | None:
    """The largest that decodes without an error and has ``most`` percent of the main picture's pixels at most; None where there is
    none."""
    best: Preview | None = None
    for at in soi_positions(subject.source)[:_MOST_TRIED]:
        if at == main.start:
            continue
        if main.eoi is None and main.scans and at > main.scans[0].entropy.start:
            # Where the main picture breaks off another file's picture begins: none of its own.
            continue
        found = walk(subject.source, at)
        frame = found.frame
        if (
            frame is None
            or found.eoi is None
            or found.overfull
            or not decodable(found)
            or frame.marker not in (*spec.SEQUENTIAL, spec.PROGRESSIVE)
        ):
            continue
        whole = main.frame.width * main.frame.height if main.frame is not None else 0
        if main.frame is not None and 100 * frame.width * frame.height > most * whole:
            continue
        if best is not None and frame.width * frame.height <= best.width * best.height:
            continue
        scans = decode(frame, found.scans, found.quant).scans
        # One that breaks off seems to go on to the end of what follows it.
        if all(scan.complete and scan.bits_left < PADDING for scan in scans):
            share = min(100.0, 100.0 * frame.width * frame.height / whole) if whole else _UNKNOWN_SHARE
            best = Preview(ByteSpan(at, found.end), frame.width, frame.height, share)
    return best
