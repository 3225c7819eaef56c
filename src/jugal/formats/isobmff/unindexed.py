"""Media data without an index: where they stop going on as one recording, as far as the data alone tell."""

from __future__ import annotations

from dataclasses import dataclass

from jugal.formats.base import Subject
from jugal.formats.isobmff.lanes import PcmLane, SoundLane, VideoLane
from jugal.formats.isobmff.rebuild import media_span
from jugal.formats.isobmff.streams import PictureGuess, find_sound, lanes_of, longest_unit, loose_pictures
from jugal.formats.isobmff.walk import Walk, walk
from jugal.kernels.blockstats import SECTOR
from jugal.model.span import ByteSpan

#: Larger media data are not walked for this: it takes a second for some 40 MB.
_MOST = 256 << 20
#: The part of the media data from which picture and sound are told, and at most.
_PART, _WINDOW = 4, 4 << 20
_LEAST_SHARE, _LEAST_PICTURES = 0.5, 3
#: Bytes of a gap that is one, and so many gaps that they are the recorder's own.
_GAP, _MANY = 16, 8
#: Samples before a gap that show that the recording is understood.
_SURE = 12


@dataclass(frozen=True, slots=True)
class Break:
    """Bytes that belong to no sample among such that do. ``place`` is where the damage is reckoned to begin."""

    place: int
    span: ByteSpan


def find_break(subject: Subject) -> Break | None:
    """The first place where samples stop following each other; None where they go on, or are of no known kind."""
    span = media_span(subject)
    if not 0 < span.length <= _MOST:
        return None
    data = subject.source.array
    window = ByteSpan(span.start, min(span.end, span.start + min(_WINDOW, span.length // _PART)))
    picture, alone = _picture(subject, window)
    sound = find_sound(data, [g.span for g in alone.gaps] if alone is not None else [window])
    lanes = lanes_of(picture, sound)
    if not lanes or any(isinstance(lane, PcmLane) and lane.other is None for lane in lanes):
        return None
    found = walk(data, span.start, span.end, lanes)
    if len(found.gaps) > _MANY:
        return None
    lengths = [size for lane in lanes for size in lane.found.sizes]
    for gap in (g.span for g in found.gaps):
        # At the end a sample may lack its rest, and at the beginning its first bytes.
        if gap.length >= _GAP and gap.start > span.start and (gap.end < span.end or gap.length > max(lengths)):
            break
    else:
        return None
    before = [
        (at, size, lane)
        for lane in lanes
        for at, size in zip(lane.found.offsets, lane.found.sizes, strict=True)
        if at < gap.start
    ]
    if len(before) < _SURE:
        return None
    last, size, lane = max(before, key=lambda sample: sample[0])
    filled = subject.blocks.fills_in(ByteSpan(last, gap.end), SECTOR)
    if filled:
        return Break(filled[0].span.start, gap)
    # A picture that ends here may lack its rest; a packet of sound was read to its end.
    return Break(gap.start if isinstance(lane, SoundLane) else last + size // 2, gap)


def _picture(subject: Subject, window: ByteSpan) -> tuple[PictureGuess | None, Walk | None]:
    """The kind of picture that makes up most of ``window``, and what a walk finds of it alone."""
    data = subject.source.array
    for guess in loose_pictures(data, window):
        found = walk(data, window.start, window.end, [guess.lane])
        if found.explained > _LEAST_SHARE * window.length and len(guess.lane.found) >= _LEAST_PICTURES:
            if isinstance(guess.lane, VideoLane):
                guess.lane.longest = longest_unit(guess.lane)
            guess.lane = guess.lane.afresh()
            return guess, found
    return None, None
