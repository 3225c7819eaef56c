"""Repairs of a PNG: signature, CRCs, IHDR, IEND, and pictures cut to their good rows."""

from __future__ import annotations

import struct
import zlib

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Report, Subject
from jugal.formats.png.check import examine, guess_header
from jugal.formats.png.parse import SIGNATURE, Chunk, inflate, parse_header, read_chunks
from jugal.model.span import ByteSpan

_END = b"\x00\x00\x00\x00IEND\xaeB`\x82"


def chunk_bytes(kind: bytes, data: bytes) -> bytes:
    """A chunk with its length and CRC."""
    return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))


def _header(subject: Subject, chunks: list[Chunk]) -> bytes:
    own = next((c for c in chunks if c.kind == b"IHDR"), None)
    parsed = parse_header(subject.source.read(own.data, own.length)) if own else None
    if own is not None and own.crc_ok and parsed:
        return chunk_bytes(b"IHDR", parsed.pack())
    guessed = guess_header(subject, [c for c in chunks if c.kind == b"IDAT"], parsed)
    if guessed is None:
        raise RepairImpossible("No picture size fits the data that is left.")
    return chunk_bytes(b"IHDR", guessed.pack())


def rewrite(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Signature, IHDR, the other chunks as they are with right CRCs, IEND; nothing before, between or after."""
    chunks, _ = read_chunks(subject.source, subject.limits)
    pieces: list[Piece] = [SIGNATURE, _header(subject, chunks)]
    steps = ["Wrote the signature and the IHDR chunk."]
    for chunk in chunks:
        if chunk.kind in (b"IHDR", b"IEND"):
            continue
        name = chunk.kind.decode("latin-1")
        if chunk.crc_ok:
            pieces.append(ByteSpan(chunk.start, chunk.end))
        else:
            pieces.append(chunk_bytes(chunk.kind, subject.source.read(chunk.data, chunk.length)))
            steps.append(f"Computed the CRC of {name} at {chunk.start:,} anew.")
    pieces.append(_END)
    steps.append("Wrote the IEND chunk.")
    return RepairDraft(tuple(pieces), tuple(steps))


def salvage_rows(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The good rows compressed anew without loss, the rest filled with zeros, in a complete PNG."""
    report = Report()
    examine(subject, report)
    chunks, _ = read_chunks(subject.source, subject.limits)
    raw_header = _header(subject, chunks)
    header = parse_header(raw_header[8:21])
    assert header is not None
    picture = inflate(subject.source, [c for c in chunks if c.kind == b"IDAT"], header.data_length)
    share = (report.attainable or 0.0) / 100.0
    stride = header.row_bytes + 1
    if header.interlace:
        good = picture.data[: int(share * header.data_length)]
        rows = 0
    else:
        rows = min(int(share * header.data_length) // stride, len(picture.data) // stride)
        good = picture.data[: rows * stride]
    data = good + bytes(header.data_length - len(good))
    pieces: list[Piece] = [SIGNATURE, raw_header]
    for chunk in chunks:
        if chunk.crc_ok and chunk.kind not in (b"IHDR", b"IDAT", b"IEND", b"acTL", b"fcTL", b"fdAT"):
            pieces.append(ByteSpan(chunk.start, chunk.end))
    pieces += [chunk_bytes(b"IDAT", zlib.compress(data, 6)), _END]
    return RepairDraft(
        tuple(pieces),
        (
            f"Kept {rows:,} of {header.height:,} rows, compressed anew without loss.",
            f"Filled up {header.data_length - len(good):,} bytes of picture data that are lost.",
        ),
        kept=100.0 * len(good) / header.data_length,
    )


REPAIRS = {
    "fix-signature": rewrite,
    "fix-checksums": rewrite,
    "rebuild-header": rewrite,
    "close": rewrite,
    "trim": rewrite,
    "salvage-rows": salvage_rows,
}
