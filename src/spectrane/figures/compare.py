"""Panels over the same area: different looks of one raster, or different rasters on one map."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from matplotlib.figure import Figure

from spectrane.display.linked import MODES, Panel, PanelMode, linked
from spectrane.display.shown_values import channel_counts
from spectrane.figures.paper import CHANNELS, INK, MUTED, sheet, styled
from spectrane.kernels.quiet import quiet
from spectrane.model.errors import LookError
from spectrane.model.look import Look
from spectrane.model.printing import short_name
from spectrane.model.source import Source, flat_source_of
from spectrane.model.view import View, view_of
from spectrane.raster import Raster

_HIGH, _LOW, _WIDE = 240, 100, 120
"""Pixels that a panel with its caption needs: rows, with a histogram and without; columns."""


@quiet
def compare(
    layers: Sequence[Raster | tuple[Raster, Look | None]], *, view: View | None = None,
    size: Sequence[int] = (800, 1280), histograms: bool = False, mode: PanelMode = "panels",
    tile: int = 96, at: float = 0.5,
) -> Figure:  # fmt: skip
    """Return a figure of 2 to 6 rasters, or (raster, look) pairs, at the same place.

    Rasters with different grids are linked by map position. Each is captioned with its look.
    ``mode``: ``panels``; ``checker`` (two in alternating squares of ``tile`` pixels) or ``swipe``
    (two side by side, divided ``at`` a share of the width). ``view`` is in the first's own grid;
    ``size`` (rows, columns) in pixels. Raises LookError for another number of rasters, or a size
    too small for them, GridMismatch where they do not meet.

    >>> import numpy as np, spectrane as sp
    >>> raster = sp.from_array(np.arange(64.0).reshape(8, 8))
    >>> len(sp.figures.compare([raster, (raster, sp.Look(curve="sqrt"))], size=(200, 400)).axes)
    2
    """
    if mode not in MODES:
        raise LookError(f"mode {mode!r}: expected one of {', '.join(MODES)}")
    if not isinstance(layers, list | tuple):
        raise LookError("compare: expected a list of 2 to 6 rasters, or (raster, look) pairs")
    count = len(layers)
    if not 2 <= count <= 6 or (mode != "panels" and count != 2):
        raise LookError(f"compare: {count} given; expected 2 to 6, and 2 for {mode}")
    named = [_named(layer) for layer in layers]
    across = count if count <= 3 else (count + 1) // 2
    down = -(-count // across)
    least = (down * (_HIGH if histograms else _LOW), across * _WIDE)
    if size[0] < least[0] or size[1] < least[1]:
        raise LookError(f"size {size[1]}x{size[0]}: {count} panels with their captions need "
                        f"{least[1]}x{least[0]} pixels at least")  # fmt: skip
    room = (int(size[0] * 0.86 / down * (0.66 if histograms else 1)), int(size[1] * 0.94 / across))
    if mode != "panels":
        room = (int(size[0] * 0.84), int(size[1] * 0.94))
    panels = linked(named, view_of(view), room)
    figure = sheet(size[1], size[0])
    if mode == "panels":
        _draw_panels(figure, panels, across, down, histograms)
    else:
        _draw_mixed(figure, panels, mode, tile, at)
    return figure


def _named(one: Any) -> tuple[str, Source, Look | None]:
    raster: Any
    raster, look = one if isinstance(one, tuple) else (one, None)
    source = flat_source_of(raster)
    return short_name(source.name, "array"), source, look


def _draw_panels(
    figure: Figure, panels: Sequence[Panel], across: int, down: int, histograms: bool
) -> None:
    """Lay panels out in cells; each picture keeps its proportions, its histogram right below it."""
    wide, high = (float(n) for n in figure.get_size_inches())
    rows, columns = panels[0].rgba.shape[:2]
    cell_x, cell_y = 0.98 / across, 0.98 / down
    caption, below = 0.45 / high, (1.5 / high if histograms else 0.0)
    width = min(cell_x - 0.02, (cell_y - caption - below - 0.02) * high / wide * columns / rows)
    height = width * wide / high * rows / columns
    for number, panel in enumerate(panels):
        row, column = divmod(number, across)
        left = 0.01 + column * cell_x + (cell_x - width) / 2
        top = 0.99 - row * cell_y - caption
        axes = figure.add_axes((left, top - height, width, height))
        _image(axes, panel.rgba)
        name, _, said = panel.caption.partition(": ")
        axes.set_title(f"{name}\n{said}", loc="left", fontsize=9, color=INK)
        if histograms:
            place = (left, top - height - below + 0.25 / high, width, below - 0.4 / high)
            _small_histogram(styled(figure.add_axes(place)), panel)


def _image(axes: Any, rgba: Any) -> None:
    axes.imshow(rgba, interpolation="nearest")
    axes.set_xticks([])
    axes.set_yticks([])
    for spine in axes.spines.values():
        spine.set_color(MUTED)


def _small_histogram(axes: Any, panel: Panel) -> None:
    if panel.plan.classes:
        axes.set_axis_off()
        return
    for count in channel_counts(panel.plan, panel.source, panel.window):
        axes.stairs(
            count.counts, count.edges, color=CHANNELS.get(count.channel, INK), linewidth=1.2
        )
        for value in (count.low, count.high):
            axes.axvline(value, color=CHANNELS.get(count.channel, INK), linewidth=0.8, alpha=0.6)
    axes.set_yticks([])


def _draw_mixed(figure: Figure, panels: Sequence[Panel], mode: str, tile: int, at: float) -> None:
    first, second = (panel.rgba for panel in panels)
    rows, columns = first.shape[:2]
    y, x = np.mgrid[:rows, :columns]
    if mode == "checker":
        other = (y // tile + x // tile) % 2 == 1
    else:
        other = x >= at * columns
    axes = figure.add_axes((0.02, 0.03, 0.96, 0.86))
    _image(axes, np.where(other[..., np.newaxis], second, first))
    if mode == "swipe":
        axes.axvline(at * columns - 0.5, color=INK, linewidth=1.2)
    words = ("left", "right") if mode == "swipe" else ("first square", "second square")
    for number, (word, panel) in enumerate(zip(words, panels, strict=True)):
        figure.text(
            0.02, 0.955 - 0.035 * number, f"{word}: {panel.caption}", color=INK, fontsize=10
        )
