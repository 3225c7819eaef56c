"""Judges a PNG: chunks, CRCs, the whole picture data inflated, rows that are good."""

from __future__ import annotations

import itertools
import zlib
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Report, Subject
from jugal.formats.fills import foreign_text, holes, trailing_fill
from jugal.formats.png.parse import SIGNATURE, Chunk, Header, Inflated, inflate, parse_header, read_chunks
from jugal.formats.png.thumbnail import thumbnail
from jugal.formats.tiff.exif import capture_data, read_exif
from jugal.kernels.png import unfilter
from jugal.model import scoring
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Region
from jugal.model.span import ByteSpan
from jugal.model.strip import Matter

#: Sizes with the likeliest shapes that are compared where no CRC proves one, and rows by which they are.
_LIKELY, _ROWS_LOOKED_AT = 64, 64


def examine(subject: Subject, report: Report) -> None:
    """Examines the PNG in ``subject``; never raises for its content."""
    source = subject.source
    signature_ok = source.read(0, 8) == SIGNATURE
    chunks, broken = read_chunks(source, subject.limits)
    opens = signature_ok
    if not signature_ok:
        fills = subject.blocks.fills
        end = fills[0].span.end if fills and fills[0].span.start == 0 else 8
        report.add(
            FindingCode.PNG_SIGNATURE,
            Severity.FATAL,
            "The signature is missing or altered, so no viewer opens the file.",
            0,
            end,
        )
    if chunks:
        report.mark(0, min(8, chunks[0].start), Matter.STRUCTURE, "signature")
    for chunk in chunks:
        report.mark(
            chunk.start,
            chunk.end,
            Matter.PAYLOAD if chunk.kind in (b"IDAT", b"fdAT") else Matter.STRUCTURE,
            chunk.kind.decode("latin-1"),
        )
    header_chunk = next((c for c in chunks if c.kind == b"IHDR"), None)
    header = parse_header(source.read(header_chunk.data, header_chunk.length)) if header_chunk else None
    data_chunks = [c for c in chunks if c.kind == b"IDAT"]
    if broken is not None:
        _broken_chain(subject, report, broken, chunks)
    if header is None or header_chunk is None or not header_chunk.crc_ok:
        opens = False
        place = header_chunk.start if header_chunk else 8
        report.add(
            FindingCode.PNG_HEADER,
            Severity.FATAL,
            "The IHDR chunk is missing, impossible or fails its CRC.",
            place,
            place + 25,
        )
    found = header
    if not opens and (header is None or (header_chunk is not None and not header_chunk.crc_ok)) and data_chunks:
        found = guess_header(subject, data_chunks, header)
    if not data_chunks or found is None:
        if not data_chunks:
            at = chunks[-1].end if chunks else 8
            report.add(
                FindingCode.PNG_SHORT,
                Severity.FATAL,
                "No picture data is left.",
                min(at, subject.size),
                subject.size,
                Cause.CUT_SHORT if at >= subject.size - 12 else None,
            )
        report.score = report.attainable = 0.0
        return
    report.media.update(width=found.width, height=found.height, bit_depth=found.depth)
    _exif(subject, report, chunks)
    expected = found.data_length
    if expected > min(subject.limits.inflated_total, subject.limits.pixels * 8) or expected > 1200 * subject.size + (
        1 << 20
    ):
        report.add(
            FindingCode.BUDGET,
            Severity.MAJOR,
            f"{found.width} × {found.height} pixels cannot come out of {subject.size:,} bytes; the picture data was not inflated.",
            header_chunk.start if header_chunk else 8,
        )
        report.score = report.attainable = 0.0
        return
    picture = inflate(source, data_chunks, expected)
    share = _data_findings(subject, report, found, data_chunks, picture)
    _crc_findings(subject, report, chunks, picture, expected)
    report.thumbnail = thumbnail(found, picture.data, _palette(subject, chunks))
    end_chunk = next((c for c in chunks if c.kind == b"IEND"), None)
    if end_chunk is None:
        at = chunks[-1].end
        report.add(
            FindingCode.PNG_END,
            Severity.MINOR,
            "The IEND chunk is missing.",
            min(at, subject.size),
            subject.size,
            Cause.CUT_SHORT,
        )
    elif end_chunk.end < subject.size:
        kind = "zeros or filler" if trailing_fill(subject, end_chunk.end) else "bytes"
        report.add(
            FindingCode.TAIL,
            Severity.NOTE,
            f"{subject.size - end_chunk.end:,} {kind} follow the complete picture.",
            end_chunk.end,
            subject.size,
        )
        report.mark(end_chunk.end, subject.size, Matter.PAST_END)
    shown = scoring.share(share, 1.0)
    report.score = shown if opens else min(shown, scoring.UNOPENABLE)
    report.attainable = shown
    if share < 1:
        report.regions.append(Region(share, 1.0, f"rows {int(share * found.height):,} to {found.height:,}"))
    _plans(report, shown, share)


def _broken_chain(subject: Subject, report: Report, at: int, chunks: list[Chunk]) -> None:
    following = next((c.start for c in chunks if c.start >= at), subject.size)
    span = ByteSpan(at, max(at, min(following, subject.size)))
    marked = holes(subject, span)
    start = at
    if marked:
        start = marked[0].span.start
    elif subject.source.read(at + 4, 4) == b"IDAT":
        return  # the picture data itself tells better where it breaks
    if at >= subject.size - 12 and not marked:
        return
    report.add(
        FindingCode.PNG_CHUNK,
        Severity.MAJOR,
        "The chain of chunks breaks here.",
        start,
        span.end,
        Cause.UNREADABLE if marked else None,
    )
    report.mark(span.start, span.end, Matter.DAMAGED)
    for fill in marked:
        report.mark(fill.span.start, fill.span.end, Matter.HOLE)


def _exif(subject: Subject, report: Report, chunks: list[Chunk]) -> None:
    chunk = next((c for c in chunks if c.kind == b"eXIf" and c.crc_ok), None)
    if chunk is not None:
        report.media.update(capture_data(read_exif(subject.source.read(chunk.data, chunk.length))))


def _palette(subject: Subject, chunks: list[Chunk]) -> bytes:
    chunk = next((c for c in chunks if c.kind == b"PLTE"), None)
    return subject.source.read(chunk.data, chunk.length) if chunk else b""


def _data_findings(subject: Subject, report: Report, header: Header, chunks: list[Chunk], picture: Inflated) -> float:
    """Findings about the picture data; returns the share of it that is good."""
    expected = header.data_length
    bad_chunk = next((c for c in chunks if not c.crc_ok), None)
    good_length = picture.length
    complete = picture.finished and picture.length == expected and picture.broken_at is None
    if complete and bad_chunk is None:
        return 1.0
    if bad_chunk is not None and bad_chunk.cut and not holes(subject, ByteSpan(bad_chunk.data, subject.size)):
        bad_chunk = None
    gap = _gap(chunks)
    if complete and gap is None:
        # The Adler-32 at the stream's end fits too: the data is good, only the chunk's CRC is wrong.
        return 1.0
    suspects: list[tuple[int, FindingCode, str, Cause | None]] = []
    if picture.broken_at is not None:
        suspects.append((picture.broken_at, FindingCode.PNG_DATA, "The compressed picture data breaks here", None))
    elif picture.length < expected:
        end = chunks[-1].data + chunks[-1].length
        cause = Cause.CUT_SHORT if end >= subject.size - 16 else None
        suspects.append((end, FindingCode.PNG_SHORT, "The picture data ends before the last row", cause))
    elif picture.length > expected:
        report.add(
            FindingCode.PNG_SURPLUS,
            # Where a chunk is damaged it is what follows from that.
            Severity.NOTE if bad_chunk is None else Severity.MINOR,
            "The picture data holds more than its rows.",
            chunks[-1].start,
            chunks[-1].end,
        )
        if bad_chunk is None:
            return 1.0
    if gap is not None:
        suspects.append((gap, FindingCode.PNG_DATA, "Picture data is missing between two chunks", Cause.OVERWRITTEN))
    if bad_chunk is not None:
        span = ByteSpan(bad_chunk.data, min(bad_chunk.data + bad_chunk.length, subject.size))
        evidence = sorted(
            [
                (f.span.start, FindingCode.HOLE, "A filled run lies in the picture data", Cause.UNREADABLE)
                for f in holes(subject, span)
            ]
            + [
                (s.start, FindingCode.FOREIGN, "Foreign bytes lie in the picture data", Cause.OVERWRITTEN)
                for s in foreign_text(subject, span)
            ]
            + [
                (
                    s.clip(span).start,
                    FindingCode.FILLER,
                    "A repeated text lies in the picture data",
                    Cause.UNREADABLE,
                )
                for s in subject.blocks.patterns
                if s.clip(span).length
            ]
        )
        place = evidence[0] if evidence else _row_evidence(header, picture, bad_chunk)
        suspects.append(place)
        for fill in holes(subject, span):
            report.mark(fill.span.start, fill.span.end, Matter.HOLE)
    if not suspects:
        return 1.0
    start, code, sentence, cause = min(suspects, key=lambda s: s[0])
    good_length = min(good_length, _out_at(picture, start))
    share = max(0.0, min(1.0, good_length / expected))
    row = int(share * header.height)
    report.add(
        code,
        Severity.MAJOR,
        f"{sentence}: rows from {row:,} of {header.height:,} on are lost.",
        start,
        start,
        cause,
    )
    report.mark(start, min(start + 4096, subject.size), Matter.DAMAGED)
    return share


def _gap(chunks: list[Chunk]) -> int | None:
    for one, following in itertools.pairwise(chunks):
        if following.start != one.end:
            return one.end
    return None


def _row_evidence(header: Header, picture: Inflated, bad: Chunk) -> tuple[int, FindingCode, str, Cause | None]:
    """Without bytes that stand out: the first impossible filter type after the bad chunk's start, else that start."""
    place = bad.data
    if not header.interlace and picture.data:
        stride = header.row_bytes + 1
        filters = np.frombuffer(picture.data, np.uint8)[::stride]
        first = _out_at(picture, bad.data) // stride
        wrong = np.flatnonzero(filters[first:] > 4)
        if wrong.size:
            out = (first + int(wrong[0]) - 1) * stride
            for at, length in picture.progress:
                if length >= out:
                    if at <= bad.end + 4096:
                        place = max(bad.data, at - 2048)
                    break
        elif bad.length > 8192 and picture.broken_at is not None:
            place = max(bad.data, picture.broken_at - 2048)
    return place, FindingCode.PNG_CRC, "The picture data does not match its CRC", Cause.BIT_ERROR


def _out_at(picture: Inflated, offset: int) -> int:
    """Inflated bytes that input before file offset ``offset`` gave."""
    out = 0
    for at, length in picture.progress:
        if at > offset:
            break
        out = length
    return out


def _crc_findings(subject: Subject, report: Report, chunks: list[Chunk], picture: Inflated, expected: int) -> None:
    data_good = picture.finished and picture.length == expected and picture.broken_at is None
    for chunk in chunks:
        if chunk.crc_ok or chunk.cut:
            continue
        name = chunk.kind.decode("latin-1")
        if chunk.kind == b"IDAT":
            if data_good:
                report.add(
                    FindingCode.PNG_CRC_ONLY,
                    Severity.MINOR,
                    "An IDAT chunk's CRC is wrong though its data inflates and checks; strict viewers stop here.",
                    chunk.start,
                    chunk.end,
                )
        elif chunk.kind != b"IHDR":
            severity = Severity.MAJOR if chunk.kind[:1].isupper() else Severity.MINOR
            report.add(
                FindingCode.PNG_CRC,
                severity,
                f"The chunk {name} does not match its CRC.",
                chunk.start,
                chunk.end,
            )


def guess_header(subject: Subject, chunks: list[Chunk], broken: Header | None) -> Header | None:
    """Sizes that fit the inflated length with a possible filter type in every row; the header's own values first."""
    picture = inflate(subject.source, chunks, min(subject.limits.inflated_member, 1200 * subject.size + (1 << 16)))
    total = picture.length
    if not picture.finished or total == 0:
        return None
    if broken is not None and broken.data_length == total:
        return broken
    fitting = list(_fitting(np.frombuffer(picture.data, np.uint8)))
    stated = _stated_crc(subject)
    proven = [h for h in fitting if stated is not None and zlib.crc32(b"IHDR" + h.pack()) == stated]
    if proven:
        return proven[0]
    # Real pictures are neither ribbons nor lines, and their samples go on from one to the next.
    likely = sorted(fitting, key=lambda h: max(h.width, h.height) / min(h.width, h.height))[:_LIKELY]
    return min(likely, key=lambda h: _roughness(picture.data, h), default=None)


def _fitting(raw: NDArray[np.uint8]) -> Iterator[Header]:
    """Every size and kind of samples of which the inflated data would be whole rows, each with a possible filter type."""
    for colour, depth in ((2, 8), (6, 8), (0, 8), (3, 8), (4, 8), (2, 16), (6, 16), (0, 16)):
        unit = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}[colour] * depth // 8
        for height in range(1, min(raw.size, 65536)):
            if raw.size % height:
                continue
            stride = raw.size // height
            if (stride - 1) % unit or stride < 2 or not (raw[::stride] <= 4).all():
                continue
            width = (stride - 1) // unit
            if width <= 65536 and (height > 1 or raw.size <= 64):
                yield Header(width, height, depth, colour, 0)


def _stated_crc(subject: Subject) -> int | None:
    """The CRC behind an IHDR chunk that stands where it belongs, whatever became of its content."""
    return subject.source.uint(29, 4) if subject.source.read(12, 4) == b"IHDR" else None


def _roughness(data: bytes, header: Header) -> float:
    """By how much samples differ from their neighbours in the first rows: little only with the right width of a sample."""
    count = min(header.height, _ROWS_LOOKED_AT)
    unit = max(1, header.row_bytes // header.width)
    rows = np.frombuffer(data[: count * (header.row_bytes + 1)], np.uint8).reshape(count, -1).copy()
    unfilter(rows, unit)
    values = rows[:, 1:].astype(np.int16)
    across = np.abs(values[:, unit:] - values[:, :-unit]).mean() if values.shape[1] > unit else 255.0
    down = np.abs(np.diff(values, axis=0)).mean() if count > 1 else 255.0
    # Of like fits the one whose samples are the fuller is the likelier.
    return float(across + down) * (1.0 if header.colour in (2, 6) and header.depth == 8 else 1.1)


def _plans(report: Report, shown: float, share: float) -> None:
    if report.has(FindingCode.PNG_HEADER):
        report.plan("rebuild-header", "Write the IHDR chunk anew with the size that fits the picture data.", shown)
    elif report.has(FindingCode.PNG_SIGNATURE):
        report.plan("fix-signature", "Write the signature anew.", shown)
    if share < 1:
        report.plan(
            "salvage-rows",
            "Keep the rows that are good and fill up the rest, so that every viewer opens the picture.",
            shown,
        )
    elif report.has(FindingCode.PNG_CRC, FindingCode.PNG_CRC_ONLY):
        report.plan("fix-checksums", "Compute the CRCs anew over the data, which is good.", shown)
    if share >= 1 and report.has(FindingCode.PNG_END):
        report.plan("close", "Add the IEND chunk.", shown)
    if report.has(FindingCode.TAIL):
        report.plan("trim", "Cut the bytes after the picture away.", shown)
