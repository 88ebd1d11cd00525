"""A picture's legend as a figure: a bar with round ticks, the channels' bands, or classes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.figure import Figure, FigureBase

from spectrane.display.legends import Bar
from spectrane.display.picture import Picture
from spectrane.figures.paper import CHANNELS, INK, MUTED, chart_page, finished_chart
from spectrane.kernels.quiet import quiet
from spectrane.model.colormaps import colormaps
from spectrane.model.purposes import PURPOSES

if TYPE_CHECKING:
    from matplotlib.axes import Axes


@quiet
def colorbar(
    picture: Picture, *, size: tuple[int, int] = (150, 720), figure: FigureBase | None = None,
    ax: Axes | None = None,
) -> Figure:  # fmt: skip
    """Return the legend of a picture, as it was drawn; ``size`` is (rows, columns).

    It is drawn on a caller's ``figure`` or part of one, or in the place of axes ``ax``. Raises
    LookError for a picture blended of several layers.

    >>> import spectrane as sp
    >>> picture = sp.render(sp.from_array([[0.0, 1.0]]), sp.Look(colormap="kiln", limits=(0, 2)))
    >>> [round(width * 100) for width in sp.figures.colorbar(picture).get_size_inches()]
    [720, 150]
    """
    legend = picture.legend()
    page = chart_page(size, figure, ax)
    if legend.bar is not None:
        _bar(page, legend.bar)
    elif legend.classes:
        _classes(page, legend.classes)
    for number, (name, text) in enumerate(legend.channels):
        y = 0.78 - number * 0.26
        page.text(0.04, y, "■", color=CHANNELS[name], fontsize=15, va="center")
        page.text(0.08, y, f"{name}: {text}", color=INK, fontsize=11, va="center")
    return finished_chart(page)


def _bar(figure: FigureBase, found: Bar) -> None:
    axes = figure.add_axes((0.05, 0.42, 0.9, 0.26))
    axes.imshow(np.repeat(found.colors[np.newaxis], 8, axis=0), aspect="auto", extent=(0, 1, 0, 1))
    axes.set_yticks([])
    axes.set_xticks([place for place, _ in found.ticks], [text for _, text in found.ticks])
    axes.tick_params(colors=INK, labelsize=10)
    for spine in axes.spines.values():
        spine.set_color(MUTED)
    figure.text(0.05, 0.78, found.title, color=INK, fontsize=12)


def _classes(figure: FigureBase, listed: Sequence[tuple[str, str]]) -> None:
    columns = max(1, -(-len(listed) // 4))
    for number, (color, label) in enumerate(listed):
        column, row = divmod(number, 4)
        x, y = 0.04 + column * 0.94 / columns, 0.84 - row * 0.22
        figure.text(x, y, "■", color=color, fontsize=15, va="center")
        figure.text(x + 0.035, y, label, color=INK, fontsize=10, va="center")


@quiet
def swatches(
    *, size: tuple[int, int] = (800, 1280), figure: FigureBase | None = None,
    ax: Axes | None = None,
) -> Figure:  # fmt: skip
    """Return the built-in colour maps side by side, with what each is made for.

    ``size`` is (rows, columns) in pixels. They are drawn on a caller's ``figure`` or part of one,
    or in the place of axes ``ax``.

    >>> len(swatches().axes) == len(colormaps)
    True
    """
    page = chart_page(size, figure, ax)
    height = 0.94 / len(colormaps)
    for number, (name, colormap) in enumerate(colormaps.items()):
        bottom = 0.97 - (number + 1) * height
        axes = page.add_axes((0.30, bottom + 0.2 * height, 0.27, 0.6 * height))
        colors = colormap.entries
        axes.imshow(colors[np.newaxis], aspect="auto", interpolation="nearest")
        axes.set_axis_off()
        middle = bottom + height / 2
        page.text(0.03, middle, name, color=INK, fontsize=12, va="center", weight="bold")
        page.text(0.16, middle, colormap.kind, color=MUTED, fontsize=11, va="center")
        page.text(0.60, middle, PURPOSES[name], color=INK, fontsize=11, va="center")
    return finished_chart(page)
