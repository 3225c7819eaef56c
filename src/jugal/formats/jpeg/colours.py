"""What brightness and the two colour differences show as red, green and blue (ITU-T T.871 (7))."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

#: By how many levels red, green and blue (rows) change where Y, Cb and Cr (columns) do by one.
SHOWN = np.array(((1.0, 0.0, 1.402), (1.0, -0.344136, -0.714136), (1.0, 1.772, 0.0)))
#: Levels by which the mean of samples that were in their range may lie beyond it, but for what quantising did to it.
_ROUNDED = 2.0


def out_of_range(
    planes: list[NDArray[np.float32]], steps: NDArray[np.float64], luminance_first: bool
) -> NDArray[np.bool_]:
    """Which MCUs have mean levels that no samples have: red, green and blue end at black and white, as does any mean of them.

    ``planes`` are the levels by component about mid-grey; ``steps`` what one step of a quantised DC value is worth in levels.
    """
    ways = SHOWN if luminance_first and len(planes) == 3 else np.eye(len(planes))
    found = np.zeros(planes[0].shape, np.bool_)
    for way in ways:
        shown = sum(plane * np.float32(share) for plane, share in zip(planes, way, strict=True) if share)
        found |= np.abs(shown) > 128.0 + _ROUNDED + float(np.abs(way) @ steps) / 2
    return found


def levels_shown(changes: Sequence[float]) -> float:
    """By how many levels a colour changes, at most, where its components do by ``changes``; any but three are shown as they are."""
    values = np.asarray(changes, np.float64)
    return float(np.abs(SHOWN @ values if values.size == 3 else values).max())


def doubt_shown(doubts: NDArray[np.float64]) -> float:
    """By how many levels a colour may be off, as a standard deviation, where its components may by ``doubts``, each for itself."""
    return float(np.sqrt(SHOWN**2 @ doubts**2).max() if doubts.size == 3 else doubts.max())
