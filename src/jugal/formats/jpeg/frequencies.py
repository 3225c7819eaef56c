"""Huffman tables that a picture is likely to have, by how often symbols may come in it: the first step to those it had.

A like picture's MCUs, quiet ones and busy ones, are mixed in other shares, which gives other tables (T.81 K.2); the mixture by
which most of the data falls into step is then changed symbol by symbol.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.unknown import CHANGE, KnownScan, Lookup, UnknownScan
from jugal.kernels.frequencies import ABSENT, anneal, fit_lookup, score_mixtures
from jugal.kernels.optimal import LONGEST

#: Bits of each of the parts of the scan that tables are tried on, and how many there are.
_SPAN, _SPANS = 32_000, 4
#: Kinds of MCUs, mixtures tried at first, the best of them that are kept, children of each, and rounds of those.
_KINDS, _MIXTURES, _KEPT, _CHILDREN, _ROUNDS = 8, 3_000, 10, 40, 12
_NEVER = -99.0
#: Changes tried, from how hot to how cold (bits), and how far frequencies are changed (log2), again and again: so often, and where too
#: little speaks for what was found as yet so often at most.
_HEATS = ((8_000, 100.0, 15.0, 0.8), (8_000, 60.0, 5.0, 0.8), (8_000, 20.0, 3.0, 0.5))
_CYCLES, _MOST_CYCLES = 3, 9
#: What it costs to differ from the mixture by a factor of two, and how often each table is changed.
_PULL, _SHARES = 1.0, (1.0, 0.7, 4.0, 1.5)
#: The share of what the like picture speaks for its own tables, per bit, that any must reach: behind the mixtures, behind the rest.
_HOPE, _ENOUGH = 0.1, 0.35


def likely_tables(scan: UnknownScan, stopped: Callable[[], bool]) -> Lookup | None:
    """Tables by which much of the scan is read in step; None where there are none, or where it was ``stopped``."""
    begins = np.array([k * scan.end // _SPANS for k in range(_SPANS)], np.int64) // 8 * 8
    ends = np.minimum(begins + _SPAN, scan.end)
    fair = scan.like.gain(scan.usual) / scan.like.end * int((ends - begins).sum())
    mixed, reached = _mixture(scan, begins, ends)
    if reached < _HOPE * fair:
        return None
    frequencies = np.where(mixed > 0, np.log2(np.maximum(mixed, 0.5)), _NEVER)
    usual = frequencies.copy()
    chances = np.where(frequencies > ABSENT, np.sqrt(np.maximum(mixed, 1.0)), 0.0)
    chances = np.minimum(chances, chances.max() / 8)
    chances *= np.array(_SHARES)[:, None] / np.maximum(chances.sum(axis=1, keepdims=True), 1e-9)
    for cycle in range(_MOST_CYCLES):
        if cycle >= _CYCLES and reached >= _ENOUGH * fair:
            break
        for number, (steps, hot, cold, stride) in enumerate(_HEATS):
            if stopped():
                return None
            reached = anneal(
                scan.data, begins, ends, frequencies, usual, _PULL, *scan.blocks.arrays, scan.usual, CHANGE, chances,
                steps, hot, cold, stride, 1 + cycle * len(_HEATS) + number,
            )  # fmt: skip
    if reached < _ENOUGH * fair:
        return None
    lookup = np.zeros((4, 1 << LONGEST), np.uint16)
    for table in range(4):
        fit_lookup(frequencies[table], np.zeros(LONGEST + 1, np.int64), np.zeros(256, np.int64), lookup[table])
    return lookup


def _mixture(
    scan: UnknownScan, begins: NDArray[np.int64], ends: NDArray[np.int64]
) -> tuple[NDArray[np.float64], float]:
    """How often symbols come in the mixture of the like picture's MCUs for which most speaks (4, 256), and how much that is."""
    rng = np.random.default_rng(0)
    palette = _palette(scan.like) * scan.units
    shares = rng.dirichlet(np.full(_KINDS, 0.5), _MIXTURES)
    for turn in range(_ROUNDS + 1):
        scores = np.zeros(len(shares))
        score_mixtures(
            scan.data, begins, ends, palette, shares, *scan.blocks.arrays, scan.usual, CHANGE, scores
        )  # fmt: skip
        order = np.argsort(-scores)[:_KEPT]
        best = shares[order]
        if turn < _ROUNDS:
            children = np.repeat(best, _CHILDREN, axis=0) + 1e-3
            children *= np.exp(rng.normal(0.0, 0.7, children.shape))
            shares = np.concatenate([best, children])
            shares /= shares.sum(axis=1, keepdims=True)
    return np.einsum("k,kts->ts", best[0], palette), float(scores[order[0]])


def _palette(like: KnownScan) -> NDArray[np.float64]:
    """How often symbols come in an MCU of each kind, from the quietest to the busiest, (kinds, 4, 256)."""
    bits = np.diff(like.starts, append=like.end)
    kind = np.searchsorted(np.quantile(bits, np.linspace(0, 1, _KINDS + 1)[1:-1]), bits)
    chosen = [kind == k for k in range(_KINDS)]
    return np.stack([like.counts(c).sum(axis=1) / max(1, int(c.sum())) for c in chosen])
