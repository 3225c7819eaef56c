"""How pixels at the sides of two MCUs meet, and what that says: whether they are neighbours or strangers."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import isotonic_regression

from jugal.kernels.seams import side_distances

#: Levels that tell nothing, the least deviation of distances, and fewest of them from which it is learnt.
NOISE, LEAST_DEVIATION, _FEW = 1.0, 0.2, 16
#: What one MCU may say at most, in nats, and what chroma counts.
MOST_SAID, CHROMA = 2.0, 0.5
#: Shares of all distances at whose borders classes of them part, and how often each is taken to have been seen before any was.
_SHARES, _UNSEEN = np.array([0.003, 0.007, 0.015, 0.03, *np.arange(1, 16) / 16, 0.97, 0.985, 0.993, 0.997]), 2.0


def apart(one: NDArray[np.floating], other: NDArray[np.floating], raised: float | NDArray = 0.0) -> NDArray[np.float64]:
    """The log of how far apart the pixels (MCUs, pixels) of two sides are when one is ``raised``, all or each by its own, as a
    share of how much they vary along the sides."""
    if one.shape != other.shape:
        raise ValueError(f"Sides of {one.shape} and {other.shape} cannot be compared.")  # the kernel checks no bounds
    out = np.empty(one.shape[0])
    rows = (np.ascontiguousarray(side, np.float32) for side in (one, other))
    side_distances(*rows, np.array(np.broadcast_to(raised, out.shape), np.float64), NOISE, out)
    return out


class Likeness:
    """What a distance as ``apart`` gives it says: the log of how much likelier it is between neighbours than between strangers.

    Learnt from both: where a picture is so flat that they look alike, nothing is said.
    """

    def __init__(self, near: NDArray[np.floating], far: NDArray[np.floating]) -> None:
        borders = np.quantile(np.concatenate((near, far)), _SHARES)
        self._borders = np.unique(borders)
        classes = self._borders.size + 1
        counts = [np.bincount(np.searchsorted(self._borders, x), minlength=classes) for x in (near, far)]
        likely = [np.log((n + _UNSEEN) / (n.sum() + _UNSEEN * classes)) for n in counts]
        # The further apart, the stranger; a class that few are in must not say otherwise.
        falling = isotonic_regression(
            likely[0] - likely[1], weights=counts[0] + counts[1] + _UNSEEN, increasing=False
        ).x
        self._ratio = np.clip(falling, -MOST_SAID, MOST_SAID)

    @classmethod
    def of(cls, near: Sequence[NDArray[np.floating]], far: Sequence[NDArray[np.floating]]) -> Likeness | None:
        """None where too few are known."""
        joined = [np.concatenate(kind) if kind else np.zeros(0) for kind in (near, far)]
        return None if min(j.size for j in joined) < _FEW else cls(*joined)

    def said(self, distances: NDArray[np.floating], component: int) -> NDArray[np.float64]:
        """How each distance in a component speaks for neighbours, in nats; negative for strangers."""
        return np.asarray(self._ratio[np.searchsorted(self._borders, distances)] * (CHROMA if component else 1.0))
