"""How the samples of all tracks lie beside one another in the file: none reaches into the next (ISO/IEC 14496-12 8.7)."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.tables import Track


def reaching_over(tracks: Sequence[Track], bad: Sequence[NDArray[np.bool_]]) -> list[NDArray[np.bool_]]:
    """Per track which of its samples end behind the start of the next sample of any of ``tracks``.

    So lies what lost bytes in its middle. Samples that begin at one place are no witness: silence may be stored once and
    played often. Nor are those that are ``bad`` themselves: lost bytes may have been all of theirs.
    """
    found = [np.zeros(t.offsets.size, np.bool_) for t in tracks]
    if not tracks:
        return found
    starts = np.concatenate([t.offsets for t in tracks])
    ends = np.concatenate([t.offsets + t.sizes for t in tracks])
    owner = np.repeat(np.arange(len(tracks)), [t.offsets.size for t in tracks])
    number = np.concatenate([np.arange(t.offsets.size) for t in tracks])
    used = np.flatnonzero((ends > starts) & ~np.concatenate(list(bad)))
    order = used[np.argsort(starts[used], kind="stable")]
    following = np.searchsorted(starts[order], starts[order], side="right")
    has = following < order.size
    over = order[has][ends[order[has]] > starts[order[following[has]]]]
    for at in range(len(tracks)):
        found[at][number[over[owner[over] == at]]] = True
    return found
