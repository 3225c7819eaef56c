"""Puts right what an index says of where samples lie, after bytes were lost or put in; the media data stay as they are."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import RepairDraft, RepairImpossible, Report, Subject
from jugal.formats.isobmff import fragments
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.check import examine
from jugal.formats.isobmff.movie import Movie, read_movie
from jugal.formats.isobmff.offsets import Step, apply_steps, find_steps, moved_offsets
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.write import chunk_table, patched, resized, runs_table, serialise, with_new_index

#: Bytes that are put before a file in place of lost ones.
_MOST_AHEAD = 1 << 24


def fix_offsets(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Repair: offsets corrected by the shifts that make the samples parse; a chunk in whose middle one begins is parted."""
    movie = read_movie(subject)
    moov = movie.moov
    if moov is None or not moov.complete:
        raise RepairImpossible("The movie index is not in the file as a whole.")
    steps = find_steps(subject, movie)
    if not steps:
        raise RepairImpossible("No shift of the chunk offsets makes the samples fit.")
    # Chunks that began before what is now the file's start: as many bytes are put there as were lost.
    ahead = _lost_ahead(movie, steps)
    listed = [t for t in movie.tracks if t.chunk_box is not None and t.chunk_offsets.size]
    parted = {t.ident: new for t in listed if (new := _parted(t, steps, ahead)) is not None}
    words = [f"Moved what lies from {s.from_offset:,} on by {s.delta:+,} bytes." for s in steps]
    patches, closed = _closed(subject, movie, moov)
    words += closed
    if parted:
        bodies = dict(body for t in listed for body in _tables(subject, t, steps, ahead, parted.get(t.ident)))
        pieces = with_new_index(subject, moov, serialise(subject, moov, bodies), patches)
        words.append("Parted the chunks in which bytes were lost or put in.")
    else:
        moves = [(t.chunk_box, _moved_chunks(t, steps, ahead)) for t in listed]
        patches += [patch for track in movie.tracks for patch in fragments.moved_runs(subject, track, steps)]
        patches += [(b.body + 8, at.astype(_kind(b)).tobytes()) for b, at in moves if b is not None]
        pieces = patched(subject, patches)
    if ahead:
        pieces = (bytes(ahead), *pieces)
        words.insert(0, f"Put {ahead:,} zeros before the file, where as many bytes were lost.")
    report = Report()
    examine(subject, report)
    # The sample in which bytes were lost or put in stays as it is, and in the output nothing need tell of that.
    return RepairDraft(pieces, tuple(words), kept=report.forecast("fix-offsets"))


def _kind(box: Box) -> str:
    return ">u4" if box.kind == b"stco" else ">u8"


def _moved_chunks(track: Track, steps: list[Step], ahead: int) -> NDArray[np.int64]:
    assert track.chunk_box is not None
    most = 2**32 - 1 if track.chunk_box.kind == b"stco" else 2**62
    return np.clip(apply_steps(track.chunk_offsets, steps) + ahead, 0, most)


def _lost_ahead(movie: Movie, steps: list[Step]) -> int:
    """How many bytes were lost before what is now the file's start, 0 where no chunk that lies right by ``steps`` began there.

    An index in front of the media data was not lost with them, and fragments have offsets of their own.
    """
    begins = [int(apply_steps(t.chunk_offsets, steps).min()) for t in movie.tracks if t.chunk_offsets.size]
    in_front = movie.moov is not None and movie.moov.start < max(begins, default=0)
    if in_front or min(begins, default=0) >= 0 or any(t.fragmented for t in movie.tracks):
        return 0
    lost = -min(step.delta for step in steps)
    return lost if lost <= _MOST_AHEAD else 0


def _parted(track: Track, steps: list[Step], ahead: int) -> tuple[NDArray[np.int64], NDArray[np.int64]] | None:
    """First sample and offset of each chunk after ``steps``; None where all chunks stay whole."""
    if track.fragmented or track.frame_bytes or not track.offsets.size:
        return None
    moved = moved_offsets(track, steps)
    shift = moved - track.offsets
    begins = np.append(True, track.chunk_of[1:] != track.chunk_of[:-1])
    breaks = np.append(False, shift[1:] != shift[:-1]) & ~begins
    if not breaks.any():
        return None
    firsts = np.flatnonzero(begins | breaks)
    return firsts, np.maximum(0, moved[firsts] + ahead)


def _tables(
    subject: Subject,
    track: Track,
    steps: list[Step],
    ahead: int,
    parted: tuple[NDArray[np.int64], NDArray[np.int64]] | None,
) -> list[tuple[int, bytes]]:
    """New bodies, by box, of the tables that say where the chunks of ``track`` lie and how many samples each has (8.7.4, 8.7.5)."""
    box = track.chunk_box
    assert box is not None
    if parted is None:
        moved = _moved_chunks(track, steps, ahead)
        return [(box.start, chunk_table(moved, _kind(box)))]
    firsts, offsets = parted
    stsc = track.box.child(b"mdia", b"minf", b"stbl", b"stsc")
    assert stsc is not None
    raw = subject.source.read(stsc.body + 8, stsc.end - stsc.body - 8)
    runs = np.frombuffer(raw[: len(raw) // 12 * 12], ">u4").reshape(-1, 3).astype(np.int64)
    which = np.searchsorted(runs[:, 0] - 1, track.chunk_of[firsts], side="right") - 1
    counts = np.diff(np.append(firsts, track.offsets.size))
    if box.kind == b"stco" and offsets.max() >= 2**32:
        raise RepairImpossible("The moved chunks lie beyond what the index can tell.")
    return [(box.start, chunk_table(offsets, _kind(box))), (stsc.start, runs_table(counts, runs[which, 2]))]


def _closed(subject: Subject, movie: Movie, moov: Box) -> tuple[list[tuple[int, bytes]], list[str]]:
    """Patches that end each media data box where the index begins or the file does, with a sentence for each."""
    patches: list[tuple[int, bytes]] = []
    words: list[str] = []
    if any(t.fragmented for t in movie.tracks):
        return patches, words
    last = max((b.start for b in movie.mdats if b.start < moov.start), default=-1)
    for box in movie.mdats:
        end = moov.start if box.start < moov.start else subject.size
        open_end = subject.source.uint(box.start, 4) == 0
        short = box.end == movie.tree.broken_at
        if box.cut or open_end or short or (movie.hidden and box.start == last):
            patches.append(resized(box, end - box.start))
            words.append(f"Set the media data box at {box.start:,} to {end - box.start:,} bytes.")
    return patches, words
