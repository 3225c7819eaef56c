"""A damaged archive written anew: good members byte for byte, damaged ones as far as they go, a right directory."""

from __future__ import annotations

import struct
import zlib

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Report, Subject
from jugal.formats.zip.check import examine, gather
from jugal.formats.zip.members import Content
from jugal.formats.zip.names import format_of_members
from jugal.formats.zip.package import close_xml, is_xml
from jugal.model.span import ByteSpan

_DOS_EPOCH = struct.pack("<HH", 0, 33)


def rebuild(subject: Subject, donor: Subject | None) -> RepairDraft:
    """All members with local headers, then a central directory and an end record that fit them."""
    _, contents, _ = gather(subject)
    names = {c.member.text for c in contents}
    kind = format_of_members(names, next((c.data.strip() for c in contents if c.member.name == b"mimetype"), b""))
    pieces: list[Piece] = []
    directory: list[bytes] = []
    steps: list[str] = []
    at = 0
    for content in contents:
        entry = _entry(content, kind)
        if entry is None:
            steps.append(f"Left out '{content.member.text}', of which nothing can be used.")
            continue
        data, method, crc, size, packed, note = entry
        name = content.member.name
        flags = (
            content.member.flags & ~0x0008
            if content.whole or content.state in ("no-header", "moved")
            else content.member.flags & 0x0800
        )
        when = _time_of(subject, content)
        fields = struct.pack("<HHH", 20, flags, method) + when + struct.pack("<IIIHH", crc, packed, size, len(name), 0)
        pieces += [b"PK\x03\x04" + fields + name, data]
        attributes = struct.unpack("<I", content.member.record[38:42])[0] if content.member.record else 0
        directory.append(
            b"PK\x01\x02" + struct.pack("<H", 20) + fields + struct.pack("<HHHII", 0, 0, 0, attributes, at) + name
        )
        steps.append(note)
        at += 30 + len(name) + packed
    if not directory:
        raise RepairImpossible("No member of the archive can be used.")
    if at > 2**32 - 2**20 or len(directory) > 65_534:
        raise RepairImpossible("Archives beyond 4 GiB or 65,534 members cannot be written anew yet.")
    whole = b"".join(directory)
    pieces.append(
        whole + b"PK\x05\x06" + struct.pack("<4H2IH", 0, 0, len(directory), len(directory), len(whole), at, 0)
    )
    steps.append(f"Wrote a central directory of {len(directory):,} members.")
    report = Report()
    examine(subject, report)
    return RepairDraft(tuple(pieces), tuple(steps), kept=report.attainable or 0.0)


def _time_of(subject: Subject, content: Content) -> bytes:
    member = content.member
    raw = member.record[12:16] if member.record else subject.source.read(member.local + 10, 4)
    return raw if len(raw) == 4 else _DOS_EPOCH


def _entry(content: Content, kind: str) -> tuple[Piece, int, int, int, int, str] | None:
    """(data, method, CRC, size, packed size, what was done) for the new archive; None where nothing is usable."""
    member = content.member
    name = member.text
    if content.whole or content.state in ("no-header", "moved"):
        packed = content.packed_end - member.data
        span = ByteSpan(member.data, content.packed_end)
        return (
            span,
            member.method,
            member.crc,
            member.size,
            packed,
            f"Kept '{name}', bytes {span.start:,} to {span.end:,}.",
        )
    if content.state in ("bomb", "method") or not content.data:
        return None
    data = content.data
    if content.state == "crc" and member.method == 8 and len(data) > 65536 and not is_xml(name):
        data = data[: max(1, int(len(data) * content.share))]
    if is_xml(name) and kind != "zip":
        if content.state == "crc":
            data = data[: max(1, int(len(data) * content.share))] if content.share > 0 else data
        data = close_xml(data)
        if not data:
            return None
        what = f"Kept '{name}' up to its last whole element, {len(data):,} bytes."
    else:
        what = f"Kept the first {len(data):,} bytes of '{name}'."
    deflate = zlib.compressobj(6, zlib.DEFLATED, -15)
    packed_data = deflate.compress(data) + deflate.flush()
    return packed_data, 8, zlib.crc32(data), len(data), len(packed_data), what


REPAIRS = {"rebuild-directory": rebuild, "salvage-members": rebuild}
