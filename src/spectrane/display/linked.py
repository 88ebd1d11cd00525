"""Several rasters drawn over one area: each from its own grid, linked by map position."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.display.keys import Shown
from spectrane.display.picture import Picture
from spectrane.display.plan import RenderPlan
from spectrane.display.render import draw_raster
from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch
from spectrane.model.grid import Grid
from spectrane.model.look import Look, look_of
from spectrane.model.source import Source
from spectrane.model.view import View
from spectrane.model.window import Window
from spectrane.spatial.coordinates import near, tell_planes, transformer

PanelMode = Literal["panels", "checker", "swipe"]
MODES: tuple[PanelMode, ...] = get_args(PanelMode)
"""Rasters side by side; two in alternating squares; two divided at a line."""


@record(frozen=True)
class Panel:
    """One raster over the common area: (rows, columns, 4) uint8, and what it says of itself."""

    name: str
    source: Source
    plan: RenderPlan
    window: Window
    rgba: NDArray[np.uint8]
    shown: tuple[Shown, ...] = ()
    """What its key tells of."""

    @property
    def caption(self) -> str:
        """Its name, and how it is shown."""
        return f"{self.name}: {self.plan.said()}"


def linked(
    layers: Sequence[tuple[str, Source, Look | None]], view: View, size: tuple[int, int]
) -> list[Panel]:
    """Draw (name, source, look) over the area that ``view`` is of the first one.

    All panels have one size and one grid, so that a place lies at the same pixel of each. Raises
    GridMismatch where one does not touch the area, or only some have a place on a map.
    """
    area = common_area(layers[0][1], view, size)
    shape = (area.rows, area.columns)
    placed = [source.grid.placed for _, source, _ in layers]
    if any(placed) and not all(placed):
        bare = ", ".join(name for (name, _, _), there in zip(layers, placed, strict=True)
                         if not there)  # fmt: skip
        raise GridMismatch(f"compare: {bare}: has no place on a map, and others have one; give it "
                           "one (spectrane place, spectrane amend --bounds), or compare such "
                           "pictures alone")  # fmt: skip
    tell_planes([(name, source.grid) for name, source, _ in layers])
    panels = []
    for name, source, given in layers:
        own = _own_view(source, area, all(placed), view)
        picture = draw_raster(source, look_of(given), view=own,
                         size=_own_size(source, area, own, shape))  # fmt: skip
        assert picture.plan is not None
        panels.append(Panel(
            name, source, picture.plan, own.window(source.grid),
            _onto(picture, source, area), picture.shown,
        ))  # fmt: skip
    return panels


def common_area(first: Source, view: View, size: tuple[int, int]) -> Grid:
    """Return the grid that all are drawn on: what ``view`` shows of the first."""
    target = view.target(first.grid, size)
    if target is not None:
        return target
    window = view.window(first.grid)
    fitting = view.shape(first.grid, window, size)
    return first.grid.cropped(window).resized(fitting).upright()


def _own_view(source: Source, area: Grid, placed: bool, view: View) -> View:
    """Return the part of a raster that the common area covers, in its own grid."""
    if not placed:
        return View(rows=view.rows, columns=view.columns, stored=view.stored)
    same = (source.grid.crs_text or None) == (area.crs_text or None)
    return View(bounds=area.bounds, crs=None if same else area.crs_text, stored=True)


def _own_size(source: Source, area: Grid, view: View, shape: tuple[int, int]) -> tuple[int, int]:
    """Return a size for the raster's own picture that is as fine as the common one needs."""
    rows, columns = (b - a for a, b in view.window(source.grid))
    scale = max(shape[0] / rows, shape[1] / columns)
    if scale >= 1:
        return rows, columns  # its own pixels: they are looked up, and stay crisp
    return max(1, round(rows * scale)), max(1, round(columns * scale))


def _onto(picture: Picture, source: Source, area: Grid) -> NDArray[np.uint8]:
    """Look the picture's colours up at the centres of the common grid's pixels."""
    rows, columns = area.shape
    x = np.arange(columns) + 0.5
    y = np.arange(rows) + 0.5
    if not area.placed:
        return picture.rgba if picture.rgba.shape[:2] == (rows, columns) else _stretched(
            picture.rgba, rows, columns)  # fmt: skip
    at_x, at_y = np.meshgrid(x, y)
    east, north = area.to_map(at_x, at_y)
    if source.grid.crs_text != area.crs_text and source.grid.crs_text and area.crs_text:
        east, north = transformer(area, source.grid).transform(east, north)
    column, row = (np.floor(one) for one in picture.grid.from_map(near(picture.grid, east), north))
    high, wide = picture.rgba.shape[:2]
    with np.errstate(invalid="ignore"):
        inside = (row >= 0) & (row < high) & (column >= 0) & (column < wide)
    out = np.zeros((rows, columns, 4), np.uint8)
    where = row[inside].astype(np.intp), column[inside].astype(np.intp)
    out[inside] = picture.rgba[where]
    return out


def _stretched(rgba: NDArray[Any], rows: int, columns: int) -> NDArray[Any]:
    """Take the nearest pixels: for rasters without a place that differ in size."""
    r = (np.arange(rows) * len(rgba) // rows).clip(0, len(rgba) - 1)
    c = (np.arange(columns) * rgba.shape[1] // columns).clip(0, rgba.shape[1] - 1)
    return np.asarray(rgba[np.ix_(r, c)])
