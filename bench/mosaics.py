"""``python -m bench.mosaics``: pictures harmed inside their scan; what of the rest is put back in its place and at its level.

The photographs and drawings of ``bench.photos``, enlarged to a camera's size with a camera's noise, lose clusters: zeros, noise or
another picture's data in their stead, or nothing. Each MCU that survived is held against the original.
"""

from __future__ import annotations

import argparse
from concurrent.futures import ProcessPoolExecutor
from itertools import pairwise

import numpy as np
from PIL import Image

from bench import record
from bench.photos import pictures
from jugal.binary.source import Source
from jugal.formats.base import Subject
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.parse import Structure
from jugal.formats.jpeg.resync import find_mosaic
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.select import select
from jugal.samples import encode

_TEXT = """`python -m bench.mosaics`: photographs and drawings enlarged to a camera's size, with a camera's noise, that lost clusters:
zeros, noise or another picture's data in their stead, or nothing. Each MCU that survived is held against the original. Flat are
pictures more than half of whose pixels were the same as the one beside them before the noise: drawings, pages, stars; in their
flat parts nothing tells one place from another.

"""
_PICTURES = 26
_CLUSTER, _APART, _LEVELS = 4096, 5, 2.0
_WIDTH, _TALLEST = 3600, 3200
#: Deviation of the noise: of fine pictures in good light, and as much as makes files as large as a camera's.
_GRAINS = (2.5, 6.0)
_FLAT = 0.5
#: What is lost: at how many places, two cases a picture, and at each how many clusters at most.
_LOSSES = (
    ("up to three clusters at one place", (1, 1), 3),
    ("two or three clusters, each at a place of its own", (2, 3), 1),
    ("up to three clusters at each of two or three places", (2, 3), 3),
)


def enlarged(limit: int, grain: float) -> list[tuple[bytes, bool]]:
    """Enlarged pictures with so much noise, by two samplings in turn, and whether each is flat."""
    out: list[tuple[bytes, bool]] = []
    for _, picture in pictures():
        width = _WIDTH if picture.height * _WIDTH <= _TALLEST * picture.width else _WIDTH * 2 // 3
        large = np.asarray(
            picture.resize((width, round(picture.height * width / picture.width)), Image.Resampling.LANCZOS)
        )
        noise = np.random.default_rng(1).normal(0, grain, large.shape)
        grainy = Image.fromarray(np.clip(large + noise, 0, 255).astype(np.uint8))
        options = {"quality": 88} if len(out) % 2 else {"quality": 93, "subsampling": 1}
        out.append((encode.jpeg(grainy, **options), _is_flat(picture)))
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


def measure(task: tuple[bytes, bytes, int, int, int]) -> tuple[float, float] | None:
    """The shares of the surviving MCUs that are in their place, and in their place within two levels."""
    data, other, places, most, seed = task
    found = harmed(data, other, places, most, np.random.default_rng(seed))
    if found is None:
        return None
    sick, gone = found
    structure = _structure(sick)
    if structure.frame is None or not structure.scans:
        return None
    subject = Subject(Source.from_bytes(sick))
    mosaic = find_mosaic(subject, structure, decode(structure.frame, structure.scans, structure.quant))
    true = _structure(data)
    reader = RunReader(true)
    whole, _ = reader.read(true.scans[0].entropy, 0, reader.total)
    raw = whole.entropy.raw_offsets(whole.bits >> 3)
    survives = np.ones(reader.total, bool)
    for start, end in gone:
        survives &= (raw[1:] < start) | (raw[:-1] >= end)
    placed, levelled = np.zeros(reader.total, bool), np.zeros(reader.total, bool)
    lengths = np.diff(whole.bits)
    if mosaic is not None:
        placed[: mosaic.before] = levelled[: mosaic.before] = True
        for part in mosaic.placed:
            where = slice(part.place, part.end)
            same = np.diff(part.run.bits) == lengths[where]
            off = np.abs(part.run.dc + part.offsets[reader.blocks] - whole.dc[where]) * reader.steps[reader.blocks]
            placed[where], levelled[where] = same, same & (off.max(axis=1) <= _LEVELS)
    return float(placed[survives].mean()), float(levelled[survives].mean())


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--pictures", type=int, default=_PICTURES)
    arguments = parser.parse_args()
    lines: list[str] = []
    for grain in _GRAINS:
        files = enlarged(arguments.pictures, grain)
        if not files:
            print("No pictures: the packages could not be fetched.")
            return
        lines += [*([""] if lines else []), *_measured(files)]
    if arguments.pictures == _PICTURES:
        record.put("Pictures harmed inside their scan", _TEXT + "\n".join(lines))


def _measured(files: list[tuple[bytes, bool]]) -> list[str]:
    """What comes back of pictures, in words, line by line."""
    frames = [_structure(data).frame for data, _ in files]
    size = np.mean(
        [len(data) / (f.width * f.height) for (data, _), f in zip(files, frames, strict=True) if f is not None]
    )
    lines = [f"Of {8 * size:.1f} bits a pixel:", ""]
    print(lines[0], flush=True)
    with ProcessPoolExecutor() as pool:
        for words, places, most in _LOSSES:
            tasks = [
                (data, files[(number + 7) % len(files)][0], places[seed], most, 10 * number + seed)
                for number, (data, _) in enumerate(files)
                for seed in range(2)
            ]
            measured = zip(pool.map(measure, tasks), [flat for _, flat in files for _ in range(2)], strict=True)
            found = [(shares, flat) for shares, flat in measured if shares is not None]
            every, lively = (np.array([s for s, flat in found if not (flat and without)]) for without in (False, True))
            lines.append(f"- {words}: {_words(every)}; without the flat ones {_words(lively)}")
            print(lines[-1], flush=True)
    return lines


def _words(shares: np.ndarray) -> str:
    if not len(shares):
        return "none measured"
    placed, levelled = 100 * shares.mean(axis=0)
    return f"of {len(shares)} files {placed:.1f} % of what survived in place, {levelled:.1f} % within {_LEVELS:.0f} levels too"


if __name__ == "__main__":
    main()
