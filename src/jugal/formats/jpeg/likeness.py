"""How pixels at the sides of two MCUs meet, and what that says: whether they are neighbours or strangers."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from jugal.kernels.seams import side_distances

#: Levels that tell nothing, the least deviation of distances, and fewest of them from which it is learnt.
NOISE, LEAST_DEVIATION, _FEW = 1.0, 0.2, 16
#: What one MCU may say at most, in nats, and what chroma counts.
MOST_SAID, CHROMA = 2.0, 0.5
#: Shares of all distances at whose borders classes of them part, and how often each is taken to have been seen before any was.
_SHARES, _UNSEEN = np.array([0.003, 0.007, 0.015, 0.03, *np.arange(1, 16) / 16, 0.97, 0.985, 0.993, 0.997]), 2.0

#: Distances that are put into classes at once: a large picture has millions.
AT_ONCE = 1 << 16
#: Distances that tell well enough where classes part.
_ENOUGH = 1 << 20


def apart(one: NDArray[np.floating], other: NDArray[np.floating], raised: float | NDArray = 0.0) -> NDArray[np.float64]:
    """The log of how far apart the pixels (MCUs, pixels) of two sides are when one is ``raised``, all or each by its own, as a
    share of how much they vary along the sides."""
    if one.shape != other.shape:
        raise ValueError(f"Sides of {one.shape} and {other.shape} cannot be compared.")  # the kernel checks no bounds
    out = np.empty(one.shape[0])
    rows = (np.ascontiguousarray(side, np.float32) for side in (one, other))
    side_distances(*rows, np.array(np.broadcast_to(raised, out.shape), np.float64), NOISE, out)
    return out


def shares_by_class(
    kinds: Sequence[NDArray[np.floating]], borders: NDArray[np.floating]
) -> tuple[list[NDArray[np.float64]], NDArray[np.int64]]:
    """For each kind of values, (borders + 1,): how often they are in each class that ``borders`` part, never quite 0; and how many
    of all kinds are."""
    classes = borders.size + 1
    counts = [np.zeros(classes, np.int64) for _ in kinds]
    for count, values in zip(counts, kinds, strict=True):
        for first in range(0, values.size, AT_ONCE):
            count += np.bincount(np.searchsorted(borders, values[first : first + AT_ONCE]), minlength=classes)
    return [(n + _UNSEEN) / (n.sum() + _UNSEEN * classes) for n in counts], np.sum(counts, axis=0)


def borders_of(kinds: Sequence[NDArray[np.floating]], shares: NDArray[np.float64]) -> NDArray[np.floating]:
    """The borders that have such ``shares`` of all values below them; of very many a part tells them."""
    every = 1 + sum(values.size for values in kinds) // _ENOUGH
    return np.asarray(np.unique(np.quantile(np.concatenate([values[::every] for values in kinds]), shares)))


def never_rising(values: NDArray[np.float64], weights: NDArray[np.floating]) -> NDArray[np.float64]:
    """The nearest values, by the weighted sum of squares, of which none is above the one before it.

    Each is the least, over all stretches that may begin before it, of the highest mean of one that ends behind it. All stretches are
    few here, and what SciPy has for it brings 23 MB of other code into every worker.
    """
    sums, whole = (np.append(0.0, np.cumsum(v)) for v in (values * weights, weights))
    first, last = np.arange(values.size)[:, None], np.arange(values.size)
    means = (sums[last + 1] - sums[first]) / np.where(last < first, np.inf, whole[last + 1] - whole[first])
    means[last < first] = -np.inf
    highest = np.maximum.accumulate(means[:, ::-1], axis=1)[:, ::-1]
    return np.asarray(np.minimum.accumulate(highest, axis=0).diagonal())


class Likeness:
    """What a distance as ``apart`` gives it says: the log of how much likelier it is between neighbours than between strangers.

    Learnt from both: where a picture is so flat that they look alike, nothing is said.
    """

    def __init__(self, near: NDArray[np.floating], far: NDArray[np.floating]) -> None:
        self._borders = borders_of((near, far), _SHARES)
        (neighbours, strangers), counts = shares_by_class((near, far), self._borders)
        # The further apart, the stranger; a class that few are in must not say otherwise.
        ratio = np.log(neighbours) - np.log(strangers)
        self._ratio = np.clip(never_rising(ratio, counts + _UNSEEN), -MOST_SAID, MOST_SAID)

    @classmethod
    def of(cls, near: Sequence[NDArray[np.floating]], far: Sequence[NDArray[np.floating]]) -> Likeness | None:
        """None where too few are known."""
        joined = [kind[0] if len(kind) == 1 else np.concatenate(kind) if kind else np.zeros(0) for kind in (near, far)]
        return None if min(j.size for j in joined) < _FEW else cls(*joined)

    def said(self, distances: NDArray[np.floating], component: int) -> NDArray[np.float64]:
        """How each distance in a component speaks for neighbours, in nats; negative for strangers."""
        return np.asarray(self._ratio[np.searchsorted(self._borders, distances)] * (CHROMA if component else 1.0))
