"""Healthy files of every examined format, by several encoders and settings, for the truth bench.

Each is made from a seed, so that a sibling (other content, same device and settings) can lend what a repair borrows.
"""

from __future__ import annotations

import inspect
import io
import subprocess
from collections.abc import Callable
from fractions import Fraction
from functools import partial
from shutil import which

from PIL import Image

from jugal.samples import encode, headers
from jugal.samples.scenes import riverbed

Maker = Callable[[int], bytes]
#: By what the sides of pictures and the length of clips are divided for small ones.
_SMALL = 3
FRAGMENTS = {"movflags": "frag_keyframe+empty_moov+default_base_moof"}
X265 = {"x265-params": "log-level=none"}


def _photo(seed: int, width: int = 1200, height: int = 900) -> Image.Image:
    return riverbed(width, height, seed, f"T{seed}")


def _jpeg(
    seed: int, mode: str = "RGB", size: tuple[int, int] = (1200, 900), exif: bool = False, **options: object
) -> bytes:
    picture = _photo(seed, *size).convert(mode)
    small = encode.thumbnail_of(picture) if exif else b""
    extra = {"exif": encode.exif_of("Lurga M2", "2026:05:14 07:31:00", *size, thumbnail=small)} if exif else {}
    return encode.jpeg(picture, **options, **extra)


def _jpeg_by_video_encoder(seed: int, size: tuple[int, int] = (1200, 900), **options: int) -> bytes:
    return encode.jpeg_by_video_encoder(_photo(seed, *size), **options)


def _jpeg_by_window_toolkit(seed: int, quality: int = 82, size: tuple[int, int] = (1000, 760)) -> bytes:
    """Qt's writer."""
    from PySide6.QtCore import QBuffer, QByteArray, QIODevice
    from PySide6.QtGui import QImage

    picture = _photo(seed, *size)
    image = QImage(picture.tobytes(), *picture.size, 3 * picture.width, QImage.Format.Format_RGB888)
    data = QByteArray()
    buffer = QBuffer(data)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.save(buffer, "JPEG", quality)
    return bytes(data.data())


def _jpeg_by_command(seed: int, options: str, size: tuple[int, int] = (1100, 820)) -> bytes:
    """The reference coder's command, where the machine has it."""
    out = io.BytesIO()
    _photo(seed, *size).save(out, "PPM")
    return subprocess.run(["cjpeg", *options.split()], input=out.getvalue(), capture_output=True, check=True).stdout


JPEG: dict[str, Maker] = {
    "420": partial(_jpeg, exif=True),
    "444-fine": partial(_jpeg, quality=96, subsampling=0),
    "422-optimised": partial(_jpeg, quality=80, subsampling=1, optimize=True),
    "restart-rows": partial(_jpeg, quality=85, restart_marker_rows=1),
    "restart-blocks": partial(_jpeg, quality=75, restart_marker_blocks=7),
    "progressive": partial(_jpeg, quality=85, progressive=True),
    "progressive-444": partial(_jpeg, quality=92, progressive=True, subsampling=0),
    "grey": partial(_jpeg, mode="L"),
    "grey-progressive": partial(_jpeg, mode="L", progressive=True),
    "cmyk": partial(_jpeg, mode="CMYK", size=(900, 700)),
    "coarse": partial(_jpeg, quality=45),
    "very-coarse": partial(_jpeg, quality=20),
    "small": partial(_jpeg, size=(640, 480), quality=90),
    "odd-size": partial(_jpeg, size=(1013, 757)),
    "tall": partial(_jpeg, size=(600, 1600)),
    "large": partial(_jpeg, size=(2400, 1600), quality=80),
    "video-encoder": _jpeg_by_video_encoder,
    "video-encoder-coarse": partial(_jpeg_by_video_encoder, quality=12),
    "toolkit": _jpeg_by_window_toolkit,
    "toolkit-fine": partial(_jpeg_by_window_toolkit, quality=95),
}
JPEG |= {
    "by-camera": headers.by_camera,
    "by-phone": headers.by_phone,
    "by-drone": headers.by_drone,
    "by-editor": headers.by_editor,
    "by-scanner": headers.by_scanner,
    "for-press": headers.for_press,
    "red-green-blue": headers.red_green_blue,
    "inner-preview": headers.with_inner_preview,
    "filler": headers.with_filler,
}
if which("cjpeg"):
    JPEG |= {
        "reference": partial(_jpeg_by_command, options="-quality 85"),
        "reference-422": partial(_jpeg_by_command, options="-quality 90 -sample 2x1"),
        "reference-440": partial(_jpeg_by_command, options="-quality 75 -sample 1x2"),
        "reference-411": partial(_jpeg_by_command, options="-quality 80 -sample 4x1 -optimize"),
        "reference-progressive": partial(_jpeg_by_command, options="-quality 80 -progressive"),
        "reference-restart": partial(_jpeg_by_command, options="-quality 80 -restart 2"),
    }

PNG: dict[str, Maker] = {
    "rgb": lambda seed: encode.png(_photo(seed, 700, 500)),
    "palette": lambda seed: encode.png(_photo(seed, 700, 500).quantize(64)),
    "grey": lambda seed: encode.png(_photo(seed, 900, 600).convert("L")),
    "alpha": lambda seed: encode.png(_photo(seed, 500, 400).convert("RGBA"), compress_level=9),
}


def _clip(seed: int, seconds: float = 4.0, **settings: object) -> bytes:
    return encode.clip(seed=seed, seconds=seconds, **settings)  # type: ignore[arg-type]


MP4: dict[str, Maker] = {
    "plain": _clip,
    "faststart": partial(_clip, mux={"movflags": "faststart"}),
    "no-b-frames": partial(_clip, options={"bf": "0", "slices": "4"}),
    "open-gop": partial(_clip, options={"x264-params": "open-gop=1:keyint=25:bframes=3"}),
    "interlaced": partial(_clip, options={"x264-params": "tff=1:interlaced=1:no-deblock=1"}),
    "60-frames": partial(_clip, rate=60, bit_rate=1_800_000),
    "hevc": partial(_clip, video="libx265", options=X265),
    "mpeg4": partial(_clip, video="mpeg4"),
    "two-sounds": partial(_clip, sounds=2),
    "fragmented": partial(_clip, mux=FRAGMENTS),
    "fragmented-from-start": partial(_clip, mux={"movflags": "frag_keyframe+empty_moov"}),
    "dash": partial(_clip, mux={"movflags": "dash+frag_keyframe+global_sidx"}, options={"g": "20"}),
    "codes": partial(_clip, options={"x264-params": "cabac=0:bframes=2"}, rate=Fraction(30000, 1001)),
    "hevc-one-stream": partial(_clip, video="libx265", options={"x265-params": "log-level=none:wpp=0:bframes=0"}),
    "hevc-small-trees": partial(
        _clip, video="libx265", options={"x265-params": "log-level=none:ctu=16:max-tu-size=16:bframes=4"}
    ),
    "hevc-ten-bit": partial(_clip, video="libx265", options=X265, pixels="yuv420p10le"),
    "mpeg4-b-frames": partial(_clip, video="mpeg4", options={"bf": "2"}),
    "mpeg4-quarter": partial(_clip, video="mpeg4", options={"flags": "+qpel+mv4"}, bit_rate=1_400_000),
    "mpeg4-short-groups": partial(_clip, video="mpeg4", options={"g": "6", "mpeg_quant": "1"}),
}
THREE_GP: dict[str, Maker] = {
    "h263": partial(_clip, container="3gp", video="h263", size=(176, 144), bit_rate=300_000),
    "avc": partial(_clip, container="3gp", size=(176, 144), options={"profile": "baseline"}, bit_rate=300_000),
}
MOV: dict[str, Maker] = {
    "pcm": partial(_clip, container="mov", audio="pcm_s16le"),
    "pcm24-big-endian": partial(_clip, container="mov", audio="pcm_s24be"),
    "motion-jpeg": partial(_clip, container="mov", video="mjpeg", audio="pcm_s16le"),
    "prores": partial(_clip, container="mov", video="prores_ks", audio="pcm_s16le", seconds=2.0),
    "motion-jpeg-422": partial(_clip, container="mov", video="mjpeg", audio="pcm_s16be", pixels="yuvj422p"),
    "motion-jpeg-444": partial(_clip, container="mov", video="mjpeg", audio="pcm_s24le", pixels="yuvj444p"),
    "motion-jpeg-tables": partial(_clip, container="mov", video="mjpeg", audio="aac", options={"huffman": "optimal"}),
    "prores-proxy": partial(
        _clip, container="mov", video="prores_ks", audio="aac", options={"profile": "0"}, seconds=2.0
    ),
    "prores-fine": partial(
        _clip, container="mov", video="prores_ks", audio="pcm_s24le", options={"profile": "3"}, seconds=1.2
    ),
    "prores-4444": partial(
        _clip,
        container="mov",
        video="prores_ks",
        audio="pcm_s16le",
        options={"profile": "4"},
        seconds=1.2,
        pixels="yuv444p10le",
    ),
}
M4A: dict[str, Maker] = {
    "aac": lambda seed: encode.sound("aac", "ipod", seed=seed),
    "aac-mono": lambda seed: encode.sound("aac", "ipod", channels=1, seed=seed, options={"b": "80k"}),
    "aac-44100": lambda seed: encode.sound("aac", "ipod", seed=seed, rate=44100, options={"b": "192k"}),
    "aac-22050": lambda seed: encode.sound("aac", "ipod", channels=1, seed=seed, rate=22050, seconds=12.0),
    "alac": lambda seed: encode.sound("alac", "ipod", seed=seed, seconds=4.0),
}
SOUND: dict[str, dict[str, Maker]] = {
    "wav": {
        "stereo16": lambda seed: encode.wav(seed=seed),
        "mono16": lambda seed: encode.wav(channels=1, rate=44100, seed=seed),
        "stereo24": lambda seed: encode.wav(width=3, seed=seed),
    },
    "mp3": {
        "vbr": lambda seed: encode.sound("libmp3lame", "mp3", seed=seed),
        "mono": lambda seed: encode.sound("libmp3lame", "mp3", channels=1, seed=seed, options={"b": "96k"}),
    },
    "flac": {
        "stereo": lambda seed: encode.sound("flac", "flac", seed=seed),
        "mono": lambda seed: encode.sound("flac", "flac", channels=1, seed=seed, seconds=9),
    },
}
DOCUMENTS: dict[str, dict[str, Maker]] = {
    "pdf": {
        "report": lambda seed: encode.pdf(8, seed=seed),
        "plain": lambda seed: encode.pdf(5, seed=seed, compressed=False),
    },
    "docx": {"notes": lambda seed: encode.docx(seed=seed)},
    "xlsx": {"table": lambda seed: encode.xlsx(seed=seed, rows=2500)},
    "odt": {"permits": lambda seed: encode.odt(seed=seed, paragraphs=900)},
    "zip": {"store": lambda seed: encode.archive(seed=seed)},
}


def _deep(seed: int, bits: int, size: tuple[int, int] = (480, 360), **options: object) -> bytes:
    import imagecodecs
    import numpy as np

    wide = np.asarray(_photo(seed, *size), np.uint16)
    samples = wide.astype(np.uint8) if bits == 8 else (wide << (bits - 8)) | (wide >> (16 - bits))
    return bytes(imagecodecs.jpeg8_encode(samples, bitspersample=bits, **options))


#: Pictures that Pillow does not decode: for the fuzz, not for the truth bench.
DEEP: dict[str, Maker] = {
    "twelve-bit": partial(_deep, bits=12, level=90),
    "lossless": partial(_deep, bits=8, lossless=True, predictor=4),
    "lossless-sixteen-bit": partial(_deep, bits=16, lossless=True, predictor=1),
}
HEALTHY: dict[str, dict[str, Maker]] = {
    "jpeg": JPEG,
    "png": PNG,
    "mp4": MP4,
    "mov": MOV,
    "3gp": THREE_GP,
    "m4a": M4A,
    **SOUND,
    **DOCUMENTS,
}


def small(make: Maker) -> Maker:
    """A maker of the same with pictures a third as wide and high, clips a third as long; of what has neither, as it is."""
    settings = inspect.signature(make).parameters
    changed: dict[str, object] = {}
    if "seconds" in settings:
        changed["seconds"] = settings["seconds"].default / _SMALL
    elif "size" in settings:
        changed["size"] = tuple(side // _SMALL for side in settings["size"].default)
    return partial(make, **changed) if changed else make
