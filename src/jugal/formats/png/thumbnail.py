"""A thumbnail from inflated PNG data: rows unfiltered as far as they go, then thinned out."""

from __future__ import annotations

import numpy as np

from jugal.formats.png.parse import Header
from jugal.kernels.png import unfilter
from jugal.model.result import Thumbnail

MAX_SIDE = 256
_MAX_BYTES = 400 << 20


def thumbnail(header: Header, data: bytes, palette: bytes) -> Thumbnail | None:
    """The picture reduced to at most 256 pixels a side; None for interlaced pictures and those without a row."""
    stride = header.row_bytes + 1
    rows = min(header.height, len(data) // stride)
    if header.interlace or rows == 0 or len(data) > _MAX_BYTES:
        return None
    channels = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}[header.colour]
    pixels = np.frombuffer(data, np.uint8)[: rows * stride].reshape(rows, stride).copy()
    unfilter(pixels, max(1, channels * header.depth // 8))
    step = max(1, -(-max(header.width, header.height) // MAX_SIDE))
    kept = pixels[::step, 1:]
    if header.depth < 8:
        bits = np.unpackbits(kept, axis=1)[:, : header.width * header.depth].reshape(kept.shape[0], -1, header.depth)
        values = (bits * (1 << np.arange(header.depth - 1, -1, -1))).sum(axis=2).astype(np.uint8)
        if header.colour != 3:
            values = (values.astype(np.uint16) * 255 // ((1 << header.depth) - 1)).astype(np.uint8)
        samples = values[:, ::step, None]
    elif header.depth == 16:
        samples = kept[:, ::2].reshape(kept.shape[0], header.width, channels)[:, ::step]
    else:
        samples = kept.reshape(kept.shape[0], header.width, channels)[:, ::step]
    if header.colour == 3:
        table = np.zeros((256, 3), np.uint8)
        entries = np.frombuffer(palette[: len(palette) // 3 * 3], np.uint8).reshape(-1, 3)[:256]
        table[: entries.shape[0]] = entries
        rgb = table[samples[..., 0]]
    elif channels <= 2:
        rgb = np.repeat(samples[..., :1], 3, axis=2)
    else:
        rgb = samples[..., :3]
    full = np.full((-(-header.height // step), rgb.shape[1], 3), 128, np.uint8)
    full[: rgb.shape[0]] = rgb
    return Thumbnail(full.shape[1], full.shape[0], np.ascontiguousarray(full).tobytes())
