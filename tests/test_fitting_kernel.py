"""Scans of DC values read with supposed tables: held against a plain writer of such scans and the standard's own flow charts."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from jugal.formats.jpeg.fitted import _Coded, code_lengths
from jugal.kernels.fitting import SYMBOLS, count_categories, try_tables

Lengths = tuple[int, ...]
#: Sampling of the components: blocks across and down in an MCU.
SHAPES = {
    "grey": [(1, 1)],
    "fine": [(1, 1), (1, 1), (1, 1)],
    "usual": [(2, 2), (1, 1), (1, 1)],
    "upright": [(1, 2), (1, 1), (1, 1)],
}


def by_the_flow_charts(counts: list[int]) -> Lengths:
    """T.81 figures K.1 to K.4, step by step."""
    freq = [*counts, 1]
    size, others = [0] * len(freq), [-1] * len(freq)

    def chain(at: int) -> list[int]:
        return [at] if others[at] < 0 else [at, *chain(others[at])]

    while True:
        left = [i for i, f in enumerate(freq) if f]
        if len(left) == 1:
            break
        one = min(left, key=lambda i: (freq[i], -i))
        two = min((i for i in left if i != one), key=lambda i: (freq[i], -i))
        freq[one] += freq[two]
        freq[two] = 0
        first, second = chain(one), chain(two)
        for at in first + second:
            size[at] += 1
        others[first[-1]] = two
    bits = [size.count(length) for length in range(max(size) + 33)]
    for i in range(len(bits) - 1, 16, -1):
        while bits[i] > 0:
            j = i - 2
            while bits[j] == 0 or j == 0:
                j -= 1
            bits[i] -= 2
            bits[i - 1] += 1
            bits[j + 1] += 2
            bits[j] -= 1
    last = max(i for i in range(1, 17) if bits[i])
    bits[last] -= 1
    ranked = sorted((s for s in range(len(counts)) if size[s]), key=lambda s: (size[s], s))
    found = [0] * len(counts)
    for symbol, length in zip(ranked, [i for i in range(1, 17) for _ in range(bits[i])], strict=True):
        found[symbol] = length
    return tuple(found)


@settings(max_examples=150)
@example([6, 22, 16, 23, 130, 84, 457, 284, 729, 729, 729, 10385, 6275, 4110, 2166, 1, 34978, 21103, 153])
@given(
    st.lists(st.one_of(st.integers(0, 6), st.integers(0, 1 << 18)), min_size=2, max_size=60).filter(
        lambda c: sum(map(bool, c)) > 1
    )
)
def test_code_lengths_are_those_of_the_standards_flow_charts(counts: list[int]) -> None:
    assert code_lengths(np.array(counts)) == by_the_flow_charts(counts)


def test_lengths_beyond_sixteen_are_brought_in() -> None:
    """Frequencies that double from one symbol to the next ask for a code of one more bit each."""
    counts = [1 << k for k in range(24)]
    lengths = code_lengths(np.array(counts))
    assert max(lengths) == 16 and lengths == by_the_flow_charts(counts)


def padded(lengths: Lengths) -> Lengths:
    return lengths + (0,) * (SYMBOLS - len(lengths))


def words(lengths: Lengths) -> dict[int, str]:
    """The code word of each category (T.81 C.2), as a string of bits."""
    found, code, before = {}, 0, 0
    for symbol in sorted((s for s, length in enumerate(lengths) if length), key=lambda s: (lengths[s], s)):
        code <<= lengths[symbol] - before
        found[symbol] = f"{code:0{lengths[symbol]}b}"
        code, before = code + 1, lengths[symbol]
    return found


class Scan:
    """A scan of random walks of DC values, written with tables that were fitted to it."""

    def __init__(self, shape: str, across: int, down: int, interval: int, seed: int) -> None:
        rng = np.random.default_rng(seed)
        self.h, self.v = (np.array(x, np.int64) for x in zip(*SHAPES[shape], strict=True))
        self.table_of = np.array([0] + [1] * (len(self.h) - 1), np.int64)
        self.across, self.down, self.interval = across, down, interval
        self.planes = []
        for h, v in SHAPES[shape]:
            ground = np.add.outer(np.arange(down * v), np.arange(across * h)) * 1.5
            self.planes.append(np.rint(ground + rng.normal(0, 6, ground.shape)).astype(np.int64))
        changes = [c for part in self._changes() for c in part]
        counts = np.zeros((int(self.table_of.max()) + 1, SYMBOLS), np.int64)
        for component, change in changes:
            counts[self.table_of[component], abs(change).bit_length()] += 1
        self.counts = counts
        self.lengths = [code_lengths(c) for c in counts]
        parts = [self._coded(part) for part in self._changes()]
        self.data = np.frombuffer(b"".join(parts) + bytes(16), np.uint8)
        self.ends = 8 * np.cumsum([len(p) for p in parts]).astype(np.int64)
        self.begins = np.concatenate(([0], self.ends[:-1])).astype(np.int64)

    def _changes(self) -> list[list[tuple[int, int]]]:
        parts: list[list[tuple[int, int]]] = [[]]
        last = [0] * len(self.planes)
        for unit in range(self.across * self.down):
            if self.interval and unit and unit % self.interval == 0:
                parts.append([])
                last = [0] * len(self.planes)
            y, x = divmod(unit, self.across)
            for c, plane in enumerate(self.planes):
                for block in range(int(self.h[c] * self.v[c])):
                    below, beside = divmod(block, int(self.h[c]))
                    value = int(plane[y * self.v[c] + below, x * self.h[c] + beside])
                    parts[-1].append((c, value - last[c]))
                    last[c] = value
        return parts

    def _coded(self, part: list[tuple[int, int]]) -> bytes:
        bits = []
        for c, change in part:
            size = abs(change).bit_length()
            bits.append(words(self.lengths[self.table_of[c]])[size])
            if size:
                bits.append(f"{change if change > 0 else change + (1 << size) - 1:0{size}b}")
        text = "".join(bits)
        text += "1" * (-len(text) % 8)
        return int(text, 2).to_bytes(len(text) // 8, "big")

    def read(self, sets: list[list[Lengths]], bound: int = 4000) -> tuple[int, NDArray, NDArray, NDArray]:
        """(which reads whole, scores, reached, the values that were read last)."""
        coded = _Coded({}, [], [], [], [])
        numbers = np.array([[coded.number(padded(x)) for x in one] for one in sets], np.int64)
        tables = tuple(np.stack(rows) for rows in (coded.limits, coded.shifts, coded.symbols))
        sizes = np.array([p.size for p in self.planes])
        room, offset = (
            np.zeros(int(sizes.sum()), np.int64),
            np.concatenate(([0], np.cumsum(sizes)[:-1])).astype(np.int64),
        )
        place = (self.table_of, self.h, self.v, self.across, self.down, np.full(len(sizes), bound, np.int64))
        whole_scan = (self.data, self.begins, self.ends, self.interval, *tables)
        scores, reached = np.zeros(len(sets)), np.zeros(len(sets), np.int64)
        whole = try_tables(*whole_scan, numbers, *place, 500.0, room, offset, scores, reached)
        counts = np.zeros_like(self.counts)
        count_categories(*whole_scan, numbers[max(0, whole)], *place, room.copy(), offset, 10**9, counts)
        self.counted = counts
        return int(whole), scores, reached, room


@pytest.mark.parametrize("interval", [0, 5])
@pytest.mark.parametrize("shape", SHAPES)
def test_what_was_written_is_read_and_counted(shape: str, interval: int) -> None:
    scan = Scan(shape, 12, 9, interval, 3)
    whole, scores, reached, room = scan.read([scan.lengths])
    assert whole == 0 and reached[0] > 0.9 * 12 * 9 and scores[0] > 0
    assert np.array_equal(room, np.concatenate([p.ravel() for p in scan.planes]))
    assert np.array_equal(scan.counted, scan.counts)


@pytest.mark.parametrize("interval", [0, 5])
def test_wrong_tables_neither_read_whole_nor_score_as_much(interval: int) -> None:
    scan = Scan("usual", 12, 9, interval, 4)
    first, second = scan.lengths
    used = [s for s in range(SYMBOLS) if first[s]]
    wrong = []
    for one, other in pairwise(used):
        if first[one] != first[other]:
            changed = list(first)
            changed[one], changed[other] = first[other], first[one]
            wrong.append([tuple(changed), second])
    assert len(wrong) > 2
    whole, scores, _, _ = scan.read([*wrong, [first, second]])
    assert whole == len(wrong) and scores[:-1].max() < scores[-1]


def test_values_out_of_range_and_data_that_end_give_a_set_up() -> None:
    scan = Scan("grey", 20, 20, 0, 5)
    assert scan.read([scan.lengths], bound=10)[0] == -1, "no value lies so far out"
    scan.ends = scan.ends - 80
    assert scan.read([scan.lengths])[0] == -1
    scan.ends = scan.ends + 80 + 16
    assert scan.read([scan.lengths])[0] == -1, "bits are left over"
