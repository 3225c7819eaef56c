"""How much of a progressive picture's look hangs on each of its scans, reckoned from the coefficients that it brings."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.special import erfc

from jugal.formats.jpeg.decode import Layout, Picture, follow
from jugal.formats.jpeg.parse import Scan, Structure

#: Levels by which a pixel may be off and still look right.
_NEAR_LEVELS = 12.0
#: Mean square of a coefficient that a refinement makes known, in units of the least that it can be; it is less than twice.
_NEW = 2.0
_MOST_SHARE = 0.98
#: How much a colour difference weighs in the colour that it changes most (JFIF 1.02, BT.601).
_COLOUR = 1.6
_SAMPLES = 16384


def scan_weights(picture: Picture, structure: Structure) -> list[tuple[float, float]]:
    """Per scan the share of pixels, 0..1, that look wrong where what it brings is another block's, and where it is missing.

    The first scan of DC values carries all. A scan of AC values leaves errors as large as the values that it brings; one
    that refines leaves those of the bit that it refines, and of the coefficients that were zero until then.
    """
    weights: list[tuple[float, float]] = []
    before: NDArray[np.uint64] | None = None
    for number, (layout, _, nonzero) in enumerate(follow(picture.frame, structure.scans, structure.quant)):
        scan = structure.scans[number]
        if scan.ss == 0:
            weights.append(_of_levels(picture, structure, scan))
        else:
            weights.append(_of_details(picture, structure, scan, layout, before, nonzero))
        before = nonzero.copy()
    return weights


def _of_levels(picture: Picture, structure: Structure, scan: Scan) -> tuple[float, float]:
    """Of a scan of DC values: all for the first, for a refinement half the blocks where its bit is more than may be off."""
    if scan.ah == 0:
        return 1.0, 1.0
    tables = [structure.quant.get(picture.frame.components[index].tq) for index, _, _ in scan.components]
    step = max((int(table[0]) for table in tables if table is not None), default=1)
    share = 0.5 if (step << scan.al) / 8 > _limit(picture) else 0.0
    return share, share


def _limit(picture: Picture) -> float:
    return _NEAR_LEVELS * 2.0 ** (picture.frame.precision - 8)


def _of_details(
    picture: Picture, structure: Structure, scan: Scan, layout: Layout, before: NDArray[np.uint64] | None, after: NDArray[np.uint64]
) -> tuple[float, float]:  # fmt: skip
    """Of a scan of AC values of one component: the mean share over its blocks."""
    index = scan.components[0][0]
    table = structure.quant.get(picture.frame.components[index].tq)
    if table is None or before is None:
        return 1.0, 1.0
    first, count = int(layout.offset[index]), int(layout.stride[index] * layout.rows[index])
    some = slice(first, first + count, max(1, count // _SAMPLES))
    least = np.zeros(64)
    least[scan.ss : scan.se + 1] = (table[scan.ss : scan.se + 1].astype(np.float64) * (1 << scan.al)) ** 2
    new = _bits(after[some] & ~before[some])
    energy = new @ (least * (_NEW if scan.ah else _tails(new.mean(axis=0))))
    if scan.ah:
        # The bit that is refined is set in every other one of them.
        energy = energy + 0.5 * (_bits(before[some]) @ least)
    # A block's 64 pixels share the squares of its coefficients. What is shown instead is as large: both miss.
    missing = np.sqrt(energy / 64.0) * (_COLOUR if index else 1.0)
    return _share(missing * np.sqrt(2.0), _limit(picture)), _share(missing, _limit(picture))


def _tails(shares: NDArray[np.float64]) -> NDArray[np.float64]:
    """Mean square of the coefficients that a first scan brings, in units of the least that they can be.

    Of a two-sided exponential, which AC values follow nearly, ``shares`` of all blocks reach that least.
    """
    scale = -1.0 / np.log(np.clip(shares, 1e-6, _MOST_SHARE))
    return 1.0 + 2.0 * scale + 2.0 * scale**2


def _share(deviations: NDArray[np.float64], limit: float) -> float:
    """The share of values beyond ``limit`` where they scatter by ``deviations``."""
    return float(erfc(limit / (np.sqrt(2.0) * np.maximum(deviations, 1e-6))).mean())


def _bits(masks: NDArray[np.uint64]) -> NDArray[np.float64]:
    """(blocks, 64): 1 for each coefficient that is not zero, in zigzag order."""
    return np.unpackbits(masks.astype("<u8").view(np.uint8).reshape(-1, 8), axis=1, bitorder="little").astype(
        np.float64
    )
