"""A thumbnail or preview in the picture's own file: what it tells of runs whose place and levels are lost, and when it is not believed."""

from __future__ import annotations

import io
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from bench.measure import share
from PIL import Image, ImageEnhance

from jugal.binary.source import Source
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.formats.base import Subject
from jugal.formats.jpeg.parse import walk
from jugal.formats.jpeg.reference import Reference
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.formats.tiff.exif import read_exif
from jugal.samples import encode
from jugal.samples.scenes import riverbed

SIZE = 1080, 720


def with_thumbnail(picture: Image.Image, thumbnail: bytes, **options: object) -> bytes:
    exif = encode.exif_of("Lurga M2", "2026:05:14 07:31:00", *picture.size, thumbnail=thumbnail)
    return encode.jpeg(picture, exif=exif, **options)


@cache
def scene(seed: int = 3) -> Image.Image:
    return riverbed(*SIZE, seed)


def small(seed: int = 3) -> Image.Image:
    return scene(seed).resize((162, 108), Image.Resampling.LANCZOS)


def preview(**options: object) -> bytes:
    return encode.with_further(encode.jpeg(scene()), [encode.jpeg(scene().resize((540, 360)), **options)])


COPIES = {
    "thumbnail": lambda: with_thumbnail(scene(), encode.thumbnail_of(scene())),
    "between bars": lambda: with_thumbnail(scene(), encode.thumbnail_of(scene(), bars=True)),
    "of full colour": lambda: with_thumbnail(scene(), encode.jpeg(small(), subsampling=0)),
    "grey": lambda: with_thumbnail(scene(), encode.jpeg(small().convert("L"))),
    "with restart markers": lambda: with_thumbnail(scene(), encode.jpeg(small(), restart_marker_rows=1)),
    "preview": preview,
    "progressive preview": lambda: preview(progressive=True),
}


def read(data: bytes, known: float = 0.4) -> tuple[RunReader, Run, Reference | None]:
    """The reader of a picture, all its MCUs, and what a copy tells if such a share of them are known."""
    subject = Subject(Source.from_bytes(data))
    structure = walk(subject.source, 0)
    reader = RunReader(structure)
    whole, _ = reader.read(structure.scans[0].entropy, 0, reader.total)
    return reader, whole, Reference.of(subject, structure, reader, whole.only_first(int(known * reader.total)))


@pytest.mark.parametrize("kind", COPIES)
def test_a_copy_tells_where_a_run_belongs_and_what_it_counts_from(kind: str) -> None:
    reader, whole, reference = read(COPIES[kind]())
    assert reference is not None
    place = int(0.55 * reader.total)
    run, lost = whole.without_first(place), np.array([9, -7, 5])
    run.dc = run.dc - lost[reader.blocks]
    begin = place - 300
    said = reference.places(run, begin, 600)
    assert said.shape == (600,) and said.max() == 0 and said.min() >= -100
    assert abs(begin + int(np.argmax(said)) - place) <= 1
    wrong, unsure = lost + np.array([7, 5, -4]), np.array([25.0, 9.0, 9.0])
    offsets, doubt = reference.settle(run, place, wrong, unsure)
    told = 1 if kind == "grey" else 3
    assert (np.abs(offsets - lost) * reader.steps)[:told].max() < 2
    assert (doubt < unsure)[:told].all() and doubt[:told].max() < 2
    assert offsets[told:].tolist() == wrong[told:].tolist()


@pytest.mark.parametrize(
    "thumbnail",
    [
        lambda: encode.thumbnail_of(scene(8)),
        lambda: encode.thumbnail_of(scene().transpose(Image.Transpose.ROTATE_180)),
        lambda: encode.thumbnail_of(ImageEnhance.Brightness(scene()).enhance(1.5)),
        lambda: encode.thumbnail_of(ImageEnhance.Contrast(scene()).enhance(0.5)),
        lambda: encode.thumbnail_of(scene().crop((300, 200, 1080, 720))),
        lambda: encode.thumbnail_of(Image.new("RGB", SIZE, (90, 120, 140))),
        lambda: b"",
        lambda: encode.thumbnail_of(scene())[:900],
    ],
    ids=["another", "turned", "brighter", "flatter", "cropped", "blank", "none", "cut"],
)
def test_a_copy_of_something_else_is_not_believed(thumbnail) -> None:  # type: ignore[no-untyped-def]
    assert read(with_thumbnail(scene(), thumbnail()))[2] is None


def test_of_a_small_picture_all_of_a_copy_is_looked_at() -> None:
    """A thumbnail has more samples than it has MCUs, and yet fewer blocks."""
    picture = scene().crop((100, 100, 612, 484))
    reader, whole, reference = read(with_thumbnail(picture, encode.thumbnail_of(picture)))
    assert reference is not None
    own = reader.levels(whole.dc)[0]
    theirs = reference.levels(np.arange(reader.total), 0)
    assert np.corrcoef(own, theirs)[0, 1] > 0.98


def test_another_picture_of_the_same_size_is_no_copy() -> None:
    """Two eyes see one scene from two places."""
    left, right = (scene().crop((begin, 0, begin + 1040, 720)) for begin in (0, 40))
    main = with_thumbnail(left, encode.thumbnail_of(left))
    reference = read(encode.with_further(main, [encode.jpeg(right)]))[2]
    assert reference is not None and reference.size == (160, 111)
    assert read(encode.with_further(encode.jpeg(left), [encode.jpeg(right)]))[2] is None


def test_a_few_known_mcus_do_not_show_whether_it_is_one_picture() -> None:
    data = COPIES["thumbnail"]()
    assert read(data, 0.02)[2] is None and read(data, 0.2)[2] is not None


def test_where_the_picture_was_edited_the_copy_says_nothing_of_levels() -> None:
    edited = scene().copy()
    edited.paste(scene(8).crop((0, 400, 1080, 720)), (0, 400))
    reader, whole, reference = read(with_thumbnail(edited, encode.thumbnail_of(scene())))
    assert reference is not None
    place = reader.total * 2 // 3
    asked = np.array([12, 3, 3]), np.array([30.0, 5.0, 5.0])
    for got, given in zip(reference.settle(whole.without_first(place), place, *asked), asked, strict=True):
        assert np.array_equal(got, given)


def test_what_is_known_better_is_hardly_changed() -> None:
    reader, whole, reference = read(COPIES["thumbnail"]())
    assert reference is not None
    place = reader.total // 2
    offsets, doubt = reference.settle(whole.without_first(place), place, np.zeros(3, np.int64), np.full(3, 0.05))
    assert offsets.tolist() == [0, 0, 0] and (doubt <= 0.05).all()


@pytest.mark.parametrize("seed", range(3))
def test_a_picture_of_which_much_is_lost_is_put_together_by_its_thumbnail(seed: int, tmp_path: Path) -> None:
    """Three holes of several rows each: without the thumbnail brightness behind them is a guess."""
    picture = riverbed(1440, 960, 20 + seed)
    data = with_thumbnail(picture, encode.thumbnail_of(picture), quality=80)
    sick = bytearray(data)
    for at in (0.3, 0.5, 0.75):
        begin = int(at * len(data)) // 4096 * 4096
        sick[begin : begin + 3 * 4096] = bytes(3 * 4096)
    path = tmp_path / "shot.jpg"
    path.write_bytes(sick)
    outcome = repair_file(examine_file(path), tmp_path / "out", method="resync")
    assert outcome.output is not None and outcome.error is None
    assert "the small picture of 160 × 107 pixels in the file" in outcome.steps[-1]
    mended = Path(outcome.output).read_bytes()
    true, seen = (np.asarray(Image.open(io.BytesIO(d)).convert("L"), np.int16) for d in (data, mended))
    off = np.abs(true - seen)
    assert float((off <= 3).mean()) > 0.97 - 9 * 4096 / len(data)
    assert np.median(off[off > 3]) < 25, "what is lost is shown as the thumbnail has it"
    good, after = share("jpeg", data, mended), outcome.score_after
    assert good is not None and after is not None and good - 20 < after < good, "only what survived is counted"


def test_thumbnails_are_written_where_exif_says() -> None:
    thumbnail = encode.thumbnail_of(scene())
    exif = encode.exif_of("Lurga M2", "2026:05:14 07:31:00", *SIZE, thumbnail=thumbnail)
    found = read_exif(exif[6:])
    assert found.thumbnail is not None and not found.problems
    at, length = found.thumbnail
    assert exif[6:][at : at + length] == thumbnail
    read_back = Image.Exif()
    read_back.load(exif)
    assert read_back[0x0110] == "Lurga M2"
