"""The DC picture as a thumbnail: one eighth of the picture's size, from the examination's own decoding."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.colours import SHOWN
from jugal.formats.jpeg.decode import Picture
from jugal.formats.jpeg.parse import Structure
from jugal.model.result import Thumbnail

MAX_SIDE = 256


_NAMED_RGB = (ord("R"), ord("G"), ord("B"))


def is_luminance_first(subject: Subject, structure: Structure) -> bool:
    """Whether the first three components are luminance and colour differences, as common decoders tell it.

    By the transform that an Adobe segment names, else by JFIF, else by the components' names; lossless ones are RGB.
    """
    frame = structure.frame
    if frame is None or len(frame.components) < 3:
        return False
    jfif = False
    for segment in structure.segments:
        body = subject.source.read(segment.start + 4, 12) if segment.marker in (spec.APP0, spec.APP14) else b""
        if body[:5] == b"Adobe" and len(body) == 12:
            return body[11] == 2 if len(frame.components) == 4 else body[11] != 0
        jfif |= body[:5] == b"JFIF\0"
    named_rgb = tuple(c.ident for c in frame.components) == _NAMED_RGB
    return len(frame.components) == 3 and (jfif or not (named_rgb or frame.marker == spec.LOSSLESS))


def dc_rgb(picture: Picture, structure: Structure, luminance_first: bool) -> NDArray[np.uint8]:
    """The DC picture as uint8 (rows, columns, 3), one sample for each block of the finest component."""
    frame = picture.frame
    height = frame.mcus_y * frame.v_max
    width = frame.mcus_x * frame.h_max
    step = max(1, -(-max(height, width) // (2 * MAX_SIDE)))
    rows, cols = np.arange(0, height, step), np.arange(0, width, step)
    middle = float(1 << (frame.precision - 1))
    scale = 255.0 / ((1 << frame.precision) - 1)
    planes = []
    for component, plane in zip(frame.components, picture.dc, strict=True):
        quant = structure.quant.get(component.tq)
        factor = (float(quant[0]) if quant is not None else 8.0) / 8.0
        sample = plane[rows * component.v // frame.v_max][:, cols * component.h // frame.h_max]
        planes.append((sample.astype(np.float32) * factor + middle) * scale)
    crop_rows = math.ceil(math.ceil(frame.height / 8) / step)
    crop_cols = math.ceil(math.ceil(frame.width / 8) / step)
    planes = [p[:crop_rows, :crop_cols] for p in planes]
    if len(planes) < 3:
        rgb = np.repeat(planes[0][..., None], 3, axis=2)
    else:
        first = np.stack(planes[:3], axis=2)
        rgb = (
            (first - np.array((0.0, 128.0, 128.0), np.float32)) @ SHOWN.T.astype(np.float32)
            if luminance_first
            else first
        )
        if len(planes) == 4:
            # Adobe writes inverted CMYK: 255 is no ink.
            rgb = rgb * (planes[3][..., None] / 255.0)
    return np.clip(rgb, 0, 255).astype(np.uint8)


def thumbnail_of(rgb: NDArray[np.uint8]) -> Thumbnail:
    """``rgb`` reduced by whole steps to at most 256 pixels a side."""
    step = max(1, -(-max(rgb.shape[:2]) // MAX_SIDE))
    small = np.ascontiguousarray(rgb[::step, ::step])
    return Thumbnail(small.shape[1], small.shape[0], small.tobytes())
