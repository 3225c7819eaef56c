"""``make fuzz``: seeded mutations of healthy files through detection, examiners and repairs. Prints what failed, with its seed."""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from collections import Counter
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from pathlib import Path

import numpy as np

from bench.healthy import DEEP, HEALTHY, small
from jugal.binary.source import Source
from jugal.engine.examine import examine_file, examine_source
from jugal.engine.repair import repair_file

_BATCH, _TOLD_EVERY = 100, 10_000


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


def files_of(only: list[str]) -> list[tuple[str, str, bytes, bytes]]:
    """Format, variant, a healthy file and a sibling of it, for all whose name holds one of ``only``, for all if none is named.

    Small ones: what makes an examiner stumble needs no large picture, and three times as many inputs are tried in the same time.
    """
    makers = {**HEALTHY, "jpeg": HEALTHY["jpeg"] | DEEP}
    return [
        (kind, variant, small(make)(7), small(make)(8))
        for kind, variants in makers.items()
        for variant, make in variants.items()
        if not only or any(part in f"{kind}/{variant}" for part in only)
    ]


_files: list[tuple[str, str, bytes, bytes]] = []


def _begin(files: list[tuple[str, str, bytes, bytes]]) -> None:
    _files.extend(files)


def batch(seeds: range, repairs: int) -> tuple[Counter[str], list[str], tuple[float, str]]:
    """What became of the inputs with these seeds, what failed, and which took longest."""
    counts: Counter[str] = Counter()
    failed: list[str] = []
    slowest = (0.0, "")
    with tempfile.TemporaryDirectory(prefix="jugal-fuzz-") as name:
        folder = Path(name)
        for seed in seeds:
            kind, variant, data, sibling = _files[seed % len(_files)]
            label = f"seed {seed} of {kind}/{variant}"
            sick = mutate(data, np.random.default_rng(seed))
            started = time.monotonic()
            found = examine_source(Source.from_bytes(sick, label))
            slowest = max(slowest, (time.monotonic() - started, label))
            counts[found.verdict.value] += 1
            if any(f.code.value == "file.examiner" for f in found.findings):
                failed.append(f"{label}: the examiner failed")
            if seed % repairs == 0 and found.worth_repairing:
                path, lender = folder / f"{seed}.{kind}", folder / f"sibling.{kind}"
                path.write_bytes(sick)
                lender.write_bytes(sibling)
                try:
                    outcome = repair_file(examine_file(path), folder / "out", [examine_file(lender)])
                    counts[f"repair {outcome.status.value}"] += 1
                except Exception as error:
                    failed.append(f"{label}: the repair failed: {error!r}")
                path.unlink()
    return counts, failed, slowest


def _inputs(counts: Counter[str]) -> int:
    return sum(number for name, number in counts.items() if not name.startswith("repair "))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--inputs", type=int, default=100_000)
    parser.add_argument("--first", type=int, default=0, help="the seed to begin with")
    parser.add_argument("--seconds", type=float, default=3600, help="no batch is begun after these")
    parser.add_argument("--repairs", type=int, default=20, help="of this many inputs one is repaired too")
    parser.add_argument("--only", nargs="*", default=[], help="formats or variants whose name holds one of these")
    parser.add_argument("--workers", type=int, default=2)
    arguments = parser.parse_args()
    counts: Counter[str] = Counter()
    failures = told = 0
    slowest = (0.0, "")
    until = time.monotonic() + arguments.seconds
    starts = iter(range(arguments.first, arguments.first + arguments.inputs, _BATCH))
    last = arguments.first + arguments.inputs
    with ProcessPoolExecutor(arguments.workers, initializer=_begin, initargs=(files_of(arguments.only),)) as pool:
        waiting: set[Future[tuple[Counter[str], list[str], tuple[float, str]]]] = set()
        while True:
            while len(waiting) < 2 * arguments.workers and time.monotonic() < until:
                first = next(starts, None)
                if first is None:
                    break
                waiting.add(pool.submit(batch, range(first, min(last, first + _BATCH)), arguments.repairs))
            if not waiting:
                break
            done, waiting = wait(waiting, return_when=FIRST_COMPLETED)
            for future in done:
                some, failed, slow = future.result()
                counts, slowest, failures = counts + some, max(slowest, slow), failures + len(failed)
                for line in failed:
                    print(line, flush=True)
            if _inputs(counts) >= told + _TOLD_EVERY:
                told = _inputs(counts) // _TOLD_EVERY * _TOLD_EVERY
                print(f"{told:,} inputs, {failures} failures", flush=True)
    print(f"{_inputs(counts):,} inputs, {failures} failures, slowest {slowest[0]:.1f} s ({slowest[1]}); {dict(counts)}")
    sys.exit(1 if failures else 0)


if __name__ == "__main__":
    main()
