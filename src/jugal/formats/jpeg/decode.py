"""Decoding the scans of a parsed JPEG: what an ordinary decoder makes of them, and where they go wrong."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg import spec
from jugal.formats.jpeg.parse import Frame, HuffmanTable, Scan
from jugal.kernels.jpeg import FAST_BITS, GROUP_BITS, decode_progressive, decode_sequential, group_codes

_MAX_ERRORS = 4096
#: Bytes whose bits can be counted in 32 bits.
_NARROW = 1 << 28


@dataclass(frozen=True, slots=True)
class ScanError:
    """An error met while decoding: kind as in the kernel, MCU number, raw byte offset."""

    kind: int
    mcu: int
    at: int


@dataclass(slots=True)
class Segments:
    """The restart segments of a scan: clean byte ranges and the units each should hold."""

    start: NDArray[np.int64]
    end: NDArray[np.int64]
    mcu: NDArray[np.int64]
    count: NDArray[np.int64]
    #: Numbers of restart intervals that no marker leads to.
    lost: list[int] = field(default_factory=list)
    #: Raw offsets of restart markers out of sequence or foreign markers passed over.
    odd: list[int] = field(default_factory=list)
    #: More intervals follow than the picture has room for: some were put in, and the rest stands too far down.
    too_many: bool = False


@dataclass(slots=True)
class Decoded:
    """What came of one scan. Units are MCUs, or blocks in a scan of one component."""

    scan: Scan
    units: int
    units_x: int
    segments: Segments
    done: NDArray[np.int64]
    used: NDArray[np.int64]
    unit_pos: NDArray[np.signedinteger]
    errors: list[ScanError]
    error_count: int

    @property
    def complete(self) -> bool:
        """Every unit was decoded without an error."""
        return self.error_count == 0 and int(self.done.sum()) == self.units

    @property
    def bits_left(self) -> int:
        """Bits of the data behind the last unit that was decoded; up to 23 may be padding."""
        return self.scan.entropy.length * 8 - int(self.segments.start[-1]) * 8 - int(self.used[-1])

    def raw(self, clean_bits: NDArray[np.signedinteger] | list[int]) -> NDArray[np.int64]:
        """Raw byte offsets of ascending bit positions in the unstuffed data."""
        return self.scan.entropy.raw_offsets(np.asarray(clean_bits, np.int64) >> 3)


@dataclass(slots=True)
class Picture:
    """The decoded frame: per component the plane of DC values (block rows, blocks a row), in 16 bits where those of the picture fit,
    as common decoders hold them."""

    frame: Frame
    dc: list[NDArray[np.signedinteger]]
    scans: list[Decoded]
    layout: Layout | None = None
    #: Per scan how much of the look is lost, 0..1, where it is astray and where it is missing; reckoned where a progressive
    #: picture is damaged.
    weights: list[tuple[float, float]] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Layout:
    """Where each component's blocks lie in the flat block array."""

    stride: NDArray[np.int64]
    rows: NDArray[np.int64]
    offset: NDArray[np.int64]
    total: int

    @classmethod
    def of(cls, frame: Frame) -> Layout:
        stride = np.array([frame.mcus_x * c.h for c in frame.components], np.int64)
        rows = np.array([frame.mcus_y * c.v for c in frame.components], np.int64)
        sizes = stride * rows
        return cls(stride, rows, np.concatenate(([0], np.cumsum(sizes)[:-1])), int(sizes.sum()))


@lru_cache(maxsize=64)
def _lookup(table: HuffmanTable) -> tuple[NDArray[np.uint16], NDArray[np.uint16]]:
    row = np.zeros(1 << 16, np.uint16)
    code, index = 0, 0
    for length in range(1, 17):
        for _ in range(table.counts[length - 1]):
            if index < len(table.symbols):
                low = code << (16 - length)
                row[low : low + (1 << (16 - length))] = length << 8 | table.symbols[index]
            code += 1
            index += 1
        code <<= 1
    fast = row[:: 1 << (16 - FAST_BITS)].copy()
    fast[(fast >> 8) > FAST_BITS] = 0
    return fast, row


@lru_cache(maxsize=16)
def lookup_tables(tables: tuple[HuffmanTable, ...]) -> tuple[NDArray[np.uint16], NDArray[np.uint16]]:
    """Per table the lookup by 10 and by 16 bits: ``length << 8 | symbol``, 0 where no code begins so."""
    rows = [_lookup(table) for table in tables]
    return np.stack([fast for fast, _ in rows]), np.stack([full for _, full in rows])


@lru_cache(maxsize=16)
def group_tables(tables: tuple[HuffmanTable, ...]) -> NDArray[np.uint16]:
    """Per table the lookup of several AC symbols at once, as ``kernels.jpeg.group_codes`` makes it."""
    groups = np.zeros((len(tables), 1 << GROUP_BITS), np.uint16)
    group_codes(lookup_tables(tables)[1], groups)
    return groups


def split_segments(scan: Scan, units: int, interval: int) -> Segments:
    """Restart segments as an ordinary decoder places them (T.81 E.2.4 and common resynchronisation).

    ``interval`` counts units as ``units`` does; 0 without restarts.
    """
    entropy = scan.entropy
    if not interval:
        end = int(entropy.mark_clean[0]) if entropy.mark_clean.size else entropy.length
        foreign = [int(r) for r in entropy.mark_raw[:1]]
        one = [np.array([x], np.int64) for x in (0, end, 0, units)]
        return Segments(one[0], one[1], one[2], one[3], odd=foreign)
    starts, ends, mcus, counts = [0], [], [0], []
    lost: list[int] = []
    odd: list[int] = []
    too_many = False
    expected = 0
    total = -(-units // interval)
    skipping = False
    for raw, clean, code in zip(
        entropy.mark_raw.tolist(), entropy.mark_clean.tolist(), entropy.mark_code.tolist(), strict=True
    ):
        if not 0xD0 <= code <= 0xD7:
            # No marker of any use: the rest of the interval is lost, data up to the next marker is skipped.
            odd.append(raw)
            if not skipping:
                ends.append(clean)
            skipping = True
            continue
        ahead = (code - 0xD0 - expected) & 7
        if ahead in (6, 7):
            odd.append(raw)
            if not skipping:
                ends.append(clean)
            skipping = True
            continue
        if ahead:
            odd.append(raw)
        if ahead in (1, 2):
            lost.extend(range(expected + 1, expected + 1 + ahead))
            expected += ahead
        if not skipping:
            ends.append(clean)
        skipping = False
        expected += 1
        if expected >= total:
            too_many = True
            break
        starts.append(clean)
        mcus.append(expected * interval)
    else:
        if not skipping:
            ends.append(entropy.length)
    lost.extend(range(expected + 1, total))
    counts = [min(interval, units - m) for m in mcus]
    columns = [np.array(x, np.int64) for x in (starts, ends[: len(starts)], mcus, counts)]
    return Segments(columns[0], columns[1], columns[2], columns[3], lost=lost, odd=odd, too_many=too_many)


def decode(frame: Frame, scans: list[Scan], quant: dict[int, NDArray[np.uint16]], careful: bool = False) -> Picture:
    """Decodes all scans of a Huffman-coded sequential or progressive frame with 8 or 12 bits.

    ``quant`` tells which DC values are possible: dequantised, none lies further than the sample range allows.
    """
    layout = Layout.of(frame)
    progressive = frame.marker == spec.PROGRESSIVE
    dc = np.zeros(layout.total, np.int16)
    nonzero = np.zeros(layout.total, np.uint64) if progressive else None
    limits = dc_limits(frame, quant)
    decoded = [_decode_scan(frame, layout, scan, dc, nonzero, limits, careful) for scan in scans]
    planes = [
        dc[o : o + s * r].reshape(r, s)
        for o, s, r in zip(layout.offset.tolist(), layout.stride.tolist(), layout.rows.tolist(), strict=True)
    ]
    return Picture(frame, planes, decoded, layout)


def follow(
    frame: Frame, scans: list[Scan], quant: dict[int, NDArray[np.uint16]]
) -> Iterator[tuple[Layout, NDArray[np.int16], NDArray[np.uint64]]]:
    """Of the blocks of a progressive frame after each of ``scans``: their DC values, and which coefficients are not zero
    (bit k: number k in zigzag order). The arrays are the same ones each time."""
    layout = Layout.of(frame)
    dc, nonzero = np.zeros(layout.total, np.int16), np.zeros(layout.total, np.uint64)
    limits = dc_limits(frame, quant)
    for scan in scans:
        _decode_scan(frame, layout, scan, dc, nonzero, limits, False)
        yield layout, dc, nonzero


def dc_limits(frame: Frame, quant: dict[int, NDArray[np.uint16]]) -> NDArray[np.int64]:
    """Largest quantised DC magnitude per component that a picture can have, with a third to spare."""
    limits = []
    for component in frame.components:
        table = quant.get(component.tq)
        step = int(table[0]) if table is not None else 1
        limits.append(int((1 << (frame.precision + 2)) * 1.34) // step + 2)
    return np.array(limits, np.int64)


def scan_units(frame: Frame, scan: Scan) -> tuple[int, int]:
    """Units of a scan and units a row (A.2): MCUs when interleaved, else the component's own blocks."""
    if len(scan.components) > 1:
        return frame.mcus_x * frame.mcus_y, frame.mcus_x
    component = frame.components[scan.components[0][0]]
    across = math.ceil(math.ceil(frame.width * component.h / frame.h_max) / 8)
    down = math.ceil(math.ceil(frame.height * component.v / frame.v_max) / 8)
    return across * down, across


def unit_height(frame: Frame, scan: Scan) -> float:
    """Pixel rows that a unit of a scan covers (A.2); of a lossless picture it is a line of MCUs."""
    v = 1 if len(scan.components) > 1 else frame.components[scan.components[0][0]].v
    return (1.0 if frame.marker == spec.LOSSLESS else 8.0) * frame.v_max / v


def _decode_scan(
    frame: Frame,
    layout: Layout,
    scan: Scan,
    dc: NDArray,
    nonzero: NDArray[np.uint64] | None,
    limits: NDArray[np.int64],
    careful: bool,
) -> Decoded:
    units, units_x = scan_units(frame, scan)
    segments = split_segments(scan, units, scan.restart_interval)
    indices = [index for index, _, _ in scan.components]
    tables: list[HuffmanTable] = []
    where: dict[int, int] = {}

    def table(key: int) -> int:
        if key not in where:
            where[key] = len(tables)
            tables.append(scan.tables.get(key) or HuffmanTable(bytes(16), b""))
        return where[key]

    dc_tab = np.array([table(td) for _, td, _ in scan.components], np.int64)
    ac_tab = np.array([table(ta | 0x10) for _, _, ta in scan.components], np.int64)
    fast, full = lookup_tables(tuple(tables))
    single = len(indices) == 1
    h = np.array([1 if single else frame.components[i].h for i in indices], np.int64)
    v = np.array([1 if single else frame.components[i].v for i in indices], np.int64)
    stride, offset = layout.stride[indices], layout.offset[indices]
    # Of a large picture, and of a progressive one with its many scans, the places would else take more room than all the rest.
    narrow = scan.entropy.length < _NARROW
    unit_pos: NDArray[np.signedinteger] = np.full(units, -1, np.int32 if narrow else np.int64)
    done = np.zeros(segments.start.size, np.int64)
    used = np.zeros(segments.start.size, np.int64)
    err = [np.zeros(_MAX_ERRORS, np.int64) for _ in range(3)]
    clean = scan.entropy.clean
    common = (clean, segments.start, segments.end, segments.mcu, segments.count, units_x)
    if nonzero is None:
        count = decode_sequential(
            *common, h, v, dc_tab, ac_tab, fast, full, group_tables(tuple(tables)), stride, offset, dc,
            unit_pos, done, used, *err, limits[indices], careful,
        )  # fmt: skip
    else:
        count = decode_progressive(
            *common, not single, h, v, dc_tab, ac_tab, fast, full, stride, offset, dc, nonzero,
            scan.ss, scan.se, scan.ah, scan.al, unit_pos, done, used, *err,
        )  # fmt: skip
    kept = min(int(count), _MAX_ERRORS)
    at = scan.entropy.raw_offsets(np.minimum(err[0][:kept] >> 3, scan.entropy.length))
    errors = [ScanError(int(k), int(m), int(p)) for p, m, k in zip(at, err[1][:kept], err[2][:kept], strict=True)]
    return Decoded(scan, units, units_x, segments, done, used, unit_pos, errors, int(count))
