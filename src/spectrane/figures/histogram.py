"""The values, the limits on them, and what is shown, per channel."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.figure import Figure, FigureBase

from spectrane.display.shown_values import ShownValues, count_shown
from spectrane.figures.paper import CHANNELS, INK, MUTED, chart_page, finished_chart, sides, styled
from spectrane.kernels.quiet import quiet
from spectrane.model.look import Look
from spectrane.model.printing import share_text
from spectrane.model.source import called, source_of
from spectrane.model.view import View, view_of
from spectrane.raster import Raster
from spectrane.volume import Volume

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_NUMBERS = 64.0
"""Pixels that the numbers along an axis need."""
_WIDE = 300.0
"""Counts are drawn on a logarithmic axis where the greatest is so many times the median."""


@quiet
def histogram(
    raster: Raster | Volume, look: Look | None = None, *, view: View | None = None,
    size: Sequence[int] = (800, 1280), channels: Sequence[ShownValues] | None = None,
    figure: FigureBase | None = None, ax: Axes | None = None,
) -> Figure:  # fmt: skip
    """Return a figure with a row per displayed channel.

    Left: how often values occur (muted), the limits as lines with their values, the curve drawn
    over them. Right: how often levels occur after it. ``size`` is (rows, columns) in pixels.
    ``channels`` is what ``sp.shown_values`` returned for the same, which is then not counted twice.
    It is drawn on a caller's ``figure`` or part of one, or in the place of axes ``ax``.

    >>> import numpy as np, spectrane as sp
    >>> len(sp.figures.histogram(sp.from_array(np.arange(64.0).reshape(8, 8))).axes) >= 2
    True
    """
    source = source_of(raster)
    if channels is None:
        channels = count_shown(source, look, view_of(view))
    page = chart_page(size, figure, ax)
    numbers = min(0.25, max(0.07, _NUMBERS / sides(page)[0]))
    grid = page.add_gridspec(
        len(channels), 2, width_ratios=(3, 2), left=numbers, right=0.975, top=0.9, bottom=0.09,
        hspace=0.5, wspace=2.3 * numbers,
    )  # fmt: skip
    for row, channel in enumerate(channels):
        _before(styled(page.add_subplot(grid[row, 0])), channel)
        _after(styled(page.add_subplot(grid[row, 1])), channel)
    name = called(source, "array")
    about = "" if channels[0].complete else ", from a part of the pixels"
    page.text(numbers, 0.955, f"{name}: values and what is shown{about}", color=INK, fontsize=13)
    return finished_chart(page)


def _before(axes: Any, one: ShownValues) -> None:
    ink = CHANNELS.get(one.channel, INK)
    axes.stairs(one.counts, one.edges, fill=True, color=MUTED, alpha=0.75)
    seen = one.counts[one.counts > 0]
    if seen.size and seen.max() > _WIDE * np.median(seen):
        axes.set_yscale("log")
        axes.set_ylim(bottom=0.8)
    for value, side in ((one.low, "right"), (one.high, "left")):
        axes.axvline(value, color=ink, linewidth=1.4)
        offset = -4 if side == "right" else 4
        axes.annotate(
            f"{value:.6g}", (value, 1.0), (offset, -11), color=ink, fontsize=9, ha=side,
            xycoords=("data", "axes fraction"), textcoords="offset points",
        )  # fmt: skip
    over = axes.twinx()
    over.plot(one.curve_values, one.curve_t, color=ink, linewidth=1.6)
    over.set_ylim(0, 1.04)
    over.set_axis_off()
    unit = f" ({one.unit})" if one.unit not in (None, "1") else ""
    axes.set_title(f"{one.channel} = {one.band}{unit}, {one.rule}", loc="left", fontsize=10,
                   color=ink)  # fmt: skip
    told = (f"{share_text(one.below)} below, {share_text(one.above)} above, {one.invalid:,} invalid"
            .replace(",", " ").replace("  ", ", "))  # fmt: skip
    axes.set_xlabel(told, fontsize=9, color=INK)


def _after(axes: Any, one: ShownValues) -> None:
    ink = CHANNELS.get(one.channel, INK)
    count = len(one.levels)
    axes.stairs(one.levels, np.arange(count + 1) - 0.5, fill=True, color=ink, alpha=0.85)
    axes.set_xlim(-0.015 * count - 0.5, 1.015 * count - 0.5)
    middle = one.levels[1:-1]
    if middle.size and one.levels.max() > 6 * max(1, middle.max()):
        axes.set_ylim(top=middle.max() * 1.6 + 1)  # the ends stand out of the picture
    axes.set_title("shown", loc="left", fontsize=10, color=INK)
    axes.set_xlabel(f"level, mean {one.mean_level:.0f}", fontsize=9, color=INK)
