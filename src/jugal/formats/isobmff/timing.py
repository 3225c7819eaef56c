"""When each found sample plays: picture order counts for the video, the interleaving for the sound beside it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.lanes import Picture
from jugal.formats.isobmff.video import VideoStream
from jugal.kernels.visual import B

#: Rates that cameras and phones write, in frames a second.
RATES = (23.976, 24, 25, 29.97, 30, 47.952, 48, 50, 59.94, 60, 100, 119.88, 120, 239.76, 240)
_FARTHEST = 16
#: Chunks looked at on each side of a gap.
_LOOK = 100
#: Chunks next to a gap whose picture's place in time may be off by the reordering of pictures.
_UNSETTLED = 4


@dataclass(slots=True)
class Schedule:
    """Decoding times and composition offsets of the video samples, both in frames from the first."""

    decode: NDArray[np.int64]
    offset: NDArray[np.int64]


def _unwrapped(pictures: list[Picture], first: int, last: int, span: int) -> NDArray[np.int64]:
    """Picture order counts of one epoch: each as near as its low bits allow to the last reference picture's."""
    counts = np.zeros(last - first, np.int64)
    anchor = 0
    for k in range(first, last):
        low = pictures[k].first.order or 0
        count = low if k == first else anchor + (low - anchor + span // 2) % span - span // 2
        counts[k - first] = count
        if pictures[k].first.reference:
            anchor = count
    return counts


def _epochs(pictures: list[Picture], breaks: set[int]) -> list[tuple[int, int]]:
    """Stretches in which picture order counts go on: from each IDR picture, and after a gap where they start anew."""
    starts = [0]
    for k in range(1, len(pictures)):
        head, before = pictures[k].first, pictures[k - 1].first
        lost_start = k in breaks and not head.idr and (head.order or 0) + _FARTHEST < (before.order or 0)
        if head.idr or lost_start:
            starts.append(k)
    return [(a, b) for a, b in zip(starts, [*starts[1:], len(pictures)], strict=True)]


def schedule(stream: VideoStream, pictures: list[Picture], breaks: set[int], donor_length: int = 0) -> Schedule:
    """Places every picture. ``breaks`` are the numbers of samples that follow a gap, where some may be lost;
    ``donor_length`` is the donor's regular distance of sync samples, 0 where it has none.

    Picture order counts tell how many: within an epoch the distance of two pictures is the distance of their counts.
    """
    count = len(pictures)
    if not count or pictures[0].first.order is None:
        return _by_numbers(pictures, breaks, donor_length)
    epochs = _epochs(pictures, breaks)
    span = max(2, stream.order_range(pictures[0].first))
    all_counts = [_unwrapped(pictures, a, b, span) for a, b in epochs]
    step = _step(all_counts)
    decode, offset = np.zeros(count, np.int64), np.zeros(count, np.int64)
    base, usual = 0, _usual_length(epochs, breaks, donor_length)
    for number, ((first, last), counts) in enumerate(zip(epochs, all_counts, strict=True)):
        lowest = int(counts.min())
        if first in breaks and not pictures[first].first.idr:
            lowest = min(lowest, 0)
        place = (counts - lowest) // step
        if np.unique(place).size != place.size or place.max() > 64 * place.size + 4096:
            place = np.argsort(np.argsort(counts, kind="stable"), kind="stable")
        times = np.sort(place)
        decode[first:last] = base + times
        offset[first:last] = place - times
        length = int(times[-1]) + 1
        open_end = number + 1 < len(epochs) and last in breaks
        base += max(length, usual) if open_end and usual else length
    return Schedule(decode, offset)


def _usual_length(epochs: list[tuple[int, int]], breaks: set[int], donor_length: int) -> int:
    """Pictures from one IDR picture to the next where that is regular; 0 where it is not."""
    whole = [b - a for a, b in epochs[:-1] if not any(k in breaks for k in range(a + 1, b + 1))]
    if len(whole) < 3:
        return donor_length if all(length == donor_length for length in whole) else 0
    values, counts = np.unique(whole, return_counts=True)
    best = int(np.argmax(counts))
    return int(values[best]) if counts[best] >= 0.6 * len(whole) else 0


def regular_distance(sync: NDArray[np.bool_]) -> int:
    """Samples from one sync sample to the next where that is the same throughout; 0 where it is not."""
    steps = np.diff(np.flatnonzero(sync))
    return int(steps[0]) if steps.size and (steps == steps[0]).all() else 0


def _step(all_counts: list[NDArray[np.int64]]) -> int:
    """By how much the picture order count grows from one picture to the next shown: 1 or 2 as a rule."""
    steps = np.concatenate([np.diff(np.sort(c)) for c in all_counts]) if all_counts else np.zeros(0, np.int64)
    steps = steps[steps > 0]
    if not steps.size:
        return 1
    values, counts = np.unique(steps, return_counts=True)
    return int(values[np.argmax(counts)])


def _by_numbers(pictures: list[Picture], breaks: set[int], donor_length: int) -> Schedule:
    """Streams shown in decoding order: frame numbers tell what a gap has taken."""
    decode = np.arange(len(pictures), dtype=np.int64)
    epochs = _epochs(pictures, breaks)
    begins = {last: first for first, last in epochs}
    usual = _usual_length(epochs, breaks, donor_length)
    for k in sorted(breaks):
        if not 0 < k < len(pictures):
            continue
        if pictures[k].first.idr:
            gone = usual - int(decode[k - 1] - decode[begins[k]]) - 1 if k in begins else 0
        else:
            gone = pictures[k].first.number - pictures[k - 1].first.number - 1
        if 0 < gone < 64:
            decode[k:] += gone
    return Schedule(decode, np.zeros(len(pictures), np.int64))


def reordered(kinds: NDArray[np.int64]) -> NDArray[np.int64]:
    """How much later than it is decoded each plane of MPEG-4 Visual is shown, in frames: B planes come before the I or P
    plane that was decoded last (ISO/IEC 14496-2 6.1.3.6)."""
    order: list[int] = []
    waiting = -1
    for number, kind in enumerate(kinds.tolist()):
        if kind == B:
            order.append(number)
            continue
        if waiting >= 0:
            order.append(waiting)
        waiting = number
    if waiting >= 0:
        order.append(waiting)
    shown = np.empty(kinds.size, np.int64)
    shown[order] = np.arange(kinds.size)
    return shown - np.arange(kinds.size)


def frame_duration(timescale: int, donor: float, frames: int, sound_seconds: float, whole: bool) -> tuple[float, bool]:
    """Ticks a frame lasts, and whether the donor's rate was kept.

    Where nothing is missing and the sound beside the picture lasts clearly longer or shorter than the donor's rate
    makes the picture, the sound's clock decides, set to a usual rate where one is near.
    """
    if not (whole and frames > 20 and sound_seconds > 2):
        return donor, True
    expected = frames * donor / timescale
    if abs(expected - sound_seconds) <= max(0.5, 0.03 * sound_seconds):
        return donor, True
    rate = frames / sound_seconds
    near = min(RATES, key=lambda r: abs(r / rate - 1))
    return timescale / (near if abs(near / rate - 1) < 0.02 else rate), False


def _middle(lag: NDArray[np.float64]) -> float:
    """The middle of the range that a muxer's rule lets the distance run through, the odd ones at a gap left out."""
    low, high = np.quantile(lag, (0.25, 0.75))
    return float(low + high) / 2


def lost_sound(
    starts: NDArray[np.float64], picture: NDArray[np.float64], after: NDArray[np.bool_], unit: float
) -> NDArray[np.int64]:
    """How many sound frames of ``unit`` seconds are missing right before each chunk.

    ``starts`` are the chunks' times in seconds by counting, ``picture`` the time of the picture next to each,
    ``after`` says which chunks follow a gap. The distance between both is the same throughout a file.
    """
    lost = np.zeros(starts.size, np.int64)
    lag = starts - picture
    for k in np.flatnonzero(after):
        before, behind = lag[max(0, k - _LOOK) : k], lag[k : k + _LOOK]
        if not before.size or not behind.size:
            continue
        if before.size > 3 * _UNSETTLED:
            before = before[:-_UNSETTLED]
        if behind.size > 3 * _UNSETTLED:
            behind = behind[_UNSETTLED:]
        gone = round((_middle(before) - _middle(behind)) / unit)
        if gone > 0:
            lost[k] = gone
            lag[k:] += gone * unit
    return lost
