"""What an ``alac`` box says about Apple Lossless sound, and following its packets with it."""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.bits import BitReader
from jugal.kernels import alac

_DEPTHS = (16, 20, 24, 32)
_MOST_FRAMES = 1 << 16
#: Bits of an element's tag and number, and those that are reserved, before the one that tells of a length of its own.
_BEFORE_LENGTH = 19


@dataclass(frozen=True, slots=True)
class AlacConfig:
    """The fields of an ALACSpecificConfig that packets are followed by: frames a packet holds, bits of a value, the
    three figures of the adaptive code (history multiplier, initial history, longest parameter) and channels."""

    frames: int
    depth: int
    multiplier: int
    history: int
    longest: int
    channels: int

    def _figures(self) -> NDArray[np.int64]:
        return np.array((self.frames, self.depth, self.multiplier, self.history, self.longest, self.channels), np.int64)

    def parse(self, data: NDArray[np.uint8], at: int, end: int) -> tuple[int, int]:
        """(bytes used, state of kernels.alac) of the packet at ``at``."""
        return alac.parse_packet(data, at, end, self._figures())  # type: ignore[no-any-return]

    def parse_samples(
        self, data: NDArray[np.uint8], offsets: NDArray[np.int64], sizes: NDArray[np.int64]
    ) -> NDArray[np.int8]:
        """State of each sample; all must lie inside ``data``."""
        state = np.zeros(offsets.size, np.int8)
        alac.parse_samples(data, offsets, sizes, self._figures(), state)
        return state

    def parse_run(self, data: NDArray[np.uint8], at: int, end: int, least: int, ends: NDArray[np.int64]) -> int:
        """Packets one behind the other from ``at``; how many, and where each ends in ``ends``."""
        return int(alac.parse_run(data, at, end, least, self._figures(), ends))

    def find_run(self, data: NDArray[np.uint8], at: int, stop: int, end: int, goal: int, least: int) -> int:
        """The first place before ``stop`` from which packets chain to ``goal``, or three in a row for -1; -1."""
        return int(alac.find_run(data, at, stop, end, goal, least, self._figures()))

    def values_in(self, packet: bytes) -> int:
        """Values of each channel that ``packet`` says to hold: the last one of a recording tells where it is shorter."""
        bits = BitReader(packet[:8])
        bits.skip(_BEFORE_LENGTH)
        stated = bits.take(1)
        bits.skip(3)
        count = bits.take(32) if stated else self.frames
        return count if 0 < count <= self.frames else self.frames

    def find_sized(self, data: NDArray[np.uint8], at: int, stop: int, size: int) -> int:
        """The first place from ``at`` to ``stop`` where a packet of just ``size`` bytes stands; -1 for none."""
        return int(alac.find_sized(data, at, stop, size, self._figures()))


def read_alac(entry: bytes) -> AlacConfig | None:
    """The configuration in a sample entry, where one that makes sense is there; QuickTime wraps it once more."""
    at = 8
    while (at := entry.find(b"alac", at)) >= 0:
        body = entry[at + 8 : at + 32]
        at += 4
        if len(body) < 24:
            continue
        frames, version, depth, multiplier, history, longest, channels = struct.unpack(">I6B", body[:10])
        if 0 < frames <= _MOST_FRAMES and not version and depth in _DEPTHS and 0 < longest <= 20 and 0 < channels <= 8:
            return AlacConfig(frames, depth, multiplier, history, longest, channels)
    return None
