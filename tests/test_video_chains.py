"""Video told by its own units where no box of the movie is left."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from conftest import examine
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.detect import detect
from jugal.formats.isobmff.chains import has_planes, video_share
from jugal.formats.isobmff.video import AvcStream, HevcStream
from jugal.model.result import RepairStatus
from jugal.samples import encode

MUX = {"movflags": "frag_keyframe+empty_moov+default_base_moof"}


def media_data(data: bytes) -> bytes:
    """What lies in the first media data box, without its header."""
    at = data.index(b"mdat") - 4
    return data[at + 8 : at + int.from_bytes(data[at : at + 4], "big")]


@pytest.mark.parametrize("video", ["libx264", "libx265"])
def test_units_one_behind_the_other_are_video(video: str) -> None:
    options = {"x265-params": "log-level=none:keyint=250"} if video == "libx265" else {"x264-params": "keyint=250"}
    data = media_data(encode.clip(3.0, (192, 108), seed=3, video=video, audio=None, options=options, mux=MUX))
    own, other = (AvcStream, HevcStream) if video == "libx264" else (HevcStream, AvcStream)
    assert video_share(Source.from_bytes(data), own) > 0.95
    assert video_share(Source.from_bytes(bytes(9000) + data[500:]), own) > 0.5
    assert video_share(Source.from_bytes(data), other) < 0.5
    found = detect(Source.from_bytes(data))
    assert found is not None and found.format == "mp4"


@pytest.mark.parametrize("kind", ["noise", "small numbers", "rising numbers", "zeros", "little"])
def test_other_bytes_are_no_video(kind: str) -> None:
    rng = np.random.default_rng(1)
    data = {
        "noise": rng.integers(0, 256, 1 << 21, dtype=np.uint8).tobytes(),
        "small numbers": rng.integers(0, 200, 1 << 18).astype(">u4").tobytes(),
        "rising numbers": np.cumsum(rng.integers(0, 9, 1 << 18)).astype(">u4").tobytes(),
        "zeros": bytes(1 << 16),
        "little": b"\0\0\0\x09\x65",
    }[kind]
    source = Source.from_bytes(data)
    assert video_share(source, AvcStream) == video_share(source, HevcStream) == 0.0 and not has_planes(source)


def test_sound_and_photos_are_no_video(tmp_path: Path) -> None:
    for data in (
        encode.clip(3.0, (192, 108), container="mov", video="mjpeg", audio="pcm_s16le"),
        encode.clip(2.0, (192, 108), container="mov", video="prores_ks", audio="pcm_s24le"),
    ):
        source = Source.from_bytes(media_data(data))
        assert video_share(source, AvcStream) == video_share(source, HevcStream) == 0.0 and not has_planes(source)


def test_planes_of_visual_objects_are_video() -> None:
    data = media_data(encode.clip(3.0, (192, 108), seed=3, video="mpeg4", bit_rate=400_000))[4096:]
    source = Source.from_bytes(data)
    found = detect(source)
    assert has_planes(source) and found is not None and found.format == "mp4"
    assert not has_planes(Source.from_bytes(b"\0\0\1\xba" + data)), "a program stream is another format"


def test_a_clip_of_which_only_units_are_left_is_put_together_with_a_donor(tmp_path: Path) -> None:
    options = {"x264-params": "keyint=10:bframes=0"}
    healthy = encode.clip(4.0, (192, 108), seed=3, audio=None, options=options, mux=MUX)
    begin = healthy.index(b"mdat") + 4
    path, donor = tmp_path / "clip.mp4", tmp_path / "other.mp4"
    path.write_bytes(healthy[begin + 40 :])
    donor.write_bytes(encode.clip(2.0, (192, 108), seed=8, audio=None, options=options, mux=MUX))
    found = examine_file(path)
    assert found.format == "mp4" and found.score == 0.0 and (found.attainable or 0) > 80
    outcome = repair_file(found, tmp_path / "out", [examine_file(donor)])
    assert outcome.status is RepairStatus.REPAIRED and outcome.score_after is not None and outcome.score_after > 80


def test_the_index_of_fragments_at_the_end_tells_of_a_movie() -> None:
    """8.8.9; one single fragment whose own index is lost."""
    data = encode.clip(2.0, (192, 108), seed=3, mux={"movflags": "frag_keyframe+empty_moov+default_base_moof"})
    assert data[-12:-8] == b"mfro"
    found = examine(data[data.rindex(b"moof") + 900 :], "clip.bin")
    assert found.format == "mp4"
