"""What a movie says of itself: codecs, sizes, rates, when, how it is to be turned and by which device it was made."""

from __future__ import annotations

import datetime
import struct

import numpy as np

from jugal.binary.source import Source
from jugal.formats.base import Report
from jugal.formats.isobmff.aac import AacConfig
from jugal.formats.isobmff.boxes import Box
from jugal.formats.isobmff.movie import Movie
from jugal.formats.isobmff.tables import Track

_EPOCH = datetime.datetime(1904, 1, 1, tzinfo=datetime.UTC)
#: Clockwise turns by the first two and the next two numbers of the matrix of a track (8.3.2, ISO/IEC 14496-12 6.2.2).
_TURNS = {(0, 1, -1, 0): 90, (-1, 0, 0, -1): 180, (0, -1, 1, 0): 270}
#: Texts of the maker and the model: of user data in QuickTime and in 3GPP (TS 26.244 clause 8), and the last words of keys.
_MAKERS, _MODELS = (b"\xa9mak", b"manu", b"make"), (b"\xa9mod", b"modl", b"model")
_MOST_TEXT, _MOST_KEYS = 256, 200


def describe(source: Source, report: Report, movie: Movie) -> None:
    """Fills ``report.media`` from the index, and the anchors between bytes and running time."""
    assert movie.moov is not None
    video = next((t for t in movie.tracks if t.kind == "video"), None)
    sound = next((t for t in movie.tracks if t.kind == "audio"), None)
    media = report.media
    if video is not None:
        media.update(width=video.width, height=video.height, video_codec=video.codec.decode("latin-1").strip())
        if video.offsets.size and video.seconds:
            media["frame_rate"] = round(video.offsets.size / video.seconds, 3)
        if turn := _rotation(source, video):
            media["rotation"] = turn
    if sound is not None:
        media.update(
            audio_codec=sound.codec.decode("latin-1").strip(),
            channels=sound.channels,
            sample_rate=round(sound.sample_rate),
        )
        if isinstance(sound.coding, AacConfig):
            media["audio_profile"] = sound.coding.profile
    leading = video or sound
    if leading is not None and leading.offsets.size and leading.seconds:
        order = np.argsort(leading.offsets, kind="stable")
        begins = np.concatenate(([0], np.cumsum(leading.durations)[:-1]))
        if begins.size == order.size:
            report.anchor(leading.offsets[order], (begins / max(1.0, float(leading.durations.sum())))[order])
    longest = max((t.seconds for t in movie.tracks), default=0.0)
    if longest:
        media["duration"] = round(longest, 3)
    head = movie.moov.child(b"mvhd")
    if head is not None:
        raw = source.read(head.body, 12)
        if len(raw) == 12:
            seconds = int.from_bytes(raw[4:12] if raw[0] == 1 else raw[4:8], "big")
            if 0 < seconds < 2**33:
                media["date_taken"] = (_EPOCH + datetime.timedelta(seconds=seconds)).strftime("%Y-%m-%dT%H:%M:%S")
    if camera := _camera(source, movie.moov):
        media["camera"] = camera


def _rotation(source: Source, track: Track) -> int:
    """By how many degrees players turn the picture clockwise; 0 where they do not, or by no quarter turns."""
    head = track.box.child(b"tkhd")
    raw = source.read(head.body, 88) if head is not None else b""
    at = 52 if raw[:1] == b"\1" else 40
    if len(raw) < at + 20:
        return 0
    a, b, _, c, d = (value / 65536 for value in struct.unpack(">5i", raw[at : at + 20]))
    return _TURNS.get((round(a), round(b), round(c), round(d)), 0)


def _camera(source: Source, moov: Box) -> str:
    """Maker and model as the movie or its first track states them, empty where neither does."""
    texts: dict[bytes, str] = {}
    for holder in (moov, *moov.all(b"trak")[:1]):
        said = holder.all(b"udta")
        for box in (*said, *holder.all(b"meta"), *(meta for user in said for meta in user.all(b"meta"))):
            texts = _user_texts(source, box) | _keyed_texts(source, box) | texts
    maker, model = (next((texts[k] for k in names if k in texts), "") for names in (_MAKERS, _MODELS))
    if not model:
        return ""
    return model if not maker or model.startswith(maker.split()[0]) else f"{maker} {model}"


def _user_texts(source: Source, box: Box) -> dict[bytes, str]:
    """Texts in the boxes of ``udta``: behind a length and a language (QuickTime) or a version and a language (3GPP)."""
    found: dict[bytes, str] = {}
    for child in box.children:
        if child.kind in _MAKERS or child.kind in _MODELS:
            raw = source.read(child.body, min(child.end - child.body, _MOST_TEXT))
            if child.kind[0] == 0xA9:
                raw = raw[4 : 4 + int.from_bytes(raw[:2], "big")]
            else:
                raw = raw[6:]
            found[child.kind] = _text(raw)
    return {kind: text for kind, text in found.items() if text}


def _keyed_texts(source: Source, meta: Box) -> dict[bytes, str]:
    """Values whose key, a name in parts, ends with ``make`` or ``model``: boxes ``keys`` and ``ilst`` of QuickTime."""
    keys, values = meta.child(b"keys"), meta.child(b"ilst")
    if keys is None or values is None:
        return {}
    names: list[bytes] = []
    raw = source.read(keys.body, min(keys.end - keys.body, 1 << 16))
    at = 8
    while at + 8 < len(raw) and len(names) < _MOST_KEYS:
        size = int.from_bytes(raw[at : at + 4], "big")
        names.append(raw[at + 8 : at + size].rpartition(b".")[2])
        at += max(8, size)
    found: dict[bytes, str] = {}
    raw = source.read(values.body, min(values.end - values.body, 1 << 16))
    at = 0
    while at + 24 <= len(raw):
        size, number, _, kind = struct.unpack(">II I4s", raw[at : at + 16])
        if kind == b"data" and 0 < number <= len(names) and names[number - 1] in (b"make", b"model"):
            found[names[number - 1]] = _text(raw[at + 24 : at + size][:_MOST_TEXT])
        at += max(8, size)
    return {kind: text for kind, text in found.items() if text}


def _text(raw: bytes) -> str:
    """A text up to its end, empty where it is none that can be shown."""
    text = raw.split(b"\0")[0].decode("utf-8", "replace").strip()
    return text if text.isprintable() and "\ufffd" not in text else ""
