"""MPEG-4 Visual followed to its last bit: codes against arithmetic, planes against FFmpeg's encoder and decoder."""

from __future__ import annotations

import io
from functools import cache
from pathlib import Path

import av
import numpy as np
import pytest
from bench.measure import share
from hypothesis import given
from hypothesis import strategies as st

import conftest
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.isobmff.bits import BitWriter
from jugal.formats.isobmff.following import Fault, believed
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.timing import reordered
from jugal.formats.isobmff.visual import (
    PLANE,
    Follower,
    Layer,
    _follow_sample,
    find_plane,
    follow_planes,
    plane_of,
    planes_before,
    read_layer,
    read_picture_header,
    read_plane_header,
)
from jugal.formats.isobmff.visual_parameters import find_layer, find_pictures, layer_header
from jugal.kernels.macroblocks import BREAKS, ENDS_EARLY, ENDS_LATE, WHOLE_SLICE
from jugal.kernels.visual import CODES, SLACK, B, I, P
from jugal.model.codes import FindingCode
from jugal.model.result import Verdict
from jugal.samples import encode
from jugal.samples.harm import harm

SETTINGS: dict[str, dict[str, str]] = {
    "plain": {},
    "between": {"bf": "2"},
    "quarters": {"bf": "2", "flags": "+mv4+qpel"},
    "four-vectors": {"flags": "+mv4"},
    "large": {"qmin": "2", "b": "8000k"},
    "coarse": {"qmin": "25", "qmax": "31"},
    "weighted": {"mpeg_quant": "1"},
    "packets": {"ps": "300"},
    "packets-between": {"ps": "300", "bf": "2"},
    "h263": {},
    "h263-groups": {"ps": "400"},
    "h263-large": {"qmin": "2", "b": "4000k"},
}
#: The sizes of H.263 that are tried, with one row of macroblocks in a group of blocks, and with two.
SIZES = {"h263": (176, 144), "h263-groups": (352, 288), "h263-large": (704, 576)}


@cache
def recording(name: str) -> bytes:
    if name in SIZES:
        return encode.clip(
            seed=41, seconds=2.0, video="h263", container="3gp", size=SIZES[name], options=SETTINGS[name]
        )
    return encode.clip(seed=41, seconds=2.0, video="mpeg4", options=SETTINGS[name])


@cache
def track_of(name: str) -> Track:
    return conftest.track_of(recording(name))


def samples_of(name: str) -> list[bytes]:
    data, track = recording(name), track_of(name)
    return [data[a : a + n] for a, n in zip(track.offsets.tolist(), track.sizes.tolist(), strict=True)]


def padded(sample: bytes) -> np.ndarray:
    return np.frombuffer(sample + bytes(SLACK), np.uint8)


@pytest.mark.parametrize(
    "name", ["intra", "inter", "dc_luma", "dc_chroma", "type_intra", "type_inter", "pattern", "motion"]
)
def test_codes_are_free_of_prefixes_and_nearly_complete(name: str) -> None:
    table = getattr(CODES, name)
    bits = int(table.size).bit_length() - 1
    lengths = table & 15
    # Each symbol fills just the share of the table that its length leaves it, in one stretch.
    for symbol in np.unique(table[lengths > 0] >> 4):
        places = np.flatnonzero((lengths > 0) & (table >> 4 == symbol))
        length = int(lengths[places[0]])
        assert places.size == 1 << (bits - length) and places[-1] - places[0] == places.size - 1
    # What is left has 6 to 9 zeros in front, so that no code looks like a start code.
    free = np.flatnonzero(lengths == 0)
    assert free.size <= table.size // 25 and (not free.size or int(free.max()) < table.size // 16)


def test_a_block_holds_64_coefficients_and_the_longest_runs_are_those_of_the_tables() -> None:
    for run, level, longest, last_from in (
        (CODES.intra_run, CODES.intra_level, CODES.intra_longest, CODES.intra_last),
        (CODES.inter_run, CODES.inter_level, CODES.inter_longest, CODES.inter_last),
    ):
        assert run.max() < 64 and level.min() == 1
        pairs = set(zip((np.arange(102) >= last_from).tolist(), run.tolist(), level.tolist(), strict=True))
        assert len(pairs) == 102
        for last in (False, True):
            for value in range(1, 28):
                runs = [r for is_last, r, v in pairs if is_last == last and v == value]
                assert longest[32 * last + value] == max(runs, default=0)


@pytest.mark.parametrize("name", SETTINGS)
def test_every_macroblock_of_healthy_planes_is_read(name: str) -> None:
    track = track_of(name)
    assert track.layer is not None and track.layer.plain
    follower, kinds = Follower(track.layer), []
    for sample in samples_of(name):
        header, done, byte, came_to = follower.plane(padded(sample), find_plane(sample, 0, track.layer))
        assert header is not None
        kinds.append(header.kind)
        assert (done, byte, came_to) == (track.layer.blocks, len(sample), WHOLE_SLICE)
    # FFmpeg's own decoder names the same kinds, in the order in which they are shown.
    with av.open(io.BytesIO(recording(name))) as file:
        shown = [{1: I, 2: P, 3: B}[int(frame.pict_type)] for frame in file.decode(video=0)]
    order = np.argsort(np.arange(len(kinds)) + reordered(np.array(kinds)))
    assert [kinds[k] for k in order] == shown
    assert follow_planes(np.frombuffer(recording(name), np.uint8), track.layer, track.offsets, track.sizes) == (
        {},
        True,
    )


def test_packets_are_read_with_their_headers() -> None:
    """A packet of an I plane begins with 16 zeros and a one on a byte, and says which macroblock comes next."""
    sample, layer = samples_of("packets")[0], track_of("packets").layer
    at = sample.find(PLANE)
    marks = [k for k in range(at + 8, len(sample) - 4) if sample[k : k + 2] == b"\0\0" and sample[k + 2] & 0x80]
    assert len(marks) >= len(sample) // 600
    assert not any(sample[k : k + 2] == b"\0\0" for k in range(at + 8, marks[0]))
    worn = bytearray(sample)
    worn[marks[2] + 2] ^= 0x20
    header, _, byte, came_to = Follower(layer).plane(padded(bytes(worn)), at)
    assert header is not None and header.kind == I
    assert came_to == BREAKS and abs(byte - marks[2]) <= 1


@pytest.mark.parametrize(("name", "least"), [("plain", 0.5), ("between", 0.35), ("packets", 0.5), ("h263-groups", 0.4)])
def test_flipped_bits_show_and_are_placed_behind_themselves(name: str, least: float) -> None:
    samples, layer = samples_of(name), track_of(name).layer
    rng = np.random.default_rng(5)
    seen, delays = 0, []
    numbers = [k for k, s in enumerate(samples) if len(s) > 400][:40]
    for number in numbers:
        follower, whole = Follower(layer), [0, 0, 0]
        for sample in samples[max(0, number - 4) : number]:
            _follow_sample(np.frombuffer(sample, np.uint8), follower, whole)
        worn = bytearray(samples[number])
        at = int(rng.integers(40, len(worn) - 200))
        worn[at] ^= 1 << int(rng.integers(8))
        follower.sure = True
        found = _follow_sample(np.frombuffer(bytes(worn), np.uint8), follower, whole)
        if found is not None:
            seen += 1
            delays.append(found[1] - at)
    # Signs, and codes as long as others, read as another value: nothing tells.
    assert seen >= least * len(numbers)
    # It is placed at the macroblock that cannot be read.
    assert np.median(delays) < 300 and min(delays) > -250


def test_ends_are_told_apart() -> None:
    sample, layer = samples_of("plain")[0], track_of("plain").layer
    follower = Follower(layer)
    at = sample.find(PLANE)
    assert follower.plane(padded(sample + bytes(5)), at)[3] == WHOLE_SLICE
    assert follower.plane(padded(sample + b"\0\0\1\xb0"), at)[3] == WHOLE_SLICE
    assert follower.plane(padded(sample + b"\x55\x66"), at)[2:] == (len(sample), ENDS_EARLY)
    assert not follower.sure
    assert follower.plane(padded(sample[:-40]), at)[3] in (BREAKS, ENDS_LATE)
    taller = Follower(Layer(layer.width, layer.height + 16, layer.resolution))
    assert taller.plane(padded(sample), at)[3] != WHOLE_SLICE


def test_what_is_spared_grows_with_the_place() -> None:
    sample, layer = samples_of("large")[0], track_of("large").layer
    data = np.frombuffer(sample, np.uint8)
    shares = [planes_before(data, layer, n) for n in range(100, len(sample), len(sample) // 10)]
    assert shares == sorted(shares) and shares[0] < 0.2 and shares[-1] > 0.75
    assert planes_before(data, layer, 3) == 0.0


def test_a_layer_is_read_as_it_was_written_and_found_from_its_planes() -> None:
    for name in ("plain", "between", "packets", "weighted"):
        true = track_of(name).layer
        data = recording(name)
        found = find_layer(data[data.find(b"mdat") + 4 : data.rfind(b"moov")])
        assert found is not None and true is not None
        assert (found.width, found.height, found.resolution) == (true.width, true.height, true.resolution)
        assert read_layer(layer_header(found, name == "between")) == found
    assert find_layer(b"".join(samples_of("plain")[:2])) is None
    assert find_layer(np.random.default_rng(3).bytes(400_000)) is None


@given(st.integers(1, 8191), st.integers(1, 8191), st.integers(1, 65535), st.booleans())
def test_written_layers_are_read_back(width: int, height: int, resolution: int, late: bool) -> None:
    layer = Layer(width, height, resolution)
    assert read_layer(layer_header(layer, late)) == layer


@pytest.mark.parametrize("field", ["interlaced", "sprite", "deep", "estimated", "parted", "scalable"])
def test_layers_that_are_not_followed_say_so(field: str) -> None:
    out = BitWriter()
    for value, count in ((0, 1), (1, 8), (0, 1), (1, 4), (0, 1), (0, 2), (1, 1), (30, 16), (1, 1), (0, 1)):
        out.put(value, count)
    for value, count in ((1, 1), (176, 13), (1, 1), (144, 13), (1, 1)):
        out.put(value, count)
    for name, value in (
        ("interlaced", 0), ("obmc", 1), ("sprite", 0), ("deep", 0), ("kind", 0), ("estimated", 1), ("resync", 1),
        ("parted", 0), ("scalable", 0),
    ):  # fmt: skip
        out.put(1 - value if name == field else value, 1)
    layer = read_layer(b"\0\0\1\x20" + out.stuffed() + bytes(8))
    assert layer is not None and (layer.width, layer.height) == (176, 144)
    assert not layer.plain
    nothing = np.zeros(64, np.uint8)
    assert follow_planes(nothing, layer, np.zeros(1, np.int64), np.full(1, 64)) == ({}, False)


def test_planes_that_are_not_coded_and_headers_that_cannot_be() -> None:
    out = BitWriter()
    for value, count in ((P, 2), (0b10, 2), (1, 1), (7, 5), (1, 1), (0, 1)):
        out.put(value, count)
    header = read_plane_header(out.stuffed(), 5)
    assert header is not None and not header.coded and header.time == (1, 7)
    assert read_plane_header(b"\0" * 8, 5) is None
    assert read_plane_header(b"", 5) is None
    data = np.concatenate((np.frombuffer(PLANE + out.stuffed(), np.uint8), np.zeros(SLACK, np.uint8)))
    assert Follower(Layer(176, 144, 30)).plane(data, 0)[3] == WHOLE_SLICE


@given(st.binary(max_size=600), st.sampled_from([I, P, B]), st.booleans())
def test_no_bytes_whatever_lead_out_of_the_data(body: bytes, kind: int, resync: bool) -> None:
    follower = Follower(Layer(352, 288, 25, resync=resync))
    head = BitWriter()
    for value, count in ((kind, 2), (0, 1), (1, 1), (3, 5), (1, 1), (1, 1)):
        head.put(value, count)
    sample = PLANE + head.plain() + body
    header, done, byte, came_to = follower.plane(padded(sample), 0)
    assert 0 <= done <= 22 * 18 and 0 <= byte <= len(sample)
    assert header is None or came_to in (WHOLE_SLICE, BREAKS, ENDS_EARLY, ENDS_LATE)


def test_damage_is_found_placed_and_worth_what_it_spoils(tmp_path) -> None:  # type: ignore[no-untyped-def]
    data, track = bytearray(recording("between")), track_of("between")
    path = tmp_path / "clip.mp4"
    path.write_bytes(data)
    healthy = examine_file(path)
    assert healthy.verdict is Verdict.INTACT and healthy.media["video_followed"] == "to the last bit"
    kinds = [plane_of(s, track.layer).kind for s in samples_of("between")]  # type: ignore[union-attr]
    scores = {}
    for kind in (I, B):
        number = next(k for k, v in enumerate(kinds) if v == kind and k > 3 and track.sizes[k] > 300)
        worn = bytearray(data)
        at = int(track.offsets[number] + track.sizes[number] // 3)
        worn[at : at + 16] = bytes(b ^ 0xA5 for b in worn[at : at + 16])
        path.write_bytes(worn)
        found = examine_file(path)
        finding = next(f for f in found.findings if f.code is FindingCode.MP4_SAMPLE)
        assert finding.span is not None and at - 250 <= finding.span.start <= at + 400
        scores[kind] = found.score
    # No other plane is predicted from a B plane; an I plane takes its whole group with it.
    assert scores[B] is not None and scores[I] is not None and scores[I] + 5 < scores[B] < 100


def test_pictures_of_h263_say_what_they_are() -> None:
    samples = samples_of("h263-groups")
    read = read_picture_header(samples[0])
    assert read is not None and read[0].kind == I and read[1:] == (352, 288)
    assert read_picture_header(samples[1])[0].kind == P  # type: ignore[index]
    assert find_pictures(b"".join(samples[:6])) == track_of("h263-groups").layer
    assert find_pictures(b"".join(samples[:2])) is None
    assert find_pictures(np.random.default_rng(3).bytes(400_000)) is None
    # Annexes change what follows: a picture that names one is left alone.
    for bit in range(39, 43):
        worn = bytearray(samples[0])
        worn[bit // 8] ^= 0x80 >> bit % 8
        assert read_picture_header(bytes(worn)) is None


def test_a_group_of_blocks_says_its_number() -> None:
    sample, layer = samples_of("h263-groups")[0], track_of("h263-groups").layer
    marks = [k for k in range(8, len(sample) - 4) if sample[k : k + 2] == b"\0\0" and sample[k + 2] & 0x80]
    assert len(marks) >= 3
    worn = bytearray(sample)
    worn[marks[1] + 2] ^= 0x10
    _, _, byte, came_to = Follower(layer).plane(padded(bytes(worn)), 0)
    assert came_to == BREAKS and abs(byte - marks[1]) <= 1


@pytest.mark.parametrize("alone", [True, False])
def test_a_clip_of_h263_without_its_index_plays_again(tmp_path, alone: bool) -> None:  # type: ignore[no-untyped-def]
    original = encode.clip(seed=41, seconds=4.0, video="h263", container="3gp", size=(176, 144))
    (tmp_path / "clip.3gp").write_bytes(original[: original.rfind(b"moov") - 4])
    (tmp_path / "other.3gp").write_bytes(
        encode.clip(seed=7, seconds=3.0, video="h263", container="3gp", size=(176, 144))
    )
    donors = [] if alone else [examine_file(tmp_path / "other.3gp")]
    outcome = repair_file(examine_file(tmp_path / "clip.3gp"), tmp_path / "repaired", donors)
    assert outcome.output is not None
    truth = share("3gp", original, Path(outcome.output).read_bytes())
    assert truth is not None and truth >= 98


def test_packets_that_end_in_macroblocks_without_bits() -> None:
    """A still picture with a little that moves: in B planes what stands still has no bits, at the ends of packets too."""
    rng = np.random.default_rng(2)
    still = np.kron(rng.integers(60, 190, (36, 44)), np.ones((8, 8))).astype(np.uint8)
    target = io.BytesIO()
    with av.open(target, "w", format="mp4") as file:
        stream = file.add_stream("mpeg4", rate=25, options={"bf": "1", "slices": "5"})
        stream.width, stream.height, stream.pix_fmt = 352, 288, "yuv420p"
        for number in range(30):
            picture = np.repeat(still[..., None], 3, 2)
            for row in range(5):
                picture[60 * row + 8 : 60 * row + 24, 8 * number : 8 * number + 16] = 255
            file.mux(stream.encode(av.VideoFrame.from_ndarray(picture, "rgb24")))
        file.mux(stream.encode())
    data = target.getvalue()
    track = conftest.track_of(data)
    assert track.layer is not None
    follower, seen = Follower(track.layer), 0
    for at, size in zip(track.offsets.tolist(), track.sizes.tolist(), strict=True):
        sample = data[at : at + size]
        before = follower.skipped.copy()
        header, done, byte, came_to = follower.plane(padded(sample), sample.find(PLANE))
        assert header is not None
        assert (done, byte, came_to) == (22 * 18, size, WHOLE_SLICE)
        if header.kind == B:
            # Rows of macroblocks in front of which a packet begins, and what is left out right before them.
            seen += any(before[22 * row - 1] for row in (4, 8, 11, 15))
    assert seen


@given(st.lists(st.sampled_from([I, P, B]), min_size=1, max_size=40))
def test_planes_are_shown_in_one_order_b_planes_before_what_they_wait_for(kinds: list[int]) -> None:
    shown = np.arange(len(kinds)) + reordered(np.array(kinds))
    assert sorted(shown.tolist()) == list(range(len(kinds)))
    anchors = [int(shown[k]) for k, kind in enumerate(kinds) if kind != B]
    assert anchors == sorted(anchors)
    for number, kind in enumerate(kinds):
        before = [k for k in range(number) if kinds[k] != B]
        if kind == B and before:
            # Behind the plane before the last, and in front of the last.
            assert shown[number] < shown[before[-1]]
            assert len(before) < 2 or shown[number] > shown[before[-2]]


def test_what_is_believed() -> None:
    """Faults of a kind count where more of it are whole, or where a part was read and the other kinds are understood."""
    early, late = Fault(10, 0.05), Fault(20, 0.5)
    assert believed([{3: early}, {}, {}], [2, 9, 0]) == {3: early}
    assert believed([{3: early}, {}, {}], [1, 9, 0]) == {}
    assert believed([{3: early}, {}, {}], [1, 9, 0], one_form=True) == {3: early}
    assert believed([{3: late}, {}, {}], [0, 9, 0]) == {3: late}
    assert believed([{3: early}, {}, {}], [0, 9, 0], one_form=True) == {}
    # Where most of everything breaks, nothing is understood.
    assert believed([{3: late}, dict.fromkeys(range(5), late), {}], [0, 5, 0], one_form=True) == {}


def test_offsets_that_are_off_are_led_back_by_start_codes(tmp_path) -> None:  # type: ignore[no-untyped-def]
    original = recording("between")
    harmed = harm(original, "mp4", "offsets-shifted", 7)
    path = tmp_path / "clip.mp4"
    path.write_bytes(harmed.data)
    examined = examine_file(path)
    assert FindingCode.MP4_SHIFTED in {f.code for f in examined.findings}
    outcome = repair_file(examined, tmp_path / "repaired")
    assert outcome.output is not None and outcome.method == "fix-offsets"
    assert share("mp4", original, Path(outcome.output).read_bytes()) == 100.0


def test_another_recording_behind_a_splice_is_no_sample_of_this_one(tmp_path) -> None:  # type: ignore[no-untyped-def]
    """Behind a place where the planes stop making sense the rest of the file is not taken for one long picture."""
    original, other = recording("plain"), encode.clip(seed=3, seconds=2.0, video="mpeg4", options={"g": "3"})
    cut = original.find(b"moov") // 2
    path = tmp_path / "clip.mp4"
    path.write_bytes(original[:cut] + bytes(reversed(other[: cut // 2])))
    examined = examine_file(path)
    places = [f.span.start for f in examined.findings if f.span is not None]
    assert any(cut - 8192 <= place <= cut + 64 for place in places)
