"""Lossless sound: packets followed to their last bit, damage found and placed, a lost index written anew."""

from __future__ import annotations

import io

import av
import numpy as np
import pytest
from bench.measure import share
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examine
from jugal.binary.output import write_pieces
from jugal.binary.source import Source
from jugal.formats.base import Subject
from jugal.formats.isobmff.alac import AlacConfig, read_alac
from jugal.formats.isobmff.movie import Movie, read_movie
from jugal.formats.isobmff.rebuild import rebuild_index
from jugal.kernels import alac
from jugal.model.result import Verdict
from jugal.samples import encode


def movie_of(data: bytes) -> tuple[Subject, Movie]:
    subject = Subject(Source.from_bytes(data, "sound"))
    return subject, read_movie(subject)


def lossless(depth: int, channels: int, container: str = "ipod", quiet: bool = False, seed: int = 3) -> bytes:
    """Lossless sound by FFmpeg's encoder: noise over a tone, with a silent middle, or hardly any sound at all."""
    rng = np.random.default_rng(seed)
    wave = np.sin(np.arange(30_000) * 0.03) * (0.0005 if quiet else 0.3) + rng.normal(
        0, 0.00002 if quiet else 0.02, 30_000
    )
    wave[9000:18_000] = 0
    values = (wave * (2**15 - 1 if depth == 16 else 2**31 - 256)).astype(np.int16 if depth == 16 else np.int32)
    out = io.BytesIO()
    with av.open(out, "w", format=container) as file:
        stream = file.add_stream("alac", rate=44100)
        stream.format = "s16p" if depth == 16 else "s32p"
        stream.layout = "stereo" if channels == 2 else "mono"
        for at in range(0, values.size, 4096):
            part = np.repeat(values[None, at : at + 4096], channels, 0)
            frame = av.AudioFrame.from_ndarray(part, format=stream.format.name, layout=stream.layout.name)
            frame.sample_rate, frame.pts = 44100, at
            file.mux(stream.encode(frame))
        file.mux(stream.encode(None))
    return out.getvalue()


@pytest.mark.parametrize("quiet", [False, True])
@pytest.mark.parametrize("container", ["ipod", "mov"])
@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize("depth", [16, 24])
def test_lossless_packets_end_where_the_samples_end(depth: int, channels: int, container: str, quiet: bool) -> None:
    subject, movie = movie_of(lossless(depth, channels, container, quiet))
    track = movie.tracks[0]
    assert isinstance(track.coding, AlacConfig)
    assert (track.coding.depth, track.coding.channels, track.coding.frames) == (depth, channels, 4096)
    data = subject.source.array
    assert not track.coding.parse_samples(data, track.offsets, track.sizes).any()
    assert (track.coding.parse_samples(data, track.offsets, track.sizes - 1) == alac.OVERRUN).all()
    assert (track.coding.parse_samples(data, track.offsets[:-1], track.sizes[:-1] + 2) == alac.SLACK).all()


def test_lossless_sound_with_foreign_bytes_is_seen_and_scored() -> None:
    data = encode.sound("alac", "ipod", 3.0)
    assert examine(data, "a.m4a").verdict is Verdict.INTACT
    at = (data.find(b"mdat") + 4 + 200_000) // 4096 * 4096
    for filler in (bytes(4096), b"\xff" * 4096, (b"The survey goes on. " * 300)[:4096]):
        found = examine(data[:at] + filler + data[at + 4096 :], "a.m4a")
        assert found.verdict is Verdict.DAMAGED
        truth = share("m4a", data, data[:at] + filler + data[at + 4096 :])
        assert found.score == pytest.approx(truth, abs=3)
        first = next(f for f in found.findings if f.span is not None)
        assert first.span is not None and abs(first.span.start - at) <= 4096


def test_filled_clusters_in_sound_too_loud_to_be_coded_are_damage() -> None:
    """Noise at full level is held as it is: any bytes read there. Silence would be coded, so that a filled run is none."""
    rng = np.random.default_rng(5)
    values = rng.integers(-(2**15), 2**15, (2, 40_000)).astype(np.int16)
    values[:, 30_000:] = 0
    out = io.BytesIO()
    with av.open(out, "w", format="ipod") as file:
        stream = file.add_stream("alac", rate=44100)
        stream.format, stream.layout = "s16p", "stereo"
        for at in range(0, values.shape[1], 4096):
            part = np.ascontiguousarray(values[:, at : at + 4096])
            frame = av.AudioFrame.from_ndarray(part, format="s16p", layout="stereo")
            frame.sample_rate, frame.pts = 44100, at
            file.mux(stream.encode(frame))
        file.mux(stream.encode(None))
    data = out.getvalue()
    sizes = movie_of(data)[1].tracks[0].sizes
    assert np.count_nonzero(sizes > 4 * 4096) >= 6, "some packets are not coded"
    assert examine(data, "a.m4a").verdict is Verdict.INTACT
    for at in (40_960, 81_920):
        for filler in (0, 0xFF):
            found = examine(data[:at] + bytes([filler]) * 4096 + data[at + 4096 :], "a.m4a")
            first = next(f for f in found.findings if f.span is not None)
            assert found.verdict is Verdict.DAMAGED and first.span is not None and abs(first.span.start - at) <= 4096


def test_lossless_sound_without_its_index_comes_back() -> None:
    data, donor = (encode.sound("alac", "ipod", seconds, seed=seed) for seconds, seed in ((4.0, 5), (2.0, 6)))
    subject = Subject(Source.from_bytes(data[: data.find(b"moov") - 4]))
    draft = rebuild_index(subject, Subject(Source.from_bytes(donor)))
    out = io.BytesIO()
    write_pieces(out, draft.pieces, subject.source)
    assert (share("m4a", data, out.getvalue()) or 0) >= 98


def test_noise_is_no_lossless_packet() -> None:
    config = AlacConfig(4096, 16, 40, 10, 14, 2)
    noise = np.random.default_rng(8).integers(0, 256, 300_000, dtype=np.uint8)
    assert config.find_run(noise, 0, 200_000, noise.size, -1, 4) == -1
    assert read_alac(b"\0\0\0\x24alac" + bytes(40)) is None


@settings(max_examples=80)
@given(st.binary(min_size=1, max_size=300), st.integers(1, 8), st.sampled_from((16, 20, 24, 32)))
def test_any_bytes_are_followed_within_bounds(data: bytes, channels: int, depth: int) -> None:
    config = AlacConfig(4096, depth, 40, 10, 14, channels)
    for head in (b"", b"\x20\0\0\0\x13\x08", b"\0\0\0\x08"):
        array = np.frombuffer(head + data, np.uint8)
        used, state = config.parse(array, 0, array.size)
        assert 0 <= used <= array.size and (used > 0) == (state == alac.OK)


def test_the_last_packet_tells_how_long_it_is() -> None:
    """The others hold as many values as the configuration says; the index knows all durations."""
    data = encode.sound("alac", "ipod", 1.3)
    track = read_movie(Subject(Source.from_bytes(data))).tracks[0]
    config = track.coding
    assert isinstance(config, AlacConfig)
    spans = zip(track.offsets.tolist(), track.sizes.tolist(), strict=True)
    told = [config.values_in(data[at : at + size]) for at, size in spans]
    assert told == track.durations.tolist() and told[-1] < config.frames
    assert config.values_in(b"") == config.values_in(b"\xff" * 8) == config.frames
