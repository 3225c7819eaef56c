"""What slices of AVC have in common, whichever entropy coding they use (ISO/IEC 14496-10 7.3.4, 7.4.5)."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

#: Kinds of slice (table 7-6) as far as they are followed.
P, B, I = 0, 1, 2  # noqa: E741
# Kinds of macroblock, 0 for one outside of the slice.
SMALL, WHOLE, RAW, INTER, SKIPPED, DIRECT = 1, 2, 3, 4, 5, 6
# How a macroblock is parted for its motion, and how each quarter of one in quarters is.
ONE, HALVES_DOWN, HALVES_ACROSS, QUARTERS = 0, 1, 2, 3
# Macroblock types of B slices from 1 on (table 7-14): shape, and the lists that the first and second part use as bits.
B_SHAPES = np.array((ONE, ONE, ONE, *(HALVES_DOWN, HALVES_ACROSS) * 9, QUARTERS), np.int64)
B_FIRST = np.array((1, 2, 3, 1, 1, 2, 2, 1, 1, 2, 2, 1, 1, 2, 2, 3, 3, 3, 3, 3, 3, 0), np.int64)
B_SECOND = np.array((0, 0, 0, 1, 1, 2, 2, 2, 2, 1, 1, 3, 3, 3, 3, 1, 1, 2, 2, 3, 3, 0), np.int64)
# Types of quarters (tables 7-17, 7-18): shape and lists. The first of B slices is derived, not sent.
P_QUARTER_SHAPES = np.array((ONE, HALVES_DOWN, HALVES_ACROSS, QUARTERS), np.int64)
B_QUARTER_SHAPES = np.array((0, 0, 0, 0, 1, 2, 1, 2, 1, 2, 3, 3, 3), np.int64)
B_QUARTER_LISTS = np.array((0, 1, 2, 3, 1, 1, 2, 2, 3, 3, 1, 2, 3), np.int64)
# What following a slice came to.
WHOLE_SLICE, BREAKS, ENDS_EARLY, ENDS_LATE = 0, 1, 2, 3


class Form(NamedTuple):
    """What a slice's data depend on. Sizes are in macroblocks.

    ``kind`` is P, B or I; ``first`` the address of its first macroblock, ``most`` how many the picture has; ``lists``
    the number of reference pictures in each list; ``eight`` says that 8x8 transforms are allowed, ``direct_eight`` that
    derived motion is in quarters (7.4.2.1.1); ``chroma`` is the rows of 4x4 blocks in a plane of chroma, 0, 2 or 4;
    ``raw_bits`` what a macroblock takes that is not coded.
    """

    kind: int
    first: int
    width: int
    most: int
    list_0: int
    list_1: int
    eight: int
    direct_eight: int
    chroma: int
    raw_bits: int
