"""Steps in level that no error tells of, where an edge of the subject would look the same: at a picture's sides."""

from __future__ import annotations

import numpy as np
import pytest
from PIL import Image, ImageDraw

from conftest import examine
from jugal.binary.source import Source
from jugal.formats.jpeg.colours import SHOWN, out_of_range
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.parse import walk
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.stairs import Step, is_exact, stands_out
from jugal.formats.jpeg.strays import has_stray
from jugal.model.codes import FindingCode
from jugal.model.result import Verdict
from jugal.samples import encode
from jugal.samples.scenes import riverbed

SIDE, WIDTH, ROWS = 16, 40, 30


def coded(pixels: np.ndarray, quality: int = 90) -> bytes:
    return encode.jpeg(Image.fromarray(np.clip(pixels, 0, 255).astype(np.uint8)), quality=quality)


def scene(low: float, high: float, seed: int = 2, rows: int = ROWS) -> np.ndarray:
    """A riverbed whose levels lie between two others."""
    pixels = np.asarray(riverbed(SIDE * WIDTH, SIDE * rows, seed), np.float64)
    return low + (high - low) * pixels / 255.0


def stepped(pixels: np.ndarray, unit: int, by: float) -> np.ndarray:
    """The picture off by some levels from an MCU on, in the order of the MCUs; beyond black and white too."""
    row, column = divmod(unit, WIDTH)
    out = pixels.copy()
    out[row * SIDE : (row + 1) * SIDE, column * SIDE :] += by
    out[(row + 1) * SIDE :] += by
    return out


def with_stray(pixels: np.ndarray, unit: int) -> np.ndarray:
    """The picture with an MCU of stripes in black and white."""
    row, column = divmod(unit, WIDTH)
    out = pixels.copy()
    block = np.where(np.arange(SIDE) // 2 % 2, 255.0, 0.0)
    out[row * SIDE : (row + 1) * SIDE, column * SIDE : (column + 1) * SIDE] = block[None, :, None]
    return out


def is_broken_near(data: bytes, unit: int) -> bool:
    """Whether a break is found, and within some MCUs of where it is."""
    result = examine(data)
    found = [f for f in result.findings if f.code is FindingCode.JPEG_BREAK]
    if not found:
        assert result.verdict is Verdict.INTACT
        return False
    structure = walk(Source.from_bytes(data), 0)
    assert structure.frame is not None and found[0].span is not None
    one = decode(structure.frame, structure.scans, structure.quant).scans[0]
    places = one.raw(one.unit_pos[[unit - 5, unit + 5]])
    return bool(places[0] <= found[0].span.start <= places[1])


def test_what_red_green_and_blue_cannot_show_is_out_of_range() -> None:
    rgb = np.random.default_rng(1).uniform(0, 255, (3, 400))
    planes = np.linalg.solve(SHOWN, rgb - 128.0).astype(np.float32)
    steps = np.array([1.0, 1.0, 1.0])
    assert not out_of_range(list(planes), steps, True).any()
    for component, by in ((0, 140.0), (1, 120.0), (2, -130.0)):
        off = planes.copy()
        off[component] += by
        beyond = np.abs(SHOWN @ off).max(axis=0) > 128.0 + 6.0
        assert beyond.any()
        assert out_of_range(list(off), steps, True)[beyond].all()
    # Red, green and blue themselves: each for itself.
    assert not out_of_range([np.full(4, 120, np.float32)] * 3, steps, False).any()
    assert out_of_range([np.full(4, 120, np.float32)] * 3, steps, True).all()
    assert out_of_range([np.array([-140.0, 0.0], np.float32)], np.array([0.5]), False).tolist() == [True, False]


def test_an_exact_step_needs_not_be_unusual() -> None:
    step = Step(7 * 27 + 9, 2.9, 1.8, 24.2, apart=1.3, spread=1.1)
    assert step.height * step.unusual < 5.5 and is_exact(step) and stands_out(step)
    for loose in (Step(198, 2.9, 1.8, 24.2, apart=1.3, spread=6.0), Step(198, 2.9, 1.8, 24.2, apart=9.0, spread=1.1)):
        assert not is_exact(loose) and not stands_out(loose)


@pytest.mark.parametrize("column", [0, 1, WIDTH - 1])
def test_at_a_side_a_step_to_impossible_levels_is_damage(column: int) -> None:
    """By coefficients, since pixels end at black and white: the picture is coded darker and its levels raised by its table."""
    unit = 12 * WIDTH + column
    bright = scene(110, 250)
    data = beyond(bright, unit, 60)
    assert is_broken_near(data, unit)
    assert not is_broken_near(coded(stepped(scene(40, 150), unit, 60)), unit), "the same step between possible levels"


def beyond(pixels: np.ndarray, unit: int, by: int) -> bytes:
    """The picture coded, its brightness off by ``by`` levels from an MCU on, as a flipped bit in a DC difference leaves it."""
    from test_breaks import moved

    return moved(coded(pixels), unit, 0, by)


@pytest.mark.parametrize("column", [1, WIDTH - 1])
def test_at_a_side_a_stray_mcu_tells_damage_from_the_subject(column: int) -> None:
    unit = 14 * WIDTH + column
    step = stepped(scene(60, 120), unit, 70)
    assert not is_broken_near(coded(step), unit)
    assert is_broken_near(coded(with_stray(step, unit)), unit)
    assert not is_broken_near(coded(with_stray(scene(60, 120), unit)), unit), (
        "without a step it is a part of the subject"
    )
    elsewhere = with_stray(with_stray(step, unit), 5 * WIDTH + 20)
    assert not is_broken_near(coded(elsewhere), unit), "a picture with more of its kind"


def test_strays_are_looked_for_where_a_step_begins_only() -> None:
    unit = 9 * WIDTH + 3
    data = coded(with_stray(scene(60, 120), unit))
    structure = walk(Source.from_bytes(data), 0)
    assert structure.frame is not None
    one, reader = decode(structure.frame, structure.scans, structure.quant).scans[0], RunReader(structure)
    for among in ((0, one.units), (6 * WIDTH + 7, 12 * WIDTH)):
        assert has_stray(reader, one, among, unit)
        assert has_stray(reader, one, among, unit + 2)
        assert not has_stray(reader, one, among, unit + 9)
        assert not has_stray(reader, one, among, unit - 9)


def test_a_small_picture_is_looked_through_as_a_whole() -> None:
    """Three dark bars hide a step of a few levels from where mean levels look like one."""
    rows = 60
    pixels = scene(60, 150, rows=rows)
    picture = Image.fromarray(pixels.astype(np.uint8))
    draw = ImageDraw.Draw(picture)
    for row in (9, 27, 48):
        draw.rectangle((0, SIDE * row, SIDE * WIDTH, SIDE * (row + 2)), fill=(12, 12, 14))
    healthy = np.asarray(picture, np.float64)
    unit = 38 * WIDTH + 19
    assert examine(coded(healthy)).verdict is Verdict.INTACT
    assert is_broken_near(beyond(healthy, unit, 14), unit)


def test_steps_of_coarse_tables_are_no_damage() -> None:
    """Blue that grows slowly darker: by coarse tables it does so by whole steps, one of which begins inside a row and shows."""
    unit = 9 * WIDTH + 19
    pixels = np.full((SIDE * ROWS, SIDE * WIDTH, 3), (30.0, 60.0, 140.0))
    pixels += np.random.default_rng(2).normal(0, 2, pixels.shape[:2])[..., None]
    pixels[..., 2] += np.where(
        np.arange(SIDE * ROWS)[:, None] // SIDE * WIDTH + np.arange(SIDE * WIDTH) // SIDE >= unit, 7.5, 0.0
    )
    coarse, fine = coded(pixels, 30), coded(pixels, 90)
    assert examine(coarse).verdict is Verdict.INTACT
    assert is_broken_near(fine, unit), "by fine tables it is no step of theirs"
