"""Pictures with restart markers: lost intervals are made up for, so that all behind them stands in its place again."""

from __future__ import annotations

import io
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
from jugal.formats.jpeg.intervals import find_intervals, restore_intervals
from jugal.formats.jpeg.select import select
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
    begin = behind.spans[0]
    original = whole.index(data[begin.start : begin.end])
    true = next(i for i, s in enumerate(reference.chains[0].spans) if s.start == original)
    assert behind.number == true and behind.mark == true % 8 and behind.end == found.total


def test_pictures_without_markers_and_whole_ones_are_left_alone() -> None:
    source = Source.from_bytes(healthy("jpeg"))
    assert find_intervals(Subject(source), select(source).structure) is None
    with pytest.raises(RepairImpossible, match="No whole interval"):
        restore_intervals(Subject(source), None)
    assert not examine(coded(7), "x.jpg").repairs


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
