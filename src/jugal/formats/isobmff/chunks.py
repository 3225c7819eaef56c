"""Chunk offsets that were overwritten: worked out from the room that is left between the chunks of other tracks.

The tracks of a movie take turns in the media data (ISO/IEC 14496-12 8.7.5). Where the sizes of a track's samples are known
and only the places of its chunks are not, the chunks follow one another in the gaps.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.isobmff import payload
from jugal.formats.isobmff.movie import Movie, read_movie
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.write import patched

#: Share of the samples that must read as their codec demands where they are placed, for the places to be believed.
_LEAST_GOOD = 0.9
#: Tracks that are tried, one after the other.
_MOST_TRIED = 4


def astray(movie: Movie) -> list[Track]:
    """The tracks some of whose chunks are said to lie where others do, or outside the file."""
    return [t for t in movie.tracks if t.astray.any()]


def place_chunks(subject: Subject, movie: Movie) -> dict[int, NDArray[np.int64]] | None:
    """New chunk offsets by track number; None where the gaps do not hold the chunks or what lies there is something else.

    One track at a time can be worked out so; where chunks of two lie over each other, the one by which all fits.
    """
    lost = [t for t in astray(movie) if not t.fragmented and t.kind != "other"]
    if not lost or len(lost) > _MOST_TRIED:
        return None
    found = [(t.ident, placed) for t in lost if (placed := _placed(subject, movie, t)) is not None]
    best = [(ident, offsets) for ident, (offsets, exact) in found if exact or len(lost) == 1]
    return dict(best) if len(best) == 1 else None


def _placed(subject: Subject, movie: Movie, track: Track) -> tuple[NDArray[np.int64], bool] | None:
    """The offsets of the chunks of ``track`` in the gaps that the others leave; True where these are filled without a rest."""
    sizes = _chunk_sizes(track)
    taken = [
        np.stack((t.chunk_offsets, t.chunk_offsets + _chunk_sizes(t)), axis=1)
        for t in movie.tracks
        if t is not track and t.chunk_offsets.size and t.offsets.size
    ]
    occupied = np.concatenate(taken) if taken else np.empty((0, 2), np.int64)
    gaps = _gaps(movie, occupied[np.argsort(occupied[:, 0], kind="stable")])
    offsets = np.empty(sizes.size, np.int64)
    number, left = 0, True
    for chunk, size in enumerate(sizes.tolist()):
        while number < len(gaps) and gaps[number][1] - gaps[number][0] < size:
            left = left and gaps[number][0] == gaps[number][1]
            number += 1
        if number == len(gaps):
            return None
        offsets[chunk] = gaps[number][0]
        gaps[number] = (gaps[number][0] + size, gaps[number][1])
    # Where no sample can be looked into only gaps that are filled without a rest prove the places.
    exact = left and all(start == end for start, end in gaps[number:])
    moved = track.moved_to(offsets)
    good = float((payload.inspect(subject, moved, []).state == 0).mean())
    telling = (
        track.codec in payload.AVC | payload.HEVC or payload.mark_of(track) is not None or track.coding is not None
    )
    return (offsets, exact) if good >= _LEAST_GOOD and (telling or exact) else None


def _chunk_sizes(track: Track) -> NDArray[np.int64]:
    return np.bincount(track.chunk_of, track.sizes, minlength=track.chunk_offsets.size).astype(np.int64)


def _gaps(movie: Movie, occupied: NDArray[np.int64]) -> list[tuple[int, int]]:
    """What of the media data lies in none of the ``occupied`` ranges, which are in order."""
    gaps: list[tuple[int, int]] = []
    for box in movie.mdats:
        at = box.body
        for start, end in occupied[(occupied[:, 1] > box.body) & (occupied[:, 0] < box.end)].tolist():
            if start > at:
                gaps.append((at, start))
            at = max(at, end)
        if box.end > at:
            gaps.append((at, box.end))
    return gaps


def fix_chunks(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Repair: the chunk offsets of one track written anew where they stand."""
    movie = read_movie(subject)
    placed = place_chunks(subject, movie) if movie.moov is not None else None
    if not placed:
        raise RepairImpossible("The room between the other tracks does not tell where the chunks lie.")
    patches, steps = [], []
    for track in movie.tracks:
        if track.ident not in placed or track.chunk_box is None:
            continue
        kind = ">u4" if track.chunk_box.kind == b"stco" else ">u8"
        patches.append((track.chunk_box.body + 8, placed[track.ident].astype(kind).tobytes()))
        steps.append(f"Wrote the offsets of {placed[track.ident].size:,} chunks of track {track.ident} anew.")
    return RepairDraft(patched(subject, patches), tuple(steps))
