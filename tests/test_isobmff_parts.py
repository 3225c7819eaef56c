"""The parts that read coded samples: bits, parameter sets and slices, AAC blocks, lanes and timing."""

from __future__ import annotations

import io
import struct

import av
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from jugal.binary.source import Source
from jugal.formats.base import Subject
from jugal.formats.isobmff.aac import AacConfig, read_config, specific_config
from jugal.formats.isobmff.bits import BitReader, unescape
from jugal.formats.isobmff.index import TrackPlan
from jugal.formats.isobmff.lanes import AmrLane, Found, FrameLane, Picture, SoundLane, VideoLane
from jugal.formats.isobmff.movie import Movie, read_movie
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.timing import Schedule, frame_duration, lost_sound, regular_distance, schedule
from jugal.formats.isobmff.video import AvcStream, HevcStream, Slice, read_record
from jugal.formats.isobmff.walk import deal_out
from jugal.formats.isobmff.write import equal_runs, put_duration, table_box
from jugal.kernels import aac
from jugal.samples import encode

X265 = {"x265-params": "log-level=none"}


def movie_of(data: bytes) -> tuple[Subject, Movie]:
    subject = Subject(Source.from_bytes(data, "clip"))
    return subject, read_movie(subject)


def entry_of(subject: Subject, track: Track) -> bytes:
    stsd = track.box.child(b"mdia", b"minf", b"stbl", b"stsd")
    assert stsd is not None
    return subject.source.read(stsd.body, stsd.end - stsd.body)


# --- bits


def exp_golomb(value: int) -> str:
    """The code of 9.1 as a string of bits."""
    text = bin(value + 1)[2:]
    return "0" * (len(text) - 1) + text


def packed(bits: str) -> bytes:
    bits += "0" * (-len(bits) % 8)
    return bytes(int(bits[k : k + 8], 2) for k in range(0, len(bits), 8))


@given(st.lists(st.integers(0, 2**20), min_size=1, max_size=20))
def test_exp_golomb_codes_come_back(values: list[int]) -> None:
    reader = BitReader(packed("".join(exp_golomb(v) for v in values)))
    assert [reader.ue() for _ in values] == values


@given(st.lists(st.integers(-5000, 5000), min_size=1, max_size=20))
def test_signed_codes_come_back(values: list[int]) -> None:
    codes = [2 * v - 1 if v > 0 else -2 * v for v in values]
    reader = BitReader(packed("".join(exp_golomb(c) for c in codes)))
    assert [reader.se() for _ in values] == values


def test_bits_past_the_end_are_zero_and_told() -> None:
    reader = BitReader(b"\xff")
    assert reader.take(8) == 255 and not reader.overrun
    assert reader.take(4) == 0 and reader.overrun
    assert BitReader(b"").ue() == 2**32 - 1


@given(st.binary(max_size=60))
def test_emulation_prevention_is_undone(payload: bytes) -> None:
    escaped, zeros = bytearray(), 0
    for byte in payload:
        if zeros >= 2 and byte <= 3:
            escaped.append(3)
            zeros = 0
        escaped.append(byte)
        zeros = zeros + 1 if byte == 0 else 0
    assert unescape(bytes(escaped)) == payload


# --- parameter sets and slices


@pytest.mark.parametrize(
    ("size", "settings_of"),
    [
        ((320, 180), {}),
        ((640, 368), {"options": {"bf": "0", "refs": "1"}}),
        ((256, 144), {"options": {"x264-params": "tff=1:interlaced=1:no-deblock=1"}}),
        ((320, 192), {"video": "libx265", "options": X265}),
    ],
)
def test_parameter_sets_say_the_size(size: tuple[int, int], settings_of: dict) -> None:
    subject, movie = movie_of(encode.clip(0.4, size, **settings_of))
    stream = read_record(entry_of(subject, movie.tracks[0]))
    assert stream is not None
    found = next(iter(stream.sequences.values()))
    assert found.width - 16 < size[0] <= found.width
    assert found.height - 32 < size[1] <= found.height


@pytest.mark.parametrize("settings_of", [{}, {"video": "libx265", "options": X265}, {"options": {"slices": "4"}}])
def test_pictures_are_told_apart_and_ordered(settings_of: dict) -> None:
    """One picture a sample, sync samples where the muxer marked them, shown in the order the decoder shows."""
    data = encode.clip(2.0, (160, 96), audio=None, **settings_of)
    subject, movie = movie_of(data)
    track = movie.tracks[0]
    stream = read_record(entry_of(subject, track))
    assert stream is not None
    lane = VideoLane(stream, 1 << 20)
    end = int(track.offsets[-1] + track.sizes[-1])
    assert lane.take(subject.source.array, int(track.offsets[0]), end) == end
    assert lane.found.offsets == track.offsets.tolist()
    assert lane.found.sizes == track.sizes.tolist()
    assert [p.sync for p in lane.pictures] == track.sync.tolist()
    timing = schedule(stream, lane.pictures, set())
    times = np.cumsum(track.durations) - track.durations + track.composition
    assert np.array_equal(np.argsort(timing.decode + timing.offset), np.argsort(times))


def test_slices_of_noise_are_refused() -> None:
    subject, movie = movie_of(encode.clip(0.4, (160, 96), audio=None))
    stream = read_record(entry_of(subject, movie.tracks[0]))
    assert isinstance(stream, AvcStream)
    rng = np.random.default_rng(3)
    accepted = sum(stream.read_slice(b"\x41" + rng.bytes(40)) is not None for _ in range(500))
    assert accepted < 250


@pytest.mark.parametrize(
    ("stream", "head", "kind"),
    [
        (AvcStream, b"\x65\x88", 5),
        (AvcStream, b"\x67\x64", 7),
        (AvcStream, b"\xe5\x88", -1),
        (AvcStream, b"\x05\x88", -1),
        (AvcStream, b"\x66\x88", -1),
        (AvcStream, b"\x7e\x88", -1),
        (HevcStream, b"\x26\x01", 19),
        (HevcStream, b"\x40\x01", 32),
        (HevcStream, b"\x26\x00", -1),
        (HevcStream, b"\xa6\x01", -1),
    ],
)
def test_unit_types(stream: type, head: bytes, kind: int) -> None:
    assert stream.unit_type(head) == kind


def test_no_record_no_stream() -> None:
    assert read_record(b"nothing of the kind") is None
    assert read_record(struct.pack(">I", 9) + b"avcC\1") is None


# --- AAC


@pytest.mark.parametrize(
    ("data", "expected"),
    [
        ("1190", AacConfig(2, 3, 1, 0)),  # LC, 48 kHz, stereo
        ("1208", AacConfig(2, 4, 0, 1)),  # LC, 44.1 kHz, mono
        ("11b0", AacConfig(2, 3, 2, 2)),  # LC, 48 kHz, 5.1
        ("1180", AacConfig(2, 3, -1, -1)),  # channels by a program config element
        ("2b11" + "88" + "00", AacConfig(2, 6, 1, 0)),  # SBR over LC at 24 kHz
        ("1194", None),  # frames of 960 values
        ("b9", None),  # low delay
        ("", None),
    ],
)
def test_audio_specific_config(data: str, expected: AacConfig | None) -> None:
    assert specific_config(bytes.fromhex(data)) == expected


def test_code_books_are_whole() -> None:
    """Every bit pattern is a code word: the books are complete prefix codes (Kraft's sum is one)."""
    tables = aac.books()
    assert (tables.scale != 0).all()
    for book in range(1, 12):
        first, size = tables.first[book], 1 << tables.width[book]
        assert (tables.spectral[first : first + size] != 0).all()
    for rate in range(13):
        edges = aac.bands(rate)
        assert edges.long[-1] == 1024 and edges.short[-1] == 128
        assert (np.diff(edges.long) > 0).all() and (np.diff(edges.short) > 0).all()


@pytest.mark.parametrize("book", range(1, 12))
def test_several_words_at_once_are_those_read_one_by_one(book: int) -> None:
    """A word counts where all its bits are among those asked, signs need not be; one with an escape ends it."""
    tables = aac.books()
    words = {f"{code:0{bits}b}": index for index, (bits, code) in enumerate(aac._figures()["spectral"][book - 1])}
    for pattern in range(1 << aac.FAST_BITS):
        bits = f"{pattern:0{aac.FAST_BITS}b}"
        at, first, count = 0, 0, 0
        while word := next((bits[at:stop] for stop in range(at + 1, len(bits) + 1) if bits[at:stop] in words), ""):
            signs, escapes = aac._signs_and_escapes(book, words[word])
            if escapes:
                break
            at, count = at + len(word) + signs, count + 1
            first = first or at
        assert tables.fast[(book << aac.FAST_BITS) + pattern] == first | at << 5 | count << 10


@pytest.fixture(scope="module")
def sound() -> tuple[Subject, Track]:
    subject, movie = movie_of(encode.sound("aac", "ipod", 2.0))
    return subject, movie.tracks[0]


def test_blocks_end_where_the_samples_end(sound: tuple[Subject, Track]) -> None:
    subject, track = sound
    assert track.coding is not None
    assert not track.coding.parse_samples(subject.source.array, track.offsets, track.sizes).any()


@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize("rate", [8000, 22050, 44100, 96000])
def test_blocks_of_many_rates(rate: int, channels: int) -> None:
    out = io.BytesIO()
    rng = np.random.default_rng(rate + channels)
    with av.open(out, "w", format="ipod") as file:
        stream = file.add_stream("aac", rate=rate, options={"b": "96k"})
        stream.layout = "stereo" if channels == 2 else "mono"
        for k in range(20):
            wave = np.sin(np.arange(1024) * 0.01 * (k + 1)) * 0.3 + rng.normal(0, 0.02, 1024)
            frame = av.AudioFrame.from_ndarray(
                np.repeat(wave[None].astype(np.float32), channels, 0), format="fltp", layout=stream.layout.name
            )
            frame.sample_rate, frame.pts = rate, 1024 * k
            file.mux(stream.encode(frame))
        file.mux(stream.encode(None))
    subject, movie = movie_of(out.getvalue())
    track = movie.tracks[0]
    assert track.coding is not None and track.coding.rate == rate
    assert not track.coding.parse_samples(subject.source.array, track.offsets, track.sizes).any()


def test_a_cut_or_lengthened_sample_is_seen(sound: tuple[Subject, Track]) -> None:
    subject, track = sound
    assert track.coding is not None
    shorter = track.coding.parse_samples(subject.source.array, track.offsets, track.sizes - 2)
    longer = track.coding.parse_samples(subject.source.array, track.offsets[:-1], track.sizes[:-1] + 3)
    assert (shorter != 0).all()
    assert (longer == aac.SLACK).all()


def test_noise_is_hardly_ever_a_block(sound: tuple[Subject, Track]) -> None:
    track = sound[1]
    assert track.coding is not None
    noise = np.random.default_rng(8).integers(0, 256, 300_000, dtype=np.uint8)
    hits = sum(track.coding.parse(noise, at, noise.size)[1] == 0 for at in range(0, 280_000, 100))
    assert hits / 2800 < 0.02


@settings(max_examples=60)
@given(st.binary(min_size=1, max_size=400))
def test_any_bytes_parse_within_bounds(data: bytes) -> None:
    array = np.frombuffer(data, np.uint8)
    for config in (AacConfig(2, 3, 1, 0), AacConfig(1, 11, -1, -1)):
        used, state = config.parse(array, 0, array.size)
        assert 0 <= used <= array.size
        assert (used > 0) == (state == aac.OK)


def test_lane_finds_its_way_back_after_noise(sound: tuple[Subject, Track]) -> None:
    subject, track = sound
    assert track.coding is not None
    media = subject.source.array[int(track.offsets[0]) : int(track.offsets[-1] + track.sizes[-1])]
    noise = np.random.default_rng(2).integers(0, 256, 700, dtype=np.uint8)
    data = np.concatenate((noise, media))
    lane = SoundLane(track.coding)
    start = lane.seek_to(data, 0, data.size, -1, data.size)
    assert start == noise.size
    assert lane.take(data, start, data.size) == data.size
    assert lane.found.sizes == track.sizes.tolist()


def test_config_of_other_sound_is_none() -> None:
    assert read_config(b"no descriptor here") is None


# --- other lanes


def test_motion_jpeg_frames_end_at_their_end_marker() -> None:
    frame = encode.jpeg_by_video_encoder(Image.new("RGB", (64, 48), (90, 60, 30)))
    data = np.frombuffer(frame * 3 + b"\0" * 40, np.uint8)
    lane = FrameLane(b"jpeg")
    assert lane.take(data, 0, data.size) == 3 * len(frame)
    assert lane.found.sizes == [len(frame)] * 3
    broken = frame[: len(frame) // 2] + frame
    assert lane.take(np.frombuffer(broken, np.uint8), 0, len(broken)) == 0


def test_amr_frames_by_their_first_byte() -> None:
    frames = b"".join(bytes([kind << 3 | 4]) + bytes(size - 1) for kind, size in ((0, 13), (7, 32), (8, 6)))
    data = np.frombuffer(frames + b"\xff" * 8, np.uint8)
    lane = AmrLane(b"samr")
    assert lane.take(data, 0, data.size) == len(frames)
    assert lane.found.sizes == [13, 32, 6]


def test_two_sound_tracks_take_turns() -> None:
    alternating = Found([10, 20, 30, 40, 100, 110], [10] * 6)
    lanes = [SoundLane(AacConfig(2, 3, 1, 0)) for _ in range(2)]
    deal_out(alternating, lanes, 1)
    assert lanes[0].found.offsets == [10, 30, 100]
    assert lanes[1].found.offsets == [20, 40, 110]
    deal_out(Found([0, 10, 20, 30], [10] * 4), lanes, 24)
    assert lanes[0].found.offsets == [0, 10]
    assert lanes[1].found.offsets == [20, 30]


# --- timing

STREAM = AvcStream()


def pictures(
    orders: list[int | None], idr: set[int] = frozenset({0}), numbers: list[int] | None = None
) -> list[Picture]:  # type: ignore[assignment]
    return [
        Picture(Slice(True, 0, 0, 0, numbers[k] if numbers else k, order, k in idr, k in idr, True), k in idr, STREAM)
        for k, order in enumerate(orders)
    ]


@pytest.fixture(autouse=True)
def _wrap_at_64(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(AvcStream, "order_range", lambda self, first: 64)


def placed(timing: Schedule) -> list[int]:
    return (timing.decode + timing.offset).tolist()


def test_display_order_follows_the_counts() -> None:
    timing = schedule(STREAM, pictures([0, 8, 4, 2, 6, 16, 12, 10, 14]), set())
    assert placed(timing) == [0, 4, 2, 1, 3, 8, 6, 5, 7]
    assert timing.decode.tolist() == list(range(9))


def test_counts_wrap() -> None:
    timing = schedule(STREAM, pictures([(2 * k) % 64 for k in range(100)]), set())
    assert placed(timing) == list(range(100))


def test_a_gap_leaves_the_time_of_what_was_lost() -> None:
    orders = [2 * k for k in range(20) if k not in (7, 8, 9)]
    timing = schedule(STREAM, pictures(orders), {7})
    assert timing.decode.tolist() == [k for k in range(20) if k not in (7, 8, 9)]


def test_a_lost_end_of_a_regular_group_is_made_up_for() -> None:
    orders = [2 * k for k in range(10)] + [2 * k for k in range(7)] + [2 * k for k in range(10)] + [0]
    timing = schedule(STREAM, pictures(orders, {0, 10, 17, 27}), {17}, donor_length=10)
    assert timing.decode[17] == 20
    assert timing.decode[-1] == 30


def test_frame_numbers_tell_without_counts() -> None:
    timing = schedule(STREAM, pictures([None] * 6, numbers=[0, 1, 2, 5, 6, 7]), {3})
    assert timing.decode.tolist() == [0, 1, 2, 5, 6, 7]


@pytest.mark.parametrize(
    ("donor", "frames", "seconds", "whole", "expected"),
    [
        (512.0, 100, 4.0, True, 512.0),  # 25 frames a second at a time scale of 12,800, as the sound says too
        (512.0, 200, 4.0, True, 256.0),  # the sound says 50
        (512.0, 100, 2.0, False, 512.0),  # something is missing: the sound proves nothing
        (512.0, 100, 3.31, True, 12_800 / 30),  # near a usual rate
    ],
)
def test_frame_duration(donor: float, frames: int, seconds: float, whole: bool, expected: float) -> None:
    ticks, kept = frame_duration(12_800, donor, frames, seconds, whole)
    assert ticks == pytest.approx(expected)
    assert kept == (expected == donor)


def test_lost_sound_is_counted_against_the_picture() -> None:
    unit = 0.02
    picture = np.arange(200) * 0.04
    starts = picture - 0.01
    starts[100:] -= 5 * unit
    after = np.zeros(200, bool)
    after[100] = True
    lost = lost_sound(starts, picture, after, unit)
    assert lost[100] == 5 and lost.sum() == 5


def test_regular_distance() -> None:
    assert regular_distance(np.arange(50) % 12 == 0) == 12
    assert regular_distance(np.isin(np.arange(50), (0, 12, 25))) == 0
    assert regular_distance(np.zeros(0, bool)) == 0


# --- tables


def test_runs_of_equal_values() -> None:
    assert equal_runs(np.array([5, 5, 7, 5])) == [(2, 5), (1, 7), (1, 5)]
    assert equal_runs(np.zeros(0, np.int64)) == []


def test_a_table_box() -> None:
    assert table_box(b"stts", [(3, 512)]) == struct.pack(">I4sIIII", 24, b"stts", 0, 1, 3, 512)
    assert table_box(b"ctts", [(1, -2)], signed=True) == struct.pack(">I4sBxxxIIi", 24, b"ctts", 1, 1, 1, -2)


def test_ticks_of_a_plan(sound: tuple[Subject, Track]) -> None:
    plan = TrackPlan(sound[1], np.zeros(3, np.int64), np.ones(3, np.int64), np.array([1024, 1024, 256]))
    assert plan.ticks == 2304


@pytest.mark.parametrize(
    ("wide", "value", "written"), [(False, 7, b"\0\0\0\7"), (False, 1 << 40, b"\xff" * 4), (True, 1 << 70, b"\xff" * 8)]
)
def test_a_duration_without_room_is_not_known(wide: bool, value: int, written: bytes) -> None:
    body = bytearray(8)
    put_duration(body, 0, wide, value)
    assert body == written + bytes(8 - len(written))
