"""A PDF file's parts: cross-reference as written, and objects as they really lie in the file."""

from __future__ import annotations

import base64
import re
import zlib
from dataclasses import dataclass, field
from typing import Any

from jugal.formats.base import Subject
from jugal.formats.pdf.objects import Name, Ref, Stream, parse, skip_space

_OBJECT = re.compile(rb"(?<![0-9])(\d{1,10})[\0\t\n\f\r ]+(\d{1,5})[\0\t\n\f\r ]+obj(?![A-Za-z0-9])")
_TRAILER = re.compile(rb"trailer[\0\t\n\f\r ]*<<")
_MAX_INFLATED = 64 << 20


@dataclass(slots=True)
class Located:
    """An object where it lies: ``start`` of its number, ``end`` after ``endobj`` (or where it gives out)."""

    number: int
    generation: int
    start: int
    end: int
    value: Any
    closed: bool
    stream_length_ok: bool = True
    #: The object stream it came from, where it did.
    container: int | None = None
    index: int = 0


@dataclass(slots=True)
class Document:
    """The whole file as found by scanning, with the cross-reference data beside it."""

    data: bytes
    objects: dict[int, Located] = field(default_factory=dict)
    header_at: int = -1
    startxref_at: int | None = None
    startxref: int | None = None
    xref: dict[int, int] = field(default_factory=dict)
    xref_problem: str | None = None
    xref_at: int | None = None
    trailer: dict[str, Any] = field(default_factory=dict)
    eof_at: int = -1
    order: list[Located] = field(default_factory=list)

    def resolve(self, value: Any) -> Any:
        """``value`` with references followed, at most a few steps."""
        for _ in range(8):
            if not isinstance(value, Ref):
                return value
            found = self.objects.get(value.number)
            value = found.value if found is not None else None
        return None


def dictionary_of(value: Any) -> dict[str, Any]:
    """The dictionary of a dictionary or stream, else an empty one."""
    if isinstance(value, Stream):
        return value.dictionary
    return value if isinstance(value, dict) else {}


def inflate_stream(data: bytes, bound: int = _MAX_INFLATED) -> tuple[bytes, int | None]:
    """Flate data as far as it inflates, and the offset in ``data`` where it breaks (None: whole)."""
    engine = zlib.decompressobj()
    parts: list[bytes] = []
    total = 0
    for at in range(0, len(data), 4096):
        piece = data[at : at + 4096]
        try:
            out = engine.decompress(piece, bound - total + 1)
        except zlib.error:
            return b"".join(parts), at
        parts.append(out)
        total += len(out)
        if engine.eof or total > bound:
            return b"".join(parts), None
    return b"".join(parts), len(data)


_NOT_85 = re.compile(rb"[^!-uz\0\t\n\f\r ]|\0{16}")
_NOT_HEX = re.compile(rb"[^0-9A-Fa-f\0\t\n\f\r ]")


def _a85(data: bytes, wrong: int | None) -> tuple[bytes, int | None]:
    """ASCII85 as far as its groups are possible; the offset of the first that is not is found by halving."""

    def decoded(end: int) -> bytes | None:
        try:
            return base64.a85decode(data[:end].translate(None, b"\0\t\n\f\r "))
        except ValueError:
            return None

    whole = decoded(len(data))
    if whole is not None:
        return whole, wrong
    low, high = 0, len(data)
    while high - low > 8:
        middle = (low + high) // 2
        if decoded(middle) is None:
            high = middle
        else:
            low = middle
    return decoded(low) or b"", low


def decode_ascii(data: bytes, kind: str) -> tuple[bytes, int | None]:
    """ASCII85 or hexadecimal data (7.4.2, 7.4.3) and the offset of the first character that is none of its code."""
    body = data.rstrip(b"\0\t\n\f\r ")
    if kind in ("ASCII85Decode", "A85"):
        body = body.removesuffix(b"~>").removesuffix(b"~")
        wrong = _NOT_85.search(body)
        good = body[: wrong.start()] if wrong else body
        return _a85(good, wrong.start() if wrong else None)
    body = body.removesuffix(b">")
    wrong = _NOT_HEX.search(body)
    digits = (body[: wrong.start()] if wrong else body).translate(None, b"\0\t\n\f\r ")
    return bytes.fromhex((digits + b"0" * (len(digits) & 1)).decode()), wrong.start() if wrong else None


def _predict(data: bytes, parameters: dict[str, Any]) -> bytes:
    """PNG predictors undone (7.4.4.4), as cross-reference streams use them."""
    predictor = parameters.get("Predictor", 1)
    if not isinstance(predictor, int) or predictor < 10:
        return data
    columns = parameters.get("Columns", 1)
    if not isinstance(columns, int) or not 0 < columns < 100_000:
        return data
    out = bytearray()
    previous = bytes(columns)
    for at in range(0, len(data) - columns, columns + 1):
        kind, row = data[at], bytearray(data[at + 1 : at + 1 + columns])
        if kind == 2:
            row = bytearray((a + b) & 255 for a, b in zip(row, previous, strict=True))
        elif kind == 1:
            for i in range(1, columns):
                row[i] = (row[i] + row[i - 1]) & 255
        out += row
        previous = bytes(row)
    return bytes(out)


def filters_of(dictionary: dict[str, Any]) -> list[str]:
    value = dictionary.get("Filter")
    if isinstance(value, Name):
        return [str(value)]
    return [str(v) for v in value if isinstance(v, Name)] if isinstance(value, list) else []


def read_document(subject: Subject) -> Document:
    """Scans the file for objects and reads its cross-reference data; nothing is mended."""
    data = subject.source.read(0, subject.size)
    document = Document(data)
    document.header_at = data[:4096].find(b"%PDF-")
    _scan_objects(document, subject.limits.items)
    _object_streams(document)
    _cross_reference(document)
    document.eof_at = data.rfind(b"%%EOF")
    if not document.trailer:
        _any_trailer(document)
    return document


def _scan_objects(document: Document, limit: int) -> None:
    data = document.data
    at = 0
    while len(document.order) < limit:
        match = _OBJECT.search(data, at)
        if match is None:
            break
        value, end = parse(data, match.end())
        located = Located(int(match[1]), int(match[2]), match.start(), end, value, False)
        position = skip_space(data, end)
        if isinstance(value, dict) and data.startswith(b"stream", position):
            _stream(document, located, position + 6)
        else:
            located.closed = data.startswith(b"endobj", position)
            located.end = position + 6 if located.closed else end
        document.objects[located.number] = located
        document.order.append(located)
        at = max(located.end, match.end())


def _stream(document: Document, located: Located, at: int) -> None:
    """Finds the stream's data: by its length where ``endstream`` follows it, else by searching for that."""
    data = document.data
    if data.startswith(b"\r\n", at):
        at += 2
    elif data[at : at + 1] in (b"\n", b"\r"):
        at += 1
    length = document.resolve(located.value.get("Length"))
    if isinstance(located.value.get("Length"), Ref) and length is None:
        length = _forward_length(data, located.value["Length"])
    stop = -1
    if isinstance(length, int) and length >= 0 and at + length <= len(data):
        following = skip_space(data, at + length)
        if data.startswith(b"endstream", following):
            stop, after = at + length, following + 9
    if stop < 0:
        hit = data.find(b"endstream", at)
        nearest = _OBJECT.search(data, at, hit if hit >= 0 else len(data)) if hit < 0 or hit - at > 1 << 20 else None
        located.stream_length_ok = False
        if hit < 0:
            stop = nearest.start() if nearest else len(data)
            after = stop
        else:
            stop, after = hit, hit + 9
            while stop > at and data[stop - 1] in b"\r\n" and hit - stop < 2:
                stop -= 1
    located.value = Stream(located.value, at, stop)
    position = skip_space(data, after)
    located.closed = data.startswith(b"endobj", position)
    located.end = position + 6 if located.closed else after


def _forward_length(data: bytes, reference: Ref) -> int | None:
    """A length object that stands later in the file."""
    match = re.search(
        rb"(?<![0-9])%d[\0\t\n\f\r ]+%d[\0\t\n\f\r ]+obj[\0\t\n\f\r ]+(\d+)" % (reference.number, reference.generation),
        data,
    )
    return int(match[1]) if match else None


def _object_streams(document: Document) -> None:
    """Objects inside object streams (7.5.7); objects of their own in the file come later and win."""
    for located in list(document.order):
        stream = located.value
        if not isinstance(stream, Stream) or stream.dictionary.get("Type") != "ObjStm":
            continue
        raw, _ = (
            inflate_stream(document.data[stream.start : stream.end])
            if filters_of(stream.dictionary)
            else (document.data[stream.start : stream.end], None)
        )
        count, first = stream.dictionary.get("N"), stream.dictionary.get("First")
        if not isinstance(count, int) or not isinstance(first, int):
            continue
        numbers = re.findall(rb"\d+", raw[:first])
        for i in range(min(count, len(numbers) // 2)):
            number, at = int(numbers[2 * i]), int(numbers[2 * i + 1])
            if first + at >= len(raw):
                continue
            value, _ = parse(raw, first + at)
            known = document.objects.get(number)
            if known is None or (known.container is not None and known.start < located.start):
                document.objects[number] = Located(
                    number, 0, located.start, located.end, value, True, container=located.number, index=i
                )


def _cross_reference(document: Document) -> None:
    data = document.data
    base = max(0, document.header_at)
    hit = data.rfind(b"startxref")
    if hit < 0:
        document.xref_problem = "There is no startxref."
        return
    document.startxref_at = hit
    match = re.match(rb"startxref[\0\t\n\f\r ]+(\d+)", data[hit : hit + 64])
    if match is None:
        document.xref_problem = "startxref gives no offset."
        return
    document.startxref = int(match[1])
    at: Any = document.startxref + base
    seen: set[int] = set()
    while isinstance(at, int) and at not in seen and len(seen) < 1000:
        seen.add(at)
        dictionary = _section(document, at)
        if dictionary is None:
            document.xref_problem = "The cross-reference table is not where it should be."
            document.xref_at = min(at, len(data))
            return
        for key, value in dictionary.items():
            document.trailer.setdefault(key, value)
        hybrid = dictionary.get("XRefStm")
        if isinstance(hybrid, int) and hybrid + base not in seen:
            seen.add(hybrid + base)
            _section(document, hybrid + base)
        previous = dictionary.get("Prev")
        at = int(previous) + base if isinstance(previous, (int, float)) else None


def _section(document: Document, at: int) -> dict[str, Any] | None:
    data = document.data
    if at >= len(data):
        return None
    position = skip_space(data, at)
    if data.startswith(b"xref", position):
        return _table(document, position + 4)
    match = _OBJECT.match(data, position)
    if match is None:
        return None
    located = next((o for o in document.order if o.start == match.start()), None)
    if located is None or not isinstance(located.value, Stream) or located.value.dictionary.get("Type") != "XRef":
        return None
    return _xref_stream(document, located.value)


def _table(document: Document, at: int) -> dict[str, Any] | None:
    data = document.data
    for _ in range(100_000):
        at = skip_space(data, at)
        if data.startswith(b"trailer", at):
            dictionary, _ = parse(data, at + 7)
            return dictionary if isinstance(dictionary, dict) else None
        head = re.match(rb"(\d+)[ \t]+(\d+)[ \t]*[\r\n]+", data[at : at + 40])
        if head is None:
            return None
        first, count = int(head[1]), int(head[2])
        at += head.end()
        if count > 10_000_000:
            return None
        for i in range(count):
            entry = re.match(rb"[\r\n ]*(\d{10}) (\d{5}) ([nf])", data[at : at + 24])
            if entry is None:
                return None
            if entry[3] == b"n":
                document.xref.setdefault(first + i, int(entry[1]))
            else:
                document.xref.setdefault(first + i, -1)
            at += entry.end()
    return None


def _xref_stream(document: Document, stream: Stream) -> dict[str, Any] | None:
    raw = document.data[stream.start : stream.end]
    broken = None
    if filters_of(stream.dictionary):
        raw, broken = inflate_stream(raw)
        parameters = stream.dictionary.get("DecodeParms")
        raw = _predict(raw, parameters[0] if isinstance(parameters, list) and parameters else dictionary_of(parameters))
    widths = stream.dictionary.get("W")
    if (
        broken is not None
        or not isinstance(widths, list)
        or len(widths) != 3
        or not all(isinstance(w, int) and 0 <= w <= 8 for w in widths)
    ):
        return None
    index = stream.dictionary.get("Index") or [0, stream.dictionary.get("Size", 0)]
    row = sum(widths)
    at = 0
    for first, count in zip(index[::2], index[1::2], strict=False):
        if not isinstance(first, int) or not isinstance(count, int):
            return None
        for i in range(min(count, len(raw) // max(1, row) + 1)):
            piece = raw[at : at + row]
            if len(piece) < row:
                break
            kind = int.from_bytes(piece[: widths[0]], "big") if widths[0] else 1
            offset = int.from_bytes(piece[widths[0] : widths[0] + widths[1]], "big")
            if kind == 1:
                document.xref.setdefault(first + i, offset)
            else:
                document.xref.setdefault(first + i, -1)
            at += row
    return stream.dictionary


def _any_trailer(document: Document) -> None:
    """Without usable cross-reference data: trailer dictionaries and XRef streams wherever they stand, last first."""
    for match in reversed(list(_TRAILER.finditer(document.data))):
        value, _ = parse(document.data, match.end() - 2)
        if isinstance(value, dict):
            for key, item in value.items():
                document.trailer.setdefault(key, item)
    for located in reversed(document.order):
        if isinstance(located.value, Stream) and located.value.dictionary.get("Type") == "XRef":
            for key in ("Root", "Info", "Encrypt", "ID"):
                if key in located.value.dictionary:
                    document.trailer.setdefault(key, located.value.dictionary[key])
