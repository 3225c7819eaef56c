"""Runs that count from another level in their middle, and what else goes wrong behind a damage without raising an error."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from bench.healthy import HEALTHY
from bench.measure import share

from conftest import examine
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.jpeg import damage
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.entropy import neutral_mcu
from jugal.formats.jpeg.parse import Structure, read_entropy
from jugal.formats.jpeg.resync import applicable
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.formats.jpeg.select import select
from jugal.formats.jpeg.steps import step_inside
from jugal.formats.jpeg.swaps import is_row_of_strangers
from jugal.kernels.stuffing import pack_bits
from jugal.model.finding import Severity
from jugal.model.result import RepairStatus, Verdict
from jugal.samples.harm import harm
from test_jpeg_places import CLUSTER, opened, part, photo


def stepped(structure: Structure, reader: RunReader, whole: Run, at: int, levels: list[int]) -> Run:
    """The whole picture as one run in which MCU ``at`` is neutral but for moving all that follows by so many ``levels``."""
    change = [round(level / step) for level, step in zip(levels, reader.steps, strict=True)]
    last = whole.dc[at, reader.blocks == 0][-1] - whole.dc[at - 1, reader.blocks == 0][-1]
    change[0] += int(last)
    bits = [
        *part(whole, 0, at).own_bits(),
        neutral_mcu(structure, structure.scans[0], change),
        *part(whole, at + 1, whole.count).own_bits(),
    ]
    joined = np.concatenate(bits)
    raw = pack_bits(np.concatenate((joined, np.ones(-joined.size % 8, np.uint8))))
    run, _ = reader.read(read_entropy(Source.from_bytes(raw + b"\xff\xd9"), 0), 0, whole.count)
    return run


def from_row(run: Run, row: int, width: int) -> tuple[Run, int]:
    """The run from somewhere in a row on, and that place."""
    place = row * width + width // 3
    return part(run, place, run.count), place


@pytest.mark.parametrize("levels", [[30, 0, 0], [0, 12, 0], [-24, 5, 9]])
@pytest.mark.parametrize("column", [0.3, 0.5, 0.8])
def test_a_step_in_level_inside_a_run_is_found_to_the_mcu(levels: list[int], column: float) -> None:
    _, structure, reader, whole = opened(photo(5))
    width = reader.frame.mcus_x
    at = 30 * width + round(column * width)
    run, place = from_row(stepped(structure, reader, whole, at, levels), 10, width)
    found = step_inside(reader, run, place)
    assert found is not None and abs(place + found - at) <= 2


def test_at_the_side_a_step_counts_where_a_cluster_begins() -> None:
    """The lower border of a sky begins at the picture's side too, but seldom where a cluster does in the bytes."""
    _, structure, reader, whole = opened(photo(5))
    width = reader.frame.mcus_x
    raw = whole.entropy.raw_offsets(whole.bits >> 3)
    clusters = (raw - raw[0]) // CLUSTER
    seen: dict[bool, list[bool]] = {True: [], False: []}
    for at in range(20 * width, 44 * width):
        behind_border = bool(clusters[at] > clusters[at - 3])
        surely_not = clusters[at + 40] == clusters[at - 40]
        if min(at % width, -at % width) > 3 or not (behind_border or (surely_not and len(seen[False]) < 3)):
            continue
        place = at - 5 * width
        run = part(stepped(structure, reader, whole, at, [-24, 14, 9]), place, at + 14 * width)
        seen[behind_border].append(step_inside(reader, run, place) is not None)
    assert seen[False] == [False] * 3
    assert len(seen[True]) > 3 and 2 * sum(seen[True]) > len(seen[True])


@pytest.mark.parametrize("name", sorted(HEALTHY["jpeg"]))
def test_runs_of_healthy_pictures_hold_no_step(name: str) -> None:
    data = HEALTHY["jpeg"][name](11)
    structure = select(Source.from_bytes(data)).structure
    if not applicable(structure):
        pytest.skip("decoding is not taken up inside a scan of this kind")
    _, _, reader, whole = opened(data)
    for row in (2, whole.count // reader.frame.mcus_x // 2):
        run, place = from_row(whole, row, reader.frame.mcus_x)
        assert step_inside(reader, run, place) is None


def test_a_row_of_strangers_stands_out_on_both_sides() -> None:
    calm, strange = np.zeros(60), np.ones(20)
    assert is_row_of_strangers(np.concatenate((calm, strange, calm)), 60, 20, 8)
    assert is_row_of_strangers(np.concatenate((calm[:7], strange, calm)), 7, 20, 8)
    assert not is_row_of_strangers(np.concatenate((calm[:5], strange, calm)), 5, 20, 8), "too little is known before it"
    assert not is_row_of_strangers(np.concatenate((calm, strange, strange, calm)), 60, 20, 8), "strange all over"
    half = np.concatenate((np.ones(12), np.full(8, -0.1)))
    assert not is_row_of_strangers(np.concatenate((calm, half, calm)), 60, 20, 8), "an edge ends with its row"


def test_data_that_run_out_are_looked_through_as_a_whole(monkeypatch: pytest.MonkeyPatch) -> None:
    """Decoding fell into step again behind the loss, far more bytes before the end than are looked at behind an error."""
    monkeypatch.setattr(damage, "_SEARCH_BYTES", 1 << 14)
    whole = photo(5)
    at = len(whole) // 5 // CLUSTER * CLUSTER
    sick = whole[:at] + whole[at + CLUSTER :]
    structure = select(Source.from_bytes(sick)).structure
    assert structure.frame is not None
    errors = decode(structure.frame, structure.scans, structure.quant).scans[0].errors
    assert errors and errors[0].at > len(sick) - 16, "it turns impossible in its last bytes only"
    found = examine(sick)
    first = min(f.span.start for f in found.findings if f.span and f.severity is Severity.MAJOR)
    assert abs(first - at) <= CLUSTER and found.verdict is Verdict.REPAIRABLE
    assert found.score == pytest.approx(share("jpeg", whole, sick), abs=8)


@pytest.mark.parametrize(
    ("name", "kind", "seed"),
    [("422-optimised", "own-cluster", 302), ("toolkit", "own-cluster", 303), ("coarse", "own-cluster", 300),
     ("coarse", "own-cluster", 303), ("coarse", "flip-bits", 301), ("toolkit", "swapped-clusters", 301)],
)  # fmt: skip
def test_what_is_claimed_of_a_repair_is_there(name: str, kind: str, seed: int, tmp_path: Path) -> None:
    """In each of these what follows the damage decodes, and counts from another level or stands elsewhere from somewhere on."""
    data = HEALTHY["jpeg"][name](seed % 7 + 3)
    path = tmp_path / "plate.jpg"
    path.write_bytes(harm(data, "jpeg", kind, seed).data)
    outcome = repair_file(examine_file(path), tmp_path / "out")
    assert outcome.status is RepairStatus.REPAIRED and outcome.output is not None
    true = share("jpeg", data, Path(outcome.output).read_bytes())
    assert true is not None and outcome.score_after is not None
    assert outcome.score_after <= true + 12
