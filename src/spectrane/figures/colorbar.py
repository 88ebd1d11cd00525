"""A picture's legend as a figure: a bar with round ticks, the channels' bands, or classes."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.figure import Figure

from spectrane.display.legends import bar, class_key, key
from spectrane.display.picture import Picture
from spectrane.figures.paper import CHANNELS, INK, MUTED, sheet
from spectrane.model.look import Look


def colorbar(
    picture: Picture, look: Look | None = None, *, size: tuple[int, int] = (150, 720)
) -> Figure:
    """Return the legend of a picture drawn with ``look``; ``size`` is (rows, columns)."""
    figure = sheet(size[1], size[0])
    if not picture.scales:
        _classes(figure, look)
    elif len(picture.scales) == 1:
        _bar(figure, picture, look)
    else:
        for number, (name, text) in enumerate(key(picture)):
            y = 0.78 - number * 0.26
            figure.text(0.04, y, "■", color=CHANNELS[name], fontsize=15, va="center")
            figure.text(0.08, y, f"{name}: {text}", color=INK, fontsize=11, va="center")
    return figure


def _bar(figure: Figure, picture: Picture, look: Look | None) -> None:
    found = bar(picture.scales[0], look)
    axes = figure.add_axes((0.05, 0.42, 0.9, 0.26))
    axes.imshow(np.repeat(found.colors[np.newaxis], 8, axis=0), aspect="auto", extent=(0, 1, 0, 1))
    axes.set_yticks([])
    axes.set_xticks([place for place, _ in found.ticks], [text for _, text in found.ticks])
    axes.tick_params(colors=INK, labelsize=10)
    for spine in axes.spines.values():
        spine.set_color(MUTED)
    figure.text(0.05, 0.78, found.title, color=INK, fontsize=12)


def _classes(figure: Figure, look: Look | None) -> None:
    listed: Any = class_key(look.classes) if look is not None else []
    columns = max(1, -(-len(listed) // 4))
    for number, (color, label) in enumerate(listed):
        column, row = divmod(number, 4)
        x, y = 0.04 + column * 0.94 / columns, 0.84 - row * 0.22
        figure.text(x, y, "■", color=color, fontsize=15, va="center")
        figure.text(x + 0.035, y, label, color=INK, fontsize=10, va="center")
