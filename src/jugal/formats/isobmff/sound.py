"""What a sound sample entry says (ISO/IEC 14496-12 12.2.3, ISO/IEC 23003-5, QuickTime sound descriptions 0 to 2)."""

from __future__ import annotations

import struct
from dataclasses import dataclass

#: Bytes of one value of uncompressed sound by sample entry; those with two may have one by the entry's sample size.
_VALUE_BYTES = {
    b"twos": 2, b"sowt": 2, b"in24": 3, b"in32": 4, b"fl32": 4, b"fl64": 8, b"raw ": 1, b"alaw": 1, b"ulaw": 1,
}  # fmt: skip
_SIGNED = frozenset({b"twos", b"sowt", b"in24", b"in32", b"ipcm"})
#: Flags of ``lpcm``: floating, big-endian, signed (QuickTime, linear PCM format flags).
_FLOATING, _BIG, _SIGNED_FLAG = 1, 2, 4


@dataclass(frozen=True, slots=True)
class SoundEntry:
    """Channels, values a second and, of uncompressed sound, how a value is written.

    ``value_bytes`` is 0 for coded sound. ``packet_bytes`` hold ``packet_samples`` of all channels where the entry says so
    (QuickTime), else both are 0.
    """

    channels: int = 0
    sample_rate: float = 0.0
    value_bytes: int = 0
    byte_order: str = "big"
    signed: bool = False
    packet_bytes: int = 0
    packet_samples: int = 0


def read_sound(entry: bytes) -> SoundEntry:
    """The entry from its size field on; what is not in it reads as 0."""
    if len(entry) < 36:
        return SoundEntry()
    codec, version = entry[4:8], int.from_bytes(entry[16:18], "big")
    channels, bits = struct.unpack(">HH", entry[24:28])
    rate = int.from_bytes(entry[32:34], "big") + int.from_bytes(entry[34:36], "big") / 65536
    width = _VALUE_BYTES.get(codec, 0)
    if codec in (b"twos", b"sowt", b"raw ") and bits in (8, 16):
        width = bits // 8
    turned = entry.find(b"enda")
    little = codec == b"sowt" or (turned >= 0 and entry[turned + 4 : turned + 6] == b"\0\1")
    signed = codec in _SIGNED
    packet_bytes = packet_samples = 0
    if version == 1 and len(entry) >= 52:
        packet_samples, _, packet_bytes = struct.unpack(">3I", entry[36:48])
    elif version == 2 and len(entry) >= 72:
        (rate,) = struct.unpack(">d", entry[40:48])
        channels, _, bits, flags, packet_bytes, packet_samples = struct.unpack(">6I", entry[48:72])
        rate = rate if 1 <= rate <= 1e7 else 0.0
        if codec == b"lpcm" and bits % 8 == 0 and packet_bytes == channels * bits // 8:
            width, little = bits // 8, not flags & _BIG
            signed = bool(flags & _SIGNED_FLAG) and not flags & _FLOATING
    config = entry.find(b"pcmC")
    if codec in (b"ipcm", b"fpcm") and config >= 0 and len(entry) >= config + 10:
        width, little = entry[config + 9] // 8, bool(entry[config + 8] & 1)
    if not (packet_samples and packet_bytes):
        packet_samples = packet_bytes = 0
    return SoundEntry(
        channels, rate, width if width <= 8 else 0, "little" if little else "big", signed, packet_bytes, packet_samples
    )


NO_SOUND = SoundEntry()
