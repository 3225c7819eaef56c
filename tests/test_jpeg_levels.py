"""What a run behind a gap counts from: the range from black to white, and what was put in before it."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import Subject
from jugal.formats.jpeg.breaks import level_planes
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.edges import read_edges
from jugal.formats.jpeg.foreign import foreign_start
from jugal.formats.jpeg.gamut import Gamut
from jugal.formats.jpeg.parse import Structure, read_entropy, walk
from jugal.formats.jpeg.resync import _wild_start, find_mosaic
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed


@cache
def contrasty(seed: int = 4, size: tuple[int, int] = (960, 720)) -> bytes:
    """A picture that reaches from black to white throughout, as most photographs do."""
    samples = np.asarray(riverbed(*size, seed).convert("RGB"), np.float64)
    low, high = np.percentile(samples, (2, 98))
    stretched = np.clip((samples - low) * 255.0 / (high - low), 0, 255)
    return encode.jpeg(Image.fromarray(stretched.astype(np.uint8)), quality=88)


def opened(data: bytes) -> tuple[Subject, Structure, RunReader]:
    subject = Subject(Source.from_bytes(data))
    structure = walk(subject.source, 0)
    return subject, structure, RunReader(structure)


def part(whole: Run, first: int, count: int) -> Run:
    return Run(whole.entropy, whole.dc[first : first + count], whole.bits[first : first + count + 1], False)


@pytest.mark.parametrize("away", [-40, -15, 12, 55])
def test_a_run_is_moved_into_the_range_that_pictures_have(away: int) -> None:
    _, structure, reader = opened(contrasty())
    whole, _ = reader.read(structure.scans[0].entropy, 0, reader.total)
    half = reader.total // 2
    gamut = Gamut(reader, part(whole, 0, half))
    wrong = np.array([round(away / reader.steps[0]), 0, 0])
    offsets, doubt = gamut.settle(part(whole, half, half), wrong, np.array([20.0, 3.0, 3.0]))
    assert abs(float(offsets[0] * reader.steps[0])) < 6 and doubt[0] < 6
    assert offsets[1:].tolist() == [0, 0] and doubt[1:].tolist() == [3.0, 3.0]


def test_what_is_known_well_stays_as_it_is() -> None:
    _, structure, reader = opened(encode.jpeg(riverbed(960, 720, 4), quality=88))
    whole, _ = reader.read(structure.scans[0].entropy, 0, reader.total)
    half = reader.total // 2
    gamut = Gamut(reader, part(whole, 0, half))
    offsets, _ = gamut.settle(part(whole, half, half), np.zeros(3, np.int64), np.zeros(3))
    assert abs(float(offsets[0] * reader.steps[0])) < 3


@pytest.mark.parametrize("kind", ["zero-cluster", "noise-cluster", "lost-cluster", "zero-large-cluster"])
@pytest.mark.parametrize("seed", [1, 2])
def test_runs_behind_gaps_come_back_bright_as_they_were(kind: str, seed: int) -> None:
    data = contrasty(seed)
    _, structure, _ = opened(data)
    assert structure.frame is not None
    true = [p.reshape(-1) for p in level_planes(decode(structure.frame, structure.scans, structure.quant), structure)]
    subject, sick, _ = opened(harm(data, "jpeg", kind, seed).data)
    assert sick.frame is not None
    mosaic = find_mosaic(subject, sick, decode(sick.frame, sick.scans, sick.quant))
    assert mosaic is not None
    placed = mosaic.placed[-1]
    levels = mosaic.reader.levels(placed.run.dc)[0] + placed.offsets[0] * mosaic.reader.steps[0]
    away = levels - true[0][placed.place : placed.end]
    assert np.median(np.abs(away - np.median(away))) < 1, "in its place"
    assert abs(float(np.median(away))) < 8, "as bright as it was"


@pytest.mark.parametrize("borrowed", [0, 40, 90])
def test_what_was_put_in_before_a_run_is_left_out(borrowed: int) -> None:
    """The start of the rest replaced by whole sectors of another picture by the same encoder."""
    _, structure, reader = opened(contrasty(4))
    entropy = structure.scans[0].entropy
    whole, _ = reader.read(entropy, 0, reader.total)
    width = reader.frame.mcus_x
    known = read_edges(reader, entropy, 0, width, 0, reader.total // 2)
    foreign = contrasty(9)
    if not borrowed:
        run, _ = reader.read(entropy, int(whole.bits[reader.total // 2]), reader.total)
        assert foreign_start(reader, run, known) == 0
        return
    start = entropy.start + int(whole.bits[reader.total // 2] >> 3)
    at = start // 512 * 512 + 512
    length = borrowed * 64 // 512 * 512
    mixed = contrasty(4)[:at] + foreign[at : at + length] + contrasty(4)[at + length :]
    subject = Subject(Source.from_bytes(mixed))
    bit = reader.in_step(subject, at, len(mixed))
    assert bit is not None
    run = reader.follow(read_entropy(subject.source, at, len(mixed)), bit, reader.total)
    if run.failed:
        pytest.skip("the two do not decode on into one another")
    kept = run.without_first(foreign_start(reader, run, known))
    assert kept.count <= run.count - borrowed // 4


def test_the_cluster_behind_the_one_at_fault_is_tried_first() -> None:
    data = contrasty(6)
    _, structure, reader = opened(data)
    whole, _ = reader.read(structure.scans[0].entropy, 0, reader.total)
    at = len(data) // 2 // 4096 * 4096
    noise = np.random.default_rng(3).bytes(4096)
    subject, sick, _ = opened(data[:at] + noise + data[at + 4096 :])
    assert sick.frame is not None
    mosaic = find_mosaic(subject, sick, decode(sick.frame, sick.scans, sick.quant))
    assert mosaic is not None
    first = int(np.searchsorted(whole.bits >> 3, at + 4096 - structure.scans[0].entropy.start))
    # A cluster further on would be some eighty MCUs further down.
    assert first - 16 <= mosaic.placed[-1].place <= first + 16


@pytest.mark.parametrize(
    "kind", ["noise-cluster", "kindred-cluster", "own-cluster", "zero-several", "inserted-cluster"]
)
@pytest.mark.parametrize("quality", [25, 80])
def test_what_is_put_back_together_decodes_without_an_error(kind: str, quality: int, tmp_path: Path) -> None:
    """Whatever a run's first MCUs are, no level beyond those of a picture is written, which decoders would stop at."""
    repaired = 0
    for seed in range(4):
        sick = harm(encode.jpeg(riverbed(900, 700, seed + 1), quality=quality), "jpeg", kind, seed).data
        path = tmp_path / f"{seed}.jpg"
        path.write_bytes(sick)
        found = examine_file(path)
        if "resync" not in {p.method for p in found.repairs}:
            continue
        outcome = repair_file(found, tmp_path / "out", method="resync", rounds=1)
        if outcome.output is None:
            continue
        repaired += 1
        _, structure, _ = opened(Path(outcome.output).read_bytes())
        assert structure.frame is not None
        scan = decode(structure.frame, structure.scans, structure.quant).scans[0]
        assert scan.complete, [(e.kind, e.mcu) for e in scan.errors[:3]]
    assert repaired >= 2


def test_a_run_counts_from_the_level_of_the_mcu_before_it() -> None:
    _, structure, reader = opened(contrasty())
    whole, _ = reader.read(structure.scans[0].entropy, 0, reader.total)
    for number in (1, 500, 1500):
        run = part(whole, number, 100)
        last = [int(whole.dc[number - 1, np.flatnonzero(reader.blocks == c)[-1]]) for c in range(3)]
        assert reader.counted_from(run).tolist() == last


def test_mcus_of_impossible_levels_are_left_out_with_what_they_follow() -> None:
    _, structure, reader = opened(contrasty())
    whole, _ = reader.read(structure.scans[0].entropy, 0, reader.total)
    run = part(whole, 600, 400)
    assert _wild_start(reader, run, np.zeros(3, np.int64)) == 0
    run.dc = run.dc.copy()
    run.dc[4, 0] = round(400 / reader.steps[0])
    assert _wild_start(reader, run, np.zeros(3, np.int64)) == 6
    # Far off as a whole, as with a wrong offset, all of the start is.
    assert _wild_start(reader, run, np.array([round(500 / reader.steps[0]), 0, 0])) == 65
