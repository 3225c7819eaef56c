"""Codings and markers that few encoders write: arithmetic coding, scans of one component each, a late height, fill bytes."""

from __future__ import annotations

import io
import subprocess
from pathlib import Path
from shutil import which

import numpy as np
import pytest
from PIL import Image

from conftest import examine
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.model.codes import FindingCode
from jugal.model.result import RepairStatus, Severity, Verdict
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

by_command = pytest.mark.skipif(which("cjpeg") is None, reason="its encoder is not there")
#: Scan scripts: each component in a scan of its own; brightness alone, both colours together.
APART, COLOURS = "0;\n1;\n2;\n", "0;\n1 2;\n"


def coded(seed: int, *options: str, script: str | None = None, folder: Path | None = None) -> bytes:
    out = io.BytesIO()
    riverbed(640, 488, seed).save(out, "PPM")
    if script is not None and folder is not None:
        path = folder / "scans.txt"
        path.write_text(script)
        options = (*options, "-scans", str(path))
    done = subprocess.run(["cjpeg", "-quality", "85", *options], input=out.getvalue(), capture_output=True, check=True)
    return done.stdout


def pixels(data: bytes) -> np.ndarray:
    return np.asarray(Image.open(io.BytesIO(data)).convert("RGB"))


@by_command
@pytest.mark.parametrize("options", [(), ("-progressive",)], ids=["sequential", "progressive"])
def test_arithmetic_coding_is_walked_and_said_to_be(options: tuple[str, ...]) -> None:
    data = coded(1, "-arithmetic", *options)
    assert pixels(data).shape == (488, 640, 3)
    whole = examine(data)
    assert whole.verdict is Verdict.INTACT and whole.score == 100.0
    assert [(f.code, f.severity) for f in whole.findings] == [(FindingCode.JPEG_WALKED, Severity.NOTE)]
    cut = examine(data[: len(data) * 3 // 4])
    assert cut.verdict is Verdict.DAMAGED and any(f.code is FindingCode.JPEG_EOI for f in cut.findings)
    middle = len(data) // 2 // 512 * 512
    hole = examine(data[:middle] + bytes(4096) + data[middle + 4096 :])
    assert hole.verdict is Verdict.DAMAGED
    assert any(f.code is FindingCode.JPEG_HOLE and f.span and abs(f.span.start - middle) < 64 for f in hole.findings)


@by_command
@pytest.mark.parametrize("script", [APART, COLOURS])
@pytest.mark.parametrize("more", [(), ("-restart", "3")])
def test_scans_of_single_components_are_whole(script: str, more: tuple[str, ...], tmp_path: Path) -> None:
    found = examine(coded(2, *more, script=script, folder=tmp_path))
    assert found.verdict is Verdict.INTACT and not found.findings


@by_command
@pytest.mark.parametrize("script", [APART, COLOURS])
@pytest.mark.parametrize("kind", ["no-header", "segment-length", "no-start-marker", "no-end-marker", "junk-before"])
def test_their_headers_and_markers_come_back_to_the_pixel(script: str, kind: str, tmp_path: Path) -> None:
    whole, akin = (coded(seed, script=script, folder=tmp_path) for seed in (3, 4))
    sick, donor = tmp_path / "sick.jpg", tmp_path / "donor.jpg"
    sick.write_bytes(harm(whole, "jpeg", kind, 1).data)
    donor.write_bytes(akin)
    outcome = repair_file(examine_file(sick), tmp_path / "out", [examine_file(donor)])
    assert outcome.output is not None, outcome.error
    assert np.array_equal(pixels(Path(outcome.output).read_bytes()), pixels(whole))


@by_command
def test_what_is_cut_off_among_them_ends_with_a_marker_again(tmp_path: Path) -> None:
    whole, sick = coded(5, script=APART, folder=tmp_path), tmp_path / "sick.jpg"
    sick.write_bytes(whole[: len(whole) - 700])
    outcome = repair_file(examine_file(sick), tmp_path / "out")
    assert outcome.status is RepairStatus.REPAIRED and outcome.method == "close" and outcome.output is not None
    assert Path(outcome.output).read_bytes().endswith(b"\xff\xd9")
    assert pixels(Path(outcome.output).read_bytes()).shape == (488, 640, 3)


def test_a_height_that_comes_behind_the_scan_is_the_pictures() -> None:
    data = encode.jpeg(riverbed(400, 304, 6))
    frame = data.index(b"\xff\xc0")
    height = data[frame + 5 : frame + 7]
    late = data[: frame + 5] + bytes(2) + data[frame + 7 : -2] + b"\xff\xdc\0\x04" + height + data[-2:]
    found = examine(late)
    assert found.verdict is Verdict.INTACT and found.media["height"] == 304
    assert examine(late.replace(b"\xff\xdc\0\x04", b"\xff\xfe\0\x04")).verdict is not Verdict.INTACT


@pytest.mark.parametrize("marker", [b"\xff\xdb", b"\xff\xc4", b"\xff\xda", b"\xff\xd9"])
def test_fill_bytes_before_a_marker_mean_nothing(marker: bytes) -> None:
    data = encode.jpeg(riverbed(320, 240, 7))
    at = data.rindex(marker) if marker == b"\xff\xd9" else data.index(marker)
    found = examine(data[:at] + b"\xff\xff\xff" + data[at:])
    assert found.verdict is Verdict.INTACT and not found.findings
