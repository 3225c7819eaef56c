"""Entropy-coded data cut and joined at the level of bits, for repairs that keep every surviving bit."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jugal.binary.output import Piece
from jugal.formats.base import RepairImpossible
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.parse import Entropy, HuffmanTable, Scan, Structure
from jugal.model.span import ByteSpan


def with_entropy(scan: Scan, entropy: Entropy) -> Scan:
    """``scan``'s header and tables over other data."""
    return Scan(
        scan.segment, scan.components, scan.ss, scan.se, scan.ah, scan.al, scan.tables, scan.restart_interval, entropy
    )


def with_neutral_codes(structure: Structure) -> tuple[Structure, tuple[Piece, ...]]:
    """``structure`` of one scan with tables that have codes for blocks without detail, and its header with them."""
    roomy, added = neutral_tables(structure)
    start, at, end = structure.start, structure.scans[0].segment.start, structure.scans[0].entropy.start
    return roomy, (ByteSpan(start, at), added, ByteSpan(at, end)) if added else (ByteSpan(start, end),)


def neutral_tables(structure: Structure) -> tuple[Structure, bytes]:
    """``structure`` of one scan with tables that have codes for blocks without detail at any level, and the segments to be put
    before the scan's header for them.

    Tables made for one picture lack what it had no use for. Codes of 16 bits are added behind the others, which keep
    theirs (Annex C); the code of all ones stays free, as it must. Where there is no room the tables stay as they are.
    """
    scan, frame = structure.scans[0], structure.frame
    assert frame is not None
    tables, added = dict(scan.tables), b""
    sizes = range(frame.precision + 4)
    wanted = {td: sizes for _, td, _ in scan.components} | {ta | 0x10: range(1) for _, _, ta in scan.components}
    for key, symbols in wanted.items():
        table = tables[key]
        lacking = [symbol for symbol in symbols if symbol not in table.symbols]
        room = (1 << 16) - 1 - sum(count << (16 - length) for length, count in enumerate(table.counts, 1))
        if lacking and room > 0:
            new = bytes(lacking[:room])
            tables[key] = HuffmanTable(table.counts[:15] + bytes([table.counts[15] + len(new)]), table.symbols + new)
            added += spec.table_segment(key, tables[key].counts, tables[key].symbols)
    return replace(structure, scans=[replace(scan, tables=tables)]) if added else structure, added


def neutral_mcu(structure: Structure, scan: Scan, changes: list[int] | None = None) -> np.ndarray:
    """The bits of one MCU without detail, at the level before it or, with ``changes``, that far from it."""
    assert structure.frame is not None
    bits: list[int] = []
    single = len(scan.components) == 1
    for index, td, ta in scan.components:
        component = structure.frame.components[index]
        end = code_bits(scan.tables[ta | 0x10], 0)
        blocks = 1 if single else component.h * component.v
        value = changes[index] if changes else 0
        size = abs(value).bit_length()
        first = code_bits(scan.tables[td], size)
        if size:
            raw = value if value > 0 else value + (1 << size) - 1
            first = first + [(raw >> (size - 1 - i)) & 1 for i in range(size)]
        bits += first + end + (code_bits(scan.tables[td], 0) + end) * (blocks - 1)
    return np.array(bits, np.uint8)


def code_bits(table: HuffmanTable, symbol: int) -> list[int]:
    """The code of ``symbol`` as bits (T.81 Annex C); RepairImpossible where the table has none."""
    code, index = 0, 0
    for length in range(1, 17):
        for _ in range(table.counts[length - 1]):
            if table.symbols[index] == symbol:
                return [(code >> (length - 1 - i)) & 1 for i in range(length)]
            code += 1
            index += 1
        code <<= 1
    raise RepairImpossible("The picture's tables have no code for a neutral block.")


def codes_nothing_new(structure: Structure, data: bytes) -> bool:
    """Whether stuffed ``data`` hold the code of the MCU without detail over and over, as an encoder writes it for a flat area."""
    try:
        once = neutral_mcu(structure, structure.scans[0])
    except (RepairImpossible, KeyError):
        return False
    bits = np.unpackbits(np.frombuffer(data.replace(b"\xff\x00", b"\xff"), np.uint8))
    if bits.size < 2 * once.size:
        return False
    repeated = np.tile(once, bits.size // once.size + 2)
    return any(np.array_equal(repeated[phase : phase + bits.size], bits) for phase in range(once.size))
