"""From content to format. The file's name never decides; every answer comes with its reason."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from jugal.binary.source import Source
from jugal.formats.detect_text import text_format
from jugal.formats.isobmff.boxes import find_media_box
from jugal.formats.isobmff.chains import has_planes, video_share
from jugal.formats.isobmff.video import AvcStream, HevcStream
from jugal.formats.jpeg.stretches import DENSE, information, stretches
from jugal.formats.zip.names import package_format

_HEAD = 4096
_DEEP = 1 << 20
_LARGEST_STILL = 1 << 27
#: Share of a file from which on it is mostly something.
_MOSTLY = 0.5
#: Bytes that a photo with a clip behind it takes.
_PHOTO = range(4096, 1 << 28)


@dataclass(frozen=True, slots=True)
class Detection:
    """A format's short name and the evidence. ``sound`` is False where the usual start is not there."""

    format: str
    reason: str
    sound: bool = True


UNKNOWN = Detection("unknown", "no known signature or structure", False)

_BRANDS = {
    b"qt  ": "mov", b"M4A ": "m4a", b"M4B ": "m4a", b"M4P ": "m4a",
    b"3gp": "3gp", b"3g2": "3gp", b"crx ": "cr3",
    b"avif": "avif", b"avis": "avif",
    b"heic": "heic", b"heix": "heic", b"heim": "heic", b"heis": "heic", b"hevc": "heic", b"hevx": "heic",
    b"mif1": "heic", b"msf1": "heic",
}  # fmt: skip
_TOP_BOXES = {
    b"ftyp",
    b"moov",
    b"mdat",
    b"moof",
    b"free",
    b"skip",
    b"wide",
    b"uuid",
    b"pnot",
    b"sidx",
    b"styp",
}
_SIGNATURES: tuple[tuple[int, bytes, str], ...] = (
    (0, b"\x89PNG\r\n\x1a\n", "png"),
    (0, b"GIF87a", "gif"),
    (0, b"GIF89a", "gif"),
    (0, b"FUJIFILMCCD-RAW ", "raf"),
    (0, b"IIRO", "orf"),
    (0, b"IIRS", "orf"),
    (0, b"MMOR", "orf"),
    (0, b"IIU\x00", "rw2"),
    (0, b"8BPS", "psd"),
    (0, b"fLaC", "flac"),
    (0, b"riff\x2e\x91\xcf\x11\xa5\xd6\x28\xdb", "w64"),
    (0, b"%PDF-", "pdf"),
    (0, b"{\\rtf", "rtf"),
    (0, b"SQLite format 3\x00", "sqlite"),
    (0, b"\x1f\x8b\x08", "gzip"),
    (0, b"7z\xbc\xaf\x27\x1c", "7z"),
    (0, b"Rar!\x1a\x07", "rar"),
    (257, b"ustar", "tar"),
    (0, b"\x00\x00\x01\xba", "mpegps"),
    (0, b"\x06\x0e\x2b\x34\x02\x05\x01\x01\x0d\x01\x02\x01\x01\x02", "mxf"),
)


def detect(source: Source) -> Detection:
    """The format of ``source``: by its start, else by what further structure is left of it."""
    head = source.read(0, _HEAD)
    for offset, magic, name in _SIGNATURES:
        if head[offset : offset + len(magic)] == magic:
            return Detection(name, f"signature of {name} at byte {offset}")
    return (
        _jpeg_start(head)
        or _riff(head)
        or _zip_start(source, head)
        or _boxes(source, head)
        or _tiff(source, head)
        or _ebml(head)
        or _ogg(head)
        or _ole(source, head)
        or _bmp(source, head)
        or _transport_stream(source)
        or _audio_frames(source)
        or _pdf_without_start(source)
        or _text(source)
        or _without_start(source)
        or UNKNOWN
    )


def _jpeg_start(head: bytes) -> Detection | None:
    if head[:3] == b"\xff\xd8\xff":
        return Detection("jpeg", "start-of-image marker")
    return None


def _riff(head: bytes) -> Detection | None:
    if head[:4] in (b"RIFF", b"RIFX", b"RF64", b"BW64"):
        name = {b"WAVE": "wav", b"AVI ": "avi", b"WEBP": "webp"}.get(head[8:12])
        if name:
            return Detection(name, f"RIFF form {name}")
        if head[12:16] in (b"fmt ", b"bext", b"JUNK", b"ds64"):
            return Detection("wav", "RIFF with a sound format chunk", False)
    if head[:4] == b"FORM" and head[8:12] in (b"AIFF", b"AIFC"):
        return Detection("aiff", "IFF form AIFF")
    if head[8:12] == b"WAVE" and head[12:16] in (b"fmt ", b"bext", b"JUNK"):
        return Detection("wav", "WAVE form without its RIFF header", False)
    return None


def _zip_start(source: Source, head: bytes) -> Detection | None:
    if head[:4] in (b"PK\x03\x04", b"PK\x05\x06", b"PK\x07\x08"):
        return Detection(package_format(source), "ZIP local header")
    return None


def _boxes(source: Source, head: bytes) -> Detection | None:
    if len(head) < 8:
        return None
    kind = head[4:8]
    if kind == b"ftyp":
        brands = [head[8:12]] + [head[i : i + 4] for i in range(16, min(int.from_bytes(head[:4], "big"), 256), 4)]
        return Detection(_brand_format(source, brands), "file type box")
    if kind in _TOP_BOXES:
        size = int.from_bytes(head[:4], "big")
        if kind == b"styp":
            return Detection("mp4", "segment type box", False)
        following = source.read(size + 4, 4) if 8 <= size < source.size else b""
        if following in _TOP_BOXES or size in (0, 1) or kind in (b"moov", b"mdat"):
            return Detection(_movie_format(source), f"top-level box {kind.decode('latin-1')}", False)
    return None


def _brand_format(source: Source, brands: list[bytes]) -> str:
    for brand in brands[:1] + brands[1:]:
        name = _BRANDS.get(brand) or _BRANDS.get(brand[:3])
        if name == "heic" and b"avif" in brands:
            return "avif"
        if name:
            return name
        if brand == brands[0] and brand not in (b"mp41", b"mp42", b"isom", b"iso2", b"\x00\x00\x00\x00"):
            continue
        if brand == brands[0]:
            break
    return "mp4"


def _movie_format(source: Source) -> str:
    """Without a file type box: QuickTime's handler names tell mov from mp4."""
    hit = source.find(b"mhlr", 0, min(source.size, _DEEP))
    if hit < 0:
        hit = source.find(b"mhlr", max(0, source.size - _DEEP))
    if hit >= 0:
        return "mov"
    if source.read(4, 4) in (b"wide", b"pnot"):
        return "mov"
    return "mp4"


def _tiff(source: Source, head: bytes) -> Detection | None:
    if head[:4] not in (b"II*\x00", b"MM\x00*", b"II+\x00", b"MM\x00+"):
        return None
    if head[8:10] == b"CR":
        return Detection("cr2", "TIFF with the CR2 mark")
    order = "little" if head[:2] == b"II" else "big"
    first = int.from_bytes(head[4:8], "little" if order == "little" else "big")
    tags: dict[int, bytes] = {}
    count = source.uint(first, 2, order) or 0
    for index in range(min(count, 200)):
        entry = source.read(first + 2 + 12 * index, 12)
        if len(entry) < 12:
            break
        tags[int.from_bytes(entry[:2], "little" if order == "little" else "big")] = entry[8:12]
    if 0xC612 in tags:
        return Detection("dng", "TIFF with a DNG version tag")
    maker = b""
    if 0x010F in tags:
        at = int.from_bytes(tags[0x010F], "little" if order == "little" else "big")
        maker = source.read(at, 24).upper()
    sub = 0x014A in tags or 0x8769 in tags
    if sub and maker.startswith(b"NIKON") and 0x00FE in tags:
        return Detection("nef", "TIFF of a camera, raw sub-images")
    if sub and maker.startswith(b"SONY") and (0x014A in tags or 0x00FE in tags):
        return Detection("arw", "TIFF of a camera, raw sub-images")
    return Detection("tiff", "TIFF header")


def _ebml(head: bytes) -> Detection | None:
    if head[:4] != b"\x1a\x45\xdf\xa3":
        return None
    return Detection("webm" if b"webm" in head[:64] else "mkv", "EBML header")


def _ogg(head: bytes) -> Detection | None:
    if head[:4] != b"OggS":
        return None
    return Detection("opus" if b"OpusHead" in head[:128] else "ogg", "Ogg page")


def _ole(source: Source, head: bytes) -> Detection | None:
    if head[:8] != b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1":
        return None
    for stream, name in (
        ("WordDocument", "doc"),
        ("Workbook", "xls"),
        ("Book", "xls"),
        ("PowerPoint Document", "ppt"),
    ):
        if source.find(stream.encode("utf-16-le")) >= 0:
            return Detection(name, f"compound file with a stream {stream}")
    return Detection("doc", "compound file", False)


def _bmp(source: Source, head: bytes) -> Detection | None:
    if head[:2] == b"BM" and len(head) >= 30:
        header = int.from_bytes(head[14:18], "little")
        planes_at = 22 if header == 12 else 26
        planes = int.from_bytes(head[planes_at : planes_at + 2], "little")
        if header in (12, 40, 52, 56, 64, 108, 124) and planes == 1:
            return Detection("bmp", "bitmap header")
    return None


def _transport_stream(source: Source) -> Detection | None:
    for packet, offset in ((188, 0), (192, 4), (204, 0)):
        marks = source.array[offset : offset + packet * 40 : packet]
        if marks.size >= 5 and int((marks == 0x47).sum()) >= marks.size - marks.size // 10:
            return Detection("mpegts", f"sync bytes every {packet} bytes")
    return None


def _audio_frames(source: Source) -> Detection | None:
    from jugal.formats.flac.parse import looks_like_flac
    from jugal.formats.mp3.parse import first_chain, id3v2_length

    tag = id3v2_length(source, 0)
    if tag and source.read(tag, 4) == b"fLaC":
        return Detection("flac", "stream marker after an ID3 tag")
    adts = _adts_chain(source, tag)
    if adts >= 4:
        return Detection("aac", f"{adts} ADTS frames in a chain")
    chain = first_chain(source, tag, tag + 64 * 1024)
    if chain is not None:
        return Detection("mp3", f"chain of audio frames from byte {chain:,}", chain == tag)
    if tag and tag < source.size:
        return Detection("mp3", "ID3 tag", False)
    if looks_like_flac(source):
        return Detection("flac", "frame headers with right CRC", False)
    return None


def _adts_chain(source: Source, start: int) -> int:
    count, at = 0, start
    while count < 8:
        head = source.read(at, 6)
        if len(head) < 6 or head[0] != 0xFF or head[1] & 0xF6 != 0xF0 or (head[2] >> 2) & 15 > 12:
            break
        at += ((head[3] & 3) << 11) | (head[4] << 3) | (head[5] >> 5)
        count += 1
    return count


def _text(source: Source) -> Detection | None:
    name = text_format(source)
    return Detection(name, "text throughout") if name else None


def _without_start(source: Source) -> Detection | None:
    """Files whose first bytes are lost or preceded by others: any further structure that is proof enough."""
    tail = source.read(max(0, source.size - 70_000), 70_000)
    head = source.read(0, min(source.size, _DEEP))
    if len(re.findall(rb"\d+ \d+ obj\b", head)) >= 3:
        return Detection("pdf", "document objects and end of a PDF", False)
    if b"IEND\xaeB`\x82" in tail or (b"IHDR" in head[:64] and b"IDAT" in head):
        return Detection("png", "PNG chunks", False)
    jpeg = _embedded_jpeg(head)
    wave = re.search(rb"RIFF....WAVE(fmt |bext|JUNK|ds64)", head, re.S)
    if wave:
        return Detection("wav", f"RIFF header at byte {wave.start():,}", False)
    png = head.find(b"\x89PNG\r\n\x1a\n")
    pdf = head.find(b"%PDF-")
    embedded = [(at, name) for at, name in ((jpeg, "jpeg"), (png, "png"), (pdf, "pdf")) if at >= 0]
    if b"PK\x05\x06" in tail or head.count(b"PK\x03\x04") >= 2:
        return Detection(package_format(source), "ZIP headers", False)
    if _before_a_clip(source):
        return Detection("jpeg", "entropy-coded data as in a JPEG scan, and a clip behind them", False)
    if _has_fragments(source):
        return Detection("mp4", "movie fragments", False)
    movie = _movie_without_start(source)
    if movie and not (embedded and min(embedded)[0] <= 65536 and not _of_pictures(source)):
        return movie
    if video_share(source, AvcStream) > _MOSTLY:
        return Detection("mp4", "units of AVC that follow one another", False)
    still = _still_without_start(source)
    if still:
        return still
    if find_media_box(source) is not None:
        return Detection("mp4", "media data box", False)
    if video_share(source, HevcStream) > _MOSTLY or has_planes(source):
        return Detection("mp4", "pictures that follow one another", False)
    if embedded:
        at, name = min(embedded)
        return Detection(name, f"start of a {name} at byte {at:,}", False)
    if b"fmt " in head[:4096] and b"data" in head[:65536]:
        return Detection("wav", "sound chunks", False)
    if _pcm_without_start(source):
        return Detection("wav", "samples that follow one another smoothly after a lost start", False)
    if (_jpeg_tables(head) and jpeg < 0) or _jpeg_tables(head[:65536]):
        return Detection("jpeg", "JPEG marker segments", False)
    if _jpeg_entropy(source):
        return Detection("jpeg", "entropy-coded data as in a JPEG scan", False)
    return None


def _pdf_without_start(source: Source) -> Detection | None:
    """A PDF is nearly text, so its end is looked for before text is believed."""
    if re.search(rb"startxref\s+\d+\s+%%EOF", source.read(max(0, source.size - 4096), 4096)):
        return Detection("pdf", "end of a PDF", False)
    return None


def _embedded_jpeg(head: bytes) -> int:
    """Offset of a start-of-image marker with three marker segments in a row after it; -1 if none."""
    for match in re.finditer(rb"\xff\xd8\xff[\xdb\xe0-\xef\xc0-\xc4\xfe]", head):
        at = match.start() + 2
        for _ in range(3):
            if head[at : at + 1] != b"\xff" or head[at + 1 : at + 2] < b"\xc0":
                break
            length = int.from_bytes(head[at + 2 : at + 4], "big")
            if length < 2:
                break
            at += 2 + length
        else:
            return match.start()
    return -1


def _pcm_without_start(source: Source) -> bool:
    """Samples of 16 or 24 bits that follow one another smoothly, after a start that was zeroed."""
    data = source.array
    if data.size < 65_536 or data[:512].any():
        return False
    start = int(np.argmax(data != 0)) // 4 * 4
    for width in (2, 3):
        for phase in range(width):
            block = data[start + phase : start + phase + 262_144]
            pairs = block[: block.size // width * width].reshape(-1, width)[:, -2:]
            samples = np.ascontiguousarray(pairs).view("<i2")[:, 0].astype(np.float64)
            for channels in (2, 1):
                a, b = samples[:-channels], samples[channels:]
                spread = float(a.std())
                if spread > 50 and float(((b - a) ** 2).mean()) < 0.5 * spread**2:
                    return True
    return False


def _movie_without_start(source: Source) -> Detection | None:
    for at in _box_positions(source, b"moov"):
        if source.read(at + 12, 4) in (b"mvhd", b"cmov", b"udta", b"prfl"):
            return Detection(_movie_format(source), "movie box", False)
    boxes = [
        kind
        for kind in (b"ftyp", b"stsz", b"stco", b"stts", b"trun", b"mdat")
        if source.find(kind, 0, min(source.size, _DEEP)) >= 4
    ]
    if b"mdat" in boxes and len(boxes) >= 2:
        return Detection("mp4", "media data box", False)
    if source.read(4, 4) == b"mdat":
        return Detection("mp4", "media data box", False)
    return None


def _has_fragments(source: Source) -> bool:
    """Movie fragments (ISO/IEC 14496-12 8.8.4) or the index of them at the end (8.8.9), whatever their samples look like."""
    last = source.uint(source.size - 4, 4) or 0
    listed = source.read(source.size - 12, 4) == b"mfro" and source.read(source.size - last + 4, 4) == b"mfra"
    return listed or any(source.read(at + 12, 4) == b"mfhd" for at in _box_positions(source, b"moof"))


def _still_without_start(source: Source) -> Detection | None:
    """Intra pictures in a chain take most of the file: the media data of a HEIC or AVIF."""
    from jugal.formats.isobmff.pictures import pictures_share

    if source.size > _LARGEST_STILL:
        return None
    coding, share = pictures_share(source)
    if share < 0.5:
        return None
    return Detection("heic" if coding == "HEVC" else "avif", f"a chain of {coding} still pictures", False)


def _of_pictures(source: Source) -> bool:
    """The movie's own frames are JPEGs, so that one near the file's start speaks for the movie, not against it."""
    return any(
        re.search(rb"stsd.{12}(?:jpeg|mjpa|mjpb)", source.read(at, 1 << 16), re.S)
        for at in _box_positions(source, b"moov")
        if source.read(at + 12, 4) == b"mvhd"
    )


def _box_positions(source: Source, kind: bytes) -> list[int]:
    found: list[int] = []
    at = source.find(kind)
    while at >= 4 and len(found) < 8:
        found.append(at - 4)
        at = source.find(kind, at + 4)
    return found


def _before_a_clip(source: Source) -> bool:
    """Cameras put a short clip behind the end of a photo: most of what lies before the file type box is picture data."""
    at = source.find(b"ftyp") - 4
    if at not in _PHOTO:
        return False
    return sum(s.length for s in stretches(source, 0, at)) > _MOSTLY * at


def _jpeg_tables(head: bytes) -> bool:
    sof = re.search(rb"\xff[\xc0-\xc2]\x00[\x0b\x11\x14]\x08", head)
    dht = re.search(rb"\xff\xc4\x00|\xff\xc4\x01", head)
    sos = re.search(rb"\xff\xda\x00[\x08\x0c\x0e]", head)
    return sum(x is not None for x in (sof, dht, sos)) >= 2


#: Stuffed bytes, the end-of-image marker included, that are no chance where no other 0xFF is.
_FEW_STUFFED = 8


def _jpeg_entropy(source: Source) -> bool:
    """In a JPEG scan each 0xFF is followed by 0x00 or a restart marker; in other dense data 1 in 28 is.

    Coarse pictures have few, or none but the end-of-image marker that closes the file.
    """
    if source.size < 4096:
        return False
    data = source.array[: 1 << 24]
    data = data[data.size // 8 :]
    at = np.flatnonzero(data[:-1] == 0xFF)
    following = data[at + 1]
    stuffed = int(((following == 0) | ((following >= 0xD0) & (following <= 0xD9))).sum())
    if at.size < 12 or at.size < data.size / 20000:
        closed = bytes(data[-2:]) == b"\xff\xd9" and source.size <= 1 << 24
        return closed and stuffed == at.size and (at.size >= _FEW_STUFFED or information(data) >= DENSE)
    return stuffed >= 0.97 * at.size
