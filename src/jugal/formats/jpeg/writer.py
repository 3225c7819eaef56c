"""A small picture as a baseline JPEG of our own (ITU-T T.81), with the standard's typical tables."""

from __future__ import annotations

import struct

import numpy as np
from numpy.typing import NDArray
from scipy.fft import dctn

from jugal.formats.jpeg import spec
from jugal.formats.jpeg.entropy import code_bits
from jugal.formats.jpeg.parse import HuffmanTable
from jugal.kernels.stuffing import pack_bits

#: One step for every frequency: fine enough for a thumbnail, and small enough for an APP1 segment.
_STEPS = (12, 16)
_MATRIX = np.array([[0.299, 0.587, 0.114], [-0.168736, -0.331264, 0.5], [0.5, -0.418688, -0.081312]])


def picture_bytes(rgb: NDArray[np.uint8]) -> bytes:
    """``rgb`` (rows, columns, 3) as a JFIF picture without subsampling; at most 65,535 pixels a side."""
    height, width = rgb.shape[:2]
    padded = np.pad(rgb, ((0, -height % 8), (0, -width % 8), (0, 0)), mode="edge")
    planes = padded.astype(np.float64) @ _MATRIX.T - np.array([128.0, 0.0, 0.0])
    rows, columns = padded.shape[0] // 8, padded.shape[1] // 8
    blocks = planes.reshape(rows, 8, columns, 8, 3).transpose(0, 2, 4, 1, 3)
    steps = np.array([_STEPS[0], _STEPS[1], _STEPS[1]], np.float64)[:, None, None]
    levels = np.rint(dctn(blocks, axes=(3, 4), norm="ortho") / steps).astype(np.int64)
    levels = levels.reshape(rows * columns, 3, 64)[:, :, list(spec.ZIGZAG)]
    return b"".join(
        (
            b"\xff\xd8\xff\xe0\0\x10JFIF\0\1\1\0\0\1\0\1\0\0",
            *(b"\xff\xdb\0\x43" + bytes([k]) + bytes([step]) * 64 for k, step in enumerate(_STEPS)),
            struct.pack(">BBHBHHB", 0xFF, 0xC0, 17, 8, height, width, 3) + b"\1\x11\0\2\x11\1\3\x11\1",
            spec.annex_k_segments(),
            b"\xff\xda\0\x0c\3\1\0\2\x11\3\x11\0\x3f\0",
            pack_bits(np.array(_entropy(levels), np.uint8)),
            spec.MARK_EOI,
        )
    )


def _entropy(levels: NDArray[np.int64]) -> list[int]:
    """The bits of all MCUs (F.1.2) from levels (MCUs, components, 64) in zigzag order."""
    tables = {key: HuffmanTable(*table) for key, table in spec.ANNEX_K.items()}
    codes = {(key, symbol): code_bits(table, symbol) for key, table in tables.items() for symbol in table.symbols}
    bits: list[int] = []
    before = [0, 0, 0]
    for unit in levels.tolist():
        for component, block in enumerate(unit):
            kind = min(component, 1)
            change, before[component] = block[0] - before[component], block[0]
            bits += codes[kind, abs(change).bit_length()] + _magnitude(change)
            run = 0
            last = max((k for k in range(1, 64) if block[k]), default=0)
            for value in block[1 : last + 1]:
                if value == 0:
                    run += 1
                    continue
                while run > 15:
                    bits += codes[0x10 | kind, 0xF0]
                    run -= 16
                bits += codes[0x10 | kind, run << 4 | abs(value).bit_length()] + _magnitude(value)
                run = 0
            if last < 63:
                bits += codes[0x10 | kind, 0]
    return bits


def _magnitude(value: int) -> list[int]:
    size = abs(value).bit_length()
    raw = value if value > 0 else value + (1 << size) - 1
    return [raw >> (size - 1 - k) & 1 for k in range(size)]
