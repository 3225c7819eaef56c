"""Judges a PDF: cross-reference, objects, page tree, every stream, and which pages are whole."""

from __future__ import annotations

import re
from typing import Any

from jugal.formats.base import Report, Subject
from jugal.formats.embedded import first_damage
from jugal.formats.fills import foreign_text, holes
from jugal.formats.pdf.objects import Stream
from jugal.formats.pdf.pages import PageTree, catalogue, needed_streams, stray_catalogue, walk_pages
from jugal.formats.pdf.parse import (
    Document,
    Located,
    decode_ascii,
    dictionary_of,
    filters_of,
    inflate_stream,
    read_document,
)
from jugal.model import scoring
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Region
from jugal.model.span import ByteSpan
from jugal.model.strip import Matter


def examine(subject: Subject, report: Report) -> None:
    """Examines the PDF in ``subject``; never raises for its content."""
    document = read_document(subject)
    opens = _header(subject, report, document)
    encrypted = "Encrypt" in document.trailer
    if encrypted:
        report.add(
            FindingCode.PDF_ENCRYPTED,
            Severity.NOTE,
            "The document is encrypted; only its structure was judged.",
        )
    bad = _streams(subject, report, document, encrypted)
    _cross_reference(subject, report, document)
    root = catalogue(document)
    stray = None
    if not root:
        stray = stray_catalogue(document)
        place = document.startxref_at if document.startxref_at is not None else _lost_end(subject)
        if document.xref_at is not None:
            place = min(place, document.xref_at)
        report.add(
            FindingCode.PDF_TRAILER,
            Severity.FATAL,
            "No trailer leads to the document's catalogue.",
            place,
            place,
        )
        opens = False
        if stray is not None:
            root = dictionary_of(document.objects[stray].value)
    tree = walk_pages(document, root) if root else PageTree()
    _tree_findings(subject, report, document, tree, bool(root))
    pages = tree.pages
    if not pages:
        # Pages that nothing leads to are still pages.
        pages = [
            (n, dictionary_of(o.value))
            for n, o in sorted(document.objects.items())
            if dictionary_of(o.value).get("Type") == "Page"
        ]
        if root and pages:
            report.add(
                FindingCode.PDF_PAGES,
                Severity.FATAL,
                "The page tree is broken: no page can be reached.",
                None if tree.root is None else _place(document, tree.root),
            )
        opens = False
    _judge(subject, report, document, tree, pages, bad, opens)
    _strip(report, document, bad)


def _header(subject: Subject, report: Report, document: Document) -> bool:
    if document.header_at < 0:
        report.add(
            FindingCode.PDF_HEADER,
            Severity.FATAL,
            "The header line is missing.",
            0,
            8,
            Cause.START_OVERWRITTEN,
        )
        return False
    if document.header_at > 0:
        severity = Severity.NOTE if document.header_at < 1024 else Severity.MAJOR
        report.add(
            FindingCode.PDF_HEADER,
            severity,
            f"{document.header_at:,} bytes stand before the header line.",
            0,
            document.header_at,
        )
    if document.header_at >= 1024:
        return False  # readers look for the header in the first 1,024 bytes only
    version = document.data[document.header_at + 5 : document.header_at + 8]
    report.media["version"] = version.decode("latin-1")
    return True


def _place(document: Document, number: int) -> int | None:
    """Where an object lies, or where the cross-reference says it should; None where nothing tells."""
    located = document.objects.get(number)
    if located is not None:
        return located.start
    offset = document.xref.get(number, -1)
    return offset if 0 < offset <= len(document.data) else None


def _lost_end(subject: Subject) -> int:
    """Where the file's end is lost from: the start of a filled tail, else the end of the file."""
    last = subject.blocks.fills[-1] if subject.blocks.fills else None
    return last.span.start if last is not None and last.span.end == subject.size else subject.size


def _streams(subject: Subject, report: Report, document: Document, encrypted: bool) -> set[int]:
    """Decodes every stream that can be; returns the numbers of objects whose data is damaged."""
    bad: set[int] = set()
    total = 0
    for located in document.order:
        if isinstance(located.value, Stream):
            place = _stream_damage(subject, document, located, encrypted)
            total += located.value.end - located.value.start
            if place is not None:
                start, filled = place
                bad.add(located.number)
                cut = located.value.end >= subject.size
                cause = Cause.UNREADABLE if filled else (Cause.CUT_SHORT if cut else None)
                report.add(
                    FindingCode.PDF_STREAM,
                    Severity.MAJOR,
                    f"The data of stream {located.number} is damaged.",
                    min(start, subject.size),
                    located.value.end,
                    cause,
                )
            elif not located.stream_length_ok and located.closed:
                report.add(
                    FindingCode.PDF_LENGTH,
                    Severity.MINOR,
                    f"The stated length of stream {located.number} is wrong.",
                    located.value.start,
                    located.value.end,
                )
        elif not located.closed and located.value is not None and document.objects.get(located.number) is located:
            fill = next(
                (f for f in subject.blocks.fills if f.span.start <= located.end + 512 and f.span.end > located.start),
                None,
            )
            if fill is not None or located.end >= subject.size - 2:
                bad.add(located.number)
                start = fill.span.start if fill else subject.size
                report.add(
                    FindingCode.PDF_OBJECT,
                    Severity.MAJOR,
                    f"Object {located.number} is broken off.",
                    max(located.start, start),
                    max(located.end, start),
                )
    return bad


def _stream_damage(subject: Subject, document: Document, located: Located, encrypted: bool) -> tuple[int, bool] | None:
    """(offset where the damage shows, whether it is a filled run), None for good data."""
    stream = located.value
    span = ByteSpan(stream.start, max(stream.start, stream.end))
    if not located.closed and stream.end >= len(document.data):
        end = _lost_end(subject)
        return end, end < subject.size
    filters = filters_of(stream.dictionary)
    filled = [f.span.start for f in holes(subject, span)] if filters or encrypted else []
    raw = document.data[stream.start : stream.end]
    place: int | None = None
    if filters and not encrypted:
        kind = filters[0]
        if kind in ("ASCII85Decode", "A85", "ASCIIHexDecode", "AHx"):
            plain, wrong = decode_ascii(raw, kind)
            if wrong is not None:
                place = stream.start + wrong
            elif len(filters) > 1 and filters[1] in ("FlateDecode", "Fl"):
                out, broken = inflate_stream(plain)
                if broken is None or (broken >= len(plain) and _long_enough(document, stream, len(out))):
                    return None
                # Five characters stand for four bytes, two for one.
                ratio = 1.25 if kind in ("ASCII85Decode", "A85") else 2.0
                place = min(stream.end, stream.start + int(broken * ratio))
            elif (
                len(filters) > 1
                and filters[1] in ("DCTDecode", "DCT")
                and first_damage(plain, subject.limits) is not None
            ):
                place = stream.start
        elif kind in ("FlateDecode", "Fl"):
            out, broken = inflate_stream(raw)
            if broken is not None and not (broken >= len(raw) and _long_enough(document, stream, len(out))):
                place = stream.start + broken
                text = foreign_text(subject, span)
                if text and text[0].start < place:
                    place = text[0].start
            if place is None:
                return None  # the stream's own checksum vouches for it, whatever its bytes look like
        elif kind in ("DCTDecode", "DCT") and len(raw) > 16:
            inner = first_damage(raw, subject.limits)
            place = None if inner is None else stream.start + inner
    elif not encrypted and not filters and "Width" not in stream.dictionary and b"BT" in raw[:4096]:
        place = _plain_damage(stream.start, raw)
    if filled and (place is None or min(filled) <= place):
        return min(filled), True
    return None if place is None else (place, False)


def _long_enough(document: Document, stream: Stream, length: int) -> bool:
    """Some writers leave the checksum out; an image whose rows are complete is whole."""
    dictionary = stream.dictionary
    width, height = document.resolve(dictionary.get("Width")), document.resolve(dictionary.get("Height"))
    if isinstance(width, int) and isinstance(height, int):
        return length >= width * height // 8
    return False


def _plain_damage(start: int, raw: bytes) -> int | None:
    """Content streams without a filter are operators in text: zeros and control bytes have no place there."""
    match = re.search(rb"[\x00-\x08\x0e-\x1f]{4}|\xff{8}", raw)
    return start + match.start() if match else None


def _cross_reference(subject: Subject, report: Report, document: Document) -> None:
    size = subject.size
    base = max(0, document.header_at)
    if document.startxref_at is None or document.eof_at < 0:
        last = max((o.end for o in document.order), default=0)
        report.add(
            FindingCode.PDF_EOF,
            Severity.MAJOR,
            "The end of the file with its startxref is missing.",
            _lost_end(subject) if size - last < 4096 or _lost_end(subject) < size else last,
            size,
            Cause.CUT_SHORT,
        )
    elif document.xref_problem:
        place = document.xref_at if document.xref_at is not None else document.startxref_at
        report.add(FindingCode.PDF_XREF, Severity.MAJOR, document.xref_problem, min(place, size), min(place, size))
    wrong: list[int] = []
    for number, offset in document.xref.items():
        if offset <= 0:
            continue
        match = document.data[offset + base : offset + base + 32].lstrip(b"\0\t\n\f\r ")
        head = match.split(None, 2)
        if len(head) < 3 or not head[2].startswith(b"obj") or head[0] != b"%d" % number:
            wrong.append(number)
    if wrong:
        spots = [
            document.objects[n].start
            if n in document.objects and document.objects[n].container is None
            else document.xref[n] + base
            for n in wrong
        ]
        at = min(min(spots), size)
        report.add(
            FindingCode.PDF_OFFSET,
            Severity.MAJOR,
            f"{len(wrong):,} of {len(document.xref):,} cross-reference entries do not lead to their objects.",
            at,
            at,
        )
    end = document.eof_at + 5
    if document.eof_at >= 0:
        rest = document.data[end:].strip(b"\r\n \0\t")
        if rest or size - end > 1024:
            report.add(
                FindingCode.TAIL,
                Severity.NOTE,
                f"{size - end:,} bytes follow the end of the document.",
                end,
                size,
            )
            report.mark(end, size, Matter.PAST_END)


def _tree_findings(subject: Subject, report: Report, document: Document, tree: PageTree, rooted: bool) -> None:
    if tree.loop_at is not None:
        report.add(
            FindingCode.PDF_LOOP,
            Severity.MAJOR,
            "The page tree leads back into itself.",
            _place(document, tree.loop_at),
            None,
        )
    for number in tree.missing[:20]:
        report.add(
            FindingCode.PDF_PAGES,
            Severity.MAJOR,
            f"Object {number} of the page tree is missing.",
            _place(document, number),
            None,
        )


def _judge(
    subject: Subject,
    report: Report,
    document: Document,
    tree: PageTree,
    pages: list[tuple[int, dict[str, Any]]],
    bad: set[int],
    opens: bool,
) -> None:
    whole = 0
    states = []
    reported: set[int] = set()
    cache: dict[int, bool] = {}
    for number, page in pages:
        good = number not in bad
        for needed, value in needed_streams(document, page):
            if needed not in cache:
                cache[needed] = value is not None and needed not in bad
                if value is None and needed not in reported and needed in document.xref and document.xref[needed] != -1:
                    reported.add(needed)
                    report.add(
                        FindingCode.PDF_OBJECT,
                        Severity.MAJOR,
                        f"Object {needed}, which a page needs, is missing.",
                        _place(document, needed),
                        None,
                    )
                elif value is None and needed not in document.xref and document.xref and document.xref_problem is None:
                    cache[needed] = True  # a reference to an object that never was counts as null
            good = good and cache[needed]
        states.append(good)
        whole += good
    total = max(tree.stated, len(pages))
    report.media["pages"] = total
    share = scoring.share(whole, total) if total else 0.0
    report.score = share if opens else min(share, scoring.UNOPENABLE)
    report.attainable = max(report.score, share)
    for index, good in enumerate(states[:400]):
        if not good:
            report.regions.append(Region(index / total, (index + 1) / total, f"page {index + 1}"))
    if len(pages) < total:
        report.regions.append(Region(len(pages) / total, 1.0, f"pages {len(pages) + 1} to {total}"))
        if not report.has(FindingCode.PDF_PAGES):
            report.add(
                FindingCode.PDF_PAGES,
                Severity.MAJOR,
                f"{total - len(pages)} of {total} pages cannot be reached.",
                None,
            )
    xref_wrong = report.has(
        FindingCode.PDF_XREF,
        FindingCode.PDF_OFFSET,
        FindingCode.PDF_EOF,
        FindingCode.PDF_TRAILER,
        FindingCode.PDF_HEADER,
    )
    if pages and ((xref_wrong and report.worst is not Severity.NOTE) or not opens):
        report.plan(
            "rebuild-xref",
            "Write the cross-reference data anew from the objects that lie in the file.",
            report.attainable,
        )
    elif report.has(FindingCode.TAIL):
        report.plan("trim", "Cut the bytes after the end of the document away.", report.attainable)


def _strip(report: Report, document: Document, bad: set[int]) -> None:
    behind = 0
    for located in document.order:
        between = document.data[behind : located.start]
        if behind == 0 and between.startswith(b"%PDF"):
            report.mark(0, located.start, Matter.STRUCTURE, "header")
        elif between.isspace():
            report.mark(behind, located.start, Matter.STRUCTURE)
        behind = located.end
        if isinstance(located.value, Stream):
            report.mark(located.start, located.value.start, Matter.STRUCTURE, f"object {located.number}")
            matter = Matter.DAMAGED if located.number in bad else Matter.PAYLOAD
            report.mark(located.value.start, located.value.end, matter, f"stream {located.number}")
            report.mark(located.value.end, located.end, Matter.STRUCTURE)
        else:
            report.mark(located.start, located.end, Matter.STRUCTURE, f"object {located.number}")
    if document.startxref_at is not None:
        start = (
            document.startxref
            if document.startxref and document.startxref < document.startxref_at
            else document.startxref_at
        )
        report.mark(
            start,
            document.eof_at + 5 if document.eof_at > 0 else len(document.data),
            Matter.STRUCTURE,
            "cross-reference",
        )
