"""How the samples of all tracks lie beside one another in the file: none reaches into the next (ISO/IEC 14496-12 8.7)."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.tables import Track

#: Chunks over others that are looked into one by one.
_MOST_SUSPECTS = 64


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


def doubt_places(tracks: Sequence[Track], mdats: Sequence[Box], size: int) -> None:
    """Chunks that are said to lie over others, though room is left for just their size elsewhere, or behind the file's end
    though later ones do not."""
    tracks = [t for t in tracks if t.kind != "other" and t.offsets.size and t.chunk_of.size == t.offsets.size]
    if not tracks or any(t.fragmented or t.astray.any() for t in tracks):
        return
    starts = np.concatenate([t.chunk_offsets for t in tracks])
    lengths = np.concatenate([np.bincount(t.chunk_of, t.sizes, minlength=t.chunk_offsets.size) for t in tracks])
    ends = starts + lengths.astype(np.int64)
    wrong = _over_others(mdats, starts, ends)
    at = 0
    for track in tracks:
        mine = slice(at, at + track.chunk_offsets.size)
        at = mine.stop
        inside = np.flatnonzero(ends[mine] <= size)
        outside = starts[mine] >= size
        outside[inside[-1] if inside.size else 0 :] = False
        suspect = wrong[mine] | outside
        if suspect.any() and track.chunk_box is not None:
            track.astray, track.misplaced = suspect[track.chunk_of], True
            width = 4 if track.chunk_box.kind == b"stco" else 8
            first = int(np.flatnonzero(suspect)[0])
            where = "outside the file" if outside[first] else "where others do"
            text = f"{np.count_nonzero(suspect):,} chunks are said to lie {where}."
            track.doubt(text, track.chunk_box, track.chunk_box.body + 8 + width * first)


def _over_others(mdats: Sequence[Box], starts: NDArray[np.int64], ends: NDArray[np.int64]) -> NDArray[np.bool_]:
    """The chunks from ``starts`` to ``ends`` that lie over others and for which alone there is room elsewhere."""
    order = np.lexsort((ends, starts))
    order = order[ends[order] > starts[order]]
    over = np.flatnonzero((ends[order[:-1]] > starts[order[1:]]) & (starts[order[:-1]] != starts[order[1:]]))
    wrong = np.zeros(starts.size, np.bool_)
    suspects = np.union1d(order[over], order[over + 1])
    if not suspects.size or suspects.size > _MOST_SUSPECTS:
        return wrong
    bodies = np.array([box.body for box in mdats], np.int64)
    stops = np.array([box.end for box in mdats], np.int64)
    for chunk in suspects.tolist():
        others = order[order != chunk]
        begins = np.concatenate((bodies, np.maximum.accumulate(ends[others])))
        borders = np.sort(np.concatenate((starts[others], stops)))
        following = np.searchsorted(borders, begins, "left")
        room = np.where(following < borders.size, borders[np.minimum(following, borders.size - 1)] - begins, 0)
        fits = begins[room == ends[chunk] - starts[chunk]]
        wrong[chunk] = fits.size > 0 and not (fits == starts[chunk]).any()
    return wrong
