"""Runs that broke unseen: parted where they did, until all of them have a place in which they go on from one another.

Lost bytes need not lead to an error. What went missing so shows in a seam that needs less than is missing, in the column of a run's
rows, or in a step of its levels.
"""

from __future__ import annotations

from dataclasses import dataclass

from jugal.formats.jpeg.columns import RowEnds, find_break_near, read_row_ends
from jugal.formats.jpeg.edges import Edges
from jugal.formats.jpeg.foreign import foreign_start
from jugal.formats.jpeg.places import Spot, Stray, find_places
from jugal.formats.jpeg.reference import Reference
from jugal.formats.jpeg.runs import LEAST_KEPT, Run, RunReader
from jugal.formats.jpeg.seams import Seams
from jugal.formats.jpeg.steps import step_inside

#: Nats of a seam that strangers meet at, and by how many rows' ends must speak for another column than that where there is room
#: for a run; MCUs within which a run is in step.
_STRANGERS, _OTHER_COLUMN, _SETTLING = -15.0, 2.0, 64
#: Nats by which a seam must go on better with less lost at it, and what that and the place where it was lost must bring together.
_GAINED, _MISSED = 8.0, 30.0
#: Breaks that seams may tell of.
_MOST_UNSEEN = 4
#: Rows beyond its end up to which a picture's data may happen to go on.
_MOST_BEYOND = 2


def settle(
    reader: RunReader,
    head: Run,
    pieces: list[Stray],
    known: Edges,
    ends: RowEnds,
    reference: Reference | None = None,
) -> tuple[Run, list[Stray], list[Spot]]:
    """Places the runs; where a seam or a step tells that one breaks unseen, or one fell into step late,
    that is mended and all are placed again."""
    even: set[tuple[int, int]] = set()
    for left in range(_MOST_UNSEEN, -1, -1):
        pieces = _fitting(reader, head, pieces)
        seams = Seams(reader, [head, *(p.run for p in pieces)])
        ends = ends.of(0, head.count)
        spots = find_places(reader.total, head, pieces, seams, ends, reference)
        parted = None
        if left:
            plain = _plain_parting(reader, head, pieces, spots, seams)
            parted = _part_behind(reader, head, pieces, spots, seams, known, plain)
            parted = parted or _part_astray(reader, head, pieces, spots, known, plain)
            parted = parted or _part_at_step(reader, head, pieces, spots, even, known)
            parted = parted or _freed(reader, head, pieces, spots, ends)
        if parted is None:
            break
        head, pieces = parted
    return head, pieces, spots


@dataclass(frozen=True, slots=True)
class _Place:
    """Run ``number``, the head's being 0, breaks at its MCU ``at``, which is so many ``nats`` likelier than that it does not."""

    nats: float
    number: int
    at: int


def _plain_parting(reader: RunReader, head: Run, pieces: list[Stray], spots: list[Spot], seams: Seams) -> _Place | None:
    """Where a run breaks plainly, whatever is lost there; None where all seams fit or none does."""
    if not any(spot.astray for spot in spots):
        return None
    room = reader.total - head.count - sum(p.run.count + 1 for p in pieces)
    partings = ((number, seams.parting(number, room)) for number in range(len(pieces) + 1))
    found = [_Place(parting.nats, number, parting.at) for number, parting in partings if parting is not None]
    return max(found, key=lambda place: place.nats, default=None)


def _part_behind(
    reader: RunReader,
    head: Run,
    pieces: list[Stray],
    spots: list[Spot],
    seams: Seams,
    known: Edges,
    plain: _Place | None,
) -> tuple[Run, list[Stray]] | None:
    """The head and the runs with one of them parted where the MCUs went missing unseen that a seam ahead of it has no use for; None
    where all seams need what is lost there, or one breaks far more plainly.

    Where the last run ends is known, and all that is missing before it has to be somewhere.
    """
    first = max(range(len(spots)), key=lambda n: spots[n].gained, default=0)
    if not spots or spots[first].gained < _GAINED:
        return None
    found: list[_Place] = []
    for number in range(first, len(pieces)):
        parting = seams.parting(number + 1, spots[first].sooner, -_GAINED, exactly=True)
        if parting is not None:
            row = parting.at // reader.frame.mcus_x + 1
            nats = parting.nats + pieces[number].ends.moved(row, parting.lost)
            found.append(_Place(nats, number + 1, parting.at))
    best = max(found, key=lambda place: place.nats, default=None)
    if best is None or spots[first].gained + best.nats < _MISSED or (plain and plain.nats > best.nats + _MISSED):
        return None
    return _parted(reader, head, pieces, best.number, best.at, known)


def _part_astray(
    reader: RunReader, head: Run, pieces: list[Stray], spots: list[Spot], known: Edges, plain: _Place | None
) -> tuple[Run, list[Stray]] | None:
    """The head and the runs with one of them parted where it broke unseen; None where all seams fit or nothing broke."""
    if plain is not None:
        return _parted(reader, head, pieces, plain.number, plain.at, known)
    for number, spot in enumerate(spots):
        if not spot.astray:
            continue
        before = pieces[number - 1].run if number else head
        if (at := find_break_near(reader, before, before.count)) is not None:
            return _parted(reader, head, pieces, number, at, known)
        if (at := find_break_near(reader, pieces[number].run, 0)) is not None:
            return _parted(reader, head, pieces, number + 1, at, known)
    return None


def _part_at_step(
    reader: RunReader,
    head: Run,
    pieces: list[Stray],
    spots: list[Spot],
    even: set[tuple[int, int]],
    known: Edges,
) -> tuple[Run, list[Stray]] | None:
    """The same with one of them parted where it begins to count from another level; ``even`` are those that were seen not to.

    They are told by the bits between which they lie.
    """
    for number, (piece, spot) in enumerate(zip(pieces, spots, strict=True), 1):
        name = int(piece.run.bits[0]), piece.run.count
        if name in even:
            continue
        if (at := step_inside(reader, piece.run, spot.place)) is not None:
            return _parted(reader, head, pieces, number, at, known)
        even.add(name)
    return None


def _freed(
    reader: RunReader, head: Run, pieces: list[Stray], spots: list[Spot], ends: RowEnds
) -> tuple[Run, list[Stray]] | None:
    """The same with one of them freed of its first MCUs, where it has room only where it does not go on and its rows do not end.

    Decoding that falls into step late may make more MCUs of the bits before than they held.
    """
    width = reader.frame.mcus_x
    for number, (piece, spot) in enumerate(zip(pieces, spots, strict=True)):
        columns = piece.ends.columns(ends)
        elsewhere = float(columns.max() - columns[spot.place % width])
        if piece.run.count < 2 * _SETTLING or spot.meets > _STRANGERS or elsewhere < _OTHER_COLUMN:
            continue
        return head, [*pieces[:number], piece.freed(_SETTLING), *pieces[number + 1 :]]
    return None


def _parted(
    reader: RunReader, head: Run, pieces: list[Stray], number: int, at: int, known: Edges
) -> tuple[Run, list[Stray]]:
    """The head and the runs, of which number ``number``, the head's being 0, breaks at its MCU ``at``."""
    if number:
        front, behind = pieces[number - 1].parted(at)
        return head, [*pieces[: number - 1], front, without_foreign(reader, behind, known), *pieces[number:]]
    rest = head.without_first(at)
    behind = Stray(rest, read_row_ends(reader, rest), 0, False, False)
    return head.only_first(at), [without_foreign(reader, behind, known), *pieces]


def without_foreign(reader: RunReader, stray: Stray, known: Edges) -> Stray:
    """The part behind an unseen break, freed of what was put in there and decoded without an error."""
    skip = foreign_start(reader, stray.run, known)
    return stray.freed(skip) if skip else stray


def _fitting(reader: RunReader, head: Run, pieces: list[Stray]) -> list[Stray]:
    """The runs that the picture has room for: where there are too many MCUs, what was put in decoded to some of them."""
    room = reader.total - head.count

    def over() -> int:
        return sum(p.run.count + 1 for p in pieces) - room

    if 1 < len(pieces) >= over() > 0:
        # A step in level may cost no more than the MCU that it begins with.
        pieces = [p if p.seen or p.lost_bytes else p.freed(1).unseen() for p in pieces]
    pieces = list(pieces)
    while len(pieces) > 1 and over() > 0:
        pieces.remove(min((p for p in pieces if not p.last), key=lambda p: p.run.count, default=pieces[0]))
    if pieces and (skip := over()) > 0:
        only = pieces[0]
        if not only.last and skip > _MOST_BEYOND * reader.frame.mcus_x:
            # What goes on and on beyond the picture's end is another picture's.
            return []
        skip = min(skip, only.run.count)
        pieces = [only.part(skip, only.run.count) if only.last else only.part(0, only.run.count - skip)]
    return [p for p in pieces if p.run.count >= LEAST_KEPT]
