"""The index before the media data, by choice: every frame stays the same at the same time."""

from __future__ import annotations

import io
import struct
from pathlib import Path

import numpy as np
import pytest
from bench.measure import share

from conftest import examine, healthy
from jugal.binary.output import write_pieces
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import RepairImpossible, Subject
from jugal.formats.isobmff.front import index_to_front
from jugal.formats.isobmff.movie import read_movie
from jugal.model.result import RepairStatus, Verdict
from jugal.samples.harm import harm


def moved(data: bytes) -> bytes:
    subject = Subject(Source.from_bytes(data))
    out = io.BytesIO()
    write_pieces(out, index_to_front(subject, None).pieces, subject.source)
    return out.getvalue()


@pytest.mark.parametrize("name", ["mp4", "mov", "m4a"])
def test_the_index_comes_first_and_all_stays_in_its_time(name: str) -> None:
    data = healthy(name)
    assert data.index(b"moov") > data.index(b"mdat")
    out = moved(data)
    assert len(out) == len(data) and out.index(b"moov") < out.index(b"mdat")
    assert share("mp4" if name != "mov" else "mov", data, out) == 100
    assert examine(out).verdict is Verdict.INTACT
    before, after = (read_movie(Subject(Source.from_bytes(d))).tracks for d in (data, out))
    for one, other in zip(before, after, strict=True):
        assert np.array_equal(one.sizes, other.sizes)
        for a, b, size in zip(one.offsets.tolist()[:50], other.offsets.tolist()[:50], one.sizes.tolist(), strict=False):
            assert data[a : a + size] == out[b : b + size]


def test_boxes_behind_the_index_keep_their_offsets_right() -> None:
    data = healthy("mp4")
    out = moved(data + struct.pack(">I4s", 108, b"free") + bytes(100))
    assert share("mp4", data, out) == 100 and out.endswith(bytes(100))


def test_it_is_offered_and_done_only_when_named(tmp_path: Path) -> None:
    path = tmp_path / "a.mp4"
    path.write_bytes(healthy("mp4"))
    found = examine_file(path)
    assert found.verdict is Verdict.INTACT and not found.worth_repairing
    assert "index-in-front" in {p.method for p in found.repairs}
    assert repair_file(found, tmp_path / "out").status is RepairStatus.UNCHANGED
    outcome = repair_file(found, tmp_path / "out", method="index-in-front")
    assert outcome.status is RepairStatus.REPAIRED and outcome.score_after == 100


@pytest.mark.parametrize("damage", ["offsets-shifted", "mdat-size", "truncate-slightly"])
def test_it_goes_with_any_repair_of_a_clip_where_asked_for(tmp_path: Path, damage: str) -> None:
    path = tmp_path / "a.mp4"
    path.write_bytes(harm(healthy("mp4"), "mp4", damage, 3).data)
    plain, front = (
        repair_file(examine_file(path), tmp_path / f"out {asked}", in_front=asked) for asked in (False, True)
    )
    assert plain.status is front.status is RepairStatus.REPAIRED and plain.output and front.output
    assert front.method == f"{plain.method}, index-in-front" and front.score_after == plain.score_after
    usual, moved_there = Path(plain.output).read_bytes(), Path(front.output).read_bytes()
    assert usual.index(b"moov") > usual.index(b"mdat") and moved_there.index(b"moov") < moved_there.index(b"mdat")
    assert share("mp4", usual, moved_there) == 100
    assert [p.name for p in Path(front.output).parent.iterdir()] == ["a.mp4"]


def test_it_changes_nothing_where_there_is_no_index_to_move(tmp_path: Path) -> None:
    for name, data in (("a.mp4", healthy("mp4")), ("b.jpg", harm(healthy("jpeg"), "jpeg", "junk-before", 1).data)):
        (tmp_path / name).write_bytes(data)
        plain, front = (
            repair_file(examine_file(tmp_path / name), tmp_path / f"out {asked}", in_front=asked)
            for asked in (False, True)
        )
        assert (plain.status, plain.method, plain.score_after) == (front.status, front.method, front.score_after)


@pytest.mark.parametrize("name", ["mp4-fast", "mp4-fragments"])
def test_what_is_in_front_already_or_in_fragments_is_left_alone(name: str) -> None:
    assert "index-in-front" not in {p.method for p in examine(healthy(name)).repairs}
    with pytest.raises(RepairImpossible):
        moved(healthy(name))
