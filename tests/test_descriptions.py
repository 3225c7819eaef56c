"""Sample descriptions that were overwritten, and indexes cut short: what decoders still open, and what a donor lends."""

from __future__ import annotations

from pathlib import Path

import pytest
from bench.measure import share

from conftest import examine
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.isobmff.video import listed_sets
from jugal.model.codes import FindingCode
from jugal.model.result import RepairStatus, Verdict
from jugal.samples import encode


def overwritten(data: bytes, kind: bytes, length: int = 24) -> bytes:
    """``data`` with zeros over the head and the first bytes of the box ``kind``."""
    at = data.index(kind) - 4
    return data[:at] + bytes(length) + data[at + length :]


@pytest.mark.parametrize(("codec", "record"), [("libx264", b"avcC"), ("libx265", b"hvcC")])
@pytest.mark.parametrize("flags", ["", "faststart", "frag_keyframe+empty_moov"])
def test_a_description_without_its_record_is_fatal_and_lent_by_a_sibling(
    codec: str, record: bytes, flags: str, tmp_path: Path
) -> None:
    quiet = {"x265-params": "log-level=none"} if codec == "libx265" else {}
    mux = {"movflags": flags} if flags else {}
    whole, sibling = (
        encode.clip(2.0, (192, 108), 25, video=codec, seed=s, options=quiet, mux=mux, bit_rate=300_000) for s in (5, 6)
    )
    assert examine(whole, "clip.mp4").verdict is Verdict.INTACT
    sick, donor = tmp_path / "sick.mp4", tmp_path / "sibling.mp4"
    sick.write_bytes(overwritten(whole, record))
    donor.write_bytes(sibling)
    found = examine_file(sick)
    shown = share("mp4", whole, sick.read_bytes()) or 0.0
    assert found.score is not None and found.score <= 2.0 and shown <= 50.0
    assert [f.code for f in found.findings] == [FindingCode.MP4_TABLES]
    outcome = repair_file(found, tmp_path / "out", [examine_file(donor)])
    assert outcome.status is RepairStatus.REPAIRED and outcome.method == "lend-description" and outcome.output
    assert outcome.score_after == 100.0
    assert share("mp4", whole, Path(outcome.output).read_bytes()) == pytest.approx(100.0)


def test_sets_in_the_stream_make_up_for_those_a_record_does_not_list() -> None:
    whole = encode.clip(2.0, (192, 108), 25, seed=7, options={"x264-params": "repeat-headers=1"}, bit_rate=300_000)
    at = whole.index(b"avcC") + 4
    assert listed_sets(whole[at - 100 : at + 60]) == 1
    unlisted = whole[: at + 5] + bytes([0xE0]) + whole[at + 6 :]
    assert examine(unlisted, "clip.mp4").verdict is Verdict.INTACT
    without = encode.clip(2.0, (192, 108), 25, seed=7, bit_rate=300_000)
    at = without.index(b"avcC") + 4
    unlisted = without[: at + 5] + bytes([0xE0]) + without[at + 6 :]
    found = examine(unlisted, "clip.mp4")
    assert found.score is not None and found.score <= 2.0 and found.findings[0].code is FindingCode.MP4_TABLES


@pytest.mark.parametrize(("kind", "opens"), [(b"udta", True), (b"sgpd", True), (b"stsz", False), (b"stts", False)])
def test_an_index_that_was_cut_opens_where_decoders_open_it(kind: bytes, opens: bool) -> None:
    """Cut inside the last box of its kind, which is the sound's; a decoder decides whether the rest is shown."""
    whole = encode.clip(3.0, (192, 108), 25, seed=9, bit_rate=300_000)
    cut = whole[: whole.rindex(kind) + 8]
    shown = share("mp4", whole, cut) or 0.0
    assert (shown > 40.0) is opens
    found = examine(cut, "clip.mp4")
    assert found.verdict is not Verdict.INTACT and found.score is not None
    assert found.score == pytest.approx(shown, abs=2.5)


@pytest.mark.parametrize("share_left", [0.3, 0.7, 0.95])
def test_of_chunks_whose_places_are_cut_off_players_show_those_that_are_left(share_left: float) -> None:
    """One run of chunks of as many samples tells of no more chunks than are listed; what is gone counts as missing."""
    whole = encode.clip(4.0, (192, 108), 25, seed=4, sounds=2)
    at = whole.index(b"stco", whole.rindex(b"trak")) - 4
    size = int.from_bytes(whole[at : at + 4], "big")
    sick = whole[: at + 16 + 4 * int(share_left * (size - 16) / 4)]
    found = examine(sick, "clip.mp4")
    seen = share("mp4", whole, sick)
    assert seen is not None and 60 < seen < 100 and found.score == pytest.approx(seen, abs=8)
