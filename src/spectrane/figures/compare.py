"""Panels over the same area: different looks of one raster, or different rasters on one map."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.figure import Figure, FigureBase

from spectrane.display.common_limits import one_rule
from spectrane.display.linked import MODES, Panel, PanelMode, common_area, linked
from spectrane.display.panels import checkered
from spectrane.figures.cells import COUNTS, Cell, Places, drawn_cells, keys_of, set_out
from spectrane.figures.keys import LINE
from spectrane.figures.paper import INK, chart_page, sides
from spectrane.kernels.quiet import quiet
from spectrane.model.asking import BarSide, checked_side
from spectrane.model.colors import parse_color
from spectrane.model.errors import LookError
from spectrane.model.look import Look, look_of
from spectrane.model.said import GIVEN
from spectrane.model.source import Source, called, flat_source_of
from spectrane.model.view import View, view_of
from spectrane.raster import Raster

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_HIGH, _LOW, _WIDE = 240, 100, 120
"""Pixels that a panel with its caption needs: rows, with a histogram and without; columns."""


@quiet
def compare(
    layers: Sequence[Raster | tuple[Raster, Look | None]], *, view: View | None = None,
    size: Sequence[int] = (800, 1280), histograms: bool = False, mode: PanelMode = "panels",
    tile: int = 96, at: float = 0.5, bar: BarSide | None = None, caption: str | None = None,
    figure: FigureBase | None = None, ax: Axes | None = None,
) -> Figure:  # fmt: skip
    """Return a figure of 2 to 6 rasters, or (raster, look) pairs, at the same place.

    Rasters with different grids are linked by map position. Each is captioned with its look and
    the numbers between which it is drawn. ``mode``: ``panels``; ``checker`` (two in alternating
    squares of ``tile`` pixels) or ``swipe`` (two side by side, divided ``at`` a share of the
    width). ``view`` is in the first's own grid. ``bar`` (``right``, ``left``, ``bottom``) draws
    each panel's key, or one for all where it is the same; ``caption`` stands below.

    ``size`` (rows, columns) is in pixels, at most: panels are set out so that they become as large
    as it allows, and the sheet ends with them; on a caller's ``figure`` or part of one, or in the
    place of axes ``ax``, that is the size. Raises LookError for another number of rasters, or a
    size too small for them, GridMismatch where they do not meet.

    >>> import numpy as np, spectrane as sp
    >>> raster = sp.from_array(np.arange(64.0).reshape(8, 8))
    >>> len(sp.figures.compare([raster, (raster, sp.Look(curve="sqrt"))], size=(200, 400)).axes)
    2
    """
    if mode not in MODES:
        raise LookError(f"mode {mode!r}: expected one of {', '.join(MODES)}")
    checked_side(bar)
    if not isinstance(layers, list | tuple):
        raise LookError("compare: expected a list of 2 to 6 rasters, or (raster, look) pairs")
    count = len(layers)
    if not 2 <= count <= 6 or (mode != "panels" and count != 2):
        raise LookError(f"compare: {count} given; expected 2 to 6, and 2 for {mode}")
    named, note = _in_one_rule([_named(layer) for layer in layers])
    cells = count if mode == "panels" else 1
    histograms = histograms and mode == "panels"
    page = chart_page(size, figure, ax)
    size = tuple(int(side) for side in sides(page)[::-1])
    _check_size(cells, size, histograms)
    # Before a panel is drawn it is not known how long its caption is and how wide its key.
    wanted = common_area(named[0][1], view_of(view), (int(size[0]), int(size[1])))
    rough = Places(1, 0, 0, 3 * LINE, (COUNTS if histograms else 0) + (bar == "bottom") * 60,
                    100 if bar in ("left", "right") else 0)  # fmt: skip
    room = set_out(cells, size, wanted.shape, rough)
    panels = linked(named, view_of(view), (max(1, int(room.height)), max(1, int(room.width))))
    foot = "\n".join(text for text in (note, caption) if text)
    fitted = figure is None and ax is None
    return drawn_cells(_cells(panels, mode, tile, at, bar), page, bar, foot, histograms,
                       fitted=fitted)  # fmt: skip


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
    return titled(source), source, look


def titled(source: Source) -> str:
    """Return what a panel is called: its title, or its file's name, and its date where it is given.

    A date counts where a person gave it: that which a file says may be that of its writing.
    """
    given = source.metadata.get(GIVEN, {})
    name = str(given.get("title") or called(source, "array"))
    return f"{name}, {given['date']}" if "date" in given else name


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


def _cells(panels: Sequence[Panel], mode: str, tile: int, at: float, bar: str | None) -> list[Cell]:
    keys = [keys_of(panel) if bar else [] for panel in panels]
    if mode == "panels":
        return [Cell(panel.rgba, [panel.name, panel.plan.said()], own, panel)
                for panel, own in zip(panels, keys, strict=True)]  # fmt: skip
    first, second = (panel.rgba for panel in panels)
    if mode == "checker":
        mixed = checkered(first, second, tile)
    else:
        other = np.arange(first.shape[1]) >= at * first.shape[1]
        mixed = np.where(other[:, np.newaxis], second, first)
        line = min(int(at * first.shape[1]), first.shape[1] - 1)
        mixed[:, line] = (*parse_color(INK)[:3], 255)
    words = ("left", "right") if mode == "swipe" else ("first square", "second square")
    captions = [f"{word}: {panel.caption}" for word, panel in zip(words, panels, strict=True)]
    return [Cell(mixed, captions, [*keys[0], *keys[1]], panels[0], mixed=True)]
