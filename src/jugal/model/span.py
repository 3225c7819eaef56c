"""A half-open range of bytes."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True, slots=True, order=True)
class ByteSpan:
    """Bytes ``start`` up to but not including ``end``, absolute in the source file."""

    start: int
    end: int

    def __post_init__(self) -> None:
        if self.start < 0 or self.end < self.start:
            raise ValueError(f"not a span: {self.start}..{self.end}")

    @property
    def length(self) -> int:
        return self.end - self.start

    def clip(self, other: ByteSpan) -> ByteSpan:
        """The part of this span inside ``other``; empty (at a border of it) where they do not meet."""
        start = min(max(self.start, other.start), other.end)
        return ByteSpan(start, max(start, min(self.end, other.end)))


def merge(spans: Iterable[ByteSpan], gap: int = 0) -> list[ByteSpan]:
    """Sorted, joined where they overlap or lie at most ``gap`` bytes apart; empty ones dropped."""
    merged: list[ByteSpan] = []
    for span in sorted(s for s in spans if s.length):
        if merged and span.start <= merged[-1].end + gap:
            merged[-1] = ByteSpan(merged[-1].start, max(merged[-1].end, span.end))
        else:
            merged.append(span)
    return merged


def total_length(spans: Iterable[ByteSpan]) -> int:
    """Bytes covered by ``spans``, overlaps counted once."""
    return sum(span.length for span in merge(spans))
