"""Damage inside a sequential scan: decoding taken up again behind each, what survives put back in its place.

Runs are collected behind each damage, freed of what was put in (``foreign.py``), parted where they broke unseen (``partings.py``),
placed (``places.py``) and brought to the level that they lost (``levels.py``). Every surviving bit is kept.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cache
from itertools import chain

import numpy as np
from numpy.typing import NDArray

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.breaks import STRANGE, goes_on, strangeness_of
from jugal.formats.jpeg.canvas import ROWS_LEARNT, Canvas, Placed, first_bit
from jugal.formats.jpeg.columns import RowEnds, find_breaks, read_row_ends
from jugal.formats.jpeg.damage import Verdicts, judge
from jugal.formats.jpeg.decode import Picture, decode
from jugal.formats.jpeg.edges import Edges, read_edges
from jugal.formats.jpeg.entropy import neutral_mcu, with_neutral_codes
from jugal.formats.jpeg.foreign import FOREIGN_BYTES, foreign_end, foreign_start
from jugal.formats.jpeg.gamut import Gamut
from jugal.formats.jpeg.levels import match_levels
from jugal.formats.jpeg.parse import Structure, read_entropy, walk
from jugal.formats.jpeg.partings import settle, without_foreign
from jugal.formats.jpeg.places import Spot, Stray
from jugal.formats.jpeg.reference import Reference
from jugal.formats.jpeg.runs import LEAST_KEPT, Run, RunReader
from jugal.formats.jpeg.select import one_sequential_scan, select, usable
from jugal.kernels.stuffing import pack_parts
from jugal.model import scoring

_SECTOR = 512
_CLUSTER = 4096
_MAX_DAMAGES = 16
_SECTORS_TRIED = 40
#: Start-of-image markers behind a scan's start that are looked at for another picture.
_STARTS_TRIED = 16
#: MCUs within which a run is in step, and levels from mid-grey that none has.
_SETTLING, _BEYOND = 64, 150.0
#: Neutral MCUs that are written at once.
_GAP_AT_ONCE = 4096
#: Rows of a run from which it is told whether it belongs to the picture, though it soon fails.
_ROWS_SURE = 4


@dataclass(slots=True)
class Mosaic:
    """What is left of a picture: the ``before`` MCUs ahead of the damage and the runs behind it, in order; and a small copy of it in
    the file by which they were put there, if there is one."""

    reader: RunReader
    before: int
    placed: list[Placed]
    reference: Reference | None = None

    @property
    def kept(self) -> float:
        """Percent of the picture that is in its place again, runs weighed by how sure their places and levels are."""
        frame = self.reader.frame
        behind = sum(one.surety * frame.covered(one.place, one.end) for one in self.placed)
        return scoring.share(frame.covered(0, self.before) + behind, frame.pixels)


def applicable(structure: Structure) -> bool:
    """One interleaved sequential scan without restart intervals, which would resynchronise by themselves."""
    return one_sequential_scan(structure) and structure.scans[0].restart_interval == 0


@dataclass(slots=True)
class _Found:
    """A run as it was found: the bytes lost ahead of it, whether those were seen to be bad, whether it ends the picture."""

    run: Run
    lost_bytes: int
    seen: bool
    last: bool


def find_mosaic(
    subject: Subject, structure: Structure, picture: Picture, verdicts: Verdicts | None = None
) -> Mosaic | None:
    """All that decodes behind the first damage, placed; None where nothing does. Without ``verdicts`` the picture is judged."""
    if not applicable(structure):
        return None
    verdicts = verdicts or judge(subject, structure, picture)
    if not verdicts.damages:
        return None
    first = min(verdicts.damages, key=lambda d: d.first)
    reader = RunReader(structure, first.first)
    bad = [*(f.span for f in verdicts.fills), *verdicts.foreign, *verdicts.misplaced]
    holes = sorted((s.start, s.end) for s in bad)
    found = _collect(subject, structure, reader, first.start, holes)
    if not found:
        return None
    known = _known_edges(reader, structure, picture, first.first)
    head, _ = reader.read(structure.scans[0].entropy, first_bit(picture), first.first)
    if not found[0].seen:
        head = head.only_first(head.count - foreign_end(reader, head, known))
    head, pieces, ends = _whole(reader, head, _own(found, reader, known), known)
    reference = Reference.of(subject, structure, reader, head)
    head, pieces, spots = settle(reader, head, pieces, known, ends, reference)
    if not spots:
        return None
    canvas = Canvas(picture, reader, head)
    gamut = Gamut(reader, head)
    mosaic = Mosaic(reader, head.count, [], reference)
    for piece, spot in zip(pieces, spots, strict=True):
        placed = _put(canvas, piece, gamut, reference, spot)
        if placed is not None:
            mosaic.placed.append(placed)
    return mosaic if mosaic.placed else None


def _collect(
    subject: Subject, structure: Structure, reader: RunReader, fault: int, holes: list[tuple[int, int]]
) -> list[_Found]:
    """The runs behind each damage, in file order."""
    end = _picture_end(subject, structure)
    at, seen, gone = fault, False, fault
    if holes and holes[0][0] <= fault + _SECTOR:
        at, seen = holes[0][1], True
    pieces: list[_Found] = []
    for _ in range(_MAX_DAMAGES):
        if end - at < 64:
            break
        stop = next((s for s, _ in holes if s > at), end)
        run = _resume(subject, reader, at, stop, seen)
        if run is None:
            if stop == end:
                break
            at, seen = next(e for s, e in holes if s == stop), True
            continue
        raw = run.entropy.raw_offsets(run.bits >> 3)
        if raw[-1] < stop - _SECTOR:
            # A marker among what was put in ends the data as well as an error does.
            run.failed = True
        last = stop == end and run.ends_with_data
        if run.failed:
            # What stands in the sector of the fault may be nonsense that happened to decode.
            run = run.only_first(int(np.searchsorted(raw[:-1], raw[-1] // _SECTOR * _SECTOR)))
        if run.count >= LEAST_KEPT:
            pieces.append(_Found(run, max(0, int(raw[0]) - gone), seen, last))
            gone = int(raw[min(run.count, raw.size - 1)])
        if last:
            break
        if run.failed and raw[-1] < stop - _SECTOR:
            at, seen = int(raw[-1]), False
        elif stop < end:
            at, seen = next(e for s, e in holes if s == stop), True
        else:
            break
    return pieces


def _own(pieces: list[_Found], reader: RunReader, known: Edges) -> list[_Found]:
    """The runs that are the picture's own, without what of bytes that were put in decoded ahead of them.

    Laid out in rows of this one's length the MCUs of another picture meet as strangers do. Too few of them to tell are left out
    where decoding soon failed again. Bytes of what is left out count as lost.
    """
    kept, lost, width = [], 0, known.width
    for piece in pieces:
        run = piece.run
        lost += piece.lost_bytes
        begin = int(run.bits[0])
        long = run.count >= _ROWS_SURE * width or run.bits[-1] - begin > 8 * FOREIGN_BYTES // 2
        if piece.seen or not run.failed or long:
            edges = read_edges(reader, run.entropy, begin, width, 0, min(run.count, ROWS_LEARNT * width), False)
            alike = strangeness_of(edges, known) < STRANGE
            if alike or _goes_on(reader, run, width):
                skip = foreign_start(reader, run, known) if alike and not piece.seen else 0
                own = run.without_first(skip)
                own = own.only_first(own.count - (foreign_end(reader, own, known) if run.failed else 0))
                if own.count >= LEAST_KEPT:
                    kept.append(_Found(own, lost + (int(own.bits[0]) - begin >> 3), piece.seen, piece.last))
                    lost = int(run.bits[-1] - own.bits[-1]) >> 3
                    continue
        lost += int(run.bits[-1]) - begin >> 3
    return kept


def _goes_on(reader: RunReader, run: Run, width: int) -> bool:
    """Whether the MCUs of a run, ``width`` in a row, plainly go on from row to row."""
    edges = read_edges(reader, run.entropy, int(run.bits[0]), width, 0, min(run.count, ROWS_LEARNT * width))
    return edges.apart[0].size >= _ROWS_SURE * width and goes_on(edges.apart[0], edges.strange[0])


def _whole(reader: RunReader, head: Run, found: list[_Found], known: Edges) -> tuple[Run, list[Stray], RowEnds]:
    """The head as far as it stands where it was decoded, the runs, parted where they broke without an error, and where the head's
    rows end."""
    parts: list[Stray] = []
    for one in [_Found(head, 0, True, False), *found]:
        ends = read_row_ends(reader, one.run)
        whole, begin = Stray(one.run, ends, one.lost_bytes, one.seen, one.last), 0
        for at in [*find_breaks(reader, one.run, ends), one.run.count]:
            part = whole.part(begin, at)
            parts.append(without_foreign(reader, part.unseen(), known) if begin else part)
            begin = at
    return parts[0].run, parts[1:], parts[0].ends


def _picture_end(subject: Subject, structure: Structure) -> int:
    """The end-of-image marker that closes the picture: one met inside the damage does not, if no picture follows it."""
    start = structure.scans[0].entropy.start
    following = -1
    for _ in range(_STARTS_TRIED):
        following = subject.source.find(b"\xff\xd8\xff", max(start, following + 1))
        if following < 0 or usable(walk(subject.source, following)):
            break
    else:
        following = -1
    if following >= 0 and (structure.eoi is None or following < structure.eoi):
        # Another picture begins where this one should go on.
        return following
    last = subject.source.rfind(spec.MARK_EOI, start)
    if structure.eoi is None:
        return last if last >= 0 else subject.size
    return max(last, structure.eoi) if following < 0 else structure.eoi


def _resume(subject: Subject, reader: RunReader, at: int, stop: int, seen: bool) -> Run | None:
    """The run that goes on behind a damage.

    Behind bytes ``seen`` to be bad it begins at once; else the sectors that follow the fault are tried in turn.
    """
    starts = [at]
    if not seen:
        base = at // _SECTOR * _SECTOR
        near = [base + k * _SECTOR for k in range(8)]
        clusters = [(base // _CLUSTER + k) * _CLUSTER for k in range(1, _SECTORS_TRIED)]
        starts = near + [at for at in clusters if at > near[-1]]
    for begin in starts:
        if begin >= stop - 64:
            break
        bit = reader.in_step(subject, begin, stop, seen)
        if bit is None:
            continue
        # Mostly it is a part of what the scan holds anyway.
        part = reader.scan.entropy.part(begin, stop)
        run = reader.follow(part or read_entropy(subject.source, begin, stop), bit, reader.total)
        # Data may end at a marker among what was put in, which says nothing.
        to_the_end = run.ends_with_data and int(run.entropy.raw_offsets(run.bits[-1:] >> 3)[0]) >= stop - _SECTOR
        long_enough = seen or int(run.bits[-1] - run.bits[0]) > 16 * _SECTOR or to_the_end
        if run.count >= LEAST_KEPT and long_enough:
            return run
    return None


def _put(canvas: Canvas, stray: Stray, gamut: Gamut, reference: Reference | None, spot: Spot) -> Placed | None:
    """Takes a run in at its place, its level matched."""
    run, place = stray.run, spot.place
    if place <= canvas.end:
        skip = canvas.end + 1 - place
        run, place = run.without_first(min(run.count, skip)), place + skip
    if run.count < LEAST_KEPT:
        return None
    offsets, doubt = match_levels(canvas, run, place)
    if reference is not None:
        offsets, doubt = reference.settle(run, place, offsets, doubt)
    offsets, doubt = gamut.settle(run, offsets, doubt)
    skip = _wild_start(canvas.reader, run, offsets)
    if run.count - skip < LEAST_KEPT:
        return None
    sure = spot.surety * canvas.reader.sure_of_component
    placed = Placed(run.without_first(skip), place + skip, offsets, doubt, sure)
    canvas.add(placed)
    return placed


def _known_edges(reader: RunReader, structure: Structure, picture: Picture, before: int) -> Edges:
    """The edges of the last MCUs ahead of number ``before``, from a row's start on."""
    width = picture.frame.mcus_x
    first = max(0, before - ROWS_LEARNT * width) // width * width
    bit = int(picture.scans[0].unit_pos[first])
    return read_edges(reader, structure.scans[0].entropy, bit, width, first, before)


def _wild_start(reader: RunReader, run: Run, offsets: NDArray[np.int64]) -> int:
    """How many MCUs at the start of a run to leave out, for they or what comes before have levels that no picture has.

    They were not in step yet. What is put before a run must have the level that its first MCU counts from.
    """
    levels = np.vstack((reader.counted_from(run)[reader.blocks], run.dc[:_SETTLING])).astype(np.float64)
    levels = (levels + offsets[reader.blocks]) * reader.steps[reader.blocks]
    wild = np.flatnonzero((np.abs(levels) > _BEYOND).any(axis=1))
    return int(wild[-1]) + 1 if wild.size else 0


def resync(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The good start, then each surviving run behind neutral blocks for what is lost before it."""
    structure = select(subject.source).structure
    if not applicable(structure):
        raise RepairImpossible("Only sequential pictures of one scan without restart markers need this repair.")
    assert structure.frame is not None
    picture = decode(structure.frame, structure.scans, structure.quant)
    mosaic = find_mosaic(subject, structure, picture)
    if mosaic is None:
        raise RepairImpossible("Behind the damage nothing decodes that could be put back.")
    return write(structure, picture, mosaic)


def write(structure: Structure, picture: Picture, mosaic: Mosaic) -> RepairDraft:
    """The picture of a mosaic as a file: neutral blocks stand for what is lost, at the levels that a small copy has there, if there is
    one."""
    reader = mosaic.reader
    structure, header = with_neutral_codes(structure)
    copy = mosaic.reference if _any_level(structure) else None
    scan = structure.scans[0]
    head, _ = reader.read(scan.entropy, first_bit(picture), mosaic.before)
    parts: list[Iterable[NDArray[np.uint8]]] = [head.own_bits()]
    none = np.zeros(len(reader.shape), np.int64)
    levels, usual = _last_levels(reader, head, none), _usual_levels(reader, head, none)
    reached = head.count
    steps = [f"Kept the {head.count:,} blocks of the picture before the damage."]
    for placed in mosaic.placed:
        lost = placed.place - reached
        then = reader.counted_from(placed.run) + placed.offsets
        parts.append(_gap(structure, reached, lost, levels, usual, then, copy))
        parts.append(placed.run.own_bits())
        levels = _last_levels(reader, placed.run, placed.offsets)
        usual = _usual_levels(reader, placed.run, placed.offsets)
        reached = placed.end
        begin = int(placed.run.entropy.raw_offsets(np.array([int(placed.run.bits[0]) >> 3]))[0])
        steps.append(
            f"Wrote {lost:,} neutral blocks, took up decoding at byte {begin:,} and put {placed.run.count:,} blocks back."
        )
    if reached < reader.total:
        parts.append(_gap(structure, reached, reader.total - reached, levels, usual, usual, copy))
        steps.append(f"Wrote {reader.total - reached:,} neutral blocks to the end of the picture.")
    steps.append("Matched brightness and tint at the seams.")
    if mosaic.reference is not None:
        across, down = mosaic.reference.size
        filled = ", and gave neutral blocks those that it has there" if copy else ""
        steps.append(
            f"Took places and levels from the small picture of {across} × {down} pixels in the file as well{filled}."
        )
    pieces: tuple[Piece, ...] = (*header, *pack_parts(chain.from_iterable(parts)), spec.MARK_EOI)
    return RepairDraft(pieces, tuple(steps), kept=mosaic.kept)


def _any_level(structure: Structure) -> bool:
    """Whether there are codes for changes of any size."""
    frame, scan = structure.frame, structure.scans[0]
    assert frame is not None
    sizes = set(range(frame.precision + 4))
    return all(sizes <= set(scan.tables[td].symbols) for _, td, _ in scan.components)


def _gap(
    structure: Structure,
    first: int,
    lost: int,
    levels: NDArray[np.int64],
    usual: NDArray[np.int64],
    then: NDArray[np.int64],
    copy: Reference | None,
) -> Iterator[NDArray[np.uint8]]:
    """The bits of ``lost`` neutral MCUs, ``first`` the number of the first, at the levels of a ``copy``, the ``usual`` ones where it
    has none, between MCUs at ``levels`` and ones that count from ``then``.

    The last MCU ahead of a fault may have any colour.
    """
    scan = structure.scans[0]
    mcu = cache(lambda *changes: neutral_mcu(structure, scan, list(changes)))
    for begin in range(first, first + lost, _GAP_AT_ONCE):
        count = min(_GAP_AT_ONCE, first + lost - begin)
        filled = np.tile(usual, (count, 1))
        if copy is not None:
            shown = copy.shown(np.arange(begin, begin + count))
            filled[:, : shown.shape[1]] = shown
        if begin + count == first + lost:
            filled[-1] = then
        changes = np.diff(filled, axis=0, prepend=levels[None])
        yield np.concatenate([mcu(*change) for change in changes.tolist()])
        levels = filled[-1]


def _usual_levels(reader: RunReader, run: Run, offsets: NDArray[np.int64]) -> NDArray[np.int64]:
    """Per component the median DC value of the run's last row, as written."""
    if not run.count:
        return np.zeros(len(reader.shape), np.int64)
    row = run.dc[-reader.frame.mcus_x :]
    medians = [round(float(np.median(row[:, reader.blocks == c]))) for c in range(len(reader.shape))]
    return np.array(medians, np.int64) + offsets


def _last_levels(reader: RunReader, run: Run, offsets: NDArray[np.int64]) -> NDArray[np.int64]:
    """Per component the DC value of the run's last block, as written."""
    if not run.count:
        return np.zeros(len(reader.shape), np.int64)
    last = [int(run.dc[-1, np.flatnonzero(reader.blocks == c)[-1]]) for c in range(len(reader.shape))]
    return np.array(last, np.int64) + offsets
