"""When a process gives memory back that was freed in it: by itself the C library keeps much of it, in pieces."""

from __future__ import annotations

import ctypes

_LARGE_BLOCK = 4 << 20
#: As malloc.h numbers them.
_M_TRIM_THRESHOLD, _M_MMAP_THRESHOLD = -1, -3


def give_back_large_blocks() -> None:
    """Lets the C library return each large block to the system when it is freed.

    By itself it soon keeps all that it ever handed out: a third more than a large picture needs.
    """
    mallopt = getattr(ctypes.CDLL(None), "mallopt", None)
    if mallopt is not None:  # a C library without it does as it likes
        mallopt(_M_MMAP_THRESHOLD, _LARGE_BLOCK)
        mallopt(_M_TRIM_THRESHOLD, _LARGE_BLOCK)


def give_back() -> None:
    """Returns what lies free between blocks in use."""
    trim = getattr(ctypes.CDLL(None), "malloc_trim", None)
    if trim is not None:
        trim(0)
