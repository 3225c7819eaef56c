"""The content of members: inflated in bounded steps, checked by CRC-32, damage placed in the packed bytes."""

from __future__ import annotations

import bz2
import itertools
import lzma
import zlib
from dataclasses import dataclass
from typing import Any

from jugal.binary.limits import Limits
from jugal.binary.source import Source
from jugal.formats.base import Subject
from jugal.formats.embedded import first_damage
from jugal.formats.fills import foreign_text, holes
from jugal.formats.zip.package import xml_error
from jugal.formats.zip.parse import Archive, Member, read_local
from jugal.model.span import ByteSpan

_STEP = 1 << 16
_KEEP = 32 << 20


@dataclass(slots=True)
class Content:
    """What came out of one member. ``data`` is kept up to 32 MiB; ``place`` is where damage shows, if any."""

    member: Member
    state: str  # whole, moved, gone, broken, crc, short, no-header, bomb, encrypted, method
    length: int = 0
    data: bytes = b""
    packed_end: int = 0
    place: int | None = None
    filled: bool = False

    @property
    def whole(self) -> bool:
        return self.state in ("whole", "encrypted", "method")

    @property
    def share(self) -> float:
        """Share of the member's content that came out, 0..1."""
        if self.whole:
            return 1.0
        size = max(self.member.size, self.length, 1)
        if self.state == "crc":
            span = max(1, self.packed_end - self.member.data)
            at = self.place if self.place is not None else self.member.data
            return max(0.0, min(1.0, (at - self.member.data) / span))
        return min(1.0, self.length / size)


def _engine(method: int) -> Any:
    if method == 8:
        return zlib.decompressobj(-15)
    if method == 12:
        return bz2.BZ2Decompressor()
    return None


def locate(source: Source, member: Member, following: int) -> bool:
    """Sets where the member's data begins; False where its local header is damaged and nothing fits instead."""
    if member.data >= 0:
        return True
    local = read_local(source, member.local)
    if local is not None and local.name == member.name:
        member.data = local.data
        return True
    base = member.local + 30 + len(member.name)
    candidates = [base, *(following - member.packed - tail for tail in (0, 16, 12, 24))]
    for at in candidates:
        if at < 0 or at + member.packed > source.size:
            continue
        if member.method == 8:
            try:
                out = zlib.decompressobj(-15).decompress(source.read(at, member.packed), 64 << 20)
            except zlib.error:
                continue
        else:
            out = source.read(at, min(member.packed, 64 << 20))
        if zlib.crc32(out) == member.crc:
            member.data = at
            return False
    member.data = min(base, source.size)
    return False


def read_member(subject: Subject, member: Member, room: int) -> Content:
    """Inflates one member, at most ``room`` bytes of it, and judges it by size and CRC."""
    source, limits = subject.source, subject.limits
    if member.flags & 1:
        return Content(member, "encrypted", packed_end=member.data + member.packed)
    streamed = bool(member.flags & 8) and member.from_local and member.packed == 0
    end = source.size if streamed else min(source.size, member.data + member.packed)
    if member.method == 0:
        return _stored(subject, member, end)
    engine = _engine(member.method)
    if engine is None:
        if member.method == 14:
            return _lzma(source, member, end, limits)
        return Content(member, "method", packed_end=end)
    crc, length, parts, kept = 0, 0, [], 0
    at = member.data
    state, place = "whole", None
    bound = min(room, limits.inflated_member)
    while at < end and not engine.eof:
        piece = source.read(at, min(_STEP, end - at))
        if not piece:
            break
        before = engine.copy() if member.method == 8 else None
        try:
            out = engine.decompress(piece) if member.method != 8 else engine.decompress(piece, bound - length + 1)
        except (zlib.error, OSError, EOFError):
            good, out = _bisect(before, piece) if before is not None else (0, b"")
            state, place = "broken", at + good
        crc = zlib.crc32(out, crc)
        length += len(out)
        if kept < _KEEP:
            parts.append(out)
            kept += len(out)
        if state == "broken":
            break
        at += len(piece)
        if length > bound or (length > 1 << 24 and length > limits.inflated_ratio * max(1, at - member.data)):
            return Content(member, "bomb", length, b"", end, member.data)
    unused = len(engine.unused_data) if engine.eof else 0
    packed_end = at - unused if streamed else end
    data = b"".join(parts)
    if state == "whole":
        if not engine.eof:
            state, place = "short", min(at, source.size)
        elif streamed:
            _take_descriptor(source, member, packed_end, crc, length)
            state = "whole" if crc == member.crc else "crc"
        elif crc != member.crc or (member.size and length != member.size):
            state = "crc"
    content = Content(member, state, length, data, packed_end, place)
    if not content.whole:
        _place(subject, content)
    return content


def _take_descriptor(source: Source, member: Member, at: int, crc: int, length: int) -> None:
    """Sizes and CRC from the data descriptor after a streamed member (4.3.9)."""
    head = source.read(at, 16)
    if head[:4] == b"PK\x07\x08":
        head = head[4:]
    member.packed, member.size = at - member.data, length
    member.crc = int.from_bytes(head[:4], "little") if len(head) >= 12 else crc


def _stored(subject: Subject, member: Member, end: int) -> Content:
    source = subject.source
    crc = 0
    for at in range(member.data, end, 1 << 22):
        crc = zlib.crc32(source.array[at : min(end, at + (1 << 22))], crc)  # type: ignore[arg-type]
    length = max(0, end - member.data)
    state = "whole" if crc == member.crc else "crc"
    place = None
    if length < member.packed:
        state, place = "short", source.size
    content = Content(member, state, length, source.read(member.data, min(length, _KEEP)), end, place)
    if not content.whole:
        _place(subject, content)
    return content


def _lzma(source: Source, member: Member, end: int, limits: Limits) -> Content:
    raw = source.read(member.data, end - member.data)
    try:
        size = int.from_bytes(raw[2:4], "little")
        header = raw[4 : 4 + size] + b"\xff" * 8
        out = lzma.LZMADecompressor(lzma.FORMAT_ALONE).decompress(header + raw[4 + size :], limits.inflated_member)
    except lzma.LZMAError:
        return Content(member, "broken", place=member.data, packed_end=end)
    state = "whole" if zlib.crc32(out) == member.crc else "crc"
    return Content(member, state, len(out), out[:_KEEP], end, None if state == "whole" else member.data)


def _bisect(engine: Any, piece: bytes) -> tuple[int, bytes]:
    low, high, best = 0, len(piece), b""
    while high - low > 1:
        middle = (low + high) // 2
        try:
            best = engine.copy().decompress(piece[:middle], 64 << 20)
            low = middle
        except zlib.error:
            high = middle
    return low, best


def _place(subject: Subject, content: Content) -> None:
    """The first filled or foreign byte in the packed data, where it lies before the place the decoder noticed."""
    span = ByteSpan(content.member.data, max(content.member.data, content.packed_end))
    filled = [f.span.start for f in holes(subject, span)]
    foreign = [s.start for s in foreign_text(subject, span)] if content.member.method else []
    foreign += [s.clip(span).start for s in subject.blocks.patterns if s.clip(span).length]
    spots = [*filled, *foreign]
    if len(content.data) == content.length:
        # Pictures hardly shrink when packed: what is where in them is there in the packed bytes too.
        inner = first_damage(content.data, subject.limits)
        packed = (content.place if content.place is not None else content.packed_end) - span.start
        if inner is not None:
            spots.append(span.start + inner * max(0, packed) // max(1, content.length))
    if spots and (content.place is None or min(spots) <= content.place):
        content.place = min(spots)
        content.filled = bool(filled) and min(filled) == content.place
    elif content.place is None:
        content.place = content.member.data
        # Content that inflates but is wrong: where XML stops being well formed tells how far the good bytes go.
        error = xml_error(content.data) if content.data[:1] == b"<" else None
        if error is not None and len(content.data) == content.length:
            content.place += int((content.packed_end - content.member.data) * error[0] / max(1, content.length))


def all_contents(subject: Subject, archive: Archive, members: list[Member]) -> list[Content]:
    """Every member's content in directory order; the bound on all inflated bytes together is kept."""
    room = subject.limits.inflated_total
    starts = sorted({m.local for m in members} | {archive.directory_at or subject.size})
    following = dict(itertools.pairwise(starts))
    contents = []
    for member in members:
        if member.is_folder:
            continue
        if member.local < 0:
            # It lay ahead of where the file begins now.
            member.local = member.data = 0
            content = Content(member, "gone", place=0)
        elif member.data < 0 and not locate(subject.source, member, following.get(member.local, subject.size)):
            content = read_member(subject, member, room)
            content.state = "no-header" if content.whole else content.state
            content.place = member.local
        else:
            content = read_member(subject, member, room)
            if member.moved and content.whole:
                content.state = "moved"
        room = max(0, room - content.length)
        contents.append(content)
        if subject.deadline.passed:
            break
    return contents
