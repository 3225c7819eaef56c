"""Slices of AVC followed to their last bit: every macroblock of healthy ones, and where damaged ones break."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from functools import cache

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examine, track_of
from jugal.binary.limits import Limits
from jugal.binary.source import Source
from jugal.engine.examine import examine_source
from jugal.formats.base import Subject
from jugal.formats.isobmff import payload
from jugal.formats.isobmff.bits import unescape
from jugal.formats.isobmff.following import follow_samples, spared_before, units
from jugal.formats.isobmff.slices import escaped, follow_slice, read_header
from jugal.formats.isobmff.video import AvcStream, first_slice
from jugal.kernels import cabac, cavlc
from jugal.kernels.macroblocks import ENDS_LATE, WHOLE_SLICE, B, Form, I, P
from jugal.model.codes import FindingCode
from jugal.model.result import Verdict
from jugal.samples import encode

#: x264's own settings, the pixels, and the kinds of slice that must come up.
CODINGS: dict[str, tuple[str, str, set[int]]] = {
    "all-partitions": ("ref=5:bframes=4:b-pyramid=normal:partitions=all:subme=9", "yuv420p", {I, P, B}),
    "temporal-direct": ("direct=temporal:bframes=5:b-adapt=0:weightp=2:ref=4", "yuv420p", {I, P, B}),
    "small-transform": ("8x8dct=0:partitions=all:bframes=2", "yuv420p", {I, P, B}),
    "several-slices": ("slice-max-mbs=22:bframes=2", "yuv420p", {I, P, B}),
    "intra-only": ("keyint=1", "yuv420p", {I}),
    "constrained-intra": ("constrained-intra=1", "yuv420p", {I, P, B}),
    "lossless-raw": ("qp=0:keyint=5", "yuv420p", {I, P}),
    "access-marks": ("aud=1:open-gop=1:keyint=10:fake-interlaced=1:bframes=2:b-adapt=0", "yuv420p", {I, P, B}),
    "grey": ("bframes=3", "gray", {I, P, B}),
    "ten-bit": ("bframes=3:partitions=all", "yuv420p10le", {I, P, B}),
    "ten-bit-4:2:2": ("bframes=3:partitions=all", "yuv422p10le", {I, P, B}),
    "codes": ("cabac=0:ref=3:bframes=3:partitions=all", "yuv420p", {I, P, B}),
    "codes-no-8x8": ("cabac=0:8x8dct=0:bframes=0:ref=2", "yuv420p", {I, P}),
    "codes-small-slices": ("cabac=0:slice-max-size=400:partitions=all", "yuv420p", {I, P, B}),
}
UNFOLLOWED = {"fields": ("interlaced=1", "yuv420p"), "full-colour": ("bframes=1", "yuv444p")}


@cache
def recording(name: str) -> bytes:
    words, pixels = CODINGS[name][:2] if name in CODINGS else UNFOLLOWED[name]
    return encode.clip(1.2, (176, 144), audio=None, seed=5, pixels=pixels, options={"x264-params": words})


def slices_of(name: str) -> Iterator[tuple[int, bytes, AvcStream]]:
    """(sample, unit, stream) of every slice."""
    data = recording(name)
    track = track_of(data)
    assert isinstance(track.video, AvcStream)
    for k, (at, size) in enumerate(zip(track.offsets.tolist(), track.sizes.tolist(), strict=True)):
        for _, unit in units(data[at : at + size], track.prefix):
            if unit[0] & 31 in AvcStream.slices:
                yield k, unit, track.video


@pytest.mark.parametrize("name", CODINGS)
def test_every_macroblock_of_a_healthy_clip_is_read(name: str) -> None:
    macroblocks: Counter[int] = Counter()
    kinds, wanted = set(), {11 * 9}
    for sample, unit, stream in slices_of(name):
        found = follow_slice(unit, stream)
        assert found is not None and found.whole
        assert found.address == macroblocks[sample]
        macroblocks[sample] += found.macroblocks
        kinds.add(found.kind)
        if not stream.sequences[0].frames_only:
            wanted = {11 * 10}  # rows come in pairs
    assert kinds == CODINGS[name][2]
    assert set(macroblocks.values()) == wanted
    assert examine(recording(name)).verdict is Verdict.INTACT


@pytest.mark.parametrize("name", UNFOLLOWED)
def test_what_is_not_followed_is_not_accused(name: str) -> None:
    assert {follow_slice(unit, stream) for _, unit, stream in slices_of(name)} == {None}
    assert examine(recording(name)).verdict is Verdict.INTACT


@pytest.mark.parametrize(("name", "least"), [("all-partitions", 0.97), ("ten-bit-4:2:2", 0.97), ("codes", 0.45)])
def test_a_flipped_bit_breaks_a_slice_soon_after_it(name: str, least: float) -> None:
    """In CABAC all that follows changes; of codes many are as long with another value, which nothing tells."""
    slices = [(unit, stream) for _, unit, stream in slices_of(name) if len(unit) > 400]
    rng = np.random.default_rng(4)
    far, noticed = 0, 0
    for _ in range(200):
        unit, stream = slices[rng.integers(len(slices))]
        at = int(rng.integers(60, len(unit) - 40))
        harmed = unit[:at] + bytes([unit[at] ^ 1 << int(rng.integers(8))]) + unit[at + 1 :]
        found = follow_slice(harmed, stream)
        assert found is not None
        noticed += not found.whole
        far += not found.whole and not at - 2 <= found.at <= at + 4096
    assert noticed >= least * 200, noticed
    assert far <= 2


def test_the_finding_lies_at_the_flip_and_costs_what_follows() -> None:
    data = bytearray(recording("all-partitions"))
    track = track_of(bytes(data))
    last_key = int(np.flatnonzero(track.sync)[-1])
    victim = last_key + 2
    at = int(track.offsets[victim]) + int(track.sizes[victim]) // 2
    data[at] ^= 4
    found = examine(bytes(data))
    grave = [f for f in found.findings if f.code is FindingCode.MP4_SAMPLE]
    assert found.verdict is Verdict.DAMAGED and len(grave) == 1
    assert grave[0].span is not None and at - 2 <= grave[0].span.start <= at + 4096
    assert (
        found.score is not None and 100 * (1 - (track.offsets.size - victim) / track.offsets.size) < found.score < 100
    )
    assert found.media["video_followed"] == "to the last bit"
    # A track beyond the limit is looked at by its units only, and that is said.
    brief = examine_source(Source.from_bytes(bytes(data)), Limits(followed=0))
    assert brief.verdict is Verdict.INTACT and brief.media["video_followed"] == "by its units"


def test_a_slice_too_few_is_noticed_at_the_next() -> None:
    data = recording("several-slices")
    track = track_of(data)
    at, size = int(track.offsets[3]), int(track.sizes[3])
    parts = [(start, unit) for start, unit in units(data[at : at + size], 4) if unit[0] & 31 == 1]
    assert len(parts) == 5
    shorter = b"".join(len(u).to_bytes(4, "big") + u for k, (_, u) in enumerate(parts) if k != 1)
    good = data[at : at + size]
    sample = np.frombuffer(good + shorter, np.uint8)
    assert isinstance(track.video, AvcStream)
    faults, _ = follow_samples(sample, track.video, np.array([0, 0, len(good)]), np.array([size, size, len(shorter)]))
    assert list(faults) == [2]
    assert faults[2].at == len(good) + 4 + len(parts[0][1]) + 4 and 0.5 < faults[2].spared < 0.9


def test_a_stream_that_never_follows_is_let_alone() -> None:
    """As it is where the parameter sets are another's."""
    data = recording("all-partitions")
    track = track_of(data)
    assert isinstance(track.video, AvcStream)
    pictures = {n: replace(p, qp=p.qp - 9) for n, p in track.video.pictures.items()}
    wrong = AvcStream(4, track.video.sequences, pictures)
    array = np.frombuffer(data, np.uint8)
    assert not follow_samples(array, wrong, track.offsets, track.sizes)[0]
    some = [follow_slice(unit, wrong) for _, unit, _ in slices_of("all-partitions")]
    assert sum(f is not None and not f.whole for f in some) > len(some) // 2


def test_the_picture_before_a_fault_is_spared() -> None:
    data = recording("several-slices")
    track = track_of(data)
    at, size = int(track.offsets[0]), int(track.sizes[0])
    sample = np.frombuffer(data[at : at + size], np.uint8)
    assert isinstance(track.video, AvcStream)
    shares = [spared_before(sample, track.video, fault) for fault in range(0, size + 1, max(1, size // 16))]
    assert shares[0] == 0.0 and shares == sorted(shares) and shares[-1] > 0.9


def test_loss_is_handed_on_to_the_next_sync_sample() -> None:
    track = track_of(recording("access-marks"))
    track.handler = b"vide"
    track.sync = np.array([True, False, False, True, False, False, True, False])
    bad = np.array([False, True, False, False, True, True, False, False])
    lost, spared = payload.spread_to_sync(track, bad)
    assert lost.tolist() == [False, True, True, False, True, True, False, False]
    assert spared.tolist() == [1, 0, 0, 1, 0, 0, 1, 1]
    half = np.where(bad, [0, 0.75, 0, 0, 0.25, 0.5, 0, 0], 0.0)
    _, spared = payload.spread_to_sync(track, bad, half)
    assert spared.tolist() == [1, 0.75, 0.75, 1, 0.25, 0.25, 1, 1]
    alone = np.array([False, True, False, False, False, False, False, False])
    lost, spared = payload.spread_to_sync(track, bad, half, alone)
    assert lost.tolist() == [False, True, False, False, True, True, False, False]
    assert spared.tolist() == [1, 0.75, 1, 1, 0.25, 0.25, 1, 1]


def test_pictures_that_no_other_needs_are_told_by_their_headers() -> None:
    data = recording("all-partitions")
    track = track_of(data)
    every = np.ones(track.offsets.size, np.bool_)
    alone = payload.stands_alone(Subject(Source.from_bytes(data)), track, every)
    kinds = []
    for at, size in zip(track.offsets.tolist(), track.sizes.tolist(), strict=True):
        assert track.video is not None
        head = first_slice(data[at : at + size], track.video)
        assert head is not None
        kinds.append(head.kind)
    assert alone.any() and not alone.all()
    assert all(kind == B for kind, one in zip(kinds, alone, strict=True) if one)
    assert first_slice(b"\0\0\0\x01\x65\0\0\0\0", track.video) is None


@given(st.binary(min_size=8, max_size=300), st.integers(0, 2), st.integers(0, 51), st.booleans())
@settings(max_examples=150)
def test_any_bytes_are_read_to_some_end(noise: bytes, kind: int, qp: int, eight: bool) -> None:
    data, end = np.frombuffer(noise, np.uint8), 8 * len(noise) - 1
    form = Form(kind, 3, 4, 60, 2, 3, int(eight), 0, 2, 3072)
    for done, bit, came_to in (
        cabac.read_slice(data, 0, end, qp, form, cabac.context_starts(0 if kind != I else -1)),
        cavlc.read_slice(data, 0, end, form, cavlc.figures()),
    ):
        assert 0 <= done <= 57 and WHOLE_SLICE <= came_to <= ENDS_LATE
        assert 0 <= bit <= 8 * len(noise) + 4096


@given(st.lists(st.sampled_from([0, 0, 0, 1, 3, 9]), min_size=2, max_size=60), st.data())
def test_places_are_counted_with_their_escapes(values: list[int], data: st.DataObject) -> None:
    unit = bytes([0x41, *values, 7])
    plain = unescape(unit[1:])
    place = data.draw(st.integers(0, len(plain) - 1))
    at = escaped(unit, place, 1)
    assert unit[at] == plain[place] or at == len(unit) - 1
    assert len(unescape(unit[1:at])) in (place, place + 1)


def test_headers_that_say_what_they_cannot_are_none() -> None:
    _, unit, stream = next(slices_of("all-partitions"))
    picture = stream.pictures[0]
    sequence = stream.sequences[picture.sequence]
    header = read_header(unit, sequence, picture)
    assert header is not None and header.kind == I and header.aligned
    assert read_header(unit[:2], sequence, picture) is None
    assert read_header(bytes([unit[0]]) + b"\x88\xff" + unit[3:], sequence, picture) is None
    # A header cut off is a fault; one of a picture set that is not there is no slice of this stream.
    cut = follow_slice(unit[:4], stream)
    assert cut is not None and not cut.whole and cut.macroblocks == 0
    assert follow_slice(unit[:1] + bytes(40), stream) is None


def test_tables_are_there_for_all_kinds_of_slice() -> None:
    assert cabac.context_starts(2).shape == cabac.context_starts(-1).shape == (460, 2)
    assert sorted(cavlc.figures().inter_patterns.tolist()) == list(range(48))


@pytest.mark.parametrize(("share", "believed"), [(0.02, False), (0.7, True)])
def test_the_only_intra_picture_is_accused_when_a_part_of_it_was_read(share: float, believed: bool) -> None:
    data = bytearray(recording("small-transform"))
    track = track_of(bytes(data))
    assert isinstance(track.video, AvcStream) and track.sync.sum() <= 2
    keys = np.flatnonzero(track.sync).tolist()
    for key in keys:
        at = int(track.offsets[key]) + int(share * int(track.sizes[key])) + 40
        data[at] ^= 32
    faults, _ = follow_samples(np.frombuffer(bytes(data), np.uint8), track.video, track.offsets, track.sizes)
    assert (set(keys) <= set(faults)) is believed
