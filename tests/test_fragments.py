"""Fragmented clips whose chain of boxes breaks: what players lose of them, and the fragments closed up again."""

from __future__ import annotations

from pathlib import Path

import pytest
from bench.measure import in_step, share

from conftest import examine
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import RepairImpossible, Subject
from jugal.formats.isobmff.fragments import close_up
from jugal.model.codes import FindingCode
from jugal.model.result import RepairStatus, Verdict
from jugal.samples import encode

MUX = {"movflags": "frag_keyframe+empty_moov+default_base_moof"}


@pytest.fixture(scope="module")
def clip() -> bytes:
    return encode.clip(10.0, (192, 108), 25, seed=11, bit_rate=400_000, mux=MUX)


def fragment_starts(data: bytes) -> list[int]:
    found, at = [], data.find(b"moof")
    while at >= 0:
        found.append(at - 4)
        at = data.find(b"moof", at + 4)
    return found


def harmed(data: bytes, name: str) -> bytes:
    starts = fragment_starts(data)
    middle = starts[len(starts) // 2]
    words = (b"The mussels were counted twice. " * 200)[:4096]
    return {
        "hole over a header": data[: middle - 1000] + bytes(4096) + data[middle + 3096 :],
        "cluster lost before a header": data[: middle - 3000] + data[middle + 1096 :],
        "text over a header": data[: middle - 100] + words + data[middle + 3996 :],
        "cluster lost inside": data[: middle + 9000] + data[middle + 13_096 :],
        "two breaks": data[: starts[2]]
        + bytes(512)
        + data[starts[2] + 512 : starts[6]]
        + bytes(512)
        + data[starts[6] + 512 :],
    }[name]


@pytest.mark.parametrize(
    "name",
    ["hole over a header", "cluster lost before a header", "text over a header", "cluster lost inside", "two breaks"],
)
def test_score_forecast_and_result_are_what_a_decoder_shows(clip: bytes, name: str, tmp_path: Path) -> None:
    data = harmed(clip, name)
    path = tmp_path / "clip.mp4"
    path.write_bytes(data)
    found = examine_file(path)
    now = share("mp4", clip, data)
    assert found.score == pytest.approx(now, abs=4), name
    assert found.verdict is Verdict.REPAIRABLE
    assert any(f.code is FindingCode.MP4_FRAGMENT for f in found.findings)
    outcome = repair_file(found, tmp_path / "out")
    assert outcome.status is RepairStatus.REPAIRED and outcome.method == "close-fragments" and outcome.output
    after = share("mp4", clip, Path(outcome.output).read_bytes())
    assert after is not None and now is not None and after > now + 20
    # Frames that a decoder conceals well count as right, while we count them lost: up to the fragment's last frame.
    for claimed in (outcome.score_after, found.attainable):
        assert claimed is not None and after - 7 <= claimed <= after + 5
    again = examine_file(outcome.output)
    assert not any(f.code in (FindingCode.MP4_FRAGMENT, FindingCode.BOX_SIZE) for f in again.findings)
    assert path.read_bytes() == data


def test_healthy_fragments_are_not_accused_and_not_closed(clip: bytes) -> None:
    found = examine(clip, "clip.mp4")
    assert found.verdict is Verdict.INTACT and not found.repairs
    with pytest.raises(RepairImpossible, match="No fragment"):
        close_up(Subject(Source.from_bytes(clip)))


def test_junk_behind_whole_fragments_is_a_tail(clip: bytes) -> None:
    found = examine(clip + b"\x07" * 3000, "clip.mp4")
    assert [f.code for f in found.findings] == [FindingCode.TAIL] and found.score == 100.0
    again = examine(clip + bytes(600) + b"moof and nothing else" * 9, "clip.mp4")
    assert not any(f.code is FindingCode.MP4_FRAGMENT for f in again.findings)


def test_the_new_index_of_fragments_leads_to_them(clip: bytes) -> None:
    draft = close_up(Subject(Source.from_bytes(harmed(clip, "hole over a header"))))
    source = harmed(clip, "hole over a header")
    out = b"".join(p if isinstance(p, bytes) else source[p.start : p.end] for p in draft.pieces)
    at = out.rfind(b"tfra")
    count = int.from_bytes(out[at + 16 : at + 20], "big")
    rows = [out[at + 20 + 19 * i : at + 39 + 19 * i] for i in range(count)]
    places = [int.from_bytes(row[8:16], "big") for row in rows]
    assert count == len(fragment_starts(clip)) - 1
    assert all(out[p + 4 : p + 8] == b"moof" for p in places)
    times = [int.from_bytes(row[:8], "big") for row in rows]
    assert times == sorted(times) and int.from_bytes(out[-4:], "big") == len(out) - out.rfind(b"mfra") + 4


def test_the_segment_index_is_written_anew_where_there_was_one() -> None:
    mux = {"movflags": "frag_keyframe+empty_moov+default_base_moof+global_sidx"}
    whole = encode.clip(8.0, (192, 108), 25, seed=12, bit_rate=300_000, mux=mux)
    assert b"sidx" in whole and examine(whole).verdict is Verdict.INTACT
    sick = harmed(whole, "hole over a header")
    draft = close_up(Subject(Source.from_bytes(sick)))
    out = b"".join(p if isinstance(p, bytes) else sick[p.start : p.end] for p in draft.pieces)
    at = out.index(b"sidx")
    count = int.from_bytes(out[at + 34 : at + 36], "big")
    assert count == len(fragment_starts(out)) == len(fragment_starts(whole)) - 1
    place = at - 4 + int.from_bytes(out[at - 4 : at], "big")
    scale = int.from_bytes(out[at + 12 : at + 16], "big")
    ticks = 0
    for number in range(count):
        row = out[at + 36 + 12 * number : at + 48 + 12 * number]
        assert out[place + 4 : place + 8] == b"moof"
        place += int.from_bytes(row[:4], "big")
        ticks += int.from_bytes(row[4:8], "big")
        assert row[8] >> 4 == 9  # begins with a sync sample
    assert out[place + 4 : place + 8] == b"mfra"
    assert ticks / scale == pytest.approx(8.0, abs=0.05)
    # A decoder that knows the old index finds its way past the break by it; no less may be left.
    assert (share("mp4", whole, out) or 0) >= (share("mp4", whole, sick) or 100) > 80


@pytest.mark.parametrize("codec", ["libx264", "mpeg4"])
def test_without_movie_header_and_donor_all_samples_come_back_in_step(codec: str, tmp_path: Path) -> None:
    """The fragments' own boxes are stepped over: nothing is lost between the samples on both sides of one."""
    original = encode.clip(4.0, (320, 180), 25, seed=11, video=codec, options={"bf": "0"}, mux=MUX)
    path, true = tmp_path / "clip.mp4", tmp_path / "true.mp4"
    true.write_bytes(original)
    path.write_bytes(original[fragment_starts(original)[0] :])
    outcome = repair_file(examine_file(path), tmp_path / "repaired")
    assert outcome.status is RepairStatus.REPAIRED and outcome.output is not None
    assert outcome.method == "estimate-index"
    # How much of the first packet of sound is played only the lost header said, and all times began behind it.
    truth = in_step(str(true), outcome.output)
    assert truth is not None and truth >= 98
    rebuilt = Path(outcome.output).read_bytes()
    # The boxes between the samples are still there, now as part of the media data.
    assert len(fragment_starts(rebuilt)) == len(fragment_starts(original)) - 1 == 3
