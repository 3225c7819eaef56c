"""From decoding evidence to damaged units: where the damage starts and how far it spoils the picture."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cache, partial

import numpy as np
from numpy.typing import NDArray

from jugal.binary.blocks import Fill
from jugal.formats.base import Subject
from jugal.formats.fills import foreign_text, holes
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.activity import KNOWN, UNKNOWN, find_change, is_astray
from jugal.formats.jpeg.begun import going_on
from jugal.formats.jpeg.breaks import (
    STRANGE,
    exact_step,
    find_break,
    is_of_another,
    level_offset,
    level_planes,
    strangeness,
)
from jugal.formats.jpeg.canvas import ROWS_LEARNT
from jugal.formats.jpeg.colours import out_of_range
from jugal.formats.jpeg.decode import Decoded, Picture, ScanError
from jugal.formats.jpeg.edges import read_edges
from jugal.formats.jpeg.entropy import codes_nothing_new
from jugal.formats.jpeg.importance import missing_share, scan_weights
from jugal.formats.jpeg.losses import find_loss, read_with_extra
from jugal.formats.jpeg.parse import Structure
from jugal.formats.jpeg.runs import LEAST_KEPT, RunReader
from jugal.formats.jpeg.select import one_sequential_scan
from jugal.formats.jpeg.stairs import is_inside, level_steps, stands_out
from jugal.formats.jpeg.steps import clear_steps
from jugal.formats.jpeg.strays import has_stray
from jugal.formats.jpeg.swaps import find_swaps, levels_part
from jugal.formats.jpeg.thumbnail import is_luminance_first
from jugal.formats.jpeg.traces import is_displaced, leaves_traces
from jugal.formats.jpeg.units import begin_of, unit_at, unit_byte, unit_bytes
from jugal.kernels.blockstats import SECTOR
from jugal.kernels.jpeg import ERROR_DC
from jugal.model.codes import FindingCode
from jugal.model.span import ByteSpan, merge

#: Levels by which a stretch may be off and still count as shown rightly.
TOLERATED_LEVELS = 5.0
_SEARCH_BYTES, _SOON = 1 << 20, 4096
#: MCUs from which a picture is looked at for steps that nothing else tells of.
_LEAST_UNITS = 256
#: MCUs of impossible levels behind a step by which it is none of the subject, and how much oftener they come than before it.
_LEAST_MARKED, _OFTENER = 4, 10.0
#: Intervals of a scan in which it is looked for where they break, and how plainly they must, in nats.
_INTERVALS_TRIED, _PLAINLY = 8, 6.0
#: In place of a component where a damage is of no scan's.
_NO_COMPONENT = -1

Planes = Callable[[], list[NDArray[np.float32]]]


@dataclass(slots=True)
class Damage:
    """One stretch of a scan that went wrong: units ``first..last`` and where in the file it starts."""

    scan: int
    first: int
    last: int
    code: FindingCode
    start: int
    end: int
    #: The place is where it was noticed, not where it was proven to begin.
    noticed_only: bool = False
    #: The share of its pixels that look wrong, 0..1, where that is no matter of its scan: scans never came.
    weight: float | None = None


@dataclass(slots=True)
class Verdicts:
    """All damages of a picture and the bytes seen to be filled, foreign, or the picture's own in the wrong place."""

    damages: list[Damage] = field(default_factory=list)
    fills: list[Fill] = field(default_factory=list)
    foreign: list[ByteSpan] = field(default_factory=list)
    misplaced: list[ByteSpan] = field(default_factory=list)


def judge(subject: Subject, structure: Structure, picture: Picture) -> Verdicts:
    """Every damage of ``picture``'s scans, in file order."""
    result = Verdicts()
    # Of a large picture they take long and much memory: they are made once, where they are asked for.
    planes = cache(partial(level_planes, picture, structure))
    for number, decoded in enumerate(picture.scans):
        span = ByteSpan(decoded.scan.entropy.start, decoded.scan.entropy.end)
        # Filled sectors may run over the marker that ended the scan, so look a little further.
        fills = _bad_fills(subject, structure, decoded, span)
        foreign = foreign_text(subject, span)
        if not decoded.complete:
            patterns = (pattern.clip(span) for pattern in subject.blocks.patterns)
            foreign += [p for p in patterns if p.length and not _is_flat_code(subject, structure, p)]
        # A flat picture's own data repeat, and may happen to be printable.
        foreign = [f for f in foreign if not _codes_flat(decoded, f, _blocks_of(structure))]
        result.fills.extend(fills)
        result.foreign.extend(merge(foreign))
        # All bytes were looked at for fills, and unstuffed before; little more is read of the file itself.
        subject.source.release()
        marks = sorted([(f.span, True) for f in fills] + [(s, False) for s in merge(foreign)], key=lambda x: x[0].start)
        _judge_scan(result, structure, picture, number, decoded, planes, marks, subject.size)
    if picture.frame.marker in spec.SEQUENTIAL and len(picture.scans) == 1:
        if not result.damages:
            _silent_swap(result, structure, picture, planes())
        _silent_step(subject, result, structure, picture, planes())
    if result.damages and picture.frame.marker == spec.PROGRESSIVE:
        _go_back(result, structure, picture)
        _carry_on(result, picture)
        sound: dict[int, int] = {}
        for damage in result.damages:
            sound[damage.scan] = min(damage.first, sound.get(damage.scan, damage.first))
        picture.weights = scan_weights(picture, structure, sound)
    _scans_that_never_came(result, structure, picture)
    return result


def refined_by(picture: Picture, number: int) -> list[int]:
    """The scans before scan ``number`` that brought the AC values which it refines; none if it refines none."""
    scan = picture.scans[number].scan
    if not scan.ss or not scan.ah:
        return []
    return [
        n
        for n, other in enumerate(d.scan for d in picture.scans[:number])
        if other.ss and other.components[0][0] == scan.components[0][0]
        and other.ss <= scan.se and scan.ss <= other.se
    ]  # fmt: skip


def _go_back(result: Verdicts, structure: Structure, picture: Picture) -> None:
    """Where a scan goes astray although its own bytes are good one that it refines did in the same block, without an error."""
    damaged = {d.scan for d in result.damages}
    own_bytes = (FindingCode.JPEG_HOLE, FindingCode.JPEG_FOREIGN)
    for damage in [d for d in result.damages if not d.noticed_only and d.code not in own_bytes]:
        for number in refined_by(picture, damage.scan):
            if number in damaged or not _may_go_astray(picture, number):
                continue
            if is_astray(picture, structure, number, damage.first):
                decoded = picture.scans[number]
                at = begin_of(decoded, damage.first)
                result.damages.append(Damage(number, damage.first, decoded.units, FindingCode.JPEG_BREAK, at, at))
                damaged.add(number)
    result.damages.sort(key=lambda d: (d.scan, d.first))


def _place(damage: Damage, decoded: Decoded, unit: int) -> None:
    """Of a damage that was only noticed it is known now in which unit it begins."""
    damage.first, damage.noticed_only = unit, False
    damage.start = damage.end = begin_of(decoded, unit)


def begin_at(result: Verdicts, picture: Picture, at: int) -> None:
    """Now that it is known that a picture's damage begins at byte ``at``, the first one of the scan there does."""
    for number, decoded in enumerate(picture.scans):
        entropy = decoded.scan.entropy
        damage = next((d for d in result.damages if d.scan == number), None)
        if damage is not None and entropy.start <= at < entropy.end:
            _place(damage, decoded, unit_at(decoded, at, 0, decoded.units))


def _unprepared(picture: Picture) -> list[int]:
    """The scans that refine AC values to which the scan before, that should have refined them first, is gone (G.1.1.1.2)."""
    low = np.full((len(picture.frame.components), 64), -1)
    found = []
    for number, decoded in enumerate(picture.scans):
        scan = decoded.scan
        for index, _, _ in scan.components:
            part = low[index, scan.ss : scan.se + 1]
            if scan.ss and scan.ah and (part != scan.ah).any():
                found.append(number)
            part[:] = scan.al
    return found


def _carry_on(result: Verdicts, picture: Picture) -> None:
    """Where a scan is damaged one that refines it goes astray in the same block, though it is noticed later: how many bits it has
    there hangs on which coefficients are not zero (G.1.2.3)."""
    firsts = dict.fromkeys(_unprepared(picture), 0)
    for damage in sorted(result.damages, key=lambda d: d.scan):
        led = (damage.scan, *refined_by(picture, damage.scan))
        before = min((firsts[n] for n in led if n in firsts), default=damage.first)
        if before < damage.first:
            if damage.noticed_only:
                _place(damage, picture.scans[damage.scan], before)
            damage.first = before
        firsts[damage.scan] = min(damage.first, firsts.get(damage.scan, damage.first))


def _scans_that_never_came(result: Verdicts, structure: Structure, picture: Picture) -> None:
    """Of a progressive picture scans that others were to be followed by, of a sequential one those of whole components.

    A progressive picture that is ended by its marker behind a whole scan may have been made without them, but for those of the DC values.
    """
    last = len(picture.scans) - 1
    if picture.frame.marker == spec.PROGRESSIVE:
        ended = structure.eoi is not None and picture.scans[last].complete
        if structure.has_levels and ended and not structure.bad_segments:
            return
        weight = missing_share(picture.frame, structure)
    else:
        seen = {i for d in picture.scans for i, _, _ in d.scan.components}
        weight = 1.0 if len(seen) < len(picture.frame.components) else 0.0
    if weight > 0:
        units, end = picture.scans[last].units, structure.end
        result.damages.append(Damage(last, 0, units, FindingCode.JPEG_SHORT, end, end, weight=weight))


def _silent_swap(result: Verdicts, structure: Structure, picture: Picture, planes: list[NDArray[np.float32]]) -> None:
    """Clusters in the wrong place that no error tells of. What follows them may count from a level that is not its own."""
    decoded = picture.scans[0]
    if not _has_edges(structure) or decoded.units < _LEAST_UNITS:
        return
    borders = find_swaps(picture, structure, planes)
    if borders:
        unit, at = borders[0]
        # The last border found may be the last but one.
        behind = min(decoded.units, 2 * borders[-1][0] - borders[-2][0])
        end = min(2 * borders[-1][1] - borders[-2][1], decoded.scan.entropy.end)
        result.misplaced.append(ByteSpan(at, end))
        last = decoded.units if levels_part(planes, unit, behind) else behind
        result.damages.append(Damage(0, unit, last, FindingCode.JPEG_BREAK, at, at))


def _silent_step(
    subject: Subject, result: Verdicts, structure: Structure, picture: Picture, planes: list[NDArray[np.float32]]
) -> None:
    """A step in level that no error tells of, ahead of all damage that one does: flipped bits in a DC difference, a few bytes lost."""
    decoded = picture.scans[0]
    width = decoded.units_x
    rows = min((d.first for d in result.damages), default=decoded.units) // width
    if not _has_edges(structure) or rows * width < _LEAST_UNITS:
        return
    ahead = [plane[:rows] for plane in planes]
    reader = RunReader(structure)
    # Few healthy pictures have steps that show.
    impossible = cache(partial(_impossible, subject, structure, picture, ahead, reader.steps))
    for step, read in clear_steps(reader, decoded.scan.entropy, decoded.unit_pos, ahead):
        # An edge of the subject at a picture's side looks the same, but it leads to no levels that pictures cannot have, and
        # no MCU that is like none of theirs stands where it begins.
        sure = stands_out(step)
        if (
            (sure and is_inside(step, width, rows * width))
            or _is_first_of(impossible(), step.unit)
            or (sure and step.unit % width and has_stray(reader, decoded, read, step.unit))
        ):
            at = begin_of(decoded, step.unit)
            result.damages.insert(0, Damage(0, step.unit, decoded.units, FindingCode.JPEG_BREAK, at, at))
            return


def _impossible(
    subject: Subject,
    structure: Structure,
    picture: Picture,
    planes: list[NDArray[np.float32]],
    steps: NDArray[np.float64],
) -> NDArray[np.bool_]:
    """Which of the MCUs have levels that no picture has, but those at its right and lower edges: what encoders put beyond these may be
    anything."""
    frame = picture.frame
    found = out_of_range(planes, steps, is_luminance_first(subject, structure))
    found[frame.height // (8 * frame.v_max) :] = False
    found[:, frame.width // (8 * frame.h_max) :] = False
    return found.reshape(-1)


def _is_first_of(marked: NDArray[np.bool_], unit: int) -> bool:
    """Whether MCUs are marked behind number ``unit`` and hardly any before it."""
    behind, before = marked[unit:], marked[:unit]
    return int(behind.sum()) >= _LEAST_MARKED and behind.mean() > _OFTENER * (before.mean() if unit else 0.0)


def _has_edges(structure: Structure) -> bool:
    """Whether MCUs can be read one after another from anywhere: one interleaved scan without restart intervals."""
    return one_sequential_scan(structure) and not structure.scans[0].restart_interval


def _bad_fills(subject: Subject, structure: Structure, decoded: Decoded, span: ByteSpan) -> list[Fill]:
    """Filled runs that are damage: all but a flat picture's zero bits and fill bytes before a marker."""
    found = []
    blocks = _blocks_of(structure)
    for fill in holes(subject, span):
        if fill.value == 0xFF and fill.span.end >= span.end and int(decoded.done.sum()) == decoded.units:
            continue
        if fill.value != 0xFF and _codes_flat(decoded, fill.span, blocks):
            continue
        found.append(fill)
    return found


def _blocks_of(structure: Structure) -> int:
    """Blocks of a unit; of a lossless picture's line half its samples, since each takes a bit or two."""
    frame = structure.frame
    if frame is None:
        return 1
    blocks = sum(c.h * c.v for c in frame.components)
    return blocks * -(-frame.width // frame.h_max) // 2 if frame.marker == spec.LOSSLESS else blocks


def _codes_flat(decoded: Decoded, span: ByteSpan, blocks: int) -> bool:
    """Whether a run of bytes is what an encoder writes for flat blocks: so few bits a block decode to nothing else.

    Zeros that fill whole sectors may decode so as well, but an encoder's own run hardly begins and ends at their borders. Where
    the scan went wrong one border is enough: the other may lie in a run of the picture's own.
    """
    at_borders = (span.start % SECTOR == 0) + (span.end % SECTOR == 0)
    if at_borders == 2 or (at_borders == 1 and not all_sound(decoded)):
        return False
    units = _units_between(decoded, span)
    if not units:
        return decoded.complete and decoded.scan.ss > 0
    return span.length * 8 / units < 5.0 * blocks


def _is_flat_code(subject: Subject, structure: Structure, pattern: ByteSpan) -> bool:
    """Whether a repeated text is what codes flat MCUs, wherever among them it begins: those behind a fault are out of step."""
    inside = subject.source.read(pattern.start + min(SECTOR, pattern.length // 4), SECTOR)
    return codes_nothing_new(structure, inside)


def _units_between(decoded: Decoded, span: ByteSpan) -> int:
    known = decoded.unit_pos[decoded.unit_pos >= 0]
    if not known.size:
        return 0
    low, high = (decoded.scan.entropy.clean_offset(at) for at in (span.start, span.end))
    return int(np.searchsorted(known, high * 8) - np.searchsorted(known, low * 8))


def _judge_scan(
    result: Verdicts,
    structure: Structure,
    picture: Picture,
    number: int,
    decoded: Decoded,
    planes: Planes,
    marks: list[tuple[ByteSpan, bool]],
    subject_size: int,
) -> None:
    segments = decoded.segments
    scan = decoded.scan
    lossless = picture.frame.marker == spec.LOSSLESS
    starts = segments.start.tolist()
    if not marks and not segments.lost and all_sound(decoded):
        return
    bounds = scan.entropy.raw_offsets(np.array([*starts, scan.entropy.length], np.int64)).tolist()
    error_units = np.array([e.mcu for e in decoded.errors], np.int64)
    tried = 0
    for s in range(len(starts)):
        first, count, done = int(segments.mcu[s]), int(segments.count[s]), int(decoded.done[s])
        last = first + count
        end_bits = int(segments.end[s] - segments.start[s]) * 8
        left = end_bits - int(decoded.used[s])
        seg_marks = [(m, hole) for m, hole in marks if m.end > bounds[s] and m.start < bounds[s + 1]]
        errors = decoded.errors[int(np.searchsorted(error_units, first)) : int(np.searchsorted(error_units, last))]
        surplus = done == count and left >= 8 and not _padding(scan, segments, s, int(decoded.used[s]))
        short = done < count
        if not errors and not surplus and not short and not seg_marks:
            continue
        noticed_unit = errors[0].mcu if errors else first + min(done, count - 1)
        noticed_byte = errors[0].at if errors else unit_byte(decoded, s, done, bounds[s + 1], lossless)
        if seg_marks and (not errors or seg_marks[0][0].start <= noticed_byte + 64):
            mark, hole = seg_marks[0]
            unit = unit_at(decoded, mark.start, first, last)
            result.damages.append(
                Damage(number, min(unit, last - 1), last,
                       FindingCode.JPEG_HOLE if hole else FindingCode.JPEG_FOREIGN, mark.start, mark.end)
            )  # fmt: skip
            continue
        if not errors and short and not surplus and s + 1 == len(starts) and not segments.lost:
            code = FindingCode.JPEG_SHORT
        elif errors:
            code = FindingCode.JPEG_CODE
        elif surplus:
            code = FindingCode.JPEG_SURPLUS
        else:
            code = FindingCode.JPEG_SHORT
        damage = Damage(number, noticed_unit, last, code, noticed_byte, noticed_byte, True)
        # Errors far behind the damage, or none at all: look for the break in the picture itself.
        if _has_edges(structure):
            ends = structure.eoi is None and scan.entropy.end >= subject_size - 2
            _look_back(damage, structure, decoded, s, bounds[s + 1], errors, ends)
        elif one_sequential_scan(structure) and tried < _INTERVALS_TRIED:
            tried += 1
            if (place := _break_in_interval(structure, decoded, s, damage.first)) is not None:
                _place(damage, decoded, place)
        elif damage.noticed_only and _may_go_astray(picture, number):
            # Most files that end early are good up to there.
            ends = code is FindingCode.JPEG_SHORT and number + 1 == len(picture.scans)
            place = find_change(picture, structure, number, noticed_unit, UNKNOWN if ends else KNOWN)
            if place is not None:
                _place(damage, decoded, place)
        if done == count and not surplus and left >= 0 and not lossless:
            _limit_spread(damage, planes, errors[-1].mcu if errors else damage.first)
        result.damages.append(damage)
    _lost_intervals(result, structure, number, decoded, bounds)
    result.damages.sort(key=lambda d: (d.scan, d.first))


def _look_back(
    damage: Damage, structure: Structure, decoded: Decoded, s: int, end: int, errors: list[ScanError], file_ends: bool
) -> None:
    """Where the picture itself shows that damage noticed in segment ``s``, which ends at byte ``end``, began before."""
    first, noticed, done = int(decoded.segments.mcu[s]), damage.first, int(decoded.done[s])
    code, closed = damage.code, structure.eoi is not None
    # A file that simply stops has lost its end and nothing else, unless its rest is another picture's.
    stops = code is FindingCode.JPEG_SHORT and file_ends
    # Data that end too early may turn impossible in their last bytes, whatever was lost before.
    runs_out = bool(errors) and closed and damage.start >= end - SECTOR
    reader, entropy = RunReader(structure), decoded.scan.entropy
    near = (errors or not closed) and not stops and not runs_out
    low = first
    if near:
        searched = damage.start - _SEARCH_BYTES
        low = max(first, bisect_left(range(decoded.units), searched, key=lambda unit: begin_of(decoded, unit)))
    # Where it is a level that is impossible decoding is in step, and the row behind the place may tell of a step.
    further = decoded.units_x if errors and errors[0].kind == ERROR_DC else 1
    broken, exact = _break_between(
        reader, decoded, low, min(noticed + further, first + done), stops, noticed if near else None
    )
    if closed and (runs_out or code in (FindingCode.JPEG_SHORT, FindingCode.JPEG_SURPLUS)):
        run = read_with_extra(reader, entropy, 8 * int(decoded.segments.start[s]))
        lost = find_loss(reader, run)
        if lost is not None and exact is not None:
            lost = lost if is_displaced(reader, decoded, lost, exact, reader.total - run.count) else exact
        # Behind a marker that came into the data nothing was decoded, whatever the run tells of it.
        broken = min((min(unit, noticed) for unit in (broken, lost) if unit is not None), default=None)
    if broken is not None:
        # Where a marker interrupts the data that is what is said; only the place is better known now.
        silent = runs_out or code is FindingCode.JPEG_SURPLUS or (code is FindingCode.JPEG_SHORT and (stops or closed))
        damage.code = FindingCode.JPEG_BREAK if silent else code
        damage.first, damage.noticed_only = broken, False
        damage.start = damage.end = begin_of(decoded, broken)


def _break_between(
    reader: RunReader, decoded: Decoded, first: int, last: int, only_of_another: bool, noticed: int | None
) -> tuple[int | None, int | None]:
    """The MCU of ``first`` to ``last`` at which the picture breaks, if need be only where what follows is another picture's, and one
    at which it does beyond doubt. An error was ``noticed`` at that MCU."""
    bit = int(decoded.unit_pos[first])
    edges = read_edges(reader, decoded.scan.entropy, bit, decoded.units_x, first, last)
    bytes_at = partial(unit_bytes, decoded)
    steps = level_steps(edges.step, edges.width, edges.first)
    exact = None if only_of_another else exact_step(steps)
    known = min((unit for unit in (noticed, exact) if unit is not None), default=None)

    def believed(unit: int) -> bool:
        if known is None or unit >= known:
            return True
        begins, seen = bytes_at(np.array([unit, known]))
        return bool(
            seen - begins <= _SOON or strangeness(edges, unit) >= STRANGE or leaves_traces(reader, decoded, unit, known)
        )

    broken = find_break(edges, bytes_at, believed, steps)
    if broken is not None and only_of_another and not is_of_another(edges, broken, bytes_at):
        return None, None
    return min((unit for unit in (broken, exact) if unit is not None), default=None), exact


def _break_in_interval(structure: Structure, decoded: Decoded, s: int, noticed: int) -> int | None:
    """The MCU ahead of number ``noticed`` from which on interval ``s`` plainly does not go on from the row above; None where none is."""
    reader, segments, entropy = RunReader(structure), decoded.segments, decoded.scan.entropy
    begins, counts = segments.mcu.tolist(), segments.count.tolist()
    first = s
    while (
        first > 0
        and int(decoded.done[first - 1]) == counts[first - 1] == begins[first] - begins[first - 1]
        and begins[s] - begins[first] < ROWS_LEARNT * decoded.units_x
    ):
        first -= 1
    counts[s] = min(int(decoded.done[s]), noticed - begins[s] + 1)
    if first == s or counts[s] < LEAST_KEPT:
        return None
    which = range(first, s + 1)
    *before, run = (reader.read(entropy, 8 * int(segments.start[t]), counts[t])[0] for t in which)
    if any(one.count < counts[t] for t, one in zip(which, [*before, run], strict=True)):
        return None
    fits, nats = going_on(reader, before, run)
    return begins[s] + fits if nats > _PLAINLY else None


def _may_go_astray(picture: Picture, number: int) -> bool:
    """Whether a progressive scan may have gone wrong long before it was noticed: one of AC values."""
    scan = picture.scans[number].scan
    return picture.frame.marker == spec.PROGRESSIVE and scan.ss > 0 and not scan.restart_interval


def all_sound(decoded: Decoded) -> bool:
    """No error, no unit missing, nothing but padding left in any segment."""
    if not decoded.complete:
        return False
    segments = decoded.segments
    left = (segments.end - segments.start) * 8 - decoded.used
    return all(_padding(decoded.scan, segments, s, int(decoded.used[s])) for s in np.flatnonzero(left >= 8).tolist())


def _lost_intervals(result: Verdicts, structure: Structure, number: int, decoded: Decoded, bounds: list[int]) -> None:
    """Restart intervals without data, joined to runs.

    Restart numbers count to eight only: where intervals are missing at a proper end, a multiple of eight was
    lost at the first damage, and all that follows it stands in the wrong place.
    """
    segments, interval = decoded.segments, decoded.scan.restart_interval
    own = [d for d in result.damages if d.scan == number]
    if segments.too_many and own:
        min(own, key=lambda d: d.first).last = decoded.units
    runs: list[list[int]] = []
    for lost in segments.lost:
        if runs and runs[-1][1] == lost:
            runs[-1][1] = lost + 1
        else:
            runs.append([lost, lost + 1])
    for first, end in runs:
        unit = first * interval
        if unit >= decoded.units:
            continue
        at = bounds[min(int(np.searchsorted(segments.mcu, unit)), len(bounds) - 1)]
        last = min(end * interval, decoded.units)
        if last == decoded.units and structure.eoi is not None and own:
            earliest = min(own, key=lambda d: d.first)
            earliest.last = decoded.units
        result.damages.append(Damage(number, unit, last, FindingCode.JPEG_RESTART, at, at))


def _padding(scan, segments, s: int, used: int) -> bool:  # type: ignore[no-untyped-def]
    """What is left of a segment is nothing but a few bytes of padding."""
    start = int(segments.start[s]) + -(-used // 8)
    rest = scan.entropy.clean[start : int(segments.end[s])]
    if rest.size <= 2:
        return True
    return bool((rest == rest[0]).all()) and int(rest[0]) in (0, 0xFF)


def _limit_spread(damage: Damage, planes: Planes, last_error: int) -> None:
    """Where decoding came out exactly at the end, the units after the damage stand in their place.

    They are right if their level did not shift either; then only the stretch up to the last error is spoiled.
    """
    resumed = last_error + 4
    if resumed + 8 < damage.last and level_offset(planes(), resumed, damage.first) < TOLERATED_LEVELS:
        damage.last = resumed


def spoiled_mask(picture: Picture, damages: list[Damage], adds_up: bool = False) -> NDArray[np.float32]:
    """Share of each MCU (rows, MCUs a row) that is not shown rightly, 0..1.

    What several scans of a component are off by falls on the same blocks, the busy ones: the worst of them counts. Components
    count each for itself, as does what no scan brought. What is missing of several scans ``adds_up``.
    """
    frame = picture.frame
    rows, cols = frame.mcus_y, frame.mcus_x
    spoiled: dict[int, NDArray[np.float32]] = {}
    for damage in damages:
        decoded = picture.scans[damage.scan]
        weight = impairment(picture, damage)
        first, last = mcus_of(picture, damage)
        component = decoded.scan.components[0][0] if damage.weight is None else _NO_COMPONENT
        here = spoiled.setdefault(component, np.zeros(rows * cols, np.float32))[first:last]
        here[:] = 1.0 - (1.0 - here) * (1.0 - weight) if adds_up else np.maximum(here, weight)
    good = np.ones(rows * cols, np.float32)
    for part in spoiled.values():
        good *= 1.0 - part
    return (1.0 - good).reshape(rows, cols)


def mcus_of(picture: Picture, damage: Damage) -> tuple[int, int]:
    """The MCUs from and up to which a damage reaches; the blocks of a scan of one component are mapped onto them."""
    mcus, units = picture.frame.mcus_x * picture.frame.mcus_y, picture.scans[damage.scan].units
    if units == mcus:
        return damage.first, damage.last
    scale = mcus / units
    return int(damage.first * scale), int(np.ceil(damage.last * scale))


def impairment(picture: Picture, damage: Damage) -> float:
    """How much of a block's look hangs on what is damaged, 0..1: all in a sequential picture."""
    if damage.weight is not None:
        return damage.weight
    if not picture.weights:
        return 1.0
    # Behind the end of a scan nothing is shown of it; behind other damage what belongs elsewhere is.
    ended = damage.code is FindingCode.JPEG_SHORT and damage.noticed_only
    nothing = ended or damage.end >= picture.scans[damage.scan].scan.entropy.end
    astray, missing = picture.weights[damage.scan]
    return missing if nothing else astray
