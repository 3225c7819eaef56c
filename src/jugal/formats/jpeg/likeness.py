"""How pixels at the sides of two MCUs meet, and what that says: whether they are neighbours or strangers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.kernels.seams import side_distances

#: Levels that tell nothing, the least deviation of distances, and fewest of them from which it is learnt.
NOISE, LEAST_DEVIATION, _FEW = 1.0, 0.2, 16
#: What one MCU may say at most, in nats, and what chroma counts.
MOST_SAID, CHROMA = 2.0, 0.5


def apart(one: NDArray[np.floating], other: NDArray[np.floating], raised: float | NDArray = 0.0) -> NDArray[np.float64]:
    """The log of how far apart the pixels (MCUs, pixels) of two sides are when one is ``raised``, all or each by its own, as a
    share of how much they vary along the sides."""
    if one.shape != other.shape:
        raise ValueError(f"Sides of {one.shape} and {other.shape} cannot be compared.")  # the kernel checks no bounds
    out = np.empty(one.shape[0])
    rows = (np.ascontiguousarray(side, np.float32) for side in (one, other))
    side_distances(*rows, np.array(np.broadcast_to(raised, out.shape), np.float64), NOISE, out)
    return out


@dataclass(frozen=True, slots=True)
class Usual:
    """The distances of one kind, as ``apart`` gives them: their mean and deviation."""

    mean: float
    deviation: float

    @classmethod
    def of(cls, distances: Sequence[NDArray[np.floating]]) -> Usual | None:
        """None where too few are known."""
        joined = np.concatenate(distances) if distances else np.zeros(0)
        if joined.size < _FEW:
            return None
        return cls(float(joined.mean(dtype=np.float64)), max(LEAST_DEVIATION, float(joined.std(dtype=np.float64))))

    def likely(self, distances: NDArray[np.floating]) -> NDArray[np.float64]:
        """The log of how likely each is among these, but for a constant."""
        off = (distances - self.mean) / self.deviation
        return -0.5 * off * off - np.log(self.deviation)


def said(distances: NDArray[np.floating], near: Usual, far: Usual, component: int) -> NDArray[np.float64]:
    """How each distance in a component speaks for neighbours, in nats; negative for strangers."""
    ratio = np.clip(near.likely(distances) - far.likely(distances), -MOST_SAID, MOST_SAID)
    return ratio * (CHROMA if component else 1.0)
