"""What a look does on top of limits and curve: local contrast, sharpening, brightness, colour.

Each works on t (0...1), (rows, columns), and leaves invalid pixels out of every neighbourhood.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.model.look import Look

F64 = NDArray[np.float64]
_TILES = 8
_BINS = 256
_LUMA = np.array([0.2126, 0.7152, 0.0722])
"""Weights of red, green and blue in lightness (ITU-R BT.709)."""


def adjusted(planes: Sequence[F64], valid: NDArray[np.bool_], look: Look) -> list[F64]:
    """Return planes of t after all that a look adds, in the order that every output keeps.

    ``valid`` is (rows, columns). One plane stays one; of three, saturation mixes the colours.
    """
    done = []
    for plane in planes:
        t = np.fmax(plane, 0.0)  # t is 0...1 or NaN: NaN alone is changed
        if not valid.all():
            t[~valid] = 0.0
        if look.local_contrast:
            t = local_contrast(t, valid, look.local_contrast)
        if look.sharpen is not None:
            t = sharpened(t, valid, *look.sharpen)
        if (look.brightness, look.contrast) != (0.0, 1.0):
            t = np.clip((t - 0.5) * look.contrast + 0.5 + look.brightness, 0.0, 1.0)
        done.append(t)
    if len(done) == 3 and look.saturation != 1.0:
        _saturate(done, look.saturation)
    return done


def _saturate(planes: Sequence[F64], saturation: float) -> None:
    """Set planes to clip(grey + saturation (plane - grey), 0, 1), in place."""
    red, green, blue = (w * plane for w, plane in zip(_LUMA, planes, strict=True))
    grey = red
    grey += green
    grey += blue
    for plane in planes:
        plane -= grey
        plane *= saturation
        plane += grey
        np.clip(plane, 0.0, 1.0, out=plane)


def sharpened(t: F64, valid: NDArray[np.bool_], radius: float, amount: float) -> F64:
    """Return t + amount (t - G(t)), clipped: G is a Gaussian of σ = radius pixels.

    Invalid neighbours are left out and the weights renormalised, so nothing rings into no-data.
    """
    soft = blurred(np.where(valid, t, 0.0), radius)
    weight = blurred(valid.astype(np.float64), radius)
    soft = np.where(weight > 1e-9, soft / np.maximum(weight, 1e-9), t)
    return np.clip(t + amount * (t - soft), 0.0, 1.0)


def blurred(plane: F64, sigma: float) -> F64:
    """Return the Gaussian-weighted sum of neighbours within 4 σ; nothing lies outside.

    The weights of what can lie in the plane make 1 together, however wide the Gaussian is.
    """
    for axis in (0, 1):
        reach = max(1, int(min(np.ceil(4 * sigma), plane.shape[axis] - 1)))
        weights = np.exp(-0.5 * (np.arange(-reach, reach + 1) / sigma) ** 2)
        weights /= weights.sum()
        padded = np.pad(plane, [(reach, reach) if k == axis else (0, 0) for k in (0, 1)])
        total = np.zeros_like(plane)
        for k, weight in enumerate(weights):
            start = [slice(None), slice(None)]
            start[axis] = slice(k, k + plane.shape[axis])
            total += weight * padded[tuple(start)]
        plane = total
    return plane


def local_contrast(t: F64, valid: NDArray[np.bool_], clip: float) -> F64:
    """Return t equalised tile by tile, 8 x 8 of them, blended between tile centres.

    ``clip`` bounds how often a bin may occur, in means of all bins: 1 changes little, 4 much;
    what is cut off is spread evenly.
    """
    rows, columns = t.shape
    down, across = (max(1, min(_TILES, n // 8)) for n in (rows, columns))
    edges_r, edges_c = (np.linspace(0, n, k + 1).astype(int) for n, k in
                        ((rows, down), (columns, across)))  # fmt: skip
    maps = np.array([
        [_tile_map(t, valid, slice(*edges_r[i : i + 2]), slice(*edges_c[j : j + 2]), clip)
         for j in range(across)] for i in range(down)
    ])  # fmt: skip
    r0, r1, fr = _beside(rows, edges_r)
    c0, c1, fc = _beside(columns, edges_c)
    place = t * (_BINS - 1)
    low = np.floor(place).astype(int)
    high, share = np.minimum(low + 1, _BINS - 1), place - low
    out = np.zeros_like(t)
    for i, wi in ((r0, 1 - fr), (r1, fr)):
        for j, wj in ((c0, 1 - fc), (c1, fc)):
            at = (i[:, np.newaxis], j[np.newaxis, :])
            value = maps[(*at, low)] * (1 - share) + maps[(*at, high)] * share
            out += value * (wi[:, np.newaxis] * wj[np.newaxis, :])
    return np.clip(out, 0.0, 1.0)


def _tile_map(t: F64, valid: NDArray[np.bool_], rows: slice, columns: slice, clip: float) -> F64:
    seen = t[rows, columns][valid[rows, columns]]
    if not seen.size:
        return np.linspace(0, 1, _BINS)
    counts = np.bincount((seen * (_BINS - 1) + 0.5).astype(int), minlength=_BINS).astype(float)
    most = max(1.0, clip * seen.size / _BINS)
    over = np.maximum(counts - most, 0).sum()
    counts = np.minimum(counts, most) + over / _BINS
    total = np.cumsum(counts)
    return np.asarray((total - counts / 2) / total[-1])


def _beside(length: int, edges: NDArray[Any]) -> tuple[NDArray[Any], NDArray[Any], F64]:
    """Return for each pixel the tiles whose centres lie before and after it, and how far it is."""
    centres = (edges[:-1] + edges[1:]) / 2
    place = np.interp(np.arange(length) + 0.5, centres, np.arange(len(centres)))
    before = np.floor(place).astype(int)
    return before, np.minimum(before + 1, len(centres) - 1), place - before
