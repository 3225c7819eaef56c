"""Offsets that are off: by a constant, or by steps where bytes were lost or put in, be it in the middle of a chunk."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Subject
from jugal.formats.isobmff.movie import Movie
from jugal.formats.isobmff.payload import AVC, HEVC, OUTSIDE, check_marks, mark_of
from jugal.formats.isobmff.tables import Track
from jugal.formats.jpeg.parse import soi_positions
from jugal.kernels.nal import walk_samples

_WINDOW = 1 << 20
_SOUND_WINDOW = 1 << 16
_MAX_STEPS = 16
_PROBES = 8
#: Powers of two of samples that are tried in a chunk.
_WITHIN_CHUNK = 8


@dataclass(frozen=True, slots=True)
class Step:
    """What the index says to lie at ``from_offset`` and behind lies ``delta`` bytes further on."""

    from_offset: int
    delta: int


def _states(subject: Subject, track: Track, offsets: NDArray[np.int64], sizes: NDArray[np.int64]) -> NDArray[np.int8]:
    state = np.zeros(offsets.size, np.int8)
    where = np.zeros(offsets.size, np.int64)
    if track.coding is not None:
        inside = (offsets >= 0) & (offsets + sizes <= subject.size)
        state[inside] = track.coding.parse_samples(subject.source.array, offsets[inside], sizes[inside])
        state[~inside] = OUTSIDE
        return state
    if (mark := mark_of(track)) is not None:
        state[(offsets < 0) | (offsets + sizes > subject.size)] = OUTSIDE
        check_marks(subject, mark, offsets, sizes, state)
        return state
    walk_samples(subject.source.array, offsets, sizes, track.prefix, track.codec in HEVC, False, state, where)
    return state


def apply_steps(offsets: NDArray[np.int64], steps: list[Step]) -> NDArray[np.int64]:
    """``offsets`` moved by the last step that covers each."""
    moved = offsets.copy()
    for step in steps:
        moved = np.where(offsets >= step.from_offset, offsets + step.delta, moved)
    return moved


def moved_offsets(track: Track, steps: list[Step]) -> NDArray[np.int64]:
    """Where the samples lie after ``steps``: runs of fragments and chunks of uncompressed sound move as one."""
    starts = track.chunk_starts if track.fragmented or track.frame_bytes else track.offsets
    return track.offsets + (apply_steps(starts, steps) - starts)


def find_steps(subject: Subject, movie: Movie) -> list[Step]:
    """The corrections that make the samples parse; empty where none is needed or none helps.

    Video's NAL chains are asked, else the marks that frames begin with, else packets of coded sound.
    """
    if movie.is_raw_photo:
        return _by_pictures(subject, movie)
    tracks = [t for t in movie.tracks if t.codec in AVC | HEVC and t.offsets.size]
    tracks = tracks or [t for t in movie.tracks if mark_of(t) is not None and t.offsets.size]
    tracks = tracks or [t for t in movie.tracks if t.coding is not None and t.offsets.size]
    if not tracks:
        return _by_media_start(subject, movie)
    track = max(tracks, key=lambda t: int(t.sizes.sum()))
    steps: list[Step] = []
    position = 0
    for _ in range(_MAX_STEPS):
        moved = moved_offsets(track, steps)
        state = _states(subject, track, moved, track.sizes)
        bad = np.flatnonzero((state != 0) & (np.arange(state.size) >= position))
        if not bad.size:
            break
        first = int(bad[0])
        ahead = state[first : first + 2 * _PROBES]
        if float((ahead != 0).mean()) < 0.7 or ahead.size < 2:
            position = first + 1
            following = np.flatnonzero((state == 0) & (np.arange(state.size) > first))
            if not following.size:
                break
            position = int(following[0])
            continue
        # The sample that straddles the loss is itself broken: try from it and from the chunks after it.
        delta = None
        for start in _tries(track, first):
            current = int(moved[start] - track.offsets[start])
            delta = _search(subject, movie, track, start, current)
            begin = None if delta is None else _beginning(subject, movie, track, start, current, delta)
            if delta is not None and begin is not None:
                steps.append(Step(begin, delta))
                # The rest of a run that cannot be parted stays as it is.
                later = np.flatnonzero(track.offsets >= begin)
                position = max(start, int(later[0])) if track.fragmented and later.size else start
                break
        else:
            break
    return steps


def _beginning(subject: Subject, movie: Movie, track: Track, start: int, current: int, delta: int) -> int | None:
    """Where a step begins that was found at sample ``start``: samples just before it may have moved as well, of ``track`` and
    of coded sound. None where nothing that could be moved lies behind it.

    They did where they read ``delta`` bytes on and do not where they were thought to be.
    """
    if track.fragmented and track.chunk_starts[start] != track.offsets[start]:
        # What moves in a fragment is a run; the rest of one in whose middle bytes were lost cannot.
        return _next_run(movie, int(track.offsets[start]))
    # Of the chunks before those move along of which most samples do.
    chunk = int(track.chunk_of[start]) if track.chunk_of.size else 0
    while chunk > 0 and start:
        samples = np.flatnonzero(track.chunk_of == chunk - 1)
        if np.count_nonzero(_moved(subject, track, samples, current, delta)) <= samples.size // 2:
            break
        chunk, start = chunk - 1, int(samples[0])
    if not track.fragmented:
        before = np.arange(max(0, start - 2**_WITHIN_CHUNK), start)
        stays = np.flatnonzero(~_moved(subject, track, before, current, delta))
        start = int(before[stays[-1]]) + 1 if stays.size else int(before[0]) if before.size else start
        if (track.offsets[:start] + delta < 0).all():
            # What would begin before the file was lost with its start, and moves along.
            start = 0
    first = int((track.chunk_starts if track.fragmented else track.offsets)[start])
    after = int(track.offsets[start - 1]) if start else 0
    for other in movie.tracks:
        if other is track or other.coding is None or not other.chunk_offsets.size or not other.offsets.size:
            continue
        between = np.flatnonzero((other.offsets > after) & (other.offsets < first))
        if other.fragmented:
            between = between[other.chunk_starts[between] == other.offsets[between]]
        moved = between[_moved(subject, other, between, current, delta)]
        if moved.size:
            first = min(first, int(other.offsets[moved].min()))
    if start:
        return first
    # Of what lies before the first sample nothing may show where it is: then it moves along, as where all is off alike.
    ahead = [t for t in movie.tracks if t.chunk_offsets.size and int(t.chunk_offsets.min()) < first]
    silent = all(t.coding is None and t.codec not in AVC | HEVC and mark_of(t) is None for t in ahead)
    return min((int(t.chunk_offsets.min()) for t in ahead), default=first) if silent else first


def _next_run(movie: Movie, after: int) -> int | None:
    """The first of all tracks' runs that begins behind ``after``; None where none does."""
    starts = [t.chunk_starts[t.chunk_starts > after] for t in movie.tracks if t.offsets.size]
    return min((int(s.min()) for s in starts if s.size), default=None)


def _moved(subject: Subject, track: Track, samples: NDArray[np.int64], current: int, delta: int) -> NDArray[np.bool_]:
    """Which of ``samples`` read ``delta`` bytes on and do not ``current`` bytes on."""
    at, sizes = track.offsets[samples], track.sizes[samples]
    there, here = (_states(subject, track, at + d, sizes) == 0 for d in (delta, current))
    return there & ~here


def _tries(track: Track, first: int) -> list[int]:
    """The first bad sample, the first ones of the next chunks, and some behind it in its own, which may be the whole track."""
    tries = [first]
    chunk = track.chunk_of[first]
    for ahead in (1, 2, 4):
        following = int(np.searchsorted(track.chunk_of, chunk + ahead))
        if following < track.offsets.size:
            tries.append(following)
    within = first + 2 ** np.arange(_WITHIN_CHUNK)
    within = within[within < track.offsets.size]
    return tries + within[track.chunk_of[within] == chunk].tolist()


def _search(subject: Subject, movie: Movie, track: Track, start: int, current: int) -> int | None:
    """The shift that makes samples from ``start`` on parse: likely ones first, then all within a MiB."""
    offsets, sizes = track.offsets[start : start + _PROBES], track.sizes[start : start + _PROBES]
    likely = [box.body - int(min(t.offsets.min() for t in movie.tracks if t.offsets.size)) for box in movie.mdats]
    likely += [current + sign * unit * k for unit in (512, 4096, 32768) for k in range(1, 9) for sign in (-1, 1)]
    for delta in likely:
        if _fits(subject, track, offsets + delta, sizes):
            return delta
    data = subject.source.array
    base = int(offsets[0]) + current
    reach = _SOUND_WINDOW if track.coding is not None else _WINDOW
    low, high = max(0, base - reach), min(subject.size - 8, base + reach)
    if high <= low:
        return None
    if track.coding is not None:
        return _search_sound(subject, track, offsets, sizes, low, high)
    if (mark := mark_of(track)) is not None:
        return _search_mark(subject, track, mark, offsets, sizes, low, high)
    if track.prefix != 4:
        return None
    window = data[low : high + 8].astype(np.int64)
    count = high - low
    lengths = (
        (window[:count] << 24) | (window[1 : count + 1] << 16) | (window[2 : count + 2] << 8) | window[3 : count + 3]
    )
    head = window[4 : count + 4]
    fits = (lengths >= 2) & (lengths + 4 <= int(sizes[0])) & (head < 0x80)
    candidates = np.flatnonzero(fits)
    order = np.argsort(np.abs(candidates + low - base), kind="stable")
    for at in candidates[order[:20_000]]:
        delta = int(at) + low - int(offsets[0])
        if _fits(subject, track, offsets[:2] + delta, sizes[:2]) and _fits(subject, track, offsets + delta, sizes):
            return delta
    return None


def _search_mark(
    subject: Subject,
    track: Track,
    mark: tuple[bytes, int],
    offsets: NDArray[np.int64],
    sizes: NDArray[np.int64],
    low: int,
    high: int,
) -> int | None:
    """The nearest place where frames of just these sizes follow each other."""
    told, shift = mark
    window, base = subject.source.read(low, high - low), int(offsets[0])
    found: list[int] = []
    at = window.find(told)
    while at >= 0 and len(found) < 20_000:
        found.append(low + at - shift - base)
        at = window.find(told, at + 1)
    return next((d for d in sorted(found, key=abs) if _fits(subject, track, offsets + d, sizes)), None)


def _search_sound(
    subject: Subject, track: Track, offsets: NDArray[np.int64], sizes: NDArray[np.int64], low: int, high: int
) -> int | None:
    """The first place where packets of just these sizes follow each other."""
    assert track.coding is not None
    base, size = int(offsets[0]), int(sizes[0])
    at = low
    while (at := track.coding.find_sized(subject.source.array, at, high, size)) >= 0:
        if _fits(subject, track, offsets + (at - base), sizes):
            return at - base
        at += 1
    return None


def _fits(subject: Subject, track: Track, offsets: NDArray[np.int64], sizes: NDArray[np.int64]) -> bool:
    state = _states(subject, track, offsets, sizes)
    inside = state != OUTSIDE
    # A sample or two before the end of the file fit by chance.
    return 2 * np.count_nonzero(inside) >= inside.size and bool((state[inside] == 0).all()) and bool(inside[0])


def _by_media_start(subject: Subject, movie: Movie) -> list[Step]:
    """Without a NAL chain to test: the first chunk must lie at the start of the media data."""
    offsets = [t.offsets for t in movie.tracks if t.offsets.size]
    mdats = movie.mdats
    if not offsets or len(mdats) != 1:
        return []
    first = int(min(o.min() for o in offsets))
    last = max(int((t.offsets + t.sizes).max()) for t in movie.tracks if t.offsets.size)
    delta = mdats[0].body - first
    if delta and not (mdats[0].body <= first and last <= mdats[0].end) and last + delta == mdats[0].end:
        return [Step(0, delta)]
    return []


def _by_pictures(subject: Subject, movie: Movie) -> list[Step]:
    """The one shift by which all pictures and raw samples of a raw photograph begin with their marks."""
    tracks = [t for t in movie.tracks if t.raw_photo and t.offsets.size]
    pictures = [t for t in tracks if t.codec == b"jpeg"]
    if not pictures or len(tracks) < 2:
        return []

    def fits(delta: int) -> bool:
        return all(not _states(subject, t, t.offsets + delta, t.sizes).any() for t in tracks)

    starts = soi_positions(subject.source)
    deltas = [0, *(at - int(pictures[0].offsets[0]) for at in starts)]
    found = next((delta for delta in deltas if fits(delta)), 0)
    return [Step(0, found)] if found else []
