"""What runs in the preview process: files decoded by general libraries, which may die of it."""

from __future__ import annotations

import io
import logging
import resource
from dataclasses import dataclass, replace
from typing import Any

MAX_SIDE = 2400
log = logging.getLogger(__name__)
_SEARCHED = 128 << 20
_MOST_INSIDE = 16
_PACKAGES = ("docx", "odt", "ods", "odp", "xlsx", "pptx", "zip", "epub")


@dataclass(frozen=True, slots=True)
class Preview:
    """A picture of a file's content: RGB rows, or words where there is no picture; of clips and sounds their length, of documents their pages."""

    width: int = 0
    height: int = 0
    rgb: bytes = b""
    text: str = ""
    seconds: float = 0.0
    pages: int = 0


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
    return _text(path, format_name, position)


def _of_image(image) -> Preview:  # type: ignore[no-untyped-def]
    image.thumbnail((MAX_SIDE, MAX_SIDE))
    image = image.convert("RGB")
    return Preview(image.width, image.height, image.tobytes())


def _photo(path: str) -> Preview:
    import pillow_heif
    from PIL import Image, ImageFile, ImageOps, UnidentifiedImageError

    pillow_heif.register_heif_opener()
    ImageFile.LOAD_TRUNCATED_IMAGES = True
    try:
        with Image.open(path) as image:
            image.draft("RGB", (MAX_SIDE, MAX_SIDE))
            return _of_image(ImageOps.exif_transpose(image))
    except UnidentifiedImageError:
        inside = _picture_inside(path)
        if inside is None:
            raise
        return inside


def _picture_inside(path: str) -> Preview | None:
    """The largest JPEG inside a file that no decoder opens: the preview of a raw picture, a picture behind junk."""
    from PIL import Image

    with open(path, "rb") as stream:
        data = stream.read(_SEARCHED)
    best: Image.Image | None = None
    at = data.find(b"\xff\xd8\xff")
    for _ in range(_MOST_INSIDE):
        if at < 0:
            break
        try:
            with Image.open(io.BytesIO(data[at:])) as found:
                if best is None or found.width * found.height > best.width * best.height:
                    found.load()
                    best = found.copy()
        except (OSError, ValueError, SyntaxError):
            log.debug("no picture at %d", at)
        at = data.find(b"\xff\xd8\xff", at + 3)
    return _of_image(best) if best is not None else None


def quarter_turns(frame: Any) -> int:
    """How often a decoded frame of video is to be turned a quarter, counter-clockwise, to be shown as its file says; 0..3."""
    return round(frame.rotation / 90) % 4


def _frame(path: str, position: float) -> Preview:
    import av

    with av.open(path) as file:
        stream = file.streams.video[0]
        if position > 0 and file.duration:
            file.seek(int(file.duration * position))
        for frame in file.decode(stream):
            # As players turn it; Pillow counts the same way round.
            upright = frame.to_image().rotate(90 * quarter_turns(frame), expand=True)
            return replace(_of_image(upright), seconds=(file.duration or 0) / 1e6)
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
        seconds = (file.duration or 0) / 1e6
    if not peaks:
        return Preview(text="No sound can be decoded.")
    width, height = 1200, 240
    picture = np.full((height, width, 3), 250, np.uint8)
    columns = np.interp(np.linspace(0, len(peaks) - 1, width), np.arange(len(peaks)), peaks)
    for x, peak in enumerate(columns):
        half = int(min(1.0, peak) * (height // 2 - 4)) + 1
        picture[height // 2 - half : height // 2 + half, x] = (28, 95, 99)
    return Preview(width, height, picture.tobytes(), seconds=seconds)


def _page(path: str, position: float) -> Preview:
    import pypdfium2

    document = pypdfium2.PdfDocument(path)
    number = min(len(document) - 1, int(position * len(document)))
    return _of_image(document[number].render(scale=1.6).to_pil())


def _package(path: str, format_name: str, position: float) -> Preview:
    """The words of a document or the list of an archive as the first page, each picture in it as one more."""
    from PIL import Image, ImageFile

    from jugal.app.bridge.packages import package_text, pictures_in, read_package

    contents = read_package(path)
    pictures = pictures_in(contents)
    pages = 1 + len(pictures)
    page = min(pages - 1, int(position * pages))
    if page == 0:
        return Preview(text=package_text(contents, format_name), pages=pages)
    ImageFile.LOAD_TRUNCATED_IMAGES = True
    found = pictures[page - 1]
    try:
        with Image.open(io.BytesIO(found.data)) as image:
            return replace(_of_image(image), pages=pages)
    except (OSError, ValueError, SyntaxError):
        return Preview(text=f"The picture {found.member.text} cannot be shown.", pages=pages)


def _text(path: str, format_name: str, position: float) -> Preview:
    with open(path, "rb") as stream:
        data = stream.read(1 << 20)
    if format_name in _PACKAGES:
        return _package(path, format_name, position)
    sample = data[:4096]
    if sum(b < 32 and b not in (9, 10, 13) for b in sample) < len(sample) / 3 and format_name != "unknown":
        return Preview(text=data[:200_000].decode("utf-8", "replace"))
    return Preview(text="Nothing in it can be shown but its bytes.")
