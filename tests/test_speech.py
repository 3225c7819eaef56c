"""AMR speech, timecode and texts beside the picture: their samples are known by their lengths."""

from __future__ import annotations

import io
import struct
from fractions import Fraction
from functools import cache

import av
import numpy as np
import pytest

from conftest import examine, track_of
from jugal.formats.isobmff.speech import FRAME_BYTES, broken_samples, frame_bytes
from jugal.formats.isobmff.write import box_bytes
from jugal.model.codes import FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Verdict
from jugal.samples import encode


@cache
def speech() -> bytes:
    """Six seconds of a tone at 12.2 kbit/s, a frame a sample."""
    out = io.BytesIO()
    with av.open(out, "w", format="3gp") as file:
        track = file.add_stream("libopencore_amrnb", rate=8000)
        track.layout, track.bit_rate = "mono", 12200
        tone = (8000 * np.sin(np.arange(48000) / 9)).astype(np.int16)
        for at in range(0, tone.size, 160):
            frame = av.AudioFrame.from_ndarray(tone[None, at : at + 160], format="s16", layout="mono")
            frame.sample_rate, frame.pts, frame.time_base = 8000, at, Fraction(1, 8000)
            file.mux(track.encode(frame))
        file.mux(track.encode(None))
    return out.getvalue()


def test_frames_of_speech_add_up() -> None:
    data = speech()
    track = track_of(data)
    assert track.codec == b"samr" and examine(data).verdict is Verdict.INTACT
    buffer = np.frombuffer(data, np.uint8)
    assert (broken_samples(buffer, b"samr", track.offsets, track.sizes) < 0).all()
    # Several in one sample, and one that is cut.
    whole = np.array([track.offsets[0]]), np.array([track.sizes[:5].sum()])
    assert broken_samples(buffer, b"samr", *whole).tolist() == [-1]
    short = np.array([track.offsets[0]]), np.array([track.sizes[:5].sum() - 1])
    assert broken_samples(buffer, b"samr", *short).tolist() == [track.offsets[4]]


@pytest.mark.parametrize("head", [0xFF, 0x80, 0x49, 0x4C])
def test_a_frame_of_no_kind_is_damage(head: int) -> None:
    """Padding bits that are set, and types that are reserved (3GPP TS 26.101 table 1a)."""
    assert frame_bytes(b"samr", head) == 0
    data, track = bytearray(speech()), track_of(speech())
    data[int(track.offsets[100])] = head
    found = examine(bytes(data))
    told = [f.span.start for f in found.findings if f.code is FindingCode.MP4_SAMPLE and f.span]
    assert told == [track.offsets[100]] and found.score is not None and 99.0 < found.score < 100.0


def test_sizes_are_those_of_the_standard() -> None:
    """Bits of speech by mode (3GPP TS 26.101, 26.201), in whole bytes behind one of header."""
    bits = {
        b"samr": (95, 103, 118, 134, 148, 159, 204, 244, 39),
        b"sawb": (132, 177, 253, 285, 317, 365, 397, 461, 477, 40),
    }
    for codec, counts in bits.items():
        assert FRAME_BYTES[codec][: len(counts)] == tuple(1 + -(-n // 8) for n in counts)


def with_track(data: bytes, codec: bytes, handler: bytes, samples: list[bytes]) -> bytes:
    """The clip with one more track, its samples behind the end of all else in a box of their own."""
    moov = data.index(b"moov") - 4
    size = int.from_bytes(data[moov : moov + 4], "big")
    assert moov + size == len(data)
    at = len(data) + 8  # moved by what is added to the index
    table = b"".join(struct.pack(">I", len(s)) for s in samples)
    entry = box_bytes(codec, bytes(6) + b"\0\1" + bytes(18))

    def track(first: int) -> bytes:
        stbl = box_bytes(
            b"stbl",
            box_bytes(b"stsd", struct.pack(">II", 0, 1) + entry)
            + box_bytes(b"stts", struct.pack(">IIII", 0, 1, len(samples), 100))
            + box_bytes(b"stsc", struct.pack(">IIIII", 0, 1, 1, len(samples), 1))
            + box_bytes(b"stsz", struct.pack(">III", 0, 0, len(samples)) + table)
            + box_bytes(b"stco", struct.pack(">III", 0, 1, first)),
        )
        media = box_bytes(b"mdhd", struct.pack(">IIIIIHH", 0, 0, 0, 100, 100 * len(samples), 0, 0))
        media += box_bytes(b"hdlr", bytes(8) + handler + bytes(13)) + box_bytes(b"minf", stbl)
        head = box_bytes(b"tkhd", struct.pack(">IIIIII", 7, 0, 0, 9, 0, 100 * len(samples)) + bytes(60))
        return box_bytes(b"trak", head + box_bytes(b"mdia", media))

    added = track(at + len(track(0)))
    index = struct.pack(">I", size + len(added)) + data[moov + 4 :] + added
    return data[:moov] + index + box_bytes(b"mdat", b"".join(samples))


def text(words: bytes) -> bytes:
    return struct.pack(">H", len(words)) + words


CASES = {
    "timecode": (b"tmcd", b"tmcd", [struct.pack(">I", 90)], [struct.pack(">I", 90) + b"\0"]),
    "text": (
        b"tx3g",
        b"sbtl",
        [text(b"By the well."), text(b""), text(b"At the ford.")],
        [text(b"By"), b"\0\x90At the ford."],
    ),
}


@pytest.mark.parametrize("name", CASES)
def test_tracks_beside_are_known_by_their_lengths(name: str) -> None:
    codec, handler, right, wrong = CASES[name]
    clip = encode.clip(1.0, (192, 108), audio=None)
    sound = with_track(clip, codec, handler, right)
    found = examine(sound)
    assert found.verdict is Verdict.INTACT and not found.findings
    found = examine(with_track(clip, codec, handler, wrong))
    assert [(f.code, f.severity) for f in found.findings] == [(FindingCode.MP4_SAMPLE, Severity.MINOR)]
    assert name in found.findings[0].message
    gone = examine(sound[: -len(right[-1]) - 1])
    assert FindingCode.MP4_OUTSIDE in [f.code for f in gone.findings if f.severity is Severity.MINOR]


@pytest.mark.parametrize(
    ("codec", "container"), [("libopus", "mp4"), ("ac3", "mp4"), ("libmp3lame", "mp4"), ("flac", "mp4")]
)
def test_sound_that_is_not_followed_is_told_by_long_fills(codec: str, container: str) -> None:
    """Frames of other coded sound are not read, but none is as long as a cluster of zeros; quiet ones are no damage."""
    out = io.BytesIO()
    rng = np.random.default_rng(3)
    with av.open(out, "w", format=container) as file:
        track = file.add_stream(codec, rate=48000)
        track.layout, track.bit_rate = "stereo", 320_000
        sound = rng.normal(0, 0.2, (2, 4 * 48000)).astype(np.float32)
        sound[:, 48000:96000] = 0
        pieces = av.AudioResampler(
            format=track.format.name, layout="stereo", rate=48000, frame_size=track.frame_size or 1152
        )
        frame = av.AudioFrame.from_ndarray(sound, format="fltp", layout="stereo")
        frame.sample_rate, frame.pts = 48000, 0
        for piece in pieces.resample(frame):
            file.mux(track.encode(piece))
        file.mux(track.encode(None))
    data = out.getvalue()
    assert examine(data).verdict is Verdict.INTACT and track_of(data).coding is None
    at = data.index(b"mdat") // 4096 * 4096 + (12 if codec == "flac" else 4) * 4096
    found = examine(data[:at] + bytes(8192) + data[at + 8192 :])
    told = [f.span.start for f in found.findings if f.span and f.code is FindingCode.MP4_HOLE]
    assert told and abs(told[0] - at) <= 4096 and found.score is not None and found.score < 100
