"""The lists of sample descriptions and data references of a track, and what its chunks refer to (ISO/IEC 14496-12 8.5.2,
8.7.2, 8.7.4)."""

from __future__ import annotations

import numpy as np

from jugal.binary.source import Source
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.faults import Fault
from jugal.formats.isobmff.movie import Movie
from jugal.formats.isobmff.tables import Track

_MOST_LISTED = 1024
#: The reference to the file itself, by which nearly all tracks are stored (8.7.2.2).
_ITSELF = b"\0\0\0\1\0\0\0\x0curl \0\0\0\1"


def wrong_references(source: Source, track: Track) -> list[Fault]:
    """Lists that state another number of entries than they have, and chunks of a description that is not there."""
    found = []
    for box, least in _lists(track):
        stated, right = source.uint(box.body + 4, 4) or 0, _boxes_in(source, box, least)
        if not (_refused_list(source, box, least) or 0 < right < stated):
            continue
        if right:
            said = f"Its list '{box.name}' states {stated:,} entries, there are {right:,}."
            patches = ((box.body + 4, right.to_bytes(4, "big")),)
            found.append(Fault(track, said, box.body + 4, box.body + 8, patches))
        elif box.kind == b"dref" and box.end - box.body - 4 == len(_ITSELF):
            said = "Its data reference is none."
            patches = ((box.body + 4, _ITSELF),)
            found.append(Fault(track, said, box.body + 4, box.end, patches))
    return [*found, *_undescribed(source, track)]


def wrong_idents(source: Source, movie: Movie) -> list[Fault]:
    """A track of a number that no fragment names, where fragments name one that no track has."""
    named = {
        source.uint(h.body + 4, 4) for m in movie.tree.all(b"moof") for t in m.all(b"traf") for h in t.all(b"tfhd")
    }
    had = {track.ident for track in movie.tracks}
    unnamed = [t for t in movie.tracks if t.ident not in named]
    without = sorted(n for n in named - had if n)
    head = unnamed[0].box.child(b"tkhd") if len(unnamed) == 1 else None
    if head is None or len(without) != 1:
        return []
    at = head.body + (20 if source.uint(head.body, 1) == 1 else 12)
    said = f"Its number is {unnamed[0].ident:,}, though fragments are those of track {without[0]:,}."
    return [Fault(unnamed[0], said, at, at + 4, ((at, without[0].to_bytes(4, "big")),))]


def wrong_defaults(source: Source, movie: Movie) -> list[Fault]:
    """Defaults for fragments (8.8.3) that are of no track, or of no sample description: nothing of the track is shown."""
    extends = movie.moov.child(b"mvex") if movie.moov is not None else None
    defaults = [box for box in extends.all(b"trex") if not box.cut] if extends is not None else []
    tracks = {track.ident: track for track in movie.tracks}
    named = {source.uint(box.body + 4, 4) or 0 for box in defaults}
    without, beyond = tracks.keys() - named, named - tracks.keys()
    found = []
    for box in defaults:
        ident, described = source.uint(box.body + 4, 4) or 0, source.uint(box.body + 8, 4) or 0
        track, at, right = tracks.get(ident), box.body + 8, 1
        said = f"The defaults for its fragments refer to sample description {described:,}."
        if track is None and len(without) == len(beyond) == 1:
            (right,) = without
            track, at = tracks[right], box.body + 4
            said = f"The defaults for its fragments are said to be of track {ident:,}."
        elif track is None or 1 <= described <= _MOST_LISTED:
            continue
        lost = np.ones(track.offsets.size, np.bool_)
        found.append(Fault(track, said, at, at + 4, ((at, right.to_bytes(4, "big")),), lost))
    return found


def refused_for(source: Source, track: Track) -> Box | None:
    """The box of ``track`` for which decoders refuse the whole file; None where they do not.

    It is a list of boxes that is empty, longer than it can be or holds what is no box, a chunk table longer than its box, or
    one that tells of chunks for which no offset is listed.
    """
    for box, least in _lists(track):
        if _refused_list(source, box, least):
            return box
    stsc = track.box.child(b"mdia", b"minf", b"stbl", b"stsc")
    entries = source.uint(stsc.body + 4, 4) or 0 if stsc else 0
    if stsc is None or track.given_up or not entries:
        return None
    last = source.uint(stsc.body + 8 + 12 * (entries - 1), 4) or 0
    return stsc if 12 * entries + 8 > stsc.end - stsc.body or last > track.chunk_offsets.size else None


def _lists(track: Track) -> list[tuple[Box, int]]:
    """The boxes of ``track`` that list other boxes, and how many bytes one of these has at least."""
    described = track.box.child(b"mdia", b"minf", b"stbl", b"stsd")
    referred = track.box.child(b"mdia", b"minf", b"dinf", b"dref")
    return [(box, least) for box, least in ((described, 8), (referred, 12)) if box is not None and not box.cut]


def _refused_list(source: Source, box: Box, least: int) -> bool:
    stated = source.uint(box.body + 4, 4) or 0
    if stated == 0 or stated > (box.end - box.body - 1) // least + 1:
        return True
    first = source.uint(box.body + 8, 4) or 0
    if box.kind == b"dref":
        return first < least
    return first > box.end - box.body - 8


def _boxes_in(source: Source, box: Box, least: int) -> int:
    """The boxes listed in ``box``; 0 where they do not fill it."""
    at, found = box.body + 8, 0
    while at + 8 <= box.end and found < _MOST_LISTED:
        size = source.uint(at, 4) or 0
        if size < least or at + size > box.end:
            return found if not any(source.read(at, box.end - at)) else 0
        at, found = at + size, found + 1
    return found


def _undescribed(source: Source, track: Track) -> list[Fault]:
    """Chunks that refer to a sample description that the track does not have."""
    stbl = track.box.child(b"mdia", b"minf", b"stbl")
    stsc, stsd = (stbl.child(b"stsc"), stbl.child(b"stsd")) if stbl else (None, None)
    if stsc is None or stsd is None or not track.offsets.size or track.chunk_of.size < track.offsets.size:
        return []
    entries = min(source.uint(stsc.body + 4, 4) or 0, (stsc.end - stsc.body - 8) // 12)
    table = np.frombuffer(source.read(stsc.body + 8, 12 * entries), ">u4").reshape(-1, 3).astype(np.int64)
    described = source.uint(stsd.body + 4, 4) or 0
    wrong = np.flatnonzero((table[:, 2] < 1) | (table[:, 2] > described))
    if not wrong.size or not described:
        return []
    own = int(track.runs[0, 1]) if len(track.runs) else track.offsets.size
    lost = np.zeros(track.offsets.size, np.bool_)
    entry = np.searchsorted(table[:, 0], track.chunk_of[:own] + 1, "right") - 1
    lost[:own] = np.isin(entry, wrong)
    places = (stsc.body + 8 + 12 * wrong + 8).tolist()
    said = f"Chunks refer to sample description {int(table[wrong[0], 2]):,}, of {described:,} that there are."
    patches = tuple((at, (1).to_bytes(4, "big")) for at in places) if described == 1 else ()
    return [Fault(track, said, places[0], places[0] + 4, patches, lost)]
