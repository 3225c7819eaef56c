"""How kernels that call each other are compiled."""

from __future__ import annotations

from numba import njit

#: For kernels that allocate nothing: arrays handed to them need not be counted, which for short ones takes longer than
#: what they do.
bare = njit(cache=True, nogil=True, _nrt=False)
#: The same, put in place of each call.
inlined = njit(cache=True, nogil=True, _nrt=False, inline="always")
