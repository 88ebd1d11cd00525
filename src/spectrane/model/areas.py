"""How large pixels are on the ground: of map grids by their units, of degrees on the ellipsoid."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from spectrane.model.grid import Grid
from spectrane.model.telling import warn_caller

F64 = NDArray[np.float64]
_OFF = 0.01
"""A map that shows areas so much too large or small is told of."""


def pixel_areas(grid: Grid, rows: tuple[int, int], columns: tuple[int, int]) -> F64 | None:
    """Return areas in m² of the pixels of a window, in a shape that broadcasts to it.

    None where the grid has no place or no system with units. On a map an area is that of the map;
    in degrees it is the true one on the system's ellipsoid: of rows along parallels exactly
    (Snyder, Map projections: a working manual, 1987, eq. 3-12), of turned grids by the radii of
    curvature at each pixel's centre.

    >>> grid = Grid.from_corner((2, 3), x=0, y=60, pixel_size=0.5, crs="EPSG:4326")
    >>> areas = pixel_areas(grid, (0, 2), (0, 3))
    >>> areas.shape, round(float(areas[0, 0]) / 1e6)
    ((2, 1), 1566)
    """
    system = grid.crs
    if system is None or not grid.placed or len(grid.shape) != 2:
        return None
    a, b, _, d, e, f = grid.coefficients
    if not system.is_geographic:
        units = [axis.unit_conversion_factor for axis in system.axis_info[:2]]
        area = abs(a * e - b * d) * units[0] * units[-1]
        return np.full((1, 1), area) if np.isfinite(area) and area > 0 else None
    turn = np.radians(1.0) * system.axis_info[0].unit_conversion_factor / np.radians(1.0)
    ellipsoid = system.ellipsoid
    if ellipsoid is None:
        return None
    major, minor = ellipsoid.semi_major_metre, ellipsoid.semi_minor_metre
    if b == d == 0:
        edges = (f + e * np.arange(rows[0], rows[1] + 1)) * turn
        heights = np.abs(np.diff(_below(edges, major, minor)))
        return np.asarray((heights * abs(a) * turn)[:, np.newaxis])
    y, x = np.mgrid[rows[0] : rows[1], columns[0] : columns[1]] + 0.5
    latitude = (d * x + e * y + f) * turn
    square = 1 - (minor / major) ** 2
    root = 1 - square * np.sin(latitude) ** 2
    radii = major**2 * (1 - square) / root**2
    return np.asarray(radii * np.cos(latitude) * abs(a * e - b * d) * turn**2)


def _below(latitude: F64, major: float, minor: float) -> F64:
    """Return the area in m² between the equator and a latitude (radians), per radian of longitude.

    Latitudes beyond a pole end there.
    """
    sine = np.sin(np.clip(latitude, -np.pi / 2, np.pi / 2))
    square = 1 - (minor / major) ** 2
    if square < 1e-12:
        return np.asarray(major**2 * sine)
    first = np.sqrt(square)
    return np.asarray(minor**2 / 2 * (sine / (1 - square * sine**2)
                                      + np.arctanh(first * sine) / first))  # fmt: skip


def tell_untrue_areas(grid: Grid) -> None:
    """Warn of a map that shows areas at the grid's middle by more than a hundredth untrue."""
    system = grid.crs
    if system is None or system.is_geographic or not system.is_projected:
        return
    from pyproj import Proj, Transformer

    x, y = grid.center(row=grid.rows / 2 - 0.5, column=grid.columns / 2 - 0.5)
    lonlat = Transformer.from_crs(system, system.geodetic_crs, always_xy=True).transform(x, y)
    try:
        scale = float(Proj(system).get_factors(*lonlat).areal_scale)
    except Exception:  # a system that pyproj has no factors for is taken as it is
        return
    if np.isfinite(scale) and abs(scale - 1) > _OFF:
        warn_caller(
            f"areas are those of the map {system.name}, which at the raster's middle shows them "
            f"{abs(scale - 1):.0%} too {'large' if scale > 1 else 'small'}; regrid to an "
            "equal-area system, or to longitude and latitude, for true ones"
        )
