"""Damage in uncompressed sound, wherever it is kept: cut-outs, text, patterns and noise that replaced it.

Silence is legal, and so is loud noise; sound that stops or turns to noise just at the borders of sectors is neither.
"""

from __future__ import annotations

import bisect
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Subject
from jugal.formats.fills import foreign_text, holes
from jugal.model.span import ByteSpan, merge

_SECTOR = 512
_PAGE = 4096
#: Bytes by which a run may miss a sector's border: samples that happened to have the filler's value.
_NEAR = 8
#: Bytes looked at in one go.
_BLOCK = 8 << 20
#: Less of a page than this tells nothing.
_LEAST_BYTES = 768
#: Mean step from one value to the next, of 16 bits: white noise at full level takes 26,000.
_WILD = 15_000
#: The same of a page of quiet sound of which one sector is white noise; the level of random values, and how near a sector's is.
_TAINTED, _RANDOM, _NEAR_RANDOM = 8_000, 65_536 / np.sqrt(12), 0.15
#: Up to so many such pages, or that share of all, their sectors are looked at one by one.
_FEW_TAINTED, _MOST_TAINTED = 64, 0.02
#: Share of the pages that may be noise put there, scattered and to the end.
_MOST_NOISE, _MOST_TO_THE_END = 0.4, 0.85
#: Pages compared with one another: fewest and most; those alike at most, else the music is made so; the longest stretch of them.
_FEWEST, _MOST_COMPARED, _MOST_ALIKE, _LONGEST_REPEAT = 8, 1 << 18, 64, 16
#: Frames on each side of a border with whose largest bend a step there is compared, and what those at both borders must add up to.
_FRAMES_AROUND, _CLEAR_STEPS = 256, 1.2


class Coding(Enum):
    """How a value of sound is written."""

    SIGNED = "signed"
    OTHER = "unsigned, floating or companded"


@dataclass(frozen=True, slots=True)
class Form:
    """``width`` bytes a value, ``channels`` values a frame, the bytes in ``order`` ("little" or "big")."""

    width: int
    channels: int
    order: str = "little"
    coding: Coding = Coding.SIGNED

    @property
    def frame(self) -> int:
        return self.width * self.channels

    def upper(self, data: NDArray[np.uint8]) -> NDArray[np.float32]:
        """The upper 16 bits of each value in ``data``, which begins with a frame; signed values of two bytes and more."""
        values = data[: data.size // self.width * self.width].reshape(-1, self.width)
        pair = values[:, -2:] if self.order == "little" else values[:, :2]
        return np.ascontiguousarray(pair).view("<i2" if self.order == "little" else ">i2")[:, 0].astype(np.float32)


def cut_outs(subject: Subject, form: Form, sound: Sequence[ByteSpan]) -> list[ByteSpan]:
    """Filled runs of whole sectors beside which the sound is not at rest. ``sound`` lies in order, each from a frame on.

    A run at the very start or end of the sound is left to the caller: it may never have been recorded.
    """
    if not sound:
        return []
    found = []
    for fill in holes(subject, ByteSpan(sound[0].start, sound[-1].end)):
        hole = fill.span
        if hole.start <= sound[0].start or hole.end >= sound[-1].end:
            continue
        aligned = -hole.start % _SECTOR <= _NEAR and hole.end % _SECTOR <= _NEAR
        if aligned and (loud_before(subject, form, sound, hole.start) or _loud_after(subject, form, sound, hole.end)):
            found.append(hole)
    return found


def loud_before(subject: Subject, form: Form, sound: Sequence[ByteSpan], at: int) -> bool:
    """The sound just before ``at`` is not at rest."""
    span = _holding(sound, at - 1)
    if span is None:
        return False
    frames = (min(at, span.end) - span.start) // form.frame
    stop = span.start + frames * form.frame
    return _loud(form, subject.source.array[max(span.start, stop - 256 // form.frame * form.frame) : stop])


def _loud_after(subject: Subject, form: Form, sound: Sequence[ByteSpan], at: int) -> bool:
    span = _holding(sound, at)
    if span is None:
        return False
    start = span.start + -(-(at - span.start) // form.frame) * form.frame
    return _loud(form, subject.source.array[start : min(span.end, start + 512)])


def _loud(form: Form, data: NDArray[np.uint8]) -> bool:
    if form.coding is Coding.SIGNED and form.width == 2:
        values = form.upper(data)
        return bool(values.size and np.abs(values).mean() > 2)
    return bool(np.unique(data).size > 4)


def _holding(sound: Sequence[ByteSpan], at: int) -> ByteSpan | None:
    number = bisect.bisect_right(sound, at, key=lambda s: s.start) - 1
    return sound[number] if number >= 0 and sound[number].end > at else None


def foreign(subject: Subject, sound: Sequence[ByteSpan]) -> list[ByteSpan]:
    """Text and repeated patterns in the sound."""
    if not sound:
        return []
    whole = ByteSpan(sound[0].start, sound[-1].end)
    return merge([*foreign_text(subject, whole), *(p.clip(whole) for p in subject.blocks.patterns)])


def noise_bursts(subject: Subject, form: Form, sound: Sequence[ByteSpan]) -> list[ByteSpan]:
    """Pages that are white noise near full scale among pages that are not; signed values of two bytes and more."""
    if form.coding is not Coding.SIGNED or form.width < 2:
        return []
    places: list[NDArray[np.int64]] = []
    jumps: list[NDArray[np.float32]] = []
    for span in sound:
        for start in range(span.start, span.end, _BLOCK // form.frame * form.frame):
            stop = min(span.end, start + _BLOCK // form.frame * form.frame)
            place, jump = _jumps(subject.source.array[start:stop], form, start)
            places.append(place)
            jumps.append(jump)
    if sum(jump.size for jump in jumps) < 8:
        return []
    place, jump = np.concatenate(places), np.concatenate(jumps)
    wild = jump > _WILD
    usual = float(np.median(jump[~wild])) if not wild.all() else float("inf")
    wild &= jump > 3 * usual + 1000
    # A recording may be noise for its most part, but hardly from one place to its end and never before.
    first = int(np.argmax(wild))
    to_the_end = bool(wild.any()) and wild[first:].mean() > 0.95
    if wild.mean() > (_MOST_TO_THE_END if to_the_end else _MOST_NOISE):
        return []
    pages = [ByteSpan(int(p) * _PAGE, int(p + 1) * _PAGE) for p in np.unique(place[wild])]
    tainted = np.unique(place[~wild & (jump > max(3 * usual + 1000, _TAINTED))]).tolist()
    if len(tainted) > max(_FEW_TAINTED, _MOST_TAINTED * jump.size):
        # So many are passages of the sound itself.
        return merge(pages)
    sectors = [s for p in tainted for s in _white_sectors(subject, form, sound, ByteSpan(p * _PAGE, (p + 1) * _PAGE))]
    return merge([*pages, *sectors])


def _white_sectors(subject: Subject, form: Form, sound: Sequence[ByteSpan], page: ByteSpan) -> list[ByteSpan]:
    """The sectors of ``page`` whose values are as those of random bytes: as large, and as far from each other."""
    found = []
    for start in range(page.start, page.end, _SECTOR):
        span = _holding(sound, start)
        if span is None or span.end < start + _SECTOR:
            continue
        begin = span.start + -(-(start - span.start) // form.frame) * form.frame
        values = form.upper(subject.source.array[begin : start + _SECTOR])
        if values.size <= 2 * form.channels:
            continue
        level = float(np.sqrt((values**2).mean()))
        step = float(np.sqrt(((values[form.channels :] - values[: -form.channels]) ** 2).mean()))
        if abs(level / _RANDOM - 1) < _NEAR_RANDOM and abs(step / (_RANDOM * np.sqrt(2)) - 1) < _NEAR_RANDOM:
            found.append(ByteSpan(start, start + _SECTOR))
    return found


def _jumps(data: NDArray[np.uint8], form: Form, start: int) -> tuple[NDArray[np.int64], NDArray[np.float32]]:
    """Of each page that holds enough of ``data`` (which lies at ``start``) its number, and the mean step in it."""
    values = form.upper(data)
    if values.size <= form.channels:
        return np.empty(0, np.int64), np.empty(0, np.float32)
    squares = np.zeros(values.size, np.float32)
    squares[form.channels :] = (values[form.channels :] - values[: -form.channels]) ** 2
    first, last = start // _PAGE, -(-(start + data.size) // _PAGE)
    borders = np.clip(-(-(np.arange(first, last + 1) * _PAGE - start) // form.width), 0, values.size)
    counts = np.diff(borders)
    kept = counts * form.width >= _LEAST_BYTES
    if not kept.any():
        return np.empty(0, np.int64), np.empty(0, np.float32)
    sums = np.add.reduceat(squares, np.minimum(borders[:-1], values.size - 1))
    return np.arange(first, last)[kept], np.sqrt(sums[kept] / counts[kept])


def repeats(subject: Subject, form: Form, sound: ByteSpan) -> list[ByteSpan]:
    """Clusters that stand in ``sound`` a second time where they do not belong, as after a crossed chain.

    Recorded sound never repeats to the bit, made music does: but not just from border to border of a cluster, between
    neighbours that differ, with steps at its borders such as few are around them. Of two alike the one with the larger
    steps is the wrong one; of two that follow each other, the second.
    """
    first, last = -(-sound.start // _PAGE), sound.end // _PAGE
    if form.coding is not Coding.SIGNED or form.width < 2 or not _FEWEST <= last - first <= _MOST_COMPARED:
        return []
    sums = _sums(subject.source.array[first * _PAGE : last * _PAGE])
    order = np.argsort(sums, kind="stable")
    alike = np.flatnonzero(sums[order[1:]] == sums[order[:-1]])
    if alike.size > _MOST_ALIKE:
        return []
    found = []
    for start, behind, count in _runs(order[alike] + first, order[alike + 1] + first):
        one, other = (ByteSpan(k * _PAGE, (k + count) * _PAGE) for k in (start, behind))
        if count > _LONGEST_REPEAT or not _is_varied(subject, one) or not _same(subject, one, other):
            continue
        if one.end == other.start:
            found.append(other)
            continue
        steps = [(_step(subject, form, sound, s.start), _step(subject, form, sound, s.end)) for s in (one, other)]
        if max(map(sum, steps)) > _CLEAR_STEPS:
            found.append(one if steps[0][0] * steps[0][1] > steps[1][0] * steps[1][1] else other)
    return merge(found)


def _sums(data: NDArray[np.uint8]) -> NDArray[np.uint64]:
    """A sum of each page that hardly any other has."""
    weights = np.random.default_rng(_PAGE).integers(1, 1 << 63, _PAGE // 8, np.uint64) | np.uint64(1)
    out = np.empty(data.size // _PAGE, np.uint64)
    step = _BLOCK // _PAGE
    for begin in range(0, out.size, step):
        part = (
            np.ascontiguousarray(data[begin * _PAGE : (begin + step) * _PAGE]).view(np.uint64).reshape(-1, _PAGE // 8)
        )
        out[begin : begin + step] = (part * weights).sum(axis=1, dtype=np.uint64)
    return out


def _runs(ones: NDArray[np.int64], others: NDArray[np.int64]) -> list[tuple[int, int, int]]:
    """(page, the page alike behind it, how many follow one another) of all pairs, in order."""
    runs: list[tuple[int, int, int]] = []
    for one, other in sorted((min(a, b), max(a, b)) for a, b in zip(ones.tolist(), others.tolist(), strict=True)):
        if runs and (one, other) == (runs[-1][0] + runs[-1][2], runs[-1][1] + runs[-1][2]):
            runs[-1] = (*runs[-1][:2], runs[-1][2] + 1)
        else:
            runs.append((one, other, 1))
    return runs


def _is_varied(subject: Subject, span: ByteSpan) -> bool:
    """Neither silence nor a tone that comes round within the span."""
    words = np.frombuffer(subject.source.read(span.start, _PAGE), np.uint64)
    return 2 * np.unique(words).size > words.size


def _same(subject: Subject, one: ByteSpan, other: ByteSpan) -> bool:
    """The same bytes, but not so before and behind them."""
    array, size = subject.source.array, subject.size
    if not np.array_equal(array[one.start : one.end], array[other.start : other.end]):
        return False
    before, behind = min(_PAGE, one.start), min(_PAGE, size - other.end)
    differs_before = not np.array_equal(
        array[one.start - before : one.start], array[other.start - before : other.start]
    )
    return differs_before and not np.array_equal(
        array[one.end : one.end + behind], array[other.end : other.end + behind]
    )


def _step(subject: Subject, form: Form, sound: ByteSpan, at: int) -> float:
    """How much more the sound bends at byte ``at`` than anywhere around it: 1 for as much."""
    border = sound.start + (at - sound.start) // form.frame * form.frame
    around = _FRAMES_AROUND * form.frame
    if border - around < sound.start or border + around > sound.end:
        return 0.0
    values = form.upper(subject.source.array[border - around : border + around]).reshape(-1, form.channels)
    bends = np.abs(np.diff(values, 2, axis=0)).max(axis=1)
    middle = slice(_FRAMES_AROUND - 3, _FRAMES_AROUND + 2)
    here = float(bends[middle].max())
    return here / max(1.0, float(np.delete(bends, np.arange(bends.size)[middle]).max()))
