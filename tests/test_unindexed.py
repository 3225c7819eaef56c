"""Clips without an index whose media data stop being one recording: where that is, and healthy twins without a word."""

from __future__ import annotations

from functools import cache

import pytest

from conftest import examine, subject_of
from jugal.binary.source import Source
from jugal.formats.detect import detect
from jugal.formats.isobmff.unindexed import find_break
from jugal.model.codes import FindingCode
from jugal.samples import encode
from jugal.samples.harm import harm

SETTINGS: dict[str, dict] = {
    "avc": {},
    "codes": {"options": {"x264-params": "cabac=0:bframes=2"}},
    "hevc": {"video": "libx265", "options": {"x265-params": "log-level=none"}},
    "visual": {"video": "mpeg4"},
    "visual-between": {"video": "mpeg4", "options": {"bf": "2"}},
    "h263": {"video": "h263", "container": "3gp", "size": (176, 144)},
    "motion-jpeg": {"video": "mjpeg", "container": "mov", "audio": "pcm_s16le"},
    "prores": {"video": "prores_ks", "container": "mov", "audio": "pcm_s16le"},
    "prores-24-bit-sound": {"video": "prores_ks", "container": "mov", "audio": "pcm_s24le"},
}


@cache
def recording(name: str) -> bytes:
    return encode.clip(seed=17, seconds=4.0, **SETTINGS[name])


def kind_of(name: str) -> str:
    return SETTINGS[name].get("container", "mp4")


@pytest.mark.parametrize("name", SETTINGS)
def test_a_tail_of_another_recording_is_placed(name: str) -> None:
    harmed = harm(recording(name), kind_of(name), "kindred-tail", 11)
    found = find_break(subject_of(harmed.data))
    assert found is not None
    # A coded frame may have to be read for a while before it shows.
    assert abs(found.place - harmed.start) <= 8192
    assert found.said
    told = [f for f in examine(harmed.data, f"clip.{kind_of(name)}").findings if f.code is FindingCode.MP4_SAMPLE]
    assert any(f.message == found.said and f.span is not None and f.span.start == found.place for f in told)


@pytest.mark.parametrize("name", SETTINGS)
@pytest.mark.parametrize("name_of_harm", ["no-index", "truncate-sector", "zero-tail"])
def test_what_goes_on_as_one_recording_is_not_broken(name: str, name_of_harm: str) -> None:
    """A recording that was stopped, or cut, ends where it ends; up to there nothing is wrong."""
    harmed = harm(recording(name), kind_of(name), name_of_harm, 11)
    found = find_break(subject_of(harmed.data))
    assert found is None or found.place >= min(harmed.start, len(harmed.data)) - 65_536
    if name_of_harm == "no-index":
        assert found is None


def test_nothing_and_noise_are_no_recordings() -> None:
    assert find_break(subject_of(b"")) is None
    assert find_break(subject_of(b"\0\0\0\x18ftypisom\0\0\2\0isomiso2\0\0\0\0mdat" + bytes(100_000))) is None


def test_media_data_that_end_where_their_box_says_are_known_without_what_was_before_them() -> None:
    whole = encode.clip(2.0, (192, 108), seed=33, mux={"movflags": "faststart"})
    rest = whole[whole.index(b"mdat") - 100 :].replace(b"stco", b"\0" * 4)
    assert detect(Source.from_bytes(rest)).format == "mp4"
    assert detect(Source.from_bytes(rest[:-40])).format != "mp4", "a word in other data is no box"
