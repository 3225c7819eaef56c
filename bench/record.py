"""docs/truth.md, of which each bench writes a section of its own and leaves the others as they are."""

from __future__ import annotations

import re
from datetime import date
from pathlib import Path

_PLACE = Path("docs/truth.md")
_HEAD = "# What the verdicts are worth\n\nMade by `make truth`, each section by a command of its own.\n"


def put(title: str, text: str) -> None:
    """Writes the section ``title``, in place of the one that is there."""
    _PLACE.parent.mkdir(exist_ok=True)
    whole = _PLACE.read_text(encoding="utf-8") if _PLACE.exists() else _HEAD
    section = f"## {title}\n\n{date.today():%Y-%m-%d}. {text.strip()}\n"
    before, found, after = _parted(whole, title)
    _PLACE.write_text(f"{before.rstrip()}\n\n{section}" + (f"\n{after}" if found and after else ""), encoding="utf-8")


def _parted(whole: str, title: str) -> tuple[str, bool, str]:
    """What stands before a section, whether there is one, and what follows it."""
    found = re.search(rf"^## {re.escape(title)}\n.*?(?=^## |\Z)", whole, re.MULTILINE | re.DOTALL)
    return (whole, False, "") if found is None else (whole[: found.start()], True, whole[found.end() :])
