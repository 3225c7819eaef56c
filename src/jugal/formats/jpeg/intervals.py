"""Pictures with restart markers: each interval that is whole put back in its place, whatever lies between them.

A decoder counts restart markers by their number of one figure and so loses its place when more than a few are gone.
Here the number narrows the place to one in eight, and how the rows agree above one another settles it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.canvas import Placed
from jugal.formats.jpeg.entropy import neutral_mcu, with_neutral_codes
from jugal.formats.jpeg.parse import Structure, read_entropy
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.formats.jpeg.select import one_sequential_scan, select
from jugal.kernels.stuffing import pack_bits
from jugal.model.span import ByteSpan

_MOST_INTERVALS = 200_000
#: A chain of fewer good intervals than this may be chance where bytes are foreign.
_LEAST_CHAIN = 2
#: Rows of MCUs that a gap may have for what is above and below it to be compared.
_ROWS = 8


@dataclass(slots=True)
class Chain:
    """Good intervals that follow one another. ``number`` is the place of the first, ``mark`` its restart number."""

    spans: list[ByteSpan]
    runs: list[Run]
    mark: int
    last: bool
    number: int = -1

    @property
    def end(self) -> int:
        return self.number + len(self.spans)


@dataclass(slots=True)
class Intervals:
    """The chains that were placed, in order, of ``total`` intervals of ``size`` MCUs."""

    reader: RunReader
    size: int
    total: int
    chains: list[Chain]

    @property
    def kept(self) -> float:
        """Percent of the picture that is in its place again."""
        whole = sum(run.count for chain in self.chains for run in chain.runs)
        return 100.0 * whole / self.reader.total

    def placed(self) -> list[Placed]:
        """Each interval as a run in its place. Its levels are its own, since each counts from zero."""
        none = np.zeros(len(self.reader.shape))
        return [
            Placed(run, (chain.number + i) * self.size, none.astype(np.int64), none)
            for chain in self.chains
            for i, run in enumerate(chain.runs)
        ]


def applicable(structure: Structure) -> bool:
    """One interleaved sequential scan with restart intervals."""
    return one_sequential_scan(structure) and structure.scans[0].restart_interval > 0


def find_intervals(subject: Subject, structure: Structure) -> Intervals | None:
    """All whole intervals behind one another and where each belongs; None where that cannot be said."""
    if not applicable(structure):
        return None
    reader, size = RunReader(structure), structure.scans[0].restart_interval
    total = -(-reader.total // size)
    chains = _chains(subject, structure, reader, size, total)
    if not chains:
        return None
    found = Intervals(reader, size, total, [])
    for at, chain in enumerate(chains):
        number = _number(found, chain, chains[at + 1 :])
        if number is not None:
            chain.number = number
            found.chains.append(chain)
    return found if found.chains else None


def _chains(subject: Subject, structure: Structure, reader: RunReader, size: int, total: int) -> list[Chain]:
    """The whole intervals of the scan, those that follow one another by number in one chain."""
    start = structure.scans[0].entropy.start
    end = _scan_end(subject, structure)
    data = subject.source.array[start:end]
    marks = np.flatnonzero((data[:-1] == 0xFF) & (data[1:] >= 0xD0) & (data[1:] <= 0xD7)) + start
    if marks.size > _MOST_INTERVALS:
        return []
    begins = [start, *(marks + 2).tolist()]
    ends = [*marks.tolist(), end]
    codes = [7, *(subject.source.array[marks + 1] - 0xD0).tolist()]
    last_size = reader.total - (total - 1) * size
    chains: list[Chain] = []
    previous = -2
    for at, (begin, stop, code) in enumerate(zip(begins, ends, codes, strict=True)):
        run = reader.read(read_entropy(subject.source, begin, stop), 0, size)[0]
        closes = at == len(begins) - 1 and run.count == last_size
        if not (run.ends_with_data and run.entropy.end == stop and (run.count == size or closes)):
            continue
        mark = (int(code) + 1) % 8
        if chains and previous == at - 1 and (chains[-1].mark + len(chains[-1].spans)) % 8 == mark:
            chains[-1].spans.append(ByteSpan(begin, stop))
            chains[-1].runs.append(run)
            chains[-1].last = closes
        else:
            chains.append(Chain([ByteSpan(begin, stop)], [run], mark, closes))
        previous = at
    return [
        c
        for i, c in enumerate(chains)
        if len(c.spans) >= _LEAST_CHAIN or c.last or (i == 0 and c.spans[0].start == start)
    ]


def _scan_end(subject: Subject, structure: Structure) -> int:
    """Where the scan ends: at the last end-of-image marker, or where no further picture follows, at the file's end."""
    start = structure.scans[0].entropy.start
    following = subject.source.find(b"\xff\xd8\xff", start)
    stop = following if following >= 0 else subject.size
    last = subject.source.array[start:stop].tobytes().rfind(spec.MARK_EOI)
    return start + last if last >= 0 else stop


def _number(found: Intervals, chain: Chain, behind: list[Chain]) -> int | None:
    """Which interval a chain begins with: its number of eight, what is placed before it, and how it fits the rows above."""
    least = found.chains[-1].end if found.chains else 0
    needed = sum(len(c.spans) for c in behind)
    most = found.total - needed - len(chain.spans)
    if chain.last:
        return most if most >= least and most % 8 == chain.mark else None
    first = least + (chain.mark - least) % 8
    candidates = list(range(first, most + 1, 8))
    if not candidates:
        return None
    if not found.chains or len(candidates) == 1:
        return candidates[0]
    fits = [(_misfit(found, chain, number), number) for number in candidates[:64]]
    known = [f for f in fits if np.isfinite(f[0])]
    return min(known)[1] if known else candidates[0]


def _levels(reader: RunReader, chain: Chain) -> NDArray[np.float64]:
    """(MCUs, components): the levels of a chain, which restart markers make absolute."""
    return np.concatenate([reader.levels(run.dc) for run in chain.runs])


def _misfit(found: Intervals, chain: Chain, number: int) -> float:
    """How much the chain's first row differs from the nearest placed row above it if it begins with interval ``number``.

    Measured in what rows so far apart usually differ by, so that a gap of several rows can be bridged.
    """
    reader, size, across = found.reader, found.size, found.reader.frame.mcus_x
    mine = _levels(reader, Chain(chain.spans, chain.runs[: 1 + across // size], chain.mark, False))[:across]
    usual = _usual_differences(found)
    canvas = np.full((found.total * size, mine.shape[1]), np.nan)
    for other in found.chains:
        levels = _levels(reader, other)
        canvas[other.number * size : other.number * size + levels.shape[0]] = levels[
            : canvas.shape[0] - other.number * size
        ]
    places = number * size + np.arange(mine.shape[0])
    differences = np.full(mine.shape[0], np.nan)
    for rows in range(1, _ROWS + 1):
        above = places - rows * across
        open_yet = np.isnan(differences) & (above >= 0) & (above < canvas.shape[0])
        apart = np.abs(mine[open_yet] - canvas[above[open_yet]]).mean(axis=1)
        differences[open_yet] = apart / usual[rows - 1]
    known = ~np.isnan(differences)
    return float(np.minimum(differences[known], 6.0).mean()) if known.sum() >= 8 else float("inf")


def _usual_differences(found: Intervals) -> list[float]:
    """What rows of MCUs one, two and more apart differ by in the longest chain that is placed."""
    longest = max(found.chains, key=lambda c: len(c.spans))
    levels, across = _levels(found.reader, longest), found.reader.frame.mcus_x
    out: list[float] = []
    for rows in range(1, _ROWS + 1):
        apart = (
            np.abs(levels[rows * across :] - levels[: -rows * across]).mean()
            if levels.shape[0] > rows * across
            else np.nan
        )
        out.append(max(0.5, float(apart)) if np.isfinite(apart) else (out[-1] if out else 8.0))
    return out


def restore_intervals(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Repair: every whole interval in its place with its bits unchanged, neutral ones for those that are lost."""
    structure = select(subject.source).structure
    found = find_intervals(subject, structure)
    if found is None:
        raise RepairImpossible("No whole interval between restart markers was found.")
    return written(found, *with_neutral_codes(structure))


def written(found: Intervals, structure: Structure, header: tuple[Piece, ...]) -> RepairDraft:
    """The picture behind ``header``: each interval that was found at its number."""
    scan = structure.scans[0]
    grey = neutral_mcu(structure, scan)
    usual = pack_bits(np.tile(grey, found.size))
    last = pack_bits(np.tile(grey, found.reader.total - (found.total - 1) * found.size))
    spans = {chain.number + i: span for chain in found.chains for i, span in enumerate(chain.spans)}
    pieces: list[Piece] = [*header]
    for number in range(found.total):
        if number:
            pieces.append(bytes([0xFF, 0xD0 + (number - 1) % 8]))
        pieces.append(spans.get(number) or (last if number == found.total - 1 else usual))
    pieces.append(spec.MARK_EOI)
    return RepairDraft(
        tuple(pieces),
        (
            f"Put {len(spans):,} of {found.total:,} intervals back in their places, bits unchanged.",
            f"Wrote neutral blocks for the {found.total - len(spans):,} that are lost.",
        ),
        kept=found.kept,
    )
