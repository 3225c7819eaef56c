"""ZIP archives (APPNOTE 6.3): end record, central directory, local headers."""

from __future__ import annotations

import struct
from dataclasses import dataclass, field

from jugal.binary.limits import Limits
from jugal.binary.source import Source

LOCAL, CENTRAL, END, END64, LOCATOR64 = (
    b"PK\x03\x04",
    b"PK\x01\x02",
    b"PK\x05\x06",
    b"PK\x06\x06",
    b"PK\x06\x07",
)


@dataclass(slots=True)
class Member:
    """One member as the central directory or its local header tells of it."""

    name: bytes
    method: int
    flags: int
    crc: int
    packed: int
    size: int
    local: int
    data: int = -1
    #: Central directory record, empty for members found by local header only.
    record: bytes = b""
    from_local: bool = False
    #: By how many bytes it lies beside the place that the directory gives, as decoders read it.
    moved: int = 0

    @property
    def text(self) -> str:
        return self.name.decode("utf-8" if self.flags & 0x800 else "cp437", "replace")

    @property
    def is_folder(self) -> bool:
        return self.name.endswith(b"/")


@dataclass(slots=True)
class Archive:
    """Members by the directory, members by their local headers, and where the directory lies."""

    members: list[Member] = field(default_factory=list)
    locals: list[Member] = field(default_factory=list)
    end_at: int | None = None
    end_length: int = 0
    directory_at: int | None = None
    directory_ok: bool = False
    stated_entries: int = 0
    #: Bytes before the archive proper (a self-extractor, junk): all offsets are relative to this. Negative where some are missing.
    base: int = 0


def _zip64(extra: bytes, size: int, packed: int, offset: int) -> tuple[int, int, int]:
    at = 0
    while at + 4 <= len(extra):
        ident, length = struct.unpack("<HH", extra[at : at + 4])
        if ident == 1:
            values = extra[at + 4 : at + 4 + length]
            i = 0
            out = []
            for value in (size, packed, offset):
                if value == 0xFFFFFFFF and i + 8 <= len(values):
                    value = int.from_bytes(values[i : i + 8], "little")
                    i += 8
                out.append(value)
            return out[0], out[1], out[2]
        at += 4 + length
    return size, packed, offset


def find_end(source: Source) -> int | None:
    """Offset of the end-of-central-directory record, None where there is none in the last 70,000 bytes."""
    low = max(0, source.size - 70_000)
    tail = source.read(low, 70_000)
    at = tail.rfind(END)
    while at >= 0:
        if at + 22 <= len(tail):
            return low + at
        at = tail.rfind(END, 0, at)
    return None


def read_archive(source: Source, limits: Limits) -> Archive:
    """The archive's directory, and its local headers by scanning where the directory does not serve."""
    archive = Archive()
    end = find_end(source)
    if end is not None:
        archive.end_at = end
        _, _, _, _, entries, size, offset, comment = struct.unpack("<4s4H2IH", source.read(end, 22))
        archive.end_length = 22 + comment
        archive.stated_entries = entries
        directory_end = end
        if source.read(end - 20, 4) == LOCATOR64:
            at64 = source.uint(end - 12, 8, "little") or 0
            record = source.read(at64, 56)
            if record[:4] != END64:
                at64 = source.rfind(END64, max(0, end - 4096), end)
                record = source.read(at64, 56) if at64 >= 0 else b""
            if record[:4] == END64:
                archive.stated_entries, size, offset = struct.unpack("<QQQ", record[32:56])
                directory_end = at64
        archive.base = directory_end - size - offset
        start = directory_end - size
        if start < 0 or (archive.base < 0 and source.read(start, 4) != CENTRAL):
            archive.base, start = 0, min(offset, source.size)
        archive.directory_at = start
        archive.members = _directory(source, start, end, archive.base, limits)
        archive.directory_ok = len(archive.members) == archive.stated_entries or (
            archive.stated_entries == len(archive.members) & 0xFFFF and len(archive.members) > 0xFFFF
        )
    return archive


def _directory(source: Source, at: int, end: int, base: int, limits: Limits) -> list[Member]:
    members: list[Member] = []
    while at + 46 <= end and len(members) < limits.items:
        head = source.read(at, 46)
        if head[:4] != CENTRAL:
            break
        flags, method = struct.unpack("<HH", head[8:12])
        crc, packed, size = struct.unpack("<III", head[16:28])
        name_length, extra_length, comment_length = struct.unpack("<HHH", head[28:34])
        offset = int.from_bytes(head[42:46], "little")
        rest = source.read(at + 46, name_length + extra_length + comment_length)
        if len(rest) < name_length + extra_length + comment_length:
            break
        size, packed, offset = _zip64(rest[name_length : name_length + extra_length], size, packed, offset)
        members.append(Member(rest[:name_length], method, flags, crc, packed, size, offset + base, record=head + rest))
        at += 46 + len(rest)
    return members


def read_local(source: Source, at: int) -> Member | None:
    """The local header at ``at``; None where there is none."""
    head = source.read(at, 30) if at >= 0 else b""
    if len(head) < 30 or head[:4] != LOCAL:
        return None
    flags, method = struct.unpack("<HH", head[6:10])
    crc, packed, size = struct.unpack("<III", head[14:26])
    name_length, extra_length = struct.unpack("<HH", head[26:30])
    rest = source.read(at + 30, name_length + extra_length)
    if len(rest) < name_length + extra_length or name_length == 0 or name_length > 4096:
        return None
    size, packed, _ = _zip64(rest[name_length:], size, packed, 0)
    return Member(rest[:name_length], method, flags, crc, packed, size, at, at + 30 + len(rest), from_local=True)


def find_moved(source: Source, members: list[Member], limits: Limits) -> None:
    """Finds members that are not where the directory says, as after bytes that were inserted or lost, by their local headers."""

    def in_place(member: Member) -> bool:
        local = read_local(source, member.local)
        return local is not None and local.name == member.name

    astray = [m for m in members if not in_place(m)]
    if not astray:
        return
    taken = {m.local for m in members} - {m.local for m in astray}
    places: dict[bytes, list[Member]] = {}
    for local in scan_locals(source, limits):
        if local.local not in taken:
            places.setdefault(local.name, []).append(local)
    for member in astray:
        likely = [p for p in places.get(member.name, []) if p.method == member.method and p.crc in (0, member.crc)]
        if likely:
            nearest = min(likely, key=lambda p: abs(p.local - member.local))
            member.moved = nearest.local - member.local
            member.local, member.data = nearest.local, nearest.data


def scan_locals(source: Source, limits: Limits) -> list[Member]:
    """All local headers in the file, by search; headers inside a member's own data are stepped over."""
    found: list[Member] = []
    at = source.find(LOCAL)
    while at >= 0 and len(found) < limits.items:
        member = read_local(source, at)
        step = at + 4
        if member is not None and member.method in (0, 8, 9, 12, 14, 93, 95, 98, 99):
            found.append(member)
            if not member.flags & 8 and member.data + member.packed <= source.size:
                step = member.data + member.packed
                if source.read(step, 2) != b"PK":
                    step = at + 4
        at = source.find(LOCAL, step)
    return found
