"""Runs between damages are put where they were: the picture's edge tells the column, and the claim keeps to the doubt."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import numpy as np
import pytest
from bench.measure import share
from PIL import Image

from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import Subject
from jugal.formats.jpeg.canvas import Placed
from jugal.formats.jpeg.columns import read_row_ends
from jugal.formats.jpeg.entropy import neutral_mcu
from jugal.formats.jpeg.parse import read_entropy, walk
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.kernels.stuffing import pack_bits
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

SAMPLINGS = {"4:2:0": 2, "4:2:2": 1, "4:4:4": 0}


@cache
def photo(sampling: str, seed: int) -> bytes:
    return encode.jpeg(riverbed(1200, 900, seed), quality=85, subsampling=SAMPLINGS[sampling])


@pytest.mark.parametrize("sampling", SAMPLINGS)
@pytest.mark.parametrize("seed", [3, 4])
def test_the_pictures_edge_tells_the_column_a_run_begins_in(sampling: str, seed: int) -> None:
    subject = Subject(Source.from_bytes(photo(sampling, seed)))
    structure = walk(subject.source, 0)
    reader = RunReader(structure)
    whole, _ = reader.read(structure.scans[0].entropy, 0, reader.total)
    width = reader.frame.mcus_x
    hits = 0
    for begin in range(5 * width + 7, 20 * width, 3 * width + 11):
        run = Run(
            whole.entropy, whole.dc[begin : begin + 12 * width], whole.bits[begin : begin + 12 * width + 1], False
        )
        hits += begin % width == int(np.argmax(read_row_ends(reader, run).columns()))
    assert hits >= 4, "of five the column is the likeliest"
    short = Run(whole.entropy, whole.dc[:8], whole.bits[:9], False)
    assert np.ptp(read_row_ends(reader, short).columns()) == 0, "of a few MCUs nothing is said"


@pytest.mark.parametrize("sampling", SAMPLINGS)
def test_three_holes_come_back_and_no_more_is_claimed_than_is_true(sampling: str, tmp_path: Path) -> None:
    truths, claims = [], []
    for seed in range(4):
        data = photo(sampling, 5 + seed % 2)
        path = tmp_path / f"{seed}.jpg"
        path.write_bytes(harm(data, "jpeg", "zero-several", seed).data)
        found = examine_file(path)
        outcome = repair_file(found, tmp_path / "out", method="resync")
        assert outcome.output is not None and outcome.score_after is not None
        truth = share("jpeg", data, Path(outcome.output).read_bytes())
        assert truth is not None and found.score is not None and truth > found.score + 20
        truths.append(truth)
        claims.append(outcome.score_after)
    assert np.mean(truths) > 75
    assert np.mean(claims) < np.mean(truths) + 5, "over several pictures the claim is no higher than the truth"


def test_doubt_in_the_level_lowers_what_a_run_counts() -> None:
    run = Run.__new__(Run)
    sureties = [Placed(run, 0, np.zeros(1, np.int64), np.array([doubt])).surety for doubt in (0.0, 6.0, 12.0, 40.0)]
    assert sureties[0] == sureties[1] == 1.0 and sureties == sorted(sureties, reverse=True)
    # By Student's law of three degrees of freedom 60.90 of a hundred are within one deviation, 21.62 within 0.3 of one; 85 count
    # as sure.
    assert sureties[2:] == pytest.approx([0.6090 / 0.85, 0.2162 / 0.85], abs=0.001)


def test_doubt_in_a_tint_counts_by_what_it_shows() -> None:
    """A level of the blue difference changes blue by 1.772 levels (ITU-T T.871), so that less doubt in it weighs as much."""
    run = Run.__new__(Run)
    none = np.zeros(3, np.int64)
    luma, blue, red = (Placed(run, 0, none, np.eye(3)[c] * 20.0).surety for c in range(3))
    assert blue < red < luma
    assert Placed(run, 0, none, np.array([0.0, 20.0 / 1.772, 0.0])).surety == pytest.approx(luma)


@pytest.mark.parametrize("kind", ["zero-cluster", "noise-cluster", "lost-cluster"])
def test_four_inks_that_share_their_tables_keep_apart(kind: str, tmp_path: Path) -> None:
    """Decoding is as well in step one ink further on, and colours then change places; how much goes on in each tells them apart."""
    whole = encode.jpeg(riverbed(900, 700, 7).convert("CMYK"), quality=85)
    path = tmp_path / "plate.jpg"
    path.write_bytes(harm(whole, "jpeg", kind, 5).data)
    outcome = repair_file(examine_file(path), tmp_path / "out")
    assert outcome.output is not None and outcome.method == "resync"
    true = share("jpeg", whole, Path(outcome.output).read_bytes())
    assert true is not None and true > 95 and (outcome.score_after or 100) <= true + 2


def test_where_nothing_is_left_to_learn_the_inks_from_most_starts_are_believed() -> None:
    whole = encode.jpeg(riverbed(640, 480, 7).convert("CMYK"), quality=85)
    begin = walk(Source.from_bytes(whole), 0).scans[0].entropy.start
    sick = whole[:begin] + b"\xfe" * 512 + whole[begin + 512 :]
    subject = Subject(Source.from_bytes(sick))
    reader = RunReader(walk(subject.source, 0))
    assert reader.read(reader.scan.entropy, 0, 64)[0].count < 16
    bit = reader.in_step(subject, begin + 512, len(sick))
    assert (
        bit is not None
        and reader.follow(read_entropy(subject.source, begin + 512, len(sick)), bit, reader.total).count > 100
    )


@pytest.mark.parametrize("foreign", [0, 60, 200])
def test_a_run_is_not_ended_for_levels_that_foreign_mcus_left_behind(foreign: int) -> None:
    """Foreign MCUs at its start may be so bright that together with the picture's they are beyond what a picture has."""
    rows = np.repeat((246.0, 10.0), 240)[:, None] + np.random.default_rng(1).normal(0, 3, (480, 640))
    picture = Image.fromarray(np.clip(rows, 0, 255).astype(np.uint8)).convert("RGB")
    whole = walk(Source.from_bytes(encode.jpeg(picture, quality=90)), 0)
    reader, scan = RunReader(whole), whole.scans[0]
    own, _ = reader.read(scan.entropy, 0, reader.total)
    far = round(0.8 * 256 / float(reader.steps[0]))
    flat = [neutral_mcu(whole, scan)] * (foreign // 2 - 1)
    up, down = (neutral_mcu(whole, scan, [by, 0, 0]) for by in (far, -far))
    before = [up, *flat, down, *flat] if foreign else []
    entropy = read_entropy(Source.from_bytes(pack_bits(np.concatenate((*before, *own.own_bits()))) + b"\xff\xd9"), 0)
    run = reader.follow(entropy, 0, reader.total + foreign)
    if foreign < 100:
        assert not run.failed and run.ends_with_data and run.count >= reader.total - 30
        assert np.array_equal(np.diff(run.bits[-500:]), np.diff(own.bits[-500:]))
    else:
        assert run.failed and run.count < reader.total, "so many may as well be the picture's, and what follows not"
