"""The small picture of a file as it is kept: a JPEG to show and a sight to compare by."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Small:
    """``jpeg`` is the thumbnail; ``sight`` 32 bytes that are nearly the same for the same picture in any size or
    quality, None where the picture has too little in it to tell it from others."""

    jpeg: bytes
    sight: bytes | None = None
