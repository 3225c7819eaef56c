"""Stretches of bytes that read as the entropy-coded data of a scan, whatever became of the headers around them."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from scipy.special import entr

from jugal.binary.source import Source
from jugal.kernels.blockstats import SECTOR
from jugal.model.span import ByteSpan

_AT_ONCE = 1 << 22
#: Bytes of a stretch that is no chance: in other dense data one of 256 is 0xFF, and hardly ever a zero follows it.
_LEAST = 2048
#: Bytes from which on half of all codes' are, and the share of a sector below from which it is text.
_HIGH, _TEXT = 0x80, 0.9
#: Bits of information that a byte of entropy-coded data holds at least.
DENSE = 6.5


def stretches(source: Source, start: int = 0, end: int | None = None) -> list[ByteSpan]:
    """All stretches between bytes ``start`` and ``end`` in which each 0xFF is a stuffed byte, a restart marker or fill (B.1.1.5).

    Sectors of filler or text part them. What else holds less information than codes do is none.
    """
    stop = source.size if end is None else min(end, source.size)
    data = source.array
    breaks = {start, max(start, stop)}
    for at in range(start, stop - 1, _AT_ONCE):
        marks = at + np.flatnonzero(data[at : min(at + _AT_ONCE, stop - 1)] == 0xFF)
        following = data[marks + 1]
        inside = (following == 0) | (following == 0xFF) | ((following >= 0xD0) & (following <= 0xD7))
        breaks.update(marks[~inside].tolist())
        first = -(-at // SECTOR) * SECTOR
        sectors = data[first : min(at + _AT_ONCE, stop)]
        sectors = sectors[: sectors.size // SECTOR * SECTOR].reshape(-1, SECTOR)
        other = (sectors == sectors[:, :1]).all(axis=1) | ((sectors < _HIGH).mean(axis=1) > _TEXT)
        breaks.update((first + SECTOR * np.flatnonzero(np.diff(other, prepend=False, append=False))).tolist())
        source.release()
    spans = (ByteSpan(*pair) for pair in pairwise(sorted(breaks)))
    return [s for s in spans if s.length >= _LEAST and information(data[s.start : s.end]) >= DENSE]


def information(data: NDArray[np.uint8]) -> float:
    """Bits of information a byte holds by how often each value occurs, 0..8."""
    return float(entr(np.bincount(data, minlength=256) / data.size).sum() / np.log(2))
