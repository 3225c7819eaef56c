"""What large files take: memory that was needed once is given back, and nothing is looked at otherwise than in small files."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jugal.binary.limits import Limits
from jugal.binary.source import Source, SourceUnreadable
from jugal.engine.examine import examine_file, examine_source
from jugal.formats.jpeg.alike import looking_right
from jugal.formats.jpeg.canvas import Placed
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.parse import Entropy, read_entropy, walk
from jugal.formats.jpeg.runs import RunReader
from jugal.kernels.warm import warm
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

MAPPED = Limits(read_at_once=0)


def resident(kind: str) -> int:
    """Bytes of memory that this process has, of those that ``kind`` names."""
    lines = Path("/proc/self/status").read_text(encoding="ascii").splitlines()
    return 1024 * next(int(line.split()[1]) for line in lines if line.startswith(kind))


def same(one: Entropy, other: Entropy) -> bool:
    """Whether both hold the same bytes and markers, and know where they stand."""
    places = np.arange(one.length + 1)
    return (
        (one.start, one.end, one.length) == (other.start, other.end, other.length)
        and one.clean[: one.length].tobytes() == other.clean[: other.length].tobytes()
        and one.mark_raw.tolist() == other.mark_raw.tolist()
        and one.mark_clean.tolist() == other.mark_clean.tolist()
        and one.mark_code.tolist() == other.mark_code.tolist()
        and one.raw_offsets(places).tolist() == other.raw_offsets(places).tolist()
    )


# --- the file


def test_a_mapped_file_gives_its_memory_back_and_reads_the_same_again(tmp_path: Path) -> None:
    data = np.random.default_rng(1).integers(0, 256, 32 << 20, dtype=np.uint8)
    path = tmp_path / "noise.bin"
    path.write_bytes(data.tobytes())
    before = resident("RssFile:")
    source = Source.open(path)
    assert int(source.array.sum(dtype=np.int64)) == int(data.sum(dtype=np.int64))
    assert resident("RssFile:") - before > 24 << 20, "all of it was read"
    source.release()
    assert resident("RssFile:") - before < 4 << 20
    assert source.read(12_345_678, 100) == data[12_345_678:12_345_778].tobytes()


def test_searches_and_unstuffing_do_not_keep_a_mapped_file_in_memory(tmp_path: Path) -> None:
    path = tmp_path / "noise.bin"
    path.write_bytes(np.random.default_rng(2).integers(0, 255, 32 << 20, dtype=np.uint8).tobytes())
    warm()  # loading the kernels takes memory of its own
    source = Source.open(path)
    before = resident("RssFile:")
    assert source.find(b"\xff\xd8\xff") == -1
    entropy = read_entropy(source, 0)
    assert entropy.length == source.size
    assert resident("RssFile:") - before < 8 << 20


def test_an_examined_picture_is_not_kept_in_memory(tmp_path: Path) -> None:
    path, picture = tmp_path / "river.jpg", encode.jpeg(riverbed(320, 240, 3))
    path.write_bytes(picture[:-2] + b"\xff\xfe\xff\xff" + bytes(range(1, 120)) * (24 << 13))
    warm()
    source = Source.open(path)
    before = resident("RssFile:")
    assert examine_source(source).format == "jpeg" and source.size > 16 << 20
    assert resident("RssFile:") - before < 8 << 20


def test_nothing_is_given_back_of_bytes_that_are_held() -> None:
    source = Source.from_bytes(b"\x01\x02\x03")
    source.release()
    assert source.read(0, 3) == b"\x01\x02\x03"


def test_a_medium_that_cannot_be_read_is_a_sentence_for_large_files_too(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "river.jpg"
    path.write_bytes(bytes(4096))

    def fails(*_: object) -> int:
        raise OSError(5, "Input/output error")

    monkeypatch.setattr("os.preadv", fails)
    with pytest.raises(SourceUnreadable, match="cannot be read: Input/output error"):
        Source.open(path, MAPPED)


@pytest.mark.parametrize("kind", ["lost-cluster", "zero-cluster", "truncate", "flip-bits"])
def test_a_mapped_picture_is_judged_as_one_that_is_read_at_once(kind: str, tmp_path: Path) -> None:
    path = tmp_path / "river.jpg"
    path.write_bytes(harm(encode.jpeg(riverbed(640, 480, 3), quality=88), "jpeg", kind, 5).data)
    read, mapped = examine_file(path), examine_file(path, MAPPED)
    assert (mapped.score, mapped.findings, mapped.repairs, mapped.regions) == (
        read.score, read.findings, read.repairs, read.regions,
    )  # fmt: skip


# --- its scan


@settings(max_examples=60)
@given(st.binary(max_size=120), st.data())
def test_a_part_of_a_scan_is_what_would_be_read_there(payload: bytes, data: st.DataObject) -> None:
    stuffed = payload.replace(b"\xff", b"\xff\x00") + b"\xff\xd3" + payload[:9].replace(b"\xff", b"\xff\xff\x00")
    source = Source.from_bytes(stuffed + b"\xff\xd9")
    whole = read_entropy(source, 0)
    places = whole.raw_offsets(np.arange(whole.length + 1)).tolist()
    start = data.draw(st.sampled_from(places))
    end = data.draw(st.sampled_from([place for place in places if place >= start]))
    part = whole.part(start, end)
    assert part is not None and same(part, read_entropy(source, start, end))
    odd = data.draw(st.integers(-1, len(stuffed) + 3))
    assert (whole.part(odd, places[-1]) is None) == (odd not in places)


def test_what_looks_right_is_found_in_strips_as_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    whole = encode.jpeg(riverbed(640, 480, 4), quality=85)
    structure = walk(Source.from_bytes(whole), 0)
    assert structure.frame is not None
    picture, reader = decode(structure.frame, structure.scans, structure.quant), RunReader(structure)
    run, _ = reader.read(structure.scans[0].entropy, 0, reader.total)
    none = np.zeros(3, np.int64)
    parts = [Placed(run.only_first(500), 0, none, np.zeros(3)), Placed(run.without_first(500), 505, none, np.zeros(3))]
    at_once = looking_right(picture, reader, parts)
    assert 0 < at_once.reshape(-1)[505:].mean() < 1 and (at_once.reshape(-1)[:500] == 1).all()
    monkeypatch.setattr("jugal.formats.jpeg.alike._STRIP", 37)
    monkeypatch.setattr("jugal.formats.jpeg.alike._STRIPS_HELD", 2)
    assert np.array_equal(looking_right(picture, reader, parts), at_once)
    # Where runs would have to be read again and again nothing is said: that costs more than it tells.
    monkeypatch.setattr("jugal.formats.jpeg.alike._MOST_READINGS", 0)
    assert not looking_right(picture, reader, parts).any()


# --- the process


_HELD = """
from pathlib import Path
import numpy as np
{prepare}
def resident():
    lines = Path("/proc/self/status").read_text().splitlines()
    return int(next(line for line in lines if line.startswith("RssAnon:")).split()[1]) // 1024
large = np.ones(31 << 20, np.uint8)
del large
before, held = resident(), []
large = []
for _ in range(12):
    large.append(np.ones(10 << 20, np.uint8))
    held.append(np.ones(100 << 10, np.uint8))
del large
print(resident() - before)
"""


def test_a_worker_gives_large_blocks_back_to_the_system() -> None:
    def left(prepare: str) -> int:
        command = [sys.executable, "-c", _HELD.format(prepare=prepare)]
        return int(subprocess.run(command, capture_output=True, text=True, check=True).stdout)

    assert left("from jugal.engine.worker import prepare; prepare()") < 10
    assert left("") > 60, "of itself the C library keeps most of it"
