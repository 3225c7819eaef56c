"""A lost movie index with no healthy file at hand: streams told from their data, proven by an independent decoder."""

from __future__ import annotations

import io
import json
from dataclasses import replace
from functools import cache
from importlib.resources import files
from pathlib import Path

import av
import numpy as np
import pytest
from bench.measure import share
from hypothesis import given
from hypothesis import strategies as st

from conftest import subject_of
from jugal.binary.output import write_pieces
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import RepairImpossible
from jugal.formats.isobmff.aac import AacConfig
from jugal.formats.isobmff.bits import BitReader, BitWriter, unescape
from jugal.formats.isobmff.following import units
from jugal.formats.isobmff.lanes import PcmLane, SoundLane
from jugal.formats.isobmff.movie import read_movie
from jugal.formats.isobmff.parameters import (
    Follow,
    Unit,
    _follow,
    _follow_codes,
    _in_order,
    _intra_pictures,
    find_parameters,
    named_settings,
    picture_set,
    sequence_set,
    share_followed,
    shown_size,
)
from jugal.formats.isobmff.rebuild import estimate_index
from jugal.formats.isobmff.streams import (
    _SOUND_RATES,
    ASSUMED,
    FOUND,
    STATED,
    Rates,
    SoundGuess,
    find_rates,
    find_sound,
)
from jugal.formats.isobmff.video import MOST_BLOCKS, AvcStream, read_avc_record
from jugal.kernels import arithmetic, cabac, cavlc
from jugal.model.result import RepairStatus, adjusted, parted
from jugal.model.span import ByteSpan
from jugal.samples import encode
from jugal.samples.harm import harm

SETTINGS: dict[str, dict] = {
    "avc": {},
    "avc-slices": {"options": {"bf": "0", "slices": "4"}},
    "avc-no-8x8": {"options": {"x264-params": "8x8dct=0:weightp=0"}},
    "avc-codes": {"options": {"profile": "baseline"}},
    "avc-codes-8x8": {"options": {"x264-params": "cabac=0"}},
    "avc-rare-size": {"size": (336, 176)},
    "avc-60": {"rate": 60},
    "visual": {"video": "mpeg4"},
    "visual-b": {"video": "mpeg4", "options": {"bf": "2"}},
    "visual-own": {"video": "mpeg4", "container": "3gp", "audio": "aac"},
    "hevc": {"video": "libx265", "options": {"x265-params": "log-level=none"}},
    "hevc-one-stream": {"video": "libx265", "options": {"x265-params": "log-level=none:wpp=0:bframes=0"}},
    "mov-pcm": {"container": "mov", "audio": "pcm_s16le"},
    "mov-pcm-big": {"container": "mov", "audio": "pcm_s16be"},
    "mov-pcm24-little": {"container": "mov", "audio": "pcm_s24le"},
    "mov-pcm24": {"container": "mov", "audio": "pcm_s24be"},
    "two-sounds": {"sounds": 2},
    "alac": {"container": "mov", "audio": "alac"},
    "mjpeg": {"container": "mov", "video": "mjpeg", "audio": "pcm_s16le"},
    "prores": {"container": "mov", "video": "prores_ks", "audio": "pcm_s16le"},
}


@cache
def recording(name: str) -> bytes:
    return encode.clip(seed=41, seconds=4.0, **SETTINGS[name])


NOTHING = np.zeros(0, np.uint8)


def without_index(data: bytes) -> bytes:
    return data[: data.find(b"moov") - 4]


def written(data: bytes) -> tuple[bytes, float, str]:
    subject = subject_of(data)
    draft = estimate_index(subject, None)
    out = io.BytesIO()
    write_pieces(out, draft.pieces, subject.source)
    return out.getvalue(), draft.kept, " ".join(draft.steps)


@pytest.mark.parametrize("name", SETTINGS)
def test_picture_and_sound_come_back_without_a_donor(name: str) -> None:
    original = recording(name)
    rebuilt, kept, _ = written(without_index(original))
    truth = share(SETTINGS[name].get("container", "mp4"), original, rebuilt)
    assert truth is not None and truth >= 98
    assert {"hevc": 75, "visu": 55}.get(name[:4], 90) <= kept <= 100


def units_of(name: str) -> tuple[list[Unit], bytes, bytes]:
    """Coded slices in decoding order, the encoder's own words, and the true decoder configuration."""
    data = recording(name)
    track = read_movie(subject_of(data)).tracks[0]
    slices, said = [], b""
    for offset, size in zip(track.offsets.tolist(), track.sizes.tolist(), strict=True):
        at = offset
        while at < offset + size:
            length = int.from_bytes(data[at : at + 4], "big")
            unit = data[at + 4 : at + 4 + length]
            if unit[0] & 31 in (1, 5):
                slices.append(Unit(unit))
            elif unit[0] & 31 == 6:
                said += unit
            at += 4 + length
    with av.open(io.BytesIO(data)) as file:
        return slices, said, bytes(file.streams.video[0].codec_context.extradata or b"")


@pytest.mark.parametrize("name", [n for n in SETTINGS if n.startswith("avc")])
@pytest.mark.parametrize("named", [True, False])
def test_parameters_are_those_of_the_encoder(name: str, named: bool) -> None:
    slices, said, record = units_of(name)
    found = find_parameters(slices, said if named else b"")
    true = read_avc_record(record)
    assert found is not None and isinstance(true, AvcStream)
    sequence, picture = next(iter(true.sequences.values())), next(iter(true.pictures.values()))
    assert (found.width, found.height) == (sequence.width, sequence.height)
    assert found.number_bits == sequence.number_bits
    assert found.order_bits == (sequence.order_bits if sequence.order_type == 0 else 0)
    assert found.bottom_order == picture.bottom_order
    again = AvcStream()
    assert again.add(sequence_set(found)) and again.add(picture_set(found))
    written_set = next(iter(again.sequences.values()))
    assert written_set.shown == shown_size(found)
    assert (written_set.number_bits, written_set.units) == (sequence.number_bits, sequence.units)


def test_no_parameters_are_found_in_noise() -> None:
    rng = np.random.default_rng(3)
    noise = [Unit(bytes([0x65 if k == 0 else 0x41]) + b"\x9a" + rng.bytes(400)) for k in range(40)]
    assert find_parameters(noise) is None
    assert find_parameters([]) is None


@pytest.mark.parametrize(("name", "follow"), [("avc", _follow), ("avc-codes", _follow_codes)])
def test_an_intra_slice_ends_where_it_does_for_its_own_width_only(name: str, follow: Follow) -> None:
    slices, said, _ = units_of(name)
    found = find_parameters(slices, said)
    assert found is not None and found.cabac == (follow is _follow)
    picture = _intra_pictures(slices, found)[0]
    width = found.width // 16
    whole = follow(picture[-1], found, width) + picture[-1].address
    assert whole == width * (found.height // 16)
    assert [follow(picture[0], found, w) for w in (width - 1, width + 1, 2 * width)] == [0, 0, 0]
    if found.cabac:
        assert follow(picture[0], replace(found, qp=found.qp + 3), width) == 0


@pytest.mark.parametrize(("name", "follow"), [("avc", _follow), ("avc-codes", _follow_codes)])
def test_damaged_slices_seldom_end_in_their_place(name: str, follow: Follow) -> None:
    """A sign turned around ends no slice elsewhere; most other flips do, and none lets a kernel run on."""
    slices, said, _ = units_of(name)
    found = find_parameters(slices, said)
    assert found is not None
    intra = _intra_pictures(slices, found)[0][0]
    count = follow(intra, found, found.width // 16)
    assert count > 0
    rng = np.random.default_rng(8)
    same = 0
    for _ in range(200):
        data = intra.data.copy()
        data[rng.integers(intra.start // 8 + 1, data.size - 2)] ^= 1 << int(rng.integers(0, 8))
        data.flags.writeable = False  # as what is read from a file; a kernel is compiled anew for arrays that are not
        read = follow(replace(intra, data=data), found, found.width // 16)
        assert 0 <= read <= MOST_BLOCKS
        same += read == count
    assert same < 100, same


def test_code_tables_hold_no_code_twice() -> None:
    """No code is the beginning of another: each fills a part of its own of all that 16 bits can be."""
    figures = json.loads(files("jugal.kernels").joinpath("cavlc_tables.json").read_text())
    tokens, zeros, runs, patterns, _ = cavlc.figures()
    for name, table in (("token", tokens), ("zeros", zeros), ("run", runs)):
        for row, lengths in zip(table, figures[f"{name}_lengths"], strict=True):
            assert (row > 0).sum() == sum(1 << (16 - n) for n in lengths if n)
    assert sorted(patterns.tolist()) == list(range(48))
    ranges, after = arithmetic.LPS_RANGE, arithmetic.AFTER_LPS
    assert cabac.context_starts(-1).shape == (460, 2) and ranges.shape == (64, 4)
    assert (np.diff(ranges[:63], axis=0) <= 0).all() and (after[:63] <= np.arange(63)).all()


def test_headers_that_lead_to_no_picture_are_in_no_order() -> None:
    """Slices of which none begins a picture, as where each first one is damaged."""
    slices, _, _ = units_of("avc-slices")
    heads = [None for _ in slices]
    assert _in_order(slices, heads, 6) == 0.0


def test_parameter_sets_in_the_stream_are_taken() -> None:
    original = recording("avc")
    with av.open(io.BytesIO(original)) as file:
        record = bytes(file.streams.video[0].codec_context.extradata or b"")
    size = int.from_bytes(record[6:8], "big")
    sequence, rest = record[8 : 8 + size], record[8 + size :]
    picture = rest[3 : 3 + int.from_bytes(rest[1:3], "big")]
    sets = b"".join(len(u).to_bytes(4, "big") + u for u in (sequence, picture))
    at = original.find(b"mdat") - 4
    stopped = original[:at] + bytes(4) + b"mdat" + sets + without_index(original)[at + 8 :]
    rebuilt, kept, steps = written(stopped)
    assert "parameter sets in the stream" in steps and kept >= 99
    truth = share("mp4", original, rebuilt)
    assert truth is not None and truth >= 98


def test_what_is_not_known_is_refused() -> None:
    with pytest.raises(RepairImpossible, match="known kind"):
        written(without_index(encode.clip(seed=1, seconds=1.0, video="libvpx-vp9", audio=None)))
    rng = np.random.default_rng(1)
    with pytest.raises(RepairImpossible):
        written(b"\0\0\0\x18ftypisom\0\0\2\0isomiso2\0\0\0\0mdat" + rng.bytes(200_000))


def test_rates_come_from_the_lengths_of_both() -> None:
    lane = SoundLane(AacConfig(2, 3, 1, 0))
    sound = SoundGuess(lane, b"mp4a", 2, 16, (48000, 44100), "AAC")
    for rate, frames in ((48000, 25), (44100, 29.97), (48000, 59.94), (44100, 24)):
        lane.found.sizes = [200] * round(20 * rate / 1024)
        lane.found.offsets = list(range(len(lane.found.sizes)))
        found = find_rates(NOTHING, round(20 * frames), 0.0, sound)
        assert found.values == rate and abs(found.frames - frames) < 0.2
        assert found.how == FOUND and found.tracks == 1
    lane.found.sizes *= 2
    lane.found.offsets *= 2
    assert find_rates(NOTHING, 20 * 24, 24.0, sound) == Rates(24.0, 44100, 2, STATED)
    assert find_rates(NOTHING, 100, 50.0, None) == Rates(50.0, 0, 0, STATED)
    assert find_rates(NOTHING, 100, 0.0, None).how == ASSUMED


def test_speech_frames_are_told() -> None:
    rng = np.random.default_rng(4)
    frames = b"".join(b"\x3c" + rng.bytes(31) for _ in range(50))
    found = find_sound(np.frombuffer(frames, np.uint8), [ByteSpan(0, len(frames))])
    assert found is not None and found.codec == b"samr"
    noise = np.frombuffer(rng.bytes(4000), np.uint8)
    assert find_sound(noise, [ByteSpan(0, 4000)]) is None


def test_settings_of_the_encoder_are_read() -> None:
    assert named_settings(b"..options: cabac=1 ref=3 crf=23.0 me=hex weightp=2\0") == {
        "cabac": 1,
        "ref": 3,
        "crf": 23,
        "weightp": 2,
    }
    assert named_settings(b"nothing of the kind") == {}


def test_written_bits_read_back() -> None:
    out = BitWriter()
    numbers = [0, 1, 7, 255, 4095]
    for number in numbers:
        out.ue(number)
        out.se(-number)
    out.put(0, 40)
    bits = BitReader(unescape(out.unit()))
    assert [(bits.ue(), bits.se()) for _ in numbers] == [(n, -n) for n in numbers]
    assert b"\0\0\0" not in out.unit() and b"\0\0\1" not in out.unit()


def test_chosen_by_itself_where_there_is_no_donor(tmp_path: Path) -> None:
    path = tmp_path / "a.mp4"
    path.write_bytes(without_index(recording("avc")))
    found = examine_file(path)
    assert {p.method for p in found.repairs} >= {"rebuild-index", "estimate-index"}
    outcome = repair_file(found, tmp_path / "out")
    assert outcome.status is RepairStatus.REPAIRED and outcome.method == "estimate-index"
    assert (outcome.score_after or 0) == pytest.approx(95, abs=1)
    donor = tmp_path / "donor.mp4"
    donor.write_bytes(encode.clip(seed=42, seconds=2.0))
    assert repair_file(found, tmp_path / "better", [examine_file(donor)]).method == "rebuild-index"


# --- the clock by hand


@pytest.mark.parametrize("rate", [24.0, 50.0])
def test_the_frame_rate_can_be_asked_for(rate: float, tmp_path: Path) -> None:
    whole = encode.clip(2.0, seed=61)
    path = tmp_path / "lost.mp4"
    path.write_bytes(harm(whole, "mp4", "no-index", 1).data)
    outcome = repair_file(examine_file(path), tmp_path / "out", [], adjusted("estimate-index", rate))
    assert outcome.output is not None and outcome.method == f"estimate-index@{rate:g}", outcome.error
    with av.open(outcome.output) as file:
        times = sorted(float(f.time or 0) for f in file.decode(video=0))
    assert np.median(np.diff(times)) == pytest.approx(1 / rate, rel=0.02)
    assert any("as asked for" in step for step in outcome.steps)


@pytest.mark.parametrize(
    ("method", "words"),
    [("estimate-index@x", "is no rate"), ("estimate-index@-3", "is no rate"), ("rebuild-index@25", "takes no rate")],
)
def test_what_is_no_rate_is_one_sentence(method: str, words: str, tmp_path: Path) -> None:
    path = tmp_path / "lost.mp4"
    path.write_bytes(harm(encode.clip(1.0, seed=62), "mp4", "no-index", 1).data)
    outcome = repair_file(examine_file(path), tmp_path / "out", [], method)
    assert outcome.output is None and words in (outcome.error or "")


@given(st.sampled_from(["estimate-index", "a"]), st.floats(0.001, 99_999))
def test_a_method_and_its_rate_come_apart_again(name: str, rate: float) -> None:
    again, figure = parted(adjusted(name, rate))
    assert again == name and figure == pytest.approx(rate, rel=1e-5)
    assert parted(name) == (name, None)


def test_the_more_usual_of_rates_that_fit_alike_are_taken() -> None:
    """The lengths of picture and sound fix the ratio of their rates only."""
    lane = PcmLane(4, (4096,), 4096)
    sound = SoundGuess(lane, b"sowt", 2, 16, tuple(_SOUND_RATES), "PCM")
    for rate, frames in ((48000, 30), (48000, 50), (44100, 25), (32000, 50), (16000, 50), (96000, 24)):
        lane.found.offsets, lane.found.sizes = [0], [4 * 8 * rate]
        found = find_rates(NOTHING, 8 * frames, 0.0, sound)
        wanted = {(96000, 24): (48000, 12)}.get((rate, frames), (rate, frames))
        if wanted == (48000, 12):
            assert (found.values, found.frames) in ((96000, 24), (48000, 12))
        else:
            assert (found.values, found.frames) == wanted


def test_tracks_beside_the_picture_are_counted_where_fragments_name_them() -> None:
    lane = SoundLane(AacConfig(2, 3, 1, 0))
    sound = SoundGuess(lane, b"mp4a", 2, 16, (48000, 44100), "AAC")
    lane.found.sizes = [200] * round(2 * 20 * 48000 / 1024)
    lane.found.offsets = list(range(len(lane.found.sizes)))
    assert find_rates(NOTHING, 20 * 25, 0.0, sound, tracks=2).tracks == 2
    assert find_rates(NOTHING, 20 * 25, 0.0, sound, tracks=1).tracks == 1


def test_zeros_and_a_few_frames_are_no_speech() -> None:
    zeros = np.zeros(4000, np.uint8)
    assert find_sound(zeros, [ByteSpan(0, 4000)]) is None
    rng = np.random.default_rng(4)
    few = np.frombuffer(b"".join(b"\x3c" + rng.bytes(31) for _ in range(8)), np.uint8)
    assert find_sound(few, [ByteSpan(0, few.size)]) is None


@pytest.mark.parametrize("sound", ["aac", "alac"])
def test_fragments_are_passed_by_where_streams_are_told(sound: str) -> None:
    """Their indexes are neither sound nor picture, and tell nothing of the rates."""
    container = "mp4" if sound == "aac" else "mov"
    whole = encode.clip(
        4.0, (320, 180), 25, container=container, audio=sound, seed=41, bit_rate=1_500_000,
        mux={"movflags": "frag_keyframe+empty_moov+default_base_moof"},
    )  # fmt: skip
    at = whole.index(b"moov") - 4
    end = at + int.from_bytes(whole[at : at + 4], "big")
    draft = estimate_index(subject_of(whole[:at] + bytes(end - at) + whole[end:]), None)
    text = " ".join(draft.steps)
    assert "25 frames and 48,000 sound values" in text or "25 frames and 44,100 sound values" in text
    assert f"Found {100:,} samples of track 1" in text


def test_predicted_slices_show_which_transforms_there_are() -> None:
    """Intra slices of blocks of 16 read alike with and without transforms of 8x8; predicted ones do not."""
    whole = encode.clip(
        2.0, (320, 176), 25, audio=None, seed=6,
        options={"preset": "ultrafast", "bf": "2", "x264-params": "nal-hrd=vbr:vbv-maxrate=900:vbv-bufsize=900"},
    )  # fmt: skip
    slices, said = _slices_of(whole)
    known = find_parameters(slices, said)
    assert known is not None and not known.eight and share_followed(slices, known) == 1.0
    assert (share_followed(slices, replace(known, eight=True)) or 0.0) < 0.5
    assert find_parameters(slices) is not None and share_followed(slices[:1], known) is None


def _slices_of(data: bytes) -> tuple[list[Unit], bytes]:
    """The coded slices of a clip's picture and the first message that names the encoder's settings."""
    subject = subject_of(data)
    track = next(t for t in read_movie(subject).tracks if t.kind == "video")
    slices, said = [], b""
    for offset, size in zip(track.offsets.tolist(), track.sizes.tolist(), strict=True):
        for _, unit in units(data[offset : offset + size], track.prefix):
            if unit[0] & 31 in (1, 5):
                slices.append(Unit(unit))
            elif unit[0] & 31 == 6 and b"options:" in unit:
                said = said or unit
    return slices, said


def test_an_own_kind_of_sound_is_owned_up_to() -> None:
    whole = encode.clip(4.0, (192, 108), 25, audio="ac3", seed=4, bit_rate=400_000)
    draft = estimate_index(subject_of(without_index(whole)), None)
    assert any("of no known kind" in step for step in draft.steps) and draft.kept <= 50.0


@pytest.mark.parametrize("video", ["libx264", "libx265"])
def test_pictures_that_stand_alone_between_fragments_boxes_are_told(video: str, tmp_path: Path) -> None:
    """Each sample has a fragment of its own, so that none follows another."""
    options = {"x265-params": "log-level=none"} if video == "libx265" else {}
    mux = {"movflags": "frag_every_frame+empty_moov"}
    whole = encode.clip(4.0, (320, 180), 25, seed=41, video=video, options=options, mux=mux)
    assert whole.count(b"moof") > 100
    path = tmp_path / "clip.mp4"
    path.write_bytes(harm(whole, "mp4", "no-index", 1).data)
    outcome = repair_file(examine_file(path), tmp_path / "out")
    assert outcome.output is not None, outcome.error
    with av.open(outcome.output) as file:
        assert sum(1 for _ in file.decode(video=0)) == 100
