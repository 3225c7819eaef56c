"""What a movie says of itself: how it is turned, its device, the profile of its sound."""

from __future__ import annotations

import io
import struct
from pathlib import Path

import av
import numpy as np
import pytest
from PySide6.QtWidgets import QApplication

from conftest import examine, until
from jugal.app.bridge.decode import render
from jugal.app.bridge.player import Player
from jugal.formats.isobmff.aac import specific_config
from jugal.formats.isobmff.bits import BitWriter
from jugal.samples import encode

TURNED = {0: (1, 0, 0, 1), 90: (0, 1, -1, 0), 180: (-1, 0, 0, -1), 270: (0, -1, 1, 0)}


def turned(degrees: int) -> bytes:
    data = bytearray(encode.clip(1.0, (192, 108), audio=None))
    at = data.index(b"tkhd") + 4 + 40
    a, b, c, d = (value * 65536 for value in TURNED[degrees])
    data[at : at + 20] = struct.pack(">5i", a, b, 0, c, d)
    return bytes(data)


@pytest.mark.parametrize("degrees", TURNED)
def test_the_matrix_tells_how_players_turn_it(degrees: int, tmp_path: Path) -> None:
    assert examine(turned(degrees)).media.get("rotation", 0) == degrees
    with av.open(io.BytesIO(turned(degrees))) as file:
        assert (next(file.decode(video=0)).rotation + degrees) % 360 == 0, "theirs counts the other way round"
    path = tmp_path / "a.mp4"
    path.write_bytes(turned(degrees))
    shown, lying = render(str(path), "mp4", "video"), tmp_path / "b.mp4"
    lying.write_bytes(turned(0))
    plain = render(str(lying), "mp4", "video")
    pixels = np.frombuffer(plain.rgb, np.uint8).reshape(plain.height, plain.width, 3)
    assert shown.rgb == np.rot90(pixels, -degrees // 90).tobytes() and len(shown.rgb) == len(plain.rgb)


def test_it_is_played_upright(qapp: QApplication, tmp_path: Path) -> None:
    path = tmp_path / "a.mp4"
    path.write_bytes(turned(90))
    player = Player(sounding=False)
    sizes: list[tuple[int, int]] = []
    player.pictured.connect(lambda image: sizes.append((image.width(), image.height())))
    player.play(str(path))
    until(lambda: len(sizes) > 2)
    player.stop()
    player.deleteLater()
    assert set(sizes) == {(108, 192)}


@pytest.mark.parametrize(
    ("container", "mux"),
    [("mov", {}), ("mov", {"movflags": "use_metadata_tags"}), ("mp4", {"movflags": "use_metadata_tags"})],
)
def test_the_device_is_told(container: str, mux: dict[str, str]) -> None:
    out = io.BytesIO()
    clip = io.BytesIO(encode.clip(1.0, (192, 108), audio=None))
    with av.open(clip) as source, av.open(out, "w", format=container, options=mux) as file:
        file.metadata.update(make="Lurga", model="Lurga M2")
        stream = file.add_stream_from_template(source.streams[0])
        for packet in source.demux():
            if packet.dts is not None:
                packet.stream = stream
                file.mux(packet)
    assert examine(out.getvalue()).media["camera"] == "Lurga M2"


def test_texts_of_3gpp_name_the_device_and_odd_ones_do_not() -> None:
    data = encode.clip(1.0, (192, 108), audio=None)
    moov = data.index(b"moov") - 4

    def with_user_data(maker: bytes, model: bytes) -> bytes:
        texts = b"".join(
            struct.pack(">I4s", 8 + len(raw), kind) + raw
            for kind, raw in ((b"manu", bytes(4) + b"\x15\xc7" + maker), (b"modl", bytes(4) + b"\x15\xc7" + model))
        )
        box = struct.pack(">I4s", 8 + len(texts), b"udta") + texts
        size = int.from_bytes(data[moov : moov + 4], "big") + len(box)
        return data[:moov] + struct.pack(">I", size) + data[moov + 4 :] + box

    assert examine(with_user_data(b"Lurga\0", b"M2\0")).media["camera"] == "Lurga M2"
    for odd in (b"\xff\xfe\0", b"\x01\x02", b"", b"\0"):
        found = examine(with_user_data(b"Lurga\0", odd))
        assert "camera" not in found.media and found.score == 100.0


def config(*fields: tuple[int, int]) -> bytes:
    writer = BitWriter()
    for value, bits in fields:
        writer.put(value, bits)
    return writer.plain()


LC = ((2, 5), (6, 4), (2, 4), (0, 3))


@pytest.mark.parametrize(
    ("fields", "profile"),
    [
        (LC, "AAC-LC"),
        (((1, 5), *LC[1:]), "AAC Main"),
        (((5, 5), (6, 4), (2, 4), (3, 4), (2, 5), (0, 3)), "HE-AAC"),
        (((29, 5), (6, 4), (1, 4), (3, 4), (2, 5), (0, 3)), "HE-AAC v2"),
        ((*LC, (0x2B7, 11), (5, 5), (1, 1), (3, 4)), "HE-AAC"),
        ((*LC, (0x2B7, 11), (5, 5), (1, 1), (3, 4), (0x548, 11), (1, 1)), "HE-AAC v2"),
        ((*LC, (0x2B7, 11), (5, 5), (0, 1)), "AAC-LC"),
    ],
)
def test_the_profile_of_sound(fields: tuple[tuple[int, int], ...], profile: str) -> None:
    """AudioSpecificConfig by hand (ISO/IEC 14496-3 1.6.2.1): what is added may be told in front or behind."""
    found = specific_config(config(*fields))
    assert found is not None and found.profile == profile and found.rate == 24000
