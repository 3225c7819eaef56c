"""Slice segments of HEVC: parameter sets and headers read to their end, data followed (ISO/IEC 23008-2 7.3.2, 7.3.6)."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.bits import BitReader, unescape
from jugal.formats.isobmff.slices import Followed, escaped, plain_bits
from jugal.formats.isobmff.video import HevcStream, skip_profile
from jugal.kernels.hevc import B, Form, I, P, read_segment
from jugal.kernels.macroblocks import WHOLE_SLICE

#: Bytes of a unit in which its segment's header ends, whatever it says of where its rows begin.
_HEAD = 2048
#: Luma samples of the largest picture that a level allows, and along a side (table A.8, A.4.1).
_MOST_SAMPLES, _LONGEST_SIDE = 35_651_584, 16_888
_LARGEST_SET, _LARGEST_LIST, _ROWS = 64, 16, 1100
#: Profiles whose streams have no tools but those that are followed (annex A.3): Main, Main 10, Main Still Picture.
_PLAIN_PROFILES = (1, 2, 3)


class Unfollowed(Exception):
    """The stream uses what is not followed."""


@dataclass(frozen=True, slots=True)
class ReferenceSet:
    """A short-term reference picture set (7.4.8): distances of the pictures before and after, and which are used."""

    before: tuple[tuple[int, bool], ...] = ()
    after: tuple[tuple[int, bool], ...] = ()

    @property
    def used(self) -> int:
        return sum(used for _, used in self.before + self.after)


@dataclass(frozen=True, slots=True)
class Sequence:
    """What segments need of a sequence parameter set, logarithms of sizes among them."""

    width: int
    height: int
    colour: bool
    depths: tuple[int, int]
    order_bits: int
    least_block: int
    tree: int
    least_transform: int
    largest_transform: int
    inter_depth: int
    intra_depth: int
    uneven_parts: bool
    adaptive: bool
    raw: bool
    raw_bits: tuple[int, int]
    raw_sizes: tuple[int, int]
    reference_sets: tuple[ReferenceSet, ...]
    long_term: bool
    long_term_sets: tuple[bool, ...]
    temporal_motion: bool

    @property
    def trees(self) -> tuple[int, int]:
        """Coding tree blocks across and down."""
        return -(-self.width >> self.tree), -(-self.height >> self.tree)


@dataclass(frozen=True, slots=True)
class Picture:
    """What segments need of a picture parameter set."""

    dependent: bool
    output: bool
    extra_bits: int
    hidden_signs: bool
    start_told: bool
    references: tuple[int, int]
    qp: int
    untransformed: bool
    qp_delta: bool
    qp_depth: int
    chroma_offsets: bool
    weighted: bool
    biweighted: bool
    lossless: bool
    sync: bool
    across_filter: bool
    filter_override: bool
    filter_off: bool
    lists_told: bool
    extension: bool


def _skip_scaling(bits: BitReader) -> None:
    """scaling_list_data (7.3.4)."""
    for size in range(4):
        for _ in range(0, 6, 3 if size == 3 else 1):
            if not bits.take(1):
                bits.ue()
                continue
            if size > 1:
                bits.se()
            for _ in range(min(64, 1 << (4 + 2 * size))):
                bits.se()


def _reference_set(bits: BitReader, known: tuple[ReferenceSet, ...], of_slice: bool = False) -> ReferenceSet:
    """st_ref_pic_set (7.3.7) that follows those ``known``, the next of the sequence or that of a slice."""
    number = len(known)
    if number and bits.take(1):
        back = 1 + (bits.ue() if of_slice else 0)
        if back > number:
            raise Unfollowed
        base = known[number - back]
        negative = bits.take(1)
        delta = bits.ue() + 1
        delta = -delta if negative else delta
        distances = [*base.before, *base.after]
        chosen: list[tuple[int, bool]] = []
        for distance in [*(d for d, _ in distances), 0]:
            used = bool(bits.take(1))
            if used or bits.take(1):
                chosen.append((distance + delta, used))
        return ReferenceSet(
            tuple(sorted((c for c in chosen if c[0] < 0), reverse=True)), tuple(sorted(c for c in chosen if c[0] > 0))
        )
    counts = bits.ue(), bits.ue()
    if max(counts) > _LARGEST_LIST:
        raise Unfollowed
    sides = []
    for sign, count in zip((-1, 1), counts, strict=True):
        distance, side = 0, []
        for _ in range(count):
            distance += sign * (bits.ue() + 1)
            side.append((distance, bool(bits.take(1))))
        sides.append(tuple(side))
    return ReferenceSet(sides[0], sides[1])


@lru_cache(maxsize=64)
def _sequence(unit: bytes) -> Sequence | None:
    """A sequence parameter set; None where it asks for tools that are not followed."""
    bits = BitReader(unescape(unit[2:]))
    try:
        found = _read_sequence(bits)
    except Unfollowed:
        return None
    if not 0 < found.width <= _LONGEST_SIDE or not 0 < found.height <= _LONGEST_SIDE:
        return None
    if found.width * found.height > _MOST_SAMPLES:
        return None
    sizes = 3 <= found.least_block <= found.tree <= 6 and 2 <= found.least_transform < found.least_block
    return found if sizes and found.largest_transform <= 5 and not bits.overrun else None


def _read_sequence(bits: BitReader) -> Sequence:
    bits.skip(4)
    layers = bits.take(3)
    bits.skip(1)
    profile = skip_profile(bits, layers)
    bits.ue()
    chroma = bits.ue()
    if profile not in _PLAIN_PROFILES or chroma > 1:
        raise Unfollowed
    width, height = bits.ue(), bits.ue()
    if bits.take(1):
        bits.ue(), bits.ue(), bits.ue(), bits.ue()
    depths = 8 + bits.ue(), 8 + bits.ue()
    order_bits = bits.ue() + 4
    for _ in range(layers + 1 if bits.take(1) else 1):
        bits.ue(), bits.ue(), bits.ue()
    least_block = bits.ue() + 3
    tree = least_block + bits.ue()
    least_transform = bits.ue() + 2
    largest_transform = least_transform + bits.ue()
    inter_depth, intra_depth = bits.ue(), bits.ue()
    if bits.take(1) and bits.take(1):
        _skip_scaling(bits)
    uneven_parts, adaptive, raw = bool(bits.take(1)), bool(bits.take(1)), bool(bits.take(1))
    raw_bits, raw_sizes = (8, 8), (0, 0)
    if raw:
        raw_bits = bits.take(4) + 1, bits.take(4) + 1
        least = bits.ue() + 3
        raw_sizes = least, least + bits.ue()
        bits.skip(1)
    count = bits.ue()
    if count > _LARGEST_SET or bits.overrun:
        raise Unfollowed
    sets: tuple[ReferenceSet, ...] = ()
    for _ in range(count):
        sets += (_reference_set(bits, sets),)
    long_term, long_sets = bool(bits.take(1)), 0
    told: tuple[bool, ...] = ()
    if long_term:
        long_sets = bits.ue()
        if long_sets > 32:
            raise Unfollowed
        told = tuple(bool(bits.take(order_bits + 1) & 1) for _ in range(long_sets))
    temporal_motion = bool(bits.take(1))
    return Sequence(
        width, height, chroma == 1, depths, order_bits, least_block, tree, least_transform, largest_transform,
        inter_depth, intra_depth, uneven_parts, adaptive, raw, raw_bits, raw_sizes, sets, long_term, told,
        temporal_motion,
    )  # fmt: skip


@lru_cache(maxsize=64)
def _picture(unit: bytes) -> Picture | None:
    """A picture parameter set; None where it asks for tools that are not followed."""
    bits = BitReader(unescape(unit[2:]))
    bits.ue(), bits.ue()
    dependent, output, extra = bool(bits.take(1)), bool(bits.take(1)), bits.take(3)
    hidden_signs, start_told = bool(bits.take(1)), bool(bits.take(1))
    references = bits.ue() + 1, bits.ue() + 1
    qp = 26 + bits.se()
    bits.skip(1)
    untransformed, qp_delta = bool(bits.take(1)), bool(bits.take(1))
    qp_depth = bits.ue() if qp_delta else 0
    bits.se(), bits.se()
    chroma_offsets = bool(bits.take(1))
    weighted, biweighted, lossless = bool(bits.take(1)), bool(bits.take(1)), bool(bits.take(1))
    tiles, sync = bool(bits.take(1)), bool(bits.take(1))
    if tiles:
        return None
    across_filter = bool(bits.take(1))
    override, off = False, False
    if bits.take(1):
        override, off = bool(bits.take(1)), bool(bits.take(1))
        if not off:
            bits.se(), bits.se()
    if bits.take(1):
        _skip_scaling(bits)
    lists_told = bool(bits.take(1))
    bits.ue()
    extension = bool(bits.take(1))
    if bits.take(1) or bits.overrun:
        return None
    return Picture(
        dependent, output, extra, hidden_signs, start_told, references, qp, untransformed, qp_delta, qp_depth,
        chroma_offsets, weighted, biweighted, lossless, sync, across_filter, override, off, lists_told, extension,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Header:
    """A slice segment header as far as the data depend on it. ``byte`` is where those begin, behind the unit's header.

    ``order`` are the low bits of the picture order count, ``rows`` the bytes of the unit that each row but the last
    has, where rows are streams of their own; ``aligned`` says that only zeros fill the header's last byte (7.3.2.12).
    """

    kind: int
    address: int
    adaptive: tuple[bool, bool]
    lists: tuple[int, int]
    no_second_difference: bool
    start_turned: bool
    merges: int
    delta: int
    byte: int
    order: int
    rows: tuple[int, ...]
    aligned: bool


def read_header(unit: bytes, sequence: Sequence, picture: Picture) -> Header | None:
    """The header of the segment ``unit``; None where it says what it cannot."""
    kind_of_unit = unit[0] >> 1 & 63
    data = unescape(unit[2:_HEAD])
    bits = BitReader(data)
    first = bool(bits.take(1))
    if 16 <= kind_of_unit <= 23:
        bits.skip(1)
    bits.ue()
    across, down = sequence.trees
    address = 0
    if not first:
        if picture.dependent and bits.take(1):
            raise Unfollowed
        address = bits.take((across * down - 1).bit_length())
    bits.skip(picture.extra_bits)
    kind = bits.ue()
    if kind > I or address >= across * down:
        return None
    if picture.output:
        bits.skip(1)
    order, pictures, temporal = 0, 0, False
    if kind_of_unit not in (19, 20):
        order = bits.take(sequence.order_bits)
        pictures, temporal = _references(bits, sequence)
    adaptive = False, False
    if sequence.adaptive:
        adaptive = bool(bits.take(1)), sequence.colour and bool(bits.take(1))
    lists, no_second, turned, merges = (0, 0), False, False, 0
    if kind != I:
        lists = picture.references
        if bits.take(1):
            lists = bits.ue() + 1, bits.ue() + 1 if kind == B else 1
        if max(lists) > _LARGEST_LIST:
            return None
        if picture.lists_told and pictures > 1:
            width = (pictures - 1).bit_length()
            for count in lists[: 2 if kind == B else 1]:
                if bits.take(1):
                    bits.skip(width * count)
        no_second = kind == B and bool(bits.take(1))
        turned = picture.start_told and bool(bits.take(1))
        if temporal:
            from_first = bool(bits.take(1)) if kind == B else True
            if lists[0 if from_first else 1] > 1:
                bits.ue()
        if (picture.weighted and kind == P) or (picture.biweighted and kind == B):
            _skip_weights(bits, lists[: 2 if kind == B else 1], sequence.colour)
        merges = 5 - bits.ue()
        if not 1 <= merges <= 5:
            return None
    delta = bits.se()
    if picture.chroma_offsets:
        bits.se(), bits.se()
    off = picture.filter_off
    if picture.filter_override and bits.take(1):
        off = bool(bits.take(1))
        if not off:
            bits.se(), bits.se()
    if picture.across_filter and (any(adaptive) or not off):
        bits.skip(1)
    rows: tuple[int, ...] = ()
    if picture.sync:
        entries = bits.ue()
        if entries > _ROWS:
            return None
        if entries:
            width = bits.ue() + 1
            if width > 32:
                return None
            rows = tuple(1 + bits.take(width) for _ in range(entries))
    if picture.extension:
        bits.skip(8 * min(bits.ue(), 256))
    if bits.overrun or not bits.take(1):
        return None
    fill = -bits.position(data) % 8
    aligned = not bits.take(fill)
    byte = bits.position(data) // 8
    return Header(kind, address, adaptive, lists, no_second, turned, merges, delta, byte, order, rows, aligned)


def _references(bits: BitReader, sequence: Sequence) -> tuple[int, bool]:
    """How many pictures a segment may refer to (NumPicTotalCurr), and whether motion is taken from another picture."""
    count = len(sequence.reference_sets)
    if not bits.take(1):
        used = _reference_set(bits, sequence.reference_sets, of_slice=True).used
    else:
        number = bits.take((count - 1).bit_length()) if count > 1 else 0
        if number >= count:
            raise Unfollowed
        used = sequence.reference_sets[number].used
    if sequence.long_term:
        told = len(sequence.long_term_sets)
        from_sequence = bits.ue() if told else 0
        more = bits.ue()
        if from_sequence + more > 33:
            raise Unfollowed
        for k in range(from_sequence + more):
            if k < from_sequence:
                which = bits.take((told - 1).bit_length()) if told > 1 else 0
                used += which < told and sequence.long_term_sets[which]
            else:
                bits.skip(sequence.order_bits)
                used += bits.take(1)
            if bits.take(1):
                bits.ue()
    return used, sequence.temporal_motion and bool(bits.take(1))


def _skip_weights(bits: BitReader, lists: tuple[int, ...], colour: bool) -> None:
    """pred_weight_table (7.3.6.3)."""
    bits.ue()
    if colour:
        bits.se()
    for count in lists:
        luma = [bits.take(1) for _ in range(count)]
        chroma = [bits.take(1) if colour else 0 for _ in range(count)]
        for of_luma, of_chroma in zip(luma, chroma, strict=True):
            for _ in range(2 * of_luma + 4 * of_chroma):
                bits.se()


def follow_segment(unit: bytes, stream: HevcStream) -> Followed | None:
    """Follows the slice segment ``unit`` to its last bit; None for those of a kind that is not followed.

    Those are: tiles, dependent segments, other than 4:2:0 and grey, profiles with tools beyond those of Main and Main 10.
    Macroblocks of the result are coding tree blocks.
    """
    number = picture_set_of(unit)
    known = stream.pictures.get(number)
    picture = _picture(stream.sets[34, number]) if (34, number) in stream.sets else None
    place = (33, known.sequence) if known is not None else (33, -1)
    sequence = _sequence(stream.sets[place]) if place in stream.sets else None
    if picture is None or sequence is None:
        return None
    try:
        header = read_header(unit, sequence, picture)
    except Unfollowed:
        return None
    across, down = sequence.trees
    data, end = plain_bits(unit, 2)
    if header is None or end < 0:
        return Followed(I, 0, 0, across * down, 2, False)
    done, bit, came_to = read_data(data, end, sequence, picture, header)
    return Followed(
        header.kind, header.address, done, across * down, escaped(unit, bit >> 3, 2), came_to == WHOLE_SLICE
    )


def picture_set_of(unit: bytes) -> int:
    """The number of the picture parameter set that a segment names."""
    bits = BitReader(unescape(unit[2:16]))
    bits.skip(2 if 16 <= unit[0] >> 1 & 63 <= 23 else 1)
    return bits.ue()


def read_data(
    data: NDArray[np.uint8], end: int, sequence: Sequence, picture: Picture, header: Header
) -> tuple[int, int, int]:
    """What ``hevc.read_segment`` makes of a unit's ``data`` behind its header, the last bit set of which is ``end``."""
    form = _form(sequence, picture, header)
    done, bit, came_to = read_segment(data, header.byte, end, picture.qp + header.delta, form)
    return int(done), int(bit), int(came_to)


def _form(sequence: Sequence, picture: Picture, header: Header) -> Form:
    """What the data of a segment depend on."""
    turned = {I: 0, P: 2 if header.start_turned else 1, B: 1 if header.start_turned else 2}
    return Form(
        header.kind, header.address, sequence.width, sequence.height, sequence.tree, sequence.least_block,
        sequence.least_transform, sequence.largest_transform, sequence.intra_depth, sequence.inter_depth,
        int(sequence.uneven_parts), int(header.adaptive[0]), int(header.adaptive[1]), int(sequence.raw),
        *sequence.raw_sizes, *sequence.raw_bits, *sequence.depths, int(picture.qp_delta),
        max(sequence.least_block, sequence.tree - picture.qp_depth), int(picture.untransformed), int(picture.lossless),
        int(picture.hidden_signs), int(picture.sync), header.merges, *header.lists, int(header.no_second_difference),
        int(sequence.colour), turned[header.kind],
    )  # fmt: skip
