"""Which levels a picture counts from whose first blocks are lost: black and white tell, the claim says how surely."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
from bench.measure import share
from PIL import Image, ImageFilter
from scipy.ndimage import gaussian_filter

from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.detect import detect
from jugal.formats.jpeg.gamut import absolute_levels
from jugal.formats.jpeg.parse import walk
from jugal.formats.jpeg.runs import RunReader
from jugal.model.result import RepairOutcome
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

SIZE = 640, 480
LOST = 6144


def lit(seed: int, low: float, high: float, tint: tuple[float, float, float] = (1.0, 1.0, 1.0)) -> Image.Image:
    """A riverbed whose brightness goes from ``low`` to ``high``, what lies beyond being clipped as a camera does."""
    values = np.asarray(riverbed(*SIZE, seed), np.float64)
    least, most = np.percentile(values, (1, 99))
    values = low + (values - least) * (high - low) / (most - least)
    return Image.fromarray(np.clip(values * np.array(tint), 0, 255).astype(np.uint8))


def without_start(picture: Image.Image, folder: Path, donor: Image.Image) -> tuple[bytes, RepairOutcome]:
    whole = encode.jpeg(picture, quality=88)
    path, lender = folder / "sick.jpg", folder / "lender.jpg"
    path.write_bytes(whole[LOST:])
    lender.write_bytes(encode.jpeg(donor, quality=88))
    return whole, repair_file(examine_file(path), folder / "out", [examine_file(lender)], "donor-header")


def level_error(whole: bytes, outcome: RepairOutcome) -> float:
    """By how many levels the lower half of the repaired picture is off, the worst of three colours."""
    assert outcome.output is not None, outcome.error
    with Image.open(io.BytesIO(whole)) as right, Image.open(outcome.output) as seen:
        apart = np.asarray(seen.convert("RGB"), np.float64) - np.asarray(right.convert("RGB"), np.float64)
    return float(np.abs(np.median(apart[SIZE[1] // 2 :], axis=(0, 1))).max())


@pytest.mark.parametrize("seed", [3, 4, 5])
def test_a_picture_from_black_to_white_comes_back_at_its_own_brightness_and_tint(seed: int, tmp_path: Path) -> None:
    """Whatever the donor's brightness is: here half of the picture's."""
    whole, outcome = without_start(lit(seed, -60, 320), tmp_path, lit(seed + 10, 0, 120, (1.0, 0.7, 0.5)))
    assert level_error(whole, outcome) <= 8
    assert outcome.output is not None and outcome.score_after is not None
    truth = share("jpeg", whole, Path(outcome.output).read_bytes())
    assert truth is not None and truth > 80
    assert 0.65 * truth < outcome.score_after < truth + 3, "what is claimed says how sure the levels are"


def fog(seed: int) -> Image.Image:
    """Soft grey shapes, nothing near black or white."""
    noise = np.random.default_rng(seed).normal(0, 1, (SIZE[1], SIZE[0]))
    soft = gaussian_filter(noise, 3)
    return Image.fromarray(np.clip(120 + 12 * soft / soft.std(), 0, 255).astype(np.uint8)).convert("RGB")


def test_of_a_picture_without_black_or_white_less_is_claimed(tmp_path: Path) -> None:
    claims = {}
    for name, picture in {"lit": lit(6, -60, 320), "fog": fog(1)}.items():
        (tmp_path / name).mkdir()
        _, outcome = without_start(picture, tmp_path / name, lit(7, 0, 200))
        assert outcome.score_after is not None, outcome.error
        claims[name] = outcome.score_after
    assert claims["fog"] < 0.5 * claims["lit"], claims


def test_levels_of_a_whole_picture_are_told_as_they_are() -> None:
    """The run counts from level 0 as the picture does, so nothing is to be added: for one, three and halved components."""
    for mode, options in (("L", {}), ("RGB", {"subsampling": 0}), ("RGB", {"subsampling": 2})):
        data = encode.jpeg(lit(8, -60, 320).convert(mode), quality=90, **options)  # type: ignore[arg-type]
        structure = walk(Source.from_bytes(data), 0)
        reader = RunReader(structure)
        run, _ = reader.read(structure.scans[0].entropy, 0, reader.total)
        offsets, sure = absolute_levels(reader, run)
        assert np.abs(np.array(offsets) * reader.steps).max() <= 5, (mode, options)
        assert 0.6 < sure <= 1.0


def coarse() -> bytes:
    """Dark water with faint flecks, of whose data hardly a byte is 0xFF."""
    rng = np.random.default_rng(1)
    values = np.zeros((640, 1024, 3), np.uint8)
    values[rng.random(values.shape[:2]) < 0.004] = 120
    return encode.jpeg(Image.fromarray(values).filter(ImageFilter.GaussianBlur(2)), quality=75)


def test_a_coarse_picture_is_known_without_its_header() -> None:
    data = harm(coarse(), "jpeg", "no-header", 1).data
    payload = data.lstrip(b"\0")
    assert payload.count(b"\xff\x00") < 12, "too few to know it by these alone"
    assert detect(Source.from_bytes(data)).format == "jpeg"
    assert detect(Source.from_bytes(data[:-2] + b"\x12\x34")).format != "jpeg", "without its end there is no telling"
    noise = np.random.default_rng(2).integers(0, 255, 40_000, np.uint8).tobytes()
    assert detect(Source.from_bytes(b"\0" * 600 + noise + b"\xff\xd8")).format != "jpeg"


@pytest.mark.parametrize("seed", [3, 5, 7])
def test_a_donor_of_a_scene_alike_tells_the_levels_of_a_picture_without_black_or_white(
    seed: int, tmp_path: Path
) -> None:
    """The same water under the same light, nothing clipped: how brightness is spread shows that they are alike."""
    light = (60, 170, (1.0, 0.9, 0.75))
    whole, outcome = without_start(lit(seed, *light), tmp_path, lit(seed + 1, *light))
    assert level_error(whole, outcome) <= 12
    assert outcome.score_after is not None and outcome.score_after > 50
