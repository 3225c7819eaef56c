"""Documents made of ZIP members: OOXML (ISO/IEC 29500), ODF (ISO/IEC 26300), EPUB. Which parts they need and which are read."""

from __future__ import annotations

import re
import xml.parsers.expat as expat

#: Without these no program opens the document.
ESSENTIAL = {
    "docx": ("[Content_Types].xml", "_rels/.rels", "word/document.xml"),
    "xlsx": ("[Content_Types].xml", "_rels/.rels", "xl/workbook.xml"),
    "pptx": ("[Content_Types].xml", "_rels/.rels", "ppt/presentation.xml"),
    "odt": ("content.xml",),
    "ods": ("content.xml",),
    "odp": ("content.xml",),
    "epub": ("META-INF/container.xml",),
}
_BODY = {
    "docx": r"word/(document|header\d*|footer\d*|footnotes|endnotes)\.xml",
    "xlsx": r"xl/(workbook|sharedStrings|worksheets/.+)\.xml",
    "pptx": r"ppt/(presentation|slides/.+)\.xml",
    "odt": r"content\.xml", "ods": r"content\.xml", "odp": r"content\.xml",
    "epub": r".*\.(x?html?|opf|ncx)",
}  # fmt: skip


def is_body(kind: str, name: str) -> bool:
    """Whether the part holds what a reader reads, as against what holds the document together."""
    return kind in _BODY and re.fullmatch(_BODY[kind], name) is not None


def is_xml(name: str) -> bool:
    return name.endswith((".xml", ".rels", ".xhtml", ".opf", ".ncx"))


def xml_error(data: bytes) -> tuple[int, str] | None:
    """Offset and words of the first well-formedness error; None for well-formed XML. Entities are not followed."""
    parser = expat.ParserCreate()
    parser.SetParamEntityParsing(expat.XML_PARAM_ENTITY_PARSING_NEVER)
    try:
        parser.Parse(data, True)
    except expat.ExpatError as error:
        return max(0, parser.ErrorByteIndex), expat.errors.messages.get(error.code, "not well formed")
    except (ValueError, LookupError):
        return None  # an encoding that the parser does not know: nothing can be said
    return None


def close_xml(data: bytes) -> bytes:
    """``data`` cut after its last whole element and closed, so that it is well formed; empty where nothing is left."""
    parser = expat.ParserCreate()
    open_tags: list[str] = []
    best: tuple[int, list[str]] = (0, [])

    def start(name: str, _: dict[str, str]) -> None:
        open_tags.append(name)

    def end(name: str) -> None:
        nonlocal best
        if open_tags:
            open_tags.pop()
        at = parser.CurrentByteIndex
        close = data.find(b">", at)
        if close >= 0:
            best = (close + 1, list(open_tags))

    parser.StartElementHandler = start
    parser.EndElementHandler = end
    try:
        parser.Parse(data, True)
        return data
    except expat.ExpatError:
        pass
    at, tags = best
    if not at:
        return b""
    return data[:at] + b"".join(f"</{tag}>".encode() for tag in reversed(tags))
