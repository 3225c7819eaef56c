"""What goes out and under which names: rules, patterns, collisions, parts, and deliveries that go on."""

from __future__ import annotations

import io
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from conftest import healthy
from jugal.case.store import Case, FileRow
from jugal.engine.copies import find_copies
from jugal.engine.delivery import (
    Arrangement,
    Layout,
    Rule,
    deliver,
    only_new,
    plan_delivery,
)
from jugal.engine.naming import PatternError, check_pattern, name_for
from jugal.engine.report.marked import draw_damage
from jugal.engine.run import CaseRun
from jugal.model.result import Kind, Region, RepairOutcome, RepairStatus, Verdict
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed


def row(**changes: object) -> FileRow:
    usual = {
        "id": 1, "path": "/card/f0001.jpg", "size": 9, "mtime_ns": 0, "kind": Kind.PHOTO, "format": "jpeg", "score": 80.0,
        "attainable": 90.0, "verdict": Verdict.DAMAGED, "headline": "", "camera": "Lurga M2", "taken": "2026-05-14T07:30:05",
    }  # fmt: skip
    return FileRow(**{**usual, **changes})  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("pattern", "changes", "name"),
    [
        ("{name}", {}, "f0001.jpg"),
        ("{date}_{camera}_{number:4}", {}, "2026-05-14_Lurga M2_0012.jpg"),
        ("{date} {time} {name}", {}, "2026-05-14 07-30-05 f0001.jpg"),
        ("{date}_{camera}_{name}", {"camera": "", "taken": ""}, "f0001.jpg"),
        ("{camera}", {"camera": ""}, "f0001.jpg"),
        ("{name}-{score}", {"score": None}, "f0001.jpg"),
        ("{name}_{score}", {}, "f0001_80.jpg"),
        ("{kind}-{format}-{number}", {}, "photo-jpeg-12.jpg"),
        ("{name}", {"path": "/card/LOST.CHK"}, "LOST.jpg"),
        ("{name}", {"path": '/card/a<b>:"c".jpg'}, "a_b___c_.jpg"),
        ("{name}", {"path": "/card/" + "x" * 250 + ".jpg"}, "x" * 176 + ".jpg"),
    ],
)
def test_names_follow_the_pattern(pattern: str, changes: dict[str, object], name: str) -> None:
    check_pattern(pattern)
    made = row(**changes)
    assert name_for(made, made.path, pattern, 12) == name


@pytest.mark.parametrize("pattern", ["photo", "{nmae}", "{name", "name}", "{date}/{name}", ""])
def test_patterns_that_cannot_be_are_told(pattern: str) -> None:
    with pytest.raises(PatternError, match=r"^[A-Z].*[.]$"):
        check_pattern(pattern)


def test_the_rule_admits() -> None:
    assert Rule().admits(row()) and not Rule().admits(row(error="unreadable"))
    assert not Rule().admits(row(verdict=Verdict.UNRECOVERABLE))
    strict = Rule(least_score=85)
    assert not strict.admits(row()) and strict.admits(row(), kept_score=88.0)
    unscored = row(score=None, verdict=Verdict.UNRECOGNISED)
    every = frozenset(Verdict)
    assert Rule(every).admits(unscored) and not Rule(every, 1.0).admits(unscored)
    best = Rule(best_copies=True)
    assert best.admits(row(copies="best of one picture")) and best.admits(row(copies="first of identical files"))
    assert not best.admits(row(copies="identical to another"))
    assert not best.admits(row(copies="same picture as a better one"))


@pytest.fixture
def case(tmp_path: Path) -> Iterator[Case]:
    place = tmp_path / "card"
    photo = riverbed(640, 480, 8)
    for folder in ("a", "b"):
        (place / folder).mkdir(parents=True)
        (place / folder / "Same.jpg").write_bytes(encode.jpeg(photo, quality=90 if folder == "a" else 50))
    (place / "a" / "same.JPG").write_bytes(encode.jpeg(riverbed(320, 240, 9)))
    (place / "twin.CHK").write_bytes((place / "a" / "Same.jpg").read_bytes())
    (place / "hole.jpg").write_bytes(harm(healthy("jpeg"), "jpeg", "zero-cluster", 3).data)
    (place / "notes.txt").write_text("words of the survey\n" * 30)
    made = Case(tmp_path / "work" / "c.jugal")
    made.add_source(str(place))
    list(CaseRun(made, workers=1).run())
    list(find_copies(made))
    yield made
    made.close()


def test_collisions_extensions_and_parts(case: Case) -> None:
    numbers = [r.id for r in case.files()]
    items = plan_delivery(case, numbers, Layout(Arrangement.BY_KIND))
    places = [i.place for i in items]
    assert len({p.casefold() for p in places}) == len(places) == 6
    assert "photo/same (2).JPG" in places and "photo/Same (3).jpg" in places
    notes = {i.place: i.note for i in items}
    assert notes["photo/twin.jpg"] == "extension set right" and "numbered" in notes["photo/Same (3).jpg"]
    parts = Counter(
        str(Path(i.place).parent) for i in plan_delivery(case, numbers, Layout(Arrangement.BY_KIND, most=2))
    )
    assert parts == {"photo/part 1": 2, "photo/part 2": 2, "photo/part 3": 1, "document/part 1": 1}
    named = plan_delivery(case, numbers, Layout(Arrangement.BY_DATE, "survey {number:3}"))
    assert {i.place.rsplit("/")[-1][:10] for i in named} == {f"survey {n:03}" for n in range(1, 7)}
    assert any(i.place.startswith("date unknown/") for i in named)
    with pytest.raises(PatternError):
        plan_delivery(case, numbers, Layout(pattern="{x}"))


def test_of_copies_only_the_best_goes_out(case: Case) -> None:
    best = Rule(frozenset(Verdict), best_copies=True)
    going = [r.path for r in case.files() if best.admits(r)]
    assert not any(p.endswith(("twin.CHK", "b/Same.jpg")) for p in going) and len(going) == 4


def test_a_delivery_goes_on_with_what_is_new(case: Case, tmp_path: Path) -> None:
    target = tmp_path / "target"
    items = plan_delivery(case, [r.id for r in case.files()])
    assert [d.error for d in deliver(case, items[:3], target)] == [None] * 3
    assert [i.place for i in only_new(case, items, target)] == [i.place for i in items[3:]]
    (target / items[0].place).unlink()
    assert len(only_new(case, items, target)) == 4
    done = list(deliver(case, items, target))
    assert [d.error for d in done] == [None] * 6
    for item in items:
        assert (target / item.place).read_bytes() == Path(item.origin).read_bytes()
    assert only_new(case, items, target) == []
    lists = sorted(target.glob("checksums*.sha256"))
    assert len(lists) == 2 and all("  " in line for path in lists for line in path.read_text().splitlines())


def test_a_full_medium_costs_a_sentence_for_each_file(
    case: Case, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    items = plan_delivery(case, [r.id for r in case.files()])
    middle = sorted(i.size for i in items)[3]

    class Full:
        free = middle

    monkeypatch.setattr("jugal.engine.delivery.shutil.disk_usage", lambda _: Full)
    done = list(deliver(case, items, tmp_path / "full"))
    assert sum("no space left" in (d.error or "") for d in done) == sum(i.size > middle for i in items) > 0
    assert all((d.path is None) == (d.error is not None) for d in done)


def test_the_kept_repair_goes_out_unless_told_otherwise(case: Case, tmp_path: Path) -> None:
    number = next(r.id for r in case.files() if r.path.endswith("/hole.jpg"))
    mended = tmp_path / "mended.jpg"
    mended.write_bytes(healthy("jpeg"))
    case.add_repair(
        number, RepairOutcome("x", RepairStatus.REPAIRED, str(mended), "resync", None, 60.0, 99.0, ("step",)), True
    )
    assert plan_delivery(case, [number])[0].origin == str(mended)
    assert plan_delivery(case, [number], Layout(repaired=False))[0].origin.endswith("/hole.jpg")


def test_what_was_repaired_since_goes_out_beside_the_earlier_copy(case: Case, tmp_path: Path) -> None:
    target, numbers = tmp_path / "target", [r.id for r in case.files()]
    list(deliver(case, plan_delivery(case, numbers), target))
    number = next(r.id for r in case.files() if r.path.endswith("/hole.jpg"))
    damaged = next(i for i in plan_delivery(case, numbers) if i.file == number)
    mended = tmp_path / "repaired" / "hole.jpg"
    mended.parent.mkdir()
    mended.write_bytes(healthy("jpeg"))
    outcome = RepairOutcome("x", RepairStatus.REPAIRED, str(mended), "resync", None, 60.0, 99.0, ("step",))
    case.add_repair(number, outcome, True)
    stem = damaged.place.removesuffix(".jpg")
    (target / f"{stem} (2).jpg").write_text("somebody's own")
    new = only_new(case, plan_delivery(case, numbers), target)
    assert [(i.file, i.place) for i in new] == [(number, f"{stem} (3).jpg")]
    assert [d.error for d in deliver(case, new, target)] == [None]
    assert (target / new[0].place).read_bytes() == mended.read_bytes()
    assert (target / damaged.place).read_bytes() == Path(damaged.origin).read_bytes()
    assert only_new(case, plan_delivery(case, numbers), target) == []


def test_damage_is_drawn_on_the_reports_pictures() -> None:
    out = io.BytesIO()
    Image.new("RGB", (120, 90), (10, 60, 10)).save(out, "JPEG", quality=95)
    plain = out.getvalue()
    assert draw_damage(plain, ()) == plain
    marked = np.asarray(
        Image.open(io.BytesIO(draw_damage(plain, (Region(0.5, 1.0, "rows"),)))).convert("RGB"), np.int16
    )
    changed = np.abs(marked - np.array([10, 60, 10])).max(axis=2) > 60
    assert not changed[:40].any() and changed[50:].mean() > 0.08 and changed[45].mean() > 0.9
    small = draw_damage(plain, (Region(0.2, 0.2001, "thin", 0.5, 0.5), Region(0.999, 1.0, "last")))
    assert Image.open(io.BytesIO(small)).size == (120, 90)
