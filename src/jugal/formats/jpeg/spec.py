"""Markers, the typical Huffman tables and the scan order of ITU-T T.81."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

SOI, EOI, SOS, DQT, DNL, DRI, DHT, DAC, COM = 0xD8, 0xD9, 0xDA, 0xDB, 0xDC, 0xDD, 0xC4, 0xCC, 0xFE
APP0, APP1, APP2, APP13, APP14 = 0xE0, 0xE1, 0xE2, 0xED, 0xEE
#: Both ends of a picture as they stand in a file.
MARK_SOI, MARK_EOI = b"\xff\xd8", b"\xff\xd9"
#: Frame headers (B.2.2); 0xC4, 0xC8 and 0xCC are none.
SOF = frozenset(range(0xC0, 0xD0)) - {DHT, 0xC8, DAC}
SEQUENTIAL = frozenset({0xC0, 0xC1})
PROGRESSIVE = 0xC2
LOSSLESS = 0xC3
#: Codings in which a component takes several scans, decoded or not (B.2.2, Table B.1).
BY_SCANS = frozenset({PROGRESSIVE, 0xC6, 0xCA, 0xCE})
#: What each is called. Hierarchical and arithmetic ones are walked, not decoded.
SOF_NAMES = {
    0xC0: "baseline", 0xC1: "extended sequential", 0xC2: "progressive", 0xC3: "lossless",
    0xC5: "differential sequential", 0xC6: "differential progressive", 0xC7: "differential lossless",
    0xC9: "arithmetic sequential", 0xCA: "arithmetic progressive", 0xCB: "arithmetic lossless",
    0xCD: "arithmetic differential", 0xCE: "arithmetic differential", 0xCF: "arithmetic differential",
}  # fmt: skip
#: Markers without a length (B.1.1.3): TEM, RSTn, SOI, EOI.
STANDALONE = frozenset({0x01, *range(0xD0, 0xDA)})
#: Markers kept for later versions and for hierarchical coding (B.1.1.3): decoders give a picture with one in its way up.
RESERVED = frozenset({0xC8, 0xDE, 0xDF, *range(0xF0, 0xFE)})

_NAMES = {
    SOI: "SOI", EOI: "EOI", SOS: "SOS, scan header", DQT: "DQT, quantisation tables", DNL: "DNL, number of lines",
    DRI: "DRI, restart interval", DHT: "DHT, Huffman tables", DAC: "DAC, arithmetic conditioning", COM: "COM, comment",
    APP0: "APP0, JFIF", APP1: "APP1, Exif or XMP", APP2: "APP2, colour profile or picture index", APP13: "APP13", APP14: "APP14, colour transform",
}  # fmt: skip


def marker_name(marker: int) -> str:
    """The standard's name of a marker (table B.1) with what it carries."""
    if marker in SOF:
        return f"SOF{marker - 0xC0}, frame header, {SOF_NAMES[marker]}"
    if 0xE0 <= marker <= 0xEF:
        return _NAMES.get(marker, f"APP{marker - 0xE0}")
    return _NAMES.get(marker, f"marker 0xFF{marker:02X}")


_DC_LUMA = ("00010501010101010100000000000000", "000102030405060708090a0b")
_DC_CHROMA = ("00030101010101010101010000000000", "000102030405060708090a0b")
_AC_LUMA = (
    "0002010303020403050504040000017d",
    "01020300041105122131410613516107227114328191a1082342b1c11552d1f02433627282090a161718191a25262728292a34"
    "35363738393a434445464748494a535455565758595a636465666768696a737475767778797a838485868788898a9293949596"
    "9798999aa2a3a4a5a6a7a8a9aab2b3b4b5b6b7b8b9bac2c3c4c5c6c7c8c9cad2d3d4d5d6d7d8d9dae1e2e3e4e5e6e7e8e9eaf1"
    "f2f3f4f5f6f7f8f9fa",
)
_AC_CHROMA = (
    "00020102040403040705040400010277",
    "0001020311040521310612415107617113223281081442"
    "91a1b1c109233352f0156272d10a162434e125f11718191a262728292a35363738393a434445464748494a53545556575859"
    "5a636465666768696a737475767778797a82838485868788898a92939495969798999aa2a3a4a5a6a7a8a9aab2b3b4b5b6b7b8"
    "b9bac2c3c4c5c6c7c8c9cad2d3d4d5d6d7d8d9dae2e3e4e5e6e7e8e9eaf2f3f4f5f6f7f8f9fa",
)
#: (class << 4 | id) → (16 code counts, symbols): Tables K.3 to K.6.
ANNEX_K: dict[int, tuple[bytes, bytes]] = {
    key: (bytes.fromhex(counts), bytes.fromhex(symbols))
    for key, (counts, symbols) in {0x00: _DC_LUMA, 0x01: _DC_CHROMA, 0x10: _AC_LUMA, 0x11: _AC_CHROMA}.items()
}

ZIGZAG = (
    0, 1, 8, 16, 9, 2, 3, 10, 17, 24, 32, 25, 18, 11, 4, 5, 12, 19, 26, 33, 40, 48, 41, 34, 27, 20, 13, 6, 7, 14,
    21, 28, 35, 42, 49, 56, 57, 50, 43, 36, 29, 22, 15, 23, 30, 37, 44, 51, 58, 59, 52, 45, 38, 31, 39, 46, 53,
    60, 61, 54, 47, 55, 62, 63,
)  # fmt: skip


def table_segment(key: int, counts: bytes, symbols: bytes) -> bytes:
    """A DHT segment (B.2.4.2) with one table."""
    body = bytes([key]) + counts + symbols
    return b"\xff\xc4" + (len(body) + 2).to_bytes(2, "big") + body


def quant_segment(ident: int, values: NDArray[np.uint16]) -> bytes:
    """A DQT segment (B.2.4.1) with one table of 64 ``values`` in zigzag order."""
    wide = int(values.max()) > 255
    body = bytes([(wide << 4) | ident]) + values.astype(">u2" if wide else np.uint8).tobytes()
    return b"\xff\xdb" + (len(body) + 2).to_bytes(2, "big") + body


def annex_k_segments() -> bytes:
    """The four typical tables as DHT segments."""
    return b"".join(table_segment(key, *table) for key, table in ANNEX_K.items())
