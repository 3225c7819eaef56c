"""Sizes of samples and their number in each chunk, by the bytes that lie between chunks (ISO/IEC 14496-12 8.7.3, 8.7.4).

The chunks of all tracks follow one another in the media data, as a rule without a byte between them. A chunk whose samples
leave bytes over, or need more than there are, has a wrong size among them; where one size alone is wrong it is what is left.
"""

from __future__ import annotations

import struct
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from jugal.binary.source import PatchedSource, Source
from jugal.formats.base import Subject
from jugal.formats.isobmff import payload
from jugal.formats.isobmff.faults import Fault
from jugal.formats.isobmff.movie import Movie
from jugal.formats.isobmff.tables import Track, read_track

#: Of the chunks so many must be filled without a rest for a rest to tell of a wrong size.
_FILLED = 0.5
#: Chunks whose sizes are looked into.
_MOST_CHUNKS = 1024


def wrong_sizes(subject: Subject, movie: Movie, track: Track) -> list[Fault]:
    """Sizes that do not fill their chunks as the others do, with the right ones where the samples there read by them."""
    stbl = track.box.child(b"mdia", b"minf", b"stbl")
    stsz = stbl.child(b"stsz") if stbl else None
    looked = track.video is not None or track.coding is not None
    if (
        stsz is None
        or track.fragmented
        or not looked
        or not track.offsets.size
        or track.chunk_of.size < track.sizes.size
    ):
        return []
    if any(t.misplaced for t in movie.tracks):
        return []  # where chunks begin does not tell what they hold then
    filled = np.bincount(track.chunk_of, track.sizes, minlength=track.chunk_offsets.size).astype(np.int64)
    room = _room(movie, track)
    left = np.where(room > 0, room - filled, 0)
    odd = np.flatnonzero(left)
    if (
        not odd.size
        or odd.size > _MOST_CHUNKS
        or (track.coding is None and np.count_nonzero(left == 0) < _FILLED * left.size)
    ):
        return []
    lost = np.zeros(track.sizes.size, np.bool_)
    patches: list[tuple[int, bytes]] = []
    told = 0
    for chunk in odd.tolist():
        numbers = np.arange(*np.searchsorted(track.chunk_of, (chunk, chunk + 1)))
        if not numbers.size:
            continue
        empty = numbers[track.sizes[numbers] == 0]
        if not empty.size and _reads(subject, track, numbers, int(track.offsets[numbers[0]]), track.sizes[numbers]):
            continue  # samples behind it may have been left out
        right = _resized(subject, track, numbers, int(left[chunk]))
        if right is None:
            lost[empty] = True
            continue
        told += 1
        # Decoders need no more of the last sample of a chunk than there is.
        wrong = numbers[right != track.sizes[numbers]]
        lost[wrong[(wrong != numbers[-1]) | (track.sizes[wrong] < right[wrong - numbers[0]])]] = True
        patches += [(stsz.body + 12 + 4 * int(k), int(right[k - numbers[0]]).to_bytes(4, "big")) for k in wrong]
    if not patches and not lost.any():
        return []
    at = min(place for place, _ in patches) if patches else stsz.body + 12 + 4 * int(np.argmax(lost))
    said = f"The sizes of the samples in {told or np.unique(track.chunk_of[lost]).size:,} chunks do not fill them."
    return [Fault(track, said, at, at + 4, tuple(patches), lost)]


def wrong_grouping(source: Source, movie: Movie, track: Track) -> list[Fault]:
    """A sample-to-chunk table that contradicts the others, where the sizes fill the chunks in one way only."""
    stbl = track.box.child(b"mdia", b"minf", b"stbl")
    stsc, stsz = (stbl.child(b"stsc"), stbl.child(b"stsz")) if stbl else (None, None)
    if stsc is None or stsz is None or track.fragmented or not track.problems or not track.chunk_offsets.size:
        return []
    count = source.uint(stsz.body + 8, 4) or 0
    if source.uint(stsz.body + 4, 4) or not count:
        return []
    if any(t.misplaced for t in movie.tracks):
        return []
    raw = source.read(stsz.body + 12, min(4 * count, stsz.end - stsz.body - 12))
    sizes = np.frombuffer(raw[: len(raw) // 4 * 4], ">u4").astype(np.int64)
    ends = np.cumsum(sizes)
    goals = np.cumsum(_room(movie, track))
    last = np.searchsorted(ends, goals, "right")
    # Nothing is left of any chunk but the last, behind which anything may lie.
    if sizes.size != count or (last[:-1] == 0).any() or (ends[last[:-1] - 1] != goals[:-1]).any():
        return []
    held = np.diff(last, prepend=0)
    held[-1] += count - int(held.sum())
    if (held <= 0).any():
        return []
    firsts = np.flatnonzero(np.diff(held, prepend=-1))
    room = (stsc.end - stsc.body - 8) // 12
    if len(firsts) > room:
        return []
    table = np.zeros((room, 3), ">u4")
    table[: len(firsts)] = np.stack((firsts + 1, held[firsts], np.ones(len(firsts), np.int64)), 1)
    patch = (stsc.body + 4, struct.pack(">I", len(firsts)) + table.tobytes())
    if read_track(PatchedSource(source, [patch]), track.box).problems:
        return []
    said = "Its sample-to-chunk table contradicts the sizes, which fill the chunks without a rest in another way."
    return [Fault(track, said, stsc.body + 4, stsc.end, (patch,))]


def _room(movie: Movie, track: Track) -> NDArray[np.int64]:
    """Bytes from the beginning of each chunk of ``track`` to what begins next, a chunk or the end of the media data; 0
    where nothing does."""
    tracks = [t.chunk_offsets for t in movie.tracks]
    borders = np.unique(np.concatenate([*tracks, np.array([box.end for box in movie.mdats], np.int64)]))
    following = np.searchsorted(borders, track.chunk_offsets, "right")
    return np.where(following < borders.size, borders[np.minimum(following, borders.size - 1)] - track.chunk_offsets, 0)


def _resized(subject: Subject, track: Track, numbers: NDArray[np.int64], left: int) -> NDArray[np.int64] | None:
    """The sizes of the samples ``numbers`` of a chunk of which ``left`` bytes are unclaimed; None where none read.

    One size is taken to be wrong, or all where the sound itself tells where its packets end.
    """
    start, sizes = int(track.offsets[numbers[0]]), track.sizes[numbers]
    whole = int(sizes.sum()) + left
    if not 0 <= start <= start + whole <= subject.size:
        return None
    candidates = []
    for k in range(numbers.size):
        other = sizes.copy()
        other[k] += left
        if other[k] > 0 and (sizes[np.arange(sizes.size) != k] > 0).all():
            candidates.append(other)
    if track.coding is not None:
        ends = [start]
        for _ in numbers:
            used, _ = track.coding.parse(subject.source.array, min(ends[-1], start + whole), start + whole)
            ends.append(ends[-1] + used)
        candidates.append(np.diff(ends))
    good = [
        c for c in candidates if int(c.sum()) == whole and (c > 0).all() and _reads(subject, track, numbers, start, c)
    ]
    different = {c.tobytes(): c for c in good}
    return next(iter(different.values())) if len(different) == 1 else None


def _reads(subject: Subject, track: Track, numbers: NDArray[np.int64], start: int, sizes: NDArray[np.int64]) -> bool:
    """The samples make sense if they have these ``sizes``."""
    offsets = start + np.cumsum(sizes) - sizes
    if track.coding is not None:
        data = subject.source.array
        if start < 0 or int(offsets[-1] + sizes[-1]) > subject.size:
            return False
        ends = zip(offsets.tolist(), sizes.tolist(), strict=True)
        return all(size and track.coding.parse(data, at, at + size) == (size, 0) for at, size in ends)
    chosen = track.only(slice(int(numbers[0]), int(numbers[-1]) + 1))
    chosen = replace(chosen, offsets=offsets, sizes=sizes, astray=np.empty(0, np.bool_))
    return bool((payload.inspect(subject, chosen, []).state == 0).all())
