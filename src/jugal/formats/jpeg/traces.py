"""What a break leaves behind it: a decoder that fell into step again shows rows that end in another column, or counts from another
level. Where it shows neither all the way to where an error was noticed, what looked like a break is the subject's own, a line of
writing on a page or the sill of a window.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.columns import read_row_ends
from jugal.formats.jpeg.decode import Decoded
from jugal.formats.jpeg.edges import Edges
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.stairs import SIDE

#: Rows behind a break from which anything is told, by how many nats another column must be likelier, levels of a step that shows, and the
#: share of it by which it may vary from MCU to MCU: a lost difference lifts them all.
_LEAST_ROWS, _OTHER_COLUMN, _STEP, _VARIES = 3, 2.0, 4.0, 0.5


def leaves_traces(reader: RunReader, decoded: Decoded, edges: Edges, unit: int, noticed: int) -> bool:
    """Whether MCUs from number ``unit`` to that at which an error was ``noticed`` stand in other columns, or at another level than
    those above; true where they are too few to tell. ``edges`` are those around them."""
    width = edges.width
    first, last = -(-(unit + 1) // width) * width, noticed // width * width
    if last - first < _LEAST_ROWS * width:
        return True
    row = slice(unit - edges.first, unit - edges.first + width)
    beside = (
        min(unit % width, width - unit % width) < SIDE
    )  # where an edge of the subject that lies along a row looks the same
    if not beside and any(_is_even(part[row]) for part in edges.step[:3]):
        return True
    run = reader.read(decoded.scan.entropy, int(decoded.unit_pos[first]), last - first)[0]
    columns = read_row_ends(reader, run).columns()
    return float(columns.max() - columns[0]) > _OTHER_COLUMN


def _is_even(steps: NDArray[np.float32]) -> bool:
    middle = float(np.median(steps)) if steps.size else 0.0
    return abs(middle) > _STEP and float(np.median(np.abs(steps - middle))) < _VARIES * abs(middle)
