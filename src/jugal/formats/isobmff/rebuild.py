"""Writes a lost movie index anew: samples found in the media data, configuration and timing from a healthy donor."""

from __future__ import annotations

import math
import struct
from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np
from numpy.typing import NDArray
from scipy.special import entr

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.isobmff.boxes import Tree, find_box, find_media_box, read_tree
from jugal.formats.isobmff.fragments import all_moved, heads_of_fragments, idents_of_fragments, share_from_start
from jugal.formats.isobmff.index import TrackPlan, empty_index_of, index_like
from jugal.formats.isobmff.lanes import AmrLane, FrameLane, Lane, PcmLane, SoundLane, VideoLane, VopLane
from jugal.formats.isobmff.movie import Movie, read_movie
from jugal.formats.isobmff.payload import AVC, HEVC, PRORES
from jugal.formats.isobmff.streams import ASKED, ASSUMED, find_picture, find_rates, find_sound, lanes_of
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.template import template
from jugal.formats.isobmff.timing import frame_duration, lost_sound, regular_distance, reordered, schedule
from jugal.formats.isobmff.video import read_record
from jugal.formats.isobmff.walk import Walk, deal_out, walk
from jugal.formats.isobmff.write import box_bytes
from jugal.kernels.visual import I
from jugal.model.span import ByteSpan

_LEAST_EXPLAINED = 0.2
#: Stretches between pictures from which on they are a track of their own, and from which on they may be uncompressed sound.
_TAKING_TURNS, _LEAST_TURNS = 8, 3
#: Bytes in front of the first fragment that are more than boxes.
_LEAST_AHEAD = 1 << 12
#: Bytes behind the last sample from which on they were media data: an index that lies there is smaller.
_LEAST_TAIL, _TAIL_SHARE = 1 << 14, 0.04
#: Bytes from which picture and sound are told where no healthy file is at hand.
_LEARNT_FROM = 16 << 20
#: What a guessed clock leaves of the trust in an index: pictures are right but for their time, sound alone is off as a whole.
_ASSUMED_CLOCK, _ASSUMED_PITCH = 0.8, 0.5
#: A track this short beside its neighbour, with gaps all over, was read by the wrong rules.
_MISMATCH = 0.6
#: Bytes of a block of coded digital silence.
_SMALLEST_SOUND = 6
#: Bytes and frames of sound from which its shape is told, and bits a byte from which its values are evenly spread.
_SHAPE_BYTES = 1 << 20
_SHAPE_FRAMES = 4096
_EVEN_SPREAD = 7.85
#: In place of a chunk's offset: there is none, it is silent.
SILENCE = -1
#: The byte that means silence where it is not zero.
_SILENT = {b"raw ": 0x80, b"alaw": 0xD5, b"ulaw": 0xFF}


def rebuild_index(subject: Subject, donor: Subject | None) -> RepairDraft:
    """A new index behind the media data."""
    return _rebuild(subject, donor, in_front=False)


def rebuild_index_in_front(subject: Subject, donor: Subject | None) -> RepairDraft:
    """A new index before the media data, so that playing can begin before all is read."""
    return _rebuild(subject, donor, in_front=True)


def media_span(subject: Subject) -> ByteSpan:
    """Where media data lie when no index says it: from the first media data box, else from where boxes end.

    Where no box begins the file, from the one whose size leads to another or to the end, else from the file's start. They
    end where the rest of an index begins.
    """
    tree = read_tree(subject.source, 0, subject.limits)
    if tree.top:
        # A header never finished may claim 64 bits that are media data already; eight bytes too many do no harm.
        start = next((b.start + 8 for b in tree.top if b.kind == b"mdat"), tree.broken_at or 0)
    else:
        # Fragments have media data boxes of their own.
        box = find_media_box(subject.source) if subject.source.find(b"moof") < 0 else None
        start = box.body if box else 0
    end = subject.size
    fills = subject.blocks.fills
    if fills and fills[-1].span.end == subject.size and fills[-1].value == 0:
        end = fills[-1].span.start + 16
    boxes = [b for b in tree.top if b.kind in (b"mdat", b"moov")]
    if boxes and boxes[-1].kind == b"moov" and boxes[-1].start > start:
        end = min(end, boxes[-1].start)  # what is left of an index looks like samples here and there
    return ByteSpan(start, max(start, min(end, subject.size)))


def _begins_with_box(subject: Subject, span: ByteSpan) -> bool:
    """The header of the box around the media data is there."""
    return b"mdat" in (subject.source.read(span.start - back, 4) for back in (4, 12) if span.start >= back)


def _behind_what_is_cut(subject: Subject, span: ByteSpan, lanes: list[Lane]) -> ByteSpan:
    """``span`` without the rest of a picture whose start is lost, which uncompressed sound might be as well."""
    sound = next((lane for lane in lanes if isinstance(lane, PcmLane) and lane.other is not None), None)
    if sound is None or sound.other is None or _begins_with_box(subject, span):
        return span
    return ByteSpan(sound.other.seek(subject.source.array, span.start, span.end), span.end)


def stated_share(subject: Subject, span: ByteSpan) -> float:
    """How much of what the media data header promises lies in ``span``, 0..1; 1 where it promises nothing sensible."""
    mdat = next((b for b in read_tree(subject.source, 0, subject.limits).top if b.kind == b"mdat"), None)
    there = span.end - mdat.start if mdat else 0
    return there / mdat.stated if mdat and there < mdat.stated < 64 * there else 1.0


def _rebuild(subject: Subject, donor: Subject | None, in_front: bool) -> RepairDraft:
    if donor is None:
        raise RepairImpossible("A lost index is rebuilt with the help of a healthy file from the same device.")
    lender = read_movie(donor)
    if lender.moov is None or lender.moov.cut:
        raise RepairImpossible("The healthy file has no index to learn from.")
    first = find_box(subject.source, b"moof", frozenset({b"mfhd"}))
    if first is not None:
        return _lend_header(subject, donor, lender, read_tree(subject.source, first.start, subject.limits))
    span = media_span(subject)
    found, tracks = find_samples(subject, donor, lender, span, cut=True)
    return with_index(subject, donor, lender, found, tracks, span, in_front)


def find_samples(
    subject: Subject, donor: Subject, lender: Movie, span: ByteSpan, cut: bool = False
) -> tuple[Walk, list[Track]]:
    """The samples in ``span`` by what the donor's tracks are, and the donor's track of each lane.

    With ``cut`` a sample may lack its beginning where ``span`` begins.
    """
    lanes, tracks = _lanes(donor, lender)
    unread = [t for t in lender.tracks if t.kind != "other" and t.offsets.size and t not in tracks]
    if not lanes or unread:
        which = ", ".join(t.codec.decode("latin-1") for t in unread)
        raise RepairImpossible(f"Samples of this kind cannot be told apart without an index: {which or 'unknown'}.")
    first = _behind_what_is_cut(subject, span, lanes) if cut else span
    return walk(subject.source.array, first.start, first.end, lanes), tracks


def estimate_index(subject: Subject, donor: Subject | None, rate: float | None = None) -> RepairDraft:
    """A new index behind the media data, from what the data themselves tell.

    ``rate`` sets the clock by hand: frames a second, or values a second where there is sound alone.
    """
    data, span = subject.source.array, media_span(subject)
    heads = heads_of_fragments(subject.source, span)
    picture = find_picture(data, span, heads)
    window = ByteSpan(span.start, min(span.end, span.start + _LEARNT_FROM))
    # What no picture takes; without a picture everything but the fragments' own indexes.
    alone = walk(data, window.start, window.end, [picture.lane] if picture else [], heads)
    sound = find_sound(data, [g.span for g in alone.gaps])
    if picture is not None:
        if sound is not None and isinstance(sound.lane, PcmLane) and len(alone.gaps) < _LEAST_TURNS:
            # Bytes of any kind may read as values; sound lies between the pictures.
            sound = None
        picture.lane = picture.lane.afresh()
    lanes = lanes_of(picture, sound)
    if not lanes:
        raise RepairImpossible("Neither picture nor sound of a known kind is found in the media data.")
    span = _behind_what_is_cut(subject, span, lanes)
    found = walk(data, span.start, span.end, lanes, heads)
    tracks = max(0, len(idents_of_fragments(subject.source, heads)) - 1) if picture else 0
    rates = find_rates(data, len(picture.lane.found) if picture else 0, picture.rate if picture else 0.0, sound, tracks)
    if rate is not None:
        rates = replace(rates, frames=rate, how=ASKED) if picture else replace(rates, values=round(rate), how=ASKED)
    streams = [picture.stream(rates.frames)] if picture is not None else []
    if sound is not None:
        streams += [sound.stream(rates.values)] * rates.tracks
        if isinstance(sound.lane, SoundLane):
            # The first lane has taken the samples of all, which are dealt out later.
            found.lanes += [SoundLane(sound.lane.config) for _ in range(1, rates.tracks)]
            for gap in found.gaps:
                gap.before += (0,) * (rates.tracks - 1)
    donor = template(streams)
    lender = read_movie(donor)
    draft = with_index(subject, donor, lender, found, lender.tracks, span, in_front=False)
    told = [f"Told the {'picture' if g is picture else 'sound'} from {g.evidence}." for g in (picture, sound) if g]
    clock = [f"{rates.frames:g} frames" if picture else "", f"{rates.values:,} sound values" if sound else ""]
    told.append(f"{' and '.join(c for c in clock if c)} a second: {rates.how}.")
    trust = (picture.trust if picture else 1.0) * (
        1.0 if rates.how != ASSUMED else _ASSUMED_CLOCK if picture else _ASSUMED_PITCH
    )
    if sound is None and len(found.gaps) > _TAKING_TURNS:
        told.append("Something else takes turns with the picture, sound perhaps, and is of no known kind.")
        trust *= 0.5
    return replace(draft, steps=(*told, *draft.steps[:-1]), kept=draft.kept * trust)


def with_index(
    subject: Subject,
    donor: Subject,
    lender: Movie,
    found: Walk,
    tracks: list[Track],
    span: ByteSpan,
    in_front: bool,
    own: bool = False,
    fragments: bool = False,
) -> RepairDraft:
    """The file with an index for the samples ``found``, refused where they do not look like the donor's.

    With ``own`` the donor is the file itself, whose dates and places are kept; with ``fragments`` some are to follow.
    """
    lanes = found.lanes
    if not sum(len(lane.found) for lane in lanes) or found.explained < _LEAST_EXPLAINED * span.length:
        raise RepairImpossible("The media data do not look like those of the healthy file.")
    if any(isinstance(lane, PcmLane) and _too_short(lane) for lane in lanes):
        raise RepairImpossible("The sound between the pictures does not come in chunks like the healthy file's.")
    if any(isinstance(lane, PcmLane) and _without_shape(subject.source.array, lane) for lane in lanes):
        raise RepairImpossible(
            "What lies between the pictures is coded, not uncompressed sound as in the healthy file."
        )
    _share_sound(lanes, tracks)
    plans, shares, timed = _plans(found, tracks, own)
    shares = _beside_each_other(plans, shares, tracks)
    kept = 100.0 * sum(shares) / len(tracks)
    if min(shares, default=0.0) < _MISMATCH and 4 * len(found.gaps) > max(len(lane.found) for lane in lanes):
        raise RepairImpossible("Picture and sound do not take turns as in the healthy file; it is of another kind.")
    steps = [
        f"Found {plan.sizes.size if plan.frames is None else int(plan.frames.sum()):,} samples of track {plan.track.ident} ({plan.track.kind})."
        for plan in plans
    ]
    if found.gaps:
        steps.append(
            f"Stepped over {sum(g.span.length for g in found.gaps):,} bytes in {len(found.gaps):,} places that belong to no sample."
        )
    steps.append(
        "Took the frame rate from the donor." if timed else "Estimated the frame rate from the length of the sound."
    )
    tail = _lost_tail(subject, span, plans)
    if tail:
        steps.insert(-1, f"Found no sample in the last {tail:,} bytes of the media data, which hold something else.")
    pieces = _pieces(
        subject, donor, span, plans, in_front, partial(index_like, donor, lender, plans, own=own, fragments=fragments)
    )
    there = (span.length - tail) / span.length
    return RepairDraft(pieces, tuple(steps), kept=kept * there * stated_share(subject, span))


def _lost_tail(subject: Subject, span: ByteSpan, plans: list[TrackPlan]) -> int:
    """Bytes behind the last sample that were media data once: many, and not filled ones, which never were any."""
    last = max(int((p.offsets + p.sizes).max()) for p in plans)
    tail = ByteSpan(min(max(last, span.start), span.end), span.end)
    filled = sum(f.span.clip(tail).length for f in subject.blocks.fills_in(tail))
    rest = tail.length - filled
    return rest if rest > max(_LEAST_TAIL, _TAIL_SHARE * span.length) else 0


def _too_short(lane: PcmLane) -> bool:
    """Most of what was taken for uncompressed sound is shorter than half the donor's shortest chunk: it is not."""
    sizes = lane.found.sizes
    return bool(sizes) and 2 * sum(2 * size < min(lane.usual) for size in sizes) > len(sizes)


def _without_shape(data: NDArray[np.uint8], lane: PcmLane) -> bool:
    """What was taken for uncompressed sound has every byte of its frames evenly spread over all values.

    The highest byte of a value never is, not in the loudest music: its values would have to be full-scale noise.
    """
    pieces, had = [], 0
    for offset, size in zip(lane.found.offsets, lane.found.sizes, strict=True):
        if had >= _SHAPE_BYTES:
            break
        pieces.append(data[offset : offset + size // lane.frame * lane.frame])
        had += pieces[-1].size
    frames = np.concatenate(pieces).reshape(-1, lane.frame) if pieces else np.empty((0, lane.frame), np.uint8)
    if len(frames) < _SHAPE_FRAMES:
        return False
    shares = (np.bincount(frames[:, k], minlength=256) / len(frames) for k in range(lane.frame))
    return bool(min(entr(share).sum() for share in shares) / np.log(2) > _EVEN_SPREAD)


def _beside_each_other(plans: list[TrackPlan], shares: list[float], tracks: list[Track]) -> list[float]:
    """Where the donor's tracks are of one length, a track that comes out shorter than its neighbour lacks the rest."""
    lengths = [t.seconds for t in tracks]
    if min(lengths) < 0.8 * max(lengths):
        return shares
    seconds = [p.ticks / p.track.timescale if p.track.timescale else 0.0 for p in plans]
    longest = max(seconds, default=0.0)
    if longest <= 0.5:
        return shares
    return [share * min(1.0, (own + 0.25) / longest) for share, own in zip(shares, seconds, strict=True)]


def _lend_header(subject: Subject, donor: Subject, lender: Movie, tree: Tree) -> RepairDraft:
    """Fragments know their samples; they only lack the configuration in front, which the donor lends (8.8.1)."""
    moov = lender.moov
    assert moov is not None
    idents = {
        subject.source.uint(h.body + 4, 4) for m in tree.all(b"moof") for t in m.all(b"traf") for h in t.all(b"tfhd")
    }
    if moov.child(b"mvex") is None or not idents <= {t.ident for t in lender.tracks}:
        raise RepairImpossible("The healthy file is not fragmented in the same way.")
    kind = _file_type(subject) or _file_type(donor) or b""
    words = "Took the configuration from the donor; the fragments have their own index."
    media, begins = media_span(subject), tree.top[0].start
    ahead = ByteSpan(min(media.start, begins), min(media.end, begins))
    if any(t.chunk_offsets.size for t in lender.tracks) and ahead.length > _LEAST_AHEAD:
        return _with_first_part(subject, donor, lender, tree, ahead, words)
    pieces = (kind, empty_index_of(donor, lender), ByteSpan(tree.top[0].start, subject.size))
    return RepairDraft(pieces, (words,), kept=100.0 * share_from_start(subject.source, tree))


def _with_first_part(
    subject: Subject, donor: Subject, lender: Movie, tree: Tree, span: ByteSpan, words: str
) -> RepairDraft:
    """Fragments behind media data whose samples the lost index listed itself: those are found anew in ``span``."""
    found, tracks = find_samples(subject, donor, lender, span)
    first = with_index(subject, donor, lender, found, tracks, span, in_front=True, fragments=True)
    size = sum(len(p) if isinstance(p, bytes) else p.length for p in first.pieces)
    moved = all_moved(subject, tree, size - tree.top[0].start)
    steps = (words, "Found the samples before the first fragment anew.", *first.steps)
    there = {
        t.ident: round(first.kept / 100.0 * _raw_seconds(lane, t) * t.timescale)
        for lane, t in zip(found.lanes, tracks, strict=True)
    }
    return RepairDraft((*first.pieces, *moved), steps, kept=100.0 * share_from_start(subject.source, tree, there))


def _lanes(donor: Subject, lender: Movie) -> tuple[list[Lane], list[Track]]:
    """Lanes in the order they are asked, and the donor's track of each."""
    source = donor.source
    picture: list[tuple[Lane, Track]] = []
    sound: list[tuple[Lane, Track]] = []
    for track in lender.tracks:
        if not track.offsets.size:
            continue
        stsd = track.box.child(b"mdia", b"minf", b"stbl", b"stsd")
        entry = source.read(stsd.body, min(stsd.end - stsd.body, 1 << 16)) if stsd else b""
        if track.codec in AVC | HEVC and (stream := read_record(entry)) is not None:
            longest = min(max(8 * int(track.sizes.max()), 1 << 18), (1 << 8 * stream.prefix) - 1)
            picture.append((VideoLane(stream, longest), track))
        elif track.codec == b"jpeg" or track.codec in PRORES:
            picture.append((FrameLane(b"jpeg" if track.codec == b"jpeg" else b"icpf"), track))
        elif track.codec == b"mp4v" or (track.layer is not None and track.layer.plain):
            picture.append((VopLane(track.layer), track))
        elif track.coding is not None:
            sound.append((SoundLane(track.coding, min(_SMALLEST_SOUND, int(track.sizes.min()))), track))
        elif track.codec in (b"samr", b"sawb"):
            per = max(1, round(track.durations.mean() / track.timescale / 0.02)) if track.timescale else 1
            sound.append((AmrLane(track.codec, per), track))
        elif track.frame_bytes:
            sizes, counts = np.unique(track.sizes, return_counts=True)
            usual = tuple(sizes[np.argsort(-counts, kind="stable")][:256].tolist())
            longest = int(sizes[counts > 1].max() if (counts > 1).any() else sizes.max())
            sound.append((PcmLane(track.frame_bytes, usual, longest), track))
    if len(picture) > 1 or sum(isinstance(lane, PcmLane) for lane, _ in sound) > 1:
        raise RepairImpossible("The healthy file has several tracks of a kind that cannot be told apart.")
    for lane, _ in sound:
        if isinstance(lane, SoundLane) and picture and isinstance(picture[0][0], VideoLane | VopLane):
            lane.video = picture[0][0]
        if isinstance(lane, PcmLane) and picture:
            other = picture[0][0]
            lane.other = other if isinstance(other, VideoLane | FrameLane | VopLane) else None
        if isinstance(lane, SoundLane) and picture and isinstance(picture[0][0], VopLane):
            picture[0][0].sound = lane
    sound.sort(key=lambda pair: isinstance(pair[0], PcmLane))
    both = picture + sound
    return [lane for lane, _ in both], [track for _, track in both]


def _share_sound(lanes: list[Lane], tracks: list[Track]) -> None:
    """Several tracks of coded sound of one configuration: the first took the samples of all."""
    coded = [lane for lane in lanes if isinstance(lane, SoundLane)]
    for config in {lane.config for lane in coded}:
        alike = [lane for lane in coded if lane.config == config]
        if len(alike) > 1:
            learnt = tracks[lanes.index(alike[0])]
            deal_out(alike[0].found, alike, max(1, round(learnt.sizes.size / max(1, learnt.chunk_offsets.size))))


def _plans(found: Walk, tracks: list[Track], own: bool) -> tuple[list[TrackPlan], list[float], bool]:
    """The tracks with their timing, the share of each that is there, and whether the donor's rate held.

    With ``own`` the tracks are the file's, and their stated duration is how long they were.
    """
    lanes = found.lanes
    inner = [g for g in found.gaps if any(g.before)]
    pairs = [(n, lane, track) for n, (lane, track) in enumerate(zip(lanes, tracks, strict=True)) if len(lane.found)]
    sound_seconds = max((_raw_seconds(lane, track) for _, lane, track in pairs if track.kind == "audio"), default=0.0)
    plans: list[TrackPlan] = []
    shares: list[float] = []
    timed = True
    picture: tuple[NDArray[np.int64], NDArray[np.float64]] | None = None
    for number, lane, track in pairs:
        offsets = np.array(lane.found.offsets, np.int64)
        sizes = np.array(lane.found.sizes, np.int64)
        breaks = {g.before[number] for g in inner}
        if track.kind != "video":
            most = track.duration if own and track.duration else None
            plans.append(_sound_plan(lane, track, offsets, sizes, found, picture, most))
            shares.append(_raw_seconds(lane, track) * track.timescale / max(1, plans[-1].ticks, most or 0))
            continue
        donor_ticks = float(np.median(track.durations)) if track.durations.size else 1.0
        if np.ptp(track.durations[:-1]) > 0.5 * donor_ticks if track.durations.size > 1 else False:
            donor_ticks = float(track.durations.mean())
        if isinstance(lane, VideoLane):
            plan_of = schedule(lane.stream, lane.pictures, breaks, regular_distance(track.sync))
            decode, offset = plan_of.decode, plan_of.offset
            sync = np.array([p.sync for p in lane.pictures], np.bool_)
        else:
            decode, offset = _counted(found, number, offsets.size), np.zeros(offsets.size, np.int64)
            sync = np.ones(offsets.size, np.bool_)
            if isinstance(lane, VopLane):
                kinds = np.array(lane.kinds)
                offset, sync = reordered(kinds), kinds == I
        whole = int(decode[-1]) + 1 == offsets.size
        ticks, kept_rate = frame_duration(
            track.timescale, donor_ticks, int(decode[-1]) + 1, sound_seconds, whole and not inner
        )
        timed = timed and kept_rate
        plans.append(_video_plan(lane, track, offsets, sizes, decode, offset, sync, ticks))
        shares.append(_shown(decode, sync, track.sync) / (int(decode[-1]) + 1))
        picture = offsets, decode * ticks / track.timescale
    return plans, [min(1.0, share) for share in shares], timed


def _shown(decode: NDArray[np.int64], sync: NDArray[np.bool_], alike: NDArray[np.bool_]) -> int:
    """Pictures shown rightly: those between a loss, or the start, and the next sync sample lack what they refer to."""
    index = np.arange(decode.size)
    # Where pictures are refreshed part by part, as the sync samples of a recording ``alike`` tell, none need be one.
    start = 0 if sync.any() or np.count_nonzero(alike) > 1 else -1
    lost = np.maximum.accumulate(np.where(np.diff(decode, prepend=decode[0] - 1) > 1, index, start))
    return int(np.count_nonzero(np.maximum.accumulate(np.where(sync, index, -1)) >= lost))


def _counted(found: Walk, number: int, count: int) -> NDArray[np.int64]:
    """Frames that carry no number of their own: a gap has taken as many as its bytes would hold on average."""
    decode = np.arange(count, dtype=np.int64)
    each = max(1.0, found.explained / max(1, count))
    for gap in found.gaps:
        if 0 < gap.before[number] < count and gap.span.length > each / 2:
            decode[gap.before[number] :] += round(gap.span.length / each)
    return decode


def _video_plan(
    lane: Lane,
    track: Track,
    offsets: NDArray[np.int64],
    sizes: NDArray[np.int64],
    decode: NDArray[np.int64],
    offset: NDArray[np.int64],
    sync: NDArray[np.bool_],
    ticks: float,
) -> TrackPlan:
    edges = np.rint(np.append(decode, decode[-1] + 1) * ticks).astype(np.int64)
    durations = np.diff(edges)
    compose, delay = None, 0
    if offset.any() or track.composition.size:
        delay = max(round(track.composition_delay / ticks), 0)
        if not track.composition_signed:
            delay = max(delay, -int(offset.min()))
        compose = np.rint((decode + offset + delay) * ticks).astype(np.int64) - edges[:-1]
        if not compose.any():
            compose = None
    if track.durations.size > _LEAST_TURNS and (track.durations[1:-1] == track.durations[1]).all():
        # A first picture that stays longer than all others keeps the rest in step with the sound.
        durations[0] += max(0, int(track.durations[0] - track.durations[1]))
    return TrackPlan(
        track,
        offsets,
        sizes,
        durations,
        compose,
        None if sync.all() else sync,
        None,
        round(delay * ticks),
    )


def _raw_seconds(lane: Lane, track: Track) -> float:
    """Running time of the samples found, lost ones left out."""
    if not track.timescale:
        return 0.0
    if isinstance(lane, PcmLane):
        return sum(lane.found.sizes) / lane.frame / track.timescale * _tick(track, lane)
    return len(lane.found) * _tick(track, lane) / track.timescale


def _tick(track: Track, lane: Lane) -> int:
    """Ticks of one sample: a value a channel for uncompressed sound, a frame otherwise."""
    if isinstance(lane, PcmLane):
        frames = float((track.sizes / lane.frame).sum())
        return max(1, round(float(track.durations.sum()) / frames)) if frames else 1
    return max(1, int(np.median(track.durations)))


def _sound_plan(
    lane: Lane,
    track: Track,
    offsets: NDArray[np.int64],
    sizes: NDArray[np.int64],
    found: Walk,
    picture: tuple[NDArray[np.int64], NDArray[np.float64]] | None,
    most: int | None,
) -> TrackPlan:
    """Sound by counting; where picture lies beside it and something is missing, what is missing is left silent.

    Where ``most`` ticks are known to have been there just what lacks of them is missing, whatever the bytes say.
    """
    tick = _tick(track, lane)
    frames = sizes // lane.frame if isinstance(lane, PcmLane) else None
    durations = np.full(offsets.size, tick, np.int64) if frames is None else frames * tick
    inner = [g.span for g in found.gaps if any(g.before) and g.span.end < int(offsets[-1])]
    if inner and track.timescale:
        firsts = np.flatnonzero(np.append(True, offsets[1:] != offsets[:-1] + sizes[:-1]))
        follows = np.searchsorted(offsets[firsts], [g.start for g in inner])
        chunk = lane.usual[0] // lane.frame if isinstance(lane, PcmLane) and lane.usual else 1
        if picture is None:
            lost = np.zeros(firsts.size, np.int64)
            np.add.at(lost, follows, np.rint([g.length / sizes.mean() for g in inner]).astype(np.int64))
        else:
            starts = (np.cumsum(durations) - durations)[firsts] / track.timescale
            beside = picture[1][np.clip(np.searchsorted(picture[0], offsets[firsts]) - 1, 0, None)]
            after = np.bincount(follows, minlength=firsts.size) > 0
            lost = lost_sound(starts, beside, after, tick * chunk / track.timescale)
        if most is not None:
            # The last sample may be stated shorter than the others.
            room = max(0, math.ceil((most - int(durations.sum())) / (tick * chunk) - 0.05))
            lost = np.diff(np.minimum(np.cumsum(lost), room), prepend=0)
            # What else is missing went with the bytes of which there is no trace but the broken place.
            lost[follows[int(np.argmax([g.length for g in inner]))]] += room - int(lost.sum())
        places = firsts[np.flatnonzero(lost)]
        silent = lost[lost > 0] * tick * chunk
        if frames is None:
            durations[places[places > 0] - 1] += silent[places > 0]
        else:
            assert isinstance(lane, PcmLane)
            values = silent // tick
            offsets = np.insert(offsets, places, SILENCE)
            sizes = np.insert(sizes, places, values * lane.frame)
            frames = np.insert(frames, places, values)
            durations = np.insert(durations, places, silent)
    return TrackPlan(track, offsets, sizes, durations, frames=frames)


def _pieces(
    subject: Subject,
    donor: Subject,
    span: ByteSpan,
    plans: list[TrackPlan],
    in_front: bool,
    indexed: Callable[[int], bytes],
) -> tuple[Piece, ...]:
    """File type, media data and index, the index before or behind: ``indexed`` makes it by how far the samples move."""
    kind = _file_type(subject) or _file_type(donor) or box_bytes(b"ftyp", b"isom\0\0\2\0isomiso2mp41")
    silence = _silence(plans)
    for plan in plans:
        plan.offsets = np.where(plan.offsets == SILENCE, span.end, plan.offsets)
    head = struct.pack(">I4sQ", 1, b"mdat", 16 + span.length + len(silence))
    if not in_front:
        shift = len(kind) + len(head) - span.start
        return (kind, head, span, silence, indexed(shift))
    room = len(indexed(0))
    for _ in range(3):
        index = indexed(len(kind) + room + len(head) - span.start)
        if len(index) == room:
            break
        room = len(index)
    return (kind, index, head, span, silence)


def _silence(plans: list[TrackPlan]) -> bytes:
    """Silent values for the longest stretch of lost uncompressed sound; all lost chunks point at it."""
    longest, value = 0, 0
    for plan in plans:
        lost = plan.sizes[plan.offsets == SILENCE]
        if lost.size:
            longest, value = int(lost.max()), _SILENT.get(plan.track.codec, 0)
    return bytes([value]) * longest


def _file_type(subject: Subject) -> bytes | None:
    head = subject.source.read(0, 8)
    size = int.from_bytes(head[:4], "big")
    return subject.source.read(0, size) if head[4:] == b"ftyp" and 16 <= size <= 512 else None
