"""Frames that are whole pictures of their own: Motion JPEG decoded, the slices of ProRes followed."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.binary.source import Source
from jugal.formats.base import Subject
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.parse import walk
from jugal.formats.jpeg.select import standard_scans, usable
from jugal.kernels.prores import frame_faults

#: Frames looked at before the coding is held to be one that we read rightly.
_PROBE = 24


def check_frames(
    subject: Subject,
    offsets: NDArray[np.int64],
    sizes: NDArray[np.int64],
    good: NDArray[np.int64],
    standard: bool = False,
) -> dict[int, int]:
    """Sample → the byte where its entropy-coded data break, of the samples ``good`` that lie in the file.

    Where most of the first frames do not decode, the coding is a maker's own and nothing is said, unless it is known to be
    ``standard``.
    """
    broken: dict[int, int] = {}
    for count, number in enumerate(good.tolist(), 1):
        start = int(offsets[number])
        at = _first_fault(Source(subject.source.array[start : start + int(sizes[number])], "frame"))
        if at is not None:
            broken[number] = start + at
        if count == _PROBE and 2 * len(broken) > count and not standard:
            return {}
    return broken if standard or 2 * len(broken) <= good.size else {}


def check_slices(
    subject: Subject, offsets: NDArray[np.int64], sizes: NDArray[np.int64], good: NDArray[np.int64]
) -> dict[int, int]:
    """Sample → the byte where its slices stop making sense, as ``check_frames`` does it for ProRes."""
    faults = np.zeros(good.size, np.int64)
    frame_faults(subject.source.array, offsets[good], sizes[good], faults)
    hit = np.flatnonzero(faults >= 0)
    if 2 * hit.size > good.size:
        return {}
    return dict(zip(good[hit].tolist(), faults[hit].tolist(), strict=True))


def _first_fault(frame: Source) -> int | None:
    """Where the frame's picture breaks; None where it is whole."""
    structure = walk(frame, 0)
    if not usable(structure) or structure.frame is None or structure.missing_quant():
        return 0
    # Frames may leave the typical tables out.
    picture = decode(structure.frame, standard_scans(structure), structure.quant)
    for scan in picture.scans:
        if scan.errors:
            return min(scan.errors[0].at, frame.size)
        if not scan.complete:
            return scan.scan.entropy.end
    return None if structure.eoi is not None else frame.size
