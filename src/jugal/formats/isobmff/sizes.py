"""Samples that the size table says are empty, though bytes lie where they should be (ISO/IEC 14496-12 8.7.3)."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Subject
from jugal.formats.isobmff import payload
from jugal.formats.isobmff.faults import Fault
from jugal.formats.isobmff.movie import Movie
from jugal.formats.isobmff.tables import Track

_WORDS = "{count:,} samples are said to have no bytes, though others lie where they should be."


def wrong_sizes(subject: Subject, movie: Movie, track: Track) -> list[Fault]:
    """Entries of zero in chunks that leave bytes unclaimed before the next chunk; put right where one alone lacks those."""
    stbl = track.box.child(b"mdia", b"minf", b"stbl")
    stsz = stbl.child(b"stsz") if stbl else None
    empty = track.sizes == 0
    if stsz is None or track.fragmented or track.kind == "other" or not empty.any() or track.chunk_of.size < empty.size:
        return []
    left = _unclaimed(movie, track)
    hollow = np.bincount(track.chunk_of[empty], minlength=left.size)
    # Rest that chunks without an empty sample leave too is padding.
    usual = int(np.median(left[hollow == 0])) if (hollow == 0).any() else 0
    hidden = empty & (left[track.chunk_of] > usual)
    if not hidden.any():
        return []
    alone = hidden & (hollow[track.chunk_of] == 1)
    sizes = np.where(alone, left[track.chunk_of] - usual, track.sizes)
    filled = replace(track, sizes=sizes, offsets=_offsets(track, sizes)).only(alone)
    right = np.flatnonzero(alone)[payload.inspect(subject, filled, []).state == 0]
    patches = tuple(
        (stsz.body + 12 + 4 * int(k), int(sizes[k]).to_bytes(4, "big")) for k in right if sizes[k] < 1 << 32
    )
    first = int(np.flatnonzero(hidden)[0])
    at = stsz.body + 12 + 4 * first
    said = _WORDS.format(count=int(np.count_nonzero(hidden)))
    return [Fault(track, said, at, at + 4, patches if right.size == np.count_nonzero(hidden) else (), hidden)]


def _offsets(track: Track, sizes: NDArray[np.int64]) -> NDArray[np.int64]:
    """Where the samples begin if they have these ``sizes``."""
    begins = np.cumsum(sizes) - sizes
    firsts = np.searchsorted(track.chunk_of, np.arange(track.chunk_offsets.size))
    return track.chunk_offsets[track.chunk_of] + begins - begins[np.minimum(firsts, sizes.size - 1)][track.chunk_of]


def _unclaimed(movie: Movie, track: Track) -> NDArray[np.int64]:
    """Bytes between the end of each chunk of ``track`` and what begins next."""
    ends = track.chunk_offsets + np.bincount(track.chunk_of, track.sizes, minlength=track.chunk_offsets.size).astype(
        np.int64
    )
    borders = np.unique(
        np.concatenate([t.chunk_offsets for t in movie.tracks] + [np.array([b.end for b in movie.mdats])])
    )
    following = np.searchsorted(borders, track.chunk_offsets, "right")
    return np.where(following < borders.size, borders[np.minimum(following, borders.size - 1)] - ends, 0)
