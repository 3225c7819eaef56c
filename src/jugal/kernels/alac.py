"""ALAC packets followed to their last bit: is this a packet, and how long is it.

Nothing is predicted or mixed back: the adaptive Golomb codes of the residuals are read one after the other, since
where a packet ends hangs on every one of them. ``config`` is (frame length, bit depth, pb, mb, kb, channels).
"""

from __future__ import annotations

import numpy as np
from numba import njit

from jugal.kernels.compiling import bare

OK = 0
RESERVED = 1  # a reserved bit or an element that the coding does not have
CODE = 3  # more samples than the packet has, or a predictor that none is
CHANNELS = 4  # other channels than the configuration promises
OVERRUN = 5  # the packet goes on past the sample's end
SLACK = 6  # the packet ends before the sample does

_SINGLE, _PAIR, _LOW, _DATA, _FILL, _END = 0, 1, 3, 4, 6, 7
#: A prefix of this many ones is followed by the plain value.
_LONGEST_PREFIX = 9
_MEAN_SHIFT = 9
_MOST_MEAN = 0xFFFF


@bare
def _word(data, bit, end):  # type: ignore[no-untyped-def]
    """The 32 bits from ``bit`` on, as an int64; zeros behind ``end`` (in bytes)."""
    at = bit >> 3
    value = np.int64(0)
    if at + 5 <= end:
        value = (
            (np.int64(data[at]) << 32)
            | (np.int64(data[at + 1]) << 24)
            | (np.int64(data[at + 2]) << 16)
            | (np.int64(data[at + 3]) << 8)
            | np.int64(data[at + 4])
        )
    else:
        for k in range(5):
            value = (value << 8) | (np.int64(data[at + k]) if at + k < end else 0)
    return (value >> (8 - (bit & 7))) & 0xFFFFFFFF


@bare
def _width(value):  # type: ignore[no-untyped-def]
    """Bits that a value needs."""
    n = 0
    while value:
        value >>= 1
        n += 1
    return n


@bare
def _ones(word):  # type: ignore[no-untyped-def]
    """Ones that a word begins with, up to the longest prefix."""
    n = 0
    while n < _LONGEST_PREFIX and word & (0x80000000 >> n):
        n += 1
    return n


@bare
def _residuals(data, bit, end, count, size, pb, mb, kb):  # type: ignore[no-untyped-def]
    """Follows ``count`` residuals of at most ``size`` bits; returns (bit behind them, state)."""
    limit = end << 3
    mean, done, after_zeros = np.int64(mb), 0, 0
    while done < count:
        if bit >= limit:
            return bit, OVERRUN
        k = _width((mean >> _MEAN_SHIFT) + 3) - 1
        if k > kb:
            k = kb
        word = _word(data, bit, end)
        ones = _ones(word)
        if ones == _LONGEST_PREFIX:
            bit += _LONGEST_PREFIX
            value = _word(data, bit, end) >> (32 - size)
            bit += size
        else:
            bit += ones + 1
            value = np.int64(ones)
            if k != 1:
                value *= (1 << k) - 1
                low = (word << (ones + 1) & 0xFFFFFFFF) >> (32 - k)
                if low >= 2:
                    value += low - 1
                    bit += k
                else:
                    bit += k - 1
        done += 1
        mean = pb * (value + after_zeros) + mean - ((pb * mean) >> _MEAN_SHIFT)
        if value > _MOST_MEAN:
            mean = np.int64(_MOST_MEAN)
        after_zeros = 0
        if (mean << 2) < 512 and done < count:
            # A run of zeros, its length coded by what the mean was.
            k = 8 - _width(mean) + ((mean + 16) >> 6)
            word = _word(data, bit, end)
            ones = _ones(word)
            if ones == _LONGEST_PREFIX:
                run = (word >> (32 - _LONGEST_PREFIX - 16)) & 0xFFFF
                bit += _LONGEST_PREFIX + 16
            else:
                bit += ones + 1
                run = np.int64(ones) * (((1 << k) - 1) & ((1 << kb) - 1))
                low = (word << (ones + 1) & 0xFFFFFFFF) >> (32 - k)
                if low >= 2:
                    run += low - 1
                    bit += k
                else:
                    bit += k - 1
            done += run
            if done > count:
                return bit, CODE
            after_zeros = 0 if run >= _MOST_MEAN else 1
            mean = np.int64(0)
    return bit, OK if bit <= limit else OVERRUN


@njit(cache=True, nogil=True)
def _element(data, bit, end, two, config):  # type: ignore[no-untyped-def]
    """Follows a channel or a pair of channels behind its tag; returns (bit behind it, state)."""
    count, depth, pb, mb, kb = config[0], config[1], config[2], config[3], config[4]
    channels = 2 if two else 1
    head = _word(data, bit, end) >> 12  # instance 4, reserved 12, flags 4
    if head & 0xFFF0:
        return bit, RESERVED
    shift, partial, plain = (head >> 1) & 3, head & 8, head & 1
    bit += 20
    if shift == 3:
        return bit, RESERVED
    if partial:
        stated = _word(data, bit, end)
        bit += 32
        if stated == 0 or stated > count:
            return bit, CODE
        count = stated
    if plain:
        bit += count * depth * channels
        return bit, OK if bit <= end << 3 else OVERRUN
    size = depth - 8 * shift + (1 if two else 0)
    if size <= 0 or size > 32:
        return bit, RESERVED
    bit += 16
    factors = np.zeros(2, np.int64)
    for channel in range(channels):
        word = _word(data, bit, end) >> 16
        factors[channel] = (word >> 5) & 7
        taps = word & 31
        if (word >> 12) > 15 or taps > 30 + 1:
            return bit, CODE
        bit += 16 + 16 * taps
        if bit > end << 3:
            return bit, OVERRUN
    bit += count * 8 * shift * channels
    if bit > end << 3:
        return bit, OVERRUN
    for channel in range(channels):
        bit, state = _residuals(data, bit, end, count, size, pb * factors[channel] // 4, mb, kb)
        if state:
            return bit, state
    return bit, OK


@njit(cache=True, nogil=True)
def parse_packet(data, at, end, config):  # type: ignore[no-untyped-def]
    """Follows the packet at byte ``at`` of uint8 ``data``, bounded by ``end``; returns (bytes used, state)."""
    bit, channels = at << 3, 0
    for _ in range(64):
        if bit + 3 > end << 3:
            return 0, OVERRUN
        tag = _word(data, bit, end) >> 29
        bit += 3
        state = OK
        if tag == _END:
            if channels != config[5]:
                return 0, CHANNELS
            return ((bit + 7) >> 3) - at, OK
        if tag in (_SINGLE, _LOW, _PAIR):
            channels += 2 if tag == _PAIR else 1
            if channels > config[5]:
                return 0, CHANNELS
            bit, state = _element(data, bit, end, tag == _PAIR, config)
        elif tag == _FILL:
            count = _word(data, bit, end) >> 28
            bit += 4
            if count == 15:
                count += (_word(data, bit, end) >> 24) - 1
                bit += 8
            bit += 8 * count
        elif tag == _DATA:
            word = _word(data, bit, end)
            aligned, count = (word >> 27) & 1, (word >> 19) & 255
            bit += 13
            if count == 255:
                count += _word(data, bit, end) >> 24
                bit += 8
            if aligned:
                bit = (bit + 7) >> 3 << 3
            bit += 8 * count
        else:
            return 0, RESERVED
        if state:
            return 0, state
    return 0, RESERVED


@njit(cache=True, nogil=True)
def parse_samples(data, offsets, sizes, config, state):  # type: ignore[no-untyped-def]
    """Follows each sample at int64 ``offsets`` with ``sizes`` bytes, all inside ``data``; writes int8 ``state``."""
    for s in range(offsets.size):
        used, error = parse_packet(data, offsets[s], offsets[s] + sizes[s], config)
        state[s] = error if error else (OK if used == sizes[s] else SLACK)


@njit(cache=True, nogil=True)
def parse_run(data, at, end, least, config, ends):  # type: ignore[no-untyped-def]
    """Follows packets one behind the other from ``at``; writes where each ends to int64 ``ends``, returns how many.

    Stops before a zero byte behind the first packet: what begins there the caller knows better.
    """
    count = 0
    while count < ends.size and at < end:
        if count and data[at] == 0:
            break
        used, error = parse_packet(data, at, end, config)
        if error or used < least:
            break
        at += used
        ends[count] = at
        count += 1
    return count


@njit(cache=True, nogil=True)
def find_run(data, at, stop, end, goal, least, config):  # type: ignore[no-untyped-def]
    """The first place from ``at`` to ``stop`` where packets chain up to exactly ``goal`` (-1: three in a row do); -1."""
    for start in range(at, stop):
        here, count = start, 0
        while here < end and count < 4096:
            used, error = parse_packet(data, here, end, config)
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
def find_sized(data, at, stop, size, config):  # type: ignore[no-untyped-def]
    """The first place from ``at`` to ``stop`` where a packet of just ``size`` bytes stands; -1 where there is none."""
    for start in range(at, min(stop, data.size - size + 1)):
        used, error = parse_packet(data, start, start + size, config)
        if error == OK and used == size:
            return start
    return -1
