"""The catalogue of a case: queries read and evaluated, facets counted, orders kept, copies told apart."""

from __future__ import annotations

import io
import math
import sqlite3
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from conftest import healthy
from jugal.case.catalog import (
    LACKING,
    Catalog,
    Facet,
    Filter,
    SortKey,
    filter_text,
    parse_filter,
    phrase,
    words_for,
)
from jugal.case.query import QueryError, RangeTerm, TextTerm, read_query
from jugal.case.schema import VERSION
from jugal.case.store import Case, FileRow
from jugal.engine.copies import Look, Standing, digest_of, find_copies, standings
from jugal.engine.rate import Rate
from jugal.engine.run import CaseRun
from jugal.engine.sight import distances, sight_of
from jugal.model.codes import FindingCode
from jugal.model.finding import Finding, Severity
from jugal.model.result import Kind, Verdict
from jugal.model.sorts import Sort, sort_of, sorts_of
from jugal.samples.scenes import riverbed

ROWS = [
    FileRow(1, "/card/a/Mussel 1.jpg", 5_000, 0, Kind.PHOTO, "jpeg", 100.0, 100.0, Verdict.INTACT, "Nothing wrong was found.",
            camera="Lurga M2", taken="2026-05-14T07:00:00", pixels=1_920_000),
    FileRow(2, "/card/a/mussel 2.jpg", 2_500_000, 0, Kind.PHOTO, "jpeg", 40.0, 95.0, Verdict.REPAIRABLE, "A filled run lies here.",
            camera="Lurga M2", taken="2026-05-15T08:30:00", pixels=30_000_000, sorts="a hole|a broken index", causes="bit error"),
    FileRow(3, "/card/b/weir.mp3", 900_000, 0, Kind.AUDIO, "mp3", 96.0, 96.0, Verdict.DAMAGED, "The last frame is cut off.",
            sorts="an end missing"),
    FileRow(4, "/card/b/FILE0001.CHK", 70_000, 0, Kind.OTHER, "unknown", None, None, Verdict.UNRECOGNISED, "No known format fits."),
    FileRow(5, "/card/c/ALPHA.png", 120_000_000, 0, Kind.PHOTO, "png", 40.0, 40.0, Verdict.DAMAGED, "Rows are missing.",
            pixels=90_000, sorts="a hole", taken="2026-06-01"),
]  # fmt: skip


@pytest.fixture
def catalog() -> Catalog:
    made = Catalog()
    made.take_in(ROWS[:2])
    made.take_in(ROWS[2:])
    return made


def shown(catalog: Catalog, query: str = "", **chosen: tuple[str, ...]) -> list[int]:
    return [catalog.rows[i].id for i in catalog.select(Filter(query, chosen)).numbers]


def test_a_query_is_read_into_terms() -> None:
    assert read_query('mussel camera:"Lurga M2"') == (TextTerm("", "mussel"), TextTerm("camera", "lurga m2"))
    assert read_query("-format:png") == (TextTerm("format", "png", True),)
    assert read_query("score<50") == (RangeTerm("score", -math.inf, 50, high_open=True),)
    assert read_query("size>=2.5MB") == (RangeTerm("size", 2_500_000, math.inf),)
    assert read_query("score:20..40") == (RangeTerm("score", 20, 40),)
    assert read_query("taken:2026-05") == (RangeTerm("taken", 20260500000000, 20260599999999),)
    assert read_query("DSC:12") == (TextTerm("", "dsc:12"),)
    for wrong in ("score<many", "size>5XB", "taken>soon"):
        with pytest.raises(QueryError, match="needed, not"):
            read_query(wrong)


@pytest.mark.parametrize(
    ("query", "numbers"),
    [
        ("", [1, 2, 3, 4, 5]),
        ("mussel", [1, 2]),
        ("-mussel", [3, 4, 5]),
        ("name:alpha", [5]),
        ("folder:card/b", [3, 4]),
        ("camera:lurga score<50", [2]),
        ("score:40", [2, 5]),
        ("score:40..96", [2, 3, 5]),
        ("-score:40..96", [1]),
        ("size>1MB", [2, 5]),
        ("size<=70KB", [1, 4]),
        ("taken:2026-05-14", [1]),
        ("taken>2026-05-14", [2, 5]),
        ("taken>=2026-05 taken<2026-06", [1, 2]),
        ("megapixels>=1.92", [1, 2]),
        ("attainable>90 verdict:repairable", [2]),
        ("damage:hole -format:png", [2]),
        ("kind:audio", [3]),
        ("2026-05-15", [2]),
        ("filled run", [2]),
    ],
)
def test_a_query_shows(catalog: Catalog, query: str, numbers: list[int]) -> None:
    assert shown(catalog, query) == numbers


def test_what_lacks_the_property_is_counted_apart(catalog: Catalog) -> None:
    by_camera = catalog.select(Filter(chosen={"camera": ("Lurga M2",)}))
    assert by_camera.lacking == 3 and by_camera.lacking_words == "no camera named"
    assert shown(catalog, camera=("Lurga M2", LACKING)) == [1, 2, 3, 4, 5]
    assert catalog.select(Filter(chosen={"camera": ("Lurga M2", LACKING)})).lacking == 0
    narrow = catalog.select(Filter(low=30, high=50))
    assert list(narrow.numbers) == [1, 4] and (narrow.lacking, narrow.lacking_words) == (1, "no score")
    assert catalog.select(Filter("taken>2026")).lacking == 2
    photos = Filter(chosen={"camera": ("Lurga M2",), "kind": ("photo",)})
    assert catalog.select(photos).lacking == 1, "only what all the rest of the filter lets through"
    both = catalog.select(Filter("taken>2020", {"kind": ("audio",)}, 90, 100))
    assert (both.lacking, both.lacking_words) == (1, "no date inside")
    assert catalog.select(Filter("score<x")).problem.startswith("After score")


def test_facets_count_what_each_value_would_show(catalog: Catalog) -> None:
    counts = catalog.counts(Filter())
    assert counts[Facet.KIND] == {"photo": 3, "audio": 1, "other": 1}
    assert counts[Facet.DAMAGE] == {"a hole": 2, "an end missing": 1, "a broken index": 1, LACKING: 2}
    assert counts[Facet.CAMERA] == {"Lurga M2": 2, LACKING: 3}
    assert counts[Facet.TAKEN] == {"2026-05": 2, "2026-06": 1, LACKING: 2}
    assert list(counts[Facet.SIZE]) == ["under 100 KB", "100 KB to 1 MB", "1 to 10 MB", "100 MB to 1 GB"]
    assert counts[Facet.PICTURE]["over 20 megapixels"] == 1 and counts[Facet.PICTURE][LACKING] == 2
    holes = Filter(chosen={"damage": ("a hole",)})
    narrowed = catalog.counts(holes)
    assert narrowed[Facet.DAMAGE] == counts[Facet.DAMAGE], "its own choice does not narrow a facet"
    assert narrowed[Facet.FORMAT] == {"jpeg": 1, "png": 1}
    assert shown(catalog, damage=("a hole", "an end missing")) == [2, 3, 5]
    assert shown(catalog, damage=("a hole",), format=("png",)) == [5]


def test_every_facet_count_is_what_choosing_it_shows(catalog: Catalog) -> None:
    wanted = Filter("-kind:audio", {"kind": ("photo",)}, 0, 99)
    for facet, values in catalog.counts(wanted).items():
        for value, count in values.items():
            alone = wanted.without(facet).toggled(facet, value)
            assert catalog.select(alone).numbers.size == count, (facet, value)


def test_the_horizon_weighs_files_or_bytes(catalog: Catalog) -> None:
    files, volume = catalog.weights(Filter()), catalog.weights(Filter(), of_bytes=True)
    assert files[Verdict.INTACT][50] == 1 and files[Verdict.DAMAGED][20] == 1
    assert sum(float(v.sum()) for v in files.values()) == 4
    assert volume[Verdict.REPAIRABLE][20] == 2_500_000


def test_orders(catalog: Catalog) -> None:
    every = catalog.select(Filter()).numbers

    def ordered(*keys: tuple[SortKey, bool]) -> list[int]:
        return [catalog.rows[i].id for i in catalog.order(every, keys)]

    assert ordered() == [1, 2, 3, 4, 5]
    assert ordered((SortKey.NAME, False)) == [5, 4, 1, 2, 3]
    assert ordered((SortKey.SCORE, False)) == [2, 5, 3, 1, 4], "what has no score comes last"
    assert ordered((SortKey.SCORE, True)) == [1, 3, 2, 5, 4], "either way"
    assert ordered((SortKey.SCORE, False), (SortKey.SIZE, True)) == [5, 2, 3, 1, 4]
    assert ordered((SortKey.TAKEN, True))[:3] == [5, 2, 1]
    assert ordered((SortKey.VERDICT, False))[0] == 1
    assert ordered((SortKey.GAIN, True))[0] == 2
    assert ordered((SortKey.CAMERA, False), (SortKey.NAME, False)) == [1, 2, 5, 4, 3]
    assert ordered((SortKey.FOLDER, True))[0] == 5 and ordered((SortKey.FORMAT, False))[0] in (1, 2)
    assert ordered((SortKey.PIXELS, True))[:3] == [2, 1, 5]


def test_a_changed_row_takes_the_place_of_the_old_one(catalog: Catalog) -> None:
    changed = FileRow(2, "/card/a/renamed.jpg", 7, 0, Kind.PHOTO, "jpeg", 99.0, 99.0, Verdict.INTACT, "")
    catalog.take_in([changed, FileRow(9, "/card/z.txt", 3, 0, Kind.DOCUMENT, "text", 1.0, 1.0, Verdict.DAMAGED, "")])
    assert len(catalog) == 6 and catalog.place(9) == 5 and catalog.place(77) is None
    assert shown(catalog, "mussel") == [1] and shown(catalog, "name:renamed") == [2]
    order = catalog.order(catalog.select(Filter()).numbers, [(SortKey.NAME, False)])
    assert [catalog.rows[i].id for i in order] == [5, 4, 1, 2, 3, 9]


def test_many_rows_grow_the_columns() -> None:
    catalog = Catalog()
    for at in range(0, 5000, 700):
        catalog.take_in(
            [
                FileRow(i, f"/x/{i}.jpg", i, 0, Kind.PHOTO, "jpeg", i % 101, None, Verdict.DAMAGED, "")
                for i in range(at, at + 700)
            ]
        )
    assert int(catalog.column("bytes").sum()) == sum(range(5600))
    assert catalog.select(Filter("size:100..199")).numbers.size == 100


def test_filters_are_kept_as_text_and_read_as_sentences() -> None:
    wanted = Filter("score<9", {"camera": ("Lurga M2", LACKING)}, 10, 20)
    assert parse_filter(filter_text(wanted)) == wanted
    assert parse_filter("{broken") == Filter() and Filter().is_open
    assert phrase(Facet.CAMERA, ("Lurga M2", LACKING)) == "taken by Lurga M2 or no camera named"
    assert phrase(Facet.FOLDER, ("/card/a",)) == "in folder a"
    assert all(phrase(facet, ("x",)) and words_for(facet, "x") == "x" for facet in Facet)
    assert wanted.toggled(Facet.CAMERA, LACKING).values(Facet.CAMERA) == ("Lurga M2",)
    assert wanted.without(Facet.CAMERA).chosen == {}


@given(st.text(max_size=40))
@settings(max_examples=300)
def test_any_text_is_a_query_or_told_why_not(text: str) -> None:
    catalog = Catalog()
    catalog.take_in(ROWS)
    result = catalog.select(Filter(text))
    assert result.problem or result.numbers.size <= len(ROWS)


def test_every_code_has_a_sort_and_notes_count_where_they_matter() -> None:
    assert {sort_of(code) for code in FindingCode} == set(Sort)
    findings = (
        Finding(FindingCode.TAIL, Severity.NOTE, ""),
        Finding(FindingCode.STATISTICS_ONLY, Severity.NOTE, ""),
        Finding(FindingCode.JPEG_HOLE, Severity.MAJOR, ""),
    )
    assert sorts_of(findings) == (Sort.HOLE, Sort.SURPLUS)


# Copies


def _jpeg(picture: Image.Image, quality: int) -> bytes:
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=quality)
    return out.getvalue()


def test_sights_tell_pictures_apart_and_know_them_again() -> None:
    scenes = [riverbed(800, 600, seed) for seed in range(6)]
    sights = [np.frombuffer(sight_of(s) or b"", np.uint8) for s in scenes]
    for at, scene in enumerate(scenes):
        small = Image.open(io.BytesIO(_jpeg(scene.resize((240, 180)), 60)))
        found = distances(np.frombuffer(sight_of(small) or b"", np.uint8), np.array(sights))
        assert found[at] <= 10 and min(np.delete(found, at)) > 40
    assert sight_of(Image.new("RGB", (300, 200), (90, 90, 90))) is None


def test_standings_name_the_best_copy() -> None:
    sight = bytes(range(32))
    near = bytes([sight[0] ^ 3, *sight[1:]])
    looks = [
        Look(1, b"d1", sight, 55.0, 2_000_000, 900),
        Look(2, b"d2", near, 100.0, 500_000, 300),
        Look(3, b"d3", bytes(255 - b for b in sight), 100.0, 1, 1),
        Look(4, b"same", None, -1.0, 0, 70),
        Look(5, b"same", None, -1.0, 0, 70),
        Look(6, b"same", None, -1.0, 0, 71),
        Look(7, b"d1", sight, 55.0, 2_000_000, 900),
    ]
    told = {number: (words, group) for number, words, group in standings(looks)}
    assert told == {
        1: (Standing.ALIKE.value, 2),
        2: (Standing.ALIKE_BEST.value, 2),
        4: (Standing.IDENTICAL_FIRST.value, 4),
        5: (Standing.IDENTICAL.value, 4),
        7: (Standing.IDENTICAL.value, 1),
    }
    assert standings([]) == []


def test_near_signatures_are_found_in_a_crowd() -> None:
    rng = np.random.default_rng(3)
    sights = rng.integers(0, 256, (3000, 32), np.uint8)
    bits = np.unpackbits(sights[17])
    bits[rng.choice(256, 10, replace=False)] ^= 1
    sights[2900] = np.packbits(bits)
    looks = [Look(i, None, s.tobytes(), 100.0, 0, 0) for i, s in enumerate(sights)]
    assert {n for n, _, _ in standings(looks)} == {17, 2900}


def test_copies_of_a_case_are_found_and_forgotten_when_they_change(tmp_path: Path) -> None:
    place = tmp_path / "in"
    place.mkdir()
    (place / "one.txt").write_text("words and more words\n" * 20)
    (place / "two.txt").write_text("words and more words\n" * 20)
    (place / "photo.jpg").write_bytes(healthy("jpeg"))
    case = Case(tmp_path / "c.jugal")
    case.add_source(str(place))
    list(CaseRun(case, workers=1).run())
    changed = [n for numbers in find_copies(case) for n in numbers]
    rows = {r.name: r for r in case.files()}
    assert rows["two.txt"].copies == Standing.IDENTICAL.value and rows["two.txt"].likeness == rows["one.txt"].id
    assert sorted(changed) == sorted([rows["one.txt"].id, rows["two.txt"].id]) and rows["photo.jpg"].copies == ""
    assert [n for numbers in find_copies(case) for n in numbers] == [], "nothing new, nothing told"
    (place / "two.txt").write_text("words and more wordz\n" * 20)
    list(CaseRun(case, workers=1).run())
    list(find_copies(case))
    assert all(r.copies == "" for r in case.files())
    assert digest_of(str(tmp_path / "gone")) is None
    case.close()


def test_a_case_of_the_first_version_is_brought_up_to_date(tmp_path: Path) -> None:
    path = tmp_path / "old.jugal"
    Case(path).close()
    with sqlite3.connect(path) as db:
        db.execute("DROP INDEX file_by_size")
        for column in (
            "camera",
            "taken",
            "pixels",
            "preview",
            "sorts",
            "causes",
            "sight",
            "digest",
            "copies",
            "likeness",
        ):
            db.execute(f"ALTER TABLE file DROP COLUMN {column}")
        db.execute("ALTER TABLE strip DROP COLUMN anchors")
        db.execute("PRAGMA user_version = 1")
        db.execute(
            "INSERT INTO file VALUES (1, ?, 10, 0, 'photo', 'jpeg', 40.0, 90.0, 'repairable', 'h', ?, 0.1, NULL)",
            (
                b"/card/x.jpg",
                '{"camera": "Lurga M2", "date_taken": "2026-05-14T07:00:00", "width": 40, "height": 30}',
            ),
        )
        for at, (code, severity, cause) in enumerate(
            [
                ("jpeg.hole", "major", "unreadable sectors filled while copying"),
                ("jpeg.preview", "note", None),
                ("file.tail", "note", None),
            ]
        ):
            db.execute("INSERT INTO finding VALUES (1, ?, ?, ?, NULL, NULL, 'm', ?)", (at, code, severity, cause))
    case = Case(path)
    row = next(case.files())
    assert (row.camera, row.taken, row.pixels, row.preview) == ("Lurga M2", "2026-05-14T07:00:00", 1200, True)
    assert set(row.sorts.split("|")) == {"a hole", "bytes too many"}
    assert row.causes == "unreadable sectors filled while copying"
    case.close()
    with sqlite3.connect(path) as db:
        assert db.execute("PRAGMA user_version").fetchone()[0] == VERSION


def test_the_rate_is_smooth_and_stands_still_in_a_pause() -> None:
    rate = Rate()
    assert rate.after(0, 0.0) == 0.0
    assert rate.after(1000, 1.0) == 1000.0
    assert rate.after(1000, 61.0, paused=True) == 1000.0
    assert rate.after(2000, 62.0) == 1000.0
    for second in range(63, 120):
        last = rate.after(2000 + (second - 62) * 4000, float(second))
    assert last == pytest.approx(4000)
