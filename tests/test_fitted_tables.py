"""Huffman tables that were fitted to a progressive picture: made as the standard says, and found again from the data."""

from __future__ import annotations

import io
from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from PIL import Image

from conftest import examine
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import RepairImpossible, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.fitted import _lengths, _Levels, code_lengths, fitted_tables
from jugal.formats.jpeg.parse import HuffmanTable, Structure, walk
from jugal.formats.jpeg.refit import can_refit, fit_tables, refitted
from jugal.model.result import Verdict
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

SETTINGS: dict[str, dict[str, object]] = {
    "plain": {},
    "fine": {"subsampling": 0, "quality": 93},
    "coarse": {"quality": 40},
    "restarts": {"restart_marker_rows": 1},
    "short restarts": {"restart_marker_blocks": 7},
}


@cache
def photo(name: str, seed: int = 4) -> bytes:
    return encode.jpeg(riverbed(640, 480, seed), progressive=True, **SETTINGS[name])  # type: ignore[arg-type]


@cache
def grey() -> bytes:
    out = io.BytesIO()
    riverbed(640, 480, 5).convert("L").save(out, "JPEG", quality=80, progressive=True)
    return out.getvalue()


def pixels(data: bytes) -> np.ndarray:
    return np.asarray(Image.open(io.BytesIO(data)))


def structure(data: bytes) -> Structure:
    return walk(Source.from_bytes(data), 0)


@pytest.mark.parametrize("name", SETTINGS)
def test_tables_are_made_as_encoders_make_them(name: str) -> None:
    """T.81 K.2 and K.3: from how often each category comes follow the very tables that the encoder wrote."""
    made = structure(photo(name))
    assert made.frame is not None
    scan = made.scans[0]
    levels = _Levels(made.frame, scan, made.quant)
    own = tuple(_lengths(scan.tables[key]) for key in levels.keys)
    counts = levels.counts(own, made.frame.mcus_x * made.frame.mcus_y)  # type: ignore[arg-type]
    assert counts.sum() == levels.blocks.sum()
    assert tuple(code_lengths(c) for c in counts) == own


@settings(max_examples=200)
@example([6, 22, 16, 23, 130, 84, 457, 284, 729, 729, 729, 10385, 6275, 4110, 2166, 1, 34978, 21103, 153])
@given(st.lists(st.integers(0, 1 << 20), min_size=2, max_size=200).filter(lambda c: any(c)))
def test_codes_fit_in_sixteen_bits_and_leave_the_one_of_ones_alone(counts: list[int]) -> None:
    lengths = code_lengths(np.array(counts))
    assert all((length > 0) == (count > 0) for length, count in zip(lengths, counts, strict=True))
    assert max(lengths) <= 16
    assert sum(1 << (16 - length) for length in lengths if length) <= (1 << 16) - (1 << (16 - max(lengths)))
    if max(lengths) == 16:
        return  # K.3 may have shortened codes, in the order of symbols where they were of one length
    for count, length in zip(counts, lengths, strict=True):
        assert all(length <= other for more, other in zip(counts, lengths, strict=True) if 0 < more < count)


@pytest.mark.parametrize("name", SETTINGS)
def test_tables_of_dc_values_are_found_from_the_data(name: str, tmp_path: Path) -> None:
    whole = photo(name)
    path = tmp_path / "sick.jpg"
    path.write_bytes(harm(whole, "jpeg", "no-huffman-tables", 1).data)
    found = examine_file(path)
    assert found.verdict is Verdict.REPAIRABLE and "fit-tables" in {p.method for p in found.repairs}
    outcome = repair_file(found, tmp_path / "out")
    assert outcome.method == "fit-tables" and outcome.output is not None and outcome.score_after == 100.0
    assert np.array_equal(pixels(Path(outcome.output).read_bytes()), pixels(whole))


def test_one_table_that_is_lost_is_found_with_the_other_one_there() -> None:
    whole = structure(photo("plain"))
    scan = whole.scans[0]
    assert whole.frame is not None and set(scan.tables) == {0, 1}
    for lost in (0, 1):
        left = {key: table for key, table in scan.tables.items() if key != lost}
        found = fitted_tables(whole.frame, replace(scan, tables=left), whole.quant, {})
        assert found is not None and found[1 - lost] == scan.tables[1 - lost]
        # What the tables say of codes that never come is anyone's guess.
        used, own = _lengths(found[lost]), _lengths(scan.tables[lost])
        assert used is not None and own is not None
        assert all(one == other for one, other in zip(used, own, strict=True) if other)


def test_a_scan_with_tables_of_its_own_keeps_them() -> None:
    """Between scans a table may be given anew under the same number; only what a donor lent is doubted."""
    whole = structure(grey())
    scan = whole.scans[0]
    typical = HuffmanTable(*spec.ANNEX_K[0])
    lent = replace(scan, tables={0: typical})
    found = refitted(replace(whole, scans=[lent, scan]), {0: typical})
    assert found is not None and list(found) == [scan.segment.start]
    used, own = _lengths(found[scan.segment.start][0]), _lengths(scan.tables[0])
    assert used is not None and own is not None
    assert all(one == other for one, other in zip(used, own, strict=True) if other)
    assert refitted(whole, {0: typical}) == {}


def test_grey_pictures_have_one_table(tmp_path: Path) -> None:
    path = tmp_path / "sick.jpg"
    path.write_bytes(harm(grey(), "jpeg", "no-huffman-tables", 1).data)
    outcome = repair_file(examine_file(path), tmp_path / "out")
    assert outcome.output is not None
    assert np.array_equal(pixels(Path(outcome.output).read_bytes()), pixels(grey()))


def test_the_level_of_the_whole_hangs_on_a_code_that_comes_once(tmp_path: Path) -> None:
    """Read with one bit less in the first value the data fall into step again, and end where they should."""
    picture = np.array(riverbed(640, 480, 7))
    picture[:16, :16] = 255
    out = io.BytesIO()
    Image.fromarray(picture).save(out, "JPEG", quality=97, progressive=True)
    path = tmp_path / "sick.jpg"
    path.write_bytes(harm(out.getvalue(), "jpeg", "no-huffman-tables", 1).data)
    outcome = repair_file(examine_file(path), tmp_path / "out")
    assert outcome.output is not None
    assert np.array_equal(pixels(Path(outcome.output).read_bytes()), pixels(out.getvalue()))


def test_nothing_is_found_where_data_of_the_scan_are_lost() -> None:
    whole = grey()
    entropy = structure(whole).scans[0].entropy
    middle = (entropy.start + entropy.end) // 2
    for data in (whole[:middle] + whole[middle + 64 :], whole[:middle] + bytes(64) + whole[middle + 64 :]):
        sick = Subject(Source.from_bytes(harm(data, "jpeg", "no-huffman-tables", 1).data))
        with pytest.raises(RepairImpossible, match="No tables were found"):
            fit_tables(sick, None)


def test_what_lacks_more_or_nothing_is_left_alone() -> None:
    baseline = harm(encode.jpeg(riverbed(640, 480, 4)), "jpeg", "no-huffman-tables", 1).data
    assert not can_refit(structure(baseline))
    assert not can_refit(structure(harm(photo("plain"), "jpeg", "no-quantisation-table", 1).data))
    with pytest.raises(RepairImpossible, match="More than tables"):
        fit_tables(Subject(Source.from_bytes(baseline)), None)
    assert refitted(structure(photo("plain"))) == {}
    assert "fit-tables" not in {p.method for p in examine(photo("plain")).repairs}
