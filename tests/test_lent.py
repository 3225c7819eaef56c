"""Still pictures without an index: found by their own units, opened again with another picture's index."""

from __future__ import annotations

import io
import struct
from functools import cache
from pathlib import Path

import numpy as np
import pillow_heif
import pytest
from PIL import Image

from conftest import examine
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.detect import detect
from jugal.formats.isobmff.pictures import find_pictures, pictures_share
from jugal.model.codes import FindingCode
from jugal.model.result import RepairOutcome, RepairStatus, Verdict
from jugal.samples import encode
from jugal.samples.scenes import riverbed
from test_heif import avif, meta_of, shown, single, tiled


def media_start(data: bytes) -> int:
    """The first byte of the media data."""
    return min(offset for item in meta_of(data)[1].by_ident.values() for offset, _ in item.extents)


def wiped(data: bytes, kind: bytes) -> bytes:
    """``data`` with the first box of ``kind`` filled with zeros."""
    at = data.find(kind) - 4
    size = int.from_bytes(data[at : at + 4], "big")
    return data[:at] + bytes(size) + data[at + size :]


def lent(sick: bytes, donor: bytes, folder: Path, name: str = "plate.heic") -> RepairOutcome:
    path, lender = folder / name, folder / f"lender-{name}"
    path.write_bytes(sick)
    lender.write_bytes(donor)
    return repair_file(examine_file(path), folder / "out", [examine_file(lender)])


@cache
def with_exif(seed: int, made: str) -> bytes:
    out = io.BytesIO()
    exif = encode.exif_of("Lurga M2", made, 640, 480)
    pillow_heif.from_pillow(riverbed(640, 480, seed)).save(out, quality=70, exif=exif)
    return out.getvalue()


def right(one: np.ndarray, other: np.ndarray) -> float:
    return float((np.abs(one - other).max(axis=2) <= 12).mean())


@pytest.mark.parametrize(("make", "coding"), [(single, b"hvc1"), (tiled, b"hvc1"), (avif, b"av01")])
def test_coded_pictures_are_found_where_the_index_has_them(make, coding: bytes) -> None:  # type: ignore[no-untyped-def]
    data = make()
    items = meta_of(data)[1]
    expected = sorted(i.extents[0] for i in items.by_ident.values() if i.kind == coding)
    found = find_pictures(Source.from_bytes(data), 0, coding)
    assert [(span.start, span.length) for span in found] == expected


def test_neither_noise_nor_photographs_hold_coded_pictures() -> None:
    noise = np.random.default_rng(3).bytes(1 << 20)
    for data in (noise, encode.jpeg(riverbed(1200, 900, 3)), encode.clip(2.0, (320, 240), seed=3)):
        assert pictures_share(Source.from_bytes(data))[1] < 0.02


@pytest.mark.parametrize("what", ["start", "meta", "iloc"])
def test_a_picture_of_tiles_opens_again_with_anothers_index(what: str, tmp_path: Path) -> None:
    whole = tiled()
    begin = media_start(whole) - 8
    sick = bytes(begin) + whole[begin:] if what == "start" else wiped(whole, what.encode())
    found = examine(sick)
    assert found.format == "heic" and found.score == 0 and (found.attainable or 0) > 80
    assert found.verdict is Verdict.REPAIRABLE
    outcome = lent(sick, tiled((21, 22)), tmp_path)
    assert outcome.status is RepairStatus.REPAIRED, outcome.error
    assert outcome.method == "donor-items" and outcome.output is not None
    assert right(shown(Path(outcome.output).read_bytes()), shown(whole)) > 0.999


def test_lost_tiles_stay_empty_and_count(tmp_path: Path) -> None:
    whole = tiled()
    begin = media_start(whole) + 700
    sick = bytes(begin) + whole[begin:]
    outcome = lent(sick, tiled((21, 22)), tmp_path)
    assert outcome.output is not None, outcome.error
    written = Path(outcome.output).read_bytes()
    seen = 100 * right(shown(written), shown(whole))
    assert seen == pytest.approx(50, abs=2)
    assert outcome.score_after == pytest.approx(seen, abs=2)
    again = examine(written)
    assert any(f.code is FindingCode.MP4_TABLES and "no data" in f.message for f in again.findings)


def test_a_cut_picture_is_counted_from_its_start(tmp_path: Path) -> None:
    whole = tiled()
    begin = media_start(whole) - 8
    first = next(i for i in meta_of(whole)[1].by_ident.values() if i.ident == 1)
    end = first.extents[0][0] + first.size + 9000
    outcome = lent((bytes(begin) + whole[begin:])[:end], tiled((21, 22)), tmp_path)
    assert outcome.output is not None, outcome.error
    seen = shown(Path(outcome.output).read_bytes())
    assert right(seen[:, :256], shown(whole)[:, :256]) > 0.999


def test_exif_is_the_pictures_own_never_the_donors(tmp_path: Path) -> None:
    whole, donor = with_exif(5, "2026:05:14 07:31:00"), with_exif(6, "2024:01:02 03:04:05")
    begin = media_start(whole) - 8
    outcome = lent(bytes(begin) + whole[begin:], donor, tmp_path)
    assert outcome.output is not None, outcome.error
    written = Path(outcome.output).read_bytes()
    assert right(shown(written), shown(whole)) > 0.999
    assert b"2024:01:02" not in written
    exif = pillow_heif.open_heif(io.BytesIO(written)).info["exif"]
    assert exif is not None and b"2026:05:14 07:31:00" in exif


def test_without_its_own_exif_none_is_written(tmp_path: Path) -> None:
    donor = with_exif(6, "2024:01:02 03:04:05")
    whole = single(7)
    begin = media_start(whole) - 8
    outcome = lent(bytes(begin) + whole[begin:], donor, tmp_path)
    assert outcome.output is not None, outcome.error
    written = Path(outcome.output).read_bytes()
    assert b"2024:01:02" not in written and right(shown(written), shown(whole)) > 0.999


def test_a_donor_of_fewer_parts_is_refused(tmp_path: Path) -> None:
    outcome = lent(wiped(tiled(), b"iloc"), single(3, (256, 256)), tmp_path)
    assert outcome.output is None and "more than the donor's index has room for" in (outcome.error or "")


def test_av1_pictures_open_again(tmp_path: Path) -> None:
    whole = avif()
    begin = media_start(whole) - 8
    sick = bytes(begin) + whole[begin:]
    assert detect(Source.from_bytes(sick)).format == "avif"
    outcome = lent(sick, whole, tmp_path, "plate.avif")
    assert outcome.output is not None, outcome.error
    written = Path(outcome.output).read_bytes()
    one, other = (np.asarray(Image.open(io.BytesIO(d)).convert("RGB"), np.int16) for d in (written, whole))
    assert np.array_equal(one, other)


def test_an_item_of_no_length_is_a_lost_part() -> None:
    whole = tiled()
    assert not any(f.code is FindingCode.MP4_TABLES for f in examine(whole).findings)
    item = meta_of(whole)[1].by_ident[1]
    at = whole.find(struct.pack(">II", *item.extents[0]))
    found = examine(whole[: at + 4] + bytes(4) + whole[at + 8 :])
    assert any(f.code is FindingCode.MP4_TABLES for f in found.findings)
    assert found.score == pytest.approx(50, abs=1)
