"""A track's sample description (ISO/IEC 14496-12 8.5.2) that was overwritten, in an index that is else whole."""

from __future__ import annotations

import numpy as np

from jugal.formats.base import RepairDraft, RepairImpossible, Report, Subject
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.following import units
from jugal.formats.isobmff.movie import Movie, read_movie
from jugal.formats.isobmff.payload import HEVC
from jugal.formats.isobmff.tables import Track
from jugal.formats.isobmff.video import AvcStream, HevcStream
from jugal.formats.isobmff.write import patched
from jugal.model.codes import FindingCode
from jugal.model.finding import Severity
from jugal.model.span import ByteSpan

#: Samples that are asked for parameter sets, and the bytes of each in which they stand.
_ASKED, _HEAD = 3, 4096


def description_of(track: Track) -> Box | None:
    """The track's ``stsd`` box."""
    return track.box.child(b"mdia", b"minf", b"stbl", b"stsd")


def is_lost(subject: Subject, track: Track) -> bool:
    """Whether no decoder can read the track's pictures: neither its description nor its first samples hold parameter sets."""
    if track.without_record or not track.without_sets:
        return track.without_record
    stream = HevcStream(track.prefix) if track.codec in HEVC else AvcStream(track.prefix)
    for number in np.flatnonzero(track.sync)[:_ASKED]:
        sample = subject.source.read(max(0, int(track.offsets[number])), min(int(track.sizes[number]), _HEAD))
        if any(stream.unit_type(unit[:2]) in stream.parameters for _, unit in units(sample, track.prefix)):
            return False
    return True


def lost_descriptions(subject: Subject, report: Report, judged: list[Track]) -> bool:
    """Reports descriptions that no decoder can work with, and what would help; True where there are any."""
    lost = [(t, box) for t in judged if is_lost(subject, t) and (box := description_of(t)) is not None]
    for track, box in lost:
        filled = subject.blocks.fills_in(ByteSpan(box.start, box.end))
        at = filled[0].span if filled else ByteSpan(box.start, box.end)
        report.add(
            FindingCode.MP4_TABLES,
            Severity.FATAL,
            f"Track {track.ident}: What a decoder must know to read its pictures is not in its description.",
            at.start,
            at.end,
        )
    return bool(lost)


def lend_description(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Repair: the donor's sample description, where it has the same length, in place of the one that was overwritten."""
    if donor is None:
        raise RepairImpossible("A healthy file from the same device is needed.")
    movie, lender = read_movie(subject), read_movie(donor)
    patches, steps = [], []
    for track in movie.tracks:
        box = description_of(track)
        if box is None or not is_lost(subject, track):
            continue
        body = _fitting(donor, lender, track, box.end - box.start)
        patches.append((box.start, body))
        steps.append(f"Took the sample description of track {track.ident} from the donor.")
    if not patches:
        raise RepairImpossible("No sample description is lost.")
    return RepairDraft(patched(subject, patches), tuple(steps))


def _fitting(donor: Subject, lender: Movie, track: Track, length: int) -> bytes:
    for other in lender.tracks:
        box = description_of(other)
        alike = (other.codec, other.width, other.height) == (track.codec, track.width, track.height)
        if box is not None and alike and box.end - box.start == length:
            return donor.source.read(box.start, length)
    raise RepairImpossible("The healthy file has no sample description that fits in its place.")
