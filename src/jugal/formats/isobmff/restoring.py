"""Repair: tables of the index put right by what the others, the pictures and the sound say of them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.isobmff.counts import wrong_counts
from jugal.formats.isobmff.faults import Fault
from jugal.formats.isobmff.movie import Movie, read_movie
from jugal.formats.isobmff.nesting import wrong_boxes
from jugal.formats.isobmff.references import wrong_defaults, wrong_idents, wrong_references
from jugal.formats.isobmff.sizes import wrong_grouping, wrong_sizes
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.times import wrong_times
from jugal.formats.isobmff.write import patched
from jugal.model.span import ByteSpan, merge

#: One fault may hide another: a box that is not read holds tables.
_ROUNDS = 4


def table_faults(subject: Subject, movie: Movie) -> list[Fault]:
    """What is wrong in the index. Times are judged only where the numbers of entries are right."""
    source = subject.source
    found = wrong_boxes(source, movie.moov) if movie.moov is not None and not movie.hidden else []
    found += wrong_idents(source, movie) + wrong_defaults(source, movie)
    for track in movie.tracks:
        found += wrong_references(source, track)
        found += (
            wrong_counts(source, track)
            or wrong_grouping(source, movie, track)
            or [*wrong_sizes(subject, movie, track), *wrong_times(source, movie, track)]
        )
    return found


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
    shown = np.cumsum(track.durations[:count]) - track.durations[:count]
    shown[: track.composition.size] += track.composition[:count]
    return shown


def fix_tables(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The file with the faulty bytes of its index put right, everything staying at its offset."""
    movie = read_movie(subject)
    right, mended = restored(subject, movie, table_faults(subject, movie))
    if not mended:
        raise RepairImpossible("Nothing in the file tells how its tables are put right.")
    steps = tuple(f"Bytes {f.at:,} to {f.end:,} put right. {f.told}" for f in mended)
    spans = merge([ByteSpan(at, at + len(data)) for f in mended for at, data in f.patches])
    return RepairDraft(patched(subject, [(s.start, right.source.read(s.start, s.length)) for s in spans]), steps)
