"""A movie of one sample a track, written from what is known of its streams: a donor where no healthy file is at hand."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass

from jugal.binary.source import Source
from jugal.formats.base import Subject
from jugal.formats.isobmff.alac import AlacConfig
from jugal.formats.isobmff.bits import unescape
from jugal.formats.isobmff.write import box_bytes

_MATRIX = struct.pack(">9I", 0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000)
_UNDETERMINED = 0x55C4  # "und" (8.4.2)


@dataclass(frozen=True, slots=True)
class Stream:
    """One track to be: its sample entry (8.5.2), and how long a sample of how many bytes lasts."""

    entry: bytes
    timescale: int
    ticks: int
    width: int = 0
    height: int = 0
    #: Bytes of a frame of uncompressed sound; 0 for everything coded.
    frame: int = 0
    #: Ticks at the start that are not played.
    skipped: int = 0

    @property
    def picture(self) -> bool:
        return self.width > 0


def template(streams: Sequence[Stream]) -> Subject:
    """A file with an index for ``streams``, its tracks numbered from 1."""
    kind = box_bytes(b"ftyp", b"isom\0\0\2\0isomiso2mp41")
    data = box_bytes(b"mdat", bytes(sum(max(1, s.frame) for s in streams)))
    at, traks = len(kind) + 8, []
    for number, stream in enumerate(streams, 1):
        traks.append(_track(number, stream, at))
        at += max(1, stream.frame)
    head = struct.pack(">IIIIIIHxxII", 0, 0, 0, 1000, 0, 0x10000, 0x100, 0, 0)
    head += _MATRIX + bytes(24) + struct.pack(">I", len(streams) + 1)
    return Subject(Source.from_bytes(kind + data + box_bytes(b"moov", box_bytes(b"mvhd", head) + b"".join(traks))))


def _track(number: int, stream: Stream, at: int) -> bytes:
    picture = stream.picture
    head = struct.pack(">IIIII", 3, 0, 0, number, 0) + struct.pack(
        ">IIIHHHH", 0, 0, 0, 0, 0, 0 if picture else 0x100, 0
    )
    head += _MATRIX + struct.pack(">II", stream.width << 16, stream.height << 16)
    edit = box_bytes(b"edts", box_bytes(b"elst", struct.pack(">IIIiI", 0, 1, 0, stream.skipped, 0x10000)))
    media = box_bytes(b"mdhd", struct.pack(">IIIIIHH", 0, 0, 0, stream.timescale, 0, _UNDETERMINED, 0))
    handler = b"vide" if picture else b"soun"
    media += box_bytes(b"hdlr", struct.pack(">II4s12x", 0, 0, handler) + b"\0")
    inner = box_bytes(b"vmhd", struct.pack(">IHHHH", 1, 0, 0, 0, 0)) if picture else box_bytes(b"smhd", bytes(8))
    inner += box_bytes(b"dinf", box_bytes(b"dref", struct.pack(">II", 0, 1) + box_bytes(b"url ", b"\0\0\0\1")))
    size = struct.pack(">III", 0, stream.frame, 1) if stream.frame else struct.pack(">IIII", 0, 0, 1, 1)
    inner += box_bytes(
        b"stbl",
        box_bytes(b"stsd", struct.pack(">II", 0, 1) + stream.entry)
        + box_bytes(b"stts", struct.pack(">IIII", 0, 1, 1, stream.ticks))
        + box_bytes(b"stsc", struct.pack(">IIIII", 0, 1, 1, 1, 1))
        + box_bytes(b"stsz", size)
        + box_bytes(b"stco", struct.pack(">III", 0, 1, at)),
    )
    return box_bytes(b"trak", box_bytes(b"tkhd", head) + edit + box_bytes(b"mdia", media + box_bytes(b"minf", inner)))


def picture_entry(codec: bytes, width: int, height: int, boxes: bytes = b"") -> bytes:
    """A visual sample entry (12.1.3) with ``boxes`` of its configuration."""
    body = bytes(6) + b"\0\1" + bytes(16) + struct.pack(">HHIIIH", width, height, 0x480000, 0x480000, 0, 1)
    return box_bytes(codec, body + bytes(32) + struct.pack(">Hh", 24, -1) + boxes)


def sound_entry(codec: bytes, channels: int, bits: int, rate: int, boxes: bytes = b"") -> bytes:
    """An audio sample entry (12.2.3) with ``boxes`` of its configuration."""
    body = bytes(6) + b"\0\1" + bytes(8) + struct.pack(">HHIHH", channels, bits, 0, min(rate, 65535), 0)
    return box_bytes(codec, body + boxes)


def little_endian() -> bytes:
    """What QuickTime says in a sample entry of values whose least significant byte comes first."""
    return box_bytes(b"wave", box_bytes(b"frma", b"in24") + box_bytes(b"enda", b"\0\1") + bytes(3) + b"\x08" + bytes(4))


def alac_cookie(config: AlacConfig, rate: int) -> bytes:
    """The ``alac`` box of a sample entry with the coding's configuration."""
    figures = (config.depth, config.multiplier, config.history, config.longest, config.channels)
    return box_bytes(b"alac", struct.pack(">IIB5BHIII", 0, config.frames, 0, *figures, 255, 0, 0, rate))


def avc_record(sequence: bytes, picture: bytes) -> bytes:
    """An ``avcC`` box (ISO/IEC 14496-15 5.3.3.1) with four-byte lengths."""
    body = b"\1" + sequence[1:4] + b"\xff\xe1" + struct.pack(">H", len(sequence)) + sequence
    return box_bytes(b"avcC", body + b"\1" + struct.pack(">H", len(picture)) + picture)


def hevc_record(video: bytes, sequence: bytes, picture: bytes) -> bytes:
    """An ``hvcC`` box (ISO/IEC 14496-15 8.3.3.1) with four-byte lengths; 8 bits and 4:2:0 are stated, sets decide."""
    body = b"\1" + unescape(sequence)[3:15] + struct.pack(">HBBBBHB", 0xF000, 0xFC, 0xFD, 0xF8, 0xF8, 0, 0x0F)
    arrays = b"".join(
        struct.pack(">BHH", kind, 1, len(unit)) + unit for kind, unit in ((32, video), (33, sequence), (34, picture))
    )
    return box_bytes(b"hvcC", body + b"\3" + arrays)


def elementary(object_type: int, stream_type: int, specific: bytes) -> bytes:
    """An ``esds`` box (ISO/IEC 14496-1 7.2.6) around a decoder's specific configuration."""

    def descriptor(tag: int, body: bytes) -> bytes:
        return (
            struct.pack(">BBBBB", tag, 0x80, 0x80 | len(body) >> 14, 0x80 | len(body) >> 7 & 127, len(body) & 127)
            + body
        )

    decoder = struct.pack(">BBxHII", object_type, stream_type << 2 | 1, 0, 0, 0) + descriptor(5, specific)
    return box_bytes(b"esds", bytes(4) + descriptor(3, b"\0\1\0" + descriptor(4, decoder) + descriptor(6, b"\2")))
