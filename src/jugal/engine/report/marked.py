"""A small picture with its damage drawn on it, for the report."""

from __future__ import annotations

import io
from collections.abc import Sequence

from PIL import Image, ImageDraw

from jugal.model.result import Region

_EDGE = (217, 138, 43)
_STEP = 7


def draw_damage(jpeg: bytes, regions: Sequence[Region]) -> bytes:
    """``jpeg`` (one of our own) with the regions hatched and framed, so that they can be told without colour."""
    if not regions:
        return jpeg
    with Image.open(io.BytesIO(jpeg)) as stored:
        picture = stored.convert("RGB")
    hatch = Image.new("L", picture.size, 0)
    lines = ImageDraw.Draw(hatch)
    for x in range(-picture.height, picture.width, _STEP):
        lines.line((x, picture.height, x + picture.height, 0), fill=150, width=1)
    mask = Image.new("L", picture.size, 0)
    frames = ImageDraw.Draw(mask)
    boxes = [
        (
            round(r.left * picture.width),
            round(r.start * picture.height),
            max(1, round(r.right * picture.width) - 1),
            max(1, round(r.end * picture.height) - 1),
        )
        for r in regions
    ]
    for left, top, right, bottom in boxes:
        box = (left, top, max(left, right), max(top, bottom))
        mask.paste(hatch.crop((box[0], box[1], box[2] + 1, box[3] + 1)), (box[0], box[1]))
        frames.rectangle(box, outline=255)
    picture.paste(_EDGE, (0, 0), mask)
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=85)
    return out.getvalue()
