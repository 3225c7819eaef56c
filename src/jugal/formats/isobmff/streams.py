"""What picture and sound lie in media data when there is neither an index nor a healthy file: told from the data alone."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import islice, product

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff import parameters, segment_parameters
from jugal.formats.isobmff.aac import AacConfig
from jugal.formats.isobmff.alac import AlacConfig
from jugal.formats.isobmff.bits import BitWriter
from jugal.formats.isobmff.following import units
from jugal.formats.isobmff.lanes import AmrLane, FrameLane, Lane, PcmLane, SoundLane, VideoLane, VopLane
from jugal.formats.isobmff.parameters import Unit
from jugal.formats.isobmff.template import (
    Stream,
    alac_cookie,
    avc_record,
    elementary,
    hevc_record,
    little_endian,
    picture_entry,
    sound_entry,
)
from jugal.formats.isobmff.video import AvcStream, HevcStream, VideoStream
from jugal.formats.isobmff.visual import PLANE, read_layer
from jugal.formats.isobmff.visual_parameters import find_layer, find_pictures, layer_header
from jugal.formats.isobmff.walk import walk
from jugal.formats.isobmff.write import box_bytes
from jugal.kernels.aac import RATES as AAC_RATES
from jugal.kernels.visual import B
from jugal.model.span import ByteSpan

#: Bytes of media data from which streams are told.
_WINDOW = 16 << 20
#: Samples, and the share of the window they must make up, before a kind of picture is believed.
_LEAST_PICTURES = 3
_LEAST_SHARE = 0.2
_LONGEST = 1 << 23
#: Slices from which parameter sets are found where the stream has none.
_SLICES = 400
#: Share of the bytes between pictures that must be sound of a kind for it to be believed, and gaps looked at.
_LEAST_SOUND = 0.6
_GAPS = 400
_PARAMETER_SETS = re.compile(rb"\x00\x00[\x00-\x01].(?:[\x27\x47\x67]|\x40\x01)", re.DOTALL)
_VOL = re.compile(rb"\x00\x00\x01[\x20-\x2f]")
_MOST_SETS, _MOST_LAYERS = 4096, 64
#: AAC rates from which one of each set of scale factor bands is tried, the usual first.
_AAC_TRIED = (3, 5, 6, 8, 11)
_SAMPLES_PER_BLOCK = 1024
#: History multiplier, initial history and longest parameter of ALAC's adaptive code.
_ALAC_FIGURES = (40, 10, 14)
#: Frames of speech before it is believed: single ones are found in anything.
_LEAST_SPEECH = 20
_SPEECH_RATE = {b"samr": 8000, b"sawb": 16000}
#: Frames a second and values of sound a second with how unusual they are: of rates that fit alike the more usual are taken.
_USUAL_RATES = {
    30: 0.0, 29.97: 0.001, 25: 0.02, 24: 0.04, 23.976: 0.041, 60: 0.05, 59.94: 0.051, 50: 0.06, 15: 0.3, 120: 0.4, 119.88: 0.4,
    100: 0.4, 240: 0.5, 239.76: 0.5, 48: 0.5, 47.952: 0.5, 20: 0.5, 10: 0.5, 12.5: 0.6, 12: 0.6,
}  # fmt: skip
_SOUND_RATES = {
    48000: 0.0, 44100: 0.02, 32000: 0.2, 96000: 0.3, 24000: 0.3, 22050: 0.3, 16000: 0.3, 8000: 0.4, 11025: 0.4, 12000: 0.6,
    88200: 0.6,
}  # fmt: skip
#: The same in the order in which sound alone has them.
_ALONE = (44100, *(r for r in _SOUND_RATES if r != 44100))
#: Neighbouring values of sound differ by less than this share of their spread; bytes of other data do not.
_SMOOTH = 0.7
_TURNS = 1.5
#: Share of gaps that need not be whole frames: where sound was taken for a picture they are not.
_ODD = 0.35
_SURE = 1.0
#: What is assumed of the frame rate where nothing tells.
_ASSUMED = 30.0
#: More steps apart than this no rates fit.
_TOO_FAR = 9.0
STATED, FOUND = "stated in the stream", "found from the lengths of picture and sound"
ASSUMED, ASKED = "assumed", "as asked for"


@dataclass(slots=True)
class PictureGuess:
    """A kind of picture: its lane for a walk, its sample entry, and how it was known."""

    lane: VideoLane | FrameLane | VopLane
    entry: bytes
    width: int
    height: int
    evidence: str
    #: Frames a second as the stream states it, 0 where it does not.
    rate: float = 0.0
    #: How much the configuration is to be trusted, 0..1.
    trust: float = _SURE

    def stream(self, rate: float) -> Stream:
        """The track it makes at ``rate`` frames a second."""
        whole = abs(rate - round(rate)) < 0.001
        scale, ticks = (90_000, round(90_000 / rate)) if whole else (round(rate * 1001), 1001)
        return Stream(self.entry, scale, ticks, self.width, self.height)


@dataclass(slots=True)
class SoundGuess:
    """A kind of sound: its lane, and how many sample values a second each of its rates has."""

    lane: SoundLane | PcmLane | AmrLane
    codec: bytes
    channels: int
    bits: int
    rates: tuple[int, ...]
    evidence: str
    #: Least significant byte first, where the sample entry does not say so by its name.
    turned: bool = False

    @property
    def block(self) -> int:
        """Sample values of each channel in one sample."""
        if isinstance(self.lane, PcmLane):
            return 1
        if isinstance(self.lane, AmrLane):
            return 160
        return self.lane.config.frames if isinstance(self.lane.config, AlacConfig) else _SAMPLES_PER_BLOCK

    def values(self, data: NDArray[np.uint8]) -> tuple[int, int]:
        """Sample values of each channel in all samples the lane has taken of ``data``, and by how many that may be too many."""
        found = self.lane.found
        if isinstance(self.lane, PcmLane):
            return sum(found.sizes) // self.lane.frame, 1
        count = len(found) * self.block
        if isinstance(self.lane, SoundLane) and isinstance(self.lane.config, AlacConfig) and count:
            at = found.offsets[-1]
            last = self.lane.config.values_in(data[at : at + found.sizes[-1]].tobytes())
            return count - self.block + last, 1 if last < self.block else self.block
        return count, self.block

    def stream(self, rate: int) -> Stream:
        """The track it makes at ``rate`` values a second."""
        if isinstance(self.lane, PcmLane):
            entry = sound_entry(self.codec, self.channels, self.bits, rate, little_endian() if self.turned else b"")
            return Stream(entry, rate, 1, frame=self.lane.frame)
        if isinstance(self.lane, AmrLane):
            rate = _SPEECH_RATE[self.codec]
            box = b"\0\0\0\x11damrjugl\0\x81\xff\0\1"
            return Stream(sound_entry(self.codec, 1, 16, rate, box), rate, rate // 50)
        if isinstance(self.lane.config, AlacConfig):
            entry = sound_entry(b"alac", self.channels, self.bits, rate, alac_cookie(self.lane.config, rate))
            return Stream(entry, rate, self.lane.config.frames)
        bits = BitWriter()
        bits.put(2, 5)
        bits.put(AAC_RATES.index(rate), 4)
        bits.put(self.channels, 4)
        bits.put(0, 3)
        entry = sound_entry(b"mp4a", self.channels, 16, rate, elementary(0x40, 5, bits.plain()))
        # A decoder's first block only fills the overlap with the second.
        return Stream(entry, rate, _SAMPLES_PER_BLOCK, skipped=_SAMPLES_PER_BLOCK)


def find_picture(data: NDArray[np.uint8], span: ByteSpan, beside: Sequence[ByteSpan] = ()) -> PictureGuess | None:
    """The kind of picture in the media data ``span`` whose samples make up most of it, but for what lies ``beside`` them; None
    where none is known."""
    window = ByteSpan(span.start, min(span.end, span.start + _WINDOW))
    best, most = None, _LEAST_SHARE * window.length
    for guess in _pictures(data, window, beside):
        found = walk(data, window.start, window.end, [guess.lane], beside)
        if found.explained > most and len(guess.lane.found) >= _LEAST_PICTURES:
            best, most = guess, found.explained
        if found.explained > 0.5 * window.length:
            break
    if best is not None:
        if isinstance(best.lane, VideoLane):
            best.lane.longest = longest_unit(best.lane)
        best.lane = best.lane.afresh()
    return best


def longest_unit(lane: VideoLane) -> int:
    """More bytes than this are no unit: what looks like a picture by chance claims any length, but is hardly ever intra."""
    sizes = np.array(lane.found.sizes)
    whole = [int(n) for n, p in zip(sizes, lane.pictures, strict=True) if p.first.sync]
    return max(16 * int(np.quantile(sizes, 0.9)), 3 * int(np.median(whole)) if whole else 0, 1 << 15)


def _pictures(data: NDArray[np.uint8], window: ByteSpan, beside: Sequence[ByteSpan]) -> Iterator[PictureGuess]:
    raw = data[window.start : window.end].tobytes()
    yield from _with_parameter_sets(raw)
    yield from _frames(raw)
    yield from _visual(raw)
    yield from _bare_avc(data, window, beside)
    yield from _bare_hevc(data, window, beside)


def loose_pictures(data: NDArray[np.uint8], window: ByteSpan) -> Iterator[PictureGuess]:
    """Kinds of picture that may be in ``window``, as far as they can be followed without being decoded."""
    raw = data[window.start : window.end].tobytes()
    yield from _with_parameter_sets(raw)
    yield from _frames(raw)
    yield from _visual(raw)
    for stream in (AvcStream.any(), HevcStream.any()):
        yield PictureGuess(VideoLane(stream, _LONGEST), b"", 0, 0, "units that follow each other")


def _with_parameter_sets(raw: bytes) -> Iterator[PictureGuess]:
    """AVC and HEVC whose parameter sets stand in the stream."""
    for number, hit in enumerate(_PARAMETER_SETS.finditer(raw)):
        if number >= _MOST_SETS:
            return
        at = hit.start()
        near: list[bytes] = []
        while len(near) < 4:
            length = int.from_bytes(raw[at : at + 4], "big")
            if not 4 <= length < 1024 or at + 4 + length > len(raw):
                break
            near.append(raw[at + 4 : at + 4 + length])
            at += 4 + length
        if not near:
            continue
        stream: VideoStream = AvcStream() if near[0][0] != 0x40 else HevcStream()
        wanted = (7, 8) if isinstance(stream, AvcStream) else (32, 33, 34)
        sets = near[: len(wanted)]
        if tuple(stream.unit_type(u[:2]) for u in sets) != wanted or not all(stream.add(u) for u in sets):
            continue
        sequence = next(iter(stream.sequences.values()))
        width, height = sequence.shown
        if isinstance(stream, AvcStream):
            entry = picture_entry(b"avc3", width, height, avc_record(*sets))
        else:
            entry = picture_entry(b"hev1", width, height, hevc_record(*sets))
        yield PictureGuess(
            VideoLane(stream, _LONGEST), entry, width, height, "parameter sets in the stream", sequence.rate
        )
        return


def _frames(raw: bytes) -> Iterator[PictureGuess]:
    """Motion JPEG and ProRes, whose frames say their size."""
    at = raw.find(b"icpf")
    if at >= 4 and len(raw) >= at + 18:
        width, height = int.from_bytes(raw[at + 12 : at + 14], "big"), int.from_bytes(raw[at + 14 : at + 16], "big")
        codec = b"ap4h" if raw[at + 16] >> 6 == 3 else b"apcn"
        if width and height:
            yield PictureGuess(FrameLane(codec), picture_entry(codec, width, height), width, height, "frame headers")
    at = raw.find(b"\xff\xd8\xff")
    hit = re.compile(rb"\xff[\xc0\xc1]\0[\x0b\x11]\x08(..)(..)", re.DOTALL).search(raw, at) if at >= 0 else None
    if hit is not None:
        height, width = (int.from_bytes(part, "big") for part in hit.groups())
        if width and height:
            entry = picture_entry(b"jpeg", width, height)
            yield PictureGuess(FrameLane(b"jpeg"), entry, width, height, "frame headers")


def _visual(raw: bytes) -> Iterator[PictureGuess]:
    """MPEG-4 Visual, with its video object layer in the stream (ISO/IEC 14496-2 6.2.3) or without."""
    for hit in islice(_VOL.finditer(raw), _MOST_LAYERS):
        layer = read_layer(raw[hit.start() : hit.end() + 256])
        start = max(raw.rfind(b"\0\0\1\xb0", 0, hit.start()), 0) or hit.start()
        ends = [e for e in (raw.find(b"\0\0\1\xb3", hit.end()), raw.find(PLANE, hit.end())) if e >= 0]
        if layer is None or not ends or min(ends) - start > 512:
            continue
        entry = picture_entry(b"mp4v", layer.width, layer.height, elementary(0x20, 4, raw[start : min(ends)]))
        yield PictureGuess(VopLane(layer), entry, layer.width, layer.height, "the stream's own headers", layer.rate)
        return
    yield from _bare_visual(raw)
    yield from _pictures_of_h263(raw)


def _bare_visual(raw: bytes) -> Iterator[PictureGuess]:
    """MPEG-4 Visual without its layer's header: that is found from the planes."""
    layer = find_layer(raw)
    if layer is None:
        return
    reordered = any(raw[hit.end()] >> 6 == B for hit in islice(re.finditer(PLANE, raw[:-1]), _SLICES))
    entry = picture_entry(b"mp4v", layer.width, layer.height, elementary(0x20, 4, layer_header(layer, reordered)))
    yield PictureGuess(VopLane(layer), entry, layer.width, layer.height, "the planes alone", trust=0.6)


def _pictures_of_h263(raw: bytes) -> Iterator[PictureGuess]:
    """H.263, whose pictures say their size."""
    layer = find_pictures(raw)
    if layer is not None:
        entry = picture_entry(b"s263", layer.width, layer.height, box_bytes(b"d263", b"jugl\0\x0a\0"))
        yield PictureGuess(VopLane(layer), entry, layer.width, layer.height, "the pictures' headers")


def _loose_units(
    data: NDArray[np.uint8], window: ByteSpan, beside: Sequence[ByteSpan], stream: VideoStream
) -> Iterator[bytes]:
    """The units of pictures that can be told apart without parameter sets."""
    loose = VideoLane(stream, _LONGEST)
    walk(data, window.start, window.end, [loose], beside)
    if not loose.found:
        return
    loose = VideoLane(loose.stream, longest_unit(loose))
    walk(data, window.start, window.end, [loose], beside)
    for offset, size in zip(loose.found.offsets, loose.found.sizes, strict=True):
        for _, unit in units(data[offset : offset + size].tobytes(), stream.prefix):
            yield unit


def _bare_avc(data: NDArray[np.uint8], window: ByteSpan, beside: Sequence[ByteSpan]) -> Iterator[PictureGuess]:
    """AVC without parameter sets, which are found from the slices."""
    slices: list[Unit] = []
    settings = b""
    for unit in _loose_units(data, window, beside, AvcStream.any()):
        if unit[0] & 31 in (1, 5):
            slices.append(Unit(unit))
        elif unit[0] & 31 == 6 and not settings:
            settings = unit
        if len(slices) >= _SLICES:
            break
    known = parameters.find_parameters(slices, settings)
    if known is None:
        return
    sets = parameters.sequence_set(known), parameters.picture_set(known)
    width, height = parameters.shown_size(known)
    named = bool(parameters.named_settings(settings))
    evidence = "the slices, and the settings that the encoder wrote into the stream" if named else "the slices alone"
    lane = VideoLane(_stream_of(AvcStream(), sets), _LONGEST)
    entry = picture_entry(b"avc1", width, height, avc_record(*sets))
    trust = parameters.share_followed(slices, known)
    yield PictureGuess(
        lane, entry, width, height, evidence, trust=min(0.95 if named else 0.8, 0.6 if trust is None else trust)
    )


def _bare_hevc(data: NDArray[np.uint8], window: ByteSpan, beside: Sequence[ByteSpan]) -> Iterator[PictureGuess]:
    """HEVC without parameter sets, which are found from the slices."""
    stream = HevcStream.any()
    loose = (u for u in _loose_units(data, window, beside, stream) if stream.unit_type(u[:2]) in stream.slices)
    known = segment_parameters.find_segment_parameters(list(islice(loose, _SLICES)))
    if known is None:
        return
    sets = tuple(write(known) for write in segment_parameters.WRITERS)
    width, height = segment_parameters.shown_size(known)
    entry = picture_entry(b"hvc1", width, height, hevc_record(*sets))
    lane = VideoLane(_stream_of(HevcStream(), sets), _LONGEST)
    yield PictureGuess(lane, entry, width, height, "the slices alone", trust=0.8)


def _stream_of(stream: VideoStream, sets: tuple[bytes, ...]) -> VideoStream:
    for unit in sets:
        stream.add(unit)
    return stream


def find_sound(data: NDArray[np.uint8], gaps: Sequence[ByteSpan]) -> SoundGuess | None:
    """The kind of sound in ``gaps``, the stretches between pictures; None where they are of no known kind."""
    gaps = gaps[:_GAPS]
    total = sum(g.length for g in gaps)
    if not total:
        return None
    return (
        _aac(data, gaps, total)
        or _lossless(data, gaps, total)
        or _speech(data, gaps, total)
        or _uncompressed(data, gaps)
    )


def _aac(data: NDArray[np.uint8], gaps: Sequence[ByteSpan], total: int) -> SoundGuess | None:
    best, most = None, _LEAST_SOUND * total
    for rate_index, (pairs, singles) in product(_AAC_TRIED, ((1, 0), (0, 1))):
        config = AacConfig(2, rate_index, pairs, singles)
        chained = _chained(config, data, gaps)
        if chained > 1.02 * most:
            alike = [r for r in _SOUND_RATES if r in AAC_RATES and _same_bands(AAC_RATES.index(r), rate_index)]
            channels = 2 * pairs + singles
            text = f"AAC blocks of {_spoken(channels)}"
            best = SoundGuess(SoundLane(config, 4), b"mp4a", channels, 16, tuple(alike), text)
            most = chained
    return best


def _lossless(data: NDArray[np.uint8], gaps: Sequence[ByteSpan], total: int) -> SoundGuess | None:
    """ALAC with the figures that its encoders use; what differs is bits and channels."""
    best, most = None, _LEAST_SOUND * total
    for depth, channels in product((16, 24), (2, 1)):
        config = AlacConfig(4096, depth, *_ALAC_FIGURES, channels)
        chained = _chained(config, data, gaps)
        if chained > 1.02 * most:
            text = f"ALAC packets of {depth} bits in {_spoken(channels)}"
            best = SoundGuess(SoundLane(config, 4), b"alac", channels, depth, tuple(_SOUND_RATES), text)
            most = chained
    return best


def _chained(config: AacConfig | AlacConfig, data: NDArray[np.uint8], gaps: Sequence[ByteSpan]) -> int:
    """Bytes of ``gaps`` that are packets one behind the other from a gap's start."""
    ends = np.zeros(4096, np.int64)
    chained = 0
    for gap in gaps:
        at = gap.start
        while at < gap.end and (count := config.parse_run(data, at, gap.end, 4, ends)):
            at = int(ends[count - 1])
        chained += at - gap.start
    return chained


def _spoken(channels: int) -> str:
    return "1 channel" if channels == 1 else f"{channels} channels"


def _same_bands(one: int, other: int) -> bool:
    from jugal.kernels.aac import bands

    return all(np.array_equal(a, b) for a, b in zip(bands(one), bands(other), strict=True))


def _speech(data: NDArray[np.uint8], gaps: Sequence[ByteSpan], total: int) -> SoundGuess | None:
    for codec in (b"samr", b"sawb"):
        chained = frames = 0
        for gap in gaps:
            lane = AmrLane(codec)
            end = lane.take(data, gap.start, gap.end)
            # Zeros chain as well.
            if 2 * np.count_nonzero(data[gap.start : end]) > end - gap.start:
                chained += end - gap.start
                frames += len(lane.found)
        if chained > _LEAST_SOUND * total and frames >= _LEAST_SPEECH:
            return SoundGuess(AmrLane(codec), codec, 1, 16, (8000,), "AMR frames")
    return None


def _uncompressed(data: NDArray[np.uint8], gaps: Sequence[ByteSpan]) -> SoundGuess | None:
    """PCM by how smooth it is when read with the right width, order and number of channels."""
    sizes, counts = np.unique([g.length for g in gaps], return_counts=True)
    lengths = sizes[np.argsort(-counts, kind="stable")]
    best, least = None, _SMOOTH
    for width, order, channels in product((2, 3), ("little", "big"), (1, 2)):
        frame = width * channels
        if counts[sizes % frame > 0].sum() > _ODD * len(gaps):
            continue
        rough = [r for g in gaps if (r := _roughness(data[g.start : g.end], width, order, channels)) is not None]
        # A reading of one channel as two skips every other value, and is the rougher.
        if rough and 2 * len(rough) > len(gaps) and (value := float(np.median(rough))) < least:
            codec = b"in24" if width == 3 else b"sowt" if order == "little" else b"twos"
            usual = tuple(int(v) for v in lengths[:256])
            lane = PcmLane(frame, usual, int(sizes[-1]))
            text = f"uncompressed sound of {8 * width} bits in {_spoken(channels)}"
            best, least = (
                SoundGuess(
                    lane, codec, channels, 8 * width, tuple(_SOUND_RATES), text, codec == b"in24" and order == "little"
                ),
                value,
            )
    return best


def _roughness(data: NDArray[np.uint8], width: int, order: str, channels: int) -> float | None:
    """Mean step from a value to the next of its channel over the spread of all; None where there is only silence."""
    values = data[: data.size // (width * channels) * width * channels].reshape(-1, width)
    if len(values) < 64 * channels:
        return None
    pair = values[:, -2:] if order == "little" else values[:, :2]
    read = np.ascontiguousarray(pair).view("<i2" if order == "little" else ">i2")[:, 0].astype(np.float64)
    if channels == 1 and _takes_turns(read):
        return None
    read = read.reshape(-1, channels)
    spread = float(np.abs(read - read.mean(0)).mean())
    return float(np.abs(np.diff(read, axis=0)).mean()) / spread if spread > 8 else None


def _takes_turns(values: NDArray[np.float64]) -> bool:
    """Steps within pairs of values and between pairs differ much: there are two channels that sound alike."""
    steps = np.abs(np.diff(values))
    within, between = float(steps[::2].mean()), float(steps[1::2].mean())
    return max(within, between) > _TURNS * min(within, between)


@dataclass(frozen=True, slots=True)
class Rates:
    """Frames a second, sound values a second, over how many tracks the sound is spread, and how all this is known."""

    frames: float
    values: int
    tracks: int
    how: str


def find_rates(
    data: NDArray[np.uint8], pictures: int, stated: float, sound: SoundGuess | None, tracks: int = 0
) -> Rates:
    """Rates with which picture and sound last as long as each other; beside the picture lie ``tracks``, 0 where unknown."""
    if sound is None:
        return Rates(stated, 0, 0, STATED) if stated else Rates(_ASSUMED, 0, 0, ASSUMED)
    values, over = sound.values(data)
    if not pictures or not values:
        return Rates(stated or _ASSUMED, min(sound.rates, key=_ALONE.index), 1, ASSUMED)
    best, chosen = _TOO_FAR, Rates(stated or _ASSUMED, sound.rates[0], 1, ASSUMED)
    several = (1, 2) if isinstance(sound.lane, SoundLane) and tracks != 1 else (1,)
    for rate, frames, count in product(sound.rates, (stated,) if stated else _USUAL_RATES, several):
        apart = abs(np.log(pictures / frames / (values / rate / count)))
        # Within what one frame and one block make of the length all fit alike, and the usual one is believed.
        step = (over / rate + 1 / frames) * rate / values * count + 0.0015
        unusual = _SOUND_RATES[rate] + (0.0 if stated else _USUAL_RATES[frames])
        # Beside the sound there may be a track of another kind.
        unusual += 0.25 * abs(count - tracks) if tracks else 0.5 * (count - 1)
        cost = max(1.0, apart / step) + unusual
        if cost < best:
            best, chosen = cost, Rates(frames, rate, count, STATED if stated else FOUND)
    return chosen


def lanes_of(picture: PictureGuess | None, sound: SoundGuess | None) -> list[Lane]:
    """Lanes for a walk over all media data, joined as they need to know of each other."""
    lanes: list[Lane] = []
    if picture is not None:
        lanes.append(picture.lane)
        if sound is not None and isinstance(sound.lane, PcmLane):
            sound.lane.other = picture.lane
        if sound is not None and isinstance(sound.lane, SoundLane):
            if isinstance(picture.lane, VideoLane | VopLane):
                sound.lane.video = picture.lane
            if isinstance(picture.lane, VopLane):
                picture.lane.sound = sound.lane
    if sound is not None:
        lanes.append(sound.lane)
    return lanes
