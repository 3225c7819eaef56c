"""Runs of MCUs decoded from somewhere inside a scan: where decoding falls into step, and how far it then goes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Subject
from jugal.formats.jpeg.decode import group_tables, lookup_tables
from jugal.formats.jpeg.parse import Entropy, Frame, HuffmanTable, Scan, Structure, read_entropy
from jugal.kernels.jpeg import decode_run, next_run

#: Fewest MCUs that are worth putting back.
LEAST_KEPT = 4
_PROBE = 6_144
#: MCUs of it at most that are read, and fewest without an error that are believed.
_MOST_PROBED, _LEAST_PROBED = 4096, 3
#: Bits at which decoding is begun, and at most where none of these does: an MCU of a fine picture is long.
_BITS_TRIED, _MOST_BITS_TRIED = 320, 4096
#: Bits of an MCU or more, at all of which decoding is begun where it may be in step with the wrong component.
_BITS_FOR_ALL = 1024
_MEMBERS = 12
#: MCUs within which a run is in step at the latest, and a jump in level that speaks against it.
_SETTLING = 24
_WILD_LEVELS = 60.0
#: MCUs at a run's start that may be foreign for their levels alone, and how many times some are left out.
_MOST_FOREIGN, _BEGINNINGS = 4 * _SETTLING, 4
_BITS_AT_ONCE = 1 << 20
#: Rows of MCUs and MCUs whose coefficients are read at once.
_ROWS_AT_ONCE, _LEAST_AT_ONCE = 8, 2048
_NO_COEFFICIENTS = np.zeros((0, 1, 64), np.int16)
#: Bytes of which the bits, and sums of two places, can be counted in 32 bits.
_NARROW = 1 << 27
#: How many times the range of a picture a run that is not in step yet may use.
_SPANS = 8
#: MCUs from which it is learnt how much goes on in each block of them, the fewest of them, and the least that does.
_CHANGES_LEARNT, _FEWEST_LEARNT, _LEAST_CHANGE = 4096, 16, 0.05


@dataclass(frozen=True, slots=True)
class Part:
    """Some MCUs on end: how many, their coefficients, and what their DC values count from, by component."""

    count: int
    coefficients: NDArray[np.int16]
    level: NDArray[np.int64]


@dataclass(slots=True, eq=False)
class Run:
    """MCUs decoded one after another from somewhere in ``entropy``.

    ``dc`` (MCUs, blocks of an MCU) counts from an unknown level. ``bits`` holds where each MCU begins and, last, where
    the run ends. ``failed`` says that an error ended it, not the end of the data.
    """

    entropy: Entropy
    dc: NDArray[np.signedinteger]
    bits: NDArray[np.signedinteger]
    failed: bool

    @property
    def count(self) -> int:
        return int(self.dc.shape[0])

    def without_first(self, skip: int) -> Run:
        return Run(self.entropy, self.dc[skip:], self.bits[skip:], self.failed)

    def only_first(self, keep: int) -> Run:
        return Run(self.entropy, self.dc[:keep], self.bits[: keep + 1], self.failed)

    @property
    def bit_count(self) -> int:
        return int(self.bits[-1] - self.bits[0])

    def own_bits(self) -> Iterator[NDArray[np.uint8]]:
        """Its bits as they stand in the data, one an entry, some at a time."""
        last = int(self.bits[-1])
        for first in range(int(self.bits[0]), last, _BITS_AT_ONCE):
            stop = min(last, first + _BITS_AT_ONCE)
            window = np.unpackbits(self.entropy.clean[first >> 3 : (stop >> 3) + 1])
            yield window[first & 7 : (first & 7) + stop - first]

    def parts(self, reader: RunReader, first: int, count: int) -> Iterator[Part]:
        """Its ``count`` MCUs from number ``first`` on, some rows at a time."""
        return reader.parts(self.entropy, int(self.bits[first]), count)

    @property
    def ends_with_data(self) -> bool:
        """Nothing but the padding of the last byte is left behind the last MCU."""
        return not self.failed and 0 <= self.entropy.length * 8 - int(self.bits[-1]) < 8


class RunReader:
    """Decodes runs with the tables of one interleaved sequential scan, of which the first ``sound`` MCUs are known to be right."""

    def __init__(self, structure: Structure, sound: int = _CHANGES_LEARNT) -> None:
        assert structure.frame is not None
        self.frame: Frame = structure.frame
        self.scan: Scan = structure.scans[0]
        self._sound = min(sound, _CHANGES_LEARNT)
        single = len(self.scan.components) == 1
        parts = [self.frame.components[index] for index, _, _ in self.scan.components]
        #: Component (its number in the scan) of each block of an MCU.
        self.blocks = np.repeat(np.arange(len(parts)), [1 if single else c.h * c.v for c in parts]).astype(np.int64)
        #: Blocks across and down an MCU, per component.
        self.shape = [(1, 1) if single else (c.v, c.h) for c in parts]
        # Levels are those of eight bits, whatever the samples have: what looks right is a matter of shares of the range.
        unit = 2.0 ** (self.frame.precision - 8)
        tables = [structure.quant.get(c.tq) for c in parts]
        self.quant = [None if q is None else q / unit for q in tables]
        #: Levels that one step of a quantised DC value is worth, per component.
        self.steps = np.array([float(q[0]) / 8.0 if q is not None else 1.0 for q in self.quant])
        keys: list[int] = []
        for _, td, ta in self.scan.components:
            keys += [k for k in (td, ta | 0x10) if k not in keys]
        codes = tuple(self.scan.tables.get(k) or HuffmanTable(bytes(16), b"") for k in keys)
        self._lookup = (*lookup_tables(codes), group_tables(codes))
        self._dc = np.array([keys.index(td) for _, td, _ in self.scan.components], np.int64)
        self._ac = np.array([keys.index(ta | 0x10) for _, _, ta in self.scan.components], np.int64)
        steps = [int(q[0]) if q is not None else 1 for q in tables]
        self._span = np.array([int((2 << (self.frame.precision + 2)) * 1.2) // s + 4 for s in steps], np.int64)
        # No two values of a run lie further apart than that, so that their differences fit as well.
        self._most_apart = _SPANS * self._span
        self._held = np.int16 if self._most_apart.max() <= np.iinfo(np.int16).max else np.int32
        self.total = self.frame.mcus_x * self.frame.mcus_y

    def read(self, entropy: Entropy, bit: int, most: int, with_coefficients: int = 0) -> tuple[Run, NDArray[np.int16]]:
        """Up to ``most`` MCUs from ``bit``, the coefficients of the first ``with_coefficients`` of them."""
        dc: NDArray[np.signedinteger] = np.empty((max(0, most), self.blocks.size), self._held)
        bits: NDArray[np.signedinteger] = np.empty(max(0, most) + 1, np.int32 if entropy.length < _NARROW else np.int64)
        coefs = (
            np.empty((min(with_coefficients, most), self.blocks.size, 64), np.int16)
            if with_coefficients
            else _NO_COEFFICIENTS
        )
        count, failed = decode_run(
            entropy.clean, bit, entropy.length * 8, self.blocks, self._dc, self._ac, *self._lookup, self._most_apart,
            dc, bits, coefs,
        )  # fmt: skip
        coefs[count:] = 0
        # Of a large picture the room that was not needed is worth giving back.
        dc.resize((count, self.blocks.size), refcheck=False)
        bits.resize(count + 1, refcheck=False)
        return Run(entropy, dc, bits, bool(failed)), coefs

    @property
    def at_once(self) -> int:
        """MCUs whose coefficients are worth reading at once."""
        return max(_ROWS_AT_ONCE * self.frame.mcus_x, _LEAST_AT_ONCE)

    def parts(self, entropy: Entropy, bit: int, count: int) -> Iterator[Part]:
        """``count`` MCUs from ``bit`` on in parts, up to where decoding fails."""
        level = np.zeros(len(self.shape), np.int64)
        while count > 0:
            wanted = min(self.at_once, count)
            run, coefficients = self.read(entropy, bit, wanted, wanted)
            if run.count:
                yield Part(run.count, coefficients[: run.count], level.copy())
                for c in range(len(self.shape)):
                    level[c] += int(run.dc[-1, np.flatnonzero(self.blocks == c)[-1]])
            bit, count = int(run.bits[-1]), count - run.count
            if run.count < wanted:
                break

    def next_start(
        self,
        entropy: Entropy,
        first: int,
        until: int,
        least: int,
        room: tuple[NDArray[np.signedinteger], NDArray[np.int32]],
    ) -> int:
        """The first bit from ``first`` up to ``until`` from which ``least`` MCUs read without an error; ``until`` if none.

        As many are read as there is ``room`` for: DC values (MCUs, blocks) and places (MCUs + 1).
        """
        return int(
            next_run(
                entropy.clean, first, until, entropy.length * 8, self.blocks, self._dc, self._ac, *self._lookup,
                self._most_apart, least, *room,
            )
        )  # fmt: skip

    def levels(self, dc: NDArray[np.signedinteger]) -> NDArray[np.float32]:
        """(components, MCUs): the mean level of each MCU in sample levels."""
        out = np.empty((len(self.shape), dc.shape[0]), np.float32)
        for first in range(0, dc.shape[0], self.at_once):
            some = slice(first, first + self.at_once)
            for c, levels in enumerate(out):
                levels[some] = dc[some, self.blocks == c].mean(axis=1) * self.steps[c]
        return out

    def counted_from(self, run: Run) -> NDArray[np.int64]:
        """Per component the DC value that the run's first MCU counts from: its own less the step that leads to it."""
        one, _ = self.read(run.entropy, int(run.bits[0]), 1)
        before = run.dc[0].astype(np.int64) - one.dc[0]
        return np.array([before[np.flatnonzero(self.blocks == c)[0]] for c in range(len(self.shape))])

    def in_step(self, subject: Subject, at: int, end: int, surely: bool = False) -> int | None:
        """The bit after byte ``at`` at which an MCU surely begins; None where decoding does not fall into step.

        Decoding is begun at every bit. Most starts fail; those that do not end up on the same MCUs, since the code
        words pull a decoder into step. The first place that all of these share is believed: what only most share is still
        out of step in one run of five. Where the picture ``surely`` goes on at ``at``, its first whole MCU is looked for
        further on.
        """
        probe = read_entropy(subject.source, at, min(end, at + _PROBE))
        if probe.length < 64:
            return None
        runs: list[Run] = []
        # Starts near one another fall into step in the same block; others are needed where it may be any.
        usual, members = (_BITS_FOR_ALL, _BITS_FOR_ALL) if self.interchangeable else (_BITS_TRIED, _MEMBERS)
        limit = min(_MOST_BITS_TRIED if surely else usual, probe.length * 8 - 64)
        bit, room = 0, (np.empty((_MOST_PROBED, self.blocks.size), self._held), np.empty(_MOST_PROBED + 1, np.int32))
        while len(runs) < members:
            until = min(usual, limit) if runs else limit
            bit = self.next_start(probe, bit, until, _LEAST_PROBED, room)
            if bit >= until:
                break
            runs.append(self.read(probe, bit, _MOST_PROBED)[0])
            bit += 1
        if not runs:
            return None
        tails = Counter(int(run.bits[-2]) for run in runs)
        tail = self._likeliest(tails, runs) if self.interchangeable else tails.most_common(1)[0][0]
        members = tails[tail]
        agreeing = [run for run in runs if int(run.bits[-2]) == tail]
        if members < 2:
            # One start alone has nothing to be checked against; its first MCUs may be out of step.
            return int(agreeing[0].bits[min(agreeing[0].count - 1, 2)])
        counts = Counter(p for run in agreeing for p in run.bits[:-1].tolist())
        return min(p for p, n in counts.items() if n == members)

    @property
    def interchangeable(self) -> bool:
        """All components share their tables, as those of four inks do: decoding is as well in step one block further on."""
        return self.blocks.size > 1 and np.unique(self._dc).size == np.unique(self._ac).size == 1

    @property
    def sure_of_component(self) -> float:
        """How sure it is which component a run that falls into step begins with, 0..1."""
        return 1.0 if not self.interchangeable or self._sound >= _FEWEST_LEARNT else 1.0 / self.blocks.size

    def _likeliest(self, tails: Counter[int], runs: list[Run]) -> int:
        """Of the last MCUs' places those of the runs in whose blocks as much goes on as in the picture's first ones."""
        first, _ = self.read(self.scan.entropy, 0, self._sound)
        if first.count < _FEWEST_LEARNT:
            return tails.most_common(1)[0][0]
        usual = _changes(first)
        longest = {tail: max((r for r in runs if int(r.bits[-2]) == tail), key=lambda r: r.count) for tail in tails}
        return min(longest, key=lambda tail: float(np.abs(_changes(longest[tail]) - usual).sum()))

    def follow(self, entropy: Entropy, bit: int, most: int) -> Run:
        """The run from ``bit`` to the end of ``entropy`` or the first error, without what is not yet in step."""
        run = self.read(entropy, bit, most)[0]
        run = run.without_first(self._unsettled(run))
        left = _BEGINNINGS
        while (beyond := self._first_beyond(run.dc[_SETTLING:])) is not None:
            stop = _SETTLING + beyond
            # Where all but the first of them lie within the range these are none of the picture's.
            late = self._first_beyond(run.dc[stop::-1])
            skip = 0 if late is None else stop + 1 - late
            if not left or not 0 < skip <= _MOST_FOREIGN:
                run = run.only_first(stop)
                run.failed = True
                break
            run, left = run.without_first(skip), left - 1
        return run

    def _first_beyond(self, dc: NDArray[np.signedinteger]) -> int | None:
        """The first MCU whose levels lie further from those of one before it than any in a picture do."""
        spread = np.maximum.accumulate(dc, axis=0) - np.minimum.accumulate(dc, axis=0)
        beyond = np.flatnonzero((spread > self._span[self.blocks]).any(axis=1))
        return int(beyond[0]) if beyond.size else None

    def _unsettled(self, run: Run) -> int:
        """How many MCUs at the start jump in level as no picture does: several starts may share a false path first."""
        jumps = (np.abs(np.diff(run.dc[: 4 * _SETTLING], axis=0)) * self.steps[self.blocks]).max(axis=1, initial=0.0)
        if jumps.size < _SETTLING:
            return 0
        usual = float(np.percentile(jumps, 75))
        wild = np.flatnonzero(jumps[:_SETTLING] > max(_WILD_LEVELS, 5.0 * usual))
        return int(wild[-1]) + 1 if wild.size else 0


def _changes(run: Run) -> NDArray[np.float64]:
    """Per block of an MCU the log of how much its DC value changes from one MCU to the next, in the mean, beside that of all."""
    changes = np.log(np.abs(np.diff(run.dc, axis=0)).mean(axis=0) + _LEAST_CHANGE)
    return np.asarray(changes - changes.mean())
