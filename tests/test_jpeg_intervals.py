"""Pictures with restart markers: lost intervals are made up for, so that all behind them stands in its place again."""

from __future__ import annotations

import io
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from bench.measure import share
from PIL import Image

from conftest import examine, healthy
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import RepairImpossible, Subject
from jugal.formats.jpeg.breaks import level_planes
from jugal.formats.jpeg.chains import Chain
from jugal.formats.jpeg.damage import judge
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.edges import read_sides
from jugal.formats.jpeg.intervals import find_intervals, restore_intervals
from jugal.formats.jpeg.numbers import Numbered
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.select import select
from jugal.model.codes import FindingCode
from jugal.model.result import RepairStatus, Verdict
from jugal.samples import encode
from jugal.samples.scenes import riverbed

SCENE = riverbed(1000, 752, 3, "T1")
CLUSTER = 4096


def coded(blocks: int) -> bytes:
    options = {"restart_marker_rows": 1} if not blocks else {"restart_marker_blocks": blocks}
    return encode.jpeg(SCENE, quality=82, **options)


def harmed(data: bytes, name: str) -> bytes:
    at = len(data) * 4 // 10 // CLUSTER * CLUSTER
    rng = np.random.default_rng(2)
    return {
        "hole": data[:at] + bytes(CLUSTER) + data[at + CLUSTER :],
        "three lost": data[:at] + data[at + 3 * CLUSTER :],
        "noise": data[:at] + rng.bytes(CLUSTER) + data[at + CLUSTER :],
        "own bytes": data[:at] + data[at + 9 * CLUSTER : at + 10 * CLUSTER] + data[at + CLUSTER :],
        "two holes": data[:at]
        + bytes(CLUSTER)
        + data[at + CLUSTER : at + 8 * CLUSTER]
        + bytes(CLUSTER)
        + data[at + 9 * CLUSTER :],
        "lost, and the end": data[:at] + data[at + 2 * CLUSTER : len(data) * 9 // 10],
    }[name]


@pytest.mark.parametrize("blocks", [7, 20, 0])
@pytest.mark.parametrize("name", ["hole", "three lost", "noise", "own bytes", "two holes", "lost, and the end"])
def test_what_is_promised_is_what_a_decoder_shows(blocks: int, name: str, tmp_path: Path) -> None:
    whole = coded(blocks)
    data = harmed(whole, name)
    path = tmp_path / "p.jpg"
    path.write_bytes(data)
    found = examine_file(path)
    assert found.verdict is not Verdict.INTACT
    plan = next((p for p in found.repairs if p.method == "restore-intervals"), None)
    if plan is None:
        # An ordinary decoder bridges a gap of one or two intervals by itself.
        assert not blocks or (found.score is not None and found.score > 80)
        return
    outcome = repair_file(found, tmp_path / "out", [], "restore-intervals")
    assert outcome.status is RepairStatus.REPAIRED and outcome.output
    after = share("jpeg", whole, Path(outcome.output).read_bytes())
    assert after == pytest.approx(plan.attainable, abs=2)
    assert outcome.score_after == pytest.approx(after, abs=2)


def test_the_places_are_the_true_ones() -> None:
    whole = coded(7)
    data = harmed(whole, "three lost")
    first = select(Source.from_bytes(whole)).structure
    reference = find_intervals(Subject(Source.from_bytes(whole)), first)
    found = find_intervals(Subject(Source.from_bytes(data)), select(Source.from_bytes(data)).structure)
    assert reference is not None and found is not None and len(found.chains) == 2
    assert reference.kept == 100.0 and len(reference.chains) == 1
    behind = found.chains[1]
    begin = behind.chain.spans[0]
    original = whole.index(data[begin.start : begin.end])
    true = next(i for i, s in enumerate(reference.chains[0].chain.spans) if s.start == original)
    assert behind.number == true and behind.chain.mark == true % 8 and behind.surety > 0.99
    assert behind.number + len(behind.chain.spans) == found.total


def test_pictures_without_markers_and_whole_ones_are_left_alone() -> None:
    source = Source.from_bytes(healthy("jpeg"))
    assert find_intervals(Subject(source), select(source).structure) is None
    with pytest.raises(RepairImpossible, match="No whole interval"):
        restore_intervals(Subject(source), None)
    assert not examine(coded(7), "x.jpg").repairs


def test_where_no_interval_is_whole_nothing_is_promised() -> None:
    whole = coded(7)
    start = select(Source.from_bytes(whole)).structure.scans[0].entropy.start
    data = whole[:start] + np.random.default_rng(5).bytes(20_000)
    source = Source.from_bytes(data)
    assert find_intervals(Subject(source), select(source).structure) is None
    assert not any(plan.method == "restore-intervals" for plan in examine(data, "x.jpg").repairs)
    with pytest.raises(RepairImpossible, match="No whole interval"):
        restore_intervals(Subject(source), None)


@pytest.mark.parametrize(
    "options", [{"restart_marker_rows": 1}, {"restart_marker_blocks": 7}, {"restart_marker_blocks": 50}]
)
@pytest.mark.parametrize("share_left", [0.31, 0.5, 0.77, 0.95])
def test_a_cut_picture_with_intervals_is_filled_up(options: dict[str, int], share_left: float, tmp_path: Path) -> None:
    """The last marker that is there stays between its intervals, and the numbers go on behind it."""
    data = encode.jpeg(riverbed(640, 480, 9), **options)
    cut = data[: int(len(data) * share_left)]
    path = tmp_path / "a.jpg"
    path.write_bytes(cut)
    found = examine_file(path)
    outcome = repair_file(found, tmp_path / "out")
    assert outcome.status is RepairStatus.REPAIRED and outcome.method == "pad" and outcome.output is not None
    again = examine_file(outcome.output)
    assert again.verdict is Verdict.INTACT and again.score == 100.0, [f.message for f in again.findings]
    whole = np.asarray(Image.open(io.BytesIO(data)).convert("RGB"), np.int16)
    seen = np.asarray(Image.open(outcome.output).convert("RGB"), np.int16)
    rows = int(480 * (found.score or 0) / 100) // 16 * 16 - 16
    assert rows > 0 and np.abs(whole[:rows] - seen[:rows]).max() == 0


# ---------------------------------------------------------------- how chains are read and numbered


def numbered(data: bytes) -> list[Numbered]:
    found = find_intervals(Subject(Source.from_bytes(data)), select(Source.from_bytes(data)).structure)
    return found.chains if found is not None else []


def true_numbers(whole: bytes, data: bytes, chains: list[Numbered]) -> list[int]:
    """Which interval of the ``whole`` picture each chain begins with, by its longest interval; -1 where it has no such."""
    (all_of_it,) = numbered(whole)
    own = {whole[s.start : s.end]: i for i, s in enumerate(all_of_it.chain.spans)}
    found = []
    for one in chains:
        spans = one.chain.spans
        longest = max(range(len(spans)), key=lambda n: spans[n].end - spans[n].start)
        found.append(own.get(data[spans[longest].start : spans[longest].end], longest - 1) - longest)
    return found


def test_a_chain_reads_as_the_same_picture_without_markers() -> None:
    plain, marked = encode.jpeg(SCENE, quality=82), coded(7)
    chain = numbered(marked)[0].chain
    structure = select(Source.from_bytes(plain)).structure
    reader = RunReader(structure)
    run, _ = reader.read(structure.scans[0].entropy, 0, reader.total)
    assert chain.count == run.count == reader.total and np.array_equal(chain.dc, run.dc)
    for first, count in ((0, 70), (3, 500), (reader.total - 20, 50)):
        own, same = read_sides(reader, chain, first, count), read_sides(reader, run, first, count)
        base = (
            reader.levels(run.dc[first : first + 1])
            - reader.levels(reader.read(run.entropy, int(run.bits[first]), 1)[0].dc)
        )[:, 0]
        for c in range(3):
            assert np.allclose(own.top[c], same.top[c] + base[c], atol=0.01)
            assert np.allclose(own.bottom[c], same.bottom[c] + base[c], atol=0.01)


@pytest.mark.parametrize("blocks", [4, 7, 20])
def test_intervals_of_another_picture_are_left_out(blocks: int) -> None:
    whole = coded(blocks)
    other = encode.jpeg(riverbed(1000, 752, 8, "T2"), quality=82, restart_marker_blocks=blocks)
    at = len(whole) * 4 // 10 // CLUSTER * CLUSTER
    data = whole[:at] + other[at : at + 2 * CLUSTER] + whole[at + 2 * CLUSTER :]
    chains = numbered(data)
    assert [one.number for one in chains] == true_numbers(whole, data, chains)
    assert sum(one.chain.count for one in chains) > 0.9 * numbered(whole)[0].chain.count


def test_many_losses_are_placed_some_at_a_time() -> None:
    whole = coded(4)
    data, step = bytearray(whole), len(whole) // 24
    for k in range(1, 22):
        data[k * step : k * step + 300] = bytes(300)
    chains = numbered(bytes(data))
    assert len(chains) > 20 and [one.number for one in chains] == true_numbers(whole, bytes(data), chains)
    assert min(one.surety for one in chains) > 0.9


def test_what_is_left_behind_a_lost_start_is_numbered_too() -> None:
    whole = coded(7)
    start = select(Source.from_bytes(whole)).structure.scans[0].entropy.start
    data = whole[:start] + whole[start + 2 * CLUSTER + 5 :]
    chains = numbered(data)
    assert chains[0].number > 20 and [one.number for one in chains] == true_numbers(whole, data, chains)


def test_of_places_that_are_alike_none_is_sure() -> None:
    """A wall of one colour: whichever of every eighth place it is, the picture looks the same."""
    wall = encode.jpeg(Image.new("RGB", (1280, 960), (90, 120, 140)), quality=82, restart_marker_blocks=4)
    start = select(Source.from_bytes(wall)).structure.scans[0].entropy.start
    assert numbered(wall)[0].surety == 1.0
    middle = start + (len(wall) - start) // 2
    data = wall[:middle] + wall[middle + 800 : -600]
    chains = numbered(data)
    assert len(chains) == 2 and chains[0].surety == 1.0 and chains[1].surety < 0.7


def test_more_intervals_than_the_picture_has_are_not_all_taken() -> None:
    """Two clusters of the picture's own that came in a second time, so that all that is whole has no room in it."""
    whole = coded(7)
    at = len(whole) * 4 // 10 // CLUSTER * CLUSTER
    data = whole[:at] + whole[at + 9 * CLUSTER : at + 11 * CLUSTER] + whole[at:]
    chains = numbered(data)
    assert len(chains) == 2 and [one.number for one in chains] == true_numbers(whole, data, chains)
    assert sum(one.chain.count for one in chains) > 0.99 * numbered(whole)[0].chain.count


def test_a_wrong_last_number_costs_its_own_interval_only() -> None:
    """What closes the data has a number that nothing else agrees with."""
    whole = coded(20)
    last = numbered(whole)[0].chain.spans[-1]
    code = whole[last.start - 1]
    assert whole[last.start - 2] == 0xFF and 0xD0 <= code <= 0xD7
    data = whole[: last.start - 1] + bytes([0xD0 + (code - 0xD0 + 3) % 8]) + whole[last.start :]
    chains = numbered(data)
    assert chains[0].number == 0 and chains[0].surety == 1.0
    assert chains[0].chain.count >= numbered(whole)[0].chain.count - 2 * 20


@pytest.mark.parametrize("name", ["hole", "three lost", "noise"])
def test_of_an_interval_that_breaks_the_start_is_kept(name: str) -> None:
    """A row that a harmed cluster begins in: its MCUs ahead of the cluster, none behind it, and in the file as they were."""
    whole = encode.jpeg(SCENE, quality=94, restart_marker_rows=2)
    data = harmed(whole, name)
    found = find_intervals(Subject(Source.from_bytes(data)), select(Source.from_bytes(data)).structure)
    assert found is not None
    ((number, begun),) = found.begun.items()
    (chain,) = numbered(whole)
    true = chain.chain.intervals[number]
    at = len(whole) * 4 // 10 // CLUSTER * CLUSTER
    ahead = int(np.searchsorted(true.entropy.raw_offsets(true.bits[1:] >> 3), at, side="right"))
    assert ahead - found.size / 8 < begun.run.count <= ahead and begun.surety == 1.0
    assert np.array_equal(begun.run.dc, true.dc[: begun.run.count])
    draft = restore_intervals(Subject(Source.from_bytes(data)), None)
    repaired = b"".join(p if isinstance(p, bytes) else data[p.start : p.end] for p in draft.pieces)
    across = found.reader.frame.mcus_x
    pixels, same = (np.asarray(Image.open(io.BytesIO(d)).convert("L")) for d in (whole, repaired))
    row, rest = divmod(number * found.size + begun.run.count, across)
    assert np.array_equal(pixels[: 16 * row], same[: 16 * row])
    assert np.array_equal(
        pixels[16 * row : 16 * row + 14, : 16 * rest - 8], same[16 * row : 16 * row + 14, : 16 * rest - 8]
    )


def test_of_whole_intervals_none_has_only_begun() -> None:
    source = Source.from_bytes(coded(0))
    found = find_intervals(Subject(source), select(source).structure)
    assert found is not None and found.begun == {} and found.kept == 100.0


def test_the_start_of_another_pictures_interval_is_not_kept() -> None:
    """A cluster that begins where an interval does holds another picture's MCUs, which decode and do not go on from those above."""
    whole = encode.jpeg(SCENE, quality=94, restart_marker_rows=2)
    other = encode.jpeg(riverbed(1000, 752, 8, "T2"), quality=94, restart_marker_rows=2)
    (own,), (strange,) = numbered(whole), numbered(other)
    number = own.end // 2
    begin, foreign = own.chain.spans[number].start, strange.chain.spans[number + 2].start
    data = whole[:begin] + other[foreign : foreign + CLUSTER] + whole[begin + CLUSTER :]
    found = find_intervals(Subject(Source.from_bytes(data)), select(Source.from_bytes(data)).structure)
    assert found is not None and found.chains[0].end == number
    assert all(begun.run.count < found.size / 16 for begun in found.begun.values())


@pytest.mark.parametrize(
    "options",
    [
        {"restart_marker_blocks": 1},
        {"restart_marker_blocks": 7},
        {"restart_marker_rows": 3},
        {"restart_marker_blocks": 900},
    ],
)
def test_whatever_comes_each_interval_has_its_size_and_its_turn(options: dict[str, int]) -> None:
    """Cut, doubled, moved and flipped bytes: intervals stand in order, none beyond the picture, each with the MCUs it has there."""
    whole = encode.jpeg(riverbed(300, 232, 5), quality=80, **options)
    rng = np.random.default_rng(17)
    reached = 0
    for _ in range(60):
        data = bytearray(whole)
        for _ in range(int(rng.integers(1, 7))):
            at, other, length = (int(v) for v in rng.integers(0, len(data), 3))
            length >>= int(rng.integers(0, 10))
            match int(rng.integers(5)):
                case 0:
                    del data[at : at + length]
                case 1:
                    data[at:at] = data[other : other + length]
                case 2:
                    data[at : at + length] = data[other : other + length]
                case 3:
                    data[at : at + length] = bytes(len(data[at : at + length]))
                case _:
                    data[at] ^= 1 << int(rng.integers(8))
        source = Source.from_bytes(bytes(data))
        structure = select(source).structure
        found = find_intervals(Subject(source), structure) if structure.frame and structure.scans else None
        if found is None:
            continue
        reached += 1
        assert 0 < found.kept <= 100.0
        assert (
            all(one.end <= behind.number for one, behind in pairwise(found.chains))
            and found.chains[-1].end <= found.total
        )
        for placed in found.placed():
            number = placed.place // found.size
            whole_one = placed.run.count == found.count(number)
            assert whole_one or (number in found.begun and placed.run.count < found.count(number))
    assert reached > 3


@pytest.mark.parametrize("kind", ["three lost", "own bytes"])
def test_where_an_interval_breaks_is_told_by_the_row_above(kind: str) -> None:
    """Lost or strange bytes of the picture's kind decode: the break shows only in MCUs that no longer go on from those above."""
    whole = encode.jpeg(SCENE, quality=94, restart_marker_rows=2)
    data, at = harmed(whole, kind), len(whole) * 4 // 10 // CLUSTER * CLUSTER
    (chain,) = numbered(whole)
    begin = max(span.start for span in chain.chain.spans if span.start <= at)
    first = next(f for f in examine(data, "x.jpg").findings if f.code is not FindingCode.JPEG_RESTART and f.span)
    assert at - begin > CLUSTER // 8, "the interval began well before"
    assert first.span is not None and abs(first.span.start - at) < CLUSTER // 8


def test_a_chain_of_unequal_intervals_is_read_in_order() -> None:
    whole = encode.jpeg(SCENE, quality=82)
    structure = select(Source.from_bytes(whole)).structure
    reader = RunReader(structure)
    run, _ = reader.read(structure.scans[0].entropy, 0, 90)
    # Read from anywhere DC values count from nothing, as those of an interval do.
    runs = [
        reader.read(run.entropy, int(run.bits[at]), count)[0] for at, count in ((0, 30), (30, 7), (37, 41), (78, 12))
    ]
    chain = Chain.of(runs, [], 0)
    for first, count in ((0, 90), (29, 9), (36, 50), (85, 20)):
        own = np.concatenate([part.coefficients for part in chain.parts(reader, first, count)])
        each = [reader.read(r.entropy, int(r.bits[0]), r.count, r.count)[1] for r in runs]
        assert np.array_equal(own, np.concatenate(each)[first : first + count])


def test_a_last_interval_that_goes_on_too_long_has_no_more_than_its_share() -> None:
    whole = encode.jpeg(SCENE, quality=94, restart_marker_blocks=1000)
    (chain,) = numbered(whole)
    last, before = chain.chain.spans[-1], chain.chain.spans[-2]
    data = whole[: last.end] + whole[before.start : before.start + 3 * CLUSTER] + whole[last.end :]
    found = find_intervals(Subject(Source.from_bytes(data)), select(Source.from_bytes(data)).structure)
    assert found is not None and found.count(found.total - 1) < found.size
    begun = found.begun[found.total - 1]
    assert begun.run.count <= found.count(found.total - 1) and 90.0 < found.kept <= 100.0
    draft = restore_intervals(Subject(Source.from_bytes(data)), None)
    repaired = b"".join(p if isinstance(p, bytes) else data[p.start : p.end] for p in draft.pieces)
    assert examine(repaired, "x.jpg").verdict is Verdict.INTACT


def test_mean_levels_are_made_once_however_many_intervals_are_harmed(monkeypatch: pytest.MonkeyPatch) -> None:
    """Of a large picture they take long: a damage in each of thousands of intervals must not ask for them anew."""
    sick, rng = bytearray(encode.jpeg(riverbed(1600, 1200, 3), restart_marker_rows=1)), np.random.default_rng(0)
    entropy = select(Source.from_bytes(bytes(sick))).structure.scans[0].entropy
    for at in rng.integers(entropy.start, entropy.end, 60):
        if 0xFF not in sick[at - 1 : at + 2]:
            sick[at] = min(sick[at] ^ 1 << int(rng.integers(8)), 0xFE)
    asked = []

    def counted(*given: object) -> list[np.ndarray]:
        asked.append(given)
        return level_planes(*given)  # type: ignore[arg-type]

    monkeypatch.setattr("jugal.formats.jpeg.damage.level_planes", counted)
    subject = Subject(Source.from_bytes(bytes(sick)))
    structure = select(subject.source).structure
    assert structure.frame is not None
    found = judge(subject, structure, decode(structure.frame, structure.scans, structure.quant))
    assert len(found.damages) > 3 and len(asked) == 1
