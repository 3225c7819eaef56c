"""Eight bytes of a buffer at once, for kernels that would else go byte by byte."""

from __future__ import annotations

import numpy as np
from numba import njit

_U = np.uint64
_LOW_ONES = _U(0x0101010101010101)
_HIGH_ONES = _U(0x8080808080808080)


@njit(inline="always")
def word64(data, i):  # type: ignore[no-untyped-def]
    """Bytes ``i..i + 7`` of uint8 ``data`` as a big-endian uint64; ``i`` is not negative and the bytes are there."""
    # An unsigned index needs no look at its sign, so that the eight loads become one.
    j = _U(i)
    return (
        (_U(data[j]) << _U(56))
        | (_U(data[j + _U(1)]) << _U(48))
        | (_U(data[j + _U(2)]) << _U(40))
        | (_U(data[j + _U(3)]) << _U(32))
        | (_U(data[j + _U(4)]) << _U(24))
        | (_U(data[j + _U(5)]) << _U(16))
        | (_U(data[j + _U(6)]) << _U(8))
        | _U(data[j + _U(7)])
    )


@njit(inline="always")
def has_ff(word):  # type: ignore[no-untyped-def]
    """Whether a byte of a uint64 is 0xFF: whether one of its complement is 0."""
    flipped = ~word
    return ((flipped - _LOW_ONES) & word & _HIGH_ONES) != _U(0)
