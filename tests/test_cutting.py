"""Clips cut to their good ranges: what is left plays whole, in step, and nothing good is thrown away."""

from __future__ import annotations

import io
from functools import cache
from pathlib import Path

import av
import numpy as np
import pytest

from conftest import examine
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import RepairImpossible, Subject
from jugal.formats.isobmff.cutting import cut_to_good, hold_pictures, plan_cut
from jugal.formats.isobmff.movie import read_movie
from jugal.model.codes import FindingCode
from jugal.model.result import RepairStatus, Verdict
from jugal.samples import encode

SETTINGS: dict[str, dict] = {
    "avc": {},
    "avc-in-front": {"mux": {"movflags": "faststart"}},
    "avc-pcm": {"container": "mov", "audio": "pcm_s16le"},
    "hevc": {"video": "libx265", "options": {"x265-params": "log-level=none"}},
    "mpeg4": {"video": "mpeg4"},
    "silent": {"audio": None},
}


@cache
def clip(name: str) -> bytes:
    return encode.clip(8.0, (192, 108), 25, seed=13, bit_rate=300_000, **SETTINGS[name])


def harmed(data: bytes, *shares: float) -> bytes:
    """Sectors in the middle of pictures overwritten with zeros."""
    video = next(t for t in read_movie(Subject(Source.from_bytes(data))).tracks if t.kind == "video")
    out = bytearray(data)
    for share in shares:
        number = int(video.offsets.size * share)
        at = -(-(int(video.offsets[number]) + 8) // 512) * 512
        out[at : at + 1024] = bytes(1024)
    return bytes(out)


def decoded(data: bytes) -> tuple[list[tuple[float, np.ndarray]], list[tuple[float, np.ndarray]]]:
    """(time, small picture) of each frame and (time, samples) of each piece of sound, by an independent decoder."""
    pictures, sounds = [], []
    with av.open(io.BytesIO(data)) as file:
        for frame in file.decode(*[s for s in file.streams if s.type in ("video", "audio")]):
            if isinstance(frame, av.VideoFrame):
                pictures.append((float(frame.time or 0), frame.to_ndarray(format="gray")[::4, ::4].astype(np.int16)))
            else:
                sounds.append((float(frame.time or 0), frame.to_ndarray().reshape(-1).astype(np.float64)))
    return pictures, sounds


@pytest.mark.parametrize("name", SETTINGS)
def test_what_is_left_plays_whole_and_in_step(name: str, tmp_path: Path) -> None:
    original = clip(name)
    path = tmp_path / ("a.mov" if "pcm" in name else "a.mp4")
    path.write_bytes(harmed(original, 0.3, 0.66))
    found = examine_file(path)
    plan = next(p for p in found.repairs if p.method == "cut-holes")
    outcome = repair_file(found, tmp_path / "out", method="cut-holes")
    assert outcome.status is RepairStatus.REPAIRED and outcome.output is not None
    assert examine_file(outcome.output).verdict is Verdict.INTACT
    assert outcome.score_after == pytest.approx(plan.attainable, abs=0.5)
    pictures, sounds = decoded(Path(outcome.output).read_bytes())
    whole, heard = decoded(original)
    assert len(pictures) / len(whole) == pytest.approx(plan.attainable / 100, abs=0.02)
    # Every picture is one of the original's, and they come in order.
    matches = [min(range(len(whole)), key=lambda n, p=p: int(np.abs(whole[n][1] - p).sum())) for _, p in pictures]
    close = [np.abs(whole[m][1] - p).mean() < 2 for m, (_, p) in zip(matches, pictures, strict=True)]
    assert np.mean(close) > 0.97 and np.mean(np.diff(matches) > 0) > 0.97
    assert np.diff([t for t, _ in pictures]).max() < 0.06, "no gap is left in the picture"
    if sounds:
        length = sum(s.size for _, s in sounds) / sum(s.size for _, s in heard)
        assert length == pytest.approx(len(pictures) / len(whole), abs=0.01), "the sound is cut by the same length"


def test_it_is_done_by_choice_only(tmp_path: Path) -> None:
    path = tmp_path / "a.mp4"
    path.write_bytes(harmed(clip("avc"), 0.5))
    found = examine_file(path)
    assert found.verdict is Verdict.DAMAGED and not found.worth_repairing
    assert repair_file(found, tmp_path / "out").status is RepairStatus.FAILED
    assert not (tmp_path / "out").exists() or not list((tmp_path / "out").iterdir())


def test_dates_and_places_of_its_own_are_kept(tmp_path: Path) -> None:
    data = encode.clip(4.0, (192, 108), 25, seed=14, bit_rate=300_000, mux={"movflags": "use_metadata_tags"})
    draft = cut_to_good(Subject(Source.from_bytes(harmed(data, 0.7))), None)
    index = next(p for p in draft.pieces if isinstance(p, bytes) and b"mvhd" in p)
    assert b"udta" in data and b"udta" in index


def test_a_whole_clip_and_one_without_any_whole_range_are_refused() -> None:
    with pytest.raises(RepairImpossible, match="nothing to cut"):
        cut_to_good(Subject(Source.from_bytes(clip("avc"))), None)
    shares = [k / 40 for k in range(40)]
    with pytest.raises(RepairImpossible, match="left of a track"):
        cut_to_good(Subject(Source.from_bytes(harmed(clip("silent"), *shares))), None)


def test_sound_damaged_alone_costs_no_picture() -> None:
    movie = read_movie(Subject(Source.from_bytes(clip("avc"))))
    lost = [np.zeros(t.offsets.size, np.bool_) for t in movie.tracks]
    sound = next(n for n, t in enumerate(movie.tracks) if t.kind == "audio")
    lost[sound][10:20] = True
    assert plan_cut(movie.tracks, lost) is None
    assert FindingCode.MP4_HOLE in {f.code for f in examine(harmed(clip("avc"), 0.5), "a.mp4").findings}


@pytest.mark.parametrize("name", SETTINGS)
@pytest.mark.parametrize("shares", [(0.3, 0.66), (0.2, 0.97)])
def test_pictures_left_out_keep_the_timing(name: str, shares: tuple[float, ...], tmp_path: Path) -> None:
    original = clip(name)
    path = tmp_path / ("a.mov" if "pcm" in name else "a.mp4")
    path.write_bytes(harmed(original, *shares))
    found = examine_file(path)
    plan = next(p for p in found.repairs if p.method == "hold-pictures")
    outcome = repair_file(found, tmp_path / "out", method="hold-pictures")
    assert outcome.status is RepairStatus.REPAIRED and outcome.output is not None
    assert outcome.score_after == pytest.approx(plan.attainable, abs=0.5)
    assert plan.attainable < 99.0
    pictures, sounds = decoded(Path(outcome.output).read_bytes())
    whole, heard = decoded(original)
    times = {round(t, 2): p for t, p in whole}
    # Those that are there are the original's, each at its own time; the sound has gaps where it was damaged itself.
    close = [np.abs(times[round(t, 2)] - p).mean() < 2 for t, p in pictures if round(t, 2) in times]
    assert len(close) == len(pictures) and np.mean(close) == 1.0
    lost = 1.0 - len(pictures) / len(whole)
    assert 0 < lost < 0.75 and (100 - plan.attainable) / 100 == pytest.approx(lost / (2 if sounds else 1), abs=0.02)
    said = {round(t, 3): s for t, s in heard}
    same = [np.abs(s - said[round(t, 3)]).mean() < 0.01 for t, s in sounds if round(t, 3) in said]
    assert len(same) == len(sounds) and (not same or np.mean(same) > 0.95)


def test_what_is_damaged_from_the_start_is_not_left_out() -> None:
    data = harmed(clip("silent"), 0.0)
    assert "hold-pictures" not in {p.method for p in examine(data).repairs}
    with pytest.raises(RepairImpossible, match="nothing to leave out"):
        hold_pictures(Subject(Source.from_bytes(data)), None)


def test_without_a_damaged_picture_none_is_left_out() -> None:
    with pytest.raises(RepairImpossible, match="nothing to leave out"):
        hold_pictures(Subject(Source.from_bytes(clip("avc"))), None)
