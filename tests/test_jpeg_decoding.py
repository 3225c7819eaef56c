"""The sequential decoder: its shortcuts against symbol-by-symbol reading, its DC values against another decoder."""

from __future__ import annotations

import io
from dataclasses import replace
from functools import cache

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numba import njit
from numpy.typing import NDArray
from PIL import Image

from jugal.binary.source import Source
from jugal.formats.jpeg import decode as decoding
from jugal.formats.jpeg.decode import Picture, decode, lookup_tables
from jugal.formats.jpeg.parse import HuffmanTable, Structure, walk
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.spec import ANNEX_K
from jugal.kernels import words
from jugal.kernels.jpeg import ERROR_CODE, ERROR_DC, ERROR_INDEX, GROUP_BITS, group_codes
from jugal.samples import encode
from jugal.samples.scenes import riverbed

FIXED_SIZE = 96, 80


@cache
def photo(**settings_of: object) -> bytes:
    return encode.jpeg(riverbed(*FIXED_SIZE, 5), **settings_of)  # type: ignore[arg-type]


def read(data: bytes, *, careful: bool = False) -> tuple[Structure, Picture]:
    structure = walk(Source.from_bytes(data), 0)
    assert structure.frame is not None
    return structure, decode(structure.frame, structure.scans, structure.quant, careful)


# --- tables


def reference_group(table: HuffmanTable, bits: str) -> tuple[int, int, bool]:
    """Bits taken, coefficients passed and whether the block ends, told with a dictionary of code words."""
    codes, code, at = {}, 0, 0
    for length, count in enumerate(table.counts, 1):
        for symbol in table.symbols[at : at + count]:
            codes[format(code, f"0{length}b")] = symbol
            code += 1
        at += count
        code <<= 1
    taken = ahead = 0
    while True:
        word = next((w for n in range(1, 17) if (w := bits[taken : taken + n]) in codes and len(w) == n), None)
        if word is None:
            return taken, ahead, False
        symbol = codes[word]
        size, run = symbol & 15, symbol >> 4
        ends = size == 0 and run != 15
        steps = 1 if ends else run + 1
        if taken + len(word) + size > len(bits) or ahead + steps > 63:
            return taken, ahead, False
        taken += len(word) + size
        ahead += steps
        if ends:
            return taken, ahead, True


@pytest.mark.parametrize("key", [0x10, 0x11])
def test_a_group_is_the_whole_symbols_in_its_bits(key: int) -> None:
    table = HuffmanTable(*ANNEX_K[key])
    groups = np.zeros((1, 1 << GROUP_BITS), np.uint16)
    group_codes(lookup_tables((table,))[1], groups)
    several = 0
    for value in [0, (1 << GROUP_BITS) - 1, *np.random.default_rng(key).integers(0, 1 << GROUP_BITS, 400).tolist()]:
        entry = int(groups[0, value])
        found = entry & 15, entry >> 4 & 63, bool(entry >> 10)
        assert found == reference_group(table, format(value, f"0{GROUP_BITS}b"))
        several += found[1] > 1
    assert several > 100, "or nothing was grouped"


def test_a_table_without_codes_groups_nothing() -> None:
    groups = np.ones((1, 1 << GROUP_BITS), np.uint16)
    group_codes(np.zeros((1, 1 << 16), np.uint16), groups)
    assert not groups.any()


# --- shortcuts


def outcome(picture: Picture) -> tuple[object, ...]:
    one = picture.scans[0]
    errors = [(e.kind, e.mcu, e.at) for e in one.errors]
    return (
        [p.tolist() for p in picture.dc],
        one.unit_pos.tolist(),
        one.done.tolist(),
        one.used.tolist(),
        errors,
        one.error_count,
    )


def ungrouped(tables: tuple[HuffmanTable, ...]) -> NDArray[np.uint16]:
    return np.zeros((len(tables), 1 << GROUP_BITS), np.uint16)


CODINGS: list[dict[str, object]] = [
    {"quality": 95},
    {"quality": 40, "subsampling": 0},
    {"quality": 85, "restart_marker_blocks": 3},
    {"quality": 75, "optimize": True},
]


@pytest.mark.parametrize("coding", CODINGS, ids=str)
@pytest.mark.parametrize("careful", [False, True], ids=["as shown", "careful"])
@settings(max_examples=25)
@given(data=st.data())
def test_grouped_symbols_are_those_read_one_by_one(
    coding: dict[str, object], careful: bool, data: st.DataObject
) -> None:
    """Whatever the bytes are: places, levels, errors and what is left over come out the same."""
    raw = bytearray(photo(**coding))
    start = walk(Source.from_bytes(bytes(raw)), 0).scans[0].entropy.start
    for _ in range(data.draw(st.integers(0, 4))):
        at = data.draw(st.integers(start, len(raw) - 3))
        new = data.draw(st.binary(min_size=1, max_size=6))
        raw[at : at + len(new)] = new
    cut = data.draw(st.integers(start + 1, len(raw)))
    found = outcome(read(bytes(raw[:cut]), careful=careful)[1])
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(decoding, "group_tables", ungrouped)
        assert outcome(read(bytes(raw[:cut]), careful=careful)[1]) == found


def spoilt(clean: NDArray[np.uint8], length: int, data: st.DataObject) -> NDArray[np.uint8]:
    out = clean.copy()
    for _ in range(data.draw(st.integers(0, 3))):
        at = data.draw(st.integers(0, length - 1))
        new = np.frombuffer(data.draw(st.binary(min_size=1, max_size=6)), np.uint8)[: length - at]
        out[at : at + new.size] = new
    return out


@pytest.mark.parametrize("coding", CODINGS, ids=str)
@settings(max_examples=25)
@given(data=st.data())
def test_a_run_is_the_same_whether_its_coefficients_are_kept_or_passed_over(
    coding: dict[str, object], data: st.DataObject
) -> None:
    """Kept, symbols are told one by one; passed over, in groups: places, levels and how it ends are one."""
    structure = walk(Source.from_bytes(photo(**coding)), 0)
    entropy = structure.scans[0].entropy
    reader = RunReader(structure)
    entropy = replace(entropy, clean=spoilt(entropy.clean, entropy.length, data))
    bit, most = data.draw(st.integers(0, entropy.length * 8 - 1)), data.draw(st.integers(1, 400))
    over, _ = reader.read(entropy, bit, most)
    kept, coefficients = reader.read(entropy, bit, most, most)
    assert (over.count, over.failed) == (kept.count, kept.failed)
    assert (over.dc == kept.dc).all() and (over.bits == kept.bits).all()
    assert (coefficients[: kept.count, :, 0] == kept.dc).all()


@pytest.mark.parametrize("quality", [30, 85, 100])
def test_a_run_is_the_same_however_narrow_its_numbers_are_held(quality: int, monkeypatch: pytest.MonkeyPatch) -> None:
    structure = walk(Source.from_bytes(photo(quality=quality)), 0)
    entropy, narrow, wide = structure.scans[0].entropy, RunReader(structure), RunReader(structure)
    starts = range(0, entropy.length * 8, 997)
    near = [narrow.read(entropy, bit, 300)[0] for bit in starts]
    wide._held = np.int32
    monkeypatch.setattr("jugal.formats.jpeg.runs._NARROW", 0)
    for bit, run in zip(starts, near, strict=True):
        same = wide.read(entropy, bit, 300)[0]
        assert (run.dc.dtype, run.bits.dtype, same.dc.dtype, same.bits.dtype) == (
            np.int16,
            np.int32,
            np.int32,
            np.int64,
        )
        assert np.array_equal(run.dc, same.dc) and np.array_equal(run.bits, same.bits) and run.failed == same.failed
        apart = same.dc.max(axis=0, initial=0) - same.dc.min(axis=0, initial=0)
        assert (apart <= np.iinfo(np.int16).max).all(), "so that differences fit too"
    assert structure.frame is not None
    structure.frame = replace(structure.frame, precision=12)
    assert (RunReader(structure)._held == np.int32) == (quality > 30), "of finer samples there may be more levels"


@pytest.mark.parametrize("coding", CODINGS[:2], ids=str)
def test_the_next_run_is_the_first_start_that_reads(coding: dict[str, object]) -> None:
    structure = walk(Source.from_bytes(photo(**coding)), 0)
    entropy, reader = structure.scans[0].entropy, RunReader(structure)
    start = entropy.length * 4
    room = np.empty((300, reader.blocks.size), np.int16), np.empty(301, np.int32)
    found = reader.next_start(entropy, start, start + 400, 3, room)
    alone = [reader.read(entropy, bit, 300)[0] for bit in range(start, start + 400)]
    reads = [number for number, run in enumerate(alone) if not run.failed and run.count >= 3]
    assert reads and found == start + reads[0]
    assert reader.next_start(entropy, start, start + reads[0], 3, room) == start + reads[0]


# --- levels


@pytest.mark.parametrize("coding", [*CODINGS, {"quality": 90, "progressive": True}], ids=str)
def test_dc_values_are_the_means_of_the_blocks_that_another_decoder_shows(coding: dict[str, object]) -> None:
    structure, picture = read(photo(**coding))
    with Image.open(io.BytesIO(photo(**coding))) as shown:
        shown.draft("YCbCr", FIXED_SIZE)
        luminance = np.asarray(shown.convert("YCbCr"), np.float64)[..., 0]
    rows, cols = luminance.shape[0] // 8, luminance.shape[1] // 8
    means = luminance[: rows * 8, : cols * 8].reshape(rows, 8, cols, 8).mean(axis=(1, 3))
    levels = picture.dc[0][:rows, :cols] * float(structure.quant[0][0]) / 8 + 128
    # Where levels are clipped to 0..255 the mean moves; elsewhere it is the DC value but for rounding.
    inside = (means > 30) & (means < 225)
    assert inside.sum() > 40
    assert np.median(np.abs(levels - means)[inside]) < 0.35
    assert np.abs(levels - means)[inside].max() < 4


def test_restart_intervals_and_plain_data_give_the_same_levels() -> None:
    plain, parted = read(photo(quality=85))[1], read(photo(quality=85, restart_marker_blocks=3))[1]
    assert len(parted.scans[0].done) > 3
    for one, other in zip(plain.dc, parted.dc, strict=True):
        assert np.array_equal(one, other)


# --- errors


def test_an_unknown_code_a_run_past_the_block_and_an_impossible_level_are_told_apart() -> None:
    data = photo(quality=85)
    structure, _ = read(data)
    entropy = structure.scans[0].entropy
    kinds = set()
    for seed in range(60):
        raw = bytearray(data)
        at = entropy.start + 40 + 5 * seed
        # Stuffed ones: no code of the typical tables is so long and all ones.
        noise = np.random.default_rng(seed).integers(0, 255, 24, dtype=np.uint8).tobytes()
        raw[at : at + 24] = noise if seed % 2 else b"\xff\x00" * 12
        kinds |= {e.kind for e in read(bytes(raw))[1].scans[0].errors}
    assert {ERROR_CODE, ERROR_INDEX} <= kinds
    steep = bytearray(data)
    # The longest luminance differences of the typical table, over and over: up to 2,047 a block.
    word = "111111110" + "1" * 11 + "1010"
    bits = (word * 12)[: 8 * 30].ljust(8 * 30, "1")
    block = int(bits, 2).to_bytes(30, "big").replace(b"\xff", b"\xfe")
    steep[entropy.start : entropy.start + 30] = block
    assert ERROR_DC in {e.kind for e in read(bytes(steep))[1].scans[0].errors}


def test_careful_reading_ends_at_the_first_error() -> None:
    raw = bytearray(photo(quality=85))
    entropy = walk(Source.from_bytes(bytes(raw)), 0).scans[0].entropy
    middle = (entropy.start + entropy.end) // 2
    raw[middle : middle + 16] = b"\xfe" * 16
    lenient, careful = (read(bytes(raw), careful=c)[1].scans[0] for c in (False, True))
    assert careful.error_count == 1 <= lenient.error_count
    assert int(careful.done.sum()) < int(lenient.done.sum())


# --- eight bytes at once


@njit
def _whole(data: NDArray[np.uint8], at: int) -> np.uint64:
    return words.word64(data, at)


@njit
def _marked(word: np.uint64) -> bool:
    return bool(words.has_ff(word))


@given(st.binary(min_size=8, max_size=24), st.integers(0, 16))
def test_eight_bytes_are_read_in_order(data: bytes, at: int) -> None:
    at = min(at, len(data) - 8)
    assert int(_whole(np.frombuffer(data, np.uint8), at)) == int.from_bytes(data[at : at + 8], "big")


@settings(max_examples=300)
@given(st.lists(st.sampled_from([0, 1, 0x7F, 0x80, 0xFE, 0xFF]), min_size=8, max_size=8))
def test_a_mark_among_eight_bytes_is_seen(values: list[int]) -> None:
    assert _marked(np.uint64(int.from_bytes(bytes(values), "big"))) == (0xFF in values)
