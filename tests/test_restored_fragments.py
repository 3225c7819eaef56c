"""Figures of movie fragments that were overwritten: found where they are, and back to the byte by what the rest says."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from bench.measure import share
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examine
from jugal.binary.source import PatchedSource, Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import Subject
from jugal.formats.isobmff.fragment_playing import never_shown
from jugal.formats.isobmff.movie import read_movie
from jugal.formats.isobmff.restoring import table_faults
from jugal.formats.isobmff.runs import (
    BASE,
    COMPOSITION,
    DURATION,
    DURATIONS,
    OFFSET,
    SIZE,
    SIZES,
    head_length,
    run_length,
)
from jugal.model.codes import FindingCode
from jugal.model.result import Verdict
from jugal.samples import encode

REORDERED = {"x264-params": "bframes=2:keyint=12:scenecut=0"}
FLAGS = {
    "relative": "frag_keyframe+empty_moov+default_base_moof",
    "based": "frag_keyframe+empty_moov",
    "listed": "frag_keyframe",
}


@cache
def clip(flags: str = "relative", seed: int = 5) -> bytes:
    """Sixty pictures in five fragments, out of order, with sound."""
    return encode.clip(2.4, (192, 108), 25, seed=seed, options=REORDERED, mux={"movflags": FLAGS[flags]})


def box(data: bytes, kind: bytes, number: int) -> int:
    """Where the ``number``-th box of a kind begins."""
    at = -1
    for _ in range(number + 1):
        at = data.index(kind, at + 1)
    return at - 4


def over(data: bytes, at: int, new: bytes) -> bytes:
    return data[:at] + new + data[at + len(new) :]


def figure(data: bytes, at: int, change: int, width: int = 4) -> bytes:
    """``data`` with the number at ``at`` larger by ``change``."""
    return over(data, at, (int.from_bytes(data[at : at + width], "big") + change).to_bytes(width, "big"))


def place(data: bytes, ident: int, fragment: int, bit: int, row: int = 0, head: bool = False) -> int:
    """The byte of a figure in a fragment's part of track ``ident``: of its header or of a row of its run."""
    parts = [
        p for _, parts in read_movie(Subject(Source.from_bytes(data))).fragments for p in parts if p.ident == ident
    ]
    part = parts[fragment]
    return part.place(bit) if head else part.runs[0].place(bit, row)


Harm = Callable[[bytes], tuple[bytes, int]]


def at(kind: bytes, number: int, offset: int, new: bytes) -> Harm:
    """Bytes ``offset`` into the ``number``-th box of a kind overwritten."""
    return lambda d: (over(d, box(d, kind, number) + offset, new), box(d, kind, number) + offset)


def more(kind: bytes, number: int, offset: int, change: int, width: int = 4) -> Harm:
    return lambda d: (figure(d, box(d, kind, number) + offset, change, width), box(d, kind, number) + offset)


def row(ident: int, fragment: int, bit: int, number: int, change: int) -> Harm:
    def harm(data: bytes) -> tuple[bytes, int]:
        where = place(data, ident, fragment, bit, number)
        return figure(data, where, change), where

    return harm


HARMS: dict[str, tuple[str, Harm]] = {
    "name of a fragment": ("relative", at(b"moof", 1, 4, b"mo?f")),
    "plain name of a fragment": ("relative", at(b"moof", 2, 4, b"noof")),
    "size of a fragment": ("relative", more(b"moof", 1, 0, 64)),
    "name of a part": ("relative", at(b"traf", 3, 4, b"trag")),
    "size of a part": ("relative", more(b"traf", 2, 0, -8)),
    "name of a track header": ("relative", at(b"tfhd", 2, 4, b"tfhx")),
    "name of a time": ("relative", at(b"tfdt", 2, 4, b"tf\xe4t")),
    "name of a run": ("relative", at(b"trun", 4, 4, b"vrun")),
    "version of a time": ("relative", at(b"tfdt", 3, 8, b"\0")),
    "flags of a track header": ("based", at(b"tfhd", 2, 11, b"\x29")),
    "flags of a run": ("relative", more(b"trun", 2, 10, 1, 1)),
    "samples of a run": ("relative", more(b"trun", 2, 12, 16)),
    "track": ("relative", at(b"tfhd", 4, 12, b"\0\0\1\1")),
    "other track": ("relative", at(b"tfhd", 4, 12, b"\0\0\0\2")),
    "base": ("based", more(b"tfhd", 3, 16, 1 << 20, 8)),
    "data offset": ("relative", more(b"trun", 3, 16, -512)),
    "data offset of sound": ("based", more(b"trun", 5, 16, 4)),
    "size of a picture": ("relative", row(1, 2, SIZES, 3, 256)),
    "size of a last picture": ("relative", row(1, 2, SIZES, 11, -2)),
    "size of a block of sound": ("relative", row(2, 1, SIZES, 7, 16)),
    "time": ("relative", more(b"tfdt", 4, 12, 1 << 20, 8)),
    "time of the first": ("relative", more(b"tfdt", 0, 12, 1 << 16, 8)),
    "time of the last": ("relative", more(b"tfdt", 8, 12, 1 << 24, 8)),
    "duration of all": ("relative", lambda d: (figure(d, w := place(d, 1, 1, DURATION, head=True), 1 << 12), w)),
    "composition offset": ("relative", row(1, 3, COMPOSITION, 4, 1 << 28)),
    "composition offset behind an index": ("listed", row(1, 1, COMPOSITION, 4, 1 << 28)),
}


def whole(name: str) -> bytes:
    return clip(HARMS[name][0])


@pytest.mark.parametrize("name", HARMS)
def test_a_figure_comes_back_to_the_byte_and_is_found_where_it_is(name: str, tmp_path: Path) -> None:
    healthy = whole(name)
    sick, where = HARMS[name][1](healthy)
    assert sick != healthy
    path = tmp_path / "sick.mp4"
    path.write_bytes(sick)
    found = examine_file(path)
    grave = [f for f in found.findings if f.severity.rank >= 2 and f.span is not None]
    assert grave and abs(min(f.span.start for f in grave if f.span) - where) <= 64
    assert found.verdict in (Verdict.REPAIRABLE, Verdict.DAMAGED)
    outcome = repair_file(found, tmp_path / "out", [])
    assert outcome.method == "fix-tables" and outcome.output and outcome.score_after == 100.0
    assert Path(outcome.output).read_bytes() == healthy


@pytest.mark.parametrize("flags", FLAGS)
@pytest.mark.parametrize("seed", [5, 6])
def test_healthy_fragments_have_no_faults(flags: str, seed: int) -> None:
    data = clip(flags, seed)
    subject = Subject(Source.from_bytes(data))
    movie = read_movie(subject)
    assert len(movie.fragments) >= 4 and table_faults(subject, movie) == []
    assert not any(never_shown(subject.source, movie, t).any() for t in movie.tracks)
    found = examine(data, "clip.mp4")
    assert found.verdict is Verdict.INTACT and found.score == 100.0 and found.findings == ()


@pytest.mark.parametrize(
    "flags",
    ["frag_every_frame+empty_moov", "dash+frag_keyframe+empty_moov", "cmaf+frag_keyframe+empty_moov"],
)
def test_fragments_of_other_makes_are_left_alone(flags: str) -> None:
    """One picture a fragment, with durations of zero at the end; segments with an index; negative composition offsets."""
    data = encode.clip(3.0, (192, 108), 25, seed=9, options=REORDERED, mux={"movflags": flags})
    found = examine(data, "clip.mp4")
    assert found.verdict is Verdict.INTACT and found.findings == ()


@pytest.mark.parametrize("name", ["track", "time", "size of a picture", "base", "duration of all", "data offset"])
def test_the_score_is_what_a_decoder_shows_of_it(name: str) -> None:
    """As far as decoders do what the standard says with what cannot be."""
    healthy = whole(name)
    sick, _ = HARMS[name][1](healthy)
    seen = share("mp4", healthy, sick) or 0.0
    assert examine(sick, "clip.mp4").score == pytest.approx(seen, abs=9)


def test_a_part_of_no_track_keeps_decoders_from_opening_the_file() -> None:
    sick, where = HARMS["track"][1](whole("track"))
    found = examine(sick, "clip.mp4")
    assert share("mp4", whole("track"), sick) is None and found.score is not None and found.score <= 5
    refused = next(f for f in found.findings if f.code is FindingCode.MP4_FRAGMENT)
    assert refused.span is not None and refused.span.start <= where < refused.span.end


def test_a_gap_between_recordings_is_no_wrong_time() -> None:
    """The recorder paused: all that follows is later by as much, of both tracks."""
    data = clip()
    for number in range(4, 10):
        data = figure(data, box(data, b"tfdt", number) + 12, 33_000, 8)
    assert not any(f.code is FindingCode.MP4_TABLES for f in examine(data, "clip.mp4").findings)


def test_pictures_that_each_last_as_they_please_are_left_alone() -> None:
    """Durations that differ from picture to picture, with times that follow them."""
    data = clip()
    rng = np.random.default_rng(3)
    movie = read_movie(Subject(Source.from_bytes(data)))
    begin = {1: 0, 2: 0}
    for _, parts in movie.fragments:
        for part in parts:
            if part.ident != 1 or DURATION not in part.stated:
                continue
            each = int(rng.integers(300, 900))
            data = over(data, part.place(DURATION), each.to_bytes(4, "big"))
            assert part.time_box is not None
            data = over(data, part.time_box.body + 4, begin[1].to_bytes(8, "big"))
            begin[1] += each * part.runs[0].count
    assert begin[1] and not any(f.code is FindingCode.MP4_TABLES for f in examine(data, "clip.mp4").findings)


def test_room_between_a_fragment_and_its_media_data_is_no_fault() -> None:
    data = clip("based")
    end = box(data, b"mdat", 1)
    sick = data[:end] + (24).to_bytes(4, "big") + b"free" + bytes(16) + data[end:]
    said = [f.message for f in examine(sick, "clip.mp4").findings if f.code is FindingCode.MP4_TABLES]
    assert not any("lie before its media data" in words for words in said)


def test_the_header_of_a_fragment_that_is_missing_is_missed(tmp_path: Path) -> None:
    """Eight bytes lost where it stood: what lies in it seems to be boxes of the file."""
    healthy = clip()
    start = box(healthy, b"moof", 2)
    sick = healthy[: start - 8] + healthy[start:]
    path = tmp_path / "sick.mp4"
    path.write_bytes(sick)
    found = examine_file(path)
    assert found.score == pytest.approx(share("mp4", healthy, sick) or 0, abs=4)
    assert any(f.code is FindingCode.MP4_FRAGMENT for f in found.findings)
    outcome = repair_file(found, tmp_path / "out", [])
    assert outcome.method == "close-fragments" and outcome.score_after is not None and outcome.score_after > 95
    assert (share("mp4", healthy, Path(outcome.output or "").read_bytes()) or 0) > 95


def test_pictures_before_the_first_that_needs_no_other_are_not_shown() -> None:
    """The first fragment is gone with the one picture that all others need."""
    mux = {"movflags": "empty_moov+default_base_moof", "frag_duration": "500000"}
    options = {"x264-params": "bframes=0:keyint=250"}
    healthy = encode.clip(4.0, (192, 108), 25, seed=7, options=options, audio=None, mux=mux)
    assert examine(healthy, "clip.mp4").verdict is Verdict.INTACT
    sick = healthy[: box(healthy, b"moof", 0)] + healthy[box(healthy, b"moof", 1) :]
    found = examine(sick, "clip.mp4")
    assert found.score is not None and found.score < 5 and (share("mp4", healthy, sick) or 0) < 5
    assert any("predicted" in f.message for f in found.findings)


def test_one_fragment_may_hold_its_tracks_in_any_order() -> None:
    """8.8.8: data offsets lead anywhere; no other fragment shows that this one's are like none."""
    mux = {"movflags": "empty_moov+default_base_moof", "frag_duration": "60000000"}
    data = encode.clip(1.2, (192, 108), 25, seed=5, mux=mux)
    movie = read_movie(Subject(Source.from_bytes(data)))
    ((moof, parts),) = movie.fragments
    (picture,), (sound,) = (part.runs for part in parts)
    sizes = [int(run.rows[:, run.columns.index(SIZES)].sum()) for run in (picture, sound)]
    body = movie.mdats[0].body
    turned = (
        data[:body]
        + data[body + sizes[0] : body + sum(sizes)]
        + data[body : body + sizes[0]]
        + data[body + sum(sizes) :]
    )
    for run, offset in ((picture, body - moof.start + sizes[1]), (sound, body - moof.start)):
        turned = over(turned, run.box.body + 8, offset.to_bytes(4, "big"))
    assert share("mp4", data, turned) == pytest.approx(100, abs=0.1)
    assert examine(turned, "clip.mp4").verdict is Verdict.INTACT


def test_a_fragment_without_media_data_is_only_that() -> None:
    data = clip()
    found = examine(data[: box(data, b"mdat", 0)], "clip.mp4")
    assert found.error is None and found.verdict is not Verdict.INTACT


@given(st.integers(0, 0xFF_FFFF), st.integers(0, 1000))
def test_lengths_follow_from_flags_and_samples(flags: int, count: int) -> None:
    """8.8.7, 8.8.8."""
    stated = 8 * bool(flags & BASE) + sum(4 for bit in (2, DURATION, SIZE, 32) if flags & bit)
    assert head_length(flags) == 8 + stated
    columns = sum(bool(flags & bit) for bit in (DURATIONS, SIZES, 0x400, COMPOSITION))
    ahead = 4 * bool(flags & OFFSET) + 4 * bool(flags & 4)
    assert run_length(flags, count) == 8 + ahead + 4 * columns * count


@settings(max_examples=15)
@given(st.data())
def test_any_byte_of_a_fragment_may_be_anything(data: st.DataObject) -> None:
    healthy = clip()
    start, end = box(healthy, b"moof", 2), box(healthy, b"mdat", 2)
    sick = over(healthy, data.draw(st.integers(start, end - 1)), data.draw(st.binary(min_size=1, max_size=4)))
    found = examine(sick, "clip.mp4")
    assert found.error is None and found.score is not None and 0 <= found.score <= 100


@given(
    st.lists(st.tuples(st.integers(0, 90), st.binary(min_size=1, max_size=12)), max_size=12),
    st.integers(0, 100),
    st.integers(1, 100),
)
def test_patches_read_as_if_laid_over_one_after_another(
    patches: list[tuple[int, bytes]], start: int, length: int
) -> None:
    plain = bytes(range(100))
    laid = bytearray(plain)
    for where, new in sorted(patches, key=lambda p: p[0]):
        laid[where : where + len(new)] = new[: max(0, 100 - where)]
    assert PatchedSource(Source.from_bytes(plain), patches).read(start, length) == bytes(laid[start : start + length])
