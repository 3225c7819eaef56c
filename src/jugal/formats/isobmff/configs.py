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
from jugal.formats.isobmff.following import ends_whole, reads_whole
from jugal.formats.isobmff.payload import AVC, HEVC
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.video import read_record
from jugal.formats.isobmff.visual import planes_whole, read_layer

#: Samples that are read, of so many bytes at most, and fewer by which nothing is told.
_READ, _LONGEST, _FEWEST = 6, 1 << 20, 3
#: They are the shortest among so many in either place that have so many bytes.
_AMONG, _TELLING = 24, 256
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
    if at < 8 or any(whole is not False for whole in _reads(track, entry, samples, briefly=True)):
        return []
    first, stop = at + 4, min(at - 4 + int.from_bytes(entry[at - 4 : at], "big"), at + 4 + _MOST_TRIED, len(entry))
    for place, tried in _turned(entry, first, stop):
        if all(_reads(track, tried, samples)):
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
    """Some samples from the beginning and, where they do not hang on one another to be read, from the middle, short ones first."""
    count = track.offsets.size
    if track.codec == b"mp4v":
        numbers = np.arange(min(count, _READ))  # each may hang on the one before it
    else:
        numbers = np.unique(np.concatenate([np.arange(_AMONG), count // 2 + np.arange(_AMONG)]))
        numbers = numbers[(numbers < count)]
        # One that reads is enough to be at ease: the shortest first, of those that have something to read.
        by_size = numbers[np.argsort(track.sizes[numbers], kind="stable")]
        telling = by_size[track.sizes[by_size] >= _TELLING]
        numbers = (telling if telling.size >= _FEWEST else by_size[::-1])[:_READ]
    spans = [(int(track.offsets[k]), int(track.sizes[k])) for k in numbers]
    return [
        subject.source.read(at, size) for at, size in spans if 0 <= at <= subject.size - size and 0 < size <= _LONGEST
    ]


def _reads(track: Track, entry: bytes, samples: list[bytes], briefly: bool = False) -> Iterator[bool | None]:
    """Whether each of ``samples`` reads to its end by what ``entry`` says, as they are asked for; None where it cannot be told.

    With ``briefly`` only the last slice of a picture is read.
    """
    if track.codec in AVC or track.codec in HEVC:
        stream = read_record(entry)
        if stream is None:
            yield False
            return
        reads = ends_whole if briefly else reads_whole
        yield from (reads(sample, stream) for sample in samples)
    elif track.codec == b"mp4v":
        layer = read_layer(entry[86:])
        yield from planes_whole(samples, layer) if layer is not None else [False]
    else:
        config = read_config(entry) if track.codec == b"mp4a" else read_alac(entry)
        if config is None:
            yield False
            return
        yield from (config.parse(np.frombuffer(s, np.uint8), 0, len(s)) == (len(s), 0) for s in samples)
