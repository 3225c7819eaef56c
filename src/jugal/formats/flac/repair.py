"""Repair of FLAC: the good frames behind a STREAMINFO block that is true of them."""

from __future__ import annotations

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Report, Subject
from jugal.formats.flac.check import _sequence, examine
from jugal.formats.flac.parse import read_flac
from jugal.model.span import ByteSpan, merge


def rewrite_stream(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Marker, STREAMINFO with the number of samples that are left and no MD5, other metadata, good frames."""
    stream = read_flac(subject.source)
    if stream.info is None or not stream.offsets.size:
        raise RepairImpossible("No STREAMINFO block or no frame is left.")
    good = (stream.good == 1) & _sequence(stream)
    samples = int(stream.sizes[good].sum())
    _, at, end = stream.blocks[0]
    body = bytearray(subject.source.read(at, end - at))
    packed = int.from_bytes(body[14:22], "big") >> 36 << 36 | samples
    body[14:22] = packed.to_bytes(8, "big")
    body[22:38] = bytes(16)
    kept = [(kind, a, b) for kind, a, b in stream.blocks[1:] if kind != 3]
    body[0] = 0 if kept else 0x80
    pieces: list[Piece] = [b"fLaC", bytes(body)]
    for i, (kind, a, b) in enumerate(kept):
        last = 0x80 if i == len(kept) - 1 else 0
        pieces += [bytes([kind | last]), ByteSpan(a + 1, b)]
    steps = [f"Wrote STREAMINFO for {samples:,} samples."]
    frames = merge(ByteSpan(int(a), int(b)) for a, b, g in zip(stream.offsets, stream.ends, good, strict=True) if g)
    for span in frames:
        pieces.append(span)
        steps.append(f"Kept the frames in bytes {span.start:,} to {span.end:,}.")
    report = Report()
    examine(subject, report)
    return RepairDraft(tuple(pieces), tuple(steps), kept=report.attainable or 0.0)


REPAIRS = {"rewrite-stream": rewrite_stream}
