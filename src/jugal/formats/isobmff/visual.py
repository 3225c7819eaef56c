"""MPEG-4 Visual: the layer's header read, and its planes followed to their last bit (ISO/IEC 14496-2 6.2.3, 6.2.5).

Pictures of H.263 without its annexes are such planes with a header of their own (ITU-T H.263 5.1).
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.bits import BitReader
from jugal.formats.isobmff.following import Fault, believed
from jugal.kernels.macroblocks import ENDS_EARLY, WHOLE_SLICE
from jugal.kernels.visual import SLACK, B, Form, I, P, read_plane

#: The start code of a video object layer is the first of a range of sixteen; that of a plane is this one.
LAYER_CODES = range(0x20, 0x30)
PLANE = b"\0\0\1\xb6"
#: What a picture of H.263 begins with.
PICTURE = re.compile(rb"\x00\x00[\x80-\x83]")
#: Codings of sample entries that hold H.263 (3GPP TS 26.244 6.3, QuickTime).
H263 = frozenset({b"s263", b"h263"})
_KINDS = 3
#: Sprite planes (table 6-20), which are not followed.
_SPRITE = 3
#: Bytes in which a layer's header ends, matrices and all, and a plane's.
_LAYER_HEAD, _PLANE_HEAD = 256, 24
#: Quantisers from which on intra DC values have no codes of their own (table 6-21).
_THRESHOLDS = (99, 13, 15, 17, 19, 21, 23, 0)
#: Bytes that are read wrongly before it shows, on average of flipped bits.
_DELAY = 100
_SLACK = np.zeros(SLACK, np.uint8)
_MOST_BLOCKS = 1 << 18
#: The start code of a picture of H.263, 22 bits, and the sizes of its source formats (tables 2, 6).
_PICTURE_START = 0b100000
_SIZES = {1: (128, 96), 2: (176, 144), 3: (352, 288), 4: (704, 576), 5: (1408, 1152)}


@dataclass(frozen=True, slots=True)
class Layer:
    """What planes need of a video object layer. ``rate`` is frames a second where stated, else 0; ``plain`` says that
    it uses only what is followed, ``short`` that it is H.263."""

    width: int
    height: int
    resolution: int
    rate: float = 0.0
    resync: bool = True
    plain: bool = True
    short: bool = False

    @property
    def increment_bits(self) -> int:
        return max(1, (self.resolution - 1).bit_length())

    @property
    def blocks(self) -> int:
        """Macroblocks of a plane."""
        return -(-self.width // 16) * -(-self.height // 16)


def read_layer(data: bytes) -> Layer | None:
    """The layer whose header's start code ``data`` holds; None where there is none that can be."""
    at = data.find(b"\0\0\1")
    while at >= 0 and (at + 3 >= len(data) or data[at + 3] not in LAYER_CODES):
        at = data.find(b"\0\0\1", at + 1)
    return _layer(BitReader(data[at + 4 : at + 4 + _LAYER_HEAD])) if at >= 0 else None


def _layer(bits: BitReader) -> Layer | None:
    bits.skip(9)
    version = 1
    if bits.take(1):
        version = bits.take(4)
        bits.skip(3)
    if bits.take(4) == 15:
        bits.skip(16)
    if bits.take(1):
        bits.skip(3)
        if bits.take(1):
            bits.skip(79)
    shape = bits.take(2)
    marks = bits.take(1)
    resolution = bits.take(16)
    marks += bits.take(1)
    rate = 0.0
    if bits.take(1):
        rate = resolution / max(1, bits.take(max(1, (resolution - 1).bit_length())))
    marks += bits.take(1)
    width = bits.take(13)
    marks += bits.take(1)
    height = bits.take(13)
    marks += bits.take(1)
    if shape or bits.overrun or version > 5 or not width or not height or not resolution or marks < 5:
        return None
    interlaced = bits.take(1)
    bits.skip(1)
    sprite = bits.take(1 if version == 1 else 2)
    deep = bits.take(1)
    plain = not (interlaced or sprite or deep)
    if bits.take(1):
        for _ in range(2):
            if bits.take(1):
                _skip_matrix(bits)
    if version != 1:
        bits.skip(1)
    # Complexity that is estimated, partitions, new prediction, reduced resolution and scalability have fields of their own.
    plain &= bool(bits.take(1))
    resync = not bits.take(1)
    plain &= not bits.take(1)
    if version != 1:
        plain &= not bits.take(2)
    plain &= not bits.take(1)
    plain &= not bits.overrun
    return Layer(width, height, resolution, rate if 1 <= rate <= 240 else 0.0, resync, plain)


def _skip_matrix(bits: BitReader) -> None:
    for _ in range(64):
        if not bits.take(8):
            return


def find_plane(data: bytes, at: int, layer: Layer | None) -> int:
    """The next place from ``at`` on where a plane begins: a start code, or a picture's header of H.263; -1 for none."""
    if layer is None or not layer.short:
        return data.find(PLANE, at)
    for hit in PICTURE.finditer(data, at):
        header = read_picture_header(data[hit.start() : hit.start() + _PLANE_HEAD])
        if header is not None and header[1:] == (layer.width, layer.height):
            return hit.start()
    return -1


@dataclass(frozen=True, slots=True)
class Plane:
    """A plane's header (6.2.5). ``time`` is (seconds since the last plane's, increment); ``bit`` where the data begin,
    behind the start code. One that is not ``coded`` shows the picture before it once more."""

    kind: int
    time: tuple[int, int]
    coded: bool
    threshold: int = 0
    qp: int = 0
    forward: int = 1
    backward: int = 1
    bit: int = 0


def read_plane_header(data: bytes, increment_bits: int) -> Plane | None:
    """The header behind a plane's start code at the beginning of ``data``; None where it says what it cannot."""
    data = data[:_PLANE_HEAD]
    bits = BitReader(data)
    kind, seconds = bits.take(2), 0
    while bits.take(1) and seconds < 60:
        seconds += 1
    marker, increment, second_marker = bits.take(1), bits.take(increment_bits), bits.take(1)
    if not marker or not second_marker or bits.overrun:
        return None
    if not bits.take(1):
        return Plane(kind, (seconds, increment), False)
    if kind in (P, _SPRITE):
        bits.skip(1)
    threshold, qp = _THRESHOLDS[bits.take(3)], bits.take(5)
    forward = bits.take(3) if kind != I else 1
    backward = bits.take(3) if kind == B else 1
    if bits.overrun or not qp or not forward or not backward:
        return None
    return Plane(kind, (seconds, increment), True, threshold, qp, forward, backward, bits.position(data))


def plane_of(sample: bytes, layer: Layer) -> Plane | None:
    """The header of the first plane in ``sample``; None where none is found."""
    at = find_plane(sample, 0, layer)
    return _header_at(sample[at:], layer) if at >= 0 else None


def read_picture_header(data: bytes) -> tuple[Plane, int, int] | None:
    """A picture's header of H.263 (5.1) at the beginning of ``data``, with its size; None where it says what it cannot, or
    that annexes are used."""
    bits = BitReader(data[:_PLANE_HEAD])
    if bits.take(22) != _PICTURE_START:
        return None
    increment, kept = bits.take(8), bits.take(2)
    bits.skip(3)
    size, kind, annexes, qp = bits.take(3), bits.take(1), bits.take(4), bits.take(5)
    if kept != 0b10 or size not in _SIZES or annexes or not qp or bits.take(1):
        return None
    while bits.take(1):
        bits.skip(8)
    if bits.overrun:
        return None
    return Plane(P if kind else I, (0, increment), True, 0, qp, bit=bits.position(data[:_PLANE_HEAD])), *_SIZES[size]


def _header_at(data: bytes, layer: Layer) -> Plane | None:
    """The header of the plane that begins with ``data``; where its data begin is counted from there."""
    if layer.short:
        read = read_picture_header(data)
        return read[0] if read is not None else None
    header = read_plane_header(data[len(PLANE) :], layer.increment_bits)
    return replace(header, bit=header.bit + 8 * len(PLANE)) if header is not None else None


def _goes_on(behind: bytes, layer: Layer) -> bool:
    """What follows a plane is the next one, or another start code."""
    return find_plane(behind, 0, layer) == 0 if layer.short else behind[:3] == PLANE[:3]


@dataclass(slots=True)
class Follower:
    """Follows the planes of a stream in decoding order; B planes leave out what the last other plane did."""

    layer: Layer
    skipped: NDArray[np.uint8] = field(default_factory=lambda: np.zeros(0, np.uint8))
    #: The last I or P plane was whole, so that it is known what B planes leave out.
    sure: bool = False

    def plane(self, data: NDArray[np.uint8], at: int) -> tuple[Plane | None, int, int, int]:
        """Follows the plane whose start code is at ``at`` of ``data``, behind which ``SLACK`` bytes have been put.

        Returns its header, macroblocks read, the byte reached and what it came to; None where it has no header.
        """
        end = data.size - SLACK
        header = _header_at(data[at : min(end, at + _PLANE_HEAD + len(PLANE))].tobytes(), self.layer)
        if header is None or not header.coded or header.kind == _SPRITE:
            return header, 0, at + 4, WHOLE_SLICE
        layer = self.layer
        if self.skipped.size != layer.blocks:
            self.skipped = np.zeros(layer.blocks, np.uint8)
        form = Form(
            header.kind, layer.blocks, header.qp, header.threshold, header.forward, header.backward, int(layer.resync),
            layer.increment_bits, -(-layer.width // 16) * (layer.height // 288 or 1) if layer.short else 0,
        )  # fmt: skip
        done, bit, came_to = read_plane(data, 8 * at + header.bit, end, form, self.skipped)
        byte = -(-bit // 8) if came_to in (WHOLE_SLICE, ENDS_EARLY) else bit >> 3
        if came_to == ENDS_EARLY and _goes_on(data[byte : byte + _PLANE_HEAD].tobytes(), layer):
            came_to = WHOLE_SLICE
        if header.kind != B:
            self.sure = came_to == WHOLE_SLICE
        return header, done, byte, came_to


def follow_planes(
    data: NDArray[np.uint8], layer: Layer, offsets: NDArray[np.int64], sizes: NDArray[np.int64]
) -> tuple[dict[int, Fault], bool]:
    """The faults of samples that lie in ``data``, as ``following.follow_samples`` tells them of other streams."""
    follower = Follower(layer)
    faults: list[dict[int, Fault]] = [{} for _ in range(_KINDS)]
    whole = [0] * _KINDS
    if not layer.plain or layer.blocks > _MOST_BLOCKS:
        return {}, False
    for number, (start, size) in enumerate(zip(offsets.tolist(), sizes.tolist(), strict=True)):
        found = _follow_sample(data[start : start + size], follower, whole)
        if found is not None:
            kind, place, spared = found
            faults[kind][number] = Fault(start + place, spared)
    return believed(faults, whole, one_form=True), any(whole)


def planes_whole(samples: list[bytes], layer: Layer) -> list[bool | None]:
    """Whether each of ``samples``, which follow one another, is whole; None where it cannot be followed."""
    if not layer.plain or layer.blocks > _MOST_BLOCKS:
        return [None] * len(samples)
    follower, told = Follower(layer), []
    for sample in samples:
        whole = [0] * _KINDS
        found = _follow_sample(np.frombuffer(sample, np.uint8), follower, whole)
        told.append(found is None and any(whole) if found is not None or any(whole) else None)
    return told


def _follow_sample(sample: NDArray[np.uint8], follower: Follower, whole: list[int]) -> tuple[int, int, float] | None:
    """(kind of plane, place, share spared) of the first fault; None where there is none. Counts whole planes by kind."""
    raw = sample.tobytes()
    padded = np.concatenate((sample, _SLACK))
    at = find_plane(raw, 0, follower.layer)
    if at < 0:
        follower.sure = False
        return None
    while at >= 0:
        sure = follower.sure
        header, done, byte, came_to = follower.plane(padded, at)
        if header is None:
            follower.sure = False
            return P, at, 0.0
        if header.kind == _SPRITE or (header.kind == B and header.coded and not sure):
            return None
        if came_to != WHOLE_SLICE:
            place = min(byte, len(raw) - 1)
            return header.kind, place, done / follower.layer.blocks * (place - at) / (place - at + _DELAY)
        if header.coded:
            whole[header.kind] += 1
        at = find_plane(raw, byte, follower.layer)
    return None


def planes_before(data: NDArray[np.uint8], layer: Layer, fault: int) -> float:
    """The share of a sample's picture that its plane makes before byte ``fault`` of it, ``data``; 0 where not known.

    B planes are not looked into: what they leave out is not known from one sample.
    """
    at = find_plane(data[:fault].tobytes(), 0, layer)
    if at < 0 or not layer.plain or layer.blocks > _MOST_BLOCKS:
        return 0.0
    header, done, *_ = Follower(layer).plane(np.concatenate((data[:fault], _SLACK)), at)
    return done / layer.blocks if header is not None and header.kind in (I, P) else 0.0
