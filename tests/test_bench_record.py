"""Sections of docs/truth.md: each bench writes its own."""

from __future__ import annotations

from pathlib import Path

import pytest
from bench import record


def test_a_section_is_written_in_place_of_its_last_one(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    for title, text in (
        ("One", "1"),
        ("Two", "2\n\n### Part\n\n3"),
        ("Three", "4"),
        ("Two", "5"),
        ("One", "6"),
        ("Three", "7"),
    ):
        record.put(title, text)
    lines = Path("docs/truth.md").read_text().splitlines()
    assert [line for line in lines if line.startswith("#")] == [
        "# What the verdicts are worth",
        "## One",
        "## Two",
        "## Three",
    ]
    assert [line.split(". ")[1] for line in lines if line.startswith("20")] == ["6", "5", "7"]
    assert "\n\n\n" not in "\n".join(lines)
