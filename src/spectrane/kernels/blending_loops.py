"""Compiled forms of ``blending``."""

from __future__ import annotations

from typing import Any

import numpy as np

from spectrane.kernels.compiling import contracted


@contracted
def _normal_row(words: Any, opacity: Any, r: Any, g: Any, b: Any, a: Any) -> None:
    unit = np.float32(1 / 255)
    one = np.float32(1)
    for k in range(r.shape[0]):
        word = words[k]
        alpha = np.float32(word >> np.uint32(24)) * (unit * opacity)
        left = one - alpha
        share = alpha * unit
        r[k] = np.float32(word & np.uint32(255)) * share + r[k] * left
        g[k] = np.float32((word >> np.uint32(8)) & np.uint32(255)) * share + g[k] * left
        b[k] = np.float32((word >> np.uint32(16)) & np.uint32(255)) * share + b[k] * left
        a[k] = alpha + a[k] * left


@contracted
def _mixed(color: Any, alpha: Any, left: Any, below: Any, cover: Any, multiply: Any) -> Any:
    both = alpha * color * below
    if multiply:
        return color * alpha * (np.float32(1) - cover) + below * left + both
    return color * alpha + below - both


@contracted
def _mixed_row(words: Any, opacity: Any, multiply: Any, r: Any, g: Any, b: Any, a: Any) -> None:
    unit = np.float32(1 / 255)
    one = np.float32(1)
    for k in range(r.shape[0]):
        word = words[k]
        alpha = np.float32(word >> np.uint32(24)) * (unit * opacity)
        left = one - alpha
        red = np.float32(word & np.uint32(255)) * unit
        green = np.float32((word >> np.uint32(8)) & np.uint32(255)) * unit
        blue = np.float32((word >> np.uint32(16)) & np.uint32(255)) * unit
        cover = a[k]
        r[k] = _mixed(red, alpha, left, r[k], cover, multiply)
        g[k] = _mixed(green, alpha, left, g[k], cover, multiply)
        b[k] = _mixed(blue, alpha, left, b[k], cover, multiply)
        a[k] = alpha + cover * left


@contracted
def _add(words: Any, opacity: Any, mode: int, below: Any) -> None:
    for i in range(words.shape[0]):
        r, g, b, a = below[0, i], below[1, i], below[2, i], below[3, i]
        if mode == 0:
            _normal_row(words[i], opacity, r, g, b, a)
        else:
            _mixed_row(words[i], opacity, mode == 1, r, g, b, a)


def add_layer(rgba: Any, opacity: float, mode: int, below: Any) -> None:
    """Lay a picture over what is below, as ``blending.add_layer_reference`` does."""
    words = np.ascontiguousarray(rgba).view(np.uint32)[..., 0]
    _add(words, np.float32(opacity), mode, below)


@contracted
def _finish_row(r: Any, g: Any, b: Any, a: Any, out: Any) -> None:
    half, top = np.float32(0.5), np.float32(255)
    for k in range(out.shape[0]):
        alpha = a[k]
        scale = top / (alpha if alpha > 0 else np.float32(1))
        red = np.uint32(min(r[k] * scale, top) + half)
        green = np.uint32(min(g[k] * scale, top) + half)
        blue = np.uint32(min(b[k] * scale, top) + half)
        cover = np.uint32(min(alpha * top, top) + half)
        word = red | green << np.uint32(8) | blue << np.uint32(16) | cover << np.uint32(24)
        out[k] = word if alpha > 0 else np.uint32(0)


@contracted
def _finish(sums: Any, out: Any) -> None:
    for i in range(out.shape[0]):
        _finish_row(sums[0, i], sums[1, i], sums[2, i], sums[3, i], out[i])


def finished(sums: Any, out: Any) -> None:
    """Divide sums by alpha, as ``blending.finished_reference`` does."""
    _finish(sums, out.view(np.uint32)[..., 0])
