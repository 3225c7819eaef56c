"""``python -m bench.damaged``: large JPEG pictures harmed inside their scan, examined and repaired; time against Pillow's decode, and memory.

Each in a process of its own (``bench.alone``), whose memory is counted with the interpreter and all packages. Appended to
docs/bench.md.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
from PIL import Image

from bench.alone import alone
from bench.speed import log
from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import riverbed

_HARMS = ("lost-cluster", "zero-several", "kindred-cluster")
_PICTURES = (
    ("24-megapixel", (6000, 4000), 2, _HARMS),
    ("100-megapixel", (11600, 8700), 2, _HARMS),
    ("100-megapixel 4:2:2", (11600, 8700), 1, _HARMS[:1]),
    ("100-megapixel 4:4:4", (11600, 8700), 0, _HARMS[:1]),
)


def _photo(size: tuple[int, int], subsampling: int, seed: int) -> bytes:
    width, height = size
    large = riverbed(width // 4, height // 4, seed, "T1").resize(size, Image.Resampling.BICUBIC)
    grain = np.random.default_rng(seed).normal(0, 6, (height, width, 1)).astype(np.int16)
    return encode.jpeg(
        Image.fromarray(np.clip(np.asarray(large) + grain, 0, 255).astype(np.uint8)),
        quality=88,
        subsampling=subsampling,
    )


def main() -> None:
    lines: list[tuple[str, str]] = []
    with tempfile.TemporaryDirectory(prefix="jugal-bench-") as name:
        for words, size, subsampling, kinds in _PICTURES:
            whole, path = _photo(size, subsampling, 1), Path(name) / f"{words.replace(':', '')}.jpg"
            path.write_bytes(whole)
            (seconds, _), (_, memory) = alone("decoded", path), alone("examined", path)
            lines.append((f"A {words} JPEG of {len(whole) / 1e6:.0f} MB, whole, examined", f"{memory:.0f} MB"))
            for kind in kinds:
                sick = path.with_name(f"{path.stem}-{kind}.jpg")
                sick.write_bytes(harm(whole, "jpeg", kind, 3).data)
                for did in ("examined", "repaired"):
                    took, memory = alone(did, sick)
                    ratio = f"{took / seconds:.1f} times Pillow's decode of the whole ({took:.1f} s), {memory:.0f} MB"
                    lines.append((f"A {words} JPEG, {kind}, {did}", ratio))
    print("\n".join(f"| {a} | {b} |" for a, b in lines))
    log(lines)


if __name__ == "__main__":
    main()
