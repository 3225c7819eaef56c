"""Clusters in the wrong place that decode without an error: told by how rows meet at two borders, never in a healthy picture."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from conftest import examine
from jugal.binary.source import Source
from jugal.formats.base import Subject
from jugal.formats.jpeg.breaks import level_planes
from jugal.formats.jpeg.decode import Picture, decode
from jugal.formats.jpeg.parse import Structure, walk
from jugal.formats.jpeg.swaps import find_swaps, levels_part
from jugal.model.codes import FindingCode
from jugal.model.result import Verdict
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed


def decoded(data: bytes) -> tuple[Structure, Picture]:
    structure = walk(Subject(Source.from_bytes(data)).source, 0)
    assert structure.frame is not None
    return structure, decode(structure.frame, structure.scans, structure.quant)


def swaps(data: bytes) -> list[tuple[int, int]]:
    structure, picture = decoded(data)
    return find_swaps(picture, structure, level_planes(picture, structure))


def is_silent(data: bytes) -> bool:
    """Decodes to the last MCU without an error, and nothing but padding is left."""
    scan = decoded(data)[1].scans[0]
    left = int((scan.segments.end - scan.segments.start)[0] * 8 - scan.used[0])
    return scan.complete and 0 <= left < 8


@cache
def photo(seed: int, quality: int = 85) -> bytes:
    return encode.jpeg(riverbed(1000, 760, seed), quality=quality)


@cache
def silent() -> list[tuple[bytes, int]]:
    """Pictures with two clusters swapped that no decoder complains of, and where the first of them begins."""
    found = []
    for seed in range(1, 13):
        for number in range(8):
            sick = harm(photo(seed), "jpeg", "swapped-clusters", number)
            if is_silent(sick.data):
                found.append((sick.data, sick.start))
                break
    return found


def test_silent_swaps_are_placed_at_their_cluster() -> None:
    cases = silent()
    assert len(cases) >= 3, "the encoder made too few to test with"
    hits = 0
    for data, start in cases:
        borders = swaps(data)
        if borders:
            hits += 1
            assert borders[0][1] % 4096 == 0 and abs(borders[0][1] - start) <= 8192
            units = [unit for unit, _ in borders]
            assert units == sorted(units) and len(units) >= 2
    assert 2 * hits >= len(cases)


@pytest.mark.parametrize("quality", [40, 75, 90])
@pytest.mark.parametrize("seed", range(1, 5))
def test_healthy_pictures_have_no_swaps(seed: int, quality: int) -> None:
    assert swaps(photo(seed, quality)) == []


SCREENS = sorted((Path(__file__).parent.parent / "docs" / "screenshots").glob("*.png"))


@pytest.mark.parametrize("path", SCREENS, ids=lambda path: path.stem)
def test_a_drawn_window_is_healthy_however_it_is_cut_and_coded(path: Path) -> None:
    """Panels and lines of text meet as strangers do, and on flat ground every edge is the same all along."""
    rng = np.random.default_rng(len(path.stem))
    with Image.open(path) as opened:
        screen = opened.convert("RGB")
    for number in range(5):
        left, top = (int(rng.integers(0, side // 3)) if number else 0 for side in screen.size)
        part = screen.crop((left, top, screen.width, screen.height))
        data = encode.jpeg(part, quality=int(rng.integers(45, 98)), subsampling=number % 3)
        found = examine(data)
        assert found.verdict is Verdict.INTACT, (number, [f.message for f in found.findings])


def test_a_silent_swap_becomes_a_break_with_its_place() -> None:
    data, start = next((d, s) for d, s in silent() if swaps(d))
    found = examine(data)
    assert found.verdict is not Verdict.INTACT and (found.score or 0) < 95
    finding = next(f for f in found.findings if f.code is FindingCode.JPEG_BREAK)
    assert finding.span is not None and abs(finding.span.start - start) <= 8192


def test_pictures_whose_rows_take_several_clusters_are_left_alone() -> None:
    """There a cluster is a part of a row, and the test of a row's length does not hold."""
    wide = encode.jpeg(riverbed(4000, 160, 3), quality=97, subsampling=0)
    assert swaps(wide) == []
    at = len(wide) // 2 // 4096 * 4096
    assert swaps(wide[:at] + wide[at + 4096 : at + 8192] + wide[at : at + 4096] + wide[at + 8192 :]) == []


@pytest.mark.parametrize("size", [(64, 64), (120, 900), (1000, 120)])
def test_small_and_narrow_pictures_are_asked_in_vain(size: tuple[int, int]) -> None:
    assert swaps(encode.jpeg(riverbed(*size, 3), quality=90)) == []


def test_levels_part_by_tint_as_well() -> None:
    rng = np.random.default_rng(2)
    planes = [rng.normal(0, 4, (40, 30)).astype(np.float32), *rng.normal(0, 0.5, (2, 40, 30)).astype(np.float32)]
    assert not levels_part(planes, 300, 360)
    for c, step in ((0, 30.0), (1, 9.0), (2, -9.0)):
        changed = [plane.copy() for plane in planes]
        changed[c].reshape(-1)[360:] += step
        assert levels_part(changed, 300, 360)
