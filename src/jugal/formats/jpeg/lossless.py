"""Lossless Huffman-coded pictures (SOF3, ITU-T T.81 Annex H), which raw photographs are made of: line by line."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg import spec
from jugal.formats.jpeg.decode import Decoded, Layout, Picture, ScanError, lookup_tables, split_segments
from jugal.formats.jpeg.parse import Frame, HuffmanTable, Scan
from jugal.kernels.lossless import decode_lossless

_MOST_ERRORS = 4096


def followed(frame: Frame, scans: list[Scan]) -> bool:
    """Whether ``frame`` is one that is decoded here: lossless, a predictor named, restarts at the ends of lines (H.1.1)."""
    return frame.marker == spec.LOSSLESS and all(
        1 <= scan.ss <= 7 and scan.al < frame.precision and scan.restart_interval % _across(frame, scan)[0] == 0
        for scan in scans
    )


def decode_lines(frame: Frame, scans: list[Scan]) -> Picture:
    """Decodes all scans of a frame that is ``followed``. Units are lines of MCUs; the planes hold the means of 8 × 8 samples,
    counted from the middle of the range.
    """
    layout = Layout.of(frame)
    sums = np.zeros(layout.total, np.int32)
    decoded = [_decode_scan(frame, layout, scan, sums) for scan in scans]
    shift = {index: scan.al for scan in scans for index, _, _ in scan.components}
    planes = []
    for index, component in enumerate(frame.components):
        rows, stride, offset = int(layout.rows[index]), int(layout.stride[index]), int(layout.offset[index])
        down = _samples(rows, -(-frame.height * component.v // frame.v_max))
        across = _samples(stride, -(-frame.width * component.h // frame.h_max))
        plane = sums[offset : offset + rows * stride].reshape(rows, stride) / (down[:, None] * across)
        planes.append(np.rint(plane * (1 << shift.get(index, 0))).astype(np.int32))
    return Picture(frame, planes, decoded, layout)


def _samples(blocks: int, samples: int) -> NDArray[np.int64]:
    """How many of ``samples`` fall to each of ``blocks`` of eight, at least 1."""
    return np.clip(samples - 8 * np.arange(blocks), 1, 8)


def _across(frame: Frame, scan: Scan) -> tuple[int, int]:
    """MCUs a line and lines of a scan (A.2, H.1.1); a data unit is one sample."""
    if len(scan.components) > 1:
        return -(-frame.width // frame.h_max), -(-frame.height // frame.v_max)
    component = frame.components[scan.components[0][0]]
    return -(-frame.width * component.h // frame.h_max), -(-frame.height * component.v // frame.v_max)


def _decode_scan(frame: Frame, layout: Layout, scan: Scan, sums: NDArray[np.int32]) -> Decoded:
    across, lines = _across(frame, scan)
    segments = split_segments(scan, lines, scan.restart_interval // across)
    indices = [index for index, _, _ in scan.components]
    fast, full = lookup_tables(
        tuple(scan.tables.get(td) or HuffmanTable(bytes(16), b"") for _, td, _ in scan.components)
    )
    single = len(indices) == 1
    h = np.array([1 if single else frame.components[i].h for i in indices], np.int64)
    v = np.array([1 if single else frame.components[i].v for i in indices], np.int64)
    line_pos = np.full(lines, -1, np.int64)
    done, used = np.zeros(segments.start.size, np.int64), np.zeros(segments.start.size, np.int64)
    err = [np.zeros(_MOST_ERRORS, np.int64) for _ in range(3)]
    count = decode_lossless(
        scan.entropy.clean, segments.start, segments.end, segments.mcu, segments.count, across, h, v,
        np.arange(len(indices)), fast, full, scan.ss, frame.precision - scan.al,
        layout.stride[indices], layout.offset[indices], sums, line_pos, done, used, *err,
    )  # fmt: skip
    kept = min(int(count), _MOST_ERRORS)
    at = scan.entropy.raw_offsets(np.minimum(err[0][:kept] >> 3, scan.entropy.length))
    errors = [ScanError(int(k), int(m), int(p)) for p, m, k in zip(at, err[1][:kept], err[2][:kept], strict=True)]
    return Decoded(scan, lines, 1, segments, done, used, line_pos, errors, int(count))
