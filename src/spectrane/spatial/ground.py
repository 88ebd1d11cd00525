"""A map against the ground: what a unit of it measures at a place, and which way north lies."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Any

from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch
from spectrane.model.grid import IMAGE_PLANE, Grid
from spectrane.model.systems import way_between

NEAR_TRUE = 0.005
"""A projection whose scale is nearer to 1 than this is measured in its own units: the width of a
line on paper is more.
"""
_STEP = 1e-4
"""Degrees over which a direction or a length is measured."""


@record(frozen=True)
class Ground:
    """What a map is at one place of it.

    ``across`` and ``up`` are metres of the ground in one map unit along x and along y; ``north``
    degrees clockwise from the map's up to true north, None where there is none. ``lonlat`` is the
    place in degrees on the system's own ellipsoid; ``unit`` says the map's unit.
    """

    across: float
    up: float
    unit: str
    north: float | None = None
    lonlat: tuple[float, float] | None = None
    corrected: float | None = None
    """By how much the projection shows lengths too long there, where it is not as good as true."""


@lru_cache(maxsize=64)
def ground_at(grid: Grid, x: float, y: float) -> Ground:
    """Return what the map of a grid is at (x, y).

    A projected map is measured in its own units where its scale along x is true within half a
    percent, as those of a zone or a state are; else on the ellipsoid, as longitudes and latitudes
    are, by the geodesic between two points near the place. Raises GridMismatch for a grid whose
    unit nobody knows.

    >>> grid = Grid.from_corner((2, 2), x=0, y=60, pixel_size=1, crs="EPSG:4326")
    >>> round(ground_at(grid, 0.5, 60).across), round(ground_at(grid, 0.5, 60).up)
    (55800, 111412)
    """
    if grid.crs_text is None and grid.crs_name == IMAGE_PLANE:
        return Ground(1e-3, 1e-3, "mm")
    system = grid.crs
    if system is None or not grid.placed or not system.axis_info:
        raise GridMismatch(
            "the map has no unit: it has " + ("no coordinate system" if grid.placed else "no place")
            + "; say which it has (spectrane amend --crs), or give it one (spectrane place)"
        )  # fmt: skip
    unit = system.axis_info[0]
    own = float(unit.unit_conversion_factor)
    base = system.geodetic_crs
    if base is None:  # a local system: its unit is all there is to know
        return Ground(own, own, str(unit.unit_name))
    if system.is_geographic:
        degrees = math.degrees(own)
        return _on_ellipsoid(base, x * degrees, y * degrees, degrees, str(unit.unit_name))
    return _projected(system, base, x, y, own, str(unit.unit_name))


def _on_ellipsoid(system: Any, lon: float, lat: float, degrees: float, unit: str) -> Ground:
    globe = system.get_geod()
    lat = max(-90.0 + _STEP, min(90.0 - _STEP, lat))
    across = globe.inv(lon - _STEP / 2, lat, lon + _STEP / 2, lat)[2] / _STEP * degrees
    up = globe.inv(lon, lat - _STEP / 2, lon, lat + _STEP / 2)[2] / _STEP * degrees
    return Ground(across, up, unit, 0.0, (lon, lat))


def _projected(system: Any, base: Any, x: float, y: float, own: float, unit: str) -> Ground:
    way = way_between(system, base)
    lon, lat = way.transform(x, y)
    if not (math.isfinite(lon) and math.isfinite(lat)):
        raise GridMismatch(f"the map {system.name} has no place at {x:.10g}, {y:.10g}")
    half = 50.0 / own
    first, last = way.transform(x - half, y), way.transform(x + half, y)
    true = base.get_geod().inv(*first, *last)[2] / (2 * half)
    back = way_between(base, system)
    step = _STEP if lat < 89.9 else -_STEP
    (x0, y0), (x1, y1) = back.transform(lon, lat), back.transform(lon, lat + step)
    north = math.degrees(math.atan2((x1 - x0) * math.copysign(1, step),
                                    (y1 - y0) * math.copysign(1, step)))  # fmt: skip
    near = abs(own / true - 1.0) <= NEAR_TRUE if true > 0 else True
    side = own if near else true
    return Ground(side, side, unit, north, (lon, lat), None if near else own / true - 1.0)


def round_length(longest: float) -> float:
    """Return the longest length of 1, 2 or 5 times 10^n that is no longer.

    >>> round_length(7.3), round_length(1.99), round_length(0.049)
    (5.0, 1.0, 0.02)
    """
    power = 10.0 ** math.floor(math.log10(longest) + 1e-12)
    return max(m * power for m in (1.0, 2.0, 5.0) if m * power <= longest * (1 + 1e-9))


def length_text(metres: float, *, small: bool = False) -> str:
    """Return a length in the unit people would say it in; ``small`` for what lies in millimetres.

    >>> length_text(2500), length_text(200), length_text(0.05, small=True)
    ('2.5 km', '200 m', '50 mm')
    """
    if small:
        return f"{metres * 1e3:g} mm"
    return f"{metres / 1000:g} km" if metres >= 1000 else f"{metres:g} m"
