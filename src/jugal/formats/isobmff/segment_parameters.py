"""Parameter sets of HEVC found from the slice segments alone, where a stream carries none (ISO/IEC 23008-2 7.3.2).

An intra picture is read to its last bit with one choice of tools, one size and one quantiser only; then the fields that
the segments of predicted pictures depend on are those with which their headers end where a byte does, and their data
where the unit does.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from collections.abc import Sequence as Several
from dataclasses import dataclass, replace
from itertools import chain, product

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.bits import BitWriter, unescape
from jugal.formats.isobmff.parameters import USUAL_SIZES
from jugal.formats.isobmff.segments import (
    Header,
    Picture,
    ReferenceSet,
    Sequence,
    Unfollowed,
    picture_set_of,
    read_data,
    read_header,
)
from jugal.formats.isobmff.slices import escaped, plain_bits
from jugal.kernels.hevc import I
from jugal.kernels.macroblocks import BREAKS, WHOLE_SLICE

#: Segments whose headers are compared, of how many at first, and predicted ones of each kind that are followed.
_HEADS, _FIRST, _FOLLOWED = 60, 12, 4
#: Share of headers, and of followed segments, that must agree: a damaged stream has others.
_AGREE = 0.85
#: Bytes that are read in search of an intra picture's size, luma samples across a row that has no end yet, and down.
_MOST_READ, _NO_END, _TALL = 120_000_000, 8192, 4096
#: Bits before the end of a row's stream that are not read with its last block.
_NEAR_END = 32
#: What beginning to read costs, in bytes, and how often the first row of blocks is read.
_PER_READ, _READS_OF_ROW = 400, 8
#: Quantisers in the order in which they are tried around the one that most encoders state.
_QUANTISERS = sorted(range(52), key=lambda qp: abs(qp - 26))
_IDR = (19, 20)
#: Share of an intra picture's bytes that is in other rows of blocks than its last, at least.
_LEAST_IN_ROWS = 0.25


@dataclass(frozen=True, slots=True)
class SegmentParameters:
    """The parameter sets of a stream, and how many pictures come out later than they are decoded, at most."""

    sequence: Sequence
    picture: Picture
    number: int
    reordered: int = 0


_PLAIN_SEQUENCE = Sequence(
    width=_NO_END, height=64, colour=True, depths=(8, 8), order_bits=8, least_block=3, tree=6, least_transform=2,
    largest_transform=5, inter_depth=0, intra_depth=0, uneven_parts=False, adaptive=True, raw=False, raw_bits=(8, 8),
    raw_sizes=(0, 0), reference_sets=(), long_term=False, long_term_sets=(), temporal_motion=True,
)  # fmt: skip
_PLAIN_PICTURE = Picture(
    dependent=False, output=False, extra_bits=0, hidden_signs=True, start_told=False, references=(1, 1), qp=26,
    untransformed=False, qp_delta=True, qp_depth=0, chroma_offsets=False, weighted=False, biweighted=False,
    lossless=False, sync=False, across_filter=True, filter_override=False, filter_off=False, lists_told=False,
    extension=False,
)  # fmt: skip


def find_segment_parameters(units: Several[bytes]) -> SegmentParameters | None:
    """The parameters with which the segments ``units``, in decoding order, can be read; None where none are sure."""
    units = units[:_HEADS]
    whole = [u for u in units if u[0] >> 1 & 63 in _IDR]
    if len(units) < 3 or not whole:
        return None
    for intra in _intra(whole[0]):
        if not all(_follows(u, *intra) for u in whole[1:3]):
            continue
        found = _predicted([u for u in units if u[0] >> 1 & 63 not in _IDR], *intra)
        if found is not None:
            sequence, picture = found
            return SegmentParameters(
                sequence, picture, min(63, picture_set_of(whole[0])), _reordered(units, sequence, picture)
            )
    return None


def _header(unit: bytes, sequence: Sequence, picture: Picture) -> Header | None:
    """A segment's header, where only zeros fill its last byte."""
    try:
        header = read_header(unit, sequence, picture)
    except Unfollowed:
        return None
    return header if header is not None and header.aligned else None


def _read(unit: bytes, sequence: Sequence, picture: Picture) -> Header | None:
    """The header of a picture's first segment, None where it says what it cannot with these parameters."""
    if not unit[2] & 0x80:
        return None
    header = _header(unit, sequence, picture)
    if header is None or abs(header.delta) > 51:
        return None
    return header if not picture.sync or len(header.rows) == sequence.trees[1] - 1 else None


def _follows(unit: bytes, sequence: Sequence, picture: Picture) -> bool:
    """The segment ``unit`` is a whole picture that ends with its unit."""
    header = _read(unit, sequence, picture)
    if header is None:
        return False
    data, end = plain_bits(unit, 2)
    across, down = sequence.trees
    done, _, came_to = read_data(data, end, sequence, picture, header)
    return came_to == WHOLE_SLICE and done == across * down


def _intra(unit: bytes) -> Iterator[tuple[Sequence, Picture]]:
    """The tools, sizes and quantisers with which an intra picture of one segment ends where its unit does.

    These are hardly ever more than one, but its header can be read in several ways that lead to the same data.
    """
    data, end = plain_bits(unit, 2)
    left = _MOST_READ
    heads = list(_intra_heads(unit))
    in_rows = product(_QUANTISERS, _tools(), [head for head in heads if head[2].rows])
    in_one = product(_QUANTISERS[:1], _tools(), [head for head in heads if not head[2].rows])
    for qp, tools, (sequence, picture, header) in chain(in_rows, in_one):
        if not 0 <= qp + header.delta <= 51 or (tools.rare and (qp != _QUANTISERS[0] or not header.rows)):
            continue
        tried = _Trial(*tools.in_sets(sequence, picture, qp), header)
        sizes: Iterable[tuple[int, int]] = USUAL_SIZES
        if header.rows:
            row = _row(unit, data, header)
            left -= _READS_OF_ROW * (row.size - header.byte + _PER_READ)
            sizes = tried.sizes(row)
        for width, height in sizes:
            done, bit, came_to = tried.read(data, end, width, height)
            left -= (bit >> 3) - header.byte + _PER_READ
            if came_to == WHOLE_SLICE and done == tried.blocks(width, height):
                yield tried.sized(width, height)
                break
        if left < 0:
            return


def _row(unit: bytes, data: NDArray[np.uint8], header: Header) -> NDArray[np.uint8]:
    """The data up to the end of the first row of blocks, where rows are streams of their own."""
    start = escaped(unit, header.byte, 2)
    return data[: header.byte + len(unescape(unit[start : start + header.rows[0]]))]


@dataclass(frozen=True, slots=True)
class _Tools:
    """A choice of block sizes and of tools; a rare one is tried only where little else must be."""

    tree: int
    least_block: int
    largest_transform: int
    intra_depth: int
    hidden_signs: bool
    qp_delta: bool
    qp_depth: int
    untransformed: bool
    rare: bool

    def in_sets(self, sequence: Sequence, picture: Picture, qp: int) -> tuple[Sequence, Picture]:
        """The parameter sets with these tools, and with the quantiser ``qp``."""
        sequence = replace(
            sequence, tree=self.tree, least_block=self.least_block, largest_transform=self.largest_transform,
            intra_depth=self.intra_depth,
        )  # fmt: skip
        return sequence, replace(
            picture, qp=qp, hidden_signs=self.hidden_signs, qp_delta=self.qp_delta, qp_depth=self.qp_depth,
            untransformed=self.untransformed,
        )  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Trial:
    """A way to read an intra picture whose size is not known."""

    sequence: Sequence
    picture: Picture
    header: Header

    def sized(self, width: int, height: int) -> tuple[Sequence, Picture]:
        step = 1 << self.sequence.least_block
        return replace(self.sequence, width=-(-width // step) * step, height=-(-height // step) * step), self.picture

    def blocks(self, width: int, height: int) -> int:
        """Coding tree blocks of a picture."""
        across, down = self.sized(width, height)[0].trees
        return across * down

    def read(
        self, data: NDArray[np.uint8], end: int, width: int, height: int, sync: bool | None = None
    ) -> tuple[int, int, int]:
        """What reading the picture comes to at a size."""
        sequence, picture = self.sized(width, height)
        picture = picture if sync is None else replace(picture, sync=sync)
        return read_data(data, end, sequence, picture, self.header)

    def sizes(self, row: NDArray[np.uint8]) -> Iterator[tuple[int, int]]:
        """Sizes at which the first row of blocks ends with its own stream ``row``, the usual before others."""
        side, step = 1 << self.sequence.tree, 1 << self.sequence.least_block
        done, bit, _ = self.read(row, 8 * row.size, _NO_END, side, sync=False)
        if bit < 8 * row.size - _NEAR_END:
            return
        near = range(max(1, done - 2), done + 1)
        widths = [w for w, _ in USUAL_SIZES if -(-w // side) in near]
        widths += [w for across in near for w in range((across - 1) * side + step, across * side + 1, step)]
        down = len(self.header.rows) + 1
        for width in dict.fromkeys(-(-w // step) * step for w in widths):
            if not self._ends(row, width):
                continue
            heights = [h for w, h in USUAL_SIZES if -(-h // side) == down]
            yield from ((width, h) for h in dict.fromkeys([*heights, *range(down * side, (down - 1) * side, -step)]))

    def _ends(self, row: NDArray[np.uint8], width: int) -> bool:
        """A row of blocks of ``width`` samples ends where its stream does, and not before."""
        side = 1 << self.sequence.tree
        done, bit, came_to = self.read(row, 8 * row.size, width, 2 * side, sync=True)
        across = -(-width // side)
        # What follows is read as a row of zeros, so it does not matter what comes of that.
        return done > across or (done == across and came_to == BREAKS and bit > 8 * row.size + 8)


def _intra_heads(unit: bytes) -> Iterator[tuple[Sequence, Picture, Header]]:
    """Ways to read the header of an intra picture."""
    for depth, adaptive, offsets, override, across, sync in product(
        (8, 10), (True, False), (False, True), (False, True), (True, False), (True, False)
    ):
        sequence = replace(_PLAIN_SEQUENCE, adaptive=adaptive, depths=(depth, depth), height=_TALL)
        picture = replace(
            _PLAIN_PICTURE, chroma_offsets=offsets, filter_override=override, across_filter=across, sync=sync
        )
        header = _header(unit, sequence, picture)
        if header is not None and header.kind == I and bool(header.rows) == sync:
            # The last row has a part of the bytes only.
            if sync and not _LEAST_IN_ROWS * len(unit) < sum(header.rows) < len(unit):
                continue
            yield sequence, picture, header


def _tools() -> Iterator[_Tools]:
    """Choices of block sizes and of tools, those of encoders in use first."""
    for untransformed, intra_depth, hidden, tree, least, largest in product(
        (False, True), (0, 1, 2, 3), (True, False), (6, 5, 4), (3, 4), (5, 4, 3)
    ):
        if least > tree or largest > tree:
            continue
        rare = untransformed or intra_depth == 3 or least > 3 or largest < min(tree, 5)
        for delta, group in ((True, 0), (True, 1), (False, 0), (True, 2), (True, 3)):
            if group <= tree - least:
                yield _Tools(tree, least, largest, intra_depth, hidden, delta, group, untransformed, rare)


def _predicted(units: Several[bytes], sequence: Sequence, picture: Picture) -> tuple[Sequence, Picture] | None:
    """The fields that segments of other pictures than the first depend on."""
    if not units:
        return sequence, picture
    rated = [(wrong, tried) for tried in _ways(sequence, picture) if (wrong := _misread(units[:_FIRST], tried)) >= 0]
    for _, (ordered, pictured) in sorted(rated, key=lambda way: way[0]):
        heads = [_read(unit, ordered, pictured) for unit in units]
        if sum(h is None for h in heads) > (1 - _AGREE) * len(units) + 1:
            continue
        kinds = [[u for u, h in zip(units, heads, strict=True) if h is not None and h.kind == k] for k in range(3)]
        probes = [u for kind in kinds for u in kind[:_FOLLOWED]]
        # The intra picture may not have shown how deep its blocks can be split.
        depths = range(ordered.intra_depth, 4)
        for uneven, deeper, depth in product((False, True), depths, range(4)):
            final = replace(ordered, uneven_parts=uneven, intra_depth=deeper, inter_depth=depth)
            if sum(_follows(u, final, pictured) for u in probes) >= _AGREE * len(probes):
                return final, pictured
    return None


def _misread(units: Several[bytes], known: tuple[Sequence, Picture]) -> int:
    """How many headers say what they cannot; -1 where that is too many."""
    wrong = 0
    for unit in units:
        wrong += _read(unit, *known) is None
        if wrong > (1 - _AGREE) * len(units) + 1:
            return -1
    return wrong


def _ways(sequence: Sequence, picture: Picture) -> Iterator[tuple[Sequence, Picture]]:
    """Fields of the headers of predicted pictures that may be, the usual first."""
    before = ReferenceSet(((-1, True),), ())
    lists = [(1, 1), (2, 2), (3, 3), (4, 4), (2, 1), (3, 1), (4, 1)]
    for order_bits, sets, temporal, long_term in product((8, *range(4, 8), *range(9, 17)), ((), (before,)), (True, False), (False, True)):  # fmt: skip
        ordered = replace(
            sequence, order_bits=order_bits, reference_sets=sets, temporal_motion=temporal, long_term=long_term
        )
        for weighted, both, told, many, changed in product((True, False), (False, True), (True, False), lists, (False, True)):  # fmt: skip
            yield (
                ordered,
                replace(
                    picture, weighted=weighted, biweighted=both, start_told=told, references=many, lists_told=changed
                ),
            )


def _reordered(units: Several[bytes], sequence: Sequence, picture: Picture) -> int:
    """The most pictures that are decoded before another and shown behind it (C.5.2.2), between intra pictures."""
    span, most, anchor, orders = 1 << sequence.order_bits, 0, 0, [0]
    for unit in units:
        kind = unit[0] >> 1 & 63
        header = _read(unit, sequence, picture)
        if kind in _IDR:
            orders, anchor = [0], 0
        elif header is not None:
            order = anchor + (header.order - anchor + span // 2) % span - span // 2
            most = max(most, sum(o > order for o in orders))
            orders = [*orders[-16:], order]
            anchor = order if kind % 2 or kind >= 16 else anchor
    return min(most, 8)


def shown_size(known: SegmentParameters) -> tuple[int, int]:
    """The size that is shown: a usual one where its blocks are those of the stream, else all of them."""
    step, (width, height) = 1 << known.sequence.least_block, (known.sequence.width, known.sequence.height)
    for usual in USUAL_SIZES:
        if tuple(-(-n // step) * step for n in usual) == (width, height):
            return usual
    return width, height


def _profile(out: BitWriter, depth: int) -> None:
    """profile_tier_level (7.3.3): Main or Main 10, at the level that allows all sizes."""
    profile = 1 if depth == 8 else 2
    out.put(profile, 8)
    out.put((1 << 31 >> profile) | (1 << 29 if profile == 1 else 0), 32)
    out.put(0b1001 << 44, 48)
    out.put(183, 8)


def _buffering(out: BitWriter, known: SegmentParameters) -> None:
    out.put(1, 1)
    for value in (max(5, known.reordered + 2), known.reordered, 0):
        out.ue(value)


def video_set(known: SegmentParameters) -> bytes:
    """A video parameter set (7.3.2.1)."""
    out = BitWriter()
    out.put(0b0000_11_000000_000_1, 16)
    out.put(0xFFFF, 16)
    _profile(out, known.sequence.depths[0])
    _buffering(out, known)
    out.put(0, 6)
    out.ue(0)
    out.put(0, 2)
    return b"\x40\x01" + out.unit()


def sequence_set(known: SegmentParameters) -> bytes:
    """A sequence parameter set (7.3.2.2)."""
    it, out = known.sequence, BitWriter()
    out.put(0b0000_000_1, 8)
    _profile(out, it.depths[0])
    for value in (0, 1, it.width, it.height):
        out.ue(value)
    width, height = shown_size(known)
    cut = it.width - width, it.height - height
    out.put(int(any(cut)), 1)
    for value in (0, cut[0] // 2, 0, cut[1] // 2) if any(cut) else ():
        out.ue(value)
    for value in (it.depths[0] - 8, it.depths[1] - 8, it.order_bits - 4):
        out.ue(value)
    _buffering(out, known)
    for value in (
        it.least_block - 3, it.tree - it.least_block, it.least_transform - 2, it.largest_transform - it.least_transform,
        it.inter_depth, it.intra_depth,
    ):  # fmt: skip
        out.ue(value)
    for flag in (False, it.uneven_parts, it.adaptive, False):
        out.put(int(flag), 1)
    out.ue(len(it.reference_sets))
    for number, one in enumerate(it.reference_sets):
        if number:
            out.put(0, 1)
        out.ue(len(one.before))
        out.ue(len(one.after))
        for side in (one.before, one.after):
            last = 0
            for distance, used in side:
                out.ue(abs(distance) - last - 1)
                out.put(int(used), 1)
                last = abs(distance)
    out.put(int(it.long_term), 1)
    if it.long_term:
        out.ue(0)
    # Strong smoothing of intra blocks cannot be told from the data; encoders use it.
    for flag in (it.temporal_motion, True, False, False):
        out.put(int(flag), 1)
    return b"\x42\x01" + out.unit()


def picture_set(known: SegmentParameters) -> bytes:
    """A picture parameter set (7.3.2.3)."""
    it, out = known.picture, BitWriter()
    out.ue(known.number)
    out.ue(0)
    out.put(0, 5)
    out.put(int(it.hidden_signs), 1)
    out.put(int(it.start_told), 1)
    out.ue(it.references[0] - 1)
    out.ue(it.references[1] - 1)
    out.se(it.qp - 26)
    for flag in (False, it.untransformed, it.qp_delta):
        out.put(int(flag), 1)
    if it.qp_delta:
        out.ue(it.qp_depth)
    out.se(0)
    out.se(0)
    for flag in (it.chroma_offsets, it.weighted, it.biweighted, it.lossless, False, it.sync, it.across_filter):
        out.put(int(flag), 1)
    out.put(int(it.filter_override), 1)
    if it.filter_override:
        out.put(0b10, 2)
        out.se(0)
        out.se(0)
    out.put(0, 1)
    out.put(int(it.lists_told), 1)
    out.ue(0)
    out.put(0, 2)
    return b"\x44\x01" + out.unit()


#: What writes each parameter set, in the order in which a configuration record holds them.
WRITERS = (video_set, sequence_set, picture_set)
