"""The examination of one file, the repairs known for it, and the outcome of a repair."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

from jugal.model import scoring
from jugal.model.finding import Finding, Severity
from jugal.model.strip import StripSpan

MediaValue = str | int | float | bool


class Kind(StrEnum):
    PHOTO = "photo"
    VIDEO = "video"
    AUDIO = "audio"
    DOCUMENT = "document"
    ARCHIVE = "archive"
    OTHER = "other"


class Verdict(StrEnum):
    INTACT = "intact"
    DAMAGED = "damaged"
    REPAIRABLE = "repairable"
    UNRECOVERABLE = "unrecoverable"
    UNRECOGNISED = "unrecognised"


@dataclass(frozen=True, slots=True)
class RepairPlan:
    """A repair that applies to a file, with the score expected of it (a forecast, not a promise)."""

    method: str
    summary: str
    attainable: float
    needs_donor: bool = False


@dataclass(frozen=True, slots=True)
class Region:
    """A part of the content that is not right: a share of the picture's rows, of the time or of the pages.

    ``start`` and ``end`` run from 0 to 1 along the content; ``left`` to ``right`` across it, where it has
    a second dimension. ``label`` says what is lost in words (rows, seconds, pages).
    """

    start: float
    end: float
    label: str
    left: float = 0.0
    right: float = 1.0


@dataclass(frozen=True, slots=True)
class Anchor:
    """At the byte ``offset`` stands what lies at ``share`` (0 to 1) of the content: of a picture's rows, of the time."""

    offset: int
    share: float


@dataclass(frozen=True, slots=True)
class Thumbnail:
    """A small picture: 8-bit RGB, ``width * height * 3`` bytes, rows from the top."""

    width: int
    height: int
    rgb: bytes


#: Repairs that are a matter of taste, not of right or wrong: done when they are asked for by name.
BY_CHOICE = frozenset({"cut-holes", "hold-pictures", "index-in-front"})
#: Repairs whose output is partly an estimate: what shows in it is no reason to repair it further.
ESTIMATES = frozenset({"donor-header", "estimate-header", "estimate-index"})
#: Estimates whose clock may be set by hand: frames a second of the picture, values a second of sound alone.
ADJUSTABLE = frozenset({"estimate-index"})


def adjusted(method: str, rate: float) -> str:
    """``method`` with its clock set to ``rate``, as ``--method`` takes it."""
    return f"{method}@{rate:g}"


def parted(method: str) -> tuple[str, float | None]:
    """A method and the rate asked for, None without one. Raises ValueError where that is no positive number."""
    name, at, figure = method.partition("@")
    rate = float(figure) if at else None
    if rate is not None and not 0 < rate < 1e6:
        raise ValueError(f"{figure} is no rate.")
    return name, rate


@dataclass(frozen=True, slots=True)
class Examination:
    """Everything known about one file. ``score`` is None where the content could not be judged."""

    path: str
    size: int
    kind: Kind = Kind.OTHER
    format: str = "unknown"
    score: float | None = None
    attainable: float | None = None
    verdict: Verdict = Verdict.UNRECOGNISED
    findings: tuple[Finding, ...] = ()
    repairs: tuple[RepairPlan, ...] = ()
    media: dict[str, MediaValue] = field(default_factory=dict)
    strip: tuple[StripSpan, ...] = ()
    regions: tuple[Region, ...] = ()
    anchors: tuple[Anchor, ...] = ()
    thumbnail: Thumbnail | None = None
    seconds: float = 0.0
    error: str | None = None

    @property
    def main_finding(self) -> Finding | None:
        """The gravest finding, the first in the file among equals."""
        return max(self.findings, key=lambda f: f.severity.rank, default=None)

    @property
    def worth_repairing(self) -> bool:
        """A repair is known and something is wrong that deserves it; repairs done by choice only do not count."""
        known = any(p.method not in BY_CHOICE for p in self.repairs)
        return known and self.verdict in (Verdict.REPAIRABLE, Verdict.DAMAGED)


def derive_verdict(score: float | None, attainable: float | None, findings: tuple[Finding, ...]) -> Verdict:
    """The one place where scores and findings become a verdict."""
    if score is None:
        return Verdict.UNRECOGNISED
    best = score if attainable is None else max(score, attainable)
    wrong = any(f.severity is not Severity.NOTE for f in findings)
    if not wrong and score >= scoring.FULL:
        return Verdict.INTACT
    if best < scoring.UNRECOVERABLE_BELOW:
        return Verdict.UNRECOVERABLE
    if best - score >= scoring.REPAIR_GAIN:
        return Verdict.REPAIRABLE
    return Verdict.DAMAGED


class RepairStatus(StrEnum):
    REPAIRED = "repaired"
    UNCHANGED = "unchanged"
    FAILED = "failed"


@dataclass(frozen=True, slots=True)
class RepairOutcome:
    """What came of repairing one file; ``score_after`` was measured on the file written."""

    path: str
    status: RepairStatus
    output: str | None = None
    method: str | None = None
    donor: str | None = None
    score_before: float | None = None
    score_after: float | None = None
    steps: tuple[str, ...] = ()
    error: str | None = None
    examined: Examination | None = None
    #: The score is no higher than this, whatever was measured: the rest of the content was left out or filled up.
    limit: float = 100.0
