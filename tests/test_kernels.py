"""The hot functions against plain Python, and the values they work on against arithmetic."""

from __future__ import annotations

import collections
import io
import itertools
import math
import zlib
from collections.abc import Sequence

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from jugal.binary.blocks import Blocks
from jugal.binary.source import PatchedSource, Source
from jugal.engine.strips import MAX_SPANS, lay_out
from jugal.formats.base import Report, Subject
from jugal.formats.jpeg.decode import lookup_tables
from jugal.formats.jpeg.entropy import code_bits
from jugal.formats.jpeg.likeness import NOISE, apart
from jugal.formats.jpeg.parse import HuffmanTable, read_entropy
from jugal.formats.jpeg.spec import ANNEX_K, ZIGZAG, table_segment
from jugal.kernels import blockstats, nal, png
from jugal.kernels.seams import row_distances
from jugal.kernels.stuffing import pack_bits, pack_parts
from jugal.model import scoring
from jugal.model.codes import FindingCode
from jugal.model.finding import Finding, Severity
from jugal.model.result import Verdict, derive_verdict
from jugal.model.span import ByteSpan, merge, total_length
from jugal.model.strip import Matter, StripSpan
from jugal.model.words import human_size, shown_score

spans = st.tuples(st.integers(0, 400), st.integers(0, 60)).map(lambda p: ByteSpan(p[0], p[0] + p[1]))

# --- spans, scores, verdicts


@given(st.lists(spans, max_size=12))
def test_merged_spans_cover_the_same_bytes(given_spans: list[ByteSpan]) -> None:
    covered = {b for s in given_spans for b in range(s.start, s.end)}
    merged = merge(given_spans)
    assert {b for s in merged for b in range(s.start, s.end)} == covered
    assert all(a.end < b.start for a, b in itertools.pairwise(merged))
    assert total_length(given_spans) == len(covered)


@given(spans, spans)
def test_a_clipped_span_lies_in_both(one: ByteSpan, other: ByteSpan) -> None:
    both = set(range(one.start, one.end)) & set(range(other.start, other.end))
    part = one.clip(other)
    assert set(range(part.start, part.end)) == both
    assert other.start <= part.start <= part.end <= max(other.end, part.start)


def test_a_span_that_ends_before_it_starts_is_refused() -> None:
    with pytest.raises(ValueError, match="not a span"):
        ByteSpan(5, 4)
    with pytest.raises(ValueError, match="not a span"):
        ByteSpan(-1, 4)


@pytest.mark.parametrize(
    ("score", "attainable", "severity", "verdict"),
    [
        (100.0, 100.0, None, Verdict.INTACT),
        (100.0, 100.0, Severity.NOTE, Verdict.INTACT),
        (100.0, 100.0, Severity.MINOR, Verdict.DAMAGED),
        (60.0, 60.0, Severity.MAJOR, Verdict.DAMAGED),
        (60.0, 61.9, Severity.MAJOR, Verdict.DAMAGED),
        (60.0, 62.0, Severity.MAJOR, Verdict.REPAIRABLE),
        (0.0, 4.9, Severity.FATAL, Verdict.UNRECOVERABLE),
        (0.0, 5.0, Severity.FATAL, Verdict.REPAIRABLE),
        (None, None, Severity.NOTE, Verdict.UNRECOGNISED),
    ],
)
def test_verdicts(score: float | None, attainable: float | None, severity: Severity | None, verdict: Verdict) -> None:
    findings = () if severity is None else (Finding(FindingCode.HOLE, severity, "A sentence."),)
    assert derive_verdict(score, attainable, findings) is verdict


@pytest.mark.parametrize(("good", "total", "share"), [(1, 2, 50), (3, 2, 100), (-1, 2, 0), (1, 0, 0), (0, 5, 0)])
def test_shares_stay_in_bounds(good: float, total: float, share: float) -> None:
    assert scoring.share(good, total) == share


def test_more_findings_of_one_code_than_a_person_reads_are_counted() -> None:
    report = Report()
    for k in range(5000):
        report.add(FindingCode.HOLE, Severity.MAJOR, "A run.", k, k + 1)
    assert report.counts[FindingCode.HOLE] == 5000
    assert 0 < len(report.findings) < 500


# --- blocks


@pytest.mark.parametrize("size", [1, 511, 4096, 4097, 9000])
def test_entropy_of_pages(size: int) -> None:
    data = np.random.default_rng(size).integers(0, 1 + size % 200, size, dtype=np.uint8).tobytes()
    blocks = Blocks(Source.from_bytes(data, "random"))
    for page in range(-(-size // 4096)):
        part = data[4096 * page : 4096 * page + 4096]
        counts = collections.Counter(part)
        expected = -sum(n / len(part) * math.log2(n / len(part)) for n in counts.values())
        assert blocks.entropy[page] == pytest.approx(expected, abs=1e-4)


@pytest.mark.parametrize("share", [0.0, 0.5, 0.78, 0.82, 1.0])
@pytest.mark.parametrize("strange", [range(128, 256), range(8), range(14, 32), (8, 11, 12, 127), range(256)])
def test_pages_of_text_are_those_of_which_four_fifths_are_printable(strange: Sequence[int], share: float) -> None:
    rng = np.random.default_rng(7)
    text = rng.choice([*range(32, 127), 9, 10, 13], 4 * 4096)
    data = np.where(rng.random(4 * 4096) < share, text, rng.choice(strange, 4 * 4096)).astype(np.uint8)
    blocks = Blocks(Source.from_bytes(data.tobytes()))
    printable = (((data >= 32) & (data < 127)) | np.isin(data, (9, 10, 13))).reshape(4, 4096).mean(axis=1)
    assert blocks.text.tolist() == (printable > 0.8).tolist()


@settings(max_examples=60)
@given(st.lists(st.tuples(st.integers(0, 8190), st.sampled_from([0, 0xD3, 0x41, 0xFF])), max_size=40))
def test_stuffed_pages_are_those_in_which_every_mark_is_followed(marks: list[tuple[int, int]]) -> None:
    data = bytearray(b"\x42" * 8192)
    for at, following in marks:
        data[at], data[at + 1] = 0xFF, following
    expected = []
    for page in range(2):
        found = [at for at in range(4096 * page, 4096 * page + 4096) if data[at] == 0xFF]
        after = [data[at + 1] if at + 1 < len(data) else 1 for at in found]
        expected.append(len(found) >= 8 and all(x == 0 or 0xD0 <= x <= 0xD7 for x in after))
    assert Blocks(Source.from_bytes(bytes(data))).stuffed.tolist() == expected


@settings(max_examples=60)
@given(st.binary(min_size=1, max_size=70), st.integers(0, 14), st.integers(2, 5))
def test_runs_of_repeating_sectors_have_the_period_of_their_text(text: bytes, sector: int, length: int) -> None:
    data = np.random.default_rng(3).integers(0, 256, 20 * 512, dtype=np.uint8)
    data[512 * sector : 512 * (sector + length)] = np.frombuffer((text * 512 * length)[: 512 * length], np.uint8)
    found, uniform, pages = np.zeros(20, np.int16), np.zeros(20, np.int16), np.zeros(3, np.bool_)
    blockstats.survey_pages(data, 0.8, 8, 64, uniform, pages, pages, found)
    smallest = next((p for p in range(1, len(text) + 1) if (text * 3)[p:] == (text * 3)[:-p]), len(text))
    assert (found[sector : sector + length] == (smallest if smallest <= 64 else 0)).all()
    assert not np.delete(found, range(sector, sector + length)).any()
    alike = np.isin(np.arange(20), range(sector, sector + length)) & (len(set(text)) == 1)
    assert (uniform == np.where(alike, text[0], -1)).all()


@settings(max_examples=80)
@given(st.data())
def test_bytes_are_found_where_they_first_stand(data: st.DataObject) -> None:
    needle = data.draw(st.binary(min_size=2, max_size=6))
    alphabet = sorted(set(needle))
    hay = bytes(data.draw(st.lists(st.sampled_from(alphabet), max_size=400)))
    start, stop = data.draw(st.integers(0, 400)), data.draw(st.integers(0, 400))
    stop = min(stop, len(hay))
    found = blockstats.find_bytes(np.frombuffer(hay, np.uint8), np.frombuffer(needle, np.uint8), start, stop)
    assert found == hay.find(needle, start, stop)


@given(st.binary(max_size=60), st.integers(-5, 70), st.integers(-5, 70), st.integers(0, 59), st.binary(max_size=9))
def test_a_view_holds_what_is_read(data: bytes, start: int, length: int, at: int, patch: bytes) -> None:
    source = Source.from_bytes(data)
    for one in (source, PatchedSource(source, [(at, patch)])):
        assert bytes(one.view(start, length)) == one.read(start, length)
    if 0 <= start < len(data) and length > 0:
        assert bytes(source.view(start, length)) == data[start : start + length]


def test_a_source_finds_what_lies_far_behind() -> None:
    data = np.random.default_rng(2).integers(0, 200, 1 << 20, np.uint8).tobytes()
    for at in (0, 100, (1 << 18) - 2, (1 << 18) - 1, 1 << 18, (1 << 20) - 4):
        source = Source.from_bytes(data[:at] + b"\xfa\xfb\xfc\xfd" + data[at + 4 :])
        assert source.find(b"\xfa\xfb\xfc\xfd") == at
        assert source.find(b"\xfa\xfb\xfc\xfd", at + 1) == -1
        assert source.find(b"\xfa\xfb\xfc\xfd", 0, at + 3) == -1


@settings(max_examples=60)
@given(st.lists(st.tuples(st.sampled_from([0, 7, 255, None]), st.integers(1, 3)), max_size=8), st.integers(0, 511))
def test_fills_are_the_whole_sectors_of_one_byte(parts: list, tail: int) -> None:
    rng = np.random.default_rng(len(parts))
    data = b"".join(rng.bytes(512 * n) if v is None else bytes([v]) * 512 * n for v, n in parts) + b"\x33" * tail
    found = {(f.span.start, f.span.end, f.value) for f in Blocks(Source.from_bytes(data, "fills")).fills}
    expected: list[list[int]] = []
    for at in range(0, len(data), 512):
        sector = data[at : at + 512]
        value = sector[0] if len(set(sector)) == 1 else -1
        if expected and expected[-1][2] == value:
            expected[-1][1] = at + len(sector)
        else:
            expected.append([at, at + len(sector), value])
    assert found == {tuple(e) for e in expected if e[2] >= 0}


@pytest.mark.parametrize(("word", "period"), [(b"ab", 2), (b"UNREADABLE", 10), (b"x", 1)])
def test_period(word: bytes, period: int) -> None:
    data = np.frombuffer(word * 60, np.uint8)
    assert blockstats.period_of(data, 64) == period


def test_noise_has_no_period() -> None:
    assert blockstats.period_of(np.random.default_rng(1).integers(0, 256, 512, dtype=np.uint8), 64) == 0


# --- JPEG


@settings(max_examples=80)
@given(st.binary(max_size=300), st.integers(1, 40))
def test_stuffing_is_undone(payload: bytes, at_once: int) -> None:
    stuffed = payload.replace(b"\xff", b"\xff\x00") + b"\xff\xd9"
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("jugal.formats.jpeg.parse._AT_ONCE", at_once)
        entropy = read_entropy(Source.from_bytes(stuffed), 0)
    assert entropy.clean[: entropy.length].tobytes() == payload
    assert (entropy.end, entropy.mark_raw.size) == (len(stuffed) - 2, 0)
    places = entropy.raw_offsets(np.arange(entropy.length)).tolist()
    assert [stuffed[p] for p in places] == list(payload)
    assert [entropy.clean_offset(p) for p in places] == list(range(entropy.length))


@pytest.mark.parametrize("at_once", [1, 2, 3, 1 << 20])
def test_restart_markers_are_listed_where_they_stand(at_once: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("jugal.formats.jpeg.parse._AT_ONCE", at_once)
    data = b"\x11\x22\xff\xd0\x33\xff\xff\x00\xff\xff\xd1\x44\xff\x02\x55\xff\xd9"
    entropy = read_entropy(Source.from_bytes(data), 0)
    assert entropy.clean[: entropy.length].tobytes() == b"\x11\x22\x33\xff\x44\x55"
    assert entropy.end == len(data) - 2
    assert entropy.mark_raw.tolist() == [2, 8, 12]
    assert entropy.mark_clean.tolist() == [2, 4, 5]
    assert entropy.mark_code.tolist() == [0xD0, 0xD1, 0x02]
    assert entropy.is_restart.tolist() == [True, True, False]
    # Where a marker stands the offset is the marker's.
    assert entropy.raw_offsets(np.arange(6)).tolist() == [0, 1, 2, 5, 8, 12]


@pytest.mark.parametrize("key", ANNEX_K)
def test_tables_decode_what_their_codes_encode(key: int) -> None:
    """Each symbol's code, looked up with noise behind it, gives its length and the symbol back."""
    table = HuffmanTable(*ANNEX_K[key])
    fast, full = lookup_tables((table,))
    rng = np.random.default_rng(key)
    for symbol in table.symbols:
        bits = code_bits(table, symbol)
        word = bits + rng.integers(0, 2, 16 - len(bits)).tolist()
        value = int("".join(map(str, word)), 2)
        assert full[0][value] == len(bits) << 8 | symbol
        assert fast[0][value >> 6] in (0, full[0][value])


def test_typical_tables_are_prefix_codes() -> None:
    for counts, symbols in ANNEX_K.values():
        assert sum(counts) == len(symbols) == len(set(symbols))
        assert sum(n / 2 ** (k + 1) for k, n in enumerate(counts)) <= 1


def test_zigzag_walks_each_diagonal_once() -> None:
    assert sorted(ZIGZAG) == list(range(64))
    sums = [z // 8 + z % 8 for z in ZIGZAG]
    assert sums == sorted(sums)


def test_table_segment_length() -> None:
    segment = table_segment(0x11, *ANNEX_K[0x11])
    assert segment[:2] == b"\xff\xc4"
    assert int.from_bytes(segment[2:4], "big") == len(segment) - 2


@given(st.lists(st.integers(0, 1), max_size=80))
def test_packed_bits_are_padded_with_ones_and_stuffed(bits: list[int]) -> None:
    packed = pack_bits(np.array(bits, np.uint8)).replace(b"\xff\x00", b"\xff")
    unpacked = np.unpackbits(np.frombuffer(packed, np.uint8)).tolist()
    assert unpacked[: len(bits)] == bits
    assert all(unpacked[len(bits) :]) and len(unpacked) - len(bits) < 8


@given(st.lists(st.lists(st.integers(0, 1), max_size=30), max_size=8))
def test_bits_packed_in_parts_are_those_packed_at_once(parts: list[list[int]]) -> None:
    arrays = [np.array(part, np.uint8) for part in parts]
    whole = np.concatenate([np.zeros(0, np.uint8), *arrays])
    assert b"".join(pack_parts(arrays)) == pack_bits(whole)


# --- PNG and NAL


@pytest.mark.parametrize("mode", ["L", "RGB", "RGBA"])
def test_png_rows_unfiltered_are_the_picture(mode: str) -> None:
    used: set[int] = set()
    for seed in range(6):
        _one_png(mode, seed, used)
    assert len(used) > 1, "the encoder should have used several filters"


def _one_png(mode: str, seed: int, used: set[int]) -> None:
    rng = np.random.default_rng(seed)
    smooth = np.cumsum(rng.integers(-3, 4, (24, 31, 4)), axis=seed % 2).astype(np.uint8)
    if seed > 3:
        smooth = rng.integers(0, 256, (24, 31, 4), dtype=np.uint8)
    picture = Image.fromarray(smooth, "RGBA").convert(mode)
    out = io.BytesIO()
    picture.save(out, "PNG")
    data, parts, at = out.getvalue(), [], 8
    while at < len(data):
        size = int.from_bytes(data[at : at + 4], "big")
        if data[at + 4 : at + 8] == b"IDAT":
            parts.append(data[at + 8 : at + 8 + size])
        at += 12 + size
    unit = len(mode)
    rows = np.frombuffer(zlib.decompress(b"".join(parts)), np.uint8).reshape(24, 1 + 31 * unit).copy()
    used.update(rows[:, 0].tolist())
    png.unfilter(rows, unit)
    assert rows[:, 1:].tobytes() == picture.tobytes()


@pytest.mark.parametrize(
    ("sample", "state"),
    [
        (b"\0\0\0\x05\x65abcd" + b"\0\0\0\x03\x41xy", nal.OK),
        (b"\0\0\0\x09\x65abcd", nal.BAD_LENGTH),
        (b"\0\0\0\x05\xe5abcd", nal.BAD_HEADER),
        (b"\0\0\0\x28\x65" + b"a" * 10 + bytes(20) + b"a" * 9, nal.ZEROS),
        (b"\0\0\0\x05\x65ab", nal.BAD_LENGTH),
    ],
)
def test_chains_of_units(sample: bytes, state: int) -> None:
    found, where = np.zeros(1, np.int8), np.zeros(1, np.int64)
    offsets, sizes = np.zeros(1, np.int64), np.array([len(sample)], np.int64)
    nal.walk_samples(np.frombuffer(sample, np.uint8), offsets, sizes, 4, False, True, found, where)
    assert found[0] == state
    assert 0 <= where[0] < len(sample)


# --- strips


marks = st.lists(
    st.tuples(spans, st.sampled_from([m for m in Matter if m is not Matter.MISSING])).map(lambda p: StripSpan(*p)),
    max_size=30,
)


@settings(max_examples=60)
@given(marks)
def test_a_strip_covers_every_byte_once_and_later_marks_win(given_marks: list[StripSpan]) -> None:
    size = 300
    subject = Subject(Source.from_bytes(np.random.default_rng(1).bytes(size), "strip"))
    strip = lay_out(given_marks, subject)
    assert strip[0].span.start == 0 and strip[-1].span.end == size
    assert all(a.span.end == b.span.start for a, b in itertools.pairwise(strip))
    for span in strip:
        for byte in (span.span.start, span.span.end - 1):
            over = [m for m in given_marks if m.span.start <= byte < m.span.end]
            assert span.matter is (over[-1].matter if over else Matter.UNEXPLAINED)


def test_strips_of_many_spans_are_reduced_but_nothing_loud_is_lost() -> None:
    size = 1 << 20
    subject = Subject(Source.from_bytes(np.random.default_rng(2).bytes(size), "many"))
    many = [StripSpan(ByteSpan(k * 256, k * 256 + 128), Matter.STRUCTURE) for k in range(4000)]
    many.append(StripSpan(ByteSpan(600_000, 600_040), Matter.DAMAGED, "the one"))
    strip = lay_out(many, subject)
    assert len(strip) <= MAX_SPANS
    assert any(s.matter is Matter.DAMAGED for s in strip)
    assert strip[0].span.start == 0 and strip[-1].span.end == size


@pytest.mark.parametrize(
    ("size", "words"), [(0, "0 B"), (999, "999 B"), (1000, "1.0 KB"), (1_234_567, "1.2 MB"), (5 * 10**12, "5.0 TB")]
)
def test_sizes_in_words(size: int, words: str) -> None:
    assert human_size(size) == words
    assert human_size(size, "bytes") == words.replace(" B", " bytes")


@pytest.mark.parametrize(
    ("score", "digits", "words"),
    [
        (100.0, 0, "100"),
        (100.0, 1, "100.0"),
        (99.99, 0, "99.9"),
        (99.97, 1, "99.9"),
        (99.4, 0, "99"),
        (0.2, 0, "0"),
        (None, 1, "–"),
    ],
)
def test_a_score_is_not_rounded_to_whole(score: float | None, digits: int, words: str) -> None:
    assert shown_score(score, digits) == words


@pytest.mark.parametrize("pixels", [8, 16])
def test_distances_of_sides_are_those_of_plain_arithmetic(pixels: int) -> None:
    rng = np.random.default_rng(pixels)
    one, other = (rng.normal(0, 30, (22, pixels)).astype(np.float32) for _ in range(2))
    raised = rng.normal(0, 9, 22)

    def plain(raised: np.ndarray) -> np.ndarray:
        a, b = one.astype(np.float64), other.astype(np.float64)
        return np.log((np.abs(b - a - raised[:, None]).mean(axis=1) + NOISE) / (a.std(axis=1) + b.std(axis=1) + NOISE))

    np.testing.assert_allclose(apart(one, other, raised), plain(raised), atol=1e-5)
    np.testing.assert_allclose(apart(one, other, 3.0), plain(np.full(22, 3.0)), atol=1e-5)
    # Two whole rows of ten; what is left behind them stays as it was.
    levels = one.mean(axis=1), other.mean(axis=1)
    out = np.full(22, 77.0)
    row_distances(one, other, *levels, 10, False, NOISE, out)
    by_row = np.repeat([np.median((levels[1] - levels[0])[k : k + 10]) for k in (0, 10, 20)], 10)[:22]
    np.testing.assert_allclose(out[:20], plain(by_row)[:20], atol=1e-4)
    assert (out[20:] == 77.0).all()
    row_distances(one, other, *levels, 10, True, NOISE, out)
    np.testing.assert_allclose(out[:20], plain(np.zeros(22))[:20], atol=1e-5)


def test_sides_of_different_shapes_are_refused() -> None:
    with pytest.raises(ValueError, match="cannot be compared"):
        apart(np.zeros((4, 8), np.float32), np.zeros((3, 8), np.float32))
