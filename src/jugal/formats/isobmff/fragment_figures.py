"""Figures in movie fragments that the rest of the file contradicts: tracks, offsets, sizes and times (ISO/IEC 14496-12 8.8).

Fragments of one recorder are alike. Their samples fill the media data behind each without a rest, one run behind the other,
and each begins when the one before it ends. A figure by which one fragment differs from that, and no other, was overwritten.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Subject
from jugal.formats.isobmff import payload
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.faults import Fault
from jugal.formats.isobmff.fragments import all_fragments, displacements
from jugal.formats.isobmff.movie import Movie
from jugal.formats.isobmff.runs import (
    BASE,
    BASE_IS_FRAGMENT,
    DESCRIPTION,
    DURATION,
    DURATIONS,
    FARTHEST,
    SIZE,
    SIZES,
    Part,
    Run,
    placed_runs,
    read_defaults,
)
from jugal.formats.isobmff.tables import Track

_MOST = 4096
#: Samples before the first that does not read of which one may be of a wrong size.
_BEFORE = 2
#: Seconds by which times may differ and be rounded.
_ROUNDED = 0.002
#: Of the fragments so many must follow a rule for one that does not to be wrong.
_RULE = 0.5
#: So many times as long as all others a sample hardly is.
_FAR = 8
#: Fragments of fewer samples may begin a little beside where the one before them ends.
_FEW = 4


@dataclass(slots=True)
class _Laid:
    """A run where it lies: the byte its samples begin at, their sizes."""

    part: Part
    run: Run
    start: int
    sizes: NDArray[np.int64]

    @property
    def end(self) -> int:
        return self.start + int(self.sizes.sum())


@dataclass(slots=True)
class _Fragment:
    """A fragment whose media data follow it and are all there."""

    moof: Box
    mdat: Box
    parts: list[Part]
    runs: list[_Laid]

    @property
    def regular(self) -> bool:
        """Its runs fill its media data, one behind the other."""
        at = self.mdat.body
        for laid in self.runs:
            if laid.start != at:
                return False
            at = laid.end
        return at == self.mdat.end


def wrong_figures(subject: Subject, movie: Movie) -> list[Fault]:
    """What is wrong in fragments whose boxes are right. One figure may hide the next: those found first are given alone."""
    if movie.moov is None or movie.hidden or not movie.fragments:
        return []
    fragments = _fragments(subject, movie)
    checks: tuple[Callable[[], list[Fault]], ...] = (
        lambda: _tracks(movie),
        lambda: _places(fragments),
        lambda: _sizes(subject, movie, fragments),
        lambda: _times(subject, movie),
    )
    for check in checks:
        if found := check():
            return found[:_MOST]
    return []


def _fragments(subject: Subject, movie: Movie) -> list[_Fragment]:
    assert movie.moov is not None
    defaults = read_defaults(subject.source, movie.moov)
    moved = _displaced(subject, movie)
    ends = {box.start: box for box in movie.tree.all(b"mdat")}
    found = []
    for moof, parts in movie.fragments:
        mdat = ends.get(moof.end)
        if (
            mdat is None
            or moof.start in moved
            or mdat.cut
            or moof.cut
            or not mdat.stated
            or mdat.end != mdat.start + mdat.stated
        ):
            continue
        following, laid = moof.start, []
        for part in parts:
            size = defaults.get(part.ident, (0, 0, 0))[1]
            for run, start, sizes in placed_runs(moof, part, following, size):
                laid.append(_Laid(part, run, start, sizes))
                following = laid[-1].end
        if laid and not any(run.short for part in parts for run in part.runs):
            found.append(_Fragment(moof, mdat, parts, laid))
    return found


def _displaced(subject: Subject, movie: Movie) -> set[int]:
    """The fragments that lie elsewhere than they say since bytes were lost or put in before them: all by as much."""
    fragments = all_fragments(subject.source, movie.tree)
    if not fragments:
        return set()
    away = displacements(subject.source, fragments)
    alike = np.concatenate((away[:-1] == away[1:], [bool(movie.stranded)]))
    alike[1:] |= away[:-1] == away[1:]
    return {f.moof.start for f, far, other in zip(fragments, away, alike, strict=True) if far and other}


def _tracks(movie: Movie) -> list[Fault]:
    """Parts of a track that there is not, or of one that has another part in the fragment where none of the others has two;
    sample descriptions that their track has not."""
    tracks = {t.ident: t for t in movie.tracks}
    orders = Counter(tuple(p.ident for p in parts if p.head is not None) for _, parts in movie.fragments)
    described = Counter(p.stated.get(DESCRIPTION, 1) == 1 for _, parts in movie.fragments for p in parts)
    ends: dict[int, int] = {}
    found: list[Fault] = []
    for _, parts in movie.fragments:
        there = [p for p in parts if p.head is not None]
        own = tuple(p.ident for p in there)
        for at, part in enumerate(there):
            twice = orders[own] == 1 and own.count(part.ident) > 1
            if part.ident in tracks and not twice:
                continue
            others = [n for n in tracks if n not in own[:at] + own[at + 1 :]]
            usual = [n for n in others if orders[(*own[:at], n, *own[at + 1 :])] > 1]
            fits = usual or (others if part.ident not in tracks else [])
            if len(fits) > 1 and part.time is not None:
                fits = [n for n in fits if ends.get(n) == part.time]
            if len(fits) == 1:
                said = f"A part of a fragment is said to be of track {part.ident:,}; it is of track {fits[0]:,}."
                found.append(_figure(part, 4, 4, said, fits[0]))
        for part in there:
            if part.time is not None:
                ends[part.ident] = part.time + _lasting(part, 0)
            if part.stated.get(DESCRIPTION, 1) != 1 and described[False] == 1 and part.ident in tracks:
                said = f"A fragment refers to sample description {part.stated[DESCRIPTION]:,} of track {part.ident:,}."
                found.append(_stated(part, DESCRIPTION, said, 1))
    return found


def _figure(part: Part, place: int, width: int, said: str, right: int) -> Fault:
    """A fault in the track header of a part, ``place`` bytes into its body."""
    assert part.head is not None
    return _written(part.head.body + place, width, said, right)


def _stated(part: Part, flag: int, said: str, right: int) -> Fault:
    return _written(part.place(flag), 8 if flag == BASE else 4, said, right)


def _written(at: int, width: int, said: str, right: int) -> Fault:
    """A fault of the number of so many bytes at ``at``."""
    return Fault(None, said, at, at + width, ((at, right.to_bytes(width, "big")),))


def _ruled(fragments: list[_Fragment]) -> bool:
    """Media data are filled by their runs in most fragments; nothing speaks against it where there is one run alone."""
    regular = sum(fragment.regular for fragment in fragments)
    alone = len(fragments) == 1 and len(fragments[0].runs) == 1
    return alone or (regular > 0 and regular >= _RULE * len(fragments))


def _places(fragments: list[_Fragment]) -> list[Fault]:
    """Bases and data offsets by which runs lie elsewhere than behind one another."""
    if not _ruled(fragments):
        return []
    found: list[Fault] = []
    for fragment in fragments:
        if fragment.regular:
            continue
        room = fragment.mdat.end - fragment.mdat.body
        if sum(int(laid.sizes.sum()) for laid in fragment.runs) == room:
            starts = fragment.mdat.body + np.cumsum([0, *(int(laid.sizes.sum()) for laid in fragment.runs[:-1])])
            found += _moved(fragment, starts.tolist(), list(range(len(fragment.runs))))
        else:
            # One run is of another size than it has room for; the others lie between what they touch.
            found += _moved(fragment, *_between(fragment))
    return found


def _between(fragment: _Fragment) -> tuple[list[int], list[int]]:
    """Where runs must begin that lie neither behind the one before nor before the one behind, though these leave just
    their room: begins of all, and which are surely right."""
    runs = fragment.runs
    starts, sure = [laid.start for laid in runs], []
    ends = [fragment.mdat.body, *(laid.end for laid in runs[:-1])]
    behind = [*(laid.start for laid in runs[1:]), fragment.mdat.end]
    for number, laid in enumerate(runs):
        if laid.start != ends[number] and ends[number] + int(laid.sizes.sum()) == behind[number]:
            starts[number] = ends[number]
            sure.append(number)
        elif number == 0 and laid.start != ends[0] and laid.end != behind[0]:
            starts[0] = ends[0]  # nothing lies before the first
            sure.append(0)
    return starts, sure


def _moved(fragment: _Fragment, starts: list[int], sure: list[int]) -> list[Fault]:
    """The base or data offset of the runs numbered ``sure`` that do not begin at ``starts``."""
    found: list[Fault] = []
    based: set[int] = set()
    for number in sure:
        laid = fragment.runs[number]
        away = starts[number] - laid.start
        part = laid.part
        if not away or id(part) in based:
            continue
        said = f"A run of track {part.ident:,} is said to begin {-away:+,} bytes from where its samples do."
        alike = all(fragment.runs[k].start + away == starts[k] for k in sure if fragment.runs[k].part is part)
        if BASE in part.stated and part.stated[BASE] != fragment.moof.start and alike:
            based.add(id(part))
            right = min(part.stated[BASE], FARTHEST) + away
            if right >= 0:
                found.append(_stated(part, BASE, said, right))
            continue
        offset = None if laid.run.offset is None else laid.run.offset + away
        flagged = BASE in part.stated or part.flags & BASE_IS_FRAGMENT
        if not flagged and alike and offset != starts[number] - fragment.moof.start:
            based.add(id(part))
            found.append(_figure(part, 1, 3, said, part.flags | BASE_IS_FRAGMENT))
        elif offset is not None and -(1 << 31) <= offset < 1 << 31:
            found.append(_written(laid.run.box.body + 8, 4, said, offset & 0xFFFFFFFF))
    return found


def _sizes(subject: Subject, movie: Movie, fragments: list[_Fragment]) -> list[Fault]:
    """Runs whose sizes do not fill the room up to the next: one of them, or the number of samples, is wrong."""
    if not _ruled(fragments):
        return []
    tracks = {t.ident: t for t in movie.tracks}
    usual = Counter((laid.part.ident, laid.part.stated.get(SIZE, 0)) for f in fragments if f.regular for laid in f.runs)
    found: list[Fault] = []
    for fragment in fragments:
        if fragment.regular or not fragment.runs:
            continue
        borders = [*(laid.start for laid in fragment.runs[1:]), fragment.mdat.end]
        for laid, border in zip(fragment.runs, borders, strict=True):
            track, room = tracks.get(laid.part.ident), border - laid.start
            inside = fragment.mdat.body <= laid.start < border <= fragment.mdat.end
            if track is not None and inside and int(laid.sizes.sum()) != room:
                found += _sized(subject, track, laid, room, usual)
        if len(found) >= _MOST:
            break
    return found


def _sized(subject: Subject, track: Track, laid: _Laid, room: int, usual: Counter[tuple[int, int]]) -> list[Fault]:
    """The one size, or the number of samples of one size, by which ``laid`` fills ``room`` bytes."""
    left = room - int(laid.sizes.sum())
    run, part, count = laid.run, laid.part, laid.run.count
    said = f"The sizes of the samples in a run of track {track.ident:,} are {left:+,} bytes from filling its room."
    if run.column(SIZES) is None:
        size = part.stated.get(SIZE, 0)
        alike = size and room % size == 0 and usual[track.ident, size]
        if not run.columns and alike and _one_byte(count, room // size):
            said = f"A run of track {track.ident:,} states {count:,} samples where there is room for {room // size:,}."
            return [_written(run.box.body + 4, 4, said, room // size)]
        other = SIZE in part.stated and count and room % count == 0 and len(part.runs) == 1
        if other and _one_byte(size, room // count):
            return [_stated(part, SIZE, said, room // count)]
        return []
    broken = np.flatnonzero(_broken(subject, track, laid.start, laid.sizes))
    if not broken.size:
        return []
    # The sample of a wrong size does not read, or it does and the next one does not.
    first, right = int(broken[0]), []
    for k in range(max(0, first - _BEFORE), min(count, first + 1)):
        sizes = laid.sizes.copy()
        sizes[k] += left
        if sizes[k] > 0 and not _broken(subject, track, laid.start, sizes).any():
            right.append((k, int(sizes[k])))
    at = run.place(SIZES, right[0][0] if right else first)
    patches = ((at, right[0][1].to_bytes(4, "big")),) if len(right) == 1 else ()
    return [Fault(None, said, at, at + 4, patches)]


def _broken(subject: Subject, track: Track, start: int, sizes: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which samples of these ``sizes`` one behind the other do not make sense; of sound that is followed, to the byte."""
    if track.coding is not None:
        ends, data = start + np.cumsum(sizes), subject.source.array
        spans = zip((ends - sizes).tolist(), ends.tolist(), strict=True)
        return np.array([end > data.size or track.coding.parse(data, at, end) != (end - at, 0) for at, end in spans])
    chosen = replace(track, offsets=start + np.cumsum(sizes) - sizes, sizes=sizes, astray=np.empty(0, np.bool_))
    return payload.inspect(subject, chosen, []).state != 0


@dataclass(slots=True)
class _Stretch:
    """What one fragment says of when a track plays: its first decode time and how long its samples last together."""

    part: Part
    begin: int
    lasting: int


def _times(subject: Subject, movie: Movie) -> list[Fault]:
    """Decode times and durations by which a track does not go on where its last fragment ended."""
    assert movie.moov is not None
    defaults = read_defaults(subject.source, movie.moov)
    by_track: dict[int, list[_Stretch]] = {}
    for _, parts in movie.fragments:
        for part in parts:
            if part.head is None or part.time is None or any(run.short for run in part.runs):
                continue
            lasting = _lasting(part, defaults.get(part.ident, (0, 0, 0))[0])
            by_track.setdefault(part.ident, []).append(_Stretch(part, part.time, lasting))
    found: list[Fault] = []
    for track in movie.tracks:
        stretches = by_track.get(track.ident, [])
        if track.timescale and len(stretches) > 1:
            found += _joined(track, stretches)
    return found


def _lasting(part: Part, default: int) -> int:
    """Ticks that the samples of ``part`` last; ``default`` is the duration where the fragment states none."""
    each = part.stated.get(DURATION, default)
    columns = [(run, run.column(DURATIONS)) for run in part.runs]
    return sum(int(listed.sum()) if listed is not None else run.count * each for run, listed in columns)


def _joined(track: Track, stretches: list[_Stretch]) -> list[Fault]:
    begins = np.array([min(s.begin, 1 << 62) for s in stretches], np.int64)
    lasting = np.array([s.lasting for s in stretches], np.int64)
    near = max(1, round(_ROUNDED * track.timescale))
    gaps = begins[1:] - begins[:-1] - lasting[:-1]
    odd = np.flatnonzero(np.abs(gaps) > near)
    if odd.size > max(2, (1 - _RULE) * gaps.size):
        return []
    good = np.concatenate(([False], np.abs(gaps) <= near, [False]))
    usual = int(np.median(track.durations)) if track.durations.size else 0
    found: list[Fault] = []
    last = len(stretches) - 1
    for k in range(last + 1):
        before, after = k > 0 and not good[k], k < last and not good[k + 1]
        stretch, fault = stretches[k], None
        if before and after and abs(int(gaps[k - 1] + gaps[k])) <= near:
            fault = _begun(track, stretch, int(begins[k - 1] + lasting[k - 1]), usual)
        elif k == 0 and after and (last == 1 or good[2]):
            fault = _lasted(track, stretch, int(gaps[0]), usual)
            right = int(begins[1] - lasting[0])
            if fault is None and right >= 0 and _one_byte(right, stretch.begin):
                fault = _begun(track, stretch, right, usual)
        elif k == last and not before:
            fault = _odd(track, stretch, usual)
        elif k == last and good[k - 1] and not after:
            right = int(begins[k - 1] + lasting[k - 1])
            if _one_byte(right, stretch.begin) and not (0 < stretch.begin - right < int(lasting.max())):
                fault = _begun(track, stretch, right, usual)
        if fault is None and after and not before:
            fault = _lasted(track, stretch, int(gaps[k]), usual)
        if fault is not None:
            found.append(fault)
    return found


def _one_byte(one: int, other: int) -> bool:
    """Both differ in a single byte."""
    changed = one ^ other
    return sum(changed >> 8 * k & 255 != 0 for k in range(8)) == 1


def _begun(track: Track, stretch: _Stretch, right: int, usual: int) -> Fault | None:
    """A decode time that is far from the ``right`` one: where fragments are of few samples one may begin a little beside."""
    box = stretch.part.time_box
    assert box is not None
    width = 8 if box.end - box.body == 12 else 4
    few = sum(run.count for run in stretch.part.runs) < _FEW
    if not 0 <= right < 1 << 8 * width or abs(stretch.begin - right) <= (_FAR if few else 2) * usual:
        return None
    seconds = (stretch.begin - right) / track.timescale
    said = f"A fragment of track {track.ident:,} is said to begin {seconds:+,.2f} s from where the one before it ends."
    return _written(box.body + 4, width, said, right)


def _odd(track: Track, stretch: _Stretch, usual: int) -> Fault | None:
    """One duration in the last fragment, not that of its last sample, that is far longer than all others, by one byte."""
    found = []
    for run in stretch.part.runs:
        listed = run.column(DURATIONS)
        if listed is not None:
            found += [(run, int(row), int(listed[row])) for row in np.flatnonzero(listed[:-1] != usual)]
    if len(found) != 1:
        return None
    run, row, ticks = found[0]
    if ticks < _FAR * usual or not _one_byte(ticks, usual):
        return None
    said = f"A sample in the last fragment of track {track.ident:,} lasts {ticks / track.timescale:,.2f} s."
    return _written(run.place(DURATIONS, row), 4, said, usual)


def _lasted(track: Track, stretch: _Stretch, lacking: int, usual: int) -> Fault | None:
    """A duration that, as long as most are, would let the fragment last ``lacking`` ticks more."""
    part, found = stretch.part, []
    said = f"A fragment of track {track.ident:,} lasts {-lacking / track.timescale:+,.2f} s longer than up to the next."
    unlisted = sum(run.count for run in part.runs if run.column(DURATIONS) is None)
    if DURATION in part.stated and unlisted and part.stated[DURATION] * unlisted + lacking == usual * unlisted:
        return _stated(part, DURATION, said, usual)
    for run in part.runs:
        listed = run.column(DURATIONS)
        if listed is not None:
            # What the last one lasts may be written before it is known.
            odd = np.flatnonzero(
                (listed != usual) & (listed + lacking == usual) & (np.arange(listed.size) < listed.size - 1)
            )
            found += [(run, int(k)) for k in odd if _one_byte(int(listed[k]), usual)]
    if len(found) != 1:
        return None
    run, row = found[0]
    return _written(run.place(DURATIONS, row), 4, said, usual)
