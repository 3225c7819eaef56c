"""Clusters of a picture's own or like data in the wrong place that decode without any error.

What stands in them belongs elsewhere: from the cluster's border on a row's length of MCUs meets those above as strangers do,
and once more from where the right data go on. A subject's edges do so along rows, not from a border to the same column of
the next row, and not twice a few clusters apart.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.breaks import strangers_at
from jugal.formats.jpeg.decode import Picture
from jugal.formats.jpeg.edges import Edges, read_edges
from jugal.formats.jpeg.parse import Structure
from jugal.formats.jpeg.runs import RunReader
from jugal.formats.jpeg.stairs import MAD_TO_DEVIATION, is_flat_row

_CLUSTER = 4096
#: A decoder may need some MCUs to fall into step behind a border.
_LATE = range(-1, 4)
#: By how many usual distances between rows a row's length from a border on must exceed those before and behind it.
_SUSPECT = 0.5
#: How much stranger, times how strange in its less strange part: none of 160 healthy codings has two such borders.
_STRANGE = 0.3
#: How strange the rows before and behind may be: what was put in goes on in itself, and lines and panels of a drawing do not.
_GOES_ON = 0.6
_MOST_APART, _MOST_LOOKED_AT = 8, 3
_ROWS_KNOWN, _LEAST_ROWS_KNOWN = 8, 6
_SAMPLES = 8192
_LEAST_MARGIN = 3
#: The part of a row that must be known before a row of strangers.
_FEW_BEFORE = 3
#: Levels by which rows must differ to count from another level, by brightness and by tint.
_LEAST_STEP, _LEAST_TINT = 12.0, 6.0
#: Clusters that a row may take up.
_MOST_A_ROW = 1.4


def find_swaps(picture: Picture, structure: Structure, planes: list[NDArray[np.float32]]) -> list[tuple[int, int]]:
    """(MCU, byte) of each border at which wrong data begin or end; empty where fewer than two stand out.

    ``planes`` are the MCUs' mean levels. Asked of one interleaved sequential scan without restart intervals.
    """
    decoded = picture.scans[0]
    width = planes[0].shape[1]
    if width < 8 or planes[0].shape[0] < _LEAST_ROWS_KNOWN + 4:
        return []
    if decoded.scan.entropy.length * width > _CLUSTER * decoded.units * _MOST_A_ROW:
        return []  # a cluster holds a part of a row only, and other parts of the row go on beside it
    raw = decoded.raw(decoded.unit_pos)
    bytes_at = np.arange(int(raw[0]) // _CLUSTER + 1, int(raw[-1]) // _CLUSTER + 1) * _CLUSTER
    borders = np.searchsorted(raw, bytes_at)
    rises = _rises(_distances(planes), borders, width)
    reader = RunReader(structure)
    known: Edges | None = None
    for first in np.argsort(-rises, kind="stable")[:_MOST_LOOKED_AT].tolist():
        if rises[first] < _SUSPECT:
            break
        if is_flat_row(planes, int(borders[first])):
            continue  # a gap that was filled where a cluster was lost
        known = known or _known(reader, picture, int(borders[first]), width)
        if known is None or not _is_border(reader, picture, int(borders[first]), known):
            continue
        # Wrong data end as well, or begin.
        near = [k for k in range(max(0, first - _MOST_APART), min(borders.size, first + _MOST_APART + 1)) if k != first]
        likely = sorted(near, key=lambda k: -rises[k])[:_MOST_LOOKED_AT]
        found = [first, *(k for k in likely if rises[k] > 0 and _is_border(reader, picture, int(borders[k]), known))]
        if len(found) > 1:
            return [(int(borders[k]), int(bytes_at[k])) for k in sorted(found)]
    return []


def levels_part(planes: list[NDArray[np.float32]], first: int, last: int) -> bool:
    """Whether the rows behind MCU ``last`` lie at another level than those ahead of ``first``, by any component, beyond what rows so far
    apart do."""
    least = (_LEAST_STEP, _LEAST_TINT, _LEAST_TINT)
    return any(_level_parts(p.astype(np.float64), first, last, step) for p, step in zip(planes, least, strict=False))


def _level_parts(plane: NDArray[np.float64], first: int, last: int, least: float) -> bool:
    above, below = first // plane.shape[1] - 1, last // plane.shape[1] + 2
    apart = below - above
    if above < apart + 1 or below >= plane.shape[0]:
        return True
    usual = np.median(plane[apart : above + 1] - plane[: above + 1 - apart], axis=1)
    scatter = MAD_TO_DEVIATION * float(np.median(np.abs(usual - np.median(usual))))
    change = float(np.median(plane[below] - plane[above]) - np.median(usual))
    return abs(change) > max(least, 3.0 * scatter)


def _distances(planes: list[NDArray[np.float32]]) -> NDArray[np.float64]:
    """Per MCU how far its levels lie from those above, in usual distances, summed over the components."""
    width = planes[0].shape[1]
    out = np.zeros(planes[0].size)
    for plane in planes[:3]:
        flat = plane.reshape(-1).astype(np.float64)
        away = np.abs(flat[width:] - flat[:-width])
        most = np.percentile(away[:: max(1, away.size // _SAMPLES)], 95)
        out[width:] += np.minimum(away, most) / (away.mean() + 0.3)
    return out


def _rises(values: NDArray[np.float64], borders: NDArray[np.int64], width: int) -> NDArray[np.float64]:
    """By how much the mean over a row's length from each border on exceeds those before and behind it, at the best place."""
    sums = np.concatenate(([0.0], np.cumsum(values)))
    best = np.full(borders.size, -np.inf)
    for late in _LATE:
        at = borders + late
        column = at % width
        usable = (at >= 2 * width) & (at + 2 * width <= values.size) & _is_inside(column, width)
        spot = at[usable]
        here, ahead, behind = (
            (sums[spot + first + width] - sums[spot + first]) / width for first in (0, -width, width)
        )
        best[usable] = np.maximum(best[usable], here - np.maximum(ahead, behind))
    return best


def _is_inside(column: NDArray[np.int64], width: int) -> NDArray[np.bool_]:
    """Not so near to the picture's side that what begins there may be a part of the subject."""
    return np.minimum(column, width - column) >= max(_LEAST_MARGIN, width // 10)


def _known(reader: RunReader, picture: Picture, border: int, width: int) -> Edges | None:
    """The edges of the rows before the first border, with strangers to compare."""
    first = max(0, border // width - _ROWS_KNOWN) * width
    if border - first < _LEAST_ROWS_KNOWN * width:
        return None
    decoded = picture.scans[0]
    return read_edges(reader, decoded.scan.entropy, int(decoded.unit_pos[first]), width, first, border - width)


def _is_border(reader: RunReader, picture: Picture, border: int, known: Edges) -> bool:
    """Whether MCUs begin to meet the ones above as strangers at a border, for a row's length on both sides of a row's end."""
    width, decoded = known.width, picture.scans[0]
    first, last = border - 2 * width - 1, min(decoded.units, border + 2 * width + max(_LATE) + 1)
    edges = read_edges(reader, decoded.scan.entropy, int(decoded.unit_pos[first]), width, first, last, strangers=False)
    values = strangers_at(edges, known)
    if values is None:
        return False
    for at in (border + late for late in _LATE):
        column = at % width
        if _is_inside(np.array([column]), width)[0] and is_row_of_strangers(values, at - edges.first, width, column):
            return True
    return False


def is_row_of_strangers(values: NDArray[np.float64], spot: int, width: int, column: int) -> bool:
    """Whether a row's length of MCUs from ``spot`` on meets those above as strangers, before a row's end at ``column`` and behind
    it, and the rows' lengths before and behind do not. ``values`` are those of ``strangers_at``."""
    if spot < width // _FEW_BEFORE or spot + 2 * width > values.size:
        return False
    row = values[spot : spot + width]
    beside = max(
        float(values[max(0, spot - width) : spot].mean()), float(values[spot + width : spot + 2 * width].mean())
    )
    rise = float(row.mean()) - beside
    parts = float(row[: width - column].mean()), float(row[width - column :].mean())
    return beside < _GOES_ON and rise > 0 and min(parts) > 0 and rise * min(parts) > _STRANGE
