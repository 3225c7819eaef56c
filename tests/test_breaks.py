"""Steps and seams in the levels of a picture: damage that no decoder notices, and subjects that only look like it."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray
from PIL import Image

from conftest import examine
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.jpeg.breaks import find_level_step, find_seam
from jugal.model.codes import FindingCode
from jugal.model.result import Verdict
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

WIDTH, ROWS = 60, 44


def planes(seed: int) -> list[NDArray[np.float32]]:
    """Levels of a made-up scene, one value for each block of 16 pixels, in three components."""
    scene = riverbed(16 * WIDTH, 16 * ROWS, seed).convert("YCbCr").resize((WIDTH, ROWS), Image.Resampling.BOX)
    return [np.asarray(scene.getchannel(k), np.float32) - 128 for k in range(3)]


def stepped(seed: int, start: int, by: tuple[float, float, float]) -> list[NDArray[np.float32]]:
    """The scene with every value from block ``start`` on moved, as a misread difference does."""
    out = []
    for plane, level in zip(planes(seed), by, strict=True):
        flat = plane.reshape(-1).copy()
        flat[start:] += level
        out.append(flat.reshape(ROWS, WIDTH))
    return out


@pytest.mark.parametrize("by", [(0, 0, 24), (0, -22, 0), (-28, 0, -26), (40, 14, -20)])
def test_a_step_that_goes_on_to_the_end_is_found_where_it_starts(by: tuple[float, float, float]) -> None:
    start = 20 * WIDTH + 31
    found = [find_level_step(stepped(seed, start, by)) for seed in range(6)]
    assert sum(at is not None for at in found) >= 4, found
    # A place that is named is the right one, but for a block of texture or two.
    assert all(abs(at - start) <= 8 for at in found if at is not None), found


@pytest.mark.parametrize("seed", range(12))
def test_no_step_is_found_in_whole_scenes(seed: int) -> None:
    assert find_level_step(planes(seed)) is None


@pytest.mark.parametrize("seed", range(6))
def test_a_subject_that_begins_like_a_stair_is_no_step(seed: int) -> None:
    """Another scene from a block on is another subject: it does not continue what is above it."""
    start = 20 * WIDTH + 31
    mixed = []
    for plane, other in zip(planes(seed), planes(seed + 50), strict=True):
        flat = plane.reshape(-1).copy()
        flat[start:] = other.reshape(-1)[start:] + 18
        mixed.append(flat.reshape(ROWS, WIDTH))
    assert find_level_step(mixed) is None


@pytest.mark.parametrize("shift", [7, 23, 41])
def test_a_seam_begins_where_the_rest_is_displaced(shift: int) -> None:
    row, hits = 18, 0
    for seed in range(8):
        moved = []
        for plane in planes(seed):
            # Brighter to the right, so that the picture's edges differ wherever they meet.
            flat = (plane + np.linspace(0, 60, WIDTH, dtype=np.float32)).reshape(-1)
            tail = flat[row * WIDTH + shift :]
            flat = np.concatenate(
                (flat[: row * WIDTH], tail, np.zeros(flat.size - row * WIDTH - tail.size, np.float32))
            )
            moved.append(flat.reshape(ROWS, WIDTH))
        found = find_seam(moved, ROWS - 1)
        hits += found is not None and abs(found - row) <= 2
    assert hits >= 7


def test_whole_scenes_have_no_seam_and_small_ones_are_not_asked() -> None:
    assert not any(find_seam(planes(seed), ROWS) is not None for seed in range(12))
    assert find_seam([p[:8] for p in planes(1)], 8) is None
    assert find_seam([p[:, :5] for p in planes(1)], ROWS) is None


def test_zeros_are_not_read_as_picture_with_a_borrowed_header(tmp_path: Path) -> None:
    """The tables of four-component pictures read zeros without an error; what follows would stand in the wrong place."""

    def coded(seed: int) -> bytes:
        out = io.BytesIO()
        riverbed(640, 480, seed).convert("CMYK").save(out, "JPEG", quality=85)
        return out.getvalue()

    path, donor = tmp_path / "a.jpg", tmp_path / "donor.jpg"
    path.write_bytes(bytes(512) + coded(3)[512:])
    donor.write_bytes(coded(4))
    outcome = repair_file(examine_file(path), tmp_path / "out", [examine_file(donor)])
    assert outcome.score_after is None or outcome.score_after <= 50


def test_progressive_scans_are_not_offered_typical_tables() -> None:
    whole = encode.jpeg(riverbed(640, 480, 6), progressive=True)
    found = examine(harm(whole, "jpeg", "no-huffman-tables", 1).data)
    assert FindingCode.JPEG_TABLES in {f.code for f in found.findings} and found.verdict is not Verdict.INTACT
    assert "standard-tables" not in {p.method for p in found.repairs}
    baseline = examine(harm(encode.jpeg(riverbed(640, 480, 6)), "jpeg", "no-huffman-tables", 1).data)
    assert "standard-tables" in {p.method for p in baseline.repairs}
