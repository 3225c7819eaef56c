"""Slice headers of all samples of AVC and HEVC: legal, of one picture, and numbered as the pictures around them are."""

from __future__ import annotations

from copy import deepcopy

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.following import Fault, units
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.video import AvcStream, VideoStream
from jugal.kernels import heads

#: Numbers that picture parameter sets may have (7.4.2.2).
_MOST_SETS = 256
#: Changes of the parameter sets within a track; of one that has more nothing is said from there on.
_MOST_CHANGES = 64
#: Pictures within which the numbers go on after a wrong one.
_AHEAD = 8
#: Pictures around one, in decoding order, among which the order count is looked for that it should have.
_NEAR = 32
#: Steps by which pictures are shown early or late, hardly ever more.
_REORDERED = 8
#: Share of a track's pictures that agree with what is expected of all where it is a stream as we know it, and the share that
#: damaged ones are of them at most, those that are told from one picture and those that are told by themselves.
_AGREE, _FEW, _SOME = 0.9, 0.02, 0.1
#: Share of a picture, and of those predicted from it, that decoders show rightly all the same, on average: frame_num tells
#: which pictures it is predicted from, and the order count of HEVC does; that of AVC mostly when it is shown. Slices that do
#: not go with the others are left out, and another order count of theirs is not looked at.
_NUMBER_SPARES, _ORDER_SPARES = 0.5, 0.9
_SPARED = {heads.ILLEGAL: 0.0, heads.APART: 0.5, heads.TWO_ORDERS: 0.9}


def check_heads(data: NDArray[np.uint8], track: Track, state: NDArray[np.int8]) -> dict[int, Fault]:
    """Those of the samples of ``track`` with ``state`` 0 whose headers cannot be right, by their numbers.

    Each is named by the byte of the unit that tells, with the share that is spared, 0..1. Nothing is said of a kind of fault that
    many samples have: the stream is then of a sort that is not understood.
    """
    if track.video is None or not track.offsets.size:
        return {}
    found = _read(data, track, track.video, state)
    read = found[:, heads.CAME] == heads.READ
    wrong: dict[int, Fault] = {}
    for fault, spared in _SPARED.items():
        hit = np.flatnonzero(found[:, heads.CAME] == fault)
        # Slices may come in any order in some profiles, or stand for others that were lost.
        most = np.count_nonzero(read) * (1.0 if fault == heads.ILLEGAL else _SOME)
        if hit.size < max(2, most):
            wrong |= {k: Fault(int(found[k, heads.AT]), spared) for k in hit.tolist()}
    avc = isinstance(track.video, AvcStream)
    odd = _misordered(track, track.video, found)
    _tell(wrong, found, odd, _ORDER_SPARES if avc else 0.0)
    if avc:
        odd = np.zeros(read.size, np.bool_)
        heads.misnumbered(found, 1 << min(s.number_bits for s in track.video.sequences.values()), _AHEAD, odd)
        _tell(wrong, found, odd, _NUMBER_SPARES)
    return wrong


def _tell(wrong: dict[int, Fault], found: NDArray[np.int64], odd: NDArray[np.bool_], spared: float) -> None:
    """Adds the pictures that are ``odd``, where they are few: it is their first slices whose numbers are wrong, not those that
    do not go with them."""
    hit = np.flatnonzero(odd)
    if hit.size <= max(1, _FEW * odd.size):
        wrong |= {k: Fault(int(found[k, heads.FIRST_AT]), spared) for k in hit.tolist()}


def _read(data: NDArray[np.uint8], track: Track, stream: VideoStream, state: NDArray[np.int8]) -> NDArray[np.int64]:
    """What ``heads.read_heads`` finds, each picture read with the parameter sets that came before it."""
    found = np.zeros((track.offsets.size, len(heads.COLUMNS)), np.int64)
    hevc = not isinstance(stream, AvcStream)
    heads.read_heads(data, track.offsets, track.sizes, track.prefix, hevc, known_sets(stream), state, found)
    carries = np.flatnonzero(found[:, heads.SETS])
    changes = carries[np.diff(found[carries, heads.SETS], prepend=0) != 0]
    stream = deepcopy(stream)
    for number, k in enumerate(changes.tolist()):
        if number == _MOST_CHANGES:
            found[k:, heads.CAME], found[k:, heads.FLAGS] = heads.NO_SLICE, 0
            break
        before = known_sets(stream)
        start = int(track.offsets[k])
        for _, unit in units(data[start : start + int(track.sizes[k])].tobytes(), track.prefix):
            if stream.unit_type(unit[:2]) in stream.parameters:
                stream.add(unit)
        now = known_sets(stream)
        if not np.array_equal(before, now):
            rest = slice(k, None)
            heads.read_heads(
                data, track.offsets[rest], track.sizes[rest], track.prefix, hevc, now, state[rest], found[rest]
            )
    return found


def known_sets(stream: VideoStream) -> NDArray[np.int64]:
    """What slice headers need of each picture parameter set, as ``heads.read_heads`` takes it."""
    table = np.zeros((_MOST_SETS, heads.KNOWN), np.int64)
    for number, picture in stream.pictures.items():
        sequence = stream.sequences.get(picture.sequence)
        if sequence is None:
            continue
        row = table[number]
        row[heads.UNITS] = sequence.units
        if isinstance(stream, AvcStream):
            row[heads.NUMBER_BITS] = sequence.number_bits
            row[heads.ORDER_BITS] = sequence.order_bits if sequence.order_type == 0 else -1
            row[heads.FRAMES_ONLY], row[heads.SEPARATE] = sequence.frames_only, sequence.separate_planes
        else:
            row[heads.ADDRESS_BITS] = (sequence.units - 1).bit_length()
            row[heads.COUNT_BITS] = sequence.order_bits
            row[heads.DEPENDENT], row[heads.EXTRA_BITS] = picture.dependent_slices, picture.extra_bits
            row[heads.OUTPUT], row[heads.PLANES] = picture.output_flag, sequence.separate_planes
    return table


def _misordered(track: Track, stream: VideoStream, found: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Pictures whose order count is not half way between those of the pictures shown before and after them, which are two
    steps apart, where no picture nearby has the count that is missing (8.2.1, HEVC 8.3.1) and theirs is of another or far off:
    where pictures were left out, one may be shown a little early or late."""
    count = found.shape[0]
    odd = np.zeros(count, np.bool_)
    good = (found[:, heads.FLAGS] & heads.HEADED != 0) & (found[:, heads.ORDER] >= 0)
    timed = track.durations.size == count and track.composition.size in (0, count)
    if np.count_nonzero(good) < _AGREE * count or count < _AHEAD or not timed:
        return odd
    span = 1 << max(s.order_bits for s in stream.sequences.values())
    shown = track.decode_times + (track.composition if track.composition.size else 0)
    by_time = np.argsort(shown, kind="stable")
    epochs = np.cumsum(found[:, heads.FLAGS] & heads.ANEW != 0)
    order, epoch = found[by_time, heads.ORDER], epochs[by_time]
    steps = (np.diff(order) + span // 2) % span - span // 2
    within = steps[(np.diff(epoch) == 0) & good[by_time][:-1] & good[by_time][1:]]
    values, times = np.unique(within, return_counts=True)
    if not values.size or times.max() < _AGREE * within.size:
        return odd
    step = int(values[np.argmax(times)])
    if step <= 0 or 4 * step >= span:
        return odd
    apart = (order[2:] - order[:-2]) % span == 2 * step
    together = (epoch[2:] == epoch[:-2]) & (epoch[1:-1] == epoch[2:]) & good[by_time][2:] & good[by_time][:-2]
    suspect = np.flatnonzero(apart & together & (steps[:-1] != step) & good[by_time][1:-1]) + 1
    reach = min(_NEAR, span // step // 2 - 1)  # beyond that the same counts come again
    for place in suspect.tolist():
        k, due = int(by_time[place]), (int(order[place - 1]) + step) % span
        near = slice(max(0, k - reach), k + reach + 1)
        others = found[near, heads.ORDER][epochs[near] == epochs[k]]
        away = (int(found[k, heads.ORDER]) - due + span // 2) % span - span // 2
        is_strange = (
            away % step or abs(away) > _REORDERED * step or np.count_nonzero(others == found[k, heads.ORDER]) > 1
        )
        odd[k] = is_strange and due not in others
    return odd
