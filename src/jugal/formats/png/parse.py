"""PNG chunks and picture data (W3C PNG, third edition, clauses 5 and 11)."""

from __future__ import annotations

import struct
import zlib
from dataclasses import dataclass, field

from jugal.binary.limits import Limits
from jugal.binary.source import Source

SIGNATURE = b"\x89PNG\r\n\x1a\n"
KNOWN = frozenset(
    b"IHDR PLTE IDAT IEND tRNS cHRM gAMA iCCP sBIT sRGB cICP mDCV cLLI tEXt zTXt iTXt bKGD hIST pHYs sPLT eXIf tIME "
    b"acTL fcTL fdAT caBX iDOT CgBI orNT sTER oFFs pCAL sCAL gIFg gIFx vpAg mkBF mkTS mkBS mkBT prVW cpIp".split()
)
_CHANNELS = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}
_DEPTHS = {0: (1, 2, 4, 8, 16), 2: (8, 16), 3: (1, 2, 4, 8), 4: (8, 16), 6: (8, 16)}
_STEP = 2048


@dataclass(frozen=True, slots=True)
class Chunk:
    """A chunk: ``start`` of its length field, data range, and whether its CRC fits."""

    kind: bytes
    start: int
    data: int
    length: int
    crc_ok: bool
    cut: bool = False

    @property
    def end(self) -> int:
        return self.data + self.length + 4


@dataclass(frozen=True, slots=True)
class Header:
    """IHDR (11.2.1)."""

    width: int
    height: int
    depth: int
    colour: int
    interlace: int

    @property
    def row_bytes(self) -> int:
        return -(-self.width * self.depth * _CHANNELS[self.colour] // 8)

    @property
    def data_length(self) -> int:
        """Bytes that the inflated picture data must have, filter bytes included (clauses 7 and 8)."""
        if not self.interlace:
            return self.height * (1 + self.row_bytes)
        total = 0
        for x0, y0, dx, dy in (
            (0, 0, 8, 8),
            (4, 0, 8, 8),
            (0, 4, 4, 8),
            (2, 0, 4, 4),
            (0, 2, 2, 4),
            (1, 0, 2, 2),
            (0, 1, 1, 2),
        ):
            columns, rows = -(-(self.width - x0) // dx), -(-(self.height - y0) // dy)
            if columns > 0 and rows > 0:
                total += rows * (1 + -(-columns * self.depth * _CHANNELS[self.colour] // 8))
        return total

    def pack(self) -> bytes:
        return struct.pack(">IIBBBBB", self.width, self.height, self.depth, self.colour, 0, 0, self.interlace)


def parse_header(data: bytes) -> Header | None:
    """IHDR's 13 bytes, or None where a value is not allowed."""
    if len(data) != 13:
        return None
    width, height, depth, colour, method, filters, interlace = struct.unpack(">IIBBBBB", data)
    if not (0 < width < 2**31 and 0 < height < 2**31) or depth not in _DEPTHS.get(colour, ()):
        return None
    if method or filters or interlace > 1:
        return None
    return Header(width, height, depth, colour, interlace)


def read_chunks(source: Source, limits: Limits) -> tuple[list[Chunk], int | None]:
    """Chunks in order; where the chain breaks the next believable chunk is searched for.

    Also returns where the chain first broke, None where it did not.
    """
    chunks: list[Chunk] = []
    at = _first_chunk(source)
    broken: int | None = None
    while at < source.size and len(chunks) < limits.items:
        chunk = _chunk_at(source, at)
        if chunk is None:
            broken = at if broken is None else broken
            following = _search(source, at + 1)
            kind = source.read(at + 4, 4)
            if kind == b"IDAT":
                # Its own data is damaged or short: keep what lies before the next believable chunk.
                stop = following if following >= 0 else source.size
                chunks.append(Chunk(kind, at, at + 8, max(0, stop - at - 12), False))
            at = following
            if at < 0:
                break
            continue
        chunks.append(chunk)
        at = chunk.end
        if chunk.kind == b"IEND":
            break
    return chunks, broken


def _first_chunk(source: Source) -> int:
    """Where the first chunk begins: behind the signature, which a transfer of text may have made longer or shorter."""
    hit = source.find(b"IHDR", 4, 4 + 8 + 64)
    return hit - 4 if hit >= 4 and hit != 12 and source.read(12, 4) != b"IHDR" and source.uint(hit - 4, 4) == 13 else 8


def _chunk_at(source: Source, at: int) -> Chunk | None:
    head = source.read(at, 8)
    if len(head) < 8:
        return None
    length, kind = struct.unpack(">I4s", head)
    if length > 2**31 - 1 or not all(65 <= c <= 90 or 97 <= c <= 122 for c in kind):
        return None
    if at + 12 + length > source.size:
        if kind not in (
            b"IDAT",
            b"fdAT",
            b"iCCP",
            b"eXIf",
            b"iTXt",
            b"zTXt",
            b"tEXt",
            b"IEND",
            b"PLTE",
            b"IHDR",
        ):
            return None
        return Chunk(kind, at, at + 8, max(0, source.size - at - 8), False, True)
    crc = zlib.crc32(source.array[at + 4 : at + 8 + length])  # type: ignore[arg-type]
    good = crc == source.uint(at + 8 + length, 4)
    if not good and kind not in KNOWN:
        return None
    if not good and at + 12 + length < source.size and kind != b"IEND":
        following = source.read(at + 16 + length, 4)
        if following not in KNOWN and not good:
            # Its length may be wrong: believe it only where another chunk follows.
            return None
    return Chunk(kind, at, at + 8, length, good)


def _search(source: Source, at: int) -> int:
    best = -1
    for kind in (b"IDAT", b"IEND", b"PLTE", b"IHDR", b"fdAT"):
        hit = source.find(kind, at + 4)
        while hit >= 0 and (best < 0 or hit - 4 < best):
            chunk = _chunk_at(source, hit - 4)
            if chunk is not None and (chunk.crc_ok or chunk.cut):
                best = hit - 4
                break
            hit = source.find(kind, hit + 1)
    return best


@dataclass(slots=True)
class Inflated:
    """The picture data as far as it inflates."""

    data: bytes = b""
    #: Bytes that came out (``data`` may be left out for large pictures).
    length: int = 0
    #: File offset of the input that breaks the deflate stream, None where it does not break.
    broken_at: int | None = None
    finished: bool = False
    #: (file offset of input, bytes out) every few thousand input bytes.
    progress: list[tuple[int, int]] = field(default_factory=list)
    unused: int = 0


def inflate(source: Source, chunks: list[Chunk], bound: int) -> Inflated:
    """Inflates the IDAT chunks in order, never beyond ``bound`` bytes; the stream's own checks included."""
    result = Inflated()
    engine = zlib.decompressobj()
    parts: list[bytes] = []
    for chunk in chunks:
        for at in range(chunk.data, chunk.data + chunk.length, _STEP):
            piece = source.read(at, min(_STEP, chunk.data + chunk.length - at))
            if result.finished:
                result.unused += len(piece)
                continue
            before = engine.copy()
            try:
                out = engine.decompress(piece, bound + 1 - result.length)
            except zlib.error:
                good, out = _bisect(before, piece, bound + 1 - result.length)
                parts.append(out)
                result.length += len(out)
                result.broken_at = at + good
                result.progress.append((at + good, result.length))
                result.data = b"".join(parts)
                return result
            parts.append(out)
            result.length += len(out)
            result.progress.append((at + len(piece), result.length))
            if engine.eof:
                result.finished = True
                result.unused += len(engine.unused_data)
            elif result.length > bound:
                result.finished = True
    result.data = b"".join(parts)
    return result


def _bisect(engine, piece: bytes, room: int) -> tuple[int, bytes]:  # type: ignore[no-untyped-def]
    """How many bytes of ``piece`` inflate before the error, and what comes out of them."""
    low, high, best = 0, len(piece), b""
    while high - low > 1:
        middle = (low + high) // 2
        trial = engine.copy()
        try:
            best = trial.decompress(piece[:middle], room)
            low = middle
        except zlib.error:
            high = middle
    return low, best
