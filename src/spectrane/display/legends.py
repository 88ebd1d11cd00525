"""What a picture's legend says: a bar with round ticks, the bands of its channels, or classes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.picture import Picture
from spectrane.display.render import palette_of
from spectrane.display.shading import Scale, curve_named
from spectrane.kernels import curves
from spectrane.model.look import Class, Look

_APART = 0.07
"""Ticks stand at least this share of the bar apart."""


@dataclass(frozen=True)
class Bar:
    """A colour bar: ``colors`` (n, 4) uint8 from one end to the other, ``ticks`` where (0…1) round
    values lie, what they are called, the title, and whether values go on beyond either end.
    """

    colors: NDArray[np.uint8]
    ticks: tuple[tuple[float, str], ...]
    title: str


def bar(scale: Scale, look: Look | None = None, count: int = 256) -> Bar:
    """Return the bar of one channel, even in colour from low to high, under any curve.

    ``look`` gives the colour map; without one the bar is grey.
    """
    # Colours run evenly; ticks stand where the curve puts their values.
    way = curve_named(scale.curve)
    t = np.linspace(0.0, 1.0, count)
    shown = 1.0 - t if scale.invert else t
    if look is not None and look.colormap is not None:
        palette = palette_of(look)
        words = palette.words[palette.codes(shown).astype(np.intp)]
        colors = words.view(np.uint8).reshape(-1, 4)
    else:
        level = curves.level(shown, 255).astype(np.uint8)
        colors = np.column_stack([level, level, level, np.full(count, 255, np.uint8)])
    ticks = _placed_ticks(scale, way) if scale.high != scale.low else ()
    unit = f" ({scale.unit})" if scale.unit not in (None, "1") else ""
    return Bar(colors, ticks, scale.band + unit)


def _placed_ticks(scale: Scale, way: curves.Curve) -> tuple[tuple[float, str], ...]:
    """Return round values with their places; under a bent curve also 1, 2 and 5 times 10^n."""
    wanted = round_ticks(scale.low, scale.high)
    if way is not curves.linear:
        first, last = sorted((scale.low, scale.high))
        top = int(np.floor(np.log10(max(abs(first), abs(last), 1e-300))))
        series = [sign * m * 10.0**k for k in range(top, top - 5, -1) for m in (5, 2, 1)
                  for sign in (1, -1)]  # fmt: skip
        wanted += [(v, f"{v:g}") for v in series if first <= v <= last]
    kept: list[tuple[float, str]] = []
    for value, text in wanted:
        at = float(way(curves.position(np.array([value]), scale.low, scale.high))[0])
        if all(abs(at - other) >= _APART for other, _ in kept):
            kept.append((at, text))
    return tuple(sorted(kept))


def round_ticks(low: float, high: float, about: int = 5) -> list[tuple[float, str]]:
    """Return round values between two ends, with their texts: steps of 1, 2 or 5 times 10^n.

    >>> [text for _, text in round_ticks(0.013, 0.187)]
    ['0.05', '0.10', '0.15']
    """
    first, last = min(low, high), max(low, high)
    span = last - first
    if not (span > 0 and np.isfinite(span)):
        return []
    rough = span / about
    power = 10.0 ** np.floor(np.log10(rough))
    step = min((m * power for m in (1, 2, 2.5, 5, 10)), key=lambda s: abs(span / s - about))
    digits = max(0, int(np.ceil(-np.log10(step) - 1e-9)) + (abs(step / power - 2.5) < 1e-9))
    start = np.ceil(first / step - 1e-9)
    values = [float(k * step) + 0.0 for k in np.arange(start, np.floor(last / step + 1e-9) + 1)]
    if low > high:
        values = values[::-1]
    return [(value, f"{value:.{digits}f}") for value in values]


def key(picture: Picture) -> list[tuple[str, str]]:
    """Return (channel, what it shows) of a colour picture."""
    names = ("red", "green", "blue", "alpha")
    return [(name, str(scale)) for name, scale in zip(names, picture.scales, strict=False)]


def class_key(classes: dict[float, Class] | Any) -> Sequence[tuple[str, str]]:
    """Return (colour, label) of each class, in the order of its number."""
    return [(color, label or f"{value:g}") for value, (color, label) in sorted(classes.items())]
