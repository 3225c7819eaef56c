"""Fragmented clips whose chain of boxes breaks: what players lose of them, and the fragments closed up again."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from bench.measure import in_step, share

from conftest import examine
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import RepairImpossible, Subject
from jugal.formats.isobmff.fragments import all_fragments, close_up, displacements, ticks_not_listed
from jugal.formats.isobmff.movie import read_movie
from jugal.model.codes import FindingCode
from jugal.model.result import Examination, RepairOutcome, RepairStatus, Verdict
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


# --- sizes, offsets and indexes of fragments


def resized(data: bytes, kind: bytes, change: int) -> bytes:
    at = data.index(kind) - 4
    return data[:at] + (int.from_bytes(data[at : at + 4], "big") + change).to_bytes(4, "big") + data[at + 4 :]


def mended(data: bytes, folder: Path, *donors: bytes) -> tuple[Examination, RepairOutcome, bytes]:
    """What was found in ``data``, what became of its repair, and the file that it wrote."""
    path = folder / "clip.mp4"
    path.write_bytes(data)
    lent = []
    for number, donor in enumerate(donors):
        (folder / f"donor-{number}.mp4").write_bytes(donor)
        lent.append(examine_file(folder / f"donor-{number}.mp4"))
    found = examine_file(path)
    outcome = repair_file(found, folder / "out", lent)
    assert outcome.status is RepairStatus.REPAIRED and outcome.output is not None, outcome.error
    return found, outcome, Path(outcome.output).read_bytes()


def test_an_index_that_covers_fragments_ends_before_them(clip: bytes, tmp_path: Path) -> None:
    """Players follow what they think lies in the index, and lose their way where it ends within a box."""
    reach = fragment_starts(clip)[4] + 5000
    sick = resized(clip, b"moov", reach - clip.index(b"moov") - 1200)
    found, outcome, out = mended(sick, tmp_path)
    assert found.score == pytest.approx(share("mp4", clip, sick), abs=3) and 30 < found.score < 60
    first = found.main_finding
    assert first is not None and first.code is FindingCode.BOX_SIZE and "covers the boxes" in first.message
    assert outcome.method == "fix-boxes" and out == clip


def test_an_index_that_ends_where_a_box_begins_costs_nothing(clip: bytes, tmp_path: Path) -> None:
    """Where players go on at a box, they find all that follows, and those before it lay in the index."""
    moov = clip.index(b"moov") - 4
    size = int.from_bytes(clip[moov : moov + 4], "big")
    sick = resized(clip, b"moov", fragment_starts(clip)[3] - moov - size)
    found, _, out = mended(sick, tmp_path)
    assert found.score == 100.0 == pytest.approx(share("mp4", clip, sick) or 0, abs=0.1) and out == clip


@pytest.mark.parametrize("flags", [MUX["movflags"], "frag_keyframe+empty_moov"])
def test_media_data_moved_within_a_fragment_are_led_to_again(flags: str, tmp_path: Path) -> None:
    whole = encode.clip(6.0, (192, 108), 25, seed=14, bit_rate=400_000, mux={"movflags": flags})
    start = fragment_starts(whole)[0]
    at = whole.index(b"mdat", start) - 4
    sick = whole[:at] + (64).to_bytes(4, "big") + b"free" + bytes(56) + whole[at:]
    if "default_base" not in flags:
        sick = whole[:start] + (64).to_bytes(4, "big") + b"free" + bytes(56) + whole[start:]
    found, outcome, out = mended(sick, tmp_path)
    assert found.score is not None and abs(found.score - (share("mp4", whole, sick) or 0)) < 4
    assert outcome.method == "fix-offsets" and share("mp4", whole, out) == pytest.approx(100, abs=0.1)
    assert outcome.score_after is not None and outcome.score_after > 97


@pytest.mark.parametrize("name", ["hole over a header", "cluster lost before a header", "cluster lost inside"])
def test_offsets_counted_from_the_start_of_the_file_go_along_when_fragments_are_closed_up(
    name: str, tmp_path: Path
) -> None:
    """So do those of fragments that lie elsewhere than they say, since bytes were lost before them."""
    whole = encode.clip(8.0, (192, 108), 25, seed=15, bit_rate=400_000, mux={"movflags": "frag_keyframe+empty_moov"})
    sick = harmed(whole, name)
    found, outcome, out = mended(sick, tmp_path)
    after = share("mp4", whole, out)
    assert outcome.method == "close-fragments" and after is not None and found.score is not None
    assert after > found.score + 20 and outcome.score_after == pytest.approx(after, abs=7)
    assert found.attainable == pytest.approx(outcome.score_after, abs=3)


@pytest.fixture(scope="module")
def listed() -> bytes:
    return encode.clip(
        8.0, (192, 108), 25, seed=16, bit_rate=400_000, mux={"movflags": "dash+frag_keyframe+global_sidx"}
    )


def test_what_an_index_of_segments_promises_beyond_the_end_is_missing(listed: bytes) -> None:
    """A file cut between two segments is whole by its boxes."""
    starts = fragment_starts(listed)
    cut = listed[: starts[len(starts) // 2]]
    found = examine(cut, "clip.mp4")
    assert [f.code for f in found.findings] == [FindingCode.MP4_OUTSIDE] and "promises" in found.findings[0].message
    assert found.score == pytest.approx(share("mp4", listed, cut), abs=4)
    assert examine(listed, "clip.mp4").verdict is Verdict.INTACT


def test_fragments_that_an_index_of_segments_leads_to_are_reached(listed: bytes) -> None:
    """A break costs what lies in it: players find the next segment by the index, without one they find no more."""
    sick = harmed(listed, "hole over a header")
    found = examine(sick, "clip.mp4")
    assert found.score == pytest.approx(share("mp4", listed, sick), abs=6) and found.score > 70
    blind = sick.replace(b"sidx", b"free")
    assert (examine(blind, "clip.mp4").score or 0) < found.score - 20


def test_a_lent_header_does_not_bring_back_what_went_before_the_first_fragment(clip: bytes, tmp_path: Path) -> None:
    sibling = encode.clip(4.0, (192, 108), 25, seed=17, bit_rate=400_000, mux=MUX)
    starts = fragment_starts(clip)
    lost = clip[starts[1] - 900 :]
    _, outcome, out = mended(lost, tmp_path, sibling)
    assert outcome.method == "rebuild-index" and out.count(b"moof") == len(starts) - 1
    assert outcome.score_after == pytest.approx(100.0 * (len(starts) - 1) / len(starts), abs=2)


def test_runs_without_a_base_go_on_where_the_track_before_ended(clip: bytes) -> None:
    """8.8.7: where neither a base nor the fragment's start is named, the second track's data count from the first's end."""
    expected = read_movie(Subject(Source.from_bytes(clip))).tracks
    data = bytearray(clip)
    for at in fragment_starts(clip):
        first = data.index(b"tfhd", at)
        second = data.index(b"tfhd", first + 4)
        for head in (first, second):
            data[head + 5] &= ~2 & 0xFF  # default-base-is-moof
        count = int.from_bytes(data[data.index(b"trun", first) + 8 :][:4], "big")
        last = np.flatnonzero(expected[0].offsets > at)[count - 1]
        run = data.index(b"trun", second) + 12
        stated = at + int.from_bytes(data[run : run + 4], "big", signed=True)
        moved = stated - int(expected[0].offsets[last] + expected[0].sizes[last])
        data[run : run + 4] = moved.to_bytes(4, "big", signed=True)
    assert data != clip
    found = read_movie(Subject(Source.from_bytes(bytes(data)))).tracks
    assert all((old.offsets == new.offsets).all() for old, new in zip(expected, found, strict=True))
    assert examine(bytes(data), "clip.mp4").verdict is Verdict.INTACT
    assert share("mp4", clip, bytes(data)) == 100


@pytest.fixture(scope="module")
def begun() -> tuple[bytes, bytes]:
    """Clips whose first samples the index lists itself, the others their fragments; the second to lend."""
    mux = {"movflags": "frag_keyframe"}
    one, two = (encode.clip(8.0, (192, 108), 25, seed=s, bit_rate=400_000, mux=mux) for s in (31, 32))
    return one, two


def test_bytes_before_an_index_of_fragments_cost_none_of_them(begun: tuple[bytes, bytes], tmp_path: Path) -> None:
    whole, _ = begun
    at = whole.index(b"moov") - 4
    junk = np.random.default_rng(3).integers(0, 256, 1024, np.uint8).tobytes()
    for what in (bytes(1024), junk):
        found, outcome, out = mended(whole[:at] + what + whole[at:], tmp_path)
        assert found.score == 0.0 and outcome.score_after == 100.0
        assert share("mp4", whole, out) == pytest.approx(100.0)


@pytest.mark.parametrize("lost", ["zeros over the start", "start lost", "index overwritten"])
def test_samples_before_the_first_fragment_are_found_anew(
    begun: tuple[bytes, bytes], lost: str, tmp_path: Path
) -> None:
    whole, sibling = begun
    at = whole.index(b"moov") - 4
    end = at + int.from_bytes(whole[at : at + 4], "big")
    sick = {
        "zeros over the start": bytes(end + 4) + whole[end + 4 :],
        "start lost": whole[end + 1000 :],
        "index overwritten": whole[:at] + bytes(end - at) + whole[end:],
    }[lost]
    _, outcome, out = mended(sick, tmp_path, sibling)
    after = share("mp4", whole, out)
    assert outcome.method.startswith("rebuild-index") and after is not None
    assert after > 85.0 and outcome.score_after == pytest.approx(after, abs=8)


def test_zeros_to_the_end_take_the_fragments_that_followed_along(clip: bytes, tmp_path: Path) -> None:
    starts = fragment_starts(clip)
    cut = (starts[-4] + starts[-3]) // 2 // 512 * 512
    found = examine(clip[:cut] + bytes(len(clip) - cut), "clip.mp4")
    hole = next(f for f in found.findings if f.code is FindingCode.HOLE)
    assert hole.span is not None and hole.span.start == cut and found.verdict is Verdict.DAMAGED
    assert found.score == pytest.approx(share("mp4", clip, clip[:cut] + bytes(len(clip) - cut)), abs=5)
    assert examine(clip + bytes(4096), "clip.mp4").score == 100.0, "zeros behind the last fragment cost nothing"


def test_tables_that_zeros_stand_in_place_of_are_missed_in_fragmented_clips_too(clip: bytes) -> None:
    at, end = clip.index(b"stts") - 4, clip.index(b"stco") + 12
    sick = clip[:at] + bytes(end - at) + clip[end:]
    found = examine(sick, "clip.mp4")
    assert any(f.code is FindingCode.MP4_TABLES and "lacks" in f.message for f in found.findings)


def test_a_base_beyond_any_file_is_a_finding(tmp_path: Path) -> None:
    """8.8.7: base data offsets have 64 bits."""
    flags = "frag_keyframe+empty_moov"
    whole = encode.clip(2.0, (192, 108), 25, seed=20, bit_rate=400_000, mux={"movflags": flags})
    data = bytearray(whole)
    head = data.index(b"tfhd")
    assert data[head + 7] & 1, "a base is stated"
    data[head + 12 : head + 20] = b"\xff" * 8
    found, _, out = mended(bytes(data), tmp_path)
    assert found.error is None and found.score is not None and found.score < 80
    place = next(f for f in found.findings if f.code is FindingCode.MP4_TABLES)
    assert place.span is not None and place.span.start == head + 12 and out == whole


def test_a_loss_in_what_the_index_lists_itself_leaves_the_fragments_reached(
    begun: tuple[bytes, bytes], tmp_path: Path
) -> None:
    whole, _ = begun
    first = whole.index(b"mdat") + 4
    at = (first + fragment_starts(whole)[0]) // 2
    found, outcome, out = mended(whole[:at] + whole[at + 512 :], tmp_path)
    after = share("mp4", whole, out)
    assert outcome.method == "close-fragments" and after is not None and found.score is not None
    assert after > found.score + 20 and outcome.score_after == pytest.approx(after, abs=7)
    assert found.attainable == pytest.approx(outcome.score_after, abs=4)
    assert out.count(b"moof") == whole.count(b"moof")


def test_what_the_index_should_list_before_the_first_fragment_is_missing(begun: tuple[bytes, bytes]) -> None:
    whole, _ = begun
    movie = read_movie(Subject(Source.from_bytes(whole)))
    assert all(ticks_not_listed(Source.from_bytes(whole), movie, t) == 0 for t in movie.tracks)
    empty = bytearray(whole)
    for kind, count in ((b"stts", 8), (b"stsc", 8), (b"stsz", 12), (b"stco", 8)):
        at = whole.index(kind)
        empty[at + count : at + count + 4] = bytes(4)
    sick = bytes(empty)
    movie = read_movie(Subject(Source.from_bytes(sick)))
    lead = movie.tracks[0]
    lacking = ticks_not_listed(Source.from_bytes(sick), movie, lead) / lead.timescale
    assert lacking > 0.5
    assert examine(sick, "clip.mp4").score == pytest.approx(100 - 50 * lacking / 8.0, abs=1), "the sound is there"
    assert share("mp4", whole, sick) == pytest.approx(100 - 50 * lacking / 8.0, abs=3)


def test_bases_that_are_the_fragments_starts_tell_where_a_single_one_was() -> None:
    """8.8.7: nothing else is there to compare it with."""
    flags = "frag_keyframe+empty_moov"
    whole = encode.clip(2.0, (192, 108), 25, seed=21, bit_rate=400_000, mux={"movflags": flags}, options={"g": "500"})
    assert whole.count(b"moof") == 1
    start = fragment_starts(whole)[0]
    moved = whole[:start] + (64).to_bytes(4, "big") + b"free" + bytes(56) + whole[start:]
    for data, by in ((whole, 0), (moved, 64)):
        source = Source.from_bytes(data)
        movie = read_movie(Subject(source))
        assert displacements(source, all_fragments(source, movie.tree)).tolist() == [by]


def test_a_track_whose_index_lists_chunks_without_samples_does_not_play(
    begun: tuple[bytes, bytes], tmp_path: Path
) -> None:
    whole, sibling = begun
    at = whole.index(b"stsz") - 4
    sick = whole[: at + 16] + bytes(4) + whole[at + 20 :]
    found, outcome, out = mended(sick, tmp_path, sibling)
    assert found.score == pytest.approx(share("mp4", whole, sick), abs=2) and found.score < 55
    assert outcome.method == "fix-tables" and out == whole


def test_of_a_file_cut_within_a_fragment_it_is_said_what_the_score_is_of(clip: bytes) -> None:
    """Nothing in it tells how long the recording was, unless its index does (8.8.2)."""
    cut = clip[: len(clip) // 2]
    found = examine(cut, "clip.mp4")
    assert any("how long the recording was" in f.message for f in found.findings)
    extends = clip.index(b"mvex") - 4
    told = (16).to_bytes(4, "big") + b"mehd" + bytes(4) + (10_000).to_bytes(4, "big")
    stated = bytearray(clip[: extends + 8] + told + clip[extends + 8 :])
    for at in (extends, clip.index(b"moov") - 4):
        stated[at : at + 4] = (int.from_bytes(stated[at : at + 4], "big") + 16).to_bytes(4, "big")
    assert examine(bytes(stated), "clip.mp4").verdict is Verdict.INTACT
    sick = bytes(stated[: len(stated) // 2])
    found = examine(sick, "clip.mp4")
    assert found.score == pytest.approx(share("mp4", clip, sick) or 0, abs=6) and found.score < 60
    assert not any("how long the recording was" in f.message for f in found.findings)
