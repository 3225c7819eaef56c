"""Samples of blocks from their coefficients (T.81 A.3.3), by matrix products: some of a block's samples cost no more than they must."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.fft import idctn

from jugal.formats.jpeg import spec


def _basis() -> NDArray[np.float32]:
    out = np.zeros((64, 64))
    out[np.arange(64), spec.ZIGZAG[:64]] = 1.0
    return np.asarray(idctn(out.reshape(64, 8, 8), axes=(1, 2), norm="ortho"), np.float32)


#: (64, 8, 8): what each zigzag coefficient gives to each sample.
BASIS = _basis()


def samples_of(
    blocks: NDArray[np.number], table: NDArray[np.float64] | None, basis: NDArray[np.float32] = BASIS
) -> NDArray[np.float32]:
    """(…, samples) of zigzag coefficients (…, 64) quantised by ``table``, by none if it is not known; mid-grey at 0.

    ``basis`` (64, …) says what a coefficient of 1 gives to each of the samples that are wanted.
    """
    scale = np.ones(64, np.float32) if table is None else table.astype(np.float32)
    return np.asarray(blocks.astype(np.float32, copy=False) @ (basis.reshape(64, -1) * scale[:, None]))
