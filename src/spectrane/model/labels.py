"""Colours for labels: whole numbers that name parts, each unlike its neighbours."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np

from spectrane.kernels.oklab import from_oklab
from spectrane.model.errors import LookError, nearest

_GOLDEN, _LIGHT = 0.6180339887498949, 0.89
"""How far hue and lightness step from label to label; the second was searched for."""
CLEAR = "#00000000"
BACKGROUND = (CLEAR, "background")


def label_classes(
    values: Iterable[int], names: Mapping[int, str] | None = None
) -> dict[float, tuple[str, str]]:
    """Return a colour and a name for each label; 0 is the background and stays clear.

    Any two of the first few hundred differ, and of the first few dozen clearly; the same label has
    the same colour everywhere.

    >>> label_classes([0, 1, 2], {1: "bone"})
    {0.0: ('#00000000', 'background'), 1.0: ('#ffb1aa', 'bone'), 2.0: ('#65c5ff', '2')}
    """
    known = names or {}
    return {float(v): BACKGROUND if v == 0 else (_color(v), known.get(v, str(v)))
            for v in sorted({int(value) for value in values})}  # fmt: skip


def labels_called(
    classes: Mapping[float, tuple[str, str]], asked: Iterable[str | int]
) -> list[float]:
    """Return the labels of these names or numbers, in the order asked. Raises LookError.

    >>> labels_called({1.0: ("#ff0000", "bone"), 2.0: ("#00ff00", "fat")}, ["fat", 1])
    [2.0, 1.0]
    """
    found: dict[float, None] = {}
    for one in asked:
        text = str(one).strip().casefold()
        called = [value for value, (_, name) in classes.items()
                  if text in (name.casefold(), f"{value:g}")]  # fmt: skip
        if not called:
            names = [name for value, (_, name) in classes.items() if value]
            raise LookError(f"label {str(one)!r}{nearest(str(one), names)}")
        found |= dict.fromkeys(called)
    return list(found)


def chosen_classes(
    classes: Mapping[float, tuple[str, str]], asked: Iterable[str]
) -> dict[float, tuple[str, str]]:
    """Return classes of which those asked for, by name or number, keep their colour; others are
    clear. Raises LookError for one that there is not.

    >>> chosen_classes({1.0: ("#ff0000", "bone"), 2.0: ("#00ff00", "fat")}, ["fat"])
    {1.0: ('#00000000', 'bone'), 2.0: ('#00ff00', 'fat')}
    """
    kept = set(labels_called(classes, asked))
    return {value: (color if value in kept else CLEAR, name)
            for value, (color, name) in classes.items()}  # fmt: skip


def _color(value: int) -> str:
    """Return a colour in OKLCH: hues by the golden section, lightness and chroma in turn.

    Those of the first 48 whose hues come near differ in lightness.
    """
    hue = 2 * np.pi * ((value * _GOLDEN - 0.55) % 1.0)
    light = 0.52 + 0.36 * ((value * _LIGHT) % 1.0)
    chroma = (0.15, 0.10)[value % 2]
    lab = np.array([[light, chroma * np.cos(hue), chroma * np.sin(hue)]])
    red, green, blue = np.clip(from_oklab(lab)[0], 0, 1)
    return f"#{round(red * 255):02x}{round(green * 255):02x}{round(blue * 255):02x}"
