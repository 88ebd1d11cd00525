"""A sheet of looks that fit a raster, each under the options that give it."""

from __future__ import annotations

from collections.abc import Sequence

from matplotlib.figure import Figure

from spectrane.display.linked import common_area, linked
from spectrane.display.suggestions import Suggestion, looks_that_fit
from spectrane.figures.cells import Cell, Places, drawn_cells, keys_of, set_out
from spectrane.figures.keys import LINE
from spectrane.kernels.quiet import quiet
from spectrane.model.asking import BarSide, checked_side
from spectrane.model.source import flat_source_of
from spectrane.model.view import View, view_of
from spectrane.raster import Raster


@quiet
def suggestions(
    raster: Raster, *, view: View | None = None, size: Sequence[int] = (800, 1280),
    bar: BarSide | None = None, caption: str | None = None,
    found: Sequence[Suggestion] | None = None,
) -> Figure:  # fmt: skip
    """Return a figure of up to eight looks that fit a raster, to choose from by eye.

    Each stands under its reason and the options of ``spectrane render`` that give it. ``size``
    (rows, columns) is in pixels, at most. ``found`` is what ``sp.suggest_looks`` returned for the
    raster, which is then not looked for twice. Raises LookError for a size too small.

    >>> import numpy as np, spectrane as sp
    >>> raster = sp.from_array(np.arange(64.0).reshape(8, 8))
    >>> len(sp.figures.suggestions(raster).axes)
    8
    """
    checked_side(bar)
    source = flat_source_of(raster)
    chosen = looks_that_fit(source) if found is None else list(found)
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
    return drawn_cells(cells, size, bar, caption or "", histograms=False)
