"""AAC raw data blocks (ISO/IEC 14496-3 subpart 4) parsed to their last bit: is this a frame, and how long is it.

Nothing is dequantised: the code words are followed, and every rule that a legal stream keeps is checked on the way.
"""

from __future__ import annotations

import json
from functools import cache
from importlib.resources import files
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from jugal.kernels.words import word64

OK = 0
RESERVED = 1  # a reserved bit or value is used
BAND = 2  # more bands or sections than the window has
CODE = 3  # a code word, a gain or an escape that no encoder writes
CHANNELS = 4  # other elements than the configuration promises
OVERRUN = 5  # the block goes on past the sample's end
SLACK = 6  # the block ends before the sample does
FAST_BITS = 9
UNKNOWN = -1  # coupling elements and tools that are not followed

#: Index of the sampling frequency → Hz (table 1.16).
RATES = (96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350)


class Books(NamedTuple):
    """Look-up tables of the twelve code books: entry = bits | signs << 8 | escapes << 12; 0 is no code word.

    ``scale`` answers 19 bits with bits | index << 8; ``spectral`` holds book b from ``first[b]``, asked with
    ``width[b]`` bits; before them stand tables of the words of up to FAST_BITS bits, ``1 << FAST_BITS`` a book, that of
    the scale factors at number 0.
    """

    scale: NDArray[np.int32]
    spectral: NDArray[np.int32]
    first: NDArray[np.int64]
    width: NDArray[np.int64]


class Bands(NamedTuple):
    """Scale factor band edges of one sampling frequency: long and short windows (4.5.4)."""

    long: NDArray[np.int64]
    short: NDArray[np.int64]


def _figures() -> dict:
    return json.loads(files("jugal.kernels").joinpath("aac_tables.json").read_text())


def _signs_and_escapes(book: int, index: int) -> tuple[int, int]:
    """Sign bits and possible escapes that follow code word ``index`` of spectral ``book`` (4.6.3)."""
    if book in (1, 2, 5, 6):
        return 0, 0
    base, count = {3: (3, 4), 4: (3, 4), 7: (8, 2), 8: (8, 2), 9: (13, 2), 10: (13, 2), 11: (17, 2)}[book]
    values = [index // base**k % base for k in range(count)]
    return sum(v != 0 for v in values), sum(v == 16 for v in values) if book == 11 else 0


@cache
def books() -> Books:
    """The code books (tables 4.A.1 to 4.A.12)."""
    figures = _figures()
    scale = np.zeros(1 << 19, np.int32)
    for index, (bits, code) in enumerate(figures["scale_factor"]):
        scale[code << (19 - bits) : (code + 1) << (19 - bits)] = bits | index << 8
    fast = np.zeros(12 << FAST_BITS, np.int32)
    few = scale[:: 1 << (19 - FAST_BITS)]
    fast[: 1 << FAST_BITS] = np.where((few & 255) <= FAST_BITS, few, 0)
    parts: list[NDArray[np.int32]] = [fast]
    first, width = np.zeros(12, np.int64), np.zeros(12, np.int64)
    for number, words in enumerate(figures["spectral"], 1):
        longest = max(bits for bits, _ in words)
        table = np.zeros(1 << longest, np.int32)
        for index, (bits, code) in enumerate(words):
            signs, escapes = _signs_and_escapes(number, index)
            table[code << (longest - bits) : (code + 1) << (longest - bits)] = bits | signs << 8 | escapes << 12
        if longest > FAST_BITS:
            few = table[:: 1 << (longest - FAST_BITS)]
            fast[number << FAST_BITS : (number + 1) << FAST_BITS] = np.where((few & 255) <= FAST_BITS, few, 0)
        first[number], width[number] = sum(p.size for p in parts), longest
        parts.append(table)
    return Books(scale, np.concatenate(parts), first, width)


@cache
def bands(rate_index: int) -> Bands:
    """Band edges of the sampling frequency with this index, 0 to 12."""
    figures = _figures()["bands"]
    return Bands(np.array(figures["1024"][rate_index], np.int64), np.array(figures["128"][rate_index], np.int64))


@njit(cache=True, nogil=True)
def _peek(data, bit, count, end):  # type: ignore[no-untyped-def]
    """``count`` (up to 24) bits from bit offset ``bit``; zeros past ``end`` bytes."""
    at = bit >> 3
    word = 0
    for k in range(4):
        word = (word << 8) | (data[at + k] if at + k < end else 0)
    return (word >> (32 - (bit & 7) - count)) & ((1 << count) - 1)


@njit(cache=True, nogil=True)
def _last_word(data, at, end):  # type: ignore[no-untyped-def]
    """Eight bytes from ``at`` as a big-endian uint64; zeros past ``end``."""
    word = np.uint64(0)
    for k in range(at, at + 8):
        word = (word << np.uint64(8)) | np.uint64(data[k] if k < end else 0)
    return word


@njit(cache=True, nogil=True)
def _window(data, bit, end, info, main, long_bands, short_bands):  # type: ignore[no-untyped-def]
    """ics_info (table 4.6). Fills ``info``: short, max_sfb, groups, then the group lengths. Returns (bit, error)."""
    if _peek(data, bit, 1, end):
        return bit, 1
    sequence = _peek(data, bit + 1, 2, end)
    bit += 4
    if sequence == 2:
        info[0] = 1
        info[1] = _peek(data, bit, 4, end)
        grouping = _peek(data, bit + 4, 7, end)
        bit += 11
        info[2] = 1
        info[3] = 1
        for k in range(6, -1, -1):
            if (grouping >> k) & 1:
                info[2 + info[2]] += 1
            else:
                info[2] += 1
                info[2 + info[2]] = 1
        return bit, 2 if info[1] > short_bands.size - 1 else 0
    info[0] = 0
    info[1] = _peek(data, bit, 6, end)
    info[2] = 1
    info[3] = 1
    predictor = _peek(data, bit + 6, 1, end)
    bit += 7
    if info[1] > long_bands.size - 1:
        return bit, 2
    if predictor:
        if not main:
            return bit, 1
        if _peek(data, bit, 1, end):
            bit += 5
        bit += 1 + min(info[1], 41)
    return bit, 0


@njit(cache=True, nogil=True)
def _channel(data, bit, end, info, common, main, edges_long, edges_short, scale, spectral, first, width, kinds):  # type: ignore[no-untyped-def]
    """individual_channel_stream (table 4.50). ``kinds`` is room for the code book of each band. Returns (bit, error)."""
    gain = _peek(data, bit, 8, end)
    bit += 8
    if not common:
        bit, error = _window(data, bit, end, info, main, edges_long, edges_short)
        if error:
            return bit, error
    short, most, groups = info[0], info[1], info[2]
    step = 3 if short else 5
    escape = (1 << step) - 1
    for g in range(groups):
        band = 0
        while band < most:
            if bit > end * 8:
                return bit, 5
            kind = _peek(data, bit, 4, end)
            bit += 4
            if kind == 12:
                return bit, 1
            length = 0
            while True:
                more = _peek(data, bit, step, end)
                bit += step
                length += more
                if more != escape or bit > end * 8:
                    break
            if band + length > most:
                return bit, 2
            for k in range(band, band + length):
                kinds[g * 64 + k] = kind
            band += length
    noise_first = True
    level, place = gain, 0
    for g in range(groups):
        for k in range(most):
            kind = kinds[g * 64 + k]
            if kind == 0:
                continue
            if kind == 13 and noise_first:
                noise_first = False
                bit += 9
                continue
            code = _peek(data, bit, 19, end)
            # Short code words are answered by a table that stays in the cache.
            entry = spectral[code >> (19 - FAST_BITS)]
            if entry == 0:
                entry = scale[code]
            if entry == 0:
                return bit, 3
            bit += entry & 255
            if bit > end * 8:
                return bit, 5
            change = (entry >> 8) - 60
            if kind == 13:
                continue
            if kind >= 14:
                place += change
                if place < -155 or place > 255:
                    return bit, 3
            else:
                level += change
                if level < 0 or level > 255:
                    return bit, 3
    pulse = _peek(data, bit, 1, end)
    bit += 1
    if pulse:
        if short:
            return bit, 1
        count = _peek(data, bit, 2, end) + 1
        if _peek(data, bit + 2, 6, end) > edges_long.size - 2:
            return bit, 2
        bit += 8 + 9 * count
    shaping = _peek(data, bit, 1, end)
    bit += 1
    if shaping:
        for _ in range(8 if short else 1):
            filters = _peek(data, bit, 1 if short else 2, end)
            bit += 1 if short else 2
            if filters == 0:
                continue
            resolution = _peek(data, bit, 1, end)
            bit += 1
            for _f in range(filters):
                bit += 4 if short else 6
                order = _peek(data, bit, 3 if short else 5, end)
                bit += 3 if short else 5
                if order > (7 if short else 20):
                    return bit, 3
                if order:
                    compress = _peek(data, bit + 1, 1, end)
                    bit += 2 + order * (3 + resolution - compress)
    if _peek(data, bit, 1, end):
        return bit, 1
    bit += 1
    for g in range(groups):
        for k in range(most):
            kind = kinds[g * 64 + k]
            if kind == 0 or kind > 11:
                continue
            lines = edges_short[k + 1] - edges_short[k] if short else edges_long[k + 1] - edges_long[k]
            words = lines * info[3 + g] // (4 if kind <= 4 else 2)
            base, bits = first[kind], width[kind]
            mask = np.uint64((1 << bits) - 1)
            used, word = 64, np.uint64(0)
            for _w in range(words):
                # Eight bytes are held in a word and used up before the next ones are fetched.
                if used + bits > 64:
                    used = bit & 7
                    word = word64(data, bit >> 3) if (bit >> 3) + 8 <= end else _last_word(data, bit >> 3, end)
                code = np.int64((word >> np.uint64(64 - used - bits)) & mask)
                entry = spectral[(kind << FAST_BITS) + (code >> (bits - FAST_BITS))] if bits > FAST_BITS else 0
                if entry == 0:
                    entry = spectral[base + code]
                if entry == 0:
                    return bit, 3
                step = (entry & 255) + ((entry >> 8) & 15)
                bit += step
                used = used + step if entry >> 12 == 0 else 64
                for _e in range(entry >> 12):
                    ones = 0
                    while ones < 9 and _peek(data, bit, 1, end):
                        ones += 1
                        bit += 1
                    if ones > 8:
                        return bit, 3
                    bit += 1 + ones + 4
            if bit > end * 8:
                return bit, 5
    return bit, 0


@njit(cache=True, nogil=True)
def _program(data, bit, end, begin):  # type: ignore[no-untyped-def]
    """program_config_element (table 4.2) after its tag: (bit behind it, channel pairs, single channels and LFE)."""
    bit += 6
    front, side, back = _peek(data, bit, 4, end), _peek(data, bit + 4, 4, end), _peek(data, bit + 8, 4, end)
    low, assoc, valid = _peek(data, bit + 12, 2, end), _peek(data, bit + 14, 3, end), _peek(data, bit + 17, 4, end)
    bit += 21
    for size in (4, 4, 3):
        present = _peek(data, bit, 1, end)
        bit += 1 + (size if present else 0)
    pairs = 0
    for _ in range(front + side + back):
        pairs += _peek(data, bit, 1, end)
        bit += 5
    bit += 5 * valid + 4 * (low + assoc)
    bit += -(bit - begin) % 8
    return bit + 8 + 8 * _peek(data, bit, 8, end), pairs, front + side + back - pairs + low


@njit(cache=True, nogil=True)
def parse_block(data, at, end, pairs, singles, main, edges_long, edges_short, scale, spectral, first, width):  # type: ignore[no-untyped-def]
    """Parses one raw_data_block of uint8 ``data`` from byte ``at``, reading no further than ``end``.

    ``pairs`` and ``singles`` are the channel pairs and single channels (LFE among them) that the configuration
    promises, -1 for any. Returns (bytes used, state).
    """
    begin = at * 8
    bit = begin
    info, kinds = np.zeros(16, np.int64), np.zeros(8 * 64, np.int64)
    seen_pairs = seen_singles = 0
    for _ in range(64):
        if bit > end * 8:
            return 0, 5
        element = _peek(data, bit, 3, end)
        bit += 3
        if element == 7:
            if pairs >= 0 and (seen_pairs != pairs or seen_singles != singles):
                return 0, 4
            used = (bit - begin + 7) >> 3
            return (used, 0) if at + used <= end else (0, 5)
        if element == 0 or element == 3:
            bit, error = _channel(
                data, bit + 4, end, info, False, main, edges_long, edges_short, scale, spectral, first, width, kinds
            )
            if error:
                return 0, error
            seen_singles += 1
        elif element == 1:
            common = _peek(data, bit + 4, 1, end)
            bit += 5
            if common:
                bit, error = _window(data, bit, end, info, main, edges_long, edges_short)
                if error:
                    return 0, error
                mask = _peek(data, bit, 2, end)
                bit += 2
                if mask == 3:
                    return 0, 1
                if mask == 1:
                    bit += info[1] * info[2]
            for _c in range(2):
                bit, error = _channel(
                    data,
                    bit,
                    end,
                    info,
                    common != 0,
                    main,
                    edges_long,
                    edges_short,
                    scale,
                    spectral,
                    first,
                    width,
                    kinds,
                )
                if error:
                    return 0, error
            seen_pairs += 1
        elif element == 4:
            aligned, count = _peek(data, bit + 4, 1, end), _peek(data, bit + 5, 8, end)
            bit += 13
            if count == 255:
                count += _peek(data, bit, 8, end)
                bit += 8
            if aligned:
                bit += -(bit - begin) % 8
            bit += 8 * count
        elif element == 5:
            bit, stated_pairs, stated_singles = _program(data, bit + 4, end, begin)
            if pairs >= 0 and (stated_pairs != pairs or stated_singles != singles):
                return 0, 4
        elif element == 6:
            count = _peek(data, bit, 4, end)
            bit += 4
            if count == 15:
                count += _peek(data, bit, 8, end) - 1
                bit += 8
            bit += 8 * count
        else:
            return 0, -1
        if pairs >= 0 and (seen_pairs > pairs or seen_singles > singles):
            return 0, 4
    return 0, 3


@njit(cache=True, nogil=True)
def parse_samples(  # type: ignore[no-untyped-def]
    data, offsets, sizes, pairs, singles, main, edges_long, edges_short, scale, spectral, first, width, state
):
    """Parses each sample at int64 ``offsets`` with ``sizes`` bytes, all inside ``data``; writes int8 ``state``."""
    for s in range(offsets.size):
        used, error = parse_block(
            data,
            offsets[s],
            offsets[s] + sizes[s],
            pairs,
            singles,
            main,
            edges_long,
            edges_short,
            scale,
            spectral,
            first,
            width,
        )
        state[s] = error if error else (0 if used == sizes[s] else 6)


@njit(cache=True, nogil=True)
def parse_run(  # type: ignore[no-untyped-def]
    data, at, end, least, pairs, singles, main, edges_long, edges_short, scale, spectral, first, width, ends
):
    """Parses blocks that follow each other from ``at``; writes where each ends to int64 ``ends``, returns how many.

    Stops at what is no block or has fewer than ``least`` bytes, before a zero byte behind the first block (a length
    prefix may begin there, which the caller knows better), and when ``ends`` is full.
    """
    count = 0
    while count < ends.size and at < end:
        if count and data[at] == 0:
            break
        used, error = parse_block(
            data, at, end, pairs, singles, main, edges_long, edges_short, scale, spectral, first, width
        )
        if error or used < least:
            break
        at += used
        ends[count] = at
        count += 1
    return count


@njit(cache=True, nogil=True)
def find_run(  # type: ignore[no-untyped-def]
    data, at, stop, end, goal, least, pairs, singles, main, edges_long, edges_short, scale, spectral, first, width
):
    """The first place from ``at`` to ``stop`` where blocks chain up to exactly ``goal``; -1 where there is none.

    With ``goal`` -1, three blocks in a row will do. ``end`` bounds what is read.
    """
    for start in range(at, stop):
        here, count = start, 0
        while here < end and count < 4096:
            used, error = parse_block(
                data, here, end, pairs, singles, main, edges_long, edges_short, scale, spectral, first, width
            )
            if error or used < least:
                break
            here += used
            count += 1
            if here == goal or (goal < 0 and count == 3):
                return start
            if goal >= 0 and here > goal:
                break
    return -1


@njit(cache=True, nogil=True)
def find_sized(  # type: ignore[no-untyped-def]
    data, at, stop, size, pairs, singles, main, edges_long, edges_short, scale, spectral, first, width
):
    """The first place from ``at`` to ``stop`` where a block of just ``size`` bytes stands; -1 where there is none."""
    for start in range(at, min(stop, data.size - size + 1)):
        used, error = parse_block(
            data, start, start + size, pairs, singles, main, edges_long, edges_short, scale, spectral, first, width
        )
        if error == 0 and used == size:
            return start
    return -1
