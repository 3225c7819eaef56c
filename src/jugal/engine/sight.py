"""Same picture, other size or quality: a signature of 256 bits from the small picture."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PIL import Image

_SIDE = 16
_LEAST_DEVIATION = 6.0
BITS = _SIDE * _SIDE


def sight_of(picture: Image.Image) -> bytes | None:
    """32 bytes: for each place of a grid of 16 by 16, whether it grows brighter to the right.

    None for pictures with hardly any content (fog, night, one colour), whose signature would be that of noise.
    """
    grid = np.asarray(picture.convert("L").resize((_SIDE + 1, _SIDE), Image.Resampling.BOX), np.int16)
    if float(grid.std()) < _LEAST_DEVIATION:
        return None
    return np.packbits(grid[:, 1:] > grid[:, :-1]).tobytes()


def distances(one: NDArray[np.uint8], others: NDArray[np.uint8]) -> NDArray[np.int64]:
    """In how many of the 256 bits signatures differ; ``others`` has one in each row of 32 bytes."""
    return np.bitwise_count(np.bitwise_xor(others, one)).sum(axis=1, dtype=np.int64)
