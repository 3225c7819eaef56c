"""How likely each symbol of a sequential scan is where it comes, learnt from scans that read rightly."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.kernels.supposed import BUSIES, CONTEXTS, INDEXES, LASTS

#: Symbols that weigh as much as what is known of all contexts like one, and how much a context next to it in business tells.
_WEIGHT, _LENT = 20.0, 0.15
#: What a symbol counts that never came but may, and one that cannot come.
_MAY, _CANNOT = 0.05, 0.0005
_LEAST = -14.0
#: Symbols of AC tables and of DC tables with 8 bits a sample (T.81 F.1.2.1, F.1.2.2).
AC_SYMBOLS = tuple(sorted({0x00, 0xF0, *(run << 4 | size for run in range(16) for size in range(1, 11))}))
DC_SYMBOLS = tuple(range(12))


def likelihoods(counts: NDArray[np.int64] | NDArray[np.float64], weight: float = _WEIGHT) -> NDArray[np.float32]:
    """log2 of the probability of each symbol, (4, CONTEXTS, 256), of how often symbols came there, DC tables before AC tables.

    Where a context is seldom met, contexts like it tell: the same coefficient behind any size before, in blocks about as
    busy, then in any block, then all of the table.
    """
    found = np.full((4, CONTEXTS, 256), _LEAST, np.float32)
    near = _LENT ** np.abs(np.subtract.outer(np.arange(BUSIES), np.arange(BUSIES)))
    for table in range(4):
        symbols, lasts = (AC_SYMBOLS, LASTS) if table > 1 else (DC_SYMBOLS, 1)
        part = counts[table, : INDEXES * lasts * BUSIES].reshape(INDEXES, lasts, BUSIES, 256).astype(np.float64)
        floor = np.full(256, _CANNOT)
        floor[list(symbols)] = _MAY
        whole = part.sum(axis=(0, 1, 2)) + floor
        whole /= whole.sum()
        by_index = _mixed(part.sum(axis=(1, 2)), whole, weight)
        by_busy = _mixed(np.einsum("ab,kbs->kas", near, part.sum(axis=1)), by_index[:, None], weight)
        each = _mixed(part, by_busy[:, None], weight)
        found[table, : INDEXES * lasts * BUSIES] = np.maximum(np.log2(each), _LEAST).reshape(-1, 256)
    return found


def _mixed(counts: NDArray[np.float64], expected: NDArray[np.float64], weight: float) -> NDArray[np.float64]:
    return (counts + weight * expected) / (counts.sum(axis=-1, keepdims=True) + weight)
