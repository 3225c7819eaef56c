"""``python -m bench.alone examined|repaired|decoded FILE``: what one file costs a worker that does nothing else.

Seconds and the most megabytes it had, interpreter and all packages included, as two numbers.
"""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path


def _most_memory() -> float:
    """Megabytes; of this process alone, while ``ru_maxrss`` begins with what the one that started it had."""
    status = Path("/proc/self/status").read_text(encoding="ascii")
    return int(next(line for line in status.splitlines() if line.startswith("VmHWM")).split()[1]) / 1024


def _examined(path: Path) -> float:
    from jugal.engine.worker import examine_group, prepare

    prepare()
    return examine_group([str(path)], True)[0][0].seconds


def _repaired(path: Path) -> float:
    from jugal.engine.examine import examine_file
    from jugal.engine.repair import repair_file
    from jugal.engine.worker import prepare

    prepare()
    examined = examine_file(path)
    started = time.perf_counter()
    outcome = repair_file(examined, path.parent / "repaired")
    assert outcome.output, outcome.error
    return time.perf_counter() - started


def _decoded(path: Path) -> float:
    from PIL import Image

    Image.MAX_IMAGE_PIXELS = None
    started = time.perf_counter()
    with Image.open(path) as picture:
        picture.load()
    return time.perf_counter() - started


_WORK = {"examined": _examined, "repaired": _repaired, "decoded": _decoded}


def alone(what: str, path: Path) -> tuple[float, float]:
    """Seconds and megabytes of what is done to ``path``, one of ``examined``, ``repaired`` (examined before) and ``decoded``."""
    command = [sys.executable, "-m", "bench.alone", what, str(path)]
    seconds, megabytes = subprocess.run(command, capture_output=True, text=True, check=True).stdout.split()[-2:]
    return float(seconds), float(megabytes)


if __name__ == "__main__":
    print(_WORK[sys.argv[1]](Path(sys.argv[2])), _most_memory())
