"""Lossless and 12-bit JPEG, held against the decoder of another library."""

from __future__ import annotations

import struct
from functools import cache
from pathlib import Path

import imagecodecs
import numpy as np
import pytest

from conftest import examine
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.lossless import decode_lines
from jugal.formats.jpeg.parse import walk
from jugal.model.codes import FindingCode
from jugal.model.result import Verdict
from jugal.samples.scenes import riverbed


@cache
def scene(bits: int, seed: int = 5) -> np.ndarray:
    """A colour picture of 360 × 200 samples with ``bits`` bits each."""
    wide = np.asarray(riverbed(360, 200, seed), np.uint16)
    return wide.astype(np.uint8) if bits == 8 else (wide << (bits - 8)) | (wide >> (16 - bits))


@cache
def lossless(bits: int = 8, predictor: int = 1, grey: bool = False) -> bytes:
    samples = np.ascontiguousarray(scene(bits)[..., 1]) if grey else scene(bits)
    return bytes(imagecodecs.jpeg8_encode(samples, lossless=True, predictor=predictor, bitspersample=bits))


@cache
def extended(subsampling: str = "444") -> bytes:
    return bytes(imagecodecs.jpeg8_encode(scene(12), level=92, bitspersample=12, subsampling=subsampling))


def means(samples: np.ndarray) -> np.ndarray:
    rows, cols = samples.shape[0] // 8, samples.shape[1] // 8
    return samples[: rows * 8, : cols * 8].reshape(rows, 8, cols, 8).mean(axis=(1, 3))


def lines_right(seen: np.ndarray, right: np.ndarray) -> float:
    """Share of lines that are shown as they were, in percent."""
    return 100.0 * float((seen == right).reshape(right.shape[0], -1).all(axis=1).mean())


def written(samples: np.ndarray, interval_lines: int = 0) -> bytes:
    """A grey picture predicted by the sample to its left (predictor 1), with restarts at the ends of lines."""
    counts = bytes([0, 1, 0, 0, 8] + [0] * 11)  # no difference takes two bits, all else five
    head = b"\xff\xd8\xff\xc3" + struct.pack(">HBHHBBBB", 11, 8, *samples.shape, 1, 1, 0x11, 0)
    head += b"\xff\xc4" + struct.pack(">HB", 2 + 1 + 16 + 9, 0) + counts + bytes(range(9))
    if interval_lines:
        head += b"\xff\xdd" + struct.pack(">HH", 4, interval_lines * samples.shape[1])
    head += b"\xff\xda" + struct.pack(">HBBBBBB", 8, 1, 1, 0, 1, 0, 0)
    step, out = interval_lines or samples.shape[0], b""
    for number, first in enumerate(range(0, samples.shape[0], step)):
        bits = ""
        for y, line in enumerate(samples[first : first + step].astype(int)):
            for x, value in enumerate(line):
                ahead = line[x - 1] if x else (128 if y == 0 else int(samples[first + y - 1, 0]))
                difference = int(value - ahead)
                size = abs(difference).bit_length()
                bits += f"{size + 7:05b}" if size else "00"
                if size:
                    bits += f"{difference if difference > 0 else difference + (1 << size) - 1:0{size}b}"
        bits += "1" * (-len(bits) % 8)
        data = int(bits, 2).to_bytes(len(bits) // 8, "big").replace(b"\xff", b"\xff\0")
        out += (bytes([0xFF, 0xD0 + (number - 1) % 8]) if number else b"") + data
    return head + out + b"\xff\xd9"


@pytest.mark.parametrize("predictor", range(1, 8))
def test_every_predictor_gives_the_samples_back(predictor: int) -> None:
    data = lossless(8, predictor)
    structure = walk(Source.from_bytes(data), 0)
    assert structure.frame is not None and structure.scans[0].ss == predictor
    picture = decode_lines(structure.frame, structure.scans)
    assert picture.scans[0].complete
    for plane, channel in zip(picture.dc, np.moveaxis(scene(8), 2, 0), strict=True):
        assert np.abs(plane + 128 - means(channel)).max() < 0.6


@pytest.mark.parametrize(("bits", "grey"), [(8, True), (12, False), (12, True), (16, False), (16, True)])
def test_healthy_lossless_pictures_are_not_accused(bits: int, grey: bool) -> None:
    found = examine(lossless(bits, 4, grey))
    assert found.verdict is Verdict.INTACT and found.score == 100 and not found.findings
    assert found.media["coding"] == "lossless" and found.thumbnail is not None
    seen = np.frombuffer(found.thumbnail.rgb, np.uint8).reshape(found.thumbnail.height, found.thumbnail.width, 3)
    channel = scene(8)[..., 1].astype(np.int16)
    assert np.abs(seen[: 200 // 8, : 360 // 8, 1] - means(channel)).max() < 2


@pytest.mark.parametrize("kind", ["noise", "zeros", "lost", "cut"])
@pytest.mark.parametrize("predictor", [1, 4, 7])
def test_a_lossless_picture_counts_down_to_its_damage(kind: str, predictor: int) -> None:
    right, whole = scene(8), lossless(8, predictor)
    at = len(whole) // 3 // 512 * 512 + 512
    noise = np.random.default_rng(predictor).integers(0, 255, 2048, np.uint8).tobytes()
    sick = {
        "noise": whole[:at] + noise + whole[at + 2048 :],
        "zeros": whole[:at] + bytes(2048) + whole[at + 2048 :],
        "lost": whole[:at] + whole[at + 2048 :],
        "cut": whole[:at],
    }[kind]
    found = examine(sick)
    assert found.verdict is Verdict.DAMAGED and found.score is not None
    places = [f.span.start for f in found.findings if f.span]
    # Where bytes are lost the differences go on as before, only the picture shifts: a code must fail to tell it.
    assert min(abs(place - at) for place in places) <= (8192 if kind == "lost" else 4096)
    seen = imagecodecs.jpeg8_decode(sick)
    assert abs(found.score - lines_right(seen, right)) < (8 if kind == "lost" else 3)


def test_a_zero_run_that_codes_flat_lines_is_no_hole() -> None:
    """Equal samples take the code of no difference: two zero bits here, whole pages of zero bytes."""
    flat = np.full((200, 900), 128, np.uint8)
    data = written(flat)
    assert np.array_equal(imagecodecs.jpeg8_decode(data), flat) and bytes(8192) in data
    found = examine(data)
    assert found.verdict is Verdict.INTACT and found.score == 100


@pytest.mark.parametrize("lines", [0, 10])
def test_restart_intervals_of_whole_lines_hold_damage(lines: int) -> None:
    right = np.ascontiguousarray(scene(8)[..., 1])
    data = written(right, lines)
    assert np.array_equal(imagecodecs.jpeg8_decode(data), right)
    assert examine(data).score == 100
    at = len(data) // 2
    found = examine(data[:at] + b"\xfe" * 40 + data[at + 40 :])
    assert found.score is not None
    # One interval of ten lines out of two hundred, or all from the middle on.
    assert abs(found.score - (95 if lines else 50)) < 6


def test_a_lossless_picture_without_its_end_marker_is_closed(tmp_path: Path) -> None:
    whole, right = lossless(8, 1), scene(8)
    path = tmp_path / "plate.jpg"
    path.write_bytes(whole[:-2])
    outcome = repair_file(examine_file(path), tmp_path / "out")
    assert outcome.output is not None, outcome.error
    assert np.array_equal(imagecodecs.jpeg8_decode(Path(outcome.output).read_bytes()), right)
    assert examine(whole[: len(whole) // 2]).attainable == pytest.approx(50, abs=5)


def test_of_lossless_data_no_order_of_clusters_is_sought() -> None:
    """They have lines, not blocks, and are told by other means."""
    data = lossless()
    at = len(data) // 2 // 4096 * 4096
    found = examine(data[:at] + data[at - 4096 : at] + data[at:])
    assert found.findings and not any(plan.method == "reorder" for plan in found.repairs)


def test_a_lossless_picture_without_its_table_is_said_to_lack_it() -> None:
    whole = lossless(8, 1, True)
    at = whole.find(b"\xff\xc4")
    length = int.from_bytes(whole[at + 2 : at + 4], "big")
    found = examine(whole[:at] + whole[at + 2 + length :])
    assert any(f.code is FindingCode.JPEG_TABLES for f in found.findings) and (found.score or 0) < 50


# --- 12 bits


@pytest.mark.parametrize("subsampling", ["444", "420"])
def test_twelve_bits_are_decoded_as_they_stand(subsampling: str) -> None:
    data = extended(subsampling)
    found = examine(data)
    assert found.verdict is Verdict.INTACT and found.score == 100 and found.media["coding"] == "extended sequential"
    structure = walk(Source.from_bytes(data), 0)
    assert structure.frame is not None and structure.frame.precision == 12
    picture = decode(structure.frame, structure.scans, structure.quant)
    luma = scene(12) @ np.array([0.299, 0.587, 0.114])
    ours = picture.dc[0] * (float(structure.quant[structure.frame.components[0].tq][0]) / 8) + 2048
    assert np.abs(ours[: 200 // 8, : 360 // 8] - means(luma)).mean() < 8


@pytest.mark.parametrize("seed", range(3))
def test_twelve_bits_are_placed_scored_and_taken_up_again(seed: int, tmp_path: Path) -> None:
    whole = extended()
    right = imagecodecs.jpeg8_decode(whole).astype(np.int32)
    at = len(whole) // 2 // 512 * 512 + 512
    noise = np.random.default_rng(seed).integers(0, 255, 1024, np.uint8).tobytes()
    path = tmp_path / "plate.jpg"
    path.write_bytes(whole[:at] + noise + whole[at + 1024 :])
    found = examine_file(path)
    assert found.score is not None and abs(found.score - 50) < 8
    outcome = repair_file(found, tmp_path / "out")
    assert outcome.output is not None, outcome.error
    seen = imagecodecs.jpeg8_decode(Path(outcome.output).read_bytes()).astype(np.int32)
    good = 100.0 * float((np.abs(seen - right).max(axis=2) <= 12 * 16).mean())
    assert good > 90 and abs((outcome.score_after or 0) - good) < 8
