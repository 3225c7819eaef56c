"""What points into a JPEG is written anew: Exif directories, thumbnail, index of further pictures."""

from __future__ import annotations

import io
import time
from pathlib import Path

import numpy as np
import pytest
from PIL import ExifTags, Image

from conftest import examine, healthy
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.jpeg.writer import picture_bytes
from jugal.formats.tiff.exif import read_exif
from jugal.formats.tiff.mend import mended
from jugal.model.codes import FindingCode
from jugal.model.result import Examination, RepairStatus, Verdict
from jugal.samples import encode
from jugal.samples.scenes import riverbed


def opened(data: bytes) -> Image.Image:
    picture = Image.open(io.BytesIO(data))
    picture.load()
    return picture


def repaired(data: bytes, folder: Path, method: str) -> tuple[bytes, Examination]:
    path = folder / "a.jpg"
    path.write_bytes(data)
    outcome = repair_file(examine_file(path), folder / "out", method=method, rounds=1)
    assert outcome.status is RepairStatus.REPAIRED and outcome.output and outcome.examined, outcome.error
    return Path(outcome.output).read_bytes(), outcome.examined


def test_directories_come_back_around_the_values(tmp_path: Path) -> None:
    data = bytearray(healthy("jpeg"))
    at = data.index(b"Exif") + 6
    data[at + 4 : at + 8] = b"\xff\xff\xff\x7f"
    found = examine(bytes(data))
    assert found.score == 100 and found.verdict is not Verdict.INTACT
    out, measured = repaired(bytes(data), tmp_path, "mend-exif")
    picture, original = opened(out), opened(healthy("jpeg"))
    assert np.array_equal(np.asarray(picture), np.asarray(original))
    exif, true = picture.getexif(), original.getexif()
    assert exif.get(ExifTags.Base.Model) == true.get(ExifTags.Base.Model)
    taken = ExifTags.Base.DateTimeOriginal
    assert exif.get_ifd(ExifTags.IFD.Exif).get(taken) == true.get_ifd(ExifTags.IFD.Exif).get(taken)
    assert FindingCode.JPEG_EXIF not in {f.code for f in measured.findings}
    assert measured.verdict is Verdict.INTACT


def with_thumbnail() -> bytes:
    """The healthy picture with a thumbnail in its Exif data, of another picture so that a new one shows."""
    data = healthy("jpeg")
    at = data.index(b"Exif") - 4
    end = at + 2 + int.from_bytes(data[at + 2 : at + 4], "big")
    other = np.asarray(riverbed(320, 240, 77).convert("RGB").resize((160, 120)))
    body = mended(data[at + 10 : end], picture_bytes(other))
    assert body is not None
    return data[:at] + b"\xff\xe1" + (len(body[0]) + 8).to_bytes(2, "big") + b"Exif\0\0" + body[0] + data[end:]


def thumbnail_of(data: bytes) -> tuple[int, int]:
    """Where the Exif thumbnail lies in the file, and its length."""
    at = data.index(b"Exif") + 6
    found = read_exif(data[at : at + 60_000]).thumbnail
    assert found is not None
    return at + found[0], found[1]


def test_a_broken_thumbnail_is_made_anew_from_the_picture(tmp_path: Path) -> None:
    whole = with_thumbnail()
    assert examine(whole).verdict is Verdict.INTACT and not examine(whole).findings
    start, length = thumbnail_of(whole)
    assert opened(whole[start : start + length]).size == (160, 120)
    data = whole[:start] + bytes(length) + whole[start + length :]
    found = examine(data)
    assert FindingCode.JPEG_EXIF in {f.code for f in found.findings} and found.verdict is Verdict.INTACT
    out, _ = repaired(data, tmp_path, "mend-exif")
    start, length = thumbnail_of(out)
    small = opened(out[start : start + length]).convert("RGB")
    wanted = opened(whole).convert("RGB").resize(small.size, Image.Resampling.BOX)
    assert np.abs(np.asarray(small, np.int16) - np.asarray(wanted, np.int16)).mean() < 12


def test_what_holds_no_directory_is_left_alone() -> None:
    assert mended(np.random.default_rng(2).bytes(3000), b"") is None
    assert mended(bytes(3000), b"") is None
    assert mended(b"", b"") is None


@pytest.mark.parametrize("size", [(160, 120), (7, 5), (33, 64)])
def test_the_writer_writes_what_an_ordinary_decoder_reads(size: tuple[int, int]) -> None:
    rgb = np.asarray(riverbed(320, 240, 3).convert("RGB").resize(size))
    read = np.asarray(opened(picture_bytes(rgb)).convert("RGB"), np.int16)
    assert read.shape == rgb.shape
    assert np.abs(read - rgb).mean() < 6
    assert examine(picture_bytes(rgb)).verdict is Verdict.INTACT


def further() -> bytes:
    return encode.with_further(healthy("jpeg"), [healthy("jpeg-progressive"), healthy("jpeg-restart")])


def test_further_pictures_are_counted_and_left_in_peace() -> None:
    found = examine(further())
    assert found.verdict is Verdict.INTACT and found.media["further_pictures"] == 2 and not found.findings
    assert FindingCode.JPEG_FURTHER not in {f.code for f in found.findings}


def test_a_clip_behind_the_picture_belongs_to_the_file() -> None:
    found = examine(healthy("jpeg") + healthy("mp4"))
    assert found.verdict is Verdict.INTACT and not found.findings and not found.repairs
    assert FindingCode.TAIL in {f.code for f in examine(healthy("jpeg") + bytes(range(200))).findings}


def test_an_index_without_its_pictures_is_no_damage() -> None:
    alone = further()[: -len(healthy("jpeg-progressive")) - len(healthy("jpeg-restart"))]
    found = examine(alone)
    assert found.verdict is Verdict.INTACT and FindingCode.JPEG_FURTHER in {f.code for f in found.findings}
    assert "mend-index" not in {p.method for p in found.repairs}


def test_the_index_is_pointed_at_the_pictures_again(tmp_path: Path) -> None:
    data = further()
    # A remark put in before the index moves all alike, one behind it moves the further pictures only.
    at = data.index(b"MPF\0") + 10
    end = data.index(b"\xff", at + 90)
    moved = data[:end] + b"\xff\xfe\x00\x12made-up remark\0\0" + data[end:]
    found = examine(moved)
    assert FindingCode.JPEG_FURTHER in {f.code for f in found.findings}
    out, measured = repaired(moved, tmp_path, "mend-index")
    assert FindingCode.JPEG_FURTHER not in {f.code for f in measured.findings}
    assert len(out) == len(moved)
    with Image.open(io.BytesIO(out)) as picture:
        assert picture.n_frames == 3
        sizes = []
        for number in range(3):
            picture.seek(number)
            sizes.append(picture.size)
    assert sizes == [opened(healthy(n)).size for n in ("jpeg", "jpeg-progressive", "jpeg-restart")]


def test_a_tail_full_of_starts_costs_no_more_than_a_few_looks() -> None:
    began = time.monotonic()
    found = examine(further() + b"\xff\xd8\xff\xe0" * 500_000)
    assert found.score == 100 and FindingCode.TAIL in {f.code for f in found.findings}
    assert time.monotonic() - began < 120  # a hang, not a speed test
