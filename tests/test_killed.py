"""The process is killed at twenty moments of a run, a batch of repairs and a delivery: nothing known is lost."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from conftest import healthy
from jugal.binary.output import OutputRefused, exclusive_output, scratch_folder, sweep_folder, sweep_parts
from jugal.case.store import Case
from jugal.engine.delivery import deliver, plan_delivery, sha256_of
from jugal.engine.examine import examine_file
from jugal.engine.run import CaseRun
from jugal.samples.harm import harm

_WORK = """
import sys
from pathlib import Path
from jugal.case.store import Case
from jugal.engine.delivery import deliver, plan_delivery
from jugal.engine.repair import repair_file
from jugal.engine.run import CaseRun
from jugal.model.result import RepairStatus

def main():
    root = Path(sys.argv[1])
    case = Case(root / "work" / "c.jugal")
    print("open", flush=True)
    for progress in CaseRun(case, workers=1).run():
        print("run", progress.files, flush=True)
    for row in list(case.files()):
        e = case.examination(row.id)
        if e.worth_repairing and not any(r.file == row.id for r in case.repairs()):
            outcome = repair_file(e, root / "work" / "repaired")
            case.add_repair(row.id, outcome, outcome.status is RepairStatus.REPAIRED)
            print("repaired", row.id, flush=True)
    items = plan_delivery(case, [r.id for r in case.files()])
    for done in deliver(case, items, root / "target"):
        print("delivered", done.item.file, done.error, flush=True)
    print("end", flush=True)

if __name__ == "__main__":
    main()
"""


def _fill(place: Path) -> None:
    place.mkdir(parents=True)
    photo = healthy("jpeg")
    for i in range(30):
        data = photo if i % 3 else harm(photo, "jpeg", "junk-before", i).data
        (place / f"p{i:02d}.jpg").write_bytes(data + bytes(i))


def _start(root: Path) -> subprocess.Popen[str]:
    script = root / "work.py"
    script.write_text(_WORK)
    return subprocess.Popen(
        [sys.executable, str(script), str(root)], stdout=subprocess.PIPE, text=True, start_new_session=True
    )


def _said(lines: list[str], word: str) -> list[str]:
    return [line.split()[1] for line in lines if line.startswith(f"{word} ")]


@pytest.mark.parametrize("seed", range(4))
def test_killed_at_any_moment_everything_known_is_kept(tmp_path: Path, seed: int) -> None:
    rng = random.Random(seed)
    _fill(tmp_path / "card")
    originals = {p.name: p.read_bytes() for p in (tmp_path / "card").iterdir()}
    case = Case(tmp_path / "work" / "c.jugal")
    case.add_source(str(tmp_path / "card"))
    case.close()
    known = 0
    for _ in range(5):
        process = _start(tmp_path)
        assert process.stdout is not None
        lines = [process.stdout.readline()]
        # Killed some lines further on, or in the middle of what follows them.
        for _ in range(rng.randrange(1, 40)):
            line = process.stdout.readline()
            lines.append(line)
            if not line or line == "end\n":
                break
        time.sleep(rng.random() * 0.05)
        os.killpg(process.pid, signal.SIGKILL)
        lines += process.stdout.read().splitlines()
        process.wait()
        case = Case(tmp_path / "work" / "c.jugal")
        assert case.count() >= known, "a result that was known is gone"
        known = case.count()
        run = _said(lines, "run")
        assert known >= int(run[-1]) if run else True
        noted = {r.file for r in case.repairs()}
        assert {int(n) for n in _said(lines, "repaired")} <= noted
        for repair in case.repairs():
            assert repair.outcome.output is not None and examine_file(repair.outcome.output).score == 100.0
        got = case.delivered(str(tmp_path / "target"))
        assert {int(n) for n in _said(lines, "delivered")} <= set(got)
        for path, size, digest, _ in got.values():
            assert os.path.getsize(path) == size and sha256_of(path) == digest
        case.close()
    _no_half_written_file(tmp_path, originals)
    _the_next_start_ends_it(tmp_path, originals)


def _no_half_written_file(root: Path, originals: dict[str, bytes]) -> None:
    """Whatever bears a final name is whole."""
    for path in (root / "target").rglob("*.jpg"):
        data = path.read_bytes()
        assert data == originals.get(path.name) or examine_file(path).score == 100.0
    for path in (root / "work" / "repaired").glob("*.jpg") if (root / "work" / "repaired").exists() else ():
        assert examine_file(path).score == 100.0
    assert {p.name: p.read_bytes() for p in (root / "card").iterdir()} == originals


def _the_next_start_ends_it(root: Path, originals: dict[str, bytes]) -> None:
    """Run and delivery go on from where they were, without an error and without doing anything twice."""
    case = Case(root / "work" / "c.jugal")
    todo = CaseRun(case, workers=1)
    before = case.count()
    last = list(todo.run())[-1]
    assert last.files == len(originals) and len(todo.batch._entries) == len(originals) - before
    items = plan_delivery(case, [r.id for r in case.files()])
    done = list(deliver(case, items, root / "target"))
    assert [d.error for d in done] == [None] * len(originals)
    assert not list((root / "target").rglob("*.part"))
    case.close()


def test_unfinished_files_of_the_dead_are_swept_and_no_others(tmp_path: Path) -> None:
    gone = [tmp_path / f".{name}.{os.getpid()}.part" for name in ("x.jpg", "x (2).jpg", "notes (13)")]
    foreign = [tmp_path / name for name in (".x.jpg.abc.part", ".somebody's.zip.77.part", ".x (two).jpg.77.part")]
    for path in (*gone, *foreign):
        path.write_bytes(b"x")
    with exclusive_output(tmp_path / "y.jpg") as stream:
        stream.write(b"half")
        assert sweep_parts([tmp_path / name for name in ("x.jpg", "y.jpg", "notes")]) == 3
        stream.write(b" and half")
    assert (tmp_path / "y.jpg").read_bytes() == b"half and half", "a file that is being written is left alone"
    assert all(p.exists() for p in foreign) and not any(p.exists() for p in gone)
    assert sweep_parts([tmp_path / "nowhere" / "x.jpg"]) == sweep_folder(tmp_path / "nowhere") == 0
    assert sweep_folder(tmp_path) == 2, "in a folder of our own whatever is unfinished is ours"
    assert sorted(p.name for p in tmp_path.iterdir()) == [".x.jpg.abc.part", "y.jpg"]


def test_a_scratch_folder_of_the_dead_is_swept_and_one_in_use_is_not(tmp_path: Path) -> None:
    left = tmp_path / ".jugal-left"
    left.mkdir()
    (left / "half.mov").write_bytes(b"x")
    with scratch_folder(tmp_path) as place:
        (place / "now.mov").write_bytes(b"y")
        assert sweep_folder(tmp_path) == 1 and not left.exists() and (place / "now.mov").exists()
    assert list(tmp_path.iterdir()) == []
    (tmp_path / "file").write_text("in the way")
    with pytest.raises(OutputRefused), scratch_folder(tmp_path / "file"):
        pass


def test_a_list_of_sums_that_was_never_finished_is_swept_by_the_next_delivery(tmp_path: Path) -> None:
    (tmp_path / "card").mkdir()
    (tmp_path / "card" / "a.jpg").write_bytes(healthy("jpeg"))
    case = Case(tmp_path / "work" / "c.jugal")
    case.add_source(str(tmp_path / "card"))
    list(CaseRun(case, workers=1).run())
    (tmp_path / "target").mkdir()
    for name in (".checksums.sha256.4.part", ".checksums (2).sha256.4.part"):
        (tmp_path / "target" / name).write_text("half a line")
    items = plan_delivery(case, [r.id for r in case.files()])
    assert [d.error for d in deliver(case, items, tmp_path / "target")] == [None]
    assert sorted(p.name for p in (tmp_path / "target").iterdir() if p.is_file()) == ["checksums.sha256"]
    case.close()
