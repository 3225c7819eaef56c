"""A PDF's cross-reference data written anew; objects stay byte for byte what they were."""

from __future__ import annotations

import struct
from typing import Any

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.pdf.objects import Name, Ref
from jugal.formats.pdf.pages import catalogue, stray_catalogue, walk_pages
from jugal.formats.pdf.parse import Document, dictionary_of, read_document
from jugal.model.span import ByteSpan

_HEADER = b"%PDF-1.7\n%\xe2\xe3\xcf\xd3\n"


def serialise(value: Any) -> bytes:
    """An object as PDF syntax."""
    if isinstance(value, Ref):
        return b"%d %d R" % (value.number, value.generation)
    if isinstance(value, Name):
        return (
            b"/"
            + "".join(c if 33 <= ord(c) < 127 and c not in "()<>[]{}/%#" else f"#{ord(c):02x}" for c in value).encode()
        )
    if isinstance(value, bool):
        return b"true" if value else b"false"
    if isinstance(value, bytes):
        return b"<" + value.hex().encode() + b">"
    if isinstance(value, dict):
        return b"<<" + b" ".join(b"/" + k.encode("latin-1") + b" " + serialise(v) for k, v in value.items()) + b">>"
    if isinstance(value, list):
        return b"[" + b" ".join(serialise(v) for v in value) + b"]"
    if value is None:
        return b"null"
    return str(value).encode()


def rebuild_xref(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The file up to its last object, then new page tree and catalogue where they are lost, then a new xref stream."""
    document = read_document(subject)
    if not document.order:
        raise RepairImpossible("No object is left in the file.")
    start = max(0, document.header_at)
    end = max(o.end for o in document.order)
    prefix = b"" if document.header_at >= 0 else _HEADER
    shift = len(prefix) - start
    steps = [f"Kept bytes {start:,} to {end:,} with {len(document.objects):,} objects."]
    added: dict[int, bytes] = {}
    root = _root(document, added, steps)
    entries: dict[int, tuple[int, int, int]] = {}
    for number, located in document.objects.items():
        if located.container is not None:
            entries[number] = (2, located.container, located.index)
        else:
            entries[number] = (1, located.start + shift, located.generation)
    pieces: list[Piece] = [prefix, ByteSpan(start, end), b"\n"]
    at = len(prefix) + end - start + 1
    for number, body in added.items():
        raw = b"%d 0 obj\n%s\nendobj\n" % (number, body)
        entries[number] = (1, at, 0)
        pieces.append(raw)
        at += len(raw)
    own = max(entries) + 1
    entries[own] = (1, at, 0)
    size = own + 1
    rows = b"".join(struct.pack(">BIH", *_row(entries.get(n))) for n in range(size)) if size < 2_000_000 else b""
    if not rows:
        raise RepairImpossible("The object numbers are impossible.")
    trailer: dict[str, Any] = {
        "Type": Name("XRef"),
        "Size": size,
        "W": [1, 4, 2],
        "Root": root,
        "Length": len(rows),
    }
    for key in ("Info", "ID", "Encrypt"):
        if key in document.trailer:
            trailer[key] = document.trailer[key]
    pieces.append(
        b"%d 0 obj\n%s\nstream\n%s\nendstream\nendobj\nstartxref\n%d\n%%%%EOF\n" % (own, serialise(trailer), rows, at)
    )
    steps.append(f"Wrote cross-reference data for {len(entries):,} objects.")
    return RepairDraft(tuple(p for p in pieces if p != b""), tuple(steps))


def _row(entry: tuple[int, int, int] | None) -> tuple[int, int, int]:
    if entry is None or entry[1] >= 2**32 or entry[2] >= 2**16:
        return 0, 0, 0xFFFF
    return entry


def _root(document: Document, added: dict[int, bytes], steps: list[str]) -> Ref:
    """The catalogue's reference; a new catalogue over the pages that are left where the old tree leads to none."""
    known = document.trailer.get("Root")
    root = catalogue(document)
    if root and isinstance(known, Ref) and walk_pages(document, root).pages:
        return known
    stray = stray_catalogue(document)
    if stray is not None and walk_pages(document, dictionary_of(document.objects[stray].value)).pages:
        steps.append(f"Took object {stray} as the catalogue.")
        return Ref(stray, document.objects[stray].generation)
    pages = [
        n
        for n, o in sorted(document.objects.items(), key=lambda x: (x[1].start, x[1].index))
        if dictionary_of(o.value).get("Type") == "Page"
    ]
    if not pages:
        raise RepairImpossible("No page is left in the file.")
    number = max(document.objects) + 1
    for page in pages:
        located = document.objects[page]
        body = dict(dictionary_of(located.value))
        body["Parent"] = Ref(number)
        body.setdefault("MediaBox", [0, 0, 595, 842])
        added[page] = serialise(body)
    added[number] = serialise({"Type": Name("Pages"), "Count": len(pages), "Kids": [Ref(p) for p in pages]})
    added[number + 1] = serialise({"Type": Name("Catalog"), "Pages": Ref(number)})
    steps.append(f"Wrote a new page tree over {len(pages)} pages.")
    return Ref(number + 1)


def trim(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Everything after the last end-of-file mark is left out."""
    document = read_document(subject)
    end = document.eof_at + 5
    return RepairDraft((ByteSpan(0, end), b"\n"), (f"Left out bytes {end:,} to {subject.size:,}.",))


REPAIRS = {"rebuild-xref": rebuild_xref, "trim": trim}
