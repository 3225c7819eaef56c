"""Values in words, the same everywhere."""


def human_size(size: int, smallest: str = "B") -> str:
    """Bytes in the unit that reads best; ``smallest`` is what single bytes are called."""
    value = float(size)
    for unit in (smallest, "KB", "MB", "GB"):
        if value < 1000:
            return f"{value:.0f} {unit}" if unit == smallest else f"{value:.1f} {unit}"
        value /= 1000
    return f"{value:.1f} TB"


def printable(path: str) -> str:
    """A path or name as it can be shown: bytes that are no text become question marks."""
    return path.encode("utf-8", "replace").decode()


def printable_name(path: str) -> str:
    """The last part of a path, as it can be shown."""
    return printable(path.rsplit("/", 1)[-1])


def shown_score(score: float | None, digits: int = 0) -> str:
    """A score with ``digits`` behind the point. Rounding makes nothing whole: only 100 shows as 100."""
    if score is None:
        return "–"
    if score < 100.0 <= round(score, digits):
        return "99.9"
    return f"{score:.{digits}f}"
