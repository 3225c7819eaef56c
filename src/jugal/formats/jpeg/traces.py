"""What a break leaves behind it: a decoder that fell into step again shows rows that end in another column, or counts from another
level. Where it shows neither all the way to where an error was noticed, what looked like a break is the subject's own, a line of
writing on a page or the sill of a window.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.columns import read_row_ends
from jugal.formats.jpeg.decode import Decoded
from jugal.formats.jpeg.edges import read_steps
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.stairs import SIDE

#: Rows behind a break from which anything is told, by how many nats another column must be likelier, levels of a step that shows, and the
#: share of it by which it may vary from MCU to MCU: a lost difference lifts them all; and in how many rows a subject takes it back.
_LEAST_ROWS, _OTHER_COLUMN, _STEP, _VARIES, _ROWS_BACK = 3, 2.0, 4.0, 0.5, 3


def leaves_traces(reader: RunReader, decoded: Decoded, unit: int, noticed: int) -> bool:
    """Whether MCUs from number ``unit`` to that at which an error was ``noticed`` stand in other columns, or at another level than
    those above; true where they are too few to tell."""
    if is_displaced(reader, decoded, unit, noticed):
        return True
    width, row = reader.frame.mcus_x, unit // reader.frame.mcus_x
    if min(unit % width, width - unit % width) < SIDE:
        return False  # an edge of the subject that lies along a row looks the same
    first, last = (row - 1) * width, min(row + 2 + _ROWS_BACK, noticed // width) * width
    steps = read_steps(reader, decoded.scan.entropy, int(decoded.unit_pos[first]), width, first, last)
    return any(_stays(part[unit - row * width :], width) for part in steps[:3])


def is_displaced(reader: RunReader, decoded: Decoded, unit: int, noticed: int, lost: int | None = None) -> bool:
    """Whether the rows from MCU ``unit`` to number ``noticed`` end in another column than the picture's, if said because so many MCUs
    were ``lost``; true where they are too few."""
    width = reader.frame.mcus_x
    first, last = unit // width + 1, noticed // width
    if first < 2 or last - first < _LEAST_ROWS:
        return True
    run = reader.read(decoded.scan.entropy, int(decoded.unit_pos[first * width]), (last - first) * width)[0]
    columns = read_row_ends(reader, run).columns()
    other = columns.max() if lost is None else columns[lost % width]
    return float(other - columns[0]) > _OTHER_COLUMN


def _stays(steps: NDArray[np.float32], width: int) -> bool:
    """Whether a row's length of ``steps`` are about the same, and none of the next rows takes them back, as those of writing do."""
    rows = [steps[at : at + width] for at in range(0, steps.size - width + 1, width)]
    middles = [float(np.median(row)) for row in rows]
    if not rows or abs(middles[0]) <= _STEP:
        return False
    even = float(np.median(np.abs(rows[0] - middles[0]))) < _VARIES * abs(middles[0])
    return even and all(middle / middles[0] > -_VARIES for middle in middles[1:])
