"""Small pictures of what the examination draws none of: clips, sounds, documents, pictures of other makers' formats.

They are decoded in a child process by general libraries and show what the file shows; no verdict comes of them.
"""

from __future__ import annotations

import io
import logging
from collections.abc import Iterator
from concurrent.futures.process import BrokenProcessPool

from jugal.app.bridge.decode import limit_memory, render
from jugal.case.store import Case
from jugal.engine.workers import Workers
from jugal.model.small import Small

_DEADLINE_S = 20
_SIDE = 192
_TOGETHER = 16
log = logging.getLogger(__name__)


def small_of(path: str, format_name: str, kind: str) -> bytes:
    """A JPEG of at most 192 pixels across; empty where the file shows no picture. Runs in the child."""
    from PIL import Image

    preview = render(path, format_name, kind)
    if not preview.width:
        return b""
    picture = Image.frombytes("RGB", (preview.width, preview.height), preview.rgb)
    picture.thumbnail((_SIDE, _SIDE))
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=82)
    return out.getvalue()


def draw_missing(case: Case) -> Iterator[tuple[int, ...]]:
    """Draws what is missing in the case, a few at a time; yields the numbers of the files that got a picture.

    What cannot be drawn is remembered and not tried again until the file is examined anew.
    """
    missing = case.without_picture()
    if not missing:
        return
    workers = Workers(1, limit_memory)
    try:
        for at in range(0, len(missing), _TOGETHER):
            part = missing[at : at + _TOGETHER]
            futures = [workers.submit(small_of, (path, name, kind), _DEADLINE_S) for _, path, name, kind in part]
            drawn = []
            for (number, path, name, kind), future in zip(part, futures, strict=True):
                try:
                    try:
                        jpeg = future.result()
                    except BrokenProcessPool:  # perhaps the fault of another one
                        jpeg = workers.submit(small_of, (path, name, kind), _DEADLINE_S).result()
                except Exception as error:  # a decoder may raise anything or die; the file then has no small picture
                    log.info("no small picture of %s: %s", path, error)
                    jpeg = b""
                drawn.append((number, Small(jpeg)))
            case.put_pictures(drawn)
            yield tuple(number for number, small in drawn if small.jpeg)
    finally:
        workers.stop()
