"""Healthy files of a kin format as donors: what a damaged file says of its own format is often what is lost."""

from __future__ import annotations

from pathlib import Path

import pytest
from bench.measure import share

from jugal.engine.donors import fitting_donors
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.registry import akin
from jugal.model.result import Examination, RepairStatus, Verdict
from jugal.samples import encode


def test_formats_that_the_same_repairs_mend_lend_to_each_other() -> None:
    """What says MP4 or QuickTime stands at the start, which is often what is lost."""
    assert set(akin("mp4")) == {"mp4", "mov", "3gp", "m4a"} and akin("mov")[0] == "mov"
    assert akin("jpeg") == ("jpeg",) and akin("heic") == ("heic",) and akin("unknown") == ("unknown",)
    sick = Examination("/case/clip.mov", 1000, format="mp4", verdict=Verdict.REPAIRABLE, score=0.0)
    healthy = [
        Examination(f"/case/{name}", 1000, format=kind, verdict=Verdict.INTACT, score=100.0, media={"width": width})
        for name, kind, width in (("a.mp4", "mp4", 1), ("b.mov", "mov", 2), ("c.jpg", "jpeg", 3), ("d.heic", "heic", 4))
    ]
    assert [d.path for d in fitting_donors(sick, healthy)] == ["/case/b.mov", "/case/a.mp4"]


@pytest.mark.parametrize("codec", ["prores", "mjpeg"])
def test_a_clip_without_its_start_borrows_from_a_quicktime_sibling(codec: str, tmp_path: Path) -> None:
    """Nothing is left that says QuickTime, and frames that are pictures of their own do not make it a picture."""
    mux = {"movflags": "frag_keyframe+empty_moov+default_base_moof"}
    video = {"prores": "prores_ks", "mjpeg": "mjpeg"}[codec]
    whole, sibling = (
        encode.clip(2.0, (192, 112), 25, "mov", video, "pcm_s16le", seed=s, mux=mux, bit_rate=2_000_000) for s in (3, 4)
    )
    sick, donor = tmp_path / "sick.mov", tmp_path / "sibling.mov"
    sick.write_bytes(whole[4096:])
    donor.write_bytes(sibling)
    found = examine_file(sick)
    assert found.format == "mp4" and found.verdict is Verdict.REPAIRABLE
    outcome = repair_file(found, tmp_path / "out", [examine_file(donor)])
    assert outcome.status is RepairStatus.REPAIRED and outcome.output and outcome.donor == str(donor)
    after = share("mov", whole, Path(outcome.output).read_bytes())
    assert after is not None and after > 90.0 and outcome.score_after == pytest.approx(after, abs=5)
