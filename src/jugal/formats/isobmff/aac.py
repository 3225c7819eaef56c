"""What an ``esds`` box says about AAC sound (ISO/IEC 14496-1 7.2.6, 14496-3 1.6.2), and parsing with it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from jugal.formats.isobmff.bits import BitReader
from jugal.kernels.aac import (
    RATES,
    Bands,
    Books,
    bands,
    books,
    find_run,
    find_sized,
    parse_block,
    parse_run,
    parse_samples,
)

_MAIN, _LC, _SSR, _LTP, _SBR, _PS = 1, 2, 3, 4, 5, 29
#: What begins the extensions behind a configuration (1.6.2.1).
_SYNC, _SYNC_STEREO = 0x2B7, 0x548
#: Channel configuration → (channel pairs, single channels, LFE among them), table 1.19.
_ELEMENTS = {1: (0, 1), 2: (1, 0), 3: (1, 1), 4: (1, 2), 5: (2, 1), 6: (2, 2), 7: (3, 2)}


@dataclass(frozen=True, slots=True)
class AacConfig:
    """Enough of an AudioSpecificConfig to follow raw data blocks. ``pairs`` is -1 where the stream says it itself."""

    object_type: int
    rate_index: int
    pairs: int
    singles: int
    #: What is added to the core: 0 nothing, 1 spectral band replication, 2 parametric stereo, too.
    extended: int = field(default=0, compare=False)

    @property
    def profile(self) -> str:
        """The object that decoders must know (table 1.3), by its usual name."""
        core = "AAC Main" if self.object_type == _MAIN else "AAC-LC"
        return (core, "HE-AAC", "HE-AAC v2")[self.extended]

    @property
    def rate(self) -> int:
        """Core sampling frequency in Hz."""
        return RATES[self.rate_index]

    @property
    def _figures(self) -> tuple[int, int, bool, Bands, Books]:
        return self.pairs, self.singles, self.object_type == _MAIN, bands(self.rate_index), books()

    def parse(self, data: NDArray[np.uint8], at: int, end: int) -> tuple[int, int]:
        """(bytes used, state of kernels.aac) of the raw data block at ``at``."""
        return parse_block(data, at, end, *self._figures)

    def parse_run(self, data: NDArray[np.uint8], at: int, end: int, least: int, ends: NDArray[np.int64]) -> int:
        """Blocks one behind the other from ``at``; how many, and where each ends in ``ends``."""
        return int(parse_run(data, at, end, least, *self._figures, ends))

    def find_run(self, data: NDArray[np.uint8], at: int, stop: int, end: int, goal: int, least: int) -> int:
        """The first place before ``stop`` from which blocks chain to ``goal``, or three in a row for -1; -1."""
        return int(find_run(data, at, stop, end, goal, least, *self._figures))

    def find_sized(self, data: NDArray[np.uint8], at: int, stop: int, size: int) -> int:
        """The first place from ``at`` to ``stop`` where a raw data block of just ``size`` bytes stands; -1 for none."""
        return int(find_sized(data, at, stop, size, *self._figures))

    def parse_samples(
        self, data: NDArray[np.uint8], offsets: NDArray[np.int64], sizes: NDArray[np.int64]
    ) -> NDArray[np.int8]:
        """State of each sample; all must lie inside ``data``."""
        state = np.zeros(offsets.size, np.int8)
        parse_samples(data, offsets, sizes, *self._figures, state)
        return state


def read_config(entry: bytes) -> AacConfig | None:
    """The configuration in a sample entry; None where it is not AAC of a kind whose blocks can be followed."""
    at = entry.find(b"esds")
    if at < 0:
        return None
    body = entry[at + 8 : at + 8 + 512]
    decoder = _descriptor(body, _descriptor(body, 0, 3), 4)
    if decoder < 0 or len(body) <= decoder or body[decoder] not in (0x40, 0x66, 0x67, 0x68):
        return None
    specific = _descriptor(body, decoder + 13, 5, descend=False)
    return specific_config(body[specific:]) if specific >= 0 else None


def _descriptor(body: bytes, at: int, tag: int, descend: bool = True) -> int:
    """Where the content of the descriptor ``tag`` at ``at`` begins, past an elementary stream's own fields; -1."""
    if at < 0 or at >= len(body) or body[at] != tag:
        return -1
    at += 1
    for _ in range(4):
        if at >= len(body):
            return -1
        at += 1
        if body[at - 1] < 0x80:
            break
    if tag == 3:
        flags = body[at + 2] if at + 2 < len(body) else 0
        at += 3 + (2 if flags & 0x80 else 0) + (2 if flags & 0x20 else 0)
        if flags & 0x40 and at < len(body):
            at += 1 + body[at]
    return at


def specific_config(data: bytes) -> AacConfig | None:
    """An AudioSpecificConfig (1.6.2.1). Short frames, scalable and low delay objects are not followed."""
    bits = BitReader(data[:16])

    def object_type() -> int:
        value = bits.take(5)
        return 32 + bits.take(6) if value == 31 else value

    def rate_index() -> int | None:
        index = bits.take(4)
        if index == 15:
            rate = bits.take(24)
            return RATES.index(rate) if rate in RATES else None
        return index if index < len(RATES) else None

    kind, rate, channels = object_type(), rate_index(), bits.take(4)
    extended = {_SBR: 1, _PS: 2}.get(kind, 0)
    if extended:
        rate_index()
        kind = object_type()
    if kind not in (_MAIN, _LC) or rate is None or bits.take(1):
        return None
    pairs, singles = _ELEMENTS.get(channels, (-1, -1))
    if not extended and pairs >= 0:
        extended = _added_behind(bits, object_type, rate_index)
    return AacConfig(kind, rate, pairs, singles, extended)


def _added_behind(bits: BitReader, object_type: Callable[[], int], rate_index: Callable[[], int | None]) -> int:
    """What the extension behind a configuration says is added, which decoders of the core alone pass over (1.6.5)."""
    if bits.take(1):
        bits.skip(14)
    if bits.take(1) or bits.take(11) != _SYNC or object_type() != _SBR or not bits.take(1):
        return 0
    rate_index()
    stereo = bits.take(11) == _SYNC_STEREO and bits.take(1)
    return 1 + bool(stereo)
