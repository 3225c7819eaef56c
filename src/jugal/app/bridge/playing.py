"""What runs in the playing process: a clip or a sound decoded from a moment on, as far as it goes."""

from __future__ import annotations

from dataclasses import dataclass
from multiprocessing.connection import Connection
from typing import Any

import numpy as np

from jugal.app.bridge.decode import limit_memory, quarter_turns

_WIDTH = 960
_RATE = 44100
_MOST_ERRORS = 200


@dataclass(frozen=True, slots=True)
class Picture:
    """A frame at ``seconds`` from the start: RGB rows."""

    seconds: float
    width: int
    height: int
    rgb: bytes


@dataclass(frozen=True, slots=True)
class Sound:
    """Sound from ``seconds`` on: 16-bit stereo at 44,100 samples a second, interleaved."""

    seconds: float
    pcm: bytes


@dataclass(frozen=True, slots=True)
class Over:
    """Nothing more comes; ``words`` say why where it is not simply the end."""

    words: str = ""


def play(connection: Connection, path: str, start: float) -> None:
    """Sends Picture and Sound in the order of the file until it ends or nobody listens; a broken packet is left out."""
    limit_memory()
    try:
        connection.send(Over(_decode(connection, path, start)))
    except (BrokenPipeError, ConnectionResetError):
        return
    except Exception as error:  # a decoder may raise anything; it becomes words
        connection.send(Over(f"It cannot be played: {error}"))


def _decode(connection: Connection, path: str, start: float) -> str:
    import av
    from av.audio.resampler import AudioResampler

    errors = 0
    with av.open(path) as file:
        streams = [*file.streams.video[:1], *file.streams.audio[:1]]
        if not streams:
            return "There is neither picture nor sound in it."
        first = float((file.start_time or 0) / 1_000_000)
        if start > 0:
            file.seek(int((start + first) * 1_000_000))
        resampler = AudioResampler(format="s16", layout="stereo", rate=_RATE)
        for packet in file.demux(streams):
            try:
                for frame in packet.decode():
                    _send(connection, frame, first, start, resampler)
            except av.error.FFmpegError:
                errors += 1
                if errors > _MOST_ERRORS:
                    return "The decoder gave up."
    return f"{errors} packets could not be decoded." if errors else ""


def _send(connection: Connection, frame: Any, first: float, start: float, resampler: Any) -> None:
    seconds = (frame.time or 0.0) - first
    if seconds < start - 0.05:
        return
    if hasattr(frame, "to_image"):
        scale = min(1.0, _WIDTH / frame.width)
        small = frame.reformat(max(2, int(frame.width * scale)), max(2, int(frame.height * scale)), "rgb24")
        upright = np.rot90(small.to_ndarray(), quarter_turns(frame))
        connection.send(Picture(seconds, upright.shape[1], upright.shape[0], upright.tobytes()))
        return
    for piece in resampler.resample(frame):
        connection.send(Sound(seconds, bytes(piece.planes[0])[: piece.samples * 4]))
