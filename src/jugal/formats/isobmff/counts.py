"""Numbers of entries that tables state, against the room that their boxes give them (ISO/IEC 14496-12 8.6.1, 8.7)."""

from __future__ import annotations

import numpy as np

from jugal.binary.source import PatchedSource, Source
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.faults import Fault
from jugal.formats.isobmff.tables import Track, covered, read_track

#: Bytes of an entry, and where in the box's body the number of entries stands.
_TABLES = {b"stts": (8, 4), b"ctts": (8, 4), b"stsc": (12, 4), b"stco": (4, 4), b"co64": (8, 4), b"stsz": (4, 8)}
_ENOUGH = 1 << 16


def wrong_counts(source: Source, track: Track) -> list[Fault]:
    """The counts by which tables of ``track`` contradict each other that agree once each lists what its box has room for."""
    stbl = track.box.child(b"mdia", b"minf", b"stbl")
    if stbl is not None and track.fragmented and (empty := _stated_empty(source, track, stbl)):
        return empty
    right: list[tuple[Box, int, int, int]] = []
    for kind, (width, place) in _TABLES.items():
        box = stbl.child(kind) if stbl else None
        if stbl is None or box is None or box.cut:
            continue
        at = box.body + place
        stated, (room, rest) = source.uint(at, 4) or 0, divmod(box.end - at - 4, width)
        if kind == b"stsz" and source.uint(box.body + 4, 4):
            stts = stbl.child(b"stts")
            room, rest = covered(source, stts, _ENOUGH) if stts else 0, 0
        elif stated < room and not any(source.read(at + 4 + stated * width, min(_ENOUGH, (room - stated) * width))):
            continue  # room for more that was never filled
        if rest == 0 and room != stated and 0 < room < 1 << 32:
            right.append((box, at, stated, room))
    if not right:
        return []
    mended = read_track(PatchedSource(source, [(at, room.to_bytes(4, "big")) for _, at, _, room in right]), track.box)
    if mended.problems or not mended.offsets.size or mended.composition.size not in (0, mended.offsets.size):
        return []
    return [
        Fault(
            track,
            f"Its table '{box.name}' states {stated:,} entries, there are {room:,}.",
            at,
            at + 4,
            ((at, room.to_bytes(4, "big")),),
        )
        for box, at, stated, room in right
    ]


def _stated_empty(source: Source, track: Track, stbl: Box) -> list[Fault]:
    """Counts of tables that have no room for any entry, of a track whose samples all lie in fragments."""
    found = []
    for kind, (_, place) in _TABLES.items():
        box = stbl.child(kind)
        if (
            box is None
            or box.cut
            or box.end - box.body != place + 4
            or not (stated := source.uint(box.body + place, 4))
        ):
            continue
        at, said = box.body + place, f"Its table '{box.name}' states {stated:,} entries and has room for none."
        if kind != b"stsz" or not source.uint(box.body + 4, 4):
            lost = np.ones(track.offsets.size, np.bool_)
            found.append(Fault(track, said, at, at + 4, ((at, bytes(4)),), lost))
    return found
