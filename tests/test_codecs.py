"""Codecs of recorders and editors in MOV: ProRes by its slices, sound by its entry, black that is no hole."""

from __future__ import annotations

import struct
import tempfile
from functools import cache
from pathlib import Path

import av
import numpy as np
import pytest

from conftest import examine
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.sound import SoundEntry, read_sound
from jugal.formats.isobmff.tables import Track, _chunks_as_samples
from jugal.kernels.prores import frame_fault
from jugal.model.codes import FindingCode
from jugal.model.result import Verdict
from jugal.samples import encode
from jugal.samples.scenes import river_frame, river_sound


def written(video: str | None, pixels: str, sound: str | None, black: bool = False, options: dict[str, str] | None = None) -> bytes:  # fmt: skip
    """A second of picture or sound as MOV; ``black`` is black and silent."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "take.mov"
        with av.open(str(path), "w", format="mov") as file:
            picture = track = None
            if video:
                picture = file.add_stream(video, rate=25, options=options or {})
                picture.width, picture.height, picture.pix_fmt = 320, 192, pixels
            if sound:
                track = file.add_stream(sound, rate=48000)
                track.layout = "mono" if "adpcm" in sound or sound == "pcm_s8" else "stereo"
            for number in range(25 if picture else 0):
                rows = np.zeros((192, 320, 3), np.uint8) if black else river_frame(320, 192, number, 3)
                frame = av.VideoFrame.from_ndarray(rows, format="rgb24")
                frame.pts = number
                file.mux(picture.encode(frame))
            if picture:
                file.mux(picture.encode(None))
            if track:
                channels = len(track.layout.channels)
                values = np.rint(river_sound(1.0, 48000, channels, 4) * (0 if black else 12000)).astype(np.int16)
                frame = av.AudioFrame.from_ndarray(
                    np.ascontiguousarray(values.reshape(1, -1)), "s16", track.layout.name
                )
                frame.sample_rate, frame.pts = 48000, 0
                file.mux(track.encode(frame))
                file.mux(track.encode(None))
        return path.read_bytes()


@cache
def prores(pixels: str = "yuv422p10le", interlaced: bool = False, black: bool = False) -> bytes:
    options = {"flags": "+ildct+ilme"} if interlaced else {}
    if pixels.startswith("yuva"):
        options["profile"] = "4"
    return written("prores_ks", pixels, "pcm_s16le", black, options)


def frames(data: bytes) -> list[tuple[int, int]]:
    """(start, end) of each frame, by its mark and the size before it."""
    found, at = [], data.find(b"icpf")
    while at >= 4:
        size = int.from_bytes(data[at - 4 : at], "big")
        found.append((at - 4, at - 4 + size))
        at = data.find(b"icpf", at - 4 + size)
    return found


@pytest.mark.parametrize("pixels", ["yuv422p10le", "yuv444p10le", "yuva444p10le"])
@pytest.mark.parametrize("interlaced", [False, True])
def test_slices_of_healthy_frames_lead_to_their_end(pixels: str, interlaced: bool) -> None:
    data = prores(pixels, interlaced)
    array = np.frombuffer(data, np.uint8)
    places = frames(data)
    assert len(places) == 25
    assert all(frame_fault(array, start, end) == -1 for start, end in places)
    assert examine(data).verdict is Verdict.INTACT


@pytest.mark.parametrize("kind", ["noise", "zeros", "lost"])
@pytest.mark.parametrize("number", [3, 17])
def test_a_frame_with_a_broken_slice_is_found_where_it_lies(kind: str, number: int) -> None:
    data = prores()
    start, end = frames(data)[number]
    at = start + (end - start) // 2 + 77
    noise = np.random.default_rng(number).bytes(6000)
    patch = {"noise": noise, "zeros": bytes(6000), "lost": data[at + 300 : at + 6300]}[kind]
    sick = data[:at] + patch[: end - at - 10] + data[at + len(patch[: end - at - 10]) :]
    found = examine(sick)
    assert any(f.code in (FindingCode.MP4_SAMPLE, FindingCode.MP4_HOLE) for f in found.findings)
    assert found.score is not None and found.score == pytest.approx(98, abs=2)
    assert min(abs(f.span.start - at) for f in found.findings if f.span) <= 4096


def test_frames_of_a_makers_own_kind_are_not_accused() -> None:
    """Where no frame's slices can be followed, nothing is known about them."""
    data = bytearray(prores())
    for start, _ in frames(bytes(data)):
        head = 8 + int.from_bytes(data[start + 8 : start + 10], "big")
        data[start + head] = 1 << 3
    assert not any(f.code is FindingCode.MP4_SAMPLE for f in examine(bytes(data)).findings)


@pytest.mark.parametrize(
    ("video", "pixels"),
    [("prores_ks", "yuv422p10le"), ("qtrle", "rgb24"), ("v210", "yuv422p10le"), ("png", "rgb24"), ("mjpeg", "yuvj420p"), ("mpeg4", "yuv420p"), ("libx264", "yuv420p")],
)  # fmt: skip
def test_black_and_silence_are_no_holes(video: str, pixels: str) -> None:
    data = written(video, pixels, "pcm_s16le", black=True)
    found = examine(data)
    assert found.verdict is Verdict.INTACT and found.score == 100, [f.message for f in found.findings]


def test_a_filled_cluster_in_unknown_frames_is_still_found() -> None:
    data = written("png", "rgb24", None)
    at = len(data) // 2 // 4096 * 4096
    found = examine(data[:at] + bytes(8192) + data[at + 8192 :])
    assert any(f.code is FindingCode.MP4_HOLE and f.span and f.span.start == at for f in found.findings)


@pytest.mark.parametrize("sound", ["pcm_s8", "pcm_u8", "pcm_s16be", "pcm_s24le", "pcm_s32be", "pcm_f32le", "pcm_alaw", "adpcm_ima_qt"])  # fmt: skip
def test_sound_takes_the_room_that_its_entry_says(sound: str) -> None:
    """Eight bits in an entry that mostly means sixteen, and packets counted by the values in them."""
    found = examine(written(None, "", sound))
    assert found.verdict is Verdict.INTACT and found.score == 100, [f.message for f in found.findings]


def test_the_sound_entry_of_linear_pcm_is_read() -> None:
    head = struct.pack(">I4s6xH", 72, b"lpcm", 1) + struct.pack(">HHI4HI", 2, 0, 0, 3, 16, 0xFFFE, 0, 0x10000)
    entry = head + struct.pack(">IdIIIIII", 72, 96000.0, 4, 0x7F000000, 24, 4 | 2, 12, 1)
    sound = read_sound(entry)
    assert (sound.channels, sound.sample_rate, sound.value_bytes, sound.byte_order) == (4, 96000.0, 3, "big")
    assert sound.signed and (sound.packet_bytes, sound.packet_samples) == (12, 1)
    assert read_sound(entry[:30]).channels == 0


def test_packets_take_the_room_of_their_values() -> None:
    """Chunks whose samples are counted value by value, though packets of 2,036 values take 1,024 bytes."""
    track = Track(Box(b"trak", 0, 8, 8), codec=b"ms\0\2", sound=SoundEntry(1, 48000.0, 0, "little", False, 1024, 2036))
    track.chunk_offsets = np.array([100, 9000], np.int64)
    _chunks_as_samples(track, np.array([4072, 3000]), 1, np.array([[7072, 1]]))
    assert track.sizes.tolist() == [2048, 2048] and track.durations.tolist() == [4072, 3000]


def test_iso_pcm_is_read_from_its_configuration() -> None:
    entry = struct.pack(">I4s6xH", 50, b"ipcm", 1) + struct.pack(">HHIHHHHI", 0, 0, 0, 2, 16, 0, 0, 48000 << 16)
    sound = read_sound(entry + struct.pack(">I4sIBB", 14, b"pcmC", 0, 1, 24))
    assert (sound.value_bytes, sound.byte_order, sound.signed) == (3, "little", True)


# --- healthy clips in many settings: whatever the encoder and the muxer do, nothing is accused

SETTINGS: dict[str, dict] = {
    "intra refresh": {"options": {"x264-params": "intra-refresh=1"}},
    "many references": {"options": {"x264-params": "ref=8:bframes=8"}},
    "without CABAC": {"options": {"x264-params": "no-cabac=1:8x8dct=0"}},
    "delimiters": {"options": {"x264-params": "aud=1:nal-hrd=vbr:vbv-maxrate=1000:vbv-bufsize=1000"}},
    "small slices": {"options": {"x264-params": "slice-max-size=900"}},
    "lossless": {"options": {"x264-params": "qp=0"}},
    "sets repeated": {"options": {"x264-params": "repeat-headers=1"}},
    "every picture a key": {"options": {"x264-params": "keyint=1"}},
    "HEVC field": {"video": "libx265", "options": {"x265-params": "log-level=none:repeat-headers=1:aud=1"}},
    "HEVC intra": {"video": "libx265", "options": {"x265-params": "log-level=none:keyint=1"}},
    "MPEG-4 two B": {"video": "mpeg4", "options": {"bf": "2"}},
    "fragments of frames": {"mux": {"movflags": "frag_every_frame+empty_moov"}},
    "DASH": {"mux": {"movflags": "dash+frag_keyframe"}},
    "CMAF": {"mux": {"movflags": "cmaf+frag_keyframe"}},
    "one moof a track": {"mux": {"movflags": "separate_moof+frag_keyframe+empty_moov"}},
    "no trailer": {"mux": {"movflags": "skip_trailer+frag_keyframe+empty_moov"}},
    "negative offsets": {"mux": {"movflags": "negative_cts_offsets"}},
    "hint tracks": {"mux": {"movflags": "rtphint"}},
    "room for the index": {"mux": {"moov_size": "200000"}},
    "AC-3": {"audio": "ac3"},
    "MP3 sound": {"audio": "libmp3lame"},
    "MOV with A-law": {"container": "mov", "audio": "pcm_alaw"},
    "MOV with floats": {"container": "mov", "audio": "pcm_f32le"},
    "MOV with IMA": {"container": "mov", "audio": "adpcm_ima_qt"},
}


@pytest.mark.parametrize("name", SETTINGS)
def test_healthy_clips_in_any_setting_are_intact(name: str) -> None:
    data = encode.clip(1.5, (320, 192), seed=5, **SETTINGS[name])
    found = examine(data)
    assert found.verdict is Verdict.INTACT and found.score == 100, [f.message for f in found.findings]


@pytest.mark.parametrize("rate", [8000, 11025, 16000, 22050, 32000, 88200, 96000])
@pytest.mark.parametrize("channels", [1, 2])
def test_healthy_sound_at_any_rate_is_intact(rate: int, channels: int) -> None:
    found = examine(encode.sound("aac", "ipod", channels=channels, rate=rate, seconds=1.5, seed=3))
    assert found.verdict is Verdict.INTACT and found.score == 100, [f.message for f in found.findings]
    assert found.media["sample_rate"] == rate


def test_a_single_sector_of_zeros_in_prores_is_a_hole() -> None:
    """Frames of it hold runs of zeros of their own, but none that fills just a sector."""
    data = bytearray(prores())
    at = 30 * 512
    data[at : at + 512] = bytes(512)
    found = examine(bytes(data))
    holes = [f for f in found.findings if f.code is FindingCode.MP4_HOLE]
    assert found.verdict is Verdict.DAMAGED and holes and holes[0].span is not None and holes[0].span.start == at
    assert examine(prores(black=True)).verdict is Verdict.INTACT
