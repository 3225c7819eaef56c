"""Steps in level that a decoder's lost DC difference leaves behind: in its own row all right of a place, in the next row all left
of it. An edge of the subject seldom has that shape, and seldom is it of one height all along.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.colours import levels_shown
from jugal.kernels.stairs import stair_heights

#: From the median distance from the median to a standard deviation.
MAD_TO_DEVIATION = 1.4826
#: Differences that tell well enough how all of them vary.
_ENOUGH = 1 << 18
#: What a step near the picture's side counts: an edge of the subject that lies along a row of MCUs looks the same. Of fewer MCUs
#: than so many a part of a step tells nothing.
AT_SIDE, SIDE = 0.4, 3
#: Deviations beyond which none of an edge counts, the least of them, and of rows' means; samples from which they are learnt.
_CAP, _LEAST_DEVIATION, _LEAST_USUAL, _SAMPLES = 3.0, 0.25, 0.08, 4096
#: A step that nothing else tells of: its height in deviations of an edge, the levels it must be of to show, and its height times
#: what it is in changes usual between rows.
LEAST_HEIGHT, LEAST_LEVELS, _TOGETHER = 1.2, 6.0, 5.5
#: Columns from the sides within which more is asked, as a share of the row and at least.
_MARGIN, _LEAST_MARGIN = 0.1, 6
#: How alike the heights of both parts of a step must be, and how quiet the rests of its rows, as shares of its height.
_EVEN, _QUIET = 0.55, 0.45
#: Within a step differences vary as they do around it, so many times as much at most, or by such a share of its levels; but one so
#: high may be that of other MCUs altogether.
_VARY, _VARY_SHARE, _PLAIN = 2.0, 0.15, 2.5
#: By which share of its levels the parts of a step near a side may differ, and by how many levels where all is flat.
_ALIKE, _EXACT = 0.25, 0.5
#: Of a row that is flat so many MCUs are like the one before, and of one that is another thing so many more or fewer.
_FLAT, _UNLIKE = 0.5, 0.25
#: By which shares of its levels the parts of an exact step may differ, and it may vary.
_EXACT_APART, _EXACT_SPREAD = 0.2, 0.15
#: Height of a step in mean levels from which the pixels are looked at, and how many places a picture has looked at.
_SUSPECT, _MOST_SUSPECTS = 1.0, 2


@dataclass(frozen=True, slots=True)
class Step:
    """A step in level at MCU number ``unit``: its height in deviations of an edge, in what is usual between rows, and in levels as
    they show.

    It is ``clean`` where both its parts are of the same height, what lies beside them in the same rows is quiet, and it varies no
    more than its surroundings or is very high. ``apart`` are the levels by which the parts differ, ``spread`` those by which it varies.
    """

    unit: int
    height: float
    unusual: float
    levels: float
    clean: bool = True
    apart: float = 0.0
    spread: float = 0.0


def level_steps(
    steps: list[NDArray[np.float32]],
    width: int,
    first: int,
    at_side: Sequence[float] = (AT_SIDE,),
    least: float = -1.0,
    most: int = 1,
) -> list[Step]:
    """The clearest steps in level by each component, ``most`` of each at most and the highest first: edges of a row's length that are
    all off by the same amount, and none around them.

    ``steps`` are the differences to the row above by component, the first of which is that of MCU number ``first``. What begins
    near the picture's sides counts ``at_side``, those by the first of several weights before those by the next. Steps lower than
    ``least`` deviations are left out.
    """
    parts = steps[:3]
    if not parts or parts[0].size < 2 * width or width < 8:
        return []
    near = [(column - first) % width for column in (*range(SIDE), *range(width - SIDE + 1, width))]
    found: list[tuple[int, Step]] = []
    usual = [max(_LEAST_DEVIATION, _deviation(p[:: 1 + p.size // _ENOUGH])) for p in parts]
    for c, part in enumerate(parts):
        heights = _clip(part.copy())
        by_row = heights[: heights.size // width * width].reshape(-1, width).mean(axis=1)
        stair_heights(heights, width, first, SIDE, 1.0, least, heights)
        for turn, weight in enumerate(at_side):
            # Of a large picture they are many: the last may be overwritten.
            weighed = heights if turn + 1 == len(at_side) else heights.copy()
            for begin in near:
                some = weighed[begin::width]
                some[some > 0] *= np.float32(weight)
            for _ in range(most):
                at = int(np.argmax(weighed))
                if weighed[at] < least:
                    break
                found.append((turn, _stair(parts, usual, c, by_row, width, first, at, float(weighed[at]))))
                weighed[max(0, at - width + 1) : at + width] = -np.inf
    return [step for _, step in sorted(found, key=lambda one: (one[0], -one[1].height))]


def _stair(
    parts: list[NDArray[np.float32]],
    usual: list[float],
    c: int,
    by_row: NDArray[np.float32],
    width: int,
    first: int,
    at: int,
    height: float,
) -> Step:
    """The stair at place ``at`` in component ``c`` of differences to the row above, which vary by ``usual``, and whose means ``by_row`` are
    in deviations; the first of them is that of MCU number ``first``."""
    values = parts[c]
    levels = abs(_median(values[at : at + width]))
    clean = _is_clean(values, width, first, at, levels)
    turn = at + width - (first + at) % width
    halves = [(p[at:turn], p[turn : at + width]) for p in parts]
    middles = [[_median(half) if half.size else 0.0 for half in pair] for pair in halves]
    longer = 0 if 2 * (turn - at) >= width else 1
    spreads = [_deviation(p[at : at + width]) for p in parts]
    shown = levels_shown([m[longer] for m in middles])
    even = height > _PLAIN or all(
        spread <= max(_VARY * most, _VARY_SHARE * shown) for spread, most in zip(spreads, usual, strict=True)
    )
    unusual = height / _usual_change(by_row, at // width)
    apart = levels_shown([m[0] - m[1] for m in middles])
    return Step(first + at, height, unusual, shown, clean and even, apart, max(spreads))


def _is_clean(values: NDArray[np.float32], width: int, first: int, at: int, levels: float) -> bool:
    """Whether both parts of the stair at place ``at`` are of one height and the rests of its two rows are quiet."""
    row = at - (first + at) % width
    parts = values[at : row + width], values[row + width : at + width]
    rests = values[max(0, row) : at], values[at + width : row + 2 * width]
    heights = [_median(part) for part in parts if part.size >= SIDE]
    even = min(heights) * max(heights) > 0 and min(map(abs, heights)) > _EVEN * max(map(abs, heights))
    return even and all(abs(_median(rest)) < _QUIET * levels for rest in rests if rest.size >= SIDE)


def _median(values: NDArray[np.floating]) -> float:
    return float(np.median(values))


def _deviation(values: NDArray[np.floating]) -> float:
    return MAD_TO_DEVIATION * _median(np.abs(values - np.median(values)))


def _clip(values: NDArray[np.float32]) -> NDArray[np.float32]:
    """``values``, which are overwritten, in deviations from their middle, none counted beyond the cap."""
    some = values[:: max(1, values.size // _SAMPLES)]
    middle, deviation = float(np.median(some)), max(_LEAST_DEVIATION, _deviation(some))
    values -= middle
    values /= deviation
    return np.clip(values, -_CAP, _CAP, out=values)


def _usual_change(means: NDArray[np.float32], row: int) -> float:
    """By how much the means of rows change from one to the next, but for those near a stair in number ``row``: few change by more."""
    changes = np.abs(np.diff(means))
    rest = np.concatenate((changes[: max(0, row - 1)], changes[row + 2 :]))
    return max(_LEAST_USUAL, float(np.quantile(rest, 0.9))) if rest.size > 2 else 1.0


def peaks(values: NDArray[np.float32], least: float, apart: int, where: NDArray[np.bool_] | None = None) -> list[int]:
    """Where ``values`` reach ``least``, more than 0, and are largest within the next ``apart``; of those ``where`` that is true only."""
    high = np.flatnonzero(values >= least)
    high = high if where is None else high[where[high]]
    found: list[int] = []
    number = 0
    while number < high.size:
        start = int(high[number])
        some = slice(start, start + apart)
        found.append(start + int(np.argmax(values[some] if where is None else values[some] * where[some])))
        number = int(np.searchsorted(high, found[-1] + apart))
    return found


def suspects(planes: list[NDArray[np.float32]]) -> list[int]:
    """MCUs at which the mean levels look like a step, the likeliest first: few, and most of them nothing."""
    width = planes[0].shape[1]
    if width < 8 or planes[0].shape[0] < 4:
        return []
    found: list[tuple[float, int]] = []
    for plane in planes[:3]:
        flat = plane.reshape(-1)
        heights = _clip(flat[width:] - flat[:-width])
        stair_heights(heights, width, width, SIDE, AT_SIDE, _SUSPECT, heights)
        found += [(float(heights[k]), width + k) for k in peaks(heights, _SUSPECT, width)]
    chosen: list[int] = []
    for _, unit in sorted(found, reverse=True):
        if all(abs(unit - other) > width // 2 for other in chosen):
            chosen.append(unit)
    return chosen[:_MOST_SUSPECTS]


def stands_out(step: Step) -> bool:
    """Whether a step is so clear that it is damage though nothing else tells of any, if it is no part of the subject."""
    unlike_rows = step.height * step.unusual > _TOGETHER or is_exact(step)
    return step.clean and step.height > LEAST_HEIGHT and unlike_rows and step.levels > LEAST_LEVELS


def is_exact(step: Step) -> bool:
    """Whether both parts of a step are of one height and it hardly varies: what a lost difference leaves behind to the level."""
    return step.apart <= _EXACT_APART * step.levels and step.spread <= _EXACT_SPREAD * step.levels


def is_inside(step: Step, width: int, units: int) -> bool:
    """Whether a step in a picture of ``units`` MCUs, ``width`` a row, is no part of the subject by its place.

    What begins at the picture's sides may be one, near them what is not of one height, and where no two rows follow.
    """
    beside = min(step.unit % width, width - step.unit % width)
    margin = max(_LEAST_MARGIN, int(_MARGIN * width))
    of_a_piece = beside >= margin or (beside >= SIDE and step.apart <= _ALIKE * step.levels)
    return of_a_piece and step.unit + 2 * width <= units


def is_flat_row(planes: list[NDArray[np.float32]], begin: int) -> bool:
    """Whether a row's length of MCUs from ``begin`` on is flat in all components: a part of the subject or a gap that was filled."""
    return _flat_share(planes, begin) > _FLAT


def _flat_share(planes: list[NDArray[np.float32]], begin: int) -> float:
    width = planes[0].shape[1]
    return min(float((np.diff(p.reshape(-1)[begin : begin + width]) == 0).mean()) for p in planes[:3])


def parts_subject(planes: list[NDArray[np.float32]], step: Step) -> bool:
    """Whether what follows a step is another thing than what is above it: one of them is flat and the other is not. Where both are a
    step is a part of the subject unless it is the same all along."""
    below, above = (_flat_share(planes, begin) for begin in (step.unit, max(0, step.unit - planes[0].shape[1])))
    unlike = (below > _FLAT) != (above > _FLAT) and abs(below - above) > _UNLIKE
    return unlike or (min(below, above) > _FLAT and max(step.apart, step.spread) > _EXACT)
