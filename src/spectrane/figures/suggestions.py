"""A sheet of looks that fit a raster, each under the options that give it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from matplotlib.figure import Figure, FigureBase

from spectrane.display.linked import common_area, linked
from spectrane.display.suggestions import Suggestion, looks_that_fit
from spectrane.figures.cells import Cell, Places, drawn_cells, keys_of, set_out
from spectrane.figures.keys import LINE
from spectrane.figures.paper import chart_page, sides
from spectrane.kernels.quiet import quiet
from spectrane.model.asking import BarSide, checked_side
from spectrane.model.source import flat_source_of
from spectrane.model.view import View, view_of
from spectrane.raster import Raster

if TYPE_CHECKING:
    from matplotlib.axes import Axes


@quiet
def suggestions(
    raster: Raster, *, view: View | None = None, size: Sequence[int] = (800, 1280),
    bar: BarSide | None = None, caption: str | None = None,
    found: Sequence[Suggestion] | None = None, figure: FigureBase | None = None,
    ax: Axes | None = None,
) -> Figure:  # fmt: skip
    """Return a figure of up to eight looks that fit a raster, to choose from by eye.

    Each stands under its reason and the options of ``spectrane render`` that give it. ``size``
    (rows, columns) is in pixels, at most. ``found`` is what ``sp.suggest_looks`` returned for the
    raster, which is then not looked for twice. It is drawn on a caller's ``figure`` or part of one,
    or in the place of axes ``ax``. Raises LookError for a size too small.

    >>> import numpy as np, spectrane as sp
    >>> raster = sp.from_array(np.arange(64.0).reshape(8, 8))
    >>> len(sp.figures.suggestions(raster).axes)
    8
    """
    checked_side(bar)
    source = flat_source_of(raster)
    chosen = looks_that_fit(source) if found is None else list(found)
    page = chart_page(size, figure, ax)
    size = tuple(int(side) for side in sides(page)[::-1])
    whole_view = view_of(view)
    area = common_area(source, whole_view, (int(size[0]), int(size[1])))
    rough = Places(1, 0, 0, 4.0 * LINE, 60.0 if bar == "bottom" else 0.0,
                   100.0 if bar in ("left", "right") else 0.0)  # fmt: skip
    room = set_out(len(chosen), size, area.shape, rough)
    wanted = (max(1, int(room.height)), max(1, int(room.width)))
    named = [(one.title, one.source, one.look) for one in chosen]
    panels = linked(named, whole_view, wanted)
    cells = [
        Cell(panel.rgba, [one.title, one.options or "as it is"], keys_of(panel) if bar else [],
             panel) for one, panel in zip(chosen, panels, strict=True)
    ]  # fmt: skip
    fitted = figure is None and ax is None
    return drawn_cells(cells, page, bar, caption or "", histograms=False, fitted=fitted)
