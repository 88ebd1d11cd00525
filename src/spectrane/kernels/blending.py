"""Laying pictures on one another: source-over and blend modes, premultiplied in float32.

The formulas are those of the W3C's "Compositing and Blending Level 1": a picture's colour is mixed
with what is below as its mode says where both are, and laid over it by its alpha. Mode ``hue``
takes OKLab lightness from below and the colour from the picture.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.choice import Twin
from spectrane.kernels.tables import CLEAR

BlendMode = Literal["normal", "multiply", "screen", "hue"]
MODES: dict[str, int] = {mode: number for number, mode in enumerate(get_args(BlendMode))}
ROWS = 32
"""Rows that are worked on at a time, so that sums stay in cache."""
F32 = NDArray[np.float32]
Rgba = NDArray[np.uint8]


def add_layer_reference(rgba: Rgba, opacity: float, mode: int, below: F32) -> None:
    """Lay a picture (rows, columns, 4), straight alpha, over premultiplied ``below`` (4, rows,
    columns), in place. Modes are 0 normal, 1 multiply, 2 screen.
    """
    top = np.moveaxis(rgba, -1, 0).astype(np.float32) * np.float32(1 / 255)
    alpha = top[3] * np.float32(opacity)
    color = top[:3]
    under, left = below[:3], 1 - alpha
    if mode == 0:
        under[...] = color * alpha + under * left
    elif mode == 1:
        under[...] = color * alpha * (1 - below[3]) + under * left + alpha * color * under
    else:
        under[...] = color * alpha + under - alpha * color * under
    below[3] = alpha + below[3] * left


add_layer = Twin(add_layer_reference, "spectrane.kernels.blending_loops", "add_layer", 0.02)
"""``add_layer_reference`` or its compiled twin."""


def finished_reference(sums: F32, out: Rgba) -> None:
    """Divide premultiplied sums (4, rows, columns) by alpha into (rows, columns, 4) uint8."""
    alpha = sums[3]
    safe = np.where(alpha > 0, alpha, np.float32(1))
    for channel in range(3):
        level = np.floor(np.minimum(sums[channel] / safe, 1) * np.float32(255) + np.float32(0.5))
        out[..., channel] = np.where(alpha > 0, level, 0)
    out[..., 3] = np.floor(np.minimum(alpha, 1) * np.float32(255) + np.float32(0.5))


finished = Twin(finished_reference, "spectrane.kernels.blending_loops", "finished", 0.02)
"""``finished_reference`` or its compiled twin."""


def add_hue(rgba: Rgba, opacity: float, below: F32) -> None:
    """Lay a picture's colour over the lightness of what is below, in place."""
    from spectrane.kernels.oklab import shown, to_oklab

    top = rgba.astype(np.float64) / 255
    alpha = (top[..., 3] * opacity).astype(np.float32)
    safe = np.where(below[3] > 0, below[3], 1)
    under = np.moveaxis(below[:3] / safe, 0, -1).astype(np.float64)
    mixed = to_oklab(top[..., :3])
    mixed[..., 0] = to_oklab(np.clip(under, 0, 1))[..., 0]
    both = np.moveaxis(shown(mixed), -1, 0).astype(np.float32)
    color = np.moveaxis(top[..., :3], -1, 0).astype(np.float32)
    below[:3] = color * alpha * (1 - below[3]) + below[:3] * (1 - alpha) + alpha * below[3] * both
    below[3] = alpha + below[3] * (1 - alpha)


def not_hidden(layers: Sequence[tuple[Rgba, float, str]]) -> list[tuple[Rgba, float, str]]:
    """Leave out pictures of which nothing is seen under an opaque one."""
    kept: list[tuple[Rgba, float, str]] = []
    for layer in reversed(layers):
        rgba = layer[0][..., 3]
        hidden = any(
            opacity == 1 and mode == "normal" and ((over[..., 3] == 255) | (rgba == 0)).all()
            for over, opacity, mode in kept
        )
        if not hidden:
            kept.insert(0, layer)
    return kept


def _alone(layers: Sequence[tuple[Rgba, float, str]]) -> bool:
    """Tell whether a picture lies over nothing: it stays what it is, but for colours of what is
    clear.
    """
    return len(layers) == 1 and layers[0][1] == 1 and layers[0][2] == "normal"


def unchanged(layers: Sequence[tuple[Rgba, float, str]]) -> Rgba | None:
    """Return the one picture that blending leaves as it is, where it does."""
    if not _alone(layers) or not layers[0][0].flags.c_contiguous:
        return None
    words = layers[0][0].view("<u4")
    if words.size and words.min() < CLEAR and (words - np.uint32(1) < CLEAR - 1).any():
        return None  # something that is clear has a colour
    return layers[0][0]


def blended(layers: Sequence[tuple[Rgba, float, str]], out: Rgba, rows: slice, work: int) -> None:
    """Blend (picture, opacity, mode), the first the lowest, into some rows of ``out``."""
    if _alone(layers):
        words = np.ascontiguousarray(layers[0][0][rows]).view("<u4")
        out[rows].view("<u4")[...] = np.where(words < CLEAR, 0, words)
        return
    columns = out.shape[1]
    here = (rows.stop - rows.start) * columns * len(layers)
    add, finish = add_layer.choose(work, here), finished.choose(work, here)
    sums = np.empty((4, ROWS, columns), np.float32)
    for start in range(rows.start, rows.stop, ROWS):
        stop = min(start + ROWS, rows.stop)
        part: Any = sums[:, : stop - start]
        part[...] = 0
        for rgba, opacity, mode in layers:
            if mode == "hue":
                add_hue(rgba[start:stop], opacity, part)
            else:
                add(rgba[start:stop], opacity, MODES[mode], part)
        finish(part, out[start:stop])
