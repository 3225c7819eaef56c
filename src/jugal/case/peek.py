"""A look into a case without opening it: what it is about and how far it came. Nothing is written."""

from __future__ import annotations

import os
import sqlite3
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True, slots=True)
class CaseState:
    """``run`` is "begun" where the last run was broken off, "cancelled" where it was stopped, "finished", or empty."""

    path: Path
    files: int
    run: str
    sources: tuple[str, ...]
    delivered: int

    @property
    def words(self) -> str:
        """The state as one line."""
        states = {"begun": "broken off, can go on", "cancelled": "stopped, can go on", "finished": "examined"}
        parts = [states.get(self.run, "nothing examined yet"), f"{self.files:,} files"]
        if self.delivered:
            parts.append(f"{self.delivered:,} delivered")
        return ", ".join(parts)


def peek(path: Path) -> CaseState | None:
    """The state of the case at ``path``, None for what is none or cannot be read."""
    if not path.is_file():
        return None
    try:
        db = sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True, timeout=2)
        try:
            run = db.execute("SELECT value FROM property WHERE key = 'run'").fetchone()
            files = db.execute("SELECT count(*) FROM file").fetchone()[0]
            sources = tuple(os.fsdecode(r[0]) for r in db.execute("SELECT path FROM source ORDER BY id"))
            delivered = db.execute("SELECT count(DISTINCT file) FROM delivered").fetchone()[0]
        finally:
            db.close()
    except sqlite3.Error:
        return None
    return CaseState(path, files, run[0] if run else "", sources, delivered)
