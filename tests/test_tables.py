"""Sample tables that contradict themselves or the file: what is said of them, where, and how they are written anew."""

from __future__ import annotations

import io
import struct
from collections.abc import Callable
from pathlib import Path

import av
import numpy as np
import pytest
from bench.measure import share
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examine, healthy
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import RepairImpossible, Subject
from jugal.formats.isobmff.chunks import astray, fix_chunks, place_chunks
from jugal.formats.isobmff.movie import read_movie
from jugal.formats.isobmff.payload import _is_known
from jugal.formats.isobmff.retable import can_retable, media_between, rebuild_tables
from jugal.formats.isobmff.tables import read_fragments
from jugal.model.codes import FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Examination, RepairOutcome, RepairStatus, Verdict
from jugal.samples import encode

X265 = {"x265-params": "log-level=none"}


def box_at(data: bytes, kind: bytes, number: int = 0) -> int:
    """Where the header of the ``number``-th box of a kind begins."""
    at = data.find(kind)
    for _ in range(number):
        at = data.find(kind, at + 4)
    return at - 4


def over(data: bytes, at: int, new: bytes) -> bytes:
    return data[:at] + new + data[at + len(new) :]


def entries(data: bytes, kind: bytes, number: int = 0) -> tuple[int, int]:
    """Where the entries of a table begin and how many bytes they are."""
    at = box_at(data, kind, number)
    size = int.from_bytes(data[at : at + 4], "big")
    head = {b"stco": 16, b"stsz": 20, b"stsc": 16, b"stts": 16}[kind]
    return at + head, size - head


def wiped(data: bytes, kind: bytes, number: int = 0) -> bytes:
    at, size = entries(data, kind, number)
    return over(data, at, bytes(size))


def noisy(data: bytes, kind: bytes, number: int = 0) -> bytes:
    at, size = entries(data, kind, number)
    return over(data, at, np.random.default_rng(size).bytes(size))


def packets(data: bytes) -> dict[int, dict[int, bytes]]:
    """Per stream what is in each packet by the millisecond at which it shows, by another demuxer."""
    found: dict[int, dict[int, bytes]] = {}
    with av.open(io.BytesIO(data)) as file:
        for packet in file.demux():
            if packet.size and packet.pts is not None and packet.time_base is not None:
                found.setdefault(packet.stream.index, {})[round(float(packet.pts * packet.time_base) * 1000)] = bytes(
                    packet
                )
    return found


def alike(one: bytes, other: bytes) -> float:
    """The least share of a stream's packets that are the same at the same time in the other file."""
    right, seen = packets(one), packets(other)
    return min(
        sum(seen.get(key, {}).get(at) == what for at, what in all_of.items()) / len(all_of)
        for key, all_of in right.items()
    )


def decoded(data: bytes) -> int:
    """Pictures that another decoder shows."""
    with av.open(io.BytesIO(data)) as file:
        return sum(1 for _ in file.decode(video=0))


def mended(
    data: bytes, folder: Path, suffix: str = ".mp4", method: str | None = None
) -> tuple[Examination, RepairOutcome]:
    path = folder / f"sick{suffix}"
    path.write_bytes(data)
    found = examine_file(path)
    return found, repair_file(found, folder / "out", [], *([method] if method else []))


# --- chunk offsets


@pytest.mark.parametrize("name", ["mp4", "mp4-fast", "mov"])
@pytest.mark.parametrize("number", [0, 1], ids=["picture", "sound"])
def test_wiped_chunk_offsets_come_back_from_the_room_between(name: str, number: int, tmp_path: Path) -> None:
    data = wiped(healthy(name), b"stco", number)
    found, outcome = mended(data, tmp_path, "." + name[:3])
    at, size = entries(healthy(name), b"stco", number)
    (problem,) = [f for f in found.findings if f.code is FindingCode.MP4_TABLES]
    assert problem.span is not None and at - 16 <= problem.span.start <= at + size
    assert found.verdict is Verdict.REPAIRABLE and found.score is not None and found.score < 60
    assert outcome.method == "fix-chunks" and outcome.output is not None, outcome.error
    assert Path(outcome.output).read_bytes() == healthy(name)


def test_one_offset_that_repeats_another_is_enough_to_be_seen() -> None:
    data = healthy("mp4")
    at, _ = entries(data, b"stco")
    found = examine(over(data, at + 8, data[at + 4 : at + 8]))
    (problem,) = [f for f in found.findings if f.code is FindingCode.MP4_TABLES]
    assert problem.severity is Severity.MAJOR and "2 chunks" in problem.message
    assert problem.span is not None and problem.span.start == at + 4
    assert found.score is not None and found.score < 100


def test_silence_stored_once_and_played_often_is_no_fault() -> None:
    """Chunks of uncompressed sound may share their bytes; those of pictures, and places where no media lie, may not."""
    data = healthy("mov")
    at, _ = entries(data, b"stco", 1)
    shared = over(data, at + 8, data[at + 4 : at + 8])
    assert FindingCode.MP4_TABLES not in {f.code for f in examine(shared).findings}
    pictures, _ = entries(data, b"stco", 0)
    assert FindingCode.MP4_TABLES in {
        f.code for f in examine(over(data, pictures + 8, data[pictures + 4 : pictures + 8])).findings
    }
    assert FindingCode.MP4_TABLES in {f.code for f in examine(over(data, at, bytes(12))).findings}


def test_an_index_with_lost_sound_written_as_silence_is_sound_itself(tmp_path: Path) -> None:
    """Every lost chunk of such an index plays the same stored silence: examined again, its tables contradict nothing."""
    whole, lender = (
        encode.clip(4.0, seed=71, container="mov", audio="pcm_s16le"),
        encode.clip(4.0, seed=72, container="mov", audio="pcm_s16le"),
    )
    sick = bytearray(whole)
    sound = read_movie(Subject(Source.from_bytes(whole))).tracks[1]
    for chunk in (20, 60):
        start = int(sound.chunk_offsets[chunk]) - 3000
        sick[start : start + 24_000] = bytes(24_000)
    at = box_at(whole, b"moov")
    sick[at:] = bytes(len(sick) - at)
    path, donor = tmp_path / "sick.mov", tmp_path / "lender.mov"
    path.write_bytes(bytes(sick))
    donor.write_bytes(lender)
    outcome = repair_file(examine_file(path), tmp_path / "out", [examine_file(donor)], "rebuild-index")
    assert outcome.output is not None, outcome.error
    assert not any(t.problems for t in read_movie(Subject(Source.from_bytes(Path(outcome.output).read_bytes()))).tracks)


def test_a_track_that_goes_on_in_fragments_keeps_its_doubts_in_step() -> None:
    """The index of a fragmented file may list samples as well; what is said of those does not reach the fragments'."""
    data = bytearray(healthy("mp4-fragments"))
    movie = read_movie(Subject(Source.from_bytes(bytes(data))))
    for track in movie.tracks:
        before = track.offsets.size
        track.astray = np.ones(2, np.bool_)
        track.offsets, track.sizes = track.offsets[:2], track.sizes[:2]
        track.durations, track.sync, track.composition = track.durations[:2], track.sync[:2], track.composition[:2]
        assert before > 2
    read_fragments(Source.from_bytes(bytes(data)), movie.tree, movie.moov, movie.tracks)
    for track in movie.tracks:
        assert track.astray.size == track.offsets.size and track.astray.sum() == 2


def test_chunks_are_not_placed_where_the_gaps_hold_something_else() -> None:
    data = bytearray(wiped(healthy("mp4"), b"stco"))
    start = box_at(bytes(data), b"mdat") + 8
    end = start - 8 + int.from_bytes(data[start - 8 : start - 4], "big")
    data[start:end] = np.random.default_rng(3).bytes(end - start)
    subject = Subject(Source.from_bytes(bytes(data)))
    movie = read_movie(subject)
    assert len(astray(movie)) == 1 and place_chunks(subject, movie) is None
    with pytest.raises(RepairImpossible):
        fix_chunks(subject, None)


def test_two_tracks_without_places_are_not_guessed_at() -> None:
    subject = Subject(Source.from_bytes(wiped(wiped(healthy("mp4"), b"stco", 0), b"stco", 1)))
    movie = read_movie(subject)
    assert len(astray(movie)) == 2 and place_chunks(subject, movie) is None


def test_healthy_tables_have_no_doubt() -> None:
    for name in ("mp4", "mp4-fast", "mp4-long", "mp4-fragments", "mov", "m4a"):
        movie = read_movie(Subject(Source.from_bytes(healthy(name))))
        assert not any(t.problems for t in movie.tracks), name
        assert not astray(movie)


# --- sample sizes


CLIPS: dict[str, Callable[[], bytes]] = {
    "b-frames": lambda: encode.clip(2.0, seed=31),
    "no-b-frames": lambda: encode.clip(2.0, seed=32, options={"bf": "0"}),
    "hevc": lambda: encode.clip(2.0, seed=33, video="libx265", options=X265),
    "29.97": lambda: encode.clip(2.0, seed=34, rate=30, mux={"movflags": "faststart"}),
}


@pytest.mark.parametrize("clip", CLIPS)
def test_overwritten_sample_sizes_are_found_anew(clip: str, tmp_path: Path) -> None:
    """Without any other file: the index still tells what the tracks are."""
    whole = CLIPS[clip]()
    data = noisy(whole, b"stsz")
    found, outcome = mended(data, tmp_path, method="rebuild-tables")
    at, size = entries(whole, b"stsz")
    (problem,) = [f for f in found.findings if f.code is FindingCode.MP4_TABLES]
    assert "larger than all media data" in problem.message
    assert problem.span is not None and at <= problem.span.start < at + size
    assert outcome.status is RepairStatus.REPAIRED and outcome.output is not None, outcome.error
    assert alike(whole, Path(outcome.output).read_bytes()) >= 0.98
    assert outcome.score_after is not None and outcome.score_after > 97


def test_a_size_table_without_a_count_is_a_track_that_does_not_play(tmp_path: Path) -> None:
    whole = healthy("mp4")
    at, size = entries(whole, b"stsz")
    data = over(whole, at - 4, bytes(size + 4))
    found, outcome = mended(data, tmp_path)
    assert any(f.code is FindingCode.MP4_TABLES and "no samples" in f.message for f in found.findings)
    assert found.score == pytest.approx(50.0, abs=1.0), "sound plays, picture does not"
    assert outcome.output is not None and alike(whole, Path(outcome.output).read_bytes()) >= 0.98


def test_what_the_owner_wrote_in_the_index_stays(tmp_path: Path) -> None:
    """Dates and the clip's place among the tracks are the file's own and are kept."""
    whole = bytearray(healthy("mp4"))
    head = box_at(bytes(whole), b"mvhd")
    whole[head + 12 : head + 16] = (3_800_000_000).to_bytes(4, "big")
    _, outcome = mended(noisy(bytes(whole), b"stsz"), tmp_path, method="rebuild-tables")
    assert outcome.output is not None
    after = examine_file(outcome.output)
    assert after.media["date_taken"] == examine(bytes(whole)).media["date_taken"]


def test_uncompressed_sound_and_fragments_are_not_offered_it() -> None:
    for name, can in (("mp4", True), ("m4a", True), ("mov", False), ("mp4-fragments", False)):
        movie = read_movie(Subject(Source.from_bytes(healthy(name))))
        assert can_retable(movie) == can, name
    with pytest.raises(RepairImpossible):
        rebuild_tables(Subject(Source.from_bytes(healthy("mov"))), None)


# --- bytes put in or lost inside a chunk


@pytest.mark.parametrize("name", ["aac", "alac"])
@pytest.mark.parametrize("change", ["put in", "lost"])
def test_sound_behind_a_change_of_length_keeps_its_time(name: str, change: str, tmp_path: Path) -> None:
    """All packets of such a file are one chunk, which is parted where they moved."""
    whole = encode.sound(name, "ipod", 4.0)
    at = len(whole) // 3 // 4096 * 4096
    data = (
        whole[:at] + np.random.default_rng(1).bytes(4096) + whole[at:]
        if change == "put in"
        else whole[:at] + whole[at + 4096 :]
    )
    found, outcome = mended(data, tmp_path, ".m4a")
    first = min(f.span.start for f in found.findings if f.span and f.severity is Severity.MAJOR)
    # A packet of lossless sound is large, and which of its bytes is wrong cannot be told.
    assert abs(first - at) <= (4096 if name == "aac" else 20_000)
    assert outcome.output is not None and outcome.method == "fix-offsets"
    share = alike(whole, Path(outcome.output).read_bytes())
    assert share > 0.9
    assert outcome.score_after == pytest.approx(100 * share, abs=3)


@pytest.mark.parametrize("name", ["aac", "alac", "picture and sound"])
def test_what_began_before_the_file_does_now_keeps_its_time(name: str, tmp_path: Path) -> None:
    """The first clusters are gone, of which chunks tell where they began: as many zeros are put before the file."""
    with_picture = name == "picture and sound"
    whole = encode.clip(4.0, (320, 180), seed=5) if with_picture else encode.sound(name, "ipod", 4.0)
    found, outcome = mended(whole[4096:], tmp_path, ".mp4" if with_picture else ".m4a")
    assert found.score is not None and found.score < 3
    assert outcome.output is not None and outcome.method == "fix-offsets, fix-boxes"
    out = Path(outcome.output).read_bytes()
    assert len(out) == len(whole) and out[4096:] == whole[4096:]
    true = share("mp4" if with_picture else "m4a", whole, out)
    assert true is not None and true > 80 and outcome.score_after == pytest.approx(true, abs=3)


def test_sound_is_not_believed_where_the_picture_is_elsewhere(tmp_path: Path) -> None:
    """Uncompressed sound shows nowhere that it is not: the start is lost, and with it the one picture that all others need."""
    settings = {"container": "mov", "audio": "pcm_s16le", "options": {"g": "250"}}
    whole = encode.clip(3.0, (320, 180), seed=8, **settings)
    path = tmp_path / "clip.mov"
    path.write_bytes(whole[4096:])
    found = examine_file(path)
    assert found.score == pytest.approx(share("mov", whole, whole[4096:]) or 0.0, abs=3)
    outcome = repair_file(found, tmp_path / "out", [])
    assert outcome.output is not None and "fix-offsets" in (outcome.method or "")
    true = share("mov", whole, Path(outcome.output).read_bytes())
    assert true is not None and true > 45 and outcome.score_after == pytest.approx(true, abs=3)


@pytest.mark.parametrize("lost", [0, 300_000])
def test_a_frame_before_the_end_of_the_file_proves_no_shift(lost: int, tmp_path: Path) -> None:
    """Frames of Motion JPEG are known by their marks alone: the lost one was found in the file's last, a donor's index then won."""
    settings = {"container": "mov", "video": "mjpeg", "audio": "aac", "options": {"huffman": "optimal"}}
    whole, sibling = (encode.clip(4.0, seed=seed, **settings) for seed in (25, 125))
    at = lost // 4096 * 4096
    path, donor = tmp_path / "clip.mov", tmp_path / "donor.mov"
    path.write_bytes(whole[:at] + whole[at + 4096 :])
    donor.write_bytes(sibling)
    outcome = repair_file(examine_file(path), tmp_path / "out", [examine_file(donor)])
    wanted = {"fix-offsets"} if lost else {"fix-offsets", "fix-boxes"}
    assert outcome.output is not None and set((outcome.method or "").split(", ")) == wanted
    true = share("mov", whole, Path(outcome.output).read_bytes())
    assert true is not None and true > 97 and outcome.score_after == pytest.approx(true, abs=1.5)


def test_sound_that_reads_nowhere_it_should_is_not_called_intact() -> None:
    whole = encode.sound("aac", "ipod", 4.0)
    at = box_at(whole, b"mdat") + 8
    data = over(
        whole[:at] + b"\x11" * 64 + whole[at:],
        at - 8,
        (int.from_bytes(whole[at - 8 : at - 4], "big") + 64).to_bytes(4, "big"),
    )
    found = examine(data)
    assert found.verdict is Verdict.REPAIRABLE and found.score is not None and found.score < 10
    assert "fix-offsets" in {p.method for p in found.repairs}


@given(st.lists(st.booleans(), min_size=1, max_size=60))
def test_a_coding_is_known_by_half_its_samples_or_a_long_run(good: list[bool]) -> None:
    runs = "".join("x" if g else " " for g in good).split()
    expected = 2 * sum(good) >= len(good) or max(map(len, runs), default=0) >= 12
    assert _is_known(np.array(good)) == expected


# --- the index box itself


def test_an_index_that_claims_too_much_still_plays_and_is_said_to(tmp_path: Path) -> None:
    whole = healthy("mp4")
    at = box_at(whole, b"moov")
    size = int.from_bytes(whole[at : at + 4], "big")
    data = over(whole, at, (size + 5000).to_bytes(4, "big"))
    found, outcome = mended(data, tmp_path, method="fix-boxes")
    (finding,) = [f for f in found.findings if f.code is FindingCode.BOX_SIZE]
    assert finding.span is not None and finding.span.start == at
    assert found.score == 100.0 and decoded(data) == decoded(whole) == 50, "as another player has it"
    assert outcome.output is not None and Path(outcome.output).read_bytes() == whole, outcome.error


def test_an_index_that_is_really_cut_does_not() -> None:
    whole = healthy("mp4")
    found = examine(whole[:-300])
    assert found.score is not None and found.score < 5


# --- media data in one place


def test_the_media_data_lie_in_the_box_or_before_a_hidden_index() -> None:
    whole = healthy("mp4")
    at = box_at(whole, b"mdat")
    body, end = at + 8, box_at(whole, b"moov")
    assert media_between(read_movie(Subject(Source.from_bytes(whole)))) == (
        span := media_between(read_movie(Subject(Source.from_bytes(whole))))
    )
    assert span is not None and (span.start, span.end) == (body, end)
    wrong = over(whole, at, (end - at - 900).to_bytes(4, "big"))
    hidden = media_between(read_movie(Subject(Source.from_bytes(wrong))))
    assert hidden is not None and hidden.start == body and hidden.end == end
    bare = read_movie(Subject(Source.from_bytes(whole[:end])))
    assert media_between(bare) is None, "without an index there is nothing to say what they are"


# --- mutation


@settings(max_examples=120)
@given(data=st.data())
def test_any_overwritten_table_is_a_finding_or_harmless_never_an_error(data: st.DataObject) -> None:
    """Whatever the tables say: an examination with a verdict, places inside the file, nothing raised."""
    whole = healthy("mp4")
    kind = data.draw(st.sampled_from([b"stco", b"stsz", b"stsc", b"stts"]))
    at, size = entries(whole, kind, data.draw(st.integers(0, 1)))
    start = at - 8 + data.draw(st.integers(0, max(0, size)))
    new = data.draw(
        st.one_of(st.binary(min_size=1, max_size=24), st.sampled_from([struct.pack(">I", 0xFFFFFFFF), bytes(16)]))
    )
    sick = over(whole, start, new)[: len(whole)]
    found = examine(sick)
    assert found.error is None and found.score is not None
    assert all(f.span is None or 0 <= f.span.start <= f.span.end <= len(sick) for f in found.findings)
    assert found.attainable is not None and found.attainable >= found.score
    if sick == whole:
        assert found.verdict is Verdict.INTACT
