"""The recipes of the built-in colour maps: paths through OKLab, made by code."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.oklab import shown, to_oklab
from spectrane.model.colors import parse_color, rgba_bytes
from spectrane.model.purposes import ENTRIES, ColormapKind

Made: TypeAlias = tuple[NDArray[np.uint8], ColormapKind]
"""The entries of a map, and its kind."""
Knot = tuple[float, float, float]
"""Lightness 0...1, chroma, hue in degrees, in OKLab."""


def _path(knots: Sequence[Knot], count: int) -> NDArray[np.float64]:
    """Return sRGB (count, 3) along a smooth path through knots, in steps that look even."""
    lab = np.array([
        (light, chroma * np.cos(np.radians(hue)), chroma * np.sin(np.radians(hue)))
        for light, chroma, hue in knots
    ])  # fmt: skip
    fine = np.linspace(0, len(knots) - 1, 2001)
    dense = np.column_stack([np.interp(fine, np.arange(len(knots)), lab[:, k]) for k in range(3)])
    width = 2001 // (len(knots) * 2) | 1
    kernel = np.hanning(width + 2)[1:-1]
    pad = np.pad(dense, ((width // 2, width // 2), (0, 0)), mode="reflect", reflect_type="odd")
    smooth = np.column_stack([np.convolve(pad[:, k], kernel / kernel.sum(), "valid")
                              for k in range(3)])  # fmt: skip
    seen = to_oklab(shown(smooth))
    along = np.concatenate([[0], np.cumsum(np.sqrt((np.diff(seen, axis=0) ** 2).sum(axis=1)))])
    even = np.linspace(0, along[-1], count)
    return shown(np.column_stack([np.interp(even, along, seen[:, k]) for k in range(3)]))


def _opaque(rgb: NDArray[np.float64], kind: ColormapKind = "sequential") -> Made:
    return rgba_bytes(np.column_stack([rgb, np.ones(len(rgb))])), kind


def _made(knots: Sequence[Knot]) -> Made:
    return _opaque(_path(knots, ENTRIES))


def _diverging(low: Sequence[Knot], high: Sequence[Knot]) -> Made:
    """Return two arms of equal lightness that meet in a pale middle."""
    pale = (0.965, 0.004, 100.0)
    left, right = (_path([*arm, pale], ENTRIES // 2) for arm in (low, high))
    rgb = np.concatenate([left, right[::-1]])
    return _opaque(rgb, "diverging")


def _cyclic() -> Made:
    """Return a round of hues whose lightness rises and falls once, so that both halves differ."""
    turn = np.linspace(0, 2 * np.pi, ENTRIES, endpoint=False)
    light, hue = 0.62 - 0.24 * np.cos(turn), turn + np.radians(250)
    chroma = 0.105
    lab = np.column_stack([light, chroma * np.cos(hue), chroma * np.sin(hue)])
    rgb = shown(lab)
    return _opaque(rgb, "cyclic")


def _depth_and_height() -> Made:
    """Return water below a sharp zero in the middle, land above it."""
    water = _path([(0.22, 0.09, 268), (0.42, 0.11, 255), (0.66, 0.09, 235), (0.82, 0.05, 218)], 128)
    land = _path([(0.50, 0.09, 142), (0.66, 0.09, 118), (0.80, 0.07, 90), (0.97, 0.01, 80)], 128)
    rgb = np.concatenate([water, land])
    return _opaque(rgb, "diverging")


_PEBBLES = (
    "#3b6fb6", "#e08a1e", "#3f9b57", "#c8423d", "#8a63b0", "#7a5a43", "#d879b5", "#6f7680",
    "#b3ad35", "#35a9bd", "#1f3b63", "#f2c9a1",
)  # fmt: skip


def _categorical() -> Made:
    entries = np.array([parse_color(color) for color in _PEBBLES], np.uint8)
    return entries, "categorical"


_SEQUENTIAL: dict[str, Sequence[Knot]] = {
    "slate": [(0.16, 0.01, 255), (0.55, 0.035, 250), (0.97, 0.01, 240)],
    "kelpbed": [(0.18, 0.05, 190), (0.48, 0.09, 160), (0.75, 0.12, 130), (0.96, 0.08, 110)],
    "hearth": [(0.14, 0.05, 20), (0.42, 0.15, 27), (0.66, 0.17, 50), (0.95, 0.09, 95)],
    "foxglove": [(0.17, 0.08, 295), (0.42, 0.15, 325), (0.68, 0.15, 0), (0.95, 0.05, 60)],
    "estuary": [(0.18, 0.07, 265), (0.45, 0.09, 230), (0.72, 0.10, 195), (0.96, 0.05, 170)],
    "peatbog": [(0.17, 0.03, 60), (0.45, 0.06, 65), (0.72, 0.07, 80), (0.96, 0.03, 95)],
    "kiln": [(0.12, 0.06, 285), (0.36, 0.16, 315), (0.58, 0.19, 20), (0.78, 0.16, 65),
             (0.98, 0.06, 105)],
    "sward": [(0.90, 0.05, 75), (0.78, 0.09, 100), (0.58, 0.13, 135), (0.28, 0.08, 145)],
}  # fmt: skip
_DIVERGING: dict[str, tuple[Sequence[Knot], Sequence[Knot]]] = {
    "ebbflow": ([(0.34, 0.11, 262), (0.65, 0.10, 245)], [(0.34, 0.10, 40), (0.65, 0.13, 55)]),
    "heathsea": ([(0.34, 0.12, 288), (0.65, 0.10, 280)], [(0.34, 0.08, 78), (0.65, 0.12, 82)]),
    "gorsewine": ([(0.34, 0.12, 310), (0.65, 0.11, 305)], [(0.34, 0.08, 115), (0.65, 0.12, 110)]),
}
MAKERS: dict[str, Callable[[], Made]] = {
    **{name: partial(_made, knots) for name, knots in _SEQUENTIAL.items()},
    **{name: partial(_diverging, *arms) for name, arms in _DIVERGING.items()},
    "grey": lambda: _opaque(np.column_stack([np.arange(256) / 255] * 3)),
    "weathervane": _cyclic,
    "chartroom": _depth_and_height,
    "pebbles": _categorical,
}
"""Name -> what makes its entries."""
