"""Repair: tables of the index put right by what the others, the pictures and the sound say of them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.isobmff.configs import wrong_config
from jugal.formats.isobmff.counts import wrong_counts
from jugal.formats.isobmff.entries import wrong_entry
from jugal.formats.isobmff.faults import Fault
from jugal.formats.isobmff.fragment_boxes import wrong_heads, wrong_lengths, wrong_shapes
from jugal.formats.isobmff.fragment_figures import wrong_figures
from jugal.formats.isobmff.movie import Movie, read_movie
from jugal.formats.isobmff.nesting import wrong_boxes
from jugal.formats.isobmff.references import wrong_defaults, wrong_idents, wrong_references
from jugal.formats.isobmff.sizes import wrong_grouping, wrong_sizes
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.times import wrong_times
from jugal.formats.isobmff.write import patched
from jugal.model.span import ByteSpan, merge

#: One fault may hide another: a box that is not read holds tables.
_ROUNDS = 8


def table_faults(subject: Subject, movie: Movie) -> list[Fault]:
    """What is wrong in the index. Times are judged only where the numbers of entries are right."""
    source = subject.source
    found = wrong_boxes(source, movie.moov) if movie.moov is not None and not movie.hidden else []
    found += _of_fragments(subject, movie)
    found += wrong_idents(source, movie) + wrong_defaults(source, movie)
    for track in movie.tracks:
        found += wrong_references(source, track) or wrong_entry(source, track) or wrong_config(subject, track)
        found += (
            wrong_counts(source, track)
            or wrong_grouping(source, movie, track)
            or [*wrong_sizes(subject, movie, track), *wrong_times(source, movie, track)]
        )
    return found


def _of_fragments(subject: Subject, movie: Movie) -> list[Fault]:
    """What is wrong in the fragments. Figures are read only where the boxes they stand in are right."""
    if movie.moov is None or movie.hidden or movie.moov.child(b"mvex") is None:
        return []
    source, tree = subject.source, movie.tree
    return (
        wrong_heads(source, tree) or wrong_shapes(source, tree) or wrong_lengths(movie) or wrong_figures(subject, movie)
    )


def restored(subject: Subject, movie: Movie, faults: list[Fault]) -> tuple[Subject, list[Fault]]:
    """The file as it would read with its index put right, and all that is put right; one fault may hide the next."""
    mended: list[Fault] = []
    for _ in range(_ROUNDS):
        new = [f for f in faults if f.patches]
        if not new:
            break
        mended += new
        subject = subject.patched([patch for f in mended for patch in f.patches])
        faults = table_faults(subject, read_movie(subject))
    return subject, mended


def mistimed(track: Track, right: Track) -> NDArray[np.bool_]:
    """The samples of ``track`` that show at another time than they do in ``right``, the same one with its index put right."""
    own = int(track.runs[0, 1]) if len(track.runs) else track.offsets.size
    both = min(own, int(right.runs[0, 1]) if len(right.runs) else right.offsets.size)
    wrong = np.zeros(track.offsets.size, np.bool_)
    if track.timescale != right.timescale:
        wrong[:] = True
    wrong[:both] |= _shown(track, both) != _shown(right, both)
    return wrong


def _shown(track: Track, count: int) -> NDArray[np.int64]:
    """When the first ``count`` samples of ``track`` show, in ticks."""
    shown = track.decode_times[:count].copy()
    shown[: track.composition.size] += track.composition[:count]
    return shown


def agreeing(track: Track, right: Track, shown: NDArray[np.bool_]) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """The samples of ``right``, the same track with its index put right, that ``track``, of which decoders come to those
    ``shown``, reads from the same bytes; and those of them that it shows at the same time."""
    if not track.offsets.size:
        return np.zeros(right.offsets.size, np.bool_), np.zeros(right.offsets.size, np.bool_)
    order = np.argsort(track.offsets, kind="stable")
    near = order[np.minimum(np.searchsorted(track.offsets[order], right.offsets), order.size - 1)]
    same = shown[near] & (track.offsets[near] == right.offsets) & (track.sizes[near] >= right.sizes)
    on_time = _shown(track, track.offsets.size)[near] == _shown(right, right.offsets.size)
    return same, same & on_time & (track.timescale == right.timescale)


def fix_tables(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The file with the faulty bytes of its index put right, everything staying at its offset."""
    movie = read_movie(subject)
    right, mended = restored(subject, movie, table_faults(subject, movie))
    if not mended:
        raise RepairImpossible("Nothing in the file tells how its tables are put right.")
    steps = tuple(f"Bytes {f.at:,} to {f.end:,} put right. {f.told}" for f in mended)
    spans = merge([ByteSpan(at, at + len(data)) for f in mended for at, data in f.patches])
    return RepairDraft(patched(subject, [(s.start, right.source.read(s.start, s.length)) for s in spans]), steps)
