"""Repairs of a WAVE file: sizes, header from what is left of it or from a donor."""

from __future__ import annotations

import struct
from dataclasses import replace

from jugal.formats.base import RepairDraft, RepairImpossible, Report, Subject
from jugal.formats.wav.check import Wave, examine, read_wave
from jugal.model.span import ByteSpan

_RIFF_LIMIT = 2**32 - 16


def _format_chunk(subject: Subject, wave: Wave) -> bytes:
    if wave.fmt_at is None:
        raise RepairImpossible("No usable format chunk is there.")
    length = subject.source.uint(wave.fmt_at + 4, 4, "little") or 16
    return subject.source.read(wave.fmt_at, 8 + min(length, 64))


def _assemble(chunks: list[bytes], data: ByteSpan, steps: list[str], silence: bytes = b"") -> RepairDraft:
    """The file of ``chunks`` and the sound in ``data``, with ``silence`` in front in place of sound that is lost."""
    head = b"".join(chunks)
    sound = len(silence) + data.length
    padding = b"\0" if sound & 1 else b""
    total = 4 + len(head) + 8 + sound + len(padding)
    if total < _RIFF_LIMIT:
        start = b"RIFF" + struct.pack("<I", total) + b"WAVE" + head + b"data" + struct.pack("<I", sound)
    else:
        sizes = struct.pack("<QQQI", total + 36, sound, 0, 0)
        start = b"RF64\xff\xff\xff\xffWAVEds64" + struct.pack("<I", 28) + sizes + head + b"data\xff\xff\xff\xff"
    steps.append(f"Wrote a header of {len(start)} bytes for {data.length:,} bytes of sound from byte {data.start:,}.")
    return RepairDraft(tuple(piece for piece in (start, silence, data, padding) if piece), tuple(steps))


def fix_sizes(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The header anew with right sizes; the chunks before the sound are kept, the sound is not touched."""
    wave = read_wave(subject)
    if not wave.has_format:
        raise RepairImpossible("No usable format chunk is there.")
    if wave.data_at is None:
        assert wave.fmt_at is not None
        start = wave.fmt_at + 8 + (subject.source.uint(wave.fmt_at + 4, 4, "little") or 16) + 8
        data = ByteSpan(min(start, subject.size), subject.size)
        chunks = [_format_chunk(subject, wave)]
    else:
        end = wave.data_end
        if wave.broken_at is not None and wave.riff_stated + 8 > wave.broken_at + 64:
            end = subject.size
        end -= (end - wave.data_at) % max(1, wave.align)
        data = ByteSpan(wave.data_at, end)
        chunks = [
            subject.source.read(at, 8 + stated + (stated & 1))
            for ident, at, stated in wave.chunks
            if at + 8 < wave.data_at and ident not in (b"data", b"ds64")
        ]
    report = Report()
    examine(subject, report)
    return replace(_assemble(chunks, data, []), kept=report.attainable or 0.0)


def trim(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Bytes after the RIFF form are left out."""
    wave = read_wave(subject)
    end = wave.broken_at if wave.broken_at is not None else min(subject.size, wave.riff_stated + 8)
    return RepairDraft((ByteSpan(0, end),), (f"Left out bytes {end:,} to {subject.size:,}.",))


def donor_header(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The donor's format chunk before the sound data that is left."""
    if donor is None:
        raise RepairImpossible("This repair needs a healthy recording of the same device.")
    lent = read_wave(donor)
    if not lent.has_format or lent.data_at is None:
        raise RepairImpossible("The donor has no format to lend.")
    own = read_wave(subject)
    start = own.data_at
    if start is None:
        fills = subject.blocks.fills
        lost = fills[0].span.end if fills and fills[0].span.start < 512 else lent.data_at
        # Keep the phase of the sample frames: the data begins where the donor's does.
        start = lent.data_at + -(-max(0, lost - lent.data_at) // lent.align) * lent.align
    end = subject.size - (subject.size - start) % lent.align
    if end <= start:
        raise RepairImpossible("No sound is left after the lost header.")
    steps = ["Took the format from the donor."]
    lost = max(0, start - lent.data_at) if own.data_at is None else 0
    silence = (b"\x80" if lent.bits == 8 else b"\0") * lost
    if lost:
        steps.append(
            f"Put {lost:,} bytes of silence in place of the sound that is lost, so that the rest keeps its time."
        )
    draft = _assemble([_format_chunk(donor, lent)], ByteSpan(start, end), steps, silence)
    return replace(draft, kept=100.0 * (end - start) / (end - start + lost))


REPAIRS = {"fix-sizes": fix_sizes, "trim": trim, "donor-header": donor_header}
