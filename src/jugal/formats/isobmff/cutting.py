"""Cuts a clip to what is good of it: damaged ranges are left out from sync sample to sync sample, sound kept in step, or only
the damaged pictures, each good one staying until the next."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.isobmff import payload
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.forecast import weighted
from jugal.formats.isobmff.index import TrackPlan, index_like
from jugal.formats.isobmff.movie import Movie, bad_spans, read_movie
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.write import with_new_index
from jugal.model import scoring
from jugal.model.span import ByteSpan

#: Ranges of running time in seconds, in order and apart.
Ranges = list[tuple[float, float]]


@dataclass(frozen=True, slots=True)
class Cut:
    """What is left out: of the ``lead`` track the samples not in ``keep``, of all others the ``ranges``."""

    lead: Track
    keep: NDArray[np.bool_]
    compose: NDArray[np.int64] | None
    ranges: Ranges
    #: Ticks of the lead's samples where they are not those of now.
    durations: NDArray[np.int64] | None = None


def plan_cut(tracks: list[Track], lost: list[NDArray[np.bool_]]) -> Cut | None:
    """Leaves out the groups of pictures that hold a lost one, or where there is no picture, lost samples.

    A sound that is damaged beside a whole picture is left as it is: cutting it would cost the picture.
    """
    number = next((n for n, t in enumerate(tracks) if t.kind == "video"), 0 if tracks else None)
    if number is None or not lost[number].any() or not tracks[number].timescale:
        return None
    track, gone = tracks[number], lost[number]
    if track.kind == "video":
        group = np.cumsum(track.sync)
        gone = np.isin(group, np.unique(group[gone]))
    keep = ~gone
    compose = track.composition.copy() if track.composition.size == keep.size else None
    begin = np.concatenate(([0], np.cumsum(track.durations)))
    ranges = []
    syncs = np.flatnonzero(track.sync)
    firsts = np.flatnonzero(gone & ~np.append(False, gone[:-1]))
    lasts = np.flatnonzero(gone & ~np.append(gone[1:], False))
    for first, last in zip(firsts.tolist(), lasts.tolist(), strict=True):
        leading = _leading(track, last + 1, begin, syncs)
        ticks = int(track.durations[leading].sum())
        if compose is not None and leading.size:
            keep[leading] = False
            compose[last + 1] -= ticks
        ranges.append((float(begin[first]) / track.timescale, float(begin[last + 1] + ticks) / track.timescale))
    return Cut(track, keep, compose, ranges)


def _leading(track: Track, sync: int, begin: NDArray[np.int64], syncs: NDArray[np.int64]) -> NDArray[np.int64]:
    """Pictures that follow a sync sample but are shown before it: they refer to what was before it, too."""
    if track.composition.size != track.offsets.size or sync >= track.offsets.size:
        return np.empty(0, np.int64)
    following = int(np.searchsorted(syncs, sync, "right"))
    stop = int(syncs[following]) if following < syncs.size else track.offsets.size
    shown = begin[sync:stop] + track.composition[sync:stop]
    return sync + 1 + np.flatnonzero(shown[1:] < shown[0])


def kept_share(tracks: list[Track], ranges: Ranges) -> float:
    """Share of the running time that is left without ``ranges``, 0..1."""
    total = max((t.seconds for t in tracks), default=0.0)
    return max(0.0, 1.0 - sum(b - a for a, b in ranges) / total) if total > 0 else 0.0


def cut_to_good(subject: Subject, donor: Subject | None) -> RepairDraft:
    """A new index that passes over the damaged ranges; the media data stay where they are."""
    movie, moov, tracks = _cuttable(subject)
    cut = plan_cut(tracks, _lost(subject, movie, tracks))
    if cut is None:
        raise RepairImpossible("No picture is damaged; there is nothing to cut.")
    ranges = cut.ranges
    plans = [_without(track, cut) for track in tracks]
    if not all(plan.offsets.size for plan in plans):
        raise RepairImpossible("Nothing would be left of a track.")
    steps = [f"Left out {a:.2f} s to {b:.2f} s." for a, b in ranges[:50]]
    if len(ranges) > 50:
        steps.append(f"Left out {len(ranges) - 50:,} more ranges.")
    kept = 100.0 * kept_share(tracks, ranges)
    index = index_like(subject, movie, plans, 0, own=True)
    return RepairDraft(with_new_index(subject, moov, index), tuple(steps), kept=kept)


def _cuttable(subject: Subject) -> tuple[Movie, Box, list[Track]]:
    movie = read_movie(subject)
    moov = movie.moov
    if moov is None or moov.cut or movie.hidden or any(t.fragmented for t in movie.tracks):
        raise RepairImpossible("The ranges of this clip cannot be cut before its boxes are right.")
    if any(box.cut or subject.source.uint(box.start, 4) == 0 for box in movie.mdats):
        raise RepairImpossible("The media data have no end of their own; mend the boxes first.")
    tracks = [t for t in movie.tracks if t.kind != "other" and t.offsets.size]
    return movie, moov, tracks


def hold_pictures(subject: Subject, donor: Subject | None) -> RepairDraft:
    """A new index without the damaged pictures and packets of sound; all others keep their time, the media data their place."""
    movie, moov, tracks = _cuttable(subject)
    lost = _lost(subject, movie, tracks)
    left = held_share(tracks, lost)
    if left is None:
        raise RepairImpossible("No picture is damaged that a good one stands before; there is nothing to leave out.")
    holds = [_holding(track, gone) for track, gone in zip(tracks, lost, strict=True)]
    plans = [_without(track, hold) for track, hold in zip(tracks, holds, strict=True)]
    counts = [(int(np.count_nonzero(~hold.keep)), hold.lead.kind == "video") for hold in holds]
    steps = tuple(
        f"Left {count:,} damaged {'pictures' if seen else 'packets of sound'} out; the ones before them stay longer."
        for count, seen in counts
        if count
    )
    index = index_like(subject, movie, plans, 0, own=True)
    return RepairDraft(with_new_index(subject, moov, index), steps, kept=left)


def _holding(track: Track, gone: NDArray[np.bool_]) -> Cut:
    """Leaves out the samples that are ``gone``, of pictures those shown before a sync sample that refer to such ones, too.

    Those before the first good one have none that could stay in their place, and uncompressed sound has no gaps: both are
    left as they are.
    """
    keep = ~_spoiled(track, gone)
    keep[: int(np.argmax(keep))] = True
    compose = track.composition if track.composition.size == keep.size else None
    begin = np.concatenate(([0], np.cumsum(track.durations)))
    durations = np.zeros(keep.size, np.int64)
    durations[keep] = np.diff(np.append(begin[:-1][keep], begin[-1]))
    return Cut(track, keep, compose, [], durations)


def _spoiled(track: Track, gone: NDArray[np.bool_]) -> NDArray[np.bool_]:
    spoiled = gone & (track.frame_bytes == 0)
    if track.kind == "video":
        begin = np.concatenate(([0], np.cumsum(track.durations)))
        syncs = np.flatnonzero(track.sync)
        for last in np.flatnonzero(gone & ~np.append(gone[1:], False)).tolist():
            spoiled[_leading(track, last + 1, begin, syncs)] = True
    return spoiled


def held_share(tracks: list[Track], lost: list[NDArray[np.bool_]]) -> float | None:
    """Percent of the running time that is left without damaged pictures and packets, picture and sound averaged; None where
    no damaged picture can be left out."""
    pairs = list(zip(tracks, lost, strict=True))
    if all(t.kind != "video" or _holding(t, gone).keep.all() for t, gone in pairs):
        return None
    shares = [payload.good_share(t, gone | _spoiled(t, gone)) for t, gone in pairs]
    return scoring.share(weighted(tracks, shares), 1.0)


def _lost(subject: Subject, movie: Movie, tracks: list[Track]) -> list[NDArray[np.bool_]]:
    low, high = min(int(t.offsets.min()) for t in tracks), max(int((t.offsets + t.sizes).max()) for t in tracks)
    spans = bad_spans(subject, movie, ByteSpan(max(0, low), min(subject.size, max(low, high))))
    lost = []
    for track in tracks:
        looked = payload.inspect(subject, track, spans if track.kind == "video" else [], to_the_bit=True)
        bad = looked.state != 0
        lost.append(payload.spread_to_sync(track, bad, looked.spared, payload.stands_alone(subject, track, bad))[0])
    return lost


def _without(track: Track, cut: Cut) -> TrackPlan:
    if track.frame_bytes:
        return _pieces_of_sound(track, cut.ranges)
    keep, compose, durations = cut.keep, cut.compose, track.durations
    if track is not cut.lead:
        keep = _outside(track, cut.ranges)
        compose = track.composition if track.composition.size == keep.size else None
    elif cut.durations is not None:
        durations = cut.durations
    sync = track.sync[keep]
    return TrackPlan(
        track,
        track.offsets[keep],
        track.sizes[keep],
        durations[keep],
        compose[keep] if compose is not None else None,
        None if sync.all() else sync,
        None,
        track.composition_delay,
    )


def _outside(track: Track, ranges: Ranges) -> NDArray[np.bool_]:
    """Samples outside the ranges; what is left out in all follows the picture to half a sample, however often cut."""
    keep = np.ones(track.offsets.size, np.bool_)
    edges = np.concatenate(([0], np.cumsum(track.durations))) / max(1, track.timescale)
    dropped = wanted = 0.0
    for begin, end in ranges:
        first = min(int(np.searchsorted(edges, begin - 1e-6)), edges.size - 1)
        wanted += end - begin
        goal = edges[first] + wanted - dropped
        last = min(max(first, int(np.searchsorted(edges, goal))), edges.size - 1)
        if last > first and goal - edges[last - 1] < edges[last] - goal:
            last -= 1
        dropped += float(edges[last] - edges[first])
        keep[first:last] = False
    return keep


def _pieces_of_sound(track: Track, ranges: Ranges) -> TrackPlan:
    """Uncompressed sound can be cut anywhere: each chunk gives the pieces of it that lie outside the ranges."""
    frame = track.frame_bytes
    counts = track.sizes // frame
    tick = max(1, round(float(track.durations.sum()) / max(1, int(counts.sum()))))
    offsets: list[int] = []
    frames: list[int] = []
    cuts = [(round(a * track.timescale / tick), round(b * track.timescale / tick)) for a, b in ranges]
    at = passed = 0
    for offset, count in zip(track.offsets.tolist(), counts.tolist(), strict=True):
        here, stop = at, at + count
        while passed < len(cuts) and cuts[passed][1] <= here:
            passed += 1
        for begin, end in itertools.islice(cuts, passed, None):
            if begin >= stop:
                break
            if begin > here:
                offsets.append(offset + (here - at) * frame)
                frames.append(begin - here)
            here = min(end, stop)
        if here < stop:
            offsets.append(offset + (here - at) * frame)
            frames.append(stop - here)
        at = stop
    counted = np.array(frames, np.int64)
    return TrackPlan(track, np.array(offsets, np.int64), counted * frame, counted * tick, frames=counted)
