"""The levels that a run of MCUs counts from, lost with what was before it: matched to what is known around it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.fft import idctn

from jugal.formats.jpeg import spec
from jugal.formats.jpeg.breaks import MAD_TO_DEVIATION
from jugal.formats.jpeg.canvas import Canvas, Placed
from jugal.formats.jpeg.runs import Run, RunReader

#: The doubt in levels where nothing stands above a run.
_NO_NEIGHBOUR = 40.0
#: Doubt of a median in deviations of what it is taken of, over the root of their number.
_MEDIAN_DOUBT = 1.25


def match_levels(canvas: Canvas, run: Run, place: int) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Per component what to add to the run's DC values so that it goes on from what is known around it, and the doubt.

    Where blocks touch, only the doubt of what they touch is left; across a gap the picture may have changed by as much
    as it does elsewhere over so many rows.
    """
    reader, width = canvas.reader, canvas.width
    touching = [
        (number, spot)
        for number in range(min(run.count, width))
        if (spot := canvas.blocks_at(place + number - width)) is not None
    ]
    if len(touching) >= max(3, width // 24):
        doubts = np.array([placed.doubt for _, (placed, _) in touching])
        offsets, scatter = _match_pixels(canvas, run, touching)
        return offsets, np.hypot(np.median(doubts, axis=0), scatter)
    levels = reader.levels(run.dc)
    number = np.arange(min(run.count, width))
    above, rows = canvas.above(place + number)
    offsets = np.zeros(len(reader.shape), np.int64)
    doubt = canvas.placed[-1].doubt.copy()
    use = rows > 0
    for c in range(len(reader.shape)):
        if use.sum() >= 3:
            slope = _slope(canvas, levels, c)
            offset = float(np.median(above[use, c] + slope * rows[use] - levels[number[use], c]))
            gap = max(1, round(float(np.median(rows[use]))))
            doubt[c] = np.hypot(doubt[c], _wander(canvas, levels, c, gap))
        else:
            known = canvas.levels[canvas.known, c]
            doubt[c] = np.hypot(doubt[c], _NO_NEIGHBOUR)
            offset = (
                float(np.median(known) - np.median(levels[:, c])) if known.size else -float(np.median(levels[:, c]))
            )
        offsets[c] = round(offset / reader.steps[c])
    return offsets, doubt


def _wander(canvas: Canvas, levels: NDArray[np.float64], c: int, gap: int) -> float:
    """By how much the level of a whole row differs from that of one ``gap`` rows on, beyond a steady slope."""
    width = canvas.width
    changes = np.empty(0)
    for values in (canvas.levels[: canvas.end, c], levels[:, c]):
        rows = np.median(values[: values.size // width * width].reshape(-1, width), axis=1)[-60:]
        changes = np.append(changes, rows[gap:] - rows[:-gap])
    if changes.size < 4:
        return _NO_NEIGHBOUR
    return MAD_TO_DEVIATION * float(np.median(np.abs(changes - np.median(changes))))


def _slope(canvas: Canvas, levels: NDArray[np.float64], c: int) -> float:
    """By how much levels change from row to row around a gap: the median over the last rows above and the first below."""
    width = canvas.width
    steps = []
    head = canvas.levels[max(0, canvas.end - 3 * width) : canvas.end, c]
    for values in (head, levels[: 3 * width, c]):
        if values.size > width + 4:
            steps.append(float(np.median(values[width:] - values[:-width])))
    return float(np.mean(steps)) if steps else 0.0


def _match_pixels(
    canvas: Canvas, run: Run, touching: list[tuple[int, tuple[Placed, int]]]
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """The offset that makes pixel rows meet where MCUs of the run lie right under known ones, and the doubt in it.

    Where some MCUs are not what they seem to be, they do not agree with the others.
    """
    reader = canvas.reader
    numbers = np.array([n for n, _ in touching])
    _, below = reader.read(run.entropy, int(run.bits[0]), int(numbers.max()) + 1, int(numbers.max()) + 1)
    # Coefficients read from the run's start count their DC from there; the run's own count may have begun earlier.
    shift = run.dc[0].astype(np.int64) - below[0, :, 0]
    over: list[NDArray] = []
    for _, (placed, number) in touching:
        part = placed.run
        _, blocks = reader.read(part.entropy, int(part.bits[number]), 1, 1)
        blocks = blocks[0].astype(np.int64)
        blocks[:, 0] = part.dc[number] + placed.offsets[reader.blocks]
        over.append(blocks)
    upper, lower = np.array(over), below[numbers].astype(np.int64)
    offsets, scatter = np.zeros(len(reader.shape), np.int64), np.zeros(len(reader.shape))
    for c, (_, columns) in enumerate(reader.shape):
        own = np.flatnonzero(reader.blocks == c)
        table = reader.quant[c]
        bottom = _pixels(upper[:, own[-columns:]], table)
        top_blocks = lower[:, own[:columns]]
        top_blocks[..., 0] += shift[own[0]]
        top = _pixels(top_blocks, table)
        ahead = bottom[..., 7, :] + (bottom[..., 7, :] - bottom[..., 6, :]) / 2
        back = top[..., 0, :] - (top[..., 1, :] - top[..., 0, :]) / 2
        apart = ahead - back
        offsets[c] = round(float(np.median(apart)) / reader.steps[c])
        each = np.median(apart.reshape(apart.shape[0], -1), axis=1)
        spread = MAD_TO_DEVIATION * float(np.median(np.abs(each - np.median(each))))
        scatter[c] = _MEDIAN_DOUBT * spread / np.sqrt(each.size)
    return offsets, scatter


def sample_rows(reader: RunReader, run: Run, first: int, most: int, c: int, offset: int) -> NDArray[np.float64]:
    """(MCUs, samples): those of component ``c`` of up to ``most`` MCUs from number ``first``, mid-grey at 0, with ``offset``
    added to the quantised DC values."""
    part, coefficients = reader.read(run.entropy, int(run.bits[first]), most, most)
    own = np.flatnonzero(reader.blocks == c)
    blocks = coefficients[: part.count][:, own].astype(np.int64)
    blocks[..., 0] = run.dc[first : first + part.count][:, own] + offset
    return _pixels(blocks, reader.quant[c]).reshape(part.count, -1)


def _pixels(blocks: NDArray[np.int64], table: NDArray[np.float64] | None) -> NDArray[np.float64]:
    """Samples (…, 8, 8) of zigzag coefficients (…, 64), mid-grey at 0."""
    scale = np.ones(64) if table is None else table
    natural = np.zeros(blocks.shape)
    natural[..., list(spec.ZIGZAG)] = blocks * scale
    square = natural.reshape(*blocks.shape[:-1], 8, 8)
    return np.asarray(idctn(square, axes=(-2, -1), norm="ortho"))
