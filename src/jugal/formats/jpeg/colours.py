"""What brightness and the two colour differences show as red, green and blue (ITU-T T.871 (7))."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

#: By how many levels red, green and blue (rows) change where Y, Cb and Cr (columns) do by one.
SHOWN = np.array(((1.0, 0.0, 1.402), (1.0, -0.344136, -0.714136), (1.0, 1.772, 0.0)))


def levels_shown(changes: Sequence[float]) -> float:
    """By how many levels a colour changes, at most, where its components do by ``changes``; any but three are shown as they are."""
    values = np.asarray(changes, np.float64)
    return float(np.abs(SHOWN @ values if values.size == 3 else values).max())


def doubt_shown(doubts: NDArray[np.float64]) -> float:
    """By how many levels a colour may be off, as a standard deviation, where its components may by ``doubts``, each for itself."""
    return float(np.sqrt(SHOWN**2 @ doubts**2).max() if doubts.size == 3 else doubts.max())
