"""Shapes a person measures in: ellipses, rectangles, lines and angles, in map units or mm."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.grid import Grid
from spectrane.spatial.shapes import Feature, Shapes

F64 = NDArray[np.float64]
_CORNERS = 2048
"""Of an ellipse: so many that no pixel's centre is counted wrongly but by a hair."""
_MOST = 100_000
"""Samples of a line."""


def ellipse_shape(
    x: float, y: float, radii: Sequence[float], turned: float = 0.0, name: str = "ellipse"
) -> Shapes:
    """Return an ellipse about (x, y), ``radii`` along x and y, turned anticlockwise by degrees.

    In the raster's own system: map units, or mm of a slice. Raises LookError for radii not above 0.
    """
    across, along = radii
    _check(x, y, across, along, turned)
    if not (across > 0 and along > 0):
        raise LookError(f"ellipse: radii {across:g} and {along:g}: expected numbers above 0")
    angle = np.linspace(0, 2 * np.pi, _CORNERS, endpoint=False)
    u, v = across * np.cos(angle), along * np.sin(angle)
    cosine, sine = math.cos(math.radians(turned)), math.sin(math.radians(turned))
    ring = np.column_stack([x + u * cosine - v * sine, y + u * sine + v * cosine])
    return _polygon(name, ring)


def rectangle_shape(bounds: Sequence[float], name: str = "rectangle") -> Shapes:
    """Return the rectangle between two corners, in any order: x1, y1, x2, y2."""
    _check(*bounds)
    (x1, x2), (y1, y2) = sorted(bounds[::2]), sorted(bounds[1::2])
    if x1 == x2 or y1 == y2:
        raise LookError(f"rectangle {tuple(bounds)}: has no area")
    return _polygon(name, np.array([[x1, y1], [x2, y1], [x2, y2], [x1, y2]]))


def one_set(shapes: Sequence[Shapes]) -> Shapes:
    """Return several shapes of the raster's own system as one set."""
    features = tuple(feature for one in shapes for feature in one.features)
    return Shapes("the shapes", features, None)


def _check(*numbers: float) -> None:
    if not all(math.isfinite(number) for number in numbers):
        raise LookError(f"{', '.join(map(str, numbers))}: expected finite numbers")


def _polygon(name: str, ring: F64) -> Shapes:
    closed = np.vstack([ring, ring[:1]]).tolist()
    return Shapes(name, (Feature(name, {"type": "Polygon", "coordinates": [closed]}, {}),), None)


def line_places(grid: Grid, start: Sequence[float], end: Sequence[float]) -> dict[str, F64]:
    """Return samples along a line from pixel to pixel: x, y, row, column, distance.

    One for each pixel of its length at least, both ends among them. Distances are in map units, or
    mm of a slice; on longitude and latitude in metres along the geodesic. Raises GridMismatch for a
    line that lies outside the grid, LookError for one without length.
    """
    _check(*start, *end)
    (x1, y1), (x2, y2) = start, end
    columns, rows = grid.from_map(np.array([x1, x2]), np.array([y1, y2]))
    length = math.hypot(columns[1] - columns[0], rows[1] - rows[0])
    if (x1, y1) == (x2, y2):
        raise LookError(f"line from {x1:g}, {y1:g} to itself: has no length")
    count = min(_MOST, math.ceil(length) + 1)
    share = np.linspace(0.0, 1.0, max(2, count))
    x, y = x1 + share * (x2 - x1), y1 + share * (y2 - y1)
    column, row = (np.floor(one) for one in grid.from_map(x, y))
    inside = (row >= 0) & (row < grid.shape[0]) & (column >= 0) & (column < grid.shape[1])
    if not inside.any():
        raise GridMismatch(f"the line from {x1:.10g}, {y1:.10g} to {x2:.10g}, {y2:.10g} does not "
                           f"touch the raster, which covers {grid.bounds}")  # fmt: skip
    row, column = (np.where(inside, one, np.nan) for one in (row, column))
    return {"distance": distances(grid, x, y), "x": x, "y": y, "row": row, "column": column}


def distances(grid: Grid, x: F64, y: F64) -> F64:
    """Return the distance of each position from the first, along the way."""
    system = grid.crs
    if system is not None and system.is_geographic:
        geod: Any = system.get_geod()
        steps = np.asarray(geod.inv(x[:-1], y[:-1], x[1:], y[1:])[2], float)
        return np.concatenate([[0.0], np.cumsum(steps)])
    return np.asarray(np.hypot(x - x[0], y - y[0]))


def unit_of_distances(grid: Grid) -> str:
    """Return the unit of distances on a grid: metre, mm of a slice, pixels without a place."""
    system = grid.crs
    if system is not None and system.is_geographic:
        return "metre"
    if system is not None:
        return str(system.axis_info[0].unit_name)
    if grid.placed:
        return "map unit"
    return "pixel" if grid.coefficients == (1, 0, 0, 0, 1, 0) else "mm"


def azimuth(grid: Grid, start: Sequence[float], end: Sequence[float]) -> float:
    """Return the direction from one position to another, degrees clockwise from north (up)."""
    system = grid.crs
    if system is not None and system.is_geographic:
        geod: Any = system.get_geod()
        return float(geod.inv(*start, *end)[0] % 360)
    return math.degrees(math.atan2(end[0] - start[0], end[1] - start[1])) % 360


def angle_between(points: Sequence[Sequence[float]]) -> float:
    """Return the angle at the second of three positions, in degrees, 0 to 180.

    >>> round(angle_between([(1, 0), (0, 0), (0, 5)]), 9)
    90.0
    """
    if len(points) != 3:
        raise LookError(f"angle: {len(points)} positions; expected three, the second at the corner")
    first, corner, last = (np.asarray(point, float) for point in points)
    one, other = first - corner, last - corner
    lengths = float(np.linalg.norm(one) * np.linalg.norm(other))
    if not lengths or not math.isfinite(lengths):
        raise LookError("angle: two of the positions are the same")
    return math.degrees(math.acos(float(np.clip(one @ other / lengths, -1, 1))))


def samples_along(
    source: Any, start: Sequence[float], end: Sequence[float]
) -> list[dict[str, Any]]:
    """Return a row per sample and band of a line, with the physical value of the pixel it lies in.

    Rows: ``distance x y row column band value unit``; the value is NaN where there is none valid.
    """
    from spectrane.model.physical import physical

    places = line_places(source.grid, start, end)
    row, column = places["row"], places["column"]
    known = np.isfinite(row)
    r, c = row[known].astype(int), column[known].astype(int)
    window = ((int(r.min()), int(r.max()) + 1), (int(c.min()), int(c.max()) + 1))
    pixels = source.read(list(range(len(source.bands))), window)
    rows = []
    for index, band in enumerate(source.bands):
        here = (r - window[0][0], c - window[1][0])
        values = np.full(len(row), np.nan)
        found = physical(pixels.values[index][here], band, np.float64)
        values[known] = np.where(pixels.validity[index][here], found, np.nan)
        rows += [
            {"distance": float(places["distance"][k]), "x": float(places["x"][k]),
             "y": float(places["y"][k]), "row": None if not known[k] else int(row[k]),
             "column": None if not known[k] else int(column[k]), "band": band.name,
             "value": float(values[k]), "unit": band.unit} for k in range(len(row))
        ]  # fmt: skip
    return rows
