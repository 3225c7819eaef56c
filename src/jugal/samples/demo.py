"""The demo case: a mussel survey on the Odrell, after a boat tipped and the storage box got wet.

Deterministic: the same bytes each time. ``truth.json`` beside the case's files lists what was done to each.
"""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Callable
from dataclasses import asdict, dataclass
from functools import partial
from pathlib import Path

import numpy as np
from PIL import Image

from jugal.samples import encode
from jugal.samples.harm import harm
from jugal.samples.scenes import PARAGRAPHS, riverbed

VERSION = "5"
_CAMERAS = (("LURGA", "Lurga M2", (1600, 1200)), ("TERN_", "Tern Compact 7", (1440, 960)))


@dataclass(frozen=True, slots=True)
class Truth:
    """What was done to one file of the demo: the damage's name (empty for healthy) and its first byte."""

    path: str
    format: str
    damage: str
    start: int | None


def demo_root() -> Path:
    """Where the demo case lives; JUGAL_DATA overrides the user's data folder."""
    from platformdirs import user_data_path

    base = os.environ.get("JUGAL_DATA")
    return (Path(base) if base else user_data_path("jugal")) / "demo"


def _photos() -> list[tuple[str, str, Callable[[], bytes], str]]:
    plan: list[tuple[str, str, Callable[[], bytes], str]] = []
    damages = {
        2: "truncate", 4: "zero-cluster", 6: "no-huffman-tables", 7: "text-cluster", 9: "no-header", 11: "lost-cluster", 13: "no-end-marker",
        15: "junk-before", 16: "zero-several", 18: "noise-cluster", 20: "own-cluster", 22: "zero-start", 24: "zeros-after", 25: "no-start-marker", 27: "zero-tail",
    }  # fmt: skip
    for number in range(30):
        prefix = _CAMERAS[number % 2][0]
        plan.append((f"photos/{prefix}{1000 + number}.JPG", "jpeg", partial(_shot, number), damages.get(number, "")))
    for number in range(4):
        plan.append(
            (
                f"photos/found_{number + 1:04d}.jpg",
                "jpeg",
                partial(_bag, number),
                ("", "truncate", "zero-cluster", "")[number],
            )
        )
    return plan


def _scene(number: int) -> Image.Image:
    return riverbed(*_CAMERAS[number % 2][2], 100 + number, f"Odrell T{number // 5 + 1} no. {number + 1}")


def _shot(number: int) -> bytes:
    _, camera, size = _CAMERAS[number % 2]
    taken = f"2026:05:{14 + number // 10:02d} {7 + number % 10:02d}:{(number * 7) % 60:02d}:00"
    options = {"restart_marker_rows": 1} if number % 8 == 3 else {}
    return encode.jpeg(_scene(number), quality=87, exif=encode.exif_of(camera, taken, *size), **options)


def _copies() -> list[tuple[str, str, Callable[[], bytes], str]]:
    """What turns up beside the originals: the same bytes under another name, an export, what went into a letter."""
    return [
        ("strays/FILE0005.CHK", "jpeg", partial(_shot, 0), ""),
        ("office/for the web/T1-4.jpg", "jpeg", lambda: encode.jpeg(_scene(3).resize((720, 480)), quality=70), ""),
        ("office/for the web/T2-3.jpg", "jpeg", lambda: encode.jpeg(_scene(7), quality=45), ""),
    ]


def _bag(number: int) -> bytes:
    return encode.jpeg(riverbed(900, 600, 200 + number, f"Bag {number + 1}"), progressive=True, quality=84)


def _map(number: int) -> bytes:
    if number % 2:
        return encode.png(riverbed(520, 360, 300 + number, f"Transect {number + 1}").quantize(96))
    return encode.png(riverbed(420, 300, 300 + number, f"Transect {number + 1}"))


def _maps() -> list[tuple[str, str, Callable[[], bytes], str]]:
    damages = ("", "header-crc", "zero-cluster", "no-end", "truncate", "")
    return [
        (
            f"maps/transect{n + 1}.png",
            "png",
            partial(_map, n),
            damages[n],
        )
        for n in range(6)
    ]


def _clips() -> list[tuple[str, str, Callable[[], bytes], str]]:
    fast = {"movflags": "faststart"}
    rows: list[tuple[str, str, dict, str]] = [
        ("DIVE0001.MP4", "mp4", {"seed": 41}, ""), ("DIVE0002.MP4", "mp4", {"seed": 42, "mux": fast}, "truncate"),
        ("DIVE0003.MP4", "mp4", {"seed": 43}, "offsets-shifted"), ("DIVE0004.MP4", "mp4", {"seed": 44}, "zero-cluster"),
        ("DIVE0005.MP4", "mp4", {"seed": 45}, "no-index"), ("DIVE0006.MP4", "mp4", {"seed": 46}, "mdat-size"),
        ("DIVE0007.MP4", "mp4", {"seed": 47}, "no-file-type"), ("DIVE0008.MOV", "mov", {"seed": 48, "container": "mov", "audio": "pcm_s16le"}, ""),
        ("DIVE0009.MP4", "mp4", {"seed": 49, "mux": fast}, "lost-cluster"),
    ]  # fmt: skip
    return [
        (f"clips/{name}", kind, partial(encode.clip, seconds=4.0, bit_rate=500_000, **options), damage)
        for name, kind, options, damage in rows
    ]


def _sounds() -> list[tuple[str, str, Callable[[], bytes], str]]:
    return [
        ("recorder/R-0001.WAV", "wav", lambda: encode.wav(4.0, seed=61), ""),
        ("recorder/R-0002.WAV", "wav", lambda: encode.wav(4.0, seed=62), "sizes-zero"),
        ("recorder/R-0003.WAV", "wav", lambda: encode.wav(4.0, seed=63), "zero-several"),
        ("recorder/R-0004.WAV", "wav", lambda: encode.wav(4.0, seed=64), "truncate"),
        ("recorder/R-0005.WAV", "wav", lambda: encode.wav(4.0, seed=65), "text-cluster"),
        ("recorder/dawn.mp3", "mp3", lambda: encode.sound("libmp3lame", "mp3", 8.0, seed=66), ""),
        ("recorder/weir.mp3", "mp3", lambda: encode.sound("libmp3lame", "mp3", 8.0, seed=67), "zero-cluster"),
        ("recorder/noon.mp3", "mp3", lambda: encode.sound("libmp3lame", "mp3", 8.0, seed=68), "truncate"),
        ("recorder/bittern.flac", "flac", lambda: encode.sound("flac", "flac", 5.0, seed=69), ""),
        ("recorder/ford.flac", "flac", lambda: encode.sound("flac", "flac", 5.0, seed=70), "noise-cluster"),
        ("recorder/memo.m4a", "m4a", lambda: encode.sound("aac", "ipod", 5.0, seed=71), ""),
    ]


def _office() -> list[tuple[str, str, Callable[[], bytes], str]]:
    return [
        ("office/report.pdf", "pdf", lambda: encode.pdf(5, 81), ""),
        ("office/report draft.pdf", "pdf", lambda: encode.pdf(5, 82), "startxref-wrong"),
        ("office/sheets.pdf", "pdf", lambda: encode.pdf(5, 83), "zero-cluster"),
        ("office/old sheets.pdf", "pdf", lambda: encode.pdf(4, 84), "truncate"),
        ("office/notes.docx", "docx", lambda: encode.docx(85), ""),
        ("office/notes copy.docx", "docx", lambda: encode.docx(86), "no-directory"),
        ("office/notes wet.docx", "docx", lambda: encode.docx(87), "zero-cluster"),
        ("office/lengths.xlsx", "xlsx", lambda: encode.xlsx(88), ""),
        ("office/lengths 2.xlsx", "xlsx", lambda: encode.xlsx(89, 1500), "flip-bits"),
        ("office/permit.odt", "odt", lambda: encode.odt(90), ""),
        ("office/permit 2.odt", "odt", lambda: encode.odt(91), "no-directory"),
        ("office/box.zip", "zip", lambda: encode.archive(92), ""),
        ("office/box 2.zip", "zip", lambda: encode.archive(93), "truncate"),
        ("office/diary.txt", "text", lambda: "\n".join(PARAGRAPHS * 40).encode(), ""),
        ("office/diary wet.txt", "text", lambda: "\n".join(PARAGRAPHS * 40).encode(), "zero-cluster"),
    ]


def _strays() -> list[tuple[str, str, Callable[[], bytes], str]]:
    return [
        ("strays/FILE0001.CHK", "unknown", lambda: bytes(65536), "all-zero"),
        ("strays/FILE0002.CHK", "unknown", lambda: b"", "empty"),
        ("strays/FILE0003.CHK", "unknown", lambda: np.random.default_rng(95).bytes(40_000), "noise"),
        ("strays/FILE0004.CHK", "jpeg", lambda: encode.jpeg(riverbed(800, 600, 96, "Bag 9")), ""),
        ("strays/.hidden.txt", "text", lambda: ("\n".join(PARAGRAPHS) + "\n").encode(), ""),
    ]


def make_demo(root: Path | None = None) -> Path:
    """Makes the demo's files below ``root``/files where they are not there yet; returns that folder."""
    root = root or demo_root()
    folder = root / "files"
    stamp = root / "version"
    if stamp.exists() and stamp.read_text() == VERSION:
        return folder
    if folder.exists():
        shutil.rmtree(folder)
    truths = []
    for at, (place, kind, make, damage) in enumerate(
        (*_photos(), *_maps(), *_clips(), *_sounds(), *_office(), *_strays(), *_copies())
    ):
        path = folder / place
        path.parent.mkdir(parents=True, exist_ok=True)
        data, start = make(), None
        if damage and damage not in ("all-zero", "empty", "noise"):
            harmed = harm(data, kind, damage, 1000 + at)
            data, start = harmed.data, harmed.start
        elif damage:
            start = 0
        path.write_bytes(data)
        truths.append(Truth(place, kind, damage, start))
    (root / "truth.json").write_text(json.dumps([asdict(t) for t in truths], indent=1), encoding="utf-8")
    stamp.write_text(VERSION)
    return folder


def read_truth(root: Path | None = None) -> list[Truth]:
    """The list of what was done to each of the demo's files."""
    return [Truth(**entry) for entry in json.loads(((root or demo_root()) / "truth.json").read_text(encoding="utf-8"))]
