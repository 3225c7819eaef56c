"""Named, seeded damages with the truth about each: what was done, where it starts, whether it matters."""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from jugal.samples.scenes import PARAGRAPHS, riverbed


@dataclass(frozen=True, slots=True)
class Harm:
    """A damaged file. ``start`` is the first byte that differs from the original (or its new end)."""

    name: str
    data: bytes
    start: int
    harmless: bool = False


def _middle(data: bytes, rng: np.random.Generator, size: int, low: float = 0.3, high: float = 0.8) -> int:
    """A cluster boundary of ``size`` in the given part of the file."""
    units = len(data) // size
    first, last = max(1, int(units * low)), max(2, int(units * high))
    return int(rng.integers(first, last)) * size if units > 2 else len(data) // 2 // 512 * 512


def _put(data: bytes, at: int, new: bytes) -> bytes:
    return data[:at] + new[: max(0, len(data) - at)] + data[at + len(new) :]


def _first_difference(old: bytes, new: bytes) -> int:
    a, b = np.frombuffer(old, np.uint8), np.frombuffer(new, np.uint8)
    n = min(a.size, b.size)
    different = np.flatnonzero(a[:n] != b[:n])
    return int(different[0]) if different.size else n


def _cluster(data: bytes) -> int:
    return 4096 if len(data) > 40_000 else 512


def truncate(data: bytes, rng: np.random.Generator) -> bytes:
    return data[: int(len(data) * rng.uniform(0.35, 0.85))]


def truncate_sector(data: bytes, rng: np.random.Generator) -> bytes:
    return data[: _middle(data, rng, 512)]


def truncate_slightly(data: bytes, rng: np.random.Generator) -> bytes:
    return data[: len(data) - int(rng.integers(40, 400))]


def zero_cluster(data: bytes, rng: np.random.Generator) -> bytes:
    size = _cluster(data)
    return _put(data, _middle(data, rng, size), bytes(size))


def zero_several(data: bytes, rng: np.random.Generator) -> bytes:
    size = _cluster(data)
    for low in (0.25, 0.5, 0.75):
        data = _put(data, _middle(data, rng, size, low, low + 0.15), bytes(size))
    return data


def ff_cluster(data: bytes, rng: np.random.Generator) -> bytes:
    size = _cluster(data)
    return _put(data, _middle(data, rng, size), b"\xff" * size)


def pattern_cluster(data: bytes, rng: np.random.Generator) -> bytes:
    size = max(1024, _cluster(data))
    return _put(data, _middle(data, rng, size), (b"UNREADABLESECTOR" * (size // 16 + 1))[:size])


def noise_cluster(data: bytes, rng: np.random.Generator) -> bytes:
    size = _cluster(data)
    return _put(data, _middle(data, rng, size), rng.bytes(size))


def text_cluster(data: bytes, rng: np.random.Generator) -> bytes:
    size = max(4096, _cluster(data)) if len(data) > 16_384 else 512
    text = (" ".join(PARAGRAPHS) * (size // 200 + 1)).encode()[:size]
    return _put(data, _middle(data, rng, size), text)


def own_cluster(data: bytes, rng: np.random.Generator) -> bytes:
    """A cluster of the same file from elsewhere, as after a crossed chain."""
    size = _cluster(data)
    at = _middle(data, rng, size, 0.5, 0.8)
    other = _middle(data, rng, size, 0.1, 0.4)
    return _put(data, at, data[other : other + size])


def lost_cluster(data: bytes, rng: np.random.Generator) -> bytes:
    size = _cluster(data)
    at = _middle(data, rng, size)
    return data[:at] + data[at + size :]


def zero_tail(data: bytes, rng: np.random.Generator) -> bytes:
    at = _middle(data, rng, 512, 0.5, 0.9)
    return data[:at] + bytes(len(data) - at)


def flip_bits(data: bytes, rng: np.random.Generator) -> bytes:
    out = bytearray(data)
    for _ in range(3):
        at = int(rng.integers(int(len(out) * 0.3), int(len(out) * 0.9)))
        out[at] ^= 1 << int(rng.integers(0, 8))
    return bytes(out)


def zero_start(data: bytes, rng: np.random.Generator) -> bytes:
    return bytes(512) + data[512:]


def junk_before(data: bytes, rng: np.random.Generator) -> bytes:
    return rng.bytes(1500) + data


def junk_after(data: bytes, rng: np.random.Generator) -> bytes:
    return data + rng.bytes(5000)


def zeros_after(data: bytes, rng: np.random.Generator) -> bytes:
    return data + bytes(12_000 + -len(data) % 4096)


def flip_one_bit(data: bytes, rng: np.random.Generator) -> bytes:
    at = int(rng.integers(int(len(data) * 0.2), int(len(data) * 0.9)))
    return _put(data, at, bytes([data[at] ^ 1 << int(rng.integers(0, 8))]))


def noise_sector(data: bytes, rng: np.random.Generator) -> bytes:
    return _put(data, _middle(data, rng, 512), rng.bytes(512))


def zero_large_cluster(data: bytes, rng: np.random.Generator) -> bytes:
    """A cluster as large media have them: 32 KiB, or an eighth of a smaller file."""
    size = 32_768 if len(data) > 200_000 else max(512, len(data) // 8 // 512 * 512)
    return _put(data, _middle(data, rng, size, 0.2, 0.7), bytes(size))


def zero_second_sector(data: bytes, rng: np.random.Generator) -> bytes:
    return _put(data, 512, bytes(512))


def lost_start(data: bytes, rng: np.random.Generator) -> bytes:
    return data[_cluster(data) :]


def lost_bytes(data: bytes, rng: np.random.Generator) -> bytes:
    at = _middle(data, rng, 512) + int(rng.integers(1, 500))
    return data[:at] + data[at + int(rng.integers(1, 9)) :]


def inserted_cluster(data: bytes, rng: np.random.Generator) -> bytes:
    size = _cluster(data)
    at = _middle(data, rng, size)
    return data[:at] + rng.bytes(size) + data[at:]


def repeated_cluster(data: bytes, rng: np.random.Generator) -> bytes:
    size = _cluster(data)
    at = _middle(data, rng, size)
    return data[:at] + data[at - size : at] + data[at:]


def swapped_clusters(data: bytes, rng: np.random.Generator) -> bytes:
    size = _cluster(data)
    at = _middle(data, rng, size, 0.3, 0.7)
    return data[:at] + data[at + size : at + 2 * size] + data[at : at + size] + data[at + 2 * size :]


def kindred_cluster(data: bytes, rng: np.random.Generator) -> bytes:
    """A cluster of another file of the same kind, as neighbours on a card leave it."""
    size = _cluster(data)
    at = _middle(data, rng, size)
    return _put(data, at, _kindred(data, rng, size))


def kindred_tail(data: bytes, rng: np.random.Generator) -> bytes:
    """From a cluster on the bytes of another file of the same kind."""
    at = _middle(data, rng, _cluster(data), 0.4, 0.8)
    return data[:at] + _kindred(data, rng, len(data) - at)


def _kindred(data: bytes, rng: np.random.Generator, length: int) -> bytes:
    """Bytes from the middle of another picture, or noise as dense as any coded sound, video or document."""
    if data[:2] != b"\xff\xd8":
        return rng.bytes(length)
    other = b""
    while len(other) < length + 8192:
        picture = riverbed(1400, 1000, 70 + len(other) % 97, "K1")
        out = io.BytesIO()
        picture.save(out, "JPEG", quality=90)
        other += out.getvalue()[4096:-4096]
    at = int(rng.integers(0, len(other) - length))
    return other[at : at + length]


_GENERAL: dict[str, Callable[[bytes, np.random.Generator], bytes]] = {
    f.__name__.replace("_", "-"): f
    for f in (
        truncate, truncate_sector, truncate_slightly, zero_cluster, zero_several, ff_cluster, pattern_cluster, noise_cluster,
        text_cluster, own_cluster, lost_cluster, zero_tail, flip_bits, zero_start, junk_before, junk_after, zeros_after,
        flip_one_bit, noise_sector, zero_large_cluster, zero_second_sector, lost_start, lost_bytes, inserted_cluster,
        repeated_cluster, swapped_clusters, kindred_cluster, kindred_tail,
    )
}  # fmt: skip


def _jpeg_segments(data: bytes) -> Iterator[tuple[int, int, int]]:
    """Marker, start and end of each segment up to the first scan header, fill bytes before a marker left out."""
    at, marker = 2, 0
    while marker != 0xDA:
        while data[at + 1] == 0xFF:
            at += 1
        marker, end = data[at + 1], at + 2 + int.from_bytes(data[at + 2 : at + 4], "big")
        yield marker, at, end
        at = end


def _jpeg_cut_tables(data: bytes, rng: np.random.Generator) -> bytes:
    """All DHT segments taken out."""
    kept, since = [], 0
    for marker, start, end in _jpeg_segments(data):
        if marker == 0xC4:
            kept.append(data[since:start])
            since = end
    return b"".join([*kept, data[since:]])


def _jpeg_no_header(data: bytes, rng: np.random.Generator) -> bytes:
    end = _jpeg_segment(data, 0xDA)[1]
    return bytes(end) + data[end:]


def _jpeg_segment(data: bytes, *markers: int) -> tuple[int, int]:
    """Start and end of the first segment with one of ``markers``."""
    return next((start, end) for marker, start, end in _jpeg_segments(data) if marker in markers)


def _jpeg_no_quant(data: bytes, rng: np.random.Generator) -> bytes:
    start, end = _jpeg_segment(data, 0xDB)
    return data[:start] + data[end:]


def _jpeg_no_frame(data: bytes, rng: np.random.Generator) -> bytes:
    start, end = _jpeg_segment(data, 0xC0, 0xC1, 0xC2)
    return _put(data, start, bytes(end - start))


def _jpeg_length(data: bytes, rng: np.random.Generator) -> bytes:
    """The length of the first segment points into the middle of nowhere."""
    return _put(data, 4, b"\x7f\x31")


def _jpeg_marker_in_scan(data: bytes, rng: np.random.Generator) -> bytes:
    start = data.find(b"\xff\xda") + 14
    return _put(
        data, int(rng.integers(start + (len(data) - start) // 3, start + (len(data) - start) * 3 // 4)), b"\xff\xd9"
    )


def _jpeg_tables_damaged(data: bytes, rng: np.random.Generator) -> bytes:
    start, end = _jpeg_segment(data, 0xC4)
    return _put(data, start + 8, rng.bytes(min(12, end - start - 8)))


def _jpeg_start_again(data: bytes, rng: np.random.Generator) -> bytes:
    """Another picture begins where the rest should be."""
    at = _middle(data, rng, _cluster(data), 0.4, 0.8)
    out = io.BytesIO()
    riverbed(800, 600, 41, "K2").save(out, "JPEG", quality=85)
    return data[:at] + out.getvalue()


def _box(data: bytes, kind: bytes) -> int:
    return data.find(kind) - 4


def _mp4_mdat_size(data: bytes, rng: np.random.Generator) -> bytes:
    at = _box(data, b"mdat")
    size = int.from_bytes(data[at : at + 4], "big")
    return _put(data, at, (size + 40_000_000).to_bytes(4, "big"))


def _mp4_mdat_zero(data: bytes, rng: np.random.Generator) -> bytes:
    """Size 0 (to the end of the file) though the index follows."""
    return _put(data, _box(data, b"mdat"), bytes(4))


def _mp4_no_ftyp(data: bytes, rng: np.random.Generator) -> bytes:
    return bytes(int.from_bytes(data[:4], "big")) + data[int.from_bytes(data[:4], "big") :]


def _mp4_shift(data: bytes, rng: np.random.Generator) -> bytes:
    """Bytes put in before the media data, all sizes right: every chunk offset is off by a constant."""
    at = _box(data, b"mdat")
    extra = 64
    return data[:at] + extra.to_bytes(4, "big") + b"free" + bytes(extra - 8) + data[at:]


def _mp4_no_index(data: bytes, rng: np.random.Generator) -> bytes:
    at = _box(data, b"moov")
    return _put(data, at, bytes(int.from_bytes(data[at : at + 4], "big")))


def _mp4_table(data: bytes, kind: bytes, head: int, new: Callable[[int], bytes]) -> bytes:
    """What a table lists, behind ``head`` bytes of the box."""
    at = _box(data, kind)
    size = int.from_bytes(data[at : at + 4], "big")
    return _put(data, at + head, new(size - head))


def _mp4_no_offsets(data: bytes, rng: np.random.Generator) -> bytes:
    """The table of chunk offsets zeroed but for its count."""
    return _mp4_table(data, b"stco", 16, bytes)


def _mp4_no_sizes(data: bytes, rng: np.random.Generator) -> bytes:
    """The table of sample sizes overwritten but for its count."""
    return _mp4_table(data, b"stsz", 20, rng.bytes)


def _mp4_no_count(data: bytes, rng: np.random.Generator) -> bytes:
    """The table of sample sizes zeroed with its count."""
    return _mp4_table(data, b"stsz", 16, bytes)


def _mp4_index_size(data: bytes, rng: np.random.Generator) -> bytes:
    at = _box(data, b"moov")
    return _put(data, at, (int.from_bytes(data[at : at + 4], "big") * 3 + 17).to_bytes(4, "big"))


def _mp4_junk_between(data: bytes, rng: np.random.Generator) -> bytes:
    """Bytes that are no box between the file type and what follows, all else moved along."""
    at = int.from_bytes(data[:4], "big")
    return data[:at] + b"\xee" * 1024 + data[at:]


def _in_index(data: bytes, rng: np.random.Generator, length: int) -> int:
    """A place in the index behind its first box, from which ``length`` bytes of it lie."""
    at = _box(data, b"moov")
    end = at + int.from_bytes(data[at : at + 4], "big")
    return int(rng.integers(at + 116, max(at + 117, end - length)))


def _mp4_index_bit(data: bytes, rng: np.random.Generator) -> bytes:
    at = _in_index(data, rng, 1)
    return _put(data, at, bytes([data[at] ^ 1 << int(rng.integers(8))]))


def _mp4_index_sector(data: bytes, rng: np.random.Generator) -> bytes:
    return _put(data, _in_index(data, rng, 512), bytes(512))


def _mp4_fragment_bit(data: bytes, rng: np.random.Generator) -> bytes:
    """A bit in the index of one of the fragments, where there are any."""
    starts = [m.start() - 4 for m in re.finditer(b"moof....mfhd", data, re.S)]
    if not starts:
        return data
    start = starts[int(rng.integers(len(starts)))]
    at = int(rng.integers(start, start + int.from_bytes(data[start : start + 4], "big")))
    return _put(data, at, bytes([data[at] ^ 1 << int(rng.integers(8))]))


def _wav_sizes(data: bytes, rng: np.random.Generator) -> bytes:
    at = data.find(b"data")
    return _put(_put(data, 4, bytes(4)), at + 4, bytes(4))


def _png_crc(data: bytes, rng: np.random.Generator) -> bytes:
    at = data.find(b"IHDR") + 17
    return _put(data, at, bytes([data[at] ^ 0x55]))


def _png_no_end(data: bytes, rng: np.random.Generator) -> bytes:
    return data[:-12]


def _pdf_startxref(data: bytes, rng: np.random.Generator) -> bytes:
    at = data.rfind(b"startxref") + 10
    return data[:at] + b"7" + data[at:]


def _zip_no_directory(data: bytes, rng: np.random.Generator) -> bytes:
    return data[: data.find(b"PK\x01\x02")]


_SPECIAL: dict[str, dict[str, Callable[[bytes, np.random.Generator], bytes]]] = {
    "jpeg": {"no-huffman-tables": _jpeg_cut_tables, "no-header": _jpeg_no_header, "no-end-marker": lambda d, r: d[:-2], "no-start-marker": lambda d, r: bytes(2) + d[2:], "no-quantisation-table": _jpeg_no_quant, "no-frame-header": _jpeg_no_frame, "segment-length": _jpeg_length, "end-marker-inside": _jpeg_marker_in_scan, "tables-damaged": _jpeg_tables_damaged, "another-picture": _jpeg_start_again},
    "mp4": {"mdat-size": _mp4_mdat_size, "mdat-size-zero": _mp4_mdat_zero, "no-file-type": _mp4_no_ftyp, "offsets-shifted": _mp4_shift, "no-index": _mp4_no_index, "no-offsets": _mp4_no_offsets, "no-sample-sizes": _mp4_no_sizes, "no-sample-count": _mp4_no_count, "index-size": _mp4_index_size, "junk-between": _mp4_junk_between, "index-bit": _mp4_index_bit, "index-sector": _mp4_index_sector, "fragment-bit": _mp4_fragment_bit},
    "wav": {"sizes-zero": _wav_sizes},
    "png": {"header-crc": _png_crc, "no-end": _png_no_end},
    "pdf": {"startxref-wrong": _pdf_startxref},
    "zip": {"no-directory": _zip_no_directory},
}  # fmt: skip
_HARMLESS = {"junk-after", "zeros-after"}
_FAMILY = {"mov": "mp4", "m4a": "mp4", "3gp": "mp4", "docx": "zip", "xlsx": "zip", "odt": "zip"}


def harms_for(name: str) -> list[str]:
    """The names of all damages that can be done to a file of this format."""
    return [*_GENERAL, *_SPECIAL.get(_FAMILY.get(name, name), {})]


def harm(data: bytes, format_name: str, name: str, seed: int) -> Harm:
    """``data`` with the damage ``name`` done to it."""
    function = _GENERAL.get(name) or _SPECIAL[_FAMILY.get(format_name, format_name)][name]
    rng = np.random.default_rng(seed)
    damaged = function(data, rng)
    start = 0 if name in ("junk-before",) else _first_difference(data, damaged)
    return Harm(name, damaged, start, name in _HARMLESS)
