"""Parameter sets and slice headers of AVC (ISO/IEC 14496-10) and HEVC (ISO/IEC 23008-2), as far as pictures need telling apart."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace

from jugal.formats.isobmff.bits import BitReader, unescape

_HIGH_PROFILES = frozenset({44, 83, 86, 100, 110, 118, 122, 128, 134, 135, 138, 139, 244})
_HEAD = 64
#: Macroblocks of the largest picture that a level allows (table A-1).
MOST_BLOCKS = 139_264


@dataclass(frozen=True, slots=True)
class Slice:
    """The start of a slice header. ``order`` is the picture order count's low bits, None where decoding order shows."""

    first: bool
    address: int
    kind: int
    picture_set: int
    number: int
    order: int | None
    idr: bool
    sync: bool
    reference: bool
    bottom: int = 0
    idr_id: int = 0


@dataclass(frozen=True, slots=True)
class SequenceSet:
    """What slice headers need of a sequence parameter set."""

    width: int
    height: int
    units: int
    number_bits: int = 0
    order_type: int = 0
    order_bits: int = 0
    frames_only: bool = True
    separate_planes: bool = False
    #: What is shown of the picture, and the frames a second that the stream states, 0 where it does not.
    shown: tuple[int, int] = (0, 0)
    rate: float = 0.0
    #: chroma_format_idc, bits of luma and chroma, and what else slices of AVC need to be followed.
    chroma: int = 1
    depths: tuple[int, int] = (8, 8)
    no_deltas: bool = True
    mixed_fields: bool = False
    direct_eight: bool = True


@dataclass(frozen=True, slots=True)
class PictureSet:
    """What slice headers need of a picture parameter set."""

    sequence: int
    bottom_order: bool = False
    dependent_slices: bool = False
    output_flag: bool = False
    extra_bits: int = 0
    #: What slices of AVC need to be followed; ``references`` are the usual lengths of the two lists.
    cabac: bool = False
    groups: int = 1
    references: tuple[int, int] = (1, 1)
    weighted: bool = False
    bipred: int = 0
    qp: int = 26
    deblocking: bool = False
    redundant: bool = False
    eight: bool = False


@dataclass(slots=True)
class AvcStream:
    """Reads AVC units. ``prefix`` is the length field's bytes."""

    prefix: int = 4
    sequences: dict[int, SequenceSet] = field(default_factory=dict)
    pictures: dict[int, PictureSet] = field(default_factory=dict)
    #: Unit types: before a picture's slices, and all that belong to one.
    opening = frozenset({6, 7, 8, 9, 14, 15})
    slices = frozenset({1, 5})
    parameters = frozenset({7, 8})
    legal = frozenset({1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 14, 15, 20})

    @classmethod
    def any(cls) -> AvcStream:
        """A stream of unknown parameter sets, in which pictures can be told apart but not put in order."""
        known = SequenceSet(65535, 65535, MOST_BLOCKS, 4, 2)
        return cls(4, {0: known}, {number: PictureSet(0) for number in range(4)})

    @staticmethod
    def unit_type(head: bytes) -> int:
        """The unit's type, -1 where the header is no legal one (7.4.1)."""
        kind = head[0] & 31
        if head[0] & 0x80 or kind not in AvcStream.legal:
            return -1
        reference = head[0] & 0x60
        if (kind in (6, 9, 10, 11, 12) and reference) or (kind in (5, 7, 8) and not reference):
            return -1
        return kind

    def add(self, unit: bytes) -> bool:
        """Takes in a parameter set; False where it is none that can be read."""
        bits = BitReader(unescape(unit[1:]))
        if unit[0] & 31 == 7:
            return self._sequence(bits)
        number, sequence = bits.ue(), bits.ue()
        if number > 255 or sequence > 31:
            return False
        cabac, bottom_order, groups = bool(bits.take(1)), bool(bits.take(1)), bits.ue() + 1
        picture = PictureSet(sequence, bottom_order, cabac=cabac, groups=groups)
        if groups == 1:
            references = bits.ue() + 1, bits.ue() + 1
            weighted, bipred, qp = bool(bits.take(1)), bits.take(2), 26 + bits.se()
            bits.se(), bits.se()
            deblocking, _, redundant = bool(bits.take(1)), bits.take(1), bool(bits.take(1))
            eight = bits.more() and bool(bits.take(1))
            picture = replace(
                picture, references=references, weighted=weighted, bipred=bipred, qp=qp, deblocking=deblocking,
                redundant=redundant, eight=eight,
            )  # fmt: skip
        self.pictures[number] = picture
        return not bits.overrun

    def _sequence(self, bits: BitReader) -> bool:
        profile = bits.take(8)
        bits.skip(16)
        number, chroma, separate, depths = bits.ue(), 1, False, (8, 8)
        if profile in _HIGH_PROFILES:
            chroma = bits.ue()
            separate = chroma == 3 and bool(bits.take(1))
            depths = 8 + bits.ue(), 8 + bits.ue()
            bits.skip(1)
            if bits.take(1):
                for k in range(8 if chroma != 3 else 12):
                    if bits.take(1):
                        _skip_scaling_list(bits, 16 if k < 6 else 64)
        number_bits, order_type, order_bits, no_deltas = bits.ue() + 4, bits.ue(), 0, True
        if order_type == 0:
            order_bits = bits.ue() + 4
        elif order_type == 1:
            no_deltas = bool(bits.take(1))
            bits.se(), bits.se()
            for _ in range(min(bits.ue(), 255)):
                bits.se()
        bits.ue()
        bits.skip(1)
        across, down = bits.ue() + 1, bits.ue() + 1
        frames_only = bool(bits.take(1))
        if bits.overrun or number > 31 or number_bits > 16 or order_bits > 16 or across > 4096 or down > 4096:
            return False
        down *= 1 if frames_only else 2
        mixed_fields = not frames_only and bool(bits.take(1))
        direct_eight = bool(bits.take(1))
        shown, rate = self._view(bits, 16 * across, 16 * down, chroma, frames_only)
        self.sequences[number] = SequenceSet(
            16 * across, 16 * down, across * down, number_bits, order_type, order_bits, frames_only, separate, shown,
            rate, chroma, depths, no_deltas, mixed_fields, direct_eight,
        )  # fmt: skip
        return True

    @staticmethod
    def _view(
        bits: BitReader, width: int, height: int, chroma: int, frames_only: bool
    ) -> tuple[tuple[int, int], float]:
        """Cropped size and frame rate (7.4.2.1.1, E.1.1), the rest of a sequence parameter set."""
        if bits.take(1):
            across = 2 if chroma in (1, 2) else 1
            down = (2 if chroma == 1 else 1) * (1 if frames_only else 2)
            left, right, top, bottom = bits.ue(), bits.ue(), bits.ue(), bits.ue()
            width, height = width - across * (left + right), height - down * (top + bottom)
        if not bits.take(1):
            return (width, height), 0.0
        if bits.take(1) and bits.take(8) == 255:
            bits.skip(32)
        if bits.take(1):
            bits.skip(1)
        if bits.take(1):
            bits.skip(4)
            if bits.take(1):
                bits.skip(24)
        if bits.take(1):
            bits.ue(), bits.ue()
        if not bits.take(1):
            return (width, height), 0.0
        units, scale = bits.take(32), bits.take(32)
        rate = scale / (2 * units) if units and not bits.overrun else 0.0
        return (width, height), rate if 1 <= rate <= 960 else 0.0

    def read_slice(self, unit: bytes) -> Slice | None:
        """The slice header at the start of ``unit`` (7.3.3); None where it is not a legal one of this stream."""
        head = unit[0]
        bits = BitReader(unescape(unit[1:_HEAD]))
        address, kind, picture_set = bits.ue(), bits.ue(), bits.ue()
        picture = self.pictures.get(picture_set)
        sequence = self.sequences.get(picture.sequence) if picture else None
        if picture is None or sequence is None or kind > 9 or address >= sequence.units:
            return None
        idr = head & 31 == 5
        if idr and kind % 5 not in (2, 4):
            return None
        if sequence.separate_planes:
            bits.skip(2)
        number, bottom, idr_id, order = bits.take(sequence.number_bits), 0, 0, None
        if not sequence.frames_only and bits.take(1):
            bottom = 1 + bits.take(1)
        if idr:
            idr_id = bits.ue()
            if number or idr_id > 65535:
                return None
        if sequence.order_type == 0:
            order = bits.take(sequence.order_bits)
        return Slice(
            address == 0, address, kind % 5, picture_set, number, order, idr, idr, bool(head & 0x60), bottom, idr_id
        )

    def order_range(self, first: Slice) -> int:
        """The picture order count's low bits wrap at this value."""
        return 1 << self.sequences[self.pictures[first.picture_set].sequence].order_bits

    def same_picture(self, one: Slice, other: Slice) -> bool:
        """Both belong to one sample: one picture, or the two fields of a frame (7.4.1.2.4)."""
        if one.number != other.number or one.picture_set != other.picture_set or one.idr != other.idr:
            return bool(one.bottom and other.bottom and one.number == other.number and one.bottom != other.bottom)
        if one.bottom != other.bottom:
            return bool(one.bottom and other.bottom)
        if one.reference != other.reference or one.order != other.order:
            return False
        return not (one.idr and one.idr_id != other.idr_id) and not other.first


@dataclass(slots=True)
class HevcStream:
    """Reads HEVC units, as AvcStream does."""

    prefix: int = 4
    sequences: dict[int, SequenceSet] = field(default_factory=dict)
    pictures: dict[int, PictureSet] = field(default_factory=dict)
    #: The parameter sets themselves, by unit type and number.
    sets: dict[tuple[int, int], bytes] = field(default_factory=dict)
    opening = frozenset({32, 33, 34, 35, 39})
    slices = frozenset({*range(10), *range(16, 22)})
    parameters = frozenset({32, 33, 34})
    legal = frozenset({*range(10), *range(16, 22), *range(32, 41), *range(48, 64)})

    @classmethod
    def any(cls) -> HevcStream:
        """A stream of unknown parameter sets, as ``AvcStream.any``."""
        known = SequenceSet(65535, 65535, MOST_BLOCKS, order_bits=8)
        return cls(4, {0: known}, {number: PictureSet(0) for number in range(4)})

    @staticmethod
    def unit_type(head: bytes) -> int:
        kind = head[0] >> 1 & 63
        layer = (head[0] & 1) << 5 | head[1] >> 3
        if head[0] & 0x80 or kind not in HevcStream.legal or head[1] & 7 == 0 or (layer and kind < 32):
            return -1
        return kind

    def add(self, unit: bytes) -> bool:
        kind = unit[0] >> 1 & 63
        bits = BitReader(unescape(unit[2:]))
        if kind == 32:
            return True
        if kind == 33:
            return self._sequence(bits, unit)
        number, sequence = bits.ue(), bits.ue()
        if number > 63 or sequence > 15:
            return False
        dependent, output = bool(bits.take(1)), bool(bits.take(1))
        self.pictures[number] = PictureSet(sequence, False, dependent, output, bits.take(3))
        self.sets[kind, number] = unit
        return not bits.overrun

    def _sequence(self, bits: BitReader, unit: bytes) -> bool:
        bits.skip(4)
        layers = bits.take(3)
        bits.skip(1)
        skip_profile(bits, layers)
        number, chroma = bits.ue(), bits.ue()
        separate = chroma == 3 and bool(bits.take(1))
        width, height = bits.ue(), bits.ue()
        shown = width, height
        if bits.take(1):
            left, right, top, bottom = bits.ue(), bits.ue(), bits.ue(), bits.ue()
            across, down = 2 if chroma in (1, 2) else 1, 2 if chroma == 1 else 1
            shown = width - across * (left + right), height - down * (top + bottom)
        bits.ue(), bits.ue()
        order_bits = bits.ue() + 4
        for _ in range(layers + 1 if bits.take(1) else 1):
            bits.ue(), bits.ue(), bits.ue()
        block = bits.ue() + 3 + bits.ue()
        if bits.overrun or number > 15 or order_bits > 16 or not 3 <= block <= 8 or width > 65535 or height > 65535:
            return False
        units = -(-width >> block) * -(-height >> block)
        self.sequences[number] = SequenceSet(width, height, units, 0, 0, order_bits, True, separate, shown)
        self.sets[33, number] = unit
        return True

    def read_slice(self, unit: bytes) -> Slice | None:
        """slice_segment_header (7.3.6.1) as far as the picture order count."""
        kind = unit[0] >> 1 & 63
        bits = BitReader(unescape(unit[2:_HEAD]))
        first, irap, idr = bool(bits.take(1)), kind >= 16, kind in (19, 20)
        if irap:
            bits.skip(1)
        picture_set = bits.ue()
        picture = self.pictures.get(picture_set)
        sequence = self.sequences.get(picture.sequence) if picture else None
        if picture is None or sequence is None:
            return None
        address = 0
        if not first:
            dependent = picture.dependent_slices and bits.take(1)
            address = bits.take((sequence.units - 1).bit_length())
            if not 0 < address < sequence.units:
                return None
            if dependent:
                return Slice(False, address, 0, picture_set, 0, None, idr, irap, True)
        bits.skip(picture.extra_bits)
        slice_kind = bits.ue()
        if slice_kind > 2 or (irap and slice_kind != 2):
            return None
        bits.skip((1 if picture.output_flag else 0) + (2 if sequence.separate_planes else 0))
        order = 0 if idr else bits.take(sequence.order_bits)
        return Slice(first, address, slice_kind, picture_set, 0, order, idr, irap, kind % 2 == 1 or kind >= 16)

    def order_range(self, first: Slice) -> int:
        return 1 << self.sequences[self.pictures[first.picture_set].sequence].order_bits

    def same_picture(self, one: Slice, other: Slice) -> bool:
        return not other.first


VideoStream = AvcStream | HevcStream


def first_slice(sample: bytes, stream: VideoStream) -> Slice | None:
    """The header of the first slice in a sample of length-prefixed units; None where none is found."""
    at = 0
    while at + stream.prefix + 2 < len(sample):
        length = int.from_bytes(sample[at : at + stream.prefix], "big")
        at += stream.prefix
        if length > 2 and stream.unit_type(sample[at : at + 2]) in stream.slices:
            return stream.read_slice(sample[at : at + min(length, _HEAD)])
        at += length
    return None


def skip_profile(bits: BitReader, layers: int) -> int:
    """profile_tier_level of HEVC (7.3.3); the general profile."""
    bits.skip(3)
    profile = bits.take(5)
    bits.skip(32 + 48 + 8)
    present = [(bits.take(1), bits.take(1)) for _ in range(layers)]
    if layers:
        bits.skip(2 * (8 - layers))
    for has_profile, has_level in present:
        bits.skip(88 * has_profile + 8 * has_level)
    return profile


def _skip_scaling_list(bits: BitReader, size: int) -> None:
    last = following = 8
    for _ in range(size):
        if following:
            following = (last + bits.se()) % 256
        last = following or last


def listed_sets(entry: bytes) -> int | None:
    """How many sequence parameter sets, of HEVC arrays of them, the configuration record in a sample entry says to list;
    None where there is no record, or one of version 0 without any."""
    for name, count_at, mask in ((b"avcC", 5, 31), (b"hvcC", 22, 255)):
        if (at := entry.find(name)) >= 4:
            body = entry[at + 4 :]
            count = body[count_at] & mask if len(body) > count_at else 0
            return count if count or body[:1] == b"\1" else None
    return None


def read_record(entry: bytes) -> VideoStream | None:
    """The decoder configuration record in a sample entry: avcC or hvcC (ISO/IEC 14496-15 5.3.3.1, 8.3.3.1)."""
    if (at := entry.find(b"avcC")) >= 4:
        body = entry[at + 4 : at - 4 + int.from_bytes(entry[at - 4 : at], "big")]
        return read_avc_record(body)
    if (at := entry.find(b"hvcC")) >= 4:
        body = entry[at + 4 : at - 4 + int.from_bytes(entry[at - 4 : at], "big")]
        return read_hevc_record(body)
    return None


def _take_units(stream: VideoStream, units: Iterable[bytes]) -> VideoStream | None:
    for unit in units:
        if len(unit) > 2 and stream.unit_type(unit[:2]) in stream.parameters:
            stream.add(unit)
    return stream if stream.sequences and stream.pictures else None


def read_avc_record(body: bytes) -> VideoStream | None:
    """AVCDecoderConfigurationRecord (ISO/IEC 14496-15 5.3.3.1); None where its parameter sets cannot be read."""
    if len(body) < 7:
        return None
    units, at = [], 5
    for mask in (31, 255):
        count = body[at] & mask if at < len(body) else 0
        at += 1
        for _ in range(count):
            size = int.from_bytes(body[at : at + 2], "big")
            units.append(body[at + 2 : at + 2 + size])
            at += 2 + size
    return _take_units(AvcStream((body[4] & 3) + 1), units)


def read_hevc_record(body: bytes) -> VideoStream | None:
    """HEVCDecoderConfigurationRecord (ISO/IEC 14496-15 8.3.3.1), as ``read_avc_record``."""
    if len(body) < 23:
        return None
    units, at = [], 23
    for _ in range(body[22]):
        count = int.from_bytes(body[at + 1 : at + 3], "big")
        at += 3
        for _ in range(min(count, 64)):
            size = int.from_bytes(body[at : at + 2], "big")
            units.append(body[at + 2 : at + 2 + size])
            at += 2 + size
    return _take_units(HevcStream((body[21] & 3) + 1), units)
