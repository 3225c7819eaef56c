"""Where a decoded picture breaks: found in its DC values, for damage that raises no error at once.

After a cluster was lost or replaced, the decoder finds its footing again but what follows stands in the wrong
place or has the wrong level. One row of MCUs then contrasts with the row above it, beginning at the break.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.decode import Picture
from jugal.formats.jpeg.parse import Structure
from jugal.kernels.planes import stair_likeness

#: From the median distance from the median to a standard deviation.
MAD_TO_DEVIATION = 1.4826
#: How much rougher than elsewhere a picture may go on across a step.
_CONTINUES = 1.4
#: Rows that show a seam on each side of where it begins, rows looked at before it, and by how many deviations of the mean
#: its column contrasts more than before: by chance some five in a whole picture.
_SEAM_ROWS, _SEAM_LOOK, _SEAM_SURE = 6, 24, 6.5
#: MCUs that may be misread before decoding is in step again.
_MISREAD = 4
#: Levels by which a step must change to be told from what pictures do.
_STEP = 5.0
_CAP = 60.0  # levels; one sharp edge in the picture shall not outweigh a row


@dataclass(frozen=True, slots=True)
class Break:
    """A break at MCU number ``unit``; ``contrast`` against ``usual``, what the picture has from row to row."""

    unit: int
    contrast: float
    usual: float

    def marked(self, certain: bool) -> bool:
        """Whether it stands out enough; where damage is ``certain`` anyway and only its place is asked, less will do."""
        return self.contrast > (0.45 if certain else 0.6) * self.usual


def level_planes(picture: Picture, structure: Structure) -> list[NDArray[np.float32]]:
    """Per component the mean level of each MCU (rows, MCUs a row), in sample levels about mid-grey."""
    planes = []
    for component, plane in zip(picture.frame.components, picture.dc, strict=True):
        quant = structure.quant.get(component.tq)
        step = float(quant[0]) if quant is not None else 8.0
        rows, cols = picture.frame.mcus_y, picture.frame.mcus_x
        mean = plane.reshape(rows, component.v, cols, component.h).mean(axis=(1, 3))
        planes.append((mean * (step / 8.0)).astype(np.float32))
    return planes


def row_contrast(planes: list[NDArray[np.float32]]) -> NDArray[np.float32]:
    """Per MCU the difference to the MCU above, in units of what is usual in this picture, all components summed.

    Capped at what unrelated places of the picture differ by: an edge of the subject tells no more than that.
    """
    width = planes[0].shape[1]
    out = np.zeros(planes[0].size, np.float32)
    for plane in planes[:3]:
        flat = plane.reshape(-1)
        vertical = np.abs(flat[width:] - flat[:-width])
        usual = max(0.7, float(np.median(vertical)))
        shift = width + width // 3 + 1
        unrelated = float(np.median(np.abs(flat[shift:] - flat[:-shift]))) if flat.size > 2 * shift else usual
        out[width:] += np.minimum(vertical / usual, max(2.0, 1.6 * unrelated / usual))
    return out


def find_break(
    planes: list[NDArray[np.float32]], low: int, high: int, byte_at: NDArray[np.int64] | None = None
) -> Break | None:
    """The most marked break at an MCU number in ``low..high``; None where there is too little to compare.

    A break looks like a stair: in its row everything right of it contrasts with the row above, in the next row
    everything left of it, and nothing else does. An edge of the subject has not that shape. ``byte_at`` (raw
    offset per MCU) lets breaks at sector and cluster boundaries weigh more.
    """
    width = planes[0].shape[1]
    contrast = row_contrast(planes)
    low, high = max(low, width), min(high, contrast.size - 1)
    if high - low < 1 or width < 4:
        return None
    usual = max(0.25, float(np.median(contrast[width : max(high, width + 1)])))
    total = np.concatenate(([0.0], np.cumsum(contrast, dtype=np.float64)))
    at = np.arange(low, high)
    column = at % width
    row = at - column
    # Nothing beyond ``high`` was decoded for sure, so nothing there is compared.
    limit = high + 1

    def mean(start: NDArray[np.int64], end: NDArray[np.int64], empty: float) -> NDArray[np.float64]:
        start, end = np.minimum(start, limit), np.minimum(end, limit)
        count = end - start
        return np.where(count >= 3, (total[end] - total[start]) / np.maximum(1, count), empty)

    stair = np.minimum(mean(at, row + width, np.inf), mean(row + width, at + width, np.inf))
    around = np.maximum(mean(row, at, 0.0), mean(at + width, row + 2 * width, 0.0))
    for before, after in ((-width, 0), (2 * width, 3 * width)):
        around = np.maximum(around, mean(row + before, row + after, 0.0))
    gain = np.where(np.isfinite(stair), stair - around, -1.0)
    # A break in the last few MCUs has no row to be judged by; one at a row's border may be the subject's own edge.
    gain[at + width > limit] = -1.0
    weight = np.ones(at.size)
    weight[np.minimum(column, width - column) < 3] = 0.6
    if byte_at is not None:
        first = byte_at[at - 1]
        last = byte_at[np.minimum(at + 1, byte_at.size - 1)]
        for size, bonus in ((512, 1.15), (4096, 1.1)):
            weight[(last // size) > (first // size)] *= bonus
    ranked = gain * weight
    best = int(np.argmax(ranked))
    if ranked[best] <= 0:
        return None
    # What was put in ends with a stair too: the first of those that stand out counts.
    early = np.flatnonzero(ranked >= 0.5 * ranked[best])
    best = int(early[0]) + int(np.argmax(ranked[early[0] : early[0] + max(2, width // 4)]))
    return Break(int(at[best]), float(gain[best]), usual)


def find_seam(planes: list[NDArray[np.float32]], rows: int) -> int | None:
    """The first of the ``rows`` decoded rows from which on the picture's own left and right edge meet inside it.

    What is displaced by some MCUs carries the picture's edges along: one column of MCUs then contrasts with its
    neighbour in nearly every row to the end, and in none before. Edges of the subject do not begin at once and never end.
    """
    width = planes[0].shape[1]
    if width < 8 or rows < 2 * _SEAM_ROWS:
        return None
    contrast = np.zeros((rows, width - 1), np.float64)
    for plane in planes[:3]:
        across = np.abs(np.diff(plane[:rows].astype(np.float64), axis=1))
        usual = max(0.7, float(np.median(across)))
        contrast += np.minimum(across / usual, 4.0)
    # Sums of contrast over the rows above each, with a row of zeros in front.
    total = np.concatenate((np.zeros((1, width - 1)), np.cumsum(contrast, axis=0)))
    spread = float(contrast.std())
    best, chosen = _SEAM_SURE * spread, None
    for row in range(_SEAM_ROWS, rows - _SEAM_ROWS + 1):
        behind, before = rows - row, min(row, _SEAM_LOOK)
        step = (total[rows] - total[row]) / behind - (total[row] - total[row - before]) / before
        marked = float(step.max()) / np.sqrt(1 / behind + 1 / before)
        if marked > best:
            best, chosen = marked, row
    return chosen


def find_level_step(planes: list[NDArray[np.float32]]) -> int | None:
    """An MCU from which on one component is off by a constant, to the end of the row and into the next; else None.

    One flipped bit in a DC difference does this without any error; a few MCUs misread do it to several components.
    Only steps that start inside a row, that are the same all along and of which nothing shows left of it or a row later
    are believed, and steps of several components only where the picture goes on across them as it does elsewhere.
    """
    width = planes[0].shape[1]
    if width < 24 or planes[0].size < 6 * width:
        return None
    best: tuple[float, int] | None = None
    for plane in planes[:3]:
        flat = plane.reshape(-1).astype(np.float64)
        for start in _stair_candidates(flat, width):
            level = _stair_level(flat, width, start)
            if level <= (best[0] if best else 0.0) or _is_flat(planes, width, start):
                continue
            # One flipped bit shifts one component; an object that begins there shows in the others too.
            others = [p.reshape(-1) for p in planes[:3] if p is not plane]
            moved = any(_moves_too(other, width, start, level) for other in others)
            if not moved or _goes_on(planes, width, start):
                best = (level, start)
    return best[1] if best else None


def _stair_candidates(flat: NDArray[np.float64], width: int, most: int = 12) -> list[int]:
    """MCU numbers at which the mean signed difference to the row above is most like a stair."""
    likeness = np.empty(flat.size)
    stair_likeness(flat, width, _CAP, max(6, width // 10), likeness)
    few = np.flatnonzero(likeness > 2.0)
    if few.size > 40 * most:
        few = few[np.argpartition(likeness[few], -40 * most)[-40 * most :]]
    chosen: list[int] = []
    for i in few[np.argsort(likeness[few])[::-1]].tolist():
        # Neighbours of a candidate tell the same story.
        if all(abs(i - other) > 2 for other in chosen):
            chosen.append(i)
            if len(chosen) == most:
                break
    return chosen


def _is_flat(planes: list[NDArray[np.float32]], width: int, start: int) -> bool:
    """A flat stretch in all components, or one below it, is a part of the subject or a filled gap."""
    runs = [
        [float((np.diff(p.reshape(-1)[begin : begin + width]) == 0).mean()) for p in planes[:3]]
        for begin in (start, start - width)
    ]
    return any(min(shares) > 0.5 for shares in runs)


def _moves_too(flat: NDArray[np.float32], width: int, start: int, level: float) -> bool:
    """Whether another component changes against the row above where a stair was found."""
    row_end = start - start % width + width
    parts = [(start, row_end), (row_end, start + width)]
    return any(
        abs(float(np.median(flat[a:b] - flat[a - width : b - width]))) > max(2.0, 0.3 * level)
        for a, b in parts
        if b > a
    )


def _goes_on(planes: list[NDArray[np.float32]], width: int, start: int) -> bool:
    """Every component continues across the stair at ``start`` but for a constant: it is the picture at other levels.

    What begins at an edge of the subject is another thing than what was above it, and does not continue it.
    """
    row, column = divmod(start, width)
    rows = planes[0].shape[0]
    near = [n for n in range(row - 4, row + 6) if 0 < n < rows and n not in (row, row + 1)]
    for plane in planes[:3]:
        flat = plane.reshape(-1).astype(np.float64)
        vertical = flat[width:] - flat[:-width]
        here, following = (vertical[n * width : (n + 1) * width] for n in (row - 1, row))
        parts = here[column:], following[:column]
        rough = _spread(np.concatenate([x - np.median(x) for x in parts]))
        elsewhere = [vertical[(n - 1) * width : n * width] for n in near]
        if rough > _CONTINUES * float(np.median([_spread(x - np.median(x)) for x in elsewhere])) + 0.3:
            return False
        step = abs(float(np.median(np.concatenate(parts))))
        usual = float(np.median([abs(np.median(x)) for x in elsewhere]))
        quiet = max(abs(float(np.median(x))) for x in (here[:column], following[column:]))
        if quiet > max(1.5, 0.25 * step, 2.5 * usual):
            return False
    return True


def _spread(values: NDArray[np.float64]) -> float:
    """The standard deviation of values about 0, as few far ones do not move it."""
    return MAD_TO_DEVIATION * float(np.median(np.abs(values)))


def _stair_level(flat: NDArray[np.float64], width: int, start: int) -> float:
    """The step's height in levels where all marks of a stair are there, else 0."""
    row, column = divmod(start, width)

    def vertical(number: int) -> NDArray[np.float64]:
        return flat[number * width : (number + 1) * width] - flat[(number - 1) * width : number * width]

    here, following = vertical(row), vertical(row + 1)
    inside = np.concatenate((here[column:], following[:column]))
    middle = float(np.median(inside))
    level = abs(middle)
    error = _spread(inside - middle) / math.sqrt(inside.size)
    if level <= max(_STEP, 10.0 * max(error, 0.2)):
        return 0.0
    later, before = vertical(min(row + 2, flat.size // width - 1)), vertical(row - 1)
    if any(abs(float(np.median(x))) >= 0.45 * level for x in (here[:column], following[column:], later, before)):
        return 0.0
    parts = [float(np.median(here[column:])), float(np.median(following[:column]))]
    same = min(p * np.sign(middle) for p in parts) > 0.7 * max(abs(p) for p in parts)
    steady = float(np.median(np.abs(inside - middle))) < 0.75 * level
    usual = float(np.median(np.abs(np.diff(flat[start - width : start + width]))))
    # Where a few MCUs were misread the step is not there at once.
    begins = any(
        abs(float(flat[start + k] - flat[start - 1]) - middle) < 0.5 * level + 3.0 * usual for k in range(_MISREAD)
    )
    return level if same and steady and begins else 0.0


def level_offset(planes: list[NDArray[np.float32]], unit: int) -> float:
    """How far the levels after MCU ``unit`` lie from those above, in levels: the worst component's median."""
    width = planes[0].shape[1]
    start, end = unit, min(unit + width, planes[0].size)
    if start < width or end - start < max(4, width // 8):
        return 0.0
    offsets = []
    for plane in planes[:3]:
        flat = plane.reshape(-1)
        now = np.median(flat[start:end] - flat[start - width : end - width])
        # What the picture itself changes from row to row there.
        after_end = min(end + width, flat.size)
        after = np.median(flat[end:after_end] - flat[end - width : after_end - width]) if after_end > end + 4 else 0.0
        offsets.append(abs(float(now - after)))
    return max(offsets)
