"""Where a decoded picture breaks, for damage that raises no error at once.

After bytes were lost or replaced the decoder finds its footing again, but what follows stands in the wrong place or counts
from a wrong level. From the break on the MCUs of one row's length do not go on from those above them, and none before: in
its own row all right of the break, in the next row all left of it. An edge of the subject seldom has that shape.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.decode import Picture
from jugal.formats.jpeg.edges import Edges
from jugal.formats.jpeg.parse import Structure
from jugal.kernels.stairs import stair_heights, stairs

#: From the median distance from the median to a standard deviation.
MAD_TO_DEVIATION = 1.4826
#: Classes of distance between pixel rows by which neighbours are told from strangers, what one edge may say at most, in
#: nats, and what an edge of a chroma component counts against one of luma.
_CLASSES, _MOST_SAID, _CHROMA = 12, 1.5, 0.5
#: Pairs of strangers from which anything is learnt, rows of MCUs on both sides of a break by which it is told whether the rest
#: is strange in itself, and by how many nats strangers must differ from neighbours for that.
_LEAST_STRANGERS, _ROWS_TOLD, _LEAST_ROOM = 100, 4, 0.6
#: Nats an MCU of a row's length from which it is broken, and what share of the clearest break another must reach.
_BROKEN, _AS_CLEAR, _AS_CLEAR_AT_CLUSTER = 0.35, 0.5, 0.4
#: Strangeness of the rest by which another picture's bytes are told.
STRANGE = 0.75
#: What a break near the picture's side counts: an edge of the subject that lies along a row of MCUs looks the same.
AT_SIDE, _SIDE = 0.4, 3
#: Nats that the boundary of a sector and of a cluster in its bytes give to an MCU, and how many MCUs behind it a break may be
#: noticed, since a decoder does not fail at once.
_SECTOR_BONUS, _CLUSTER_BONUS, _NOTICED = 2.5, 2.0, 6
#: A step in level: its height in deviations of an edge, none counted beyond the cap, and in what rows differ by among
#: themselves; where damage is certain and only its place is asked, and where nothing else tells of it. Then both
#: together count, and it must be of so many levels that it shows.
_CAP, _LEAST_DEVIATION, _LEAST_USUAL, _SAMPLES = 3.0, 0.25, 0.08, 4096
_KNOWN_STEP, _SILENT_STEP, _LEAST_MARGIN = (1.8, 2.5), (1.2, 5.5, 6.0), 6
#: How alike the heights of both parts of a step must be, and how quiet the rests of its rows, as shares of its height.
_EVEN, _QUIET = 0.55, 0.45
#: Height of a step in mean levels from which the pixels are looked at, and how many places a picture has looked at.
_SUSPECT, _MOST_SUSPECTS = 1.0, 2


@dataclass(frozen=True, slots=True)
class Step:
    """A step in level at MCU number ``unit``: its height in deviations of an edge, in what is usual between rows, in levels.

    It is ``clean`` where both its parts are of the same height and what lies beside them in the same rows is quiet.
    """

    unit: int
    height: float
    unusual: float
    levels: float
    clean: bool = True


def level_planes(picture: Picture, structure: Structure) -> list[NDArray[np.float32]]:
    """Per component the mean level of each MCU (rows, MCUs a row), in levels of eight bits about mid-grey."""
    planes, unit = [], 8.0 * 2.0 ** (picture.frame.precision - 8)
    for component, plane in zip(picture.frame.components, picture.dc, strict=True):
        quant = structure.quant.get(component.tq)
        step = float(quant[0]) if quant is not None else 8.0
        rows, cols = picture.frame.mcus_y, picture.frame.mcus_x
        mean = plane.reshape(rows, component.v, cols, component.h).mean(axis=(1, 3))
        planes.append((mean * (step / unit)).astype(np.float32))
    return planes


def find_break(edges: Edges, byte_at: NDArray[np.int64]) -> int | None:
    """The first MCU from which on a picture that is damaged for certain does not go on; None where none stands out.

    ``byte_at`` is the raw offset of each MCU: a break at the boundary of a cluster is the likelier one.
    """
    found = [unit for unit in (_first_stranger(edges, byte_at), _known_step(edges)) if unit is not None]
    return min(found, default=None)


def _first_stranger(edges: Edges, byte_at: NDArray[np.int64]) -> int | None:
    """Where MCUs begin to meet the ones above as strangers do, not as neighbours."""
    width = edges.width
    said = _said_by_edges(edges)
    if said.size < width + 8:
        return None
    # Near the end of what was read there are fewer edges to say it.
    seen = np.minimum(width, np.arange(said.size, 0, -1))
    means, before, behind = (np.empty(said.size) for _ in range(3))
    stairs(said, width, edges.first, _SIDE, means, before, behind)
    clear = np.minimum(seen * means, seen * means - width * before)
    units = edges.first + np.arange(said.size)
    first, last = byte_at[units - 1], byte_at[np.minimum(units, byte_at.size - 1)]
    cluster, sector = (last // 4096 > first // 4096), (last // 512 > first // 512)
    at_cluster = np.convolve(cluster, np.ones(_NOTICED + 3))[2 : 2 + cluster.size] > 0
    # An edge of the subject that lies along a row of MCUs looks like a break at the picture's side.
    beside = np.minimum(units % width, width - units % width) < _SIDE
    clear[beside & ~at_cluster] *= AT_SIDE
    most, apart = float(clear.max()), max(2, width // 2)
    peaks = _peaks(clear, max(_AS_CLEAR * most, _BROKEN * width), apart)
    aligned = _peaks(np.where(at_cluster, clear, 0.0), max(_AS_CLEAR_AT_CLUSTER * most, _BROKEN * width), apart)
    if not peaks and not aligned:
        return None
    peak = (aligned or peaks)[0]
    near = max(0, peak - _NOTICED)
    weighed = (clear + _SECTOR_BONUS * sector + _CLUSTER_BONUS * cluster)[near : peak + 3]
    return int(edges.first + near + int(np.argmax(weighed)))


def _said_by_edges(edges: Edges) -> NDArray[np.float64]:
    """Per MCU how its upper edge speaks for strangers, in nats; most MCUs of the picture are neighbours."""
    said = np.zeros(edges.apart[0].size)
    for c, (apart, strange) in enumerate(zip(edges.apart[:3], edges.strange[:3], strict=True)):
        if apart.size >= edges.width and strange.size >= _LEAST_STRANGERS:
            said += _Classes(apart, strange).said(apart) * (_CHROMA if c else 1.0)
    return said


class _Classes:
    """What a distance at an edge says: the log of how much likelier it is between strangers than between neighbours.

    Learnt from both in the picture itself: where it is so flat that they look alike, nothing is said.
    """

    def __init__(self, neighbours: NDArray[np.float32], strangers: NDArray[np.float32]) -> None:
        both = np.concatenate((neighbours, strangers))
        self._borders = np.unique(np.quantile(both, np.linspace(0, 1, _CLASSES + 1)[1:-1]))
        classes = self._borders.size + 1
        counts = [np.bincount(np.searchsorted(self._borders, x), minlength=classes) for x in (neighbours, strangers)]
        likely = [(n + 2.0) / (n.sum() + 2.0 * classes) for n in counts]
        # The further apart, the stranger; a class that few edges are in must not say otherwise.
        self._ratio = np.clip(np.maximum.accumulate(np.log(likely[1] / likely[0])), -_MOST_SAID, _MOST_SAID)

    def said(self, distances: NDArray[np.float32]) -> NDArray[np.float64]:
        return np.asarray(self._ratio[np.searchsorted(self._borders, distances)])


def strangeness(edges: Edges, unit: int) -> float:
    """How the MCUs from ``unit`` on meet among themselves: 0 as those before it do, 1 as strangers; 0 where it cannot be told.

    What is displaced still goes on in itself. Bytes of another picture, laid out in rows of this one's length, do not.
    """
    parts = unit - edges.first
    before = Edges(edges.width, edges.first, unit, [a[:parts] for a in edges.apart], [], edges.strange)
    after = Edges(edges.width, unit, edges.end, [a[parts:] for a in edges.apart], [], [])
    return strangeness_of(after, before)


def strangeness_of(edges: Edges, known: Edges) -> float:
    """How all MCUs of ``edges`` meet, measured as in ``strangeness`` by those ``known`` to be the picture's."""
    if edges.apart[0].size < _ROWS_TOLD * edges.width:
        return 0.0
    values = strangers_at(edges, known)
    return 0.0 if values is None else float(values.mean())


def strangers_at(edges: Edges, known: Edges) -> NDArray[np.float64] | None:
    """How each MCU of ``edges`` meets the one above: 0 in the mean of neighbours, 1 in that of strangers, both learnt from
    ``known``. None where these are too few, or meet like strangers themselves."""
    if known.apart[0].size < _ROWS_TOLD * edges.width or not known.strange[0].size:
        return None
    found, room = np.zeros(edges.apart[0].size), 0.0
    for c, (own, apart, strange) in enumerate(zip(known.apart[:3], edges.apart[:3], known.strange[:3], strict=True)):
        classes, weight = _Classes(own, strange), _CHROMA if c else 1.0
        level = float(classes.said(own).mean())
        found += weight * (classes.said(apart) - level)
        room += weight * (float(classes.said(strange).mean()) - level)
    return found / room if room > _LEAST_ROOM else None


def _peaks(values: NDArray[np.float64], least: float, apart: int) -> list[int]:
    """Where ``values`` reach ``least`` and are largest within the next ``apart``."""
    high = np.flatnonzero(values >= least)
    peaks: list[int] = []
    number = 0
    while number < high.size:
        start = int(high[number])
        peaks.append(start + int(np.argmax(values[start : start + apart])))
        number = int(np.searchsorted(high, peaks[-1] + apart))
    return peaks


def _known_step(edges: Edges) -> int | None:
    step = level_step(edges.step, edges.width, edges.first)
    height, unusual = _KNOWN_STEP
    return step.unit if step is not None and step.height > height and step.unusual > unusual else None


def level_step(steps: list[NDArray[np.float32]], width: int, first: int, at_side: float = AT_SIDE) -> Step | None:
    """The clearest step in level: edges of a row's length that are all off by the same amount, and none around them.

    ``steps`` are the differences to the row above by component, the first of which is that of MCU number ``first``. What begins
    near the picture's sides counts ``at_side``.
    """
    best: Step | None = None
    for step in steps[:3]:
        found = _stair(step.astype(np.float64), width, first, at_side)
        if found is not None and (best is None or found.height > best.height):
            best = found
    return best


def _stair(values: NDArray[np.float64], width: int, first: int, at_side: float) -> Step | None:
    """The clearest stair in differences to the row above, the first of which is that of MCU number ``first``."""
    if values.size < 2 * width or width < 8:
        return None
    clipped = _clipped(values)
    heights = _heights(clipped, width, first, at_side)
    best = int(np.argmax(heights))
    height, levels = float(heights[best]), abs(float(np.median(values[best : best + width])))
    clean = _is_clean(values, width, first, best, levels)
    return Step(first + best, height, height / _usual_change(clipped, width, best), levels, clean)


def _is_clean(values: NDArray[np.float64], width: int, first: int, at: int, levels: float) -> bool:
    """Whether both parts of the stair at place ``at`` are of one height and the rests of its two rows are quiet."""
    row = at - (first + at) % width
    parts = values[at : row + width], values[row + width : at + width]
    rests = values[max(0, row) : at], values[at + width : row + 2 * width]
    heights = [float(np.median(part)) for part in parts if part.size >= _SIDE]
    even = min(heights) * max(heights) > 0 and min(map(abs, heights)) > _EVEN * max(map(abs, heights))
    return even and all(abs(float(np.median(rest))) < _QUIET * levels for rest in rests if rest.size >= _SIDE)


def _clipped(values: NDArray[np.float64]) -> NDArray[np.float64]:
    """``values`` in deviations from their middle, none counted beyond the cap."""
    some = values[:: max(1, values.size // _SAMPLES)]
    middle = float(np.median(some))
    deviation = max(_LEAST_DEVIATION, MAD_TO_DEVIATION * float(np.median(np.abs(some - middle))))
    return np.clip((values - middle) / deviation, -_CAP, _CAP)


def _heights(clipped: NDArray[np.float64], width: int, first: int, at_side: float) -> NDArray[np.float64]:
    """How high a stair begins at each MCU, in deviations."""
    heights = np.empty(clipped.size)
    stair_heights(clipped, width, first, _SIDE, at_side, heights)
    return heights


def _usual_change(clipped: NDArray[np.float64], width: int, stair: int) -> float:
    """By how much the means of rows change from one to the next, but for those near a stair: few change by more."""
    means = clipped[: clipped.size // width * width].reshape(-1, width).mean(axis=1)
    changes = np.abs(np.diff(means))
    row = stair // width
    rest = np.concatenate((changes[: max(0, row - 1)], changes[row + 2 :]))
    return max(_LEAST_USUAL, float(np.quantile(rest, 0.9))) if rest.size > 2 else 1.0


def suspects(planes: list[NDArray[np.float32]], at_side: float = AT_SIDE) -> list[int]:
    """MCUs at which the mean levels look like a step, the likeliest first: few, and most of them nothing. What begins near the
    picture's sides counts ``at_side``."""
    width = planes[0].shape[1]
    if width < 8 or planes[0].shape[0] < 4:
        return []
    found: list[tuple[float, int]] = []
    for plane in planes[:3]:
        flat = plane.reshape(-1).astype(np.float64)
        heights = _heights(_clipped(flat[width:] - flat[:-width]), width, width, at_side)
        found += [(float(heights[k]), width + k) for k in _peaks(heights, _SUSPECT, width)]
    chosen: list[int] = []
    for _, unit in sorted(found, reverse=True):
        if all(abs(unit - other) > width // 2 for other in chosen):
            chosen.append(unit)
    return chosen[:_MOST_SUSPECTS]


def stands_out(step: Step) -> bool:
    """Whether a step is so clear that it is damage though nothing else tells of any, if it is no part of the subject."""
    height, together, levels = _SILENT_STEP
    return step.clean and step.height > height and step.height * step.unusual > together and step.levels > levels


def is_inside(unit: int, width: int, units: int) -> bool:
    """Whether a step at MCU number ``unit`` of ``units``, ``width`` a row, is no part of the subject by its place.

    What begins near the picture's sides may be one, and where no two rows follow.
    """
    margin = max(_LEAST_MARGIN, width // 10)
    return min(unit % width, width - unit % width) >= margin and unit + 2 * width <= units


def is_flat(planes: list[NDArray[np.float32]], unit: int) -> bool:
    """Whether the row of MCUs that begins at ``unit``, or the one above, is flat in all components: a part of the subject or a
    gap that was filled, at whose edges a step tells nothing."""
    width = planes[0].shape[1]
    runs = [
        [float((np.diff(p.reshape(-1)[begin : begin + width]) == 0).mean()) for p in planes[:3]]
        for begin in (unit, max(0, unit - width))
    ]
    return any(min(shares) > 0.5 for shares in runs)


def level_offset(planes: list[NDArray[np.float32]], unit: int, good: int) -> float:
    """How far the levels from MCU ``unit`` on lie from those above, in levels: the worst component's median.

    Only MCUs that have one before number ``good`` above them can tell; infinite where these are too few.
    """
    width = planes[0].shape[1]
    end = min(unit + width, good + width, planes[0].size)
    if unit < width or end - unit < max(4, width // 8):
        return float("inf")
    offsets = []
    for plane in planes[:3]:
        flat = plane.reshape(-1)
        now = np.median(flat[unit:end] - flat[unit - width : end - width])
        # What the picture itself changes from row to row there.
        after_end = min(unit + 2 * width, flat.size)
        rest = flat[unit + width : after_end] - flat[unit : after_end - width]
        offsets.append(abs(float(now - (np.median(rest) if rest.size > 4 else 0.0))))
    return max(offsets)
