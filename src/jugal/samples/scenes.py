"""Pictures, moving scenes and sounds of the mussel survey on the Odrell. Deterministic for a seed."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFilter, ImageFont


def _noise(rng: np.random.Generator, width: int, height: int, cell: int) -> NDArray:
    grid = rng.random((height // cell + 3, width // cell + 3)).astype(np.float32)
    large = Image.fromarray(grid).resize((width + 2 * cell, height + 2 * cell), Image.Resampling.BICUBIC)
    return np.asarray(large)[cell : cell + height, cell : cell + width]


def riverbed(width: int, height: int, seed: int, label: str = "") -> Image.Image:
    """Gravel under shallow water with mussel shells, a ruler along the lower edge and a label card."""
    rng = np.random.default_rng(seed)
    unit = max(8, min(width, height) // 24)
    base: NDArray = np.zeros((height, width))
    base = base + sum(
        weight * _noise(rng, width, height, max(2, cell))
        for cell, weight in ((unit * 4, 0.5), (unit, 0.3), (unit // 3, 0.2), (max(2, unit // 8), 0.14))
    )
    tint = np.array([104, 92, 70]) + rng.normal(0, 8, 3)
    ground = np.clip(base[..., None] * tint * 1.5 + rng.normal(0, 5, (height, width, 1)), 0, 255).astype(np.uint8)
    picture = Image.fromarray(ground)
    draw = ImageDraw.Draw(picture)
    for _ in range(90):
        x, y, r = (int(rng.integers(*b)) for b in ((0, width), (0, height), (unit // 4, unit)))
        shade = rng.integers(60, 170)
        colour = (int(shade), int(shade * 0.92), int(shade * 0.8))
        draw.ellipse((x - r, y - r * 0.7, x + r, y + r * 0.7), fill=colour, outline=tuple(c // 2 for c in colour))
    for _ in range(7):
        _shell(
            draw,
            rng,
            int(rng.integers(unit * 2, width - unit * 2)),
            int(rng.integers(unit * 2, height - unit * 4)),
            unit,
        )
    light = 0.85 + 0.3 * _noise(rng, width, height, unit * 3)
    picture = Image.fromarray(np.clip(np.asarray(picture) * light[..., None], 0, 255).astype(np.uint8))
    picture = picture.filter(ImageFilter.GaussianBlur(0.6))
    _ruler(picture, unit)
    if label:
        _card(picture, unit, label)
    return picture


def _shell(draw: ImageDraw.ImageDraw, rng: np.random.Generator, x: int, y: int, unit: int) -> None:
    length, width = unit * rng.uniform(1.2, 2.2), unit * rng.uniform(0.6, 1.0)
    dark = rng.integers(20, 60)
    for ring in range(9, 0, -1):
        k = ring / 9
        colour = (int(dark + 12 * (9 - ring)), int(dark * 0.9 + 10 * (9 - ring)), int(dark + 14 * (9 - ring)))
        draw.ellipse(
            (x - length * k, y - width * k, x + length * k * 0.8, y + width * k),
            fill=colour,
            outline=(20, 18, 24),
        )


def _font(size: int) -> ImageFont.FreeTypeFont | ImageFont.ImageFont:
    return ImageFont.load_default(size)


def _ruler(picture: Image.Image, unit: int) -> None:
    draw = ImageDraw.Draw(picture)
    width, height = picture.size
    top = height - unit
    draw.rectangle((unit, top, width - unit, height - unit // 4), fill=(226, 214, 150))
    step = max(3, unit // 4)
    for i, x in enumerate(range(unit, width - unit, step)):
        draw.line(
            (x, top, x, top + (unit // 2 if i % 10 == 0 else unit // 4)),
            fill=(30, 30, 30),
            width=max(1, unit // 24),
        )
        if i % 10 == 0:
            draw.text((x + 2, top + unit // 3), str(i // 10), fill=(30, 30, 30), font=_font(max(8, unit // 3)))


def _card(picture: Image.Image, unit: int, label: str) -> None:
    draw = ImageDraw.Draw(picture)
    font = _font(max(9, unit // 2))
    box = draw.textbbox((0, 0), label, font=font)
    draw.rectangle((unit, unit // 2, unit + box[2] + unit, unit // 2 + box[3] + unit // 2), fill=(240, 240, 232))
    draw.text((unit * 1.5, unit * 0.7), label, fill=(20, 40, 70), font=font)


def river_frame(width: int, height: int, number: int, seed: int) -> NDArray[np.uint8]:
    """Frame ``number`` of an underwater clip: drifting light over gravel and a fish that crosses. uint8 RGB."""
    rng = np.random.default_rng(seed)
    ground = _noise(rng, width + 200, height, 14) * 90 + _noise(rng, width + 200, height, 4) * 40
    shift = (number * 2) % 200
    view = ground[:, shift : shift + width]
    y, x = np.mgrid[0:height, 0:width]
    light = 20 * np.sin(x / 23 + number / 6) * np.cos(y / 17 - number / 9)
    frame = np.stack((view * 0.5 + light + 20, view * 0.8 + light + 45, view * 0.9 + light + 60), axis=2)
    fx, fy = (number * 5 + 40) % (width + 80) - 40, height * 0.5 + 12 * np.sin(number / 7)
    body = ((x - fx) / 28) ** 2 + ((y - fy) / 9) ** 2 < 1
    frame[body] = (190, 180, 160)
    frame += rng.normal(0, 3, frame.shape) + np.random.default_rng(seed * 1000 + number).normal(
        0, 2, (height, width, 1)
    )
    return np.clip(frame, 0, 255).astype(np.uint8)


def river_sound(seconds: float, rate: int, channels: int, seed: int) -> NDArray[np.float32]:
    """Running water with birds over it: float32 (samples, channels) in -1..1."""
    rng = np.random.default_rng(seed)
    n = int(seconds * rate)
    water = rng.normal(0, 1, n)
    kernel = np.exp(-np.arange(60) / 14)
    water = np.convolve(water, kernel / kernel.sum(), "same") * (0.35 + 0.1 * np.sin(np.arange(n) / rate * 2.2))
    t = np.arange(n) / rate
    birds = np.zeros(n)
    for _ in range(max(1, int(seconds * 1.5))):
        start, pitch = rng.uniform(0, max(0.01, seconds - 0.3)), rng.uniform(1800, 4200)
        window = (t >= start) & (t < start + 0.25)
        local = t[window] - start
        birds[window] += (
            np.sin(2 * np.pi * (pitch * local + 900 * np.sin(local * 40) / 40)) * np.sin(np.pi * local / 0.25) * 0.4
        )
    both = 0.28 * water + 0.5 * birds
    out = np.stack([both * (1 - 0.12 * c) + rng.normal(0, 0.002, n) for c in range(channels)], axis=1)
    return np.clip(out, -0.98, 0.98).astype(np.float32)


PARAGRAPHS = (
    "The reach below the old ford was surveyed on three mornings with low water and good light.",
    "Shells were measured along the longest axis and laid beside the ruler before each picture.",
    "Live animals were counted in place and not moved; empty shells went into numbered bags.",
    "At transect four the boat tipped and the storage box lay in the water for some minutes.",
    "Young animals were found again above the weir, for the first time since the flood.",
    "The water was clear to the bottom, eleven degrees, with little drift and no algae.",
)
