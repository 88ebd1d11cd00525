"""Panels over the same area: different looks of one raster, or different rasters on one map."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from matplotlib.figure import Figure
from numpy.typing import NDArray

from spectrane.display.common_limits import one_rule
from spectrane.display.keys import Key
from spectrane.display.linked import MODES, Panel, PanelMode, common_area, linked
from spectrane.display.panels import lines_that_fit
from spectrane.display.shown_values import channel_counts
from spectrane.figures.keys import LINE, STEPS, Letters, draw_keys, one_key, room_for
from spectrane.figures.paper import CHANNELS, INK, MUTED, in_shares, sheet, styled
from spectrane.kernels.quiet import quiet
from spectrane.model.asking import SIDES, BarSide
from spectrane.model.colors import parse_color
from spectrane.model.errors import LookError, nearest
from spectrane.model.look import Look, look_of
from spectrane.model.printing import short_name
from spectrane.model.source import Source, flat_source_of
from spectrane.model.view import View, view_of
from spectrane.raster import Raster

_HIGH, _LOW, _WIDE = 240, 100, 120
"""Pixels that a panel with its caption needs: rows, with a histogram and without; columns."""
_RIM, _GAP, _COUNTS = 12, 14, 120
"""Pixels around the sheet and between panels; rows of a histogram below its panel."""


@dataclass
class _Cell:
    """A picture on the sheet with what is said above and beside it; several share one if mixed."""

    rgba: NDArray[np.uint8]
    said: list[str]
    keys: list[Key]
    panel: Panel
    mixed: bool = False

    def lines(self, letters: Letters, width: float) -> list[str]:
        """Return what is said, in lines of so many pixels."""
        return [line for text in self.said for line in lines_that_fit(text, letters, width)]


@dataclass(frozen=True)
class _Places:
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


@quiet
def compare(
    layers: Sequence[Raster | tuple[Raster, Look | None]], *, view: View | None = None,
    size: Sequence[int] = (800, 1280), histograms: bool = False, mode: PanelMode = "panels",
    tile: int = 96, at: float = 0.5, bar: BarSide | None = None, caption: str | None = None,
) -> Figure:  # fmt: skip
    """Return a figure of 2 to 6 rasters, or (raster, look) pairs, at the same place.

    Rasters with different grids are linked by map position. Each is captioned with its look and
    the numbers between which it is drawn. ``mode``: ``panels``; ``checker`` (two in alternating
    squares of ``tile`` pixels) or ``swipe`` (two side by side, divided ``at`` a share of the
    width). ``view`` is in the first's own grid. ``bar`` (``right``, ``left``, ``bottom``) draws
    each panel's key, or one for all where it is the same; ``caption`` stands below.

    ``size`` (rows, columns) is in pixels, at most: panels are set out so that they become as large
    as it allows, and the sheet ends with them. Raises LookError for another number of rasters, or a
    size too small for them, GridMismatch where they do not meet.

    >>> import numpy as np, spectrane as sp
    >>> raster = sp.from_array(np.arange(64.0).reshape(8, 8))
    >>> len(sp.figures.compare([raster, (raster, sp.Look(curve="sqrt"))], size=(200, 400)).axes)
    2
    """
    if mode not in MODES:
        raise LookError(f"mode {mode!r}: expected one of {', '.join(MODES)}")
    if bar is not None and bar not in SIDES:
        raise LookError(f"bar {bar!r}{nearest(bar, SIDES)}")
    if not isinstance(layers, list | tuple):
        raise LookError("compare: expected a list of 2 to 6 rasters, or (raster, look) pairs")
    count = len(layers)
    if not 2 <= count <= 6 or (mode != "panels" and count != 2):
        raise LookError(f"compare: {count} given; expected 2 to 6, and 2 for {mode}")
    named, note = _in_one_rule([_named(layer) for layer in layers])
    cells = count if mode == "panels" else 1
    histograms = histograms and mode == "panels"
    _check_size(cells, size, histograms)
    # Before a panel is drawn it is not known how long its caption is and how wide its key.
    wanted = common_area(named[0][1], view_of(view), (int(size[0]), int(size[1])))
    rough = _Places(1, 0, 0, 3 * LINE, (_COUNTS if histograms else 0) + (bar == "bottom") * 60,
                    100 if bar in ("left", "right") else 0)  # fmt: skip
    room = _set_out(cells, size, wanted.shape, rough)
    panels = linked(named, view_of(view), (max(1, int(room.height)), max(1, int(room.width))))
    foot = "\n".join(text for text in (note, caption) if text)
    return _drawn(_cells(panels, mode, tile, at, bar), size, bar, foot, histograms)


def _check_size(cells: int, size: Sequence[int], histograms: bool) -> None:
    across = cells if cells <= 3 else (cells + 1) // 2
    least = (-(-cells // across) * (_HIGH if histograms else _LOW), across * _WIDE)
    if size[0] < least[0] or size[1] < least[1]:
        raise LookError(f"size {size[1]}x{size[0]}: {cells} panels with their captions need "
                        f"{least[1]}x{least[0]} pixels at least")  # fmt: skip


def _named(one: Any) -> tuple[str, Source, Look | None]:
    raster: Any
    raster, look = one if isinstance(one, tuple) else (one, None)
    source = flat_source_of(raster)
    return short_name(source.name, "array"), source, look


def _in_one_rule(
    named: list[tuple[str, Source, Look | None]],
) -> tuple[list[tuple[str, Source, Look | None]], str | None]:
    """Let limits that nobody named follow one rule in all panels; say so where types differ."""
    looks, note = one_rule([(source, look_of(look) or source.look or Look())
                            for _, source, look in named])  # fmt: skip
    if note is None:
        return named, None
    return [(name, source, look)
            for (name, source, _), look in zip(named, looks, strict=True)], note  # fmt: skip


def _set_out(cells: int, size: Sequence[float], shape: Sequence[int], need: _Places) -> _Places:
    """Return the arrangement in which pictures of a shape become largest on a sheet of a size."""
    found: list[_Places] = []
    for across in range(1, cells + 1):
        down = -(-cells // across)
        wide = (size[1] - 2 * _RIM + _GAP) / across - _GAP - need.beside
        high = (size[0] - 2 * _RIM + _GAP) / down - _GAP - need.above - need.below
        scale = max(1e-3, min(wide / shape[1], high / shape[0]))
        sides = (max(1, math.floor(side * scale)) for side in shape[:2])
        high, wide = sides  # whole pixels, so that panels are alike to the last
        found.append(replace(need, across=across, width=wide, height=high))
    return max(found, key=lambda one: one.height)


def _cells(
    panels: Sequence[Panel], mode: str, tile: int, at: float, bar: str | None
) -> list[_Cell]:
    keys = [_keys(panel) if bar else [] for panel in panels]
    if mode == "panels":
        said = [panel.caption.partition(": ") for panel in panels]
        told = zip(panels, said, keys, strict=True)
        return [_Cell(panel.rgba, [name, look], own, panel)
                for panel, (name, _, look), own in told]  # fmt: skip
    first, second = (panel.rgba for panel in panels)
    y, x = np.mgrid[: len(first), : first.shape[1]]
    other = x >= at * first.shape[1]
    if mode == "checker":
        other = (y // tile + x // tile) % 2 == 1
    mixed = np.where(other[..., np.newaxis], second, first)
    if mode == "swipe":
        line = min(int(at * first.shape[1]), first.shape[1] - 1)
        mixed[:, line] = (*parse_color(INK)[:3], 255)
    words = ("left", "right") if mode == "swipe" else ("first square", "second square")
    captions = [f"{word}: {panel.caption}" for word, panel in zip(words, panels, strict=True)]
    return [_Cell(mixed, captions, [*keys[0], *keys[1]], panels[0], mixed=True)]


def _keys(panel: Panel) -> list[Key]:
    """Return a panel's keys; natural colours need none, and its name stands above it."""
    found = [key for one in panel.shown if (key := one.key(STEPS)) is not None]
    called = "classes" if panel.plan.classes else "what the colours mean"
    return [key if key.colors is not None else replace(key, title=called)
            for key in found if key.colors is not None or key.entries]  # fmt: skip


def _drawn(
    cells: list[_Cell], size: Sequence[int], bar: str | None, caption: str, histograms: bool
) -> Figure:  # fmt: skip
    """Set cells out on the sheet; what all keys say alike is said once, beside or below all."""
    figure = sheet(size[1], size[0])
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
    places = _Places(1, float(inner), 0)
    for _ in range(3):  # captions and keys are as long as panels are wide, and the other way round
        lines = max(len(cell.lines(letters, places.width)) for cell in cells)
        own = math.ceil(max(room_for(cell.keys, bar, letters, places.width) for cell in cells))
        places = _set_out(len(cells), left, cells[0].rgba.shape, replace(
            places, above=lines * LINE + 4.0, beside=own if upright else 0.0,
            below=(0.0 if upright else own) + (_COUNTS if histograms else 0)))  # fmt: skip
    step_x, step_y = places.step
    across, down = min(places.across, len(cells)), -(-len(cells) // places.across)
    used = (across * step_x - _GAP, down * step_y - _GAP)
    if shared is not None and not upright:
        under = room_for(common, bar, letters, used[0]) + len(foot) * LINE
    wide = math.ceil(used[0] + aside + 2 * _RIM)
    high = math.ceil(min(used[1] + under + 2 * _RIM, size[0]))
    figure.set_size_inches(wide / figure.dpi, high / figure.dpi)
    start = _RIM + (aside if bar == "left" else 0)
    for number, cell in enumerate(cells):
        row, column = divmod(number, places.across)
        _draw_cell(figure, cell, places, (start + column * step_x, _RIM + row * step_y), bar)
        if histograms:
            _draw_counts(figure, cell, places, (start + column * step_x, _RIM + row * step_y))
    _draw_common(figure, common, bar, used, foot)
    return figure


def _draw_common(
    figure: Figure, keys: Sequence[Key], bar: str | None, used: tuple[float, float],
    foot: Sequence[str],
) -> None:  # fmt: skip
    wide, high = (float(side) * figure.dpi for side in figure.get_size_inches())
    if bar == "bottom":
        draw_keys(figure, keys, bar, (_RIM, _RIM + used[1] + 4, used[0], 0))
    else:
        left = _RIM if bar == "left" else _RIM + used[0]
        draw_keys(figure, keys, bar, (left, _RIM, 0, min(used[1], 500.0)))
    for number, line in enumerate(reversed(foot)):
        figure.text(_RIM / wide, (_RIM / 2 + number * LINE) / high, line, color=INK, fontsize=9)


def _draw_cell(
    figure: Figure, cell: _Cell, places: _Places, corner: tuple[float, float], bar: str | None
) -> None:
    left, top = corner
    wide, high = (float(side) * figure.dpi for side in figure.get_size_inches())
    picture = (left + (places.beside if bar == "left" else 0), top + places.above)
    lines = cell.lines(Letters(figure), places.width)
    for number, line in enumerate(lines):
        weight = "normal" if number or cell.mixed else "bold"
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


def _draw_counts(figure: Figure, cell: _Cell, places: _Places, corner: tuple[float, float]) -> None:
    """Draw a panel's histogram below all else of its cell."""
    top = corner[1] + places.above + places.height + places.below - _COUNTS + 8
    place = (corner[0], top, places.width, _COUNTS - 30)
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
