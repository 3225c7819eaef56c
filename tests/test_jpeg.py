"""The JPEG decoder against Pillow's pixels, the places of damage, and the repairs."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
from PIL import Image, ImageFile

from conftest import examine, healthy
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import Subject
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.parse import parse_dht, parse_dqt, parse_frame, read_entropy, walk
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.spec import ANNEX_K
from jugal.formats.jpeg.thumbnail import dc_rgb
from jugal.model.codes import FindingCode
from jugal.model.result import RepairStatus, Verdict
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed


def pixels(data: bytes, monkeypatch: pytest.MonkeyPatch | None = None) -> np.ndarray:
    if monkeypatch is not None:
        monkeypatch.setattr(ImageFile, "LOAD_TRUNCATED_IMAGES", True)
    return np.asarray(Image.open(io.BytesIO(data)).convert("RGB"), np.int16)


def blocks_right(right: np.ndarray, seen: np.ndarray) -> float:
    """Share of 8 × 8 blocks that are right as a whole: single pixels of a displaced picture agree by chance."""
    rows, cols = right.shape[0] // 8 * 8, right.shape[1] // 8 * 8
    good = np.abs(right - seen).max(axis=2)[:rows, :cols] <= 12
    return float((good.reshape(rows // 8, 8, cols // 8, 8).mean(axis=(1, 3)) > 0.9).mean())


@pytest.mark.parametrize("name", ["jpeg", "jpeg-restart", "jpeg-progressive", "jpeg-grey", "jpeg-video"])
def test_dc_picture_is_the_eighth_size_picture(name: str) -> None:
    """Each DC sample is the mean of its block as Pillow decodes it."""
    data = healthy(name)
    structure = walk(Source.from_bytes(data), 0)
    assert structure.frame is not None
    picture = decode(structure.frame, structure.scans, structure.quant)
    assert all(s.complete for s in picture.scans)
    ours = dc_rgb(picture, structure, True).astype(np.int16)
    whole = pixels(data)
    step = round(whole.shape[1] / 8 / ours.shape[1])
    rows, cols = whole.shape[0] // 8 * 8, whole.shape[1] // 8 * 8
    theirs = whole[:rows, :cols].reshape(rows // 8, 8, cols // 8, 8, 3).mean(axis=(1, 3))[::step, ::step]
    n, m = min(ours.shape[0], theirs.shape[0]), min(ours.shape[1], theirs.shape[1])
    assert np.abs(ours[:n, :m] - theirs[:n, :m]).mean() < 3.0


def test_progressive_coefficients_equal_sequential() -> None:
    """The same picture in both codings holds the same DC values: libjpeg quantises alike."""
    picture = riverbed(320, 240, 9)
    planes = []
    for options in ({}, {"progressive": True}):
        structure = walk(Source.from_bytes(encode.jpeg(picture, **options)), 0)
        assert structure.frame is not None
        planes.append(decode(structure.frame, structure.scans, structure.quant).dc)
    assert all(np.array_equal(a, b) for a, b in zip(*planes, strict=True))


@pytest.mark.parametrize("name", ["jpeg", "jpeg-restart", "jpeg-grey"])
@pytest.mark.parametrize("what", ["zero-cluster", "text-cluster", "noise-cluster", "truncate-sector", "lost-cluster"])
def test_score_and_place_against_pillow(name: str, what: str, monkeypatch: pytest.MonkeyPatch) -> None:
    harmed = harm(healthy(name), "jpeg", what, 21)
    found = examine(harmed.data)
    right, seen = pixels(healthy(name)), pixels(harmed.data, monkeypatch)
    truth = 100 * blocks_right(right, seen)
    assert found.verdict is not Verdict.INTACT
    assert found.score is not None and abs(found.score - truth) < 12, (found.score, truth)
    places = [f.span.start for f in found.findings if f.span and f.severity.rank >= 2]
    assert min(abs(p - harmed.start) for p in places[:1]) <= 4096


@pytest.mark.parametrize(
    ("what", "exact"),
    [
        ("junk-before", True),
        ("no-start-marker", True),
        ("no-end-marker", True),
        ("no-huffman-tables", True),
        ("no-header", True),
        ("truncate", False),
    ],
)
def test_repairs_against_pillow(what: str, exact: bool, tmp_path: Path) -> None:
    data = healthy("jpeg")
    sick, donor = tmp_path / "sick.jpg", tmp_path / "donor.jpg"
    harmed = harm(data, "jpeg", what, 5)
    sick.write_bytes(harmed.data)
    donor.write_bytes(
        encode.jpeg(riverbed(800, 600, 77), exif=encode.exif_of("Lurga M2", "2026:05:15 08:00:00", 800, 600))
    )
    before = examine_file(sick)
    outcome = repair_file(before, tmp_path / "out", [examine_file(donor)])
    assert outcome.status is RepairStatus.REPAIRED, outcome.error
    assert outcome.output is not None and outcome.steps
    assert sick.read_bytes() == harmed.data
    seen, right = pixels(Path(outcome.output).read_bytes()), pixels(data)
    assert seen.shape == right.shape
    share = 100 * float((np.abs(seen - right).max(axis=2) <= 12).mean())
    assert share == 100 if exact else abs(share - (outcome.score_after or 0)) < 6


def test_donor_never_lends_its_date(tmp_path: Path) -> None:
    sick, donor = tmp_path / "sick.jpg", tmp_path / "donor.jpg"
    sick.write_bytes(harm(healthy("jpeg"), "jpeg", "no-header", 5).data)
    donor.write_bytes(healthy("jpeg"))
    outcome = repair_file(examine_file(sick), tmp_path / "out", [examine_file(donor)])
    assert outcome.output is not None
    assert "date_taken" not in examine_file(outcome.output).media


def test_flat_pictures_are_not_accused() -> None:
    """Zero bits can be a flat picture's data: no hole, no break."""
    for colour in ((0, 0, 0), (255, 255, 255), (130, 130, 130)):
        found = examine(encode.jpeg(Image.new("RGB", (3000, 2000), colour), optimize=True))
        assert found.verdict is Verdict.INTACT, found.findings
    half = Image.new("RGB", (1600, 1200), (20, 60, 90))
    half.paste((240, 240, 230), (0, 600, 1600, 1200))
    half.paste((200, 30, 30), (300, 300, 900, 500))
    for options in ({}, {"optimize": True}, {"progressive": True}):
        assert examine(encode.jpeg(half, **options)).verdict is Verdict.INTACT


def test_tables_of_annex_k_are_those_pillow_writes() -> None:
    data = healthy("jpeg")
    for counts, symbols in ANNEX_K.values():
        assert counts + symbols in data


def test_impossible_segments_are_refused() -> None:
    assert parse_dht(b"\x00" + bytes([255] * 16) + bytes(100)) is None
    assert parse_dht(b"\x00" + b"\x00" * 16) is None
    assert parse_dqt(b"\x10" + bytes(7)) is None
    assert parse_frame(0xC0, b"\x08\x00\x10\x00\x10\x01\x01\x00\x00") is None


def test_silent_level_step_is_found() -> None:
    """Single bits flipped: where a fifth of the picture or more goes wrong, four in five are found.

    The rest are steps that the picture's own texture hides; calling those would accuse healthy pictures.
    """
    visible, found = 0, 0
    data = healthy("jpeg-grey")
    rng = np.random.default_rng(4)
    right = pixels(data)
    for _ in range(160):
        at = int(rng.integers(len(data) // 3, len(data) * 3 // 4))
        changed = data[:at] + bytes([data[at] ^ (1 << int(rng.integers(0, 8)))]) + data[at + 1 :]
        try:
            lost = float((np.abs(pixels(changed) - right).max(axis=2) > 12).mean())
        except OSError:
            continue
        if lost > 0.2:
            visible += 1
            found += examine(changed).verdict is not Verdict.INTACT
    assert visible > 10
    assert found >= 0.8 * visible, (found, visible)


def test_regions_lie_in_the_picture() -> None:
    found = examine(harm(healthy("jpeg"), "jpeg", "truncate", 8).data)
    assert found.regions and all(0 <= r.start < r.end <= 1 and 0 <= r.left < r.right <= 1 for r in found.regions)
    assert FindingCode.JPEG_SHORT in {f.code for f in found.findings}


@pytest.mark.parametrize("name", ["jpeg", "jpeg-grey"])
@pytest.mark.parametrize("what", ["zero-cluster", "text-cluster", "lost-cluster", "ff-cluster"])
def test_rest_behind_mid_scan_damage_is_put_back(name: str, what: str, tmp_path: Path) -> None:
    """Nearly all that survives stands in its place again, at its level, and every surviving bit is the original's."""
    sick = tmp_path / "sick.jpg"
    sick.write_bytes(harm(healthy(name), "jpeg", what, 4).data)
    before = examine_file(sick)
    outcome = repair_file(before, tmp_path / "out")
    assert outcome.status is RepairStatus.REPAIRED, outcome.error
    assert outcome.method == "resync" and outcome.output is not None
    after, right = pixels(Path(outcome.output).read_bytes()), pixels(healthy(name))
    truth = 100 * blocks_right(right, after)
    assert truth > (before.score or 0) + 20
    assert abs(truth - (outcome.score_after or 0)) < 6, (truth, outcome.score_after)


def test_no_promise_where_nothing_runs_to_the_end(tmp_path: Path) -> None:
    found = examine(harm(healthy("jpeg"), "jpeg", "zero-tail", 3).data)
    assert "resync" not in [p.method for p in found.repairs]


def _with_holes(data: bytes, *shares: float, size: int = 4096) -> bytes:
    for share in shares:
        at = int(len(data) * share) // size * size
        data = data[:at] + bytes(size) + data[at + size :]
    return data


def _same_area(original: bytes, repaired: bytes, levels: int) -> float:
    """Share of the picture that an independent decoder shows within ``levels`` of the original."""
    with Image.open(io.BytesIO(original)) as a, Image.open(io.BytesIO(repaired)) as b:
        one, other = np.asarray(a.convert("RGB"), np.int16), np.asarray(b.convert("RGB"), np.int16)
    return float((np.abs(one - other).max(axis=2) <= levels).mean())


@pytest.mark.parametrize(
    ("options", "shares"),
    [
        ({"quality": 90}, (0.4,)),
        ({"quality": 90, "subsampling": 0}, (0.3,)),
        ({"quality": 95}, (0.25, 0.6)),
        ({"quality": 95}, (0.2, 0.45, 0.7)),
    ],
)
def test_what_lies_between_and_behind_holes_is_put_back(tmp_path: Path, options: dict, shares: tuple) -> None:
    """A gap of less than a row of MCUs: pixel rows touch across it, so the levels come out right too."""
    original = encode.jpeg(riverbed(2400, 1200, 3), **options)
    path = tmp_path / "holed.jpg"
    path.write_bytes(_with_holes(original, *shares, size=2048))
    found = examine_file(path)
    assert found.verdict.value == "repairable"
    outcome = repair_file(found, tmp_path / "out")
    assert outcome.method == "resync" and outcome.output is not None
    shown = _same_area(original, Path(outcome.output).read_bytes(), 12)
    assert shown > 0.9
    assert abs(100 * shown - (outcome.score_after or 0)) < 6


def test_one_hole_in_a_large_picture_comes_back_within_two_levels(tmp_path: Path) -> None:
    original = encode.jpeg(riverbed(2400, 1200, 5), quality=92, subsampling=0)
    path = tmp_path / "holed.jpg"
    path.write_bytes(_with_holes(original, 0.5))
    outcome = repair_file(examine_file(path), tmp_path / "out")
    assert outcome.output is not None
    assert _same_area(original, Path(outcome.output).read_bytes(), 2) > 0.95


def test_foreign_clusters_of_the_same_picture_are_cut_out(tmp_path: Path) -> None:
    """They decode without an error for long, so that only levels betray them; in most pictures they do."""
    back = []
    for seed in range(1, 7):
        original = encode.jpeg(riverbed(1600, 1200, seed), quality=90)
        at = len(original) // 2 // 4096 * 4096
        path = tmp_path / f"crossed{seed}.jpg"
        path.write_bytes(original[:at] + original[20_480:24_576] + original[at + 4096 :])
        found = examine_file(path)
        assert found.verdict is not Verdict.INTACT
        outcome = repair_file(found, tmp_path / "out")
        if outcome.output is not None:
            back.append(_same_area(original, Path(outcome.output).read_bytes(), 16))
    assert sum(share > 0.9 for share in back) >= 3


def test_noise_that_holds_markers_is_stepped_over(tmp_path: Path) -> None:
    original = encode.jpeg(riverbed(1600, 1200, 7), quality=90)
    at = len(original) // 2 // 4096 * 4096
    noise = np.random.default_rng(4).bytes(4096)
    path = tmp_path / "noisy.jpg"
    path.write_bytes(original[:at] + noise + original[at + 4096 :])
    outcome = repair_file(examine_file(path), tmp_path / "out")
    assert outcome.method == "resync" and outcome.output is not None
    assert _same_area(original, Path(outcome.output).read_bytes(), 12) > 0.9


def test_a_preview_is_offered_and_taken_out_when_asked_for(tmp_path: Path) -> None:
    picture = riverbed(1200, 900, 8)
    thumbnail = encode.jpeg(picture.resize((160, 120)), quality=80)
    whole = encode.jpeg(picture)
    # The preview stands in an application segment of its own, as some cameras write it.
    data = whole[:2] + b"\xff\xe2" + (len(thumbnail) + 2).to_bytes(2, "big") + thumbnail + whole[2:]
    path = tmp_path / "cut.jpg"
    path.write_bytes(data[: len(data) // 3])
    found = examine_file(path)
    plan = next(p for p in found.repairs if p.method == "extract-preview")
    assert plan.attainable == pytest.approx(100 * 160 * 120 / (1200 * 900), abs=0.1)
    assert repair_file(found, tmp_path / "best").method != "extract-preview"
    outcome = repair_file(found, tmp_path / "out", method="extract-preview")
    assert outcome.output is not None
    assert Path(outcome.output).read_bytes() == thumbnail
    assert outcome.score_after == pytest.approx(plan.attainable, abs=0.1)


def test_runs_fall_into_step_from_any_byte() -> None:
    """Begun anywhere, decoding ends up on the MCUs that a decoder from the start has."""
    data = encode.jpeg(riverbed(800, 600, 9), quality=90)
    subject = Subject(Source.from_bytes(data, "picture"))
    structure = walk(subject.source, 0)
    reader = RunReader(structure)
    whole, _ = reader.read(structure.scans[0].entropy, 0, reader.total)
    assert whole.count == reader.total and whole.ends_with_data
    starts = set(structure.scans[0].entropy.raw_offsets(whole.bits >> 3).tolist())
    rng = np.random.default_rng(1)
    for at in rng.integers(len(data) // 4, len(data) // 2, 12).tolist():
        bit = reader.in_step(subject, at, structure.eoi or len(data))
        assert bit is not None
        run = reader.follow(read_entropy(subject.source, at, structure.eoi or len(data)), bit, reader.total)
        assert run.ends_with_data
        begins = run.entropy.raw_offsets(run.bits[24:] >> 3).tolist()
        assert starts.issuperset(begins)
        place = reader.total - run.count
        assert np.array_equal(np.diff(run.dc[24:, 0]), np.diff(whole.dc[place + 24 :, 0]))
