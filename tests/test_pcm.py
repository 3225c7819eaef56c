"""Damage in uncompressed sound, in WAVE files and in movies: what is cut out, overwritten or noise, and how much of it."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest
from bench.measure import share

from conftest import examine
from jugal.binary.output import OutputRefused
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats import pcm
from jugal.formats.base import Subject
from jugal.formats.isobmff.movie import read_movie
from jugal.model.codes import FindingCode
from jugal.model.result import Verdict
from jugal.model.span import ByteSpan
from jugal.samples import encode


def sound_of(width: int, channels: int, order: str, loudness: float = 0.3, seconds: float = 2.0) -> bytes:
    """A swelling tone with a little noise over it."""
    rng = np.random.default_rng(width + channels)
    count = int(seconds * 48_000)
    wave = np.sin(np.arange(count) * 0.02) * loudness * (0.6 + 0.4 * np.sin(np.arange(count) * 0.0004))
    wave = np.repeat(wave[:, None] + rng.normal(0, 0.01 * loudness, (count, 1)), channels, 1)
    whole = (np.clip(wave, -1, 1) * (2 ** (8 * width - 1) - 256)).astype("<i4").view(np.uint8).reshape(-1, 4)[:, :width]
    return np.ascontiguousarray(whole if order == "little" else whole[:, ::-1]).tobytes()


def look(data: bytes, form: pcm.Form, at: int = 0) -> tuple[list[ByteSpan], list[ByteSpan], list[ByteSpan]]:
    subject = Subject(Source.from_bytes(data))
    sound = [ByteSpan(at, at + (len(data) - at) // form.frame * form.frame)]
    return pcm.cut_outs(subject, form, sound), pcm.foreign(subject, sound), pcm.noise_bursts(subject, form, sound)


FORMS = [(w, c, o) for w in (2, 3, 4) for c in (1, 2) for o in ("little", "big")]


@pytest.mark.parametrize(("width", "channels", "order"), FORMS)
def test_each_kind_of_damage_is_told_in_every_form(width: int, channels: int, order: str) -> None:
    form = pcm.Form(width, channels, order)
    data = b"header" + sound_of(width, channels, order)
    assert look(data, form, 6) == ([], [], [])
    place = 20 * 4096
    rng = np.random.default_rng(1)
    for filler, kind in (
        (bytes(4096), 0),
        (b"\xff" * 4096, 0),
        ((b"The ford was closed after the rain. " * 200)[:4096], 1),
        (rng.integers(0, 256, 4096, np.uint8).tobytes(), 2),
    ):
        found = look(data[:place] + filler + data[place + 4096 :], form, 6)
        assert [s for s in found[kind] if s.start <= place + 8 and s.end >= place + 4088], (kind, found)
        assert all(abs(s.start - place) <= 8 and abs(s.end - place - 4096) <= 8 for s in found[kind])


@pytest.mark.parametrize(("width", "channels", "order"), FORMS)
def test_silence_loud_noise_and_clipping_are_legal(width: int, channels: int, order: str) -> None:
    form = pcm.Form(width, channels, order)
    frames = 8 * 4096 // form.frame * form.frame
    tone, loud = sound_of(width, channels, order), sound_of(width, channels, order, loudness=4.0)
    faded = tone[:frames] + bytes(frames) + tone[frames:]
    assert look(faded, form)[1:] == ([], []) and not look(bytes(frames) + tone + bytes(frames), form)[0]
    odd = tone[: frames + form.frame * 100] + bytes(9000 // form.frame * form.frame) + tone[frames:]
    assert look(odd, form)[0] == [], "silence that begins where it likes was meant"
    noise = np.random.default_rng(2).integers(0, 256, 40 * frames // form.frame * form.frame, np.uint8).tobytes()
    assert look(noise, form)[2] == [], "noise throughout is what was recorded"
    assert look(loud, form)[2] == []


@pytest.mark.parametrize(("width", "channels", "order"), FORMS)
def test_one_sector_of_random_bytes_is_told(width: int, channels: int, order: str) -> None:
    form = pcm.Form(width, channels, order)
    data = b"header" + sound_of(width, channels, order, loudness=0.15)
    place = 20 * 4096 + 3 * 512
    noise = np.random.default_rng(4).integers(0, 256, 512, np.uint8).tobytes()
    assert look(data[:place] + noise + data[place + 512 :], form, 6)[2] == [ByteSpan(place, place + 512)]
    high = np.sin(np.arange(256) * 2.2)[:, None] * np.ones(channels) * (2 ** (8 * width - 1) - 256)
    burst = high.astype("<i4").view(np.uint8).reshape(-1, 4)[:, :width]
    tone = np.ascontiguousarray(burst if order == "little" else burst[:, ::-1]).tobytes()[:512]
    begin = 6 + (place - 6) // form.frame * form.frame
    assert look(data[:begin] + tone + data[begin + len(tone) :], form, 6)[2] == [], "a shrill sound is a sound"


def test_values_that_are_no_whole_numbers_are_not_taken_for_noise() -> None:
    form = pcm.Form(4, 2, "little", pcm.Coding.OTHER)
    data = np.random.default_rng(3).normal(0, 0.2, 60_000).astype("<f4").tobytes()
    assert look(data, form) == ([], [], [])


@cache
def movie(codec: str, video: str = "libx264") -> bytes:
    return encode.clip(3.0, container="mov", video=video, audio=codec, seed=21)


def a_cluster_of_sound(data: bytes) -> int:
    """A place on a sector where only sound is kept for as long as possible."""
    track = next(t for t in read_movie(Subject(Source.from_bytes(data))).tracks if t.kind == "audio")
    order = np.argsort(-track.sizes)
    at = int(track.offsets[order[len(order) // 3]])
    return -(-at // 512) * 512


def sound_until(data: bytes, at: int) -> int:
    """Where the chunk ends that holds the byte at ``at``."""
    track = next(t for t in read_movie(Subject(Source.from_bytes(data))).tracks if t.kind == "audio")
    inside = (track.offsets <= at) & (track.offsets + track.sizes > at)
    return int((track.offsets + track.sizes)[inside][0]) if inside.any() else at


@pytest.mark.parametrize("codec", ["pcm_s16le", "pcm_s16be", "pcm_s24le", "pcm_s24be"])
@pytest.mark.parametrize("filler", ["zeros", "ones", "noise"])
def test_in_a_movie_only_what_is_hit_of_a_chunk_counts_as_lost(codec: str, filler: str) -> None:
    data = movie(codec)
    assert examine(data, "a.mov").verdict is Verdict.INTACT
    at = a_cluster_of_sound(data)
    size = 2048
    new = {"zeros": bytes(size), "ones": b"\xff" * size, "noise": np.random.default_rng(4).bytes(4 * size)}[filler]
    if filler == "noise":
        at = -(-at // 4096) * 4096
        new = new[: sound_until(data, at) - at]
    harmed = data[:at] + new + data[at + len(new) :]
    found = examine(harmed, "a.mov")
    truth = share("mov", data, harmed)
    assert found.verdict is Verdict.DAMAGED and truth is not None
    assert found.score == pytest.approx(truth, abs=4)
    first = next(f for f in found.findings if f.code in (FindingCode.MP4_HOLE, FindingCode.MP4_SAMPLE))
    assert first.span is not None and abs(first.span.start - at) <= 4096


@pytest.mark.parametrize("video", ["mjpeg", "prores_ks"])
def test_a_lost_cluster_among_marked_frames_moves_the_offsets_back(video: str, tmp_path) -> None:  # type: ignore[no-untyped-def]
    data = movie("pcm_s16le", video)
    at = len(data) // 2 // 4096 * 4096
    path = tmp_path / "a.mov"
    path.write_bytes(data[:at] + data[at + 4096 :])
    found = examine_file(path)
    outcome = repair_file(found, tmp_path / "out")
    assert outcome.output is not None and outcome.score_after is not None and outcome.method is not None
    assert outcome.method == "fix-offsets", "it closes the boxes as well"
    assert [p.name for p in (tmp_path / "out").iterdir()] == ["a.mov"]
    assert found.attainable == pytest.approx(outcome.score_after, abs=3)
    only = repair_file(found, tmp_path / "only", method="fix-boxes", rounds=1)
    assert only.method == "fix-boxes" and (only.score_after or 0) < 70, "one round is one repair"
    with open(outcome.output, "rb") as stream:
        truth = share("mov", data, stream.read())
    assert truth is not None and truth > 90 and abs(outcome.score_after - truth) < 5


def test_what_cannot_be_repaired_further_keeps_its_first_repair(tmp_path, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    """No room for a scratch folder costs the second repair only, never the result of the first."""
    data = movie("pcm_s16le", "mjpeg")
    at = len(data) // 2 // 4096 * 4096
    path = tmp_path / "a.mov"
    path.write_bytes(data[:at] + data[at + 4096 :])

    def refuse(into):  # type: ignore[no-untyped-def]
        raise OutputRefused("There is no space left.")

    monkeypatch.setattr("jugal.engine.repair.scratch_folder", refuse)
    outcome = repair_file(examine_file(path), tmp_path / "out", method="fix-boxes")
    assert outcome.method == "fix-boxes" and outcome.output is not None and (outcome.score_after or 0) > 30
    assert [p.name for p in (tmp_path / "out").iterdir()] == ["a.mov"]


# ---------------------------------------------------------------- clusters that stand twice


def repeats(data: bytes, form: pcm.Form) -> list[ByteSpan]:
    return pcm.repeats(Subject(Source.from_bytes(data)), form, ByteSpan(0, len(data) // form.frame * form.frame))


@pytest.mark.parametrize(
    ("width", "channels", "order"), [(2, 1, "little"), (2, 2, "little"), (2, 2, "big"), (4, 1, "little")]
)
def test_a_cluster_that_stands_again_elsewhere_is_found(width: int, channels: int, order: str) -> None:
    form = pcm.Form(width, channels, order)
    data = sound_of(width, channels, order)
    assert repeats(data, form) == []
    found = 0
    for number, (source, place) in enumerate([(5, 20), (11, 30), (25, 9), (33, 14)]):
        copy = data[source * 4096 : (source + 1 + number % 2) * 4096]
        spans = repeats(data[: place * 4096] + copy + data[place * 4096 + len(copy) :], form)
        assert len(spans) <= 1
        found += spans == [ByteSpan(place * 4096, place * 4096 + len(copy))]
    assert found >= 3, "steps at both borders tell which of two is the copy"


def test_a_cluster_that_follows_itself_is_found_without_a_step() -> None:
    data = sound_of(2, 2, "little")
    again = data[: 20 * 4096] + data[19 * 4096 : 20 * 4096] + data[20 * 4096 :]
    assert repeats(again, pcm.Form(2, 2)) == [ByteSpan(20 * 4096, 21 * 4096)]


def test_what_is_made_of_loops_and_tones_is_not_accused() -> None:
    """Tones come round within a cluster or some, loops go on for long, a drum's strokes have no step at their borders."""
    rng = np.random.default_rng(8)
    count = np.arange(96_000)
    tone = (12_000 * np.sin(2 * np.pi * count / 48)).astype("<i2")
    bar = rng.normal(0, 3000, 64 * 2048).astype("<i2")
    loops = np.concatenate([bar, bar, bar])
    stroke = (
        rng.normal(0, 9000, 3 * 2048) * np.exp(-np.arange(3 * 2048) / 900.0) * np.minimum(1, np.arange(3 * 2048) / 400)
    )
    drums = rng.normal(0, 2.0, 80 * 2048)
    for at in (8, 24, 40, 56):
        drums[at * 2048 : at * 2048 + stroke.size] = stroke
    for values in (tone, loops, drums.astype("<i2"), np.zeros(64_000, "<i2")):
        assert repeats(values.tobytes(), pcm.Form(2, 1)) == []


def test_a_second_standing_is_told_in_the_file() -> None:
    data = encode.wav(4.0)
    at = len(data) // 2 // 4096 * 4096
    found = examine(data[:at] + data[at - 4096 : at] + data[at:])
    first = next(f for f in found.findings if f.code is FindingCode.WAV_FOREIGN)
    assert first.span is not None and first.span.start == at and "second time" in first.message
    assert examine(data).verdict is Verdict.INTACT
