"""Healthy files of every examined format, by several encoders and settings, for the truth bench."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from jugal.samples import encode
from jugal.samples.scenes import riverbed


def _pictures() -> Iterator[tuple[str, Callable[[], bytes]]]:
    def photo(seed: int, w: int = 1200, h: int = 900):  # type: ignore[no-untyped-def]
        return riverbed(w, h, seed, f"T{seed}")

    yield (
        "jpeg/420",
        lambda: encode.jpeg(photo(1), exif=encode.exif_of("Lurga M2", "2026:05:14 07:31:00", 1200, 900)),
    )
    yield "jpeg/444-fine", lambda: encode.jpeg(photo(2), quality=96, subsampling=0)
    yield "jpeg/422-optimised", lambda: encode.jpeg(photo(3), quality=80, subsampling=1, optimize=True)
    yield "jpeg/restart", lambda: encode.jpeg(photo(4), quality=85, restart_marker_rows=1)
    yield "jpeg/progressive", lambda: encode.jpeg(photo(5), quality=85, progressive=True)
    yield "jpeg/grey", lambda: encode.jpeg(photo(6).convert("L"))
    yield "jpeg/coarse", lambda: encode.jpeg(photo(7), quality=45)
    yield "jpeg/video-encoder", lambda: encode.jpeg_by_video_encoder(photo(8))
    yield "png/rgb", lambda: encode.png(photo(9, 700, 500))
    yield "png/palette", lambda: encode.png(photo(10, 700, 500).quantize(64))
    yield "png/grey", lambda: encode.png(photo(11, 900, 600).convert("L"))
    yield "png/alpha", lambda: encode.png(photo(12, 500, 400).convert("RGBA"), compress_level=9)


def _media() -> Iterator[tuple[str, Callable[[], bytes]]]:
    yield "mp4/plain", lambda: encode.clip(seed=1)
    yield "mp4/faststart", lambda: encode.clip(seed=2, mux={"movflags": "faststart"})
    yield "mp4/no-b-frames", lambda: encode.clip(seed=3, options={"bf": "0", "slices": "4"})
    yield "mp4/hevc", lambda: encode.clip(seed=4, video="libx265", options={"x265-params": "log-level=none"})
    yield (
        "mp4/fragmented",
        lambda: encode.clip(seed=5, mux={"movflags": "frag_keyframe+empty_moov+default_base_moof"}),
    )
    yield "mov/pcm", lambda: encode.clip(seed=6, container="mov", audio="pcm_s16le")
    yield "m4a/aac", lambda: encode.sound("aac", "ipod")
    yield "wav/stereo16", lambda: encode.wav()
    yield "wav/mono16", lambda: encode.wav(channels=1, rate=44100, seed=11)
    yield "wav/stereo24", lambda: encode.wav(width=3, seed=12)
    yield "mp3/vbr", lambda: encode.sound("libmp3lame", "mp3")
    yield "mp3/mono", lambda: encode.sound("libmp3lame", "mp3", channels=1, seed=13, options={"b": "96k"})
    yield "flac/stereo", lambda: encode.sound("flac", "flac")
    yield "flac/mono", lambda: encode.sound("flac", "flac", channels=1, seed=14, seconds=9)


def _documents() -> Iterator[tuple[str, Callable[[], bytes]]]:
    yield "pdf/report", lambda: encode.pdf(8)
    yield "pdf/plain", lambda: encode.pdf(5, seed=15, compressed=False)
    yield "docx/notes", encode.docx
    yield "xlsx/table", lambda: encode.xlsx(rows=2500)
    yield "odt/permits", lambda: encode.odt(paragraphs=900)
    yield "zip/store", encode.archive


def healthy() -> Iterator[tuple[str, str, bytes]]:
    """(format, variant, bytes) of each."""
    for group in (_pictures, _media, _documents):
        for name, make in group():
            format_name, variant = name.split("/")
            yield format_name, variant, make()
