"""Repairs of the index and the boxes around it. Media data is never changed, only found again."""

from __future__ import annotations

import struct
from dataclasses import replace

import numpy as np

from jugal.formats.base import RepairDraft, RepairImpossible, Report, Subject
from jugal.formats.isobmff import fragments
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.check import examine
from jugal.formats.isobmff.chunks import fix_chunks
from jugal.formats.isobmff.cutting import cut_to_good, hold_pictures
from jugal.formats.isobmff.description import lend_description
from jugal.formats.isobmff.front import index_to_front
from jugal.formats.isobmff.lent import donor_items
from jugal.formats.isobmff.movie import Movie, read_movie
from jugal.formats.isobmff.rebuild import estimate_index, rebuild_index, rebuild_index_in_front
from jugal.formats.isobmff.restoring import fix_tables
from jugal.formats.isobmff.retable import rebuild_tables
from jugal.formats.isobmff.shifting import fix_offsets
from jugal.formats.isobmff.stills import extract_preview, fix_items
from jugal.formats.isobmff.structure import late_start
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.write import DROP, box_bytes, patched, resized, serialise, set_durations
from jugal.model.span import ByteSpan


def _movie(subject: Subject) -> tuple[Movie, Box]:
    movie = read_movie(subject)
    if movie.moov is None or not movie.moov.complete:
        raise RepairImpossible("The movie index is not in the file as a whole.")
    return movie, movie.moov


def fix_boxes(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Top-level boxes written anew around the index and the media data, everything staying at its offset."""
    movie, moov = _movie(subject)
    starts = [int(t.offsets.min()) for t in movie.tracks if t.offsets.size]
    if not starts:
        raise RepairImpossible("The index lists no samples.")
    if moov.cut and moov.end < subject.size and movie.tree.broken_at is None:
        words = f"Set the size of the index at {moov.start:,} so that it ends before the boxes it covered."
        return RepairDraft(patched(subject, [resized(moov, moov.end - moov.start)]), (words,))
    first = max(0, min(starts))
    last = min(subject.size, max(int((t.offsets + t.sizes).max()) for t in movie.tracks if t.offsets.size))
    patches: list[tuple[int, bytes]] = []
    steps: list[str] = []
    if moov.cut:
        patches.append(resized(moov, moov.end - moov.start))
        steps.append(f"Set the size of the index at {moov.start:,} to {moov.end - moov.start:,} bytes.")
    in_pieces = any(t.fragmented for t in movie.tracks)
    cursor = _file_type(subject, movie, moov, moov.start if in_pieces else first, patches, steps)
    if in_pieces:
        # Every fragment has a box of its own around its media data; what lies from the index on stays as it is.
        _fill_up(patches, steps, cursor, moov.start)
        return RepairDraft(patched(subject, patches), tuple(steps))
    if moov.start < first:
        _fill_up(patches, steps, cursor, moov.start)
        cursor = moov.end
        media_end = subject.size if movie.tree.broken_at is None and not movie.hidden else max(last, cursor)
        known = next((b for b in movie.mdats if b.start >= moov.end and b.body <= first), None)
        if known is not None:
            cursor = known.start
        elif first - cursor >= 8:
            cursor = _fill_up(patches, steps, cursor, first - 8)
        media_end = max(last, min(media_end, subject.size))
    else:
        media_end = moov.start
        known = next((b for b in movie.mdats if b.body <= first), None)
        cursor = known.start if known is not None else _fill_up(patches, steps, cursor, first - 8)
    if first - cursor < 8:
        raise RepairImpossible("There is no room for a media data header before the first sample.")
    size = media_end - cursor
    if size < 2**32:
        patches.append((cursor, struct.pack(">I4s", size, b"mdat")))
        if known is not None and known.body - known.start == 16:
            patches[-1] = (cursor, struct.pack(">I4sQ", 1, b"mdat", size))
    elif first - cursor >= 16:
        patches.append((cursor, struct.pack(">I4sQ", 1, b"mdat", size)))
    else:
        raise RepairImpossible("There is no room for a 64-bit media data header.")
    steps.append(f"Wrote the media data header at {cursor:,}: {size:,} bytes up to {media_end:,}.")
    end = moov.end if moov.start >= first else media_end
    if end < subject.size and not movie.hidden and movie.tree.broken_at is None:
        end = subject.size
    elif end < subject.size:
        steps.append(f"Left out bytes {end:,} to {subject.size:,} after the last box.")
    return RepairDraft(patched(subject, patches, 0, end), tuple(steps))


def _file_type(
    subject: Subject, movie: Movie, moov: Box, first: int, patches: list[tuple[int, bytes]], steps: list[str]
) -> int:
    """Where the file type box ends that stands in front of the index and the media data from ``first`` on, 0 without one.

    It is written where there is none and room for it.
    """
    head_room = min(moov.start, first)
    good = [b for b in movie.tree.top if b.kind == b"ftyp" and not b.cut and b.end <= head_room]
    if good:
        return good[0].end
    quicktime = subject.source.find(b"mhlr", moov.start, moov.end) >= 0
    brand = b"qt  " if quicktime else b"isom"
    others = brand if quicktime else b"isomiso2mp41"
    box = box_bytes(b"ftyp", brand + struct.pack(">I", 512) + others)
    room = head_room - len(box)
    if 0 < room < 8 and room % 4 == 0:
        box = box_bytes(b"ftyp", brand + struct.pack(">I", 512) + others + b"mp42" * (room // 4))
        room = 0
    if room < (8 if first < moov.start else 0):
        return 0
    patches.append((0, box))
    steps.append(f"Wrote a file type box over bytes 0 to {len(box)}.")
    return len(box)


def _fill_up(patches: list[tuple[int, bytes]], steps: list[str], at: int, end: int) -> int:
    """A ``free`` box from ``at`` to ``end`` where there is room for one; returns where the next box may begin."""
    if end - at >= 8:
        patches.append((at, struct.pack(">I4s", end - at, b"free")))
        steps.append(f"Marked bytes {at:,} to {end:,} as free.")
        return end
    return at if end > at else end


def cut_tables(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Sample tables cut to the samples that lie in the file; the index keeps its size by a free box."""
    movie, moov = _movie(subject)
    steps: list[str] = []
    new_bodies: dict[int, bytes] = {}
    ends: dict[int, float] = {}
    for track in movie.tracks:
        whole = (track.offsets + track.sizes <= subject.size) & (track.offsets >= 0)
        keep = int(np.argmin(whole)) if not whole.all() else track.offsets.size
        ends[id(track)] = float(track.durations[:keep].sum()) / track.timescale if track.timescale else 0.0
        if keep < track.offsets.size:
            _cut_track(subject, track, keep, new_bodies)
            steps.append(f"Cut track {track.ident} from {track.offsets.size:,} to {keep:,} samples.")
    if not new_bodies:
        raise RepairImpossible("Every sample lies in the file; there is nothing to cut.")
    longest = max(ends.values(), default=0.0)
    set_durations(subject, movie.tracks, moov, ends, longest, new_bodies)
    index = serialise(subject, moov, new_bodies)
    room = moov.end - moov.start
    if len(index) + 8 <= room:
        index += struct.pack(">I4s", room - len(index), b"free") + bytes(room - len(index) - 8)
    elif len(index) != room:
        raise RepairImpossible("The cut index does not fit where the old one was.")
    patches = [(moov.start, index)]
    for box in movie.mdats:
        if box.cut:
            size = subject.size - box.start
            patches.append(resized(box, size))
            steps.append(f"Set the media data box at {box.start:,} to {size:,} bytes.")
    report = Report()
    examine(subject, report)
    return RepairDraft(patched(subject, patches), tuple(steps), kept=report.attainable or 0.0)


def _cut_track(subject: Subject, track: Track, keep: int, new_bodies: dict[int, bytes]) -> None:
    source = subject.source
    stbl = track.box.child(b"mdia", b"minf", b"stbl")
    assert stbl is not None
    pcm = track.sizes.size == track.chunk_offsets.size and int(track.chunk_of[-1]) == track.sizes.size - 1 and (
        source.uint((stbl.child(b"stsz") or stbl).body + 4, 4) or 0
    ) > 0  # fmt: skip
    for box in stbl.children:
        body = source.read(box.body, box.end - box.body)
        if box.kind in (b"stts", b"ctts"):
            count = keep
            if pcm:
                count = _pcm_samples(source, stbl, keep)
            new_bodies[box.start] = _cut_runs(body, count)
        elif box.kind == b"stsz" and len(body) >= 12:
            fixed = int.from_bytes(body[4:8], "big")
            count = _pcm_samples(source, stbl, keep) if pcm else keep
            new_bodies[box.start] = body[:8] + struct.pack(">I", count) + (b"" if fixed else body[12 : 12 + 4 * keep])
        elif box.kind == b"stss":
            numbers = np.frombuffer(body[8:], ">u4")
            numbers = numbers[numbers <= keep]
            new_bodies[box.start] = body[:4] + struct.pack(">I", numbers.size) + numbers.tobytes()
        elif box.kind in (b"stco", b"co64"):
            width = 4 if box.kind == b"stco" else 8
            chunks = int(track.chunk_of[keep - 1]) + 1 if keep else 0
            new_bodies[box.start] = body[:4] + struct.pack(">I", chunks) + body[8 : 8 + width * chunks]
        elif box.kind == b"stsc":
            new_bodies[box.start] = _chunk_runs(track, keep, body, pcm)
        elif box.kind in (b"sdtp",):
            new_bodies[box.start] = body[: 4 + keep]
        elif box.kind in (b"sbgp", b"sgpd", b"cslg", b"stps"):
            new_bodies[box.start] = DROP


def _pcm_samples(source, stbl: Box, chunks: int) -> int:  # type: ignore[no-untyped-def]
    stsc = stbl.child(b"stsc")
    assert stsc is not None
    body = source.read(stsc.body, stsc.end - stsc.body)
    runs = np.frombuffer(body[8 : 8 + (len(body) - 8) // 12 * 12], ">u4").reshape(-1, 3).astype(np.int64)
    firsts = np.minimum(runs[:, 0] - 1, chunks)
    return int((np.diff(np.append(firsts, chunks)) * runs[:, 1]).sum())


def _cut_runs(body: bytes, keep: int) -> bytes:
    """stts and ctts: (count, value) runs cut to ``keep`` samples."""
    runs = np.frombuffer(body[8 : 8 + (len(body) - 8) // 8 * 8], ">u4").reshape(-1, 2)
    out, left = [], keep
    for count, value in runs.tolist():
        if left <= 0:
            break
        out.append((min(count, left), value))
        left -= count
    return body[:4] + struct.pack(">I", len(out)) + b"".join(struct.pack(">II", *run) for run in out)


def _chunk_runs(track: Track, keep: int, body: bytes, pcm: bool) -> bytes:
    """stsc for the chunks that hold the first ``keep`` samples, the last chunk perhaps with fewer."""
    runs = np.frombuffer(body[8 : 8 + (len(body) - 8) // 12 * 12], ">u4").reshape(-1, 3).tolist()
    chunks = int(track.chunk_of[keep - 1]) + 1 if keep else 0
    kept = [run for run in runs if run[0] <= chunks]
    if not pcm and keep:
        in_last = int((track.chunk_of[:keep] == chunks - 1).sum())
        per_chunk = kept[-1][1]
        if in_last != per_chunk:
            if kept[-1][0] == chunks:
                kept[-1] = [chunks, in_last, kept[-1][2]]
            else:
                kept.append([chunks, in_last, kept[-1][2]])
    return body[:4] + struct.pack(">I", len(kept)) + b"".join(struct.pack(">III", *run) for run in kept)


def trim(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Everything after the last box is left out."""
    movie = read_movie(subject)
    at = movie.tree.broken_at
    if at is None:
        raise RepairImpossible("Nothing follows the last box.")
    report = Report()
    examine(subject, report)
    steps = (f"Left out bytes {at:,} to {subject.size:,} after the last box.",)
    return RepairDraft((ByteSpan(0, at),), steps, kept=report.attainable or 0.0)


def trim_start(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Everything before the first box is left out, so that all offsets are right again."""
    start = late_start(subject)
    if start is None:
        raise RepairImpossible("Nothing stands before the first box.")
    return RepairDraft((ByteSpan(start, subject.size),), (f"Left out bytes 0 to {start:,} before the first box.",))


def fix_fragments(subject: Subject, donor: Subject | None) -> RepairDraft:
    """A media data box that covers the next fragments, set to end where they begin."""
    movie = read_movie(subject)
    if movie.swallower is None or movie.swallowed is None:
        raise RepairImpossible("No media data box covers a fragment.")
    box, size = movie.swallower, movie.swallowed.start - movie.swallower.start
    return RepairDraft(
        patched(subject, [resized(box, size)]),
        (f"Set the media data box at {box.start:,} to {size:,} bytes.",),
    )


def close_fragments(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The fragments that are left, one behind the other; what is missing between them stays missing."""
    movie = read_movie(subject)
    gaps = fragments.missing_ticks(subject, movie)
    there = {t.ident: float(t.durations.sum()) for t in movie.tracks}
    kept = min((there[i] / (there[i] + gap) for i, gap in gaps.items() if there.get(i)), default=1.0)
    return replace(fragments.close_up(subject), kept=100.0 * kept)


REPAIRS = {
    "rebuild-index": rebuild_index,
    "rebuild-index-in-front": rebuild_index_in_front,
    "estimate-index": estimate_index,
    "trim-start": trim_start,
    "fix-fragments": fix_fragments,
    "close-fragments": close_fragments,
    "lend-description": lend_description,
    "cut-holes": cut_to_good,
    "hold-pictures": hold_pictures,
    "index-in-front": index_to_front,
    "fix-offsets": fix_offsets,
    "fix-chunks": fix_chunks,
    "fix-tables": fix_tables,
    "rebuild-tables": rebuild_tables,
    "fix-boxes": fix_boxes,
    "cut-tables": cut_tables,
    "fix-items": fix_items,
    "donor-items": donor_items,
    "extract-preview": extract_preview,
    "trim": trim,
}
