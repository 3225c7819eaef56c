"""The codes of a Huffman table settled all at once, of what speaks for each length and symbol where codes of it come.

The table that an encoder fits is the one that K.2 makes of how often its codes come (ITU-T T.81 K.2), and among codes of one length
symbols ascend. So few tables are possible at all, and of these the evidence chooses.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from jugal.kernels.optimal import LONGEST, fit_code

#: Codes that a table may have.
MOST_CODES = 250
#: From which length on symbols need not ascend, as codes that were limited to 16 bits are ordered by what they were before, and
#: what one that does not costs there and elsewhere, in bits.
_LIMITED, _SELDOM, _NEVER = 15, 3.0, 20.0
#: Nothing is as unlikely as this.
_NOTHING = -1e18


@njit(cache=True, nogil=True)
def place_symbols(  # type: ignore[no-untyped-def]
    lengths, number, strict, begin, placed, evidence, prior, price, chosen
):  # fmt: skip
    """The best symbols for groups of codes from the 16 bits ``begin`` on; returns what speaks for them, in bits.

    Of each group int64 ``number`` codes have so many bits (``lengths``), and their symbols ascend; without being ``strict``, groups
    of long codes only mostly do. ``evidence`` (places + 1, lengths, symbols) is summed up over places of which int64 ``placed``
    (65537) lie before so many bits, and its lengths end with 16; ``prior`` (17, symbols) speaks for a symbol having a code of a
    length, ``price`` against having one. To int64 ``chosen`` go the symbols, as indices; one may come twice.
    """
    symbols = evidence.shape[2]
    shortest = LONGEST + 1 - evidence.shape[1]
    best, after = np.empty(symbols), np.empty(symbols)
    back = np.empty((MOST_CODES, symbols), np.int32)
    at, done, total = begin, 0, 0.0
    for group in range(lengths.size):
        length = lengths[group]
        size, cost = 1 << (LONGEST - length), _SELDOM if length >= _LIMITED and not strict else _NEVER
        for k in range(number[group]):
            if at + size > 1 << LONGEST or k == MOST_CODES:
                return _NOTHING
            low, high = placed[at], placed[at + size]
            top = int(np.argmax(best)) if k else -1
            running, runner = _NOTHING, -1
            for s in range(symbols):
                gain = np.float64(evidence[high, length - shortest, s]) - evidence[low, length - shortest, s]
                gain += prior[length, s] - price[s]
                if k == 0:
                    after[s], back[k, s] = gain, -1
                    continue
                before, via = running, runner
                if top != s and best[top] - cost > before:
                    before, via = best[top] - cost, top
                after[s], back[k, s] = before + gain, via
                if best[s] > running:
                    running, runner = best[s], s
            best[:] = after
            at += size
        if number[group]:
            one = int(np.argmax(best))
            total += best[one]
            for k in range(number[group] - 1, -1, -1):
                chosen[done + k] = one
                one = back[k, one]
            done += number[group]
    return total


@njit(cache=True, nogil=True)
def misfit(number, often, known, symbols, chosen, room):  # type: ignore[no-untyped-def]
    """By how many codes int64 ``number`` (17) differs from what K.2 makes of how often these codes come, one that
    never does as two.

    ``often`` (65537) counts codes that were met before so many 16 bits; the first codes are those of int64 ``known`` symbols, then
    come the ``chosen`` ones of ``symbols``. Int64 ``room`` (3, 256) is left with the counts, the order of symbols that they make,
    and the size of each symbol's code before it is limited, see ``fit_code``.
    """
    room[0] = 0
    at, code, free, unmet = 0, 0, 0, 0
    for length in range(1, LONGEST + 1):
        size = 1 << (LONGEST - length)
        for _ in range(number[length]):
            symbol = known[code] if code < known.size else symbols[chosen[code - known.size]]
            while room[0, symbol] > 0:
                symbol = free
                free += 1
            came = often[at + size] - often[at]
            unmet += came == 0
            room[0, symbol] = max(1, came)
            at += size
            code += 1
    fitted = np.zeros(LONGEST + 1, np.int64)
    fit_code(room[0], fitted, room[1], room[2])
    return np.abs(fitted - number).sum() + unmet


@njit(cache=True, nogil=True)
def settle_lengths(  # type: ignore[no-untyped-def]
    number, begin, placed, often, known, symbols, evidence, prior, price, per_misfit, steps, hot, seed, found, values
):  # fmt: skip
    """Tries ``steps`` other numbers of codes than ``number`` (17), of which those before the 16 bits ``begin`` are ``known``.

    To int64 ``found`` (n, 17) go those for which most speaks, to float64 ``values`` how much, in no order. A code that differs
    from what K.2 makes costs ``per_misfit``. See ``place_symbols`` and ``misfit``.
    """
    np.random.seed(seed)
    shortest = LONGEST + 1 - evidence.shape[1]
    lengths = np.arange(shortest, LONGEST + 1)
    room, chosen = np.zeros((3, 256), np.int64), np.zeros(MOST_CODES, np.int64)
    values[:] = _NOTHING
    now, held, trial = _NOTHING, number.copy(), number.copy()
    for step in range(steps):
        heat = hot * (1.0 - step / steps) + 0.3
        trial[:] = held
        if step:
            for _ in range(1 + np.random.randint(3)):
                _resize(trial, shortest)
        if not fills(trial, begin, shortest):
            continue
        new = place_symbols(lengths, trial[shortest:], False, begin, placed, evidence, prior, price, chosen)
        new -= per_misfit * misfit(trial, often, known, symbols, chosen, room)
        least = np.argmin(values)
        if new > values[least] and not _among(trial, found):
            values[least] = new
            found[least] = trial
        if new >= now or np.random.random() < np.exp((new - now) / heat):
            now = new
            held[:] = trial


@njit(cache=True, nogil=True)
def _among(number, found):  # type: ignore[no-untyped-def]
    for k in range(found.shape[0]):  # noqa: SIM110
        if np.array_equal(found[k], number):
            return True
    return False


@njit(cache=True, nogil=True)
def _resize(number, shortest):  # type: ignore[no-untyped-def]
    """Makes two codes of one, or one of two, moves codes as K.3 does, or adds one or takes one away."""
    length, kind = np.random.randint(shortest, LONGEST), np.random.randint(6)
    sign = 1 if kind % 2 else -1
    if kind < 2:
        number[length] += sign
        number[length + 1] -= 2 * sign
    elif kind < 4 and length + 2 <= LONGEST:
        number[length] += sign
        number[length + 1] -= sign
        number[length + 2] -= 2 * sign
    else:
        number[np.random.randint(shortest, LONGEST + 1)] += sign


@njit(cache=True, nogil=True)
def fills(number, begin, shortest):  # type: ignore[no-untyped-def]
    """Whether codes of ``shortest`` bits and more, of which ``number`` (17) have each length, leave of the 16 bits from ``begin``
    on just the last code, that of ones alone."""
    used, last = begin, shortest - 1
    for length in range(shortest, LONGEST + 1):
        if number[length] < 0:
            return False
        if number[length]:
            last = length
        used += number[length] << (LONGEST - length)
    return used + (1 << (LONGEST - last)) == 1 << LONGEST and number.sum() <= MOST_CODES
