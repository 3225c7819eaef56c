"""What is wrong in the tables of an index that other things in the file tell how to put right."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.tables import Track


@dataclass(frozen=True, slots=True)
class Fault:
    """What is wrong about ``track``, or the index where it is None, at bytes ``at`` to ``end`` and the bytes that put it right, where those are known.

    ``lost`` are the samples that are not shown for it, ``mistimed`` those not shown when they should be.
    """

    track: Track | None
    said: str
    at: int
    end: int
    patches: tuple[tuple[int, bytes], ...] = ()
    lost: NDArray[np.bool_] | None = None
    mistimed: NDArray[np.bool_] | None = None

    @property
    def told(self) -> str:
        return self.said if self.track is None else f"Track {self.track.ident}: {self.said}"


def and_also(
    gone: NDArray[np.bool_], spared: NDArray[np.float64], *more: NDArray[np.bool_] | None
) -> tuple[NDArray[np.bool_], NDArray[np.float64]]:
    """The samples that are ``gone`` and ``more`` of which nothing is spared, and what is spared of each."""
    for mask in more:
        if mask is not None:
            gone, spared = gone | mask, np.where(mask, 0.0, spared)
    return gone, spared


def by_faults(
    track: Track, faults: list[Fault], bad: NDArray[np.bool_], spared: NDArray[np.float64]
) -> tuple[NDArray[np.bool_], NDArray[np.float64]]:
    """The samples of ``track`` that are ``bad`` or not shown for a fault, and what is spared of each."""
    return and_also(bad, spared, *(fault.lost for fault in faults if fault.track is track))


def off_time(
    track: Track, faults: list[Fault], gone: NDArray[np.bool_], spared: NDArray[np.float64]
) -> tuple[NDArray[np.bool_], NDArray[np.float64]]:
    """The samples of ``track`` that are ``gone`` or not shown when they should be, and what is spared of each."""
    return and_also(gone, spared, *(fault.mistimed for fault in faults if fault.track is track))
