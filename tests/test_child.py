"""Repairs and donors are examined in a child process: what kills or stalls it costs one file and is said in a sentence."""

from __future__ import annotations

import os
import signal
import time
from pathlib import Path

import pytest

from conftest import healthy, number_of, run, until
from jugal.app.controllers.session import Task
from jugal.app.views.window import Window
from jugal.engine import child as child_module
from jugal.engine.child import Child
from jugal.engine.examine import examine_file
from jugal.model.result import Examination, RepairOutcome, RepairStatus
from jugal.samples.harm import harm


def dies(*_: object) -> None:
    os.kill(os.getpid(), signal.SIGSEGV)


def dies_while_writing(examination: Examination, into: Path, *_: object) -> None:
    from jugal.binary.output import exclusive_output

    with exclusive_output(into / "half.jpg") as stream:
        stream.write(b"half")
        stream.flush()
        os.kill(os.getpid(), signal.SIGKILL)


def stalls(*_: object) -> None:
    time.sleep(60)


def too_large(*_: object) -> None:
    raise MemoryError


def trips(*_: object) -> None:
    raise IndexError("tuple index out of range")


def finds_no_room(*_: object) -> None:
    raise OSError(28, "No space left on device")


def sick(folder: Path) -> Examination:
    path = folder / "a.jpg"
    path.write_bytes(harm(healthy("jpeg"), "jpeg", "truncate", 3).data)
    return examine_file(path)


def test_a_repair_in_the_child_is_that_of_this_process(tmp_path: Path) -> None:
    examination = sick(tmp_path)
    with Child() as child:
        outcome = child.repair(examination, tmp_path / "out")
        assert outcome.status is RepairStatus.REPAIRED and outcome.output
        again = child.examine(outcome.output)
    assert again.error is None and again.thumbnail is None
    assert examine_file(outcome.output).findings == again.findings
    assert (outcome.score_after or 0) >= (examination.score or 0)


@pytest.mark.parametrize(
    ("work", "sentence"),
    [
        (dies, "The repair's process died on this file."),
        (dies_while_writing, "The repair's process died on this file."),
        (stalls, "The repair took too long and was given up."),
        (too_large, "The repair needed more memory than it is allowed."),
        (trips, "The repair failed on this file: tuple index out of range."),
        (finds_no_room, "The repair failed on this file: [Errno 28] No space left on device."),
    ],
)
def test_what_ends_the_child_costs_one_file(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, work: object, sentence: str
) -> None:
    examination, into = sick(tmp_path), tmp_path / "out"
    into.mkdir()
    monkeypatch.setattr(child_module, "_BASE_SECONDS", 3.0)
    with Child() as child:
        with monkeypatch.context() as patched:
            patched.setattr(child_module, "_repair", work)
            lost = child.repair(examination, into)
        assert lost == RepairOutcome(
            examination.path, RepairStatus.FAILED, score_before=examination.score, error=sentence
        )
        assert list(into.iterdir()) == []
        monkeypatch.setattr(child_module, "_BASE_SECONDS", 60.0)
        assert child.repair(examination, into).status is RepairStatus.REPAIRED


def test_a_missing_donor_is_a_sentence(tmp_path: Path) -> None:
    with Child() as child:
        assert child.examine(str(tmp_path / "none.jpg")).error


def test_a_repair_that_dies_costs_the_window_nothing(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "card"
    folder.mkdir()
    sick(folder)
    (folder / "b.jpg").write_bytes(harm(healthy("jpeg-restart"), "jpeg", "truncate", 4).data)
    run(window, folder)
    session = window.session
    told: list[RepairOutcome] = []
    ended: list[str] = []
    session.repair_told.connect(lambda result: told.append(result.outcome))
    session.repair_ended.connect(ended.append)
    with monkeypatch.context() as patched:
        patched.setattr(child_module, "_repair", dies)
        session.repair([Task(number_of(window, name)) for name in ("a.jpg", "b.jpg")])
        until(lambda: bool(ended))
    assert [o.status for o in told] == [RepairStatus.FAILED] * 2 and ended == [""]
    assert all(o.error == "The repair's process died on this file." for o in told)
    session.repair([Task(number_of(window, name)) for name in ("a.jpg", "b.jpg")])
    until(lambda: len(ended) == 2)
    assert [o.status for o in told[2:]] == [RepairStatus.REPAIRED] * 2
    kept = session.repairs(number_of(window, "a.jpg"))
    assert [r.outcome.status for r in kept] == [RepairStatus.FAILED, RepairStatus.REPAIRED] and kept[-1].kept
