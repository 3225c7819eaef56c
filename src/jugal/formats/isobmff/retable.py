"""Sample tables that were overwritten in an index that is else whole: found anew in the media data.

The index still says what the tracks are, so the file is its own donor: its sample descriptions tell how samples are found,
and its dates and places stay. What the tables would teach of a healthy file is not there and is done without.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import xxhash

from jugal.binary.source import Source
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.isobmff.lanes import SoundLane
from jugal.formats.isobmff.movie import Movie, read_movie
from jugal.formats.isobmff.rebuild import find_samples, with_index
from jugal.formats.isobmff.tables import Track, composition_of
from jugal.model.span import ByteSpan

#: Packets within which one may come again by a cluster read twice; shorter ones, of silence, are alike by nature.
_REPEATED_WITHIN, _SILENT_PACKET = 512, 16


def media_between(movie: Movie) -> ByteSpan | None:
    """Where the media data lie, in one box or what is left of one; None where that cannot be said."""
    boxes = [b for b in movie.mdats if b.end > b.body]
    moov = movie.moov
    if len(boxes) > 1 or moov is None:
        return None
    if movie.hidden:
        # No chain of boxes leads to the index: the media data are what lies before it.
        start = boxes[0].body if boxes else (movie.tree.top[-1].end if movie.tree.top else 0)
        return ByteSpan(start, moov.start) if moov.start > start else None
    return ByteSpan(boxes[0].body, boxes[0].end) if boxes else None


def can_retable(movie: Movie) -> bool:
    """Picture and sound are described, of kinds that can be found without tables, and lie in one place."""
    tracks = [t for t in movie.tracks if t.kind != "other"]
    return (
        bool(tracks)
        and movie.moov is not None
        and movie.moov.complete
        and media_between(movie) is not None
        and not any(t.fragmented or not t.codec or t.frame_bytes for t in tracks)
    )


def rebuild_tables(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Repair: every sample table written anew from the media data, by what the index says of the tracks."""
    movie = read_movie(subject)
    span = media_between(movie)
    if not can_retable(movie) or span is None:
        raise RepairImpossible("What the index still says of its tracks does not suffice to find their samples.")
    for track in movie.tracks:
        if track.kind != "other":
            _as_one_sample(subject.source, track)
        if any(box.cut for box in movie.mdats) and not movie.hidden:
            # What lacks of the stated duration is the end that was cut off, not what was lost on the way.
            track.duration = 0
    found, tracks = find_samples(subject, subject, movie, span)
    for lane, track in zip(found.lanes, tracks, strict=True):
        if isinstance(lane, SoundLane) and track.duration:
            _drop_repeats(subject.source, lane, track.duration // int(track.durations[0]) + 1)
    draft = with_index(subject, subject, movie, found, tracks, span, in_front=False, own=True)
    steps = ("Took what the tracks are from the index that is there.", *draft.steps[:-1])
    return replace(draft, steps=steps)


def _drop_repeats(source: Source, lane: SoundLane, stated: int) -> None:
    """Takes packets out that repeat one just before, while there are more than the ``stated`` number: a cluster came twice."""
    found = lane.found
    surplus = len(found) - stated
    if surplus <= 0:
        return
    latest: dict[bytes, int] = {}
    keep: list[int] = []
    for number, (offset, size) in enumerate(zip(found.offsets, found.sizes, strict=True)):
        packet = xxhash.xxh3_128_digest(source.read(offset, size))
        again = number - latest.get(packet, -_REPEATED_WITHIN - 1) <= _REPEATED_WITHIN and size > _SILENT_PACKET
        latest[packet] = number
        if surplus > 0 and again:
            surplus -= 1
        else:
            keep.append(number)
    found.offsets[:] = [found.offsets[k] for k in keep]
    found.sizes[:] = [found.sizes[k] for k in keep]


def _as_one_sample(source: Source, track: Track) -> None:
    """``track`` as if it had one sample of its usual duration: nothing else of its tables is believed."""
    stbl = track.box.child(b"mdia", b"minf", b"stbl")
    stts = stbl.child(b"stts") if stbl else None
    raw = source.read(stts.body + 8, min(stts.end - stts.body - 8, 1 << 16)) if stts else b""
    runs = np.frombuffer(raw[: len(raw) // 8 * 8], ">u4").reshape(-1, 2).astype(np.int64)
    runs = runs[(runs[:, 1] > 0) & (runs[:, 0] > 0)]
    usual = int(runs[int(np.argmax(runs[:, 0])), 1]) if runs.size else max(1, track.timescale // 25)
    one = np.ones(1, np.int64)
    track.offsets, track.sizes, track.durations = 0 * one, one, usual * one
    track.chunk_offsets, track.chunk_of, track.sync = 0 * one, 0 * one, np.ones(1, np.bool_)
    track.composition = composition_of(source, stbl, 1) if stbl else track.composition[:0]
