"""Intervals between restart markers that break: their first MCUs, up to where they no longer go on from the row above."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Subject
from jugal.formats.jpeg.canvas import ROWS_LEARNT
from jugal.formats.jpeg.chains import MARKER, Chain
from jugal.formats.jpeg.parse import read_entropy
from jugal.formats.jpeg.runs import LEAST_KEPT, Run, RunReader
from jugal.formats.jpeg.seams import Seams

_SECTOR, _CLUSTER = 512, 4096
#: Bytes of an interval at most that are looked at.
_MOST_BYTES = 1 << 20


def begun_behind(subject: Subject, reader: RunReader, chain: Chain, most: int) -> Run | None:
    """The first MCUs of the interval of ``most`` that follows a chain and is not whole; None where none are surely the picture's.

    They end where bytes of one value begin, ahead of the sector in which an error is met, and where they no longer go on from
    the row above.
    """
    begin = chain.spans[-1].end + MARKER
    entropy = read_entropy(subject.source, begin, min(subject.size, begin + _MOST_BYTES))
    marks = entropy.mark_raw[entropy.is_restart]
    if marks.size:
        entropy = read_entropy(subject.source, begin, int(marks[0]))
    run = reader.read(entropy, 0, most)[0]
    raw = entropy.raw_offsets(run.bits >> 3)
    filled = (fill.span.start for fill in subject.blocks.fills if fill.span.end > begin)
    stop = min([entropy.end, *(max(begin, start) for start in filled)])
    if run.failed:
        stop = min(stop, int(raw[-1]) // _SECTOR * _SECTOR)
    elif stop == entropy.end:
        # Nothing but its number of MCUs is wrong: what is lost was a cluster's, or it would show.
        stop = min(stop, int(raw[-1]) // _CLUSTER * _CLUSTER)
    count = _ahead_of(raw, stop)
    if count < LEAST_KEPT:
        return None
    fits, _ = going_on(reader, chain.intervals, run.only_first(count))
    if fits < count:
        fits = _ahead_of(raw, int(raw[fits]) // _SECTOR * _SECTOR)
    return run.only_first(fits) if fits >= LEAST_KEPT else None


def _ahead_of(raw: NDArray[np.int64], stop: int) -> int:
    """How many MCUs end ahead of byte ``stop``; ``raw`` is where each begins and, last, where all end."""
    return max(0, int(np.searchsorted(raw, stop, side="right")) - 1)


def going_on(reader: RunReader, before: list[Run], run: Run) -> tuple[int, float]:
    """How many of the first MCUs of ``run`` go on from those of the intervals ``before`` it, as many as all together speak for it most,
    and how the rest speaks for strangers, in nats."""
    last = ROWS_LEARNT * reader.frame.mcus_x // before[0].count + 1
    meet = Seams(reader, [Chain.of([*before[-last:], run], [], 0)], absolute=True).meet(0)[-run.count :]
    if meet.size < run.count:
        return 0, 0.0
    sums = np.append(0.0, np.cumsum(meet))
    best = int(np.argmax(sums))
    return best, float(sums[best] - sums[-1])
