"""A picture that lies inside another file, examined as a file of its own."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.binary.limits import Limits
from jugal.binary.source import Source
from jugal.formats.base import Report, Subject
from jugal.formats.jpeg import check as jpeg
from jugal.formats.png import check as png
from jugal.model.finding import Severity

_EXAMINERS = {b"\xff\xd8\xff": jpeg.examine, b"\x89PNG": png.examine}


def first_damage(raw: bytes | NDArray[np.uint8], limits: Limits) -> int | None:
    """Offset in ``raw`` at which the picture that it is, is first damaged; None where it is whole or no picture."""
    head = bytes(raw[:8])
    examine = next((e for signature, e in _EXAMINERS.items() if head.startswith(signature)), None)
    if examine is None:
        return None
    inner = Report()
    source = Source.from_bytes(raw, "embedded") if isinstance(raw, bytes) else Source(raw, "embedded")
    examine(Subject(source, limits), inner)
    if inner.score is None or inner.score > 99.9:
        return None
    return min(
        (f.span.start for f in inner.findings if f.span and f.severity in (Severity.MAJOR, Severity.FATAL)), default=0
    )
