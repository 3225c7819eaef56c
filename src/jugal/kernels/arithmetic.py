"""The arithmetic decoder of CABAC, which AVC and HEVC share (ISO/IEC 14496-10 9.3.3.2, ISO/IEC 23008-2 9.3.4.3)."""

from __future__ import annotations

import json
from importlib.resources import files

import numpy as np

from jugal.kernels.compiling import bare, inlined

# State of the decoder: its range, its offset with bits read ahead behind it, how many those are, the next byte.
RANGE, VALUE, AHEAD, AT = 0, 1, 2, 3
_TABLES = json.loads(files("jugal.kernels").joinpath("arithmetic_tables.json").read_text())
# LPS ranges and followers (tables 9-44, 9-45 of AVC).
LPS_RANGE, AFTER_LPS = np.array(_TABLES["lps_range"], np.int64), np.array(_TABLES["after_lps"], np.int64)


@inlined
def refilled(data, value, ahead, at):  # type: ignore[no-untyped-def]
    """(value, ahead, at) with at least a byte's bits read ahead; zeros behind the end."""
    if ahead < 8:
        if at + 4 <= data.size:
            more = np.int64(data[at]) << 24 | np.int64(data[at + 1]) << 16 | np.int64(data[at + 2]) << 8 | data[at + 3]
        else:
            more = np.int64(0)
            for k in range(at, at + 4):
                more = more << 8 | (np.int64(data[k]) if k < data.size else 0)
        return value << 32 | more, ahead + 32, at + 4
    return value, ahead, at


@inlined
def context_bin(data, contexts, which, width, value, ahead, at):  # type: ignore[no-untyped-def]
    """(bin, width, value, ahead, at): a bin with a context, which holds its state twice plus its likelier value."""
    context = np.int64(contexts[which])
    least = LPS_RANGE[context >> 1, width >> 6 & 3]
    width -= least
    found = context & 1
    bound = width << ahead
    if value >= bound:
        value -= bound
        width = least
        contexts[which] = AFTER_LPS[context >> 1] << 1 | (found ^ 1 if context < 2 else found)
        found ^= 1
        while width < 256:
            width <<= 1
            ahead -= 1
    else:
        if context < 124:
            contexts[which] = context + 2
        if width < 256:
            width <<= 1
            ahead -= 1
    value, ahead, at = refilled(data, value, ahead, at)
    return found, width, value, ahead, at


@inlined
def even_bin(data, width, value, ahead, at):  # type: ignore[no-untyped-def]
    """(bin, value, ahead, at): a bin without context, either value as likely."""
    ahead -= 1
    found = 0
    if value >= width << ahead:
        value -= width << ahead
        found = 1
    value, ahead, at = refilled(data, value, ahead, at)
    return found, value, ahead, at


@bare
def begin(data, state, at):  # type: ignore[no-untyped-def]
    value, ahead = np.int64(0), np.int64(-9)
    for k in range(at, at + 6):
        value = value << 8 | (np.int64(data[k]) if k < data.size else 0)
    state[RANGE], state[VALUE], state[AHEAD], state[AT] = 510, value, ahead + 48, at + 6


@bare
def position(state):  # type: ignore[no-untyped-def]
    """The bit after those that the decoder has read."""
    return 8 * state[AT] - state[AHEAD]


@bare
def decision(data, state, contexts, which):  # type: ignore[no-untyped-def]
    found, state[RANGE], state[VALUE], state[AHEAD], state[AT] = context_bin(
        data, contexts, which, state[RANGE], state[VALUE], state[AHEAD], state[AT]
    )
    return found


@bare
def bypass(data, state):  # type: ignore[no-untyped-def]
    found, state[VALUE], state[AHEAD], state[AT] = even_bin(data, state[RANGE], state[VALUE], state[AHEAD], state[AT])
    return found


@bare
def terminate(data, state):  # type: ignore[no-untyped-def]
    """The bin before an end; where it is 1, the last bit read is the one that ends the data."""
    state[RANGE] -= 2
    ends = state[VALUE] >= state[RANGE] << state[AHEAD]
    if not ends and state[RANGE] < 256:
        state[RANGE] <<= 1
        state[VALUE], state[AHEAD], state[AT] = refilled(data, state[VALUE], state[AHEAD] - 1, state[AT])
    return ends
