"""``make bench-large``: what a clip of several gigabytes costs: examined, and its lost index rebuilt with a donor."""

from __future__ import annotations

import argparse
import multiprocessing
import os
import shutil
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

from bench.speed import log, repeated
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.samples import encode


def _own_memory() -> int:
    """Bytes that this process holds of its own: pages of mapped files are the system's to take back."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("RssAnon:"):
            return int(line.split()[1]) * 1024
    return 0


def _watched(work: Callable[[], str], answer: object) -> None:
    """Runs ``work`` in this process; sends its words, the seconds it took and the most memory it held."""
    most, running = [_own_memory()], threading.Event()

    def watch() -> None:
        while not running.wait(0.02):
            most[0] = max(most[0], _own_memory())

    watcher = threading.Thread(target=watch)
    watcher.start()
    started = time.perf_counter()
    words = work()
    taken = time.perf_counter() - started
    running.set()
    watcher.join()
    answer.send((words, taken, most[0]))  # type: ignore[attr-defined]


def _in_child(work: Callable[[], str]) -> tuple[str, float, int]:
    ours, theirs = multiprocessing.Pipe()
    context = multiprocessing.get_context("fork")
    child = context.Process(target=_watched, args=(work, theirs))
    child.start()
    result: tuple[str, float, int] = ours.recv()
    child.join()
    return result


def _copy(source: Path, target: Path) -> str:
    shutil.copyfile(source, target)
    with target.open("rb+") as stream:
        os.fsync(stream.fileno())
    target.unlink()
    return "copied"


def _copying(source: Path, folder: Path) -> float:
    """Seconds that copying a file takes, until it is on disk."""
    return _in_child(lambda: _copy(source, folder / "copy.mp4"))[1]


def _index_of(path: Path) -> int:
    """Where the box ``moov`` begins, found by the sizes of those before it."""
    at = 0
    with path.open("rb") as stream:
        while True:
            stream.seek(at)
            head = stream.read(16)
            size = int.from_bytes(head[:4], "big")
            if head[4:8] == b"moov":
                return at
            at += int.from_bytes(head[8:16], "big") if size == 1 else size


def _examine(path: Path) -> str:
    return f"{examine_file(path).score:.1f}"


def _rebuild(path: Path, donor: Path, folder: Path) -> str:
    outcome = repair_file(examine_file(path), folder / "out", [examine_file(donor)])
    return f"{outcome.method}: {outcome.score_after}" if outcome.output else f"{outcome.error}"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--gigabytes", type=float, default=4.0)
    arguments = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="jugal-large-") as name:
        folder = Path(name)
        short, donor = (encode.clip(6.0, (640, 360), seed=seed, bit_rate=12_000_000) for seed in (3, 4))
        lender, whole, sick = folder / "lender.mp4", folder / "whole.mp4", folder / "sick.mp4"
        lender.write_bytes(donor)
        repeated(short, max(1, round(arguments.gigabytes * 1e9 / len(short))), whole)
        index = _index_of(whole)
        print(f"{whole.stat().st_size / 1e9:.2f} GB, its index at byte {index:,}")
        shutil.copyfile(whole, sick)
        os.truncate(sick, index)
        _copying(whole, folder)  # what is read first is not in memory yet
        copies = [_copying(whole, folder)]
        lines = []
        for what, work in (
            ("examined", lambda: _examine(whole)),
            ("index rebuilt with a donor", lambda: _rebuild(sick, lender, folder)),
        ):
            words, taken, memory = _in_child(work)
            # Copying takes one and a half times as long from one minute to the next: what went before and after counts.
            copies.append(_copying(whole, folder))
            copying = (copies[-2] + copies[-1]) / 2
            size = whole.stat().st_size / 1e9
            lines.append(
                (f"A clip of {size:.1f} GB {what}", f"{taken / copying:.2f} times the copying, {memory / 1e6:.0f} MB")
            )
            print(*lines[-1], f"({words})", sep=" | ", flush=True)
    log(lines)


if __name__ == "__main__":
    main()
