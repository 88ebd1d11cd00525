"""Grids to put rasters on: another one's, one in another coordinate system, the union of many."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.model.errors import GridMismatch
from spectrane.model.grid import Bounds, Grid
from spectrane.model.longitudes import nearest_shift, plain_degrees, shifts, together
from spectrane.model.systems import LONLAT, parsed_system, same_system
from spectrane.model.window import Window, whole
from spectrane.spatial.coordinates import check_related, moved_east, shift_onto, transformer

F64 = NDArray[np.float64]
_EDGE = 65
"""Points along an edge when what it becomes in another system is found."""
_ALIGNED = 1e-3
"""Grids this near (in pixels) are one grid."""
LARGEST = 1 << 26
"""Rows or columns beyond this are a mistake."""


def grid_of(given: Any) -> Grid:
    """Return a grid, or that of a raster, source or picture."""
    grid = given if isinstance(given, Grid) else getattr(given, "grid", None)
    if not isinstance(grid, Grid):
        raise GridMismatch(f"grid: expected a Grid or something that has one, not {given!r:.80}")
    return grid


def offset_on(grid: Grid, base: Grid) -> tuple[int, int] | None:
    """Return the (row, column) at which a grid begins on another's endless pixels, or None.

    None: it is in another system, its pixels have another size or turn, or lie in between.

    >>> base = Grid.from_corner((4, 4), x=100, y=200, pixel_size=10)
    >>> offset_on(base.cropped(((2, 4), (1, 3))), base)
    (2, 1)
    """
    if not check_related(base, grid) or (shift := shift_onto(grid, base)) is None:
        return None
    between = np.linalg.solve(base.matrix, moved_east(grid, shift).matrix)
    furthest = max(*grid.shape, 1)
    if np.abs(between[:2, :2] - np.eye(2)).max() * furthest > _ALIGNED:
        return None
    column, row = between[:2, 2].tolist()
    if max(abs(column - round(column)), abs(row - round(row))) > _ALIGNED:
        return None
    return round(row), round(column)


def extended(base: Grid, rows: tuple[int, int], columns: tuple[int, int]) -> Grid:
    """Return a window of a grid that may reach outside it."""
    return base.cropped((rows, columns))


def suggested(grid: Grid, crs: str | None = None, pixel_size: Any = None) -> Grid:
    """Return an upright grid in a coordinate system that covers all of another grid.

    ``pixel_size`` is one size or (x size, y size); None keeps the input's where the units agree,
    and else takes the square of the same area at its middle. Edges lie at whole multiples of the
    pixel size. Raises GridMismatch where part of the input has no place in the system.
    """
    if not grid.placed:
        raise GridMismatch("the raster has no place on a map; give it one first (spectrane place)")
    target = replace(grid, crs_text=crs or grid.crs_text, crs_name=None if crs else grid.crs_name)
    if crs is not None:
        parsed_system(crs)
    same = check_related(target, grid)
    bounds = grid.bounds if same else reached(grid, target)
    sizes = _pixel_size(grid, target, same, pixel_size)
    return covering(bounds, sizes, target.crs_text, name=target.crs_name)


def covering(bounds: Bounds, sizes: tuple[float, float], crs: str | None, *,
             name: str | None = None) -> Grid:  # fmt: skip
    """Return the upright grid over bounds, snapped outward to whole multiples of the pixels."""
    dx, dy = sizes
    slack = 1e-6
    left, right = math.floor(bounds[0] / dx + slack), math.ceil(bounds[2] / dx - slack)
    low, high = math.floor(bounds[1] / dy + slack), math.ceil(bounds[3] / dy - slack)
    shape = max(1, high - low), max(1, right - left)
    if max(shape) > LARGEST:
        raise GridMismatch(
            f"a grid of {shape[1]} x {shape[0]} pixels of {dx:g} x {dy:g} over {bounds}: check "
            "the pixel size, which is in units of the coordinate system"
        )
    grid = Grid.from_corner(shape, x=left * dx, y=high * dy, pixel_size=sizes, crs=crs)
    return replace(grid, crs_name=name)


def _pixel_size(grid: Grid, target: Grid, same: bool, asked: Any) -> tuple[float, float]:
    if asked is not None:
        sizes = tuple(asked) if isinstance(asked, tuple | list) else (asked, asked)
        if len(sizes) != 2 or not all(0 < float(s) < math.inf for s in sizes):
            raise GridMismatch(f"pixel size {asked!r}: expected one or two numbers above 0")
        return float(sizes[0]), float(sizes[1])
    if same and not grid.rotated:
        return grid.pixel_size[0], grid.pixel_size[1]
    if _unit(grid) == _unit(target) and _unit(grid) != "degree":
        size = math.sqrt(grid.pixel_size[0] * grid.pixel_size[1])
        square = math.isclose(grid.pixel_size[0], grid.pixel_size[1], rel_tol=1e-6)
        return (size, size) if square or grid.rotated else (grid.pixel_size[0], grid.pixel_size[1])
    size = float(f"{typical_side(grid, target):.6g}")
    return size, size


def typical_side(grid: Grid, target: Grid) -> float:
    """Return the side of a square as large as a pixel becomes: the median over the grid."""
    down, across = (np.linspace(0.1, 0.9, 5) * n for n in grid.shape)
    c, r = np.meshgrid(across, down)
    way = transformer(grid, target)
    (x, y), (xc, yc), (xr, yr) = (
        way.transform(*grid.to_map(c + dc, r + dr))
        for dc, dr in ((0.0, 0.0), (1.0, 0.0), (0.0, 1.0))
    )
    with np.errstate(invalid="ignore"):
        area = np.abs((xc - x) * (yr - y) - (xr - x) * (yc - y))
    area = area[np.isfinite(area) & (area > 0)]
    if not area.size:
        raise GridMismatch(f"the raster's middle has no place in {target.crs_text}")
    return float(np.sqrt(np.median(area)))


def _unit(grid: Grid) -> str:
    system = grid.crs
    return "" if system is None else str(system.axis_info[0].unit_name)


def reached(grid: Grid, target: Grid) -> Bounds:
    """Return the bounds of a grid in the system of another.

    Across the antimeridian the bounds run on beyond 180 degrees; with a pole inside, they run
    all the way round. Raises GridMismatch where part of the grid has no place there.
    """
    x, y = _boundary(grid)
    way = transformer(grid, target)
    east, north = way.transform(x, y)
    inner = np.meshgrid(np.linspace(0, grid.shape[1], _EDGE), np.linspace(0, grid.shape[0], _EDGE))
    inside = way.transform(*grid.to_map(*inner))
    if not all(np.isfinite(part).all() for part in (east, north, *inside)):
        raise GridMismatch(
            f"part of the raster, which covers {grid.bounds} in {grid.crs_text}, has no place in "
            f"{target.crs_text}; crop it first, or choose another system"
        )
    system = target.crs
    if system is not None and system.is_geographic:
        return _round_the_globe(np.asarray(east), np.asarray(north), np.asarray(inside[1]))
    everything = np.concatenate([np.ravel(part) for part in (east, inside[0])])
    upward = np.concatenate([np.ravel(part) for part in (north, inside[1])])
    return (float(everything.min()), float(upward.min()), float(everything.max()),
            float(upward.max()))  # fmt: skip


def _boundary(grid: Grid) -> tuple[F64, F64]:
    rows, columns = grid.shape
    along, full = np.linspace(0, 1, _EDGE), np.ones(_EDGE)
    c = np.concatenate([along, full, along[::-1], 0 * full]) * columns
    r = np.concatenate([0 * full, along, full, along[::-1]]) * rows
    x, y = grid.to_map(c, r)
    return x, y


def _round_the_globe(longitude: F64, latitude: F64, inner: F64) -> Bounds:
    """Return bounds of a closed line in longitude and latitude, whatever it winds round."""
    unwound = np.unwrap(longitude, period=360.0)
    low = float(min(latitude.min(), inner.min()))
    high = float(max(latitude.max(), inner.max()))
    if abs(unwound[-1] - unwound[0]) > 180.0:  # it winds round a pole
        north = latitude.mean() > 0
        return (-180.0, low, 180.0, 90.0) if north else (-180.0, -90.0, 180.0, high)
    west = plain_degrees(float(unwound.min()))
    return west, low, west + float(unwound.max() - unwound.min()), high


def lonlat_bounds(grid: Grid) -> Bounds:
    """Return a grid's bounds in degrees that begin within -180...180, and go round once at most."""
    target = Grid((1, 1), crs_text=LONLAT, placed=True, y_up=True)
    same = grid.crs_text is not None and same_system(grid.crs_text, LONLAT)
    first, south, last, north = grid.bounds if same else reached(grid, target)
    west = plain_degrees(first)
    return west, south, west + min(last - first, 360.0), north


def union(grids: Sequence[Grid], base: Grid) -> Grid:
    """Return the smallest grid on the pixels of ``base`` that covers all grids.

    Longitudes are taken by whole turns as they lie nearest together, from where ``base`` has them.
    Raises GridMismatch where a grid has no place in the system of ``base``.
    """
    outlines = [_outline_in(grid, base) for grid in grids]
    moved = [0.0] * len(grids)
    if base.turn is not None:
        spans = [(float(x.min()), float(x.max())) for x, _ in outlines]
        moved = together([(base.bounds[0], base.bounds[2]), *spans], base.turn)[1:]
    rows, columns = [], []
    for (x, y), shift in zip(outlines, moved, strict=True):
        top, bottom, left, right = _span_on(x + shift, y, base)
        rows += [top, bottom]
        columns += [left, right]
    if max(max(rows) - min(rows), max(columns) - min(columns)) > LARGEST:
        raise GridMismatch(f"the rasters lie {max(max(rows), max(columns))} pixels apart")
    return extended(base, (min(rows), max(rows)), (min(columns), max(columns)))


def window_on(grid: Grid, base: Grid) -> Window:
    """Return the rows and columns of a base's endless pixels that a grid lies on, near the base.

    All of the base where the grid meets it at several places round the globe.
    """
    x, y = _outline_in(grid, base)
    if base.turn is not None:
        span, of = (float(x.min()), float(x.max())), (base.bounds[0], base.bounds[2])
        if len(shifts(span, of, base.turn)) > 1:
            return whole(base.shape)
        x = x + nearest_shift(span, of, base.turn)
    top, bottom, left, right = _span_on(x, y, base)
    return (top, bottom), (left, right)


def _outline_in(grid: Grid, base: Grid) -> tuple[F64, F64]:
    """Return positions along a grid's edge in another's system."""
    if check_related(base, grid):
        x, y = np.array(grid.corners).T
        return x, y
    x, y = transformer(grid, base).transform(*_boundary(grid))
    if not (np.isfinite(x).all() and np.isfinite(y).all()):
        raise GridMismatch(
            f"a raster in {grid.crs_text} has no place in {base.crs_text}: {grid.bounds}"
        )
    return (x if base.turn is None else np.unwrap(x, period=base.turn)), y


def _span_on(x: F64, y: F64, base: Grid) -> tuple[int, int, int, int]:
    """Return the first and last row and column of a grid's pixels that cover positions."""
    inverse = np.linalg.inv(base.matrix)
    c = inverse[0, 0] * x + inverse[0, 1] * y + inverse[0, 2]
    r = inverse[1, 0] * x + inverse[1, 1] * y + inverse[1, 2]
    return (math.floor(r.min() + _ALIGNED), math.ceil(r.max() - _ALIGNED),
            math.floor(c.min() + _ALIGNED), math.ceil(c.max() - _ALIGNED))  # fmt: skip
