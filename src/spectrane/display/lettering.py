"""Letters on pictures: fonts that are unpacked once, lines that fit, texts kept as stamps."""

from __future__ import annotations

import functools
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.drawing import Rgba

_RIM = 2
"""Pixels of dark around letters that are written on a picture."""


@functools.cache
def font_of_height(pixels: int) -> Any:
    """Return the font whose letters are so many pixels high."""
    from PIL import ImageFont

    return ImageFont.load_default(pixels)


def caption_height(text: int) -> int:
    """Return how high captions are below letters of so many pixels.

    >>> caption_height(16)
    13
    """
    return max(10, text * 5 // 6)


def lines_that_fit(text: str, font: Any, width: float) -> list[str]:
    """Break a text into lines of so many pixels; a longer word has a line of its own."""
    lines = [""]
    for word in text.split():
        longer = f"{lines[-1]} {word}".strip()
        if font.getlength(longer) <= width or not lines[-1]:
            lines[-1] = longer
        else:
            lines.append(word)
    return lines


def write(
    rgba: Rgba, at: tuple[float, float], text: str, height: int, *, anchor: str = "la",
    color: tuple[int, ...] = (235, 235, 225, 255), rim: tuple[int, ...] | None = None,
) -> None:  # fmt: skip
    """Write a text on a picture, in place; ``rim`` is the colour of an edge around its letters.

    ``at`` is x, y of what ``anchor`` names, as Pillow does: ``la`` the left end of the top line.
    """
    share, (left, top) = _stamp(text, height, anchor, rim is not None)
    x, y = round(at[0]) + left, round(at[1]) + top
    rows, columns = rgba.shape[:2]
    box = (slice(max(0, y), min(rows, y + share.shape[1])),
           slice(max(0, x), min(columns, x + share.shape[2])))  # fmt: skip
    if box[0].start >= box[0].stop or box[1].start >= box[1].stop:
        return
    own = share[:, box[0].start - y : box[0].stop - y, box[1].start - x : box[1].stop - x]
    part = rgba[box].astype(np.float32)
    for shares, ink in ((own[1], rim), (own[0], color)):
        if ink is not None:
            part += shares[..., np.newaxis] * (np.array(ink, np.float32) - part)
    rgba[box] = np.floor(part + 0.5)


@functools.lru_cache(maxsize=1024)
def _stamp(
    text: str, height: int, anchor: str, rimmed: bool
) -> tuple[NDArray[np.float32], tuple[int, int]]:
    """Return the shares 0...1 of pixels that letters and their rim cover, and where they begin."""
    from PIL import Image, ImageDraw

    font = font_of_height(height)
    pen = ImageDraw.Draw(Image.new("L", (1, 1)))
    left, top, right, bottom = pen.textbbox((0, 0), text, font, anchor)
    margin = _RIM + 1
    x, y = int(np.floor(left)) - margin, int(np.floor(top)) - margin
    size = (int(np.ceil(right)) + margin - x, int(np.ceil(bottom)) + margin - y)
    image = Image.new("L", size)
    ImageDraw.Draw(image).text((-x, -y), text, 255, font, anchor)
    letters: NDArray[np.float32] = np.asarray(image, np.float32) / np.float32(255)
    rim = _widened(letters) if rimmed else np.zeros_like(letters)
    return np.stack([letters, rim]), (x, y)


def _widened(share: NDArray[np.float32]) -> NDArray[np.float32]:
    """Return the greatest share within the rim's reach of each pixel."""
    out = share.copy()
    reach = range(-_RIM, _RIM + 1)
    for down in reach:
        for right in reach:
            if 0 < down * down + right * right <= _RIM * _RIM + 1:
                moved = np.roll(share, (down, right), (0, 1))  # the margin is clear: nothing wraps
                np.maximum(out, moved, out=out)
    return out
