"""Headers of slices, whether a clip's slices are followed or not: legal, of one picture, numbered as those around them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import cache

import numpy as np
import pytest

from conftest import track_of
from jugal.binary.limits import DEFAULT_LIMITS
from jugal.binary.source import Source
from jugal.engine.examine import examine_source
from jugal.formats.isobmff.bits import BitWriter
from jugal.formats.isobmff.following import units
from jugal.formats.isobmff.numbering import check_heads, known_sets
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.video import Slice, first_slice
from jugal.kernels import heads
from jugal.model.codes import FindingCode
from jugal.samples import encode

CLIPS = {
    "avc": ("libx264", "keyint=25:bframes=3:slices=1"),
    "avc in order": ("libx264", "keyint=25:bframes=0:slices=1"),
    "avc slices": ("libx264", "keyint=25:bframes=2:slices=3"),
    "avc interlaced": ("libx264", "keyint=25:bframes=2:tff=1:slices=1"),
    "avc sets in band": ("libx264", "keyint=25:repeat-headers=1:slices=1"),
    "hevc": ("libx265", "log-level=none:keyint=25"),
    "hevc slices": ("libx265", "log-level=none:keyint=25:slices=3"),
    "hevc open": ("libx265", "log-level=none:keyint=15:open-gop=1:bframes=4"),
}


@cache
def clip(name: str) -> bytes:
    video, options = CLIPS[name]
    key = "x264-params" if video == "libx264" else "x265-params"
    return encode.clip(3.0, (192, 108), seed=5, video=video, audio=None, options={key: options})


def samples_of(track: Track, data: bytes) -> list[bytes]:
    spans = zip(track.offsets.tolist(), track.sizes.tolist(), strict=True)
    return [data[at : at + size] for at, size in spans]


def heads_of(track: Track, data: bytes) -> np.ndarray:
    assert track.video is not None
    found = np.zeros((track.offsets.size, len(heads.COLUMNS)), np.int64)
    state = np.zeros(track.offsets.size, np.int8)
    hevc = track.codec in (b"hvc1", b"hev1")
    buffer = Source.from_bytes(data).array
    heads.read_heads(
        buffer, track.offsets, track.sizes, track.prefix, hevc, known_sets(track.video), state, found
    )  # fmt: skip
    return found


@pytest.mark.parametrize("name", CLIPS)
def test_headers_are_read_as_one_by_one(name: str) -> None:
    data = clip(name)
    track = track_of(data)
    assert track.video is not None
    for row, sample in zip(heads_of(track, data), samples_of(track, data), strict=True):
        told = first_slice(sample, track.video)
        assert told is not None and row[heads.CAME] == heads.READ
        assert row[heads.NUMBER] == told.number and row[heads.ORDER] == (-1 if told.order is None else told.order)
        flags = (
            heads.HEADED + heads.REFERENCE * told.reference + heads.ANEW * told.idr + heads.FIELD * (told.bottom > 0)
        )
        assert row[heads.FLAGS] == flags
        assert row[heads.FIRST_AT] == track.offsets[0] + data[track.offsets[0] :].index(sample) + next(
            at for at, unit in units(sample, track.prefix) if track.video.unit_type(unit[:2]) in track.video.slices
        )
    buffer, state = Source.from_bytes(data).array, np.zeros(track.offsets.size, np.int8)
    assert check_heads(buffer, track, state) == {}


def turned(
    data: bytes, track: Track, changed: Callable[[Slice, Slice], bool], last: bool = False
) -> Iterator[tuple[bytes, int]]:
    """The clip with one bit of the first slice's header turned over, or the last one's, where ``changed`` says so of the slice
    before and after; with the place of the slice. One of each of some pictures."""
    assert track.video is not None
    for k in range(3, track.offsets.size - 12, 17):
        start = int(track.offsets[k])
        sample = data[start : start + int(track.sizes[k])]
        slices = [
            (at, u) for at, u in units(sample, track.prefix) if track.video.unit_type(u[:2]) in track.video.slices
        ]
        place, unit = slices[-1 if last else 0]
        before = track.video.read_slice(unit)
        for bit in range(16, 64):
            other = bytearray(unit)
            other[bit // 8] ^= 128 >> bit % 8
            after = track.video.read_slice(bytes(other))
            if before is not None and after is not None and changed(before, after):
                at = start + place
                yield data[:at] + bytes(other) + data[at + len(other) :], at
                break


def differs_in(*fields: str) -> Callable[[Slice, Slice], bool]:
    every = ("address", "kind", "picture_set", "number", "order", "reference", "idr")
    return lambda one, two: all((getattr(one, f) != getattr(two, f)) == (f in fields) for f in every)


@pytest.mark.parametrize("followed", [DEFAULT_LIMITS.followed, 0])
@pytest.mark.parametrize(
    ("name", "field", "last"),
    [
        ("avc", "number", False), ("avc", "order", False), ("avc in order", "number", False),
        ("avc slices", "number", False), ("avc slices", "order", True), ("avc slices", "number", True),
        ("avc interlaced", "order", False), ("avc sets in band", "number", False), ("hevc", "order", False),
        ("hevc open", "order", False), ("hevc slices", "order", True),
    ],
)  # fmt: skip
def test_a_number_that_does_not_fit_is_damage(name: str, field: str, last: bool, followed: int) -> None:
    data = clip(name)
    track, tried = track_of(data), 0
    limits = replace(DEFAULT_LIMITS, followed=followed)
    assert examine_source(Source.from_bytes(data), limits).score == 100.0
    for damaged, at in turned(data, track, differs_in(field), last):
        found = examine_source(Source.from_bytes(damaged), limits)
        told = [f for f in found.findings if f.code is FindingCode.MP4_SAMPLE and f.span is not None]
        assert [f.span.start for f in told if f.span] == [at]
        assert found.score is not None and found.score < 100.0
        tried += 1
    assert tried >= 3


@pytest.mark.parametrize("name", ["avc", "avc in order", "avc slices", "hevc"])
def test_a_slice_of_no_picture_is_damage(name: str) -> None:
    """Its parameter set is none that there is, or its kind is not allowed: nothing of it can be read."""
    data = clip(name)
    track = track_of(data)
    assert track.video is not None
    start, size = int(track.offsets[30]), int(track.sizes[30])
    place, unit = next(
        (at, u)
        for at, u in units(data[start : start + size], track.prefix)
        if track.video.unit_type(u[:2]) in track.video.slices
    )
    head = 1 if isinstance(unit, bytes) and track.codec == b"avc1" else 2
    other = unit[:head] + b"\x80\x05\xff\xff" + unit[head + 4 :]
    assert track.video.read_slice(other) is None
    damaged = data[: start + place] + other + data[start + place + len(other) :]
    found = examine_source(Source.from_bytes(damaged), replace(DEFAULT_LIMITS, followed=0))
    assert [f.span.start for f in found.findings if f.span] == [start + place]


@pytest.mark.parametrize("name", ["avc", "avc in order", "hevc"])
def test_pictures_that_were_left_out_accuse_none(name: str) -> None:
    """Recorders drop pictures: the numbers then go on elsewhere, and every byte that is there is as it was written."""
    data = clip(name)
    track = track_of(data)
    for first, count in ((9, 1), (20, 3), (40, 2)):
        which = np.ones(track.offsets.size, np.bool_)
        which[first : first + count] = False
        left = replace(
            track, **{f: getattr(track, f)[which] for f in ("offsets", "sizes", "durations", "sync")},
            composition=track.composition[which] if track.composition.size else track.composition,
        )  # fmt: skip
        assert check_heads(Source.from_bytes(data).array, left, np.zeros(left.offsets.size, np.int8)) == {}


def test_sets_that_change_within_the_stream_are_followed() -> None:
    """Behind the first half the pictures are of another size, with other lengths of the numbers."""
    one, two = clip("avc sets in band"), encode.clip(
        2.0, (640, 352), seed=6, video="libx264", audio=None, options={"x264-params": "keyint=500:repeat-headers=1:slices=1"},
    )  # fmt: skip
    first, second = track_of(one), track_of(two)
    data = one + two
    joined = replace(
        first,
        offsets=np.concatenate((first.offsets, second.offsets + len(one))),
        sizes=np.concatenate((first.sizes, second.sizes)),
        durations=np.concatenate((first.durations, second.durations)),
        sync=np.concatenate((first.sync, second.sync)),
        composition=np.empty(0, np.int64),
    )
    assert first.video is not None and second.video is not None
    assert not np.array_equal(known_sets(first.video), known_sets(second.video))
    assert check_heads(Source.from_bytes(data).array, joined, np.zeros(joined.offsets.size, np.int8)) == {}


@pytest.mark.parametrize("length", [3, 4, 7, 300])
@pytest.mark.parametrize("name", ["avc", "hevc"])
def test_three_zeros_within_a_slice_are_damage(name: str, length: int) -> None:
    data = clip(name)
    track = track_of(data)
    limits = replace(DEFAULT_LIMITS, followed=0)
    for k in (5, 33, 60):
        start = int(track.offsets[k])
        place, unit = max(units(data[start : start + int(track.sizes[k])], track.prefix), key=lambda u: len(u[1]))
        at = start + place + len(unit) // 2
        damaged = data[:at] + bytes(length) + data[at + length :]
        found = examine_source(Source.from_bytes(damaged), limits)
        told = [f.span.start for f in found.findings if f.code is FindingCode.MP4_HOLE and f.span]
        assert len(told) == 1 and at - 2 <= told[0] <= at
        # Up to its end they may follow a unit.
        end = start + place + len(unit)
        padded = data[: end - length] + bytes(length) + data[end:]
        found = examine_source(Source.from_bytes(padded), limits)
        assert not [f for f in found.findings if f.code is FindingCode.MP4_HOLE]


def field(unit: int, number: int, bottom: int, order: int, address: int = 0, idr_id: int | None = None) -> bytes:
    """A slice of one field, by hand (7.3.3): I in IDR pictures, else P; numbers and orders take 4 bits."""
    writer = BitWriter()
    for value in (address, 7 if idr_id is not None else 5, 0):
        writer.ue(value)
    writer.put(number, 4)
    writer.put(2 + bottom, 2)
    if idr_id is not None:
        writer.ue(idr_id)
    writer.put(order, 4)
    body = bytes([unit]) + writer.plain() + b"\x9d\x5b" * 8
    return len(body).to_bytes(4, "big") + body


IDR, REF, LOOSE = 0x65, 0x41, 0x01


@pytest.mark.parametrize(
    ("slices", "came"),
    [
        # The second field of an IDR picture is predicted from the first, and has no number of its own.
        ([field(IDR, 0, 0, 0, idr_id=1), field(REF, 0, 1, 1)], heads.READ),
        ([field(IDR, 0, 0, 0, idr_id=1), field(IDR, 0, 1, 1, idr_id=1)], heads.READ),
        ([field(IDR, 0, 0, 0, idr_id=1), field(IDR, 0, 1, 1, idr_id=2)], heads.APART),
        ([field(REF, 3, 0, 6), field(REF, 3, 0, 6, 5), field(LOOSE, 3, 1, 7), field(LOOSE, 3, 1, 7, 5)], heads.READ),
        ([field(REF, 3, 0, 6), field(REF, 4, 1, 7)], heads.APART),
        ([field(REF, 3, 0, 6), field(REF, 3, 0, 4, 5)], heads.TWO_ORDERS),
        ([field(REF, 3, 0, 6, 5), field(REF, 3, 0, 6)], heads.APART),
        ([field(REF, 3, 0, 6, 40)], heads.ILLEGAL),
        ([field(REF, 3, 0, 6), field(IDR, 3, 1, 7, idr_id=0)], heads.ILLEGAL),
    ],
)
def test_fields_of_one_picture(slices: list[bytes], came: int) -> None:
    """Pictures in two fields, as broadcast cameras write them."""
    sets = np.zeros((1, heads.KNOWN), np.int64)
    sets[0, [heads.UNITS, heads.NUMBER_BITS, heads.ORDER_BITS]] = 40, 4, 4
    sample = np.frombuffer(b"".join(slices), np.uint8)
    found = np.zeros((1, len(heads.COLUMNS)), np.int64)
    where = np.zeros(1, np.int64), np.array([sample.size], np.int64)
    heads.read_heads(sample, *where, 4, False, sets, np.zeros(1, np.int8), found)
    assert found[0, heads.CAME] == came
    if came == heads.READ:
        assert not found[0, heads.FLAGS] & heads.FIELD and found[0, heads.ORDER] % 2 == 0


def test_numbers_of_fields_accuse_none_that_are_left_out() -> None:
    """Each of a pair has the same frame_num; the next pair one more where these are referred to (7.4.3)."""
    sets = np.zeros((1, heads.KNOWN), np.int64)
    sets[0, [heads.UNITS, heads.NUMBER_BITS, heads.ORDER_BITS]] = 40, 4, 4
    samples = [field(IDR, 0, 0, 0, idr_id=1)] + [field(REF, k // 2 % 16, k % 2, k % 16) for k in range(1, 80)]

    def odd(samples: list[bytes]) -> list[int]:
        sizes = np.array([len(s) for s in samples], np.int64)
        found, flags = np.zeros((sizes.size, len(heads.COLUMNS)), np.int64), np.zeros(sizes.size, np.bool_)
        data, state = np.frombuffer(b"".join(samples), np.uint8), np.zeros(sizes.size, np.int8)
        heads.read_heads(data, np.cumsum(sizes) - sizes, sizes, 4, False, sets, state, found)
        heads.misnumbered(found, 16, 8, flags)
        return np.flatnonzero(flags).tolist()

    assert odd(samples) == []
    assert odd(samples[:20] + samples[23:]) == [] and odd(samples[:20] + samples[26:]) == []
    pairs = [one + two for one, two in zip(samples[::2], samples[1::2], strict=True)]
    assert odd(pairs) == [] and odd(pairs[:20] + pairs[22:]) == []
    wrong = field(REF, 12, 0, 10 * 2 % 16) + field(REF, 12, 1, (10 * 2 + 1) % 16)
    assert odd([*pairs[:10], wrong, *pairs[11:]]) == [10]
