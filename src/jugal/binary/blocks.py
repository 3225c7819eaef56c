"""Block statistics of a source, computed once and shared by every examiner and the strip."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jugal.binary.source import Source
from jugal.kernels.blockstats import (
    PAGE,
    SECTOR,
    page_entropy,
    page_glance,
    survey_pages,
)
from jugal.model.span import ByteSpan

#: Files of more pages are glanced at page by page, not counted byte by byte.
MAX_PAGES = 8_192
_LONGEST_TEXT = 64
#: Bytes ahead of a repeated text in which it would go on if it did not begin there.
_BEFORE = 16
_TEXT_SHARE, _STUFFED_LEAST = 0.8, 8


class _Survey(NamedTuple):
    """Per sector its one value, per page whether it is text and whether stuffed, per whole sector its period."""

    uniform: NDArray[np.int16]
    text: NDArray[np.bool_]
    stuffed: NDArray[np.bool_]
    periods: NDArray[np.int16]


@dataclass(frozen=True, slots=True)
class Fill:
    """A run of whole sectors of one byte value."""

    span: ByteSpan
    value: int


class Blocks:
    """Lazily computed statistics per sector (512 bytes) and page (4,096 bytes) of one source."""

    def __init__(self, source: Source) -> None:
        self._source = source

    @cached_property
    def _survey(self) -> _Survey:
        """What a few bytes of each page tell, in one pass over the file."""
        size, pages = self._source.size, self._page_count
        found = _Survey(
            np.empty(-(-size // SECTOR), np.int16),
            np.zeros(pages, np.bool_),
            np.zeros(pages, np.bool_),
            np.zeros(size // SECTOR, np.int16),
        )
        survey_pages(self._source.array, _TEXT_SHARE, _STUFFED_LEAST, _LONGEST_TEXT, *found)
        self._source.release()
        return found

    @property
    def uniform(self) -> NDArray[np.int16]:
        """Per sector: the byte value when all its bytes are the same, else -1."""
        return self._survey.uniform

    @cached_property
    def entropy(self) -> NDArray[np.float32]:
        """Per page: bits per byte, 0..8."""
        count = self._page_count
        if count <= MAX_PAGES:
            return self.entropy_of(np.arange(count))
        out = np.zeros(count, np.float32)
        page_glance(self._source.array, out)
        return out

    def entropy_of(self, pages: NDArray[np.int64]) -> NDArray[np.float32]:
        """Bits per byte, 0..8, of the pages with these numbers."""
        out = np.zeros(pages.size, np.float32)
        page_entropy(self._source.array, pages, out)
        return out

    @property
    def text(self) -> NDArray[np.bool_]:
        """Per page: more than four fifths of it are printable ASCII."""
        return self._survey.text

    @property
    def stuffed(self) -> NDArray[np.bool_]:
        """Per page: several bytes 0xFF, each followed by 0x00 or a restart marker's second byte, as in JPEG data only."""
        return self._survey.stuffed

    @property
    def _page_count(self) -> int:
        return -(-self._source.size // PAGE)

    @cached_property
    def fills(self) -> tuple[Fill, ...]:
        """All runs of whole sectors of one byte value, in order."""
        uniform = self.uniform
        if not uniform.size:
            return ()
        edges = np.flatnonzero(np.diff(uniform)) + 1
        starts = np.concatenate(([0], edges))
        ends = np.concatenate((edges, [uniform.size]))
        values = uniform[starts]
        size = self._source.size
        return tuple(
            Fill(ByteSpan(int(s) * SECTOR, min(int(e) * SECTOR, size)), int(v))
            for s, e, v in zip(starts, ends, values, strict=True)
            if v >= 0
        )

    def fills_in(self, span: ByteSpan, at_least: int = SECTOR) -> list[Fill]:
        """The filled runs inside ``span``, clipped to it, of at least ``at_least`` bytes."""
        found = []
        for fill in self.fills:
            if fill.span.start >= span.end:
                break
            part = fill.span.clip(span)
            if part.length >= at_least:
                found.append(Fill(part, fill.value))
        return found

    def fills_in_exact(self, start: int, end: int) -> list[Fill]:
        """The filled runs that lie in ``start..end``."""
        return self.fills_in(ByteSpan(start, max(start, end)))

    @cached_property
    def patterns(self) -> tuple[ByteSpan, ...]:
        """Runs of at least two sectors in which one short text (2 to 64 bytes) is repeated from a sector's start on.

        What was put in begins at a sector; a file's own repetition, as of a line drawn along a row of blocks, begins anywhere.
        """
        sectors = np.flatnonzero(self._survey.periods > 1)
        # A repeated text lowers the entropy of its page far below that of any payload.
        pages, inverse = np.unique(sectors * SECTOR // PAGE, return_inverse=True)
        entropy = self.entropy_of(pages)[inverse]
        found: list[ByteSpan] = []
        for at in (sectors[(entropy < 5.2) & (entropy > 0.1)] * SECTOR).tolist():
            if found and found[-1].end == at:
                found[-1] = ByteSpan(found[-1].start, at + SECTOR)
            else:
                found.append(ByteSpan(at, at + SECTOR))
        return tuple(span for span in found if span.length >= 2 * SECTOR and self._begins_at_sector(span.start))

    def _begins_at_sector(self, start: int) -> bool:
        """Whether the text that is repeated from ``start`` on, a sector's, is not repeated in the bytes before its first sector."""
        periods = self._survey.periods
        sector = start // SECTOR
        period = int(periods[sector])
        while sector and periods[sector - 1] == period:
            sector -= 1
        first = sector * SECTOR
        around = self._source.array[max(0, first - _BEFORE) : first + period]
        return not first or bool((around[period:] != around[:-period]).any())


def exact_fill(source: Source, fill: Fill) -> ByteSpan:
    """``fill`` widened to the bytes of the same value directly before and after it."""
    start, end = fill.span.start, fill.span.end
    while start > 0 and source.array[start - 1] == fill.value and fill.span.start - start < 2 * SECTOR:
        start -= 1
    while end < source.size and source.array[end] == fill.value and end - fill.span.end < 2 * SECTOR:
        end += 1
    return ByteSpan(start, end)
