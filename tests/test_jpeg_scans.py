"""Progressive pictures with a damaged scan: what decoders give up is said, and each scan is kept as far as it is good."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from bench.measure import share

from conftest import examine
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.importance import missing_share
from jugal.formats.jpeg.parse import walk
from jugal.formats.jpeg.scans import stops_decoders
from jugal.model.result import RepairOutcome, Verdict
from jugal.samples import encode
from jugal.samples.scenes import riverbed


@pytest.fixture(scope="module", params=["colour", "grey", "fine"])
def picture(request: pytest.FixtureRequest) -> bytes:
    scene = riverbed(900, 700, 31)
    if request.param == "grey":
        return encode.jpeg(scene.convert("L"), progressive=True, quality=88)
    return encode.jpeg(scene, progressive=True, quality=88, subsampling=0 if request.param == "fine" else 2)


def with_bytes(data: bytes, number: int, part: float, new: bytes) -> bytes:
    """``new`` laid over the entropy-coded data of scan ``number``, ``part`` of the way in."""
    entropy = walk(Source.from_bytes(data), 0).scans[number].entropy
    at = entropy.start + int(part * (entropy.end - entropy.start))
    return data[:at] + new + data[at + len(new) :]


def given_up_and_mended(sick: bytes, folder: Path) -> RepairOutcome:
    """What came of a picture that no decoder shows and a repair brings back."""
    path = folder / "a.jpg"
    path.write_bytes(sick)
    found = examine_file(path)
    assert found.score == 2 and found.verdict is Verdict.REPAIRABLE
    return repair_file(found, folder / "out")


@pytest.mark.parametrize("number", [1, 2, -1])
def test_a_marker_no_decoder_knows_is_taken_out_with_what_follows_it(
    picture: bytes, number: int, tmp_path: Path
) -> None:
    sick = with_bytes(picture, number, 0.5, b"\xff\x31")
    assert (share("jpeg", picture, sick) or 0.0) < 5
    outcome = given_up_and_mended(sick, tmp_path)
    assert outcome.output and outcome.method in ("cut-scans", "rebuild-header")
    truth = share("jpeg", picture, Path(outcome.output).read_bytes())
    assert truth is not None and truth >= (outcome.score_after or 100.0) - 1
    assert truth > 60


def test_a_picture_that_another_begins_in_ends_where_that_begins(picture: bytes, tmp_path: Path) -> None:
    """Decoders that read all scans meet a second start-of-image marker and show nothing; what precedes it is whole."""
    structure = walk(Source.from_bytes(picture), 0)
    for cut in (
        structure.scans[-2].entropy.end,
        (structure.scans[-1].entropy.start + structure.scans[-1].entropy.end) // 2,
    ):
        sick = picture[:cut] + encode.jpeg(riverbed(320, 240, 32), quality=80)
        assert walk(Source.from_bytes(sick), 0).interrupted == cut
        assert (share("jpeg", picture, sick) or 0.0) < 5
        path = tmp_path / f"{cut}.jpg"
        path.write_bytes(sick)
        found = examine_file(path)
        assert found.score == 2 and found.verdict is Verdict.REPAIRABLE
        outcome = repair_file(found, tmp_path / "out")
        assert outcome.output and Path(outcome.output).stat().st_size <= cut + 16
        truth = share("jpeg", picture, Path(outcome.output).read_bytes())
        assert truth is not None and -3 < truth - (outcome.score_after or 0.0) < 12
    assert walk(Source.from_bytes(picture), 0).interrupted is None
    assert walk(Source.from_bytes(picture + picture), 0).interrupted is None, (
        "behind the end it is a picture of its own"
    )


def test_scans_that_never_came_cost_what_an_ordinary_decoder_shows_wrongly(picture: bytes) -> None:
    """Never more is promised, and the more scans came the more: nothing is lost once all did."""
    structure = walk(Source.from_bytes(picture), 0)
    assert structure.frame is not None and missing_share(structure.frame, structure) == 0.0
    last = 0.0
    for number in range(1, len(structure.scans)):
        short = picture[: structure.scans[number - 1].entropy.end]
        found = examine(short)
        truth = share("jpeg", picture, short + b"\xff\xd9")
        assert truth is not None and found.score is not None
        assert found.score <= truth + 5
        came = {index for scan in structure.scans[:number] if scan.ss for index, _, _ in scan.components}
        if len(came) == len(structure.frame.components):
            assert found.score > 50 and found.score >= last - 1
            last = found.score
    assert last > 90


def test_a_cut_scan_keeps_what_was_good_of_it_bit_for_bit(picture: bytes, tmp_path: Path) -> None:
    path = tmp_path / "a.jpg"
    path.write_bytes(with_bytes(picture, -1, 0.4, b"\xff\x31" + bytes(40)))
    outcome = repair_file(examine_file(path), tmp_path / "out", method="cut-scans", rounds=1)
    assert outcome.output, outcome.error
    before, after = (walk(Source.from_bytes(d), 0) for d in (picture, Path(outcome.output).read_bytes()))
    assert len(before.scans) == len(after.scans) and before.frame is not None
    for one, other in zip(before.scans[:-1], after.scans[:-1], strict=True):
        assert bytes(one.entropy.clean[: one.entropy.length]) == bytes(other.entropy.clean[: other.entropy.length])
    kept = after.scans[-1].entropy.length - 1
    assert kept > 0.3 * before.scans[-1].entropy.length
    assert bytes(after.scans[-1].entropy.clean[:kept]) == bytes(before.scans[-1].entropy.clean[:kept])


def test_known_markers_and_single_scans_stop_nobody(picture: bytes) -> None:
    assert not stops_decoders(walk(Source.from_bytes(picture), 0))
    baseline = encode.jpeg(riverbed(400, 300, 5))
    sick = with_bytes(baseline, 0, 0.5, b"\xff\x31")
    assert not stops_decoders(walk(Source.from_bytes(sick), 0))
    assert (examine(sick).score or 0.0) > 20


def test_progressive_dc_values_are_those_of_an_independent_decoder(picture: bytes) -> None:
    """The mean of each block as decoded by ordinary means is the DC value that we follow."""
    import io

    from PIL import Image

    structure = walk(Source.from_bytes(picture), 0)
    assert structure.frame is not None
    decoded = decode(structure.frame, structure.scans, structure.quant)
    assert all(scan.complete for scan in decoded.scans)
    with Image.open(io.BytesIO(picture)) as opened:
        luma = np.asarray(
            opened.convert("L") if opened.mode == "L" else opened.convert("YCbCr").getchannel(0), np.float64
        )
    rows, columns = luma.shape[0] // 8, luma.shape[1] // 8
    means = luma[: 8 * rows, : 8 * columns].reshape(rows, 8, columns, 8).mean(axis=(1, 3))
    step = float(structure.quant[structure.frame.components[0].tq][0])
    ours = decoded.dc[0][:rows, :columns] * step / 8 + 128
    assert np.abs(np.clip(ours, 0, 255) - means).max() < 4


@pytest.mark.parametrize("code", [0xDF, 0xDE, 0xC8, 0xF5])
def test_a_reserved_marker_with_a_length_stops_decoders_and_is_left_out(
    picture: bytes, code: int, tmp_path: Path
) -> None:
    """What looks like its length passes over whole scans."""
    sick = with_bytes(picture, -2, 0.5, bytes([0xFF, code, 0x10, 0x00]))
    assert (share("jpeg", picture, sick) or 0.0) < 5
    outcome = given_up_and_mended(sick, tmp_path)
    assert outcome.output and outcome.score_after is not None
    truth = share("jpeg", picture, Path(outcome.output).read_bytes())
    assert truth is not None and truth > 50 and outcome.score_after == pytest.approx(truth, abs=12)


def test_with_restart_intervals_decoders_pass_a_strange_marker_by() -> None:
    """They look for the next restart marker behind it; only behind the last one of a scan nothing leads on."""
    whole = encode.jpeg(riverbed(900, 700, 31), progressive=True, quality=88, restart_marker_rows=1)
    early, late = with_bytes(whole, 1, 0.3, b"\xff\x54"), with_bytes(whole, 1, 0.998, b"\xff\x54")
    for data, stops in ((early, False), (late, True)):
        structure = walk(Source.from_bytes(data), 0)
        assert stops_decoders(structure) is stops
        shown = share("jpeg", whole, data) or 0.0
        assert (shown < 5) is stops
        score = examine(data, "a.jpg").score
        assert score is not None and (score <= 2.0) is stops
