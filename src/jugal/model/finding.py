"""What an examiner found: a code, how bad, where, and a sentence."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from jugal.model.codes import Cause, FindingCode
from jugal.model.span import ByteSpan


class Severity(StrEnum):
    """How much a finding matters. A ``note`` never changes the verdict."""

    NOTE = "note"
    MINOR = "minor"
    MAJOR = "major"
    FATAL = "fatal"

    @property
    def rank(self) -> int:
        return _RANKS[self]


_RANKS = {Severity.NOTE: 0, Severity.MINOR: 1, Severity.MAJOR: 2, Severity.FATAL: 3}


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing seen in a file.

    ``span`` is None where no place applies. ``message`` is a whole sentence for a technician.
    """

    code: FindingCode
    severity: Severity
    message: str
    span: ByteSpan | None = None
    cause: Cause | None = None

    @property
    def sort_key(self) -> tuple[int, int, int]:
        """By place, those without a place last; the graver first at the same place."""
        if self.span is None:
            return (1, 0, -self.severity.rank)
        return (0, self.span.start, -self.severity.rank)
