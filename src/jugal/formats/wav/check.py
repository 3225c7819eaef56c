"""RIFF WAVE (and RF64, BW64): chunks, sizes, format against data, cut-outs in the sound itself."""

from __future__ import annotations

import struct
from dataclasses import dataclass, field

import numpy as np

from jugal.formats.base import Report, Subject
from jugal.formats.fills import foreign_text, holes
from jugal.model import scoring
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Region
from jugal.model.span import ByteSpan, merge, total_length
from jugal.model.strip import Matter

_PLACEHOLDERS = (0, 0xFFFFFFFF, 0x7FFFFFFF, 0xFFFFFFDB, 0x7FFFF000)
_PCM, _FLOAT, _EXTENSIBLE = 1, 3, 0xFFFE
_PAGE = 4096
_NEAR = 8


@dataclass(slots=True)
class Wave:
    """The parts of a WAVE file. ``data_stated`` is the size field of the data chunk as written."""

    riff: bytes = b""
    riff_stated: int = 0
    chunks: list[tuple[bytes, int, int]] = field(default_factory=list)
    broken_at: int | None = None
    tag: int = 0
    channels: int = 0
    rate: int = 0
    byte_rate: int = 0
    align: int = 0
    bits: int = 0
    fmt_at: int | None = None
    data_at: int | None = None
    data_stated: int = 0
    data_end: int = 0
    ds64: tuple[int, int] | None = None
    order: str = "little"

    @property
    def has_format(self) -> bool:
        return self.channels > 0 and self.rate > 0 and self.align > 0


def read_wave(subject: Subject) -> Wave:
    """Walks the chunks (id, start, stated size); a data size that cannot be right is bounded by the file."""
    source, size = subject.source, subject.size
    order = "big" if source.read(0, 4) == b"RIFX" else "little"
    wave = Wave(source.read(0, 4), source.uint(4, 4, order) or 0, order=order)
    at = 12
    if wave.riff not in (b"RIFF", b"RF64", b"BW64", b"RIFX") or source.read(8, 4) != b"WAVE":
        found = source.find(b"fmt ", 0, 65536)
        at = found if found >= 0 else source.find(b"data", 0, 65536)
        if at < 0:
            return wave
    while at + 8 <= size and len(wave.chunks) < 10_000:
        ident, stated = source.read(at, 4), source.uint(at + 4, 4, order) or 0
        if not all(32 <= c < 127 for c in ident):
            wave.broken_at = at
            break
        wave.chunks.append((ident, at, stated))
        if ident == b"ds64" and stated >= 24:
            wave.ds64 = (source.uint(at + 8, 8, "little") or 0, source.uint(at + 16, 8, "little") or 0)
        elif ident == b"fmt " and stated >= 14:
            body = source.read(at + 8, 40)
            if len(body) >= 14:
                wave.tag, wave.channels, wave.rate, wave.byte_rate, wave.align = struct.unpack(
                    f"{'>' if order == 'big' else '<'}HHIIH", body[:14]
                )
                wave.bits = int.from_bytes(body[14:16], "big" if order == "big" else "little")
                wave.fmt_at = at
                if wave.tag == _EXTENSIBLE and len(body) >= 26:
                    wave.tag = int.from_bytes(body[24:26], "little")
        elif ident == b"data" and wave.data_at is None:
            wave.data_at, wave.data_stated = at + 8, stated
            if wave.ds64 is not None and stated == 0xFFFFFFFF:
                wave.data_stated = stated = wave.ds64[1]
            wave.data_end = min(size, at + 8 + stated)
            if stated in _PLACEHOLDERS or at + 8 + stated > size:
                wave.data_end = size
                break
        at += 8 + stated + (stated & 1)
    return wave


def examine(subject: Subject, report: Report) -> None:
    """Examines the WAVE file in ``subject``; never raises for its content."""
    wave = read_wave(subject)
    size = subject.size
    for ident, start, stated in wave.chunks:
        matter = Matter.PAYLOAD if ident == b"data" else Matter.STRUCTURE
        report.mark(start, min(size, start + 8 + stated), matter, ident.decode("latin-1").strip())
    report.mark(0, 12, Matter.STRUCTURE, "RIFF")
    opens = wave.riff in (b"RIFF", b"RIFX", b"RF64", b"BW64") and subject.source.read(8, 4) == b"WAVE"
    if not opens:
        report.add(
            FindingCode.WAV_HEADER,
            Severity.FATAL,
            "The RIFF header is missing, so no player opens the file.",
            0,
            12,
            Cause.START_OVERWRITTEN,
        )
    if not wave.has_format:
        opens = False
        report.add(
            FindingCode.WAV_HEADER,
            Severity.FATAL,
            "The format chunk is missing or impossible.",
            12 if wave.riff == b"RIFF" else 0,
            None,
        )
    if wave.data_at is None:
        at = wave.broken_at if wave.broken_at is not None else min(size, 12)
        report.add(FindingCode.WAV_DATA, Severity.FATAL, "The sound data chunk is missing.", at, at)
        report.score, report.attainable = 0.0, 0.0
        if not wave.has_format or size < 4096:
            if size > 4096:
                report.attainable = 80.0
                report.plan("donor-header", "Take the header from a healthy recording of the same device.", 80.0, True)
            return
        report.attainable = 95.0
        report.plan("fix-sizes", "Write the header anew around the sound data.", 95.0)
        return
    _judge(subject, report, wave, opens)


def _judge(subject: Subject, report: Report, wave: Wave, opens: bool) -> None:
    assert wave.data_at is not None
    size = subject.size
    have = wave.data_end - wave.data_at
    real = max(0, size - wave.data_at)
    expected = have
    playable = 1.0
    fixable = False
    if wave.data_stated in _PLACEHOLDERS and real > 0 and not (wave.data_stated == 0 and real < 64):
        fixable = True
        playable = 0.0 if wave.data_stated == 0 else 1.0
        report.add(
            FindingCode.WAV_SIZE,
            Severity.MAJOR if wave.data_stated == 0 else Severity.MINOR,
            "The size of the sound data was never filled in.",
            wave.data_at - 4,
            wave.data_at,
            Cause.STOPPED,
        )
    elif wave.data_at + wave.data_stated > size:
        riff_end = wave.riff_stated + 8
        if riff_end == size or abs(riff_end - size) <= 1:
            fixable = True
            report.add(
                FindingCode.WAV_SIZE,
                Severity.MAJOR,
                "The size of the sound data is wrong: it passes the end that the RIFF header gives.",
                wave.data_at - 4,
                wave.data_at,
            )
        else:
            expected = wave.data_stated
            missing = wave.data_at + wave.data_stated - size
            plausible = wave.data_stated < 64 * max(have, 1 << 16)
            if not plausible:
                expected = have
                fixable = True
                report.add(
                    FindingCode.WAV_SIZE,
                    Severity.MAJOR,
                    "The size of the sound data is impossible.",
                    wave.data_at - 4,
                    wave.data_at,
                )
            else:
                report.add(
                    FindingCode.WAV_SHORT,
                    Severity.MAJOR,
                    f"{missing:,} bytes of sound are missing at the end.",
                    size,
                    size,
                    Cause.CUT_SHORT,
                )
                report.mark(size, size + missing, Matter.MISSING)
    elif wave.broken_at is not None and size - wave.broken_at > 64 and wave.data_end < size:
        rest = subject.source.array[wave.broken_at :]
        riff_end = wave.riff_stated + 8
        if riff_end > wave.broken_at + 64 and rest.any() and riff_end <= size + 1:
            fixable = True
            expected = real
            playable = have / real if real else 0.0
            report.add(
                FindingCode.WAV_SIZE,
                Severity.MAJOR,
                "The size of the sound data is too small: sound goes on after it.",
                wave.data_at - 4,
                wave.data_at,
            )
        else:
            report.add(
                FindingCode.TAIL,
                Severity.NOTE,
                f"{size - wave.broken_at:,} bytes follow the last chunk.",
                wave.broken_at,
                size,
            )
            report.mark(wave.broken_at, size, Matter.PAST_END)
    riff_wrong = wave.riff == b"RIFF" and wave.riff_stated + 8 != size and wave.riff_stated + 9 != size
    if riff_wrong and not report.has(FindingCode.WAV_SIZE, FindingCode.WAV_SHORT, FindingCode.TAIL):
        if wave.riff_stated + 8 > size or wave.riff_stated + 8 < wave.data_end:
            report.add(
                FindingCode.WAV_SIZE,
                Severity.NOTE if abs(wave.riff_stated + 8 - size) <= 8 else Severity.MINOR,
                "The size in the RIFF header does not match the file.",
                4,
                8,
            )
            fixable = True
        else:
            report.add(
                FindingCode.TAIL,
                Severity.NOTE,
                f"{size - wave.riff_stated - 8:,} bytes follow the RIFF form.",
                wave.riff_stated + 8,
                size,
            )
    span = ByteSpan(
        wave.data_at,
        max(wave.data_at, wave.data_end if expected == have else min(size, wave.data_at + expected)),
    )
    lost = _sound_damage(subject, report, wave, span)
    if wave.has_format:
        report.media.update(channels=wave.channels, sample_rate=wave.rate, bits=wave.bits)
        if wave.byte_rate and expected:
            report.media["duration"] = round(expected / max(1, wave.rate * wave.align), 3)
        if wave.tag == _PCM and wave.align != wave.channels * -(-wave.bits // 8):
            report.add(
                FindingCode.WAV_HEADER,
                Severity.MAJOR,
                "The format chunk contradicts itself: block size against channels and width.",
                wave.fmt_at,
                None,
            )
    if span.length == 0:
        report.add(FindingCode.WAV_DATA, Severity.FATAL, "The sound data chunk is empty.", wave.data_at, wave.data_at)
        report.score = report.attainable = 0.0
        return
    good = scoring.share(span.length - total_length(lost), max(expected, 1))
    played = good * playable
    report.score = max(played, scoring.UNOPENABLE) if opens and playable == 0.0 and good else played
    if not opens:
        report.score = min(good, scoring.UNOPENABLE)
    if playable == 0.0 and opens:
        report.score = min(good, scoring.UNOPENABLE)
    report.attainable = good
    for hole in lost:
        begin, end = (hole.start - span.start) / expected, (hole.end - span.start) / expected
        report.regions.append(Region(begin, min(1.0, end), _seconds(wave, hole, span)))
    report.anchor([span.start, span.end], [0.0, min(1.0, span.length / expected)])
    if span.length < expected:
        report.regions.append(Region(span.length / expected, 1.0, "end missing"))
    if not wave.has_format:
        report.attainable = 0.95 * good
        report.plan(
            "donor-header",
            "Take the header from a healthy recording of the same device.",
            report.attainable,
            True,
        )
    elif not opens or fixable or report.has(FindingCode.WAV_SHORT):
        report.plan("fix-sizes", "Write the sizes in the header to what is there.", good)
    elif report.has(FindingCode.TAIL):
        report.plan("trim", "Cut the bytes after the sound away.", good)


def _seconds(wave: Wave, hole: ByteSpan, span: ByteSpan) -> str:
    rate = wave.rate * wave.align
    if not rate:
        return f"bytes {hole.start:,} to {hole.end:,}"
    return f"{(hole.start - span.start) / rate:.2f} s to {(hole.end - span.start) / rate:.2f} s"


def _sound_damage(subject: Subject, report: Report, wave: Wave, span: ByteSpan) -> list[ByteSpan]:
    """Cut-outs and foreign stretches in the sound. Silence is legal; silence cut at sector boundaries is not."""
    lost: list[ByteSpan] = []
    for fill in holes(subject, span):
        hole = fill.span
        at_start, at_end = hole.start <= span.start, hole.end >= span.end
        # A run that began as silence starts anywhere; one that a copying program wrote starts with its sector,
        # give or take samples that happened to have the same value.
        aligned = (-hole.start % 512 <= _NEAR) + (hole.end % 512 <= _NEAR)
        if aligned == 2 and not at_start and not at_end and _abrupt(subject, wave, hole, fill.value):
            where = _seconds(wave, hole, span)
            report.add(
                FindingCode.WAV_HOLE,
                Severity.MAJOR,
                f"The sound is cut out from {where}.",
                hole.start,
                hole.end,
                Cause.UNREADABLE,
            )
        elif at_end and -hole.start % 512 <= _NEAR and hole.length >= 8192 and _loud_before(subject, wave, hole.start):
            report.add(
                FindingCode.WAV_HOLE,
                Severity.MAJOR,
                f"From {_seconds(wave, hole, span)} nothing was recorded.",
                hole.start,
                hole.end,
                Cause.STOPPED,
            )
        else:
            continue
        report.mark(hole.start, hole.end, Matter.HOLE, f"filled with 0x{fill.value:02X}")
        lost.append(hole)
    for text in merge([*foreign_text(subject, span), *(p.clip(span) for p in subject.blocks.patterns)]):
        report.add(
            FindingCode.WAV_FOREIGN,
            Severity.MAJOR,
            f"Text lies in the sound from {_seconds(wave, text, span)}.",
            text.start,
            text.end,
            Cause.OVERWRITTEN,
        )
        report.mark(text.start, text.end, Matter.FOREIGN)
        lost.append(text)
    for burst in _noise_bursts(subject, wave, span):
        if any(burst.start < x.end and burst.end > x.start for x in lost):
            continue
        report.add(
            FindingCode.WAV_FOREIGN,
            Severity.MAJOR,
            f"The sound turns to noise at full level from {_seconds(wave, burst, span)}.",
            burst.start,
            burst.end,
            Cause.OVERWRITTEN,
        )
        report.mark(burst.start, burst.end, Matter.FOREIGN)
        lost.append(burst)
    return merge(lost)


def _abrupt(subject: Subject, wave: Wave, hole: ByteSpan, value: int) -> bool:
    """The signal beside the hole is not at rest, so the hole did not begin as silence."""
    return _loud_before(subject, wave, hole.start) or _loud_before(subject, wave, min(subject.size, hole.end + 512))


def _loud_before(subject: Subject, wave: Wave, at: int) -> bool:
    data = subject.source.array[max(0, at - 256) : at]
    if wave.bits == 16 and wave.tag == _PCM:
        # Samples lie on even offsets from the data chunk's start.
        shift = (at - (wave.data_at or 0)) & 1
        data = data[: data.size - shift]
        samples = data[data.size & 1 :].view("<i2").astype(np.int32)
        return bool(np.abs(samples).mean() > 2)
    return bool(np.unique(data).size > 4)


def _noise_bursts(subject: Subject, wave: Wave, span: ByteSpan) -> list[ByteSpan]:
    """16 and 24-bit PCM: pages that are white noise near full scale among pages that are not."""
    if wave.bits == 24 and wave.order == "little" and wave.tag == _PCM and wave.align == 3 * wave.channels:
        return _bursts_24(subject, wave, span)
    if wave.bits != 16 or wave.tag != _PCM or wave.channels not in (1, 2) or wave.order == "big":
        return []
    first, last = -(-span.start // _PAGE), span.end // _PAGE
    if last - first < 8:
        return []
    low = first * _PAGE
    shift = (low - span.start) % wave.align
    raw = subject.source.array[low - shift : last * _PAGE - shift]
    block = raw.view("<i2") if raw.flags.c_contiguous else np.ascontiguousarray(raw).view("<i2")
    step = wave.channels
    pages = block.reshape(last - first, _PAGE // 2)
    jump = np.empty(pages.shape[0], np.float32)
    for at in range(0, pages.shape[0], 1024):
        part = pages[at : at + 1024].astype(np.float32)
        jump[at : at + 1024] = np.sqrt(((part[:, step:] - part[:, :-step]) ** 2).mean(axis=1))
    usual = float(np.median(jump))
    wild = np.flatnonzero((jump > 15_000) & (jump > 3 * usual + 1000))
    if wild.size > 0.4 * jump.size:
        return []
    return merge([ByteSpan(low + int(p) * _PAGE, low + int(p + 1) * _PAGE) for p in wild])


def _bursts_24(subject: Subject, wave: Wave, span: ByteSpan) -> list[ByteSpan]:
    """As for 16 bits, on the upper 16 of 24; pages do not hold whole samples, so sums run between page borders."""
    first, last = -(-span.start // _PAGE), span.end // _PAGE
    if last - first < 8:
        return []
    raw = subject.source.array[span.start : span.start + span.length // wave.align * wave.align]
    samples = np.ascontiguousarray(raw.reshape(-1, 3)[:, 1:]).view("<i2")[:, 0].astype(np.float32)
    squares = np.zeros(samples.size, np.float32)
    squares[wave.channels :] = (samples[wave.channels :] - samples[: -wave.channels]) ** 2
    borders = -(-(np.arange(first, last + 1) * _PAGE - span.start) // 3)
    borders = np.minimum(borders, squares.size - 1)
    sums = np.add.reduceat(squares, borders[:-1])
    jump = np.sqrt(sums / np.maximum(1, np.diff(np.append(borders[:-1], squares.size))))
    usual = float(np.median(jump))
    wild = np.flatnonzero((jump > 15_000) & (jump > 3 * usual + 1000))
    if wild.size > 0.4 * jump.size:
        return []
    return merge([ByteSpan((first + int(p)) * _PAGE, (first + int(p) + 1) * _PAGE) for p in wild])
