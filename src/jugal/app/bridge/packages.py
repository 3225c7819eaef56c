"""What can be read of archives and office documents, by our own reader: members with their state, text, tables."""

from __future__ import annotations

import re

from jugal.binary.source import Source
from jugal.formats.base import Subject
from jugal.formats.zip.check import gather
from jugal.formats.zip.members import Content

_TEXT_PART = {"docx": "word/document.xml", "odt": "content.xml", "odp": "content.xml"}
_PARAGRAPH = re.compile(r"</(?:w:p|text:p|text:h|a:p)>")
_CELL = re.compile(r'<c [^>]*?r="([A-Z]+)\d+"[^>]*?(?:t="(\w+)")?[^>]*?>(.*?)</c>', re.DOTALL)
_ROW = re.compile(r"<row\b.*?(?:</row>|\Z)", re.DOTALL)
_TAG = re.compile(r"<[^>]*>?")
_MOST = 60_000
_PICTURES = (".jpg", ".jpeg", ".png", ".gif", ".bmp", ".tif", ".tiff", ".webp")
_STATES = {
    "whole": "whole", "broken": "breaks off", "crc": "content does not match its CRC", "short": "cut short",
    "no-header": "its header is lost", "bomb": "too large to be followed", "encrypted": "encrypted", "method": "packed by a method not covered",
}  # fmt: skip


def read_package(path: str) -> list[Content]:
    """What came out of each member, damaged ones as far as they go."""
    return gather(Subject(Source.open(path)))[1]


def pictures_in(contents: list[Content]) -> list[Content]:
    """The members that are pictures, in the order they lie in the package."""
    return [c for c in contents if c.data and c.member.text.lower().endswith(_PICTURES)]


def package_text(contents: list[Content], format_name: str) -> str:
    """The words of a package as far as they can be read, then its members and the state of each."""
    parts = {c.member.text: c for c in contents}
    words = ""
    if format_name in _TEXT_PART:
        words = _paragraphs(parts.get(_TEXT_PART[format_name]))
    elif format_name == "pptx":
        slides = sorted((n for n in parts if re.fullmatch(r"ppt/slides/slide\d+\.xml", n)), key=_number)
        words = "\n".join(f"Slide {_number(n)}\n{_paragraphs(parts[n])}" for n in slides)
    elif format_name == "xlsx":
        words = _tables(parts)
    elif format_name == "ods":
        words = _open_tables(parts.get("content.xml"))
    elif format_name == "epub":
        words = "\n".join(_paragraphs(c) for n, c in parts.items() if n.endswith((".xhtml", ".html")))
    members = "\n".join(
        f"{_STATES.get(c.state, c.state)}{f' ({100 * c.share:.0f} %)' if not c.whole else '':<8}  {c.length:>12,}  {c.member.text}"
        for c in contents[:2000]
    )
    listing = f"{len(contents)} members\n{members}"
    return f"{words[:_MOST].rstrip()}\n\n{listing}" if words.strip() else listing


def _number(name: str) -> int:
    return int(re.sub(r"\D", "", name.rsplit("/", 1)[-1]) or 0)


def _plain(xml: str) -> str:
    text = _TAG.sub("", xml)
    for entity, sign in (("&lt;", "<"), ("&gt;", ">"), ("&quot;", '"'), ("&apos;", "'"), ("&amp;", "&")):
        text = text.replace(entity, sign)
    return text


def _paragraphs(content: Content | None) -> str:
    if content is None:
        return ""
    return _plain(_PARAGRAPH.sub("\n", content.data.decode("utf-8", "replace")))


def _tables(parts: dict[str, Content]) -> str:
    """The sheets of a workbook, a line for each row, cells set apart by tabs."""
    shared: list[str] = []
    strings = parts.get("xl/sharedStrings.xml")
    if strings is not None:
        shared = [_plain(s) for s in re.findall(r"<si>(.*?)</si>", strings.data.decode("utf-8", "replace"), re.DOTALL)]
    out = []
    for name in sorted((n for n in parts if re.fullmatch(r"xl/worksheets/sheet\d+\.xml", n)), key=_number):
        out.append(f"Sheet {_number(name)}")
        for row in _ROW.findall(parts[name].data.decode("utf-8", "replace"))[:2000]:
            out.append("\t".join(_cell(kind, body, shared) for _, kind, body in _CELL.findall(row)))
    return "\n".join(out)


def _cell(kind: str, body: str, shared: list[str]) -> str:
    value = re.search(r"<v>(.*?)</v>", body)
    if kind == "s" and value and value.group(1).isdecimal():
        at = int(value.group(1))
        return shared[at] if at < len(shared) else "?"
    return _plain(value.group(1)) if value else _plain(body)


def _open_tables(content: Content | None) -> str:
    if content is None:
        return ""
    text = content.data.decode("utf-8", "replace")
    rows = re.split(r"</table:table-row>", text)
    return "\n".join("\t".join(_plain(cell) for cell in re.split(r"</table:table-cell>", row)) for row in rows)
