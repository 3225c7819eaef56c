"""JPEG entropy-coded data: Huffman decoding for examination, progressive scans.

The decoders go on after an error the way an ordinary decoder does (a code no table knows counts as symbol
0), so that what they deliver is what a viewer would show. ITU-T T.81 Annexes F and G.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from jugal.kernels.words import word64

FAST_BITS = 10
GROUP_BITS = 13
ERROR_CODE = 1  # a code that no table knows
ERROR_INDEX = 2  # a coefficient index past 63
ERROR_DC = 3  # a DC difference or value out of range


@njit(inline="always")
def _peek16(data, pos):  # type: ignore[no-untyped-def]
    i = pos >> 3
    word = (np.int64(data[i]) << 16) | (np.int64(data[i + 1]) << 8) | np.int64(data[i + 2])
    return (word >> (8 - (pos & 7))) & 0xFFFF


@njit(inline="always")
def _word56(data, i):  # type: ignore[no-untyped-def]
    return (
        (np.int64(data[i]) << 48)
        | (np.int64(data[i + 1]) << 40)
        | (np.int64(data[i + 2]) << 32)
        | (np.int64(data[i + 3]) << 24)
        | (np.int64(data[i + 4]) << 16)
        | (np.int64(data[i + 5]) << 8)
        | np.int64(data[i + 6])
    )


@njit(inline="always")
def _note(err_pos, err_mcu, err_kind, errors, pos, unit, kind):  # type: ignore[no-untyped-def]
    """Notes an error where there is room; returns how many there are now."""
    if errors < err_pos.size:
        err_pos[errors] = pos
        err_mcu[errors] = unit
        err_kind[errors] = kind
    return errors + 1


@njit(cache=True, nogil=True)
def group_codes(full, out):  # type: ignore[no-untyped-def]
    """Tables that pass over several AC symbols in one look: to uint16 ``out`` (tables, 8192) for uint16 ``full``.

    Of the 13 bits that index a row: bits 0..3 of an entry are how many of them whole symbols take with their
    magnitudes, bits 4..9 how far those symbols lead in zigzag order (an end of block counts 1), bit 10 whether the
    last one ends the block; 0 where not even one symbol is whole.
    """
    for table in range(full.shape[0]):
        for bits in range(out.shape[1]):
            left, ahead, ends = GROUP_BITS, 0, 0
            value = bits << (16 - GROUP_BITS)
            while left > 0 and not ends:
                entry = np.int64(full[table, value & 0xFFFF])
                symbol = entry & 255
                size = symbol & 15
                step = (entry >> 8) + size
                ends = 1 if size == 0 and symbol != 0xF0 else 0
                run = 1 if ends else (symbol >> 4) + 1
                if entry == 0 or step > left or ahead + run > 63:
                    ends = 0
                    break
                left -= step
                ahead += run
                value <<= step
            out[table, bits] = (ends << 10) | (ahead << 4) | (GROUP_BITS - left)


@njit(cache=True, nogil=True)
def decode_sequential(  # type: ignore[no-untyped-def]
    data, seg_start, seg_end, seg_mcu, seg_count, mcus_x, h, v, dc_tab, ac_tab, fast, full, groups,
    stride, offset, dc, mcu_pos, seg_done, seg_used, err_pos, err_mcu, err_kind, dc_limit, careful,
):  # fmt: skip
    """Decodes the sequential Huffman segments of one scan for examination (T.81 F.2).

    ``data`` is unstuffed uint8 with at least 16 bytes of padding; segment ``s`` covers bytes
    ``seg_start[s]..seg_end[s]`` and should hold ``seg_count[s]`` MCUs from number ``seg_mcu[s]``. ``fast``
    (tables, 1024) and ``full`` (tables, 65536) are uint16 ``length << 8 | symbol``, 0 for no code; ``groups`` as
    ``group_codes`` makes them. Writes the DC value of each block to int16 ``dc`` (per component a plane at ``offset``
    with ``stride`` blocks a row), the bit at which each MCU begins to int64 ``mcu_pos``, per segment the MCUs done and
    bits used, and the errors met. AC magnitudes are passed over, not extracted. With ``careful`` a segment ends at its
    first error. Returns the number of errors (those beyond the arrays' room are counted only).
    """
    errors = 0
    ncomp = h.size
    pred = np.zeros(ncomp, np.int64)
    comp, base = _blocks_of(h, v, stride, offset)
    for s in range(seg_start.size):
        pos = seg_start[s] * 8
        stop = seg_end[s] * 8
        pred[:] = 0
        done = 0
        halted = False
        my = seg_mcu[s] // mcus_x
        mx = seg_mcu[s] - my * mcus_x
        for mcu in range(seg_mcu[s], seg_mcu[s] + seg_count[s]):
            mcu_pos[mcu] = pos
            for b in range(comp.size):
                if pos >= stop:
                    halted = True
                    break
                c = comp[b]
                # Eight bytes are held in a word, the next bits at its head, and used up before the next ones are fetched.
                word = word64(data, pos >> 3) << np.uint64(pos & 7)
                until = (pos | 7) + 41
                entry = np.int64(fast[dc_tab[c], _head(word, FAST_BITS)])
                if entry == 0:
                    entry = np.int64(full[dc_tab[c], _head(word, 16)])
                if entry == 0:
                    errors = _note(err_pos, err_mcu, err_kind, errors, pos, mcu, ERROR_CODE)
                    pos += 17
                    word <<= np.uint64(17)
                    if careful:
                        halted = True
                        break
                else:
                    length = entry >> 8
                    size = min(entry & 255, 15)
                    if size:
                        pred[c] += _magnitude(_head(word << np.uint64(length), 16), size)
                        length += size
                        if pred[c] > dc_limit[c] or pred[c] < -dc_limit[c]:
                            errors = _note(err_pos, err_mcu, err_kind, errors, pos + length, mcu, ERROR_DC)
                            if careful:
                                pos += length
                                halted = True
                                break
                    pos += length
                    word <<= np.uint64(length)
                dc[base[b] + my * v[c] * stride[c] + mx * h[c]] = pred[c]
                table = ac_tab[c]
                k = 1
                while k < 64:
                    if pos > until:
                        word = word64(data, pos >> 3) << np.uint64(pos & 7)
                        until = (pos | 7) + 41
                    group = np.int64(groups[table, _head(word, GROUP_BITS)])
                    ahead = k + ((group >> 4) & 63)
                    # Near the end of the data and of the block symbols are told one by one.
                    if group and ahead <= 64 and pos + 16 < stop:
                        pos += group & 15
                        word <<= np.uint64(group & 15)
                        k = ahead
                        if group >> 10:
                            break
                        continue
                    entry = np.int64(fast[table, _head(word, FAST_BITS)])
                    if entry == 0:
                        entry = np.int64(full[table, _head(word, 16)])
                        if entry == 0:
                            errors = _note(err_pos, err_mcu, err_kind, errors, pos, mcu, ERROR_CODE)
                            pos += 17
                            halted = careful
                            break
                    symbol = entry & 255
                    size = symbol & 15
                    step = (entry >> 8) + size
                    pos += step
                    word <<= np.uint64(step)
                    if size == 0 and symbol != 0xF0:
                        break
                    k += (symbol >> 4) + 1
                    if k > 64:
                        errors = _note(err_pos, err_mcu, err_kind, errors, pos, mcu, ERROR_INDEX)
                        halted = careful
                        break
                    if pos >= stop:
                        break
                if halted:
                    break
            # Where the data ran out inside a block a decoder fills up with zero bits and stops.
            if halted or pos > stop:
                break
            done += 1
            mx += 1
            if mx == mcus_x:
                mx = 0
                my += 1
        seg_done[s] = done
        seg_used[s] = pos - seg_start[s] * 8
    return errors


@njit(inline="always")
def _head(word, count):  # type: ignore[no-untyped-def]
    """The first ``count`` bits of a uint64."""
    return np.int64(word >> np.uint64(64 - count))


@njit(cache=True)
def _blocks_of(h, v, stride, offset):  # type: ignore[no-untyped-def]
    """Of each block of an MCU: its component, and its place in the planes for the MCU in the corner."""
    count = (h * v).sum()
    comp, base = np.zeros(count, np.int64), np.zeros(count, np.int64)
    b = 0
    for c in range(h.size):
        for by in range(v[c]):
            for bx in range(h[c]):
                comp[b] = c
                base[b] = offset[c] + by * stride[c] + bx
                b += 1
    return comp, base


@njit(inline="always")
def _symbol(data, pos, fast, full):  # type: ignore[no-untyped-def]
    bits = _peek16(data, pos)
    entry = fast[bits >> 6]
    if entry == 0:
        entry = full[bits]
    return entry


@njit(inline="always")
def _magnitude(bits, size):  # type: ignore[no-untyped-def]
    """The value of ``size`` additional bits (T.81 F.2.2.1), at the head of the 16 in ``bits``; ``size`` is 1 at least."""
    value = bits >> (16 - size)
    if value < (1 << (size - 1)):
        value -= (1 << size) - 1
    return value


@njit(inline="always")
def _extend(data, pos, size):  # type: ignore[no-untyped-def]
    return _magnitude(_peek16(data, pos), size)


@njit(cache=True, nogil=True)
def decode_run(  # type: ignore[no-untyped-def]
    data, pos, stop, blocks, dc_tab, ac_tab, fast, full, groups, span, dc, unit_pos, coefs,
):  # fmt: skip
    """Decodes MCUs of an interleaved sequential scan from bit ``pos`` of unstuffed ``data`` without knowing their place.

    ``blocks`` (int64) is the component of each block of an MCU; ``fast``, ``full`` and ``groups`` are those of
    ``decode_sequential``. Writes the DC values, counted from 0, to int16 or int32 ``dc`` (units, blocks), the bit at which each
    MCU begins to int32 or int64 ``unit_pos`` (units + 1, the end last) and zigzag coefficients to int16 ``coefs`` (units, blocks,
    64) as far as it has room. Ends at the first error, where the DC values of a component lie further apart than
    ``span``, before an MCU that bit ``stop`` cuts, and when ``dc`` is full. Returns (MCUs, whether an error ended it);
    the padding of the last byte is no error.
    """
    ncomp = span.size
    pred, low, high = np.zeros(ncomp, np.int64), np.zeros(ncomp, np.int64), np.zeros(ncomp, np.int64)
    for unit in range(dc.shape[0]):
        unit_pos[unit] = pos
        kept = unit < coefs.shape[0]
        for b in range(blocks.size):
            c = blocks[b]
            if pos >= stop:
                return unit, False
            # As in ``decode_sequential``.
            word = word64(data, pos >> 3) << np.uint64(pos & 7)
            until = (pos | 7) + 41
            entry = np.int64(fast[dc_tab[c], _head(word, FAST_BITS)])
            if entry == 0:
                entry = np.int64(full[dc_tab[c], _head(word, 16)])
            size = entry & 255
            if entry == 0 or size > 15:
                return unit, unit_pos[unit] + 8 <= stop
            length = entry >> 8
            if size:
                pred[c] += _magnitude(_head(word << np.uint64(length), 16), size)
                length += size
                low[c], high[c] = min(low[c], pred[c]), max(high[c], pred[c])
                if high[c] - low[c] > span[c]:
                    return unit, unit_pos[unit] + 8 <= stop
            pos += length
            word <<= np.uint64(length)
            dc[unit, b] = pred[c]
            if kept:
                coefs[unit, b, :] = 0
                coefs[unit, b, 0] = pred[c]
            table = ac_tab[c]
            k = 1
            while k < 64:
                if pos >= stop:
                    return unit, False
                if pos > until:
                    word = word64(data, pos >> 3) << np.uint64(pos & 7)
                    until = (pos | 7) + 41
                if not kept:
                    group = np.int64(groups[table, _head(word, GROUP_BITS)])
                    ahead = k + ((group >> 4) & 63)
                    # Near the end of the data and of the block symbols are told one by one.
                    if group and ahead <= 64 and pos + 16 < stop:
                        pos += group & 15
                        word <<= np.uint64(group & 15)
                        k = ahead
                        if group >> 10:
                            break
                        continue
                entry = np.int64(fast[table, _head(word, FAST_BITS)])
                if entry == 0:
                    entry = np.int64(full[table, _head(word, 16)])
                    if entry == 0:
                        return unit, unit_pos[unit] + 8 <= stop
                length = entry >> 8
                pos += length
                word <<= np.uint64(length)
                size = entry & 15
                if size == 0:
                    if (entry & 255) != 0xF0:
                        break
                    k += 16
                    continue
                k += (entry & 255) >> 4
                if k > 63:
                    return unit, unit_pos[unit] + 8 <= stop
                if kept:
                    if pos > until:
                        word = word64(data, pos >> 3) << np.uint64(pos & 7)
                        until = (pos | 7) + 41
                    coefs[unit, b, k] = _magnitude(_head(word, 16), size)
                pos += size
                word <<= np.uint64(size)
                k += 1
            if k > 64:
                return unit, unit_pos[unit] + 8 <= stop
        if pos > stop:
            return unit, False
    unit_pos[dc.shape[0]] = pos
    return dc.shape[0], False


@njit(cache=True, nogil=True)
def next_run(  # type: ignore[no-untyped-def]
    data, first, until, stop, blocks, dc_tab, ac_tab, fast, full, groups, span, least, dc, unit_pos,
):  # fmt: skip
    """The first bit from ``first`` up to ``until`` from which ``decode_run`` meets no error and ``least`` MCUs; ``until`` if none.

    ``dc`` and ``unit_pos`` are its room to work in; how much they hold is how far it reads.
    """
    nothing = np.empty((0, blocks.size, 64), np.int16)
    for bit in range(first, until):
        units, failed = decode_run(
            data, bit, stop, blocks, dc_tab, ac_tab, fast, full, groups, span, dc, unit_pos, nothing
        )
        if units >= least and not failed:
            return bit
    return until


@njit(inline="always")
def _ones(mask):  # type: ignore[no-untyped-def]
    """How many bits of a uint64 are set."""
    mask = mask - ((mask >> np.uint64(1)) & np.uint64(0x5555555555555555))
    mask = (mask & np.uint64(0x3333333333333333)) + ((mask >> np.uint64(2)) & np.uint64(0x3333333333333333))
    mask = (mask + (mask >> np.uint64(4))) & np.uint64(0x0F0F0F0F0F0F0F0F)
    return np.int64((mask * np.uint64(0x0101010101010101)) >> np.uint64(56))


@njit(cache=True, nogil=True)
def decode_progressive(  # type: ignore[no-untyped-def]
    data, seg_start, seg_end, seg_mcu, seg_count, units_x, interleaved, h, v, dc_tab, ac_tab, fast, full,
    stride, offset, dc, nonzero, ss, se, ah, al, unit_pos, seg_done, seg_used, err_pos, err_mcu, err_kind,
):  # fmt: skip
    """Follows one progressive scan (T.81 G.2): DC values into ``dc``, which AC are not zero into ``nonzero``.

    Both have an entry a block; bit k of ``nonzero`` (uint64) is coefficient k in zigzag order. More is not needed to
    know where a scan goes wrong: correction bits are counted by the coefficients that are not zero.
    Arguments else as for ``decode_sequential``; a unit is an MCU where ``interleaved``, else one block of the
    scan's only component with ``units_x`` blocks a row. Returns the number of errors.
    """
    errors = 0
    ncomp = h.size
    pred = np.zeros(ncomp, np.int64)
    one = np.uint64(1)
    upto = np.uint64(0xFFFFFFFFFFFFFFFF) >> np.uint64(63 - se)
    for s in range(seg_start.size):
        pos = seg_start[s] * 8
        stop = seg_end[s] * 8
        pred[:] = 0
        eobrun = 0
        done = 0
        for m in range(seg_count[s]):
            unit = seg_mcu[s] + m
            unit_pos[unit] = pos
            uy = unit // units_x
            ux = unit - uy * units_x
            if pos >= stop and eobrun == 0:
                break
            for c in range(ncomp):
                nv = v[c] if interleaved else 1
                nh = h[c] if interleaved else 1
                for by in range(nv):
                    for bx in range(nh):
                        block = offset[c] + (uy * nv + by) * stride[c] + ux * nh + bx
                        if ss == 0:
                            if ah == 0:
                                entry = _symbol(data, pos, fast[dc_tab[c]], full[dc_tab[c]])
                                if entry == 0:
                                    errors = _note(err_pos, err_mcu, err_kind, errors, pos, unit, 1)
                                    pos += 17
                                    size = 0
                                else:
                                    pos += entry >> 8
                                    size = min(entry & 255, 15)
                                if size:
                                    pred[c] += _extend(data, pos, size)
                                    pos += size
                                    if pred[c] > 4096 or pred[c] < -4096:
                                        errors = _note(err_pos, err_mcu, err_kind, errors, pos, unit, 3)
                                dc[block] = np.int16((pred[c] << al) & 0xFFFF)
                            else:
                                if (data[pos >> 3] >> (7 - (pos & 7))) & 1:
                                    dc[block] |= 1 << al
                                pos += 1
                            continue
                        if ah == 0 and eobrun > 0:
                            eobrun -= 1
                            continue
                        fast_ac = fast[ac_tab[c]]
                        full_ac = full[ac_tab[c]]
                        mask = nonzero[block]
                        k = ss
                        if ah == 0:
                            used = 64
                            word = np.int64(0)
                            while k <= se:
                                if used > 40:
                                    word = _word56(data, pos >> 3)
                                    used = pos & 7
                                bits = (word >> (40 - used)) & 0xFFFF
                                entry = fast_ac[bits >> 6]
                                if entry == 0:
                                    entry = full_ac[bits]
                                if entry == 0:
                                    errors = _note(err_pos, err_mcu, err_kind, errors, pos, unit, 1)
                                    pos += 17
                                    break
                                run = (entry & 255) >> 4
                                size = np.int64(entry & 15)
                                step = np.int64(entry >> 8) + size
                                pos += step
                                used += step
                                if size:
                                    k += run
                                    if k > se:
                                        errors = _note(err_pos, err_mcu, err_kind, errors, pos, unit, 2)
                                        break
                                    mask |= one << np.uint64(k)
                                    k += 1
                                elif run == 15:
                                    k += 16
                                else:
                                    eobrun = (1 << run) - 1
                                    if run:
                                        eobrun += _peek16(data, pos) >> (16 - run)
                                        pos += run
                                    break
                                if pos > stop:
                                    break
                            nonzero[block] = mask
                            continue
                        if eobrun == 0:
                            while k <= se:
                                entry = _symbol(data, pos, fast_ac, full_ac)
                                if entry == 0:
                                    errors = _note(err_pos, err_mcu, err_kind, errors, pos, unit, 1)
                                    pos += 17
                                    break
                                pos += entry >> 8
                                run = (entry & 255) >> 4
                                size = entry & 15
                                if size:
                                    pos += 1
                                    if size != 1:
                                        errors = _note(err_pos, err_mcu, err_kind, errors, pos, unit, 2)
                                elif run != 15:
                                    eobrun = 1 << run
                                    if run:
                                        eobrun += _peek16(data, pos) >> (16 - run)
                                        pos += run
                                    break
                                while k <= se:
                                    if (mask >> np.uint64(k)) & one:
                                        pos += 1
                                    elif run == 0:
                                        if size:
                                            mask |= one << np.uint64(k)
                                        k += 1
                                        break
                                    else:
                                        run -= 1
                                    k += 1
                                if pos > stop:
                                    break
                            nonzero[block] = mask
                        if eobrun > 0:
                            if k <= se:
                                pos += _ones((mask & upto) >> np.uint64(k))
                            eobrun -= 1
            if pos > stop:
                break
            done += 1
        seg_done[s] = done
        seg_used[s] = pos - seg_start[s] * 8
    return errors
