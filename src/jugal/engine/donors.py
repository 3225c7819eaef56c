"""Which healthy files may lend a header or an index to a damaged one: the likeliest first, one of each sort."""

from __future__ import annotations

import os
from collections.abc import Sequence

from jugal.formats.registry import akin, extension_fits
from jugal.model.result import Examination, Verdict

_SIGNATURE = (
    "camera",
    "width",
    "height",
    "coding",
    "channels",
    "sample_rate",
    "bits",
    "video_codec",
    "audio_codec",
)


def is_donor(examination: Examination) -> bool:
    """Healthy enough to lend."""
    return examination.verdict is Verdict.INTACT and examination.error is None


def signature(examination: Examination) -> tuple[object, ...]:
    """Files of one signature come from the same device with the same settings, as far as their content tells."""
    return (examination.format, *(examination.media.get(key) for key in _SIGNATURE))


def _shared_start(one: str, other: str) -> int:
    """How many characters two names begin alike."""
    return next((i for i, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), min(len(one), len(other)))


def closeness(damaged: Examination, donor: Examination) -> tuple[float, ...]:
    """Sort key, smaller is likelier: format, what both say of themselves, then folder, then name, then size."""
    suffix = os.path.splitext(damaged.path)[1].lstrip(".").lower()
    named = bool(suffix) and any(extension_fits(name, suffix) for name in akin(damaged.format))
    strange = not extension_fits(donor.format, suffix) if named else damaged.format != donor.format
    disagree = sum(
        1
        for key in _SIGNATURE
        if key in damaged.media and key in donor.media and damaged.media[key] != donor.media[key]
    )
    agree = sum(1 for key in _SIGNATURE if key in damaged.media and damaged.media[key] == donor.media.get(key))
    folder = 0 if os.path.dirname(damaged.path) == os.path.dirname(donor.path) else 1
    common = _shared_start(os.path.basename(damaged.path), os.path.basename(donor.path))
    ratio = max(damaged.size, donor.size, 1) / max(1, min(damaged.size, donor.size))
    return (strange, disagree, -agree, folder, -common, ratio)


def fitting_donors(damaged: Examination, candidates: Sequence[Examination]) -> list[Examination]:
    """Healthy files of the damaged one's format or one akin, ranked; of those alike in every respect only the closest."""
    able = akin(damaged.format)
    usable = [c for c in candidates if is_donor(c) and c.format in able and c.path != damaged.path]
    usable.sort(key=lambda c: closeness(damaged, c))
    seen: set[tuple[object, ...]] = set()
    ranked = []
    for candidate in usable:
        key = signature(candidate)
        if key not in seen:
            seen.add(key)
            ranked.append(candidate)
    return ranked


def why(damaged: Examination, donor: Examination) -> str:
    """One sentence for a person on why this donor was proposed."""
    shared = [
        key.replace("_", " ")
        for key in _SIGNATURE
        if key in damaged.media and damaged.media[key] == donor.media.get(key)
    ]
    if shared:
        return f"Same {', '.join(shared)}."
    if os.path.dirname(damaged.path) == os.path.dirname(donor.path):
        return "A healthy file of the same format from the same folder."
    return "A healthy file of the same format from this case."
