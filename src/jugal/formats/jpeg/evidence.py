"""What is known of the codes of a table that is only supposed: which of them are sure, and what speaks for the others."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.formats.jpeg.surroundings import Surroundings
from jugal.formats.jpeg.unknown import TRAIL, WORD, Code, Likely, Lookup, Reading, UnknownScan, codes_of, symbols_of
from jugal.kernels.evidence import gather
from jugal.kernels.optimal import LONGEST
from jugal.kernels.supposed import BIT

#: The share of all 16 bits behind the codes that are trusted at least, and how often each of those must have come.
SHARE, _OFTEN = 0.06, 60
#: How much a length that differs from the expected one costs, and at most (bits).
_STRAIN, _MOST_STRAIN, _FREE = 0.35, 12.0, 0.7
#: What a symbol costs that is not expected at all, in AC tables (more by its size) and in DC tables, and how often, log2, one is that is.
_ABSENT, _ABSENT_DC, _EXPECTED = 4.0, 8.0, -1.0
#: Places that are looked at for evidence, what the best reading behind one must speak at least, and what is enough behind codes
#: that speak for being in step for so long (bits).
_PLACES, _TELLING, _LITTLE, _LONG = 5_000, 18.0, 6.0, 40
#: How far behind the best reading one counts (bits), where others begin to be as likely by chance, and what the best one has ahead
#: of that, of which so much is believed.
_WORST, _DOUBT, _BIAS, _TRUST = -25.0, -12.0, 5.0, 0.7


@dataclass(frozen=True, slots=True)
class Trust:
    """The shortest codes of a table, which are sure: all those of up to ``length`` bits, before the 16 bits ``begin``."""

    codes: list[Code]
    length: int
    begin: int


def trusted(row: NDArray[np.uint16], own: NDArray[np.int64], share: float) -> Trust:
    """The codes of a table up to the length at which all symbols came often, or ``share`` of all bits is left at most."""
    codes = codes_of(row)
    length, begin, kept = 0, 0, 0
    for bits in range(1, LONGEST + 1):
        end, k = begin, kept
        while k < len(codes) and codes[k][0] == end and codes[k][1] == bits and own[codes[k][2]] >= _OFTEN:
            end += 1 << (LONGEST - bits)
            k += 1
        if k < len(codes) and codes[k][0] == end and codes[k][1] <= bits:
            break  # a code that is rare, or out of order
        length, begin, kept = bits, end, k
        # Behind the last code there may be others that the table should have.
        if k == len(codes) or (1 << LONGEST) - begin <= share * (1 << LONGEST):
            break
    return Trust(codes[:kept], length, begin)


@dataclass(frozen=True, slots=True)
class Evidence:
    """What speaks for the lengths and symbols of a table's codes behind those that are trusted."""

    trust: Trust
    #: Symbols that are left, ascending.
    symbols: NDArray[np.int64]
    #: What speaks for a symbol having a code of a length, (17, 256).
    prior: NDArray[np.float64]
    #: Summed up over places, (places + 1, lengths, symbols), of which so many lie before so many 16 bits, (65537).
    summed: NDArray[np.float32]
    placed: NDArray[np.int64]
    #: How many codes were met before so many 16 bits, (65537).
    often: NDArray[np.int64]


def evidence_of(
    scan: UnknownScan,
    lookup: Lookup,
    likely: Likely,
    own: NDArray[np.int64],
    reading: Reading,
    table: int,
    trust: Trust,
    seed: int,
    surroundings: Surroundings | None = None,
) -> Evidence:
    """What the places at which codes of a table were met in step say of them, and what their ``surroundings`` do."""
    known = {symbol for _, _, symbol in trust.codes}
    symbols = np.array([s for s in symbols_of(table) if s not in known], np.int64)
    expected = np.log2(np.maximum(np.exp2(scan.expected[table]), own[table]))
    usual = np.minimum(LONGEST + 1.0, np.log2(np.exp2(expected).sum()) - expected)
    away = np.maximum(0.0, np.abs(np.arange(LONGEST + 1)[:, None] - usual) - _FREE)
    sizes = np.arange(256) & 15
    absent = _ABSENT + np.maximum(0, sizes - 2) if table > 1 else np.full(256, _ABSENT_DC)
    prior = -np.minimum(_MOST_STRAIN, _STRAIN * away**2) - np.where(expected >= _EXPECTED, 0.0, absent)
    places = _chosen_places(scan.data, reading.places(table, trust.begin), lookup[table], seed)
    values = np.zeros((len(places), LONGEST - trust.length, symbols.size), np.float32)
    gather(
        scan.data, scan.end, lookup, *scan.blocks.arrays, likely, scan.usual, places, trust.length + 1, symbols, values
    )
    best = values.max(axis=(1, 2), initial=0.0)
    telling = best > np.where(places[:, TRAIL] > _LONG, _LITTLE, _TELLING)
    values -= best[:, None, None]
    np.maximum(values, _WORST, out=values)
    np.logaddexp(values, np.float32(_DOUBT), out=values)
    values += _BIAS
    values *= _TRUST
    if surroundings is not None:
        values[~telling] = 0.0
        entries = lookup[table][places[:, WORD]].astype(np.int64)
        rows = (entries >> 8) - trust.length - 1
        coded = np.flatnonzero(rows >= 0)
        values[coded, rows[coded]] += surroundings.said(places[coded], entries[coded] & 255, symbols)
        telling[:] = True
    places = places[telling]
    summed = np.zeros((int(telling.sum()) + 1, *values.shape[1:]), np.float32)
    for length in range(values.shape[1]):
        summed[1:, length] = np.cumsum(values[telling, length], axis=0, dtype=np.float64)
    placed = np.searchsorted(places[:, WORD], np.arange((1 << LONGEST) + 1)).astype(np.int64)
    return Evidence(trust, symbols, prior, summed, placed, reading.often(table))


def _chosen_places(
    data: NDArray[np.uint8], places: NDArray[np.int32], row: NDArray[np.uint16], seed: int
) -> NDArray[np.int64]:
    """Some places of each code, of each as many as of others or all, ordered by the bits they begin with.

    Of places with the same bits behind them one is taken: what is repeated, as patterns are, is no new evidence.
    """
    _, first = np.unique(_bits_behind(data, places[:, BIT]), return_index=True)
    places = places[np.random.default_rng(seed).permutation(first)]
    begins = np.zeros(row.size, np.int64)
    begins[[first for first, _, _ in codes_of(row)]] = 1
    code = np.cumsum(begins)[places[:, WORD]]
    order = np.argsort(code, kind="stable")
    places, code = places[order], code[order]
    rank = np.arange(len(places)) - np.searchsorted(code, code)
    places = places[np.argsort(rank, kind="stable")[:_PLACES]]
    return places[np.argsort(places[:, WORD], kind="stable")].astype(np.int64)


def _bits_behind(data: NDArray[np.uint8], bits: NDArray[np.int32]) -> NDArray[np.uint64]:
    """The 56 bits or more that follow each of ``bits``, as one number."""
    found = np.zeros(bits.size, np.uint64)
    for k in range(8):
        found = found << np.uint64(8) | data[(bits >> 3) + k].astype(np.uint64)
    return found << (bits & 7).astype(np.uint64)
