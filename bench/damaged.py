"""``python -m bench.damaged``: large JPEG pictures harmed inside their scan, examined and repaired; time against Pillow's decode, and memory.

Each in a process of its own; the memory is the most that process had, the interpreter and all packages included. Appended to
docs/bench.md.
"""

from __future__ import annotations

import multiprocessing
import tempfile
import time
from pathlib import Path

import numpy as np
from PIL import Image

from bench.speed import log
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.model.result import RepairStatus
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

_SIZES = (("24-megapixel", (6000, 4000)), ("100-megapixel", (11600, 8700)))
_HARMS = ("lost-cluster", "zero-several", "kindred-cluster")


def _photo(size: tuple[int, int], seed: int) -> bytes:
    width, height = size
    large = riverbed(width // 4, height // 4, seed, "T1").resize(size, Image.Resampling.BICUBIC)
    grain = np.random.default_rng(seed).normal(0, 6, (height, width, 1)).astype(np.int16)
    return encode.jpeg(Image.fromarray(np.clip(np.asarray(large) + grain, 0, 255).astype(np.uint8)), quality=88)


def _most_memory() -> float:
    """Megabytes; of this process alone, while ``ru_maxrss`` begins with what the one that started it had."""
    status = Path("/proc/self/status").read_text(encoding="ascii")
    return int(next(line for line in status.splitlines() if line.startswith("VmHWM")).split()[1]) / 1024


def _examined(path: Path) -> tuple[float, float]:
    """Seconds and megabytes of examining a file."""
    return examine_file(path).seconds, _most_memory()


def _repaired(path: Path) -> tuple[float, float]:
    """Seconds of repairing a file that was examined, and megabytes of both."""
    examined = examine_file(path)
    started = time.perf_counter()
    outcome = repair_file(examined, path.parent / "repaired")
    assert outcome.status is RepairStatus.REPAIRED, outcome.error
    return time.perf_counter() - started, _most_memory()


def _decoded(path: Path) -> tuple[float, float]:
    Image.MAX_IMAGE_PIXELS = None
    started = time.perf_counter()
    with Image.open(path) as picture:
        picture.load()
    return time.perf_counter() - started, _most_memory()


def main() -> None:
    lines: list[tuple[str, str]] = []
    with tempfile.TemporaryDirectory(prefix="jugal-bench-") as name:
        pool = multiprocessing.get_context("spawn").Pool(1, maxtasksperchild=1)
        with pool:
            for words, size in _SIZES:
                whole, path = _photo(size, 1), Path(name) / f"{words}.jpg"
                path.write_bytes(whole)
                (seconds, _), (_, memory) = pool.apply(_decoded, (path,)), pool.apply(_examined, (path,))
                lines.append((f"A {words} JPEG, whole, examined", f"{memory:.0f} MB"))
                for kind in _HARMS:
                    sick = path.with_name(f"{words}-{kind}.jpg")
                    sick.write_bytes(harm(whole, "jpeg", kind, 3).data)
                    for did, work in (("examined", _examined), ("repaired", _repaired)):
                        took, memory = pool.apply(work, (sick,))
                        ratio = (
                            f"{took / seconds:.1f} times Pillow's decode of the whole ({took:.1f} s), {memory:.0f} MB"
                        )
                        lines.append((f"A {words} JPEG, {kind}, {did}", ratio))
    print("\n".join(f"| {a} | {b} |" for a, b in lines))
    log(lines)


if __name__ == "__main__":
    main()
