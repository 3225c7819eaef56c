"""One lane per track of a movie whose index is lost: knows its codec's units, and takes them off the media data."""

from __future__ import annotations

import re
from copy import deepcopy
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.aac import AacConfig
from jugal.formats.isobmff.alac import AlacConfig
from jugal.formats.isobmff.bits import unescape
from jugal.formats.isobmff.speech import frame_bytes
from jugal.formats.isobmff.video import AvcStream, Slice, VideoStream
from jugal.formats.isobmff.visual import PICTURE, PLANE, Follower, Layer, find_plane, plane_of
from jugal.kernels.macroblocks import ENDS_EARLY, WHOLE_SLICE
from jugal.kernels.visual import SLACK, B

#: Bytes searched in one go: first, since most of what is sought is near, and at most.
_NEAR, _WINDOW = 1 << 13, 1 << 20
_RECOVERY_POINT = 6
#: A picture of so few bytes is believed only when another follows.
_SURE = 12
_TRIES = 64
#: A plane that does not end by its own data, and is so much longer than all before, is not taken.
_BEYOND = 4
#: Bytes of a picture's header of H.263.
_PICTURE_HEAD = 24
#: The first seven bits of a block of AAC or ALAC: a single channel or a pair, of number 0.
_USUAL_ELEMENTS = (0x00, 0x10)


@dataclass(slots=True)
class Found:
    """The samples taken so far: where each lies and how long it is."""

    offsets: list[int] = field(default_factory=list)
    sizes: list[int] = field(default_factory=list)

    def add(self, at: int, end: int) -> None:
        self.offsets.append(at)
        self.sizes.append(end - at)

    def __len__(self) -> int:
        return len(self.offsets)


class Lane(Protocol):
    """What the walk asks of a lane. ``data`` is the whole file, ``end`` where media data end."""

    found: Found

    def take(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        """Takes the samples that begin at ``at`` and returns where they end; ``at`` where none begins."""
        ...

    def seek(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        """The next place from ``at`` on where a sample of this lane surely begins; ``end`` where none does."""
        ...


@dataclass(slots=True)
class Picture:
    """What the slices of a video sample tell, and the stream with the parameter sets that came with it."""

    first: Slice
    sync: bool
    stream: VideoStream


@dataclass(slots=True)
class VideoLane:
    """AVC or HEVC in length-prefixed units (ISO/IEC 14496-15)."""

    stream: VideoStream
    longest: int
    found: Found = field(default_factory=Found)
    pictures: list[Picture] = field(default_factory=list)
    #: What was told last and of which place, with which parameter sets: asked first whether a picture begins there, a
    #: lane is most often told to take it next.
    _last: tuple[int, int, VideoStream, int, Picture | None] | None = None

    def afresh(self) -> VideoLane:
        """The lane before it took samples."""
        return VideoLane(self.stream, self.longest)

    def _unit(self, data: NDArray[np.uint8], at: int, end: int) -> tuple[int, int]:
        """(type, end) of the unit at ``at``; (-1, at) where there is none."""
        prefix = self.stream.prefix
        head = data[at : at + prefix + 2].tobytes()
        length = int.from_bytes(head[:prefix], "big")
        if len(head) < prefix + 2 or not 2 <= length <= min(self.longest, end - at - prefix):
            return -1, at
        return self.stream.unit_type(head[prefix:]), at + prefix + length

    def _sample(self, data: NDArray[np.uint8], at: int, end: int) -> tuple[int, Picture | None]:
        """The access unit at ``at``: where it ends, and its picture; None where none begins."""
        last = self._last
        if last is None or last[0] != at or last[1] != end or last[2] is not self.stream:
            self._last = last = (at, end, self.stream, *self._read_sample(data, at, end))
        return last[3], last[4]

    def _read_sample(self, data: NDArray[np.uint8], at: int, end: int) -> tuple[int, Picture | None]:
        stream, here = self.stream, at
        first: Slice | None = None
        seen: set[int] = set()
        sync = False
        while here < end:
            kind, stop = self._unit(data, here, end)
            body = here + stream.prefix
            if kind in stream.slices:
                head = stream.read_slice(data[body : min(stop, body + 64)].tobytes())
                if head is None or (first is None and not head.first):
                    break
                if first is None:
                    first = head
                elif (head.first and head.bottom in seen) or not stream.same_picture(first, head):
                    break
                seen.add(head.bottom)
                sync = sync or head.sync
            elif kind in stream.opening or (first is None and kind in (0, 48)):
                if first is not None:
                    break
                if kind in stream.parameters:
                    if stream is self.stream:
                        # Parameter sets count only when a picture follows them, see take().
                        stream = deepcopy(stream)
                    if not stream.add(data[body : min(stop, body + 4096)].tobytes()):
                        break
                elif stop - body > 65536:
                    break
                elif kind == 6:
                    sync = sync or _first_message(data[body + 1 : min(stop, body + 64)].tobytes()) == _RECOVERY_POINT
            elif kind < 0 or first is None:
                break
            here = stop
        return (here, Picture(first, sync, stream)) if first is not None else (at, None)

    def take(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        while at < end:
            stop, picture = self._sample(data, at, end)
            if picture is None:
                break
            self.found.add(at, stop)
            self.pictures.append(picture)
            self.stream = picture.stream
            at = stop
        return at

    def begins(self, data: NDArray[np.uint8], at: int, end: int) -> bool:
        return self._sample(data, at, end)[1] is not None

    def skip(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        """Where the pictures that begin at ``at`` end, without taking them."""
        while at < end:
            stop, picture = self._sample(data, at, end)
            if picture is None:
                break
            at = stop
        return at

    def surely(self, data: NDArray[np.uint8], at: int, end: int) -> bool:
        """A picture begins at ``at`` beyond chance: another follows, or it is of a usual size without a start code."""
        stop, picture = self._sample(data, at, end)
        if picture is None:
            return False
        if self.begins(data, stop, end):
            return True
        # Intra pictures are large, and hardly anything looks like one by chance.
        if not _SURE < stop - at <= self.longest // (1 if picture.first.sync else 4):
            return False
        while at < stop:
            following = self._unit(data, at, end)[1]
            unit = data[at + self.stream.prefix : following].tobytes()
            if b"\0\0\0\0" in unit or b"\0\0\2" in unit:
                return False
            at = following
        return True

    def seek(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        prefix = self.stream.prefix
        reach = _NEAR
        while at < end:
            stop = min(end, at + reach)
            reach = min(8 * reach, _WINDOW)
            window = data[at : stop + prefix + 2]
            count = window.size - prefix - 2
            if count <= 0:
                return end
            lengths = np.zeros(count, np.int64)
            for k in range(prefix):
                lengths = lengths << 8 | window[k : k + count]
            head = window[prefix : prefix + count]
            # The first byte is zero for no unit of AVC; in HEVC the second ends in a temporal layer's number, never zero.
            legal = head > 0 if isinstance(self.stream, AvcStream) else window[prefix + 1 : prefix + 1 + count] & 7 > 0
            fits = np.flatnonzero((lengths >= 2) & (lengths <= self.longest) & (head < 0x80) & legal)
            for candidate in fits.tolist():
                here = at + candidate
                if self.surely(data, here, end):
                    return here
            at += count
        return end


def _first_message(payload: bytes) -> int:
    """The type of the first message in supplemental enhancement information (7.3.2.3.1)."""
    return unescape(payload)[0] if payload else -1


@dataclass(slots=True)
class SoundLane:
    """Coded sound whose packets know where they end: AAC raw data blocks and ALAC packets, found by following them."""

    config: AacConfig | AlacConfig
    least: int = 4
    found: Found = field(default_factory=Found)
    #: Asked before a block that begins with a zero byte, since a length prefix or a start code would too.
    video: VideoLane | VopLane | None = None

    def take(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        ends = np.zeros(4096, np.int64)
        while at < end:
            count = self.config.parse_run(data, at, end, self.least, ends)
            for k in range(count):
                self.found.add(at, int(ends[k]))
                at = int(ends[k])
            if not count or at >= end or (self.video is not None and self.video.begins(data, at, end)):
                break
        return at

    def seek(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        return self.seek_to(data, at, min(end, at + _WINDOW), -1, end)

    def seek_to(self, data: NDArray[np.uint8], at: int, stop: int, goal: int, end: int) -> int:
        """The first place before ``stop`` from which blocks chain to exactly ``goal``, or three in a row for -1.

        Code words pull a reader that began too early into step with the block it fell into; so a place is preferred
        at which an element of the usual number begins.
        """
        first = hit = self.config.find_run(data, at, stop, end, goal, self.least)
        for _ in range(_TRIES if goal >= 0 else 0):
            if hit < 0 or int(data[hit]) >> 1 in _USUAL_ELEMENTS:
                break
            hit = self.config.find_run(data, hit + 1, stop, end, goal, self.least)
        hit = first if hit < 0 else hit
        return end if hit < 0 else hit


@dataclass(slots=True)
class PcmLane:
    """Uncompressed sound: a chunk goes on until another lane's sample begins."""

    frame: int
    usual: tuple[int, ...]
    #: More bytes than this are no chunk but at the end of the file, where all that is left may be written in one go.
    longest: int
    other: VideoLane | FrameLane | VopLane | None = None
    found: Found = field(default_factory=Found)

    def take(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        stop = self._end(data, at, end)
        if stop > at:
            self.found.add(at, stop)
        return stop

    def _end(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        if self.other is None:
            return at + (end - at) // self.frame * self.frame
        sure = self.other.surely if isinstance(self.other, VideoLane) else self.other.begins
        for size in self.usual:
            if at + size == end or (at + size < end and sure(data, at + size, end)):
                return at + size
        longest = self.longest
        stop = self.other.seek(data, at, end)
        for _ in range(_TRIES):
            if stop >= end or not isinstance(self.other, VideoLane) or self.confirmed(self.other, data, stop, end):
                break
            stop = self.other.seek(data, stop + 1, end)
        if stop >= end:
            rest = end - at if end - at <= 4 * longest else longest
            return at + rest // self.frame * self.frame
        # More than a chunk: broken picture data come first.
        return at if stop - at > longest else at + (stop - at) // self.frame * self.frame

    def confirmed(self, video: VideoLane, data: NDArray[np.uint8], at: int, end: int) -> bool:
        """The pictures at ``at`` are followed by a usual chunk of sound and further pictures: quiet sound looks like
        short pictures now and then."""
        at = video.skip(data, at, end)
        return any(at + size == end or video.surely(data, at + size, end) for size in self.usual[:_TRIES])

    def seek(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        return end

    def before(self, goal: int) -> int:
        """Where the chunk begins that ends with the picture's sample at ``goal``."""
        return goal - (self.usual[0] if self.usual else 0)


@dataclass(slots=True)
class FrameLane:
    """Video whose frames begin with a mark and know their own length: Motion JPEG and ProRes."""

    codec: bytes
    found: Found = field(default_factory=Found)

    def afresh(self) -> FrameLane:
        """The lane before it took samples."""
        return FrameLane(self.codec)

    def _frame(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        """Where the frame at ``at`` ends; ``at`` where there is none."""
        head = data[at : at + 8].tobytes()
        if self.codec != b"jpeg":
            size = int.from_bytes(head[:4], "big")
            return at + size if head[4:] == b"icpf" and 8 < size <= end - at else at
        if head[:3] != b"\xff\xd8\xff":
            return at
        here = at + 2
        while here + 4 <= end and data[here] == 0xFF:
            kind, length = int(data[here + 1]), int(data[here + 2]) << 8 | int(data[here + 3])
            here += 2 + length
            if kind == 0xDA:
                return self._entropy_end(data, here, end) or at
        return at

    @staticmethod
    def _entropy_end(data: NDArray[np.uint8], at: int, end: int) -> int:
        """Behind the EOI that ends the scans from ``at``; 0 where another marker than RST, DHT or SOS comes first."""
        while at < end:
            window = data[at : min(end, at + 65536)]
            marks = np.flatnonzero((window[:-1] == 0xFF) & (window[1:] != 0) & (window[1:] != 0xFF))
            kinds = window[marks + 1]
            other = np.flatnonzero((kinds < 0xD0) | (kinds > 0xD7))
            if other.size:
                kind, here = int(kinds[other[0]]), at + int(marks[other[0]])
                if kind == 0xD9:
                    return here + 2
                if kind not in (0xC4, 0xDA, 0xDD) or here + 4 > end:
                    return 0
                at = here + 2 + (int(data[here + 2]) << 8 | int(data[here + 3]))
            else:
                at += max(1, window.size - 1)
        return 0

    def begins(self, data: NDArray[np.uint8], at: int, end: int) -> bool:
        return self._frame(data, at, end) > at

    def take(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        while at < end and (stop := self._frame(data, at, end)) > at:
            self.found.add(at, stop)
            at = stop
        return at

    def seek(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        mark, shift = (b"\xff\xd8\xff", 0) if self.codec == b"jpeg" else (b"icpf", 4)
        reach = _NEAR
        while at < end:
            window = data[at : min(end, at + reach)].tobytes()
            reach = min(8 * reach, _WINDOW)
            hit = window.find(mark)
            while hit >= shift:
                if self.begins(data, at + hit - shift, end):
                    return at + hit - shift
                hit = window.find(mark, hit + 1)
            at += max(1, len(window) - 8)
        return end


@dataclass(slots=True)
class VopLane:
    """MPEG-4 Visual (ISO/IEC 14496-2) and H.263: a sample ends with its plane where the layer is known, else with the next start
    code, or the sound that leads up to it."""

    layer: Layer | None = None
    sound: SoundLane | None = None
    found: Found = field(default_factory=Found)
    #: The kind of each plane, as its header says.
    kinds: list[int] = field(default_factory=list)
    _follower: Follower | None = None

    def afresh(self) -> VopLane:
        """The lane before it took samples."""
        return VopLane(self.layer)

    def begins(self, data: NDArray[np.uint8], at: int, end: int) -> bool:
        return self._picture(data, at, end) >= 0

    def _picture(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        """Where the video object plane's start code lies of the sample that begins at ``at``; -1 where none begins."""
        head = data[at : min(end, at + 512)].tobytes()
        if self.layer is not None and self.layer.short:
            return at if find_plane(head[:_PICTURE_HEAD], 0, self.layer) == 0 else -1
        if head[:3] != b"\0\0\1" or len(head) < 5 or head[3] not in _VOP_STARTS:
            return -1
        hit = head.find(PLANE)
        return at + hit if hit >= 0 else -1

    def take(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        while at < end:
            picture = self._picture(data, at, end)
            if picture < 0:
                break
            stop = following = self.seek(data, picture + 5, end)
            own = self._plane_end(data, picture, following)
            if own >= 0:
                stop = own
            elif self.sound is not None:
                hit = self.sound.seek_to(data, picture + 5, following, following, end)
                stop = min(stop, hit)
            if own < 0 and self._follower is not None and stop - at > _BEYOND * max(self.found.sizes, default=stop):
                break
            self.found.add(at, stop)
            self.kinds.append(self._kind(data, picture, end))
            at = stop
            if stop < following:
                break
        return at

    def _kind(self, data: NDArray[np.uint8], picture: int, end: int) -> int:
        if self.layer is not None and self.layer.short:
            header = plane_of(data[picture : min(end, picture + _PICTURE_HEAD)].tobytes(), self.layer)
            return header.kind if header is not None else 0
        return int(data[picture + 4]) >> 6 if picture + 4 < end else 0

    def _plane_end(self, data: NDArray[np.uint8], picture: int, following: int) -> int:
        """Where the plane at ``picture`` ends by its own data, before the next start code; -1 where that is not known."""
        if self.layer is None or not self.layer.plain or following - picture > _WINDOW:
            return -1
        if self._follower is None:
            self._follower = Follower(self.layer)
        sure = self._follower.sure
        part = np.concatenate((data[picture:following], np.zeros(SLACK, np.uint8)))
        header, _, byte, came_to = self._follower.plane(part, 0)
        if header is None or came_to not in (WHOLE_SLICE, ENDS_EARLY) or (header.kind == B and not sure):
            return -1
        # What follows the plane here is no sign that it was misread.
        self._follower.sure |= header.kind != B
        return picture + byte if header.coded and header.kind <= B else -1

    def seek(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        reach = _NEAR
        mark = PICTURE if self.layer is not None and self.layer.short else _STARTS
        while at < end:
            window = data[at : min(end, at + reach)].tobytes()
            reach = min(8 * reach, _WINDOW)
            for hit in mark.finditer(window):
                if self.begins(data, at + hit.start(), end):
                    return at + hit.start()
            at += max(1, len(window) - 4)
        return end


#: Start codes of a video object plane, of a group of them and of a visual object sequence.
_VOP_STARTS = (0xB6, 0xB3, 0xB0)
_STARTS = re.compile(rb"\x00\x00\x01[\xb6\xb3\xb0]")


@dataclass(slots=True)
class AmrLane:
    """Speech frames whose first byte gives their length."""

    codec: bytes
    per_sample: int = 1
    found: Found = field(default_factory=Found)

    def _frame(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        size = frame_bytes(self.codec, int(data[at])) if at < end else 0
        return at + size if at + size <= end else at

    def take(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        while at < end:
            here = at
            for _ in range(self.per_sample):
                stop = self._frame(data, here, end)
                if stop == here:
                    return at
                here = stop
            self.found.add(at, here)
            at = here
        return at

    def seek(self, data: NDArray[np.uint8], at: int, end: int) -> int:
        for here in range(at, min(end, at + _WINDOW)):
            stop, count = here, 0
            while count < 8 and (following := self._frame(data, stop, end)) > stop:
                stop, count = following, count + 1
            if count == 8:
                return here
        return end
