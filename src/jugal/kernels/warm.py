"""Compiles every kernel once, so that the first file is not the slow one. Run by ``make setup``."""

from __future__ import annotations

import sys
import time

import numpy as np

from jugal.kernels import (
    aac,
    alac,
    blockstats,
    cabac,
    cavlc,
    edges,
    evidence,
    fitting,
    flac,
    frequencies,
    heads,
    hevc,
    jpeg,
    lossless,
    mp3,
    nal,
    naming,
    optimal,
    png,
    prores,
    seams,
    settling,
    stairs,
    stuffing,
    supposed,
    visual,
)
from jugal.kernels.macroblocks import Form, P


def warm() -> None:
    """Calls each kernel on a few bytes with the array types that the examiners use."""
    frozen = np.zeros(8192, np.uint8)
    frozen.flags.writeable = False
    i64, i16, i8 = (lambda n, t=t: np.zeros(n, t) for t in (np.int64, np.int16, np.int8))
    floats = np.zeros(2, np.float32)
    pages = np.zeros(2, np.bool_)
    blockstats.survey_pages(frozen, 0.8, 8, 64, i16(16), pages, pages, i16(16))
    blockstats.page_entropy(frozen, i64(2), floats)
    blockstats.find_bytes(frozen, np.frombuffer(b"moov", np.uint8), 0, 8192)
    blockstats.page_glance(frozen, floats)
    clean = np.zeros(8192 + 32, np.uint8)
    stuffing.unstuff(frozen, 0, 64, 64, clean, 0, i64(32), i64(32), i64(32), i64(32), i16(32))
    one = np.ones(1, np.int64)
    fast, full = np.zeros((1, 1024), np.uint16), np.zeros((1, 65536), np.uint16)
    zero = i64(1)
    groups = np.zeros((1, 1 << jpeg.GROUP_BITS), np.uint16)
    jpeg.group_codes(full, groups)
    tables = (one, one, zero, zero, fast, full)
    for places in (np.zeros(4, np.int32), i64(4)):
        jpeg.decode_sequential(
            clean, zero, one, zero, one, 1, *tables, groups, one, zero, np.zeros(4, np.int16), places, i64(1), i64(1),
            i64(4), i64(4), i64(4), one * 99, False,
        )  # fmt: skip
    jpeg.decode_progressive(
        clean,
        zero,
        one,
        zero,
        one,
        1,
        True,
        *tables,
        one,
        zero,
        np.zeros(4, np.int16),
        np.zeros(4, np.uint64),
        0,
        0,
        0,
        0,
        np.zeros(4, np.int32),
        i64(1),
        i64(1),
        i64(4),
        i64(4),
        i64(4),
    )
    for dc in (np.zeros((1, 1), np.int16), np.zeros((1, 1), np.int32)):
        read = (zero, zero, zero, fast, full, groups, one * 99)
        jpeg.next_run(clean, 0, 8, 64, *read, 1, dc, np.zeros(2, np.int32))
        for places in (np.zeros(2, np.int32), i64(2)):
            jpeg.decode_run(clean, 0, 64, *read, dc, places, np.zeros((0, 1, 64), np.int16))
    whole = (clean, zero, one, 0, i64(17)[None], i64(17)[None], i64(fitting.SYMBOLS)[None])
    fitting.try_tables(*whole, zero[None], zero, one, one, 1, 1, one, 1.0, i64(1), zero, np.zeros(1), i64(1))
    fitting.count_categories(*whole, zero, zero, one, one, 1, 1, one, i64(1), zero, 1, i64(fitting.SYMBOLS)[None])
    _warm_search(clean)
    lossless.decode_lossless(
        clean, zero, one, zero, one, 1, one, one, zero, fast, full, 1, 8,
        one, zero, np.zeros(4, np.int32), i64(1), i64(1), i64(1), i64(4), i64(4), i64(4),
    )  # fmt: skip
    stairs.stair_sums(np.zeros(64, np.float32), 8, 0, 2, np.zeros(64, np.float32))
    stairs.stair_heights(np.zeros(64, np.float32), 8, 0, 2, 0.5, -1.0, np.zeros(64, np.float32))
    edges.edge_means(
        np.zeros((1, 1, 64), np.int16), zero, np.int64(0), zero, np.zeros(1, np.float32), np.zeros(1, np.float32)
    )
    side, few = np.zeros((8, 8), np.float32), np.zeros(8, np.float32)
    seams.side_distances(side, side, np.zeros(8), 1.0, np.zeros(8))
    seams.row_distances(side, side, few, few, 4, False, 1.0, np.zeros(4))
    seams.seam_scores(side, side, few, few, 4, False, np.ones((2, 2)), 1.0, 1.0, 2.0, 0.5, 1.0, np.zeros(4))
    nal.walk_samples(frozen, zero, one, 4, False, False, i8(1), i64(1))
    row = np.zeros((1, len(heads.COLUMNS)), np.int64)
    heads.read_heads(frozen, zero, one, 4, False, np.zeros((4, heads.KNOWN), np.int64), i8(1), row)
    heads.misnumbered(row, 16, 8, np.zeros(1, np.bool_))
    figures = (aac.bands(3), aac.books())
    aac.parse_samples(frozen, zero, one, 1, 0, False, *figures, i8(1))
    aac.parse_block(frozen, 0, 64, 1, 0, False, *figures)
    aac.parse_run(frozen, 0, 64, 4, 1, 0, False, *figures, i64(4))
    config = np.array((4096, 16, 40, 10, 14, 2), np.int64)
    alac.parse_samples(frozen, zero, one, config, i8(1))
    alac.parse_run(frozen, 0, 64, 4, config, i64(4))
    alac.find_run(frozen, 0, 8, 64, -1, 4, config)
    alac.find_sized(frozen, 0, 8, 64, config)
    aac.find_run(frozen, 0, 8, 64, -1, 4, 1, 0, False, *figures)
    aac.find_sized(frozen, 0, 8, 16, 1, 0, False, *figures)
    form = Form(P, 0, 4, 8, 1, 1, 1, 1, 2, 3072)
    cabac.read_slice(frozen[:64], 0, 500, 26, form, cabac.context_starts(0))
    cavlc.read_slice(frozen[:64], 0, 500, form, cavlc.figures())
    picture = hevc.Form._make((hevc.I, 0, 64, 64, 4, 3, 2, 4, *(0,) * 22, 1, 0))
    hevc.read_segment(frozen[:64], 0, 500, 26, picture)
    for data in (clean, frozen):  # clips are followed in what was joined of them, and sought in what was read
        visual.read_plane(data, 0, 64, visual.Form(visual.I, 4, 5, 13, 1, 1, 1, 5), np.zeros(4, np.uint8))
    mp3.walk_frames(frozen, 0, 64, mp3.BITRATES, mp3.RATES, i64(8), np.zeros((4, 2), np.int64))
    flac.walk_frames(frozen, 0, 64, flac.CRC8, flac.CRC16, 64, i64(8), i64(8), i64(8), i64(8), i8(8))
    prores.frame_faults(frozen, zero, one, i64(1))
    png.unfilter(np.zeros((2, 9), np.uint8), 3)


def _warm_search(data: np.ndarray) -> None:
    """The kernels by which lost Huffman tables of a sequential scan are sought, on no data."""
    word, length, contexts = 1 << 16, optimal.LONGEST, supposed.CONTEXTS
    one, zero, number, order = (
        np.ones(1, np.int64),
        np.zeros(1, np.int64),
        np.zeros(17, np.int64),
        np.zeros(256, np.int64),
    )
    lookup, counts = np.zeros((4, word), np.uint16), np.ones((4, 256), np.int64)
    likely, blocks = np.zeros((4, contexts, 256), np.float32), (zero, zero, zero + 2)
    optimal.fit_code(counts[0], number, order, order.copy())
    optimal.fill_lookup(number, order, lookup[0])
    met, starts = np.zeros((1, supposed.WIDTH + 3), np.int32), np.zeros((1, supposed.WIDTH), np.int32)
    gains, chosen, sure = np.zeros(1, np.float32), np.ones(1, np.bool_), np.ones((4, 256), np.bool_)
    tallies = np.zeros((4, contexts, 256), np.int64)
    supposed.read_scan(data, 8, lookup, *blocks, likely, np.full(4, length), met, starts, gains, tallies, chosen, sure)
    supposed.score_spans(data, zero, one, lookup, *blocks, likely, 12.0)
    supposed.in_step(gains, 12.0, chosen)
    often, scores = np.zeros((4, 256)), np.zeros(1)
    frequencies.fit_lookup(often[0], number, order, lookup[0])
    frequencies.score_mixtures(data, zero, one, often[None], np.ones((1, 1)), *blocks, likely, 12.0, scores)
    frequencies.anneal(
        data, zero, one, often, often.copy(), 1.0, *blocks, likely, 12.0, often + 1.0, 1, 2.0, 1.0, 0.5, 1,
    )  # fmt: skip
    symbols, weighed = np.arange(2), np.zeros((2, length, 2), np.float32)
    evidence.gather(data, 8, lookup, *blocks, likely, likely, met.astype(np.int64), 1, symbols, weighed[:1])
    prior, price, names, placed = (
        np.zeros((17, 2)),
        np.zeros(2),
        np.zeros(settling.MOST_CODES, np.int64),
        np.zeros(word + 1, np.int64),
    )
    settling.place_symbols(np.arange(1, 17), number[1:], False, 0, placed, weighed, prior, price, names)
    settling.misfit(zero.repeat(17), placed, zero[:0], symbols, names, np.zeros((3, 256), np.int64))
    settling.settle_lengths(
        np.array([0, 1, *(0,) * 15]),
        0,
        placed,
        placed,
        zero[:0],
        symbols,
        weighed,
        prior,
        price,
        2.0,
        1,
        2.0,
        1,
        number[None],
        scores,
    )
    settling.fills(number, 0, 1)
    naming.anneal_names(
        data,
        zero,
        one,
        lookup,
        *blocks,
        likely,
        12.0,
        2,
        zero,
        one,
        symbols,
        np.zeros((1, 2)),
        np.ones(1),
        zero.copy(),
        1,
        2.0,
        1.0,
        1,
    )


if __name__ == "__main__":
    started = time.perf_counter()
    warm()
    print(f"Kernels ready after {time.perf_counter() - started:.1f} s.", file=sys.stderr)
