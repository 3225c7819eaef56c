"""How well neighbouring MCUs meet: the pixel rows on both sides of the edge between each MCU and the one above it.

Where a picture goes on, the rows continued from both sides agree; where an MCU stands in the wrong place or counts from a
wrong level they do not. That tells far more than mean levels do, at the cost of reading the coefficients.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg import spec
from jugal.formats.jpeg.parse import Entropy
from jugal.formats.jpeg.pixels import BASIS, samples_of
from jugal.formats.jpeg.runs import Part, Run, RunReader
from jugal.kernels.edges import edge_means

#: MCUs of whose strangers all are kept; of more only as many.
_ENOUGH = 1 << 16


@dataclass(slots=True)
class Edges:
    """What is seen at the upper edge of MCUs from number ``first`` on, ``width`` in a row; one array a component.

    ``apart`` is the mean distance of the pixels that should meet and ``step`` their mean signed difference (below less
    above), in levels; ``strange`` is what ``apart`` would be between MCUs that are no neighbours. Edges are read up to MCU
    number ``end``, where decoding failed or enough was read.
    """

    width: int
    first: int
    end: int
    apart: list[NDArray[np.float32]]
    step: list[NDArray[np.float32]]
    strange: list[NDArray[np.float32]]


def read_edges(
    reader: RunReader, entropy: Entropy, bit: int, width: int, first: int, last: int, strangers: bool = True
) -> Edges:
    """The edges of MCUs ``first + width`` to ``last``, read from ``bit`` of ``entropy``, where MCU ``first`` begins.

    Without ``strangers`` pairs that are no neighbours are left out.
    """
    # Other rows, other columns.
    others = (width + width // 3 + 1, width + width // 2, 2 * width + width // 4, max(1, width - width // 3))
    shifts = others if strangers else ()
    parts = len(reader.shape)
    # A large picture has millions: they are put where they stay.
    apart, step = (np.empty((parts, max(0, last - first - width)), np.float32) for _ in range(2))
    strange: list[list[NDArray[np.float32]]] = [[] for _ in range(parts)]
    tails: list[NDArray[np.float32]] = [np.zeros((0, 8 * columns), np.float32) for _, columns in reader.shape]
    end, every = first, 1 + (last - first) // _ENOUGH
    for part in reader.parts(entropy, bit, last - first):
        seen, end = max(0, end - first - width), end + part.count
        new = slice(seen, max(0, end - first - width))
        for c, (_, columns) in enumerate(reader.shape):
            own = np.flatnonzero(reader.blocks == c)
            upper = _pixels(reader, part, c, own[:columns], ABOVE)
            lower = np.concatenate((tails[c], _pixels(reader, part, c, own[-columns:], BELOW)))
            difference = _compared(lower, upper, width)
            apart[c, new], step[c, new] = np.abs(difference).mean(axis=1), difference.mean(axis=1)
            strange[c] += [np.abs(_compared(lower, upper, shift, every)).mean(axis=1) for shift in shifts]
            tails[c] = lower[-max((width, *shifts)) :]
    known = max(0, end - first - width)
    unlike = [np.concatenate(s) if s else np.zeros(0, np.float32) for s in strange]
    return Edges(width, first + width, end, list(apart[:, :known]), list(step[:, :known]), unlike)


def read_steps(
    reader: RunReader, entropy: Entropy, bit: int, width: int, first: int, last: int
) -> list[NDArray[np.float32]]:
    """What ``read_edges`` gives as ``step``, in a quarter of the time."""
    parts = len(reader.shape)
    lower: list[list[NDArray[np.float32]]] = [[] for _ in range(parts)]
    upper: list[list[NDArray[np.float32]]] = [[] for _ in range(parts)]
    for part in reader.parts(entropy, bit, last - first):
        for c, (_, columns) in enumerate(reader.shape):
            own = np.flatnonzero(reader.blocks == c)
            scale = _scale(reader, c)
            for side, blocks, basis in ((lower, own[-columns:], BELOW), (upper, own[:columns], ABOVE)):
                means = np.empty(part.count, np.float32)
                weights = (basis * scale)[_UPRIGHT].mean(axis=1)
                edge_means(part.coefficients, blocks, part.level[c], _UPRIGHT, weights, means)
                side[c].append(means)
    joined = [[np.concatenate(c) if c else np.zeros(0, np.float32) for c in side] for side in (lower, upper)]
    return [above[width:] - below[: max(0, below.size - width)] for below, above in zip(*joined, strict=True)]


@dataclass(slots=True)
class Sides:
    """Pixels at the upper and lower sides of MCUs, continued by half a pixel, in levels but for a constant; one array (MCUs,
    pixels) a component."""

    top: list[NDArray[np.float32]]
    bottom: list[NDArray[np.float32]]


def read_sides(reader: RunReader, run: Run, first: int, count: int) -> Sides:
    """The sides of ``count`` MCUs of ``run`` from number ``first`` on; fewer where decoding fails."""
    parts = list(sides_by_rows(reader, run, first, count))
    which = range(len(reader.shape))
    return Sides(
        _joined([[p.top[c] for p in parts] for c in which]), _joined([[p.bottom[c] for p in parts] for c in which])
    )


def sides_by_rows(reader: RunReader, run: Run, first: int, count: int) -> Iterator[Sides]:
    """The same, some rows at a time."""
    for part in run.parts(reader, first, count):
        sides = Sides([], [])
        for c, (_, columns) in enumerate(reader.shape):
            own = np.flatnonzero(reader.blocks == c)
            sides.top.append(_pixels(reader, part, c, own[:columns], ABOVE))
            sides.bottom.append(_pixels(reader, part, c, own[-columns:], BELOW))
        yield sides


def read_flanks(
    reader: RunReader, run: Run, first: int, count: int
) -> Iterator[list[tuple[NDArray[np.float32], NDArray[np.float32]]]]:
    """Per component the pixels at the left and right sides of ``count`` MCUs from number ``first`` on, as those of ``Sides``, some
    rows at a time."""
    for part in run.parts(reader, first, count):
        flanks = []
        for c, (_, columns) in enumerate(reader.shape):
            own = np.flatnonzero(reader.blocks == c)
            left, right = (own[::columns], LEFT), (own[columns - 1 :: columns], RIGHT)
            flanks.append((_pixels(reader, part, c, *left), _pixels(reader, part, c, *right)))
        yield flanks


def _pixels(
    reader: RunReader, part: Part, c: int, blocks: NDArray[np.int64], basis: NDArray[np.float32]
) -> NDArray[np.float32]:
    """(MCUs, pixels): one row or column of pixels of component ``c``, those of ``blocks`` side by side."""
    own = part.coefficients[:, blocks].astype(np.float32)
    own[..., 0] += part.level[c]
    return samples_of(own, reader.quant[c], basis).reshape(part.count, 8 * blocks.size)


def _joined(parts: list[list[NDArray[np.float32]]]) -> list[NDArray[np.float32]]:
    return [np.concatenate(c) if c else np.zeros((0, 8), np.float32) for c in parts]


def _scale(reader: RunReader, component: int) -> NDArray[np.float32]:
    """(64, 1): the steps of a component's coefficients."""
    table = reader.quant[component]
    return np.ones((64, 1), np.float32) if table is None else table.astype(np.float32)[:, None]


def _compared(
    lower: NDArray[np.float32], upper: NDArray[np.float32], shift: int, every: int = 1
) -> NDArray[np.float32]:
    """The pixels in ``upper`` less those ``shift`` MCUs before them in ``lower``, whose last MCUs are the same; one in ``every``."""
    count, total = upper.shape[0], lower.shape[0]
    have = max(0, min(count, total - shift))
    first = max(0, total - have - shift)
    return np.asarray(upper[count - have :: every] - lower[first : first + have : every])


def _continued(near: int, far: int, upright: bool = False) -> NDArray[np.float32]:
    """(64, 8): what each zigzag coefficient gives to a block's row ``near``, continued by half a pixel away from ``far``.

    ``upright``: to its column ``near``.
    """
    rows = BASIS.transpose(0, 2, 1) if upright else BASIS
    return np.asarray(1.5 * rows[:, near] - 0.5 * rows[:, far])


#: What coefficients give to the pixels of a row or column continued by half a pixel out of a block.
ABOVE, BELOW = _continued(0, 1), _continued(7, 6)
LEFT, RIGHT = _continued(0, 1, upright=True), _continued(7, 6, upright=True)
#: Coefficients without horizontal frequency by their zigzag numbers: only they change a row's mean.
_UPRIGHT = np.flatnonzero(np.array(spec.ZIGZAG)[:64] % 8 == 0)
