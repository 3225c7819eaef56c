"""Bytes lost or put in among samples: what reaches over, where steps begin, and claims no higher than the truth."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from bench import measure
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examine, healthy
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import Subject
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.layout import reaching_over
from jugal.formats.isobmff.movie import read_movie
from jugal.formats.isobmff.offsets import find_steps
from jugal.formats.isobmff.restoring import fix_tables
from jugal.formats.isobmff.tables import Track
from jugal.model.codes import FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Verdict
from jugal.samples import encode

X265 = {"x265-params": "log-level=none"}


def track_of(spans: list[tuple[int, int]]) -> Track:
    """A track whose samples are (start, size)."""
    track = Track(Box(b"trak", 0, 8, 8))
    track.offsets = np.array([s for s, _ in spans], np.int64)
    track.sizes = np.array([n for _, n in spans], np.int64)
    return track


def none_bad(tracks: list[Track]) -> list[np.ndarray]:
    return [np.zeros(t.offsets.size, np.bool_) for t in tracks]


# --- samples beside one another


@given(st.lists(st.tuples(st.integers(0, 300), st.integers(0, 40)), min_size=1, max_size=24), st.integers(1, 3))
def test_reaching_over_is_ending_behind_a_later_start(spans: list[tuple[int, int]], parts: int) -> None:
    tracks = [track_of(spans[k::parts]) for k in range(parts)]
    starts = sorted({s for s, n in spans if n})
    for track, found in zip(tracks, reaching_over(tracks, none_bad(tracks)), strict=True):
        for (start, size), over in zip(
            zip(track.offsets.tolist(), track.sizes.tolist(), strict=True), found.tolist(), strict=True
        ):
            following = next((s for s in starts if s > start), None)
            assert over == bool(size and following is not None and start + size > following)


def test_no_sample_of_a_healthy_file_reaches_over() -> None:
    for name in ("mp4", "mp4-fast", "mp4-long", "mp4-fragments", "mov", "m4a"):
        movie = read_movie(Subject(Source.from_bytes(healthy(name))))
        assert not any(over.any() for over in reaching_over(movie.tracks, none_bad(movie.tracks))), name


def test_silence_stored_once_is_no_overlap() -> None:
    tracks = [track_of([(10, 50), (10, 20), (10, 50), (60, 5)])]
    assert not any(over.any() for over in reaching_over(tracks, none_bad(tracks)))


def test_a_sample_that_does_not_read_is_no_witness_against_another() -> None:
    tracks = [track_of([(10, 50), (40, 30), (60, 20)])]
    (over,) = reaching_over(tracks, none_bad(tracks))
    assert over.tolist() == [True, True, False]
    (over,) = reaching_over(tracks, [np.array([False, True, False])])
    assert not over.any()


# --- lost and inserted bytes


@pytest.fixture(scope="module")
def clip() -> bytes:
    return encode.clip(4.0, seed=41, video="libx265", options=X265)


def changed(data: bytes, at: int, by: int) -> bytes:
    """``data`` with ``by`` bytes put in at ``at``, or taken out."""
    return data[:at] + np.random.default_rng(at).bytes(by) + data[at:] if by > 0 else data[:at] + data[at - by :]


@pytest.mark.parametrize("by", [-2, -4096, 1, 4096, 70_001])
@pytest.mark.parametrize("part", [0.35, 0.6])
def test_a_repair_claims_no_more_than_another_decoder_shows(clip: bytes, by: int, part: float, tmp_path: Path) -> None:
    at = int(len(clip) * part) // 512 * 512 + 77
    path = tmp_path / "sick.mp4"
    path.write_bytes(changed(clip, at, by))
    found = examine_file(path)
    first = min(f.span.start for f in found.findings if f.span and f.severity in (Severity.MAJOR, Severity.FATAL))
    # The damaged frame begins before; which of its bytes are wrong a chain of lengths does not tell.
    assert -24_000 < first - at < 24_000
    outcome = repair_file(found, tmp_path / "out")
    assert outcome.output is not None and outcome.score_after is not None, outcome.error
    truth = measure.share("mp4", clip, Path(outcome.output).read_bytes())
    assert truth is not None and truth > 70
    # Decoders hide a broken frame and those that follow it more or less well; no more than they show may be claimed.
    assert truth - 20 <= outcome.score_after <= truth + 3


@pytest.mark.parametrize("by", [-512, 4096])
def test_the_sound_just_before_a_step_moves_with_it(clip: bytes, by: int) -> None:
    movie = read_movie(Subject(Source.from_bytes(clip)))
    picture, sound = movie.tracks
    # Lost inside the last frame before a chunk of sound, so that the sound is the first that has moved.
    chunk = int(sound.chunk_offsets[sound.chunk_offsets.size // 2])
    before = int(np.flatnonzero(picture.offsets + picture.sizes == chunk)[0])
    at = int(picture.offsets[before]) + int(picture.sizes[before]) // 2
    subject = Subject(Source.from_bytes(changed(clip, at, by)))
    (step,) = find_steps(subject, read_movie(subject))
    assert (step.from_offset, step.delta) == (chunk, by)


def test_a_size_by_which_a_frame_reaches_over_is_what_is_wrong(clip: bytes) -> None:
    """It ends inside what follows it; the bytes themselves read with the size that fills its chunk."""
    movie = read_movie(Subject(Source.from_bytes(clip)))
    picture = movie.tracks[0]
    number = picture.offsets.size // 2
    grown = bytearray(clip)
    stsz = clip.find(b"stsz") + 16 + 4 * number
    grown[stsz : stsz + 4] = (int(picture.sizes[number]) + 3).to_bytes(4, "big")
    found = examine(bytes(grown))
    assert found.verdict is not Verdict.INTACT
    (fault,) = [f for f in found.findings if f.severity is Severity.MAJOR]
    assert fault.code is FindingCode.MP4_TABLES and fault.span is not None and fault.span.start == stsz
    draft = fix_tables(Subject(Source.from_bytes(bytes(grown))), None)
    assert b"".join(p if isinstance(p, bytes) else grown[p.start : p.end] for p in draft.pieces) == clip


# --- fragments to the end


def test_fragments_overwritten_to_the_end_are_a_loss_and_foreign_bytes_behind_whole_ones_are_not() -> None:
    whole = healthy("mp4-fragments")
    at = int(len(whole) * 0.55)
    noise = np.random.default_rng(5).bytes(len(whole) - at)
    cut = examine(whole[:at] + noise)
    truth = measure.share("mp4", whole, whole[:at] + noise)
    assert truth is not None and cut.score == pytest.approx(truth, abs=12)
    behind = examine(whole + noise)
    assert behind.verdict is Verdict.INTACT and behind.score == 100.0


# --- mutation


@settings(max_examples=60)
@given(st.data())
def test_any_change_of_length_gives_a_verdict_and_places_inside(clip: bytes, data: st.DataObject) -> None:
    at = data.draw(st.integers(0, len(clip) - 1))
    by = data.draw(st.sampled_from([-40_000, -4096, -1, 1, 33, 4096]))
    sick = changed(clip, at, by)
    found = examine(sick)
    assert found.error is None
    assert all(f.span is None or 0 <= f.span.start <= f.span.end <= len(sick) for f in found.findings)


# --- steps inside chunks


@pytest.mark.parametrize("change", ["lost", "put in"])
@pytest.mark.parametrize("front", [False, True])
def test_what_follows_a_change_of_length_inside_a_chunk_keeps_its_time(
    change: str, front: bool, tmp_path: Path
) -> None:
    """Picture and sound alike, the boxes around them closed, all samples but those in which it happened as they were."""
    mux = {"movflags": "faststart"} if front else {}
    whole = encode.clip(6.0, (320, 180), 25, seed=31, options={"g": "25"}, mux=mux)
    at = len(whole) * 2 // 5 // 512 * 512
    words = (b"Counted again below the weir. " * 100)[:512]
    sick = whole[:at] + whole[at + 512 :] if change == "lost" else whole[:at] + words + whole[at:]
    path = tmp_path / "clip.mp4"
    path.write_bytes(sick)
    found = examine_file(path)
    outcome = repair_file(found, tmp_path / "out")
    assert outcome.output is not None and outcome.method == "fix-offsets", outcome.error
    out = Path(outcome.output).read_bytes()
    true = measure.share("mp4", whole, out)
    assert true is not None and true > 90 and outcome.score_after == pytest.approx(true, abs=9)
    assert found.attainable == pytest.approx(outcome.score_after, abs=2)
    old, new = (read_movie(Subject(Source.from_bytes(data))) for data in (whole, out))
    for before, after in zip(old.tracks, new.tracks, strict=True):
        assert (before.sizes == after.sizes).all() and (before.durations == after.durations).all()
        same = [
            whole[a : a + n] == out[b : b + n]
            for a, b, n in zip(before.offsets.tolist(), after.offsets.tolist(), before.sizes.tolist(), strict=True)
        ]
        assert same.count(False) <= 3


def test_frames_with_marks_are_found_a_little_beside_where_the_index_leads() -> None:
    whole = encode.clip(3.0, (320, 180), 25, seed=32, video="mpeg4")
    at = whole.index(b"mdat") - 4
    sick = whole[:at] + (64).to_bytes(4, "big") + b"free" + bytes(56) + whole[at:]
    found = examine(sick, "clip.mp4")
    assert [f.code for f in found.findings][:1] == [FindingCode.MP4_SHIFTED]
    assert found.score == pytest.approx(measure.share("mp4", whole, sick), abs=4) and found.attainable == 100.0
