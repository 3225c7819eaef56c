"""MCUs that look like none of a picture's: what a decoder makes of an error until it falls into step again.

Such an MCU meets none of its neighbours, and is further from them by far than any of the picture's own from all of its.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.decode import Decoded
from jugal.formats.jpeg.edges import read_flanks, read_sides
from jugal.formats.jpeg.runs import RunReader

#: MCUs before and behind where a step seems to begin, among which a stray one may stand.
_BEFORE, _BEHIND = 4, 3
#: How many levels a stray MCU is from its neighbours at least, and how many times as many as any other of the picture is.
_LEAST_APART, _TIMES = 8.0, 1.6


def has_stray(reader: RunReader, decoded: Decoded, among: tuple[int, int], unit: int) -> bool:
    """Whether one stands where a step seems to begin in MCU number ``unit``, of those that are numbered ``among``."""
    first, last = among
    run = reader.read(decoded.scan.entropy, int(decoded.unit_pos[first]), last - first)[0]
    width, flanks = reader.frame.mcus_x, list(read_flanks(reader, run, 0, run.count))
    sides = read_sides(reader, run, 0, run.count)
    begin, end = unit - _BEFORE - first, unit + _BEHIND - first
    some, around = (slice(max(0, begin - more), end + more) for more in (0, 1))
    for c in range(len(reader.shape) if flanks else 0):
        left, right = (np.concatenate([part[c][side] for part in flanks]) for side in (0, 1))
        across, down = _gaps(right, left, 1), _gaps(sides.bottom[c], sides.top[c], width)
        # The last MCU of a row and the first of the next are no neighbours.
        across[-first % width :: width] = np.inf
        apart = np.minimum(_nearest(across, 1), _nearest(down, width))
        worst = float(apart[some].max(initial=0.0))
        apart[around] = 0.0
        if worst > max(_LEAST_APART, _TIMES * float(apart.max(initial=0.0))):
            return True
    return False


def _gaps(ends: NDArray[np.float32], begins: NDArray[np.float32], distance: int) -> NDArray[np.float32]:
    """By how many levels each MCU begins elsewhere than the one so many before it ends; infinite where there is none, at both ends."""
    gaps = np.full(ends.shape[0] + distance, np.inf, np.float32)
    gaps[distance:-distance] = np.abs(begins[distance:] - ends[:-distance]).mean(axis=1)
    return gaps


def _nearest(gaps: NDArray[np.float32], distance: int) -> NDArray[np.float32]:
    """The lesser of the gaps before each MCU and behind it."""
    return np.minimum(gaps[:-distance], gaps[distance:])
