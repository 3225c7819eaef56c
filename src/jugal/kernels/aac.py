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

from jugal.kernels.compiling import bare, inlined
from jugal.kernels.words import word64

OK = 0
RESERVED = 1  # a reserved bit or value is used
BAND = 2  # more bands or sections than the window has
CODE = 3  # a code word, a gain or an escape that no encoder writes
CHANNELS = 4  # other elements than the configuration promises
OVERRUN = 5  # the block goes on past the sample's end
SLACK = 6  # the block ends before the sample does
FAST_BITS, SHORT_BITS = 11, 9
UNKNOWN = -1  # coupling elements and tools that are not followed

#: Index of the sampling frequency → Hz (table 1.16).
RATES = (96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350)


class Books(NamedTuple):
    """Look-up tables of the twelve code books; an entry is 0 where there is no code word.

    ``scale`` answers 19 bits with bits | index << 8; ``spectral`` holds book b from ``first[b]`` and answers ``width[b]``
    bits with bits of the word and its signs | escapes << 8. ``short`` answers SHORT_BITS bits of scale factors where the
    word is no longer than that, and ``fast`` FAST_BITS bits of book b from ``b << FAST_BITS`` with as many words without
    escapes as they hold: bits of the first with its signs | bits of all << 5 | words << 10.
    """

    scale: NDArray[np.int16]
    short: NDArray[np.int16]
    fast: NDArray[np.int16]
    spectral: NDArray[np.int16]
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
    scale = np.zeros(1 << 19, np.int16)
    for index, (bits, code) in enumerate(figures["scale_factor"]):
        scale[code << (19 - bits) : (code + 1) << (19 - bits)] = bits | index << 8
    few = scale[:: 1 << (19 - SHORT_BITS)]
    parts: list[NDArray[np.int16]] = []
    first, width = np.zeros(12, np.int64), np.zeros(12, np.int64)
    fast = np.zeros((12, 1 << FAST_BITS), np.int16)
    for number, words in enumerate(figures["spectral"], 1):
        longest = max(bits for bits, _ in words)
        table, lengths = np.zeros(1 << longest, np.int16), np.zeros(1 << longest, np.int16)
        for index, (bits, code) in enumerate(words):
            signs, escapes = _signs_and_escapes(number, index)
            span = slice(code << (longest - bits), (code + 1) << (longest - bits))
            table[span], lengths[span] = (bits + signs) | escapes << 8, bits
        first[number], width[number] = sum(p.size for p in parts), longest
        parts.append(table)
        fast[number] = _several(table, lengths, longest)
    return Books(scale, np.where((few & 255) <= SHORT_BITS, few, 0), fast.ravel(), np.concatenate(parts), first, width)


def _several(table: NDArray[np.int16], lengths: NDArray[np.int16], longest: int) -> NDArray[np.int64]:
    """The part of ``Books.fast`` for a book whose ``longest`` bits are answered by ``table``, words having ``lengths``."""
    patterns = np.arange(1 << FAST_BITS)
    first, bits, count = (np.zeros(patterns.size, np.int64) for _ in range(3))
    going = np.ones(patterns.size, np.bool_)
    while going.any():
        # What follows the words so far, with zeros behind that a word that counts does not reach.
        asked = (patterns << np.minimum(bits, FAST_BITS) << longest >> FAST_BITS) & ((1 << longest) - 1)
        going &= (bits + lengths[asked] <= FAST_BITS) & (table[asked] >> 8 == 0)
        bits[going] += table[asked[going]]
        count[going] += 1
        first = np.where(count == 1, bits, first)
    return first | bits << 5 | count << 10


@cache
def bands(rate_index: int) -> Bands:
    """Band edges of the sampling frequency with this index, 0 to 12."""
    figures = _figures()["bands"]
    return Bands(np.array(figures["1024"][rate_index], np.int64), np.array(figures["128"][rate_index], np.int64))


@bare
def _last_word(data, at, end):  # type: ignore[no-untyped-def]
    """Eight bytes from ``at`` as a big-endian uint64; zeros past ``end``."""
    word = np.uint64(0)
    for k in range(at, at + 8):
        word = (word << np.uint64(8)) | np.uint64(data[k] if k < end else 0)
    return word


@inlined
def _word(data, at, end):  # type: ignore[no-untyped-def]
    """Eight bytes from ``at`` as a big-endian uint64; zeros past ``end``, which is not past the data's."""
    return word64(data, at) if at + 8 <= end else _last_word(data, at, end)


@bare
def _peek(data, bit, count, end):  # type: ignore[no-untyped-def]
    """``count`` (1 to 24) bits from bit offset ``bit``; zeros past ``end`` bytes."""
    word = _word(data, bit >> 3, end) << np.uint64(bit & 7)
    return np.int64(word >> np.uint64(64 - count))


@bare
def _window(data, bit, end, info, main, bands):  # type: ignore[no-untyped-def]
    """ics_info (table 4.6). Fills ``info``: short, max_sfb, groups, then the group lengths. Returns (bit, error)."""
    if _peek(data, bit, 1, end):
        return bit, RESERVED
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
        return bit, BAND if info[1] > bands.short.size - 1 else OK
    info[0] = 0
    info[1] = _peek(data, bit, 6, end)
    info[2] = 1
    info[3] = 1
    predictor = _peek(data, bit + 6, 1, end)
    bit += 7
    if info[1] > bands.long.size - 1:
        return bit, BAND
    if predictor:
        if not main:
            return bit, RESERVED
        if _peek(data, bit, 1, end):
            bit += 5
        bit += 1 + min(info[1], 41)
    return bit, OK


@bare
def _sections(data, bit, end, info, edges, sections):  # type: ignore[no-untyped-def]
    """section_data (table 4.52): code book, bands and spectral lines of each section, in int64 ``sections`` (n, 3).

    Sections of no bands are left out. Returns (bit, error, sections).
    """
    step = 3 if info[0] else 5
    escape, most, count = (1 << step) - 1, info[1], 0
    for g in range(info[2]):
        band = 0
        while band < most:
            if bit > end * 8:
                return bit, OVERRUN, 0
            both = _peek(data, bit, 4 + step, end)
            kind, length = both >> step, both & escape
            bit += 4 + step
            if kind == 12:
                return bit, RESERVED, 0
            more = length
            while more == escape and bit <= end * 8:
                more = _peek(data, bit, step, end)
                bit += step
                length += more
            if band + length > most:
                return bit, BAND, 0
            if length:
                sections[count, 0], sections[count, 1] = kind, length
                sections[count, 2] = (edges[band + length] - edges[band]) * info[3 + g]
                count += 1
            band += length
    return bit, OK, count


@bare
def _scale_factors(data, bit, end, level, sections, books):  # type: ignore[no-untyped-def]
    """scale_factor_data (table 4.53) from global gain ``level``. Returns (bit, error)."""
    noise_first = True
    place = 0
    for s in range(sections.shape[0]):
        kind = sections[s, 0]
        if kind == 0:
            continue
        for _ in range(sections[s, 1]):
            if kind == 13 and noise_first:
                noise_first = False
                bit += 9
                continue
            code = _peek(data, bit, 19, end)
            # Short code words are answered by a table that stays in the cache.
            entry = books.short[code >> (19 - SHORT_BITS)]
            if entry == 0:
                entry = books.scale[code]
            if entry == 0:
                return bit, CODE
            bit += entry & 255
            if bit > end * 8:
                return bit, OVERRUN
            if kind == 13:
                continue
            change = (entry >> 8) - 60
            if kind >= 14:
                place += change
                if place < -155 or place > 255:
                    return bit, CODE
            else:
                level += change
                if level < 0 or level > 255:
                    return bit, CODE
    return bit, OK


@bare
def _tools(data, bit, end, short, bands):  # type: ignore[no-untyped-def]
    """pulse_data, tns_data and the bit for gain control (tables 4.50, 4.54, 4.55). Returns (bit, error)."""
    pulse = _peek(data, bit, 1, end)
    bit += 1
    if pulse:
        if short:
            return bit, RESERVED
        count = _peek(data, bit, 2, end) + 1
        if _peek(data, bit + 2, 6, end) > bands.long.size - 2:
            return bit, BAND
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
                    return bit, CODE
                if order:
                    compress = _peek(data, bit + 1, 1, end)
                    bit += 2 + order * (3 + resolution - compress)
    if _peek(data, bit, 1, end):
        return bit, RESERVED
    return bit + 1, OK


@bare
def _spectrum(data, bit, end, sections, books):  # type: ignore[no-untyped-def]
    """spectral_data (table 4.56). Returns (bit, error)."""
    for s in range(sections.shape[0]):
        kind = sections[s, 0]
        if kind == 0 or kind > 11:
            continue
        base, bits, quick = books.first[kind], books.width[kind], kind << FAST_BITS
        left = sections[s, 2] >> (2 if kind <= 4 else 1)
        while left > 0:
            # Eight bytes are held in a word; after the bits that precede the first code word they do for three looks.
            ahead = _word(data, bit >> 3, end) << np.uint64(bit & 7)
            for _ in range(3):
                several = books.fast[quick + np.int64(ahead >> np.uint64(64 - FAST_BITS))]
                if several == 0 or left <= 0:
                    break
                all_fit = several >> 10 <= left
                step = (several >> 5 if all_fit else several) & 31
                left -= several >> 10 if all_fit else 1
                bit += step
                ahead <<= np.uint64(step)
            if several or left <= 0:
                continue
            entry = books.spectral[base + np.int64(ahead >> np.uint64(64 - bits))]
            if entry == 0:
                return bit, CODE
            left -= 1
            bit += entry & 255
            for _ in range(entry >> 8):
                ones = 0
                while ones < 9 and _peek(data, bit, 1, end):
                    ones += 1
                    bit += 1
                if ones > 8:
                    return bit, CODE
                bit += 1 + ones + 4
        if bit > end * 8:
            return bit, OVERRUN
    return bit, OK


@bare
def _channel(data, bit, end, common, main, bands, books, info, sections):  # type: ignore[no-untyped-def]
    """individual_channel_stream (table 4.50). ``info`` and ``sections`` are rooms to work in. Returns (bit, error)."""
    gain = _peek(data, bit, 8, end)
    bit += 8
    if not common:
        bit, error = _window(data, bit, end, info, main, bands)
        if error:
            return bit, error
    bit, error, count = _sections(data, bit, end, info, bands.short if info[0] else bands.long, sections)
    if error:
        return bit, error
    bit, error = _scale_factors(data, bit, end, gain, sections[:count], books)
    if error:
        return bit, error
    bit, error = _tools(data, bit, end, info[0], bands)
    if error:
        return bit, error
    return _spectrum(data, bit, end, sections[:count], books)


@bare
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
def _rooms():  # type: ignore[no-untyped-def]
    """What a block is parsed with: its window's figures (see ``_window``), and its sections, of which a band begins one at most."""
    return np.empty(16, np.int64), np.empty((8 * 64, 3), np.int64)


@bare
def _block(data, at, end, pairs, singles, main, bands, books, info, sections):  # type: ignore[no-untyped-def]
    """``parse_block`` in rooms that are there."""
    begin = at * 8
    bit = begin
    seen_pairs = seen_singles = 0
    for _ in range(64):
        if bit > end * 8:
            return 0, OVERRUN
        element = _peek(data, bit, 3, end)
        bit += 3
        if element == 7:
            if pairs >= 0 and (seen_pairs != pairs or seen_singles != singles):
                return 0, CHANNELS
            used = (bit - begin + 7) >> 3
            return (used, OK) if at + used <= end else (0, OVERRUN)
        if element == 0 or element == 3:
            bit, error = _channel(data, bit + 4, end, False, main, bands, books, info, sections)
            if error:
                return 0, error
            seen_singles += 1
        elif element == 1:
            common = _peek(data, bit + 4, 1, end)
            bit += 5
            if common:
                bit, error = _window(data, bit, end, info, main, bands)
                if error:
                    return 0, error
                mask = _peek(data, bit, 2, end)
                bit += 2
                if mask == 3:
                    return 0, RESERVED
                if mask == 1:
                    bit += info[1] * info[2]
            for _c in range(2):
                bit, error = _channel(data, bit, end, common != 0, main, bands, books, info, sections)
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
                return 0, CHANNELS
        elif element == 6:
            count = _peek(data, bit, 4, end)
            bit += 4
            if count == 15:
                count += _peek(data, bit, 8, end) - 1
                bit += 8
            bit += 8 * count
        else:
            return 0, UNKNOWN
        if pairs >= 0 and (seen_pairs > pairs or seen_singles > singles):
            return 0, CHANNELS
    return 0, CODE


@njit(cache=True, nogil=True)
def parse_block(data, at, end, pairs, singles, main, bands, books):  # type: ignore[no-untyped-def]
    """Parses one raw_data_block of uint8 ``data`` from byte ``at``, reading no further than ``end``.

    ``pairs`` and ``singles`` are the channel pairs and single channels (LFE among them) that the configuration
    promises, -1 for any. Returns (bytes used, state).
    """
    info, sections = _rooms()
    return _block(data, at, end, pairs, singles, main, bands, books, info, sections)


@njit(cache=True, nogil=True)
def parse_samples(data, offsets, sizes, pairs, singles, main, bands, books, state):  # type: ignore[no-untyped-def]
    """Parses each sample at int64 ``offsets`` with ``sizes`` bytes, all inside ``data``; writes int8 ``state``."""
    info, sections = _rooms()
    for s in range(offsets.size):
        at, end = offsets[s], offsets[s] + sizes[s]
        used, error = _block(data, at, end, pairs, singles, main, bands, books, info, sections)
        state[s] = error if error else (OK if used == sizes[s] else SLACK)


@njit(cache=True, nogil=True)
def parse_run(data, at, end, least, pairs, singles, main, bands, books, ends):  # type: ignore[no-untyped-def]
    """Parses blocks that follow each other from ``at``; writes where each ends to int64 ``ends``, returns how many.

    Stops at what is no block or has fewer than ``least`` bytes, before a zero byte behind the first block (a length
    prefix may begin there, which the caller knows better), and when ``ends`` is full.
    """
    info, sections = _rooms()
    count = 0
    while count < ends.size and at < end:
        if count and data[at] == 0:
            break
        used, error = _block(data, at, end, pairs, singles, main, bands, books, info, sections)
        if error or used < least:
            break
        at += used
        ends[count] = at
        count += 1
    return count


@njit(cache=True, nogil=True)
def find_run(data, at, stop, end, goal, least, pairs, singles, main, bands, books):  # type: ignore[no-untyped-def]
    """The first place from ``at`` to ``stop`` where blocks chain up to exactly ``goal``; -1 where there is none.

    With ``goal`` -1, three blocks in a row will do. ``end`` bounds what is read.
    """
    info, sections = _rooms()
    for start in range(at, stop):
        here, count = start, 0
        while here < end and count < 4096:
            used, error = _block(data, here, end, pairs, singles, main, bands, books, info, sections)
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
def find_sized(data, at, stop, size, pairs, singles, main, bands, books):  # type: ignore[no-untyped-def]
    """The first place from ``at`` to ``stop`` where a block of just ``size`` bytes stands; -1 where there is none."""
    info, sections = _rooms()
    for start in range(at, min(stop, data.size - size + 1)):
        used, error = _block(data, start, start + size, pairs, singles, main, bands, books, info, sections)
        if error == 0 and used == size:
            return start
    return -1
