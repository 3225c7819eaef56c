"""A lost movie index comes back: every frame the same and at the right time, by an independent decoder."""

from __future__ import annotations

import struct
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from bench.measure import share

from conftest import subject_of
from jugal.binary.output import write_pieces
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import RepairImpossible
from jugal.formats.isobmff.lanes import PcmLane
from jugal.formats.isobmff.movie import read_movie
from jugal.formats.isobmff.rebuild import _without_shape, media_span, rebuild_index, rebuild_index_in_front
from jugal.model.result import Verdict
from jugal.samples import encode

X265 = {"x265-params": "log-level=none"}
SETTINGS: dict[str, dict] = {
    "avc": {},
    "avc-slices": {"options": {"bf": "0", "slices": "4"}},
    "avc-open-gop": {"options": {"x264-params": "open-gop=1:keyint=25:bframes=3"}},
    "avc-interlaced": {"options": {"x264-params": "tff=1:interlaced=1:no-deblock=1"}},
    "avc-60": {"rate": 60},
    "avc-silent": {"audio": None},
    "hevc": {"video": "libx265", "options": X265},
    "hevc-no-b": {"video": "libx265", "options": {"x265-params": "log-level=none:bframes=0"}},
    "mov-pcm": {"container": "mov", "audio": "pcm_s16le"},
    "mov-pcm24": {"container": "mov", "audio": "pcm_s24be"},
    "mjpeg": {"container": "mov", "video": "mjpeg", "audio": "pcm_s16le"},
    "prores": {"container": "mov", "video": "prores_ks", "audio": "pcm_s16le"},
    "mpeg4": {"video": "mpeg4"},
    "two-sounds": {"sounds": 2},
}
FRAGMENTED = {"mux": {"movflags": "frag_keyframe+empty_moov+default_base_moof"}}


@cache
def made(name: str, seed: int, seconds: float) -> bytes:
    settings = FRAGMENTED if name == "fragmented" else SETTINGS[name]
    return encode.clip(seed=seed, seconds=seconds, **settings)


@cache
def recording(name: str) -> bytes:
    return made(name, 31, 3.0)


def written(data: bytes, donor: bytes, repair=rebuild_index) -> tuple[bytes, float, tuple[str, ...]]:  # type: ignore[no-untyped-def]
    import io

    subject = subject_of(data)
    draft = repair(subject, subject_of(donor))
    out = io.BytesIO()
    write_pieces(out, draft.pieces, subject.source)
    return out.getvalue(), draft.kept, draft.steps


def without_index(data: bytes) -> bytes:
    return data[: data.find(b"moov") - 4]


def media(data: bytes) -> tuple[int, int]:
    """Where the media data's content begins and ends."""
    at = data.find(b"mdat") - 4
    return at + 8, at + int.from_bytes(data[at : at + 4], "big")


def kind_of(name: str) -> str:
    return SETTINGS.get(name, {}).get("container", "mp4")


@pytest.mark.parametrize("name", SETTINGS)
def test_index_cut_off(name: str) -> None:
    original = recording(name)
    rebuilt, kept, _ = written(without_index(original), made(name, 32, 2.0))
    assert share(kind_of(name), original, rebuilt) >= 98
    assert kept >= 99


@pytest.mark.parametrize("name", ["avc", "hevc", "mov-pcm"])
@pytest.mark.parametrize("size", [0, 8, 1])
def test_placeholder_in_the_media_header(name: str, size: int) -> None:
    original = without_index(recording(name))
    at = original.find(b"mdat") - 4
    stopped = original[:at] + struct.pack(">I", size) + original[at + 4 :]
    rebuilt, _, _ = written(stopped, made(name, 32, 2.0))
    assert share(kind_of(name), recording(name), rebuilt) >= 98


def test_preallocated_tail_of_zeros() -> None:
    original = recording("avc")
    rebuilt, _, _ = written(without_index(original) + bytes(400_000), made("avc", 32, 2.0))
    assert share("mp4", original, rebuilt) >= 98
    assert len(rebuilt) < len(original) + 4096


@pytest.mark.parametrize("name", ["avc", "avc-slices", "avc-60", "hevc", "mov-pcm", "mjpeg"])
def test_hole_keeps_the_time_of_what_follows(name: str) -> None:
    original = recording(name)
    begin, end = media(original)
    at = (begin + (end - begin) // 2) // 4096 * 4096
    holed = without_index(original[:at] + bytes(4096) + original[at + 4096 :])
    rebuilt, kept, _ = written(holed, made(name, 32, 2.0))
    truth = share(kind_of(name), original, rebuilt)
    assert truth is not None and truth >= 70
    assert abs(truth - kept) < 12


def test_chunks_of_other_kinds_between_samples_are_stepped_over() -> None:
    """Telemetry between the chunks costs neither frames nor time."""
    original = recording("avc")
    movie = read_movie(subject_of(original))
    video = movie.tracks[0]
    starts = sorted(int(c) for c in video.chunk_offsets[1:])
    rng = np.random.default_rng(5)
    parts, at = [], 0
    for start in starts[::7]:
        parts += [original[at:start], b"telemetry" + bytes(rng.integers(0x30, 0x7A, 300, dtype=np.uint8))]
        at = start
    parts.append(without_index(original)[at:])
    rebuilt, kept, steps = written(b"".join(parts), made("avc", 32, 2.0))
    assert share("mp4", original, rebuilt) >= 98
    assert kept >= 99
    assert any("Stepped over" in step for step in steps)


def test_index_in_front_can_be_had() -> None:
    original = recording("avc")
    rebuilt, _, _ = written(without_index(original), made("avc", 32, 2.0), rebuild_index_in_front)
    assert rebuilt.find(b"moov") < rebuilt.find(b"mdat")
    assert share("mp4", original, rebuilt) >= 98


def test_fragments_borrow_a_header() -> None:
    original = made("fragmented", 31, 3.0)
    at = original.find(b"moov") - 4
    size = int.from_bytes(original[at : at + 4], "big")
    headless = original[:at] + bytes(size) + original[at + size :]
    rebuilt, _, _ = written(headless, made("fragmented", 32, 2.0))
    assert share("mp4", original, rebuilt) >= 98


def test_the_donors_dates_and_places_are_not_taken() -> None:
    donor = bytearray(made("avc", 32, 2.0))
    for kind in (b"mvhd", b"tkhd", b"mdhd"):
        at = -1
        while (at := bytes(donor).find(kind, at + 1)) >= 0:
            donor[at + 8 : at + 16] = struct.pack(">II", 3_800_000_000, 3_800_000_000)
    rebuilt, _, _ = written(without_index(recording("avc")), bytes(donor))
    assert struct.pack(">I", 3_800_000_000) not in rebuilt
    assert b"udta" not in rebuilt[rebuilt.find(b"moov") :]


def test_cut_recording_keeps_what_is_there_and_says_how_much() -> None:
    original = recording("avc")
    begin, end = media(original)
    cut = original[: begin + (end - begin) // 3]
    rebuilt, kept, _ = written(cut, made("avc", 32, 2.0))
    truth = share("mp4", original, rebuilt)
    assert truth is not None and abs(truth - kept) < 5


@pytest.mark.parametrize(
    ("damaged", "donor"),
    [("avc", "mov-pcm24"), ("avc", "mov-pcm"), ("avc-60", "mov-pcm24"), ("hevc", "avc"), ("prores", "avc")],
)
def test_a_donor_of_another_kind_is_refused_or_says_what_is_missing(damaged: str, donor: str) -> None:
    data = without_index(recording(damaged))
    try:
        rebuilt, kept, _ = written(data, made(donor, 32, 2.0))
    except RepairImpossible as refusal:
        assert str(refusal).endswith(".")
    else:
        truth = share(kind_of(damaged), recording(damaged), rebuilt) or 0.0
        assert kept <= truth + 12


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("width", [2, 3])
def test_coded_sound_is_no_uncompressed_sound(seed: int, width: int) -> None:
    """Coded sound fills every byte evenly; the loudest music, clipped and all, does not."""
    rng = np.random.default_rng(seed)
    loud = np.clip(rng.normal(0, 0.5, (16_000, 2)), -1, 1) * (2 ** (8 * width - 1) - 1)
    music = np.ascontiguousarray(loud.astype("<i4")).view(np.uint8).reshape(-1, 4)[:, :width].ravel()
    lane = PcmLane(2 * width, (4096,), 8192)
    lane.found.add(0, music.size)
    assert not _without_shape(music, lane)
    assert _without_shape(rng.integers(0, 256, music.size, dtype=np.uint8), lane)
    short = PcmLane(2 * width, (4096,), 8192)
    short.found.add(0, 4096)
    assert not _without_shape(rng.integers(0, 256, 4096, dtype=np.uint8), short), "too little to say"


def test_without_a_donor_it_is_refused() -> None:
    with pytest.raises(RepairImpossible, match="healthy file"):
        rebuild_index(subject_of(without_index(recording("avc"))), None)


def test_noise_is_no_movie() -> None:
    noise = struct.pack(">I4s", 300_008, b"mdat") + np.random.default_rng(1).bytes(300_000)
    with pytest.raises(RepairImpossible):
        rebuild_index(subject_of(noise), subject_of(made("avc", 32, 2.0)))


def test_media_span_ends_before_the_zeros() -> None:
    data = without_index(recording("avc"))
    span = media_span(subject_of(data + bytes(65_536)))
    assert span.start == media(recording("avc"))[0]
    assert len(data) <= span.end <= len(data) + 1024


def test_media_span_ends_before_the_rest_of_an_index() -> None:
    """Tables of an index that is cut read as a sample here and there."""
    data = recording("avc")
    index = data.rindex(b"moov") - 4
    assert index > media(data)[0]
    assert media_span(subject_of(data[: index + 2000])).end == index
    front = encode.clip(seed=31, seconds=1.0, mux={"movflags": "faststart"})
    assert media_span(subject_of(front)).end == len(front)


def test_a_cut_or_holed_index_is_rebuilt_too(tmp_path: Path) -> None:
    """The index was written, but its end is lost, or sectors in its tables are."""
    original = recording("avc-60")
    at = original.find(b"moov") - 4
    (tmp_path / "donor.mp4").write_bytes(made("avc-60", 32, 2.0))
    donor = examine_file(tmp_path / "donor.mp4")
    hole = original.find(b"stsz", at) + 600
    for name, data in {
        "cut": original[: at + (len(original) - at) // 2],
        "holed": original[:hole] + bytes(1024) + original[hole + 1024 :],
    }.items():
        path = tmp_path / f"{name}.mp4"
        path.write_bytes(data)
        found = examine_file(path)
        assert found.verdict is Verdict.REPAIRABLE
        outcome = repair_file(found, tmp_path / "out", [donor])
        assert outcome.method == "rebuild-index" and outcome.output is not None
        assert (share("mp4", original, Path(outcome.output).read_bytes()) or 0) >= 98
