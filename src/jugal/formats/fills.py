"""Holes and foreign matter that show in block statistics alone, for examiners of every format."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from jugal.binary.blocks import Fill, exact_fill
from jugal.formats.base import Subject
from jugal.kernels.blockstats import PAGE
from jugal.model.span import ByteSpan, merge


def holes(subject: Subject, span: ByteSpan, at_least: int = 512) -> list[Fill]:
    """Filled runs of whole sectors inside ``span``, widened to the exact bytes of the same value."""
    return [
        Fill(exact_fill(subject.source, fill).clip(span), fill.value)
        for fill in subject.blocks.fills_in(span, at_least)
    ]


def foreign_text(subject: Subject, span: ByteSpan) -> list[ByteSpan]:
    """Stretches of ``span`` that read as text though compressed data is expected there.

    A page of compressed or coded data has 37 % printable bytes; four fifths and more never happen by chance.
    """
    first, last = span.start // PAGE, -(-span.end // PAGE)
    pages = np.flatnonzero(subject.blocks.text[first:last]) + first
    # Text has some three to five bits a byte; less is a flat picture's own repetition that happens to be printable.
    pages = pages[subject.blocks.entropy_of(pages) > 3.3]
    return merge([ByteSpan(int(p) * PAGE, int(p + 1) * PAGE).clip(span) for p in pages])


def entropy_drops(subject: Subject, span: ByteSpan, usual: float = 7.5, low: float = 6.3) -> list[ByteSpan]:
    """Pages wholly inside ``span`` whose entropy lies far under that of the rest of it."""
    first, last = -(-span.start // PAGE), span.end // PAGE
    values = subject.blocks.entropy[first:last]
    if values.size < 4 or float(np.median(values)) < usual:
        return []
    pages = np.flatnonzero(values < low) + first
    return merge([ByteSpan(int(p) * PAGE, int(p + 1) * PAGE) for p in pages])


def trailing_fill(subject: Subject, end: int) -> bool:
    """All bytes from ``end`` on have one value."""
    rest = subject.source.array[end:]
    return rest.size > 0 and bool((rest == rest[0]).all())


def describe(spans: Sequence[ByteSpan]) -> str:
    """How much and where, for a sentence."""
    total = sum(s.length for s in spans)
    if len(spans) == 1:
        return f"{total:,} bytes at {spans[0].start:,}"
    return f"{total:,} bytes in {len(spans)} places, the first at {spans[0].start:,}"
