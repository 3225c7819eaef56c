"""Units of a scan by their numbers, and where they lie in the file."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.decode import Decoded


def unit_bytes(decoded: Decoded, units: NDArray[np.int64]) -> NDArray[np.int64]:
    """Raw byte offsets of ``units`` by their numbers; ones never reached, and one behind the last, stand at the end."""
    length = decoded.scan.entropy.length
    clean = decoded.unit_pos[np.minimum(units, decoded.units - 1)] >> 3
    clean[(clean < 0) | (units >= decoded.units)] = length
    return decoded.scan.entropy.raw_offsets(np.minimum(clean, length, out=clean))


def begin_of(decoded: Decoded, unit: int) -> int:
    """The raw byte offset of one unit."""
    return int(unit_bytes(decoded, np.array([unit]))[0])


def unit_byte(decoded: Decoded, s: int, done: int, end: int, inside: bool) -> int:
    """Where the first unit not done of segment ``s`` begins; with ``inside`` where decoding it ended, for a unit is long."""
    unit = int(decoded.segments.mcu[s]) + done
    if done < int(decoded.segments.count[s]) and decoded.unit_pos[unit] >= 0 and not inside:
        return int(decoded.raw([min(int(decoded.unit_pos[unit]), decoded.scan.entropy.length * 8)])[0])
    used = int(decoded.segments.start[s]) + -(-int(decoded.used[s]) // 8)
    return min(end, int(decoded.raw([8 * min(used, decoded.scan.entropy.length)])[0]))


def unit_at(decoded: Decoded, raw: int, first: int, last: int) -> int:
    """The unit whose bits lie at raw offset ``raw``."""
    clean = decoded.scan.entropy.clean_offset(raw) * 8
    positions = decoded.unit_pos[first:last]
    reached = positions[positions >= 0]
    return first + max(0, int(np.searchsorted(reached, clean, side="right")) - 1)
