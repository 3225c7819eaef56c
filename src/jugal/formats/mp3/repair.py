"""Repair of MPEG audio: the good frames joined, tags kept."""

from __future__ import annotations

from jugal.binary.output import Piece
from jugal.formats.base import RepairDraft, RepairImpossible, Report, Subject
from jugal.formats.mp3.check import examine
from jugal.formats.mp3.parse import read_stream
from jugal.kernels.mp3 import BITRATES, RATES, frame_length
from jugal.model.span import ByteSpan, merge


def rewrite_frames(subject: Subject, donor: Subject | None) -> RepairDraft:
    """The ID3 tag, every whole frame in order with its count set right, and the tags at the end."""
    source = subject.source
    stream = read_stream(source)
    if stream.header is None:
        raise RepairImpossible("No chain of audio frames is left.")
    spans = []
    for at in stream.frames.tolist():
        end = at + int(frame_length(source.array, at, BITRATES, RATES))
        if end <= stream.end:
            spans.append(ByteSpan(at, end))
    pieces: list[Piece] = []
    steps = []
    if stream.tag_end and source.read(0, 3) == b"ID3":
        pieces.append(ByteSpan(0, stream.tag_end))
    if stream.info_frame and spans:
        first = spans.pop(0)
        body = bytearray(source.read(first.start, first.length))
        for mark in (b"Xing", b"Info"):
            hit = body.find(mark, 4, 64)
            if hit > 0:
                at = hit + 8
                if body[hit + 7] & 1:
                    body[at : at + 4] = len(spans).to_bytes(4, "big")
                    at += 4
                if body[hit + 7] & 2:
                    total = first.length + sum(s.length for s in spans)
                    body[at : at + 4] = total.to_bytes(4, "big")
                steps.append(f"Set the count of frames to {len(spans):,}.")
        pieces.append(bytes(body))
    for span in merge(spans):
        pieces.append(span)
        steps.append(f"Kept the frames in bytes {span.start:,} to {span.end:,}.")
    if stream.end < subject.size:
        pieces.append(ByteSpan(stream.end, subject.size))
    report = Report()
    examine(subject, report)
    return RepairDraft(tuple(pieces), tuple(steps), kept=report.attainable or 0.0)


REPAIRS = {"rewrite-frames": rewrite_frames}
