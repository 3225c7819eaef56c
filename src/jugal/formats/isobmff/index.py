"""A movie index made anew: like a donor's, with tables for samples found elsewhere (ISO/IEC 14496-12 8.5 to 8.7)."""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Subject
from jugal.formats.isobmff.movie import Movie
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.write import (
    DROP,
    box_bytes,
    chunk_table,
    equal_runs,
    runs_table,
    serialise,
    set_durations,
    table_box,
)

_HEADS = ((b"tkhd",), (b"mdia", b"mdhd"))


@dataclass(slots=True)
class TrackPlan:
    """One track of the new index: its samples with their durations in ticks of the donor's time scale."""

    track: Track
    offsets: NDArray[np.int64]
    sizes: NDArray[np.int64]
    durations: NDArray[np.int64]
    compose: NDArray[np.int64] | None = None
    sync: NDArray[np.bool_] | None = None
    #: Sample values of uncompressed sound in each chunk; None for coded samples. Then a sample is a chunk.
    frames: NDArray[np.int64] | None = None
    delay: int = 0

    @property
    def ticks(self) -> int:
        return int(self.durations.sum())


def _sample_table(donor: Subject, plan: TrackPlan, shift: int) -> bytes:
    """The body of stbl: the donor's sample description, everything else from the samples found (8.5 to 8.7)."""
    stbl = plan.track.box.child(b"mdia", b"minf", b"stbl")
    stsd = stbl.child(b"stsd") if stbl else None
    assert stsd is not None
    out = [donor.source.read(stsd.start, stsd.end - stsd.start)]
    offsets, sizes = plan.offsets + shift, plan.sizes
    if plan.frames is not None:
        frame = max(1, int(sizes[0] // max(1, plan.frames[0])))
        count = int(plan.frames.sum())
        times = [(count, max(1, plan.ticks // max(1, count)))]
        firsts, per_chunk = np.arange(offsets.size), plan.frames
        size_body = struct.pack(">III", 0, frame, count)
    else:
        times = equal_runs(plan.durations)
        firsts = np.flatnonzero(np.append(True, offsets[1:] != offsets[:-1] + sizes[:-1]))
        per_chunk = np.diff(np.append(firsts, offsets.size))
        size_body = struct.pack(">III", 0, 0, sizes.size) + sizes.astype(">u4").tobytes()
    out.append(table_box(b"stts", times))
    if plan.compose is not None:
        out.append(table_box(b"ctts", equal_runs(plan.compose), signed=bool(plan.compose.min() < 0)))
    if plan.sync is not None:
        numbers = np.flatnonzero(plan.sync) + 1
        out.append(box_bytes(b"stss", struct.pack(">II", 0, numbers.size) + numbers.astype(">u4").tobytes()))
    out.append(box_bytes(b"stsc", runs_table(per_chunk, np.ones_like(per_chunk))))
    out.append(box_bytes(b"stsz", size_body))
    starts = offsets[firsts]
    wide = bool(starts.max() >= 2**32)
    out.append(box_bytes(b"co64" if wide else b"stco", chunk_table(starts, ">u8" if wide else ">u4")))
    return b"".join(out)


def index_like(
    donor: Subject, lender: Movie, plans: list[TrackPlan], shift: int, own: bool = False, fragments: bool = False
) -> bytes:
    """A moov box like the donor's, with the tables of ``plans``; nothing in it that is true of the donor only.

    With ``own`` the donor is the file itself, whose dates and places are kept; with ``fragments`` some follow (8.8.1).
    """
    moov = lender.moov
    assert moov is not None
    bodies: dict[int, bytes] = {}
    ends = {id(plan.track): plan.ticks / plan.track.timescale if plan.track.timescale else 0.0 for plan in plans}
    written = [plan.track for plan in plans]
    set_durations(donor, written, moov, ends, max(ends.values(), default=0.0), bodies)
    keep = {track.box.start for track in written}
    for box in moov.children:
        if box.kind == b"mvex" and fragments:
            continue
        if (box.kind in (b"udta", b"meta", b"uuid", b"mvex", b"iods") and not own) or (
            box.kind == b"trak" and box.start not in keep
        ):
            bodies[box.start] = DROP
    for plan in plans:
        trak = plan.track.box
        stbl = trak.child(b"mdia", b"minf", b"stbl")
        assert stbl is not None
        bodies[stbl.start] = _sample_table(donor, plan, shift)
        for box in trak.children:
            if box.kind == b"tref" or (box.kind in (b"udta", b"meta", b"uuid") and not own):
                bodies[box.start] = DROP
        _delay_edit(donor, plan, bodies)
    heads = (moov.child(b"mvhd"), *(p.track.box.child(*path) for p in plans for path in _HEADS))
    for head in () if own else heads:
        if head is not None:
            bodies[head.start] = _undated(bodies.get(head.start) or donor.source.read(head.body, head.end - head.body))
    return serialise(donor, moov, bodies)


def empty_index_of(donor: Subject, lender: Movie) -> bytes:
    """The donor's moov for fragments that follow: without what is true of the donor only."""
    moov = lender.moov
    assert moov is not None
    bodies: dict[int, bytes] = {b.start: DROP for b in moov.children if b.kind in (b"udta", b"meta", b"uuid")}
    for head in (moov.child(b"mvhd"), *(t.box.child(*path) for t in lender.tracks for path in _HEADS)):
        if head is not None:
            bodies[head.start] = _undated(donor.source.read(head.body, head.end - head.body))
    return serialise(donor, moov, bodies)


def _undated(body: bytes) -> bytes:
    """A header without creation and modification time: the donor's are not true of this file."""
    width = 16 if body[0] == 1 else 8
    return body[:4] + bytes(width) + body[4 + width :]


def _delay_edit(donor: Subject, plan: TrackPlan, bodies: dict[int, bytes]) -> None:
    """An edit list that skips the donor's composition delay skips this file's instead."""
    elst = plan.track.box.child(b"edts", b"elst")
    if elst is None or plan.track.kind != "video":
        return
    body = bytearray(bodies.get(elst.start) or donor.source.read(elst.body, elst.end - elst.body))
    wide = body[0] == 1
    at, width = (16, 8) if wide else (12, 4)
    if int.from_bytes(body[4:8], "big") == 1 and len(body) >= at + width:
        time = int.from_bytes(body[at : at + width], "big", signed=True)
        if time >= 0:
            body[at : at + width] = max(0, time - plan.track.composition_delay + plan.delay).to_bytes(width, "big")
            bodies[elst.start] = bytes(body)
