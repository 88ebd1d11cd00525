"""What a picture's legend says: a bar with round ticks, the bands of its channels, or classes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.picture import Picture
from spectrane.display.render import palette_of
from spectrane.display.shading import Scale, curve_of
from spectrane.kernels import curves
from spectrane.model.look import Class, Look, parse_curve


@dataclass(frozen=True)
class Bar:
    """A colour bar: ``colors`` (n, 4) uint8 from one end to the other, ``ticks`` where (0…1) round
    values lie, what they are called, the title, and whether values go on beyond either end.
    """

    colors: NDArray[np.uint8]
    ticks: tuple[tuple[float, str], ...]
    title: str


def bar(scale: Scale, look: Look | None = None, count: int = 256) -> Bar:
    """Return the bar of one channel, even in values from low to high, under any curve.

    ``look`` gives the colour map; without one the bar is grey.
    """
    values = np.linspace(scale.low, scale.high, count)
    curve = parse_curve(scale.curve)
    way = curves.linear if curve.kind == "equalise" else curve_of(curve)
    t = curves.shade(values, scale.low, scale.high, way, scale.invert)
    if look is not None and look.colormap is not None:
        palette = palette_of(look)
        words = palette.words[palette.codes(t).astype(np.intp)]
        colors = words.view(np.uint8).reshape(-1, 4)
    else:
        level = curves.level(t, 255).astype(np.uint8)
        colors = np.column_stack([level, level, level, np.full(count, 255, np.uint8)])
    span = scale.high - scale.low
    ticks = tuple(
        ((value - scale.low) / span, text) for value, text in round_ticks(scale.low, scale.high)
    ) if span else ()  # fmt: skip
    unit = f" ({scale.unit})" if scale.unit not in (None, "1") else ""
    return Bar(colors, ticks, scale.band + unit)


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
    values = [float(k * step) for k in np.arange(start, np.floor(last / step + 1e-9) + 1)]
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
