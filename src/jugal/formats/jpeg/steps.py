"""Steps in level that no error tells of: in a picture as it was decoded, and in runs that were put back in their place.

Flipped bits in a DC difference, a few bytes lost, a cluster that was put in and decodes: what follows counts from another level.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.colours import levels_shown
from jugal.formats.jpeg.edges import read_steps
from jugal.formats.jpeg.parse import Entropy
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.formats.jpeg.stairs import (
    AT_SIDE,
    LEAST_HEIGHT,
    LEAST_LEVELS,
    Step,
    is_inside,
    level_steps,
    parts_subject,
    stands_out,
    suspects,
)

_CLUSTER = 4096
#: MCUs of a picture that is looked through as a whole, and steps of a component that are looked at in all that is read at once.
_READ_WHOLE, _MOST = 1 << 14, 3
#: Steps of a quantised DC value, as they show, by which a step must be higher.
_QUANTA = 1.5
#: Rows on both sides of a suspect that are read, by how many MCUs they have.
_UNITS_AROUND, _LEAST_AROUND, _MOST_AROUND = 1200, 4, 12
#: MCUs by which a step may be noticed after the border of a cluster that brought it, and before it, for it is found by its rows;
#: and clusters behind a damage of which this says anything.
_AFTER, _AHEAD, _CLUSTERS = 4, 2, 8
#: Rows of a run in which a step is told from the subject.
_LEAST_ROWS = 6


def clear_steps(
    reader: RunReader,
    entropy: Entropy,
    bits: NDArray[np.signedinteger],
    planes: list[NDArray[np.float32]],
) -> Iterator[tuple[Step, tuple[int, int]]]:
    """The clean steps that show among MCUs, likeliest first, each with the numbers of the MCUs that were read for it.

    Near a side either weight may hit the one MCU from which both its rows are even.

    ``planes`` are their mean levels in whole rows; ``bits`` says where each of them begins in ``entropy``.
    """
    rows, width = planes[0].shape
    around = max(_LEAST_AROUND, min(_MOST_AROUND, _UNITS_AROUND // width))
    if rows * width <= _READ_WHOLE:
        windows = [(0, rows * width)]
    else:
        rows_first = [max(0, unit // width - around) for unit in suspects(planes)]
        windows = [(row * width, min(rows, row + 2 * around) * width) for row in rows_first]
    # Coarse tables make steps of their own on flat ground.
    least = max(LEAST_LEVELS, _QUANTA * max(levels_shown(unit.tolist()) for unit in np.diag(reader.steps)))
    for first, last in windows:
        found = read_steps(reader, entropy, int(bits[first]), width, first, last)
        for step in level_steps(found, width, first + width, (AT_SIDE, 1.0), LEAST_HEIGHT, _MOST):
            if step.clean and step.levels > least and not parts_subject(planes, step):
                yield step, (first, last)


def step_inside(reader: RunReader, run: Run, place: int) -> int | None:
    """The MCU of a run, put at ``place`` behind a damage, from which on it counts from another level; None where none stands out.

    At the picture's sides an edge of the subject looks the same, unless the border of a cluster not far behind the damage stands there in the bytes.
    """
    width = reader.frame.mcus_x
    skip = -place % width
    rows = (run.count - skip) // width
    if rows < _LEAST_ROWS or width < 8:
        return None
    planes = list(reader.levels(run.dc[skip : skip + rows * width]).reshape(-1, rows, width))
    for step, _ in clear_steps(reader, run.entropy, run.bits[skip:], planes):
        at = skip + step.unit
        if stands_out(step) and (is_inside(step, width, rows * width) or _at_cluster(run, at)):
            return at
    return None


def _at_cluster(run: Run, at: int) -> bool:
    near = np.array([0, max(0, at - _AFTER), min(run.count, at + _AHEAD)])
    begin, first, last = (run.entropy.raw_offsets(run.bits[near] >> 3) // _CLUSTER).tolist()
    return bool(first < last <= begin + _CLUSTERS)
