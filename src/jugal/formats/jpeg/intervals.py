"""Pictures with restart markers: each interval that is whole put back in its place, whatever lies between them.

A decoder counts restart markers by their number of one figure and so loses its place when more than a few are gone. Whole intervals
are found (``chains.py``), told where they belong (``numbers.py``) and written with neutral ones for those that are lost.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.canvas import Placed
from jugal.formats.jpeg.chains import find_chains
from jugal.formats.jpeg.entropy import neutral_mcu, with_neutral_codes
from jugal.formats.jpeg.numbers import Numbered, number_chains
from jugal.formats.jpeg.parse import Structure
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.select import one_sequential_scan, select
from jugal.kernels.stuffing import pack_bits


@dataclass(frozen=True, slots=True)
class Intervals:
    """The chains that were placed, in order, of ``total`` intervals of ``size`` MCUs."""

    reader: RunReader
    size: int
    total: int
    chains: list[Numbered]

    @property
    def kept(self) -> float:
        """Percent of the picture that is in its place again, chains weighed by how sure their places are."""
        return 100.0 * sum(one.chain.count * one.surety for one in self.chains) / self.reader.total

    def placed(self) -> list[Placed]:
        """Each interval as a run in its place. Its levels are its own, since each counts from zero."""
        none = np.zeros(len(self.reader.shape))
        return [
            Placed(run, (one.number + i) * self.size, none.astype(np.int64), none, one.surety)
            for one in self.chains
            for i, run in enumerate(one.chain.intervals)
        ]


def applicable(structure: Structure) -> bool:
    """One interleaved sequential scan with restart intervals."""
    return one_sequential_scan(structure) and structure.scans[0].restart_interval > 0


def find_intervals(subject: Subject, structure: Structure) -> Intervals | None:
    """All whole intervals behind one another and where each belongs; None where that cannot be said."""
    if not applicable(structure):
        return None
    reader, size = RunReader(structure), structure.scans[0].restart_interval
    placed = number_chains(reader, find_chains(subject, structure, reader), size)
    return Intervals(reader, size, -(-reader.total // size), placed) if placed else None


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
    spans = {one.number + i: span for one in found.chains for i, span in enumerate(one.chain.spans)}
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
