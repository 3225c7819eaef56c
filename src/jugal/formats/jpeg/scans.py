"""Pictures of several scans: each scan kept as far as it is good, so that what it refines is left as it was before.

A decoder that finds a scan ended early leaves the rest of it as the scans before made it (T.81 G.1.2). What comes behind
damage in a scan would only add noise, and a later scan that counts its correction bits by the coefficients of an earlier
one cannot be read where that one is cut.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jugal.binary.output import Piece
from jugal.binary.source import Source
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.damage import Damage, judge, refined_by, spoiled_mask
from jugal.formats.jpeg.decode import Decoded, Picture, decode
from jugal.formats.jpeg.parse import Structure, beyond_end
from jugal.formats.jpeg.select import decodable, select
from jugal.kernels.stuffing import pack_bits
from jugal.model import scoring
from jugal.model.codes import FindingCode
from jugal.model.span import ByteSpan


@dataclass(frozen=True, slots=True)
class Cuts:
    """How many units of each scan are kept, and the share of the picture, 0..100, that is shown rightly then."""

    limits: tuple[int, ...]
    kept: float


def stops_decoders(structure: Structure) -> bool:
    """Another picture begins before this one has ended, or a marker that no decoder knows interrupts a scan that others follow:
    most decoders give the whole picture up."""
    if structure.interrupted is not None:
        return True
    first = structure.scans[0].entropy.start if structure.scans else 0
    in_one = structure.frame is None or (structure.frame.marker != spec.PROGRESSIVE and len(structure.scans) < 2)
    if any(s.marker in spec.RESERVED and (not in_one or s.start < first) for s in structure.segments):
        return True
    if in_one:
        return False
    for scan in structure.scans:
        codes = scan.entropy.mark_code
        if scan.restart_interval:
            # Up to the last restart marker decoders pass such a one by when they look for the next.
            restarts = np.flatnonzero((codes >= 0xD0) & (codes <= 0xD7))
            codes = codes[restarts[-1] + 1 :] if restarts.size else codes
        if bool((((codes > 1) & (codes < 0xC0)) | np.isin(codes, list(spec.RESERVED))).any()):
            return True
    return False


def past_false_end(source: Source, structure: Structure, picture: Picture) -> tuple[Structure, Picture] | None:
    """A picture with the scans behind a marker that ended it inside a scan; None where the last scan is whole, or no scan follows."""
    longer = None if picture.scans[-1].complete else beyond_end(source, structure)
    if longer is None or longer.frame is None:
        return None
    return longer, decode(longer.frame, longer.scans, longer.quant)


def find_cuts(picture: Picture, damages: list[Damage]) -> Cuts | None:
    """Where the scans of a progressive picture are to be cut; None where there is nothing to gain by it."""
    if picture.frame.marker != spec.PROGRESSIVE or len(picture.scans) < 2 or not damages:
        return None
    limits: list[int] = []
    for number, decoded in enumerate(picture.scans):
        limit = min((d.first for d in damages if d.scan == number and d.weight is None), default=decoded.units)
        limit = min([limit, *(limits[n] for n in refined_by(picture, number))])
        limits.append(limit)
    if not limits[0]:
        return None
    # Counted as if the rest were astray, not missing: where several scans are cut, what is missing of them adds up.
    cut = [
        Damage(n, limit, picture.scans[n].units, FindingCode.JPEG_BREAK, 0, 0)
        for n, limit in enumerate(limits)
        if limit < picture.scans[n].units
    ]
    if not cut:
        return None
    cut += [d for d in damages if d.weight is not None]
    return Cuts(
        tuple(limits), scoring.share(1.0 - picture.frame.mean_of(spoiled_mask(picture, cut, adds_up=True)), 1.0)
    )


def cut_scans(subject: Subject, donor: Subject | None) -> RepairDraft:
    """All scans up to the first damage in each, with the segments between them as they are."""
    structure = select(subject.source).structure
    if not decodable(structure) or structure.frame is None:
        raise RepairImpossible("No picture that can be decoded was found in the file.")
    picture = decode(structure.frame, structure.scans, structure.quant)
    structure, picture = past_false_end(subject.source, structure, picture) or (structure, picture)
    cuts = find_cuts(picture, judge(subject, structure, picture).damages)
    if cuts is None:
        raise RepairImpossible("No scan of the picture can be cut to what is good of it.")
    pieces: list[Piece] = [spec.MARK_SOI]
    steps: list[str] = []
    bad = {s.start for s in structure.bad_segments}
    numbers = {scan.segment.start: n for n, scan in enumerate(structure.scans)}
    for segment in structure.segments:
        number = numbers.get(segment.start)
        if segment.start in bad:
            continue
        if segment.marker in spec.RESERVED:
            steps.append(f"Left out the marker 0xFF{segment.marker:02X} at {segment.start:,}, at which decoders stop.")
            continue
        if number is None:
            pieces.append(ByteSpan(segment.start, segment.end))
            continue
        limit, decoded = cuts.limits[number], picture.scans[number]
        if limit == 0:
            steps.append(f"Left out scan {number + 1}, which is damaged from its start.")
            continue
        pieces.append(ByteSpan(segment.start, segment.end))
        pieces += _entropy(decoded, limit)
        if limit < decoded.units:
            steps.append(f"Kept {limit:,} of {decoded.units:,} units of scan {number + 1}.")
    pieces.append(spec.MARK_EOI)
    return RepairDraft(tuple(pieces), tuple(steps), kept=cuts.kept)


def _entropy(decoded: Decoded, limit: int) -> list[Piece]:
    """The entropy-coded data of the first ``limit`` units, unchanged but for the padding of the last byte."""
    entropy = decoded.scan.entropy
    if limit >= decoded.units:
        return [ByteSpan(entropy.start, entropy.end)]
    segments = decoded.segments
    last = max(0, int(np.searchsorted(segments.mcu, limit, "right")) - 1)
    first = int(segments.start[last])
    stop = int(decoded.unit_pos[limit])
    if stop < 8 * first:
        # The unit was never reached: the segment before it is whole.
        stop = 8 * first
    keep = int(decoded.raw([8 * first])[0])
    bits = np.unpackbits(entropy.clean[first : (stop >> 3) + 1])[: stop - 8 * first]
    return [ByteSpan(entropy.start, keep), pack_bits(bits)] if bits.size else [ByteSpan(entropy.start, keep)]
