"""``make fuzz``: seeded mutations of healthy files through detection, examiners and repairs. Prints what failed, with its seed."""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

import numpy as np

from bench.healthy import HEALTHY
from jugal.binary.source import Source
from jugal.engine.examine import examine_file, examine_source
from jugal.engine.repair import repair_file


def mutate(data: bytes, rng: np.random.Generator) -> bytes:
    """One to a dozen changes: bytes set, stretches copied, removed, filled; sometimes the end cut off."""
    out = bytearray(data)
    for _ in range(int(rng.integers(1, 13))):
        at = int(rng.integers(0, max(1, min(len(out), 4096 if rng.random() < 0.5 else len(out)))))
        length = int(2 ** rng.uniform(0, 13))
        kind = int(rng.integers(0, 5))
        if kind == 0 and out:
            out[min(at, len(out) - 1)] = int(rng.integers(0, 256))
        elif kind == 1:
            del out[at : at + length]
        elif kind == 2:
            out[at : at + length] = bytes([int(rng.integers(0, 256))]) * min(length, max(0, len(out) - at))
        elif kind == 3:
            other = int(rng.integers(0, max(1, len(out))))
            out[at:at] = out[other : other + length]
        elif rng.random() < 0.3:
            del out[max(1, at) :]
    return bytes(out)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--inputs", type=int, default=100_000)
    parser.add_argument("--seconds", type=float, default=3600)
    parser.add_argument("--repairs", type=int, default=20, help="of this many inputs one is repaired too")
    parser.add_argument("--only", help="formats or variants whose name holds this")
    arguments = parser.parse_args()
    files = [
        (kind, variant, make(7), make(8))
        for kind, makers in HEALTHY.items()
        for variant, make in makers.items()
        if not arguments.only or arguments.only in f"{kind}/{variant}"
    ]
    counts: Counter[str] = Counter()
    began = time.monotonic()
    failures = 0
    slowest = (0.0, "")
    with tempfile.TemporaryDirectory(prefix="jugal-fuzz-") as name:
        folder = Path(name)
        for seed in range(arguments.inputs):
            if time.monotonic() - began > arguments.seconds:
                break
            rng = np.random.default_rng(seed)
            kind, variant, data, sibling = files[seed % len(files)]
            sick = mutate(data, rng)
            started = time.monotonic()
            found = examine_source(Source.from_bytes(sick, f"seed {seed} of {kind}/{variant}"))
            taken = time.monotonic() - started
            slowest = max(slowest, (taken, f"seed {seed} of {kind}/{variant}"))
            counts[found.verdict.value] += 1
            if any(f.code.value == "file.examiner" for f in found.findings):
                failures += 1
                print(f"seed {seed} of {kind}/{variant}: the examiner failed", flush=True)
            if seed % arguments.repairs == 0 and found.worth_repairing:
                path = folder / f"{seed}.{kind}"
                path.write_bytes(sick)
                lender = folder / f"sibling.{kind}"
                lender.write_bytes(sibling)
                try:
                    counts[
                        f"repair {repair_file(examine_file(path), folder / 'out', [examine_file(lender)]).status.value}"
                    ] += 1
                except Exception as error:
                    failures += 1
                    print(f"seed {seed} of {kind}/{variant}: the repair failed: {error!r}", flush=True)
                path.unlink()
    print(
        f"{sum(v for k, v in counts.items() if not k.startswith('repair ')):,} inputs, {failures} failures, slowest {slowest[0]:.1f} s ({slowest[1]}); {dict(counts)}"
    )
    sys.exit(1 if failures else 0)


if __name__ == "__main__":
    main()
