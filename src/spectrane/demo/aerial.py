"""Halse Sound from the air: two colour photographs that overlap by a strip, and drawn shapes."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
from numpy.random import default_rng
from numpy.typing import NDArray

from spectrane.demo.fields import Field
from spectrane.demo.land import Cover, Land, make_land
from spectrane.demo.spectra import see
from spectrane.engine.memory import ArraySource
from spectrane.model.band import Band
from spectrane.model.grid import Grid

PIXEL = 2.0
_WEST, _EAST = 6600.0, 8500.0
_SPANS = {"north": (4300.0, 5600.0), "south": (3100.0, 4600.0)}
"""Metres north of the scene's corner; they share 300 m."""
_SOUTH_LIGHT = np.array([0.72, 0.79, 0.93], np.float32)
"""The southern flight was later in the day: darker, and bluer."""
_ROLES = ("red", "green", "blue")


def photograph(which: str, left: float, bottom: float, scale: float, seed: int) -> ArraySource:
    """Return ``north`` or ``south``: 8-bit colour with black wedges, and no word of no-data.

    The southern one shows everything one pixel off, to the right and below.
    """
    low, high = _SPANS[which]
    pixel = PIXEL / scale
    rows, columns = round((high - low) / pixel), round((_EAST - _WEST) / pixel)
    off = pixel if which == "south" else 0.0
    x = (_WEST - off + (np.arange(columns, dtype=np.float32) + 0.5) * np.float32(pixel))[None, :]
    y = (high + off - (np.arange(rows, dtype=np.float32) + 0.5) * np.float32(pixel))[:, None]
    land = make_land(x, y)
    seen = see(land, x, y, seed, (2, 1, 0)).astype(np.float32)
    light = np.clip((seen / 2300) ** 0.62 * 200, 2, 255)
    if which == "south":
        light *= _SOUTH_LIGHT[:, None, None]
    light += default_rng(seed + len(which)).normal(0, 1.2, light.shape)
    values = np.clip(np.round(light), 1, 255).astype(np.uint8)
    values[:, _wedges(which, x, y, low, high)] = 0
    grid = Grid.from_corner((rows, columns), x=left + _WEST, y=bottom + high, pixel_size=pixel,
                            crs="EPSG:32727")  # fmt: skip
    bands = [Band(role, role) for role in _ROLES]
    return ArraySource(values, grid=grid, bands=bands)


def _wedges(which: str, x: Field, y: Field, low: float, high: float) -> NDArray[np.bool_]:
    """Return where the frame, flown a little askew, shows nothing."""
    lean = 0.045 if which == "north" else -0.035
    return np.asarray(
        (x - _WEST < 20 + lean * (y - low) + 90 * (lean < 0))
        | (_EAST - x < 25 - lean * (y - low) + 110 * (lean > 0))
        | ((high - y) < 12 + 0.02 * (x - _WEST) * (which == "north"))
        | ((y - low) < 10 + 0.015 * (_EAST - x) * (which == "south"))
    )


def write_shapes(path: Path, grid: Grid, land: Land) -> None:
    """Write the eelgrass bed with its hole, and beside it the leases, one across the edge."""
    bed = _largest_bed(grid, land)
    _write(path, [("eelgrass bed", bed)], grid)
    x_min, y_min, _, _ = grid.bounds

    def lease(x: float, y: float, width: float, height: float) -> list[list[tuple[float, float]]]:
        left, low = x_min + x, y_min + y
        return [[(left, low), (left + width, low), (left + width + 60, low + height),
                 (left + 60, low + height), (left, low)]]  # fmt: skip

    leases = [("lease 1", lease(5450, 4600, 1300, 620)), ("lease 2", lease(-700, 5600, 1500, 900))]
    _write(path.with_name("lease.geojson"), leases, grid)


def _largest_bed(grid: Grid, land: Land) -> list[list[tuple[float, float]]]:
    """Return the rings of the largest eelgrass bed, smoothed; a clearing is its hole."""
    import shapely

    step = max(1, round(40 / grid.pixel_size[0]))
    grass = (land.cover == Cover.EELGRASS)[::step, ::step]
    size = grid.pixel_size[0] * step
    left, _, _, top = grid.bounds
    cells = [
        shapely.box(left + c * size, top - (r + 1) * size, left + (c + 1) * size, top - r * size)
        for r, c in np.argwhere(grass).tolist()
    ]
    joined = shapely.union_all(cells).buffer(size * 1.5).buffer(-size * 1.2).simplify(size / 2)
    largest = max(shapely.get_parts(joined).tolist(), key=shapely.area)
    middle = largest.representative_point()
    largest = shapely.Polygon(largest.exterior).difference(middle.buffer(4 * size))
    largest = max(shapely.get_parts(largest).tolist(), key=shapely.area)
    return [list(ring.coords) for ring in (largest.exterior, *largest.interiors)]


def _write(
    path: Path, shapes: list[tuple[str, list[list[tuple[float, float]]]]], grid: Grid
) -> None:
    """Write GeoJSON in longitude and latitude (RFC 7946)."""
    import pyproj

    turn = pyproj.Transformer.from_crs(grid.crs, "EPSG:4326", always_xy=True)
    features = []
    for name, rings in shapes:
        turned = [[[round(v, 7) for v in turn.transform(*point)] for point in ring]
                  for ring in rings]  # fmt: skip
        features.append({
            "type": "Feature", "properties": {"name": name},
            "geometry": {"type": "Polygon", "coordinates": turned},
        })  # fmt: skip
    path.write_text(json.dumps({"type": "FeatureCollection", "features": features}, indent=1))
