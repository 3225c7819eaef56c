"""What repairs of a movie would bring: forecasts measured on the file as it would be read after each of them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Report, Subject
from jugal.formats.isobmff import payload
from jugal.formats.isobmff.chunks import place_chunks
from jugal.formats.isobmff.faults import and_also, by_faults, off_time
from jugal.formats.isobmff.fragment_playing import never_shown
from jugal.formats.isobmff.movie import Movie
from jugal.formats.isobmff.offsets import Step, find_steps, moved_offsets
from jugal.formats.isobmff.rebuild import media_span, stated_share
from jugal.formats.isobmff.restoring import agreeing, table_faults
from jugal.formats.isobmff.retable import can_retable
from jugal.formats.isobmff.tables import Track
from jugal.model import scoring
from jugal.model.codes import FindingCode
from jugal.model.finding import Severity

#: What is reckoned to be found of samples that are sought anew.
FOUND_ANEW = 0.95
#: Samples by which it is seen whether a stream is understood.
_SHOWN_BY = 32


def rebuild_forecast(subject: Subject, report: Report) -> float:
    """What a new index could bring at best: all media data that are not filled. Only a donor shows whether it can."""
    span = media_span(subject)
    lost = sum(f.span.clip(span).length for f in subject.blocks.fills_in(span, 512))
    if span.length - lost < 4096:
        return 0.0
    best = scoring.share(span.length - lost, span.length) * stated_share(subject, span)
    report.plan(
        "rebuild-index",
        "Find the samples in the media data and write a new index with a healthy file's help.",
        best,
        True,
    )
    report.plan(
        "rebuild-index-in-front",
        "The same, with the index before the media data, for playing while loading.",
        best,
        True,
    )
    report.plan(
        "estimate-index",
        "Tell picture and sound from the media data alone and write a new index; rates may be estimated.",
        0.6 * best,
    )
    return best


def weighted(judged: list[Track], shares: list[float]) -> float:
    """Picture and sound averaged, several tracks of a kind averaged first."""
    by_kind: dict[str, list[float]] = {}
    for track, value in zip(judged, shares, strict=True):
        by_kind.setdefault(track.kind, []).append(value)
    return float(np.mean([np.mean(v) for v in by_kind.values()]))


def offset_forecast(
    subject: Subject,
    report: Report,
    movie: Movie,
    judged: list[Track],
    spans: list[tuple[int, int, int]],
    plays: float,
) -> tuple[float, float]:
    """(score now, score with corrected chunk offsets); the plan is entered when it is worth it.

    Where offsets prove wrong for the picture they are wrong for the sound beside it, whatever its bytes look like.
    """
    steps = find_steps(subject, movie)
    if not steps:
        return plays, plays
    shares, now = [], []
    for track, (cut, spared) in zip(judged, _before_steps(subject, judged, steps), strict=True):
        moved = moved_track(track, steps)
        relevant = spans if track.kind == "video" else []
        state = payload.inspect(subject, track, relevant).state
        now.append(_share_off(track, state != 0, moved.offsets - track.offsets))
        state = payload.inspect(subject, moved, relevant).state
        shares.append(payload.good_share(track, *payload.spread_to_sync(track, (state != 0) | cut, spared)))
    best, here = (scoring.share(weighted(judged, s), 1.0) for s in (shares, now))
    woken = any(
        payload.reads_nowhere(subject, t) and not payload.reads_nowhere(subject, moved_track(t, steps)) for t in judged
    )
    if best > min(plays, here) + 0.5 or woken:
        constant = len(steps) == 1 and steps[0].from_offset <= min(int(t.offsets.min()) for t in judged)
        what = (
            f"all by {steps[0].delta:+,} bytes"
            if constant
            else "from where they stop being right"
            if len(steps) == 1
            else f"in {len(steps)} steps"
        )
        earliest = min(judged, key=lambda t: int(t.offsets.min()))
        place = int(earliest.offsets.min())
        box = earliest.chunk_box
        if movie.tree.top and place < movie.tree.top[0].end and box is not None:
            # No chunk ever began in the file's first box: the entry was overwritten, nothing was put in before the data.
            place = box.body + 8
        if constant and weighted(judged, now) < 0.5:
            # What stands where the index leads says nothing of the samples.
            report.findings[:] = [f for f in report.findings if f.code is not FindingCode.MP4_SAMPLE]
            report.add(
                FindingCode.MP4_SHIFTED,
                Severity.FATAL,
                f"The chunk offsets are off {what}: the index does not lead to the media data.",
                place,
                place,
            )
        report.plan("fix-offsets", f"Correct the chunk offsets, {what}.", best)
        plays = min(plays, here)
    return plays, max(plays, best)


def _share_off(track: Track, bad: NDArray[np.bool_], away: NDArray[np.int64]) -> float:
    """How much of a track is seen whose samples lie so many bytes ``away`` from where the index leads, 0..1.

    Frames that begin with a mark of their own are found a little further on, and miss as much at their end; of ProRes
    and H.263 they are not sought.
    """
    off = bad | (away != 0)
    unsought = track.codec in payload.PRORES or (track.layer is not None and track.layer.short)
    if unsought or payload.mark_of(track) is None or not ((away > 0) & (away < track.sizes)).any():
        return payload.good_share(track, *payload.spread_to_sync(track, off))
    found = (away > 0) & (away < track.sizes // 2)
    spared = np.where(found, 1.0 - away / np.maximum(1, track.sizes), 0.0)
    return payload.good_share(track, off, spared)


def _before_steps(
    subject: Subject, judged: list[Track], steps: list[Step]
) -> list[tuple[NDArray[np.bool_], NDArray[np.float64]]]:
    """Per track the samples that end where a step begins, and what is spared of them.

    In one of them bytes were lost or put in, unless it reads to its last bit.
    """
    found = [(np.zeros(t.offsets.size, np.bool_), np.zeros(t.offsets.size)) for t in judged]
    for step in steps:
        ends = [np.where(t.offsets < step.from_offset, t.offsets + t.sizes, -1) for t in judged]
        last = max(range(len(judged)), key=lambda k: int(ends[k].max()))
        if ends[last].max() < 0:
            continue
        number = int(np.argmax(ends[last]))
        # Those before it show whether the stream is understood.
        near = judged[last].only(slice(max(0, number - _SHOWN_BY), number + 1))
        looked = payload.inspect(subject, near, [], to_the_bit=True)
        surely_whole = looked.followed or judged[last].coding is not None
        cut, spared = found[last]
        cut[number] = not surely_whole or bool(looked.state[-1])
        spared[number] = looked.spared[-1]
    return found


def plan_tables(report: Report, movie: Movie, forecast: float) -> None:
    if can_retable(movie):
        what = "Find the samples anew in the media data by what the index says of the tracks."
        report.plan("rebuild-tables", what, FOUND_ANEW * forecast)
        report.attainable = max(report.attainable or 0.0, FOUND_ANEW * forecast)


def table_forecast(report: Report, mended: Subject, movie: Movie) -> float:
    """The score of the file as it reads once its index is ``mended`` as far as it can be: as ``movie``."""
    judged = [t for t in movie.tracks if t.kind != "other" and t.offsets.size]
    left = table_faults(mended, movie)
    shares = []
    for track in judged:
        looked = payload.inspect(mended, track, [], to_the_bit=True)
        gone, spared = payload.spread_to_sync(track, *by_faults(track, left, looked.state != 0, looked.spared))
        shares.append(payload.good_share(track, *off_time(track, left, gone, spared)))
    best = scoring.share(weighted(judged, shares), 1.0) if judged else 0.0
    report.plan("fix-tables", "Put the index right by what its parts say of each other.", best)
    return best


def agreed_share(mended: Subject, right: Movie, subject: Subject, movie: Movie) -> float:
    """The score of ``movie`` with fragments as its index is: what is read in the file ``mended``, with that put right, as
    ``right``, and shows from the same bytes at the same time as it does now."""
    now = {t.box.start: t for t in movie.tracks}
    judged = [t for t in right.tracks if t.kind != "other" and t.offsets.size]
    shares = []
    for track in judged:
        looked = payload.inspect(mended, track, [], to_the_bit=True)
        there = now.get(track.box.start)
        if there is None or there.given_up:
            shares.append(0.0)
            continue
        read, on_time = agreeing(there, track, ~never_shown(subject.source, movie, there))
        gone, spared = payload.spread_to_sync(track, *and_also(looked.state != 0, looked.spared, ~read))
        shares.append(payload.good_share(track, *and_also(gone, spared, ~on_time)))
    return scoring.share(weighted(judged, shares), 1.0) if judged else 0.0


def chunk_forecast(subject: Subject, report: Report, movie: Movie, judged: list[Track], plays: float) -> float:
    """The score with chunks put where there is room for them; the plan is entered where that can be told."""
    placed = place_chunks(subject, movie)
    if placed is None:
        return plays
    shares = []
    for track in judged:
        moved = track.moved_to(placed[track.ident]) if track.ident in placed else track
        bad = payload.inspect(subject, moved, []).state != 0
        shares.append(payload.good_share(track, *payload.spread_to_sync(track, bad)))
    best = scoring.share(weighted(judged, shares), 1.0)
    report.plan("fix-chunks", "Work out where the chunks lie from the room between those of the other tracks.", best)
    return max(plays, best)


def moved_track(track: Track, steps: list[Step]) -> Track:
    """``track`` with its sample offsets corrected by ``steps``."""
    return replace(track, offsets=moved_offsets(track, steps))
