"""What runs in the preview process: files decoded by general libraries, which may die of it."""

from __future__ import annotations

import io
import resource
from dataclasses import dataclass

MAX_SIDE = 1600


@dataclass(frozen=True, slots=True)
class Preview:
    """A picture of a file's content: RGB rows, or words where there is no picture."""

    width: int = 0
    height: int = 0
    rgb: bytes = b""
    text: str = ""


def limit_memory() -> None:
    _, hard = resource.getrlimit(resource.RLIMIT_DATA)
    resource.setrlimit(resource.RLIMIT_DATA, (3 << 30, hard))
    resource.setrlimit(resource.RLIMIT_CORE, (0, resource.getrlimit(resource.RLIMIT_CORE)[1]))


def render(path: str, format_name: str, kind: str, position: float = 0.0) -> Preview:
    """The content of ``path`` at ``position`` (0..1 of its time or pages) as far as it can be shown."""
    if kind == "photo":
        return _photo(path)
    if kind == "video":
        return _frame(path, position)
    if kind == "audio":
        return _waveform(path)
    if format_name == "pdf":
        return _page(path, position)
    return _text(path, format_name)


def _of_image(image) -> Preview:  # type: ignore[no-untyped-def]
    image.thumbnail((MAX_SIDE, MAX_SIDE))
    image = image.convert("RGB")
    return Preview(image.width, image.height, image.tobytes())


def _photo(path: str) -> Preview:
    import pillow_heif
    from PIL import Image, ImageFile

    pillow_heif.register_heif_opener()
    ImageFile.LOAD_TRUNCATED_IMAGES = True
    with Image.open(path) as image:
        image.draft("RGB", (MAX_SIDE, MAX_SIDE))
        return _of_image(image)


def _frame(path: str, position: float) -> Preview:
    import av

    with av.open(path) as file:
        stream = file.streams.video[0]
        if position > 0 and file.duration:
            file.seek(int(file.duration * position))
        for frame in file.decode(stream):
            return _of_image(frame.to_image())
    return Preview(text="No frame can be decoded.")


def _waveform(path: str) -> Preview:
    import av
    import numpy as np

    peaks: list[float] = []
    with av.open(path) as file:
        for frame in file.decode(audio=0):
            values = frame.to_ndarray().astype(np.float32)
            scale = 1.0 if frame.format.name.startswith(("flt", "dbl")) else float(2 ** (8 * frame.format.bytes - 1))
            peaks.append(float(np.abs(values).max()) / scale)
            if len(peaks) > 200_000:
                break
    if not peaks:
        return Preview(text="No sound can be decoded.")
    width, height = 1200, 240
    picture = np.full((height, width, 3), 250, np.uint8)
    columns = np.interp(np.linspace(0, len(peaks) - 1, width), np.arange(len(peaks)), peaks)
    for x, peak in enumerate(columns):
        half = int(min(1.0, peak) * (height // 2 - 4)) + 1
        picture[height // 2 - half : height // 2 + half, x] = (28, 95, 99)
    return Preview(width, height, picture.tobytes())


def _page(path: str, position: float) -> Preview:
    import pypdfium2

    document = pypdfium2.PdfDocument(path)
    number = min(len(document) - 1, int(position * len(document)))
    return _of_image(document[number].render(scale=1.6).to_pil())


def _text(path: str, format_name: str) -> Preview:
    import re
    import zipfile

    with open(path, "rb") as stream:
        data = stream.read(1 << 20)
    main = {
        "docx": "word/document.xml",
        "odt": "content.xml",
        "ods": "content.xml",
        "odp": "content.xml",
        "xlsx": "xl/sharedStrings.xml",
    }.get(format_name)
    if main is not None:
        with zipfile.ZipFile(path) as file:
            raw = file.read(main).decode("utf-8", "replace")
        raw = re.sub(r"</(w:p|text:p|text:h|si)>", "\n", raw)
        return Preview(text=re.sub(r"<[^>]+>", "", raw)[:20_000])
    if format_name in ("zip", "epub", "pptx"):
        with zipfile.ZipFile(path) as file:
            return Preview(text="\n".join(f"{i.file_size:>12,}  {i.filename}" for i in file.infolist()[:500]))
    sample = data[:4096]
    if sum(b < 32 and b not in (9, 10, 13) for b in sample) < len(sample) / 3 and format_name != "unknown":
        return Preview(text=data[:40_000].decode("utf-8", "replace"))
    out = io.StringIO()
    for at in range(0, min(len(data), 2048), 16):
        row = data[at : at + 16]
        out.write(f"{at:08x}  {row.hex(' '):<48} {''.join(chr(b) if 32 <= b < 127 else '.' for b in row)}\n")
    return Preview(text=out.getvalue())
