"""Headers of all slices of a track, as far as they tell pictures apart (ISO/IEC 14496-10 7.3.3, ISO/IEC 23008-2 7.3.6.1)."""

from __future__ import annotations

import numpy as np
from numba import njit

from jugal.kernels.compiling import bare, inlined
from jugal.kernels.words import word64

#: What was seen of a sample: headers that make sense together, one that is illegal, ones that are not of one picture
#: or leave its beginning out, ones of one picture that say two order counts, no slice at all.
READ, ILLEGAL, APART, TWO_ORDERS, NO_SLICE = 0, 1, 2, 3, 4
#: Columns of what is found: one of the above; the byte of the unit that tells, and that of the first slice; of that frame_num,
#: the picture order count's low bits, -1 where there are none, and flags; a number that stands for the bytes of the parameter
#: sets in the sample, 0 without any. The flag ``HEADED`` says that the first slice was read, ``FIELD`` that the sample is one
#: field alone.
CAME, AT, FIRST_AT, NUMBER, ORDER, FLAGS, SETS = COLUMNS = range(7)
REFERENCE, ANEW, FIELD, HEADED = 1, 2, 4, 8
#: Columns of what is known of each picture parameter set: macroblocks of the picture, 0 for a set that is not there; of AVC
#: the bits of frame_num, those of the picture order count, -1 where it is of another type, and three flags.
UNITS, NUMBER_BITS, ORDER_BITS, FRAMES_ONLY, SEPARATE = range(5)
#: Of HEVC the columns after ``UNITS``: bits of an address and of the picture order count, and what else comes before it.
ADDRESS_BITS, COUNT_BITS, DEPENDENT, EXTRA_BITS, OUTPUT, PLANES = range(1, 7)
KNOWN = 7
# Bytes of a unit that are read: the fields take 29 at most, and eight are looked at at once.
_ROOM, _ALL = 32, 48
# A slice's fields: its address, parameter set, frame_num, which field it is of, order count, idr_pic_id or -1.
_ADDRESS, _SET, _NUMBER, _FIELD, _ORDER, _IDR = range(6)
_LONGEST = 25
_SET_BYTES = 4096
_U = np.uint64


@bare
def _take_in(data, at, end, head):  # type: ignore[no-untyped-def]
    """Copies the bytes from ``at`` to ``head`` without those that prevent emulation (7.4.1); how many there are."""
    count, zeros = 0, 0
    while at < end and count < _ROOM:
        value = data[at]
        if zeros >= 2 and value == 3:
            zeros = 0
        else:
            head[count] = value
            count += 1
            zeros = zeros + 1 if value == 0 else 0
        at += 1
    for k in range(count, _ALL):
        head[k] = 0
    return count


@inlined
def _number(head, bit):  # type: ignore[no-untyped-def]
    """ue(v) (9.1): (value, bit behind it); -1 where it is longer than any here."""
    word = word64(head, bit >> 3) << _U(bit & 7)
    zeros = 0
    while zeros < _LONGEST and (word >> _U(63 - zeros)) == 0:
        zeros += 1
    value = np.int64(-1)
    if zeros < _LONGEST:
        value = np.int64(word >> _U(63 - 2 * zeros)) - 1
    return value, bit + 2 * zeros + 1


@inlined
def _bits(head, bit, count):  # type: ignore[no-untyped-def]
    """``count`` bits, 0..32: (value, bit behind them)."""
    word = word64(head, bit >> 3) << _U(bit & 7)
    value = np.int64(0)
    if count > 0:
        value = np.int64(word >> _U(64 - count))
    return value, bit + count


@bare
def _avc(head, count, unit, sets, own):  # type: ignore[no-untyped-def]
    """Reads a slice header of AVC into ``own``; whether it is legal."""
    idr = unit & 31 == 5
    address, bit = _number(head, 0)
    kind, bit = _number(head, bit)
    number, bit = _number(head, bit)
    if not 0 <= number < sets.shape[0] or not 0 <= kind <= 9:
        return False
    known = sets[number]
    if not 0 <= address < known[UNITS] or (idr and kind % 5 != 2 and kind % 5 != 4) or (idr and unit & 0x60 == 0):
        return False
    own[_ADDRESS], own[_SET] = address, number
    if known[SEPARATE]:
        bit += 2
    own[_NUMBER], bit = _bits(head, bit, known[NUMBER_BITS])
    own[_FIELD] = 0
    if not known[FRAMES_ONLY]:
        in_field, bit = _bits(head, bit, 1)
        if in_field:
            bottom, bit = _bits(head, bit, 1)
            own[_FIELD] = 1 + bottom
    own[_IDR] = -1
    if idr:
        own[_IDR], bit = _number(head, bit)
        if own[_NUMBER] or not 0 <= own[_IDR] <= 65535:
            return False
    own[_ORDER] = -1
    if known[ORDER_BITS] >= 0:
        own[_ORDER], bit = _bits(head, bit, known[ORDER_BITS])
    return bit <= 8 * count


@bare
def _hevc(head, count, unit, sets, own):  # type: ignore[no-untyped-def]
    """Reads a segment header of HEVC into ``own``, the order count -1 where it says none; whether it is legal."""
    anchor = unit >= 16
    first, bit = _bits(head, 0, 1)
    if anchor:
        bit += 1
    number, bit = _number(head, bit)
    if not 0 <= number < sets.shape[0] or sets[number, UNITS] == 0:
        return False
    known = sets[number]
    own[_ADDRESS], own[_SET], own[_NUMBER], own[_FIELD], own[_IDR], own[_ORDER] = 0, number, 0, 0, -1, -1
    if not first:
        dependent = np.int64(0)
        if known[DEPENDENT]:
            dependent, bit = _bits(head, bit, 1)
        own[_ADDRESS], bit = _bits(head, bit, known[ADDRESS_BITS])
        if not 0 < own[_ADDRESS] < known[UNITS]:
            return False
        if dependent:
            return bit <= 8 * count
    kind, bit = _number(head, bit + known[EXTRA_BITS])
    if not 0 <= kind <= 2 or (anchor and kind != 2):
        return False
    bit += (1 if known[OUTPUT] else 0) + (2 if known[PLANES] else 0)
    own[_ORDER] = 0
    if unit != 19 and unit != 20:
        own[_ORDER], bit = _bits(head, bit, known[COUNT_BITS])
    return bit <= 8 * count


@bare
def _joined(own, before, opening):  # type: ignore[no-untyped-def]
    """How a slice goes with the picture that ``opening`` begins, behind ``before``; its second field begins again, and may be
    predicted from the first (7.4.1.2.4)."""
    if own[_NUMBER] != opening[_NUMBER] or (own[_IDR] >= 0 and opening[_IDR] >= 0 and own[_IDR] != opening[_IDR]):
        return APART
    if own[_FIELD] != before[_FIELD]:
        is_second = own[_FIELD] > 0 and opening[_FIELD] > 0 and before[_FIELD] == opening[_FIELD]
        return READ if is_second and own[_ADDRESS] == 0 else APART
    if own[_ADDRESS] <= before[_ADDRESS]:
        return APART
    return TWO_ORDERS if own[_ORDER] >= 0 and before[_ORDER] >= 0 and own[_ORDER] != before[_ORDER] else READ


@njit(cache=True, nogil=True)
def read_heads(data, offsets, sizes, prefix, hevc, sets, state, found):  # type: ignore[no-untyped-def]
    """Reads the slice headers of each sample of uint8 ``data`` whose int8 ``state`` is 0 and whose units add up.

    ``prefix`` is the length field's bytes (1, 2, 4), ``sets`` (picture parameter sets, ``KNOWN``) int64. Fills the rows of int64
    ``found`` (samples, ``COLUMNS``); those of other samples say ``NO_SLICE``.
    """
    head = np.zeros(_ALL, np.uint8)
    own, before, opening = np.zeros(6, np.int64), np.zeros(6, np.int64), np.zeros(6, np.int64)
    for s in range(offsets.size):
        row = found[s]
        row[:] = 0
        row[CAME], row[AT], row[ORDER] = NO_SLICE, offsets[s], -1
        if state[s] != 0:
            continue
        at, end, unit_of_first = offsets[s], offsets[s] + sizes[s], np.int64(0)
        while at + prefix < end:
            length = 0
            for k in range(prefix):
                length = (length << 8) | data[at + k]
            at += prefix
            stop = at + length
            if stop > end:
                break
            unit = np.int64(data[at])
            if hevc:
                kind, long = (unit >> 1) & 63, 2
                # Slices of further layers are of another view of the same picture.
                is_slice = kind < 22 and (kind < 10 or kind > 15) and unit & 1 == 0 and length > 2 and data[at + 1] < 8
                is_set, unit = 32 <= kind <= 34, kind
                alike = kind == unit_of_first
            else:
                kind, long = unit & 31, 1
                is_slice, is_set = (kind == 1 or kind == 5) and length > 1, kind == 7 or kind == 8
                alike = kind == unit_of_first & 31 and (unit & 0x60 == 0) == (unit_of_first & 0x60 == 0)
            if is_set and length > 0:
                total = np.int64(row[SETS]) * 31 + length
                for k in range(at, min(stop, at + _SET_BYTES)):
                    total = total * 1_000_003 + data[k] + 1
                row[SETS] = total | 1
            if is_slice:
                count = _take_in(data, at + long, stop, head)
                legal = _hevc(head, count, unit, sets, own) if hevc else _avc(head, count, unit, sets, own)
                first = row[CAME] == NO_SLICE
                if not legal:
                    row[CAME], row[AT] = ILLEGAL, at
                    break
                came = READ
                if first:
                    came = APART if own[_ADDRESS] else READ
                elif not alike and own[_FIELD] == 0:
                    came = APART
                else:
                    came = _joined(own, before, opening)
                if came != READ:
                    row[CAME], row[AT] = came, at
                    break
                if first:
                    row[CAME], row[FIRST_AT], row[NUMBER], row[ORDER] = READ, at, own[_NUMBER], own[_ORDER]
                    if hevc:
                        anew, reference = unit == 19 or unit == 20, unit >= 16 or unit & 1 == 1
                    else:
                        anew, reference = kind == 5, unit & 0x60 != 0
                    row[FLAGS] = HEADED + REFERENCE * reference + ANEW * anew + FIELD * (own[_FIELD] > 0)
                    unit_of_first = unit
                    opening[:] = own
                if own[_FIELD] != opening[_FIELD]:
                    row[FLAGS] &= ~FIELD
                order = before[_ORDER]
                before[:] = own
                if not first and own[_ORDER] < 0:
                    before[_ORDER] = order  # a dependent segment says none
            at = stop


@njit(cache=True, nogil=True)
def misnumbered(found, span, ahead, odd):  # type: ignore[no-untyped-def]
    """Sets bool ``odd`` for pictures of AVC whose frame_num does not follow from that before them, where that of one
    up to ``ahead`` pictures further on does (7.4.3); it counts reference pictures and wraps at ``span``.

    Where the numbers go on otherwise nothing is said: recorders leave pictures out.
    """
    n = found.shape[0]
    trusted, k = -1, 0
    while k < n:
        # Two fields of a frame have one number, which tells little of the next where each is a sample.
        if found[k, FLAGS] & (HEADED | FIELD) != HEADED:
            trusted = -1
            k += 1
            continue
        due = found[trusted, NUMBER] + (found[trusted, FLAGS] & REFERENCE)
        if trusted >= 0 and not found[k, FLAGS] & ANEW and (found[k, NUMBER] - due) % span != 0:
            odd[k] = found[k, CAME] == APART  # its other slices say another number
            for j in range(k + 1, min(n, k + 1 + ahead)):
                if not found[j, FLAGS] & HEADED or found[j, FLAGS] & ANEW:
                    break
                due += found[j - 1, FLAGS] & REFERENCE
                if (found[j, NUMBER] - due) % span == 0:
                    odd[k:j] = True
                    k = j
                    break
        trusted = k
        k += 1
