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
from jugal.formats.jpeg.columns import read_row_ends
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.edges import read_edges
from jugal.formats.jpeg.parse import walk
from jugal.formats.jpeg.partings import _fitting
from jugal.formats.jpeg.places import Stray
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.stairs import Step, level_steps
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

NEAR = 4096


@cache
def page(seed: int = 1) -> Image.Image:
    """Paragraphs of writing on white paper, as a screen shows them: many a line breaks the picture from side to side."""
    rng = np.random.default_rng(seed)
    picture = Image.new("RGB", (640, 800), "white")
    draw = ImageDraw.Draw(picture)
    for line in range(22):
        words = " ".join(
            ["survey", "otter", "shingle", "gravel", "ledger"][k] for k in rng.integers(0, 5, rng.integers(2, 9))
        )
        draw.text((30, 8 + 36 * line), words, fill=tuple(int(v) for v in rng.integers(0, 160, 3)), font_size=18)
    return picture


@cache
def sky_and_lawn(seed: int = 2) -> Image.Image:
    """A flat sky above, and from the second row in five on a lawn whose rows meet far less well."""
    rng = np.random.default_rng(seed)
    rows = np.linspace(200, 230, 512)[:, None] * np.ones((1, 512))
    rows[:200] += rng.normal(0, 0.6, (200, 512))
    grass = Image.fromarray(rng.normal(0, 1, (52, 85)).astype(np.float32)).resize((512, 312), Image.Resampling.BICUBIC)
    rows[200:] = 110 + 30 * np.asarray(grass) + rng.normal(0, 4, (312, 512))
    return Image.fromarray(np.clip(rows, 0, 255).astype(np.uint8)).convert("RGB")


@pytest.mark.parametrize("kind", ["noise-cluster", "text-cluster"])
def test_on_a_page_damage_is_placed_where_it_was_noticed(kind: str) -> None:
    whole = encode.jpeg(page(), quality=90)
    assert examine(whole, "x.jpg").findings == ()
    for seed in range(4):
        harmed = harm(whole, "jpeg", kind, seed)
        assert share("jpeg", whole, harmed.data) < 95, "all of them show"
        found = examine(harmed.data, "x.jpg")
        places = [f.span.start for f in found.findings if f.span is not None]
        assert min(places) > harmed.start - NEAR, (kind, seed)


def steps_of(data: bytes) -> list[Step]:
    structure = walk(Source.from_bytes(data), 0)
    assert structure.frame is not None
    decoded = decode(structure.frame, structure.scans, structure.quant).scans[0]
    edges = read_edges(RunReader(structure), decoded.scan.entropy, 0, decoded.units_x, 0, decoded.units)
    return level_steps(edges.step, edges.width, edges.first)


def test_a_step_exact_to_the_level_is_beyond_doubt() -> None:
    """On white paper a lost difference leaves every MCU behind it off by the same; the page itself has none such."""
    whole = encode.jpeg(page(), quality=90)
    assert exact_step(steps_of(whole)) is None
    plain = Image.new("RGB", (640, 800), (250, 250, 250))
    ImageDraw.Draw(plain).ellipse((300, 80, 420, 200), fill=(40, 90, 200))
    shifted = np.asarray(plain).copy()
    # From MCU (30, 12) on all is darker, as after a flipped bit.
    shifted[480:496, 192:] -= 12
    shifted[496:] -= 12
    assert exact_step(steps_of(encode.jpeg(plain, quality=90))) is None
    assert exact_step(steps_of(encode.jpeg(Image.fromarray(shifted), quality=90))) == 30 * 40 + 12


@pytest.mark.parametrize(("kind", "seed"), [("lost-cluster", 0), ("zero-cluster", 0), ("zero-cluster", 1)])
def test_of_a_known_sky_a_lawn_is_not_judged(kind: str, seed: int, tmp_path: Path) -> None:
    whole = encode.jpeg(sky_and_lawn(), quality=75)
    harmed = harm(whole, "jpeg", kind, seed)
    path = tmp_path / "x.jpg"
    path.write_bytes(harmed.data)
    found = examine_file(path)
    assert found.score == pytest.approx(share("jpeg", whole, harmed.data), abs=2)
    outcome = repair_file(found, tmp_path / "out")
    assert outcome.method == "resync" and outcome.output is not None
    assert share("jpeg", whole, Path(outcome.output).read_bytes()) > 97


def test_a_run_parted_at_a_step_keeps_all_but_the_first_mcu_of_each_part() -> None:
    """Where nothing is lost there is no room for what was: the MCU that brought a step is what it costs."""
    structure = walk(Source.from_bytes(encode.jpeg(riverbed(640, 480, 3))), 0)
    reader = RunReader(structure)
    whole = reader.read(structure.scans[0].entropy, 0, reader.total)[0]
    head, rest = whole.only_first(400), whole.without_first(400)
    stray = Stray(rest, read_row_ends(reader, rest), 0, False, True)
    kept = _fitting(reader, head, list(stray.parted(300)))
    assert [p.run.count for p in kept] == [299, rest.count - 301]
    assert [p.run.count for p in _fitting(reader, head, [stray.part(1, rest.count)])] == [rest.count - 1]
