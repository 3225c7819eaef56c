"""What a sample entry tells decoders of a codec, held against the samples: where none of them reads by it and all do with one
bit turned over, that bit was wrong."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from jugal.formats.base import Subject
from jugal.formats.isobmff.aac import read_config
from jugal.formats.isobmff.alac import read_alac
from jugal.formats.isobmff.description import is_lost
from jugal.formats.isobmff.faults import Fault
from jugal.formats.isobmff.following import reads_whole
from jugal.formats.isobmff.payload import AVC, HEVC
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.video import read_record
from jugal.formats.isobmff.visual import planes_whole, read_layer

#: Samples that are read, of so many bytes at most, and fewer by which nothing is told.
_READ, _LONGEST, _FEWEST = 6, 1 << 20, 3
#: Bytes of a configuration whose bits are tried.
_MOST_TRIED = 512
_BOXES = (
    {b"mp4a": b"esds", b"mp4v": b"esds", b"alac": b"alac"} | dict.fromkeys(AVC, b"avcC") | dict.fromkeys(HEVC, b"hvcC")
)


def wrong_config(subject: Subject, track: Track) -> list[Fault]:
    """The bit of the configuration of ``track`` by which its samples do not read, where one alone does it."""
    stsd = track.box.child(b"mdia", b"minf", b"stbl", b"stsd")
    name = _BOXES.get(track.codec)
    samples = _samples(subject, track)
    if name is None or stsd is None or stsd.cut or len(samples) < _FEWEST:
        return []
    if track.without_sets and not is_lost(subject, track):
        return []  # the stream holds what the record does not list
    entry = subject.source.read(stsd.body + 8, min(stsd.end - stsd.body - 8, 1 << 16))
    at = entry.rfind(name)
    if at < 8 or _reads(track, entry, samples) is not False:
        return []
    first, stop = at + 4, min(at - 4 + int.from_bytes(entry[at - 4 : at], "big"), at + 4 + _MOST_TRIED, len(entry))
    for place, tried in _turned(entry, first, stop):
        if _reads(track, tried, samples):
            said = "None of its samples reads by what its sample description says of the codec; all do with one bit turned over."
            where = stsd.body + 8 + place
            lost = np.ones(track.offsets.size, np.bool_)
            return [Fault(track, said, where, where + 1, ((where, tried[place : place + 1]),), lost)]
    return []


def _turned(entry: bytes, first: int, stop: int) -> Iterator[tuple[int, bytes]]:
    for place in range(first, stop):
        for bit in range(8):
            yield place, entry[:place] + bytes([entry[place] ^ 1 << bit]) + entry[place + 1 :]


def _samples(subject: Subject, track: Track) -> list[bytes]:
    """Some samples from the beginning on and, where they do not hang on one another to be read, from the middle."""
    count = track.offsets.size
    if track.codec == b"mp4v":
        count = min(count, _READ)  # each may hang on the one before it
    numbers = [*range(min(count, _READ // 2)), *range(max(_READ // 2, count // 2), min(count, count // 2 + _READ // 2))]
    spans = [(int(track.offsets[k]), int(track.sizes[k])) for k in numbers]
    return [
        subject.source.read(at, size) for at, size in spans if 0 <= at <= subject.size - size and 0 < size <= _LONGEST
    ]


def _reads(track: Track, entry: bytes, samples: list[bytes]) -> bool | None:
    """All ``samples`` read to their end by what ``entry`` says: False where none does, None in all other cases."""
    if track.codec in AVC or track.codec in HEVC:
        stream = read_record(entry)
        whole: list[bool | None]
        whole = [reads_whole(sample, stream) for sample in samples] if stream is not None else [False]
    elif track.codec == b"mp4v":
        layer = read_layer(entry[86:])
        whole = planes_whole(samples, layer) if layer is not None else [False]
    else:
        config = read_config(entry) if track.codec == b"mp4a" else read_alac(entry)
        if config is None:
            return False
        whole = [config.parse(np.frombuffer(s, np.uint8), 0, len(s)) == (len(s), 0) for s in samples]
    if all(whole):
        return True
    return None if any(w is None or w for w in whole) else False
