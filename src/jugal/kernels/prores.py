"""ProRes frames (SMPTE RDD 36): headers and the slices that a table in each picture leads to."""

from __future__ import annotations

from numba import njit

_HIGHEST_SCALE = 224


@njit(inline="always")
def _u16(data, at):  # type: ignore[no-untyped-def]
    return (int(data[at]) << 8) | int(data[at + 1])


@njit(cache=True, nogil=True)
def frame_fault(data, at, end):  # type: ignore[no-untyped-def]
    """The byte of uint8 ``data`` at which the frame in ``at..end`` contradicts itself; -1 where it does not.

    Followed are the frame header (RDD 36 5.1), one or two picture headers (5.2) and every slice header (5.3.1): its
    size, its quantisation scale, and whether its components' sizes fit into the slice.
    """
    if end - at < 36:
        return at
    head = 8 + _u16(data, at + 8)
    interlaced = (data[at + 20] >> 2) & 3
    picture = at + head
    for _ in range(2 if interlaced else 1):
        if picture + 8 > end:
            return min(picture, end)
        header = int(data[picture]) >> 3
        size = (_u16(data, picture + 1) << 16) | _u16(data, picture + 3)
        slices = _u16(data, picture + 5)
        table = picture + header
        stop = picture + size
        if header < 8 or slices == 0 or stop > end or table + 2 * slices > stop:
            return picture
        here = table + 2 * slices
        for number in range(slices):
            length = _u16(data, table + 2 * number)
            if here + length > stop:
                return table + 2 * number
            own = int(data[here]) >> 3
            if own < 6 or length < own or not 1 <= data[here + 1] <= _HIGHEST_SCALE:
                return here
            if own + _u16(data, here + 2) + _u16(data, here + 4) > length:
                return here
            here += length
        if here != stop:
            return here
        picture = stop
    return -1


@njit(cache=True, nogil=True)
def frame_faults(data, offsets, sizes, faults):  # type: ignore[no-untyped-def]
    """``frame_fault`` of each frame at int64 ``offsets`` with ``sizes``, all inside ``data``, to int64 ``faults``."""
    for k in range(offsets.size):
        faults[k] = frame_fault(data, offsets[k], offsets[k] + sizes[k])
