"""HEVC's parameter sets found from its segments alone, held against those that the encoder wrote."""

from __future__ import annotations

from dataclasses import replace
from functools import cache

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import track_of
from jugal.formats.isobmff import segment_parameters
from jugal.formats.isobmff.following import units
from jugal.formats.isobmff.segment_parameters import (
    SegmentParameters,
    find_segment_parameters,
    picture_set,
    sequence_set,
    shown_size,
    video_set,
)
from jugal.formats.isobmff.segments import Picture, ReferenceSet, Sequence, _picture, _sequence
from jugal.formats.isobmff.video import HevcStream
from jugal.samples import encode

QUIET = "log-level=none:"
SETTINGS: dict[str, dict] = {
    "usual": {"options": {"x265-params": QUIET}},
    "ten-bit": {"options": {"x265-params": QUIET}, "pixels": "yuv420p10le"},
    "one-stream": {"options": {"x265-params": QUIET + "wpp=0:bframes=0"}},
    "fast": {"options": {"preset": "ultrafast", "x265-params": QUIET}},
    "small-trees": {"options": {"x265-params": QUIET + "ctu=16:max-tu-size=16:bframes=4"}},
    "uneven": {"options": {"x265-params": QUIET + "ctu=32:rect=1:amp=1:ref=3"}},
    "no-offsets": {"options": {"x265-params": QUIET + "sao=0:signhide=0"}},
    "deep": {"options": {"x265-params": QUIET + "tu-intra-depth=3:tu-inter-depth=3"}},
    "odd-size": {"options": {"x265-params": QUIET}, "size": (854, 480)},
    "rare-size": {"options": {"x265-params": QUIET}, "size": (328, 200)},
}


@cache
def stream_of(name: str) -> tuple[tuple[bytes, ...], Sequence, Picture]:
    """The segments of a recording in decoding order, and the parameters that its encoder states."""
    data = encode.clip(seed=41, seconds=2.0, video="libx265", **SETTINGS[name])
    track = track_of(data)
    stream = track.video
    assert isinstance(stream, HevcStream)
    segments = tuple(
        unit
        for offset, size in zip(track.offsets.tolist(), track.sizes.tolist(), strict=True)
        for _, unit in units(data[offset : offset + size], stream.prefix)
        if stream.unit_type(unit[:2]) in stream.slices
    )
    sequence, picture = (
        read(next(unit for key, unit in stream.sets.items() if key[0] == kind))  # type: ignore[operator]
        for kind, read in ((33, _sequence), (34, _picture))
    )
    assert sequence is not None and picture is not None
    return segments, sequence, picture


@pytest.mark.parametrize("name", SETTINGS)
def test_parameters_are_those_of_the_encoder(name: str) -> None:
    segments, sequence, picture = stream_of(name)
    found = find_segment_parameters(segments)
    assert found is not None
    if name == "deep":
        # How deep blocks are split is known only as far as the pictures that were followed show it.
        assert found.sequence.intra_depth <= sequence.intra_depth and found.sequence.inter_depth <= sequence.inter_depth
        found = replace(found, sequence=replace(found.sequence, intra_depth=2, inter_depth=2))
    assert found.sequence == sequence
    assert found.picture == picture
    assert shown_size(found) == SETTINGS[name].get("size", (320, 180))
    assert found.reordered == (0 if "bframes=0" in SETTINGS[name]["options"]["x265-params"] else 2)


@pytest.mark.parametrize("name", ["usual", "ten-bit", "uneven"])
def test_written_sets_are_read_as_what_was_found(name: str) -> None:
    _, sequence, picture = stream_of(name)
    before = (ReferenceSet(((-1, True), (-3, False)), ((2, True),)),)
    for sets in ((), before):
        known = SegmentParameters(replace(sequence, reference_sets=sets, long_term=bool(sets)), picture, 3, 2)
        assert _sequence(sequence_set(known)) == known.sequence
        assert _picture(picture_set(known)) == known.picture
        stream = HevcStream()
        assert all(stream.add(write(known)) for write in (video_set, sequence_set, picture_set))
        assert set(stream.pictures) == {3}
        assert stream.sequences[0].shown == shown_size(known)


def test_damage_in_predicted_pictures_does_not_hide_the_parameters() -> None:
    segments, sequence, picture = stream_of("usual")
    worn = list(segments)
    for k in (5, 17, 30):
        worn[k] = worn[k][:3] + bytes(b ^ 0x5A for b in worn[k][3:])
    found = find_segment_parameters(worn)
    assert found is not None and (found.sequence, found.picture) == (sequence, picture)


def test_without_a_whole_picture_of_its_own_nothing_is_claimed(monkeypatch: pytest.MonkeyPatch) -> None:
    segments, *_ = stream_of("usual")
    monkeypatch.setattr(segment_parameters, "_MOST_READ", 200_000)
    assert find_segment_parameters(segments[1:]) is None
    assert find_segment_parameters(segments[:2]) is None
    cut = (segments[0][: len(segments[0]) // 2], *segments[1:])
    assert find_segment_parameters(cut) is None


@given(st.data())
def test_no_bytes_whatever_stop_the_search(data: st.DataObject) -> None:
    head = st.sampled_from([b"\x26\x01", b"\x28\x01", b"\x02\x01", b"\x2a\x01"])
    units_ = [data.draw(head) + data.draw(st.binary(min_size=2, max_size=60)) for _ in range(4)]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(segment_parameters, "_MOST_READ", 20_000)
        found = find_segment_parameters(units_)
    assert found is None or found.sequence.width > 0
