"""WAVE, MP3 and FLAC against FFmpeg and arithmetic: healthy variety, damage in seconds, repairs that keep the time."""

from __future__ import annotations

import io
import struct
import wave
from pathlib import Path

import av
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examine, healthy
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.model.codes import FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Verdict
from jugal.samples import encode


def seconds(data: bytes) -> float:
    """How long FFmpeg plays it."""
    with av.open(io.BytesIO(data)) as file:
        return sum(f.samples / f.sample_rate for f in file.decode(audio=0))


def first_grave(found) -> int:  # type: ignore[no-untyped-def]
    return min(f.span.start for f in found.findings if f.span and f.severity in (Severity.MAJOR, Severity.FATAL))


def recording(values: np.ndarray, rate: int = 44100, width: int = 2) -> bytes:
    """A WAVE file of int ``values`` (frames, channels) by the standard library."""
    out = io.BytesIO()
    with wave.open(out, "wb") as file:
        file.setnchannels(values.shape[1])
        file.setsampwidth(width)
        file.setframerate(rate)
        raw = values.astype("<i4").tobytes()
        file.writeframes(b"".join(raw[k : k + width] for k in range(0, len(raw), 4)) if width < 4 else raw)
    return out.getvalue()


def tone(length: float, rate: int = 44100, channels: int = 2, level: float = 9000) -> np.ndarray:
    t = np.arange(int(length * rate)) / rate
    voices = [
        np.sin(2 * np.pi * (220 + 110 * c) * t) + 0.3 * np.sin(2 * np.pi * (733 + c) * t) for c in range(channels)
    ]
    return (level * np.stack(voices, axis=1)).astype(np.int32)


# --- healthy


@pytest.mark.parametrize("rate", [8000, 44100, 96000])
@pytest.mark.parametrize("channels", [1, 2, 6])
@pytest.mark.parametrize("width", [1, 2, 3])
def test_healthy_recordings_are_intact_whatever_their_form(rate: int, channels: int, width: int) -> None:
    values = tone(1.0, rate, channels)
    if width == 1:
        values = values // 128 + 128
    found = examine(recording(values, rate, width))
    assert found.verdict is Verdict.INTACT, [f.message for f in found.findings]
    assert found.media["duration"] == pytest.approx(1.0, abs=0.01)


@pytest.mark.parametrize("kind", ["silence", "fade", "clipped", "noise", "square", "gated"])
def test_odd_but_legal_sound_is_not_accused(kind: str) -> None:
    """Digital silence, hard clipping and speech gated to nothing are what recorders write."""
    base = tone(4.0)
    rng = np.random.default_rng(1)
    t = np.arange(base.shape[0])[:, None] / 44100
    values = {
        "silence": base * 0,
        "fade": (base * np.linspace(1, 0, base.shape[0])[:, None]).astype(np.int32),
        "clipped": np.clip(base * 9, -32768, 32767),
        "noise": rng.integers(-20000, 20000, base.shape),
        "square": np.where(base > 0, 12000, -12000),
        "gated": np.where(np.sin(2 * np.pi * 1.7 * t) > 0, base, 0),
    }[kind]
    found = examine(recording(values))
    assert found.verdict is Verdict.INTACT, [f.message for f in found.findings]


@pytest.mark.parametrize(("codec", "container"), [("libmp3lame", "mp3"), ("flac", "flac")])
@pytest.mark.parametrize("options", [{}, {"channels": 1}, {"seed": 3}], ids=str)
def test_healthy_coded_sound_is_intact_and_its_length_is_ffmpegs(
    codec: str, container: str, options: dict[str, int]
) -> None:
    data = encode.sound(codec, container, 3.0, **options)  # type: ignore[arg-type]
    found = examine(data)
    assert found.verdict is Verdict.INTACT, [f.message for f in found.findings]
    assert found.media["duration"] == pytest.approx(seconds(data), abs=0.1)


def test_further_chunks_around_the_sound_are_no_fault() -> None:
    """Broadcast, list and padding chunks (EBU Tech 3285, RIFF), odd sizes padded."""
    whole = recording(tone(1.0))
    body = whole[12:]
    extra = b"bext" + struct.pack("<I", 602) + bytes(602) + b"LIST" + struct.pack("<I", 5) + b"INFOx\0"
    junk = b"junk" + struct.pack("<I", 28) + bytes(28)
    data = b"RIFF" + struct.pack("<I", 4 + len(extra) + len(body) + len(junk)) + b"WAVE" + extra + body + junk
    assert seconds(data) == pytest.approx(1.0, abs=0.01)
    assert examine(data).verdict is Verdict.INTACT


# --- damaged


@pytest.mark.parametrize("name", ["wav", "wav-24"])
@pytest.mark.parametrize("size", [4096, 32768])
def test_a_cut_out_is_placed_and_scored_by_its_length(name: str, size: int) -> None:
    whole = healthy(name)
    at = len(whole) // 2 // 4096 * 4096
    found = examine(whole[:at] + bytes(size) + whole[at + size :])
    assert first_grave(found) == pytest.approx(at, abs=64)
    assert found.score == pytest.approx(100 * (1 - size / len(whole)), abs=1)


@settings(max_examples=30)
@given(part=st.floats(0.2, 0.95))
def test_a_cut_recording_scores_what_is_left(part: float) -> None:
    whole = healthy("wav")
    cut = whole[: int(len(whole) * part)]
    found = examine(cut)
    assert found.verdict is not Verdict.INTACT
    assert found.score == pytest.approx(100 * part, abs=1.5)
    assert first_grave(found) == pytest.approx(len(cut), abs=4)


def test_noise_to_the_end_is_foreign_and_noise_throughout_is_a_recording() -> None:
    values = tone(4.0, channels=1)
    whole = recording(values)
    noise = np.random.default_rng(2)
    at = int(len(whole) * 0.4) // 4096 * 4096
    found = examine(whole[:at] + noise.bytes(len(whole) - at))
    assert first_grave(found) == at and found.score == pytest.approx(100 * at / len(whole), abs=1)
    everything = recording(noise.integers(-32768, 32768, values.shape))
    assert examine(everything).verdict is Verdict.INTACT


@pytest.mark.parametrize("name", ["mp3", "flac"])
def test_lost_frames_cost_their_seconds_and_a_repair_plays(name: str, tmp_path: Path) -> None:
    whole = healthy(name)
    at, size = len(whole) // 2, 8192
    path = tmp_path / f"sick.{name}"
    path.write_bytes(whole[:at] + np.random.default_rng(3).bytes(size) + whole[at + size :])
    found = examine_file(path)
    # A frame begins before what is lost of it.
    assert -9000 < first_grave(found) - at <= 4096
    lost = 100 * size / len(whole)
    assert found.score is not None and abs(found.score - (100 - lost)) < lost + 6
    outcome = repair_file(found, tmp_path / "out", [])
    assert outcome.output is not None, outcome.error
    mended = Path(outcome.output).read_bytes()
    assert examine(mended).score is not None and (outcome.score_after or 0) >= (found.score or 0) - 1
    length = seconds(mended)
    assert length == pytest.approx(seconds(whole), abs=0.1 + 0.02 * lost * seconds(whole))


def test_flac_keeps_its_time_across_lost_frames(tmp_path: Path) -> None:
    """Silence takes the place of what is lost (RFC 9639: frames are numbered), so that the end stays where it was."""
    whole = healthy("flac")
    at = len(whole) // 3
    path = tmp_path / "sick.flac"
    path.write_bytes(whole[:at] + bytes(6000) + whole[at + 6000 :])
    outcome = repair_file(examine_file(path), tmp_path / "out", [])
    assert outcome.output is not None, outcome.error

    def values(data: bytes) -> np.ndarray:
        with av.open(io.BytesIO(data)) as file:
            return np.concatenate([f.to_ndarray().reshape(-1) for f in file.decode(audio=0)])

    right, mended = values(whole), values(Path(outcome.output).read_bytes())
    tail = min(right.size, mended.size) // 5
    assert abs(right.size - mended.size) < 0.02 * right.size
    assert np.array_equal(right[-tail:], mended[-tail:])


@settings(max_examples=60)
@given(data=st.data(), name=st.sampled_from(["wav", "mp3", "flac"]))
def test_any_bytes_in_sound_give_a_verdict_and_places_inside(data: st.DataObject, name: str) -> None:
    whole = healthy(name)
    at = data.draw(st.integers(0, len(whole) - 1))
    new = data.draw(st.binary(min_size=1, max_size=200))
    sick = (whole[:at] + new + whole[at + len(new) :])[: data.draw(st.integers(1, len(whole)))]
    found = examine(sick)
    assert found.error is None
    assert all(f.span is None or 0 <= f.span.start <= f.span.end <= len(sick) for f in found.findings)
    assert found.score is None or 0 <= found.score <= (found.attainable or 0) <= 100


def test_a_stopped_recorder_leaves_sizes_of_zero_and_they_are_filled_in(tmp_path: Path) -> None:
    whole = healthy("wav")
    at = whole.find(b"data")
    sick = bytearray(whole)
    sick[4:8] = bytes(4)
    sick[at + 4 : at + 8] = bytes(4)
    path = tmp_path / "sick.wav"
    path.write_bytes(bytes(sick))
    found = examine_file(path)
    assert FindingCode.WAV_SIZE in {f.code for f in found.findings}
    outcome = repair_file(found, tmp_path / "out", [], "fix-sizes")
    assert outcome.output is not None and Path(outcome.output).read_bytes() == whole


@pytest.mark.parametrize("mark", [b"Xing", b"Info", b"VBRI"])
def test_a_count_cut_off_by_the_end_of_the_file_is_no_count(mark: bytes) -> None:
    """The frame that states how many follow may be the last thing that is left."""
    data = healthy("mp3")
    first = data.find(b"Xing") if b"Xing" in data[:4096] else data.find(b"Info")
    start = data.rfind(b"\xff\xfb", 0, first)
    whole = data[start : start + 4000]
    for cut in range(first - start, first - start + 20):
        sick = whole[: first - start] + mark + whole[first - start + 4 :]
        found = examine(sick[:cut])
        assert not any(f.code is FindingCode.EXAMINER for f in found.findings)
    # Cut inside the frame of the count there is no sound at all.
    assert not any(f.code is FindingCode.EXAMINER for f in examine(whole[:60]).findings)
