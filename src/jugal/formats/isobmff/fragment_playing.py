"""What decoders make of fragments whose figures contradict each other or the file."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.binary.source import Source
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.movie import Movie
from jugal.formats.isobmff.runs import DESCRIPTION, read_defaults, run_length
from jugal.formats.isobmff.tables import Track

#: Seconds by which decoders read one track ahead of another that they cannot go on with.
READ_AHEAD = 1.0


def refused_part(source: Source, movie: Movie) -> Box | None:
    """The first part of a fragment for which decoders go no further: it is of no track, of one without defaults, or has a run
    that is longer than the file; None where there is none."""
    if movie.moov is None:
        return None
    known = read_defaults(source, movie.moov).keys() & {t.ident for t in movie.tracks}
    for moof, parts in movie.fragments:
        headed = False
        for part in parts:
            if part.head is None and not headed and part.box.child(b"trun") is not None:
                return moof
            headed = headed or part.head is not None
            endless = any(r.box.body + run_length(r.flags, r.count) > source.size for r in part.runs if r.short)
            if endless or (part.head is not None and part.ident not in known):
                return part.box
    return None


def never_shown(source: Source, movie: Movie, track: Track) -> NDArray[np.bool_]:
    """The samples of ``track`` in fragments that decoders do not come to.

    These are those of a fragment that begins before the last sample of the one ahead is decoded, those of a sample description
    that the track does not have, and all behind a sample that reaches over the end of the file though others follow it.
    """
    never = np.zeros(track.offsets.size, np.bool_)
    if not len(track.runs):
        return never
    decoded = track.decode_times
    timed = np.flatnonzero(track.runs[:, 2] >= 0)
    firsts = track.runs[timed, 1]
    stops = np.append(firsts[1:], track.offsets.size)
    for number in np.flatnonzero(decoded[firsts[1:]] < decoded[np.maximum(firsts[1:] - 1, 0)]).tolist():
        never[firsts[number + 1] : stops[number + 1]] = True
    return never | _undescribed(source, movie, track) | _behind_end(source.size, movie, track)


def _undescribed(source: Source, movie: Movie, track: Track) -> NDArray[np.bool_]:
    stsd = track.box.child(b"mdia", b"minf", b"stbl", b"stsd")
    described = source.uint(stsd.body + 4, 4) or 0 if stsd is not None else 0
    wrong = [
        moof
        for moof, parts in movie.fragments
        for part in parts
        if part.ident == track.ident and not 1 <= part.stated.get(DESCRIPTION, 1) <= described
    ]
    starts, ends = (np.array([getattr(moof, name) for moof in wrong], np.int64) for name in ("start", "end"))
    number = np.searchsorted(starts, track.runs[:, 0], "right") - 1
    within = (
        (number >= 0) & (track.runs[:, 0] < ends[np.maximum(number, 0)]) if wrong else np.zeros(len(number), np.bool_)
    )
    own = np.zeros(int(track.runs[0, 1]), np.bool_)
    return np.concatenate((own, np.repeat(within, np.diff(np.append(track.runs[:, 1], track.offsets.size)))))


def _behind_end(size: int, movie: Movie, track: Track) -> NDArray[np.bool_]:
    """What is behind the first sample that reaches over the end of a file of ``size`` bytes though a later one does not, in
    another track what is decoded more than a second later: decoders stop there."""
    never = np.zeros(track.offsets.size, np.bool_)
    for other in movie.tracks:
        beyond = other.offsets + other.sizes > size
        within = np.flatnonzero(~beyond)
        over = np.flatnonzero(beyond[: within[-1]]) if within.size else within
        if over.size and other is track:
            never[int(over[0]) + 1 :] = True
        elif over.size:
            at = float(other.decode_times[over[0]]) / max(1, other.timescale)
            never |= track.decode_times / max(1, track.timescale) > at + READ_AHEAD
    return never
