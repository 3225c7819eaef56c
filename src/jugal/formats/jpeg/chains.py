"""Whole intervals between restart markers (B.2.1), and which of them follow one another with nothing lost between them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from jugal.formats.base import Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.parse import Structure, read_entropy
from jugal.formats.jpeg.runs import Part, Run, RunReader
from jugal.model.span import ByteSpan

#: Bytes of a restart marker, and by how many they are numbered in turn.
MARKER, NUMBERS = 2, 8
_MOST_INTERVALS = 200_000
#: A chain of fewer whole intervals than this may be chance where bytes are foreign.
_LEAST_CHAIN = 2


@dataclass(slots=True, eq=False)
class Chain(Run):
    """Whole intervals that follow one another by number, as one run. Since each counts from zero its levels are the picture's.

    ``spans`` are their bytes, ``mark`` is the number of the first, 0..7. ``begins`` and ``ends`` say that it begins and ends the
    picture.
    """

    intervals: list[Run]
    spans: list[ByteSpan]
    mark: int
    begins: bool
    ends: bool

    @classmethod
    def of(
        cls, intervals: list[Run], spans: list[ByteSpan], mark: int, begins: bool = False, ends: bool = False
    ) -> Chain:
        """The chain of one interval at least."""
        lengths = np.concatenate([np.diff(run.bits) for run in intervals])
        dc, bits = np.concatenate([run.dc for run in intervals], dtype=np.int32), np.append(0, np.cumsum(lengths))
        return cls(intervals[0].entropy, dc, bits, False, intervals, spans, mark, begins, ends)

    @classmethod
    def none(cls, reader: RunReader) -> Chain:
        """That of no interval, ahead of a scan whose start is lost."""
        entropy, dc = reader.scan.entropy, np.zeros((0, reader.blocks.size), np.int32)
        nothing = ByteSpan(entropy.start, entropy.start)
        return cls(entropy, dc, np.zeros(1, np.int64), False, [], [nothing], 0, True, False)

    def only_intervals(self, keep: int) -> Chain:
        """Its first ``keep`` ones."""
        return Chain.of(self.intervals[:keep], self.spans[:keep], self.mark, self.begins)

    def parts(self, reader: RunReader, first: int, count: int) -> Iterator[Part]:
        """Its ``count`` MCUs from number ``first`` on, some rows at a time."""
        none, last = np.zeros(len(reader.shape), np.int64), min(self.count, first + count)
        ends = np.cumsum([run.count for run in self.intervals])
        number = int(np.searchsorted(ends, first, side="right"))
        while first < last:
            coefficients, stop = [], min(last, first + reader.at_once)
            while first < stop:
                run, begin = self.intervals[number], int(ends[number]) - self.intervals[number].count
                wanted = min(run.count, stop - begin)
                coefficients.append(reader.read(run.entropy, int(run.bits[0]), wanted, wanted)[1][first - begin :])
                first = begin + wanted
                number += first == int(ends[number])
            yield Part(sum(c.shape[0] for c in coefficients), np.concatenate(coefficients), none)


def find_chains(subject: Subject, structure: Structure, reader: RunReader) -> list[Chain]:
    """The chains of a scan with restart intervals, in file order."""
    scan = structure.scans[0]
    start, size = scan.entropy.start, scan.restart_interval
    end = _scan_end(subject, structure)
    data = subject.source.array[start:end]
    marks = np.flatnonzero((data[:-1] == 0xFF) & (data[1:] >= 0xD0) & (data[1:] <= 0xD7)) + start
    if marks.size > _MOST_INTERVALS:
        return []
    begins = [start, *(marks + MARKER).tolist()]
    stops = [*marks.tolist(), end]
    numbers = [0, *((subject.source.array[marks + 1] - 0xD0 + 1) % NUMBERS).tolist()]
    last_size = (reader.total - 1) % size + 1
    found: list[list[int]] = []
    runs: dict[int, Run] = {}
    for at, (begin, stop, number) in enumerate(zip(begins, stops, numbers, strict=True)):
        run = reader.read(read_entropy(subject.source, begin, stop), 0, size)[0]
        closes = at == len(begins) - 1 and run.count == last_size
        if not (run.ends_with_data and run.entropy.end == stop and (run.count == size or closes)):
            continue
        runs[at] = run
        if found and found[-1][-1] == at - 1 and (numbers[at - 1] + 1) % NUMBERS == number:
            found[-1].append(at)
        else:
            found.append([at])
    chains = []
    for which in found:
        first, last = which[0], which[-1]
        ends = last == len(begins) - 1 and runs[last].count == last_size
        if len(which) >= _LEAST_CHAIN or ends or first == 0:
            spans = [ByteSpan(begins[at], stops[at]) for at in which]
            chains.append(Chain.of([runs[at] for at in which], spans, numbers[first], first == 0, ends))
    return chains


def _scan_end(subject: Subject, structure: Structure) -> int:
    """Where the scan ends: at the last end-of-image marker, or where no further picture follows, at the file's end."""
    start = structure.scans[0].entropy.start
    following = subject.source.find(b"\xff\xd8\xff", start)
    stop = following if following >= 0 else subject.size
    last = subject.source.array[start:stop].tobytes().rfind(spec.MARK_EOI)
    return start + last if last >= 0 else stop
