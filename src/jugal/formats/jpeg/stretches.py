"""Stretches of bytes that read as the entropy-coded data of a scan, whatever became of the headers around them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.special import entr

from jugal.binary.source import Source
from jugal.kernels.blockstats import SECTOR
from jugal.model.span import ByteSpan

#: Bytes that are looked through at once, and counted.
_AT_ONCE, _COUNTED = 1 << 22, 1 << 20
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
    breaks = [np.array([start, max(start, stop)])]
    for at in range(start, stop - 1, _AT_ONCE):
        marks = at + np.flatnonzero(data[at : min(at + _AT_ONCE, stop - 1)] == 0xFF)
        following = data[marks + 1]
        inside = (following == 0) | (following == 0xFF) | ((following >= 0xD0) & (following <= 0xD7))
        breaks.append(marks[~inside])
        first = -(-at // SECTOR) * SECTOR
        sectors = data[first : min(at + _AT_ONCE, stop)]
        sectors = sectors[: sectors.size // SECTOR * SECTOR].reshape(-1, SECTOR)
        other = (sectors == sectors[:, :1]).all(axis=1) | ((sectors < _HIGH).mean(axis=1) > _TEXT)
        breaks.append(first + SECTOR * np.flatnonzero(np.diff(other, prepend=False, append=False)))
        source.release()
    # In other data there is one in some hundred bytes: of a large file too many to be held one by one.
    borders = np.unique(np.concatenate(breaks))
    long = np.flatnonzero(np.diff(borders) >= _LEAST)
    spans = map(ByteSpan, borders[long].tolist(), borders[long + 1].tolist())
    found = [span for span in spans if information(data[span.start : span.end]) >= DENSE]
    source.release()
    return found


def information(data: NDArray[np.uint8]) -> float:
    """Bits of information a byte holds by how often each value occurs, 0..8."""
    counts = np.zeros(256, np.int64)
    for first in range(0, data.size, _COUNTED):
        # They are counted as numbers of eight bytes.
        counts += np.bincount(data[first : first + _COUNTED], minlength=256)
    return float(entr(counts / data.size).sum() / np.log(2))
