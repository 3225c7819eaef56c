"""How much of a progressive picture's look hangs on each of its scans, reckoned from the coefficients that it brings."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.special import erfc

from jugal.formats.jpeg import spec
from jugal.formats.jpeg.decode import Layout, Picture, follow
from jugal.formats.jpeg.parse import Frame, Scan, Structure

#: Levels by which a pixel may be off and still look right.
_NEAR_LEVELS = 12.0
#: Mean square of a coefficient that a refinement makes known, in units of the least that it can be: further ones may follow, by which it is
#: less than twice as large; where none does it is the least.
_NEW, _NEW_AT_LAST = 2.0, 1.0
_MOST_SHARE = 0.98
#: How much a colour difference weighs in the colour that it changes most (JFIF 1.02, BT.601).
_COLOUR = 1.6
_SAMPLES = 16384
#: The radial frequency of each coefficient, in zigzag order, by which those fall off that never came.
_FREQUENCY = np.array([max(1.0, float(np.hypot(z // 8, z % 8))) for z in spec.ZIGZAG[:64]])
#: What coefficients of colour are of those of luma, where none of theirs came.
_COLOUR_SPREAD = 0.25
#: How many times as far off pixels would be if coefficients that were not seen spread as widely as those that were: of photographs most
#: lie nearer to zero, and decoders smooth what is left out.
_NEARER = 1.9
#: How widely coefficients of the lowest frequency spread where none came, as a share of how DC values of neighbouring blocks differ.
_OF_GRADIENT = 0.7
#: Classes of how many coefficients of a block are known, by doubling.
_BUSIEST = 5
#: Coefficients that must have been seen of a kind to tell how widely it spreads.
_FEW = 8


def scan_weights(picture: Picture, structure: Structure) -> list[tuple[float, float]]:
    """Per scan the share of pixels, 0..1, that look wrong where what it brings is another block's, and where it is missing.

    The first scan of DC values carries all. A scan of AC values leaves errors as large as the values that it brings; one
    that refines leaves those of the bit that it refines, and of the coefficients that were zero until then.
    """
    weights: list[tuple[float, float]] = []
    before: dict[int, NDArray[np.uint64]] = {}
    for number, (layout, _, nonzero) in enumerate(follow(picture.frame, structure.scans, structure.quant)):
        scan = structure.scans[number]
        if scan.ss == 0:
            weights.append(_of_levels(picture, structure, scan))
        else:
            index = scan.components[0][0]
            after = nonzero[_sampled(layout, index)]
            weights.append(_of_details(picture, structure, scan, before.get(index), after))
        before = {index: nonzero[_sampled(layout, index)].copy() for index in range(len(picture.frame.components))}
    return weights


def _of_levels(picture: Picture, structure: Structure, scan: Scan) -> tuple[float, float]:
    """Of a scan of DC values: all for the first, for a refinement half the blocks where its bit is more than may be off."""
    if scan.ah == 0:
        return 1.0, 1.0
    tables = [structure.quant.get(picture.frame.components[index].tq) for index, _, _ in scan.components]
    step = max((int(table[0]) for table in tables if table is not None), default=1)
    share = 0.5 if (step << scan.al) / 8 > _limit(picture.frame) else 0.0
    return share, share


def _limit(frame: Frame) -> float:
    return _NEAR_LEVELS * 2.0 ** (frame.precision - 8)


def _of_details(
    picture: Picture, structure: Structure, scan: Scan, before: NDArray[np.uint64] | None, after: NDArray[np.uint64]
) -> tuple[float, float]:
    """Of a scan of AC values of one component: the mean share over some of its blocks, with the coefficients that are not zero
    ``before`` and ``after`` it."""
    index = scan.components[0][0]
    table = structure.quant.get(picture.frame.components[index].tq)
    if table is None or before is None:
        return 1.0, 1.0
    least = np.zeros(64)
    least[scan.ss : scan.se + 1] = (table[scan.ss : scan.se + 1].astype(np.float64) * (1 << scan.al)) ** 2
    new = _bits(after & ~before)
    refined = _NEW if scan.al else _NEW_AT_LAST
    energy = new @ (least * (refined if scan.ah else _tails(new.mean(axis=0))))
    if scan.ah:
        # The bit that is refined is set in every other one of them.
        energy = energy + 0.5 * (_bits(before) @ least)
    # A block's 64 pixels share the squares of its coefficients. What is shown instead is as large: both miss.
    missing = np.sqrt(energy / 64.0) * (_COLOUR if index else 1.0)
    return _share(missing * np.sqrt(2.0), _limit(picture.frame)), _share(missing, _limit(picture.frame))


def _sampled(layout: Layout, index: int) -> slice:
    """Some of a component's blocks, all over it."""
    first, count = int(layout.offset[index]), int(layout.stride[index] * layout.rows[index])
    return slice(first, first + count, max(1, count // _SAMPLES))


def missing_share(frame: Frame, structure: Structure) -> float:
    """The share of pixels, 0..1, that look wrong since scans that would bring or refine their coefficients never came.

    0 where every bit of every coefficient came, 1 where not all DC values did. How large the others are is told from those that came:
    they spread like two-sided exponentials, the less the higher their frequency; where none came, from how DC values differ.
    """
    low = np.full((len(frame.components), 64), -1)
    for scan in structure.scans:
        for index, _, _ in scan.components:
            low[index, scan.ss : scan.se + 1] = scan.al
    tables = [structure.quant.get(component.tq) for component in frame.components]
    if not low.any() and structure.has_levels:
        return 0.0
    if not structure.has_levels or any(table is None for table in tables):
        return 1.0
    *_, (layout, levels, nonzero) = follow(frame, structure.scans, structure.quant)
    right, luma = 1.0, np.zeros(64)
    for index, table in enumerate(tables):
        if table is None:
            return 1.0
        known, reach = _bits(nonzero[_sampled(layout, index)]), table * np.exp2(np.maximum(low[index], 0))
        came = (low[index] >= 0) & (np.arange(64) > 0)
        limit = _limit(frame) / (_COLOUR if index else 1.0)
        if not came.any() and not luma.any():
            gradient = table[0] * _gradient(levels, layout, index)
            wrong = _far_off(2.0 * (_OF_GRADIENT * gradient) ** 2 * (_FREQUENCY[1:] ** -2.0).sum(), limit).mean()
        elif not came.any():
            wrong = _still_wrong(known, _COLOUR_SPREAD * luma, reach, low[index], limit).mean()
        else:
            luma = luma if index else _spread(known, reach, came)
            # Quiet blocks and busy ones are no one crowd.
            busy = np.minimum(np.ceil(np.log2(1.0 + known[:, came].sum(axis=1))), _BUSIEST)
            crowds = [known[busy == k] for k in np.unique(busy)]
            wrong = np.concatenate(
                [_still_wrong(k, _spread(k, reach, came), reach, low[index], limit) for k in crowds]
            ).mean()
        right *= 1.0 - float(wrong)
    return 1.0 - right


def _spread(known: NDArray[np.float64], reach: NDArray[np.float64], came: NDArray[np.bool_]) -> NDArray[np.float64]:
    """(64,): how widely coefficients spread, from how many of the ``known`` (blocks, 64) reach that far, where any ``came``."""
    counts = known.sum(axis=0)
    own = reach / -np.log(np.minimum((counts + 0.5) / (known.shape[0] + 1.0), _MOST_SHARE))
    sure = came & (counts >= _FEW)
    like = own[sure] * _FREQUENCY[sure] if sure.any() else np.array([(own * _FREQUENCY)[came].min()])
    fallen = np.median(like) / _FREQUENCY
    # Where none or few reach that far it is known only that most are less.
    return np.where(sure, own, np.where(came, np.minimum(own, fallen), fallen))


def _still_wrong(
    known: NDArray[np.float64], spread: NDArray[np.float64], reach: NDArray[np.float64], low: NDArray[np.int64], limit: float
) -> NDArray[np.float64]:  # fmt: skip
    """(blocks,): the share of each block's pixels beyond ``limit`` for what never came of it."""
    # Below what it would take to be seen so far, and of what is seen the bits below the last one that came.
    ratio = np.maximum(reach / np.maximum(spread, 1e-6), 1e-6)
    below = spread**2 * (2.0 - np.exp(-ratio) * (ratio**2 + 2 * ratio + 2)) / -np.expm1(-ratio)
    unseen = np.where(low < 0, 2.0 * spread**2, np.where(low > 0, below, 0.0))
    seen = np.where(low > 0, reach**2 / 3.0, 0.0)
    energy = (1.0 - known) @ unseen + known @ seen
    return _far_off(energy, limit)


def _far_off(energy: NDArray[np.float64], limit: float) -> NDArray[np.float64]:
    """(blocks,): the share of pixels beyond ``limit`` by the squares of the coefficients that are missing: they are off by little mostly and
    by far now and then, as coefficients are."""
    return np.asarray(np.exp(-_NEARER * limit / np.sqrt(np.maximum(energy / 128.0, 1e-12))))


def _gradient(levels: NDArray[np.int16], layout: Layout, index: int) -> NDArray[np.float64]:
    """(blocks,): how far the DC values of some of a component's blocks lie from those beside them."""
    first, across, down = (int(x[index]) for x in (layout.offset, layout.stride, layout.rows))
    plane = levels[first : first + across * down].reshape(down, across).astype(np.int32)
    some = slice(None, None, max(1, plane.size // _SAMPLES))
    return np.abs(np.diff(plane, axis=1)).ravel()[some].astype(np.float64)


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
