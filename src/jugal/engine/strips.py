"""The strip of a file: the examiner's marks laid over one another, gaps filled from block statistics."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

from jugal.formats.base import Subject
from jugal.model.span import ByteSpan
from jugal.model.strip import Matter, StripSpan

#: A strip is drawn at most some thousand pixels wide; more spans than this cannot be seen.
MAX_SPANS = 600


def lay_out(marks: Sequence[StripSpan], subject: Subject) -> tuple[StripSpan, ...]:
    """Non-overlapping spans from 0 to the end of the file, then what is missing past it.

    Later marks lie over earlier ones; what no mark covers is a hole where it is filled, else unexplained.
    """
    size = subject.size
    inside = [m for m in marks if m.matter is not Matter.MISSING and m.span.length and m.span.start < size]
    missing = [m for m in marks if m.matter is Matter.MISSING]
    edges = sorted({0, size, *(min(e, size) for m in inside for e in (m.span.start, m.span.end))})
    # Each elementary stretch belongs to the last mark that covers it: sweep with the open marks by rank.
    starts: dict[int, list[int]] = {}
    ends: dict[int, list[int]] = {}
    for rank, mark in enumerate(inside):
        starts.setdefault(mark.span.start, []).append(rank)
        ends.setdefault(min(mark.span.end, size), []).append(rank)
    spans: list[StripSpan] = []
    open_ranks: set[int] = set()
    for start, end in itertools.pairwise(edges):
        open_ranks.difference_update(ends.get(start, ()))
        open_ranks.update(starts.get(start, ()))
        if open_ranks:
            mark = inside[max(open_ranks)]
            _append(spans, ByteSpan(start, end), mark.matter, mark.label)
        else:
            _unmarked(spans, ByteSpan(start, end), subject)
    return (*_reduce(spans, size), *missing[:4])


def _append(spans: list[StripSpan], span: ByteSpan, matter: Matter, label: str) -> None:
    if spans and spans[-1].matter is matter and spans[-1].label == label and spans[-1].span.end == span.start:
        spans[-1] = StripSpan(ByteSpan(spans[-1].span.start, span.end), matter, label)
    elif span.length:
        spans.append(StripSpan(span, matter, label))


def _unmarked(spans: list[StripSpan], span: ByteSpan, subject: Subject) -> None:
    at = span.start
    for fill in subject.blocks.fills_in(span):
        _append(spans, ByteSpan(at, fill.span.start), Matter.UNEXPLAINED, "")
        _append(spans, fill.span, Matter.HOLE, f"filled with 0x{fill.value:02X}")
        at = fill.span.end
    _append(spans, ByteSpan(at, span.end), Matter.UNEXPLAINED, "")


_LOUD = frozenset({Matter.HOLE, Matter.FOREIGN, Matter.DAMAGED, Matter.FILLER, Matter.PAST_END})


def _reduce(spans: list[StripSpan], size: int) -> list[StripSpan]:
    """Joins quiet neighbours until few enough spans are left; damage is never joined away."""
    least = 1
    while len(spans) > MAX_SPANS and least < size:
        least *= 4
        joined: list[StripSpan] = []
        for span in spans:
            quiet = span.matter not in _LOUD and span.span.length < max(least, size // 4000)
            if quiet and joined and joined[-1].matter not in _LOUD:
                last = joined[-1]
                joined[-1] = StripSpan(ByteSpan(last.span.start, span.span.end), last.matter, last.label)
            else:
                _append(joined, span.span, span.matter, span.label)
        if len(joined) == len(spans) and least > size // 16:
            return joined[:MAX_SPANS]
        spans = joined
    return spans
