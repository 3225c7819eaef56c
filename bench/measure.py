"""The truth about a damaged or repaired file, by decoders that are not ours. Runs in child processes that may die."""

from __future__ import annotations

import io
import zipfile
from typing import Any

import av
import numpy as np
import pypdfium2
from PIL import Image, ImageFile

Image.MAX_IMAGE_PIXELS = None
_TOLERANCE = 12


def _picture(data: bytes) -> np.ndarray | None:
    """What a forgiving viewer shows; None where it shows nothing. Pillow's switch is put back: it is the whole process's."""
    strict, ImageFile.LOAD_TRUNCATED_IMAGES = ImageFile.LOAD_TRUNCATED_IMAGES, True
    try:
        with Image.open(io.BytesIO(data)) as picture:
            return np.asarray(picture.convert("RGB"), np.int16)
    except Exception:
        return None
    finally:
        ImageFile.LOAD_TRUNCATED_IMAGES = strict


def _picture_share(original: bytes, damaged: bytes) -> float | None:
    right, seen = _picture(original), _picture(damaged)
    # A decoder that gives up before the first row leaves its canvas black: it has not opened the picture.
    if seen is None or right is None or (right.any() and not seen.any()):
        return None
    if seen.shape != right.shape:
        return 0.0
    return 100.0 * float((np.abs(seen - right).max(axis=2) <= _TOLERANCE).mean())


def _pixels(frame: av.VideoFrame) -> np.ndarray:
    """The frame's samples as they were decoded, or as colours where PyAV has no array for their format."""
    try:
        return frame.to_ndarray()
    except ValueError:
        return frame.to_ndarray(format="rgb24")


def _frames(data: bytes) -> dict[str, dict[int, bytes]] | None:
    """Per stream: time in milliseconds → a fingerprint of the decoded content."""
    found: dict[str, dict[int, Any]] = {}
    try:
        with av.open(io.BytesIO(data)) as file:
            streams = [s for s in file.streams if s.type in ("video", "audio")]
            for stream in streams:
                found[f"{stream.type}{stream.index}"] = {}
            for packet in file.demux(streams):
                try:
                    for frame in packet.decode():
                        if isinstance(frame, av.AudioFrame) and len(frame.planes) > 16:
                            continue  # a broken frame that claims dozens of channels: turning it into an array crashes
                        key = f"{packet.stream.type}{packet.stream.index}"
                        when = round(float(frame.time or 0) * 1000)
                        array = _pixels(frame) if isinstance(frame, av.VideoFrame) else frame.to_ndarray()
                        if packet.stream.type == "video":
                            found[key][when] = array[::7, ::7].astype(np.int16)
                        else:
                            found[key][when] = array.reshape(-1)[::5].astype(np.float64)
                except av.error.FFmpegError:
                    continue
    except Exception:
        return found or None
    return found


def _media_share(original: bytes, damaged: bytes, within: int = 1, together: bool = False) -> float | None:
    """Frames and sound that are the same within so many milliseconds of their time; of the time that the pictures' shift
    makes of it where all may begin ``together`` at another."""
    right, seen = _frames(original), _frames(damaged)
    if seen is None or not any(seen.values()):
        return None
    assert right is not None
    if together:
        shift = _shift(right, seen)
        seen = {key: {when - shift: value for when, value in frames.items()} for key, frames in seen.items()}
    shares = []
    for key, frames in right.items():
        other = seen.get(key, {})
        good = 0
        for when, value in frames.items():
            # Decoders fill parametric noise bands at random, so sound is compared against its own level.
            scale = 4.0 if key.startswith("video") else 1e-3 + 0.35 * float(np.abs(value).mean())
            near = (other[w] for w in range(when - within, when + within + 1) if w in other)
            good += any(
                mine.shape == value.shape and float(np.abs(mine.astype(np.float64) - value).mean()) <= scale
                for mine in near
            )
        shares.append(good / max(1, len(frames)))
    return 100.0 * float(np.mean(shares))


def _shift(right: dict[str, dict[int, Any]], seen: dict[str, dict[int, Any]]) -> int:
    """Milliseconds by which the first stream comes later in ``seen``, where both hold as many frames of it."""
    for key, frames in right.items():
        if frames and len(frames) == len(seen.get(key, {})):
            return int(np.median(np.array(sorted(seen[key])) - np.array(sorted(frames))))
    return 0


def _ordered_share(original: bytes, damaged: bytes) -> float | None:
    """Frames of the original that come out the same, at whatever time: for streams without a time of their own."""
    right, seen = _frames(original), _frames(damaged)
    if seen is None or not any(seen.values()):
        return None
    assert right is not None
    prints = {np.round(v, 3).tobytes() for frames in seen.values() for v in frames.values()}
    values = [v for frames in right.values() for v in frames.values()]
    return 100.0 * sum(np.round(v, 3).tobytes() in prints for v in values) / max(1, len(values))


def _wav_share(original: bytes, damaged: bytes) -> float | None:
    """Samples equal at the same time, as a player that trusts the header plays them."""

    def samples(data: bytes) -> np.ndarray | None:
        try:
            with av.open(io.BytesIO(data)) as file:
                parts = [f.to_ndarray().reshape(-1) for f in file.decode(audio=0)]
            return np.concatenate(parts) if parts else None
        except Exception:
            return None

    right, seen = samples(original), samples(damaged)
    if seen is None or right is None:
        return None
    n = min(right.size, seen.size)
    same = np.abs(right[:n].astype(np.float64) - seen[:n]) <= (1e-3 if right.dtype.kind == "f" else 2)
    # Count blocks, not samples: two recordings agree in single samples by chance.
    blocks = same[: n // 64 * 64].reshape(-1, 64).all(axis=1).sum() * 64
    return 100.0 * float(blocks) / max(1, right.size // 64 * 64)


def _pages(data: bytes) -> list[np.ndarray | None] | None:
    """Each page rendered small; None for a page that cannot be, None for a document that cannot be opened."""
    try:
        document = pypdfium2.PdfDocument(data)
    except Exception:
        return None
    pages: list[np.ndarray | None] = []
    for number in range(len(document)):
        try:
            pages.append(document[number].render(scale=0.5).to_numpy()[..., :3].astype(np.int16))
        except Exception:
            pages.append(None)
    return pages


def _pdf_share(original: bytes, damaged: bytes) -> float | None:
    right, seen = _pages(original), _pages(damaged)
    if not seen or right is None:
        return None
    good = sum(
        a is not None
        and b is not None
        and a.shape == b.shape
        and float((np.abs(a - b).max(axis=2) > 24).mean()) < 0.002
        for a, b in zip(right, seen, strict=False)
    )
    return 100.0 * good / len(right)


def _zip_share(original: bytes, damaged: bytes) -> float | None:
    try:
        seen = zipfile.ZipFile(io.BytesIO(damaged))
    except Exception:
        return None
    good = total = 0
    with zipfile.ZipFile(io.BytesIO(original)) as right:
        for name in right.namelist():
            total += 1
            try:
                good += seen.read(name) == right.read(name)
            except Exception:
                continue
    return 100.0 * good / max(1, total)


def share(format_name: str, original: bytes, damaged: bytes) -> float | None:
    """Percent of the original's content that an ordinary decoder shows rightly; None where it opens nothing."""
    if format_name in ("jpeg", "png"):
        return _picture_share(original, damaged)
    if format_name in ("wav",):
        return _wav_share(original, damaged)
    if format_name == "mp3":
        return _ordered_share(original, damaged)
    if format_name in ("mp4", "mov", "3gp", "m4a", "flac"):
        return _media_share(original, damaged)
    if format_name == "pdf":
        return _pdf_share(original, damaged)
    return _zip_share(original, damaged)


def in_step(original: str, damaged: str) -> float | None:
    """Percent of a clip's frames and sound that come out the same, within 20 ms of their time beside each other."""
    with open(original, "rb") as a, open(damaged, "rb") as b:
        return _media_share(a.read(), b.read(), within=20, together=True)


def share_of_files(format_name: str, original: str, damaged: str) -> float | None:
    """The same for two paths, to run in a child process."""
    with open(original, "rb") as a, open(damaged, "rb") as b:
        return share(format_name, a.read(), b.read())
