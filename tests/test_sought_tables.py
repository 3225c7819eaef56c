"""Huffman tables that were fitted to a sequential picture: made as the standard says, and found again from the data."""

from __future__ import annotations

import io
from dataclasses import replace
from functools import cache
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from jugal.binary.source import Source
from jugal.engine import repair
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.jpeg import completing, sought
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.evidence import SHARE, Evidence, evidence_of, trusted
from jugal.formats.jpeg.frequencies import likely_tables
from jugal.formats.jpeg.parse import Structure, walk
from jugal.formats.jpeg.settling import named, renamed, settled
from jugal.formats.jpeg.sought import can_seek, sought_tables
from jugal.formats.jpeg.symbols import likelihoods
from jugal.formats.jpeg.unknown import KnownScan, Lookup, UnknownScan, codes_of, lookup_of, table_of
from jugal.kernels.optimal import fit_code
from jugal.model.result import RepairOutcome
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

SETTINGS: dict[str, dict[str, object]] = {
    "plain": {},
    "fine": {"subsampling": 0, "quality": 93},
    "coarse": {"quality": 40},
    "wide": {"subsampling": 1},
}


@cache
def photo(seed: int, name: str = "plain", size: tuple[int, int] = (640, 480)) -> bytes:
    options: dict[str, object] = {"quality": 85, "optimize": True, **SETTINGS[name]}
    return encode.jpeg(riverbed(*size, seed), **options)


def structure(data: bytes) -> Structure:
    return walk(Source.from_bytes(data), 0)


def known(data: bytes) -> KnownScan:
    whole = structure(data)
    assert whole.frame is not None
    return KnownScan(whole.frame, whole.scans[0])


@cache
def unknown(name: str = "plain") -> tuple[UnknownScan, Lookup]:
    """A scan with a like picture's to tell of it, and the tables that it has."""
    whole = structure(photo(4, name))
    assert whole.frame is not None
    return UnknownScan(whole.frame, whole.scans[0], known(photo(9, name))), lookup_of(whole.scans[0])


def evidence(scan: UnknownScan, lookup: Lookup, table: int, share: float = SHARE) -> Evidence:
    likely, own = scan.model(lookup, scan.usual)
    reading = scan.read(lookup, likely)
    return evidence_of(scan, lookup, likely, own, reading, table, trusted(lookup[table], own[table], share), 0)


def left_out(scan: UnknownScan, lookup: Lookup, table: int, codes: int) -> Lookup:
    """Tables in which the last codes of one stand for other symbols."""
    made = lookup.copy()
    tail = codes_of(lookup[table])[-codes:] if codes else []
    for (first, length, _), (_, _, symbol) in zip(tail, reversed(tail), strict=True):
        made[table, first : first + (1 << (16 - length))] = length << 8 | symbol
    return made


@pytest.mark.parametrize("name", SETTINGS)
def test_tables_are_made_as_encoders_make_them(name: str) -> None:
    """T.81 K.2 and K.3: from how often each symbol comes follow the very tables that the encoder wrote, in the order of their codes."""
    scan = structure(photo(4, name)).scans[0]
    often = known(photo(4, name)).counts().sum(axis=1)
    for key, table in scan.tables.items():
        number, order, sizes = np.zeros(17, np.int64), np.zeros(256, np.int64), np.zeros(256, np.int64)
        coded = fit_code(often[key % 16 + 2 * (key >> 4)], number, order, sizes)
        assert bytes(number[1:].tolist()) == table.counts
        assert bytes(order[:coded].tolist()) == table.symbols


@pytest.mark.parametrize("name", SETTINGS)
def test_supposed_tables_that_are_right_read_all_of_the_scan(name: str) -> None:
    scan, own = unknown(name)
    whole = structure(photo(4, name))
    assert whole.frame is not None
    often, left = scan.counts(own)
    assert left == decode(whole.frame, whole.scans, whole.quant).scans[0].bits_left
    # Each block has one DC value (F.1.2.1).
    assert often[:2].sum() == scan.count
    assert np.array_equal(often, known(photo(4, name)).counts().sum(axis=1))
    for table in scan.blocks.tables:
        wrong = left_out(scan, own, table, 4)
        assert scan.gain(own, scan.usual) > scan.gain(wrong, scan.usual)


def test_tables_come_back_as_they_were() -> None:
    scan = structure(photo(4)).scans[0]
    lookup = lookup_of(scan)
    for key, table in scan.tables.items():
        assert table_of(lookup[key % 16 + 2 * (key >> 4)]) == table


def test_probabilities_add_up_and_what_never_came_may() -> None:
    counts = known(photo(9)).counts()
    likely = likelihoods(counts)
    total = np.exp2(likely[2, : 15 * 32, :].astype(np.float64)).sum(axis=1)
    assert np.all(np.abs(total - 1.0) < 0.05)
    # 0x9A may come (F.1.2.2.1), 0x0B and 0x50 may not with 8 bits a sample.
    assert counts[2].sum(axis=0)[[0x9A, 0x0B, 0x50]].sum() == 0 and np.isfinite(likely).all()
    whole = likelihoods(np.zeros_like(counts))[2, 0]
    assert whole[0x9A] > whole[0x0B] + 5 and whole[0x9A] > whole[0x50] + 5


def test_what_is_sure_is_what_comes_often() -> None:
    scan, own = unknown()
    _, often = scan.model(own, scan.usual)
    trust = trusted(own[2], often[2], SHARE)
    assert trust.codes == codes_of(own[2])[: len(trust.codes)]
    assert min(often[2][symbol] for _, _, symbol in trust.codes) >= 60
    assert (1 << 16) - trust.begin > 0 and len(trust.codes) < len(codes_of(own[2]))


def test_repeated_bits_are_one_piece_of_evidence() -> None:
    """A pattern repeats what it says: of a row of the same block nothing more is known than of one."""
    tile = np.array(riverbed(64, 64, 3))
    tiled = np.tile(tile, (8, 10, 1))
    data = encode.jpeg(Image.fromarray(tiled), quality=85, optimize=True)
    whole = structure(data)
    assert whole.frame is not None
    scan, own = UnknownScan(whole.frame, whole.scans[0], known(photo(9))), lookup_of(whole.scans[0])
    once, plain = evidence(scan, own, 2), evidence(*unknown(), 2)
    assert len(once.summed) < 0.5 * once.often[-1]
    assert len(once.summed) - 1 == once.placed[-1] and len(plain.summed) - 1 == plain.placed[-1]


def test_lengths_are_settled_by_how_often_codes_come() -> None:
    """From a table in which one code is two and all behind them stand elsewhere, one comes by which more is read in step."""
    scan, own = unknown()
    codes, wrong = codes_of(own[2]), own.copy()
    at = next(
        k
        for k in range(len(codes) - 40, len(codes))
        if codes[k][1] == codes[k + 1][1] and not codes[k][0] >> (16 - codes[k][1]) & 1
    )
    first, length, symbol = codes[at]
    wrong[2, first : first + (2 << (16 - length))] = (length - 1) << 8 | symbol
    tried = wrong.copy()
    tried[2] = settled(scan, wrong, evidence(scan, wrong, 2), 2, 4.0, 0, lambda: False)
    lost = scan.gain(own, scan.usual) - scan.gain(wrong, scan.usual)
    assert lost > 100
    assert scan.gain(own, scan.usual) - scan.gain(tried, scan.usual) < 0.5 * lost
    # All room is taken but for the code of ones alone (B.2.4.2, K.2).
    assert np.count_nonzero(tried[2] == 0) == 1 << (16 - codes_of(tried[2])[-1][1])


def test_a_code_that_a_table_lacks_is_added() -> None:
    """Of the longest code of DC values, which comes a few times, reading soon recovers: that it is lacking speaks for itself."""
    scan, right = unknown()
    first, length, _ = codes_of(right[0])[-1]
    wrong = right.copy()
    wrong[0, first:] = 0
    assert 0 < scan.counts(right)[0][0][codes_of(right[0])[-1][2]] < 60
    likely, own = scan.model(wrong, scan.usual)
    own[0] = np.where(own[0] > 0, np.maximum(own[0], 60), 0)  # all others come often
    trust = trusted(wrong[0], own[0], 0.0)
    assert (trust.begin, trust.codes) == (first, codes_of(right[0])[:-1]) and trust.length < length
    known_ones = evidence_of(scan, wrong, likely, own, scan.read(wrong, likely), 0, trust, 0)
    made = wrong.copy()
    made[0] = settled(scan, wrong, known_ones, 0, 2.0, 0, lambda: False)
    assert np.array_equal(made, right)
    assert scan.amiss(right) < 12 < scan.amiss(wrong)


def test_names_are_changed_until_all_is_in_step() -> None:
    scan, own = unknown()
    wrong = left_out(scan, own, 2, 12)
    likely, often = scan.model(wrong, scan.usual)
    reading = scan.read(wrong, likely)
    known_ones = evidence_of(scan, wrong, likely, often, reading, 2, trusted(wrong[2], often[2], SHARE), 0)
    tried = wrong.copy()
    tried[2] = renamed(scan, wrong, known_ones, reading, 2, 0)
    assert scan.gain(tried, scan.usual) > scan.gain(wrong, scan.usual) + 500
    again = own.copy()
    again[2] = named(own, evidence(scan, own, 2), 2)
    assert [c[:2] for c in codes_of(again[2])] == [c[:2] for c in codes_of(own[2])]
    same = sum(a == b for a, b in zip(codes_of(again[2]), codes_of(own[2]), strict=True))
    assert same > 0.8 * len(codes_of(own[2]))


def test_what_cannot_be_sought_is_not() -> None:
    whole, like = structure(photo(4)), structure(photo(9))
    frame, scan = whole.frame, whole.scans[0]
    assert frame is not None and can_seek(frame, scan, like)
    small = structure(photo(4, size=(160, 120)))
    assert small.frame is not None and not can_seek(small.frame, small.scans[0], like)
    assert not can_seek(frame, replace(scan, restart_interval=4), like)
    assert not can_seek(frame, scan, structure(photo(9, "fine")))
    # A donor with the standard's tables has a picture that had them too, most likely.
    assert not can_seek(frame, scan, structure(encode.jpeg(riverbed(640, 480, 9), quality=85)))
    assert not can_seek(frame, scan, structure(encode.jpeg(riverbed(640, 480, 9), progressive=True)))


def test_data_that_are_none_of_a_picture_are_given_up_soon() -> None:
    whole, like = structure(photo(4)), structure(photo(9))
    scan = whole.scans[0]
    noise = np.random.default_rng(3).integers(0, 255, scan.entropy.length, np.uint8)
    assert whole.frame is not None and like.frame is not None
    random = UnknownScan(
        whole.frame, replace(scan, entropy=replace(scan.entropy, clean=noise)), KnownScan(like.frame, like.scans[0])
    )
    assert likely_tables(random, lambda: False) is None


def test_a_search_that_takes_too_long_is_stopped(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sought, "_SECONDS", 0.0)
    assert sought_tables(structure(photo(4)), structure(photo(9)), lambda tables: True) is None


@pytest.mark.parametrize(("harmed", "codes", "rounds"), [("no-huffman-tables", 4, 2), ("no-header", 0, 1)])
def test_a_picture_that_lost_its_tables_comes_back(
    harmed: str, codes: int, rounds: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """From tables near those it had, as the first step finds them, to all of the picture.

    The first step takes its time; it is measured by the truth bench.
    """
    whole = photo(4)
    near = left_out(*unknown(), 2, codes)
    monkeypatch.setattr(sought, "likely_tables", lambda scan, stopped: near)
    monkeypatch.setattr(sought, "_SETTLED", sought._SETTLED[:rounds])
    (tmp_path / "sick.jpg").write_bytes(harm(whole, "jpeg", harmed, 1).data)
    (tmp_path / "like.jpg").write_bytes(photo(9))
    outcome = repair_file(
        examine_file(tmp_path / "sick.jpg"),
        tmp_path / "out",
        [examine_file(tmp_path / "like.jpg")],
        method="donor-header",
    )
    assert outcome.output is not None and any("rarest codes" in step for step in outcome.steps)
    made, own = (np.asarray(Image.open(f)).astype(int) for f in (outcome.output, io.BytesIO(whole)))
    right = 100.0 * np.mean(np.abs(made - own).max(axis=2) <= 2)
    assert right > 95 and outcome.score_after is not None and outcome.score_after - 2 < right


@pytest.mark.parametrize(("patience", "tried"), [(60.0, 2), (-1.0, 1)])
def test_after_a_long_search_no_other_donor_is_tried(
    patience: float, tried: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    attempts = []

    def attempt(*given: object) -> RepairOutcome:
        attempts.append(given[3])
        return repair._with(given[6], error="Nothing was found.")  # type: ignore[arg-type]

    monkeypatch.setattr(repair, "_PATIENCE", patience)
    monkeypatch.setattr(repair, "_attempt", attempt)
    monkeypatch.setattr(repair, "fitting_donors", lambda examination, donors: donors)
    (tmp_path / "sick.jpg").write_bytes(harm(photo(4), "jpeg", "no-header", 1).data)
    donors = []
    for seed in (9, 10):
        (tmp_path / f"{seed}.jpg").write_bytes(photo(seed))
        donors.append(examine_file(tmp_path / f"{seed}.jpg"))
    outcome = repair_file(examine_file(tmp_path / "sick.jpg"), tmp_path / "out", donors, method="donor-header")
    assert outcome.output is None and outcome.error == "Nothing was found."
    assert len(attempts) == tried


def test_a_picture_with_marks_of_damage_is_not_taken_for_the_one_it_was(monkeypatch: pytest.MonkeyPatch) -> None:
    """Tables may read all and give a picture of which a part is off: then they are not those it had."""
    whole, like = structure(photo(4)), structure(photo(9))
    monkeypatch.setattr(sought, "likely_tables", lambda scan, stopped: unknown()[1])
    monkeypatch.setattr(sought, "_SETTLED", sought._SETTLED[:1])
    seen = []
    assert sought_tables(whole, like, lambda tables: bool(seen.append(tables))) is None
    assert seen and all(set(tables) == {0, 1, 16, 17} for tables in seen)
    assert completing.kept_with(sought.Sought({}, 0.02)) == pytest.approx(98.0)


def merged(scan: UnknownScan, lookup: Lookup, table: int) -> Lookup:
    """Tables by which all reads as well: of some pairs of codes one is made, a bit shorter, with a magnitude that is a bit longer."""
    made, codes = lookup.copy(), codes_of(lookup[table])
    free = sorted(set(range(256)) - {symbol for _, _, symbol in codes})
    for (first, length, one), (_, other_length, other) in pairwise(codes):
        alike = length == other_length and one & 15 == other & 15 and not first >> (16 - length) & 1
        if not alike or length < 10 or made[table, first] != length << 8 | one:
            continue
        new = next((s for s in free if s & 15 == (one & 15) + 1 and s >> 4 <= min(one, other) >> 4), None)
        tried = made.copy()
        tried[table, first : first + (2 << (16 - length))] = (length - 1) << 8 | (new or 0)
        if new is not None and scan.counts(tried)[1] >= 0:
            made = tried
            free.remove(new)
    return made


@pytest.mark.parametrize("any_misfit", [True, False])
def test_tables_unlike_those_that_the_standard_makes_are_better_than_none(
    any_misfit: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    scan, right = unknown("fine")
    near = merged(scan, right, 2)
    assert sought._misfit(near, scan.counts(near)[0], 2) > sought._NEARLY
    monkeypatch.setattr(sought, "likely_tables", lambda scan, stopped: near)
    monkeypatch.setattr(sought, "_SETTLED", sought._SETTLED[:1])
    monkeypatch.setattr(sought._Search, "_settle", lambda *given: None)
    if not any_misfit:
        monkeypatch.setattr(sought, "_ANY", sought._NEARLY)
    whole, like = structure(photo(4, "fine")), structure(photo(9, "fine"))
    found = sought_tables(whole, like, lambda tables: True)
    assert (found is not None) is any_misfit
    if found is not None:
        assert found.tables[16].counts == table_of(near[2]).counts
        # Where lengths are not right, symbols of more codes are unsure.
        monkeypatch.setattr(sought, "_NAMED_WITHOUT_ORDER", sought._NAMED_SURELY)
        bold = sought_tables(whole, like, lambda tables: True)
        assert bold is not None and 0.0 < bold.unsure < found.unsure
