"""A JPEG without header and donor: sampling, width, size and place found from its data, and only where they can be."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from conftest import examine, healthy
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import RepairImpossible, Subject
from jugal.formats.jpeg.check import entropy_guess
from jugal.formats.jpeg.estimate import Estimate, estimate, estimate_header, header
from jugal.formats.jpeg.parse import walk
from jugal.model.result import RepairStatus
from jugal.samples import encode
from jugal.samples.scenes import riverbed

SCENE = riverbed(1000, 752, 5, "T1")
SAMPLING = {0: (1, 1), 1: (2, 1), 2: (2, 2)}


def coded(subsampling: int = 2, quality: int = 85, restart: bool = False, scene: Image.Image = SCENE) -> bytes:
    options: dict[str, object] = {"restart_marker_rows": 1} if restart else {}
    return encode.jpeg(scene, quality=quality, subsampling=subsampling, **options)


def scan_start(data: bytes) -> int:
    at = data.index(b"\xff\xda")
    return at + 2 + int.from_bytes(data[at + 2 : at + 4], "big")


def guess(data: bytes) -> Estimate | None:
    subject = Subject(Source.from_bytes(data))
    start = entropy_guess(subject)
    return estimate(subject, start) if start is not None else None


@pytest.mark.parametrize("restart", [False, True], ids=["plain", "restart"])
@pytest.mark.parametrize("subsampling", [0, 1, 2])
@pytest.mark.parametrize("lost", [0, 4096, 3 * 4096])
def test_size_and_sampling_are_found(subsampling: int, restart: bool, lost: int) -> None:
    data = coded(subsampling, restart=restart)
    left = bytes(lost) + data[lost:] if lost else data[scan_start(data) :]
    found = guess(left)
    assert found is not None
    assert found.sampling == SAMPLING[subsampling]
    assert (found.width, found.height) == (1000, 750 if found.height == 750 else 752)
    assert bool(found.interval) == restart
    assert found.share > (0.99 if not lost and not restart else 0.6)


def test_a_grey_picture_is_told_from_a_coloured_one() -> None:
    data = encode.jpeg(SCENE.convert("L"), quality=80)
    found = guess(data[scan_start(data) :])
    assert found is not None and found.sampling is None and found.width == 1000


@pytest.mark.parametrize("restart", [False, True], ids=["plain", "restart"])
def test_the_repaired_picture_stands_in_its_place(tmp_path: Path, restart: bool) -> None:
    data = coded(restart=restart)
    path = tmp_path / "lost.jpg"
    path.write_bytes(bytes(8192) + data[8192:])
    examination = examine_file(path)
    plan = next(p for p in examination.repairs if p.method == "estimate-header")
    assert plan.attainable <= 40 and "1000 ×" in plan.summary
    outcome = repair_file(examination, tmp_path / "out", [], "estimate-header")
    assert outcome.status is RepairStatus.REPAIRED and outcome.output is not None
    assert outcome.score_after == pytest.approx(plan.attainable, abs=3)
    with Image.open(outcome.output) as picture:
        repaired = np.asarray(picture.convert("L"), float)
    original = np.asarray(SCENE.convert("L"), float)
    rows = range(150, 740, 10)
    agreement = [np.corrcoef(repaired[y, :1000], original[y])[0, 1] for y in rows]
    assert np.mean(np.array(agreement) > 0.85) > 0.95
    assert any("Estimated" in step for step in outcome.steps)


def test_without_loss_the_levels_are_nearly_right(tmp_path: Path) -> None:
    data = coded()
    path = tmp_path / "bare.jpg"
    path.write_bytes(data[scan_start(data) :])
    outcome = repair_file(examine_file(path), tmp_path / "out", [], "estimate-header")
    assert outcome.output is not None
    with Image.open(outcome.output) as picture:
        repaired = np.asarray(picture.convert("L"), float)[:750]
    assert np.abs(repaired - np.asarray(SCENE.convert("L"), float)[:750]).mean() < 12


def test_nothing_is_claimed_where_nothing_can_be_read() -> None:
    rng = np.random.default_rng(4)
    assert guess(rng.bytes(60_000)) is None
    assert guess(b"\0" * 5000 + rng.bytes(500)) is None
    own_tables = encode.jpeg(SCENE, quality=85, optimize=True)
    assert guess(bytes(4096) + own_tables[4096:]) is None
    progressive = encode.jpeg(SCENE, quality=85, progressive=True)
    assert guess(bytes(4096) + progressive[4096:]) is None
    with pytest.raises(RepairImpossible, match="typical tables"):
        estimate_header(Subject(Source.from_bytes(rng.bytes(30_000))), None)


def test_a_healthy_picture_gets_no_such_plan() -> None:
    assert not any(p.method == "estimate-header" for p in examine(healthy("jpeg"), "x.jpg").repairs)


@pytest.mark.parametrize("sampling", [(2, 2), (2, 1), (1, 1), (1, 2), None])
def test_the_written_header_is_a_standard_one(sampling: tuple[int, int] | None) -> None:
    found = walk(Source.from_bytes(header(sampling, 640, 480, 5.0, 40) + b"\0\0"), 0)
    assert found.frame is not None and (found.frame.width, found.frame.height) == (640, 480)
    assert not found.missing_tables() and not found.missing_quant() and found.scans[0].restart_interval == 40
    assert len(found.frame.components) == (3 if sampling else 1)
    with Image.open(io.BytesIO(header(sampling, 640, 480) + b"\xff\xd9")) as picture:
        assert picture.size == (640, 480)
