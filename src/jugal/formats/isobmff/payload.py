"""Looks into the samples of a track: which are not what their codec allows, and where the fault shows."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from jugal.formats import pcm
from jugal.formats.base import Subject
from jugal.formats.isobmff.following import Fault, follow_samples, spared_before
from jugal.formats.isobmff.frames import check_frames, check_slices
from jugal.formats.isobmff.numbering import check_heads
from jugal.formats.isobmff.speech import FRAME_BYTES, broken_samples
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.video import first_slice
from jugal.formats.isobmff.visual import follow_planes, plane_of, planes_before
from jugal.kernels.nal import SHORT, ZEROS, walk_samples
from jugal.kernels.visual import B
from jugal.model.span import ByteSpan

AVC = frozenset({b"avc1", b"avc2", b"avc3", b"avc4"})
HEVC = frozenset({b"hvc1", b"hev1", b"dvh1", b"dvhe"})
PRORES = frozenset({b"apch", b"apcn", b"apcs", b"apco", b"ap4h", b"ap4x"})
#: Codecs whose every frame begins with a mark, and how many bytes before it.
MARKS = {
    **dict.fromkeys((b"jpeg", b"mjpa", b"mjpb"), (b"\xff\xd8", 0)),
    **dict.fromkeys(PRORES, (b"icpf", 4)),
    b"CRAW": (b"\xff", 0),  # what follows is the version of the coding
}
#: What begins each plane of MPEG-4 Visual and what may come before it (ISO/IEC 14496-2 6.2.1), in H.263 without the one.
_START_CODE = b"\0\0\1"
#: Bytes of a macroblock of MPEG-4 Visual, hardly ever more.
_MACROBLOCK = 256
#: Packets of coded sound that parse one after another only where the coding is understood.
_SURELY_KNOWN = 12
#: Samples of coded sound by which it is told whether many read.
_FIRST = 400
#: Bytes in which such a chain is looked for, and those of the smallest packet.
_LOOK, _SMALLEST = 1 << 15, 6
OUTSIDE = SHORT
#: Bytes of a sample that is never read.
_MOST_READ = 1 << 29
FILLED = 10
FOREIGN = 11
FRAME = 12
REACHES_OVER = 13
UNKEYED = 14
#: States of samples that are good up to the place that is named.
_IN_PLACE = (ZEROS, FILLED, FOREIGN)
#: Slices of AVC and HEVC that are predicted from no other picture (7.4.3, 7.4.7.1).
_INTRA = 2
#: Bytes of a sample in which its first slice begins.
_HEADS = 4096
#: Bytes of a sample within which its first slice's header is told to be wrong.
_IN_HEADER = 64
#: Bad samples of which is told whether others need them.
_MOST_TOLD = 500


@dataclass(frozen=True, slots=True)
class Looked:
    """What was seen in a track's samples: per sample a state (0 good), the byte where the fault shows, and the share
    of a bad sample that is good all the same (0 where that is not known)."""

    state: NDArray[np.int8]
    where: NDArray[np.int64]
    spared: NDArray[np.float64]
    #: Slices were followed to their last bit.
    followed: bool = False
    #: Few samples of coded sound read: a stream of another kind, or an index that leads elsewhere.
    unread: bool = False


def mark_of(track: Track) -> tuple[bytes, int] | None:
    """What each sample of a track begins with, and behind how many bytes; None where its coding has no such mark."""
    if track.layer is not None:
        return _START_CODE[: 2 if track.layer.short else 3], 0
    return MARKS.get(track.codec)


def inspect(subject: Subject, track: Track, bad_spans: list[tuple[int, int, int]], to_the_bit: bool = False) -> Looked:
    """Looks into all samples of ``track``.

    ``bad_spans`` are (start, end, state) of filled or foreign bytes seen in the media data. With ``to_the_bit`` slices
    are followed through, where the track is within ``limits.followed``; that takes a hundred times as long.
    """
    state = np.zeros(track.offsets.size, np.int8)
    where = track.offsets.copy()
    spared = np.zeros(track.offsets.size)
    ends = track.offsets + track.sizes
    followed = unread = False
    headed: dict[int, Fault] = {}
    if track.codec in AVC or track.codec in HEVC:
        walk_samples(
            subject.source.array,
            track.offsets,
            track.sizes,
            track.prefix,
            track.codec in HEVC,
            True,
            state,
            where,
        )
        headed = check_heads(subject.source.array, track, state)
    else:
        outside = (ends > subject.size) | (track.offsets < 0)
        state[outside] = OUTSIDE
        where[outside] = np.minimum(track.offsets[outside], subject.size)
        if track.coding is not None:
            unread = _coded_sound(subject, track, state)
        elif track.codec in FRAME_BYTES:
            _speech(subject, track, state, where)
        elif (mark := mark_of(track)) is not None:
            check_marks(subject, mark, track.offsets, track.sizes, state)
            follow = {b"jpeg": partial(check_frames, standard=track.raw_photo)} | dict.fromkeys(PRORES, check_slices)
            if track.codec in follow:
                good = np.flatnonzero(state == 0)
                for number, at in follow[track.codec](subject, track.offsets, track.sizes, good).items():
                    state[number], where[number] = FRAME, at
        elif track.frame_bytes:
            _uncompressed(subject, track, state, where, spared)
    if to_the_bit and int(track.sizes.sum()) <= subject.limits.followed:
        followed = _follow(subject, track, state, where, spared)
    for k, fault in headed.items():
        if state[k] == 0:
            state[k], where[k], spared[k] = FRAME, fault.at, fault.spared
    for start, end, kind in bad_spans:
        hit = (track.offsets < end) & (ends > start) & (state != OUTSIDE)
        if track.codec == b"alac":
            # Loud sound is held as it is, and may look like anything but silence, which takes no room at all.
            hit &= (state != 0) | (kind == FILLED)
        # Coded sound that does not read tells nothing of the place; the bytes do. Nor does a slice that breaks in its header:
        # it says where its rows begin, which does not go with one whose end is filled.
        told_early = (kind == FILLED) & (where < track.offsets + _IN_HEADER)
        vague = (state == FRAME) & ((track.coding is not None) | told_early)
        # A plane that cannot be read is placed at its macroblock, which may begin before what spoils it.
        reach = _MACROBLOCK if track.layer is not None else 0
        fresh = hit & ((state == 0) | vague | (where > np.maximum(start - reach, track.offsets)))
        state[fresh] = kind
        where[fresh] = np.maximum(start, track.offsets[fresh])
    if to_the_bit and (track.video is not None or track.layer is not None):
        broken = np.flatnonzero(np.isin(state, _IN_PLACE))
        # Of what a large clip has lost only so much is looked into as of a small one.
        for k in broken[np.cumsum(track.sizes[broken]) <= subject.limits.followed].tolist():
            spared[k] = _spared_before(subject, track, k, int(where[k]))
    if track.astray.size:
        state[track.astray & (state == 0)] = FRAME
    leading = _unkeyed(subject, track)
    state[:leading][state[:leading] == 0] = UNKEYED
    return Looked(state, where, spared, followed, unread)


def _unkeyed(subject: Subject, track: Track) -> int:
    """How many pictures come before the first that needs no other, where the very first already does."""
    if track.video is None or track.sync.size != track.offsets.size or track.sync[:1].any():
        return 0
    for k, (at, size) in enumerate(zip(track.offsets.tolist(), track.sizes.tolist(), strict=True)):
        head = first_slice(subject.source.read(at, min(size, _HEADS)), track.video) if at >= 0 else None
        if head is None or k == _MOST_TOLD:
            return 0
        if track.sync[k] or head.sync or head.kind == _INTRA:
            return k
    return int(track.offsets.size)


def _follow(
    subject: Subject, track: Track, state: NDArray[np.int8], where: NDArray[np.int64], spared: NDArray[np.float64]
) -> bool:
    """Follows the good samples of a coding that is followed; False where it is none."""
    good = np.flatnonzero(state == 0)
    data, offsets, sizes = subject.source.array, track.offsets[good], track.sizes[good]
    if track.video is not None:
        faults, followed = follow_samples(data, track.video, offsets, sizes)
    elif track.layer is not None:
        faults, followed = follow_planes(data, track.layer, offsets, sizes)
    else:
        return False
    for k, fault in faults.items():
        state[good[k]], where[good[k]], spared[good[k]] = FRAME, fault.at, fault.spared
    return followed


def _spared_before(subject: Subject, track: Track, sample: int, fault: int) -> float:
    """The share of a sample's picture that is read before byte ``fault`` of the file."""
    start = int(track.offsets[sample])
    data = subject.source.array[start : start + int(track.sizes[sample])]
    if track.video is not None:
        return spared_before(data, track.video, fault - start)
    return planes_before(data, track.layer, fault - start) if track.layer is not None else 0.0


def check_marks(
    subject: Subject,
    mark: tuple[bytes, int],
    offsets: NDArray[np.int64],
    sizes: NDArray[np.int64],
    state: NDArray[np.int8],
) -> None:
    """Sets FRAME for those of the good samples that do not begin with their codec's mark; all lie in the file."""
    told, shift = mark
    good = np.flatnonzero((state == 0) & (sizes >= shift + len(told)))
    for k, value in enumerate(told):
        wrong = subject.source.array[offsets[good] + shift + k] != value
        state[good[wrong]] = FRAME


def _uncompressed(
    subject: Subject,
    track: Track,
    state: NDArray[np.int8],
    where: NDArray[np.int64],
    spared: NDArray[np.float64],
) -> None:
    """Cut-outs, foreign bytes and noise in chunks of uncompressed sound; of a chunk only what they cover is lost."""
    inside = np.flatnonzero((state == 0) & (track.sizes > 0))
    if not inside.size or track.channels < 1:
        return
    inside = inside[np.argsort(track.offsets[inside], kind="stable")]
    begins, ends = track.offsets[inside], track.offsets[inside] + track.sizes[inside]
    sound = [ByteSpan(int(a), int(b)) for a, b in zip(begins, ends, strict=True)]
    form = pcm.Form(track.sound.value_bytes, track.channels, track.sound.byte_order, _coding(track))
    damage = [(span, FILLED) for span in pcm.cut_outs(subject, form, sound)]
    if form.width > 1:
        damage += [(span, FOREIGN) for span in (*pcm.foreign(subject, sound), *pcm.noise_bursts(subject, form, sound))]
    lost = np.zeros(track.offsets.size)
    reached = np.maximum.accumulate(ends)
    for span, kind in damage:
        near = slice(int(np.searchsorted(reached, span.start, "right")), int(np.searchsorted(begins, span.end)))
        hit = inside[near][ends[near] > span.start]
        first = np.maximum(span.start, track.offsets[hit])
        lost[hit] += np.minimum(span.end, track.offsets[hit] + track.sizes[hit]) - first
        where[hit] = np.where(state[hit] == 0, first, np.minimum(where[hit], first))
        state[hit] = kind
    hit = np.flatnonzero(lost)
    spared[hit] = np.clip(1.0 - lost[hit] / track.sizes[hit], 0.0, 1.0)


def _coding(track: Track) -> pcm.Coding:
    return pcm.Coding.SIGNED if track.sound.signed else pcm.Coding.OTHER


def _coded_sound(subject: Subject, track: Track, state: NDArray[np.int8]) -> bool:
    """Each sample is one AAC raw_data_block (ISO/IEC 14496-3 4.4.2.1) or one ALAC packet, and ends with it.

    Where few do, and no stretch of them, the stream is of a kind we do not know, and nothing is said. Returns whether
    few of the first do.
    """
    inside = np.flatnonzero((state == 0) & (track.sizes > 0))
    if track.coding is None or not inside.size:
        return False
    found = track.coding.parse_samples(subject.source.array, track.offsets[inside], track.sizes[inside])
    if _is_known(found == 0) or _stands_elsewhere(subject, track):
        state[inside[found != 0]] = FRAME
    return _few_read(found[:_FIRST])


def _speech(subject: Subject, track: Track, state: NDArray[np.int8], where: NDArray[np.int64]) -> None:
    """Each sample is some frames of AMR speech, and ends with the last."""
    inside = np.flatnonzero((state == 0) & (track.sizes > 0))
    fault = broken_samples(subject.source.array, track.codec, track.offsets[inside], track.sizes[inside])
    if inside.size and _is_known(fault < 0):
        wrong = inside[fault >= 0]
        state[wrong], where[wrong] = FRAME, fault[fault >= 0]


def _is_known(good: NDArray[np.bool_]) -> bool:
    """Samples that parse show that the coding is understood: half of them, or so many in a row that it is not chance."""
    if 2 * np.count_nonzero(good) >= good.size:
        return True
    bad = np.concatenate(([-1], np.flatnonzero(~good), [good.size]))
    return bool(np.diff(bad).max() - 1 >= _SURELY_KNOWN)


def _stands_elsewhere(subject: Subject, track: Track) -> bool:
    """Near where the samples should lie packets chain that the index does not lead to: the coding is understood."""
    assert track.coding is not None
    data, begin = subject.source.array, max(0, int(track.offsets.min()))
    stop = min(subject.size, begin + _LOOK)
    at = track.coding.find_run(data, begin, stop, subject.size, -1, _SMALLEST)
    ends = np.zeros(_SURELY_KNOWN, np.int64)
    return at >= 0 and track.coding.parse_run(data, at, subject.size, _SMALLEST, ends) >= _SURELY_KNOWN


def reads_nowhere(subject: Subject, track: Track) -> bool:
    """A track of coded sound few of whose first samples parse: a stream of another kind, or an index that leads elsewhere."""
    inside = np.flatnonzero((track.offsets >= 0) & (track.offsets + track.sizes <= subject.size))[:_FIRST]
    if track.coding is None or not inside.size:
        return False
    return _few_read(track.coding.parse_samples(subject.source.array, track.offsets[inside], track.sizes[inside]))


def _few_read(found: NDArray[np.int8]) -> bool:
    return bool(np.count_nonzero(found == 0) * 2 < found.size)


def spread_to_sync(
    track: Track,
    bad: NDArray[np.bool_],
    spared: NDArray[np.float64] | None = None,
    alone: NDArray[np.bool_] | None = None,
) -> tuple[NDArray[np.bool_], NDArray[np.float64]]:
    """Samples lost to the viewer, and what is spared of each: bad ones and those that follow until the next sync sample.

    ``spared`` is the share of each bad sample that is good, what follows is spoiled as much. ``alone`` says which
    samples no other is predicted from.
    """
    loss = bad.astype(np.float64) if spared is None else bad * (1.0 - spared)
    if track.kind == "video" and bad.any() and not track.sync.all():
        handed_on = loss if alone is None else np.where(alone, 0.0, loss)
        group = 2.0 * np.cumsum(track.sync)
        loss = np.maximum(loss, np.round(np.maximum.accumulate(group + handed_on) - group, 6))
    return bad | (loss > 0), 1.0 - loss


def stands_alone(subject: Subject, track: Track, bad: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Those of the bad samples from which no other is predicted, as the headers of their first slices say (AVC 7.4.1
    nal_ref_idc, HEVC 7.4.2.2 sub-layer non-reference pictures) or their planes (ISO/IEC 14496-2 table 6-20)."""
    alone = np.zeros(bad.size, np.bool_)
    if track.video is None and track.layer is None:
        return alone
    for k in np.flatnonzero(bad)[:_MOST_TOLD].tolist():
        start = int(track.offsets[k])
        head = subject.source.read(start, min(int(track.sizes[k]), _HEADS))
        if track.video is not None:
            told = first_slice(head, track.video)
            alone[k] = told is not None and not told.reference
        elif track.layer is not None:
            plane = plane_of(head, track.layer)
            alone[k] = plane is not None and plane.kind == B
    return alone


def good_share(track: Track, lost: NDArray[np.bool_], spared: NDArray[np.float64] | None = None) -> float:
    """Share of the track's running time that is not lost, 0..1; of lost samples what is ``spared`` counts."""
    total = float(track.durations.sum())
    gone = lost.astype(np.float64) if spared is None else lost * (1.0 - spared)
    if total <= 0:
        return float(1.0 - gone.mean()) if lost.size else 0.0
    return (total - float((track.durations * gone).sum())) / (total + track.missing)


def begins(track: Track) -> NDArray[np.float64]:
    """When each sample is decoded, in seconds."""
    return (np.cumsum(track.durations) - track.durations) / max(1, track.timescale)


def stops_at(track: Track, size: int) -> float:
    """Seconds from which on decoders show nothing of ``track``, and soon nothing at all: where a sample is said to lie behind
    the end of a file of ``size`` bytes, though later ones do not, or to be larger than is ever read. Infinity where none is."""
    if not track.astray.size:
        return math.inf
    beyond = track.astray & ((track.offsets >= size) | (track.sizes >= _MOST_READ))
    return float(begins(track)[beyond].min()) if beyond.any() else math.inf
