"""Bytes → segments, tables, frame and scans. Lenient: what does not fit is noted and walked past."""

from __future__ import annotations

import re
from bisect import bisect_left
from dataclasses import dataclass, field, replace

import numpy as np

from jugal.binary.source import Bytes, Source
from jugal.formats.jpeg import spec
from jugal.kernels.stuffing import unstuff

_HEADER_SEARCH = 4 << 20
_MAX_SEGMENTS = 4096
#: Bytes that a block takes at most: noise at the finest setting takes a few more than it has samples.
_MOST_OF_A_BLOCK = 96
#: Bytes that are unstuffed at once.
_AT_ONCE = 1 << 20


@dataclass(frozen=True, slots=True)
class Segment:
    """A marker segment from its 0xFF to the byte after its payload."""

    marker: int
    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Component:
    ident: int
    h: int
    v: int
    tq: int


@dataclass(frozen=True, slots=True)
class Frame:
    """A frame header (B.2.2)."""

    marker: int
    precision: int
    height: int
    width: int
    components: tuple[Component, ...]

    @property
    def h_max(self) -> int:
        return max(c.h for c in self.components)

    @property
    def v_max(self) -> int:
        return max(c.v for c in self.components)

    @property
    def mcus_x(self) -> int:
        return -(-self.width // (8 * self.h_max))

    @property
    def mcus_y(self) -> int:
        return -(-self.height // (8 * self.v_max))

    @property
    def pixels(self) -> int:
        return self.width * self.height

    def covered(self, first: int, last: int) -> int:
        """Pixels of the picture in the MCUs from ``first`` up to ``last``, in their order.

        What MCUs at the right and at the bottom hold beyond the picture's edges (A.2.4) is nobody's loss.
        """
        across, down = 8 * self.h_max, 8 * self.v_max

        def before(mcu: int) -> int:
            row, column = divmod(min(mcu, self.mcus_x * self.mcus_y), max(1, self.mcus_x))
            top, bottom = min(row * down, self.height), min((row + 1) * down, self.height)
            return top * self.width + (bottom - top) * min(column * across, self.width)

        return before(last) - before(first)

    def mean_of(self, mask: np.ndarray) -> float:
        """Mean over the picture of what holds for each MCU (rows, MCUs a row), each weighed by what it covers of the picture."""
        widths, heights = (
            np.minimum(size, edge - size * np.arange(count))
            for size, edge, count in (
                (8 * self.h_max, self.width, self.mcus_x),
                (8 * self.v_max, self.height, self.mcus_y),
            )
        )
        # Of a large picture the mask is large: it is not held twice.
        return float(heights @ (mask @ widths.astype(mask.dtype)).astype(np.float64)) / max(1, self.pixels)

    @property
    def sampling(self) -> str:
        return ",".join(f"{c.h}x{c.v}" for c in self.components)


@dataclass(frozen=True, slots=True)
class HuffmanTable:
    """Code counts by length 1..16 and the symbols in code order (B.2.4.2)."""

    counts: bytes
    symbols: bytes


@dataclass(slots=True)
class Entropy:
    """The unstuffed data of one scan, with the markers met inside it."""

    start: int
    end: int
    clean: Bytes
    length: int
    mark_raw: np.ndarray
    mark_clean: np.ndarray
    mark_code: np.ndarray
    #: The clean offsets from behind which raw bytes were left out, and how many up to each of them, beginning with none.
    skip_at: np.ndarray
    skipped: np.ndarray

    @property
    def is_restart(self) -> np.ndarray:
        """Which of the markers met are restart markers."""
        return np.asarray((self.mark_code >= 0xD0) & (self.mark_code <= 0xD7))

    def raw_offsets(self, clean: np.ndarray) -> np.ndarray:
        """Raw offsets of clean byte offsets; of one at which a marker stands the marker's."""
        found = np.asarray(self.skipped[np.searchsorted(self.skip_at, clean)])
        # It is asked of each MCU of a large picture: nothing is held twice.
        found += clean
        found += self.start
        return found

    def part(self, start: int, end: int) -> Entropy | None:
        """What lies between two raw offsets, over the same memory; None where no whole byte or marker begins at one of them.

        Behind it come the bytes that follow, not zeros: what a decoder reads beyond the end is to count for nothing.
        """
        first, last = self.clean_offset(start), self.clean_offset(end)
        if start < self.start or self.raw_offsets(np.array([first, last])).tolist() != [start, end]:
            return None
        marks, skips = np.searchsorted(self.mark_raw, (start, end)), np.searchsorted(self.skip_at, (first, last))
        own, left_out = slice(*marks.tolist()), slice(int(skips[0]), int(skips[1]))
        return Entropy(
            start, end, self.clean[first : last + 32], last - first,
            self.mark_raw[own], self.mark_clean[own] - first, self.mark_code[own], self.skip_at[left_out] - first,
            self.skipped[left_out.start : left_out.stop + 1] - self.skipped[left_out.start],
        )  # fmt: skip

    def clean_offset(self, raw: int) -> int:
        """The first clean offset that lies at raw offset ``raw`` or behind it; ``length`` at most."""
        return bisect_left(range(self.length), raw, key=lambda clean: int(self.raw_offsets(np.array(clean))))


@dataclass(slots=True)
class Scan:
    """A scan header (B.2.3) with the tables in force and its entropy-coded data."""

    segment: Segment
    components: tuple[tuple[int, int, int], ...]
    ss: int
    se: int
    ah: int
    al: int
    tables: dict[int, HuffmanTable]
    restart_interval: int
    entropy: Entropy


@dataclass(slots=True)
class Structure:
    """One JPEG picture in a file."""

    start: int
    has_soi: bool = True
    segments: list[Segment] = field(default_factory=list)
    frame: Frame | None = None
    quant: dict[int, np.ndarray] = field(default_factory=dict)
    tables: dict[int, HuffmanTable] = field(default_factory=dict)
    scans: list[Scan] = field(default_factory=list)
    restart_interval: int = 0
    eoi: int | None = None
    end: int = 0
    #: Byte ranges between segments that belong to none, and segments whose length or content is impossible.
    gaps: list[tuple[int, int]] = field(default_factory=list)
    bad_segments: list[Segment] = field(default_factory=list)
    #: Where, between segments, a marker without a meaning stands (Table B.1, RES).
    stopped: int | None = None
    #: Where another picture begins although this one has not ended.
    interrupted: int | None = None
    #: True where the segments were collected by scanning, not by following the chain.
    salvaged: bool = False

    @property
    def entropy_bytes(self) -> int:
        return sum(s.entropy.end - s.entropy.start for s in self.scans)

    @property
    def overfull(self) -> bool:
        """More bytes of entropy-coded data than even noise takes: a thumbnail that breaks off, and the data of the main picture."""
        frame = self.frame
        if frame is None or not frame.height:
            return False
        blocks = sum(c.h * c.v for c in frame.components) * frame.mcus_x * frame.mcus_y
        return self.entropy_bytes > _MOST_OF_A_BLOCK * blocks

    @property
    def has_levels(self) -> bool:
        """A scan that brings DC values came for every component (G.1.1.1.1: it comes before all others of it)."""
        came = {index for s in self.scans if s.ss == 0 and s.ah == 0 for index, _, _ in s.components}
        return self.frame is not None and len(came) == len(self.frame.components)

    def missing_tables(self) -> set[int]:
        """Huffman tables (class << 4 | id) that scans use and no segment defines."""
        missing: set[int] = set()
        if self.frame is not None and self.frame.marker > 0xC8:
            return missing  # arithmetic coding needs no Huffman tables
        for scan in self.scans:
            for _, td, ta in scan.components:
                lossless = self.frame is not None and self.frame.marker == spec.LOSSLESS
                if (lossless or (scan.ss == 0 and scan.ah == 0)) and td not in scan.tables:
                    missing.add(td)
                if scan.se > 0 and (ta | 0x10) not in scan.tables:
                    missing.add(ta | 0x10)
        return missing

    def missing_quant(self) -> set[int]:
        """Quantisation tables that the frame names and no segment defines."""
        if self.frame is None or self.frame.marker == spec.LOSSLESS:
            return set()
        return {c.tq for c in self.frame.components} - set(self.quant)


def parse_frame(marker: int, body: bytes) -> Frame | None:
    """A frame header's payload, or None where its values are impossible (B.2.2, Table B.2)."""
    if len(body) < 9 or body[5] == 0 or body[5] > 4 or len(body) != 6 + 3 * body[5]:
        return None
    components = []
    for i in range(body[5]):
        ident, sampling, tq = body[6 + 3 * i : 9 + 3 * i]
        h, v = sampling >> 4, sampling & 15
        if not 1 <= h <= 4 or not 1 <= v <= 4 or tq > 3:
            return None
        components.append(Component(ident, h, v, tq))
    height, width = int.from_bytes(body[1:3], "big"), int.from_bytes(body[3:5], "big")
    if width == 0 or not 2 <= body[0] <= 16:
        return None
    if len(components) == 1:
        # Alone a component is coded block by block, whatever sampling is stated (A.2.2).
        components = [replace(components[0], h=1, v=1)]
    return Frame(marker, body[0], height, width, tuple(components))


def parse_dht(body: bytes) -> dict[int, HuffmanTable] | None:
    """The tables of a DHT payload; None where a table is impossible (B.2.4.2, C.2)."""
    tables: dict[int, HuffmanTable] = {}
    at = 0
    while at < len(body):
        key, counts = body[at], body[at + 1 : at + 17]
        total = sum(counts)
        symbols = body[at + 17 : at + 17 + total]
        if len(counts) < 16 or key & 0x0F > 3 or key >> 4 > 1 or total > 256 or len(symbols) < total:
            return None
        space = 0
        for length, count in enumerate(counts, 1):
            space += count << (16 - length)
        if space > 65536 or total == 0:
            return None
        if key >> 4 == 0 and any(s > 16 for s in symbols):
            return None
        tables[key] = HuffmanTable(counts, symbols)
        at += 17 + total
    return tables or None


def parse_dqt(body: bytes) -> dict[int, np.ndarray] | None:
    """Quantisation tables in zigzag order as uint16[64]; None where impossible (B.2.4.1)."""
    tables: dict[int, np.ndarray] = {}
    at = 0
    while at < len(body):
        precision, ident = body[at] >> 4, body[at] & 15
        length = 64 * (precision + 1)
        raw = body[at + 1 : at + 1 + length]
        if precision > 1 or ident > 3 or len(raw) < length:
            return None
        values = np.frombuffer(raw, ">u2" if precision else "u1").astype(np.uint16)
        if precision > 1 or ident > 3 or values.size < 64 or not values.all():
            return None
        tables[ident] = values
        at += 1 + length
    return tables or None


def parse_sos(body: bytes, frame: Frame | None) -> tuple[tuple[tuple[int, int, int], ...], int, int, int, int] | None:
    """Scan components as (index into the frame's, DC table, AC table) and Ss, Se, Ah, Al; None if impossible."""
    if not body or not 1 <= body[0] <= 4 or len(body) != 4 + 2 * body[0]:
        return None
    components = []
    for i in range(body[0]):
        ident, tables = body[1 + 2 * i], body[2 + 2 * i]
        index = i
        if frame is not None:
            match = [k for k, c in enumerate(frame.components) if c.ident == ident]
            if not match:
                return None
            index = match[0]
        if tables >> 4 > 3 or tables & 15 > 3:
            return None
        components.append((index, tables >> 4, tables & 15))
    ss, se, approx = body[-3:]
    # Of a lossless scan the first is the predictor and the second has no meaning (Table B.3).
    if ss > 63 or se > 63 or (se < ss and (frame is None or frame.marker != spec.LOSSLESS)):
        return None
    return tuple(components), ss, se, approx >> 4, approx & 15


def read_entropy(source: Source, start: int, end: int | None = None) -> Entropy:
    """Unstuffs the entropy-coded data from ``start`` up to the first marker that ends a scan."""
    limit = source.size if end is None else end
    clean = np.empty(max(0, limit - start) + 32, np.uint8)
    room = min(_AT_ONCE, max(0, limit - start)) // 2 + 1
    lists = [np.empty(room, kind) for kind in (np.int64, np.int64, np.int64, np.int64, np.int16)]
    parts = [[each[:0]] for each in lists]
    at, length, ended = start, 0, False
    while at < limit and not ended:
        stop = min(limit, at + _AT_ONCE)
        length, at, skips, marks, ended = unstuff(source.array, at, stop, limit, clean, length, *lists)
        for part, each, count in zip(parts, lists, (skips, skips, marks, marks, marks), strict=True):
            part.append(each[:count].copy())
        if stop < limit:
            source.release()
    clean[length : length + 32] = 0
    skip_at, skip_size, mark_raw, mark_clean, mark_code = (np.concatenate(part) for part in parts)
    skipped = np.append(0, np.cumsum(skip_size))
    return Entropy(start, at, clean[: length + 32], length, mark_raw, mark_clean, mark_code, skip_at, skipped)


def walk(source: Source, start: int, has_soi: bool = True) -> Structure:
    """Follows the marker chain from ``start`` as a decoder does, up to EOI or the end of what makes sense."""
    found = Structure(start, has_soi)
    _follow(source, found, start + 2 if has_soi else start)
    return found


def _follow(source: Source, found: Structure, at: int) -> None:
    """Takes in the segments and scans of the chain that goes on at ``at``."""
    size = source.size
    data = source.array
    while at < size and len(found.segments) < _MAX_SEGMENTS:
        if data[at] != 0xFF:
            following = _next_marker(source, at)
            found.gaps.append((at, following if following >= 0 else size))
            if following < 0:
                break
            unknown = _UNKNOWN.search(source.read(at, following - at))
            if unknown is not None and found.stopped is None:
                found.stopped = at + unknown.start()
            at = following
        marker_at = at
        while at < size and data[at] == 0xFF:
            at += 1
        if at >= size:
            break
        marker = int(data[at])
        begin = at - 1 if at - 1 >= marker_at else marker_at
        at += 1
        if marker == spec.EOI:
            found.eoi = begin
            break
        if marker == spec.SOI and found.scans:
            found.interrupted = at = begin
            break
        if marker in spec.STANDALONE or marker == 0:
            continue
        length = source.uint(at, 2)
        if length is None:
            break
        if length < 2 or at + length > size:
            found.bad_segments.append(Segment(marker, begin, min(size, at + max(length, 2))))
            if marker == spec.SOS or length < 2:
                break
            at = min(size, at + length)
            break
        segment = Segment(marker, begin, at + length)
        body = source.read(at + 2, length - 2)
        found.segments.append(segment)
        at += length
        if not _take(found, segment, body):
            found.bad_segments.append(segment)
        if marker == spec.SOS:
            scan = _scan(source, found, segment, body)
            if scan is None:
                if segment not in found.bad_segments:
                    found.bad_segments.append(segment)
                break
            found.scans.append(scan)
            at = scan.entropy.end
            if found.frame is not None and found.frame.marker not in spec.BY_SCANS and _all_components(found):
                _finish(source, found, at)
                return
    found.end = at if found.eoi is None else found.eoi + 2


def beyond_end(source: Source, found: Structure) -> Structure | None:
    """A progressive picture with the scans that follow the marker that ended it; None where none do."""
    if found.eoi is None or found.frame is None or found.frame.marker != spec.PROGRESSIVE:
        return None
    longer = replace(
        found, segments=found.segments[:], scans=found.scans[:], gaps=found.gaps[:], bad_segments=found.bad_segments[:], eoi=None
    )  # fmt: skip
    _follow(source, longer, found.eoi + len(spec.MARK_EOI))
    return longer if len(longer.scans) > len(found.scans) else None


def _finish(source: Source, found: Structure, at: int) -> None:
    """After the last sequential scan only EOI matters; segments before it are stepped over."""
    for _ in range(64):
        while at + 1 < source.size and source.array[at] == 0xFF and source.array[at + 1] == 0xFF:
            at += 1
        head = source.read(at, 4)
        if head[:2] == spec.MARK_EOI:
            found.eoi = at
            found.end = at + 2
            return
        if len(head) == 4 and head[0] == 0xFF and head[1] in (spec.DNL, spec.COM, *range(0xE0, 0xF0)):
            length = int.from_bytes(head[2:4], "big")
            if length >= 2 and at + 2 + length <= source.size:
                found.segments.append(Segment(head[1], at, at + 2 + length))
                at += 2 + length
                continue
        break
    found.end = min(at, source.size)


def _all_components(found: Structure) -> bool:
    seen = {index for scan in found.scans for index, _, _ in scan.components}
    return found.frame is not None and len(seen) == len(found.frame.components)


_UNKNOWN = re.compile(rb"\xff[\x02-\xbf]")


def _next_marker(source: Source, at: int) -> int:
    """Offset of the next 0xFF that begins a marker, within the header search range; -1 if none."""
    data = source.read(at, _HEADER_SEARCH)
    match = re.search(rb"\xff[\xc0-\xfe]", data)
    return at + match.start() if match else -1


def _take(found: Structure, segment: Segment, body: bytes) -> bool:
    """Enters a segment's content into the structure; False where the content is impossible."""
    marker = segment.marker
    if marker == spec.DHT:
        tables = parse_dht(body)
        if tables is None:
            return False
        found.tables = {**found.tables, **tables}
    elif marker == spec.DQT:
        quant = parse_dqt(body)
        if quant is None:
            return False
        found.quant.update(quant)
    elif marker == spec.DRI:
        if len(body) != 2:
            return False
        found.restart_interval = int.from_bytes(body, "big")
    elif marker in spec.SOF:
        frame = parse_frame(marker, body)
        if frame is None:
            return False
        if found.frame is None:
            found.frame = frame
    return True


def _scan(source: Source, found: Structure, segment: Segment, body: bytes) -> Scan | None:
    parsed = parse_sos(body, found.frame)
    if parsed is None:
        return None
    components, ss, se, ah, al = parsed
    entropy = read_entropy(source, segment.end)
    frame = found.frame
    if frame is not None and frame.height == 0:
        found.frame = _height_from_dnl(source, frame, entropy.end)
    return Scan(segment, components, ss, se, ah, al, found.tables, found.restart_interval, entropy)


def _height_from_dnl(source: Source, frame: Frame, at: int) -> Frame:
    """B.2.5: a frame without a height gets it from the DNL segment after the first scan."""
    head = source.read(at, 6)
    height = int.from_bytes(head[4:6], "big") if head[:4] == b"\xff\xdc\x00\x04" else 0
    return Frame(frame.marker, frame.precision, height, frame.width, frame.components)


_SALVAGE = re.compile(rb"\xff[\xc0-\xcf\xda\xdb\xdd]")


def salvage(source: Source, start: int = 0) -> Structure | None:
    """Collects tables, frame and scan header by scanning, for files whose marker chain cannot be followed.

    The scan header with the longest entropy-coded data decides; of the tables, those nearest before it.
    """
    head = source.read(start, _HEADER_SEARCH)
    segments: list[tuple[Segment, bytes]] = []
    at = 0
    while len(segments) < _MAX_SEGMENTS:
        match = _SALVAGE.search(head, at)
        if match is None:
            break
        at = match.start() + 1
        marker = head[at]
        length = int.from_bytes(head[at + 1 : at + 3], "big")
        body = head[at + 3 : at + 1 + length]
        if length < 4 or len(body) != length - 2 or not _plausible(marker, body):
            continue
        segments.append((Segment(marker, start + at - 1, start + at + 1 + length), body))
        at += length
    best: Structure | None = None
    for index, (segment, body) in enumerate(segments):
        if segment.marker != spec.SOS:
            continue
        found = Structure(start, False, salvaged=True)
        since = 0
        for k in range(index - 1, -1, -1):
            if segments[k][0].marker == spec.SOS:
                since = k + 1
                break
        for other, content in segments[since:index]:
            found.segments.append(other)
            _take(found, other, content)
        frame = found.frame
        if frame is not None and (frame.marker == spec.PROGRESSIVE or body[0] < len(frame.components)):
            # Scan by scan the chain goes on behind it.
            _follow(source, found, segment.start)
        else:
            found.segments.append(segment)
            scan = _scan(source, found, segment, body)
            if scan is None:
                continue
            found.scans.append(scan)
            _finish(source, found, scan.entropy.end)
        found.start = found.segments[0].start
        if best is None or (not found.overfull, found.entropy_bytes) > (not best.overfull, best.entropy_bytes):
            best = found
    return best


def _plausible(marker: int, body: bytes) -> bool:
    if marker == spec.DHT:
        return parse_dht(body) is not None
    if marker == spec.DQT:
        return parse_dqt(body) is not None
    if marker == spec.DRI:
        return len(body) == 2
    if marker in spec.SOF:
        return parse_frame(marker, body) is not None
    if marker == spec.SOS:
        parsed = parse_sos(body, None)
        return parsed is not None and (parsed[1], parsed[2]) in ((0, 63), (0, 0))
    return False


def soi_positions(source: Source, limit: int = 64) -> list[int]:
    """Offsets of start-of-image markers followed by a marker segment, in the first MiBs."""
    data = source.read(0, _HEADER_SEARCH)
    source.release()
    pattern = re.compile(rb"\xff\xd8\xff[\xc0-\xc4\xdb\xdd\xe0-\xef\xfe]")
    return [m.start() for m, _ in zip(pattern.finditer(data), range(limit), strict=False)]
