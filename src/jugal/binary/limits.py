"""Every guard in one place. Nothing from a file is trusted beyond these."""

from __future__ import annotations

import time
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class Limits:
    """Bounds for the examination of one file."""

    #: Seconds after which an examiner stops and says what it has.
    seconds: float = 120.0
    #: Files up to this size are read at once; larger ones are mapped, so that the memory of what was looked at can be given back.
    read_at_once: int = 8 << 20
    #: Mapped files up to this size are read through before, since a medium's fault would end the process later. Of larger ones that
    #: takes as long as half of their examination.
    read_through: int = 48 << 20
    #: Pixels of a picture that is decoded; above it only the structure is walked.
    pixels: int = 300_000_000
    #: Bytes of a track of coded video of which every bit is followed; larger tracks are looked at by their units only.
    followed: int = 4 << 20
    #: Bytes that all inflated streams of one file may come to.
    inflated_total: int = 4 << 30
    #: Bytes that one inflated member may come to.
    inflated_member: int = 1 << 30
    #: A member that inflates by more than this is not followed.
    inflated_ratio: int = 2000
    #: Boxes, chunks, objects or members of one file.
    items: int = 2_000_000
    #: Nesting of boxes, page trees, markup.
    depth: int = 64
    #: Findings kept of one code; the rest is counted in the last one.
    findings_per_code: int = 40


@dataclass(slots=True)
class Deadline:
    """Says when an examiner has to stop. Checked in loops, never enforced from outside."""

    seconds: float
    started: float = field(default_factory=time.monotonic)

    @property
    def passed(self) -> bool:
        return time.monotonic() - self.started > self.seconds


DEFAULT_LIMITS = Limits()
#: Every bit of coded video is followed, however much there is.
TO_THE_BIT = Limits(followed=1 << 62)
