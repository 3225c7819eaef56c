"""PNG by several settings against Pillow: no alarm on healthy files, damage seen where Pillow shows it, rows brought back."""

from __future__ import annotations

import io
import struct
import warnings
import zlib
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image, ImageFile

from conftest import examine, healthy
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.model.codes import FindingCode
from jugal.model.finding import Severity
from jugal.model.result import RepairStatus, Verdict
from jugal.samples import encode
from jugal.samples.scenes import riverbed


def chunks(data: bytes) -> list[tuple[bytes, int, int]]:
    """(type, start, end) of each chunk."""
    found, at = [], 8
    while at < len(data):
        end = at + 12 + int.from_bytes(data[at : at + 4], "big")
        found.append((data[at + 4 : at + 8], at, end))
        at = end
    return found


def chunk(kind: bytes, body: bytes) -> bytes:
    return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))


def pixels(data: bytes, lenient: bool = False) -> np.ndarray | None:
    """What Pillow shows; None where it shows nothing."""
    ImageFile.LOAD_TRUNCATED_IMAGES = lenient
    try:
        with warnings.catch_warnings(), Image.open(io.BytesIO(data)) as picture:
            warnings.simplefilter("ignore")
            return np.asarray(picture.convert("RGBA"))
    except Exception:
        return None


# --- healthy


@pytest.mark.parametrize("mode", ["1", "L", "LA", "P", "RGB", "RGBA", "I;16"])
@pytest.mark.parametrize("level", [0, 1, 9])
def test_healthy_pictures_of_every_mode_are_intact(mode: str, level: int) -> None:
    scene = riverbed(173, 131, 3)
    picture = (
        Image.fromarray(np.asarray(scene.convert("L"), np.uint16) * 257) if mode == "I;16" else scene.convert(mode)
    )
    found = examine(encode.png(picture, compress_level=level))
    assert found.verdict is Verdict.INTACT, [f.message for f in found.findings]
    assert (found.media["width"], found.media["height"]) == (173, 131)


@pytest.mark.parametrize("size", [(96, 80), (97, 641), (640, 97)])
def test_interlaced_pictures_are_followed_in_all_seven_passes(size: tuple[int, int]) -> None:
    """Adam7, written row by row with filter 0, since Pillow reads it but does not write it."""
    scene = np.asarray(riverbed(*size, 2).convert("RGB"))
    width, height = size
    raw = b""
    for x0, y0, dx, dy in (
        (0, 0, 8, 8),
        (4, 0, 8, 8),
        (0, 4, 4, 8),
        (2, 0, 4, 4),
        (0, 2, 2, 4),
        (1, 0, 2, 2),
        (0, 1, 1, 2),
    ):
        raw += b"".join(b"\0" + row.tobytes() for row in scene[y0::dy, x0::dx])
    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 1)
    data = b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(raw)) + chunk(b"IEND", b"")
    shown = pixels(data)
    assert shown is not None and np.array_equal(shown[..., :3], scene)
    assert examine(data).verdict is Verdict.INTACT
    cut = examine(data[: len(data) * 2 // 3])
    assert cut.verdict is not Verdict.INTACT and 0 <= (cut.score or 0) < 100


@settings(max_examples=40)
@given(
    size=st.tuples(st.integers(1, 70), st.integers(1, 70)),
    seed=st.integers(0, 99),
    parts=st.integers(1, 9),
    kinds=st.lists(st.sampled_from([b"tEXt", b"gAMA", b"prVt", b"tIME"]), max_size=3),
)
def test_small_pictures_in_any_number_of_chunks_are_intact(
    size: tuple[int, int], seed: int, parts: int, kinds: list[bytes]
) -> None:
    """Any split of the compressed data and ancillary chunks a reader does not know (W3C PNG 5.6, 5.4)."""
    noise = np.random.default_rng(seed).integers(0, 256, (size[1], size[0], 3), dtype=np.uint8)
    body = zlib.compress(b"".join(b"\0" + row.tobytes() for row in noise))
    step = max(1, -(-len(body) // parts))
    data = b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", struct.pack(">IIBBBBB", *size, 8, 2, 0, 0, 0))
    data += b"".join(chunk(kind, b"made up") for kind in kinds if kind in (b"tEXt", b"prVt"))
    data += b"".join(chunk(b"IDAT", body[at : at + step]) for at in range(0, len(body), step)) + chunk(b"IEND", b"")
    assert pixels(data) is not None
    found = examine(data)
    assert found.verdict is Verdict.INTACT, [f.message for f in found.findings]


# --- damaged


@settings(max_examples=60)
@given(data=st.data())
def test_what_pillow_shows_otherwise_is_never_intact(data: st.DataObject) -> None:
    whole = healthy("png")
    at = data.draw(st.integers(8, len(whole) - 1))
    new = data.draw(st.binary(min_size=1, max_size=40))
    sick = whole[:at] + new + whole[at + len(new) :]
    found = examine(sick)
    assert found.error is None and found.score is not None
    right, shown = pixels(whole), pixels(sick)
    assert right is not None
    if shown is None or shown.shape != right.shape or not np.array_equal(shown, right):
        assert found.verdict is not Verdict.INTACT


@pytest.mark.parametrize("part", [0.2, 0.5, 0.9])
def test_the_score_is_the_share_of_rows_before_the_damage(part: float) -> None:
    whole = healthy("png")
    sick = bytearray(whole)
    at = int(len(whole) * part) // 512 * 512
    sick[at : at + 1024] = bytes(1024)
    found, right = examine(bytes(sick)), pixels(whole)
    shown = pixels(bytes(sick), lenient=True)
    assert right is not None and found.score is not None
    if shown is not None:
        rows = (shown == right).all(axis=(1, 2))
        first_wrong = int(np.argmin(rows)) if not rows.all() else len(rows)
        assert abs(found.score - 100 * first_wrong / len(rows)) < 8
    places = [f.span.start for f in found.findings if f.span and f.severity in (Severity.MAJOR, Severity.FATAL)]
    assert places and abs(min(places) - at) <= 4096


def test_a_wrong_checksum_over_good_data_costs_nothing_but_the_checksum(tmp_path: Path) -> None:
    whole = healthy("png")
    kind, _, end = next(c for c in chunks(whole) if c[0] == b"IDAT")
    sick = whole[: end - 4] + bytes(b ^ 0x5A for b in whole[end - 4 : end]) + whole[end:]
    found = examine(sick)
    assert kind == b"IDAT" and FindingCode.PNG_CRC_ONLY in {f.code for f in found.findings}
    path = tmp_path / "sick.png"
    path.write_bytes(sick)
    outcome = repair_file(examine_file(path), tmp_path / "out", [], "fix-checksums")
    assert outcome.output is not None and Path(outcome.output).read_bytes() == whole


@pytest.mark.parametrize("what", ["signature", "end", "tail", "line ends"])
def test_what_surrounds_the_chunks_is_put_right_byte_for_byte(what: str, tmp_path: Path) -> None:
    whole = healthy("png")
    sick = {
        "signature": bytes(8) + whole[8:],
        "end": whole[:-12],
        "tail": whole + b"made up" * 900,
        # What a transfer in text mode does to the signature: CR LF becomes LF.
        "line ends": whole[:4] + b"\n\x1a\n" + whole[8:],
    }[what]
    path = tmp_path / "sick.png"
    path.write_bytes(sick)
    found = examine_file(path)
    method = "trim" if what == "tail" else None
    outcome = repair_file(found, tmp_path / "out", [], *([method] if method else []))
    assert outcome.status is RepairStatus.REPAIRED and outcome.output is not None, (found.findings, outcome.error)
    assert Path(outcome.output).read_bytes() == whole
    assert path.read_bytes() == sick, "the source is never written"


@pytest.mark.parametrize("size", [(320, 240), (33, 500)])
@pytest.mark.parametrize("mode", ["RGB", "RGBA", "L"])
@pytest.mark.parametrize("crc", [True, False], ids=["checksum", "rows alone"])
def test_a_lost_header_comes_back_from_its_checksum_or_the_rows(
    size: tuple[int, int], mode: str, crc: bool, tmp_path: Path
) -> None:
    whole = encode.png(riverbed(*(max(96, s) for s in size), 4).resize(size).convert(mode))
    # Width, height and what a sample is; without its checksum only the rows tell.
    sick = whole[:16] + bytes(10 if mode == "RGB" else 8) + whole[26 if mode == "RGB" else 24 :]
    if not crc:
        sick = sick[:29] + bytes(4) + sick[33:]
    path = tmp_path / "sick.png"
    path.write_bytes(sick)
    outcome = repair_file(examine_file(path), tmp_path / "out", [])
    assert outcome.output is not None, outcome.error
    right, shown = pixels(whole), pixels(Path(outcome.output).read_bytes())
    assert shown is not None and right is not None and np.array_equal(shown, right)


def test_rows_before_a_break_are_kept_and_the_rest_is_filled(tmp_path: Path) -> None:
    whole = healthy("png")
    path = tmp_path / "sick.png"
    path.write_bytes(whole[: len(whole) * 6 // 10])
    found = examine_file(path)
    outcome = repair_file(found, tmp_path / "out", [], "salvage-rows")
    assert outcome.output is not None, outcome.error
    right, shown = pixels(whole), pixels(Path(outcome.output).read_bytes())
    assert right is not None and shown is not None and shown.shape == right.shape
    rows = (shown == right).all(axis=(1, 2))
    first_wrong = int(np.argmin(rows))
    assert first_wrong > 0.4 * len(rows)
    assert outcome.score_after == pytest.approx(100 * first_wrong / len(rows), abs=4)
