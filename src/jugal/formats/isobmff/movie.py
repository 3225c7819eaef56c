"""A movie as a whole: box tree, index wherever it lies, tracks, and what lies in the media data."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from jugal.formats.base import Subject
from jugal.formats.fills import foreign_text, holes
from jugal.formats.isobmff.boxes import Box, Tree, find_box, find_stranded, read_children, read_tree
from jugal.formats.isobmff.layout import doubt_places
from jugal.formats.isobmff.payload import AVC, FILLED, FOREIGN, HEVC, PRORES
from jugal.formats.isobmff.runs import Part
from jugal.formats.isobmff.tables import Track, read_fragments, read_track
from jugal.kernels.blockstats import PAGE, SECTOR
from jugal.model.span import ByteSpan, merge

_MOOV_INNER = frozenset({b"mvhd", b"cmov", b"rmra", b"udta", b"trak", b"prfl", b"iods", b"uuid", b"meta"})
#: Codecs whose frames never hold a whole sector of one byte value.
DENSE = AVC | HEVC | {b"mp4a", b"mp4v", b"jpeg", b"s263", b"vp09", b"av01", b"alac"}
#: Codecs whose own data are picture data of JPEG.
_STUFFED = frozenset({b"jpeg", b"mjpa", b"mjpb", b"dmb1"})


@dataclass(slots=True)
class Movie:
    """What was found. ``hidden`` says that the index was found by searching, not by following the boxes."""

    tree: Tree
    moov: Box | None
    hidden: bool
    tracks: list[Track] = field(default_factory=list)
    #: Each fragment with what it says of its tracks.
    fragments: list[tuple[Box, list[Part]]] = field(default_factory=list)
    broken_fragments: list[tuple[Box, str]] = field(default_factory=list)
    #: A fragment found inside a media data box whose size is wrong, and that box.
    swallowed: Box | None = None
    #: Fragments behind a break in the chain of boxes, which no player reaches.
    stranded: list[Box] = field(default_factory=list)
    swallower: Box | None = None

    @property
    def is_raw_photo(self) -> bool:
        """Whether any track is one of a raw photograph."""
        return any(t.raw_photo for t in self.tracks)

    @property
    def covered(self) -> Box | None:
        """The first fragment that players do not reach because the index claims its place, and ends within another box."""
        if self.moov is None or self.hidden or not self.moov.cut:
            return None
        stated = self.moov.start + self.moov.stated
        if any(b.start == stated for b in self.tree.top):
            return None
        return next((b for b in self.tree.all(b"moof") if b.start >= stated), None)

    @property
    def mdats(self) -> list[Box]:
        return self.tree.all(b"mdat")


def read_movie(subject: Subject) -> Movie:
    """The movie in ``subject``; the index is searched for when no box chain leads to it."""
    source = subject.source
    tree = read_tree(source, 0, subject.limits)
    moov = tree.first(b"moov")
    hidden = False
    if moov is None:
        moov = find_box(source, b"moov", _MOOV_INNER)
        if moov is not None:
            hidden = True
            moov.cut = moov.end > source.size
            moov.end = min(moov.end, source.size)
            read_children(source, tree, moov, subject.limits)
            behind_break = tree.broken_at is not None and moov.start >= tree.broken_at
            if behind_break and moov.complete and moov.child(b"mvex") is not None:
                # Its fragments follow it in a chain of their own.
                tree.top += read_tree(source, moov.end, subject.limits).top
    movie = Movie(tree, moov, hidden)
    if moov is not None:
        movie.tracks = [read_track(source, trak) for trak in moov.all(b"trak")]
        _doubt_sizes(movie, source.size)
        doubt_places(movie.tracks, movie.mdats, source.size)
        if moov.child(b"mvex") is not None and not hidden:
            movie.stranded = find_stranded(source, tree, subject.limits)
        movie.fragments, movie.broken_fragments = read_fragments(source, tree, moov, movie.tracks)
        if moov.child(b"mvex") is not None and not movie.stranded:
            _find_swallowed(subject, movie)
    return movie


def _doubt_sizes(movie: Movie, size: int) -> None:
    """Samples larger than all media data were never written: their entries were, and what follows them lies elsewhere."""
    most = max(size, *(b.stated for b in movie.mdats), 0)
    for track in movie.tracks:
        wrong = np.flatnonzero(track.sizes > most)
        stbl = track.box.child(b"mdia", b"minf", b"stbl")
        box = (stbl.child(b"stsz") or stbl.child(b"stz2")) if stbl else None
        if not wrong.size or box is None or track.fragmented:
            continue
        first = int(wrong[0])
        track.doubt(
            f"{wrong.size:,} samples are said to be larger than all media data.", box, box.body + 12 + 4 * first
        )
        # What follows one in its chunk is said to lie elsewhere, too.
        chunks = np.isin(track.chunk_of, track.chunk_of[wrong])
        track.astray = chunks & (np.arange(track.sizes.size) >= first)


def _find_swallowed(subject: Subject, movie: Movie) -> None:
    """A media data box that goes on past its fragment's samples and holds the next fragment."""
    ends = [int((t.offsets + t.sizes).max()) for t in movie.tracks if t.offsets.size]
    if not ends or not movie.mdats:
        return
    last = movie.mdats[-1]
    at = subject.source.find(b"moof", max(max(ends), last.body), min(last.end, max(ends) + (1 << 22)))
    if at < 4 or subject.source.read(at + 8, 4) != b"mfhd":
        return
    movie.swallower = last
    movie.swallowed = Box(b"moof", at - 4, at + 4, last.end)


def bad_spans(subject: Subject, movie: Movie, span: ByteSpan) -> list[tuple[int, int, int]]:
    """Filled and foreign stretches of media data as (start, end, state)."""
    dense = is_dense(movie)
    # A sector alone is a line of a plain picture as well.
    compact = all(t.codec in DENSE | PRORES for t in movie.tracks if t.kind == "video")
    fills = [f.span for f in holes(subject, span, SECTOR if dense or compact else PAGE)]
    if not dense:
        # Other codecs write runs themselves, for black or to pad a frame: those end where they happen to, what a copying
        # program or a disk leaves ends at sectors.
        fills = [s for s in fills if s.start % SECTOR == 0 and (s.end % SECTOR == 0 or s.end == span.end)]
    found = [(s.start, s.end, FILLED) for s in fills]
    if dense:
        found += [(s.start, s.end, FOREIGN) for s in foreign_text(subject, span)]
        found += [
            (s.start, s.end, FOREIGN) for s in subject.blocks.patterns if s.start < span.end and s.end > span.start
        ]
        if not any(t.codec in _STUFFED for t in movie.tracks):
            found += [(s.start, s.end, FOREIGN) for s in _stuffed(subject, span)]
    return sorted(found)


def _stuffed(subject: Subject, span: ByteSpan) -> list[ByteSpan]:
    """Pages in which every 0xFF is followed by 0x00: picture data of JPEG, which coded video is not."""
    pages = np.flatnonzero(subject.blocks.stuffed)
    spans = merge([ByteSpan(int(p) * PAGE, int(p + 1) * PAGE) for p in pages])
    return [s.clip(span) for s in spans if s.clip(span).length]


def is_dense(movie: Movie) -> bool:
    """All tracks with much data hold coded frames only."""
    coded = [t for t in movie.tracks if t.offsets.size]
    weight = sum(int(t.sizes.sum()) for t in coded)
    return bool(coded) and all(t.codec in DENSE or int(t.sizes.sum()) < 0.05 * weight for t in coded)
