"""Motion JPEG: every frame is decoded, against an independent decoder; codings that are none of ours are left in peace."""

from __future__ import annotations

import io

import av
import numpy as np
import pytest

from conftest import examine
from jugal.binary.source import Source
from jugal.formats.base import Subject
from jugal.formats.isobmff.frames import check_frames
from jugal.formats.isobmff.movie import read_movie
from jugal.model.codes import FindingCode
from jugal.model.result import Verdict
from jugal.samples import encode


@pytest.fixture(scope="module")
def clip() -> bytes:
    return encode.clip(seconds=2.0, container="mov", video="mjpeg", audio=None, seed=21)


def frames_of(data: bytes) -> list[np.ndarray]:
    with av.open(io.BytesIO(data)) as file:
        return [frame.to_ndarray() for frame in file.decode(video=0)]


def test_healthy_frames_are_whole(clip: bytes) -> None:
    found = examine(clip)
    assert found.verdict is Verdict.INTACT and found.score == 100


@pytest.mark.parametrize("seed", range(6))
def test_bytes_changed_inside_a_frame_are_found_there(clip: bytes, seed: int) -> None:
    track = read_movie(Subject(Source.from_bytes(clip))).tracks[0]
    rng = np.random.default_rng(seed)
    number = int(rng.integers(2, track.sizes.size - 2))
    at = int(track.offsets[number] + track.sizes[number] // 2)
    sick = clip[:at] + rng.bytes(600).replace(b"\xff", b"\xfe") + clip[at + 600 :]
    found = examine(sick)
    marks = [f.span.start for f in found.findings if f.code is FindingCode.MP4_SAMPLE and f.span]
    assert len(marks) == 1 and at - 64 <= marks[0] <= int(track.offsets[number] + track.sizes[number])
    true = sum(not np.array_equal(a, b) for a, b in zip(frames_of(clip), frames_of(sick), strict=True))
    assert true == 1
    assert found.score == pytest.approx(100.0 - 100.0 / track.sizes.size, abs=0.1)


def test_a_coding_that_does_not_read_is_not_accused() -> None:
    data = np.frombuffer(b"\xff\xd8\xff\xe0" * 4000, np.uint8)
    sizes = np.full(40, 400, np.int64)
    offsets = np.arange(40, dtype=np.int64) * 400
    assert check_frames(Subject(Source(data, "odd")), offsets, sizes, np.arange(40)) == {}
