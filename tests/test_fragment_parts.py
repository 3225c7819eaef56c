"""Parts of fragmented clips by themselves: indexes of segments, what of stranded fragments is reached, where samples cannot be."""

from __future__ import annotations

import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jugal.binary.source import Source
from jugal.formats.isobmff.boxes import Box, Tree, read_tree
from jugal.formats.isobmff.fragments import (
    Unreached,
    heads_of_fragments,
    segment_indexes,
    share_from_start,
    ticks_never_there,
    unreached,
)
from jugal.formats.isobmff.movie import Movie
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.write import box_bytes, resized
from jugal.model.span import ByteSpan


def sidx(rows: list[tuple[int, int]], version: int = 0, ahead: int = 0, ident: int = 1, scale: int = 1000) -> bytes:
    """8.16.3: rows of (bytes, ticks), the first segment ``ahead`` bytes behind the box."""
    times = struct.pack(">QQ" if version else ">II", 0, ahead)
    body = struct.pack(">B3xII", version, ident, scale) + times + struct.pack(">HH", 0, len(rows))
    return box_bytes(b"sidx", body + b"".join(struct.pack(">III", *row, 9 << 28) for row in rows))


def indexed(*boxes: bytes) -> tuple[Source, Tree]:
    source = Source.from_bytes(box_bytes(b"ftyp", b"isom\0\0\0\0") + b"".join(boxes))
    return source, read_tree(source)


def fragment(time: int, data: bytes = b"\x55" * 40, ident: int = 1) -> bytes:
    tfhd = box_bytes(b"tfhd", struct.pack(">II", 0x20000, ident))
    tfdt = box_bytes(b"tfdt", struct.pack(">IQ", 1 << 24, time))
    head = box_bytes(b"mfhd", struct.pack(">II", 0, 1))
    return box_bytes(b"moof", head + box_bytes(b"traf", tfhd + tfdt)) + box_bytes(b"mdat", data)


def track(ident: int, seconds: float, scale: int = 1000) -> Track:
    found = Track(Box(b"trak", 0, 8, 8), ident, timescale=scale)
    found.durations = np.full(10, round(seconds * scale / 10), np.int64)
    return found


# ---------------------------------------------------------------- indexes of segments


@given(
    st.lists(st.tuples(st.integers(1, 2**31 - 1), st.integers(0, 2**31)), min_size=1, max_size=20), st.integers(0, 1)
)
def test_segments_begin_where_the_ones_before_end(rows: list[tuple[int, int]], version: int) -> None:
    box = sidx(rows, version, ahead=100)
    source, tree = indexed(box)
    (found,) = segment_indexes(source, tree)
    assert found.ident == 1 and found.seconds == pytest.approx(sum(ticks for _, ticks in rows) / 1000)
    expected = source.size + 100
    for (size, _), start in zip(rows, found.starts.tolist(), strict=True):
        assert start == expected
        expected += size


@pytest.mark.parametrize(
    "box",
    [
        sidx([(500, 1000), (2**31 + 300, 1000)]),
        sidx([(500, 1000)], scale=0),
        sidx([]),
        box_bytes(b"sidx", sidx([(500, 1000)] * 3)[8:-12]),
        box_bytes(b"sidx", bytes(10)),
    ],
    ids=["leads to further indexes", "no time scale", "no rows", "cut short", "no more than a head"],
)
def test_an_index_that_tells_nothing_of_segments_is_not_believed(box: bytes) -> None:
    assert segment_indexes(*indexed(box)) == []


def test_what_was_promised_is_held_against_what_is_there() -> None:
    source, tree = indexed(sidx([(500, 2000)] * 4))
    assert ticks_never_there(source, tree, track(1, 6.0)) == 2000
    assert ticks_never_there(source, tree, track(1, 7.8)) == 0, "rounding is no loss"
    assert ticks_never_there(source, tree, track(1, 9.0)) == 0
    assert ticks_never_there(source, tree, track(2, 6.0)) == 0, "it is another track's"
    assert ticks_never_there(*indexed(sidx([(500, 2000)])), track(1, 0.5)) == 0, (
        "each segment may have an index of its own"
    )


# ---------------------------------------------------------------- stranded fragments


@given(st.lists(st.booleans(), min_size=1, max_size=12), st.integers(0, 3))
def test_samples_are_unreached_with_their_fragment(hidden: list[bool], inside: int) -> None:
    starts = np.arange(1, len(hidden) + 1) * 1000
    found = Unreached(starts, np.array(hidden))
    assert found.holds(starts + 250 * inside).tolist() == hidden
    assert not found.holds(np.array([0, 999])).any(), "what lies before them all is reached"


def test_what_follows_a_reached_fragment_is_reached_too() -> None:
    chain = fragment(0) + fragment(100) + fragment(200)
    whole = box_bytes(b"ftyp", b"isom\0\0\0\0") + bytes(64) + chain
    begin = whole.index(b"moof") - 4
    second = whole.index(b"moof", begin + 8) - 4
    source = Source.from_bytes(whole)

    def hidden(listed: list[int]) -> list[bool]:
        tree = read_tree(source, begin)
        if listed:
            index = sidx([(second - begin, 100)] * len(listed), ahead=0)
            (holder,) = read_tree(Source.from_bytes(index)).top
            holder.start, holder.body, holder.end = listed[0] - len(index), listed[0] - len(index) + 8, listed[0]
            tree.top.insert(0, holder)
            joined = Source.from_bytes(whole[: holder.start] + index + whole[listed[0] :])
            return unreached(joined, Movie(tree, None, False, stranded=tree.all(b"moof"))).hidden.tolist()
        return unreached(source, Movie(tree, None, False, stranded=tree.all(b"moof"))).hidden.tolist()

    assert hidden([]) == [True, True, True]
    assert hidden([begin]) == [False, False, False], "the others follow it without a break"


def test_the_first_fragments_time_says_what_went_before() -> None:
    source, tree = indexed(fragment(300), fragment(400), fragment(500))
    assert share_from_start(source, tree) == pytest.approx(0.5)
    source, tree = indexed(fragment(0), fragment(100), fragment(200))
    assert share_from_start(source, tree) == 1.0
    source, tree = indexed(fragment(300))
    assert share_from_start(source, tree) == 1.0, "one alone does not tell how long it lasts"


# ---------------------------------------------------------------- where samples cannot be


def test_fragments_heads_are_found_with_those_of_their_media_data() -> None:
    one, two = fragment(0, b"moof and more of the like"), fragment(100)
    data = bytes(33) + one + two
    source = Source.from_bytes(data)
    found = heads_of_fragments(source, ByteSpan(0, len(data)))
    assert [(s.start, s.end) for s in found] == [
        (at := data.index(b"\0\0\0\x10mfhd") - 8, data.index(b"mdat", at) + 4),
        (second := 33 + len(one), data.index(b"mdat", second) + 4),
    ]
    assert heads_of_fragments(source, ByteSpan(0, 20)) == []
    assert [s.start for s in heads_of_fragments(source, ByteSpan(40, len(data)))] == [second]


@pytest.mark.parametrize("wide", [False, True])
def test_a_box_of_another_size_keeps_its_kind_of_header(wide: bool) -> None:
    box = Box(b"mdat", 100, 116 if wide else 108, 500)
    at, head = resized(box, 4000)
    assert at == 100 and len(head) == box.body - box.start and head[4:8] == b"mdat"
    stated = int.from_bytes(head[8:16] if wide else head[:4], "big")
    assert stated == 4000 and (int.from_bytes(head[:4], "big") == 1) is wide
