"""Slices of AVC: headers read to their end, data followed to the last bit (ISO/IEC 14496-10 7.3.3, 7.3.4)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.bits import BitReader, unescape
from jugal.formats.isobmff.video import MOST_BLOCKS, AvcStream, PictureSet, SequenceSet
from jugal.kernels import cabac, cavlc
from jugal.kernels.macroblocks import WHOLE_SLICE, B, Form, I, P

#: Bytes of a unit in which its slice's header ends.
_HEAD = 256
_LARGEST_LIST = 32
#: Bytes at the end of a unit in which its last bit set is looked for: zeros may follow it (cabac_zero_word).
_TAIL = 1024
#: Rows of 4x4 blocks in a plane of chroma by chroma_format_idc.
_CHROMA_ROWS = (0, 2, 4)


@dataclass(frozen=True, slots=True)
class Header:
    """A slice header. ``bit`` is where the slice's data begin, counted from behind the unit's first byte, without escapes.

    ``lists`` are the numbers of reference pictures, ``delta`` is slice_qp_delta, ``start`` cabac_init_idc.
    """

    kind: int
    address: int
    number: int
    order: int
    field: bool
    lists: tuple[int, int]
    start: int
    delta: int
    bit: int
    #: The bits up to the next byte are all ones (7.3.4).
    aligned: bool
    #: What headers seldom hold: changed lists, explicit marking, other numbers of references.
    unusual: int


def read_header(unit: bytes, sequence: SequenceSet, picture: PictureSet, most: int = _HEAD) -> Header | None:
    """The header of the slice ``unit``, of whose bytes ``most`` are read; None where it says what it cannot."""
    data = unescape(unit[1:most])
    bits = BitReader(data)
    idr, reference = unit[0] & 31 == 5, bool(unit[0] & 0x60)
    address, kind = bits.ue(), bits.ue() % 5
    bits.ue()
    if sequence.separate_planes:
        bits.skip(2)
    number = bits.take(sequence.number_bits)
    in_field = not sequence.frames_only and bool(bits.take(1))
    if in_field:
        bits.skip(1)
    if idr and (number or bits.ue() > 65535):
        return None
    order = bits.take(sequence.order_bits) if sequence.order_type == 0 else 0
    if sequence.order_type == 0 and picture.bottom_order and not in_field:
        bits.se()
    if sequence.order_type == 1 and not sequence.no_deltas:
        bits.se()
        if picture.bottom_order and not in_field:
            bits.se()
    if picture.redundant:
        bits.ue()
    lists = picture.references
    if kind == B:
        bits.skip(1)
    unusual = 0
    if kind in (P, B) and bits.take(1):
        unusual += 1
        lists = bits.ue() + 1, bits.ue() + 1 if kind == B else 1
    if max(lists) > _LARGEST_LIST:
        return None
    if kind in (P, B):
        changed = _skip_lists(bits, 1 if kind == P else 2)
        if changed < 0:
            return None
        unusual += changed
    if (kind == P and picture.weighted) or (kind == B and picture.bipred == 1):
        _skip_weights(bits, lists[: 1 if kind == P else 2], colour=sequence.chroma != 0)
    if reference:
        marked = _skip_marking(bits, idr)
        if marked < 0:
            return None
        unusual += marked
    start = bits.ue() if picture.cabac and kind != I else -1
    delta = bits.se()
    if picture.deblocking:
        filtered = bits.ue()
        if filtered > 2 or (filtered != 1 and max(abs(bits.se()), abs(bits.se())) > 6):
            return None
    if (
        bits.overrun
        or start > 2
        or abs(delta) > 51 + 6 * (sequence.depths[0] - 8)
        or kind > I
        or address >= MOST_BLOCKS
    ):
        return None
    bit = bits.position(data)
    rest = -bit % 8
    aligned = bits.take(rest) == (1 << rest) - 1
    return Header(kind, address, number, order, in_field, lists, start, delta, bit, aligned, unusual)


def _skip_lists(bits: BitReader, lists: int) -> int:
    """ref_pic_list_modification (7.3.3.1): how many lists are changed, -1 where it is none."""
    changed = 0
    for _ in range(lists):
        if bits.take(1):
            changed += 1
            for _ in range(2 * _LARGEST_LIST + 2):
                what = bits.ue()
                if what == 3:
                    break
                if what > 3:
                    return -1
                bits.ue()
            else:
                return -1
    return changed


def _skip_weights(bits: BitReader, active: Sequence[int], colour: bool) -> None:
    """pred_weight_table (7.3.3.2)."""
    bits.ue()
    if colour:
        bits.ue()
    for count in active:
        for _ in range(count):
            if bits.take(1):
                bits.se(), bits.se()
            if colour and bits.take(1):
                bits.se(), bits.se(), bits.se(), bits.se()


def _skip_marking(bits: BitReader, idr: bool) -> int:
    """dec_ref_pic_marking (7.3.3.3): 1 where it is explicit, -1 where it is none."""
    if idr:
        bits.skip(2)
        return 0
    if not bits.take(1):
        return 0
    for _ in range(66):
        what = bits.ue()
        if what == 0:
            return 1
        if what > 6:
            break
        for _ in range({5: 0, 3: 2}.get(what, 1)):
            bits.ue()
    return -1


@dataclass(frozen=True, slots=True)
class Followed:
    """What following a slice showed: its kind, its first macroblock, how many were read of how many that the picture
    has, and whether it ends as it must.

    ``at`` is the byte of the unit that was reached.
    """

    kind: int
    address: int
    macroblocks: int
    of: int
    at: int
    whole: bool


def follow_slice(unit: bytes, stream: AvcStream) -> Followed | None:
    """Follows the slice ``unit`` to its last bit; None for slices of a kind that is not followed.

    Those are: parted pictures, fields and frames that mix them, 4:4:4, in CAVLC all but 4:2:0.
    """
    ids = BitReader(unescape(unit[1:32]))
    address, kind = ids.ue(), ids.ue() % 5
    picture = stream.pictures.get(ids.ue())
    sequence = stream.sequences.get(picture.sequence) if picture is not None else None
    if picture is None or sequence is None or kind > I or not _followed(sequence, picture):
        return None
    header = read_header(unit, sequence, picture)
    data, end = plain_bits(unit, 1)
    if header is None or header.address >= sequence.units or end < 0:
        return Followed(kind, address, 0, sequence.units, 1, False)
    if header.field:
        return None
    chroma = _CHROMA_ROWS[sequence.chroma]
    form = Form(
        kind, address, sequence.width // 16, sequence.units, *header.lists, int(picture.eight),
        int(sequence.direct_eight), chroma, 256 * sequence.depths[0] + 64 * chroma * sequence.depths[1],
    )  # fmt: skip
    if picture.cabac:
        start, qp = -(-header.bit // 8), min(51, picture.qp + header.delta)
        done, bit, came_to = cabac.read_slice(data, start, end, qp, form, cabac.context_starts(header.start))
    else:
        done, bit, came_to = cavlc.read_slice(data, header.bit, end, form, cavlc.figures())
    return Followed(kind, address, int(done), sequence.units, escaped(unit, int(bit) >> 3, 1), came_to == WHOLE_SLICE)


def _followed(sequence: SequenceSet, picture: PictureSet) -> bool:
    if picture.groups > 1 or sequence.chroma > 2 or sequence.mixed_fields:
        return False
    return picture.cabac or sequence.chroma == 1


def plain_bits(unit: bytes, head: int) -> tuple[NDArray[np.uint8], int]:
    """What lies behind the ``head`` bytes of a unit's header, without escapes, and the place of the last bit set in it,
    -1 where none is near the end."""
    data = np.frombuffer(unescape(unit[head:]), np.uint8)
    used = np.flatnonzero(data[-_TAIL:])
    if not used.size:
        return data, -1
    last = data.size - data[-_TAIL:].size + int(used[-1])
    return data, 8 * last + 8 - (int(data[last]) & -int(data[last])).bit_length()


def escaped(unit: bytes, plain: int, head: int) -> int:
    """The place in ``unit`` of byte ``plain`` of what lies behind its header of ``head`` bytes, without escapes."""
    at = plain + head
    hit = unit.find(b"\0\0\3", head)
    while 0 <= hit <= at - 2:
        at += 1
        hit = unit.find(b"\0\0\3", hit + 3)
    return min(at, len(unit) - 1)
