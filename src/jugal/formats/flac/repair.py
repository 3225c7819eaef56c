"""Repair of FLAC: the good frames behind a true STREAMINFO block, silence where frames are lost so that time holds."""

from __future__ import annotations

import numpy as np

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Report, Subject
from jugal.formats.flac.check import examine, in_sequence
from jugal.formats.flac.parse import FlacStream, read_flac
from jugal.kernels.flac import CRC8, CRC16, frame_header
from jugal.model.span import ByteSpan

_MAX_SILENT = 100_000


def rewrite_stream(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Marker, STREAMINFO, without MD5 where frames are lost, other metadata, good frames; frames between them replaced by silence."""
    stream = read_flac(subject.source)
    if stream.info is None or not stream.offsets.size:
        raise RepairImpossible("No STREAMINFO block or no frame is left.")
    good = np.flatnonzero((stream.good == 1) & in_sequence(stream))
    if not good.size:
        raise RepairImpossible("No good frame is left.")
    steps: list[str] = []
    frames, samples = _frames(subject, stream, good, steps)
    _, at, end = stream.blocks[0]
    body = bytearray(subject.source.read(at, end - at))
    packed = int.from_bytes(body[14:22], "big") >> 36 << 36 | samples
    body[14:22] = packed.to_bytes(8, "big")
    if good.size < stream.offsets.size or samples != stream.info.samples:
        body[22:38] = bytes(16)  # the checksum of sound that is no longer whole
    kept = [(kind, a, b) for kind, a, b in stream.blocks[1:] if kind != 3]
    body[0] = 0 if kept else 0x80
    pieces: list[Piece] = [b"fLaC", bytes(body)]
    for i, (kind, a, b) in enumerate(kept):
        last = 0x80 if i == len(kept) - 1 else 0
        pieces += [bytes([kind | last]), ByteSpan(a + 1, b)]
    report = Report()
    examine(subject, report)
    steps.insert(0, f"Wrote STREAMINFO for {samples:,} samples.")
    return RepairDraft((*pieces, *frames), tuple(steps), kept=report.attainable or 0.0)


def _frames(subject: Subject, stream: FlacStream, good: np.ndarray, steps: list[str]) -> tuple[list[Piece], int]:
    """Good frames as spans, silent ones as bytes, and the samples in all of them."""
    assert stream.info is not None
    numbers = stream.numbers
    variable = good.size > 1 and int(numbers[good[1]] - numbers[good[0]]) >= int(stream.sizes[good[0]])
    usual = int(stream.sizes[good[0]])
    pieces: list[Piece] = []
    expected = 0
    samples = 0
    for i in good.tolist():
        number, size = int(numbers[i]), int(stream.sizes[i])
        missing = number - expected if not variable else (number - expected) // usual
        if 0 < missing <= _MAX_SILENT:
            for k in range(missing):
                coded = expected + k * (usual if variable else 1)
                pieces.append(
                    silent_frame(subject, int(stream.offsets[i]), coded, stream.info.bits, stream.info.channels, usual)
                )
            samples += missing * usual
            steps.append(f"Wrote {missing:,} silent frames before byte {int(stream.offsets[i]):,}.")
        span = ByteSpan(int(stream.offsets[i]), int(stream.ends[i]))
        if pieces and isinstance(pieces[-1], ByteSpan) and pieces[-1].end == span.start:
            pieces[-1] = ByteSpan(pieces[-1].start, span.end)
        else:
            pieces.append(span)
        samples += size
        expected = number + (size if variable else 1)
    steps += [f"Kept the frames in bytes {p.start:,} to {p.end:,}." for p in pieces if isinstance(p, ByteSpan)]
    return pieces, samples


def silent_frame(subject: Subject, like: int, number: int, bits: int, channels: int, size: int) -> bytes:
    """A frame of ``size`` samples of silence with the header fields of the frame at ``like`` (RFC 9639 9.1, 9.2.3)."""
    info = np.zeros(5, np.int64)
    if not frame_header(subject.source.array, like, CRC8, info):
        raise RepairImpossible("No frame is left to copy the header fields from.")
    head = bytearray(subject.source.read(like, 4))
    head[2] = 0x70 | (head[2] & 0x0F)  # block size as 16 bits at the end of the header
    head[3] = (channels - 1) << 4 | (head[3] & 0x0E)
    rate_code = head[2] & 15
    tail = b""
    if rate_code in (12, 13, 14):
        width = 1 if rate_code == 12 else 2
        tail = subject.source.read(like + int(info[3]) - 1 - width, width)
    head += _coded_number(number) + (size - 1).to_bytes(2, "big") + tail
    head.append(_crc(head, CRC8, 8))
    body = "".join("00000000" + "0" * bits for _ in range(channels))
    body += "0" * (-len(body) % 8)
    frame = bytes(head) + int(body, 2).to_bytes(len(body) // 8, "big")
    return frame + _crc(frame, CRC16, 16).to_bytes(2, "big")


def _coded_number(value: int) -> bytes:
    """The frame or sample number in the extended UTF-8 code of 9.1.5."""
    if value < 0x80:
        return bytes([value])
    for length in range(2, 8):
        if value < 1 << (5 * length + 1):
            break
    out = []
    for _ in range(length - 1):
        out.append(0x80 | value & 0x3F)
        value >>= 6
    mark = (0xFF << (8 - length)) & 0xFF
    return bytes([mark | value, *reversed(out)])


def _crc(data: bytes | bytearray, table: np.ndarray, width: int) -> int:
    value = 0
    for byte in data:
        if width == 8:
            value = int(table[value ^ byte])
        else:
            value = (int(table[((value >> 8) ^ byte) & 255]) ^ (value << 8)) & 0xFFFF
    return value


REPAIRS = {"rewrite-stream": rewrite_stream}
