"""Where a decoded picture breaks: found in its DC values, for damage that raises no error at once.

After a cluster was lost or replaced, the decoder finds its footing again but what follows stands in the wrong
place or has the wrong level. One row of MCUs then contrasts with the row above it, beginning at the break.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.decode import Picture
from jugal.formats.jpeg.parse import Structure

_CAP = 60.0  # levels; one sharp edge in the picture shall not outweigh a row


@dataclass(frozen=True, slots=True)
class Break:
    """A break at MCU number ``unit``; ``contrast`` is in levels, ``usual`` what the picture has otherwise."""

    unit: int
    contrast: float
    usual: float

    @property
    def strong(self) -> bool:
        return self.contrast > 4.0 and self.contrast > 3.0 * self.usual


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
    """Per MCU the capped difference to the MCU above, all components; zero in the first row."""
    flat = [p.reshape(-1) for p in planes[:3]]
    width = planes[0].shape[1]
    out = np.zeros(flat[0].size, np.float32)
    for plane in flat:
        out[width:] += np.minimum(np.abs(plane[width:] - plane[:-width]), _CAP)
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
    usual = max(0.5, float(np.median(contrast[width : max(high, width + 1)])))
    excess = contrast - usual
    total = np.concatenate(([0.0], np.cumsum(excess, dtype=np.float64)))
    at = np.arange(low, high)
    # Nothing beyond ``high`` was decoded for sure, so nothing there is compared.
    ahead_end = np.minimum(at + width, high + 1)
    ahead = (total[ahead_end] - total[at]) / np.maximum(1, ahead_end - at)
    column = at % width
    before = (total[at] - total[at - column]) / width
    row_end = np.minimum(at - column + 2 * width, high + 1)
    after = (total[np.maximum(row_end, ahead_end)] - total[ahead_end]) / width
    gain = ahead - np.maximum(before, 0.0) - np.maximum(after, 0.0)
    # A break in the last few MCUs has no row to be judged by.
    gain[ahead_end - at < max(4, width // 8)] = -1.0
    weight = np.ones(at.size)
    weight[np.minimum(column, width - column) <= max(1, width // 16)] = 0.6
    if byte_at is not None:
        first = byte_at[at - 1]
        last = byte_at[np.minimum(at + 1, byte_at.size - 1)]
        for size, bonus in ((512, 1.06), (4096, 1.12)):
            weight[(last // size) > (first // size)] *= bonus
    flat = planes[0].reshape(-1)
    step = np.minimum(np.abs(flat[at] - flat[at - 1]), _CAP)
    ranked = gain * weight + 0.02 * step
    best = int(np.argmax(ranked))
    # The stretch after the damage may contrast as much again where it ends: the first such place counts.
    early = np.flatnonzero(ranked >= 0.7 * ranked[best])
    best = int(early[0]) + int(np.argmax(ranked[early[0] : early[0] + max(2, width // 4)]))
    return Break(int(at[best]), float(gain[best]), usual)


def find_level_step(planes: list[NDArray[np.float32]]) -> int | None:
    """An MCU from which on one component is off by a constant, to the end of the row and into the next; else None.

    One flipped bit in a DC difference does this without any error. Only steps that start inside a row, that are
    the same all along and of which nothing shows left of it or a row later are believed.
    """
    width = planes[0].shape[1]
    count = planes[0].size
    if width < 24 or count < 6 * width:
        return None
    best: tuple[float, int] | None = None
    margin = max(6, width // 10)
    for plane in planes[:3]:
        flat = plane.reshape(-1)
        vertical = flat[width:] - flat[:-width]
        rows = vertical[: vertical.size // width * width].reshape(-1, width)
        # Candidates: the sharpest horizontal jumps, each tested in full.
        jump = np.abs(np.diff(flat))
        for at in np.argsort(jump)[::-1][:64].tolist():
            start = at + 1
            row, column = divmod(start, width)
            if row < 2 or row + 2 >= rows.shape[0] or column < margin or width - column < margin:
                continue
            here, following, later = rows[row - 1], rows[row], rows[row + 1]
            inside = np.concatenate((here[column:], following[:column]))
            middle = float(np.median(inside))
            spread = float(np.median(np.abs(inside - middle)))
            quiet = max(abs(float(np.median(x))) for x in (here[:column], following[column:], later))
            level = abs(middle)
            if level > 6.0 and level > 6.0 * max(spread, 0.5) and quiet < 0.2 * level:
                # Both parts must say the same by themselves.
                parts = [float(np.median(here[column:])), float(np.median(following[:column]))]
                if min(abs(p) for p in parts) > 0.7 * level and (best is None or level > best[0]):
                    best = (level, start)
    return best[1] if best else None


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
