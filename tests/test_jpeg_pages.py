"""Pages, drawings and pictures of two minds: what they show by themselves is no damage, and what damage did to them is placed and mended."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import numpy as np
import pytest
from bench.measure import share
from PIL import Image, ImageDraw

from conftest import examine
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.jpeg.breaks import exact_step
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.edges import Edges, read_edges
from jugal.formats.jpeg.parse import walk
from jugal.formats.jpeg.runs import RunReader
from jugal.model.codes import FindingCode
from jugal.samples import encode
from jugal.samples.harm import harm

NEAR = 4096


@cache
def page(seed: int = 1) -> Image.Image:
    """Lines of writing on white paper, as a screen shows them: every one of them breaks the picture from side to side."""
    rng = np.random.default_rng(seed)
    picture = Image.new("RGB", (640, 800), "white")
    draw = ImageDraw.Draw(picture)
    for line in range(30):
        words = " ".join(["survey", "otter", "shingle", "gravel", "ledger"][k] for k in rng.integers(0, 5, 12))
        draw.text((6, 8 + 26 * line), words, fill=tuple(int(v) for v in rng.integers(0, 160, 3)), font_size=18)
    return picture


@cache
def sky_and_lawn(seed: int = 2) -> Image.Image:
    """A flat sky above, and from the third row in four on a lawn whose rows meet far less well."""
    rng = np.random.default_rng(seed)
    rows = np.linspace(200, 230, 512)[:, None] * np.ones((1, 512))
    rows[:200] += rng.normal(0, 0.6, (200, 512))
    rows[200:] = 110 + 30 * np.asarray(
        Image.fromarray(rng.normal(0, 1, (312, 512)).astype(np.float32)).resize((512, 312))
    )
    return Image.fromarray(np.clip(rows, 0, 255).astype(np.uint8)).convert("RGB")


@pytest.mark.parametrize("kind", ["noise-cluster", "text-cluster", "noise-sector", "flip-one-bit", "kindred-cluster"])
def test_on_a_page_damage_is_placed_where_it_was_noticed(kind: str) -> None:
    whole = encode.jpeg(page(), quality=90)
    assert examine(whole, "x.jpg").findings == ()
    for seed in range(4):
        harmed = harm(whole, "jpeg", kind, seed)
        found = examine(harmed.data, "x.jpg")
        if share("jpeg", whole, harmed.data) > 99.9:
            continue  # nothing of it shows
        places = [f.span.start for f in found.findings if f.span is not None]
        assert min(places) > harmed.start - NEAR, (kind, seed)


def edges_of(data: bytes) -> Edges:
    structure = walk(Source.from_bytes(data), 0)
    assert structure.frame is not None
    decoded = decode(structure.frame, structure.scans, structure.quant).scans[0]
    return read_edges(RunReader(structure), decoded.scan.entropy, 0, decoded.units_x, 0, decoded.units)


def test_a_step_exact_to_the_level_is_beyond_doubt() -> None:
    """On white paper a lost difference leaves every MCU behind it off by the same; the page itself has none such."""
    whole = encode.jpeg(page(), quality=90)
    assert exact_step(edges_of(whole)) is None
    plain = Image.new("RGB", (640, 800), (250, 250, 250))
    ImageDraw.Draw(plain).ellipse((300, 80, 420, 200), fill=(40, 90, 200))
    shifted = np.asarray(plain).copy()
    # From MCU (30, 12) on all is darker, as after a flipped bit.
    shifted[480:496, 192:] -= 12
    shifted[496:] -= 12
    assert exact_step(edges_of(encode.jpeg(plain, quality=90))) is None
    assert exact_step(edges_of(encode.jpeg(Image.fromarray(shifted), quality=90))) == 30 * 40 + 12


@pytest.mark.parametrize("kind", ["lost-cluster", "flip-one-bit", "zero-cluster"])
def test_of_a_known_sky_a_lawn_is_not_judged(kind: str, tmp_path: Path) -> None:
    whole = encode.jpeg(sky_and_lawn(), quality=75)
    for seed in range(3):
        harmed = harm(whole, "jpeg", kind, seed)
        shown = share("jpeg", whole, harmed.data)
        if shown > 97:
            continue
        path = tmp_path / f"{seed}.jpg"
        path.write_bytes(harmed.data)
        outcome = repair_file(examine_file(path), tmp_path / "out")
        assert outcome.method == "resync" and outcome.output is not None, seed
        assert share("jpeg", whole, Path(outcome.output).read_bytes()) > shown + 5, seed


def test_a_step_that_hardly_shows_is_mended_all_the_same(tmp_path: Path) -> None:
    """Two flipped differences, the second as much up as the first went down: nothing is lost but an MCU at each."""
    rng = np.random.default_rng(4)
    levels = np.clip(np.linspace(60, 90, 640)[None, :] + rng.normal(0, 1.0, (480, 640)), 0, 255)
    clean, stepped = levels.copy(), levels.copy()
    stepped[160:176, 320:] -= 8
    stepped[176:320] -= 8
    stepped[320:336, :320] -= 8
    whole, sick = (encode.jpeg(Image.fromarray(np.round(v).astype(np.uint8)), quality=92) for v in (clean, stepped))
    path = tmp_path / "x.jpg"
    path.write_bytes(sick)
    found = examine_file(path)
    assert any(f.code is FindingCode.JPEG_BREAK for f in found.findings)
    outcome = repair_file(found, tmp_path / "out", [], "resync")
    assert outcome.output is not None
    before, after = (
        np.abs(np.asarray(Image.open(p)).astype(int) - np.asarray(Image.open(tmp_path / "whole.jpg")).astype(int))
        for p in (path, _kept(outcome.output, tmp_path / "whole.jpg", whole))
    )
    assert after.mean() < 0.5 * before.mean()


def _kept(output: str, path: Path, whole: bytes) -> str:
    path.write_bytes(whole)
    return output
