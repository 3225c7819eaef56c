"""What a decoder shows in the wrong place and that looks right all the same: white paper moved along by some blocks is white paper.

Behind a damage a decoder shows MCUs that belong elsewhere, or counts from a wrong level. Where both what it shows and what
belongs there are known, sample is held against sample.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.canvas import Placed
from jugal.formats.jpeg.colours import SHOWN
from jugal.formats.jpeg.decode import Picture
from jugal.formats.jpeg.levels import sample_rows
from jugal.formats.jpeg.parse import Entropy
from jugal.formats.jpeg.runs import RunReader

#: Levels by which a sample of brightness and one of the colour differences may be off and look right.
_SAME, _SAME_TINT = 12.0, 8.0
#: Mid-grey, from which samples are counted.
_MIDDLE = 128
#: Samples and runs of a picture that are looked at, MCUs that are read at a time, and how many times that many are held.
_MOST_SAMPLES, _MOST_RUNS, _STRIP, _STRIPS_HELD = 160_000_000, 10_000, 1024, 8
#: MCUs of which it is looked up at once where they are shown.
_AT_ONCE = 1 << 16
#: How many times on average an MCU may be read; runs shown in no order at all would have to be read again and again.
_MOST_READINGS = 8


def looking_right(picture: Picture, reader: RunReader, placed: Iterable[Placed]) -> NDArray[np.float32]:
    """(rows, MCUs a row): the share of each MCU of ``picture`` that looks as it should, 0..1.

    ``placed`` is what is known to belong where. An MCU of which it is not known what should stand there, or what is shown, is
    taken for wrong.
    """
    across, down = reader.frame.mcus_x, reader.frame.mcus_y
    right = np.zeros(reader.total, np.float32)
    parts = [p for p in placed if p.run.count]
    count = sum(p.run.count for p in parts)
    if 0 < count * reader.blocks.size * 64 <= _MOST_SAMPLES and len(parts) <= _MOST_RUNS:
        belongs, first = np.full(reader.total, -1, np.int32), 0
        for part in parts:
            skip = max(0, -part.place)
            own = belongs[part.place + skip : max(0, part.end)]  # a run may go on behind the last MCU
            own[:] = np.arange(first + skip, first + skip + own.size)
            first += part.run.count
        shown = _shown(picture, parts)
        which = np.flatnonzero((belongs >= 0) & (shown >= 0))
        shown, belongs = shown[which], belongs[which]
        readings = sum(int(np.count_nonzero(np.diff(numbers // _STRIP))) for numbers in (shown, belongs))
        if readings <= _MOST_READINGS * (count // _STRIP + 1):
            right[which] = _shares(picture, reader, parts, which, shown, belongs)
    return right.reshape(down, across)


def _shown(picture: Picture, parts: list[Placed]) -> NDArray[np.int32]:
    """Which of all MCUs in ``parts``, in their order, is shown at each place; -1 where none is."""
    decoded = picture.scans[0]
    places = np.concatenate([_bits_in_file(p.run.entropy, p.run.bits[:-1]) for p in parts])
    order = np.argsort(places).astype(np.int32)
    places = places[order]
    out = np.full(decoded.units, -1, np.int32)
    for first in range(0, decoded.units, _AT_ONCE):
        some = decoded.unit_pos[first : first + _AT_ONCE]
        seen = np.flatnonzero(some >= 0)
        wanted = _bits_in_file(decoded.scan.entropy, some[seen].astype(np.int64))
        at = np.minimum(np.searchsorted(places, wanted), order.size - 1)
        same = places[at] == wanted
        out[first + seen[same]] = order[at[same]]
    return out


def _bits_in_file(entropy: Entropy, bits: NDArray[np.signedinteger]) -> NDArray[np.int64]:
    """Bits of unstuffed data as numbers of bits in the file: behind a restart marker that stands ahead of them."""
    bytes_at = entropy.raw_offsets(bits >> 3)
    marked = np.isin(bytes_at, entropy.mark_raw[entropy.is_restart])
    return np.asarray((bytes_at + 2 * marked) * 8 + (bits & 7))


def _shares(
    picture: Picture,
    reader: RunReader,
    parts: list[Placed],
    which: NDArray[np.int64],
    shown: NDArray[np.int32],
    belongs: NDArray[np.int32],
) -> NDArray[np.float32]:
    """Of each MCU in ``which`` the share of its samples that are right, the least of all components.

    Of colour the mean of each MCU is added to its brightness: what lies beyond black and white is shown as black and white.
    """
    shares = np.ones(which.size, np.float32)
    components = range(len(reader.shape))
    tinted = len(components) == 3
    samples = [_Samples(reader, parts, c) for c in components]
    first_dc = [_first_dc(picture, reader, c) for c in components]
    for first in range(0, which.size, _STRIP):
        use = slice(first, first + _STRIP)
        seen_tint, own_tint = np.zeros((2, shown[use].size, 3 if tinted else 1), np.float32)
        for c in reversed(components):
            off = (first_dc[c][which[use]] - samples[c].first_dc(shown[use])) * reader.steps[c]
            seen = _as_shown(samples[c].of(shown[use]) + off[:, None].astype(np.float32))
            own = samples[c].of(belongs[use]).astype(np.float32)
            if tinted and c:
                # Of a component that is off all over it is the mean that shows.
                apart = seen - own
                right = np.abs(apart - apart.mean(axis=1, keepdims=True)) <= _SAME_TINT
                for tint, values in ((seen_tint, seen), (own_tint, own)):
                    tint += values.mean(axis=1, keepdims=True) * SHOWN[:, c].astype(np.float32)
            else:
                right = np.ones(seen.shape, np.bool_)
                for one, other in zip(seen_tint.T, own_tint.T, strict=True):
                    right &= np.abs(_as_shown(seen + one[:, None]) - _as_shown(own + other[:, None])) <= _SAME
            shares[use] = np.minimum(shares[use], right.mean(axis=1))
    return shares


def _as_shown(levels: NDArray[np.float32]) -> NDArray[np.float32]:
    """Levels about mid-grey between black and white."""
    return np.clip(levels, -_MIDDLE, _MIDDLE - 1)


class _Samples:
    """The samples of component ``c`` of all MCUs in ``parts``, which are numbered through; the last ones that were read are held."""

    def __init__(self, reader: RunReader, parts: list[Placed], c: int) -> None:
        self._reader, self._parts, self._c = reader, parts, c
        self._first = np.cumsum([0, *(p.run.count for p in parts)])
        self._held: dict[int, NDArray[np.int8]] = {}

    def first_dc(self, numbers: NDArray[np.int32]) -> NDArray[np.int32]:
        """The DC values of the first blocks of MCUs with ``numbers``, as they should be."""
        out, block = np.empty(numbers.size, np.int32), int(np.flatnonzero(self._reader.blocks == self._c)[0])
        part_of = np.searchsorted(self._first, numbers, side="right") - 1
        for number in np.unique(part_of).tolist():
            own, part = part_of == number, self._parts[number]
            out[own] = part.run.dc[numbers[own] - int(self._first[number]), block]
            out[own] += int(part.offsets[self._c])
        return out

    def of(self, numbers: NDArray[np.int32]) -> NDArray[np.int8]:
        """(MCUs, samples) of those with ``numbers``, mid-grey at 0."""
        strips = numbers // _STRIP
        out = np.empty((numbers.size, 64 * int((self._reader.blocks == self._c).sum())), np.int8)
        for strip in np.unique(strips).tolist():
            own = strips == strip
            if strip not in self._held:
                if len(self._held) == _STRIPS_HELD:
                    self._held.pop(next(iter(self._held)))
                self._held[strip] = self._read(strip)
            out[own] = self._held[strip][numbers[own] - strip * _STRIP]
        return out

    def _read(self, strip: int) -> NDArray[np.int8]:
        """Those of a strip of MCUs; 0 where decoding failed."""
        begin, end = strip * _STRIP, min((strip + 1) * _STRIP, int(self._first[-1]))
        out = np.zeros((end - begin, 64 * int((self._reader.blocks == self._c).sum())), np.int8)
        at = begin
        while at < end:
            number = int(np.searchsorted(self._first, at, side="right")) - 1
            part, stop = self._parts[number], min(end, int(self._first[number + 1]))
            offset, skip = int(part.offsets[self._c]), at - int(self._first[number])
            values = sample_rows(self._reader, part.run, skip, stop - at, self._c, offset)
            out[at - begin : at - begin + values.shape[0]] = np.clip(np.round(values), -128, 127)
            at = stop
        return out


def _first_dc(picture: Picture, reader: RunReader, c: int) -> NDArray[np.signedinteger]:
    """The DC value of the first block of component ``c`` in each MCU as a decoder arrives at it."""
    index, (v, h) = reader.scan.components[c][0], reader.shape[c]
    return picture.dc[index][::v, ::h].reshape(-1)
