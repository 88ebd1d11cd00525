"""Colours for labels: whole numbers that name parts, each unlike its neighbours."""

from __future__ import annotations

import colorsys
from collections.abc import Iterable, Mapping

_GOLDEN = 0.6180339887498949
BACKGROUND = ("#00000000", "background")


def label_classes(
    values: Iterable[int], names: Mapping[int, str] | None = None
) -> dict[float, tuple[str, str]]:
    """Return a colour and a name for each label; 0 is the background and stays clear.

    Hues step round the circle by the golden section, so that any two of the first few dozen
    differ; the same label has the same colour everywhere.

    >>> label_classes([0, 1, 2], {1: "bone"})
    {0.0: ('#00000000', 'background'), 1.0: ('#db9463', 'bone'), 2.0: ('#452feb', '2')}
    """
    known = names or {}
    return {float(v): BACKGROUND if v == 0 else (_color(v), known.get(v, str(v)))
            for v in sorted({int(value) for value in values})}  # fmt: skip


def _color(value: int) -> str:
    hue = (value * _GOLDEN - 0.55) % 1.0
    depth = (value * 7) % 3
    red, green, blue = colorsys.hsv_to_rgb(hue, (0.65, 0.55, 0.8)[depth], (0.78, 0.86, 0.92)[depth])
    return f"#{round(red * 255):02x}{round(green * 255):02x}{round(blue * 255):02x}"
