"""Slice segments of HEVC followed to their last bit: every coding tree block of healthy ones, and where damaged ones break."""

from __future__ import annotations

import io
from collections import Counter
from functools import cache

import numpy as np
import pillow_heif
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examine, track_of
from jugal.formats.isobmff import segments
from jugal.formats.isobmff.bits import BitReader, BitWriter
from jugal.formats.isobmff.following import still_fault, units
from jugal.formats.isobmff.segments import ReferenceSet, _reference_set, follow_segment
from jugal.formats.isobmff.video import HevcStream
from jugal.kernels.hevc import B, Form, I, P, read_segment
from jugal.kernels.macroblocks import ENDS_LATE, WHOLE_SLICE
from jugal.model.codes import FindingCode
from jugal.model.result import Verdict
from jugal.samples import encode
from jugal.samples.scenes import riverbed

#: x265's own settings, the pixels, the size, and the kinds of slice that must come up.
CODINGS: dict[str, tuple[str, str, tuple[int, int], set[int]]] = {
    "usual": ("bframes=4", "yuv420p", (176, 144), {I, P, B}),
    "one-stream": ("wpp=0", "yuv420p", (176, 144), {I, P, B}),
    "uneven-parts": ("amp=1:rect=1:ref=5:bframes=6:weightb=1:rd=6", "yuv420p", (176, 144), {I, P, B}),
    "small-trees": ("ctu=16:min-cu-size=8:max-tu-size=16:qg-size=8", "yuv420p", (176, 144), {I, P, B}),
    "large-blocks": ("ctu=32:min-cu-size=16:qg-size=16", "yuv420p", (176, 144), {I, P, B}),
    "deep-transforms": ("tu-intra-depth=4:tu-inter-depth=4:limit-tu=0", "yuv420p", (176, 144), {I, P, B}),
    "plain-blocks": ("tskip=1:keyint=4:sao=0:signhide=0", "yuv420p", (176, 144), {I, P, B}),
    "lossless": ("lossless=1:keyint=8", "yuv420p", (176, 144), {I, P, B}),
    "lossless-blocks": ("cu-lossless=1", "yuv420p", (176, 144), {I, P, B}),
    "several-slices": ("slices=3", "yuv420p", (176, 256), {I, P, B}),
    "own-headers": ("repeat-headers=1:aud=1:hrd=1:vbv-maxrate=900:vbv-bufsize=900", "yuv420p", (176, 144), {I, P, B}),
    "layers": ("temporal-layers=3:open-gop=1:keyint=10:scaling-list=default", "yuv420p", (176, 144), {I, P, B}),
    "ten-bit-odd-size": ("weightp=1:bframes=2", "yuv420p10le", (170, 118), {I, P, B}),
    "one-tree": ("bframes=2", "yuv420p", (64, 64), {I, P, B}),
}
UNFOLLOWED = {"4:2:2": "yuv422p", "grey": "gray"}


@cache
def recording(name: str) -> bytes:
    words, pixels, size, _ = CODINGS[name] if name in CODINGS else ("bframes=2", UNFOLLOWED[name], (176, 144), set())
    options = {"x265-params": f"log-level=none:{words}"}
    return encode.clip(1.2, size, audio=None, video="libx265", seed=5, pixels=pixels, options=options)


def segments_of(name: str) -> list[tuple[int, bytes, HevcStream]]:
    """(sample, unit, stream) of every slice segment."""
    data = recording(name)
    track = track_of(data)
    stream = track.video
    assert isinstance(stream, HevcStream)
    found = []
    for k, (at, size) in enumerate(zip(track.offsets.tolist(), track.sizes.tolist(), strict=True)):
        for _, unit in units(data[at : at + size], track.prefix):
            kind = stream.unit_type(unit[:2])
            if kind in stream.parameters:
                stream.add(unit)
            elif kind in stream.slices:
                found.append((k, unit, stream))
    return found


@pytest.mark.parametrize("name", CODINGS)
def test_every_tree_of_a_healthy_clip_is_read(name: str) -> None:
    trees: Counter[int] = Counter()
    kinds, of = set(), 0
    for sample, unit, stream in segments_of(name):
        found = follow_segment(unit, stream)
        assert found is not None and found.whole
        assert found.address == trees[sample]
        trees[sample] += found.macroblocks
        kinds.add(found.kind)
        of = found.of
    assert kinds == CODINGS[name][3]
    assert set(trees.values()) == {of} and len(trees) == 30
    assert examine(recording(name)).verdict is Verdict.INTACT


@pytest.mark.parametrize("name", UNFOLLOWED)
def test_what_is_not_followed_is_not_accused(name: str) -> None:
    assert {follow_segment(unit, stream) for _, unit, stream in segments_of(name)} == {None}
    assert examine(recording(name)).verdict is Verdict.INTACT


@pytest.mark.parametrize("name", ["usual", "uneven-parts", "plain-blocks", "ten-bit-odd-size"])
def test_a_flipped_bit_breaks_a_segment_soon_after_it(name: str) -> None:
    parts = [(unit, stream) for _, unit, stream in segments_of(name) if len(unit) > 200]
    rng = np.random.default_rng(4)
    noticed, near = 0, 0
    for _ in range(150):
        unit, stream = parts[rng.integers(len(parts))]
        at = int(rng.integers(40, len(unit) - 20))
        found = follow_segment(unit[:at] + bytes([unit[at] ^ 1 << int(rng.integers(8))]) + unit[at + 1 :], stream)
        assert found is not None
        noticed += not found.whole
        near += not found.whole and at - 2 <= found.at <= at + 4096
    assert noticed >= 0.93 * 150, noticed
    assert near == noticed


def test_the_finding_lies_at_the_flip() -> None:
    data = bytearray(recording("usual"))
    track = track_of(bytes(data))
    largest = int(np.argmax(track.sizes))
    at = int(track.offsets[largest]) + int(track.sizes[largest]) // 2
    data[at] ^= 16
    found = examine(bytes(data))
    grave = [f for f in found.findings if f.code is FindingCode.MP4_SAMPLE]
    assert found.verdict is Verdict.DAMAGED and grave and grave[0].span is not None
    assert at - 2 <= grave[0].span.start <= at + 4096


@cache
def still() -> bytes:
    out = io.BytesIO()
    pillow_heif.from_pillow(riverbed(640, 480, 3)).save(out, quality=80)
    return out.getvalue()


def test_a_flip_in_a_still_picture_is_seen_when_enough_of_it_was_read() -> None:
    assert examine(still()).verdict is Verdict.INTACT
    media = still().find(b"mdat") + 4
    seen = []
    for share in (0.02, 0.5, 0.9):
        data = bytearray(still())
        at = media + int(share * (len(data) - media))
        data[at] ^= 8
        found = examine(bytes(data))
        seen.append(found.verdict)
        if found.verdict is Verdict.DAMAGED:
            place = min(f.span.start for f in found.findings if f.code is FindingCode.MP4_SAMPLE and f.span)
            assert at - 2 <= place <= at + 4096
            assert found.score is not None and abs(found.score - 100 * share) < 12
    # From the first blocks on nothing makes sense where the stream is another than we think: nothing is said.
    assert seen[1:] == [Verdict.DAMAGED, Verdict.DAMAGED]


def test_a_picture_read_with_anothers_sets_is_not_accused() -> None:
    _, unit, stream = segments_of("usual")[0]
    other = segments_of("small-trees")[0][2]
    sample = len(unit).to_bytes(4, "big") + unit
    assert still_fault(sample, stream) is None
    assert follow_segment(unit, other) != follow_segment(unit, stream)
    assert still_fault(sample, other) is None


@given(st.binary(min_size=16, max_size=400), st.integers(0, 2), st.integers(0, 51), st.booleans(), st.booleans())
@settings(max_examples=120)
def test_any_bytes_are_read_to_some_end(noise: bytes, kind: int, qp: int, sync: bool, raw: bool) -> None:
    form = Form(
        kind, 1, 200, 120, 5, 3, 2, 5, 2, 2, 1, 1, 1, int(raw), 3, 5, 8, 8, 8, 8, 1, 3, 1, 1, 1, int(sync), 5, 3, 2, 0, 1,
        (2, 1, 0)[kind],
    )  # fmt: skip
    data = np.frombuffer(noise, np.uint8)
    done, bit, came_to = read_segment(data, 0, 8 * len(noise) - 1, qp, form)
    assert 0 <= done <= 27 and WHOLE_SLICE <= came_to <= ENDS_LATE and 0 <= bit <= 8 * len(noise) + 4096


def written_set(before: list[tuple[int, bool]], after: list[tuple[int, bool]], first: bool) -> BitWriter:
    out = BitWriter()
    if not first:
        out.put(0, 1)
    out.ue(len(before))
    out.ue(len(after))
    for side in (before, after):
        last = 0
        for distance, used in side:
            out.ue(abs(distance - last) - 1)
            out.put(int(used), 1)
            last = distance
    return out


def test_reference_sets_are_read_as_they_are_written() -> None:
    before, after = [(-1, True), (-4, False)], [(2, True)]
    first = _reference_set(BitReader(written_set(before, after, True).plain() + b"\0"), ())
    assert (first.before, first.after, first.used) == (tuple(before), tuple(after), 2)
    again = _reference_set(BitReader(written_set(after[:0], after, False).plain() + b"\0"), (first,))
    assert again == ReferenceSet((), tuple(after))
    # Predicted from the first (7.4.8): one picture later, of which the one two before is dropped.
    out = BitWriter()
    out.put(0b11, 2)  # from another, and it lies before
    out.ue(0)  # by one picture
    for flags, count in ((1, 1), (0b00, 2), (1, 1), (1, 1)):
        out.put(flags, count)
    predicted = _reference_set(BitReader(out.plain() + b"\0"), (first,))
    assert predicted == ReferenceSet(((-1, True), (-2, True)), ((1, True),))


def test_a_picture_larger_than_any_level_is_not_followed(monkeypatch: pytest.MonkeyPatch) -> None:
    """What a damaged parameter set claims must not cost memory."""
    _, unit, stream = segments_of("usual")[0]
    assert follow_segment(unit, stream) is not None
    segments._sequence.cache_clear()
    monkeypatch.setattr(segments, "_MOST_SAMPLES", 176 * 144 - 1)
    assert follow_segment(unit, stream) is None
    segments._sequence.cache_clear()


def test_a_filled_end_is_told_where_it_begins() -> None:
    """Where rows begin is written in a segment's header, and does not go with one whose end is zeros: the fill tells the place."""
    data = encode.clip(
        2.0, (640, 360), seed=4, video="libx265", audio=None, options={"x265-params": "log-level=none:bframes=0"}
    )
    track = track_of(data)
    told = 0
    for k in range(2, 40, 6):
        end = int(track.offsets[k] + track.sizes[k])
        at = (end - 1) // 512 * 512
        if at - int(track.offsets[k]) < 1024:
            continue
        found = examine(data[:at] + bytes(1024) + data[at + 1024 :])
        first = min(f.span.start for f in found.findings if f.span is not None)
        assert at - 2 <= first < at + 512
        told += 1
    assert told >= 3
