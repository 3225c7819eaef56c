"""What the picture's own small copy, a thumbnail or a preview in its file, tells of runs whose place and levels were lost.

A copy may be of something else, or of the picture before it was edited: it is believed as far as it agrees with what is known.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft
from scipy.ndimage import grey_dilation, map_coordinates

from jugal.formats.base import Subject
from jugal.formats.jpeg.decode import Picture, decode
from jugal.formats.jpeg.levels import sample_rows
from jugal.formats.jpeg.parse import Frame, Structure, walk
from jugal.formats.jpeg.preview import COPY, Preview, largest_preview
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.formats.jpeg.select import one_sequential_scan
from jugal.formats.jpeg.stairs import MAD_TO_DEVIATION

#: MCUs whose levels are looked up at once.
_AT_ONCE = 1 << 16
#: Samples of a copy for each MCU of the picture from which on means of its blocks are enough, from which on they have to be where it
#: has more than so many in all, and those down and across that are looked at.
_FINE, _COARSE, _MOST_SAMPLES, _POINTS = 64, 16, 1 << 22, 4
#: Rows of a run that are looked at, fewest of the known ones, and share by which sides may differ in proportion and be the same.
_ROWS_SEEN, _FEWEST_ROWS, _SAME_SHAPE = 64, 4, 0.01
#: What a copy of the same picture is like: how its levels go along with the picture's, or by how much they differ but for a constant
#: where nothing varies, what one level of it is worth in the picture's, and the constant.
_ALONG, _NEAR, _SLOPES, _MOST_AWAY = 0.7, 3.0, (0.8, 1.25), 10.0
#: A sum of squares that is as good as 0.
_NOTHING = 1e-6
#: By how much MCUs differ from the copy at most that are held against it, levels, or deviations if that is more; and the share of
#: them that may differ by more.
_FAR_OFF, _FAR_DEVIATIONS, _FEW_FAR_OFF = 16.0, 4.0, 0.1
#: Deviation of levels from which on a slope is told, and of what a level far from the known ones is further off.
_VARIED, _SLOPE_DOUBT = 5.0, 0.01
#: How many times as far as the known MCUs those of a run may be off in colour, and always; up to which doubt their rows agree whatever
#: single ones say; the least doubt, and deviations to disagree by.
_AS_NEAR, _ALWAYS_NEAR, _ROWS_AGREE, _LEAST_DOUBT, _AT_ODDS = 2.0, 4.0, 1.0, 0.2, 3.0
#: Rows that are off by about the same.
_ROWS_ALIKE = 4.0
#: Pixels by which a copy may be displaced.
_SHIFTS = np.arange(-0.75, 1.0, 0.25)
#: MCUs of a run by which its place is told at most, and by how many nats one beside it is less likely: copies are small.
_TOLD_BY, _BESIDE = 1 << 17, np.array((-12.0, -5.0, 0.0, -5.0, -12.0))
#: Levels by which MCUs differ from the copy at least, MCUs that say as much as one by itself, and most that a place may speak for
#: itself; how many times as far apart, in squares, as the known MCUs those of a run may be.
_LEAST_APART, _PER_WITNESS, _MOST_SAID, _WORSE = 1.0, 8.0, 100.0, 2.0


@dataclass(frozen=True, slots=True)
class _Copy:
    """A small copy: per component the samples, mid-grey at 0, of its whole blocks, and how many of them are the picture's, down and
    across."""

    frame: Frame
    planes: list[NDArray[np.float32]]
    sizes: list[tuple[float, float]]

    @classmethod
    def read(cls, subject: Subject, preview: Preview, most: int) -> _Copy:
        """All samples of a copy where they are ``most`` at most, else the means of its blocks."""
        structure = walk(subject.source, preview.span.start)
        frame = structure.frame
        assert frame is not None
        shares = [(c.v / frame.v_max, c.h / frame.h_max) for c in frame.components]
        picture = decode(frame, structure.scans, structure.quant)
        small = preview.width * preview.height <= most and one_sequential_scan(structure)
        planes, every = (_samples(structure, picture), 1) if small else (_means(structure, picture), 8)
        return cls(frame, planes, [(frame.height * v / every, frame.width * h / every) for v, h in shares])


def _samples(structure: Structure, picture: Picture) -> list[NDArray[np.float32]]:
    reader, segments = RunReader(structure), picture.scans[0].segments
    bits, counts = (8 * segments.start).tolist(), segments.count.tolist()
    runs = [reader.read(structure.scans[0].entropy, *one)[0] for one in zip(bits, counts, strict=True)]
    rows, columns, planes = reader.frame.mcus_y, reader.frame.mcus_x, []
    for c, (down, across) in enumerate(reader.shape):
        samples = np.concatenate([sample_rows(reader, run, 0, run.count, c, 0) for run in runs])
        blocks = samples.reshape(rows, columns, down, across, 8, 8).transpose(0, 2, 4, 1, 3, 5)
        planes.append(blocks.reshape(8 * rows * down, 8 * columns * across))
    return planes


def _means(structure: Structure, picture: Picture) -> list[NDArray[np.float32]]:
    tables = [structure.quant.get(c.tq) for c in picture.frame.components]
    steps = [1.0 if table is None else float(table[0]) / 8.0 for table in tables]
    return [(plane * step).astype(np.float32) for plane, step in zip(picture.dc, steps, strict=True)]


@dataclass(frozen=True, slots=True)
class _Known:
    """How levels of MCUs differ from those of the copy, in a component: the middle and its doubt, how MCUs deviate from it and the
    mean square of that, and the middle level of the copy there."""

    away: float
    doubt: float
    deviation: float
    square: float
    middle: float


class Reference:
    """The levels that MCUs should have by a small copy of their picture that shows the same as ``head``, its known first ones."""

    def __init__(self, reader: RunReader, copy: _Copy, bars: bool, head: Run) -> None:
        self._reader, self._copy = reader, copy
        frame, small = reader.frame, copy.frame
        sides = np.array((small.height / frame.height, small.width / frame.width))
        scale = np.full(2, sides.min()) if bars else sides
        #: Pixels of the copy for each of the picture, down and across, and those before the picture begins.
        self._scale = scale
        self._before = (np.array((small.height, small.width)) - scale * (frame.height, frame.width)) / 2
        self._register(head)
        parts = min(len(reader.shape), len(copy.planes))
        self._known = [self._learnt(head, c) for c in range(parts)]
        near = all(abs(known.away) <= _MOST_AWAY for known in self._known)
        #: How far the levels of both go along, 0 where they are not plainly those of one picture.
        self._along = self._going_along(head, 0) if near else 0.0

    @classmethod
    def of(cls, subject: Subject, structure: Structure, reader: RunReader, head: Run) -> Reference | None:
        """That of the largest whole picture inside the file; None where there is none, or it is not plainly one of ``head``."""
        if head.count < _FEWEST_ROWS * reader.frame.mcus_x:
            return None
        preview = largest_preview(subject, structure, COPY)
        if preview is None:
            return None
        most = max(_COARSE * reader.total, min(_FINE * reader.total, _MOST_SAMPLES))
        copy, frame = _Copy.read(subject, preview, most), reader.frame
        shape = preview.width * frame.height / (preview.height * frame.width)
        tried = [
            cls(reader, copy, bars, head) for bars in ((False, True) if abs(shape - 1) > _SAME_SHAPE else (False,))
        ]
        best = max(tried, key=lambda r: r._along)
        return best if best._along > 0 else None

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of the copy in pixels."""
        return self._copy.frame.width, self._copy.frame.height

    def _register(self, head: Run) -> None:
        """Moves the copy by parts of its pixels to where it is most like the known MCUs: sizes are whole numbers of pixels."""
        numbers, at = self._rows(head, 0)
        own, begin = self._own(head, at, 0).ravel(), self._before

        def apart(before: NDArray[np.float64]) -> float:
            self._before = before
            away = self.levels(numbers.ravel(), 0) - own
            return float(np.abs(away - np.median(away)).mean())

        for axis in np.eye(2)[::-1]:
            begin = min((begin + shift * axis for shift in _SHIFTS), key=apart)
        self._before = begin

    def levels(self, numbers: NDArray[np.int64], c: int) -> NDArray[np.float32]:
        """The mean level of each MCU by its number, as the copy has it."""
        frame, small = self._reader.frame, self._copy.frame
        # Samples of the copy for each of its pixels, and for each MCU, down and across.
        density = np.array(self._copy.sizes[c]) / (small.height, small.width)
        sides = np.array((8.0 * frame.v_max, 8.0 * frame.h_max)) * self._scale * density
        corners = np.stack(np.divmod(numbers, frame.mcus_x)) * sides[:, None] + (self._before * density - 0.5)[:, None]
        # Where an MCU covers more than one sample its level is the mean of several.
        down, across = np.clip(np.ceil(sides), 1, _POINTS).astype(int).tolist()
        total = np.zeros(numbers.size, np.float32)
        for y, x in np.ndindex(down, across):
            at = corners + (sides * ((y + 0.5) / down, (x + 0.5) / across))[:, None]
            total += map_coordinates(self._copy.planes[c], at, np.float32, order=1, mode="nearest")
        return total / (down * across)

    def shown(self, numbers: NDArray[np.int64]) -> NDArray[np.int64]:
        """(MCUs, components): the quantised DC values that the copy has for MCUs by their numbers, of the components that it has."""
        levels = [self.levels(numbers, c) - known.away for c, known in enumerate(self._known)]
        return np.rint(np.stack(levels, axis=1) / self._reader.steps[: len(levels)]).astype(np.int64)

    def settle(
        self, run: Run, place: int, offsets: NDArray[np.int64], doubt: NDArray[np.float64]
    ) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """``offsets`` and ``doubt`` of ``match_levels`` after a look at the levels that the run put at ``place`` should have."""
        if not self._going_along(run, place):
            # It is not the same there: something was edited, or the place is wrong.
            return offsets, doubt
        offsets, doubt = offsets.copy(), doubt.copy()
        for c, known in enumerate(self._known):
            found = self._compared(run, place, c)
            if found is None:
                continue
            if c and found.doubt > _ROWS_AGREE and found.deviation > max(_AS_NEAR * known.deviation, _ALWAYS_NEAR):
                continue
            extrapolated = _SLOPE_DOUBT * abs(found.middle - known.middle)
            own = float(np.sqrt(known.doubt**2 + found.doubt**2 + extrapolated**2))
            step = self._reader.steps[c]
            further = (found.away - known.away) - offsets[c] * step
            if abs(further) > _AT_ODDS * np.hypot(own, doubt[c]):
                share, left = 1.0, own
            else:
                share = doubt[c] ** 2 / (doubt[c] ** 2 + own**2)
                left = own * np.sqrt(share)
            offsets[c] += round(share * further / step)
            doubt[c] = left
        return offsets, doubt

    def places(self, run: Run, first: int, count: int) -> NDArray[np.float64]:
        """(count,): how the copy speaks for the run's beginning at MCU ``first`` and each one behind it, in nats, the best at 0."""
        told = min(run.count, _TOLD_BY)
        own = self._reader.levels(run.dc[:told])[0].astype(np.float64)
        own -= own.mean()
        theirs = self._luma[first : first + count + told - 1].astype(np.float64)
        theirs = np.pad(theirs, (0, count + told - 1 - theirs.size), "edge")
        size = next_fast_len(theirs.size, real=True)
        together = irfft(rfft(theirs, size) * rfft(own, size).conj(), size)[:count]
        sums, squares = (np.append(0.0, np.cumsum(values)) for values in (theirs, theirs * theirs))
        sums, squares = (values[told:] - values[:-told] for values in (sums, squares))
        # The squares of how far both are apart but for a constant.
        apart = squares - sums * sums / told - 2 * together + own @ own
        apart = np.maximum(apart / told, _LEAST_APART**2)
        # What fits far worse than the known MCUs at its best tells less.
        trust = min(1.0, _WORSE * max(_LEAST_APART**2, self._known[0].square) / float(apart.min()))
        said = -trust * told / (2 * _PER_WITNESS) * np.log(apart / apart.min())
        return np.asarray(np.maximum(grey_dilation(said, structure=_BESIDE), -_MOST_SAID))

    @cached_property
    def _luma(self) -> NDArray[np.float16]:
        """The levels of all MCUs, by brightness."""
        total = self._reader.total
        starts = range(0, total, _AT_ONCE)
        # Of a large picture it is large, and a tenth of a level is more than the copy tells.
        some = (self.levels(np.arange(at, min(total, at + _AT_ONCE)), 0) for at in starts)
        return np.concatenate([levels.astype(np.float16) for levels in some])

    def _learnt(self, head: Run, c: int) -> _Known:
        found = self._compared(head, 0, c)
        assert found is not None
        return found

    def _compared(self, run: Run, place: int, c: int) -> _Known | None:
        """How whole rows of a run at ``place``, at the levels of its DC values, differ from the copy; None where it has none."""
        numbers, at = self._rows(run, place)
        if not numbers.size:
            return None
        levels = self.levels(numbers.ravel(), c).reshape(numbers.shape)
        away = levels - self._own(run, at, c)
        # Made smaller, a picture keeps its means, while most samples near edges change.
        rows = away.mean(axis=1)
        middle = float(np.median(rows))
        deviation = MAD_TO_DEVIATION * float(np.median(np.abs(away - middle)))
        by_row = MAD_TO_DEVIATION * float(np.median(np.abs(rows - middle))) if len(rows) > 1 else deviation
        doubt = max(_LEAST_DOUBT, by_row * min(1.0, np.sqrt(_ROWS_ALIKE / len(rows))))
        square = float(np.mean((away - middle) ** 2))
        return _Known(middle, float(doubt), deviation, square, float(np.median(levels)))

    def _rows(self, run: Run, place: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """(rows, width) numbers of some MCUs, row by row, of a run at ``place``, and which of the run's they are."""
        width = self._reader.frame.mcus_x
        first, last = -(-place // width), min(place + run.count, self._reader.total) // width
        some = np.unique(np.linspace(first, last - 1, min(_ROWS_SEEN, max(0, last - first))).astype(np.int64))
        numbers = some[:, None] * width + np.arange(width)
        return numbers, numbers - place

    def _own(self, run: Run, at: NDArray[np.int64], c: int) -> NDArray[np.float32]:
        return self._reader.levels(run.dc[at.ravel()])[c].reshape(at.shape)

    def _going_along(self, run: Run, place: int) -> float:
        """How far the levels of a run at ``place`` go along with the copy's, 0 to 1; 0 where they are not plainly those of one picture."""
        found = self._compared(run, place, 0)
        if found is None:
            return 0.0
        numbers, at = self._rows(run, place)
        theirs, own = self.levels(numbers.ravel(), 0), self._own(run, at, 0).ravel()
        varied = float(theirs.std())
        if varied < _VARIED:
            return 1.0 if found.deviation <= _NEAR else 0.0
        along = _along(theirs, own)
        if along:
            return along
        # What is too small to be seen in the copy is no sign that it is another picture's, if there are few of it.
        off, most = theirs - own - found.away, max(_FAR_OFF, _FAR_DEVIATIONS * found.deviation)
        few = float((np.abs(off) > most).mean()) <= _FEW_FAR_OFF
        return _along(theirs, theirs - np.clip(off, -most, most)) if few else 0.0


def _along(theirs: NDArray[np.float32], own: NDArray[np.float32]) -> float:
    """How far the levels of both go along, 0 where it is little or they do not rise by the same."""
    theirs, own = (values - values.mean(dtype=np.float64) for values in (theirs, own))
    together, square = float(theirs @ own), max(_NOTHING, float(theirs @ theirs))
    slope, along = together / square, together / np.sqrt(square * max(_NOTHING, float(own @ own)))
    return float(along) if along >= _ALONG and _SLOPES[0] <= slope <= _SLOPES[1] else 0.0
