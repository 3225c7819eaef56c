"""Movie fragments (8.8) behind a break in the chain of boxes: found again, counted in time, closed up."""

from __future__ import annotations

import struct
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jugal.binary.output import Piece
from jugal.binary.source import Source
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.isobmff import payload
from jugal.formats.isobmff.boxes import WITHIN_OTHERS, Box, Tree, find_box, read_children, read_header
from jugal.formats.isobmff.movie import Movie, read_movie
from jugal.formats.isobmff.offsets import Step, apply_steps
from jugal.formats.isobmff.runs import FARTHEST
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.write import box_bytes, patched
from jugal.model.span import ByteSpan

#: More bytes than this are not missing inside one media data box; its size is wrong.
_MOST_LOST = 1 << 24
#: Seconds by which a segment index and the samples may differ where nothing is missing.
_ROUNDED = 0.5
#: Fragments that are asked for the tracks they belong to.
_MOST_ASKED = 16


@dataclass(frozen=True, slots=True)
class Fragment:
    """A moof box with the media data box behind it; ``room`` is how many bytes lie there up to what follows."""

    moof: Box
    mdat: Box
    room: int

    @property
    def lost(self) -> int:
        """Bytes that the media data box claims and that are not there."""
        return max(0, self.mdat.start + self.mdat.stated - (self.moof.start + self.room))


def all_fragments(source: Source, tree: Tree) -> list[Fragment]:
    """The fragments among the top-level boxes, each with the media data that follows it."""
    boxes = sorted(tree.top, key=lambda b: b.start)
    found = []
    for at, box in enumerate(boxes):
        if box.kind != b"moof":
            continue
        mdat = next((b for b in boxes[at + 1 : at + 3] if b.kind == b"mdat"), None)
        if mdat is None or not mdat.stated:
            continue
        following = next((b.start for b in boxes[at + 1 : at + 4] if b.start > mdat.start), source.size)
        found.append(Fragment(box, mdat, min(following, source.size) - box.start))
    return found


def listed_part(movie: Movie, fragments: list[Fragment]) -> Fragment | None:
    """The media data in front of the first fragment whose samples the movie index lists itself, as a fragment without a box;
    None where there are none."""
    if not fragments:
        return None
    begin = fragments[0].moof.start
    for box in movie.tree.top:
        if box.kind != b"mdat" or not box.stated or box.start >= begin:
            continue
        if any(((t.chunk_offsets >= box.body) & (t.chunk_offsets < begin)).any() for t in movie.tracks):
            return Fragment(Box(b"moof", box.start, box.start, box.start), box, begin - box.start)
    return None


def heads_of_fragments(source: Source, span: ByteSpan) -> list[ByteSpan]:
    """The fragments' own indexes (8.8.4) among the media data in ``span``, each with the head of its media data.

    The index of them all at the end (8.8.9) is one of them.
    """
    found: list[ByteSpan] = []
    at = span.start
    while (moof := find_box(source, b"moof", frozenset({b"mfhd"}), at)) is not None and moof.end <= span.end:
        mdat = read_header(source, moof.end, source.size)
        end = mdat.body if mdat is not None and mdat.kind == b"mdat" else moof.end
        if moof.start >= at:
            found.append(ByteSpan(moof.start, min(end, span.end)))
        at = end
    last = find_box(source, b"mfra", frozenset({b"tfra"}), at)
    if last is not None and last.end <= span.end:
        found.append(ByteSpan(last.start, last.end))
    return found


def idents_of_fragments(source: Source, heads: list[ByteSpan]) -> set[int]:
    """The tracks that the fragments at ``heads`` belong to (8.8.7)."""
    idents: set[int] = set()
    for head in heads[:_MOST_ASKED]:
        box = read_header(source, head.start, source.size)
        if box is not None and box.kind == b"moof":
            read_children(source, Tree(), box)
            idents |= {source.uint(h.body + 4, 4) or 0 for traf in box.all(b"traf") for h in traf.all(b"tfhd")}
    return idents


def decode_times(source: Source, fragment: Fragment) -> dict[int, int]:
    """Track → time of the fragment's first sample (tfdt, 8.8.12) in the track's scale."""
    times = {}
    for traf in fragment.moof.all(b"traf"):
        head, time = traf.child(b"tfhd"), traf.child(b"tfdt")
        if head is None or time is None:
            continue
        body = source.read(time.body, 12)
        wide = body[:1] == b"\x01"
        times[source.uint(head.body + 4, 4) or 0] = int.from_bytes(body[4:12] if wide else body[4:8], "big")
    return times


def displacements(source: Source, fragments: list[Fragment]) -> NDArray[np.int64]:
    """By how many bytes each fragment lies elsewhere than its offsets say, where these count from the file's start (8.8.7).

    Where all first runs lie as far from their base as the media data do from their fragment, each base is a fragment's start.
    Else what lies between the first run and the start of the media data is taken to be the same in all of them.
    """
    ahead: list[int | None] = []
    from_start = True
    for fragment in fragments:
        firsts = [_first_run(source, traf) for traf in fragment.moof.all(b"traf")]
        known = [first for first in firsts if first is not None]
        if not known:
            ahead.append(None)
            continue
        base, first = min(known, key=lambda k: k[1])
        ahead.append(fragment.mdat.body - first)
        from_start = from_start and first - base == fragment.mdat.body - fragment.moof.start
    usual = 0 if from_start else next((a for a in ahead if a is not None), 0)
    return np.array([0 if a is None else a - usual for a in ahead], np.int64)


def _first_run(source: Source, traf: Box) -> tuple[int, int] | None:
    """(base, start) of the first run by an offset from the file's start; None where it counts from the fragment."""
    head, run = traf.child(b"tfhd"), traf.child(b"trun")
    if head is None or run is None or not (source.uint(head.body + 1, 3) or 0) & 1:
        return None
    base = source.uint(head.body + 8, 8)
    if base is None:
        return None
    offset = source.read(run.body + 8, 4) if (source.uint(run.body + 1, 3) or 0) & 1 else b""
    return base, base + int.from_bytes(offset, "big", signed=True)


def in_place(source: Source, movie: Movie, track: Track) -> Track:
    """``track`` with the samples of displaced fragments where they are now; itself where none is displaced."""
    fragments = all_fragments(source, movie.tree)
    moved = displacements(source, fragments)
    if not moved.any() or not len(track.runs):
        return track
    number = np.searchsorted([f.moof.start for f in fragments], track.runs[:, 0], "right") - 1
    by_run = np.where(number >= 0, moved[np.maximum(number, 0)], 0)
    offsets, first = track.offsets.copy(), int(track.runs[0, 1])
    offsets[first:] += by_run[track.chunk_of[first:]]
    return replace(track, offsets=offsets)


def closed(subject: Subject, movie: Movie, tracks: list[Track]) -> list[Track]:
    """``tracks`` with their samples where they are once ``close_up`` has put bytes in where some are missing inside fragments.

    A track in which that moves nothing is itself.
    """
    moved = [in_place(subject.source, movie, track) for track in tracks]
    fragments = all_fragments(subject.source, movie.tree)
    listed = listed_part(movie, fragments)
    for fragment in [*([listed] if listed else []), *fragments]:
        if not 0 < fragment.lost <= _MOST_LOST:
            continue
        where = _first_fault(subject, replace(movie, tracks=moved), fragment)
        for number, track in enumerate(moved):
            heads = track.runs[:, 0]
            own = (heads >= fragment.moof.start) & (heads < fragment.moof.end)
            first = int(track.runs[0, 1]) if len(track.runs) else track.offsets.size
            if fragment is listed:
                behind = (track.offsets >= where) & (np.arange(track.offsets.size) < first)
                moved[number] = replace(track, offsets=track.offsets - fragment.lost * behind)
            elif own.any():
                behind = track.offsets >= where
                behind[:first] = False
                behind[first:] &= own[track.chunk_of[first:]]
                moved[number] = replace(track, offsets=track.offsets - fragment.lost * behind)
    return moved


@dataclass(frozen=True, slots=True)
class SegmentIndex:
    """sidx (8.16.3) of one track: where its segments begin, and how many seconds all of them last."""

    ident: int
    starts: NDArray[np.int64]
    seconds: float


def segment_indexes(source: Source, tree: Tree) -> list[SegmentIndex]:
    """The segment indexes among the top-level boxes whose rows tell of segments, not of further indexes."""
    found = []
    for box in tree.all(b"sidx"):
        wide = source.read(box.body, 1) == b"\x01"
        head = source.read(box.body, 32 if wide else 24)
        if len(head) < (32 if wide else 24) or box.cut:
            continue
        ident, scale = struct.unpack(">II", head[4:12])
        ahead, count = int.from_bytes(head[20:28] if wide else head[16:20], "big"), int.from_bytes(head[-2:], "big")
        raw = source.read(box.body + len(head), 12 * count)
        rows = np.frombuffer(raw[: len(raw) // 12 * 12], ">u4").reshape(-1, 3).astype(np.int64)
        if not scale or len(rows) < count or not count or (rows[:, 0] >= 2**31).any():
            continue
        starts = box.end + min(ahead, FARTHEST) + np.cumsum(rows[:, 0]) - rows[:, 0]
        found.append(SegmentIndex(ident, starts, float(rows[:, 1].sum()) / scale))
    return found


@dataclass(frozen=True, slots=True)
class Unreached:
    """Where stranded fragments begin, in order, and which of them players do not find."""

    starts: NDArray[np.int64]
    hidden: NDArray[np.bool_]

    def holds(self, offsets: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Which of the samples at ``offsets`` lie in such a fragment."""
        number = np.searchsorted(self.starts, offsets, "right") - 1
        return (number >= 0) & self.hidden[np.maximum(number, 0)]


def unreached(source: Source, movie: Movie) -> Unreached:
    """The stranded fragments that no segment index leads to, neither to themselves nor to what they follow; of those behind
    boxes that seem to be the file's own, which players step over, only the one that these lie in."""
    starts, broken = np.array([m.start for m in movie.stranded], np.int64), movie.tree.broken_at
    if broken is not None and source.read(broken + 4, 4) in WITHIN_OTHERS:
        return Unreached(starts, np.array([m.start < broken < m.end for m in movie.stranded]))
    listed = {int(start) for index in segment_indexes(source, movie.tree) for start in index.starts}
    ends = {b.end for b in movie.tree.all(b"mdat") if b.end == b.start + b.stated}
    hidden: list[bool] = []
    for moof in movie.stranded:
        follows = bool(hidden) and moof.start in ends and not hidden[-1]
        hidden.append(moof.start not in listed and not follows)
    return Unreached(starts, np.array(hidden))


def ticks_never_there(source: Source, tree: Tree, track: Track) -> int:
    """Ticks that a segment index promises and no fragment in the file brings: the file was cut between two of them."""
    promised = [s.seconds for s in segment_indexes(source, tree) if s.ident == track.ident and len(s.starts) > 1]
    lacking = (promised[0] if len(promised) == 1 else 0.0) * track.timescale - float(track.durations.sum())
    return round(lacking) if lacking > _ROUNDED * track.timescale else 0


def is_cut(movie: Movie) -> bool:
    """The file ends within a fragment."""
    last = max(movie.tree.top, key=lambda box: box.start, default=None)
    return bool(movie.fragments) and last is not None and last.cut


def ticks_cut_off(source: Source, movie: Movie, track: Track) -> int:
    """Ticks that the movie is said to last longer (mehd, 8.8.2) than what a file that is cut within a fragment holds."""
    extends = movie.moov.child(b"mvex", b"mehd") if movie.moov is not None else None
    head = movie.moov.child(b"mvhd") if movie.moov is not None else None
    if extends is None or head is None or not is_cut(movie):
        return 0
    body = source.read(extends.body, 12)
    whole = int.from_bytes(body[4:12] if body[:1] == b"\1" else body[4:8], "big")
    scale = source.uint(head.body + (20 if source.uint(head.body, 1) == 1 else 12), 4) or 0
    lacking = whole / scale * track.timescale - float(track.durations.sum()) if scale else 0.0
    return round(lacking) if _ROUNDED * track.timescale < lacking < 1 << 40 else 0


def ticks_not_listed(source: Source, movie: Movie, track: Track) -> int:
    """Ticks before the first fragment for which the index lists no samples of ``track``, though it does of another track."""
    listed = any(t.chunk_offsets.size for t in movie.tracks)
    fragments = all_fragments(source, movie.tree) if listed else []
    if not fragments:
        return 0
    begins = decode_times(source, fragments[0]).get(track.ident, 0)
    own = int(track.runs[0, 1]) if len(track.runs) else track.offsets.size
    lacking = begins - int(track.durations[:own].sum())
    return lacking if lacking > _ROUNDED * track.timescale else 0


def share_from_start(source: Source, tree: Tree, ahead: dict[int, int] | None = None) -> float:
    """How much of the running time up to the last fragment is there, 0..1: the first one's own time says what went before.

    ``ahead`` are the ticks of each track that were found in front of the first fragment.
    """
    share = 1.0
    times = [decode_times(source, fragment) for fragment in all_fragments(source, tree)]
    for ident in {ident for row in times for ident in row}:
        own = [row[ident] for row in times if ident in row]
        if len(own) > 1 and own[-1] > own[0]:
            there = (own[-1] - own[0]) * len(own) / (len(own) - 1)
            found = min(own[0], (ahead or {}).get(ident, 0))
            share = min(share, (found + there) / (own[0] + there))
    return share


def missing_ticks(subject: Subject, movie: Movie) -> dict[int, int]:
    """Track → ticks that are missing between the fragments that are left, by their own times."""
    ends: dict[int, int] = {}
    gaps: dict[int, int] = {}
    by_ident = {t.ident: in_place(subject.source, movie, t) for t in movie.tracks}
    for fragment in all_fragments(subject.source, movie.tree):
        for ident, begin in decode_times(subject.source, fragment).items():
            track = by_ident.get(ident)
            if track is None:
                continue
            if ident in ends and begin > ends[ident]:
                gaps[ident] = gaps.get(ident, 0) + begin - ends[ident]
            inside = (track.offsets >= fragment.moof.start) & (
                track.offsets < fragment.moof.start + fragment.room + fragment.lost
            )
            first_after = begin + int(track.durations[inside].sum())
            ends[ident] = max(ends.get(ident, 0), first_after)
    return gaps


def close_up(subject: Subject) -> RepairDraft:
    """Every fragment that is left, one behind the other; bytes lost inside one made up for by zeros."""
    movie = read_movie(subject)
    if not movie.stranded or movie.moov is None:
        raise RepairImpossible("No fragment lies behind a break.")
    source = subject.source
    fragments = all_fragments(source, movie.tree)
    away = dict(zip((f.moof.start for f in fragments), displacements(source, fragments).tolist(), strict=True))
    movie.tracks = [in_place(source, movie, track) for track in movie.tracks]
    heads = [b for b in movie.tree.top if b.kind in (b"ftyp", b"moov") and not b.cut]
    at = sum(b.end - b.start for b in heads)
    steps = [f"Kept the file type and the movie header, and {len(fragments):,} fragments as they are."]
    entries: dict[int, list[tuple[int, int]]] = {}
    kept: list[tuple[Fragment, int]] = []
    listed = listed_part(movie, fragments)
    if listed is not None:
        away[listed.moof.start] = 0
    for fragment in [*([listed] if listed else []), *fragments]:
        if fragment.lost > _MOST_LOST:
            steps.append(f"Left out the fragment at {fragment.moof.start:,}, which claims more than can be missing.")
            continue
        for ident, time in decode_times(source, fragment).items():
            entries.setdefault(ident, []).append((time, at))
        kept.append((fragment, fragment.mdat.start + fragment.mdat.stated - fragment.moof.start))
        at += kept[-1][1]
    if not entries:
        raise RepairImpossible("No fragment could be kept.")
    lead = _lead(entries, movie.tracks)
    indexed = b""
    if movie.tree.first(b"sidx") is not None:
        indexed = _segment_index(source, lead, kept)
        steps.append("Wrote a new index of the segments (sidx).")
    at = sum(b.end - b.start for b in heads) + len(indexed)
    patches = _listed_moved(movie, at - listed.moof.start) if listed is not None else []
    pieces = [
        piece
        for b in sorted(heads, key=lambda b: b.start)
        for piece in patched(subject, patches if b is movie.moov else [], b.start, b.end)
    ]
    pieces.append(indexed)
    for fragment, length in kept:
        pieces += _index_moved(subject, fragment.moof, at - fragment.moof.start + away[fragment.moof.start])
        stop = fragment.moof.start + length - fragment.lost
        if fragment.lost:
            where = _first_fault(subject, movie, fragment)
            pieces += [ByteSpan(fragment.moof.end, where), bytes(fragment.lost), ByteSpan(where, stop)]
            steps.append(
                f"Put {fragment.lost:,} zeros at {where:,} in place of what is missing, so that the rest is in its place."
            )
        else:
            pieces.append(ByteSpan(fragment.moof.end, stop))
        at += length
    rows = [(time, offset + len(indexed)) for time, offset in entries[lead.ident]]
    pieces.append(_random_access(lead, rows))
    steps.append("Wrote a new index of the fragments (mfra).")
    return RepairDraft(tuple(pieces), tuple(steps))


def _listed_moved(movie: Movie, delta: int) -> list[tuple[int, bytes]]:
    """Patches for the chunk offsets of the index where the media data it lists go ``delta`` bytes further on."""
    return [
        (
            t.chunk_box.body + 8,
            (t.chunk_offsets + delta).astype(">u4" if t.chunk_box.kind == b"stco" else ">u8").tobytes(),
        )
        for t in movie.tracks
        if delta and t.chunk_box is not None and t.chunk_offsets.size
    ]


def all_moved(subject: Subject, tree: Tree, delta: int) -> tuple[Piece, ...]:
    """What lies from the first box of ``tree`` on for a place ``delta`` bytes further on; offsets in fragments go along."""
    pieces: list[Piece] = []
    at = tree.top[0].start
    for moof in tree.all(b"moof"):
        pieces += [ByteSpan(at, moof.start), *_index_moved(subject, moof, delta)]
        at = moof.end
    return (*pieces, ByteSpan(at, subject.size))


def _index_moved(subject: Subject, moof: Box, delta: int) -> tuple[Piece, ...]:
    """``moof`` for another place in the file: offsets that count from the file's start go along (8.8.7)."""
    source, patches = subject.source, []
    for traf in moof.all(b"traf"):
        head = traf.child(b"tfhd")
        if head is not None and (source.uint(head.body + 1, 3) or 0) & 1:
            place = head.body + 8
            stated = int.from_bytes(source.read(place, 8), "big") + delta
            patches.append((place, max(0, stated).to_bytes(8, "big")))
    return patched(subject, patches, moof.start, moof.end)


def moved_runs(subject: Subject, track: Track, steps: list[Step]) -> list[tuple[int, bytes]]:
    """Patches (byte, new data offset) for the runs of ``track`` that ``steps`` move (8.8.8)."""
    patches = []
    for place, first, _ in track.runs.tolist():
        start = track.offsets[first : first + 1]
        delta = int((apply_steps(start, steps) - start)[0])
        if not delta:
            continue
        if not place:
            raise RepairImpossible("A run has no offset of its own that could be corrected.")
        stated = int.from_bytes(subject.source.read(place, 4), "big", signed=True) + delta
        patches.append((place, struct.pack(">i", stated)))
    return patches


def _first_fault(subject: Subject, movie: Movie, fragment: Fragment) -> int:
    """Where in a fragment the samples stop making sense: there the bytes are missing."""
    begin, end = fragment.mdat.body, fragment.moof.start + fragment.room
    places = []
    for track in movie.tracks:
        inside = (track.offsets >= begin) & (track.offsets < end)
        if not inside.any():
            continue
        part = track.only(inside)
        bad = np.flatnonzero(payload.inspect(subject, part, [], to_the_bit=True).state)
        if bad.size:
            places.append(int(part.offsets[bad[0]] + min(64, part.sizes[bad[0]])))
    return min((p for p in places if begin <= p <= end), default=end)


def _lead(entries: dict[int, list[tuple[int, int]]], tracks: list[Track]) -> Track:
    """The track that indexes go by: the first video track, or the first there is."""
    there = [t for t in tracks if t.ident in entries]
    return next((t for t in there if t.kind == "video"), there[0])


def _segment_index(source: Source, track: Track, kept: list[tuple[Fragment, int]]) -> bytes:
    """sidx (8.16.3) in front of ``kept``, the fragments with their lengths: one segment each."""
    times = [decode_times(source, fragment).get(track.ident) for fragment, _ in kept]
    starts = np.array([fragment.moof.start for fragment, _ in kept])
    order = np.argsort(track.offsets, kind="stable")
    firsts = np.append(np.searchsorted(track.offsets[order], starts), track.offsets.size)
    rows = b""
    for number, (_, length) in enumerate(kept):
        inside = np.sort(order[firsts[number] : firsts[number + 1]])
        inside = inside[track.offsets[inside] < starts[number] + length]
        begin, end = times[number], times[number + 1] if number + 1 < len(times) else None
        ticks = end - begin if begin is not None and end is not None else int(track.durations[inside].sum())
        starts_sync = bool(track.sync[inside][:1].any())
        rows += struct.pack(">III", length, max(0, ticks), (9 if starts_sync else 0) << 28)
    head = struct.pack(">IIIQQHH", 1 << 24, track.ident, track.timescale, times[0] or 0, 0, 0, len(kept))
    return box_bytes(b"sidx", head + rows)


def _random_access(track: Track, rows: list[tuple[int, int]]) -> bytes:
    """mfra (8.8.9) with (time, offset) of the fragments of ``track``."""
    body = b"".join(struct.pack(">QQBBB", time, offset, 1, 1, 1) for time, offset in rows)
    tfra = box_bytes(b"tfra", b"\x01\0\0\0" + struct.pack(">III", track.ident, 0, len(rows)) + body)
    return box_bytes(b"mfra", tfra + box_bytes(b"mfro", b"\0\0\0\0" + struct.pack(">I", len(tfra) + 8 + 16)))
