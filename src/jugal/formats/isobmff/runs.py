"""What a movie fragment says of a track (ISO/IEC 14496-12 8.8.7, 8.8.8, 8.8.12), each figure with the byte it stands at."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from jugal.binary.source import Source
from jugal.formats.isobmff.boxes import Box

#: Farther than any file reaches, and near enough to add sizes to.
FARTHEST = 1 << 62
#: Flags of a track fragment header: which figures it states, and how many bytes each takes.
BASE, DESCRIPTION, DURATION, SIZE, FLAGS = 1, 2, 8, 16, 32
_HEAD_FIGURES = {BASE: 8, DESCRIPTION: 4, DURATION: 4, SIZE: 4, FLAGS: 4}
#: Offsets count from the start of the fragment, where no base is stated.
BASE_IS_FRAGMENT = 0x20000
#: Flags of a run: its data offset, the flags of its first sample, and the columns of its rows.
OFFSET, FIRST_FLAGS = 1, 4
DURATIONS, SIZES, SAMPLE_FLAGS, COMPOSITION = 0x100, 0x200, 0x400, 0x800
COLUMNS = (DURATIONS, SIZES, SAMPLE_FLAGS, COMPOSITION)


@dataclass(slots=True)
class Run:
    """A ``trun`` box. ``rows`` has a row for each sample and a column for each of the ``COLUMNS`` in ``flags``.

    ``count`` is what it states; where it lists fewer, ``rows`` has none.
    """

    box: Box
    flags: int
    count: int
    offset: int | None
    first_flags: int | None
    rows_at: int
    rows: NDArray[np.int64]
    #: It claims more samples than it lists, or than the file has bytes.
    short: bool

    @property
    def columns(self) -> list[int]:
        return [bit for bit in COLUMNS if self.flags & bit]

    def column(self, bit: int) -> NDArray[np.int64] | None:
        """One figure of each sample; None where the run has no such column."""
        return self.rows[:, self.columns.index(bit)] if self.flags & bit else None

    def place(self, bit: int, row: int) -> int:
        """The byte at which the figure of a sample stands."""
        columns = self.columns
        return self.rows_at + 4 * (len(columns) * row + columns.index(bit))


@dataclass(slots=True)
class Part:
    """A ``traf`` box: ``stated`` holds the figures of its header by flag, ``time`` the decode time of its first sample."""

    box: Box
    head: Box | None = None
    flags: int = 0
    ident: int = 0
    stated: dict[int, int] = field(default_factory=dict)
    time_box: Box | None = None
    time: int | None = None
    runs: list[Run] = field(default_factory=list)

    def place(self, bit: int) -> int:
        """The byte at which a figure of the header stands."""
        assert self.head is not None
        return self.head.body + 8 + sum(n for flag, n in _HEAD_FIGURES.items() if flag < bit and self.flags & flag)


def placed_runs(moof: Box, part: Part, following: int, size: int) -> Iterator[tuple[Run, int, NDArray[np.int64]]]:
    """The runs of ``part`` in order, each with the byte where its samples begin and their sizes (8.8.7, 8.8.8).

    ``following`` is where the data of the part before end: offsets count from there where nothing else is said. ``size`` is
    that of samples for which none is stated.
    """
    base = moof.start if part.flags & BASE_IS_FRAGMENT else following
    position = base = min(part.stated.get(BASE, base), FARTHEST)
    for run in part.runs:
        if run.short:
            return
        position = position if run.offset is None else base + run.offset
        listed = run.column(SIZES)
        sizes = listed if listed is not None else np.full(run.count, part.stated.get(SIZE, size), np.int64)
        yield run, position, sizes
        position += int(sizes.sum())


def read_defaults(source: Source, moov: Box) -> dict[int, tuple[int, int, int]]:
    """Track → duration, size and flags of samples for which a fragment states none (8.8.3)."""
    extends = moov.child(b"mvex")
    defaults: dict[int, tuple[int, int, int]] = {}
    for trex in extends.all(b"trex") if extends is not None else ():
        head = source.read(trex.body, 24)
        if len(head) == 24:
            ident, _, duration, size, flags = struct.unpack(">5I", head[4:24])
            defaults[ident] = (duration, size, flags)
    return defaults


def head_length(flags: int) -> int:
    """Bytes in the body of a track fragment header of these flags."""
    return 8 + sum(length for flag, length in _HEAD_FIGURES.items() if flags & flag)


def run_length(flags: int, count: int) -> int:
    """Bytes in the body of a run of these flags with so many samples."""
    return 8 + 4 * (flags & OFFSET) + (flags & FIRST_FLAGS) + 4 * (flags & sum(COLUMNS)).bit_count() * count


def read_part(source: Source, traf: Box) -> Part:
    """What ``traf`` says; figures that its boxes have no room for read as zeros, as they do for decoders."""
    part = Part(traf, traf.child(b"tfhd"), time_box=traf.child(b"tfdt"))
    raw = source.read(part.head.body, 48) if part.head is not None else b""
    if len(raw) < 8:
        part.head = None
        return part
    part.flags, part.ident = int.from_bytes(raw[1:4], "big"), int.from_bytes(raw[4:8], "big")
    at = 8
    for flag, length in _HEAD_FIGURES.items():
        if part.flags & flag:
            part.stated[flag] = int.from_bytes(raw[at : at + length], "big")
            at += length
    if part.time_box is not None:
        body = source.read(part.time_box.body, 12)
        part.time = int.from_bytes(body[4:12] if body[:1] == b"\1" else body[4:8], "big")
    for trun in traf.all(b"trun"):
        run = read_run(source, trun)
        if run is None:
            break
        part.runs.append(run)
    return part


def read_run(source: Source, trun: Box) -> Run | None:
    """The run in ``trun``; None where not even its number of samples is there."""
    raw = source.read(trun.body, 16)
    if len(raw) < 8 or trun.end - trun.body < 8:
        return None
    flags, count = int.from_bytes(raw[1:4], "big"), int.from_bytes(raw[4:8], "big")
    at, offset, first_flags = 8, None, None
    if flags & OFFSET:
        offset = int.from_bytes(raw[at : at + 4], "big", signed=True)
        at += 4
    if flags & FIRST_FLAGS:
        first_flags = int.from_bytes(raw[at : at + 4], "big")
        at += 4
    width = (flags & sum(COLUMNS)).bit_count()
    short = trun.body + at + 4 * width * count > min(trun.end, source.size) if width else count > source.size
    listed = np.frombuffer(source.read(trun.body + at, 0 if short else 4 * width * count), ">u4")
    rows = listed.astype(np.int64).reshape(-1, max(1, width))
    return Run(trun, flags, count, offset, first_flags, trun.body + at, rows, short)


def composition_places(fragments: list[tuple[Box, list[Part]]], ident: int) -> NDArray[np.int64]:
    """For each sample that fragments list of a track the byte at which its composition offset stands, 0 where none does."""
    places = [np.empty(0, np.int64)]
    for _, parts in fragments:
        for run in (run for part in parts if part.ident == ident for run in part.runs if not run.short):
            numbers = np.arange(run.count, dtype=np.int64)
            each = (
                run.place(COMPOSITION, 0) + 4 * len(run.columns) * numbers if run.flags & COMPOSITION else 0 * numbers
            )
            places.append(each)
    return np.concatenate(places)
