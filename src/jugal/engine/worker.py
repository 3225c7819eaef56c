"""What runs in a worker process: a few files examined, within a memory ceiling."""

from __future__ import annotations

import io
import os
import resource

from PIL import Image

from jugal.binary.limits import DEFAULT_LIMITS, Limits
from jugal.engine.examine import examine_file
from jugal.engine.memory import give_back_large_blocks
from jugal.engine.sight import sight_of
from jugal.model.result import Examination, Thumbnail
from jugal.model.small import Small

MEMORY_CEILING = 6 << 30
#: Below this score a picture is not compared with others: what is grey in both would make them alike.
_SEEN_ENOUGH = 60.0


def prepare() -> None:
    """Sets the worker's memory ceiling, towards which mapped source files do not count, and when it gives memory back."""
    give_back_large_blocks()
    _, hard = resource.getrlimit(resource.RLIMIT_DATA)
    ceiling = MEMORY_CEILING if hard == resource.RLIM_INFINITY else min(MEMORY_CEILING, hard)
    resource.setrlimit(resource.RLIMIT_DATA, (ceiling, hard))
    resource.setrlimit(resource.RLIMIT_CORE, (0, resource.getrlimit(resource.RLIMIT_CORE)[1]))
    # Whoever waits at the window or the terminal goes before the run.
    os.nice(5)


def small_picture(thumbnail: Thumbnail, sighted: bool = True, side: int = 192) -> Small:
    """``thumbnail`` as a small JPEG and its signature; the pixels are our own, so nothing foreign is decoded.

    Without ``sighted`` too little of the picture is left to compare it by.
    """
    picture = Image.frombytes("RGB", (thumbnail.width, thumbnail.height), thumbnail.rgb)
    sight = sight_of(picture) if sighted else None
    picture.thumbnail((side, side))
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=82)
    return Small(out.getvalue(), sight)


def examine_group(
    paths: list[str], thumbnails: bool, limits: Limits = DEFAULT_LIMITS
) -> list[tuple[Examination, Small | None]]:
    """Examines ``paths`` one after the other; thumbnails leave the worker encoded."""
    out = []
    for path in paths:
        examination = examine_file(path, limits)
        small = None
        if examination.thumbnail is not None:
            if thumbnails:
                small = small_picture(examination.thumbnail, (examination.score or 0.0) >= _SEEN_ENOUGH)
            examination = without_thumbnail(examination)
        out.append((examination, small))
    return out


def without_thumbnail(examination: Examination) -> Examination:
    """The examination without its raw thumbnail, which is too large to send and keep."""
    from dataclasses import replace

    return replace(examination, thumbnail=None)
