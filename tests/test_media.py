"""Clips, sound, documents and archives: scores against arithmetic and other decoders, repairs that give everything back."""

from __future__ import annotations

import io
import wave
import zipfile
from pathlib import Path

import av
import numpy as np
import pypdfium2
import pytest
from PIL import Image

from conftest import examine, healthy
from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import Subject
from jugal.formats.flac.parse import read_flac
from jugal.formats.isobmff.movie import read_movie
from jugal.model.codes import FindingCode
from jugal.model.result import RepairStatus, Verdict
from jugal.samples.harm import harm


def repaired(name: str, what: str, folder: Path, seed: int = 31) -> tuple[bytes, bytes]:
    """(healthy bytes, repaired bytes) after a named damage."""
    data = healthy(name)
    kind = name.split("-")[0]
    sick = folder / f"sick.{kind}"
    sick.write_bytes(harm(data, kind, what, seed).data)
    outcome = repair_file(examine_file(sick), folder / "out", [])
    assert outcome.status is RepairStatus.REPAIRED, (outcome.error, examine_file(sick).findings)
    assert outcome.output is not None and outcome.steps
    return data, Path(outcome.output).read_bytes()


def frames(data: bytes) -> list[tuple[str, float, bytes]]:
    out = []
    with av.open(io.BytesIO(data)) as file:
        for frame in file.decode():
            out.append((type(frame).__name__, round(float(frame.time or 0), 4), frame.to_ndarray().tobytes()))
    return sorted(out, key=lambda f: f[:2])


@pytest.mark.parametrize(
    ("name", "what"),
    [
        ("mp4", "offsets-shifted"), ("mp4", "mdat-size"), ("mp4", "mdat-size-zero"), ("mp4", "no-file-type"), ("mp4", "junk-before"),
        ("mp4-fast", "offsets-shifted"), ("mp4-fast", "no-file-type"), ("mov", "mdat-size"), ("mov", "offsets-shifted"), ("m4a", "mdat-size"),
    ],
)  # fmt: skip
def test_movie_repairs_give_every_frame_back(name: str, what: str, tmp_path: Path) -> None:
    before, after = repaired(name, what, tmp_path)
    assert frames(after) == frames(before)


def test_cut_tables_keep_what_is_there(tmp_path: Path) -> None:
    before, after = repaired("mp4-fast", "truncate", tmp_path)
    left, whole = frames(after), frames(before)
    assert 0 < len(left) < len(whole)
    pictures = [f for f in left if f[0] == "VideoFrame"]
    assert set(pictures[:-3]) <= set(whole)
    found = examine(after)
    assert found.verdict is Verdict.INTACT, found.findings


def test_sample_layout_equals_the_demuxers() -> None:
    """Offsets and sizes of every sample against FFmpeg's packets."""
    data = healthy("mp4")
    movie = read_movie(Subject(Source.from_bytes(data)))
    with av.open(io.BytesIO(data)) as file:
        for track, stream in zip(movie.tracks, file.streams, strict=True):
            file.seek(0)
            packets = sorted((p.pos, p.size) for p in file.demux(stream) if p.size)
            assert packets == sorted(zip(track.offsets.tolist(), track.sizes.tolist(), strict=True))


def test_wav_sizes(tmp_path: Path) -> None:
    before, after = repaired("wav", "sizes-zero", tmp_path)
    with wave.open(io.BytesIO(before)) as a, wave.open(io.BytesIO(after)) as b:
        assert a.getparams() == b.getparams()
        assert a.readframes(10**9) == b.readframes(10**9)


def test_wav_score_is_the_share_of_time() -> None:
    harmed = harm(healthy("wav"), "wav", "truncate", 3)
    found = examine(harmed.data)
    assert found.score == pytest.approx(100 * (len(harmed.data) - 44) / (len(healthy("wav")) - 44), abs=0.1)


def test_silence_is_legal() -> None:
    """Digital silence that begins and ends anywhere is content; cut out at sector borders it is damage."""
    data = bytearray(healthy("wav"))
    data[44 + 100_004 : 44 + 160_004] = bytes(60_000)
    assert examine(bytes(data)).verdict is Verdict.INTACT
    data = bytearray(healthy("wav"))
    data[102_400:118_784] = bytes(16_384)
    assert examine(bytes(data)).verdict is Verdict.DAMAGED


@pytest.mark.parametrize("what", ["header-crc", "no-end"])
def test_png_repairs_are_exact(what: str, tmp_path: Path) -> None:
    before, after = repaired("png", what, tmp_path)
    assert np.array_equal(np.asarray(Image.open(io.BytesIO(before))), np.asarray(Image.open(io.BytesIO(after))))


def test_png_good_rows_are_kept(tmp_path: Path) -> None:
    before, after = repaired("png", "zero-cluster", tmp_path)
    a, b = np.asarray(Image.open(io.BytesIO(before))), np.asarray(Image.open(io.BytesIO(after)))
    rows = int((a == b).all(axis=(1, 2)).argmin())
    found = examine_file(tmp_path / "sick.png")
    assert found.score is not None and abs(100 * rows / a.shape[0] - found.score) < 5


@pytest.mark.parametrize("what", ["startxref-wrong"])
def test_pdf_pages_come_back(what: str, tmp_path: Path) -> None:
    before, after = repaired("pdf", what, tmp_path)

    def pages(data: bytes) -> list[bytes]:
        return [page.render().to_numpy().tobytes() for page in pypdfium2.PdfDocument(data)]

    assert pages(after) == pages(before)


def test_pdf_without_trailer_and_catalogue_is_rebuilt(tmp_path: Path) -> None:
    data = healthy("pdf")
    cut = data[: data.rindex(b"xref\n0 ")].replace(b"/Catalog", b"/Lost000")
    sick = tmp_path / "sick.pdf"
    sick.write_bytes(cut)
    found = examine_file(sick)
    assert found.score is not None and found.score <= 5
    outcome = repair_file(found, tmp_path / "out", [])
    assert outcome.status is RepairStatus.REPAIRED, outcome.error
    assert len(pypdfium2.PdfDocument(outcome.output)) == 3


@pytest.mark.parametrize("name", ["zip", "docx", "xlsx", "odt"])
def test_zip_directory_is_rebuilt(name: str, tmp_path: Path) -> None:
    before, after = repaired(name, "no-directory", tmp_path)
    with zipfile.ZipFile(io.BytesIO(before)) as a, zipfile.ZipFile(io.BytesIO(after)) as b:
        assert b.testzip() is None
        assert a.namelist() == b.namelist()
        assert all(a.read(n) == b.read(n) for n in a.namelist())


def test_damaged_document_opens_again(tmp_path: Path) -> None:
    import docx as word

    data = healthy("docx")
    with zipfile.ZipFile(io.BytesIO(data)) as file:
        info = file.getinfo("word/document.xml")
    at = info.header_offset + 30 + len(info.filename) + info.compress_size // 2
    sick = tmp_path / "sick.docx"
    sick.write_bytes(data[:at] + bytes(400) + data[at + 400 :])
    outcome = repair_file(examine_file(sick), tmp_path / "out", [])
    assert outcome.status is RepairStatus.REPAIRED and outcome.output
    assert len(word.Document(outcome.output).paragraphs) > 5


@pytest.mark.parametrize("name", ["mp3", "flac"])
def test_sound_frames_are_joined(name: str, tmp_path: Path) -> None:
    _, after = repaired(name, "zero-cluster", tmp_path)
    assert examine(after).verdict is Verdict.INTACT


def test_sound_behind_other_bytes_comes_back_whole(tmp_path: Path) -> None:
    before, after = repaired("flac", "junk-before", tmp_path)
    assert after == before, "nothing was lost, so that the checksum of the sound is kept too"


def test_a_lost_marker_behind_a_tag_is_no_other_bytes() -> None:
    tag = b"ID3\4\0\0\0\0\0\x14" + bytes(20)
    lost = read_flac(Source.from_bytes(tag + b"flac" + healthy("flac")[4:]))
    assert lost.start == len(tag) and lost.before == 0 and not lost.marker_ok
    there = read_flac(Source.from_bytes(tag + healthy("flac")))
    assert there.start == len(tag) and there.before == 0 and there.marker_ok
    moved = read_flac(Source.from_bytes(bytes(700) + healthy("flac")))
    assert moved.start == moved.before == 700 and moved.marker_ok


def test_flac_samples_against_arithmetic() -> None:
    data = healthy("flac")
    found = examine(data)
    assert found.media["duration"] == pytest.approx(3.0, abs=0.05)
    assert found.media["sample_rate"] == 48000 and found.media["channels"] == 2


def test_media_facts() -> None:
    clip = examine(healthy("mp4")).media
    assert (clip["width"], clip["height"]) == (320, 180)
    assert clip["duration"] == pytest.approx(2.0, abs=0.1)
    photo = examine(healthy("jpeg")).media
    assert photo["camera"] == "Lurga M2" and photo["date_taken"] == "2026-05-14T07:31:00"
    assert examine(healthy("pdf")).media["pages"] == 3


def test_bytes_before_a_wave_file_are_no_picture() -> None:
    found = examine(np.random.default_rng(1).bytes(1500) + healthy("wav"))
    assert found.format == "wav" and found.verdict is Verdict.REPAIRABLE
    assert FindingCode.WAV_HEADER in {f.code for f in found.findings}
