"""MPEG-4 Visual written by hand, code by code, for what no encoder here writes: each word is read as the standard has it."""

from __future__ import annotations

import numpy as np
import pytest

from jugal.formats.isobmff.visual import _SLACK, Layer, read_picture_header
from jugal.kernels.macroblocks import BREAKS, ENDS_EARLY, ENDS_LATE, WHOLE_SLICE
from jugal.kernels.visual import CODES, B, Form, I, P, read_plane

#: Words of tables B-6 to B-8, B-12 to B-14 as far as they are used: macroblock type and chroma, luma pattern, DC sizes.
INTRA, INTRA_Q, STUFFING = "1", "0001", "000000001"
LUMA_NONE, LUMA_FIRST = "0011", "00010"  # of intra macroblocks: no block, and the first one only
DC_LUMA_0, DC_CHROMA_0, DC_LUMA_9, DC_CHROMA_10 = "011", "11", "00000001", "0000000001"
DC_NONE = DC_LUMA_0 * 4 + DC_CHROMA_0 * 2
INTER, INTER_Q, INTER_4 = "1", "011", "010"
INTER_LUMA_NONE, INTER_LUMA_FIRST = "11", "1011"
STILL = "1"  # motion of nothing
#: Coefficients: (not last, run 0, level 1), (last, run 0, level 1), escape.
INTRA_GOES_ON, INTRA_LAST, INTER_GOES_ON, INTER_LAST, ESCAPE = "10", "0111", "10", "0111", "0000011"


def plain(*parts: str) -> str:
    return "".join(parts).replace(" ", "")


def stuffed(bits: str) -> str:
    """With a zero and ones up to a byte."""
    return bits + "0" + "1" * (7 - len(bits) % 8)


def read(bits: str, form: Form, skipped: np.ndarray | None = None, behind: bytes = b"") -> tuple[int, int, int]:
    count = -(-len(bits) // 8)
    body = int(bits.ljust(8 * count, "0"), 2).to_bytes(count, "big") + behind
    data = np.concatenate((np.frombuffer(body, np.uint8), _SLACK))
    mask = np.zeros(form.blocks, np.uint8) if skipped is None else skipped
    return read_plane(data, 0, len(body), form, mask)


def form_of(kind: int, blocks: int = 1, **more: int) -> Form:
    return Form(kind, blocks, 5, 13, 1, 1, 1, 5)._replace(**more)


def intra(*first_block: str, dc: str = DC_NONE) -> str:
    """One intra macroblock, whose first block has the coefficients given."""
    return plain(INTRA, "0", LUMA_FIRST if first_block else LUMA_NONE, dc[:3], *first_block, dc[3:])


def test_a_macroblock_of_nothing() -> None:
    bits = stuffed(intra())
    assert read(bits, form_of(I)) == (1, len(bits), WHOLE_SLICE)
    assert read(bits, form_of(I, 2))[2] in (BREAKS, ENDS_LATE)
    # Zeros behind are padding; anything else means that the plane ended too early.
    assert read(bits, form_of(I), behind=bytes(3))[2] == WHOLE_SLICE
    assert read(bits, form_of(I), behind=b"\0\7") == (1, len(bits), ENDS_EARLY)
    # What fills the last byte is a zero and ones.
    assert read(bits[:-1] + "0", form_of(I))[2] == BREAKS


def test_stuffing_before_a_macroblock() -> None:
    for times in (1, 3, 9):
        bits = stuffed(STUFFING * times + intra())
        assert read(bits, form_of(I)) == (1, len(bits), WHOLE_SLICE)
    bits = stuffed(plain("0", STUFFING, "0", INTER, INTER_LUMA_NONE, STILL * 2))
    assert read(bits, form_of(P)) == (1, len(bits), WHOLE_SLICE)
    endless = stuffed(STUFFING * 40)
    assert read(endless, form_of(I))[2] in (BREAKS, ENDS_LATE)


def test_long_dc_values_have_a_marker() -> None:
    for word, size in ((DC_LUMA_9, 9), (DC_CHROMA_10, 10)):
        value = "1" * size
        for marker, wanted in (("1", WHOLE_SLICE), ("0", BREAKS)):
            coded = word + value + marker
            dc = coded + DC_LUMA_0 * 3 + DC_CHROMA_0 * 2 if size == 9 else DC_LUMA_0 * 4 + coded + DC_CHROMA_0
            bits = stuffed(plain(INTRA, "0", LUMA_NONE, dc))
            assert read(bits, form_of(I))[2] == wanted


def test_the_quantiser_decides_how_dc_values_are_coded() -> None:
    """From a threshold on they are coefficients like others; a step of the quantiser counts from the next macroblock."""
    own, other = intra(), plain(INTRA, "0", LUMA_NONE)
    assert read(stuffed(own + own), form_of(I, 2))[2] == WHOLE_SLICE
    assert read(stuffed(other + other), form_of(I, 2, qp=13))[2] == WHOLE_SLICE
    # 11 + 2 reaches 13.
    stepped = plain(INTRA_Q, "0", LUMA_NONE, "11", DC_NONE)
    assert read(stuffed(stepped + other), form_of(I, 2, qp=11))[2] == WHOLE_SLICE
    # 13 - 1 is below it again.
    back = plain(INTRA_Q, "0", LUMA_NONE, "00")
    assert read(stuffed(back + own), form_of(I, 2, qp=13))[2] == WHOLE_SLICE


def escaped(last: int, run: int, level: int, first: str = "1", second: str = "1") -> str:
    return plain(ESCAPE, "11", f"{last:b}{run:06b}", first, f"{level & 0xFFF:012b}", second)


@pytest.mark.parametrize(
    ("words", "right"),
    [
        (INTRA_LAST + "0", True),
        (INTRA_LAST + "1", True),
        (INTRA_GOES_ON + "0" + INTRA_LAST + "0", True),
        (escaped(1, 0, 900), True),
        (escaped(1, 0, -900), True),
        (escaped(1, 62, 5), True),
        (escaped(1, 63, 5), False),  # the DC value is the first of 64
        (escaped(1, 0, 0), False),
        (escaped(1, 0, -2048), False),
        (escaped(1, 0, 9, first="0"), False),
        (escaped(1, 0, 9, second="0"), False),
        (escaped(0, 30, 9) + escaped(1, 30, 9), True),
        (escaped(0, 31, 9) + escaped(1, 31, 9), False),
        # A larger level: the word's own and the largest of its run. A longer run: the word's own and the longest.
        (plain(ESCAPE, "0", INTRA_LAST, "0"), True),
        (plain(ESCAPE, "10", INTRA_LAST, "0"), True),
        (plain(ESCAPE, "0", ESCAPE), False),
        (plain(ESCAPE, "10", ESCAPE), False),
    ],
)
def test_coefficients_of_an_intra_block(words: str, right: bool) -> None:
    bits = stuffed(intra(words))
    done, bit, came_to = read(bits, form_of(I))
    assert (came_to == WHOLE_SLICE) is right
    if right:
        assert (done, bit) == (1, len(bits))


def test_a_run_beyond_the_longest_takes_its_place() -> None:
    """Behind an escape of the second kind a run is the longest of its level and one more: 21 for the last level 1."""
    longest = int(CODES.intra_longest[32 + 1])
    assert longest == 20
    before = 62 - (longest + 1)
    fits = intra(escaped(0, before - 1, 9) + plain(ESCAPE, "10", INTRA_LAST, "0"))
    assert read(stuffed(fits), form_of(I))[2] == WHOLE_SLICE
    beyond = intra(escaped(0, before, 9) + plain(ESCAPE, "10", INTRA_LAST, "0"))
    assert read(stuffed(beyond), form_of(I))[2] == BREAKS


def test_predicted_macroblocks() -> None:
    form, skipped = form_of(P, 3), np.zeros(3, np.uint8)
    bits = stuffed(plain("1", "0", INTER, INTER_LUMA_NONE, STILL * 2, "1"))
    assert read(bits, form, skipped) == (3, len(bits), WHOLE_SLICE)
    assert skipped.tolist() == [1, 0, 1]
    # Four vectors; a quantiser's step; coefficients from the first place on.
    four = plain("0", INTER_4, INTER_LUMA_NONE, STILL * 8)
    stepped = plain("0", INTER_Q, INTER_LUMA_FIRST, "01", STILL * 2, INTER_LAST, "0")
    bits = stuffed(plain(four, stepped, "1"))
    assert read(bits, form, skipped) == (3, len(bits), WHOLE_SLICE)
    full = plain("0", INTER, INTER_LUMA_FIRST, STILL * 2, escaped(1, 63, 9))
    assert read(stuffed(full), form_of(P))[2] == WHOLE_SLICE


@pytest.mark.parametrize("reach", [1, 2, 5])
def test_vectors_that_reach_far_have_more_bits(reach: int) -> None:
    """A part that is not nothing has a sign and one bit less than its range's number (6.2.6.2)."""
    step = "01" + "0" + "1" * (reach - 1)
    bits = stuffed(plain("0", INTER, INTER_LUMA_NONE, step, STILL))
    assert read(bits, form_of(P, forward=reach)) == (1, len(bits), WHOLE_SLICE)
    wrong = read(stuffed(plain("0", INTER, INTER_LUMA_NONE, "0" * 13)), form_of(P, forward=reach))
    assert wrong[2] == BREAKS


def test_macroblocks_between_planes() -> None:
    step = "01" + "0"
    words = [
        "1",  # nothing of its own
        plain("01", "1", STILL * 2),  # derived motion and a change of it
        plain("01", "01", STILL * 2, step + STILL),  # both planes
        plain("01", "001", step * 2),  # the later one
        plain("01", "0001", STILL * 2),  # the earlier one
        plain("00", "1", "100000", STILL * 2, INTER_LAST, "0"),
        plain("00", "0001", "000001", "0", STILL * 2, INTER_LAST, "1"),  # the quantiser as it was
        plain("00", "001", "010000", "11", STILL * 2, INTER_LAST, "1"),  # and changed
        plain("00", "001", "000000", STILL * 2),  # without a block no change is stated
    ]
    for word in words:
        bits = stuffed(word)
        assert read(bits, form_of(B)) == (1, len(bits), WHOLE_SLICE)
    bits = stuffed("".join(words))
    assert read(bits, form_of(B, len(words))) == (len(words), len(bits), WHOLE_SLICE)
    assert read(stuffed(plain("01", "0000", STILL * 2)), form_of(B))[2] == BREAKS
    # What the last I or P plane left out has no bits here.
    skipped = np.array([1, 0, 1, 1], np.uint8)
    bits = stuffed(words[3])
    assert read(bits, form_of(B, 4), skipped) == (4, len(bits), WHOLE_SLICE)


def packet(kind: int, number: str, qp: int = 7, extension: str = "0", zeros: int = 16) -> str:
    return "0" * zeros + "1" + number + f"{qp:05b}" + extension


def test_packets() -> None:
    whole = stuffed(intra()) + packet(I, "1") + intra()
    assert read(stuffed(whole), form_of(I, 2))[2] == WHOLE_SLICE
    assert read(stuffed(stuffed(intra()) + packet(I, "0") + intra()), form_of(I, 2))[2] == BREAKS
    assert read(stuffed(stuffed(intra()) + packet(I, "1", qp=0) + intra()), form_of(I, 2))[2] == BREAKS
    # A header that is sent again: time, kind, threshold.
    again = plain("1", "10", "1", "00011", "1", "00", "000")
    assert read(stuffed(stuffed(intra()) + packet(I, "1", extension=again) + intra()), form_of(I, 2))[2] == WHOLE_SLICE
    other = plain("1", "10", "1", "00011", "1", "01", "000")
    assert read(stuffed(stuffed(intra()) + packet(I, "1", extension=other) + intra()), form_of(I, 2))[2] == BREAKS
    # The mark has a zero more for each range of the vectors (6.3.5.2).
    for reach, zeros in ((1, 16), (3, 18)):
        bits = stuffed("1") + packet(P, "1", zeros=zeros) + "1"
        assert read(stuffed(bits), form_of(P, 2, forward=reach))[2] == WHOLE_SLICE
        assert read(stuffed(bits), form_of(P, 2, forward=reach + 1))[2] == BREAKS


def short(**more: int) -> Form:
    return form_of(I, 2, rows=1)._replace(**more)


def test_h263_has_dc_values_of_eight_bits_and_short_escapes() -> None:
    block = plain(INTRA, LUMA_FIRST, "10000001", ESCAPE, "1" + "000011" + "00001001", "10000001" * 5)
    nothing = plain(INTRA, LUMA_NONE, "11111111" * 6)

    def closed(bits: str) -> str:
        return bits + "0" * (-len(bits) % 8)

    bits = closed(block + nothing)
    assert read(bits, short()) == (2, len(bits), WHOLE_SLICE)
    for bad in ("00000000", "10000000"):
        assert read(closed(plain(INTRA, LUMA_NONE, bad * 6)), short(blocks=1))[2] == BREAKS
        wrong = plain(INTRA, LUMA_FIRST, "10000001", ESCAPE, "1" + "000011" + bad, "10000001" * 5)
        assert read(closed(wrong), short(blocks=1))[2] == BREAKS
    # The end of a sequence may follow, and nothing else but zeros.
    end = "0" * 16 + "1" + "11111" + "00"
    assert read(bits + end, short())[2] == WHOLE_SLICE
    assert read(bits + "0" * 8 + "1" * 8, short())[2] == ENDS_EARLY
    # Each row may begin with a header that says its number.
    for number, wanted in ((1, WHOLE_SLICE), (2, BREAKS)):
        row = "0" * 16 + "1" + f"{number:05b}" + "00" + "00111"
        assert read(closed(closed(block) + row + nothing), short())[2] == wanted


def test_a_picture_header_of_h263() -> None:
    def header(size: int = 2, kind: int = 0, qp: int = 9, spare: str = "0", kept: str = "10") -> bytes:
        bits = "0" * 16 + "1" + "00000" + "00000111" + kept + "000" + f"{size:03b}{kind}0000{qp:05b}" + "0" + spare
        return int(bits.ljust(88, "0"), 2).to_bytes(11, "big")

    plane, width, height = read_picture_header(header())  # type: ignore[misc]
    assert (plane.kind, plane.qp, plane.time, plane.bit, width, height) == (I, 9, (0, 7), 50, 176, 144)
    later = read_picture_header(header(kind=1, spare="1" + "10101010" + "0"))
    assert later is not None and later[0].kind == P and later[0].bit == 59
    assert read_picture_header(header(qp=0)) is None
    assert read_picture_header(header(size=7)) is None
    assert read_picture_header(header(kept="11")) is None
    assert read_picture_header(b"\0\0\1\xb6" + bytes(8)) is None


def test_a_layer_counts_macroblocks_that_are_begun() -> None:
    assert Layer(320, 180, 25).blocks == 20 * 12
    assert [Layer(16, 16, r).increment_bits for r in (1, 2, 3, 25, 32, 33, 65535)] == [1, 1, 2, 5, 5, 6, 16]
