"""How well blocks of a sequential scan go on at their sides from those around them, were a rare code to stand for another symbol.

Runs of zeros differ by where they put the coefficients that follow: at a wrong frequency a large one tears the block's sides from
its neighbours'. Reading does not fall out of step over that, and little else tells such symbols from one another.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.edges import ABOVE, BELOW, LEFT, RIGHT
from jugal.formats.jpeg.parse import Entropy, Structure
from jugal.formats.jpeg.pixels import samples_of
from jugal.formats.jpeg.runs import RunReader
from jugal.kernels.supposed import BLOCK, INDEX

#: Bits that one place speaks against a symbol by which its sides are as much further away as they usually are, and at most; the least
#: distance that is usual (levels).
_SAID, _MOST_SAID, _LEAST_USUAL = 2.0, 8.0, 1.0
#: Places whose blocks are tried at once.
_AT_ONCE = 256
_RUNS = 16
#: MCUs that do not read, at most, for others to be looked at.
_MOST_ERRORS = 64
#: Rows and columns away of the neighbour at each side, and that side of it.
_BESIDE = ((-1, 0, 1), (1, 0, 0), (0, -1, 3), (0, 1, 2))
#: (64, 4, 8): what each coefficient gives to the pixels above, below, left and right of a block, half a pixel outside.
_SIDES = np.stack([ABOVE, BELOW, LEFT, RIGHT], axis=1)


class Surroundings:
    """All blocks of a picture of one sequential scan as it reads by its tables; where an MCU does not, it goes on with the next one,
    of which ``starts`` (MCUs) says where it begins, in bits."""

    def __init__(self, structure: Structure, starts: NDArray[np.integer]) -> None:
        reader = RunReader(structure)
        coefficients = _read(reader, structure.scans[0].entropy, starts)
        self._quant = reader.quant
        #: Per component (rows, columns, 64) and (rows, columns, 4, 8): its blocks and the pixels at their sides.
        self._planes: list[NDArray[np.int16]] = []
        self._sides: list[NDArray[np.float32]] = []
        #: (blocks, 3): component, row and column of each block of the scan in order.
        where = np.zeros((reader.total, reader.blocks.size, 3), np.int64)
        mcus = np.arange(reader.total)
        for c, (down, across) in enumerate(reader.shape):
            plane = np.zeros((reader.frame.mcus_y * down, reader.frame.mcus_x * across, 64), np.int16)
            for number, block in enumerate(np.flatnonzero(reader.blocks == c)):
                row = mcus // reader.frame.mcus_x * down + number // across
                column = mcus % reader.frame.mcus_x * across + number % across
                plane[row, column] = coefficients[:, block]
                where[:, block] = np.stack([np.full_like(mcus, c), row, column], axis=1)
            self._planes.append(plane)
            self._sides.append(samples_of(plane, reader.quant[c], _SIDES).reshape(*plane.shape[:2], 4, 8))
        self._where = where.reshape(-1, 3)

    def said(
        self, places: NDArray[np.int64], now: NDArray[np.int64], symbols: NDArray[np.int64]
    ) -> NDArray[np.float32]:
        """(places, symbols): how each of AC ``symbols`` fits at ``places`` (see ``read_scan``) where symbols ``now`` were read, in
        bits below the one of their size that fits best. Others, behind which all reads otherwise, are taken to fit as wrong ones do.
        """
        found, otherwise = np.zeros((len(places), symbols.size), np.float32), np.zeros((len(places), 1), np.float32)
        # Of a block too many nothing is known, nor is what a code without a magnitude should be.
        told = (places[:, BLOCK] < len(self._where)) & (now & 15 > 0)
        component = np.where(told, self._where[np.where(told, places[:, BLOCK], 0), 0], -1)
        for c in np.unique(component[told]).tolist():
            apart = self._apart_by_run(c, np.flatnonzero(component == c), places, now)
            usual = max(_LEAST_USUAL, float(np.median(apart[np.arange(len(apart)), now[component == c] >> 4])))
            said = np.maximum(_SAID * (apart.min(axis=1, keepdims=True) - apart) / usual, -_MOST_SAID)
            found[component == c] = said[:, symbols >> 4]
            otherwise[component == c] = np.median(said, axis=1, keepdims=True)
        return np.where(symbols & 15 == now[:, None] & 15, found, otherwise)

    def _apart_by_run(
        self, c: int, which: NDArray[np.int64], places: NDArray[np.int64], now: NDArray[np.int64]
    ) -> NDArray[np.float32]:
        """(places, runs): how far the sides of the block would be from those around it, were a run of zeros of another length; no
        number is too high where coefficients would lie behind the last one."""
        found = np.zeros((which.size, _RUNS), np.float32)
        for first in range(0, which.size, _AT_ONCE):
            some = which[first : first + _AT_ONCE]
            _, row, column = self._where[places[some, BLOCK]].T
            moved, lost = _moved(self._planes[c][row, column], places[some, INDEX], now[some] >> 4)
            own = samples_of(moved, self._quant[c], _SIDES).reshape(some.size, _RUNS, 4, 8)
            rows, columns = self._planes[c].shape[:2]
            apart = np.zeros((some.size, _RUNS), np.float32)
            for side, (down, right, other) in enumerate(_BESIDE):
                y, x = row + down, column + right
                there = (y >= 0) & (y < rows) & (x >= 0) & (x < columns)
                beside = self._sides[c][y[there], x[there], other]
                apart[there] += np.abs(own[there, :, side] - beside[:, None]).mean(axis=2)
            apart[lost] = np.inf
            found[first : first + some.size] = apart
        return found


def _read(reader: RunReader, entropy: Entropy, starts: NDArray[np.integer]) -> NDArray[np.int16]:
    """(MCUs, blocks, 64): the picture's coefficients, none of MCUs that do not read."""
    found = np.zeros((reader.total, reader.blocks.size, 64), np.int16)
    level, at = np.zeros(reader.blocks.size, np.int64), 0
    for _ in range(_MOST_ERRORS):
        if at >= min(reader.total, starts.size):
            break
        run, coefficients = reader.read(entropy, int(starts[at]), reader.total - at, reader.total - at)
        part = found[at : at + run.count]
        part[:] = coefficients[: run.count]
        part[:, :, 0] += level.astype(np.int16)
        if run.count:
            last = [part[-1, np.flatnonzero(reader.blocks == c)[-1], 0] for c in reader.blocks]
            level = np.array(last, np.int64)
        at += run.count + 1
    return found


def _moved(
    blocks: NDArray[np.int16], index: NDArray[np.int64], run: NDArray[np.int64]
) -> tuple[NDArray[np.int16], NDArray[np.bool_]]:
    """Blocks (n, 64) whose code at coefficient ``index`` leaves out ``run`` of them, with every other run (n, runs, 64), and whether
    any coefficient would lie behind the last one (n, runs)."""
    k, other = np.arange(64), np.arange(_RUNS)[:, None]
    source = k - other + run[:, None, None]
    begin = index[:, None, None]
    of_before, of_behind = k < begin, k >= begin + other
    taken = np.take_along_axis(blocks[:, None], np.clip(np.where(of_before, k, source), 0, 63), axis=2)
    moved = np.where((of_before | of_behind) & (of_before | (source < 64)), taken, 0)
    last = 63 - np.argmax(blocks[:, ::-1] != 0, axis=1)
    return moved.astype(np.int16), last[:, None] + np.arange(_RUNS) - run[:, None] > 63
