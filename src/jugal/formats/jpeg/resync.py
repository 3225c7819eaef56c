"""Damage inside a sequential scan: decoding taken up again behind it, the rest put back in its place.

What survives runs to the end of the picture, so its last MCU is the picture's last and its place is known by counting
from there. Its levels lost their reference; they are matched to the rows above the gap. Every surviving bit is kept.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.damage import judge
from jugal.formats.jpeg.decode import Picture, decode
from jugal.formats.jpeg.entropy import neutral_mcu, shifted_entropy, with_entropy
from jugal.formats.jpeg.parse import Structure
from jugal.formats.jpeg.select import decodable, select
from jugal.kernels.jpeg import pack_bits
from jugal.model.span import ByteSpan

_SECTOR = 512
_BITS_TRIED = 400
_PROBE = 12_288
_STARTS_COMPARED = 6
_SETTLING = 24
_SECTORS_TRIED = 160


@dataclass(frozen=True, slots=True)
class Resumption:
    """Decoding taken up at bit ``shift`` after byte ``at``: ``have`` MCUs run cleanly to the picture's end.

    ``before`` MCUs stand before the damage, ``lost`` between the two.
    """

    at: int
    shift: int
    before: int
    lost: int
    have: int
    total: int
    #: MCUs at the start of the run that are not yet in step and are left out.
    skip: int = 0

    @property
    def kept(self) -> float:
        """Percent of the picture that is there again."""
        return 100.0 * (self.before + self.have) / self.total


@dataclass(slots=True)
class Budget:
    """How many starts are probed and how many followed to the end, so that no picture takes for ever."""

    probes: int = 6000
    runs: int = 40

    @property
    def spent(self) -> bool:
        return self.probes <= 0 or self.runs <= 0


def applicable(structure: Structure) -> bool:
    """One interleaved sequential scan without restart intervals, which would resynchronise by themselves."""
    frame = structure.frame
    return (
        frame is not None
        and decodable(structure)
        and frame.marker in spec.SEQUENTIAL
        and len(structure.scans) == 1
        and len(structure.scans[0].components) == len(frame.components)
        and structure.scans[0].restart_interval == 0
    )


def find_resumption(subject: Subject, structure: Structure, picture: Picture) -> Resumption | None:
    """Where decoding can be taken up behind the last damage; None where nothing runs to the picture's end."""
    if not applicable(structure):
        return None
    verdicts = judge(subject, structure, picture)
    if not verdicts.damages:
        return None
    first = min(verdicts.damages, key=lambda d: d.first)
    total = picture.scans[0].units
    seen = [f.span.end for f in verdicts.fills] + [s.end for s in verdicts.foreign]
    if seen:
        starts = [max(seen)]
    else:
        begin = max(first.start, structure.scans[0].entropy.start) // _SECTOR
        starts = [(begin + k) * _SECTOR for k in range(_SECTORS_TRIED) if k < 8 or k % 8 == 0]
    end = _picture_end(subject, structure)
    if end is None:
        return None
    budget = Budget()
    for at in starts:
        if at <= first.start and not seen:
            continue
        tries = _BITS_TRIED if seen else 48
        found = _resume(subject, structure, at, end, first.first, total, tries, budget)
        if found is not None:
            return found
    return None


def _picture_end(subject: Subject, structure: Structure) -> int | None:
    """The end-of-image marker that closes the picture, found from the file's end where the scan was interrupted."""
    if structure.eoi is not None:
        return structure.eoi
    at = subject.source.rfind(b"\xff\xd9", structure.scans[0].entropy.start)
    return at if at >= 0 else None


def _resume(
    subject: Subject, structure: Structure, at: int, end: int, before: int, total: int, tries: int, budget: Budget
) -> Resumption | None:
    if at >= end - 64:
        return None
    probe = min(end, at + _PROBE)
    best: tuple[float, Resumption] | None = None
    good = 0
    for shift in range(tries):
        if budget.spent:
            break
        # Most starts fail within a few blocks; only one that runs through a first stretch is followed to the end.
        budget.probes -= 1
        if probe < end:
            start = _tail(subject, structure, at, shift, probe).scans[0]
            if start.error_count or start.scan.entropy.end < probe:
                continue
        budget.runs -= 1
        have = _clean_run(subject, structure, at, shift, end)
        lost = total - before - have
        if have > 2 and lost >= 1:
            # Several starts fall into step; the one that does so with the least nonsense before is taken.
            unrest, skip = _unrest(_tail(subject, structure, at, shift, end), have)
            found = Resumption(at, shift, before, lost + skip, have - skip, total, skip)
            if found.have > 2 and (best is None or unrest < best[0]):
                best = (unrest, found)
            good += 1
            if good >= _STARTS_COMPARED:
                break
    return best[1] if best else None


def _unrest(tail: Picture, have: int) -> tuple[float, int]:
    """How wildly the first MCUs jump in level against what follows, and how many of them to leave out for it."""
    jumps = np.zeros(max(0, have - 1))
    for component, plane in zip(tail.frame.components, tail.dc, strict=True):
        levels = _per_mcu(plane, component.v, component.h)[:have]
        steps = np.abs(np.diff(levels))
        jumps = np.maximum(jumps, steps / max(1.0, float(np.median(steps[: 4 * _SETTLING]))))
    first = jumps[:_SETTLING]
    if not first.size:
        return 0.0, 0
    usual = max(1.0, float(np.percentile(jumps[: 4 * _SETTLING], 75)))
    wild = np.flatnonzero(first > 5.0 * usual)
    return float(first.max()), min(int(wild[-1]) + 1 if wild.size else 0, have - 1)


def _tail(subject: Subject, structure: Structure, at: int, shift: int, end: int) -> Picture:
    assert structure.frame is not None
    entropy = shifted_entropy(subject, at, shift, end)
    # Without their reference the levels may lie anywhere, so no value is out of range (no quantisation given).
    return decode(structure.frame, [with_entropy(structure.scans[0], entropy)], {}, careful=True)


def _clean_run(subject: Subject, structure: Structure, at: int, shift: int, end: int) -> int:
    """MCUs that decode from there without an error up to the last bits before ``end``; 0 where they do not."""
    decoded = _tail(subject, structure, at, shift, end).scans[0]
    entropy = decoded.scan.entropy
    if entropy.end < end or decoded.error_count:
        return 0
    # The picture has fewer MCUs left than the frame holds, so decoding ends with the data, not with the count.
    left = int(decoded.segments.end[0]) * 8 - int(decoded.used[0])
    done = int(decoded.done[0])
    if -16 * 8 <= left < 8:
        reached = decoded.unit_pos[done] if done < decoded.units else -1
        spare = int(decoded.segments.end[0]) * 8 - int(reached) if reached >= 0 else left
        return done if spare < 8 else 0
    return 0


def resync(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The good start, neutral blocks for what is lost, then the surviving rest, its levels matched at the seam."""
    structure = select(subject.source).structure
    if not applicable(structure):
        raise RepairImpossible("Only sequential pictures of one scan without restart markers need this repair.")
    frame, scan = structure.frame, structure.scans[0]
    assert frame is not None
    picture = decode(frame, structure.scans, structure.quant)
    found = find_resumption(subject, structure, picture)
    if found is None:
        raise RepairImpossible("Behind the damage nothing decodes to the picture's end.")
    end = _picture_end(subject, structure)
    assert end is not None
    tail = _tail(subject, structure, found.at, found.shift, end)
    head_levels = _last_levels(picture, found.before)
    offsets = _seam(picture, tail, found)
    reached = _last_levels(tail, found.skip)
    changes = [offset + own - last for offset, own, last in zip(offsets, reached, head_levels, strict=True)]
    head_bits = int(picture.scans[0].unit_pos[found.before]) if found.before < found.total else 0
    head = np.unpackbits(scan.entropy.clean[: head_bits // 8 + 1])[:head_bits]
    run = found.skip + found.have
    used = int(tail.scans[0].unit_pos[run]) if run < found.total else int(tail.scans[0].used[0])
    begin = int(tail.scans[0].unit_pos[found.skip])
    rest = np.unpackbits(tail.scans[0].scan.entropy.clean[: used // 8 + 1])[begin:used]
    filler = np.tile(neutral_mcu(structure, scan), found.lost - 1)
    bits = np.concatenate((head, filler, neutral_mcu(structure, scan, changes), rest))
    pieces: tuple[Piece, ...] = (ByteSpan(structure.start, scan.entropy.start), pack_bits(bits), b"\xff\xd9")
    return RepairDraft(
        pieces,
        (
            f"Kept the {found.before:,} blocks of the picture before the damage.",
            f"Wrote {found.lost:,} neutral blocks for what is lost.",
            f"Took up decoding at byte {found.at:,}, bit {found.shift}, and put {found.have:,} blocks back in their place.",
            "Matched their brightness and tint to the rows above.",
        ),
        kept=found.kept,
    )


def _last_levels(picture: Picture, before: int) -> list[int]:
    """Per component the DC value of the last block before MCU ``before``."""
    levels = []
    for component, plane in zip(picture.frame.components, picture.dc, strict=True):
        if before == 0:
            levels.append(0)
            continue
        row, column = divmod(before - 1, picture.frame.mcus_x)
        single = len(picture.frame.components) == 1
        v, h = (1, 1) if single else (component.v, component.h)
        levels.append(int(plane[(row + 1) * v - 1, (column + 1) * h - 1]))
    return levels


def _seam(picture: Picture, tail: Picture, found: Resumption) -> list[int]:
    """Per component what must be added to the tail's DC values so that they go on from the rows above the gap."""
    width = picture.frame.mcus_x
    start = found.before + found.lost
    offsets = []
    for component, head, rest in zip(picture.frame.components, picture.dc, tail.dc, strict=True):
        good = _per_mcu(head, component.v, component.h)[: found.before]
        back = _per_mcu(rest, component.v, component.h)[found.skip : found.skip + found.have]
        count = min(width, found.have)
        places = np.arange(start, start + count)
        rows_up = np.maximum(1, -(-(places - found.before + 1) // width))
        above = places - rows_up * width
        usable = (above >= 0) & (above < found.before)
        if usable.sum() < 3:
            offsets.append(int(np.median(good)) - int(np.median(back)) if good.size else -int(np.median(back)))
            continue
        offsets.append(round(float(np.median(good[above[usable]] - back[:count][usable]))))
    return offsets


def _per_mcu(plane: np.ndarray, v: int, h: int) -> np.ndarray:
    """The mean DC value of each MCU, in scan order."""
    rows, cols = plane.shape
    return plane.reshape(rows // v, v, cols // h, h).mean(axis=(1, 3)).reshape(-1)
