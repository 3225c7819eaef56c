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
    before, after = _around(whole, title)
    _PLACE.write_text(f"{before.rstrip()}\n\n{section}" + (f"\n{after}" if after else ""), encoding="utf-8")


def _around(whole: str, title: str) -> tuple[str, str]:
    """What stands before a section and what follows it; where there is none yet it comes last."""
    found = re.search(rf"^## {re.escape(title)}\n.*?(?=^## |\Z)", whole, re.MULTILINE | re.DOTALL)
    return (whole, "") if found is None else (whole[: found.start()], whole[found.end() :])
