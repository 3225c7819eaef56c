"""What every examiner is given, what it fills in, and how a format declares itself."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from copy import copy
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from jugal.binary.blocks import Blocks
from jugal.binary.limits import DEFAULT_LIMITS, Deadline, Limits
from jugal.binary.output import Piece
from jugal.binary.source import PatchedSource, Source
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Finding, Severity
from jugal.model.result import Anchor, Kind, MediaValue, Region, RepairPlan, Thumbnail
from jugal.model.span import ByteSpan
from jugal.model.strip import Matter, StripSpan

#: More places of the content than this cannot be told apart on a screen.
MOST_ANCHORS = 160


class Subject:
    """The file under examination: its bytes, its block statistics and the bounds to keep."""

    def __init__(self, source: Source, limits: Limits = DEFAULT_LIMITS) -> None:
        self.source = source
        self.blocks = Blocks(source)
        self.limits = limits
        self.deadline = Deadline(limits.seconds)

    @property
    def size(self) -> int:
        return self.source.size

    def patched(self, patches: Iterable[tuple[int, bytes]]) -> Subject:
        """The file as it would read with other bytes at some places of its structure."""
        other = copy(self)
        other.source = PatchedSource(self.source, patches)
        return other


@dataclass(slots=True)
class Report:
    """What an examiner fills in. Scores stay None until the content was judged."""

    findings: list[Finding] = field(default_factory=list)
    media: dict[str, MediaValue] = field(default_factory=dict)
    strip: list[StripSpan] = field(default_factory=list)
    regions: list[Region] = field(default_factory=list)
    anchors: list[Anchor] = field(default_factory=list)
    plans: list[RepairPlan] = field(default_factory=list)
    thumbnail: Thumbnail | None = None
    score: float | None = None
    attainable: float | None = None
    #: A finer format name than the one recognised (a ZIP that proves to be a docx).
    format: str | None = None
    counts: Counter[FindingCode] = field(default_factory=Counter)

    def add(
        self,
        code: FindingCode,
        severity: Severity,
        message: str,
        start: int | None = None,
        end: int | None = None,
        cause: Cause | None = None,
        limits: Limits = DEFAULT_LIMITS,
    ) -> None:
        """Records a finding. More than ``limits.findings_per_code`` of one code are only counted."""
        self.counts[code] += 1
        if self.counts[code] > limits.findings_per_code:
            return
        span = None if start is None else ByteSpan(start, max(start, end if end is not None else start))
        if cause is not None and cause.value not in message:
            message = f"{message} Likely cause: {cause.value}."
        self.findings.append(Finding(code, severity, message, span, cause))

    def mark(self, start: int, end: int, matter: Matter, label: str = "") -> None:
        """Says what the bytes ``start..end`` are, for the strip. Later marks lie over earlier ones."""
        if end > start >= 0:
            self.strip.append(StripSpan(ByteSpan(start, end), matter, label))

    def anchor(self, offsets: Sequence[int] | NDArray[np.int64], shares: Sequence[float] | NDArray[np.float64]) -> None:
        """Says which bytes hold which part of the content: ascending offsets with shares from 0 to 1, thinned out here."""
        step = max(1, len(offsets) // MOST_ANCHORS)
        kept = [*range(0, len(offsets), step)]
        if len(offsets) and kept[-1] != len(offsets) - 1:
            kept.append(len(offsets) - 1)
        self.anchors = [Anchor(int(offsets[i]), round(float(shares[i]), 5)) for i in kept]

    def planned(self, method: str) -> bool:
        return any(plan.method == method for plan in self.plans)

    def forecast(self, method: str, otherwise: float = 100.0) -> float:
        """What ``method`` is expected to bring, in percent; ``otherwise`` where it is not planned."""
        return next((plan.attainable for plan in self.plans if plan.method == method), otherwise)

    def plan(self, method: str, summary: str, attainable: float, needs_donor: bool = False) -> None:
        self.plans.append(RepairPlan(method, summary, attainable, needs_donor))

    def has(self, *codes: FindingCode) -> bool:
        return any(self.counts[code] for code in codes)

    @property
    def worst(self) -> Severity:
        return max((f.severity for f in self.findings), key=lambda s: s.rank, default=Severity.NOTE)


class RepairImpossible(Exception):
    """The repair does not apply after all; the message is one sentence."""


@dataclass(frozen=True, slots=True)
class RepairDraft:
    """The file a repair would write: pieces of the source and new bytes, and what was done in sentences."""

    pieces: tuple[Piece, ...]
    steps: tuple[str, ...]
    #: Extension to give the output where it is another format (an extracted preview), without the dot.
    suffix: str | None = None
    #: Percent of the original content that is in the output at best; the rest was filled up or left out, which an
    #: examination of the output alone cannot see.
    kept: float = 100.0
    #: Whether the output has its full length or its end where the source lacked them: worth having though no more of the content
    #: shows, and how what was filled up looks is no fault of it.
    completes: bool = False


Examiner = Callable[[Subject, Report], None]
#: From the subject and the donor, if one is needed; those in ``ADJUSTABLE`` also take a ``rate``.
Repairer = Callable[..., RepairDraft]


@dataclass(frozen=True, slots=True)
class FormatSpec:
    """One format family: its short names, its kind, its examiner and its repairs by method name."""

    names: tuple[str, ...]
    kind: Kind
    examine: Examiner
    repairs: Mapping[str, Repairer] = field(default_factory=dict)
    extension: str = ""
