"""Values in words, the same everywhere."""


def human_size(size: int, smallest: str = "B") -> str:
    """Bytes in the unit that reads best; ``smallest`` is what single bytes are called."""
    value = float(size)
    for unit in (smallest, "KB", "MB", "GB"):
        if value < 1000:
            return f"{value:.0f} {unit}" if unit == smallest else f"{value:.1f} {unit}"
        value /= 1000
    return f"{value:.1f} TB"
