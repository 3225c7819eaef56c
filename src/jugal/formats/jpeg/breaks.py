"""Where a decoded picture breaks, for damage that raises no error at once.

After bytes were lost or replaced the decoder finds its footing again, but what follows stands in the wrong place or counts
from a wrong level. From the break on the MCUs of one row's length do not go on from those above them, and none before: in
its own row all right of the break, in the next row all left of it. An edge of the subject seldom has that shape.
"""

from __future__ import annotations

from collections.abc import Callable
from itertools import islice

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.decode import Picture
from jugal.formats.jpeg.edges import Edges
from jugal.formats.jpeg.likeness import AT_ONCE, borders_of, shares_by_class
from jugal.formats.jpeg.parse import Structure
from jugal.formats.jpeg.stairs import AT_SIDE, SIDE, Step, is_exact, level_steps, peaks
from jugal.kernels.stairs import stair_sums

#: Classes of distance between pixel rows by which neighbours are told from strangers, what one edge may say at most, in
#: nats, and what an edge of a chroma component counts against one of luma.
_CLASSES, _MOST_SAID, _CHROMA = 12, 1.5, 0.5
#: Pairs of strangers from which anything is learnt, rows of MCUs on both sides of a break by which it is told whether the rest
#: is strange in itself, and by how many nats strangers must differ from neighbours for that.
_LEAST_STRANGERS, _ROWS_TOLD, _LEAST_ROOM = 100, 4, 0.6
#: Nats an MCU of a row's length from which it is broken, and what share of the clearest break another must reach.
_BROKEN, _AS_CLEAR, _AS_CLEAR_AT_CLUSTER = 0.35, 0.5, 0.4
#: The share of its own by which a break is clearer than one at the side of its row.
_CLEARER_THAN_AT_SIDE = 0.08
#: Strangeness of the rest by which another picture's bytes are told, and as far apart as so much of what strangers are MCUs may be from
#: those above them and go on plainly.
STRANGE, _GOES_ON = 0.75, 0.5
_SECTOR, _CLUSTER = 512, 4096
#: Rows of MCUs of which means are taken at once.
_ROWS_AT_ONCE = 64
#: Nats that the boundary of a sector and of a cluster in its bytes give to an MCU, and how many MCUs behind it a break may be
#: noticed, since a decoder does not fail at once.
_SECTOR_BONUS, _CLUSTER_BONUS, _NOTICED = 2.5, 2.0, 6
#: Likely breaks of which it is asked whether they are believed.
_MOST_ASKED = 8
#: Rows that meet as strangers from which the subject is not the reason, wherever they begin.
_ROWS_OF_ANOTHER = 12
#: Where damage is certain and only its place is asked, the height of a step in deviations of an edge and in what rows differ by
#: among themselves.
_KNOWN_STEP = (1.8, 2.5)
#: Rows ahead of the place where damage was noticed in which a step need not be of one height.
_NEAR_ROWS = 6

#: The raw offsets of MCUs by their numbers; of one behind the last that of the end of the data.
BytesAt = Callable[[NDArray[np.int64]], NDArray[np.int64]]


def level_planes(picture: Picture, structure: Structure) -> list[NDArray[np.float32]]:
    """Per component the mean level of each MCU (rows, MCUs a row), in levels of eight bits about mid-grey."""
    planes, unit = [], 8.0 * 2.0 ** (picture.frame.precision - 8)
    for component, plane in zip(picture.frame.components, picture.dc, strict=True):
        quant = structure.quant.get(component.tq)
        step = float(quant[0]) if quant is not None else 8.0
        rows, cols = picture.frame.mcus_y, picture.frame.mcus_x
        blocks, levels = plane.reshape(rows, component.v, cols, component.h), np.empty((rows, cols), np.float32)
        for first in range(0, rows, _ROWS_AT_ONCE):
            some = slice(first, first + _ROWS_AT_ONCE)
            # Whole planes added up take a seventh of the time of means over short axes.
            total = np.zeros(levels[some].shape, np.int32)
            for y, x in np.ndindex(component.v, component.h):
                total += blocks[some, y, :, x]
            levels[some] = total * (step / unit / (component.v * component.h))
        planes.append(levels)
    return planes


def find_break(
    edges: Edges, byte_at: BytesAt, believed: Callable[[int], bool] | None = None, steps: list[Step] | None = None
) -> int | None:
    """The first MCU from which on a picture that is damaged for certain does not go on; None where none stands out.

    A break at the boundary of a cluster is the likelier one. One at which MCUs meet as strangers must be ``believed``.
    ``steps`` are the clearest in level, found anew if not given.
    """
    if steps is None:
        steps = level_steps(edges.step, edges.width, edges.first)
    found = [
        unit for unit in (_first_stranger(edges, byte_at, believed), _known_step(edges, steps)) if unit is not None
    ]
    return min(found, default=None)


def exact_step(steps: list[Step]) -> int | None:
    """The first MCU from which on all is off by the same, to the level: no subject is. None where there is none."""
    return min((s.unit for s in steps if _is_known(s) and s.clean and is_exact(s)), default=None)


def _first_stranger(edges: Edges, byte_at: BytesAt, believed: Callable[[int], bool] | None) -> int | None:
    """Where MCUs begin to meet the ones above as strangers do, not as neighbours."""
    width = edges.width
    clear = _how_clear(edges)
    if clear is None:
        return None
    cluster, sector = _hold_borders(byte_at, edges.first, clear.size)
    at_cluster = np.convolve(cluster, np.ones(_NOTICED + 3, np.int8))[2 : 2 + cluster.size] > 0
    # An edge of the subject that lies along a row of MCUs looks like a break at the picture's side, or at that of a page's margin.
    columns = (edges.first + np.arange(width)) % width
    beside = np.resize(np.minimum(columns, width - columns) < SIDE, clear.size)
    clear[(beside | _along_rows(clear, edges.first % width, width)) & ~at_cluster] *= AT_SIDE
    most, apart = float(clear.max()), max(2, width // 2)
    # So does one under the first row that was read, for of what lies above that nothing is known.
    clear[:width][~at_cluster[:width]] *= AT_SIDE
    found = peaks(clear, max(_AS_CLEAR * most, _BROKEN * width), apart)
    aligned = peaks(clear, max(_AS_CLEAR_AT_CLUSTER * most, _BROKEN * width), apart, at_cluster)
    likely = dict.fromkeys([*aligned, *found])
    peak = next((p for p in islice(likely, _MOST_ASKED) if believed is None or believed(edges.first + p)), None)
    if peak is None:
        return None
    near = slice(max(0, peak - _NOTICED), peak + 3)
    weighed = clear[near] + _SECTOR_BONUS * sector[near] + _CLUSTER_BONUS * cluster[near]
    return int(edges.first + near.start + int(np.argmax(weighed)))


def _along_rows(clear: NDArray[np.float32], column: int, width: int) -> NDArray[np.bool_]:
    """Where a break would be hardly clearer than one at the side of the picture in its row or in the next: in between nothing is told.

    The first MCU stands in ``column``.
    """
    sides, none = clear[(width - column) % width :: width], np.array([-np.inf], np.float32)
    # Of each row, beginning with the one that the first MCU stands in, or with none.
    at_side = np.maximum(np.concatenate((none, sides)), np.concatenate((sides, none)))
    out = np.empty(clear.size, np.bool_)
    for begin in range(0, clear.size, AT_ONCE):
        some = clear[begin : begin + AT_ONCE]
        rows = (np.arange(begin, begin + some.size) + (column or width)) // width
        out[begin : begin + AT_ONCE] = some - at_side[rows] < _CLEARER_THAN_AT_SIDE * some
    return out


def _how_clear(edges: Edges) -> NDArray[np.float32] | None:
    """How clearly the picture would break at each MCU, in nats; None where too few are known."""
    said = _said_by_edges(edges)
    if said.size < edges.width + 8:
        return None
    stair_sums(said, edges.width, edges.first, SIDE, said)
    return said


def _hold_borders(byte_at: BytesAt, first: int, count: int) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Whether a border of clusters, and one of sectors, lies in the MCU before each of ``count`` from number ``first`` on."""
    cluster, sector = np.zeros((2, count), np.bool_)
    for begin in range(first, first + count, AT_ONCE):
        places = byte_at(np.arange(begin - 1, min(first + count, begin + AT_ONCE)))
        for holds, size in ((cluster, _CLUSTER), (sector, _SECTOR)):
            holds[begin - first : begin - first + places.size - 1] = places[1:] // size > places[:-1] // size
    return cluster, sector


def _said_by_edges(edges: Edges) -> NDArray[np.float32]:
    """Per MCU how its upper edge speaks for strangers, in nats; most MCUs of the picture are neighbours."""
    said = np.zeros(edges.apart[0].size, np.float32)
    for c, (apart, strange) in enumerate(zip(edges.apart[:3], edges.strange[:3], strict=True)):
        if apart.size >= edges.width and strange.size >= _LEAST_STRANGERS:
            _Classes(apart, strange).add(apart, _CHROMA if c else 1.0, said)
    return said


class _Classes:
    """What a distance at an edge says: the log of how much likelier it is between strangers than between neighbours.

    Learnt from both in the picture itself: where it is so flat that they look alike, nothing is said.
    """

    def __init__(self, neighbours: NDArray[np.float32], strangers: NDArray[np.float32]) -> None:
        self._borders = borders_of((neighbours, strangers), np.linspace(0, 1, _CLASSES + 1)[1:-1])
        likely, _ = shares_by_class((neighbours, strangers), self._borders)
        # The further apart, the stranger; a class that few edges are in must not say otherwise.
        self._ratio = np.clip(np.maximum.accumulate(np.log(likely[1] / likely[0])), -_MOST_SAID, _MOST_SAID)

    def add(self, distances: NDArray[np.float32], weight: float, said: NDArray[np.floating]) -> None:
        """Adds what each of ``distances`` says, in nats times ``weight``, to ``said``."""
        for first in range(0, distances.size, AT_ONCE):
            some = slice(first, first + AT_ONCE)
            said[some] += weight * self._ratio[np.searchsorted(self._borders, distances[some])]

    def mean(self, distances: NDArray[np.float32]) -> float:
        """What ``distances`` say in the mean."""
        said = np.zeros(distances.size)
        self.add(distances, 1.0, said)
        return float(said.mean())


def is_of_another(edges: Edges, unit: int, byte_at: BytesAt) -> bool:
    """Whether what follows MCU ``unit`` of data that simply end is another picture's: its MCUs meet as strangers do, and it begins
    at a cluster, as what was copied in the wrong place does, or goes on for many rows; a few may be the subject's own."""
    if strangeness(edges, unit) < STRANGE:
        return False
    first, last = byte_at(np.array([max(0, unit - _NOTICED), unit + 1]))
    return bool(last // _CLUSTER > first // _CLUSTER) or edges.end - unit >= _ROWS_OF_ANOTHER * edges.width


def strangeness(edges: Edges, unit: int) -> float:
    """How the MCUs from ``unit`` on meet among themselves: 0 as those before it do, 1 as strangers; 0 where it cannot be told.

    What is displaced still goes on in itself. Bytes of another picture, laid out in rows of this one's length, do not.
    """
    parts = unit - edges.first
    before = Edges(edges.width, edges.first, unit, [a[:parts] for a in edges.apart], [], edges.strange)
    after = Edges(edges.width, unit, edges.end, [a[parts:] for a in edges.apart], [], [])
    return 0.0 if goes_on(after.apart[0], edges.strange[0]) else strangeness_of(after, before)


def goes_on(apart: NDArray[np.float32], strange: NDArray[np.float32]) -> bool:
    """Whether MCUs so far ``apart`` from those above plainly go on from them, where strangers are as ``strange`` as that: of a known sky
    no lawn can be told."""
    return bool(apart.size and strange.size) and float(apart.mean()) < _GOES_ON * float(strange.mean())


def strangeness_of(edges: Edges, known: Edges) -> float:
    """How all MCUs of ``edges`` meet, measured as in ``strangeness`` by those ``known`` to be the picture's."""
    if edges.apart[0].size < _ROWS_TOLD * edges.width:
        return 0.0
    values = strangers_at(edges, known)
    return 0.0 if values is None else float(values.mean())


def strangers_at(edges: Edges, known: Edges) -> NDArray[np.float64] | None:
    """How each MCU of ``edges`` meets the one above: 0 in the mean of neighbours, 1 in that of strangers, both learnt from
    ``known``. None where these are too few, or meet like strangers themselves."""
    if known.apart[0].size < _ROWS_TOLD * edges.width or not known.strange[0].size:
        return None
    found, room = np.zeros(edges.apart[0].size), 0.0
    for c, (own, apart, strange) in enumerate(zip(known.apart[:3], edges.apart[:3], known.strange[:3], strict=True)):
        classes, weight = _Classes(own, strange), _CHROMA if c else 1.0
        level = classes.mean(own)
        classes.add(apart, weight, found)
        found -= weight * level
        room += weight * (classes.mean(strange) - level)
    return found / room if room > _LEAST_ROOM else None


def _known_step(edges: Edges, steps: list[Step]) -> int | None:
    near = edges.end - _NEAR_ROWS * edges.width
    return next((s.unit for s in steps[:1] if _is_known(s) and (s.clean or s.unit >= near)), None)


def _is_known(step: Step) -> bool:
    """Whether a step is high enough where damage is certain."""
    height, unusual = _KNOWN_STEP
    return step.height > height and step.unusual > unusual


def level_offset(planes: list[NDArray[np.float32]], unit: int, good: int) -> float:
    """How far the levels from MCU ``unit`` on lie from those above, in levels: the worst component's median.

    Only MCUs that have one before number ``good`` above them can tell; infinite where these are too few.
    """
    width = planes[0].shape[1]
    end = min(unit + width, good + width, planes[0].size)
    if unit < width or end - unit < max(4, width // 8):
        return float("inf")
    offsets = []
    for plane in planes[:3]:
        flat = plane.reshape(-1)
        now = np.median(flat[unit:end] - flat[unit - width : end - width])
        # What the picture itself changes from row to row there.
        after_end = min(unit + 2 * width, flat.size)
        rest = flat[unit + width : after_end] - flat[unit : after_end - width]
        offsets.append(abs(float(now - (np.median(rest) if rest.size > 4 else 0.0))))
    return max(offsets)
