"""Samples of AVC and HEVC followed to their last bit: where they break, and how much of the picture is before it."""

from __future__ import annotations

from collections.abc import Iterator
from copy import deepcopy
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.segments import follow_segment
from jugal.formats.isobmff.slices import Followed, follow_slice
from jugal.formats.isobmff.video import AvcStream, VideoStream

#: Bytes that are read wrongly before it shows, on average of flipped bits.
_DELAY = 800
_KINDS = 3
#: Share of a picture that was read before a fault in it is believed where no other like it shows that it is understood.
_UNDERSTOOD = 0.125


@dataclass(frozen=True, slots=True)
class Fault:
    """The byte of the file where a sample's slices stop making sense, and the share of its picture that is before it
    or in slices that do."""

    at: int
    spared: float


def follow_samples(
    data: NDArray[np.uint8], stream: VideoStream, offsets: NDArray[np.int64], sizes: NDArray[np.int64]
) -> tuple[dict[int, Fault], bool]:
    """The faults of samples that lie in ``data`` and whose units add up; True where slices were followed at all.

    Where no more slices of a kind (I, P, B) are whole than not, they may be of a stream that is not understood: of those
    only pictures of which a part was read are believed to be damaged, and only where the other kinds are understood.
    """
    stream = deepcopy(stream)
    faults: list[dict[int, Fault]] = [{} for _ in range(_KINDS)]
    whole = [0] * _KINDS
    for number, (at, size) in enumerate(zip(offsets.tolist(), sizes.tolist(), strict=True)):
        found = _follow_sample(data[at : at + size].tobytes(), stream, whole)
        if found is not None:
            kind, place, spared = found
            faults[kind][number] = Fault(at + place, spared)
    return believed(faults, whole), any(whole)


def believed(faults: list[dict[int, Fault]], whole: list[int], one_form: bool = False) -> dict[int, Fault]:
    """Those of the faults, by kind of slice, that are damage and not a stream that is not understood.

    With ``one_form`` a kind has no forms that may be understood apart, so that as many whole ones as not will do.
    """
    found: dict[int, Fault] = {}
    understood = sum(whole) > 2 * sum(map(len, faults))
    for kind, places in enumerate(faults):
        if len(places) < whole[kind] + (one_form and understood and whole[kind] > 0):
            found |= places
        elif understood:
            found |= {number: fault for number, fault in places.items() if fault.spared >= _UNDERSTOOD}
    return found


def _follow_sample(sample: bytes, stream: VideoStream, whole: list[int]) -> tuple[int, int, float] | None:
    """(kind of slice, place, share spared) of the first fault; None where there is none. Counts whole slices by kind."""
    slices: list[Followed] = []
    place, kind = -1, 0
    for start, unit in units(sample, stream.prefix):
        kind_of_unit = stream.unit_type(unit[:2])
        if kind_of_unit in stream.parameters:
            stream.add(unit)
        if kind_of_unit not in stream.slices:
            continue
        found = _follow(unit, stream)
        if found is None:
            return None
        # A slice that leaves macroblocks out is as good a sign as one that breaks: the one before ended too early.
        gap = bool(slices) and found.address > slices[-1].address + slices[-1].macroblocks
        if place < 0 and (not found.whole or gap):
            kind, place = found.kind, start + (0 if found.whole else found.at)
        whole[found.kind] += found.whole
        slices.append(found)
    if not slices:
        return None
    last = slices[-1]
    if place < 0:
        if last.address + last.macroblocks >= last.of:
            return None
        kind, place = last.kind, len(sample) - 1
    return kind, place, _spared(slices)


def _spared(slices: list[Followed]) -> float:
    """The share of the picture that is in slices that are whole, or comes before what breaks the others."""
    good = 0.0
    for found, following in zip(slices, [s.address for s in slices[1:]] + [slices[-1].of], strict=True):
        # A broken slice may have been read into what belongs to the next one.
        own = min(found.macroblocks, max(0, following - found.address))
        good += own * (1.0 if found.whole else found.at / (found.at + _DELAY))
    return min(1.0, good / slices[-1].of)


def spared_before(data: NDArray[np.uint8], stream: VideoStream, fault: int) -> float:
    """The share of a sample's picture that its slices make before byte ``fault`` of it, ``data``; 0 where not known."""
    good, of = 0, 1
    for _, unit in units(data[:fault].tobytes(), stream.prefix):
        if stream.unit_type(unit[:2]) in stream.slices:
            found = _follow(unit, stream)
            if found is None:
                return 0.0
            good, of = good + found.macroblocks, found.of
    return min(1.0, good / of)


def still_fault(sample: bytes, stream: VideoStream) -> int | None:
    """The byte of a picture of its own where its slices stop making sense; None where they do not, or from the first.

    No other picture shows that the stream is understood, so a part of it must have been read before the fault.
    """
    found = _follow_sample(sample, deepcopy(stream), [0] * _KINDS)
    return found[1] if found is not None and found[2] >= _UNDERSTOOD else None


def reads_whole(sample: bytes, stream: VideoStream) -> bool | None:
    """Whether all slices of a sample are whole; None where they cannot be followed."""
    stream, whole = deepcopy(stream), [0] * _KINDS
    found = _follow_sample(sample, stream, whole)
    return found is None and any(whole) if found is not None or any(whole) else None


def ends_whole(sample: bytes, stream: VideoStream) -> bool | None:
    """Whether the last slice of a sample is whole and ends where the picture does; None where it cannot be followed.

    It costs a part of ``reads_whole``, and what decoders must know to read one slice they must know for all.
    """
    stream, last = deepcopy(stream), b""
    for _, unit in units(sample, stream.prefix):
        kind = stream.unit_type(unit[:2])
        if kind in stream.parameters:
            stream.add(unit)
        elif kind in stream.slices:
            last = unit
    found = _follow(last, stream) if last else None
    return found.whole and found.address + found.macroblocks >= found.of if found is not None else None


def _follow(unit: bytes, stream: VideoStream) -> Followed | None:
    return follow_slice(unit, stream) if isinstance(stream, AvcStream) else follow_segment(unit, stream)


def units(sample: bytes, prefix: int) -> Iterator[tuple[int, bytes]]:
    """The units of a sample of which more than a header is there, each with its place in it."""
    at = 0
    while at + prefix < len(sample):
        length = int.from_bytes(sample[at : at + prefix], "big")
        at += prefix
        unit = sample[at : at + length]
        if len(unit) > 2:
            yield at, unit
        at += length
