"""Raw photographs in boxes: their pictures are read as JPEG, their raw data by their marks, and a preview is taken out at last."""

from __future__ import annotations

import io
import struct
from functools import cache
from itertools import pairwise
from pathlib import Path
from typing import NamedTuple

import numpy as np
import pytest
from PIL import Image

from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.model.codes import FindingCode
from jugal.model.result import Examination, RepairOutcome, Verdict
from jugal.samples import encode
from jugal.samples.scenes import riverbed

SIZE, RAW_BYTES = (1200, 900), 400_000
MAKERS_BOX = bytes.fromhex("85c0b687820f11e08111f4ce462b6a48")
PREVIEW_BOX = bytes.fromhex("eaf42b5e1c984b88b9fbb7dc406e4d16")
MATRIX = struct.pack(">9I", 0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000)


class RawPhoto(NamedTuple):
    """A file and where its parts lie: the full picture as JPEG, a small and the full raw picture."""

    data: bytes
    picture: slice
    small: slice
    raw: slice


def box(kind: bytes, *parts: bytes) -> bytes:
    body = b"".join(parts)
    return struct.pack(">I", 8 + len(body)) + kind + body


def full(kind: bytes, *parts: bytes) -> bytes:
    return box(kind, bytes(4), *parts)


def entry(width: int, height: int, inner: bytes) -> bytes:
    """A sample entry of raw samples; ``inner`` says whether they are a picture as JPEG."""
    head = bytes(6) + struct.pack(">H", 1) + bytes(16) + struct.pack(">HHII", width, height, 0x480000, 0x480000)
    return box(b"CRAW", head, bytes(4), struct.pack(">H", 1), bytes(32), struct.pack(">Hh", 24, -1), inner)


def track(number: int, size: tuple[int, int], described: bytes, length: int, offset: int, media: bytes) -> bytes:
    table = box(
        b"stbl",
        full(b"stsd", struct.pack(">I", 1), described),
        full(b"stts", struct.pack(">III", 1, 1, 1)),
        full(b"stsc", struct.pack(">IIII", 1, 1, 1, 1)),
        full(b"stsz", struct.pack(">III", 0, 1, length)),
        full(b"co64", struct.pack(">IQ", 1, offset)),
    )
    head = full(
        b"tkhd", struct.pack(">IIIII", 0, 0, number, 0, 1), bytes(16), MATRIX, struct.pack(">II", size[0] << 16, size[1] << 16)
    )  # fmt: skip
    references = box(b"dinf", full(b"dref", struct.pack(">I", 1), full(b"url ")))
    information = box(b"minf", full(b"vmhd", bytes(8)), references, table)
    return box(
        b"trak", head,
        box(b"mdia", full(b"mdhd", struct.pack(">IIIIHH", 0, 0, 1, 1, 0x55C4, 0)), full(b"hdlr", bytes(4), media, bytes(13)), information),
    )  # fmt: skip


def capture() -> bytes:
    """A TIFF structure of a maker and a model."""
    words = [(0x010F, b"Odrell Optics\0"), (0x0110, b"OD-3 survey\0")]
    out, data = b"II*\0" + struct.pack("<IH", 8, len(words)), b""
    for tag, text in words:
        out += struct.pack("<HHII", tag, 2, len(text), 8 + 2 + 12 * len(words) + 4 + len(data))
        data += text
    return out + bytes(4) + data


@cache
def raw_photo(seed: int = 5) -> RawPhoto:
    scene = riverbed(*SIZE, seed)
    picture = encode.jpeg(scene, quality=88, subsampling=1)
    preview = encode.jpeg(scene.resize((600, 450)), quality=85)
    rng = np.random.default_rng(seed)
    mark = (b"\xff\x01" if seed % 2 else b"\xff\x11") + struct.pack(">HI", 8, 40)
    small, raw, sensor = mark + rng.bytes(60_000), mark + rng.bytes(RAW_BYTES), rng.bytes(900)

    def index(at: int) -> bytes:
        own = box(b"uuid", MAKERS_BOX, box(b"CNCV", b"survey raw"), box(b"CMT1", capture()))
        lengths = [len(picture), len(small), len(raw), len(sensor)]
        starts = [at + sum(lengths[:k]) for k in range(4)]
        coded = box(b"CMP1", bytes(44))
        kinds = [
            (SIZE, entry(*SIZE, box(b"JPEG", bytes(4)))), ((300, 225), entry(300, 225, coded)), (SIZE, entry(*SIZE, coded)),
            ((0, 0), box(b"CTMD", bytes(6), struct.pack(">H", 1))),
        ]  # fmt: skip
        tracks = [
            track(k + 1, size, described, lengths[k], starts[k], b"meta" if k == 3 else b"vide")
            for k, (size, described) in enumerate(kinds)
        ]
        head = full(
            b"mvhd", struct.pack(">IIIIIH", 0, 0, 1, 1, 0x10000, 0x100), bytes(10), MATRIX, bytes(24), b"\0\0\0\5"
        )
        return box(b"moov", own, head, *tracks)

    start = box(b"ftyp", b"crx ", struct.pack(">I", 1), b"crx isom")
    shown = box(
        b"uuid", PREVIEW_BOX, bytes(8), box(b"PRVW", struct.pack(">IHHHHI", 0, 1, 600, 450, 1, len(preview)), preview)
    )
    at = len(start) + len(index(0)) + len(shown) + 16
    body = picture + small + raw + sensor
    data = start + index(at) + shown + struct.pack(">I4sQ", 1, b"mdat", 16 + len(body)) + body
    ends = np.cumsum([at, len(picture), len(small), len(raw)]).tolist()
    return RawPhoto(data, *(slice(a, b) for a, b in pairwise(ends)))


def examined(data: bytes, folder: Path) -> Examination:
    path = folder / "odrell.cr3"
    path.write_bytes(data)
    return examine_file(path)


def mended(found: Examination, folder: Path, method: str | None = None) -> RepairOutcome:
    return repair_file(found, folder / "out", method=method)


def holed(data: bytes, at: int) -> bytes:
    at = at // 4096 * 4096
    return data[:at] + bytes(4096) + data[at + 4096 :]


@pytest.mark.parametrize("version", [5, 6])
def test_a_healthy_one_is_a_photo_of_its_raw_size(version: int, tmp_path: Path) -> None:
    found = examined(raw_photo(version).data, tmp_path)
    assert (found.format, found.verdict, found.score) == ("cr3", Verdict.INTACT, 100.0)
    assert (found.media["width"], found.media["height"]) == SIZE
    assert found.media["camera"] == "Odrell Optics OD-3 survey"
    assert "duration" not in found.media and "frame_rate" not in found.media, "it is no clip"
    assert found.repairs == ()


@pytest.mark.parametrize("what", ["picture", "raw"])
def test_a_hole_is_placed_in_the_picture_and_in_the_raw_data(what: str, tmp_path: Path) -> None:
    photo = raw_photo()
    part: slice = getattr(photo, what)
    middle = (part.start + part.stop) // 2
    found = examined(holed(photo.data, middle), tmp_path)
    first = next(f for f in found.findings if f.severity.rank >= 2)
    assert first.span is not None and abs(first.span.start - middle // 4096 * 4096) <= 4096
    assert found.verdict is not Verdict.INTACT and found.score is not None and found.score < 80


def test_a_picture_that_does_not_decode_is_told_though_nothing_is_filled(tmp_path: Path) -> None:
    photo = raw_photo()
    at = (photo.picture.start + photo.picture.stop) // 2 // 4096 * 4096
    noise = np.random.default_rng(2).bytes(4096)
    found = examined(photo.data[:at] + noise + photo.data[at + 4096 :], tmp_path)
    assert any(f.code is FindingCode.MP4_SAMPLE for f in found.findings)


@pytest.mark.parametrize("moved", [512, 4096, -700])
def test_pictures_that_moved_are_found_by_their_marks(moved: int, tmp_path: Path) -> None:
    photo = raw_photo()
    at = photo.picture.start
    # Bytes lost are those of the box before, which no table lists.
    sick = (
        photo.data[:at] + bytes(moved) + photo.data[at:]
        if moved > 0
        else photo.data[: at - 16 + moved] + photo.data[at - 16 :]
    )
    found = examined(sick, tmp_path)
    assert found.score is not None and found.score < 5
    outcome = mended(found, tmp_path)
    assert outcome.method == "fix-offsets" and outcome.output is not None and outcome.score_after == 100.0
    written = Path(outcome.output).read_bytes()
    assert photo.data[photo.raw] in written


def test_the_full_picture_is_offered_where_the_raw_data_end(tmp_path: Path) -> None:
    photo = raw_photo()
    found = examined(photo.data[: (photo.raw.start + photo.raw.stop) // 2], tmp_path)
    plan = next(p for p in found.repairs if p.method == "extract-preview")
    assert plan.attainable == 50.0, "as large as the raw picture, but developed already"
    outcome = mended(found, tmp_path, "extract-preview")
    assert outcome.output is not None and outcome.score_after == 50.0
    with Image.open(outcome.output) as shown, Image.open(io.BytesIO(photo.data[photo.picture])) as true:
        assert np.array_equal(np.asarray(shown), np.asarray(true))


def test_the_small_preview_is_the_last_resort(tmp_path: Path) -> None:
    photo = raw_photo()
    found = examined(photo.data[: (photo.picture.start + photo.picture.stop) // 2], tmp_path)
    assert found.score == 0.0 and found.verdict is Verdict.REPAIRABLE
    outcome = mended(found, tmp_path)
    assert outcome.method == "extract-preview" and outcome.output is not None
    with Image.open(outcome.output) as shown:
        assert shown.size == (600, 450)
    assert outcome.score_after == pytest.approx(50.0 * 600 * 450 / (SIZE[0] * SIZE[1]), abs=0.1)
