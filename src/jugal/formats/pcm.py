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
#: Share of the pages that may be noise put there, scattered and to the end.
_MOST_NOISE, _MOST_TO_THE_END = 0.4, 0.85


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
    return merge([ByteSpan(int(p) * _PAGE, int(p + 1) * _PAGE) for p in np.unique(place[wild])])


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
