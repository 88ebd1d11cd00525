"""A raster drawn onto a grid that is not its own: for layers that lie on one another."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.drawing import Rgba
from spectrane.display.plan import RenderPlan
from spectrane.engine.pyramid import picked, picks
from spectrane.kernels.gathering import NEAR_ONE
from spectrane.model.errors import GridMismatch
from spectrane.model.grid import Grid
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, extent, whole
from spectrane.spatial.coordinates import Mapping, moved_east
from spectrane.spatial.regridded import Regridded
from spectrane.spatial.turned import upright

_EVEN = 1e-3


def drawn_onto(plan: RenderPlan, source: Source, grid: Grid) -> Rgba:
    """Draw a source by its plan onto a grid: (rows, columns, 4) uint8.

    What the source does not cover is transparent. Raises GridMismatch where the two do not meet.
    """
    source = plan.ready(upright(source))
    mapping = Mapping(grid, source.grid)
    window = _even_window(grid, source.grid, mapping)
    if window is None or not plan.look.pointwise or _method(plan, mapping) != "nearest" or any(
        n > m for n, m in zip(extent(window), grid.shape, strict=True)
    ):  # fmt: skip
        pixels = plan.straight(_pixels(plan, source, grid, mapping))
        return _cut(plan.draw(pixels), plan, grid, mapping)
    words = plan.draw(plan.straight(source.read(plan.bands, window))).view(np.uint32)[..., 0]
    places = [picks(0, n, m) for n, m in zip(extent(window), grid.shape, strict=True)]
    enlarged = np.ascontiguousarray(picked(words, places))  # drawn once, then repeated
    return _cut(enlarged.view(np.uint8).reshape(*grid.shape, 4), plan, grid, mapping)


def drawn_with_pixels(plan: RenderPlan, source: Source, grid: Grid) -> tuple[Rgba, Pixels]:
    """Draw a source by its plan onto a grid, and return the pixels that were drawn too."""
    source = plan.ready(upright(source))
    mapping = Mapping(grid, source.grid)
    pixels = plan.straight(_pixels(plan, source, grid, mapping))
    return _cut(plan.draw(pixels), plan, grid, mapping), pixels


def redrawn(
    plan: RenderPlan, source: Source, grid: Grid, pixels: Pixels, before: tuple[RenderPlan, Rgba]
) -> Rgba:
    """Draw pixels that ``drawn_with_pixels`` returned again, by another plan of the same bands than
    that of ``before``, which drew the picture beside it.
    """
    rgba = plan.draw_again(pixels, *before)
    if plan.hidden is None:
        return rgba
    return _cut(rgba, plan, grid, Mapping(grid, plan.ready(upright(source)).grid))


def covers(source: Source, grid: Grid) -> bool:
    """Tell whether a source meets a grid at all. Raises GridMismatch where nothing relates them."""
    mapping = Mapping(grid, upright(source).grid)
    try:
        mapping.scales()
    except GridMismatch:
        return False
    return True


def _pixels(plan: RenderPlan, source: Source, grid: Grid, mapping: Mapping) -> Pixels:
    """Return bands on a grid: as a read of the source where pixels line up, else regridded."""
    method = _method(plan, mapping)
    window = _even_window(grid, source.grid, mapping)
    if window is not None:
        return source.read(plan.bands, window, grid.shape, method)
    return Regridded(source, grid, method).read(plan.bands, whole(grid.shape))


def _method(plan: RenderPlan, mapping: Mapping) -> str:
    # Two zones of one projection differ by a little: that is no shrinking.
    scales = [1.0 if 1 <= scale <= NEAR_ONE else scale for scale in mapping.scales()]
    return plan.method(scales)


def _even_window(grid: Grid, own: Grid, mapping: Mapping) -> Window | None:
    """Return the window of whole source pixels that a grid covers, where it is one."""
    if not mapping.same_crs or mapping.shift is None:
        return None
    between = np.linalg.solve(own.matrix, moved_east(grid, mapping.shift).matrix)
    if abs(between[0, 1]) + abs(between[1, 0]) > 1e-9 or min(between[0, 0], between[1, 1]) <= 0:
        return None
    window = []
    for axis, other in ((1, 0), (0, 1)):
        start = between[axis, 2]
        stop = start + between[axis, axis] * grid.shape[other]
        if max(abs(start - round(start)), abs(stop - round(stop))) > _EVEN:
            return None
        if round(start) < 0 or round(stop) > own.shape[other] or round(stop) <= round(start):
            return None
        window.append((round(start), round(stop)))
    return tuple(window)


def seen_under(source: Source, grid: Grid) -> Window:
    """Return the part of an upright source under a grid, for limits that look at the view."""
    mapping = Mapping(grid, source.grid)
    rows, columns = mapping.target.shape
    down, across = np.meshgrid(np.linspace(0, rows, 33), np.linspace(0, columns, 33),
                               indexing="ij")  # fmt: skip
    c, r = mapping.exact(across, down)
    window = []
    for at, length in zip((r, c), mapping.source.shape, strict=True):
        finite = at[np.isfinite(at)]
        low, high = (int(np.floor(finite.min())), int(np.ceil(finite.max()))) if finite.size else (
            0, length)  # fmt: skip
        low, high = max(0, min(low, length - 1)), max(1, min(high, length))
        window.append((low, max(low + 1, high)))
    return tuple(window)


def _cut(rgba: Rgba, plan: RenderPlan, grid: Grid, mapping: Mapping) -> Rgba:
    """Make what lies outside the raster transparent: a colour hides no-data inside it alone."""
    if plan.hidden is None:
        return rgba
    columns, rows = mapping.positions(whole(grid.shape))
    height, width = mapping.source.shape
    with np.errstate(invalid="ignore"):
        inside: NDArray[Any] = (columns >= 0) & (columns < width) & (rows >= 0) & (rows < height)
    if not inside.all():
        rgba = rgba.copy()
        rgba[~inside] = 0
    return rgba
