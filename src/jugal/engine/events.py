"""What a run tells of itself, as it goes."""

from __future__ import annotations

from dataclasses import dataclass

from jugal.engine.walk import Entry
from jugal.model.result import Examination
from jugal.model.small import Small


@dataclass(frozen=True, slots=True)
class Listed:
    """The files are known: how many, and their bytes."""

    files: int
    bytes: int


@dataclass(frozen=True, slots=True)
class Examined:
    """One file is done. ``small`` is its small picture, None where there is none."""

    entry: Entry
    examination: Examination
    small: Small | None
    files_done: int
    bytes_done: int


@dataclass(frozen=True, slots=True)
class Finished:
    """The run is over. ``cancelled`` where it was stopped before its end."""

    files_done: int
    cancelled: bool


Event = Listed | Examined | Finished
