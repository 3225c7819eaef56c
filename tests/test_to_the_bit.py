"""Clips too large to be followed at once, examined again to their last bit: by command, in a run, in the window."""

from __future__ import annotations

import json
import subprocess
import sys
from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np
import pytest

from conftest import keys, number_of, run, until
from jugal.app.views.window import Window
from jugal.binary.limits import DEFAULT_LIMITS, TO_THE_BIT
from jugal.binary.source import Source
from jugal.case.store import Case
from jugal.engine.run import CaseRun
from jugal.formats.base import Subject
from jugal.formats.isobmff.movie import read_movie
from jugal.model.result import Verdict
from jugal.samples import encode


@cache
def flipped() -> bytes:
    """A clip beyond the limit with one bit turned around in the middle of a picture."""
    data = bytearray(encode.clip(2.0, (640, 360), audio=None, seed=9, options={"x264-params": "qp=1"}))
    track = read_movie(Subject(Source.from_bytes(bytes(data)))).tracks[0]
    assert int(track.sizes.sum()) > DEFAULT_LIMITS.followed
    middle = int(np.flatnonzero(~track.sync)[10])
    data[int(track.offsets[middle]) + int(track.sizes[middle]) // 2] ^= 1
    return bytes(data)


@pytest.fixture
def card(tmp_path: Path) -> Path:
    """A card with such a clip and a small sound."""
    place = tmp_path / "card"
    place.mkdir()
    (place / "long.mp4").write_bytes(flipped())
    (place / "sound.wav").write_bytes(encode.wav(0.5))
    return place


def test_the_command_follows_on_demand(card: Path) -> None:
    def verdicts(*more: str) -> dict[str, tuple[str, str]]:
        done = subprocess.run(
            [sys.executable, "-m", "jugal", "check", str(card), *more], capture_output=True, text=True, timeout=120
        )
        assert done.returncode == 0, done.stderr
        lines = [json.loads(text) for text in done.stdout.splitlines()]
        return {Path(x["path"]).name: (x["verdict"], x["media"].get("video_followed", "")) for x in lines}

    assert verdicts() == {"long.mp4": ("intact", "by its units"), "sound.wav": ("intact", "")}
    assert verdicts("--to-the-bit") == {"long.mp4": ("damaged", "to the last bit"), "sound.wav": ("intact", "")}


def test_a_second_run_takes_only_what_is_asked_for(card: Path, tmp_path: Path) -> None:
    case = Case(tmp_path / "case.jugal")
    try:
        case.add_source(str(card))
        list(CaseRun(case, workers=1).run())
        before = {Path(path).name: seen for path, seen in case.known().items()}
        assert set(before) == {"long.mp4", "sound.wav"}
        again = CaseRun(case, workers=1, again=[str(card / "long.mp4")])
        last = list(again.run())[-1]
        assert last.finished and (last.files, last.files_total) == (1, 1)
        assert {Path(path).name for path in case.known()} == set(before)
        assert not list(CaseRun(case, workers=1).run())[-1].numbers
    finally:
        case.close()


def test_chosen_clips_are_followed_from_triage(window: Window, card: Path) -> None:
    run(window, card)
    window.go("triage")
    said: list[str] = []
    window.session.said.connect(said.append)
    triage, model = window.triage, window.session.model
    sound, clip = number_of(window, "sound.wav"), number_of(window, "long.mp4")
    triage.table.selectRow(model.place_of(sound))
    keys(triage.table, "Ctrl+Alt+B")
    assert said[-1].startswith("Choose clips first") and not window.session.run_running
    triage.table.selectAll()
    keys(triage.table, "Ctrl+Alt+B")
    assert said[-1].startswith("Following 1 file")
    keys(triage.table, "Ctrl+Alt+B")
    assert said[-1].startswith("A run is going on")
    until(lambda: not window.session.run_running and not window.session.looking_over)
    row = model.row_at(model.place_of(clip))
    assert row is not None and row.verdict is Verdict.DAMAGED
    assert number_of(window, "long.mp4") == clip
    window.bench.show_file(clip)
    until(lambda: "followed to the last bit" in window.bench.facts.text())


def test_limits_for_every_bit_bound_all_else_alike() -> None:
    assert TO_THE_BIT.followed > DEFAULT_LIMITS.followed
    assert replace(TO_THE_BIT, followed=DEFAULT_LIMITS.followed) == DEFAULT_LIMITS
