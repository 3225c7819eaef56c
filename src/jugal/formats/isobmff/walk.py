"""Finds the samples of a movie in its media data without an index: lanes take turns, gaps are stepped over."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.lanes import Found, FrameLane, Lane, PcmLane, SoundLane, VideoLane, VopLane
from jugal.model.span import ByteSpan

_MAX_GAPS = 20_000
_MAX_TRIES = 64


@dataclass(slots=True)
class Gap:
    """Bytes that belong to no sample, and how many samples each lane had before them."""

    span: ByteSpan
    before: tuple[int, ...]


@dataclass(slots=True)
class Walk:
    """What the walk found."""

    lanes: list[Lane]
    gaps: list[Gap] = field(default_factory=list)

    @property
    def explained(self) -> int:
        """Bytes that belong to samples."""
        return sum(sum(lane.found.sizes) for lane in self.lanes)


def walk(data: NDArray[np.uint8], start: int, end: int, lanes: list[Lane], beside: Sequence[ByteSpan] = ()) -> Walk:
    """Takes all samples from ``start`` to ``end``. Lanes with strong marks must come first, sound after picture.

    In the spans ``beside``, in order, lies no sample for sure: they are passed by and are no gaps.
    """
    result = Walk(lanes)
    anchors = [lane for lane in lanes if isinstance(lane, VideoLane | FrameLane | VopLane)]
    edges = [start, *(edge for span in beside for edge in (span.start, span.end)), end]
    for at, stop in zip(edges[::2], edges[1::2], strict=True):
        _walk_stretch(data, max(start, at), min(stop, end), result, anchors)
    return result


def _walk_stretch(
    data: NDArray[np.uint8], at: int, end: int, result: Walk, anchors: list[VideoLane | FrameLane | VopLane]
) -> None:
    lanes = result.lanes
    while at < end and len(result.gaps) < _MAX_GAPS:
        before = at
        at = _turn(data, at, end, lanes)
        if at > before:
            continue
        counts = tuple(len(lane.found) for lane in lanes)
        at = _step_over(data, at, end, lanes, anchors)
        result.gaps.append(Gap(ByteSpan(before, at), counts))


def _turn(data: NDArray[np.uint8], at: int, end: int, lanes: list[Lane]) -> int:
    """Lets the first lane whose sample begins here take what it can."""
    for lane in lanes:
        stop = lane.take(data, at, end)
        if stop > at:
            return stop
    return at


def _step_over(
    data: NDArray[np.uint8], at: int, end: int, lanes: list[Lane], anchors: list[VideoLane | FrameLane | VopLane]
) -> int:
    """The next place where a sample begins: of the picture, or of coded sound that leads up to it."""
    quiet = next((lane for lane in lanes if isinstance(lane, PcmLane)), None)
    goal = min((_next(data, at + 1, end, lane, quiet) for lane in anchors), default=end)
    for lane in lanes:
        if isinstance(lane, SoundLane):
            hit = lane.seek_to(data, at + 1, goal, goal if goal < end else -1, end)
            goal = min(goal, hit)
        elif isinstance(lane, PcmLane):
            if at < lane.before(goal) < goal < end:
                goal = lane.before(goal)
        elif isinstance(lane, VideoLane | FrameLane | VopLane):
            continue
        else:
            goal = min(goal, lane.seek(data, at + 1, goal))
    return goal


def _next(
    data: NDArray[np.uint8], at: int, end: int, anchor: VideoLane | FrameLane | VopLane, quiet: PcmLane | None
) -> int:
    """The next picture; among uncompressed sound one that such sound and further pictures follow."""
    goal = anchor.seek(data, at, end)
    for _ in range(_MAX_TRIES):
        if (
            goal >= end
            or quiet is None
            or not isinstance(anchor, VideoLane)
            or quiet.confirmed(anchor, data, goal, end)
        ):
            break
        goal = anchor.seek(data, goal + 1, end)
    return goal


def deal_out(found: Found, lanes: list[SoundLane], per_chunk: int) -> None:
    """Samples of two and more sound tracks of one kind, taken by the first lane, shared among all of them.

    A run without a break holds either one chunk of every track, or chunks of ``per_chunk`` samples in turns; whoever
    has fewer samples so far comes first.
    """
    offsets, sizes = np.array(found.offsets, np.int64), np.array(found.sizes, np.int64)
    shares = [Found() for _ in lanes]
    edges = np.flatnonzero(np.append(True, offsets[1:] != offsets[:-1] + sizes[:-1]))
    for first, last in zip(edges, [*edges[1:], offsets.size], strict=True):
        each = per_chunk if per_chunk * len(lanes) < 0.75 * (last - first) else -(-(last - first) // len(lanes))
        at = int(first)
        while at < last:
            share = min(shares, key=len)
            for k in range(at, min(at + each, int(last))):
                share.add(int(offsets[k]), int(offsets[k] + sizes[k]))
            at += each
    for lane, share in zip(lanes, shares, strict=True):
        lane.found = share
