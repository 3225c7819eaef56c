"""The strip: what each stretch of a file's bytes is, from its start to its end."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from jugal.model.span import ByteSpan


class Matter(StrEnum):
    """What a stretch of bytes is taken for."""

    STRUCTURE = "structure"
    PAYLOAD = "payload"
    HOLE = "hole"
    FILLER = "filler"
    FOREIGN = "foreign"
    DAMAGED = "damaged"
    PAST_END = "past end"
    MISSING = "missing"
    UNEXPLAINED = "unexplained"


@dataclass(frozen=True, slots=True)
class StripSpan:
    """One stretch. ``MISSING`` stretches lie past the file's last byte: what structures say should be there."""

    span: ByteSpan
    matter: Matter
    label: str = ""
