"""JPEGs with headers as cameras, phones, drones, scanners and editors write them: previews, notes, profiles and what follows the end."""

from __future__ import annotations

import struct

import numpy as np
from PIL import Image, ImageCms, ImageDraw

from jugal.samples import encode
from jugal.samples.scenes import PARAGRAPHS, riverbed

_CAMERA, _TAKEN = "Lurga M2", "2026:05:14 07:31:00"
_MOST_PROFILE = 65_519
_XMP = b"http://ns.adobe.com/xap/1.0/\0<x:xmpmeta xmlns:x='adobe:ns:meta/'>"


def by_camera(seed: int, size: tuple[int, int] = (900, 680)) -> bytes:
    """4:2:2, a thumbnail between bars, notes of the maker with a small picture in them, and a preview behind the end."""
    picture = _scene(seed, size)
    noise = np.random.default_rng(seed).bytes(3000 + seed % 7 * 100)
    note = b"Lurga\0" + noise + encode.jpeg(picture.resize((320, 240)), quality=80) + bytes(2000)
    exif = encode.exif_of(_CAMERA, _TAKEN, *size, thumbnail=encode.thumbnail_of(picture, bars=True), note=note)
    main = _without_app0(encode.jpeg(picture, quality=92, subsampling=1, exif=exif))
    return encode.with_further(main, [encode.jpeg(picture.resize((size[0] * 2 // 3, size[1] * 2 // 3)), quality=85)])


def by_phone(seed: int, size: tuple[int, int] = (900, 680)) -> bytes:
    """4:2:0 with descriptions and a profile; a grey picture and a short clip behind the end."""
    picture = _scene(seed, size)
    main = encode.jpeg(picture, quality=90, subsampling=2, exif=_exif(picture))
    grey = encode.jpeg(picture.convert("L").resize((size[0] // 2, size[1] // 2)), quality=80)
    return encode.with_further(_with_segments(main, [_descriptions(2000), *_profile(548, seed)]), [grey]) + encode.clip(
        seed=seed, seconds=1.0
    )


def by_drone(seed: int, size: tuple[int, int] = (900, 680)) -> bytes:
    """A restart marker behind each row, long descriptions, a comment."""
    picture = _scene(seed, size)
    main = encode.jpeg(picture, quality=85, restart_marker_rows=1, exif=_exif(picture, bars=True))
    return _with_segments(main, [_descriptions(8000 + seed % 5 * 333), _segment(0xFE, b"survey flight %d" % seed)])


def by_editor(seed: int, size: tuple[int, int] = (900, 680)) -> bytes:
    """Progressive, with a second thumbnail among the editor's own resources, descriptions and a profile."""
    picture = _scene(seed, size)
    small = encode.thumbnail_of(picture)
    main = encode.jpeg(picture, quality=88, progressive=True, exif=_exif(picture))
    own = [_segment(0xED, b"Odrell Edit\0" + small), _descriptions(4000), *_profile(3144, seed)]
    return _with_segments(main, [*own, _segment(0xEE, b"Adobe\0\x64\0\0\0\0\1")])


def for_press(seed: int, size: tuple[int, int] = (800, 600)) -> bytes:
    """Four inks and a profile that takes several segments."""
    main = encode.jpeg(_scene(seed, size).convert("CMYK"), quality=88)
    return main[:2] + b"".join(_profile(200_000, seed)) + main[2:]


def red_green_blue(seed: int, size: tuple[int, int] = (900, 680)) -> bytes:
    """No brightness and colour differences, but the three colours themselves, with the same tables."""
    picture = _scene(seed, size)
    return encode.jpeg(picture, quality=90, keep_rgb=True, subsampling=0, exif=_exif(picture))


def by_scanner(seed: int, size: tuple[int, int] = (850, 1100)) -> bytes:
    """A page of text on paper, with a comment."""
    noise = np.random.default_rng(seed)
    paper = np.clip(246 + noise.normal(0, 1.2, size[::-1]), 0, 255)
    page = Image.fromarray(paper.astype(np.uint8)).convert("RGB")
    draw, words = ImageDraw.Draw(page), " ".join(PARAGRAPHS).split()
    for number, top in enumerate(range(size[1] // 18, size[1] - size[1] // 14, 22)):
        if noise.random() < 0.85:
            first = 7 * (number + seed) % len(words)
            draw.text((size[0] // 14, top), " ".join((words * 2)[first : first + size[0] // 50]), fill=(40, 38, 44))
    return encode.jpeg(page, quality=75, dpi=(300, 300), comment=b"scanned, sheet %d" % seed)


def with_inner_preview(seed: int, size: tuple[int, int] = (900, 680)) -> bytes:
    """A thumbnail, and a preview of 640 pixels across in a segment of the maker's own."""
    picture = _scene(seed, size)
    preview = encode.jpeg(picture.resize((640, 640 * size[1] // size[0])), quality=80)
    pieces = [preview[at : at + 65_000] for at in range(0, len(preview), 65_000)]
    main = encode.jpeg(picture, quality=87, exif=_exif(picture))
    return _with_segments(main, [_segment(0xE3, b"PRVW" + piece) for piece in pieces])


def with_filler(seed: int, size: tuple[int, int] = (800, 600)) -> bytes:
    """Exif data filled up with zeros ahead of the thumbnail, no JFIF segment, fill bytes ahead of the scan header."""
    picture = _scene(seed, size)
    filler = bytes(20_000 + seed % 3 * 512)
    exif = encode.exif_of(_CAMERA, _TAKEN, *size, thumbnail=encode.thumbnail_of(picture), filler=filler)
    main = _without_app0(encode.jpeg(picture, quality=80, subsampling=1, exif=exif))
    at = main.rindex(b"\xff\xda")
    return main[:at] + b"\xff" * 7 + main[at:]


def _scene(seed: int, size: tuple[int, int]) -> Image.Image:
    return riverbed(*size, seed, f"H{seed}")


def _exif(picture: Image.Image, bars: bool = False) -> bytes:
    return encode.exif_of(_CAMERA, _TAKEN, *picture.size, thumbnail=encode.thumbnail_of(picture, bars))


def _segment(marker: int, body: bytes) -> bytes:
    return bytes((0xFF, marker)) + struct.pack(">H", len(body) + 2) + body


def _with_segments(picture: bytes, segments: list[bytes]) -> bytes:
    """``segments`` behind the JFIF and Exif segments of ``picture``."""
    at = 2
    while picture[at + 1] in (0xE0, 0xE1):
        at += 2 + int.from_bytes(picture[at + 2 : at + 4], "big")
    return picture[:at] + b"".join(segments) + picture[at:]


def _without_app0(picture: bytes) -> bytes:
    return picture[:2] + picture[4 + int.from_bytes(picture[4:6], "big") :] if picture[3] == 0xE0 else picture


def _descriptions(room: int) -> bytes:
    """An XMP packet with room for changes, as editors leave it."""
    return _segment(0xE1, _XMP + b"</x:xmpmeta>" + (b" " * 99 + b"\n") * (room // 100) + b"<?xpacket end='w'?>")


def _profile(size: int, seed: int) -> list[bytes]:
    """A colour profile (ICC.1 B.4) of ``size`` bytes at least, in as many segments as it takes."""
    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    profile += np.random.default_rng(seed).bytes(max(0, size - len(profile)))
    pieces = [profile[at : at + _MOST_PROFILE] for at in range(0, len(profile), _MOST_PROFILE)]
    heads = (b"ICC_PROFILE\0" + bytes((number, len(pieces))) for number in range(1, len(pieces) + 1))
    return [_segment(0xE2, head + piece) for head, piece in zip(heads, pieces, strict=True)]
