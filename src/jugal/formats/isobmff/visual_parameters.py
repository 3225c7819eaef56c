"""The video object layer of MPEG-4 Visual found from its planes, where a stream carries none (ISO/IEC 14496-2 6.2.3).

How many bits a time increment has shows in the planes' headers; a plane's macroblocks end in stuffing for one number of
them only; and where increments begin anew they have counted a second.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from itertools import islice, pairwise

import numpy as np

from jugal.formats.isobmff.bits import BitWriter
from jugal.formats.isobmff.parameters import USUAL_SIZES
from jugal.formats.isobmff.visual import (
    PICTURE,
    PLANE,
    Follower,
    Layer,
    Plane,
    find_plane,
    read_picture_header,
    read_plane_header,
)
from jugal.kernels.macroblocks import ENDS_EARLY, WHOLE_SLICE
from jugal.kernels.visual import SLACK, B, I

#: Planes whose headers are compared, and those that are followed.
_HEADS, _FOLLOWED = 200, 12
_LEAST, _MOST_STARTS = 3, 100_000
#: Share of planes that must agree: a damaged stream has others, and start codes may stand where there is no plane.
_AGREE = 0.85
_INCREMENT_BITS = range(1, 17)
_LONGEST = 1 << 20
_SIMPLE, _ADVANCED = 0x01, 0x11


def find_layer(raw: bytes) -> Layer | None:
    """The layer with which the planes in ``raw`` can be read; None where none is sure."""
    starts: list[int] = []
    at = raw.find(PLANE)
    while at >= 0 and len(starts) < _HEADS:
        starts.append(at)
        at = raw.find(PLANE, at + 4)
    if len(starts) < _LEAST:
        return None
    for bits in _INCREMENT_BITS:
        heads = [read_plane_header(raw[at + 4 : at + 64], bits) for at in starts]
        if sum(h is not None for h in heads) < _AGREE * len(heads) or not _in_order(heads):
            continue
        size = _size(raw, starts, heads, bits)
        if size is not None:
            return Layer(*size, _resolution(heads, bits))
    return None


def _in_order(heads: Sequence[Plane | None]) -> bool:
    """Seconds seldom go by between planes, and their increments differ."""
    known = [h for h in heads if h is not None]
    return sum(h.time[0] > 1 for h in known) <= (1 - _AGREE) * len(known) and len({h.time for h in known}) > 1


def _size(raw: bytes, starts: Sequence[int], heads: Sequence[Plane | None], bits: int) -> tuple[int, int] | None:
    """The first of the usual sizes whose macroblocks make up each plane."""
    whole = [
        (at, after)
        for at, after, head in zip(starts, [*starts[1:], len(raw)], heads, strict=True)
        if head is not None and head.coded and head.kind != B
    ][:_FOLLOWED]
    if not any(head is not None and head.kind == I for head in heads) or len(whole) < _LEAST:
        return None
    parts = [np.frombuffer(raw[at : min(after, at + _LONGEST)] + bytes(SLACK), np.uint8) for at, after in whole]
    for size in USUAL_SIZES:
        follower = Follower(Layer(*size, 1 << bits))
        right = 0
        for done, part in enumerate(parts, 1):
            right += follower.plane(part, 0)[3] in (WHOLE_SLICE, ENDS_EARLY)
            if done - right > (1 - _AGREE) * len(parts) + 0.5:
                break
        else:
            return size
    return None


def _resolution(heads: Sequence[Plane | None], bits: int) -> int:
    """Increments a second: what is between the last of one second and the first of the next beyond the usual step."""
    times = [h.time for h in heads if h is not None and h.kind != B]
    steps = Counter(b[1] - a[1] for a, b in pairwise(times) if b[0] == 0)
    most = max((h.time[1] for h in heads if h is not None), default=0) + 1
    if steps:
        usual = steps.most_common(1)[0][0]
        turns = Counter(a[1] + usual - b[1] for a, b in pairwise(times) if b[0] == 1)
        found = turns.most_common(1)[0][0] if turns else 0
        if found >= most and (found - 1).bit_length() == bits:
            return found
    return most if max(1, (most - 1).bit_length()) == bits else (1 << bits) - (bits == 16)


def find_pictures(raw: bytes) -> Layer | None:
    """H.263 whose pictures are read to their ends; None where there is none."""
    right, layers = 0, Counter[Layer]()
    for hit in islice(PICTURE.finditer(raw), _MOST_STARTS):
        at = hit.start()
        read = read_picture_header(raw[at : at + 64])
        if read is None:
            continue
        layer = Layer(read[1], read[2], 30, short=True)
        layers[layer] += 1
        after = find_plane(raw, at + 8, layer)
        part = raw[at : after if at < after < at + _LONGEST else at + _LONGEST] + bytes(SLACK)
        right += Follower(layer).plane(np.frombuffer(part, np.uint8), 0)[3] in (WHOLE_SLICE, ENDS_EARLY)
        if right >= _LEAST or layers.total() >= _HEADS:
            break
    return layers.most_common(1)[0][0] if right >= _LEAST else None


def layer_header(layer: Layer, reordered: bool) -> bytes:
    """A video object and its layer (6.2.3), ``reordered`` where pictures come out later than they are decoded.

    Whether vectors are in quarters and coefficients weighted cannot be told from the planes; the usual is stated.
    """
    out = BitWriter()
    out.put(0, 1)
    out.put(_ADVANCED if reordered else _SIMPLE, 8)
    out.put(0, 1)
    out.put(1, 4)
    out.put(0b1, 1)
    out.put(0b01, 2)
    out.put(int(not reordered), 1)
    out.put(0, 1)
    out.put(0b00_1, 3)
    out.put(layer.resolution, 16)
    out.put(0b10_1, 3)
    out.put(layer.width, 13)
    out.put(1, 1)
    out.put(layer.height, 13)
    # Marker; not interlaced, no overlapped motion, no sprite, 8 bits, the first kind of quantiser, no complexity
    # estimated, packets may begin, one partition, no scalability.
    out.put(0b1_0_1_0_0_0_1_0_0_0, 10)
    return b"\0\0\1\x00\0\0\1\x20" + out.stuffed()
