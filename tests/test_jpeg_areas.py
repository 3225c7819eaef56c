"""What of a picture an MCU covers: MCUs at the edges hold more than the picture has, and that is nobody's loss."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
from PIL import Image, ImageFile

from conftest import examine
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.jpeg.parse import Component, Frame
from jugal.model.codes import FindingCode
from jugal.model.result import RepairStatus
from jugal.samples import encode
from jugal.samples.scenes import riverbed

#: Rows of 16 pixels of which the last has three pixels, columns of which the last has five.
WIDTH, HEIGHT = 517, 387


def frame(width: int = WIDTH, height: int = HEIGHT, h: int = 2, v: int = 2) -> Frame:
    return Frame(0xC0, 8, height, width, (Component(1, h, v, 0), Component(2, 1, 1, 1), Component(3, 1, 1, 1)))


def cut_to(data: bytes, share: float) -> bytes:
    return data[: int(len(data) * share)]


@pytest.mark.parametrize(("h", "v"), [(1, 1), (2, 1), (2, 2)])
def test_areas_are_counts_of_pixels(h: int, v: int) -> None:
    one = frame(h=h, v=v)
    owner = np.arange(HEIGHT)[:, None] // (8 * v) * one.mcus_x + np.arange(WIDTH) // (8 * h)
    counts = np.bincount(owner.ravel(), minlength=one.mcus_x * one.mcus_y)
    for first, last in ((0, 1), (3, 3), (one.mcus_x - 1, one.mcus_x + 1), (7, counts.size), (0, counts.size + 9)):
        assert one.covered(first, last) == counts[first:last].sum()
    mask = np.random.default_rng(3).random((one.mcus_y, one.mcus_x), np.float32)
    assert one.mean_of(mask) == pytest.approx(float((counts * mask.ravel()).sum()) / one.pixels, abs=1e-6)


def test_a_picture_that_ends_in_part_of_an_mcu_is_scored_by_its_pixels(monkeypatch: pytest.MonkeyPatch) -> None:
    """The last row of MCUs has three rows of pixels: counted whole it would take 3 points from what is left."""
    monkeypatch.setattr(ImageFile, "LOAD_TRUNCATED_IMAGES", True)
    whole = encode.jpeg(riverbed(WIDTH, HEIGHT, 4), quality=88)
    right, cut = (np.asarray(Image.open(io.BytesIO(d)), np.int16) for d in (whole, cut_to(whole, 0.9)))
    result = examine(cut_to(whole, 0.9))
    assert result.score == pytest.approx(100.0 * float((np.abs(right - cut).max(axis=2) <= 4).mean()), abs=0.5)
    assert result.regions[-1].end == 1.0
    assert result.regions[-1].label.endswith(f"to {HEIGHT}")


def test_a_filled_up_picture_is_kept_though_the_filling_looks_like_a_break(tmp_path: Path) -> None:
    """Grey under a bright picture is a step in level from one MCU to the end: it is our own, and no fault of the repair."""
    whole = encode.jpeg(riverbed(WIDTH, HEIGHT, 3).convert("L").point(lambda level: level // 2 + 127), quality=85)
    path = tmp_path / "cut.jpg"
    path.write_bytes(cut_to(whole, 0.7))
    outcome = repair_file(examine_file(path), tmp_path / "out")
    assert outcome.status is RepairStatus.REPAIRED
    assert outcome.method == "pad"
    assert outcome.examined is not None
    assert any(f.code is FindingCode.JPEG_BREAK for f in outcome.examined.findings), "it has to look like one here"
    assert outcome.score_after == pytest.approx(outcome.score_before, abs=1.0)
