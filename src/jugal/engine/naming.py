"""Names in a delivery: made from what is known of a file by a pattern such as ``{date}_{camera}_{number:4}``."""

from __future__ import annotations

import os
import re

from jugal.case.store import FileRow
from jugal.formats.registry import extension_fits, usual_extension
from jugal.model.words import printable

#: What may stand in braces, with what it becomes.
FIELDS = {
    "name": "the name as found, without its extension",
    "date": "the date taken, 2026-05-14",
    "time": "the time taken, 07-30-00",
    "camera": "the camera",
    "kind": "the kind of file",
    "format": "the format",
    "score": "the score",
    "number": "a running number; {number:4} has four digits",
}
AS_FOUND = "{name}"
_FIELD = re.compile(r"\{([a-z]*)(?::(\d))?\}")
_LONGEST = 180


class PatternError(ValueError):
    """The pattern cannot be used; the message is a sentence."""


def check_pattern(pattern: str) -> None:
    """Raises PatternError for a field that does not exist, a lonely brace, or a pattern that names nothing."""
    for field, _ in _FIELD.findall(pattern):
        if field not in FIELDS:
            raise PatternError(f"There is no field {{{field}}}; there are {', '.join(FIELDS)}.")
    rest = _FIELD.sub("", pattern)
    if "{" in rest or "}" in rest:
        raise PatternError("A brace in the pattern is not closed or not opened.")
    if "/" in rest or "\\" in rest:
        raise PatternError("A pattern names files, not folders; choose the arrangement for those.")
    if not _FIELD.search(pattern):
        raise PatternError("The pattern would give all files one name; use {name} or {number}.")


def safe_name(name: str) -> str:
    """A name that every common file system takes."""
    cleaned = re.sub(r'[<>:"/\\|?*\x00-\x1f]', "_", printable(name)).strip(" .")
    return cleaned[:_LONGEST] or "unnamed"


def name_for(row: FileRow, origin: str, pattern: str, number: int) -> str:
    """The name of a delivered file: by the pattern, with an extension that its content deserves.

    What is not known of a file is left out, with the signs that would join it; where nothing is left the name as
    found stands.
    """
    stem, suffix = os.path.splitext(os.path.basename(origin))
    stem, suffix = safe_name(stem), f".{safe_name(suffix)}" if suffix.strip(". ") else ""
    if not extension_fits(row.format, suffix.lower().lstrip(".")):
        suffix = f".{usual_extension(row.format)}"
    values = {
        "name": stem, "date": row.taken[:10], "time": row.taken[11:19].replace(":", "-"), "camera": row.camera,
        "kind": row.kind.value, "format": row.format, "score": "" if row.score is None else f"{row.score:.0f}",
    }  # fmt: skip

    def value(match: re.Match[str]) -> str:
        if match.group(1) == "number":
            return str(number).zfill(int(match.group(2) or 1))
        return values[match.group(1)] or "\0"

    filled = re.sub(r"^(?:\0[ _.\-]*)+|[ _.\-]*\0", "", _FIELD.sub(value, pattern)).strip()
    return safe_name(filled or stem)[: _LONGEST - len(suffix)] + suffix
