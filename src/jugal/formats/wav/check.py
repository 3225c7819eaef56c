"""RIFF WAVE (and RF64, BW64): chunks, sizes, format against data, cut-outs in the sound itself."""

from __future__ import annotations

import struct
from dataclasses import dataclass, field

from jugal.formats import pcm
from jugal.formats.base import Report, Subject
from jugal.formats.fills import holes
from jugal.formats.pcm import Coding, Form
from jugal.model import scoring
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Region
from jugal.model.span import ByteSpan, merge, total_length
from jugal.model.strip import Matter

_PLACEHOLDERS = (0, 0xFFFFFFFF, 0x7FFFFFFF, 0xFFFFFFDB, 0x7FFFF000)
_PCM, _FLOAT, _EXTENSIBLE = 1, 3, 0xFFFE
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
        # Common players read on to the file's end, strict programs see no sound.
        fixable = True
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


def form_of(wave: Wave) -> Form:
    """How the values are written. A block that is not whole values, or a format we do not know, counts as bytes."""
    width = wave.align // wave.channels if wave.channels and wave.align % wave.channels == 0 else 0
    if wave.tag == _PCM and 2 <= width <= 4 and -(-wave.bits // 8) == width:
        return Form(width, wave.channels, wave.order)
    return Form(max(1, width), max(1, wave.channels), wave.order, Coding.OTHER)


def _sound_damage(subject: Subject, report: Report, wave: Wave, span: ByteSpan) -> list[ByteSpan]:
    """Cut-outs and foreign stretches in the sound."""
    form, sound = form_of(wave), [span]
    lost: list[ByteSpan] = []

    def tell(part: ByteSpan, code: FindingCode, words: str, cause: Cause, matter: Matter) -> None:
        if any(part.start < x.end and part.end > x.start for x in lost):
            return
        report.add(code, Severity.MAJOR, words.format(_seconds(wave, part, span)), part.start, part.end, cause)
        report.mark(part.start, part.end, matter)
        lost.append(part)

    for hole in pcm.cut_outs(subject, form, sound):
        tell(hole, FindingCode.WAV_HOLE, "The sound is cut out from {}.", Cause.UNREADABLE, Matter.HOLE)
    for fill in holes(subject, span)[-1:]:
        end = fill.span
        if (
            end.end >= span.end
            and end.start > span.start
            and -end.start % 512 <= _NEAR
            and end.length >= 8192
            and pcm.loud_before(subject, form, sound, end.start)
        ):
            tell(end, FindingCode.WAV_HOLE, "From {} nothing was recorded.", Cause.STOPPED, Matter.HOLE)
    for text in pcm.foreign(subject, sound):
        tell(text, FindingCode.WAV_FOREIGN, "Text lies in the sound from {}.", Cause.OVERWRITTEN, Matter.FOREIGN)
    bursts = pcm.noise_bursts(subject, form, sound)
    for burst in bursts:
        words = "The sound turns to noise at full level from {}."
        tell(burst.clip(span), FindingCode.WAV_FOREIGN, words, Cause.OVERWRITTEN, Matter.FOREIGN)
    # Sound out of step with its frames is noise already, whatever it is a copy of.
    for again in pcm.repeats(subject, form, span) if not bursts else []:
        words = "Sound from elsewhere in the recording stands a second time from {}."
        tell(again, FindingCode.WAV_FOREIGN, words, Cause.OVERWRITTEN, Matter.FOREIGN)
    return merge(lost)
