"""Clusters in the wrong order and ones that came in between: put right to the bit where the data tell it, and left alone where not."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import pytest

from conftest import examine
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import RepairImpossible, Subject
from jugal.formats.jpeg.order import reorder
from jugal.formats.jpeg.parse import walk
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

CLUSTER = 4096


@cache
def photo(**options: object) -> bytes:
    return encode.jpeg(riverbed(1000, 750, 5), quality=88, **options)


def offered(data: bytes) -> bool:
    return any(plan.method == "reorder" for plan in examine(data, "x.jpg").repairs)


def moved(data: bytes, at: int, to: int, size: int = CLUSTER) -> bytes:
    """The cluster at one place where it belongs at another."""
    rest = data[:at] + data[at + size :]
    return rest[:to] + data[at : at + size] + rest[to:]


@pytest.mark.parametrize("options", [{}, {"optimize": True}, {"restart_marker_rows": 2}, {"subsampling": 0}], ids=str)
@pytest.mark.parametrize("kind", ["swapped-clusters", "inserted-cluster", "repeated-cluster"])
def test_the_file_comes_back_to_the_bit(kind: str, options: dict[str, object], tmp_path: Path) -> None:
    whole = photo(**options)
    path = tmp_path / "x.jpg"
    path.write_bytes(harm(whole, "jpeg", kind, 7).data)
    found = examine_file(path)
    assert found.attainable == 100.0
    outcome = repair_file(found, tmp_path / "out")
    assert outcome.method == "reorder" and outcome.output is not None
    assert Path(outcome.output).read_bytes() == whole
    assert path.read_bytes() == harm(whole, "jpeg", kind, 7).data


@pytest.mark.parametrize(("at", "to"), [(20, 17), (17, 20)])
def test_a_cluster_some_clusters_off_is_found(at: int, to: int, tmp_path: Path) -> None:
    whole = photo()
    path = tmp_path / "x.jpg"
    path.write_bytes(moved(whole, at * CLUSTER, to * CLUSTER))
    outcome = repair_file(examine_file(path), tmp_path / "out", [], "reorder")
    assert outcome.output is not None and Path(outcome.output).read_bytes() == whole
    assert outcome.steps[0].startswith("Put the 4,096 bytes at")


@pytest.mark.parametrize(
    "kind",
    ["lost-cluster", "kindred-cluster", "own-cluster", "noise-cluster", "text-cluster", "flip-bits", "lost-bytes"],
)
def test_where_something_is_lost_no_order_is_right(kind: str) -> None:
    for seed in range(3):
        assert not offered(harm(photo(), "jpeg", kind, seed).data), seed


def test_an_order_that_merely_decodes_is_not_believed() -> None:
    """Noticed at its last seam only, this one is not found; another is whole by its count, and brings rows no nearer to one another."""
    assert not offered(moved(photo(), 16 * CLUSTER, 18 * CLUSTER))


def test_a_whole_picture_has_its_order() -> None:
    assert not offered(photo())
    with pytest.raises(RepairImpossible):
        reorder(Subject(Source.from_bytes(photo())), None)


def test_of_a_progressive_picture_only_scans_that_bring_values_tell() -> None:
    """In one that refines them most bits may be anything: there a cluster too many is not told from one that was changed."""
    whole = photo(progressive=True)
    scans = walk(Source.from_bytes(whole), 0).scans
    noise = bytes(range(255)) * 17
    brings = next(s for s in scans if s.ss and not s.ah and s.entropy.length > 3 * CLUSTER)
    refines = next(s for s in scans if s.ss and s.ah and s.entropy.length > 3 * CLUSTER)
    for scan, expected in ((brings, True), (refines, False)):
        at = (scan.entropy.start // CLUSTER + 1) * CLUSTER
        assert offered(whole[:at] + noise[:CLUSTER] + whole[at:]) is expected
