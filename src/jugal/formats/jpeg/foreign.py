"""Foreign MCUs at the ends of a run: bytes that were put in may decode for a while, before a fault or behind one.

They begin or end at a sector, and meet the MCUs above them as strangers do.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.breaks import strangers_at
from jugal.formats.jpeg.canvas import ROWS_LEARNT
from jugal.formats.jpeg.edges import Edges, read_edges
from jugal.formats.jpeg.runs import LEAST_KEPT, Run, RunReader
from jugal.formats.jpeg.swaps import is_row_of_strangers

#: Bytes behind a fault in which foreign data may go on; what their MCUs must say for it in all, and each in the mean, where
#: half an MCU is what a stranger says beyond what it might as well be.
FOREIGN_BYTES = 1 << 15
_SURELY_STRANGE, _FEW_STRANGE, _MOSTLY_STRANGE = 6.0, 0.35, 0.2
_SECTOR, _CLUSTER = 512, 4096
#: MCUs behind the border of a cluster by which a row of strangers may begin.
_LATE = 4


def foreign_end(reader: RunReader, run: Run, known: Edges) -> int:
    """How many MCUs at the end of a run, ahead of a fault, belong to what was put in: it may decode for a while before it fails.

    It begins at a sector, and its MCUs meet those above as strangers do.
    """
    width = known.width
    first = max(0, run.count - ROWS_LEARNT * width)
    edges = read_edges(reader, run.entropy, int(run.bits[first]), width, 0, run.count - first, False)
    values = strangers_at(edges, known)
    first += width
    if values is None or not values.size or first + values.size < run.count:
        return 0
    raw = run.entropy.raw_offsets(run.bits[first:-1] >> 3)
    low = max(int(raw[0]), int(raw[-1]) - FOREIGN_BYTES // 2)
    borders = np.searchsorted(raw, np.arange(low // _SECTOR + 1, int(raw[-1]) // _SECTOR + 1) * _SECTOR)
    sums = np.append(np.cumsum((values - 0.5)[::-1])[::-1], 0.0)
    cut = _clearest(borders, sums[borders], values.size - borders)
    return 0 if cut is None else values.size - max(0, cut - 1)


def foreign_start(reader: RunReader, run: Run, known: Edges) -> int:
    """How many MCUs at the start of a run belong to what was put in, not to the picture.

    Foreign data of the same kind decode without an error and end at a sector; a row's length on, the MCUs under them meet
    them as strangers do.
    """
    width = known.width
    raw = run.entropy.raw_offsets(run.bits[:-1] >> 3)
    look = min(int(np.searchsorted(raw, raw[0] + FOREIGN_BYTES)), run.count - width - LEAST_KEPT)
    if look < LEAST_KEPT:
        return 0
    edges = read_edges(reader, run.entropy, int(run.bits[0]), width, 0, look + width, False)
    values = strangers_at(edges, known)
    if values is None or values.size < look:
        return 0
    borders = np.searchsorted(raw, np.arange(raw[0] // _SECTOR + 1, raw[look - 1] // _SECTOR + 1) * _SECTOR)
    borders = borders[(borders >= LEAST_KEPT) & (borders <= look)]
    cut = _clearest(borders, np.cumsum(values - 0.5)[borders - 1], borders)
    if cut is None:
        # More than a row of it goes on in itself. Then only the row below its last one meets it as strangers do.
        whole = borders[raw[borders - 1] // _CLUSTER < raw[borders + 1] // _CLUSTER]
        late = ((int(b), int(b) + k) for b in whole for k in range(_LATE))
        cut = next((b for b, at in late if is_row_of_strangers(values, at - width, width, width // 2)), None)
    # The decoder needs a few MCUs to fall into step again behind the border.
    return 0 if cut is None else min(cut + 2, run.count - 1)


def _clearest(borders: NDArray[np.int64], sums: NDArray[np.float64], counts: NDArray[np.int64]) -> int | None:
    """The border that parts strangers best, where they surely are some: ``sums`` of what ``counts`` MCUs say for it."""
    if not borders.size:
        return None
    best = int(np.argmax(sums))
    # Of few MCUs less is asked: they are soon said to be strangers, and soon done without.
    least = max(min(_SURELY_STRANGE, _FEW_STRANGE * float(counts[best])), _MOSTLY_STRANGE * float(counts[best]))
    return int(borders[best]) if sums[best] > least else None
