"""Healthy files by general encoders (Pillow, PyAV, reportlab, python-docx, openpyxl, odfpy, zipfile)."""

from __future__ import annotations

import io
import random
import struct
import tempfile
import wave
import zipfile
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
from PIL import Image
from PIL.TiffImagePlugin import IFDRational

from jugal.samples.scenes import PARAGRAPHS, river_frame, river_sound, riverbed

_FIXED_DATE = (2026, 5, 14, 7, 30, 0)


def exif_of(
    camera: str, taken: str, width: int, height: int, thumbnail: bytes = b"", note: bytes = b"", filler: bytes = b""
) -> bytes:
    """An Exif block as a camera writes it, with a JPEG as its thumbnail, a maker's ``note`` and ``filler`` ahead of the thumbnail if
    they are given."""
    exif = Image.Exif()
    exif[0x010F], exif[0x0110] = camera.split()[0], camera
    exif[0x0132] = taken
    inner = exif.get_ifd(0x8769)
    inner[0x9003] = taken
    inner[0x829A], inner[0x829D], inner[0x8827] = IFDRational(1, 250), IFDRational(28, 10), 200
    inner[0xA002], inner[0xA003] = width, height
    if note:
        inner[0x927C] = note
    data = exif.tobytes() + filler
    return _with_thumbnail(data, thumbnail) if thumbnail else data


def _with_thumbnail(exif: bytes, thumbnail: bytes) -> bytes:
    """``exif`` with a second directory behind it (Exif 3.0 4.5.4): compression 6, and where the JPEG lies that follows it."""
    head, tiff = exif[:6], bytearray(exif[6:])
    order = "<" if tiff[:2] == b"II" else ">"
    (first,) = struct.unpack_from(f"{order}I", tiff, 4)
    (count,) = struct.unpack_from(f"{order}H", tiff, first)
    begin, size = len(tiff), 2 + 3 * 12 + 4
    struct.pack_into(f"{order}I", tiff, first + 2 + 12 * count, begin)
    rows = struct.pack(f"{order}HHIHH", 0x0103, 3, 1, 6, 0)
    rows += struct.pack(f"{order}HHII", 0x0201, 4, 1, begin + size) + struct.pack(
        f"{order}HHII", 0x0202, 4, 1, len(thumbnail)
    )
    return head + bytes(tiff) + struct.pack(f"{order}H", 3) + rows + bytes(4) + thumbnail


def thumbnail_of(picture: Image.Image, bars: bool = False) -> bytes:
    """A thumbnail as cameras put one into Exif data: 160 by 120 pixels, between ``bars`` where the picture has another shape, or as
    much of that as it takes."""
    small = picture.copy()
    small.thumbnail((160, 120), Image.Resampling.LANCZOS)
    if bars:
        framed = Image.new("RGB", (160, 120))
        framed.paste(small, ((160 - small.width) // 2, (120 - small.height) // 2))
        small = framed
    return jpeg(small, quality=85)


def jpeg(picture: Image.Image, **options: object) -> bytes:
    """JPEG by Pillow."""
    out = io.BytesIO()
    picture.save(out, "JPEG", **{"quality": 88, **options})
    return out.getvalue()


def with_further(picture: bytes, others: list[bytes]) -> bytes:
    """``picture`` with ``others`` behind it and the index of them (CIPA DC-007) in front."""
    count = len(others) + 1
    rows = struct.pack(">HHI4s", 0xB000, 7, 4, b"0100") + struct.pack(">HHII", 0xB001, 4, 1, count)
    rows += struct.pack(">HHII", 0xB002, 7, 16 * count, 8 + 2 + 36 + 4)
    length = 2 + 4 + 8 + 2 + 36 + 4 + 16 * count
    sizes = [len(picture) + length + 2, *map(len, others)]
    entries, at = b"", 0
    for number, size in enumerate(sizes):
        # Offsets count from the structure's byte-order mark, ten bytes into the file here.
        entries += struct.pack(">IIIHH", 0x030000 if number == 0 else 0x010001, size, at - 10 if number else 0, 0, 0)
        at += size
    body = b"MPF\0MM\0*\0\0\0\x08\0\x03" + rows + bytes(4) + entries
    return picture[:2] + b"\xff\xe2" + struct.pack(">H", length) + body + picture[2:] + b"".join(others)


def jpeg_by_video_encoder(picture: Image.Image, quality: int = 3) -> bytes:
    """JPEG by FFmpeg's motion JPEG encoder, whose headers and tables differ from Pillow's."""
    codec = av.CodecContext.create("mjpeg", "w")
    codec.width, codec.height = picture.size
    codec.pix_fmt = "yuvj420p"
    codec.time_base = Fraction(1, 25)
    codec.options = {"qmin": str(quality), "qmax": str(quality)}
    frame = av.VideoFrame.from_image(picture).reformat(format="yuvj420p")
    frame.pts = 0
    return b"".join(bytes(p) for p in [*codec.encode(frame), *codec.encode(None)])


def png(picture: Image.Image, **options: object) -> bytes:
    """PNG by Pillow."""
    out = io.BytesIO()
    picture.save(out, "PNG", **options)
    return out.getvalue()


def clip(
    seconds: float = 4.0,
    size: tuple[int, int] = (320, 180),
    rate: int | Fraction = 25,
    container: str = "mp4",
    video: str = "libx264",
    audio: str | None = "aac",
    seed: int = 1,
    options: dict[str, str] | None = None,
    mux: dict[str, str] | None = None,
    bit_rate: int = 900_000,
    sounds: int = 1,
    pixels: str = "",
) -> bytes:
    """A clip with picture and ``sounds`` sound tracks by FFmpeg's encoders, its pixels in the codec's usual format."""
    # Moving the index to the front needs a file that the muxer can open again.
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"clip.{container}"
        _write_clip(
            path,
            seconds,
            size,
            rate,
            container,
            video,
            audio,
            seed,
            options or {},
            mux or {},
            bit_rate,
            sounds if audio else 0,
            pixels or {"mjpeg": "yuvj420p", "prores_ks": "yuv422p10le"}.get(video, "yuv420p"),
        )
        return path.read_bytes()


def _write_clip(
    path: Path, seconds: float, size: tuple[int, int], rate: int | Fraction, container: str, video: str, audio: str | None, seed: int,
    options: dict[str, str], mux: dict[str, str], bit_rate: int, sounds: int, pixels: str,
) -> None:  # fmt: skip
    with av.open(str(path), "w", format=container, options=mux) as file:
        stream = file.add_stream(video, rate=rate, options=_coding(video, options))
        stream.width, stream.height = size
        stream.pix_fmt = pixels
        stream.bit_rate = bit_rate
        tracks = [file.add_stream(audio, rate=48000) for _ in range(sounds)]
        for track in tracks:
            track.layout = "stereo"
        recordings = [river_sound(seconds, 48000, 2, seed + 50 * n) for n in range(sounds)]
        position, step = 0, 1024
        for number in range(int(seconds * rate)):
            frame = av.VideoFrame.from_ndarray(river_frame(*size, number, seed), format="rgb24")
            frame.pts = number
            file.mux(stream.encode(frame))
            while tracks and position < min(len(recordings[0]), int((number + 1) * 48000 / rate)):
                for track, samples in zip(tracks, recordings, strict=True):
                    file.mux(track.encode(_sound_frame(samples, position, step, track.format.name)))
                position += step
        for track in [stream, *tracks]:
            file.mux(track.encode(None))


def _coding(video: str, options: dict[str, str]) -> dict[str, str]:
    """The encoder's options, with what keeps it from giving other bytes each time."""
    coding = {"g": "25", **options}
    if video == "libx264":
        coding["x264-params"] = ":".join(filter(None, (options.get("x264-params"), "mbtree=0")))
    return coding


def _sound_frame(samples: np.ndarray, position: int, step: int, layout: str, rate: int = 48000) -> av.AudioFrame:
    piece = samples[position : position + step]
    channels = samples.shape[1]
    name = "stereo" if channels == 2 else "mono"
    if layout.startswith("flt"):
        data = np.ascontiguousarray(piece.T if layout == "fltp" else piece.reshape(1, -1))
    elif layout.startswith("s32"):
        data = (piece * (2**31 - 256)).astype(np.int32)
        data = np.ascontiguousarray(data.T if layout == "s32p" else data.reshape(1, -1))
    else:
        data = (piece * 32000).astype(np.int16)
        data = np.ascontiguousarray(data.T if layout == "s16p" else data.reshape(1, -1))
    frame = av.AudioFrame.from_ndarray(data, format=layout, layout=name)
    frame.sample_rate = rate
    frame.pts = position
    return frame


def sound(
    codec: str,
    container: str,
    seconds: float = 6.0,
    channels: int = 2,
    seed: int = 3,
    options: dict[str, str] | None = None,
    rate: int = 48000,
) -> bytes:
    """Sound by one of FFmpeg's encoders."""
    out = io.BytesIO()
    with av.open(out, "w", format=container) as file:
        stream = file.add_stream(codec, rate=rate, options=options or {})
        stream.layout = "stereo" if channels == 2 else "mono"
        samples = river_sound(seconds, rate, channels, seed)
        step = 4096 if codec == "flac" else 1152
        for position in range(0, len(samples), step):
            file.mux(stream.encode(_sound_frame(samples, position, step, stream.format.name, rate)))
        file.mux(stream.encode(None))
    return out.getvalue()


def wav(seconds: float = 5.0, rate: int = 48000, channels: int = 2, width: int = 2, seed: int = 4) -> bytes:
    """PCM sound by the standard library."""
    samples = river_sound(seconds, rate, channels, seed)
    whole = (samples.astype(np.float64) * (2 ** (8 * width - 1) - 1)).astype(np.int64)
    if width == 1:
        raw = (whole + 128).astype(np.uint8).tobytes()
    else:
        raw = np.ascontiguousarray(whole.astype("<i8")).view(np.uint8).reshape(-1, 8)[:, :width].tobytes()
    out = io.BytesIO()
    with wave.open(out, "wb") as file:
        file.setnchannels(channels)
        file.setsampwidth(width)
        file.setframerate(rate)
        file.writeframes(raw)
    return out.getvalue()


def pdf(pages: int = 4, seed: int = 5, compressed: bool = True) -> bytes:
    """A report by reportlab: text and a picture a page."""
    from reportlab.lib.pagesizes import A4
    from reportlab.lib.utils import ImageReader
    from reportlab.pdfgen.canvas import Canvas

    out = io.BytesIO()
    canvas = Canvas(out, pagesize=A4, pageCompression=int(compressed), invariant=1)
    for page in range(pages):
        canvas.setFont("Helvetica-Bold", 16)
        canvas.drawString(60, 780, f"Mussel survey on the Odrell, sheet {page + 1}")
        canvas.setFont("Helvetica", 11)
        for i in range(18):
            canvas.drawString(60, 750 - 16 * i, PARAGRAPHS[(page + i) % len(PARAGRAPHS)])
        picture = riverbed(420, 280, seed * 10 + page, f"T{page + 1}")
        canvas.drawImage(ImageReader(io.BytesIO(jpeg(picture))), 60, 120, 420, 280)
        canvas.showPage()
    canvas.save()
    return out.getvalue()


def docx(seed: int = 6, paragraphs: int = 60) -> bytes:
    """A text document with a picture by python-docx."""
    import docx as word

    document = word.Document()
    document.add_heading("Field notes, Odrell survey", 0)
    chooser = random.Random(seed)
    for i in range(paragraphs):
        document.add_paragraph(f"{i + 1}. " + " ".join(chooser.sample(PARAGRAPHS, 3)))
    document.add_picture(io.BytesIO(jpeg(riverbed(640, 420, seed, "Plate 1"))))
    out = io.BytesIO()
    document.save(out)
    return _dated(out.getvalue())


def xlsx(seed: int = 7, rows: int = 400) -> bytes:
    """A table of measurements by openpyxl."""
    import openpyxl

    book = openpyxl.Workbook()
    sheet = book.active
    sheet.append(["transect", "shell", "length mm", "height mm", "state"])
    rng = np.random.default_rng(seed)
    for i in range(rows):
        length = float(rng.normal(62, 11))
        sheet.append(
            [
                int(i // 40) + 1,
                i + 1,
                round(length, 1),
                round(length * 0.53 + float(rng.normal(0, 1)), 1),
                "live" if i % 3 else "empty",
            ]
        )
    out = io.BytesIO()
    book.save(out)
    return _dated(out.getvalue())


def odt(seed: int = 8, paragraphs: int = 80) -> bytes:
    """A text document by odfpy."""
    from odf.opendocument import OpenDocumentText
    from odf.text import H, P

    document = OpenDocumentText()
    document.text.addElement(H(outlinelevel=1, text="Permits and agreements"))
    chooser = random.Random(seed)
    for i in range(paragraphs):
        document.text.addElement(P(text=f"{i + 1}. {chooser.choice(PARAGRAPHS)} {chooser.choice(PARAGRAPHS)}"))
    out = io.BytesIO()
    document.save(out)
    return _dated(out.getvalue())


def _dated(data: bytes) -> bytes:
    """The same package with fixed member dates, so that it is the same bytes each time."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(out, "w") as new:
        for info in old.infolist():
            entry = zipfile.ZipInfo(info.filename, _FIXED_DATE)
            entry.compress_type = info.compress_type
            new.writestr(entry, old.read(info.filename))
    return out.getvalue()


def archive(seed: int = 9) -> bytes:
    """A ZIP of notes, tables and a picture by the standard library."""
    chooser = random.Random(seed)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as file:
        for i in range(8):
            text = "\n".join(f"{chooser.random():.6f} {chooser.choice(PARAGRAPHS)}" for _ in range(150))
            file.writestr(zipfile.ZipInfo(f"notes/day{i + 1}.txt", _FIXED_DATE), text, zipfile.ZIP_DEFLATED)
        picture = jpeg(riverbed(800, 600, seed, "Store"))
        file.writestr(zipfile.ZipInfo("plate.jpg", _FIXED_DATE), picture, zipfile.ZIP_STORED)
    return out.getvalue()
