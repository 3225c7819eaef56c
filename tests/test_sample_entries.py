"""What decoders are told of a codec: overwritten parts of a sample entry come back, by its make or by the samples themselves."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from pathlib import Path

import pytest
from bench.measure import share
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examine
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import Subject
from jugal.formats.isobmff.configs import wrong_config
from jugal.formats.isobmff.entries import wrong_entry
from jugal.formats.isobmff.following import ends_whole, reads_whole
from jugal.formats.isobmff.movie import read_movie
from jugal.formats.isobmff.restoring import fix_tables, restored, table_faults
from jugal.formats.isobmff.video import read_record
from jugal.model.codes import FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Verdict
from jugal.samples import encode

MAKES: dict[str, dict[str, object]] = {
    "avc": {"audio": "aac"},
    "hevc": {"video": "libx265", "options": {"x265-params": "log-level=none:keyint=25"}},
    "mpeg4": {"video": "mpeg4"},
    "alac": {"audio": "alac"},
    "mov": {"container": "mov", "audio": "pcm_s16le"},
    "wrapped": {"container": "mov", "audio": "alac"},
    "prores": {"container": "mov", "video": "prores_ks", "audio": "aac"},
}


@cache
def clip(make: str) -> bytes:
    return encode.clip(1.2, (192, 108), seed=4, **MAKES[make])  # type: ignore[arg-type]


@cache
def sliced(width: int, height: int) -> bytes:
    return encode.clip(1.2, (width, height), seed=4, options={"x264-params": "slices=4:keyint=10"})


def inside(data: bytes, name: bytes, offset: int, new: bytes) -> tuple[bytes, int]:
    """``data`` with other bytes ``offset`` behind the name of the last box so called, in the index."""
    at = data.rindex(name) + offset
    return data[:at] + new + data[at + len(new) :], at


def turned(data: bytes, name: bytes, offset: int, bit: int) -> tuple[bytes, int]:
    at = data.rindex(name) + offset
    return inside(data, name, offset, bytes([data[at] ^ 1 << bit]))


Harm = Callable[[bytes], tuple[bytes, int]]


def over(name: bytes, offset: int, new: bytes) -> Harm:
    return lambda data: inside(data, name, offset, new)


def flip(name: bytes, offset: int, bit: int) -> Harm:
    return lambda data: turned(data, name, offset, bit)


LOSING: dict[str, tuple[str, Harm]] = {
    "size of the entry": ("avc", flip(b"avc1", -4, 4)),
    "codec": ("avc", over(b"avc1", 0, b"avq1")),
    "name of the record": ("avc", over(b"avcC", 0, b"avc\xc3")),
    "plain name of the record": ("avc", over(b"avcC", 0, b"bvcC")),
    "smaller size of the record": ("avc", flip(b"avcC", -1, 5)),
    "name of the descriptor of pictures": ("mpeg4", over(b"mp4v", 83, b"e\xf3ds")),
    "sets counted": ("avc", flip(b"avcC", 9, 1)),
    "length of the sequence set": ("avc", flip(b"avcC", 11, 2)),
    "name of the record of HEVC": ("hevc", over(b"hvcC", 0, b"hvcB")),
    "bit of the sequence set": ("avc", flip(b"avcC", 16, 3)),
    "bit of the layer": ("mpeg4", lambda data: turned(data, b"\0\0\1\x20", 7, 5)),
    "name of the cookie": ("alac", over(b"alac", 0, b"al\x61\xe3")),
}


@pytest.mark.parametrize("name", LOSING)
def test_what_no_decoder_shows_comes_back_to_the_byte(name: str, tmp_path: Path) -> None:
    make, harm = LOSING[name]
    healthy = clip(make)
    sick, where = harm(healthy)
    suffix = "mov" if "container" in MAKES[make] else "mp4"
    path = tmp_path / f"sick.{suffix}"
    path.write_bytes(sick)
    found = examine_file(path)
    seen = share("mp4", healthy, sick) or 0.0
    assert seen < 60 and found.score == pytest.approx(seen, abs=6), name
    first = next(f for f in found.findings if f.severity in (Severity.MAJOR, Severity.FATAL) and f.span)
    assert first.code is FindingCode.MP4_TABLES and first.span and abs(first.span.start - where) < 300
    outcome = repair_file(found, tmp_path / "out", [])
    assert outcome.method == "fix-tables" and outcome.output
    assert Path(outcome.output).read_bytes() == healthy and outcome.score_after == 100.0


HARMLESS: dict[str, tuple[str, Harm]] = {
    "number of the data reference": ("avc", over(b"avc1", 10, b"\2\1")),
    "larger size of the record": ("avc", flip(b"avcC", -3, 6)),
    "codec of sound": ("avc", over(b"mp4a", 1, b"\xf0")),
    "codec of described pictures": ("mpeg4", over(b"mp4v", 0, b"np4v")),
    "entries": ("avc", flip(b"avc1", -5, 3)),
    "length in the descriptor": ("avc", flip(b"esds", 12, 3)),
}


@pytest.mark.parametrize("name", HARMLESS)
def test_what_decoders_do_not_need_costs_nothing(name: str) -> None:
    make, harm = HARMLESS[name]
    sick, where = harm(clip(make))
    found = examine(sick, "clip.mp4")
    assert found.score == 100.0 == pytest.approx(share("mp4", clip(make), sick) or 0, abs=0.1)
    assert any(f.code is FindingCode.MP4_TABLES and f.span and abs(f.span.start - where) < 64 for f in found.findings)


def test_a_configuration_that_reaches_behind_the_file_gives_it_up() -> None:
    """Only one that lies elsewhere in the file is read all the same."""
    healthy = encode.sound("aac", "ipod", 2.0)
    for most, lost in ((b"\x05\x80\xa0\x80\x05", True), (b"\x05\x80\x80\x81\x05", False)):
        at = healthy.rindex(b"esds") + healthy[healthy.rindex(b"esds") :].index(b"\x05\x80\x80\x80\x05")
        sick = healthy[:at] + most + healthy[at + 5 :]
        found = examine(sick, "sound.m4a")
        true = share("m4a", healthy, sick) or 0.0
        assert (found.score or 0.0) == pytest.approx(0.0 if lost else 100.0, abs=2) == pytest.approx(true, abs=2)
        assert any(f.code is FindingCode.MP4_TABLES for f in found.findings)


@pytest.mark.parametrize("harm", [over(b"esds", 1, b"3"), flip(b"esds", 34, 1), flip(b"esds", 8, 3)])
def test_what_only_some_decoders_get_along_without_comes_back(harm: Harm) -> None:
    """Raw blocks of stereo sound of a usual rate can be guessed to be that."""
    subject = Subject(Source.from_bytes(harm(clip("avc"))[0]))
    _, mended = restored(subject, movie := read_movie(subject), table_faults(subject, movie))
    assert mended and all(at + len(new) <= subject.size for fault in mended for at, new in fault.patches)
    draft = fix_tables(subject, None)
    parts = (p if isinstance(p, bytes) else subject.source.read(p.start, p.length) for p in draft.pieces)
    assert b"".join(parts) == clip("avc")


@pytest.mark.parametrize("make", MAKES)
def test_healthy_entries_have_no_faults(make: str) -> None:
    subject = Subject(Source.from_bytes(clip(make)))
    for track in read_movie(subject).tracks:
        assert wrong_entry(subject.source, track) == [] and wrong_config(subject, track) == []
    assert examine(clip(make), f"clip.{'mov' if 'container' in MAKES[make] else 'mp4'}").verdict is Verdict.INTACT


@pytest.mark.parametrize("size", [(192, 108), (192, 144), (192, 80), (176, 108), (208, 108)])
def test_the_last_slice_tells_whether_a_picture_is_of_the_size_that_is_said(size: tuple[int, int]) -> None:
    """Four slices a picture: a wrong height spoils none of them, but the last one does not end where the picture would."""
    subject = Subject(Source.from_bytes(sliced(192, 108)))
    track = next(t for t in read_movie(subject).tracks if t.kind == "video")
    other = Source.from_bytes(sliced(*size))
    stream = read_record(other.read(other.find(b"stsd"), 4096))
    assert stream is not None
    samples = [subject.source.read(at, n) for at, n in zip(track.offsets.tolist(), track.sizes.tolist(), strict=True)]
    assert len(samples) == 30
    for sample in samples:
        assert ends_whole(sample, stream) is reads_whole(sample, stream) is (size == (192, 108))


def test_reserved_bits_that_some_leave_zero_are_no_fault() -> None:
    """ISO/IEC 14496-15 5.3.3.1: ones are written there; not by all, and none reads them."""
    healthy = clip("avc")
    at = healthy.rindex(b"avcC")
    loose = healthy[: at + 8] + b"\x03\x01" + healthy[at + 10 :]
    assert examine(loose, "clip.mp4").verdict is Verdict.INTACT


def test_a_codec_that_is_not_known_is_no_fault() -> None:
    """Two letters off all that are known."""
    healthy = clip("avc")
    sick, _ = inside(healthy, b"avc1", 0, b"xyz1")
    assert not any("codec is called" in f.message for f in examine(sick, "clip.mp4").findings)


def test_what_is_overwritten_behind_a_record_is_none_of_it() -> None:
    """Zeros up to the end of the entry: the record ends where it says."""
    healthy = clip("avc")
    record = healthy.rindex(b"avcC") - 4
    end = record + int.from_bytes(healthy[record : record + 4], "big")
    entry = healthy.rindex(b"avc1", 0, record) - 4
    stop = entry + int.from_bytes(healthy[entry : entry + 4], "big")
    assert stop > end
    sick = healthy[:end] + bytes(stop - end) + healthy[stop:]
    assert not any("states" in f.message for f in examine(sick, "clip.mp4").findings)


def test_damaged_samples_say_nothing_of_the_configuration() -> None:
    """Some of them still read."""
    healthy = clip("avc")
    track = next(t for t in read_movie(Subject(Source.from_bytes(healthy))).tracks if t.kind == "video")
    sick = bytearray(healthy)
    for number in range(2):
        at = int(track.offsets[number]) + 40
        sick[at : at + 200] = bytes(200)
    subject = Subject(Source.from_bytes(bytes(sick)))
    assert all(wrong_config(subject, t) == [] for t in read_movie(subject).tracks)


@settings(max_examples=25)
@given(st.sampled_from(sorted(MAKES)), st.data())
def test_any_bytes_of_an_entry_may_be_anything(make: str, data: st.DataObject) -> None:
    healthy = clip(make)
    at = healthy.rindex(b"stsd") - 4
    size = int.from_bytes(healthy[at : at + 4], "big")
    where = data.draw(st.integers(at, at + size - 1))
    new = data.draw(st.binary(min_size=1, max_size=8))
    found = examine(healthy[:where] + new + healthy[where + len(new) :], "clip.mp4")
    assert found.error is None and found.score is not None and 0 <= found.score <= 100
