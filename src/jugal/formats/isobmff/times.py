"""When samples play, told by more than one thing: where the index contradicts itself or the pictures, it is put right.

The clock and duration of a track (ISO/IEC 14496-12 8.4.2, 8.3.2), its time table (8.6.1.2) and its composition offsets
(8.6.1.3) are held against each other, against the rate that sound is coded at and the order in which pictures say that they
are shown (AVC 8.2.1, HEVC 8.3.1).
"""

from __future__ import annotations

import struct
from fractions import Fraction
from math import ceil

import numpy as np
from numpy.typing import NDArray

from jugal.binary.source import Source
from jugal.formats.isobmff.aac import AacConfig
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.faults import Fault
from jugal.formats.isobmff.lanes import Picture
from jugal.formats.isobmff.movie import Movie
from jugal.formats.isobmff.runs import composition_places
from jugal.formats.isobmff.tables import Track, covered
from jugal.formats.isobmff.timing import RATES, schedule
from jugal.formats.isobmff.video import first_slice

_AAC_FRAME = 1024
_LONGEST_HEAD = 4096
#: A stated length and one that is reckoned are the same within this share and these seconds.
_NEAR, _ROUNDED = 0.02, 0.3
#: Ticks a second that tracks of sound are written with.
_CLOCKS = frozenset({600, 1000, 90000, 8000, 11025, 12000, 16000, 22050, 24000, 32000, 44100, 48000, 88200, 96000})
#: Frames by which a track may be shown longer or shorter than it lasts, and seconds that stated ones are rounded to.
_FRAMES, _TICK = 2.5, 0.002
#: How many times as long as another track one is that is far from it.
_FAR = 1.25
#: Pictures are shown at most so many later than they are decoded.
_DELAYED = 17
#: Relative distance from a usual rate of frames within which a rate is taken for it.
_USUAL = 1e-3
#: Pictures in a row whose headers must be read for their order to be known.
_MOST_ORDERED = 1 << 16
#: Of the pictures so many must be shown when their own order says for that order to be believed.
_AGREE = 0.1
_MOST_EDITS = 64
#: Frames that a picture may show before or after most others' distance from decoding.
_FARTHEST = 32
_NEVER = 1 << 16
#: Share of the pictures that is some of them, and no more.
_SOME = 0.05


def wrong_times(source: Source, movie: Movie, track: Track) -> list[Fault]:
    """The tables by which samples of ``track`` show at the wrong time, as far as other things tell the right one."""
    if not track.offsets.size or track.kind == "other":
        return []
    fault = _clock(source, movie, track)
    if not track.fragmented:
        fault = fault or _durations(source, movie, track)
    fault = fault or _composition(source, movie, track)
    return [fault] if fault is not None else []


def _table(track: Track, kind: bytes) -> Box | None:
    return track.box.child(b"mdia", b"minf", b"stbl", kind)


def _stated(source: Source, movie: Movie, track: Track) -> float:
    """Seconds that the track is said to be shown for; 0 where nothing says so."""
    head = movie.moov.child(b"mvhd") if movie.moov else None
    body = source.read(head.body, 32) if head else b""
    if len(body) < 32:
        return 0.0
    scale, whole = struct.unpack(">IQ", body[20:32]) if body[0] == 1 else struct.unpack(">II", body[12:20])
    box = track.box.child(b"tkhd")
    body = source.read(box.body, 36) if box else b""
    own = 0
    if len(body) == 36:
        own = int.from_bytes(body[28:36] if body[0] == 1 else body[20:24], "big")
    ticks = own if 0 < own < 0xFFFFFFFF else whole
    return ticks / scale if scale and 0 < ticks < 0xFFFFFFFF else 0.0


def _near(seconds: float, other: float) -> bool:
    return abs(seconds - other) <= _NEAR * other + _ROUNDED


def _clock(source: Source, movie: Movie, track: Track) -> Fault | None:
    """A time scale by which sound plays at another rate than it was coded at, or pictures at a rate that none has."""
    ticks, scale, stated = int(track.durations.sum()), track.timescale, _stated(source, movie, track)
    if track.fragmented:
        # The index speaks of what it lists itself; all tracks together last as long as each.
        stated = max((t.seconds for t in movie.tracks if t is not track), default=0.0)
    box = track.box.child(b"mdia", b"mdhd")
    if box is None or not ticks:
        return None
    right = _sound_scale(track, ticks) if track.kind == "audio" else _picture_scale(track, stated)
    at = box.body + (20 if source.uint(box.body, 1) == 1 else 12)
    everything = np.ones(track.offsets.size, np.bool_)
    if not right and track.fragmented and track.kind == "video" and _at_no_rate(track, ticks, stated):
        said = f"By its time scale of {scale:,} ticks a second pictures come at no usual rate and end elsewhere than the sound."
        return Fault(track, said, at, at + 4, (), mistimed=everything)
    if not 0 < right < 1 << 32 or right == scale or (scale and not (stated and _near(ticks / right, stated))):
        return None
    if (
        scale
        and track.kind == "audio"
        and (_near(ticks / scale, stated) and (scale in _CLOCKS or right not in _CLOCKS))
    ):
        return None
    said = f"Its time scale is {scale:,} ticks a second where {right:,} were written."
    return Fault(track, said, at, at + 4, ((at, right.to_bytes(4, "big")),), mistimed=everything)


def _sound_scale(track: Track, ticks: int) -> int:
    """Ticks a second by the rate at which the sound is coded; 0 where it is not known."""
    if isinstance(track.coding, AacConfig):
        values, rate = _AAC_FRAME * track.offsets.size, float(track.coding.rate)
    elif track.coding is not None:
        values, rate = ticks, track.sound.sample_rate
    elif track.frame_bytes:
        values, rate = int(track.sizes.sum()) // track.frame_bytes, track.sound.sample_rate
    else:
        return 0
    whole = round(ticks / values) if values else 0
    # One tick a value, or two where the rate is doubled by what the decoder adds.
    return round(rate * whole) if whole in (1, 2) and abs(ticks / values - whole) < _NEAR else 0


def _agrees(track: Track, seconds: float, stated: float) -> bool:
    """Pictures that take so many ``seconds`` last about as long as is ``stated``, of fragments by what is beside them."""
    if track.fragmented:
        return 1 / _FAR < seconds / stated < _FAR
    return abs(seconds - stated) <= _FRAMES * seconds / track.offsets.size + _TICK


def _at_no_rate(track: Track, ticks: int, stated: float) -> bool:
    """All pictures last as long, at no usual rate, and by that rate far from as long as what is beside them."""
    usual, scale = int(track.durations[0]), track.timescale
    if not stated or not scale or not usual or np.count_nonzero(track.durations != usual) > 1:
        return False
    odd = all(abs(scale / usual / rate - 1) > _USUAL for rate in RATES)
    return odd and not _agrees(track, ticks / scale, stated)


def _picture_scale(track: Track, stated: float) -> int:
    """Ticks a second by which pictures of one duration come at a usual rate for as long as is stated; 0 where none is, or
    several are."""
    usual, count = int(track.durations[0]), track.offsets.size
    if not stated or not usual or np.count_nonzero(track.durations != usual) > 1:
        return 0
    if track.timescale and any(abs(track.timescale / usual / rate - 1) <= _USUAL for rate in RATES):
        return 0
    if not track.fragmented and abs(count * usual - track.duration) > _DELAYED * usual:
        return 0  # the durations are what is wrong
    if track.timescale and _agrees(track, count * usual / track.timescale, stated):
        return 0
    near = _NEAR + _ROUNDED / stated if track.fragmented else _FRAMES / count + _TICK / stated
    scales = []
    for rate in RATES:
        exact = _exact(rate)
        whole = exact * usual
        odd = rate != round(rate)
        if abs(count / stated / float(exact) - 1) <= near and whole.denominator == 1 and odd == (usual % 1001 == 0):
            scales.append(int(whole))
    return scales[0] if len(scales) == 1 else 0


def _durations(source: Source, movie: Movie, track: Track) -> Fault | None:
    """A time table that does not add up to the duration of the track, which is stated in two places, where one duration
    for nearly all samples does."""
    box, count, ticks = _table(track, b"stts"), track.offsets.size, int(track.durations.sum())
    whole, stated = track.duration, _stated(source, movie, track)
    room = (box.end - box.body - 8) // 8 if box else 0
    listed = _table(track, b"stsz")
    if listed is None or source.uint(listed.body + 8, 4) != count:
        return None  # samples are reckoned by chunks, as of uncompressed sound
    if box is None or box.cut or not room or not 0 < whole < 0xFFFFFFFF or not track.timescale:
        return None
    timed = covered(source, box)
    if timed == count and ticks == whole:
        return None
    if track.kind == "video":
        usual = _picture_ticks(track, whole)
        rest, most = usual, _DELAYED * usual
    else:
        values, times = np.unique(track.durations, return_counts=True)
        candidates = [_frame_ticks(track), *values[np.argsort(-times)].tolist()]
        usual = next((v for v in candidates if v and 0 < whole - v * (count - 1) <= v), 0)
        rest, most = whole - usual * (count - 1), usual
    if not usual or (timed == count and abs(ticks - whole) <= most) or count * usual >= 1 << 32:
        return None
    if not (stated and _near(whole / track.timescale, stated)):
        return None
    runs = [(count, usual)] if rest == usual else [(count - 1, usual), (1, rest)]
    if len(runs) > room:
        runs = [(count, usual)]
    body = struct.pack(">I", len(runs)) + b"".join(struct.pack(">2I", *run) for run in runs)
    right = np.arange(count, dtype=np.int64) * usual
    mistimed = np.abs(np.cumsum(track.durations) - track.durations - right) > usual // 2
    said = f"Its time table covers {timed:,} samples in {ticks:,} ticks where {count:,} take {whole:,}."
    patch = (box.body + 4, body + bytes(8 * (room - len(runs))))
    return Fault(track, said, box.body + 4, box.end, (patch,), mistimed=mistimed)


def _picture_ticks(track: Track, whole: int) -> int:
    """Ticks that a picture lasts by the usual rate at which all last about as long as the track; 0 where none does. A track
    is said to last longer by what pictures are shown later than they are decoded."""
    count = track.offsets.size
    lasting = [track.timescale / float(_exact(rate)) for rate in RATES]
    fits = [v for v in lasting if v == round(v) and 0 <= whole - v * count <= _DELAYED * v]
    return int(min(fits, key=lambda v: whole - v * count, default=0))


def _exact(rate: float) -> Fraction:
    """A usual rate; those with a fraction are thousandths of 1,001 of the next whole one."""
    return Fraction(rate) if rate == round(rate) else Fraction(ceil(rate) * 1000, 1001)


def _frame_ticks(track: Track) -> int:
    """Ticks that a packet of sound lasts whose number of values is known; 0 of all else."""
    if isinstance(track.coding, AacConfig):
        return _AAC_FRAME * max(1, round(track.timescale / track.coding.rate))
    return track.coding.frames if track.coding is not None else 0


def _composition(source: Source, movie: Movie, track: Track) -> Fault | None:
    """Composition offsets by which two pictures show at once, or that are not there for all: the pictures tell their order."""
    box, count = _table(track, b"ctts"), track.offsets.size
    listed = int(track.runs[0, 1]) if len(track.runs) else count
    if listed and (box is None or box.cut):
        return None
    if track.video is None or not track.durations.size or count > _MOST_ORDERED:
        return None
    offsets = np.zeros(count, np.int64)
    offsets[: track.composition.size] = track.composition[:count]
    decoded = track.decode_times
    usual = max(1, int(np.median(track.durations)))
    far = (np.abs(offsets - int(np.median(offsets))) > _FARTHEST * usual) | (np.abs(offsets) > _NEVER * usual)
    even = (track.durations[:-1] == usual).all()
    off_beat = even and _few_differ(offsets % usual)
    whole = (box is None or not listed or covered(source, box) == listed) and not far.any() and not off_beat
    if whole and np.diff(np.sort(decoded + offsets)).all():
        return None
    rank = _order(source, track)
    if rank is None:
        return None
    started = _media_time(source, track)
    if started is not None and 2 * np.count_nonzero(offsets) <= count:
        delay: int | None = started  # what is left does not tell by how much all are shown later
    else:
        delay = _delay(offsets - (decoded[rank] - decoded), started, usual)
    if delay is None:
        return None
    right = decoded[rank] - decoded + delay
    mistimed = np.abs(right - offsets) > (min(usual // 2, track.timescale // 1000) if off_beat else usual // 2)
    near = mistimed[~far & (offsets != 0)]
    if not mistimed.any() or (near.size and near.mean() > 1 - _AGREE):
        return None
    if listed < count and not _even(decoded, mistimed, usual):
        return None
    said = f"By its composition offsets {int(mistimed.sum()):,} pictures show at another time than their order says."
    patches: list[tuple[int, bytes]] = []
    places = composition_places(movie.fragments, track.ident) if listed < count else np.empty(0, np.int64)
    wrong = np.flatnonzero(mistimed[listed:])
    if wrong.size and (places.size != count - listed or not places[wrong].all()):
        return None
    for k in wrong.tolist():
        patches.append((int(places[k]), (int(right[listed + k]) & 0xFFFFFFFF).to_bytes(4, "big")))
    if box is not None and mistimed[:listed].any():
        patches += _as_table(box, np.where(mistimed, right, offsets)[:listed])
        return Fault(track, said, box.body + 4, box.end, tuple(patches), mistimed=mistimed)
    return Fault(track, said, patches[0][0], patches[0][0] + 4, tuple(patches), mistimed=mistimed)


def _even(decoded: NDArray[np.int64], which: NDArray[np.bool_], usual: int) -> bool:
    """The samples ``which`` are decoded as long after the one before them and before the one behind as most are: fragments may
    let one begin anew, or two begin at once."""
    steps = np.concatenate(([usual], np.diff(decoded), [usual]))
    return bool((steps[:-1][which] == usual).all() and (steps[1:][which] == usual).all())


def _few_differ(values: NDArray[np.int64]) -> bool:
    """All ``values`` but a few are the same. Where many differ, pictures were taken at times of their own."""
    if (values == values[0]).all():
        return False
    return bool(np.unique(values, return_counts=True)[1].max() >= (1 - _SOME) * values.size)


def _delay(apart: NDArray[np.int64], started: int | None, usual: int) -> int | None:
    """By how much all pictures are shown later than their order says: as most of them are, or as the edit list says where
    that is true of some, or of none as far as can be seen."""
    sane = apart[np.abs(apart) <= 2 * _FARTHEST * usual]
    delays, times = np.unique(sane, return_counts=True)
    if started is not None and (not delays.size or times[delays == started].sum() >= _SOME * apart.size):
        return started
    if delays.size and (2 * times.max() >= apart.size or started is None):
        return int(delays[np.argmax(times)])
    return started


def _media_time(source: Source, track: Track) -> int | None:
    """Where in the track's time the first thing shown begins, as its edit list says (8.6.6); None without one."""
    box = track.box.child(b"edts", b"elst")
    if box is None or not 0 < (source.uint(box.body + 4, 4) or 0) < _MOST_EDITS:
        return None
    wide = source.uint(box.body, 1) == 1
    step, width = (20, 8) if wide else (12, 4)
    for at in range(box.body + 8, box.end - step + 1, step):
        time = source.uint(at + width, width) or 0
        if time != (1 << 8 * width) - 1:
            return time
    return None


def _order(source: Source, track: Track) -> NDArray[np.int64] | None:
    """The place of each picture among all as they are shown; None where a picture does not tell."""
    assert track.video is not None
    pictures = []
    for offset, size, sync in zip(track.offsets.tolist(), track.sizes.tolist(), track.sync.tolist(), strict=True):
        head = first_slice(source.read(offset, min(size, _LONGEST_HEAD)), track.video)
        if head is None or head.order is None:
            return None
        pictures.append(Picture(head, sync, track.video))
    placed = schedule(track.video, pictures, set())
    return np.argsort(np.argsort(placed.decode + placed.offset, kind="stable"), kind="stable")


def _as_table(ctts: Box, offsets: NDArray[np.int64]) -> tuple[tuple[int, bytes], ...]:
    """``offsets`` in the room of the table that is there; nothing where they do not fit."""
    changes = np.flatnonzero(np.diff(offsets)) + 1
    firsts = np.concatenate(([0], changes))
    runs = np.stack((np.diff(np.append(firsts, offsets.size)), offsets[firsts]), 1)
    room = (ctts.end - ctts.body - 8) // 8
    if len(runs) > room:
        return ()
    entries = np.zeros((room, 2), ">u4")
    entries[: len(runs)] = runs & 0xFFFFFFFF
    return ((ctts.body + 4, struct.pack(">I", len(runs)) + entries.tobytes()),)
