"""Pictures with restart markers: each interval that is whole put back in its place, whatever lies between them.

A decoder counts restart markers by their number of one figure and so loses its place when more than a few are gone. Whole intervals
are found (``chains.py``) and told where they belong (``numbers.py``), of one that breaks behind them its start is kept (``begun.py``),
and neutral blocks are written for what is lost.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.begun import begun_behind
from jugal.formats.jpeg.canvas import Placed
from jugal.formats.jpeg.chains import NUMBERS, find_chains
from jugal.formats.jpeg.entropy import neutral_mcu, with_neutral_codes
from jugal.formats.jpeg.numbers import Numbered, number_chains
from jugal.formats.jpeg.parse import Structure
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.formats.jpeg.select import one_sequential_scan, select
from jugal.kernels.stuffing import pack_bits
from jugal.model import scoring


@dataclass(frozen=True, slots=True)
class Begun:
    """The first MCUs of an interval that breaks, and how likely its place is, 0..1."""

    run: Run
    surety: float


@dataclass(frozen=True, slots=True)
class Intervals:
    """The chains that were placed, in order, of ``total`` intervals of ``size`` MCUs, and what is left at the start of those that break
    behind them, by their numbers."""

    reader: RunReader
    size: int
    total: int
    chains: list[Numbered]
    begun: dict[int, Begun]

    def count(self, number: int) -> int:
        """MCUs of an interval: the last may have fewer."""
        return min(self.size, self.reader.total - number * self.size)

    @property
    def kept(self) -> float:
        """Percent of the picture that is in its place again, chains weighed by how sure their places are."""
        frame = self.reader.frame
        return scoring.share(sum(one.surety * frame.covered(one.place, one.end) for one in self.placed()), frame.pixels)

    def placed(self) -> list[Placed]:
        """Each interval as a run in its place. Its levels are its own, since each counts from zero."""
        none = np.zeros(len(self.reader.shape))
        runs = [
            (one.number + i, run, one.surety) for one in self.chains for i, run in enumerate(one.chain.intervals)
        ] + [(number, one.run, one.surety) for number, one in self.begun.items()]
        return [Placed(run, at * self.size, none.astype(np.int64), none, sure) for at, run, sure in runs]


def applicable(structure: Structure) -> bool:
    """One interleaved sequential scan with restart intervals."""
    return one_sequential_scan(structure) and structure.scans[0].restart_interval > 0


def find_intervals(subject: Subject, structure: Structure) -> Intervals | None:
    """All whole intervals behind one another and where each belongs; None where that cannot be said."""
    if not applicable(structure):
        return None
    reader, size = RunReader(structure), structure.scans[0].restart_interval
    placed, total = number_chains(reader, find_chains(subject, structure, reader), size), -(-reader.total // size)
    if not placed:
        return None
    found = Intervals(reader, size, total, placed, {})
    for one, behind in zip(placed, [*(p.number for p in placed[1:]), total], strict=True):
        if one.end < behind:
            run = begun_behind(subject, reader, one.chain, found.count(one.end))
            if run is not None:
                found.begun[one.end] = Begun(run, one.surety)
    return found


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
    last = pack_bits(np.tile(grey, found.count(found.total - 1)))
    spans = {one.number + i: span for one in found.chains for i, span in enumerate(one.chain.spans)}
    pieces: list[Piece] = [*header]
    for number in range(found.total):
        if number:
            pieces.append(bytes([0xFF, 0xD0 + (number - 1) % NUMBERS]))
        if number in found.begun:
            run, whole = found.begun[number].run, found.count(number)
            pieces.append(pack_bits(np.concatenate([*run.own_bits(), np.tile(grey, whole - run.count)])))
        else:
            pieces.append(spans.get(number) or (last if number == found.total - 1 else usual))
    pieces.append(spec.MARK_EOI)
    steps = [f"Put {len(spans):,} of {found.total:,} intervals back in their places, bits unchanged."]
    if found.begun:
        steps.append(f"Kept the first blocks of {len(found.begun):,} that break.")
    steps.append(f"Wrote neutral blocks for what is lost of the {found.total - len(spans):,} others.")
    return RepairDraft(tuple(pieces), tuple(steps), kept=found.kept)
