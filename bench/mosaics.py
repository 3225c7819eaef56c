"""``python -m bench.mosaics``: pictures harmed inside their scan; what of the rest is put back in its place and at its level.

The photographs and drawings of ``bench.photos``, enlarged to a camera's size with a camera's noise, lose clusters: zeros, noise or
another picture's data in their stead, or nothing. Each MCU that survived is held against the original, and each of their samples,
as Pillow shows both, against its own.
"""

from __future__ import annotations

import argparse
import io
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from bench import record
from bench.photos import pictures
from jugal.binary.output import write_pieces
from jugal.binary.source import Source
from jugal.formats.base import RepairDraft, Subject
from jugal.formats.jpeg.canvas import Placed, first_bit
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.entropy import with_neutral_codes
from jugal.formats.jpeg.intervals import find_intervals, written
from jugal.formats.jpeg.parse import Structure
from jugal.formats.jpeg.resync import find_mosaic, write
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.select import select
from jugal.samples import encode

_TEXT = """`python -m bench.mosaics`: photographs and drawings enlarged to a camera's size, with a camera's noise, that lost clusters:
zeros, noise or another picture's data in their stead, or nothing. Each MCU that survived is held against the original: whether it is
the one that belongs there, and its levels too; and each of its samples as Pillow shows it, wherever it is from. Flat are pictures more
than half of whose pixels were the same as the one beside them before the noise: drawings, pages, stars; under noise nothing
tells one place in their flat parts from another. Photographs have noise and drawings have none: that is the third set, and the fourth,
which has restart markers after every 4 to 32 MCUs or every row or two. The fifth is the first with a thumbnail in the Exif data, as cameras put
one there, of 160 by 120 pixels at most, every second one between black bars.

"""
_PICTURES = 26
_CLUSTER, _APART, _LEVELS = 4096, 5, 2.0
_WIDTH, _TALLEST = 3600, 3200
#: Deviation of the noise, of fine pictures in good light, and as much as makes files as large as a camera's; that of flat pictures;
#: whether there are restart markers, and where in turn; and whether there is a thumbnail.
_SETS = (
    (2.5, 2.5, False, False),
    (6.0, 6.0, False, False),
    (6.0, 0.0, False, False),
    (6.0, 0.0, True, False),
    (2.5, 2.5, False, True),
)
_MARKERS = (
    {"restart_marker_blocks": 7},
    {"restart_marker_rows": 1},
    {"restart_marker_blocks": 4},
    {"restart_marker_blocks": 32},
    {"restart_marker_rows": 2},
    {"restart_marker_blocks": 16},
)
_FLAT = 0.5
#: Clusters that are few, and what is lost: at how many places, two cases a picture, and at each how many clusters at most.
_FEW = 3
_LOSSES = (
    ("up to three clusters at one place", (1, 1), 3),
    ("two or three clusters, each at a place of its own", (2, 3), 1),
    ("up to three clusters at each of two or three places", (2, 3), 3),
)


def enlarged(
    limit: int, grain: float, of_flat: float, markers: bool = False, thumbnails: bool = False
) -> list[tuple[bytes, bool]]:
    """Enlarged pictures with so much noise, flat ones with another, by two samplings in turn, and whether each is flat; with restart
    markers and thumbnails or without."""
    out: list[tuple[bytes, bool]] = []
    for _, picture in pictures():
        width = _WIDTH if picture.height * _WIDTH <= _TALLEST * picture.width else _WIDTH * 2 // 3
        large = np.asarray(
            picture.resize((width, round(picture.height * width / picture.width)), Image.Resampling.LANCZOS)
        )
        flat = _is_flat(picture)
        noise = np.random.default_rng(1).normal(0, of_flat if flat else grain, large.shape)
        grainy = Image.fromarray(np.clip(large + noise, 0, 255).astype(np.uint8))
        options: dict[str, object] = {"quality": 88} if len(out) % 2 else {"quality": 93, "subsampling": 1}
        marked = _MARKERS[len(out) % len(_MARKERS)] if markers else {}
        if thumbnails:
            small = encode.thumbnail_of(grainy, bars=len(out) % 2 == 1)
            options["exif"] = encode.exif_of("Lurga M2", "2026:05:14 07:31:00", *grainy.size, thumbnail=small)
        out.append((encode.jpeg(grainy, **options, **marked), flat))
        if len(out) == limit:
            break
    return out


def _is_flat(picture: Image.Image) -> bool:
    pixels = np.asarray(picture.convert("RGB"))
    return bool((pixels[:, 1:] == pixels[:, :-1]).all(axis=2).mean() > _FLAT)


def _structure(data: bytes) -> Structure:
    return select(Source.from_bytes(data)).structure


def harmed(
    data: bytes, other: bytes, places: int, most: int, rng: np.random.Generator
) -> tuple[bytes, list[tuple[int, int]]] | None:
    """The file with up to ``most`` clusters lost at each of so many places, and the bytes of the original that are; None where it is
    too small."""
    first, last = _structure(data).scans[0].entropy.start // _CLUSTER + 2, len(data) // _CLUSTER - 4
    cuts = sorted(rng.integers(first, max(first + 1, last), places).tolist())
    if last - first < 4 * _APART or any(b - a < _APART for a, b in pairwise(cuts)):
        return None
    parts, gone, at = [], [], 0
    for cut in cuts:
        start, end = cut * _CLUSTER, (cut + int(rng.integers(1, most + 1))) * _CLUSTER
        middle = len(other) // 2
        fillings = bytes(end - start), rng.bytes(end - start), other[middle : middle + end - start], b""
        parts += [data[at:start], fillings[int(rng.integers(4))]]
        gone.append((start, end))
        at = end
    return b"".join([*parts, data[at:]]), gone


def measure(task: tuple[bytes, bytes, int, int, int]) -> tuple[float, float, float] | None:
    """The shares of the surviving MCUs that are in their place, and in their place within two levels, and that of their samples that
    are within two levels."""
    data, other, places, most, seed = task
    found = harmed(data, other, places, most, np.random.default_rng(seed))
    if found is None:
        return None
    sick, gone = found
    structure = _structure(sick)
    if structure.frame is None or not structure.scans:
        return None
    subject = Subject(Source.from_bytes(sick))
    reader, whole = _whole(data)
    survives = np.ones(reader.total, bool)
    for start, end in gone:
        survives &= (whole.ends < start) | (whole.begins >= end)
    placed, levelled = np.zeros(reader.total, bool), np.zeros(reader.total, bool)
    parts, draft = _restored(subject, structure)
    for part in parts:
        where = slice(part.place, part.end)
        same = np.diff(part.run.bits) == whole.lengths[where]
        off = np.abs(part.run.dc + part.offsets[reader.blocks] - whole.dc[where]) * reader.steps[reader.blocks]
        placed[where], levelled[where] = same, same & (off.max(axis=1) <= _LEVELS)
    repaired = io.BytesIO(b"" if draft else sick)
    if draft is not None:
        write_pieces(repaired, draft.pieces, subject.source)
    samples = _samples_right(data, repaired.getvalue(), survives, structure)
    return float(placed[survives].mean()), float(levelled[survives].mean()), samples


@dataclass(frozen=True, slots=True)
class _Whole:
    """The MCUs of a picture that is whole: their DC values, lengths in bits, and the bytes at which they begin and end."""

    dc: NDArray[np.int32]
    lengths: NDArray[np.int64]
    begins: NDArray[np.int64]
    ends: NDArray[np.int64]


def _whole(data: bytes) -> tuple[RunReader, _Whole]:
    structure = _structure(data)
    reader = RunReader(structure)
    found = find_intervals(Subject(Source.from_bytes(data)), structure)
    intervals = (
        found.chains[0].chain.intervals if found else [reader.read(structure.scans[0].entropy, 0, reader.total)[0]]
    )
    raw = [run.entropy.raw_offsets(run.bits >> 3) for run in intervals]
    return reader, _Whole(
        np.concatenate([run.dc for run in intervals]),
        np.concatenate([np.diff(run.bits) for run in intervals]),
        np.concatenate([at[:-1] for at in raw]),
        np.concatenate([at[1:] for at in raw]),
    )


def _restored(subject: Subject, structure: Structure) -> tuple[list[Placed], RepairDraft | None]:
    """What of a harmed picture is put back where, and the file that would be written; nothing and None if none is."""
    assert structure.frame is not None
    intervals = find_intervals(subject, structure)
    if intervals is not None:
        return intervals.placed(), written(intervals, *with_neutral_codes(structure))
    picture = decode(structure.frame, structure.scans, structure.quant)
    mosaic = find_mosaic(subject, structure, picture)
    if mosaic is None:
        return [], None
    none = np.zeros(len(mosaic.reader.shape))
    head, _ = mosaic.reader.read(structure.scans[0].entropy, first_bit(picture), mosaic.before)
    return [Placed(head, 0, none.astype(np.int64), none), *mosaic.placed], write(structure, picture, mosaic)


def _samples_right(data: bytes, repaired: bytes, survives: NDArray[np.bool_], structure: Structure) -> float:
    """The share of the samples in surviving MCUs that are within two levels in all components, as Pillow decodes both files."""
    frame = structure.frame
    assert frame is not None
    true, shown = (_decoded(file) for file in (data, repaired))
    off = np.abs(true.astype(np.int16) - shown).reshape(*true.shape[:2], -1).max(axis=2)
    mcus = survives.reshape(frame.mcus_y, frame.mcus_x)
    whole = mcus.repeat(8 * frame.v_max, axis=0).repeat(8 * frame.h_max, axis=1)[: off.shape[0], : off.shape[1]]
    return float((off[whole] <= _LEVELS).mean())


def _decoded(data: bytes) -> NDArray[np.uint8]:
    picture = Image.open(io.BytesIO(data))
    picture.draft("YCbCr" if picture.mode == "RGB" else picture.mode, picture.size)
    return np.asarray(picture)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--pictures", type=int, default=_PICTURES)
    arguments = parser.parse_args()
    lines: list[str] = []
    for grain, of_flat, markers, thumbnails in _SETS:
        files = enlarged(arguments.pictures, grain, of_flat, markers, thumbnails)
        if not files:
            print("No pictures: the packages could not be fetched.")
            return
        kinds = (
            (not of_flat, "drawings without noise"),
            (markers, "with restart markers"),
            (thumbnails, "with thumbnails"),
        )
        kind = "".join(f", {words}" for is_so, words in kinds if is_so)
        lines += [*([""] if lines else []), *_measured(files, kind)]
    if arguments.pictures == _PICTURES:
        record.put("Pictures harmed inside their scan", _TEXT + "\n".join(lines))


def _measured(files: list[tuple[bytes, bool]], kind: str) -> list[str]:
    """What comes back of pictures of a ``kind``, in words, line by line."""
    frames = [_structure(data).frame for data, _ in files]
    size = np.mean(
        [len(data) / (f.width * f.height) for (data, _), f in zip(files, frames, strict=True) if f is not None]
    )
    lines = [f"Of {8 * size:.1f} bits a pixel{kind}:", ""]
    print(lines[0], flush=True)
    few: list[tuple[tuple[float, float, float], bool]] = []
    with ProcessPoolExecutor() as pool:
        for words, places, most in _LOSSES:
            tasks = [
                (data, files[(number + 7) % len(files)][0], places[seed], most, 10 * number + seed)
                for number, (data, _) in enumerate(files)
                for seed in range(2)
            ]
            measured = zip(pool.map(measure, tasks), [flat for _, flat in files for _ in range(2)], strict=True)
            found = [(shares, flat) for shares, flat in measured if shares is not None]
            few += found if max(places) * most <= _FEW else []
            lines.append(_line(words, found))
            print(lines[-1], flush=True)
    lines.append(_line("up to three clusters in all, at one place or several", few))
    print(lines[-1], flush=True)
    return lines


def _line(words: str, found: list[tuple[tuple[float, float, float], bool]]) -> str:
    """What comes back of pictures, ``found`` for each with whether it is flat, after losses that ``words`` tell."""
    every, lively = (np.array([s for s, flat in found if not (flat and without)]) for without in (False, True))
    return f"- {words}: {_words(every)}; without the flat ones {_words(lively)}"


def _words(shares: NDArray[np.float64]) -> str:
    if not len(shares):
        return "none measured"
    placed, levelled, samples = 100 * shares.mean(axis=0)
    return (
        f"of {len(shares)} files {placed:.1f} % of what survived in place, {levelled:.1f} % within {_LEVELS:.0f} levels too; "
        f"{samples:.1f} % of its samples are within {_LEVELS:.0f} levels"
    )


if __name__ == "__main__":
    main()
