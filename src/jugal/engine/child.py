"""One child process that examines and repairs, file by file: where it dies, one file is lost, not who asked."""

from __future__ import annotations

import logging
import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from jugal.binary.output import sweep_folder
from jugal.engine.donors import fitting_donors
from jugal.engine.examine import examine_file
from jugal.engine.repair import repair_file
from jugal.engine.worker import prepare, without_thumbnail
from jugal.engine.workers import DIED, Workers
from jugal.model.result import Examination, RepairOutcome, RepairStatus

log = logging.getLogger(__name__)
_BASE_SECONDS = 600.0
_SLOWEST = 2 << 20  # bytes a second: a repair is tried several times and measured each time
_MAX_DONORS = 64  # one of each sort; a repair tries fewer


class Child:
    """A context: the process is begun with the first call and ends with the context.

    Calls wait for their result and may come from any one thread. Whatever goes wrong with a file, a dead process or an
    error nobody thought of, does not raise: the result says so in a sentence, and the next call has a working process.
    """

    def __enter__(self) -> Child:
        self._workers = Workers(1, prepare, preload="jugal.engine.child")
        return self

    def __exit__(self, *_: object) -> None:
        self._workers.stop()

    def examine(self, path: str) -> Examination:
        """``examine_file`` in the child, without a thumbnail."""
        size = os.path.getsize(path) if os.path.exists(path) else 0
        result = self._call("examination", size, _examine, path)
        return Examination(path, size, error=result) if isinstance(result, str) else result

    def repair(
        self, examination: Examination, into: Path, donors: Sequence[Examination] = (), method: str | None = None,
        rounds: int = 3, in_front: bool = False,
    ) -> RepairOutcome:  # fmt: skip
        """``repair_file`` in the child."""
        lenders = fitting_donors(examination, donors)[:_MAX_DONORS]
        result = self._call("repair", examination.size, _repair, examination, into, lenders, method, rounds, in_front)
        if isinstance(result, str):
            sweep_folder(into)
            return RepairOutcome(examination.path, RepairStatus.FAILED, score_before=examination.score, error=result)
        return result

    def _call(self, what: str, size: int, work: Callable[..., Any], *given: object) -> Any:
        """What ``work`` returns, or a sentence on why there is nothing."""
        try:
            return self._workers.submit(work, given, _BASE_SECONDS + size / _SLOWEST).result()
        except TimeoutError:
            return f"The {what} took too long and was given up."
        except MemoryError:
            return f"The {what} needed more memory than it is allowed."
        except DIED:
            return f"The {what}'s process died on this file."
        except Exception as error:  # one file's result, not the batch it is in
            log.exception("the %s failed", what)
            return f"The {what} failed on this file: {str(error) or type(error).__name__}."


def _examine(path: str) -> Examination:
    return without_thumbnail(examine_file(path))


def _repair(
    examination: Examination, into: Path, donors: Sequence[Examination], method: str | None, rounds: int, in_front: bool
) -> RepairOutcome:
    return repair_file(examination, into, donors, method, rounds=rounds, in_front=in_front)
