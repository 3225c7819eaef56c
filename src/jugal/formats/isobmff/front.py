"""The index moved before the media data, so that playing can begin before all is read."""

from __future__ import annotations

import struct

import numpy as np

from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.movie import Movie, read_movie
from jugal.formats.isobmff.write import serialise
from jugal.model.span import ByteSpan


def can_go_front(movie: Movie) -> bool:
    """The index is whole, lies behind the media data, and lists its samples by their place in the file."""
    moov, mdats = movie.moov, movie.mdats
    if moov is None or moov.cut or movie.hidden or not mdats or moov.start < mdats[0].start:
        return False
    return movie.tree.broken_at is None and not any(t.fragmented or t.chunk_box is None for t in movie.tracks)


def index_to_front(subject: Subject, donor: Subject | None) -> RepairDraft:
    """All boxes in their order but the index, which comes before the first media data; chunk offsets follow."""
    movie = read_movie(subject)
    moov = movie.moov
    if moov is None or not can_go_front(movie):
        raise RepairImpossible("The index does not lie whole behind the media data.")
    place = movie.mdats[0].start
    # A box right before the media data that makes room for a longer size of theirs stays with them.
    before = next((b for b in movie.tree.top if b.end == place and b.kind in (b"wide", b"free")), None)
    if before is not None and before.kind == b"wide":
        place = before.start
    index = serialise(subject, moov, {})
    for _ in range(4):
        length = len(index)
        index = serialise(subject, moov, _moved(subject, movie, moov, place, length))
        if len(index) == length:
            break
    pieces = (ByteSpan(0, place), index, ByteSpan(place, moov.start), ByteSpan(moov.end, subject.size))
    step = f"Moved the index from byte {moov.start:,} to {place:,}, and every chunk offset by {len(index):,}."
    return RepairDraft(tuple(p for p in pieces if not isinstance(p, ByteSpan) or p.length), (step,))


def _moved(subject: Subject, movie: Movie, moov: Box, place: int, length: int) -> dict[int, bytes]:
    """New bodies of the chunk offset boxes for an index of ``length`` bytes at ``place``."""
    bodies = {}
    for track in movie.tracks:
        box = track.chunk_box
        assert box is not None
        offsets = track.chunk_offsets.astype(np.int64)
        # What lay behind the old index moves up by what was taken out there, and down by what was put in.
        offsets = np.where((offsets >= place) & (offsets < moov.start), offsets + length, offsets)
        offsets = np.where(track.chunk_offsets >= moov.end, offsets + length - (moov.end - moov.start), offsets)
        wide = box.kind == b"co64"
        if not wide and offsets.size and int(offsets.max()) >= 2**32:
            raise RepairImpossible("The chunk offsets would no longer fit in 32 bits.")
        head = subject.source.read(box.body, 4) + struct.pack(">I", offsets.size)
        bodies[box.start] = head + offsets.astype(">u8" if wide else ">u4").tobytes()
    return bodies
