"""Video object planes of MPEG-4 Visual (ISO/IEC 14496-2 6.2.5 to 6.2.8, annex B), followed to their last bit.

Rectangular, progressive, in one partition, without sprites: what cameras and phones record. Pictures of H.263 without its
annexes (ITU-T H.263 5) have the same codes but for the DC values and escapes.
"""

from __future__ import annotations

import json
from importlib.resources import files
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jugal.kernels.compiling import bare, inlined
from jugal.kernels.macroblocks import BREAKS, ENDS_EARLY, ENDS_LATE, WHOLE_SLICE

#: Kinds of plane (table 6-20).
I, P, B = 0, 1, 2  # noqa: E741
#: Bytes behind the data that may be read before it is noticed that they have ended.
SLACK = 1024
_STUFFING_INTRA, _STUFFING_INTER = 8, 20
_ESCAPE = 102
_CODE_BITS, _TYPE_BITS = 12, 13
_WIDEST_RESYNC = 24
#: The code that may end a sequence of H.263 (5.1.27), 22 bits.
_END_OF_SEQUENCE = 0b111111


class Form(NamedTuple):
    """What a plane's data depend on: ``blocks`` macroblocks, the quantiser ``qp`` at first, ``threshold`` below which
    intra DC values have codes of their own (intra_dc_vlc_thr as table 6-21 reads it), the ranges of motion vectors,
    whether packets may begin, and how many bits a time increment has. ``rows`` is 0 but for H.263: how many macroblocks
    a group of blocks has there, each of which may begin with a header."""

    kind: int
    blocks: int
    qp: int
    threshold: int
    forward: int
    backward: int
    resync: int
    increment_bits: int
    rows: int = 0


class Codes(NamedTuple):
    """Codes by the bits that come next: symbol << 4 | length, 0 for none. Runs and lasts by symbol; the longest run by
    16 * last + level."""

    intra: NDArray[np.int64]
    inter: NDArray[np.int64]
    intra_run: NDArray[np.int64]
    inter_run: NDArray[np.int64]
    intra_level: NDArray[np.int64]
    inter_level: NDArray[np.int64]
    intra_longest: NDArray[np.int64]
    inter_longest: NDArray[np.int64]
    dc_luma: NDArray[np.int64]
    dc_chroma: NDArray[np.int64]
    type_intra: NDArray[np.int64]
    type_inter: NDArray[np.int64]
    pattern: NDArray[np.int64]
    motion: NDArray[np.int64]
    intra_last: int
    inter_last: int


def _looked_up(pairs: list[list[int]], bits: int) -> NDArray[np.int64]:
    table = np.zeros(1 << bits, np.int64)
    for symbol, (code, length) in enumerate(pairs):
        if length:
            first = code << (bits - length)
            table[first : first + (1 << (bits - length))] = symbol << 4 | length
    return table


def _read_codes() -> Codes:
    read = json.loads(files("jugal.kernels").joinpath("visual_tables.json").read_text())
    runs, levels, longest = {}, {}, {}
    for name in ("intra", "inter"):
        runs[name] = np.array(read[f"{name}_run"], np.int64)
        levels[name] = np.array(read[f"{name}_level"], np.int64)
        longest[name] = np.zeros(64, np.int64)
        last = np.arange(_ESCAPE) >= read[f"{name}_last"]
        np.maximum.at(longest[name], 32 * last + levels[name], runs[name])
    return Codes(
        _looked_up(read["intra"], _CODE_BITS), _looked_up(read["inter"], _CODE_BITS), runs["intra"], runs["inter"],
        levels["intra"], levels["inter"], longest["intra"], longest["inter"],
        _looked_up(read["dc_luma"], _CODE_BITS), _looked_up(read["dc_chroma"], _CODE_BITS),
        _looked_up(read["type_intra"], _TYPE_BITS), _looked_up(read["type_inter"], _TYPE_BITS),
        _looked_up(read["pattern"], _CODE_BITS), _looked_up(read["motion"], _CODE_BITS),
        read["intra_last"], read["inter_last"],
    )  # fmt: skip


CODES = _read_codes()


@inlined
def _peek(data, at, count):  # type: ignore[no-untyped-def]
    """The next ``count`` bits, 32 at most."""
    byte = at >> 3
    value = np.int64(0)
    for k in range(5):
        value = value << 8 | np.int64(data[byte + k])
    return value >> (40 - (at & 7) - count) & ((np.int64(1) << count) - 1)


@bare
def _coefficients(data, at, place, short, codes, runs, levels, longest, last_from):  # type: ignore[no-untyped-def]
    """The bit behind a block's coefficients, the first of which is number ``place``; -1 where there are none such."""
    while True:
        code = codes[_peek(data, at, 12)]
        if code == 0:
            return np.int64(-1)
        which = code >> 4
        at += code & 15
        if which != _ESCAPE:
            run, last = runs[which], which >= last_from
            at += 1
        elif short:
            value = _peek(data, at, 15)
            at += 15
            last, run = value >> 14 & 1, value >> 8 & 63
            if value & 0x7F == 0:
                return np.int64(-1)
        else:
            mode = _peek(data, at, 2)
            if mode == 3:
                value = _peek(data, at + 2, 21)
                at += 23
                last, run, level = value >> 20 & 1, value >> 14 & 63, value >> 1 & 0xFFF
                if not value & 1 or not value >> 13 & 1 or level in (0, 0x800):
                    return np.int64(-1)
            else:
                at += 1 + (mode >> 1)
                code = codes[_peek(data, at, 12)]
                which = code >> 4
                if code == 0 or which == _ESCAPE:
                    return np.int64(-1)
                run, last = runs[which], which >= last_from
                if mode == 2:
                    run += longest[(32 if last else 0) + levels[which]] + 1
                at += (code & 15) + 1
        place += run + 1
        if place > 64:
            return np.int64(-1)
        if last:
            return at


@bare
def _vector(data, at, bits, motion):  # type: ignore[no-untyped-def]
    """The bit behind a motion vector (6.2.6.2), whose parts have ``bits`` more than their code; -1 where there is none."""
    for _ in range(2):
        code = motion[_peek(data, at, 12)]
        if code == 0:
            return np.int64(-1)
        at += code & 15
        if code >> 4:
            at += 1 + bits
    return at


@bare
def _intra_block(data, at, chroma, coded, own, short, codes):  # type: ignore[no-untyped-def]
    place = 0
    if short:
        if _peek(data, at, 8) & 0x7F == 0:
            return np.int64(-1)
        at += 8
        if coded:
            return _coefficients(
                data,
                at,
                1,
                True,
                codes.inter,
                codes.inter_run,
                codes.inter_level,
                codes.inter_longest,
                codes.inter_last,
            )
        return at
    if own:
        code = codes.dc_chroma[_peek(data, at, 12)] if chroma else codes.dc_luma[_peek(data, at, 12)]
        if code == 0:
            return np.int64(-1)
        size = code >> 4
        at += (code & 15) + size
        if size > 8:
            if not _peek(data, at, 1):
                return np.int64(-1)
            at += 1
        place = 1
    if coded:
        return _coefficients(
            data,
            at,
            place,
            False,
            codes.intra,
            codes.intra_run,
            codes.intra_level,
            codes.intra_longest,
            codes.intra_last,
        )
    return at


@bare
def _blocks(data, at, intra, pattern, own, short, codes):  # type: ignore[no-untyped-def]
    """The bit behind the six blocks of a macroblock, of which ``pattern`` says whether they are coded."""
    for k in range(6):
        coded = pattern >> (5 - k) & 1
        if intra:
            at = _intra_block(data, at, k > 3, coded, own, short, codes)
        elif coded:
            at = _coefficients(
                data,
                at,
                0,
                short,
                codes.inter,
                codes.inter_run,
                codes.inter_level,
                codes.inter_longest,
                codes.inter_last,
            )
        if at < 0:
            return at
    return at


@bare
def _macroblock(data, at, form, qp, codes):  # type: ignore[no-untyped-def]
    """(The bit behind a macroblock of an I or P plane, the quantiser after it), whose type comes next; (-1, qp) where
    there is none, (-2 - bit, qp) behind stuffing."""
    code = codes.type_intra[_peek(data, at, 13)] if form.kind == I else codes.type_inter[_peek(data, at, 13)]
    if code == 0:
        return np.int64(-1), qp
    which = code >> 4
    at += code & 15
    if which == (_STUFFING_INTRA if form.kind == I else _STUFFING_INTER):
        return -2 - at, qp
    kind = which >> 2
    intra = form.kind == I or kind in (1, 3)
    changed = kind == 1 if form.kind == I else kind in (2, 3, 6)
    if intra and not form.rows:
        at += 1
    code = codes.pattern[_peek(data, at, 12)]
    if code == 0:
        return np.int64(-1), qp
    at += code & 15
    luma = code >> 4 if intra else 15 - (code >> 4)
    own = qp < form.threshold
    if changed:
        step = _peek(data, at, 2)
        at += 2
        qp = min(31, max(1, qp + (step - 1 if step > 1 else -1 - step)))
    if not intra:
        for _ in range(4 if kind in (4, 6) else 1):
            at = _vector(data, at, form.forward - 1, codes.motion)
            if at < 0:
                return at, qp
    return _blocks(data, at, intra, luma << 2 | (which & 3), own, form.rows > 0, codes), qp


@bare
def _between(data, at, form, codes):  # type: ignore[no-untyped-def]
    """The bit behind a macroblock of a B plane that is not skipped (6.2.6)."""
    if _peek(data, at, 1):
        return at + 1
    has_pattern = not _peek(data, at + 1, 1)
    at += 2
    kind = 0
    while kind < 4 and not _peek(data, at, 1):
        kind += 1
        at += 1
    at += 1
    if kind == 4:
        return np.int64(-1)
    pattern = np.int64(0)
    if has_pattern:
        pattern = _peek(data, at, 6)
        at += 6
    if kind and pattern:
        at += 2 if _peek(data, at, 1) else 1
    if kind == 0:
        at = _vector(data, at, 0, codes.motion)
    else:
        if kind in (1, 3):
            at = _vector(data, at, form.forward - 1, codes.motion)
        if kind in (1, 2) and at >= 0:
            at = _vector(data, at, form.backward - 1, codes.motion)
    if at < 0:
        return at
    return _blocks(data, at, False, pattern, False, False, codes)


@bare
def _packet(data, at, form, number):  # type: ignore[no-untyped-def]
    """(The bit behind a video packet's header, its quantiser) that begins at ``at`` with macroblock ``number``
    (6.2.5.2); (-1, 0) where it is none, (at, 0) where none begins."""
    fill = 8 - (at & 7)
    if _peek(data, at, fill) != (1 << (fill - 1)) - 1 or _peek(data, at + fill, 16):
        return at, np.int64(0)
    here = at + fill
    zeros = 16
    while zeros < _WIDEST_RESYNC and not _peek(data, here + zeros, 1):
        zeros += 1
    least = 16 if form.kind == I else 15 + form.forward if form.kind == P else 15 + max(form.forward, form.backward, 2)
    if zeros != least:
        return at, np.int64(0)
    here += zeros + 1
    bits = 0
    while 1 << bits < form.blocks:
        bits += 1
    if _peek(data, here, bits) != number:
        return np.int64(-1), np.int64(0)
    here += bits
    qp = _peek(data, here, 5)
    extended = _peek(data, here + 5, 1)
    here += 6
    if extended:
        while _peek(data, here, 1) and here < at + 256:
            here += 1
        here += 1
        if not _peek(data, here, 1) or not _peek(data, here + 1 + form.increment_bits, 1):
            return np.int64(-1), np.int64(0)
        here += 2 + form.increment_bits
        if _peek(data, here, 2) != form.kind:
            return np.int64(-1), np.int64(0)
        here += 5 + (3 if form.kind != I else 0) + (3 if form.kind == B else 0)
    return (here, qp) if qp else (np.int64(-1), np.int64(0))


@bare
def _group(data, at, form, number):  # type: ignore[no-untyped-def]
    """``_packet`` for a group of blocks of H.263 (5.2) that begins with macroblock ``number``."""
    if _peek(data, at, 16):
        return at, np.int64(0)
    here = at + 16
    while here < at + 24 and not _peek(data, here, 1):
        here += 1
    fields = _peek(data, here, 13)
    if not fields >> 12 or fields >> 7 & 31 != number // form.rows or not fields & 31:
        return np.int64(-1), np.int64(0)
    return here + 13, fields & 31


@bare
def _closed(data, at, end, form):  # type: ignore[no-untyped-def]
    """The bit behind what fills a plane's last byte; -1 where it is filled otherwise."""
    if form.rows:
        fill = -at & 7
        if fill and _peek(data, at, fill):
            return np.int64(-1)
        at += fill
        return at + 24 if at + 24 <= end and _peek(data, at, 22) == _END_OF_SEQUENCE else at
    fill = 8 - (at & 7)
    return at + fill if _peek(data, at, fill) == (1 << (fill - 1)) - 1 else np.int64(-1)


def read_plane(
    data: NDArray[np.uint8], start: int, end: int, form: Form, skipped: NDArray[np.uint8]
) -> tuple[int, int, int]:
    """Follows the plane of ``form`` whose macroblocks begin with bit ``start`` of ``data`` and whose bytes end at ``end``.

    Behind ``end`` come ``SLACK`` bytes more. ``skipped`` says which macroblocks of the last I or P plane have no bits of
    their own: set by those, needed by B planes. Returns (macroblocks read, the bit reached, what it came to) as
    ``cabac.read_slice`` does; where it came to no end, the bit is the place of the one that ends the plane.
    """
    found: tuple[int, int, int] = _read(data, start, 8 * end, form, skipped, CODES)
    return found


@bare
def _read(data, at, end, form, skipped, codes):  # type: ignore[no-untyped-def]
    qp = form.qp
    done = 0
    while done < form.blocks:
        if form.resync and done and (not form.rows or done % form.rows == 0):
            behind, fresh = _group(data, at, form, done) if form.rows else _packet(data, at, form, done)
            # A packet may end in macroblocks without bits, in front of which the next one's header is seen already.
            if behind < 0 and not (form.kind == B and skipped[done]):
                return done, at, BREAKS
            if behind > at:
                at, qp = behind, fresh
        before = at
        if form.kind == B:
            if not skipped[done]:
                at = _between(data, at, form, codes)
        else:
            here = at
            while True:
                empty = form.kind == P and _peek(data, here, 1) == 1
                if empty:
                    at = here + 1
                    break
                at, qp = _macroblock(data, here + (1 if form.kind == P else 0), form, qp, codes)
                if at >= -1:
                    break
                here = -2 - at
                if here > end:
                    at = end + 1
                    break
            skipped[done] = empty
        if at < 0:
            return done, before, BREAKS
        if at > end:
            return done, end, ENDS_LATE
        done += 1
    behind = _closed(data, at, end, form)
    if behind < 0 or behind > end:
        return done, at, BREAKS if behind < 0 else ENDS_LATE
    at = behind
    for byte in range(at >> 3, end >> 3):
        if data[byte]:
            return done, at, ENDS_EARLY
    return done, at, WHOLE_SLICE
