"""A raster drawn onto a grid that is not its own: for layers that lie on one another."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.drawing import Rgba, draw_classes
from spectrane.display.render import (
    Settled,
    drawn,
    hidden_color,
    resampling,
    settled,
    shadings_of,
    straight,
)
from spectrane.display.shading import Scale
from spectrane.kernels.gathering import NEAR_ONE
from spectrane.model.errors import GridMismatch
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, whole
from spectrane.spatial.coordinates import Mapping
from spectrane.spatial.regridded import Regridded
from spectrane.spatial.turned import upright

_EVEN = 1e-3


@dataclass(frozen=True)
class Drawn:
    """What a raster looks like on a grid: (rows, columns, 4) uint8, and how it was shown."""

    rgba: Rgba
    scales: tuple[Scale, ...]
    look: Look
    source: Source


def drawn_onto(source: Source, look: Look | None, grid: Grid) -> Drawn:
    """Draw a source as a look says onto a grid; limits are those of the source, not of the grid.

    What the source does not cover is transparent. Raises GridMismatch where the two do not meet.
    """
    source = upright(source)
    mapping = Mapping(grid, source.grid)
    ready = settled(source, look, whole(source.shape))
    return _drawn(ready, grid, mapping, _seen(mapping))


def covers(source: Source, grid: Grid) -> bool:
    """Tell whether a source meets a grid at all. Raises GridMismatch where nothing relates them."""
    mapping = Mapping(grid, upright(source).grid)
    try:
        mapping.scales()
    except GridMismatch:
        return False
    return True


def _drawn(ready: Settled, grid: Grid, mapping: Mapping, seen: Window) -> Drawn:
    source, look = ready.source, ready.look
    method = _method(ready, mapping)
    if ready.classes is not None:
        pixels = _pixels(source, ready.bands, grid, mapping, method)
        rgba, _ = draw_classes(pixels, ready.classes.classes, ready.classes.nodata_color)
        return Drawn(_cut(rgba, ready.classes, grid, mapping), (), ready.classes, source)
    shadings = shadings_of(source, look, ready.bands, seen)
    pixels = straight(_pixels(source, ready.bands, grid, mapping, method), source.alpha)
    rgba = _cut(drawn(pixels, shadings, look), look, grid, mapping)
    return Drawn(rgba, tuple(one.scale for one in shadings), look, source)


def _method(ready: Settled, mapping: Mapping) -> str:
    """Return the kernel: the look's, else area to shrink and nearest to enlarge."""
    # Two zones of one projection differ by a little: that is no shrinking.
    scales = [1.0 if 1 <= scale <= NEAR_ONE else scale for scale in mapping.scales()]
    categories = ready.classes is not None or ready.source.categories
    if categories and ready.look.resample not in (None, "nearest", "majority"):
        return "majority" if max(scales) > 1 else "nearest"
    window = tuple((0, round(1000 * scale)) for scale in scales)
    return resampling(ready.look, window, (1000, 1000), categories)


def _pixels(source: Source, bands: list[int], grid: Grid, mapping: Mapping, method: str) -> Pixels:
    """Return bands on a grid: as a read of the source where pixels line up, else regridded."""
    window = _even_window(grid, source.grid, mapping)
    if window is not None:
        return source.read(bands, window, grid.shape, method)
    made = Regridded(source, grid, method)
    return made.read(bands, whole(grid.shape))


def _even_window(grid: Grid, own: Grid, mapping: Mapping) -> Window | None:
    """Return the window of whole source pixels that a grid covers, where it is one."""
    if not mapping.same_crs:
        return None
    between = np.linalg.solve(own.matrix, grid.matrix)
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


def _seen(mapping: Mapping) -> Window:
    """Return the part of a source that lies under a grid, for limits that look at the view."""
    rows, columns = mapping.target.shape
    down, across = np.meshgrid(np.linspace(0, rows, 33), np.linspace(0, columns, 33),
                               indexing="ij")  # fmt: skip
    c, r = mapping.exact(across, down)
    window = []
    for at, length in zip((r, c), mapping.source.shape, strict=True):
        found = at[np.isfinite(at)]
        low, high = (int(np.floor(found.min())), int(np.ceil(found.max()))) if found.size else (
            0, length)  # fmt: skip
        low, high = max(0, min(low, length - 1)), max(1, min(high, length))
        window.append((low, max(low + 1, high)))
    return tuple(window)


def _cut(rgba: Rgba, look: Look, grid: Grid, mapping: Mapping) -> Rgba:
    """Make what lies outside the raster transparent: a colour hides no-data inside it alone."""
    if hidden_color(look) is None:
        return rgba
    columns, rows = mapping.positions(whole(grid.shape))
    height, width = mapping.source.shape
    with np.errstate(invalid="ignore"):
        inside: NDArray[Any] = (columns >= 0) & (columns < width) & (rows >= 0) & (rows < height)
    if not inside.all():
        rgba = rgba.copy()
        rgba[~inside] = 0
    return rgba
