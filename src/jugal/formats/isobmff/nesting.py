"""Names and sizes of the boxes within an index, by what lies in a container and where its next box begins.

Which boxes a container of ISO/IEC 14496-12 (table 1) holds is known, and that they fill it; so a name or a size that was
overwritten is the one that is missing.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

import numpy as np

from jugal.binary.source import Source
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.faults import Fault
from jugal.formats.isobmff.runs import head_length, run_length

#: The boxes in each container: those that must be there first, then those that may.
_WITHIN = {
    b"moov": (b"mvhd", b"trak udta mvex meta iods free skip"),
    b"trak": (b"tkhd mdia", b"edts tref udta meta tapt load free skip"),
    b"edts": (b"elst", b""),
    b"mdia": (b"mdhd hdlr minf", b"udta elng free"),
    b"minf": (b"dinf stbl", b"vmhd smhd nmhd gmhd hmhd sthd hdlr free"),
    b"dinf": (b"dref", b""),
    b"stbl": (b"stsd stts stsc stsz stco", b"stz2 co64 ctts cslg stss stps stsh padb stdp sgpd sbgp sdtp subs saiz saio free"),
    b"mvex": (b"trex", b"mehd leva"),
    b"wave": (b"frma", b"esds alac mp4a enda chan samr"),
    b"moof": (b"mfhd traf", b"uuid meta pssh free skip"),
    b"traf": (b"tfhd", b"tfdt trun sbgp sgpd subs saiz saio senc sdtp uuid meta free skip"),
}  # fmt: skip
#: Boxes whose version follows from their size: bytes of the box, version (8.2.2, 8.3.2, 8.4.2, 8.8.3, 8.8.5, 8.8.12).
_VERSIONS = {
    b"mvhd": {108: 0, 120: 1},
    b"tkhd": {92: 0, 104: 1},
    b"mdhd": {32: 0, 44: 1},
    b"trex": {32: 0},
    b"mfhd": {16: 0},
    b"tfdt": {16: 0, 20: 1},
}
#: Boxes that tell by their size whether something else goes by their name.
_TELLING = frozenset(
    {*_WITHIN, *_VERSIONS, *b"stts ctts stsc stsz stsd dref elst tfhd trun avcC hvcC esds alac frma pasp btrt".split()}
)
#: Bytes of boxes in a sample entry that always have as many (8.5.2, 12.1.4; ALAC's configuration).
_FIXED = {b"frma": 12, b"pasp": 16, b"btrt": 20, b"alac": 36}
#: Bytes of an entry of tables that say how many they have (8.6, 8.7).
_ENTRIES = {b"stts": 8, b"ctts": 8, b"stsc": 12, b"stco": 4, b"co64": 8, b"stss": 4}
#: Boxes that lie in one kind of container only.
_AT_HOME = frozenset(b"stsd stts stsc stsz stco co64 ctts stss tkhd mdhd elst dref trex mfhd tfhd trun".split())
#: Boxes that do not tell their size.
_OF_ANY_SIZE = frozenset(b"hdlr avcC hvcC esds colr av1C vpcC".split())
#: In place of one that must be there.
_INSTEAD = {b"stsz": b"stz2", b"stco": b"co64"}
_MOST = 4096


def wrong_boxes(source: Source, root: Box) -> list[Fault]:
    """The names and sizes in ``root``, an index or that of a fragment, for which boxes behind them are not read, or are read
    as something else."""
    found: list[Fault] = []
    if root.cut:
        return found  # what is not there says nothing
    waiting = [(root.kind, root.body, root.end)]
    while waiting and len(found) < _MOST:
        kind, at, end = waiting.pop()
        boxes, faults = follow_boxes(source, *within(kind), at, end)
        found += faults + [fault for box in boxes for fault in _version(source, *box)]
        waiting += [(name, body, stop) for name, body, stop in boxes if name in _WITHIN]
    return found


def within(kind: bytes) -> tuple[list[bytes], list[bytes]]:
    """The boxes that a container of ``kind`` must hold, and those that it may."""
    must, may = _WITHIN[kind]
    return must.split(), may.split()


def follow_boxes(
    source: Source, must: list[bytes], may: list[bytes], at: int, end: int
) -> tuple[list[tuple[bytes, int, int]], list[Fault]]:
    """The boxes from ``at`` that fill what holds those that ``must`` be there and those that ``may``, as name, body and end,
    and what was wrong about them."""
    known = {*must, *may}
    boxes: list[tuple[bytes, int, int]] = []
    faults: list[Fault] = []
    #: Where a box of no name lies, and whether its size is none either.
    nameless: list[tuple[int, int, bool]] = []
    while at + 8 <= end and len(boxes) + len(nameless) < _MOST:
        size, name = source.uint(at, 4) or 0, source.read(at + 4, 4)
        stop = at + size
        fits = size >= 8 and (stop == end or (stop + 8 <= end and _goes_on(source, stop, end, known)))
        if not fits and (size == 1 or not any(source.read(at, end - at))):
            break  # a box of 64 bits, or room that was left
        if not fits and name not in known:
            stop = next(_next(source, at + 8, end, known), end)
            nameless.append((at, stop, True))
        elif not fits and stop < end and _believed(source, name, at, stop, end):
            boxes.append((name, at + 8, stop))  # what lies behind it is broken
        elif not fits:
            stops = [*_next(source, at + 8, end, known), end]
            # A container may hold boxes of a name that lies beside it, too: as many as can be are its own.
            stop = next((n for n in (stops[::-1] if name in _WITHIN else stops) if _holds(source, name, at, n)), 0)
            if not stop:
                break
            said = f"The box at {at:,} states {size:,} bytes where {stop - at:,} lie before the next."
            faults.append(_fault(said, at, (stop - at).to_bytes(4, "big")))
            boxes.append((name, at + 8, stop))
        elif name in known:
            boxes.append((name, at + 8, stop))
        elif not is_plain(name) or any(_holds(source, near, at, stop) for near in _mistaken(name, known)):
            nameless.append((at, stop, False))
        at = stop
    lacking = [name for name in must if not {name, _INSTEAD.get(name, name)} & {box[0] for box in boxes}]
    if len(nameless) != 1:
        return boxes, faults
    at, stop, sizeless = nameless[0]
    if b"ctts" in may and not lacking and _offsets_for_all(source, boxes, at, stop):
        lacking = [b"ctts"]
    if not lacking:
        lacking = [near for near in _mistaken(source.read(at + 4, 4), known) if _holds(source, near, at, stop)]
    if len(lacking) == 1 and _holds(source, lacking[0], at, stop):
        boxes.append((lacking[0], at + 8, stop))
        said = f"The name of the box at {at:,} is none that is known; it reads as '{lacking[0].decode()}'."
        length = (stop - at).to_bytes(4, "big") if sizeless else source.read(at, 4)
        faults.append(_fault(said, at, length + lacking[0]))
    return boxes, faults


def _believed(source: Source, name: bytes, at: int, stop: int, end: int) -> bool:
    """A box called ``name`` may end at ``stop`` though no box begins there: it tells by its size, or nothing is left behind."""
    if name in _OF_ANY_SIZE and stop >= at + 8:
        return not any(source.read(stop, end - stop))
    return _holds(source, name, at, stop)


def _holds(source: Source, name: bytes, at: int, stop: int) -> bool:
    """What lies from ``at`` to ``stop`` reads as a box called ``name``, as far as such a box tells its size."""
    size, body = stop - at, at + 8
    if name in _WITHIN:
        known = {kind for names in _WITHIN[name] for kind in names.split()}
        while body + 8 <= stop and source.read(body + 4, 4) in known:
            body += max(8, source.uint(body, 4) or 0)
        return body == stop
    if name in _ENTRIES:
        return size == 16 + _ENTRIES[name] * (source.uint(body + 4, 4) or 0)
    if name == b"stsz":
        return size == 20 + (0 if source.uint(body + 4, 4) else 4 * (source.uint(body + 8, 4) or 0))
    if name in (b"stsd", b"dref"):
        body += 8
        while body + 8 <= stop and 8 <= (source.uint(body, 4) or 0) <= stop - body:
            body += source.uint(body, 4) or 0
        return body in (stop, stop - 4)  # QuickTime ends such a list with a zero
    if name == b"tfhd":
        return size == 8 + head_length(source.uint(body + 1, 3) or 0)
    if name == b"trun":
        return size == 8 + run_length(source.uint(body + 1, 3) or 0, source.uint(body + 4, 4) or 0)
    if name == b"elst":
        return size == 16 + (20 if source.uint(body, 1) == 1 else 12) * (source.uint(body + 4, 4) or 0)
    if name in (b"avcC", b"hvcC"):
        return source.uint(body, 1) == 1 and (name == b"hvcC" or (source.uint(body + 4, 1) or 0) >= 0xFC)
    if name == b"esds":
        return source.read(body, 5) == b"\0\0\0\0\3"
    if name in _FIXED:
        return size == _FIXED[name]
    return size in _VERSIONS[name] if name in _VERSIONS else True


def _mistaken(name: bytes, known: set[bytes]) -> list[bytes]:
    """The ``known`` names of boxes that tell by their size, of which one character was changed to make ``name``."""
    return [k for k in sorted(known & _TELLING) if sum(a != b for a, b in zip(name, k, strict=False)) == 1]


def _offsets_for_all(source: Source, boxes: list[tuple[bytes, int, int]], at: int, stop: int) -> bool:
    """The box from ``at`` reads as composition offsets for as many samples as the size table lists (8.6.1.3)."""
    sizes = next((body for name, body, _ in boxes if name == b"stsz"), None)
    entries = source.uint(at + 12, 4) or 0
    if sizes is None or any(name == b"ctts" for name, _, _ in boxes) or not entries or at + 16 + 8 * entries != stop:
        return False
    runs = np.frombuffer(source.read(at + 16, 8 * entries), ">u4")[::2]
    return int(runs.astype(np.int64).sum()) == source.uint(sizes + 8, 4)


def _version(source: Source, name: bytes, body: int, stop: int) -> list[Fault]:
    """A version by which the box would have another size."""
    right = _VERSIONS.get(name, {}).get(stop - body + 8)
    there = source.read(body, 4)
    if right is None or there[:1] == bytes([right]):
        return []
    said = f"The version of '{name.decode()}' is {there[0]}, of a box of its size {right}."
    return [_fault(said, body, bytes([right]) + there[1:])]


def _fault(said: str, at: int, right: bytes) -> Fault:
    return Fault(None, said, at, at + len(right), ((at, right),))


def is_plain(name: bytes) -> bool:
    """Four letters, digits or what else names are made of."""
    return re.fullmatch(rb"[\xa9A-Za-z0-9 _.-]{4}", name) is not None


def _goes_on(source: Source, at: int, end: int, known: set[bytes]) -> bool:
    """Boxes lie one behind the other from ``at`` to one of ``known`` or the end, the first of which may lack its name."""
    for step in range(_MOST):
        name, size = source.read(at + 4, 4), source.uint(at, 4) or 0
        if name in known:
            return True
        if name in _AT_HOME:
            return False  # the boxes of another container: its own header was stepped over
        if size < 8 or (step and not is_plain(name)):
            return False
        at += size
        if at + 8 > end:
            return at == end
    return False


def _next(source: Source, start: int, end: int, known: set[bytes]) -> Iterator[int]:
    """Where boxes of ``known`` begin whose size fits into the container."""
    raw = source.read(start, end - start)
    for match in re.finditer(b"|".join(map(re.escape, sorted(known))), raw):
        at = start + match.start() - 4
        if at >= start and 8 <= (source.uint(at, 4) or 0) <= end - at:
            yield at
