"""Pictures set out on a sheet: each with what is said above it and its key, as large as can be."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from matplotlib.figure import Figure, FigureBase
from numpy.typing import NDArray

from spectrane.display.keys import Key
from spectrane.display.lettering import lines_that_fit
from spectrane.display.linked import Panel
from spectrane.display.shown_values import channel_counts
from spectrane.figures.keys import LINE, STEPS, Letters, draw_keys, one_key, room_for
from spectrane.figures.paper import CHANNELS, INK, MUTED, finished_chart, in_shares, sides, styled
from spectrane.kernels.records import record

_RIM, _GAP, COUNTS = 12, 14, 120
"""Pixels around the sheet and between panels; rows of a histogram below its panel."""


@dataclass
class Cell:
    """A picture on the sheet with what is said above and beside it; several share one if mixed."""

    rgba: NDArray[np.uint8]
    said: list[str]
    keys: list[Key]
    panel: Panel
    mixed: bool = False

    def lines(self, figure: FigureBase, width: float) -> list[tuple[str, str]]:
        """Return what is said, in lines of so many pixels: (text, weight); a title is bold."""
        lines = []
        for number, text in enumerate(self.said):
            weight = "normal" if number or self.mixed else "bold"
            letters = Letters(figure, weight=weight)
            lines += [(line, weight) for line in lines_that_fit(text, letters, width)]
        return lines


@record(frozen=True)
class Places:
    """How cells are set out: how many ``across``, the pixels of a picture and of what is its."""

    across: int
    width: float
    height: float
    above: float = 0.0
    below: float = 0.0
    beside: float = 0.0

    @property
    def step(self) -> tuple[float, float]:
        """Pixels from one cell to the next: to the right, and down."""
        return (self.width + self.beside + _GAP,
                self.above + self.height + self.below + _GAP)  # fmt: skip


def set_out(cells: int, size: Sequence[float], shape: Sequence[int], need: Places) -> Places:
    """Return the arrangement in which pictures of a shape become largest on a sheet of a size."""
    found: list[Places] = []
    for across in range(1, cells + 1):
        down = -(-cells // across)
        wide = (size[1] - 2 * _RIM + _GAP) / across - _GAP - need.beside
        high = (size[0] - 2 * _RIM + _GAP) / down - _GAP - need.above - need.below
        scale = max(1e-3, min(wide / shape[1], high / shape[0]))
        sides = (max(1, math.floor(side * scale)) for side in shape[:2])
        high, wide = sides  # whole pixels, so that panels are alike to the last
        found.append(replace(need, across=across, width=wide, height=high))
    return max(found, key=lambda one: one.height)


def keys_of(panel: Panel) -> list[Key]:
    """Return a panel's keys; natural colours need none, and its name stands above it."""
    found = [key for one in panel.shown if (key := one.key(STEPS)) is not None]
    called = "classes" if panel.plan.classes else "what the colours mean"
    return [key if key.colors is not None else replace(key, title=called)
            for key in found if key.colors is not None or key.entries]  # fmt: skip


def drawn_cells(
    cells: list[Cell], page: FigureBase, bar: str | None, caption: str, histograms: bool, *,
    fitted: bool = True,
) -> Figure:  # fmt: skip
    """Set cells out on a page; what all keys say alike is said once, beside or below all.

    A page that is ``fitted`` ends where they do.
    """
    figure, size = page, sides(page)[::-1]
    letters = Letters(figure)
    every = [key for cell in cells for key in cell.keys]
    shared = one_key(every) if len(every) > 1 and all(cell.keys for cell in cells) else None
    if shared is not None:
        for cell in cells:
            cell.keys = []
    common = [] if shared is None else [shared]
    inner = size[1] - 2 * _RIM
    foot = [line for text in caption.split("\n") if text
            for line in lines_that_fit(text, letters, inner)]  # fmt: skip
    upright = bar in ("left", "right")
    aside = room_for(common, bar, letters, inner) if upright else 0
    under = (0 if upright else room_for(common, bar, letters, inner)) + len(foot) * LINE
    left = (size[0] - under, size[1] - aside)
    places = Places(1, float(inner), 0)
    for _ in range(3):  # captions and keys are as long as panels are wide, and the other way round
        lines = max(len(cell.lines(figure, places.width)) for cell in cells)
        own = math.ceil(max(room_for(cell.keys, bar, letters, places.width) for cell in cells))
        places = set_out(len(cells), left, cells[0].rgba.shape, replace(
            places, above=lines * LINE + 4.0, beside=own if upright else 0.0,
            below=(0.0 if upright else own) + (COUNTS if histograms else 0)))  # fmt: skip
    step_x, step_y = places.step
    across, down = min(places.across, len(cells)), -(-len(cells) // places.across)
    used = (across * step_x - _GAP, down * step_y - _GAP)
    if shared is not None and not upright:
        under = room_for(common, bar, letters, used[0]) + len(foot) * LINE
    wide = math.ceil(used[0] + aside + 2 * _RIM)
    high = math.ceil(min(used[1] + under + 2 * _RIM, size[0]))
    if fitted and isinstance(figure, Figure):
        figure.set_size_inches(wide / figure.dpi, high / figure.dpi)
    start = _RIM + (aside if bar == "left" else 0)
    for number, cell in enumerate(cells):
        row, column = divmod(number, places.across)
        _draw_cell(figure, cell, places, (start + column * step_x, _RIM + row * step_y), bar)
        if histograms:
            _draw_counts(figure, cell, places, (start + column * step_x, _RIM + row * step_y))
    _draw_common(figure, common, bar, used, foot)
    return finished_chart(figure)


def _draw_common(
    figure: FigureBase, keys: Sequence[Key], bar: str | None, used: tuple[float, float],
    foot: Sequence[str],
) -> None:  # fmt: skip
    wide, high = sides(figure)
    if bar == "bottom":
        draw_keys(figure, keys, bar, (_RIM, _RIM + used[1] + 4, used[0], 0))
    else:
        left = _RIM if bar == "left" else _RIM + used[0]
        draw_keys(figure, keys, bar, (left, _RIM, 0, min(used[1], 500.0)))
    for number, line in enumerate(reversed(foot)):
        figure.text(_RIM / wide, (_RIM / 2 + number * LINE) / high, line, color=INK, fontsize=9)


def _draw_cell(
    figure: FigureBase, cell: Cell, places: Places, corner: tuple[float, float], bar: str | None
) -> None:
    left, top = corner
    wide, high = sides(figure)
    picture = (left + (places.beside if bar == "left" else 0), top + places.above)
    lines = cell.lines(figure, places.width)
    for number, (line, weight) in enumerate(lines):
        figure.text(picture[0] / wide, 1 - (top + number * LINE) / high, line, color=INK,
                    fontsize=9, va="top", weight=weight)  # fmt: skip
    _image(figure.add_axes(in_shares(figure, (*picture, places.width, places.height))), cell.rgba)
    if bar == "bottom":
        foot = picture[1] + places.height + 4
        draw_keys(figure, cell.keys, bar, (picture[0], foot, places.width, 0))
    else:
        edge = left if bar == "left" else left + places.width
        draw_keys(figure, cell.keys, bar, (edge, picture[1], places.beside, places.height))


def _image(axes: Any, rgba: Any) -> None:
    axes.imshow(rgba, interpolation="nearest", aspect="auto")
    axes.set_xticks([])
    axes.set_yticks([])
    for spine in axes.spines.values():
        spine.set_color(MUTED)


def _draw_counts(
    figure: FigureBase, cell: Cell, places: Places, corner: tuple[float, float]
) -> None:
    """Draw a panel's histogram below all else of its cell."""
    top = corner[1] + places.above + places.height + places.below - COUNTS + 8
    place = (corner[0], top, places.width, COUNTS - 30)
    axes = styled(figure.add_axes(in_shares(figure, place)))
    plan = cell.panel.plan
    if plan.classes:
        axes.set_axis_off()
        return
    for count in channel_counts(plan, cell.panel.source, cell.panel.window):
        ink = CHANNELS.get(count.channel, INK)
        axes.stairs(count.counts, count.edges, color=ink, linewidth=1.2)
        for value in (count.low, count.high):
            axes.axvline(value, color=ink, linewidth=0.8, alpha=0.6)
    axes.set_yticks([])
