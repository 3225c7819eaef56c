"""An index put right by what its parts say of each other: every change of one part comes back to the byte."""

from __future__ import annotations

import struct
from fractions import Fraction
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from bench.measure import share
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examine, healthy
from jugal.binary.source import PatchedSource, Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import RepairImpossible, Subject
from jugal.formats.isobmff.movie import read_movie
from jugal.formats.isobmff.restoring import fix_tables, restored, table_faults
from jugal.model.codes import FindingCode
from jugal.model.result import RepairOutcome, Verdict
from jugal.samples import encode

FRAGMENTS = "frag_keyframe"


@cache
def clip(name: str = "plain") -> bytes:
    """Three seconds with pictures out of order, an index behind the media data, or its first part before fragments."""
    size, reordered = (192, 108), {"x264-params": "bframes=2:keyint=25"}
    if name == "fragments":
        return encode.clip(3.0, size, seed=5, options=reordered, mux={"movflags": FRAGMENTS})
    if name == "empty":
        return encode.clip(3.0, size, seed=5, options=reordered, mux={"movflags": FRAGMENTS + "+empty_moov"})
    if name == "pcm":
        return encode.clip(3.0, size, seed=5, container="mov", audio="pcm_s16le", options=reordered)
    if name == "hevc":
        return encode.clip(3.0, size, seed=5, video="libx265", options={"x265-params": "log-level=none:keyint=25"})
    return encode.clip(3.0, size, seed=5, options=reordered)


def place(data: bytes, kind: bytes, number: int = 0) -> int:
    """Where the content of the ``number``-th box of a kind begins."""
    at = -1
    for _ in range(number + 1):
        at = data.index(kind, at + 1)
    return at + 4


def over(data: bytes, at: int, new: bytes) -> bytes:
    return data[:at] + new + data[at + len(new) :]


def figure(data: bytes, at: int) -> int:
    return int.from_bytes(data[at : at + 4], "big")


def put_right(data: bytes) -> bytes:
    """What the repair makes of ``data``."""
    draft = fix_tables(Subject(Source.from_bytes(data)), None)
    return b"".join(p if isinstance(p, bytes) else data[p.start : p.end] for p in draft.pieces)


def judged(data: bytes, folder: Path, suffix: str = ".mp4") -> tuple[float, RepairOutcome, bytes]:
    """The score before, and what the best repair without another file brings."""
    path = folder / f"sick{suffix}"
    path.write_bytes(data)
    found = examine_file(path)
    assert found.score is not None
    outcome = repair_file(found, folder / "out", [])
    return found.score, outcome, Path(outcome.output).read_bytes() if outcome.output else b""


# --- numbers of entries


@pytest.mark.parametrize("kind", [b"stts", b"stsc", b"stsz", b"stco", b"ctts"])
@pytest.mark.parametrize("how", ["none", "half", "more"])
@pytest.mark.parametrize("name", ["plain", "fragments"])
def test_a_wrong_number_of_entries_is_put_right_to_the_byte(kind: bytes, how: str, name: str) -> None:
    whole = clip(name)
    at = place(whole, kind) + (8 if kind == b"stsz" else 4)
    there = figure(whole, at)
    wrong = {"none": 0, "half": there // 2, "more": 2 * there + 1}[how]
    if wrong == there:
        pytest.skip("nothing would change")
    sick = over(whole, at, wrong.to_bytes(4, "big"))
    found = examine(sick)
    assert FindingCode.MP4_TABLES in {f.code for f in found.findings} and found.verdict is not Verdict.INTACT
    assert put_right(sick) == whole


@pytest.mark.parametrize("number", [0, 1], ids=["picture", "sound"])
def test_a_table_without_entries_is_scored_as_decoders_show_it(number: int) -> None:
    whole = clip()
    for kind in (b"stts", b"stsc", b"stsz", b"stco"):
        at = place(whole, kind, number) + (8 if kind == b"stsz" else 4)
        sick = over(whole, at, bytes(4))
        assert examine(sick).score == pytest.approx(share("mp4", whole, sick), abs=1)


def grown(whole: bytes, at: int, more: bytes, *kinds: bytes) -> bytes:
    """``whole`` with ``more`` put in at ``at`` of its index, and the boxes of ``kinds`` around it that much larger."""
    data = bytearray(whole[:at] + more + whole[at:])
    for kind in kinds:
        where = place(whole, kind) - 8
        data[where : where + 4] = (figure(whole, where) + len(more)).to_bytes(4, "big")
    return bytes(data)


AROUND = (b"moov", b"trak", b"mdia", b"minf", b"stbl")


def test_room_that_was_never_filled_is_no_wrong_number() -> None:
    """Recorders make room for more entries than they write."""
    whole = clip()
    for kind, width in ((b"stts", 8), (b"ctts", 8), (b"stsc", 12), (b"stsz", 4), (b"stco", 4)):
        at = place(whole, kind) - 8
        roomy = grown(whole, at + figure(whole, at), bytes(5 * width), kind, *AROUND)
        subject = Subject(Source.from_bytes(roomy))
        assert not table_faults(subject, read_movie(subject)) and examine(roomy).verdict is Verdict.INTACT


# --- names and sizes of boxes

INNER = [b"mvhd", b"tkhd", b"mdia", b"mdhd", b"hdlr", b"minf", b"dinf", b"dref", b"stbl", b"stsd", b"stts", b"stsc", b"stsz", b"stco"]  # fmt: skip


@pytest.mark.parametrize("kind", [*INNER, b"ctts", b"elst"])
def test_a_name_that_was_overwritten_is_put_back(kind: bytes) -> None:
    whole = clip()
    sick = over(whole, place(whole, kind) - 4, b"\x9f\x02\xfe\x11")
    assert examine(sick).verdict is not Verdict.INTACT
    assert put_right(sick) == whole


@pytest.mark.parametrize("kind", [k for k in INNER if k != b"mvhd"])
@pytest.mark.parametrize("size", [0x7A31F9C4, 9])
def test_a_size_that_was_overwritten_is_put_back(kind: bytes, size: int) -> None:
    whole = clip()
    sick = over(whole, place(whole, kind) - 8, size.to_bytes(4, "big"))
    assert put_right(sick) == whole


@pytest.mark.parametrize("kind", [b"tkhd", b"mdhd", b"stts", b"stsz"])
def test_a_header_of_which_nothing_is_left_is_put_back(kind: bytes) -> None:
    whole = clip()
    sick = over(whole, place(whole, kind) - 8, bytes([0xFF] * 8))
    assert put_right(sick) == whole


def test_two_headers_that_are_lost_are_not_guessed_at() -> None:
    whole = clip()
    sick = over(over(whole, place(whole, b"stsz") - 8, bytes([0xFF] * 8)), place(whole, b"stco") - 8, bytes([0xFF] * 8))
    with pytest.raises(RepairImpossible):
        put_right(sick)


def test_unknown_boxes_among_known_ones_are_no_fault() -> None:
    whole = clip()
    at = place(whole, b"stss") - 8
    strange = b"".join(struct.pack(">I4s", 12, name) + b"made" for name in (b"abcd", b"Q.7 ", b"zz_1"))
    more = grown(whole, at, strange, *AROUND)
    subject = Subject(Source.from_bytes(more))
    assert not table_faults(subject, read_movie(subject)) and examine(more).verdict is Verdict.INTACT


@pytest.mark.parametrize("kind", [b"mvhd", b"tkhd", b"mdhd"])
def test_a_version_of_another_size_is_put_back(kind: bytes) -> None:
    whole = clip()
    sick = over(whole, place(whole, kind), b"\x21")
    assert put_right(sick) == whole


def test_a_second_track_whose_description_is_gone_is_missed(tmp_path: Path) -> None:
    whole = clip()
    at = place(whole, b"trak", 1) - 8
    sick = over(whole, at, np.random.default_rng(4).bytes(512))
    path, lender = tmp_path / "sick.mp4", tmp_path / "lender.mp4"
    path.write_bytes(sick)
    lender.write_bytes(encode.clip(3.0, (192, 108), seed=6, options={"x264-params": "bframes=2:keyint=25"}))
    found = examine_file(path)
    assert FindingCode.MP4_INDEX_BROKEN in {f.code for f in found.findings}
    assert found.score == pytest.approx(share("mp4", whole, sick), abs=3)
    outcome = repair_file(found, tmp_path / "out", [examine_file(lender)])
    assert outcome.output is not None and share("mp4", whole, Path(outcome.output).read_bytes()) == 100.0


# --- sizes of samples, their number in chunks, and where chunks lie


@pytest.mark.parametrize("number", [0, 1], ids=["picture", "sound"])
@pytest.mark.parametrize("new", [0, 1, 0x7FFFFFFF])
def test_a_size_of_one_sample_is_what_its_chunk_leaves(number: int, new: int) -> None:
    whole = clip()
    at = place(whole, b"stsz", number) + 12 + 4 * 20
    sick = over(whole, at, new.to_bytes(4, "big"))
    assert examine(sick).verdict is not Verdict.INTACT
    assert put_right(sick) == whole


def test_sizes_of_all_packets_of_a_chunk_are_told_by_the_sound_itself() -> None:
    whole = clip()
    track = read_movie(Subject(Source.from_bytes(whole))).tracks[1]
    chunk = int(np.flatnonzero(np.bincount(track.chunk_of) > 1)[1])
    first, last = (int(k) for k in np.flatnonzero(track.chunk_of == chunk)[[0, -1]])
    at = place(whole, b"stsz", 1) + 12 + 4 * first
    assert put_right(over(whole, at, bytes(4 * (last - first + 1)))) == whole


def test_what_was_left_out_on_purpose_is_no_wrong_size(tmp_path: Path) -> None:
    """Samples cut out of an index leave their bytes between chunks."""
    whole = clip()
    middle = len(whole) // 2 // 4096 * 4096
    path = tmp_path / "sick.mp4"
    path.write_bytes(over(whole, middle, bytes(8192)))
    outcome = repair_file(examine_file(path), tmp_path / "out", [], "cut-holes")
    assert outcome.output is not None
    subject = Subject(Source.open(outcome.output))
    assert not table_faults(subject, read_movie(subject))


@pytest.mark.parametrize("number", [0, 1], ids=["picture", "sound"])
@pytest.mark.parametrize("new", [bytes(12), b"\xff" * 12, struct.pack(">3I", 9, 1, 1)])
def test_samples_are_dealt_to_chunks_by_what_fills_them(number: int, new: bytes) -> None:
    whole = clip()
    at = place(whole, b"stsc", number) + 8
    sick = over(whole, at, new)
    if sick == whole:
        pytest.skip("nothing would change")
    assert examine(sick).verdict is not Verdict.INTACT
    assert put_right(sick) == whole


@pytest.mark.parametrize("number", [0, 1], ids=["picture", "sound"])
@pytest.mark.parametrize("change", [77, 1 << 28])
def test_a_chunk_that_is_said_to_lie_elsewhere_is_put_back(number: int, change: int, tmp_path: Path) -> None:
    whole = clip()
    at = place(whole, b"stco", number) + 8 + 4 * 30
    sick = over(whole, at, (figure(whole, at) + change).to_bytes(4, "big"))
    score, outcome, out = judged(sick, tmp_path)
    assert outcome.method == "fix-chunks" and out == whole
    if change > len(whole):
        # Decoders go no further than to such a chunk.
        assert score == pytest.approx(share("mp4", whole, sick), abs=3)


@pytest.mark.parametrize("number", [0, 78])
def test_a_description_that_is_not_there_is_put_back(number: int) -> None:
    whole = clip()
    at = place(whole, b"stsc") + 8 + 8
    sick = over(whole, at, number.to_bytes(4, "big"))
    true = share("mp4", whole, sick)
    assert true is not None and true < 60, "decoders do not take another for it"
    assert f"description {number}" in " ".join(f.message for f in examine(sick).findings)
    assert put_right(sick) == whole


def test_lists_that_make_decoders_refuse_the_file_are_put_right() -> None:
    whole = clip()
    for at, new in (
        (place(whole, b"dref") + 4, bytes(4)),
        (place(whole, b"dref") + 8, bytes(12)),
        (place(whole, b"stsd") + 4, bytes(4)),
        (place(whole, b"stsc", 1) + 4, (3000).to_bytes(4, "big")),
    ):
        sick = over(whole, at, new)
        score = examine(sick).score
        assert share("mp4", whole, sick) is None and score is not None and score <= 5
        assert put_right(sick) == whole


def test_a_track_that_fragments_do_not_name_is_named() -> None:
    whole = clip("empty")
    at = place(whole, b"tkhd") + 12
    sick = over(whole, at, bytes(4))
    found = examine(sick)
    assert found.score is not None and found.score < 70
    assert put_right(sick) == whole


@pytest.mark.parametrize("at, new", [(4, 77), (8, 0x21000001)], ids=["track", "description"])
def test_defaults_for_fragments_are_those_of_a_track(at: int, new: int) -> None:
    whole = clip("empty")
    sick = over(whole, place(whole, b"trex", 1) + at, new.to_bytes(4, "big"))
    score, true = examine(sick).score, share("mp4", whole, sick)
    assert score is not None and score <= 50 and true is not None and true <= 50
    assert put_right(sick) == whole


# --- time


@pytest.mark.parametrize("number", [0, 1], ids=["picture", "sound"])
@pytest.mark.parametrize("scale", [0, 48077, 0xFF000000])
@pytest.mark.parametrize("name", ["plain", "fragments", "pcm", "hevc"])
def test_a_clock_that_runs_at_no_known_rate_is_set(number: int, scale: int, name: str) -> None:
    whole = clip(name)
    at = place(whole, b"mdhd", number) + 12
    sick = over(whole, at, scale.to_bytes(4, "big"))
    found = examine(sick)
    if name == "fragments" and number == 0:
        return  # how long a fragmented track lasts is told by its clock alone, or by another's roughly
    assert found.verdict is Verdict.REPAIRABLE and found.score is not None and found.score <= 50
    assert put_right(sick) == whole


def test_pictures_at_no_rate_beside_sound_of_another_length_are_told() -> None:
    whole = clip("empty")
    sick = over(whole, place(whole, b"mdhd") + 12, (12800 | 1 << 20).to_bytes(4, "big"))
    found = examine(sick)
    assert found.verdict is not Verdict.INTACT and found.score == pytest.approx(share("mp4", whole, sick), abs=3)


@pytest.mark.parametrize("number", [0, 1], ids=["picture", "sound"])
@pytest.mark.parametrize("new", [bytes(8), b"\xff" * 8, struct.pack(">2I", 75, 9)])
def test_a_time_table_is_what_the_duration_says(number: int, new: bytes) -> None:
    whole = clip()
    sick = over(whole, place(whole, b"stts", number) + 8, new)
    found = examine(sick)
    assert found.verdict is Verdict.REPAIRABLE
    assert found.score == pytest.approx(share("mp4", whole, sick), abs=3)
    assert share("mp4", whole, put_right(sick)) == 100.0


@pytest.mark.parametrize("damage", ["nothing left", "zeros", "one far off", "one beside", "noise"])
def test_the_order_of_pictures_tells_their_composition_offsets(damage: str) -> None:
    whole = clip()
    at = place(whole, b"ctts")
    size = figure(whole, at - 8) - 8
    sick = {
        "nothing left": over(whole, at, bytes(size)),
        "zeros": over(whole, at + 8 + 80, bytes(120)),
        "one far off": over(whole, at + 8 + 84, (1 << 30).to_bytes(4, "big")),
        "one beside": over(whole, at + 8 + 84, (figure(whole, at + 8 + 84) + 300).to_bytes(4, "big")),
        "noise": over(whole, at + 8 + 80, np.random.default_rng(5).bytes(120)),
    }[damage]
    assert examine(sick).verdict is not Verdict.INTACT
    assert share("mp4", whole, put_right(sick)) == 100.0


# --- what is healthy, and how it is read


@pytest.mark.parametrize("name", ["plain", "fragments", "empty", "pcm", "hevc"])
def test_a_healthy_index_has_no_fault(name: str) -> None:
    subject = Subject(Source.from_bytes(clip(name)))
    movie = read_movie(subject)
    assert not table_faults(subject, movie) and examine(clip(name)).verdict is Verdict.INTACT
    with pytest.raises(RepairImpossible):
        fix_tables(subject, None)


@pytest.mark.parametrize("name", ["mp4", "mp4-fast", "mp4-long", "mp4-fragments", "mov", "m4a"])
def test_other_healthy_files_have_none_either(name: str) -> None:
    subject = Subject(Source.from_bytes(healthy(name)))
    assert not table_faults(subject, read_movie(subject))


@pytest.mark.parametrize("flags", ["", FRAGMENTS + "+empty_moov"], ids=["whole", "fragments"])
@pytest.mark.parametrize("delta", [33, 67, 41])
def test_clips_at_rates_that_are_not_usual_are_healthy(flags: str, delta: int) -> None:
    """Clocks of milliseconds make 30.3 frames a second of 30, and screens are taken at any rate."""
    rate = Fraction(1000, delta)
    mux = {"video_track_timescale": "1000"} | ({"movflags": flags} if flags else {})
    data = encode.clip(4.0, (192, 108), rate, seed=5, mux=mux)
    subject = Subject(Source.from_bytes(data))
    movie = read_movie(subject)
    assert movie.tracks[0].timescale == 1000 and np.median(movie.tracks[0].durations) == delta
    assert not table_faults(subject, movie) and examine(data).verdict is Verdict.INTACT


def test_pictures_taken_at_times_of_their_own_are_healthy() -> None:
    """Decoding times even, the times at which pictures show not quite: nothing contradicts their order."""
    whole = clip()
    movie = read_movie(Subject(Source.from_bytes(whole)))
    track = movie.tracks[0]
    at = place(whole, b"ctts") - 8
    jitter = np.random.default_rng(3).integers(-90, 90, track.composition.size)
    rows = b"".join(struct.pack(">II", 1, int(v)) for v in track.composition + 90 + jitter)
    table = struct.pack(">I4sII", 16 + len(rows), b"ctts", 0, track.composition.size) + rows
    size = figure(whole, at)
    grown_by = len(table) - size
    data = bytearray(whole[:at] + table + whole[at + size :])
    for kind in AROUND:
        where = place(whole, kind) - 8
        data[where : where + 4] = (figure(whole, where) + grown_by).to_bytes(4, "big")
    subject = Subject(Source.from_bytes(bytes(data)))
    assert not table_faults(subject, read_movie(subject)) and examine(bytes(data)).verdict is Verdict.INTACT


def test_one_fault_that_hides_another_is_put_right_with_it() -> None:
    whole = clip()
    sick = over(over(whole, place(whole, b"stbl") - 4, b"\0\1\2\3"), place(whole, b"stts") + 4, bytes(4))
    subject = Subject(Source.from_bytes(sick))
    movie = read_movie(subject)
    _, mended = restored(subject, movie, table_faults(subject, movie))
    assert len(mended) == 2 and put_right(sick) == whole


def test_a_patched_source_reads_as_if_it_were_written() -> None:
    source = Source.from_bytes(bytes(range(40)))
    patched = PatchedSource(source, [(10, b"abc"), (20, b"xy")])
    plain = bytearray(range(40))
    plain[10:13], plain[20:22] = b"abc", b"xy"
    for start in range(40):
        for length in (0, 1, 4, 30):
            assert patched.read(start, length) == bytes(plain[start : start + length])
    twice = PatchedSource(patched, [(11, b"Z")])
    assert twice.read(9, 5) == bytes([9]) + b"aZc" + bytes([13])
    assert patched.uint(9, 4) == int.from_bytes(plain[9:13], "big") and source.read(10, 3) == bytes(range(10, 13))


def test_media_data_begin_behind_what_is_left_of_an_index(tmp_path: Path) -> None:
    """The start of a file whose index stood in front is lost: its rest is no sound."""
    settings = {"container": "mov", "audio": "pcm_s16le", "mux": {"movflags": "faststart"}}
    whole, sibling = (encode.clip(12.0, (192, 108), seed=seed, **settings) for seed in (5, 6))
    lost = 1000
    assert lost < whole.index(b"mdat") - 512
    path, lender = tmp_path / "sick.mov", tmp_path / "lender.mov"
    path.write_bytes(whole[lost:])
    lender.write_bytes(sibling)
    outcome = repair_file(examine_file(path), tmp_path / "out", [examine_file(lender)], "rebuild-index")
    assert outcome.output is not None and share("mov", whole, Path(outcome.output).read_bytes()) == 100.0


@settings(max_examples=60)
@given(st.sampled_from(["plain", "empty", "pcm"]), st.data())
def test_a_change_anywhere_in_an_index_is_judged_and_never_made_worse(name: str, data: st.DataObject) -> None:
    whole = clip(name)
    start = place(whole, b"moov") - 8
    at = data.draw(st.integers(start + 8, start + figure(whole, start) - 1))
    sick = over(whole, at, data.draw(st.binary(min_size=1, max_size=16))[: len(whole) - at])
    found = examine(sick)
    assert found.error is None and found.score is not None, "the examiner failed"
    try:
        right = put_right(sick)
    except RepairImpossible:
        return
    after = examine(right)
    assert len(right) == len(sick) and after.score is not None and after.score >= found.score - 0.5


def test_a_container_that_steps_over_the_header_of_the_next_is_too_long() -> None:
    """What lies in that one seems to follow it then."""
    data = clip()
    at = place(data, b"dinf") - 8
    assert put_right(over(data, at, (figure(data, at) + 8).to_bytes(4, "big"))) == data


@pytest.mark.parametrize("kind", [b"stts", b"stsc", b"stsz", b"stco"])
def test_empty_tables_of_fragments_that_state_entries_are_empty_again(kind: bytes) -> None:
    data = clip("empty")
    at = place(data, kind) + (8 if kind == b"stsz" else 4)
    sick = over(data, at, (1 << 20).to_bytes(4, "big"))
    assert examine(sick, "clip.mp4").verdict is Verdict.REPAIRABLE and put_right(sick) == data


def test_packets_of_one_byte_are_no_sound() -> None:
    """8.7.3: a size for all samples, though each has its own."""
    data = clip()
    sick = over(data, data.rindex(b"stsz") + 8, (1).to_bytes(4, "big"))
    found = examine(sick, "clip.mp4")
    assert found.score == pytest.approx(share("mp4", data, sick) or 0, abs=3) and found.score < 60
    assert any(f.code is FindingCode.MP4_TABLES for f in found.findings)
