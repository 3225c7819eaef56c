"""Parameter sets of AVC found from the slices alone, where a stream carries none (ISO/IEC 14496-10 7.3.2, 7.3.3).

Slice headers end at a byte boundary with ones before it, frame numbers count reference pictures, and an intra slice ends
with its unit for one width, one quantiser and one size of transform only: each field is believed where the slices agree.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import product

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.bits import BitReader, BitWriter, unescape
from jugal.formats.isobmff.slices import Header, follow_slice, read_header
from jugal.formats.isobmff.video import MOST_BLOCKS, AvcStream, PictureSet, SequenceSet
from jugal.kernels import cabac, cavlc
from jugal.kernels.macroblocks import WHOLE_SLICE, Form, I

#: Slices whose headers are compared, and intra slices that are followed to their ends.
_HEADS = 120
_FOLLOWED = 2
#: Predicted slices that are followed to their ends.
_PREDICTED = 12
#: Share of headers that must agree: among uncompressed sound some slices are none.
_AGREE = 0.85
#: Bytes of a slice of which the header is read.
_HEAD = 96
_WIDEST = 512
#: Sizes that cameras, phones and broadcasters use; their height and width are not always whole macroblocks.
USUAL_SIZES = (
    (1920, 1080), (1280, 720), (3840, 2160), (640, 480), (640, 360), (2704, 1520), (2560, 1440), (854, 480), (848, 480),
    (1440, 1080), (720, 576), (720, 480), (960, 540), (1024, 576), (4096, 2160), (480, 272), (480, 270), (426, 240), (320, 240),
    (320, 180), (480, 360), (480, 320), (640, 352), (400, 300), (800, 600), (1024, 768), (1080, 1920), (720, 1280),
    (2160, 3840), (360, 640), (480, 854), (176, 144), (352, 288), (800, 480), (1600, 900), (1280, 960), (1920, 1440),
)  # fmt: skip
#: What encoders built on one widespread library write of their settings into the first sample.
_SETTINGS = re.compile(rb"options:((?: [a-z0-9_-]+=[^ \0]+)+)")


@dataclass(frozen=True, slots=True)
class Unit:
    """A coded slice: its unit without the length in front."""

    data: bytes

    @property
    def idr(self) -> bool:
        return self.data[0] & 31 == 5

    @property
    def reference(self) -> bool:
        return bool(self.data[0] & 0x60)


@dataclass(frozen=True, slots=True)
class AvcParameters:
    """What slice headers and slices need to be read. ``order_bits`` is 0 where pictures show as they are decoded."""

    number_bits: int = 4
    order_bits: int = 0
    bottom_order: bool = False
    weighted: bool = False
    bipred: int = 0
    deblocking: bool = True
    references: int = 1
    width: int = 0
    height: int = 0
    qp: int = 26
    eight: bool = False
    chroma_qp: int = 0
    stored: int = 4
    picture_set: int = 0
    cabac: bool = True

    @property
    def sets(self) -> tuple[SequenceSet, PictureSet]:
        """What slice headers depend on, as read from parameter sets."""
        order_type = 0 if self.order_bits else 2
        sequence = SequenceSet(
            self.width, self.height, MOST_BLOCKS, self.number_bits, order_type, self.order_bits
        )  # fmt: skip
        picture = PictureSet(
            0, self.bottom_order, cabac=self.cabac, references=(self.references, 1), weighted=self.weighted,
            bipred=self.bipred, qp=self.qp, deblocking=self.deblocking, eight=self.eight,
        )  # fmt: skip
        return sequence, picture


def find_parameters(units: Sequence[Unit], settings: bytes = b"") -> AvcParameters | None:
    """The parameters with which the slices ``units``, in decoding order, can be read; None where none are sure.

    ``settings`` is text in which the encoder may have named its own.
    """
    units = units[:_HEADS]
    if len(units) < 3 or not any(u.idr for u in units):
        return None
    named = named_settings(settings)
    base = AvcParameters(number_bits=_number_bits(units), picture_set=_picture_set(units[0]))
    if named:
        reordered = 0 if not named.get("bframes") else 2 if named.get("b_pyramid") else 1
        references = max(1, named.get("ref", 1))
        stored = max(references, 1 + reordered, 4 if reordered == 2 else 1)
        implicit = reordered and named.get("weightb")
        base = replace(
            base, references=references, chroma_qp=named.get("chroma_qp_offset", 0), stored=min(16, stored),
            bipred=2 if implicit else 0, weighted=bool(named.get("weightp")),
        )  # fmt: skip
    found = _agreeing(units, base, sure=bool(named))
    sized = _sized(units, found, _follow) if found is not None else None
    if sized is not None:
        return _followed_best(units, sized)
    if named.get("cabac") == 1:
        return None
    quantiser = named.get("crf", named.get("qp", 26))
    for tried in _orders(units, replace(base, cabac=False, qp=quantiser), sure=bool(named)):
        sized = _sized(units, tried, _follow_codes)
        if sized is not None:
            return _followed_best(units, sized)
    return None


def share_followed(units: Sequence[Unit], known: AvcParameters, most: int = _PREDICTED) -> float | None:
    """Which share of the first predicted slices ends where it must, read with ``known``, 0..1; None where there are none."""
    stream = AvcStream()
    for written in (sequence_set(known), picture_set(known)):
        stream.add(written)
    ends = []
    for unit in units:
        followed = None if unit.idr else follow_slice(unit.data, stream)
        if followed is not None and followed.kind != I:
            ends.append(followed.whole)
        if len(ends) >= most:
            break
    return sum(ends) / len(ends) if ends else None


def _followed_best(units: Sequence[Unit], known: AvcParameters) -> AvcParameters:
    """``known``, or what predicted slices read better with: intra slices do not show all of it."""
    best, most = known, share_followed(units, known)
    if most is None or most == 1.0:
        return best
    for eight, weighted, bipred, references in product((False, True), (False, True), (0, 1, 2), (1, 2, 3, 4)):
        tried = replace(known, eight=eight, weighted=weighted, bipred=bipred, references=references)
        share = share_followed(units, tried)
        if share is not None and share > most:
            best, most = tried, share
    return best


def named_settings(settings: bytes) -> dict[str, int]:
    """What the encoder says of fields that slice headers do not show; empty where it says nothing."""
    hit = _SETTINGS.search(settings)
    if hit is None:
        return {}
    pairs = (p.split("=", 1) for p in hit.group(1).decode("ascii", "replace").split() if "=" in p)
    return {key: round(float(value)) for key, value in pairs if re.fullmatch(r"-?\d{1,3}(?:\.\d+)?", value)}


def _picture_set(unit: Unit) -> int:
    bits = BitReader(unescape(unit.data[1:_HEAD]))
    bits.ue(), bits.ue()
    return min(255, bits.ue())


def _number_bits(units: Sequence[Unit]) -> int:
    """The width of frame_num at which it counts reference pictures (7.4.3)."""

    def agreement(width: int) -> float:
        good = seen = last = 0
        for unit in units:
            bits = BitReader(unescape(unit.data[1:_HEAD]))
            address = bits.ue()
            bits.ue(), bits.ue()
            number = bits.take(width)
            if address:
                continue
            wanted = 0 if unit.idr else (last + 1) % (1 << width)
            seen += 1
            good += number == wanted
            if unit.reference:
                last = number
        return good / max(1, seen)

    return max(range(4, 17), key=agreement)


def _read(unit: Unit, known: AvcParameters) -> Header | None:
    """The header of a slice of frames; None where it says what it cannot with these parameters."""
    return read_header(unit.data, *known.sets, most=_HEAD)


def _agreeing(units: Sequence[Unit], base: AvcParameters, sure: bool) -> AvcParameters | None:
    """The fields with which nearly all headers end in ones before a byte, pictures are in order and little is unusual.

    ``sure`` says that the encoder has told how it predicts.
    """
    best: tuple[float, float, float] = (_AGREE, -1.0, 0.0)
    found = None
    for tried in _ways(base, sure):
        right = 0
        heads = []
        for done, unit in enumerate(units, 1):
            head = _read(unit, tried)
            right += head is not None and head.aligned
            heads.append(head)
            if done - right > (1 - _AGREE) * len(units) + 1:
                break
        else:
            score = (round(right / len(units), 2), _in_order(units, heads, tried.order_bits, True), -_unusual(heads))
            if score > best:
                best, found = score, tried
    return found


def _orders(units: Sequence[Unit], base: AvcParameters, sure: bool) -> list[AvcParameters]:
    """Ways to read headers that no alignment confirms, those first by which pictures are best in order."""
    rated = []
    for tried in _ways(base, sure):
        heads = [_read(unit, tried) for unit in units]
        if sum(h is not None for h in heads) >= _AGREE * len(units):
            rated.append((_in_order(units, heads, tried.order_bits), -_unusual(heads), tried))
    return [tried for *_, tried in sorted(rated, key=lambda way: way[:2], reverse=True)]


def _ways(base: AvcParameters, sure: bool) -> Iterator[AvcParameters]:
    """Header fields that may be; how pictures are predicted only as ``base`` says where that is ``sure``."""
    predictions = [(base.weighted, base.bipred, base.references)]
    if not sure:
        predictions += product((True,), (0, 1), (1, 2, 3, 4))
    for order_bits, bottom, deblocking in product((0, *range(4, 17)), (False, True), (True, False)):
        if bottom and not order_bits:
            continue
        for weighted, bipred, references in predictions:
            yield replace(
                base, order_bits=order_bits, bottom_order=bottom, deblocking=deblocking, weighted=weighted,
                bipred=bipred, references=references,
            )  # fmt: skip


def _unusual(heads: Sequence[Header | None]) -> float:
    return sum(h.unusual for h in heads if h is not None) / len(heads)


def _in_order(
    units: Sequence[Unit], heads: Sequence[Header | None], order_bits: int, cabac_only: bool = False
) -> float:
    """Share of pictures whose order count is one of its own among evenly spaced ones, from one IDR picture to the next.

    Without order counts half: true ones reach nearly 1, what is read in the wrong place hardly anything. With
    ``cabac_only`` headers that do not end in ones count as none.
    """
    if not order_bits:
        return 0.5
    span, anchor = 1 << order_bits, 0
    epochs: list[list[int]] = [[]]
    for unit, head in zip(units, heads, strict=True):
        if head is None or head.address or (cabac_only and not head.aligned):
            continue
        if unit.idr:
            epochs.append([])
            anchor = 0
        count = anchor + (head.order - anchor + span // 2) % span - span // 2
        epochs[-1].append(count)
        if unit.reference:
            anchor = count
    places = [np.array(epoch) - min(epoch) for epoch in epochs if epoch]
    steps = np.concatenate([np.diff(np.unique(p)) for p in places]) if places else np.empty(0, np.int64)
    if not steps.size or steps.max() >= span:
        return 0.0
    step = int(np.bincount(steps).argmax())
    own = sum(np.unique(p[(p % step == 0) & (p < step * (p.size + 4))]).size for p in places)
    return round(own / sum(p.size for p in places), 2)


Follow = Callable[["_Intra", AvcParameters, int], int]


def _sized(units: Sequence[Unit], known: AvcParameters, follow: Follow) -> AvcParameters | None:
    """Width, height, transform and quantiser with which intra slices end where their units do."""
    usual = list(dict.fromkeys(-(-w // 16) for w, _ in USUAL_SIZES))
    rare = [w for w in range(2, _WIDEST) if w not in usual]
    pictures = _intra_pictures(units, known)[:_FOLLOWED]
    # All quantisers for usual widths; for the others those of encoders that do not state one.
    # CAVLC reads alike with all of them.
    tries = [(picture, usual, 26 if known.cabac else 0) for picture in pictures]
    tries += [(picture, rare, 2 if known.cabac else 0) for picture in pictures[:1]]
    for picture, widths, around in tries:
        first, last = picture[0], picture[-1]
        bound = picture[1].address if len(picture) > 1 else 0
        for width in widths:
            if bound % width:
                continue
            for step, eight in product(_outward(around), (True, False)):
                tried = replace(known, qp=(26 if known.cabac else known.qp) + step, eight=eight)
                count = follow(first, tried, width)
                if not count or (bound and count != bound):
                    continue
                if last is not first:
                    rest = follow(last, tried, width)
                    count = last.address + rest if rest else 0
                if count and count % width == 0 and 1 / 6 < count / width / width < 6:
                    return replace(tried, width=16 * width, height=16 * (count // width))
    return None


def _outward(most: int) -> list[int]:
    return sorted(range(-most, most + 1), key=abs)


@dataclass(frozen=True, slots=True)
class _Intra:
    """An intra slice to be followed: its bytes without escapes, its last bit set, the bit behind its header."""

    data: NDArray[np.uint8]
    end: int
    start: int
    address: int
    delta: int


def _intra_pictures(units: Sequence[Unit], known: AvcParameters) -> list[list[_Intra]]:
    """The slices of each picture that consists of intra slices only."""
    pictures: list[list[_Intra]] = []
    for unit in units:
        head = _read(unit, known)
        if head is None or head.kind != I or (known.cabac and not head.aligned):
            continue
        if head.address == 0:
            pictures.append([])
        plain = np.frombuffer(unescape(unit.data[1:]), np.uint8)
        used = np.flatnonzero(plain)
        if pictures and used.size:
            last = int(plain[used[-1]])
            end = 8 * int(used[-1]) + 8 - (last & -last).bit_length()
            pictures[-1].append(_Intra(plain, end, head.bit, head.address, head.delta))
    return [p for p in pictures if p and p[0].address == 0]


def _follow(intra: _Intra, known: AvcParameters, width: int) -> int:
    """Macroblocks of an intra slice in CABAC; 0 where it cannot be read so."""
    qp, start = known.qp + intra.delta, -(-intra.start // 8)
    if not 0 <= qp <= 51:
        return 0
    form = _form(intra, known, width)
    done, _, came_to = cabac.read_slice(intra.data, start, intra.end, qp, form, cabac.context_starts(-1))
    return int(done) if came_to == WHOLE_SLICE else 0


def _follow_codes(intra: _Intra, known: AvcParameters, width: int) -> int:
    """The same in CAVLC."""
    form = _form(intra, known, width)
    done, _, came_to = cavlc.read_slice(intra.data, intra.start, intra.end, form, cavlc.figures())
    return int(done) if came_to == WHOLE_SLICE else 0


def _form(intra: _Intra, known: AvcParameters, width: int) -> Form:
    most = intra.address + MOST_BLOCKS
    return Form(I, intra.address, width, most, 0, 0, int(known.eight), 1, 2, 8 * 384)


def shown_size(known: AvcParameters) -> tuple[int, int]:
    """The size that is shown: a usual one where its macroblocks are those of the stream, else all of them."""
    for width, height in USUAL_SIZES:
        if (-(-width // 16) * 16, -(-height // 16) * 16) == (known.width, known.height):
            return width, height
    return known.width, known.height


def sequence_set(known: AvcParameters) -> bytes:
    """A sequence parameter set (7.3.2.1.1)."""
    out = BitWriter()
    out.put(100, 8)
    out.put(0, 8)
    out.put(52 if known.width * known.height > 4096 * 2304 else 51 if known.width > 2048 else 41, 8)
    for value in (0, 1, 0, 0):
        out.ue(value)
    out.put(0, 2)
    out.ue(known.number_bits - 4)
    if known.order_bits:
        out.ue(0)
        out.ue(known.order_bits - 4)
    else:
        out.ue(2)
    out.ue(known.stored)
    out.put(0, 1)
    out.ue(known.width // 16 - 1)
    out.ue(known.height // 16 - 1)
    out.put(0b11, 2)
    width, height = shown_size(known)
    cut = (known.width - width, known.height - height)
    out.put(int(any(cut)), 1)
    if any(cut):
        for value in (0, cut[0] // 2, 0, cut[1] // 2):
            out.ue(value)
    out.put(0, 1)
    return b"\x67" + out.unit()


def picture_set(known: AvcParameters) -> bytes:
    """A picture parameter set (7.3.2.2)."""
    out = BitWriter()
    out.ue(known.picture_set)
    out.ue(0)
    out.put(int(known.cabac), 1)
    out.put(int(known.bottom_order), 1)
    out.ue(0)
    out.ue(known.references - 1)
    out.ue(0)
    out.put(int(known.weighted), 1)
    out.put(known.bipred, 2)
    out.se(known.qp - 26)
    out.se(0)
    out.se(known.chroma_qp)
    out.put(int(known.deblocking), 1)
    out.put(0, 2)
    out.put(int(known.eight), 1)
    out.put(0, 1)
    out.se(known.chroma_qp)
    return b"\x68" + out.unit()
