"""Sample tables of a track (ISO/IEC 14496-12 clause 8): from boxes to one row per sample."""

from __future__ import annotations

import struct
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from jugal.binary.source import Source
from jugal.formats.isobmff.aac import AacConfig, read_config
from jugal.formats.isobmff.alac import AlacConfig, read_alac
from jugal.formats.isobmff.boxes import Box, Tree
from jugal.formats.isobmff.runs import (
    COMPOSITION,
    DURATION,
    DURATIONS,
    FARTHEST,
    FLAGS,
    SAMPLE_FLAGS,
    Part,
    placed_runs,
    read_defaults,
    read_part,
)
from jugal.formats.isobmff.sound import NO_SOUND, SoundEntry, read_sound
from jugal.formats.isobmff.video import VideoStream, listed_sets, read_record
from jugal.formats.isobmff.visual import H263, Layer, read_layer

_MAX_SAMPLES = 20_000_000
#: Chunks of coded sound that are asked whether they begin with a packet of the size that all are said to have.
_ASKED = 4
#: Rates of sound that a sample entry has no room for (ISO/IEC 14496-12 12.2.3: 16.16).
_HIGH_RATES = frozenset({88_200, 96_000, 176_400, 192_000})
#: Codecs whose pictures are read with parameter sets.
_WITH_SETS = frozenset({b"avc1", b"avc3", b"hvc1", b"hev1"})
#: Bytes at the start of a file that hold no samples: at least a box header stands there.
_NO_MEDIA_BEFORE = 8


@dataclass(frozen=True, slots=True)
class Problem:
    """A contradiction in a track's tables and the box that shows it."""

    text: str
    start: int
    end: int


@dataclass(slots=True)
class Track:
    """One track with its samples laid out. Arrays have one entry a sample; times are in seconds."""

    box: Box
    ident: int = 0
    handler: bytes = b""
    codec: bytes = b""
    timescale: int = 0
    duration: int = 0
    width: int = 0
    height: int = 0
    sound: SoundEntry = NO_SOUND
    prefix: int = 4
    #: How its packets are followed to their last bit, where they can be.
    coding: AacConfig | AlacConfig | None = None
    #: Parameter sets of AVC or HEVC; None where there are none, or several descriptions.
    video: VideoStream | None = None
    #: The sample description of AVC or HEVC has no configuration record, or one that lists no parameter sets.
    without_record: bool = False
    without_sets: bool = False
    #: Of MPEG-4 Visual the layer that its decoder's configuration states; of H.263 the size.
    layer: Layer | None = None
    #: One of the tracks of a raw photograph: a picture as JPEG, or coded raw samples.
    raw_photo: bool = False
    offsets: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))
    sizes: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))
    durations: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))
    sync: NDArray[np.bool_] = field(default_factory=lambda: np.empty(0, np.bool_))
    chunk_offsets: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))
    chunk_of: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))
    chunk_box: Box | None = None
    #: Samples whose chunk is said to lie where another of the track does.
    astray: NDArray[np.bool_] = field(default_factory=lambda: np.empty(0, np.bool_))
    #: The places of some of its chunks are in doubt.
    misplaced: bool = False
    problems: list[Problem] = field(default_factory=list)
    fragmented: bool = False
    #: Decoders give a track up, whatever its fragments hold, whose index lists chunks without samples or times, samples
    #: without chunks, one of a size that no signed number holds, or only such as no packet is.
    given_up: bool = False
    #: Of each run of a fragment the byte at which its data offset is written (8.8.8), 0 where it has none, its first sample
    #: and the decode time that is stated for it (8.8.12), -1 where none is.
    runs: NDArray[np.int64] = field(default_factory=lambda: np.empty((0, 3), np.int64))
    #: Ticks that the index tells of and does not lead to, or that are missing between the fragments that are left.
    missing: int = 0
    #: Composition offsets of the samples in the index (8.6.1.3), empty where there are none.
    composition: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))

    @property
    def channels(self) -> int:
        return self.sound.channels

    @property
    def sample_rate(self) -> float:
        """Values a second of each channel. An entry has no room for more than 65,535; the track's clock then tells."""
        if self.timescale not in _HIGH_RATES or 2 * np.count_nonzero(self.durations == 2048) > self.durations.size:
            return self.sound.sample_rate  # frames of 1,024 values that take 2,048 ticks
        return float(self.timescale)

    @property
    def frame_bytes(self) -> int:
        """Bytes of one value of each channel of uncompressed sound; 0 for all else."""
        return self.sound.value_bytes * max(1, self.sound.channels)

    @property
    def chunk_starts(self) -> NDArray[np.int64]:
        """For each sample where its chunk begins, in fragments its run: what moves together."""
        if self.fragmented and len(self.runs):
            own = np.arange(int(self.runs[0, 1]))
            return self.offsets[np.concatenate((own, self.runs[self.chunk_of[own.size :], 1]))]
        return self.chunk_offsets[self.chunk_of] if self.chunk_of.size and self.chunk_offsets.size else self.offsets

    def moved_to(self, chunk_offsets: NDArray[np.int64]) -> Track:
        """The track with its chunks elsewhere, for looking into its samples there."""
        away = chunk_offsets - self.chunk_offsets
        return replace(
            self, chunk_offsets=chunk_offsets, offsets=self.offsets + away[self.chunk_of], astray=np.empty(0, np.bool_)
        )

    def only(self, which: slice | NDArray[np.bool_]) -> Track:
        """The track with some of its samples, for looking into them where they lie."""
        astray = self.astray[which] if self.astray.size else self.astray
        return replace(self, offsets=self.offsets[which], sizes=self.sizes[which], astray=astray)

    def doubt(self, text: str, box: Box | None = None, at: int | None = None) -> None:
        """Notes that ``box``, or the track where none is named, contradicts itself or others; at byte ``at`` where known."""
        where = box or self.box
        self.problems.append(Problem(text, where.start if at is None else at, where.end))

    @property
    def decode_times(self) -> NDArray[np.int64]:
        """Ticks at which each sample is decoded: those before it added up, from where a fragment states a time on from there."""
        times = np.cumsum(self.durations) - self.durations
        timed = self.runs[self.runs[:, 2] >= 0]
        if len(timed):
            ahead = timed[:, 2] - times[timed[:, 1]]
            number = np.searchsorted(timed[:, 1], np.arange(times.size), "right") - 1
            times += np.where(number >= 0, ahead[np.maximum(number, 0)], 0)
        return times

    @property
    def composition_delay(self) -> int:
        """Ticks by which the first sample shows later than it is decoded."""
        return int(self.composition[0]) if self.composition.size else 0

    @property
    def composition_signed(self) -> bool:
        return bool(self.composition.size and self.composition.min() < 0)

    @property
    def kind(self) -> str:
        return {b"vide": "video", b"soun": "audio"}.get(self.handler, "other")

    @property
    def seconds(self) -> float:
        return float(self.durations.sum()) / self.timescale if self.timescale else 0.0


def _full(source: Source, box: Box | None, fixed: int) -> bytes:
    return source.read(box.body, fixed) if box is not None else b""


def _array(source: Source, box: Box, head: int, count: int, dtype: str) -> NDArray:
    """``count`` big-endian values after ``head`` bytes of the box's body, as many as there are."""
    kind = np.dtype(dtype)
    room = max(0, (box.end - box.body - head) // kind.itemsize)
    data = source.read(box.body + head, min(count, room, _MAX_SAMPLES) * kind.itemsize)
    return np.frombuffer(data[: len(data) // kind.itemsize * kind.itemsize], kind).astype(np.int64)


def read_track(source: Source, trak: Box) -> Track:
    """A track from its ``trak`` box. Contradictions go to ``problems``, never raised."""
    track = Track(trak)
    head = _full(source, trak.child(b"tkhd"), 92)
    if len(head) >= 16:
        track.ident = int.from_bytes(head[20:24] if head[0] == 1 else head[12:16], "big")
    media = _full(source, trak.child(b"mdia", b"mdhd"), 32)
    if len(media) >= 20:
        if media[0] == 1 and len(media) >= 32:
            track.timescale, track.duration = struct.unpack(">IQ", media[20:32])
        else:
            track.timescale, track.duration = struct.unpack(">II", media[12:20])
    if not track.timescale:
        track.doubt("Its clock is not stated.", trak.child(b"mdia", b"mdhd"))
    handler = _full(source, trak.child(b"mdia", b"hdlr"), 12)
    track.handler = handler[8:12]
    stbl = trak.child(b"mdia", b"minf", b"stbl")
    if stbl is None:
        track.doubt("The track has no sample table.")
        return track
    _sample_entry(source, track, stbl.child(b"stsd"))
    _read_tables(source, track, stbl)
    if track.chunk_box is not None:
        _check_chunks(track, track.chunk_box, 4 if track.chunk_box.kind == b"stco" else 8)
    return track


def _sample_entry(source: Source, track: Track, stsd: Box | None) -> None:
    if stsd is None or stsd.end - stsd.body < 16:
        track.doubt("The sample description is missing.", stsd)
        return
    at = stsd.body + 8
    entry = source.read(at, min(stsd.end - at, 1 << 16))
    if len(entry) < 16:
        return
    track.codec = entry[4:8]
    if track.handler == b"vide" and len(entry) >= 86:
        track.width, track.height = struct.unpack(">HH", entry[32:36])
        if track.codec == b"CRAW":
            track.raw_photo = True
            if entry.find(b"JPEG", 86) >= 0:
                track.codec = b"jpeg"
        if source.uint(stsd.body + 4, 4) == 1:
            track.video = read_record(entry)
            if track.codec in _WITH_SETS:
                listed = listed_sets(entry)
                track.without_record, track.without_sets = listed is None, not listed
            if track.codec == b"mp4v":
                track.layer = read_layer(entry[86:])
            elif track.codec in H263:
                track.layer = Layer(track.width, track.height, 30, short=True)
        for name, at_length in ((b"avcC", 8), (b"hvcC", 25)):
            hit = entry.find(name, 86)
            if hit >= 0 and hit + 4 + at_length < len(entry):
                track.prefix = (entry[hit + 4 + (4 if name == b"avcC" else 21)] & 3) + 1
    elif track.handler == b"soun" and len(entry) >= 36:
        if track.codec == b"mp4a":
            track.coding = read_config(entry)
        elif track.codec == b"alac":
            track.coding = read_alac(entry)
        track.sound = read_sound(entry)


def _read_tables(source: Source, track: Track, stbl: Box) -> None:
    def stated(box: Box, place: int = 4) -> int:
        return source.uint(box.body + place, 4) or 0

    stsz, stz2 = stbl.child(b"stsz"), stbl.child(b"stz2")
    stco, co64, stsc = stbl.child(b"stco"), stbl.child(b"co64"), stbl.child(b"stsc")
    stts, stss = stbl.child(b"stts"), stbl.child(b"stss")
    chunk_box = stco or co64
    size_box = stsz or stz2
    chunks, timed_runs, chunk_runs = (stated(box) if box else 0 for box in (chunk_box, stts, stsc))
    listed = stated(size_box, 8) if size_box else 0
    known = listed or (stated(stsz) if stsz else 0)
    track.given_up = not (timed_runs and chunk_runs and known) if chunks else listed > 0
    if chunk_box is None or size_box is None or stsc is None or stts is None:
        if not track.fragmented:
            missing = [
                n for n, b in (("stco", chunk_box), ("stsz", size_box), ("stsc", stsc), ("stts", stts)) if b is None
            ]
            track.doubt(f"The sample table lacks {', '.join(missing)}.", stbl)
        return
    track.chunk_box = chunk_box
    stated_chunks = stated(chunk_box)
    track.chunk_offsets = _array(source, chunk_box, 8, stated_chunks, ">u4" if stco else ">u8")
    if track.chunk_offsets.size < stated_chunks:
        track.doubt("The chunk offset table is cut short.", chunk_box)
    fixed, count = source.uint(size_box.body + 4, 4) or 0, stated(size_box, 8)
    if count > _MAX_SAMPLES and stsz is not None and not fixed:
        track.doubt("The sample size table claims an impossible number of samples.", size_box)
        count = 0
    if stsz is not None:
        if fixed:
            count = min(count, 1 << 40)
            sizes = None
        else:
            sizes = _array(source, size_box, 12, count, ">u4")
    else:
        bits = fixed & 255
        raw = np.frombuffer(
            source.read(size_box.body + 12, min(size_box.end - size_box.body - 12, _MAX_SAMPLES)), np.uint8
        )
        if bits == 4:
            sizes = np.stack((raw >> 4, raw & 15), 1).reshape(-1)[:count].astype(np.int64)
        elif bits == 8:
            sizes = raw[:count].astype(np.int64)
        else:
            sizes = _array(source, size_box, 12, count, ">u2")
    if sizes is not None and sizes.size < count:
        track.doubt("The sample size table is cut short.", size_box)
        count = int(sizes.size)
    runs = _array(source, stsc, 8, 3 * stated(stsc), ">u4")
    runs = runs[: runs.size // 3 * 3].reshape(-1, 3)
    times = _array(source, stts, 8, 2 * stated(stts), ">u4")
    times = times[: times.size // 2 * 2].reshape(-1, 2)
    if count == 0:
        if track.chunk_offsets.size and times.size and int(times[:, 0].sum()):
            track.doubt("The sample size table lists no samples, though there are chunks of them.", size_box)
        return
    per_chunk = _samples_per_chunk(runs, track.chunk_offsets.size, track)
    if per_chunk is None:
        return
    placed = int(per_chunk.sum())
    if placed != count:
        track.doubt(f"The chunks hold {placed:,} samples, the size table {count:,}.", size_box)
    timed = int(times[:, 0].sum()) if times.size else 0
    if timed != count and not (fixed == 1 and timed == 1):
        track.doubt(f"The time table covers {timed:,} samples, the size table {count:,}.", stts)
    if sizes is None and (track.handler == b"soun" or count > 4096) and not is_coded(track.codec):
        _chunks_as_samples(track, per_chunk, fixed, times)
        return
    if sizes is None and _none_is_packet(source, track, fixed):
        track.doubt(f"All samples of coded sound are said to be {fixed} bytes long.", size_box)
        track.given_up = True
    track.given_up = track.given_up or bool(sizes is not None and (sizes >= 1 << 31).any())
    if sizes is None:
        sizes = np.full(min(count, _MAX_SAMPLES), fixed, np.int64)
    all_of_them, count = count, min(count, placed)
    if count == 0:
        return
    sizes = sizes[:count]
    track.chunk_of = _unrolled(np.arange(per_chunk.size), per_chunk, count)
    ends = np.cumsum(sizes)
    begins = ends - sizes
    firsts = np.searchsorted(track.chunk_of, np.arange(per_chunk.size))
    firsts = np.minimum(firsts, count - 1)
    track.offsets = track.chunk_offsets[track.chunk_of] + begins - begins[firsts][track.chunk_of]
    track.sizes = sizes
    durations = _unrolled(times[:, 1], times[:, 0], count)
    if durations.size < count:
        filler = int(times[-1, 1]) if times.size else 1
        durations = np.concatenate((durations, np.full(count - durations.size, filler, np.int64)))
    track.durations = durations
    if track.chunk_offsets.size < stated_chunks:
        track.missing = int(_unrolled(times[:, 1], times[:, 0], all_of_them)[count:].sum())
    track.composition = composition_of(source, stbl, count)
    track.sync = np.ones(count, np.bool_)
    if stss is not None:
        numbers = _array(source, stss, 8, stated(stss), ">u4") - 1
        track.sync[:] = False
        numbers = numbers[(numbers >= 0) & (numbers < count)]
        track.sync[numbers] = True


def _none_is_packet(source: Source, track: Track, size: int) -> bool:
    """Of coded sound said to have ``size`` bytes a packet no chunk begins with such a one."""
    starts = [at for at in track.chunk_offsets[:_ASKED].tolist() if 0 <= at <= source.size - size]
    coding = track.coding
    return (
        coding is not None
        and bool(starts)
        and all(coding.parse(source.array, at, at + size) != (size, 0) for at in starts)
    )


def _check_chunks(track: Track, box: Box, width: int) -> None:
    """Two chunks of a track never lie at one place: such an entry was overwritten.

    Uncompressed sound may be stored once and played often, as silence is; but at the file's very start nothing lies.
    """
    _, inverse, counts = np.unique(track.chunk_offsets, return_inverse=True, return_counts=True)
    shared = counts[inverse] > 1
    if not shared.any() or not track.offsets.size:
        return
    # Chunks without a byte in them may.
    sizes = np.bincount(track.chunk_of, track.sizes, minlength=track.chunk_offsets.size)
    shared &= sizes > 0
    if track.frame_bytes:
        shared &= track.chunk_offsets < _NO_MEDIA_BEFORE
    if np.count_nonzero(shared) > 1:
        track.astray, track.misplaced = shared[track.chunk_of], True
        first = int(np.flatnonzero(shared)[0])
        text = f"{np.count_nonzero(shared):,} chunks are said to lie where another does."
        track.doubt(text, box, box.body + 8 + width * first)


def _unrolled(values: NDArray[np.int64], times: NDArray[np.int64], count: int) -> NDArray[np.int64]:
    """Each value as often as its run says, ``count`` entries at most; broken tables claim any number."""
    ends = np.minimum(np.cumsum(np.minimum(times, count)), count)
    return np.repeat(values, np.diff(ends, prepend=0))


def covered(source: Source, table: Box, entries: int | None = None) -> int:
    """The samples that the runs of a table of durations or composition offsets cover (8.6.1.2, 8.6.1.3): of as many runs as it
    states or ``entries``, as far as there is room."""
    stated = source.uint(table.body + 4, 4) or 0 if entries is None else entries
    runs = _array(source, table, 8, 2 * stated, ">u4")
    return int(runs[: runs.size // 2 * 2 : 2].sum())


def composition_of(source: Source, stbl: Box, count: int) -> NDArray[np.int64]:
    """Composition offsets of ``count`` samples; large ones are negative, whatever the version says."""
    ctts = stbl.child(b"ctts")
    if ctts is None:
        return np.empty(0, np.int64)
    runs = _array(source, ctts, 8, 2 * (source.uint(ctts.body + 4, 4) or 0), ">u4")
    runs = runs[: runs.size // 2 * 2].reshape(-1, 2)
    values = np.where(runs[:, 1] >= 2**31, runs[:, 1] - 2**32, runs[:, 1])
    return _unrolled(values, runs[:, 0], count)


def is_coded(codec: bytes) -> bool:
    """Sound whose samples are coded frames, not single sample values."""
    return codec in (b"mp4a", b"alac", b"Opus", b"ac-3", b"ec-3", b"samr", b"sawb", b".mp3", b"fLaC")


def _samples_per_chunk(runs: NDArray, chunks: int, track: Track) -> NDArray[np.int64] | None:
    if chunks == 0:
        return np.empty(0, np.int64)
    if not runs.size or runs[0, 0] != 1 or (np.diff(runs[:, 0]) <= 0).any() or (runs[:, 1] > _MAX_SAMPLES).any():
        track.doubt("The sample-to-chunk table is out of order.", track.box.child(b"mdia", b"minf", b"stbl", b"stsc"))
        return None
    firsts = np.minimum(runs[:, 0] - 1, chunks)
    lengths = np.diff(np.append(firsts, chunks))
    return np.repeat(runs[:, 1], lengths)


def _chunks_as_samples(track: Track, per_chunk: NDArray, fixed: int, times: NDArray) -> None:
    """Sound of a fixed size: each chunk counts as one sample, its length by arithmetic.

    The size table may count values of all channels, of one byte each whatever they have (QuickTime); packets then tell.
    """
    track.offsets = track.chunk_offsets.copy()
    if track.sound.packet_samples > 1 and fixed == 1:
        track.sizes = -(-per_chunk // track.sound.packet_samples) * track.sound.packet_bytes
    else:
        track.sizes = per_chunk * (track.frame_bytes if fixed == 1 and track.frame_bytes else fixed)
    track.chunk_of = np.arange(per_chunk.size)
    duration = int(times[0, 1]) if times.size else 1
    track.durations = per_chunk * duration
    track.sync = np.ones(per_chunk.size, np.bool_)


@dataclass(slots=True)
class _Run:
    """The samples of one track run (8.8.8), one row each; ``head`` and ``time`` as in ``Track.runs``."""

    head: int
    time: int
    offsets: NDArray[np.int64]
    sizes: NDArray[np.int64]
    durations: NDArray[np.int64]
    sync: NDArray[np.bool_]
    composition: NDArray[np.int64]


def read_fragments(
    source: Source, tree: Tree, moov: Box, tracks: list[Track]
) -> tuple[list[tuple[Box, list[Part]]], list[tuple[Box, str]]]:
    """Adds the samples of all movie fragments (8.8) to ``tracks`` of ``moov``. Returns what each fragment says, and those
    that are broken with a reason."""
    if moov.child(b"mvex") is None:
        return [], []
    defaults = read_defaults(source, moov)
    broken: list[tuple[Box, str]] = []
    said: list[tuple[Box, list[Part]]] = []
    collected: dict[int, list[_Run]] = {t.ident: [] for t in tracks}
    for moof in tree.all(b"moof"):
        following = moof.start
        said.append((moof, [read_part(source, traf) for traf in moof.all(b"traf")]))
        for part in said[-1][1]:
            following, reason = _add_runs(moof, part, following, defaults, collected)
            if reason:
                broken.append((moof, reason))
    for track in tracks:
        _take_runs(track, [part for part in collected[track.ident] if part.offsets.size])
    return said, broken


def _take_runs(track: Track, parts: list[_Run]) -> None:
    """Puts the samples of ``parts`` behind those that the index lists."""
    track.fragmented = True
    if not parts:
        return
    counts = np.array([part.offsets.size for part in parts])
    heads, times = np.array([p.head for p in parts]), np.array([min(p.time, FARTHEST) for p in parts])
    track.runs = np.stack((heads, np.cumsum(counts) - counts + track.offsets.size, times), axis=1)
    track.chunk_of = np.concatenate([np.zeros(track.offsets.size, np.int64), np.repeat(np.arange(len(parts)), counts)])
    stbl = track.box.child(b"mdia", b"minf", b"stbl")
    if stbl is not None and stbl.children and stbl.children[-1].end + 8 > stbl.end:
        # Some write no empty tables; where they were overwritten, something else stands in their place.
        track.problems = [p for p in track.problems if "lacks" not in p.text]
    for name in ("offsets", "sizes", "durations", "sync", "composition"):
        setattr(track, name, np.concatenate([getattr(track, name), *(getattr(p, name) for p in parts)]))
    if track.astray.size:
        # Fragments have tables of their own.
        track.astray = np.pad(track.astray, (0, track.sizes.size - track.astray.size))


def _add_runs(
    moof: Box, part: Part, following: int, defaults: dict[int, tuple[int, int, int]], collected: dict[int, list[_Run]]
) -> tuple[int, str | None]:
    """Collects the runs of ``part``, whose offsets may count from ``following``. Returns where its data end and what is broken."""
    if part.head is None:
        return following, "The fragment has no track header."
    if part.ident not in collected:
        return following, "The fragment belongs to no track."
    usual = defaults.get(part.ident, (0, 0, 0))
    time = -1 if part.time is None else part.time
    for run, start, sizes in placed_runs(moof, part, following, usual[1]):
        durations, flags_of, compose = (
            listed if (listed := run.column(bit)) is not None else np.full(run.count, default, np.int64)
            for bit, default in (
                (DURATIONS, part.stated.get(DURATION, usual[0])),
                (SAMPLE_FLAGS, part.stated.get(FLAGS, usual[2])),
                (COMPOSITION, 0),
            )
        )
        sync = flags_of & 0x10000 == 0
        if run.first_flags is not None:
            sync[:1] = run.first_flags & 0x10000 == 0
        compose = np.where(compose >= 2**31, compose - 2**32, compose)
        place = run.box.body + 8 if run.offset is not None else 0
        ends = np.cumsum(sizes)
        collected[part.ident].append(_Run(place, time, start + ends - sizes, sizes, durations, sync, compose))
        following, time = start + int(sizes.sum()), -1
    if any(run.short for run in part.runs):
        return following, "A track run claims more samples than it lists."
    return following, None if len(part.runs) == len(part.box.all(b"trun")) else "A track run is cut short."
