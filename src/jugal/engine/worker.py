"""What runs in a worker process: a few files examined, within a memory ceiling."""

from __future__ import annotations

import io
import os
import resource

from PIL import Image

from jugal.engine.examine import examine_file
from jugal.model.result import Examination, Thumbnail

MEMORY_CEILING = 6 << 30


def prepare() -> None:
    """Sets the worker's memory ceiling. Mapped source files do not count towards it."""
    _, hard = resource.getrlimit(resource.RLIMIT_DATA)
    ceiling = MEMORY_CEILING if hard == resource.RLIM_INFINITY else min(MEMORY_CEILING, hard)
    resource.setrlimit(resource.RLIMIT_DATA, (ceiling, hard))
    resource.setrlimit(resource.RLIMIT_CORE, (0, resource.getrlimit(resource.RLIMIT_CORE)[1]))
    # Whoever waits at the window or the terminal goes before the run.
    os.nice(5)


def encode_thumbnail(thumbnail: Thumbnail, side: int = 192) -> bytes:
    """``thumbnail`` as a small JPEG for storage; the pixels are our own, so nothing foreign is decoded."""
    picture = Image.frombytes("RGB", (thumbnail.width, thumbnail.height), thumbnail.rgb)
    picture.thumbnail((side, side))
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=82)
    return out.getvalue()


def examine_group(paths: list[str], thumbnails: bool) -> list[tuple[Examination, bytes | None]]:
    """Examines ``paths`` one after the other; thumbnails leave the worker encoded."""
    out = []
    for path in paths:
        examination = examine_file(path)
        small = None
        if examination.thumbnail is not None:
            if thumbnails:
                small = encode_thumbnail(examination.thumbnail)
            examination = without_thumbnail(examination)
        out.append((examination, small))
    return out


def without_thumbnail(examination: Examination) -> Examination:
    """The examination without its raw thumbnail, which is too large to send and keep."""
    from dataclasses import replace

    return replace(examination, thumbnail=None)
