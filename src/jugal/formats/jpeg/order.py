"""Clusters in the wrong order, and ones that came in between: a file whose chain of clusters was put together wrongly.

All of the picture is there, so that its file comes back to the bit. Whether an order is right the data tell by themselves: with
it every scan decodes without an error, has its exact number of units and ends with its data, and nothing breaks any more.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import accumulate, islice

import numpy as np
from numpy.typing import NDArray

from jugal.binary.source import Source
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.breaks import level_planes
from jugal.formats.jpeg.damage import Damage, all_sound, judge
from jugal.formats.jpeg.decode import Picture, decode
from jugal.formats.jpeg.parse import Structure
from jugal.formats.jpeg.select import decodable, one_sequential_scan, select
from jugal.model.span import ByteSpan

#: Sizes of clusters, the likeliest first; smaller ones only in files of fewer bytes than so many.
_SIZES, _SMALL_SIZES, _SMALL = (4096, 8192, 16384, 32768), (512, 1024, 2048), 40_000
#: Places where a picture breaks that are looked at, and bytes behind one and, beside a cluster, ahead of it at which the border may lie;
#: and clusters more by which a break may be seen late.
_MOST_STARTS, _BEHIND, _AHEAD, _LATE = 3, 1024, 64, 2
#: How many clusters ahead or behind one may have its right place, bytes that are read in all to find it, and those of a file at most.
_APART, _MOST_READ, _MOST_BYTES = 4, 1 << 27, 1 << 24
#: To which share those between the seams must lie nearer to the ones above once clusters are in order, and by how many rows of MCUs as
#: they usually lie all together: three seams go, each a row long.
_NEARER, _ROWS_NEARER = 0.92, 2.5
#: Levels beyond which no difference counts.
_MOST_LEVELS = 64.0


@dataclass(frozen=True, slots=True)
class Order:
    """The spans of a file in the order that is right, ``what`` was done in a sentence, and the bytes concerned."""

    spans: tuple[ByteSpan, ...]
    what: str
    concerned: ByteSpan


def find_order(subject: Subject, structure: Structure, picture: Picture, damages: Sequence[Damage]) -> Order | None:
    """The order of clusters in which nothing is wrong with a damaged picture; None where there is none."""
    frame = structure.frame
    if subject.size > _MOST_BYTES or not decodable(structure) or frame is None or frame.marker == spec.LOSSLESS:
        return None
    starts = sorted({damage.start for damage in damages})[:_MOST_STARTS]
    best, most = None, 0.0
    for order in islice(_orders(subject.size, starts), max(1, _MOST_READ // subject.size)):
        if subject.deadline.passed:
            break
        gained = _gained(subject, structure, picture, order)
        if gained > most:
            best, most = order, gained
        if np.isinf(most):
            break
    return best


def reorder(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The file with its clusters in the right order, and without those that are not its own."""
    structure = select(subject.source).structure
    if not decodable(structure) or structure.frame is None:
        raise RepairImpossible("No picture that can be decoded was found in the file.")
    picture = decode(structure.frame, structure.scans, structure.quant)
    order = find_order(subject, structure, picture, judge(subject, structure, picture).damages)
    if order is None:
        raise RepairImpossible("No other order of clusters makes the picture whole.")
    return RepairDraft(order.spans, (order.what,))


def _orders(size: int, starts: Sequence[int]) -> Iterator[Order]:
    """Those that may explain why a picture breaks at one of the bytes ``starts``, the likeliest first."""
    sizes = (*_SIZES, *(_SMALL_SIZES if size < _SMALL else ()))
    near, late = (
        [
            (c, at)
            for start in starts
            for c in sizes
            for at in range((start + _BEHIND) // c * c, start - (1 + more) * c - _AHEAD, -c)
            if 0 < at <= size - c
        ]
        for more in (0, _LATE)
    )
    near, late = list(dict.fromkeys(near)), list(dict.fromkeys(near + late))
    for c, at in late:
        what = f"Took out the {c:,} bytes at {at:,}, which are none of the picture's."
        yield _order(size, what, at, at + c)
        other = at + c
        if other + c <= size:
            what = f"Exchanged the {c:,} bytes at {at:,} and those at {other:,}."
            yield _order(size, what, at, other + c, (other, other + c), (at, other))
    for apart in range(2, _APART + 1):
        for c, at in near:
            other = at + apart * c
            if other + c > size or c < _SIZES[0]:
                continue
            one, another = (at, at + c), (other, other + c)
            words = f"the {c:,} bytes at {other:,}"
            yield _order(size, f"Put {words} at {at:,}.", at, other + c, another, (at, other))
            yield _order(
                size, f"Put the {c:,} bytes at {at:,} behind {words}.", at, other + c, (at + c, other + c), one
            )
            yield _order(size, f"Exchanged {words} and those at {at:,}.", at, other + c, another, (at + c, other), one)


def _order(size: int, what: str, first: int, last: int, *between: tuple[int, int]) -> Order:
    spans = (ByteSpan(0, first), *(ByteSpan(*one) for one in between), ByteSpan(last, size))
    return Order(tuple(s for s in spans if s.length), what, ByteSpan(first, last))


def _gained(subject: Subject, structure: Structure, picture: Picture, order: Order) -> float:
    """How much nearer MCUs lie to those above them if the file is whole with its bytes in that order, infinite where nothing else is
    as good; 0 if it is not."""
    array = subject.source.array
    data = np.concatenate([array[s.start : s.end] for s in order.spans])
    tried = Subject(Source(data, subject.source.name), subject.limits)
    found = select(tried.source)
    other = found.structure
    frame, was = other.frame, structure.frame
    if not found.opens or other.eoi is None or frame is None or was is None or not decodable(other):
        return 0.0
    if (frame.width, frame.height) != (was.width, was.height) or other.bad_segments or other.gaps:
        return 0.0
    if any(_refines(other, seam) for seam in accumulate(s.length for s in order.spans[:-1])):
        return 0.0
    whole = decode(frame, other.scans, other.quant)
    if not all(all_sound(scan) for scan in whole.scans) or judge(tried, other, whole).damages:
        return 0.0
    if sum(s.length for s in order.spans) < subject.size or not one_sequential_scan(other):
        return float("inf")
    return _nearer(order, structure, picture, other, whole)


def _refines(structure: Structure, at: int) -> bool:
    """Whether byte ``at`` lies in a scan that refines AC values: most of its bits may be anything, so that it tells of no seam."""
    return any(s.ss and s.ah and s.entropy.start <= at < s.entropy.end for s in structure.scans)


def _nearer(order: Order, structure: Structure, picture: Picture, other: Structure, whole: Picture) -> float:
    """By how many levels in all MCUs lie nearer to those above than they did; 0 where those from the first byte that moved to a row
    behind the last do not plainly."""
    units = np.searchsorted(whole.scans[0].raw(whole.scans[0].unit_pos), (order.concerned.start, order.concerned.end))
    width = whole.frame.mcus_x
    some = slice(int(units[0]), int(units[1]) + width)
    before, after = _to_above(picture, structure), _to_above(whole, other)
    plainly = float(after[some].sum()) < _NEARER * float(before[some].sum())
    gained = float((before - after).sum())
    return gained if plainly and gained > _ROWS_NEARER * width * float(after.mean()) else 0.0


def _to_above(picture: Picture, structure: Structure) -> NDArray[np.float64]:
    """Per MCU by how many levels it differs from the one above, all components added up."""
    out = np.zeros(picture.frame.mcus_x * picture.frame.mcus_y)
    for plane in level_planes(picture, structure)[:3]:
        out[picture.frame.mcus_x :] += np.minimum(np.abs(np.diff(plane, axis=0)), _MOST_LEVELS).ravel()
    return out
