"""``make bench``: ratios against other programs and against itself, in one run on one machine; appended to docs/bench.md."""

from __future__ import annotations

import datetime
import hashlib
import io
import multiprocessing
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path

import av
import numpy as np
from PIL import Image

from jugal.engine.batch import Batch
from jugal.engine.examine import examine_file
from jugal.engine.walk import walk
from jugal.samples import encode
from jugal.samples.scenes import riverbed

_WORKERS = 2


def _ours(path: str) -> float:
    result = examine_file(path)
    assert result.score == 100.0, (path, result.findings)
    return result.seconds


def _pillow(path: str) -> None:
    with Image.open(path) as picture:
        picture.load()


def _demux(path: str) -> None:
    with av.open(path) as file:
        for _ in file.demux():
            pass


def _play(path: str) -> None:
    with av.open(path) as file:
        for packet in file.demux():
            packet.decode()


def _hash(path: str) -> None:
    with open(path, "rb") as stream:
        hashlib.file_digest(stream, "sha256")


def _times(functions: list[Callable[[str], object]], paths: list[str], rounds: int = 5) -> list[float]:
    """Of each function the best of some rounds over all paths, with the same number of processes.

    They take turns, so that a machine that is slower for a while is slower for all of them.
    """
    best = [float("inf")] * len(functions)
    with ExitStack() as stack:
        pools = [stack.enter_context(multiprocessing.get_context("forkserver").Pool(_WORKERS)) for _ in functions]
        for pool, function in zip(pools, functions, strict=True):
            pool.map(function, paths[:_WORKERS], chunksize=1)
        for _ in range(rounds):
            for number, (pool, function) in enumerate(zip(pools, functions, strict=True)):
                started = time.perf_counter()
                pool.map(function, paths, chunksize=1)
                best[number] = min(best[number], time.perf_counter() - started)
    return best


def _photos(folder: Path, progressive: bool) -> list[str]:
    paths = []
    for seed in range(4):
        picture = riverbed(3000, 2000, seed, "T1").resize((6000, 4000), Image.Resampling.BICUBIC)
        grain = np.random.default_rng(seed).normal(0, 6, (4000, 6000, 1))
        picture = Image.fromarray(np.clip(np.asarray(picture) + grain, 0, 255).astype(np.uint8))
        path = folder / f"p{seed}{'p' if progressive else ''}.jpg"
        path.write_bytes(encode.jpeg(picture, quality=92, progressive=progressive))
        paths.append(str(path))
    return paths


def repeated(short: bytes, repeats: int, path: Path) -> None:
    """A long clip: a short one's packets repeated by remuxing, as long recordings have them."""
    with av.open(str(path), "w") as out, av.open(io.BytesIO(short)) as source:
        streams = {s.index: out.add_stream_from_template(s) for s in source.streams}
        packets = [p for p in source.demux() if p.dts is not None]
        length = {
            s.index: max(p.dts + p.duration for p in packets if p.stream.index == s.index)
            - min(p.dts for p in packets if p.stream.index == s.index)
            for s in source.streams
        }
        for repeat in range(repeats):
            for packet in packets:
                copy = av.Packet(bytes(packet))
                copy.pts = packet.pts + repeat * length[packet.stream.index]
                copy.dts = packet.dts + repeat * length[packet.stream.index]
                copy.time_base, copy.duration, copy.is_keyframe = packet.time_base, packet.duration, packet.is_keyframe
                copy.stream = streams[packet.stream.index]
                out.mux(copy)


def _clips(folder: Path) -> list[str]:
    short = encode.clip(6.0, (640, 360), seed=3, bit_rate=12_000_000)
    paths = [folder / f"clip{number}.mp4" for number in range(2)]
    for path in paths:
        repeated(short, 14, path)
    return [str(path) for path in paths]


def _per_file(folder: Path, count: int) -> float:
    place = folder / f"small{count}"
    place.mkdir()
    photo, sound = encode.jpeg(riverbed(160, 120, 1)), encode.wav(0.1, channels=1)
    for i in range(count):
        (place / f"{i}.{'jpg' if i % 2 else 'wav'}").write_bytes(photo if i % 2 else sound)
    started = time.perf_counter()
    list(Batch(walk([place]), _WORKERS).run())
    return (time.perf_counter() - started) / count


def _window_gap() -> str:
    """The longest gap between two turns of the event loop with 2,000 files coming in, from a process of its own."""
    done = subprocess.run(
        [sys.executable, "-m", "bench.window", "--gap-only"],
        capture_output=True,
        text=True,
        timeout=300,
        env={**os.environ, "QT_QPA_PLATFORM": "offscreen"},
    )
    return done.stdout.strip().splitlines()[-1].rsplit(": ", 1)[-1] if done.stdout.strip() else "not measured"


def log(lines: list[tuple[str, str]]) -> None:
    """Appends a table of (what, ratio) to the record of all runs."""
    record = Path("docs/bench.md")
    if not record.exists():
        head = (
            "# Speed, as ratios\n\nAppended by `make bench`; each table is one run on one machine with two processes.\n"
        )
        record.write_text(head, encoding="utf-8")
    rows = "\n".join(f"| {a} | {b} |" for a, b in lines)
    with record.open("a", encoding="utf-8") as out:
        out.write(f"\n## {datetime.date.today().isoformat()}\n\n| what | ratio |\n|---|---|\n{rows}\n")


def main() -> None:
    lines: list[tuple[str, str]] = []
    with tempfile.TemporaryDirectory(prefix="jugal-bench-") as name:
        folder = Path(name)
        for words, progressive in (("baseline", False), ("progressive", True)):
            photos = _photos(folder, progressive)
            ours, theirs = _times([_ours, _pillow], photos)
            size = sum(os.path.getsize(p) for p in photos) / 1e6
            lines.append(
                (
                    f"24-megapixel JPEGs, {words}, examined against Pillow's decode",
                    f"{theirs / ours:.2f} times as fast ({size / ours:.0f} MB/s)",
                )
            )
        clips = _clips(folder)
        ours, theirs, hashing = _times([_ours, _demux, _hash], clips)
        size = sum(os.path.getsize(p) for p in clips) / 1e6
        lines.append(
            ("MP4 clips examined against PyAV's demux", f"{theirs / ours:.2f} times as fast ({size / ours:.0f} MB/s)")
        )
        (decoding,) = _times([_play], clips, rounds=1)
        lines.append(("MP4 clips examined against FFmpeg's full decode", f"{decoding / ours:.0f} times as fast"))
        lines.append(("MP4 clips examined against SHA-256", f"{hashing / ours:.2f} times as fast"))
        few, many = _per_file(folder, 500), _per_file(folder, 5000)
        lines.append(("Cost per small file, 5,000 against 500", f"{many / few:.2f} times ({1e3 * many:.2f} ms a file)"))
    lines.append(("Longest gap of the event loop, 2,000 files coming in", _window_gap()))
    print("\n".join(f"| {a} | {b} |" for a, b in lines))
    log(lines)


if __name__ == "__main__":
    main()
