"""Processes that break, all at once, cost no call that comes after, and no file of a run."""

from __future__ import annotations

import os
import signal
import time
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path

import pytest

from conftest import healthy
from jugal.app.bridge import smalls
from jugal.case.store import Case
from jugal.engine.batch import Batch
from jugal.engine.events import Examined
from jugal.engine.run import CaseRun
from jugal.engine.walk import walk
from jugal.engine.workers import DIED, Workers


def nothing() -> None:
    return


def double(number: int) -> int:
    return 2 * number


def dies(*_: object) -> None:
    os.kill(os.getpid(), signal.SIGSEGV)


def breaks(workers: Workers) -> None:
    """As where a process ends before it is read that it had begun a call."""
    workers._pool._pool_manager.handle_broken_pool(BrokenProcessPool("All workers expired"))


def test_after_a_call_that_died_others_are_done() -> None:
    workers = Workers(2, nothing)
    futures = [workers.submit(double, (3,), 30.0), workers.submit(dies, (), 30.0), workers.submit(double, (4,), 30.0)]
    with pytest.raises(DIED):
        futures[1].result(30)
    assert workers.submit(double, (5,), 30.0).result(30) == 10
    workers.stop()


def test_broken_processes_raise_in_every_call_and_begin_anew() -> None:
    workers = Workers(1, nothing)
    assert workers.submit(double, (3,), 30.0).result(30) == 6
    waiting = [workers.submit(time.sleep, (60,), 90.0) for _ in range(3)]
    breaks(workers)
    workers.mend()
    for future in waiting:
        with pytest.raises(BrokenProcessPool):
            future.result(1)
    assert workers.submit(double, (4,), 30.0).result(30) == 8
    workers.mend()
    assert workers.submit(double, (5,), 30.0).result(30) == 10
    workers.close()


def broken_after(monkeypatch: pytest.MonkeyPatch, times: int) -> list[int]:
    """Has the processes break with each of the first ``times`` calls."""
    broken: list[int] = []
    submit = Workers.submit

    def breaking(self: Workers, *given: object) -> object:
        future = submit(self, *given)  # type: ignore[arg-type]
        if len(broken) < times:
            broken.append(len(broken))
            breaks(self)
        return future

    monkeypatch.setattr(Workers, "submit", breaking)
    return broken


@pytest.fixture
def card(tmp_path: Path) -> Path:
    folder = tmp_path / "card"
    folder.mkdir()
    for number, name in enumerate(("jpeg", "png", "wav", "mp4")):
        (folder / f"{number}-{name}").write_bytes(healthy(name))
    return folder


def test_a_run_whose_processes_break_examines_every_file(card: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    broken = broken_after(monkeypatch, 3)
    done = [e for e in Batch(walk([card]), workers=2).run() if isinstance(e, Examined)]
    assert len(broken) == 3
    assert sorted(e.entry.path for e in done) == sorted(str(p) for p in card.iterdir())
    assert all(e.examination.error is None and e.examination.score == 100.0 for e in done)


def test_a_run_whose_processes_always_break_ends(card: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    broken_after(monkeypatch, 1_000)
    done = [e for e in Batch(walk([card]), workers=2).run() if isinstance(e, Examined)]
    assert {e.examination.error for e in done} == {"The examination's process died on this file."}
    assert len(done) == 4


def test_small_pictures_are_drawn_where_the_processes_break(
    card: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    case = Case(tmp_path / "case.jugal")
    case.add_source(str(card))
    list(CaseRun(case, workers=1).run())
    missing = {number: Path(path).name for number, path, _, _ in case.without_picture()}
    broken = broken_after(monkeypatch, 1)
    drawn = {number for numbers in smalls.draw_missing(case) for number in numbers}
    assert broken and {missing[number] for number in drawn} == {"2-wav", "3-mp4"}
    case.close()
