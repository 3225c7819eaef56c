"""Thresholds and weights of scores and verdicts, by name. Scores run from 0 to 100."""

FULL = 100.0
#: A repair is worth proposing as a change of verdict when it brings this many points.
REPAIR_GAIN = 2.0
#: Below this nothing worth having can be attained.
UNRECOVERABLE_BELOW = 5.0
#: Most that a file scores which no ordinary program opens.
UNOPENABLE = 2.0
#: A file whose content could not be decoded, only its statistics seen, is not called better than this
#: once damage was seen in it.
STATISTICS_ONLY = 95.0


def share(good: float, total: float) -> float:
    """``good`` of ``total`` as a score, bounded to 0..100; an empty total counts as nothing there."""
    if total <= 0:
        return 0.0
    return max(0.0, min(FULL, FULL * good / total))
