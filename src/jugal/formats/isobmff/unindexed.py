"""Media data without an index: where they stop going on as one recording, as far as the data alone tell."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jugal.formats.base import Subject
from jugal.formats.isobmff.frames import check_frames, check_slices
from jugal.formats.isobmff.lanes import FrameLane, Lane, PcmLane, SoundLane, VideoLane
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
#: The share of frames that say themselves where they begin and end: sound beside them is often not coded.
_LEAST_MARKED = 0.15
#: Bytes of frames that are decoded: a second's work or less.
_MOST_DECODED = 32 << 20
#: Bytes of a gap that is one, and so many gaps that they are the recorder's own.
_GAP, _MANY = 16, 8
#: Samples before a gap that show that the recording is understood.
_SURE = 12


@dataclass(frozen=True, slots=True)
class Break:
    """Bytes that belong to no sample among such that do, or a frame that cannot be read. ``place`` is where the damage is
    reckoned to begin."""

    place: int
    span: ByteSpan
    said: str


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
    ways = (_between_samples(subject, found, span), _in_a_frame(subject, lanes), _behind_sound(lanes, span))
    return min((way for way in ways if way is not None), key=lambda way: way.place, default=None)


def _in_a_frame(subject: Subject, lanes: list[Lane]) -> Break | None:
    """The first frame of Motion JPEG or ProRes that does not read as its codec demands."""
    lane = next((lane for lane in lanes if isinstance(lane, FrameLane)), None)
    if lane is None or len(lane.found) < _LEAST_PICTURES:
        return None
    offsets, sizes = np.array(lane.found.offsets, np.int64), np.array(lane.found.sizes, np.int64)
    looked = np.flatnonzero(np.cumsum(sizes) <= _MOST_DECODED)
    faults = (check_frames if lane.codec == b"jpeg" else check_slices)(subject, offsets, sizes, looked)
    if not faults:
        return None
    first = min(faults)
    span = ByteSpan(int(offsets[first]), int(offsets[first] + sizes[first]))
    return Break(faults[first], span, "A frame does not read as its codec demands.")


def _behind_sound(lanes: list[Lane], span: ByteSpan) -> Break | None:
    """Where uncompressed sound, which looks like anything, goes on for far longer than ever between two pictures."""
    lane = next((lane for lane in lanes if isinstance(lane, PcmLane)), None)
    if lane is None or len(lane.found) < _SURE or not lane.usual:
        return None
    offsets, sizes = np.array(lane.found.offsets), np.array(lane.found.sizes)
    endless = np.flatnonzero(
        (offsets[1:] == offsets[:-1] + sizes[:-1]) & (sizes[:-1] >= lane.longest // lane.frame * lane.frame)
    )
    if not endless.size:
        return None
    place = int(offsets[endless[0]]) + lane.usual[0]
    return Break(place, ByteSpan(place, span.end), "Behind the sound no picture follows where one should.")


def _between_samples(subject: Subject, found: Walk, span: ByteSpan) -> Break | None:
    """The first gap between samples that go on around it."""
    lanes = found.lanes
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
    said = f"Pictures and sound stop following each other: {gap.length:,} bytes belong to neither."
    if filled:
        return Break(filled[0].span.start, gap, said)
    # A picture that ends here may lack its rest; a packet of sound was read to its end.
    return Break(gap.start if isinstance(lane, SoundLane) else last + size // 2, gap, said)


def _picture(subject: Subject, window: ByteSpan) -> tuple[PictureGuess | None, Walk | None]:
    """The kind of picture that makes up most of ``window``, and what a walk finds of it alone."""
    data = subject.source.array
    for guess in loose_pictures(data, window):
        found = walk(data, window.start, window.end, [guess.lane])
        least = _LEAST_MARKED if isinstance(guess.lane, FrameLane) else _LEAST_SHARE
        if found.explained > least * window.length and len(guess.lane.found) >= _LEAST_PICTURES:
            if isinstance(guess.lane, VideoLane):
                guess.lane.longest = longest_unit(guess.lane)
            guess.lane = guess.lane.afresh()
            return guess, found
    return None, None
