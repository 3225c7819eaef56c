"""Runs, the case, the command line, delivery: nothing lost, nothing overwritten, the source untouched."""

from __future__ import annotations

import csv
import hashlib
import io
import json
import os
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from pathlib import Path

import msgspec
import pypdfium2
import pytest

from conftest import healthy
from jugal.binary.limits import Limits
from jugal.binary.output import OutputRefused, exclusive_output, free_name
from jugal.case.schema import CaseError
from jugal.case.store import Case
from jugal.engine import batch as batch_module
from jugal.engine.batch import Batch, _groups
from jugal.engine.delivery import Arrangement, Layout, check_fit, deliver, plan_delivery
from jugal.engine.events import Examined, Finished
from jugal.engine.examine import examine_file
from jugal.engine.naming import safe_name
from jugal.engine.repair import check_destination, repair_file
from jugal.engine.report.summary import summarise
from jugal.engine.report.write import render_csv, render_html, write_reports
from jugal.engine.run import CaseRun, Choice, chosen
from jugal.engine.walk import Entry, walk
from jugal.model.result import Kind, RepairStatus, Verdict
from jugal.samples.harm import harm


def hashes(folder: Path) -> dict[str, str]:
    return {str(p): hashlib.sha256(p.read_bytes()).hexdigest() for p in sorted(folder.rglob("*")) if p.is_file()}


def jugal(*arguments: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run([sys.executable, "-m", "jugal", *arguments], capture_output=True, text=True, timeout=240)


def filled_case(path: Path, folder: Path) -> Case:
    case = Case(path)
    case.add_source(str(folder))
    assert list(CaseRun(case).run())[-1].finished
    return case


# The command line


def test_check_writes_the_contract(folder: Path, tmp_path: Path) -> None:
    before = hashes(folder)
    out = tmp_path / "lines.jsonl"
    result = jugal("check", str(folder), "--jsonl", str(out))
    assert result.returncode == 0, result.stderr
    assert result.stdout == ""
    lines = [json.loads(line) for line in out.read_text().splitlines()]
    assert {Path(x["path"]).name for x in lines} == {"a.jpg", "b.jpg", "c.jpg", "d.wav", ".hidden.txt"}
    for line in lines:
        assert list(line)[:11] == [
            "path",
            "size",
            "kind",
            "format",
            "score",
            "attainable",
            "verdict",
            "findings",
            "repairs",
            "media",
            "seconds",
        ]
        assert line["attainable"] is None or line["attainable"] >= line["score"]
        assert [set(f) for f in line["findings"]] == [{"code", "severity", "start", "end", "message"}] * len(
            line["findings"]
        )
        assert [set(r) for r in line["repairs"]] == [{"method", "needs_donor", "attainable", "summary"}] * len(
            line["repairs"]
        )
        starts = [f["start"] for f in line["findings"]]
        placed = [s for s in starts if s is not None]
        assert placed == sorted(placed) and starts[len(placed) :] == [None] * (len(starts) - len(placed))
    by_name = {Path(x["path"]).name: x for x in lines}
    assert by_name["a.jpg"]["verdict"] == "intact" and by_name["c.jpg"]["verdict"] == "repairable"
    assert hashes(folder) == before


def test_check_to_standard_output_and_exit_codes(folder: Path) -> None:
    os.mkfifo(folder / "pipe")
    result = jugal("check", str(folder))
    assert result.returncode == 1
    lines = [json.loads(line) for line in result.stdout.splitlines()]
    assert "named pipe" in next(x for x in lines if x["path"].endswith("pipe"))["error"]
    assert jugal("check", str(folder / "nothing")).returncode == 2
    assert jugal("check").returncode == 2


def test_repaired_clips_begin_with_their_index_where_asked_for(tmp_path: Path) -> None:
    path, into = tmp_path / "a.mp4", tmp_path / "out"
    path.write_bytes(harm(healthy("mp4"), "mp4", "offsets-shifted", 3).data)
    result = jugal("repair", str(path), "--into", str(into), "--fast-start")
    (line,) = map(json.loads, result.stdout.splitlines())
    assert line["status"] == "repaired" and line["method"].endswith(", index-in-front") and line["score_after"] == 100
    written = (into / "a.mp4").read_bytes()
    assert written.index(b"moov") < written.index(b"mdat")


def test_repair_by_command_line(folder: Path, tmp_path: Path) -> None:
    before = hashes(folder)
    into = tmp_path / "out"
    into.mkdir()
    (into / "c.jpg").write_bytes(b"mine")
    result = jugal("repair", str(folder), "--into", str(into))
    assert result.returncode == 0, result.stderr
    lines = {Path(x["path"]).name: x for x in map(json.loads, result.stdout.splitlines())}
    assert lines["a.jpg"]["status"] == "unchanged" and lines["a.jpg"]["output"] is None
    assert lines["c.jpg"]["status"] == "repaired" and lines["c.jpg"]["score_after"] == 100
    assert Path(lines["c.jpg"]["output"]).read_bytes() == healthy("jpeg")
    assert (into / "c.jpg").read_bytes() == b"mine"
    assert set(lines["c.jpg"]) == {
        "path",
        "output",
        "status",
        "method",
        "donor",
        "score_before",
        "score_after",
        "steps",
    }
    assert hashes(folder) == before
    refused = jugal("repair", str(folder), "--into", str(folder))
    assert refused.returncode == 2 and "holds the source" in refused.stderr
    assert jugal("repair", str(folder), "--into", str(folder / "inside")).returncode == 2


def test_core_needs_no_qt(tmp_path: Path) -> None:
    """Every core module imports with PySide6 made impossible."""
    script = (
        "import sys; sys.modules['PySide6'] = None\n"
        "import jugal.cli.main, jugal.samples.demo_run, jugal.engine.run\n"
        "print('without Qt')"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, timeout=120)
    assert done.stdout.strip() == "without Qt", done.stderr


# Walking and choosing


def test_walk_skips_links_and_special_files(tmp_path: Path) -> None:
    (tmp_path / "a").mkdir()
    (tmp_path / "a" / "f.txt").write_text("x")
    (tmp_path / "a" / "loop").symlink_to(tmp_path)
    (tmp_path / "a" / "link").symlink_to(tmp_path / "a" / "f.txt")
    os.mkfifo(tmp_path / "fifo")
    odd = os.fsencode(tmp_path) + b"/caf\xe9.txt"
    with open(odd, "wb") as stream:
        stream.write(b"not utf-8")
    found = list(walk([tmp_path, tmp_path / "a"]))
    names = [os.path.basename(e.path) for e in found if e.skipped is None]
    assert sorted(names) == sorted(["f.txt", os.fsdecode(b"caf\xe9.txt")])
    assert [e.path for e in found if e.skipped] == [str(tmp_path / "fifo")]
    assert next(iter(walk(["/dev/null"]))).skipped is not None


def test_choice_never_hides_what_tells_no_kind() -> None:
    entries = [
        Entry("/x/a.jpg", 10),
        Entry("/x/b.mp4", 10),
        Entry("/x/FILE0001", 10),
        Entry("/x/.h.jpg", 10),
        Entry("/x/e.jpg", 0),
    ]
    kept = chosen(entries, Choice(frozenset({Kind.PHOTO}), hidden=False, empty=False))
    assert [e.path for e in kept] == ["/x/a.jpg", "/x/FILE0001"]


# Batches


def test_groups_keep_every_file_once_and_large_ones_alone() -> None:
    files = [Entry(f"/{i}", size) for i, size in enumerate([10] * 40 + [5 << 20, 9 << 20])]
    groups = _groups(files)
    assert sorted(e.path for g in groups for e in g) == sorted(e.path for e in files)
    assert all(len(g) == 1 for g in groups if g[0].size > 1 << 20)


def killer(paths: list[str], thumbnails: bool, limits: Limits) -> list:
    """Stands in for the examiner: dies of one file."""
    if any(p.endswith("deadly") for p in paths):
        os.kill(os.getpid(), signal.SIGKILL)
    return [(examine_file(p), None) for p in paths]


def sleeper(paths: list[str], thumbnails: bool, limits: Limits) -> list:
    if any(p.endswith("slow") for p in paths):
        time.sleep(60)
    return [(examine_file(p), None) for p in paths]


def run_with(monkeypatch: pytest.MonkeyPatch, function: object, folder: Path) -> dict[str, Examined]:
    monkeypatch.setattr(batch_module, "examine_group", function)
    events = [e for e in Batch(walk([folder]), 2).run() if isinstance(e, Examined)]
    return {os.path.basename(e.entry.path): e for e in events}


def test_dead_worker_costs_one_file(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    for name in ("one.txt", "deadly", "two.txt", "three.txt"):
        (tmp_path / name).write_text("text enough to be text\n" * 9)
    found = run_with(monkeypatch, killer, tmp_path)
    assert len(found) == 4
    assert found["deadly"].examination.error and "died" in found["deadly"].examination.error
    assert all(found[n].examination.verdict is Verdict.INTACT for n in ("one.txt", "two.txt", "three.txt"))


def test_deadline_costs_one_file(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setattr(batch_module, "_BASE_SECONDS", 6.0)
    for name in ("one.txt", "slow"):
        (tmp_path / name).write_text("text enough to be text\n" * 9)
    found = run_with(monkeypatch, sleeper, tmp_path)
    assert "too long" in (found["slow"].examination.error or "")
    assert found["one.txt"].examination.error is None


def test_pause_and_cancel(tmp_path: Path) -> None:
    for i in range(200):
        (tmp_path / f"{i}.txt").write_text(f"line {i}\n" * 50)
    batch = Batch(walk([tmp_path]), 1)
    seen: list[Examined] = []
    ended: list[Finished] = []

    def consume() -> None:
        for event in batch.run():
            if isinstance(event, Examined):
                seen.append(event)
                if len(seen) == 1:
                    batch.pause()
            elif isinstance(event, Finished):
                ended.append(event)

    thread = threading.Thread(target=consume)
    thread.start()
    deadline = time.monotonic() + 60
    while not seen and time.monotonic() < deadline:
        time.sleep(0.05)
    time.sleep(1.0)
    paused_at = len(seen)
    time.sleep(1.0)
    assert len(seen) == paused_at < 200 and batch.paused
    batch.cancel()
    thread.join(30)
    assert ended and ended[0].cancelled


# The case


def test_case_keeps_everything(folder: Path, tmp_path: Path) -> None:
    case = filled_case(tmp_path / "case.jugal", folder)
    assert case.count() == 5
    for row in case.files():
        stored, fresh = case.examination(row.id), examine_file(row.path)
        assert stored is not None
        assert stored.findings == fresh.findings and stored.repairs == fresh.repairs
        assert stored.strip == fresh.strip and stored.regions == fresh.regions
        assert (stored.score, stored.verdict, stored.media) == (fresh.score, fresh.verdict, fresh.media)
    photo = next(r for r in case.files() if r.path.endswith("a.jpg"))
    assert (case.thumbnail(photo.id) or b"")[:3] == b"\xff\xd8\xff"
    case.close()


def test_second_run_examines_only_what_changed(folder: Path, tmp_path: Path) -> None:
    case = filled_case(tmp_path / "case.jugal", folder)
    (folder / "d.wav").write_bytes(healthy("wav")[:9000])
    (folder / "new.txt").write_text("a new file\n" * 40)
    numbers = [n for p in CaseRun(case).run() for n in p.numbers]
    assert {Path(r.path).name for r in case.rows(numbers)} == {"d.wav", "new.txt"}
    case.close()


def test_killed_run_goes_on(tmp_path: Path) -> None:
    folder = tmp_path / "many"
    folder.mkdir()
    for i in range(400):
        (folder / f"{i:03d}.txt").write_text(f"{i} the water was clear\n" * 40)
    path = tmp_path / "case.jugal"
    script = (
        "import sys; from pathlib import Path; from jugal.case.store import Case; from jugal.engine.run import CaseRun\n"
        "if __name__ == '__main__':\n"
        f"    case = Case(Path({str(path)!r})); case.add_source({str(folder)!r})\n"
        "    for p in CaseRun(case, workers=1).run(): print(p.files, flush=True)\n"
    )
    program = tmp_path / "run.py"
    program.write_text(script)
    process = subprocess.Popen(
        [sys.executable, str(program)], stdout=subprocess.PIPE, text=True, start_new_session=True
    )
    assert process.stdout is not None
    for line in process.stdout:
        if int(line) >= 1:
            break
    os.killpg(process.pid, signal.SIGKILL)
    process.wait()
    case = Case(path)
    known = case.count()
    assert case.get("run") == "begun"
    last = list(CaseRun(case).run())[-1]
    assert last.finished and case.count() == 400
    assert 0 < known <= 400
    case.close()


def test_newer_and_foreign_databases_are_refused(tmp_path: Path) -> None:
    newer = tmp_path / "newer.jugal"
    with sqlite3.connect(newer) as db:
        db.execute("PRAGMA user_version = 99")
    with pytest.raises(CaseError, match="newer version"):
        Case(newer)
    other = tmp_path / "other.jugal"
    with sqlite3.connect(other) as db:
        db.execute("CREATE TABLE pears (x)")
    with pytest.raises(CaseError, match="no case"):
        Case(other)
    text = tmp_path / "text.jugal"
    text.write_text("this is no database " * 99)
    with pytest.raises(CaseError):
        Case(text)


# Output, delivery, report


def test_nothing_half_written_and_nothing_overwritten(tmp_path: Path) -> None:
    target = tmp_path / "x.bin"
    with pytest.raises(RuntimeError), exclusive_output(target) as out:
        out.write(b"half")
        raise RuntimeError
    assert list(tmp_path.iterdir()) == []
    target.write_bytes(b"old")
    with pytest.raises(OutputRefused, match="already there"), exclusive_output(target) as out:
        out.write(b"new")
    assert target.read_bytes() == b"old" and len(list(tmp_path.iterdir())) == 1
    assert free_name(tmp_path, "x.bin").name == "x (2).bin"


def test_full_target_leaves_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    import errno

    def full(handle: int) -> None:
        raise OSError(errno.ENOSPC, "no space")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(OutputRefused, match="no space left"), exclusive_output(tmp_path / "y.bin") as out:
        out.write(b"data")
    assert list(tmp_path.iterdir()) == []


def test_delivery_copies_compares_and_goes_on(folder: Path, tmp_path: Path) -> None:
    case = filled_case(tmp_path / "case.jugal", folder)
    before = hashes(folder)
    sick = next(r for r in case.files() if r.path.endswith("c.jpg"))
    examination = case.examination(sick.id)
    assert examination is not None
    outcome = repair_file(examination, tmp_path / "fixed")
    case.add_repair(sick.id, outcome, outcome.status is RepairStatus.REPAIRED)
    numbers = [r.id for r in case.files()]
    target = tmp_path / "out"
    items = plan_delivery(case, numbers, Layout(Arrangement.BY_KIND))
    assert {i.place.split(os.sep)[0] for i in items} == {"photo", "audio", "document"}
    assert next(i for i in items if i.file == sick.id).repaired
    results = list(deliver(case, items, target))
    assert not [r.error for r in results if r.error]
    for result in results:
        assert result.path is not None
        assert hashlib.sha256(Path(result.path).read_bytes()).hexdigest() == result.sha256
        assert Path(result.path).read_bytes() == Path(result.item.origin).read_bytes()
    sums = (target / "checksums.sha256").read_text().splitlines()
    assert len(sums) == len(items)
    assert subprocess.run(["sha256sum", "-c", "checksums.sha256"], cwd=target, capture_output=True).returncode == 0
    victim = Path(results[0].path or "")
    victim.unlink()
    stamps = {r.path: os.stat(r.path).st_mtime_ns for r in results[1:] if r.path}
    again = list(deliver(case, items, target))
    assert not [r.error for r in again if r.error] and victim.exists()
    assert all(os.stat(path).st_mtime_ns == stamp for path, stamp in stamps.items())
    reports = write_reports(case, target)
    assert len(reports.lines.read_text().splitlines()) == 5
    assert "c.jpg" in reports.html.read_text()
    again_reports = write_reports(case, target)
    assert again_reports.html != reports.html and reports.html.exists()
    assert hashes(folder) == before
    case.close()


def test_delivery_never_overwrites_and_says_so(folder: Path, tmp_path: Path) -> None:
    case = filled_case(tmp_path / "case.jugal", folder)
    items = plan_delivery(case, [r.id for r in case.files()])
    target = tmp_path / "out"
    taken = target / items[0].place
    taken.parent.mkdir(parents=True)
    taken.write_bytes(b"somebody's")
    results = list(deliver(case, items, target))
    assert "already there" in (results[0].error or "") and taken.read_bytes() == b"somebody's"
    assert all(r.error is None for r in results[1:])
    case.close()


def test_targets_that_are_refused(folder: Path, tmp_path: Path) -> None:
    case = filled_case(tmp_path / "case.jugal", folder)
    items = plan_delivery(case, [r.id for r in case.files()])
    assert "lies in the source" in (check_fit(items, folder / "x", [str(folder)]).problem or "")
    assert "holds the source" in (check_fit(items, tmp_path, [str(folder)]).problem or "")
    fit = check_fit(items, tmp_path / "new", [str(folder)])
    assert fit.problem is None and "same medium" in (fit.warning or "") and fit.needed == sum(i.size for i in items)
    assert (
        check_destination(folder, [folder])
        and check_destination(tmp_path, [folder])
        and not check_destination(tmp_path / "n", [folder])
    )
    case.close()


def test_names_that_collide_or_lie_are_solved(tmp_path: Path) -> None:
    for number, name in enumerate(("x", "y")):
        (tmp_path / "in" / name).mkdir(parents=True)
        (tmp_path / "in" / name / "same.txt").write_bytes(healthy("png") + bytes(number))
    case = filled_case(tmp_path / "case.jugal", tmp_path / "in")
    items = plan_delivery(case, [r.id for r in case.files()], Layout(Arrangement.BY_KIND))
    assert sorted(i.place for i in items) == ["photo/same (2).png", "photo/same.png"]
    assert safe_name('a<b>:c"/d?.txt') == "a_b__c__d_.txt" and safe_name("") == "unnamed"
    case.close()


def test_report_escapes_what_files_are_called(tmp_path: Path) -> None:
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "<script>x.jpg").write_bytes(healthy("jpeg")[:20_000])
    case = filled_case(tmp_path / "case.jugal", tmp_path / "in")
    html = render_html(summarise(case, list(case.files())))
    assert "<script>x" not in html and "&lt;script&gt;x.jpg" in html
    case.close()


def test_vanished_and_unreadable_files(folder: Path) -> None:
    gone = examine_file(folder / "never.jpg")
    assert gone.error and gone.verdict is Verdict.UNRECOGNISED
    assert examine_file(folder).error == "This is not a regular file."
    events = [
        e
        for e in Batch([Entry(str(folder / "never.jpg"), 5), Entry(str(folder / "a.jpg"), 5)], 1).run()
        if isinstance(e, Examined)
    ]
    assert {bool(e.examination.error) for e in events} == {True, False}


def test_read_only_target_is_refused_in_words(folder: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    import errno

    def refused(*arguments: object, **options: object) -> int:
        raise OSError(errno.EROFS, "read-only")

    real = os.open
    monkeypatch.setattr(
        os, "open", lambda path, flags, *a, **k: refused() if flags & os.O_CREAT else real(path, flags, *a, **k)
    )
    with pytest.raises(OutputRefused, match="cannot be written to"), exclusive_output(tmp_path / "z.bin") as out:
        out.write(b"data")
    monkeypatch.undo()
    monkeypatch.setattr(os, "access", lambda path, mode: False)
    assert "cannot be written to" in (check_fit([], tmp_path / "new", [str(folder)]).problem or "")


def test_unreadable_file_is_an_error_in_words(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    import errno

    def refused(*arguments: object, **options: object) -> int:
        raise PermissionError(errno.EACCES, "Permission denied")

    monkeypatch.setattr(os, "open", refused)
    found = examine_file(folder / "a.jpg")
    assert found.error == "The file cannot be opened: Permission denied."


def test_names_that_are_not_utf8_are_examined_and_written(tmp_path: Path) -> None:
    place = tmp_path / "odd"
    place.mkdir()
    with open(os.fsencode(place) + b"/caf\xe9.jpg", "wb") as stream:
        stream.write(healthy("jpeg"))
    result = jugal("check", str(place))
    assert result.returncode == 0
    record = json.loads(result.stdout)
    assert record["verdict"] == "intact" and os.fsencode(record["path"]).endswith(b"caf\xe9.jpg")
    case = filled_case(tmp_path / "case.jugal", place)
    items = plan_delivery(case, [r.id for r in case.files()])
    assert not [r.error for r in deliver(case, items, tmp_path / "out") if r.error]
    write_reports(case, tmp_path / "out")
    case.close()


def test_reports_agree_with_the_case(folder: Path, tmp_path: Path) -> None:
    """The table, the printed report and the page say the same of the same files."""
    case = filled_case(tmp_path / "case.jugal", folder)
    reports = write_reports(case, tmp_path / "out")
    rows = list(csv.DictReader(reports.table.open(encoding="utf-8", newline="")))
    assert {Path(r["path"]).name: r["verdict"] for r in rows} == {
        Path(r.path).name: r.verdict.value for r in case.files()
    }
    document = pypdfium2.PdfDocument(reports.pdf)
    printed = "".join(page.get_textpage().get_text_range() for page in document)
    summary = summarise(case, list(case.files()))
    assert {Path(e.name).name for e in summary.entries} == {"b.jpg", "c.jpg"}
    for entry in summary.entries:
        assert Path(entry.name).name in printed.replace("\r\n", "")
        assert Path(entry.name).name in reports.html.read_text()
    assert ("copy broken off or carved with a wrong end", 1) in summary.causes
    case.close()


def test_cells_that_would_be_formulas_are_text(folder: Path, tmp_path: Path) -> None:
    case = filled_case(tmp_path / "case.jugal", folder)
    rows = [msgspec.structs.replace(r, path="=cmd()", headline="@sum") for r in case.files()]
    lines = list(csv.reader(io.StringIO(render_csv(rows))))
    assert all(line[0] == "'=cmd()" and line[7] == "'@sum" for line in lines[1:])
    case.close()
