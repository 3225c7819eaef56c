"""Looks into the samples of a track: which are not what their codec allows, and where the fault shows."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Subject
from jugal.formats.fills import foreign_text
from jugal.formats.isobmff.tables import PCM_BYTES, Track
from jugal.kernels.nal import SHORT, walk_samples
from jugal.model.span import ByteSpan

AVC = frozenset({b"avc1", b"avc2", b"avc3", b"avc4"})
HEVC = frozenset({b"hvc1", b"hev1", b"dvh1", b"dvhe"})
_ZERO_RUN = 8
#: In large files only runs that block statistics could miss by their place are looked for, at a quarter of the cost.
_LONG_ZERO_RUN = 256
_LARGE = 64 << 20
OUTSIDE = SHORT
FILLED = 10
FOREIGN = 11
FRAME = 12


def inspect(
    subject: Subject, track: Track, bad_spans: list[tuple[int, int, int]]
) -> tuple[NDArray[np.int8], NDArray[np.int64]]:
    """Per sample a state (0 good) and the byte where the fault shows.

    ``bad_spans`` are (start, end, state) of filled or foreign bytes seen in the media data.
    """
    state = np.zeros(track.offsets.size, np.int8)
    where = track.offsets.copy()
    ends = track.offsets + track.sizes
    if track.codec in AVC or track.codec in HEVC:
        walk_samples(
            subject.source.array,
            track.offsets,
            track.sizes,
            track.prefix,
            track.codec in HEVC,
            _ZERO_RUN if subject.size < _LARGE else _LONG_ZERO_RUN,
            state,
            where,
        )
    else:
        outside = (ends > subject.size) | (track.offsets < 0)
        state[outside] = OUTSIDE
        where[outside] = np.minimum(track.offsets[outside], subject.size)
        if track.coding is not None:
            _coded_sound(subject, track, state)
        elif track.codec in (b"jpeg", b"mjpa", b"mjpb"):
            _starts(subject, track, state, b"\xff\xd8")
        elif track.codec in (b"apch", b"apcn", b"apcs", b"apco", b"ap4h", b"ap4x"):
            _starts(subject, track, state, b"icpf", 4)
        elif PCM_BYTES.get(track.codec, 0) > 1:
            _texts(subject, track, state, where)
    for start, end, kind in bad_spans:
        hit = (track.offsets < end) & (ends > start) & (state != OUTSIDE)
        if track.codec == b"alac":
            hit &= state != 0  # loud sound is held as it is, and may look like anything
        # Coded sound that does not read tells nothing of the place; the bytes do.
        vague = (state == FRAME) & (track.coding is not None)
        fresh = hit & ((state == 0) | vague | (where > np.maximum(start, track.offsets)))
        state[fresh] = kind
        where[fresh] = np.maximum(start, track.offsets[fresh])
    return state, where


def _starts(subject: Subject, track: Track, state: NDArray[np.int8], magic: bytes, shift: int = 0) -> None:
    """Each frame of these codecs begins with a fixed mark."""
    data = subject.source.array
    good = np.flatnonzero((state == 0) & (track.sizes >= shift + len(magic)))
    for k, value in enumerate(magic):
        wrong = data[track.offsets[good] + shift + k] != value
        state[good[wrong]] = FRAME


def _texts(subject: Subject, track: Track, state: NDArray[np.int8], where: NDArray[np.int64]) -> None:
    """Samples of two bytes and more never read as text over a whole page."""
    inside = np.flatnonzero((state == 0) & (track.offsets < subject.size))
    if not inside.size:
        return
    low, high = int(track.offsets[inside].min()), int((track.offsets[inside] + track.sizes[inside]).max())
    for span in foreign_text(subject, ByteSpan(max(0, low), min(high, subject.size))):
        hit = inside[(track.offsets[inside] < span.end) & (track.offsets[inside] + track.sizes[inside] > span.start)]
        state[hit] = FOREIGN
        where[hit] = np.maximum(span.start, track.offsets[hit])


def _coded_sound(subject: Subject, track: Track, state: NDArray[np.int8]) -> None:
    """Each sample is one AAC raw_data_block (ISO/IEC 14496-3 4.4.2.1) or one ALAC packet, and ends with it.

    Where fewer than half of them are, the stream is of a kind we do not know, and nothing is said.
    """
    inside = np.flatnonzero((state == 0) & (track.sizes > 0))
    if track.coding is None or not inside.size:
        return
    found = track.coding.parse_samples(subject.source.array, track.offsets[inside], track.sizes[inside])
    if np.count_nonzero(found == 0) * 2 >= inside.size:
        state[inside[found != 0]] = FRAME


def reads_nowhere(subject: Subject, track: Track) -> bool:
    """A track of coded sound few of whose samples parse: a stream of another kind, or an index that leads elsewhere."""
    inside = np.flatnonzero((track.offsets >= 0) & (track.offsets + track.sizes <= subject.size))[:400]
    if track.coding is None or not inside.size:
        return False
    found = track.coding.parse_samples(subject.source.array, track.offsets[inside], track.sizes[inside])
    return bool(np.count_nonzero(found == 0) * 2 < inside.size)


def spread_to_sync(track: Track, bad: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Samples lost to the viewer: bad ones and those that follow until the next sync sample."""
    if track.kind != "video" or track.sync.all() or not bad.any():
        return bad
    index = np.arange(bad.size)
    last_bad = np.maximum.accumulate(np.where(bad, index, -1))
    last_sync = np.maximum.accumulate(np.where(track.sync, index, -1))
    return bad | ((last_bad >= 0) & (last_bad >= last_sync))


def good_share(track: Track, lost: NDArray[np.bool_]) -> float:
    """Share of the track's running time that is not lost, 0..1."""
    total = float(track.durations.sum())
    if total <= 0:
        return float(1.0 - lost.mean()) if lost.size else 0.0
    return (total - float(track.durations[lost].sum())) / (total + track.missing)
