"""How much of a progressive picture's look hangs on each of its scans, reckoned from the coefficients that it brings."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import partial
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray
from scipy.special import erfc

from jugal.formats.jpeg import spec
from jugal.formats.jpeg.colours import SHOWN
from jugal.formats.jpeg.decode import Layout, Picture, follow, scan_units
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
#: By which power of the frequency coefficients of most pictures fall off, how much that counts against what is seen of a picture (sum
#: of squares of logarithms), and the least and the most of it.
_USUAL_SLOPE, _SLOPE_WEIGHT, _SLOPES = 1.6, 1.0, (0.6, 3.0)
#: Spreads to a step of a table beyond which none is told from none at all.
_STEEPEST = 40.0
#: How widely coefficients of the lowest frequency spread where none came, as a share of how DC values of neighbouring blocks differ.
_OF_GRADIENT = 0.4
#: Classes of how many coefficients of a block are known, by doubling.
_BUSIEST = 5
#: The share of a scan's blocks that must be right for it to tell what it brings.
_LEAST_SOUND = 0.5
_ALL_SOUND: Mapping[int, int] = MappingProxyType({})
#: Coefficients that must have been seen of a kind to tell how widely it spreads.
_FEW = 8


def scan_weights(
    picture: Picture, structure: Structure, sound: Mapping[int, int] = _ALL_SOUND
) -> list[tuple[float, float]]:
    """Per scan the share of pixels, 0..1, that look wrong where what it brings is another block's, and where it is missing.

    ``sound`` says of a scan, by its number, how many of its units are right where not all are: only these tell what it brings.

    The first scan of DC values carries all. A scan of AC values leaves errors as large as the values that it brings; one
    that refines leaves those of the bit that it refines, and of the coefficients that were zero until then.
    """
    weights: list[tuple[float, float]] = []
    came: dict[int, _Came] = {}
    for number, (layout, levels, nonzero) in enumerate(follow(picture.frame, structure.scans, structure.quant)):
        scan = structure.scans[number]
        if scan.ss == 0:
            weights.append(_of_levels(picture, structure, scan))
        else:
            index = scan.components[0][0]
            right = _sound(picture.frame, layout, scan, sound.get(number))
            brought = _brought(
                structure.quant.get(picture.frame.components[index].tq),
                scan,
                came.get(index),
                nonzero[_sampled(layout, index)],
                right,
            )
            weights.append(_by_squares(brought, index, _limit(picture.frame)))
        for index in range(len(picture.frame.components)):
            low = came[index].low if index in came else np.full(64, -1)
            if index in [i for i, _, _ in scan.components]:
                _take_in(low, scan)
            some = _sampled(layout, index)
            came[index] = _Came(low, nonzero[some].copy(), partial(_gradient, levels, layout, index, some))
    return weights


@dataclass(slots=True)
class _Came:
    """What came of a component so far: down to which bit of each coefficient, which are not zero of some of its blocks, and how far the DC
    values of these lie from those beside them."""

    low: NDArray[np.int64]
    nonzero: NDArray[np.uint64]
    gradient: Callable[[], NDArray[np.float64]]


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


def _brought(
    table: NDArray[np.uint16] | None,
    scan: Scan,
    before: _Came | None,
    after: NDArray[np.uint64],
    right: NDArray[np.bool_],
) -> NDArray[np.float64] | None:
    """(blocks,): the squares of what a scan of AC values of one component brings to some of its blocks; None where nothing tells.

    It is told by the blocks that are ``right``, with the coefficients that are not zero ``after`` it; where these are few, by what came
    ``before``.
    """
    if table is None or before is None:
        return None
    steps = np.zeros(64)
    steps[scan.ss : scan.se + 1] = table[scan.ss : scan.se + 1]
    if right.mean() >= _LEAST_SOUND:
        least = (steps * (1 << scan.al)) ** 2
        new = _bits((after & ~before.nonzero)[right])
        refined = _NEW if scan.al else _NEW_AT_LAST
        energy = new @ (least * (refined if scan.ah else _tails(new.mean(axis=0))))
        # The bit that is refined is set in every other one of them.
        return np.asarray(energy + 0.5 * (_bits(before.nonzero[right]) @ least) if scan.ah else energy)
    known, low = _bits(before.nonzero), before.low
    came = (low >= 0) & (np.arange(64) > 0)
    if not came.any():
        return _missing(known, _by_gradient(before.gradient(), table), table, low, steps)
    missing = _missing_by_crowd(known, table, low, came, steps)
    if not scan.ah:
        return missing
    # What a scan refines that never came is missing as well: nothing else counts it.
    behind = np.where(steps > 0, scan.al, low)
    return np.maximum(0.0, missing - _missing_by_crowd(known, table, behind, came, steps))


def _by_squares(brought: NDArray[np.float64] | None, index: int, limit: float) -> tuple[float, float]:
    """The shares of pixels that look wrong where what a scan brought to component ``index`` is another block's, and where it is missing."""
    if brought is None:
        return 1.0, 1.0
    # A block's 64 pixels share the squares of its coefficients. What is shown instead is as large: both miss.
    missing = np.sqrt(brought / 64.0) * (_COLOUR if index else 1.0)
    return _share(missing * np.sqrt(2.0), limit), _share(missing, limit)


def _sound(frame: Frame, layout: Layout, scan: Scan, units: int | None) -> NDArray[np.bool_]:
    """Which of some of the blocks of a scan of one component lie in its first ``units``; all where none is given."""
    index = scan.components[0][0]
    some = _sampled(layout, index)
    row, column = np.divmod(np.arange(some.start, some.stop, some.step) - some.start, int(layout.stride[index]))
    total, across = scan_units(frame, scan)
    return np.asarray((column < across) & (row * across + column < (total if units is None else units)))


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
            _take_in(low[index], scan)
    tables = [structure.quant.get(component.tq) for component in frame.components]
    if not low.any() and structure.has_levels:
        return 0.0
    if not structure.has_levels or any(table is None for table in tables):
        return 1.0
    *_, (layout, levels, nonzero) = follow(frame, structure.scans, structure.quant)
    energies, luma = [], np.zeros(64)
    for index, table in enumerate(tables):
        if table is None:
            return 1.0
        known, came = _bits(nonzero[_beside(frame, layout, index)]), (low[index] >= 0) & (np.arange(64) > 0)
        if not came.any() and not luma.any():
            gradient = _gradient(levels, layout, index, _beside(frame, layout, index))
            missing = _missing(known, _by_gradient(gradient, table), table, low[index])
        elif not came.any():
            missing = _missing(known, _COLOUR_SPREAD * luma, table, low[index])
        else:
            luma = luma if index else _spread(known, table, low[index], came)
            missing = _missing_by_crowd(known, table, low[index], came, table)
        energies.append(missing / 64.0)
    # Errors of many coefficients add up to a bell, and most often the colour that is off most is the only one that shows.
    ways = SHOWN**2 if len(energies) == 3 else np.eye(len(energies))
    off = np.sqrt(np.maximum((ways @ np.array(energies)).max(axis=0), 1e-12))
    return _share(off, _limit(frame))


def _take_in(low: NDArray[np.int64], scan: Scan) -> None:
    """Notes what a scan brings in ``low``, the last bit of each coefficient that came; one that comes again takes nothing back."""
    part = low[scan.ss : scan.se + 1]
    part[(part < 0) | (part > scan.al)] = scan.al


def _by_gradient(gradient: NDArray[np.float64], table: NDArray[np.uint16]) -> NDArray[np.float64]:
    """(blocks, 64): how widely the coefficients of blocks spread whose DC values lie that far from those beside them."""
    return np.asarray((_OF_GRADIENT * table[0] * gradient)[:, None] / _FREQUENCY**_USUAL_SLOPE)


def _beside(frame: Frame, layout: Layout, index: int) -> NDArray[np.int64]:
    """Blocks of a component at places all over the picture, the same of each component."""
    h, v = frame.h_max, frame.v_max
    rows, across = frame.mcus_y * v, frame.mcus_x * h
    places = np.arange(0, rows * across, max(1, rows * across // _SAMPLES))
    component, stride = frame.components[index], int(layout.stride[index])
    row, column = places // across * component.v // v, places % across * component.h // h
    return np.asarray(int(layout.offset[index]) + row * stride + column)


def _spread(
    known: NDArray[np.float64], table: NDArray[np.uint16], low: NDArray[np.int64], came: NDArray[np.bool_]
) -> NDArray[np.float64]:
    """(64,): how widely coefficients spread, from how many of the ``known`` (blocks, 64) reach so far, where any ``came``.

    What rounds to a value is half a step below it already.
    """
    counts, reach = known.sum(axis=0), (np.exp2(np.maximum(low, 0)) - 0.5) * table
    own = reach / -np.log(np.minimum((counts + 0.5) / (known.shape[0] + 1.0), _MOST_SHARE))
    sure = came & (counts >= _FEW)
    fall = _FREQUENCY ** _slope(own[sure], _FREQUENCY[sure])
    like = own[sure] * fall[sure] if sure.any() else np.array([(own * fall)[came].min()])
    fallen = np.median(like) / fall
    # Where none or few reach that far it is known only that most are less.
    return np.where(sure, own, np.where(came, np.minimum(own, fallen), fallen))


def _slope(spreads: NDArray[np.float64], frequencies: NDArray[np.float64]) -> float:
    """By which power of the frequency coefficients fall off, from the spreads of some of them and from what is usual."""
    x, y = np.log(frequencies), np.log(spreads)
    x, y = (v - v.mean() if v.size else v for v in (x, y))
    slope = (_USUAL_SLOPE * _SLOPE_WEIGHT - float(x @ y)) / (_SLOPE_WEIGHT + float(x @ x))
    return float(np.clip(slope, *_SLOPES))


def _missing_by_crowd(
    known: NDArray[np.float64],
    table: NDArray[np.uint16],
    low: NDArray[np.int64],
    came: NDArray[np.bool_],
    counted: NDArray[np.float64],
) -> NDArray[np.float64]:
    """(blocks,): what ``_missing`` says of the ``counted`` steps of a table, of quiet blocks and of busy ones: they are no one crowd."""
    busy = np.minimum(np.ceil(np.log2(1.0 + known[:, came].sum(axis=1))), _BUSIEST)
    missing = np.empty(busy.size)
    for crowd in (busy == k for k in np.unique(busy)):
        missing[crowd] = _missing(known[crowd], _spread(known[crowd], table, low, came), table, low, counted)
    return missing


def _missing(
    known: NDArray[np.float64],
    spread: NDArray[np.float64],
    table: NDArray[np.uint16],
    low: NDArray[np.int64],
    counted: NDArray[np.float64] | None = None,
) -> NDArray[np.float64]:
    """(blocks,): the squares of what never came of each block's coefficients, which are whole steps of ``table``; those ``counted``, if
    not all are."""
    steps = table / np.maximum(spread, 1e-6)
    # Of what is zero so far all that it may be; of what is seen the bits below the last one that came.
    unseen, seen = np.zeros(steps.shape), np.zeros(64)
    for bits in np.unique(low):
        which = low == bits
        if bits < 0:
            unseen[..., which] = mean_squares(steps[..., which])
        elif bits > 0:
            unseen[..., which] = mean_squares_below(steps[..., which], 1 << int(bits))
            each = np.arange(1 << int(bits))
            often = np.exp(-np.minimum(steps.reshape(-1, 64).mean(axis=0)[which, None], _STEEPEST) * each)
            seen[which] = (often * each**2).sum(axis=1) / often.sum(axis=1)
    unseen[..., 0] = seen[0] = 0.0
    squares = (table if counted is None else counted) ** 2
    return np.asarray(((1.0 - known) * (unseen * squares)).sum(axis=1) + known @ (seen * squares))


def mean_squares(steps: NDArray[np.float64]) -> NDArray[np.float64]:
    """Mean square of rounded values that spread so that one step is ``steps`` times their spread."""
    fall = np.exp(-np.minimum(steps, _STEEPEST))
    return np.asarray(np.exp(-np.minimum(steps, _STEEPEST) / 2.0) * (1.0 + fall) / np.maximum(1.0 - fall, 1e-9) ** 2)


def mean_squares_below(steps: NDArray[np.float64], end: int) -> NDArray[np.float64]:
    """The same of those that are less than ``end``."""
    steps = np.minimum(steps, _STEEPEST)
    reach = [np.exp(-(k - 0.5) * steps) for k in range(1, end + 1)]
    inside = sum(k**2 * (reach[k - 1] - reach[k]) for k in range(1, end))
    return np.asarray(inside / np.maximum(1.0 - reach[-1], 1e-9))


def _gradient(
    levels: NDArray[np.int16], layout: Layout, index: int, some: slice | NDArray[np.int64]
) -> NDArray[np.float64]:
    """(blocks,): how far the DC values of ``some`` blocks of a component lie from those of their four neighbours, as a root of mean squares."""
    first, across, down = (int(x[index]) for x in (layout.offset, layout.stride, layout.rows))
    plane = levels[first : first + across * down].reshape(down, across).astype(np.float32)
    beside = np.pad(plane, 1, mode="edge")
    neighbours = (beside[1:-1, 2:], beside[1:-1, :-2], beside[2:, 1:-1], beside[:-2, 1:-1])
    found = np.zeros(first + across * down)
    found[first:] = np.sqrt(sum((one - plane) ** 2 for one in neighbours) / 4.0).ravel()
    return np.asarray(found[some])


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
