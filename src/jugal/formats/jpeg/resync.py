"""Damage inside a sequential scan: decoding taken up again behind each, what survives put back in its place.

The last run goes to the end of the picture, so its place is known by counting from there. Runs between two damages are
placed where they go best with the rows above. Every run lost the level it counts from; it is matched to its
neighbourhood: at the pixel row where blocks touch, else over the gap by the slope of the rows on both sides. Every
surviving bit is kept.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.jpeg.breaks import MAD_TO_DEVIATION, STRANGE, strangeness_of, strangers_at
from jugal.formats.jpeg.canvas import Canvas, Placed, first_bit
from jugal.formats.jpeg.damage import judge
from jugal.formats.jpeg.decode import Picture, decode, raw_offsets
from jugal.formats.jpeg.edges import Edges, read_edges
from jugal.formats.jpeg.entropy import neutral_mcu, with_neutral_codes
from jugal.formats.jpeg.gamut import Gamut
from jugal.formats.jpeg.levels import match_levels
from jugal.formats.jpeg.parse import Structure, walk
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.formats.jpeg.select import one_sequential_scan, select, usable
from jugal.kernels.stuffing import pack_bits

_SECTOR = 512
_CLUSTER = 4096
_MAX_DAMAGES = 16
_SECTORS_TRIED = 40
#: Start-of-image markers behind a scan's start that are looked at for another picture.
_STARTS_TRIED = 16
#: Rows of MCUs before the damage by which it is told whether a run belongs to the picture, and rows of the run.
_ROWS_LEARNT = 48
_LEAST = 4
#: MCUs within which a run is in step, and levels from mid-grey that none has.
_SETTLING, _BEYOND = 64, 150.0
#: Share of the MCUs that lost bytes are reckoned to have held by which the reckoning may be off.
_DOUBT = 0.3
#: Bytes behind a fault in which foreign data may go on; what their MCUs must say for it in all, and each in the mean, where
#: half an MCU is what a stranger says beyond what it might as well be.
_FOREIGN_BYTES = 1 << 15
_SURELY_STRANGE, _FEW_STRANGE, _MOSTLY_STRANGE = 6.0, 0.35, 0.2
#: Rows of a run from which its columns are told, and by how many deviations a column stands out by chance.
_LEAST_ROWS = 4
_CHANCE = 2.5


@dataclass(slots=True)
class Mosaic:
    """What is left of a picture: the ``before`` MCUs ahead of the damage and the runs behind it, in order."""

    reader: RunReader
    before: int
    placed: list[Placed]

    @property
    def kept(self) -> float:
        """Percent of the picture that is in its place again, runs weighed by how sure their levels are."""
        return 100.0 * (self.before + sum(p.run.count * p.surety for p in self.placed)) / self.reader.total


def applicable(structure: Structure) -> bool:
    """One interleaved sequential scan without restart intervals, which would resynchronise by themselves."""
    return one_sequential_scan(structure) and structure.scans[0].restart_interval == 0


@dataclass(slots=True)
class _Piece:
    """A run before it is placed: the bytes lost ahead of it, whether those were seen to be bad, whether it is the last."""

    run: Run
    lost_bytes: int
    seen: bool
    last: bool


def find_mosaic(subject: Subject, structure: Structure, picture: Picture) -> Mosaic | None:
    """All that decodes behind the first damage, placed; None where nothing does."""
    if not applicable(structure):
        return None
    verdicts = judge(subject, structure, picture)
    if not verdicts.damages:
        return None
    reader = RunReader(structure)
    first = min(verdicts.damages, key=lambda d: d.first)
    holes = sorted((s.start, s.end) for s in [*(f.span for f in verdicts.fills), *verdicts.foreign])
    pieces = _collect(subject, structure, reader, first.start, holes)
    if not pieces:
        return None
    known = _known_edges(reader, structure, picture, first.first)
    before = first.first if pieces[0].seen else _true_end(picture, known, first.first)
    pieces = _own(pieces, reader, known)
    if not pieces:
        return None
    canvas = Canvas(picture, structure, reader, before)
    gamut = Gamut(reader, canvas.placed[0].run)
    mosaic = Mosaic(reader, before, [])
    spots = _estimates(canvas, pieces)
    for number, piece in enumerate(pieces):
        placed = _put(canvas, piece, known, gamut, spots[number], pieces[number + 1 :], spots[number + 1 :])
        if placed is not None:
            mosaic.placed.append(placed)
    return mosaic if mosaic.placed else None


def _collect(
    subject: Subject, structure: Structure, reader: RunReader, fault: int, holes: list[tuple[int, int]]
) -> list[_Piece]:
    """The runs behind each damage, in file order."""
    end = _picture_end(subject, structure)
    at, seen, gone = fault, False, fault
    if holes and holes[0][0] <= fault + _SECTOR:
        at, seen = holes[0][1], True
    pieces: list[_Piece] = []
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
        last = stop == end and run.ends_with_data
        raw = raw_offsets(run.entropy, run.bits >> 3)
        if run.failed:
            # What stands in the sector of the fault may be nonsense that happened to decode.
            run = run.only_first(int(np.searchsorted(raw[:-1], raw[-1] // _SECTOR * _SECTOR)))
        if run.count >= _LEAST:
            pieces.append(_Piece(run, max(0, int(raw[0]) - gone), seen, last))
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


def _own(pieces: list[_Piece], reader: RunReader, known: Edges) -> list[_Piece]:
    """Without those of another picture: laid out in rows of this one's length their MCUs meet as strangers do."""
    kept = []
    for piece in pieces:
        run, width = piece.run, known.width
        edges = read_edges(reader, run.entropy, int(run.bits[0]), width, 0, min(run.count, _ROWS_LEARNT * width), False)
        if strangeness_of(edges, known) < STRANGE:
            kept.append(piece)
    return kept


def _estimates(canvas: Canvas, pieces: list[_Piece]) -> list[int]:
    """The place of each run if lost bytes held as many MCUs as others: exact for the last, which ends the picture."""
    total = canvas.reader.total
    have = sum(p.run.count for p in pieces)
    lost_bytes = [p.lost_bytes for p in pieces]
    if pieces[-1].last:
        lost = max(len(pieces), total - canvas.end - have)
    else:
        used = sum(int(p.run.bits[-1] - p.run.bits[0]) >> 3 for p in pieces)
        lost = max(len(pieces), round(sum(lost_bytes) * have / max(1, used)))
    spots, at = [], canvas.end
    for piece, size in zip(pieces, lost_bytes, strict=True):
        at += max(1, round(lost * size / max(1, sum(lost_bytes))))
        spots.append(at)
        at += piece.run.count
    if pieces[-1].last:
        spots[-1] = total - pieces[-1].run.count
    return spots


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
    last = subject.source.rfind(b"\xff\xd9", start)
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
        run = reader.follow(subject, begin, stop, bit, reader.total)
        long_enough = seen or int(run.bits[-1] - run.bits[0]) > 16 * _SECTOR or run.ends_with_data
        if run.count >= _LEAST and long_enough:
            return run
    return None


def _put(
    canvas: Canvas, piece: _Piece, known: Edges, gamut: Gamut, spot: int, behind: list[_Piece], spots: list[int]
) -> Placed | None:
    """Places a run, drops what of it is foreign, matches its level and takes it in."""
    run, least = piece.run, canvas.end + 1
    place = spot
    if piece.last:
        if place < least:
            run, place = run.without_first(min(run.count, least - place)), least
    else:
        best = _best_place(canvas, run, spot, behind, spots)
        if best is None:
            return None
        place = best
    if not piece.seen and run.count >= _LEAST:
        skip = _foreign_start(canvas.reader, run, known)
        run, place = run.without_first(skip), place + skip
    if run.count < _LEAST:
        return None
    offsets, doubt = gamut.settle(run, *match_levels(canvas, run, place))
    skip = _wild_start(canvas.reader, run, offsets)
    if run.count - skip < _LEAST:
        return None
    placed = Placed(run.without_first(skip), place + skip, offsets, doubt)
    canvas.add(placed)
    return placed


def _best_place(canvas: Canvas, run: Run, spot: int, behind: list[_Piece], spots: list[int]) -> int | None:
    """Where near ``spot`` a run goes best with the rows above it and with the last run, whose place is known.

    Levels follow those of the neighbours but for a constant. Which row is told by the estimate, where in the row by
    the picture.
    """
    reader, width = canvas.reader, canvas.width
    if run.count < max(8, width // 8):
        return None
    first, most = canvas.end + 1, reader.total - run.count - sum(p.run.count + 1 for p in behind)
    reach = max(width // 2, round(_DOUBT * (spot - canvas.end)))
    first, most = max(first, spot - reach), min(most, spot + reach)
    if most < first:
        return None
    levels = reader.levels(run.dc)
    head, tail = np.arange(min(run.count, 2 * width)), np.arange(max(0, run.count - 2 * width), run.count)
    below = _Below(canvas, behind, spots)
    costs = np.full(most - first + 1, np.inf)
    edge = _edge_by_column(reader, run, width)
    for k in range(costs.size):
        parts = [
            _misfit(levels[number], *look(first + k + number), width)
            for number, look in ((head, canvas.above), (tail, below.under))
        ]
        known = [c for c in parts if c is not None]
        if known:
            off = (first + k - spot) / max(1.0, reach / 2)
            costs[k] = float(np.mean(known)) * (1.0 + 0.5 * off * off) / edge[(first + k) % width]
    if not np.isfinite(costs).any():
        return None
    return first + int(np.argmin(costs))


def _edge_by_column(reader: RunReader, run: Run, width: int) -> NDArray[np.float64]:
    """For each column that a run may begin in, how much speaks for it: 1 for nothing, more the better.

    Where its rows end the picture's right edge meets its left, and blocks differ more than neighbours do.
    """
    if run.count < _LEAST_ROWS * width:
        return np.ones(width)
    steps = np.zeros(run.count - 1)
    for c, (_, columns) in enumerate(reader.shape):
        own = np.flatnonzero(reader.blocks == c)
        right, left = run.dc[:-1, own[columns - 1 :: columns]], run.dc[1:, own[::columns]]
        steps += np.abs(right - left).mean(axis=1) * reader.steps[c]
    steps = np.minimum(steps, np.percentile(steps, 98))
    place = np.arange(steps.size) % width
    mean = np.bincount(place, steps, width) / np.bincount(place, minlength=width)
    middle = float(np.median(mean))
    excess = (mean - middle) / max(1e-6, MAD_TO_DEVIATION * float(np.median(np.abs(mean - middle))))
    # A run whose rows end behind its MCU number k begins in column width - 1 - k.
    return 1.0 + np.maximum(0.0, excess[::-1] - _CHANCE)


def _misfit(
    levels: NDArray[np.float64], other: NDArray[np.float64], rows: NDArray[np.int64], width: int
) -> float | None:
    """Mean distance of levels from those ``rows`` rows away, but for a constant; None where too few can be compared."""
    use = rows > 0
    if use.sum() < max(6, width // 10):
        return None
    rest = levels[use] - other[use]
    return float(np.abs(rest - np.median(rest, axis=0)).mean(axis=0).sum()) / float(np.sqrt(rows[use].mean()))


class _Below:
    """Levels of the last run, at its known place but at a level of its own."""

    def __init__(self, canvas: Canvas, behind: list[_Piece], spots: list[int]) -> None:
        self._width, self._total = canvas.width, canvas.reader.total
        anchored = bool(behind) and behind[-1].last
        self._place = spots[-1] if anchored else self._total
        self._levels = canvas.reader.levels(behind[-1].run.dc) if anchored else np.zeros((0, canvas.levels.shape[1]))

    def under(self, places: NDArray[np.int64]) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
        """As canvas.above(), straight below."""
        levels = np.zeros((places.size, self._levels.shape[1]))
        rows = np.zeros(places.size, np.int64)
        for down in range(1, 5):
            number = places + down * self._width - self._place
            use = (rows == 0) & (number >= 0) & (number < self._levels.shape[0])
            levels[use] = self._levels[number[use]]
            rows[use] = down
        return levels, rows


def _known_edges(reader: RunReader, structure: Structure, picture: Picture, before: int) -> Edges:
    """The edges of the last MCUs ahead of number ``before``, from a row's start on."""
    width = picture.frame.mcus_x
    first = max(0, before - _ROWS_LEARNT * width) // width * width
    bit = int(picture.scans[0].unit_pos[first])
    return read_edges(reader, structure.scans[0].entropy, bit, width, first, before)


def _true_end(picture: Picture, known: Edges, before: int) -> int:
    """How many MCUs ahead of a fault belong to the picture: foreign data may decode for a while before they fail.

    They begin at a sector, and meet the MCUs above as strangers do.
    """
    values = strangers_at(known, known)
    decoded = picture.scans[0]
    if values is None or known.first + values.size < before:
        return before
    raw = decoded.raw(decoded.unit_pos[known.first : before])
    low = max(int(raw[0]), int(raw[-1]) - _FOREIGN_BYTES // 2)
    borders = np.searchsorted(raw, np.arange(low // _SECTOR + 1, int(raw[-1]) // _SECTOR + 1) * _SECTOR)
    sums = np.append(np.cumsum((values - 0.5)[::-1])[::-1], 0.0)
    cut = _clearest(borders, sums[borders], before - known.first - borders)
    return before if cut is None else known.first + max(0, cut - 1)


def _foreign_start(reader: RunReader, run: Run, known: Edges) -> int:
    """How many MCUs at the start of a run belong to what was put in, not to the picture.

    Foreign data of the same kind decode without an error and end at a sector; a row's length on, the MCUs under them meet
    them as strangers do.
    """
    width = known.width
    raw = raw_offsets(run.entropy, run.bits[:-1] >> 3)
    look = min(int(np.searchsorted(raw, raw[0] + _FOREIGN_BYTES)), run.count - width - _LEAST)
    if look < _LEAST:
        return 0
    edges = read_edges(reader, run.entropy, int(run.bits[0]), width, 0, look + width, False)
    values = strangers_at(edges, known)
    if values is None or values.size < look:
        return 0
    borders = np.searchsorted(raw, np.arange(raw[0] // _SECTOR + 1, raw[look - 1] // _SECTOR + 1) * _SECTOR)
    borders = borders[(borders >= _LEAST) & (borders <= look)]
    cut = _clearest(borders, np.cumsum(values - 0.5)[borders - 1], borders)
    # The decoder needs a few MCUs to fall into step again behind the border.
    return 0 if cut is None else min(cut + 2, run.count - 1)


def _wild_start(reader: RunReader, run: Run, offsets: NDArray[np.int64]) -> int:
    """How many MCUs at the start of a run to leave out, for they or what comes before have levels that no picture has.

    They were not in step yet. What is put before a run must have the level that its first MCU counts from.
    """
    levels = np.vstack((_counted_from(reader, run)[reader.blocks], run.dc[:_SETTLING])).astype(np.float64)
    levels = (levels + offsets[reader.blocks]) * reader.steps[reader.blocks]
    wild = np.flatnonzero((np.abs(levels) > _BEYOND).any(axis=1))
    return int(wild[-1]) + 1 if wild.size else 0


def _clearest(borders: NDArray[np.int64], sums: NDArray[np.float64], counts: NDArray[np.int64]) -> int | None:
    """The border that parts strangers best, where they surely are some: ``sums`` of what ``counts`` MCUs say for it."""
    if not borders.size:
        return None
    best = int(np.argmax(sums))
    # Of few MCUs less is asked: they are soon said to be strangers, and soon done without.
    least = max(min(_SURELY_STRANGE, _FEW_STRANGE * float(counts[best])), _MOSTLY_STRANGE * float(counts[best]))
    return int(borders[best]) if sums[best] > least else None


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
    reader = mosaic.reader
    structure, header = with_neutral_codes(structure)
    scan = structure.scans[0]
    head, _ = reader.read(scan.entropy, first_bit(picture), mosaic.before)
    parts = [head.own_bits()]
    levels = _last_levels(reader, head, np.zeros(len(reader.shape), np.int64))
    reached = head.count
    steps = [f"Kept the {head.count:,} blocks of the picture before the damage."]
    for placed in mosaic.placed:
        lost = placed.place - reached
        changes = (_counted_from(reader, placed.run) + placed.offsets - levels).tolist()
        parts.append(np.tile(neutral_mcu(structure, scan), lost - 1))
        parts.append(neutral_mcu(structure, scan, changes))
        parts.append(placed.run.own_bits())
        levels = _last_levels(reader, placed.run, placed.offsets)
        reached = placed.end
        begin = int(raw_offsets(placed.run.entropy, np.array([int(placed.run.bits[0]) >> 3]))[0])
        steps.append(
            f"Wrote {lost:,} neutral blocks, took up decoding at byte {begin:,} and put {placed.run.count:,} blocks back."
        )
    if reached < reader.total:
        parts.append(np.tile(neutral_mcu(structure, scan), reader.total - reached))
        steps.append(f"Wrote {reader.total - reached:,} neutral blocks to the end of the picture.")
    steps.append("Matched brightness and tint at the seams.")
    pieces: tuple[Piece, ...] = (*header, pack_bits(np.concatenate(parts)), b"\xff\xd9")
    return RepairDraft(pieces, tuple(steps), kept=mosaic.kept)


def _counted_from(reader: RunReader, run: Run) -> NDArray[np.int64]:
    """Per component the DC value that the run's first MCU counts from: its own less the step that leads to it."""
    one, _ = reader.read(run.entropy, int(run.bits[0]), 1)
    before = run.dc[0].astype(np.int64) - one.dc[0]
    return np.array([before[np.flatnonzero(reader.blocks == c)[0]] for c in range(len(reader.shape))])


def _last_levels(reader: RunReader, run: Run, offsets: NDArray[np.int64]) -> NDArray[np.int64]:
    """Per component the DC value of the run's last block, as written."""
    if not run.count:
        return np.zeros(len(reader.shape), np.int64)
    last = [int(run.dc[-1, np.flatnonzero(reader.blocks == c)[-1]]) for c in range(len(reader.shape))]
    return np.array(last, np.int64) + offsets
