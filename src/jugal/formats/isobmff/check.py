"""Judges MP4, MOV and their kin: boxes, tables, every sample, running time lost, repairs that apply."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from jugal.binary.source import Source
from jugal.formats.base import Report, Subject
from jugal.formats.isobmff import payload
from jugal.formats.isobmff.beside import look_beside
from jugal.formats.isobmff.chunks import astray
from jugal.formats.isobmff.cutting import held_share, kept_share, plan_cut
from jugal.formats.isobmff.description import lost_descriptions
from jugal.formats.isobmff.faults import Fault, and_also, by_faults, off_time
from jugal.formats.isobmff.forecast import (
    FOUND_ANEW,
    agreed_share,
    chunk_forecast,
    offset_forecast,
    plan_tables,
    rebuild_forecast,
    table_forecast,
    weighted,
)
from jugal.formats.isobmff.fragment_playing import READ_AHEAD
from jugal.formats.isobmff.fragments import (
    closed,
    is_cut,
    missing_ticks,
    ticks_cut_off,
    ticks_never_there,
    ticks_not_listed,
    unreached,
)
from jugal.formats.isobmff.front import can_go_front
from jugal.formats.isobmff.heif import examine_items, is_still, plan_donor_items, plan_preview
from jugal.formats.isobmff.index_check import explained, part_unread, refused, table_findings
from jugal.formats.isobmff.layout import reaching_over
from jugal.formats.isobmff.media import describe
from jugal.formats.isobmff.movie import Movie, bad_spans, read_movie
from jugal.formats.isobmff.rawphoto import examine_raw_photo
from jugal.formats.isobmff.restoring import mistimed, restored, table_faults
from jugal.formats.isobmff.retable import media_between
from jugal.formats.isobmff.speech import FRAME_BYTES
from jugal.formats.isobmff.structure import (
    filled_across,
    late_start,
    mark_boxes,
    opens_though_cut,
    soften,
    structure_findings,
)
from jugal.formats.isobmff.tables import Track, is_coded
from jugal.formats.isobmff.unindexed import find_break
from jugal.model import scoring
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Region
from jugal.model.span import ByteSpan
from jugal.model.strip import Matter

#: Bytes of a frame of AC-3, MPEG sound or Opus, hardly ever more; those of FLAC are longer, but silence in them is a few bytes.
_LONGEST_FRAME = 4096
#: Percent from which an index is left as it is.
_WELL = 85.0
#: Share of a file that samples take up at most which are damaged themselves, not sought in the wrong place.
_FEW_ASTRAY = 0.1
#: A score from which on damage hardly shows, and the points that leaving it out may cost then.
_HARDLY_SPOILED, _WORTH_CUTTING = 98.0, 10.0


def examine(subject: Subject, report: Report) -> None:
    """Examines the boxes in ``subject``; never raises for its content."""
    start = late_start(subject)
    if start is not None:
        _late_start(subject, report, start)
        return
    movie = read_movie(subject)
    mark_boxes(report, movie)
    opens = structure_findings(subject, report, movie)
    if movie.moov is not None and not movie.moov.complete:
        opens = opens and opens_though_cut(movie.moov)
    if movie.moov is not None and movie.moov.child(b"mvhd") is None and movie.moov.child(b"mvex") is None:
        opens = False  # without its clock no edit list is understood
    if movie.moov is None or not movie.tracks:
        meta = movie.tree.first(b"meta")
        if movie.moov is None and meta is not None:
            examine_items(subject, report, movie.tree, meta)
            return
        _no_index(subject, report, movie)
        return
    describe(subject.source, report, movie)
    judged = [t for t in movie.tracks if t.kind != "other" and t.offsets.size] or [
        t for t in movie.tracks if t.offsets.size
    ]
    faults = table_faults(subject, movie)
    mended, restorable = restored(subject, movie, faults)
    as_restored = read_movie(mended) if restorable else None
    table_findings(subject, report, movie, faults, as_restored)
    look_beside(subject, report, movie)
    is_refused = refused(subject, report, movie)
    undescribed = lost_descriptions(subject, report, judged)
    if not judged:
        report.score = 0.0
        report.attainable = rebuild_forecast(subject, report)
        if as_restored is not None:
            report.attainable = max(report.attainable, table_forecast(report, mended, as_restored))
        if not any(t.problems for t in movie.tracks):
            report.add(FindingCode.MP4_MEDIA, Severity.FATAL, "The index lists no samples.")
        return
    spans = _media_spans(subject, movie)
    if movie.tree.first(b"sidx") is not None and movie.swallowed is None:
        _never_there(subject, report, movie, judged)
    for track in judged:
        if track.fragmented:
            ahead, behind = (ticks(subject.source, movie, track) for ticks in (ticks_not_listed, ticks_cut_off))
            track.missing = max(track.missing, ahead, behind)
    if is_cut(movie) and not any(t.missing for t in judged):
        said = "The file is cut within a fragment, and nothing says how long the recording was: the score is of what is up to there."
        report.add(FindingCode.MP4_FRAGMENT, Severity.NOTE, said, subject.size, subject.size)
    right = {t.box.start: t for t in as_restored.tracks} if as_restored is not None else {}
    lost, spared, first_bad, unread = _inspect(subject, report, movie, judged, spans, faults, right)
    for number, track in enumerate(judged):
        lost[number], spared[number] = off_time(track, faults, lost[number], spared[number])
        if track.box.start in right:
            late = mistimed(track, right[track.box.start])
            lost[number], spared[number] = and_also(lost[number], spared[number], late)
            lacking = right[track.box.start].seconds - track.seconds
            track.missing = max(track.missing, round(lacking * track.timescale))
    stops = [math.inf if t.given_up else payload.stops_at(t, subject.size) for t in judged]
    for number, track in enumerate(judged):
        never = payload.begins(track) >= min(stops[number], min(stops) + READ_AHEAD)
        lost[number], spared[number] = and_also(lost[number], spared[number], never)
    shares = [
        0.0 if t.given_up or not t.timescale or not t.codec else payload.good_share(t, gone, left)
        for t, gone, left in zip(judged, lost, spared, strict=True)
    ]
    # A track whose tables list no samples does not play, whatever the others do.
    silent = [
        t
        for t in movie.tracks
        if (t.problems and not t.handler)
        or (not t.offsets.size and t.box.start in right and right[t.box.start].offsets.size)
        or (t.kind != "other" and not t.offsets.size and (t.given_up or (t.problems and not t.fragmented)))
    ]
    plays = scoring.share(weighted(judged + silent, shares + [0.0] * len(silent)), 1.0)
    if part_unread(report, movie):
        kinds = len({t.kind for t in judged + silent})
        plays *= kinds / (kinds + 1)
    if undescribed:
        report.plan(
            "lend-description", "Take what its decoder must know from a healthy file of the same device.", plays, True
        )
        plays = min(plays, scoring.UNOPENABLE)
    best = plays
    if movie.stranded:
        plays, best = _stranded(subject, report, movie, judged, lost)
        if as_restored is not None and not as_restored.stranded:
            best = max(best, table_forecast(report, mended, as_restored))
    elif movie.covered is not None:
        plays, best = _reached(judged, lost, [t.offsets >= movie.covered.start for t in judged])
    elif as_restored is not None:
        best = max(plays, table_forecast(report, mended, as_restored))
        if movie.fragments:
            plays = min(plays, agreed_share(mended, as_restored, subject, movie))
    elif astray(movie) and (placed := chunk_forecast(subject, report, movie, judged, plays)) > plays:
        best = placed
    elif (first_bad and plays < 98) or unread:
        plays, best = offset_forecast(subject, report, movie, judged, spans, plays)
    broken = movie.tree.broken_at
    shifted = report.planned("fix-offsets")
    if broken is not None and not shifted and (end := _lost_from(subject, movie, broken, judged, lost)) is not None:
        there, _ = _reached(judged, lost, [t.offsets + t.sizes > end for t in judged])
        plays = best = there * broken / subject.size
    soften(report, movie, first_bad)
    if movie.swallowed is not None:
        best = max(best, _swallowed(subject, report, movie, judged, plays))
        plays = plays * min(1.0, movie.swallowed.start / subject.size)
    report.score = plays if opens and not is_refused else min(plays, scoring.UNOPENABLE)
    if is_refused and not restorable:
        best = report.score
    report.attainable = best
    _time_regions(report, judged, lost)
    _plans(subject, report, movie, opens, plays, best)
    if movie.is_raw_photo:
        examine_raw_photo(subject, report, movie)
        return
    cut = plan_cut(judged, lost) if opens and not any(t.fragmented for t in judged) else None
    left = kept_share(judged, cut.ranges) if cut is not None else 0.0
    if cut is not None and (held := held_share(judged, lost)) is not None:
        said = "Leave damaged pictures out and keep the timing: the last good one stays until the next."
        report.plan("hold-pictures", said, held)
    # Where little of some pictures is spoiled, leaving them and all that follow out costs more than it gains.
    if cut is not None and left > 0 and (plays < _HARDLY_SPOILED or plays < 100.0 * left + _WORTH_CUTTING):
        parts = "damaged range" if len(cut.ranges) == 1 else f"{len(cut.ranges):,} damaged ranges"
        report.plan(
            "cut-holes",
            f"Leave out the {parts}, sound kept in step.",
            100.0 * left,
        )


def _lost_from(
    subject: Subject, movie: Movie, broken: int, judged: list[Track], lost: list[NDArray[np.bool_]]
) -> int | None:
    """From where on fragments were overwritten to the end of the file, whose chain of boxes is ``broken``; None where they
    were not.

    They were where a filled run reaches into the last ones before the break, or those are damaged themselves. What follows a
    file that is whole up to the break belongs to another.
    """
    if movie.hidden or movie.stranded or not all(t.fragmented and not t.missing for t in judged):
        return None
    filled = filled_across(subject, movie)
    if filled is not None:
        return filled.start
    last = max(range(len(judged)), key=lambda k: int((judged[k].offsets + judged[k].sizes).max()))
    return broken if lost[last][int(np.argmax(judged[last].offsets))] else None


def _late_start(subject: Subject, report: Report, start: int) -> None:
    """Judges what follows the foreign start, and says that no player gets there."""
    inner = Report()
    examine(Subject(Source(subject.source.array[start:], subject.source.name), subject.limits), inner)
    report.media.update(inner.media)
    report.add(FindingCode.MP4_FTYP, Severity.FATAL, f"{start:,} bytes stand before the file's first box.", 0, start)
    report.mark(0, start, Matter.FOREIGN, "before the first box")
    for span in inner.strip:
        report.mark(span.span.start + start, span.span.end + start, span.matter, span.label)
    for finding in inner.findings:
        place = finding.span
        report.add(
            finding.code,
            finding.severity,
            finding.message,
            place.start + start if place else None,
            place.end + start if place else None,
            finding.cause,
        )
    report.regions.extend(inner.regions)
    report.score = min(scoring.UNOPENABLE, inner.score or 0.0)
    report.attainable = max(report.score, inner.score or 0.0)
    report.plan("trim-start", "Cut the bytes before the first box away.", report.attainable)


def _swallowed(subject: Subject, report: Report, movie: Movie, judged: list[Track], plays: float) -> float:
    """A media data box that covers later fragments: players lose them, a right size brings them back."""
    assert movie.swallowed is not None and movie.swallower is not None
    box = movie.swallower
    report.findings[:] = [f for f in report.findings if f.code is not FindingCode.BOX_SIZE]
    report.add(
        FindingCode.BOX_SIZE,
        Severity.FATAL,
        "The media data box covers the fragments that follow it.",
        box.start,
        box.body,
    )
    report.plan("fix-fragments", "Set the media data box to end where the next fragment begins.", plays)
    return plays


def _stranded(
    subject: Subject, report: Report, movie: Movie, judged: list[Track], lost: list[NDArray[np.bool_]]
) -> tuple[float, float]:
    """Fragments that players do not reach: (score now, score with them closed up)."""
    for ident, ticks in missing_ticks(subject, movie).items():
        for track in judged:
            if track.ident == ident:
                track.missing = max(track.missing, ticks)
    first = movie.stranded[0].start
    seconds = max(float(t.durations[t.offsets >= first].sum()) / max(1, t.timescale) for t in judged)
    gap = max(t.missing / max(1, t.timescale) for t in judged)
    lacking = f" {gap:.1f} s between them are missing." if gap > 0.05 else ""
    broken = movie.tree.broken_at if movie.tree.broken_at is not None else first
    report.add(
        FindingCode.MP4_FRAGMENT, Severity.FATAL,
        f"The chain of boxes breaks; players do not reach the {len(movie.stranded):,} fragments ({seconds:.1f} s) behind.{lacking}",
        min(broken, first), first,
    )  # fmt: skip
    beyond = unreached(subject.source, movie)
    plays, best = _reached(judged, lost, [beyond.holds(t.offsets) for t in judged])
    moved = closed(subject, movie, judged)
    if any(new is not old for new, old in zip(moved, judged, strict=True)):
        shares = [_share_of(subject, t) for t in moved]
        best = max(best, scoring.share(weighted(judged, shares), 1.0))
    report.plan(
        "close-fragments", "Put the fragments that are left one behind the other, with a new index of them.", best
    )
    return plays, best


def _share_of(subject: Subject, track: Track) -> float:
    """How much of ``track`` a viewer gets where its samples lie."""
    looked = payload.inspect(subject, track, [], to_the_bit=True)
    bad = looked.state != 0
    gone, left = payload.spread_to_sync(track, bad, looked.spared, payload.stands_alone(subject, track, bad))
    return payload.good_share(track, gone, left)


def _reached(
    judged: list[Track], lost: list[NDArray[np.bool_]], beyond: list[NDArray[np.bool_]]
) -> tuple[float, float]:
    """(Score where players do not reach what is ``beyond``, score where they reach all.)"""
    now = [gone | far for gone, far in zip(lost, beyond, strict=True)]
    plays, best = ([payload.good_share(t, g) for t, g in zip(judged, bad, strict=True)] for bad in (now, lost))
    return scoring.share(weighted(judged, plays), 1.0), scoring.share(weighted(judged, best), 1.0)


def _never_there(subject: Subject, report: Report, movie: Movie, judged: list[Track]) -> None:
    """Segments that the index of them promises and that are not in the file."""
    for track in judged:
        track.missing = ticks_never_there(subject.source, movie.tree, track)
    seconds = max(t.missing / max(1, t.timescale) for t in judged)
    if seconds and movie.tree.broken_at is None:
        report.add(
            FindingCode.MP4_OUTSIDE, Severity.MAJOR,
            f"The index of segments promises {seconds:.1f} s more than the file holds.",
            subject.size, subject.size, Cause.CUT_SHORT,
        )  # fmt: skip


def _no_index(subject: Subject, report: Report, movie: Movie) -> None:
    mdat = next(iter(movie.mdats), None)
    place = movie.tree.broken_at if movie.tree.broken_at is not None else subject.size
    last_fill = subject.blocks.fills[-1].span if subject.blocks.fills else None
    if last_fill is not None and last_fill.end == subject.size and last_fill.start <= place:
        place = last_fill.start
    if mdat is None and not movie.tree.top:
        place = 0
    if mdat is not None and mdat.end >= subject.size:
        place = subject.size
    stopped = mdat is not None and (mdat.stated in (0, 1) or mdat.stated == mdat.body - mdat.start)
    report.add(
        FindingCode.MP4_INDEX, Severity.FATAL, "The movie index is missing: no player knows where pictures and sound lie.",
        place, subject.size, Cause.STOPPED if stopped else Cause.CUT_SHORT,
    )  # fmt: skip
    report.score = 0.0
    if is_still(subject):
        report.attainable = 0.0
        plan_donor_items(subject, report)
        plan_preview(subject, report, None)
    else:
        report.attainable = rebuild_forecast(subject, report)
        if (found := find_break(subject)) is not None:
            report.add(
                FindingCode.MP4_SAMPLE, Severity.MAJOR, found.said, found.place, max(found.place, found.span.end)
            )
            report.mark(found.span.start, found.span.end, Matter.DAMAGED, found.said)
    start = mdat.body if mdat else 0
    for fill in subject.blocks.fills_in(ByteSpan(min(start, subject.size), subject.size), 4096):
        report.mark(fill.span.start, fill.span.end, Matter.HOLE, f"filled with 0x{fill.value:02X}")


def _media_spans(subject: Subject, movie: Movie) -> list[tuple[int, int, int]]:
    tracks = [t for t in movie.tracks if t.offsets.size]
    low = max(0, min(int(t.offsets.min()) for t in tracks))
    high = min(subject.size, max(int((t.offsets + t.sizes).max()) for t in tracks))
    if high <= low:
        return []
    return bad_spans(subject, movie, ByteSpan(low, high))


_STATE_WORDS = {
    1: "its NAL units do not add up to its size",
    2: "a NAL unit has an impossible header",
    3: "zeros stand where the coding allows none",
    5: "it is filled with zeros",
    payload.FILLED: "a filled run lies in it",
    payload.FOREIGN: "foreign bytes lie in it",
    payload.FRAME: "it does not read as its codec demands",
    payload.REACHES_OVER: "it reaches into the next",
    payload.UNKEYED: "what it is predicted from is not there",
}


def _telling(track: Track, spans: list[tuple[int, int, int]]) -> list[tuple[int, int, int]]:
    """Those of the ``spans`` that tell of a track: none of uncompressed sound, which may look like anything, and of coded sound
    that is not followed only fills that are longer than any frame of it: a quiet one may be padded."""
    if track.kind != "audio" or track.coding is not None or track.codec in (b"mp4a", *FRAME_BYTES):
        return spans
    if not is_coded(track.codec):
        return []
    return [span for span in spans if span[2] == payload.FILLED and span[1] - span[0] >= _LONGEST_FRAME]


def _inspect(
    subject: Subject,
    report: Report,
    movie: Movie,
    judged: list[Track],
    spans: list[tuple[int, int, int]],
    faults: list[Fault],
    right: dict[int, Track],
) -> tuple[list[NDArray[np.bool_]], list[NDArray[np.float64]], bool, bool]:
    """Per judged track which samples are lost to the viewer and what is spared of them; True where any is bad inside
    the file, and True where of a track of coded sound few samples read."""
    lost, broken, spared, proven = [], [], [], []
    any_bad = False
    notes: list[tuple[int, int, Severity, FindingCode, str, Cause | None]] = []
    # Where a table is overwritten, or all lie in the wrong place, how they lie tells nothing.
    sane = not astray(movie) and not movie.hidden and not any(t.fragmented for t in judged)
    looks = [payload.inspect(subject, t, _telling(t, spans), to_the_bit=True) for t in judged]
    over = reaching_over(judged, [looked.state != 0 for looked in looks]) if sane else None
    for number, (track, looked) in enumerate(zip(judged, looks, strict=True)):
        state, where = looked.state, looked.where
        if track.video is not None or track.layer is not None:
            briefly = "by its units" if track.video is not None else "by its start codes"
            report.media["video_followed"] = "to the last bit" if looked.followed else briefly
        if over is not None:
            state[over[number]] = payload.REACHES_OVER
        bad = state != 0
        # What an overwritten table says of their place is no evidence about the bytes there.
        told = ~track.astray if track.astray.size else np.ones(bad.size, np.bool_)
        told &= ~explained(subject, track, right.get(track.box.start), bad)
        outside = (state == payload.OUTSIDE) & told
        gone, left = payload.spread_to_sync(
            track, *by_faults(track, faults, bad, looked.spared), payload.stands_alone(subject, track, bad)
        )
        broken.append(bad)
        lost.append(gone)
        spared.append(left)
        known = track.coding is not None or track.codec in FRAME_BYTES or payload.mark_of(track) is not None
        proven.append(looked.followed or known)
        word = "frames" if track.kind == "video" else "samples"
        if outside.any():
            seconds = float(track.durations[outside].sum()) / track.timescale if track.timescale else 0.0
            notes.append(
                (subject.size, subject.size, Severity.MAJOR, FindingCode.MP4_OUTSIDE,
                 f"{int(outside.sum()):,} {word} of track {track.ident} ({seconds:.1f} s) lie past the end of the file.", Cause.CUT_SHORT)
            )  # fmt: skip
        inside = np.flatnonzero(bad & ~outside & told)
        any_bad = any_bad or bool(inside.size) or bool(outside.any())
        for run in _runs(inside)[:40]:
            first, last = run
            begin = float(track.durations[:first].sum()) / track.timescale if track.timescale else 0.0
            end = float(track.durations[: last + 1].sum()) / track.timescale if track.timescale else 0.0
            kind = int(state[first])
            start = int(where[first])
            code = FindingCode.MP4_HOLE if kind in (3, 5, payload.FILLED) else FindingCode.MP4_SAMPLE
            cause = (
                Cause.UNREADABLE
                if code is FindingCode.MP4_HOLE
                else (Cause.OVERWRITTEN if kind == payload.FOREIGN else None)
            )
            count = last - first + 1
            which = f"{count:,} {word}" if count > 1 else f"1 {word[:-1]}"
            text = f"{which} of track {track.ident} at {begin:.2f} s to {end:.2f} s {'are' if count > 1 else 'is'} damaged: {_STATE_WORDS.get(kind, 'broken')}."
            stop = int(track.offsets[last] + track.sizes[last])
            notes.append((start, max(start, stop), Severity.MAJOR, code, text, cause))
            report.mark(start, min(max(start + 1, stop), subject.size), Matter.DAMAGED, text)
    for start, end, kind in spans:
        if kind == payload.FILLED:
            report.mark(start, end, Matter.HOLE)
        elif any(
            bool((b & (t.offsets < end) & (t.offsets + t.sizes > start)).any())
            for t, b in zip(judged, broken, strict=True)
        ):
            report.mark(start, end, Matter.FOREIGN)
    for number, (start, end, severity, code, text, cause) in enumerate(sorted(notes, key=lambda n: n[0])):
        if number == 0 and code is FindingCode.MP4_SAMPLE:
            start = _begins(start, judged, proven)
        report.add(code, severity, text, start, end, cause)
    return lost, spared, any_bad, any(looked.unread for looked in looks)


def _begins(noticed: int, judged: list[Track], proven: list[bool]) -> int:
    """Where damage is reckoned to begin that is noticed at byte ``noticed``.

    Where that is the first byte of a sample, bytes were lost, put in or overwritten in what lies before it, which shows
    nothing of it where its codec is not followed: as likely in any part of it, so the middle is named.
    """
    if not any((t.offsets == noticed).any() for t in judged):
        return noticed
    last, size, is_proven = -1, 0, True
    for track, known in zip(judged, proven, strict=True):
        before = np.flatnonzero(track.offsets < noticed)
        if before.size:
            nearest = before[np.argmax(track.offsets[before])]
            if int(track.offsets[nearest]) > last:
                last, size, is_proven = int(track.offsets[nearest]), int(track.sizes[nearest]), known
    return last + size // 2 if not is_proven and last + size <= noticed else noticed


def _runs(index: NDArray[np.int64]) -> list[tuple[int, int]]:
    """Consecutive numbers as (first, last)."""
    if not index.size:
        return []
    cuts = np.flatnonzero(np.diff(index) > 1)
    firsts = np.concatenate(([0], cuts + 1))
    lasts = np.concatenate((cuts, [index.size - 1]))
    return [(int(index[a]), int(index[b])) for a, b in zip(firsts, lasts, strict=True)]


def _time_regions(report: Report, judged: list[Track], lost: list[NDArray[np.bool_]]) -> None:
    for track, gone in zip(judged, lost, strict=True):
        total = float(track.durations.sum())
        if not gone.any() or total <= 0:
            continue
        edges = np.concatenate(([0], np.cumsum(track.durations)))
        for first, last in _runs(np.flatnonzero(gone))[:24]:
            begin, end = float(edges[first]), float(edges[last + 1])
            label = (
                f"{track.kind} {begin / track.timescale:.1f} s to {end / track.timescale:.1f} s"
                if track.timescale
                else track.kind
            )
            report.regions.append(Region(begin / total, end / total, label))


def _astray_share(subject: Subject, report: Report) -> float:
    """How much of the file is taken up by samples that do not read where the index says they lie, 0..1."""
    spans = [f.span for f in report.findings if f.code is FindingCode.MP4_SAMPLE and f.span is not None]
    return sum(s.length for s in spans) / max(1, subject.size)


def _plans(subject: Subject, report: Report, movie: Movie, opens: bool, plays: float, best: float) -> None:
    moov = movie.moov
    only_long = moov is not None and moov.cut and moov.complete and not moov.children[-1].cut
    no_type = any(f.code is FindingCode.MP4_FTYP and f.severity is not Severity.NOTE for f in report.findings)
    if not opens or no_type or only_long:
        if movie.moov is not None and movie.moov.complete:
            report.plan(
                "fix-boxes",
                "Write the sizes and types of the top-level boxes anew around what they hold.",
                best,
            )
    shifts = report.planned("fix-offsets")
    if (
        report.has(FindingCode.MP4_OUTSIDE)
        and not shifts
        and not movie.tracks[0].fragmented
        and movie.moov is not None
        and movie.moov.complete
    ):
        report.plan("cut-tables", "Cut the index to the samples that are whole, so that durations are right.", best)
    if report.has(FindingCode.TAIL):
        report.plan("trim", "Cut the bytes after the last box away.", best)
    doubted = report.has(FindingCode.MP4_INDEX_BROKEN, FindingCode.MP4_TABLES)
    if movie.moov is not None and (not movie.moov.complete or (doubted and best < _WELL)):
        forecast = rebuild_forecast(subject, report)
        report.attainable = max(report.attainable or 0.0, forecast)
        plan_tables(report, movie, forecast)
    elif doubted or (best < _WELL and not shifts and _astray_share(subject, report) > _FEW_ASTRAY):
        # An index that leads to nearly all is not given up for another file's: what lacks is then told by it alone.
        lost = (
            sum(f.span.clip(span).length for f in subject.blocks.fills_in(span, 512))
            if (span := media_between(movie))
            else 0
        )
        plan_tables(report, movie, FOUND_ANEW * (100.0 - 100.0 * lost / max(1, subject.size)))
    if can_go_front(movie):
        report.plan(
            "index-in-front", "Put the index before the media data, for playing while loading.", report.score or 0.0
        )
    report.plans.sort(key=lambda p: -p.attainable)
