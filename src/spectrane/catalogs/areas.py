"""The area that scenes are looked for over, and how much of it each covers.

Shares are of true area: on an equal-area map (Lambert's azimuthal) around the area's middle, which
knows no antimeridian. Edges are straight between longitudes and latitudes, as GeoJSON has them.
"""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import field
from functools import cached_property
from typing import Any

import numpy as np

from spectrane.catalogs.items import box_geometry
from spectrane.kernels.records import record
from spectrane.model.addresses import has_ending
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.grid import Grid
from spectrane.model.longitudes import turned
from spectrane.model.source import source_of
from spectrane.model.systems import LONLAT, way_between
from spectrane.spatial.shapes import Shapes, shapes_of

_STEP = 0.25
"""Degrees after which an edge is broken up, so that it stays on its line."""
_EDGE = 33
"""Positions along each side of a raster's grid."""


@record(frozen=True)
class SoughtArea:
    """An area in longitude and latitude: ``lonlat`` a shapely geometry whose parts lie together,
    beyond 180 degrees where it crosses the antimeridian.
    """

    title: str
    lonlat: Any
    _ways: dict[str, Any] = field(default_factory=dict, repr=False, compare=False)

    @property
    def middle(self) -> tuple[float, float]:
        """Longitude and latitude of its middle."""
        point = self.lonlat.centroid
        return float(point.x), float(point.y)

    @property
    def system(self) -> str:
        """The equal-area system around its middle."""
        lon, lat = self.middle
        return f"+proj=laea +lat_0={lat:.6f} +lon_0={lon:.6f} +datum=WGS84 +units=m"

    @cached_property
    def shape(self) -> Any:
        """The area on its equal-area map."""
        return self.onto(self.lonlat)

    def onto(self, shape: Any) -> Any:
        """Return a shapely geometry in longitude and latitude on the equal-area map."""
        import shapely

        if "way" not in self._ways:
            self._ways["way"] = way_between(LONLAT, self.system)
        way = self._ways["way"]
        fine = shapely.segmentize(shape, _STEP) if not shape.is_empty else shape

        def moved(points: Any) -> Any:
            return np.column_stack(way.transform(points[:, 0], points[:, 1]))

        made = shapely.transform(fine, moved)
        return made if made.is_valid else shapely.make_valid(made)

    def share(self, shape: Any) -> float:
        """Return the share of the area that a geometry on the equal-area map covers.

        Of lines it is a share of their length, of points of their number.
        """
        import shapely

        size = _size(self.shape)
        if size == 0.0:
            return float(shapely.intersects(self.shape, shape))
        return min(1.0, _size(shapely.intersection(self.shape, shape)) / size)

    def bounds(self) -> tuple[float, float, float, float]:
        """Return west, south, east, north; west is the greater over the antimeridian."""
        west, south, east, north = (float(one) for one in self.lonlat.bounds)
        if east - west >= 360:
            return -180.0, south, 180.0, north
        west, east = (round((side + 180) % 360 - 180, 9) for side in (west, east))
        return west, south, 180.0 if east == -180.0 else east, north


def _size(shape: Any) -> float:
    """Return the area of polygons, else the length of lines, else the number of points."""
    import shapely

    return float(shape.area or shape.length or shapely.get_num_coordinates(shape))


def area_of(given: Any, *, crs: Any = None) -> SoughtArea:
    """Return an area however it is said: bounds (west, south, east, north), a raster or its grid, a
    raster's file, or a shape as ``clip`` takes it.

    Raises LookError for what is none, GridMismatch for a raster without a place.
    """
    if isinstance(given, SoughtArea):
        return given
    if isinstance(given, tuple | list) and len(given) == 4 and crs is None:
        return SoughtArea("the bounds", _polygons(_box(given)))
    if isinstance(given, str | os.PathLike):
        return _of_file(os.fspath(given), crs)
    if isinstance(given, Grid) or hasattr(given, "grid"):
        grid = given if isinstance(given, Grid) else source_of(given).grid
        return SoughtArea("the raster", _together(footprint(grid)))
    return _of_shapes(shapes_of(given, crs=crs, option="over_crs"))


def _box(given: Sequence[Any]) -> dict[str, Any]:
    try:
        west, south, east, north = (float(one) for one in given)
    except (TypeError, ValueError):
        raise LookError(f"over {given!r}: expected west, south, east, north") from None
    sound = -90 <= south < north <= 90 and -180 <= west <= 360 and -180 <= east <= 360
    if not sound or west == east:
        raise LookError(f"over {tuple(given)}: expected west, south, east, north in degrees; a "
                        "west that is greater than east crosses the antimeridian")  # fmt: skip
    return box_geometry(west, south, east, north)


def _of_file(path: str, crs: Any) -> SoughtArea:
    from contextlib import closing

    from spectrane.formats.registry import open_source

    if has_ending(path, ".geojson", ".json", ".gpkg"):
        return _of_shapes(shapes_of(path, crs=crs, option="over_crs"))
    with closing(open_source(path)) as source:
        if len(source.shape) != 2:
            raise GridMismatch(f"{path}: is a volume, which has no place on the earth")
        area = area_of(source.grid)
    return SoughtArea(path, area.lonlat)


def _of_shapes(shapes: Shapes) -> SoughtArea:
    import shapely

    shapes.check_degrees()
    parts: list[Any] = []
    for feature in shapes.features:
        for part in shapes.parts(feature):
            rings = [ring.tolist() for ring in part.rings]
            parts.append(shapely.Polygon(rings[0], rings[1:]) if part.kind == "polygon" else
                         shapely.LineString(rings[0]) if part.kind == "line" else
                         shapely.Point(rings[0][0]))  # fmt: skip
    if not parts:
        raise LookError(f"{shapes.title}: holds no shape to look for scenes over")
    if shapes.crs is not None and shapes.crs != LONLAT:
        way = way_between(shapes.crs, LONLAT)

        def turned_over(points: Any) -> Any:
            return np.column_stack(way.transform(points[:, 0], points[:, 1]))

        parts = [shapely.transform(shapely.segmentize(one, _fine(one)), turned_over)
                 for one in parts]  # fmt: skip
    highest = max((one.area > 0) * 2 + (one.length > 0) for one in parts)
    kept = [one for one in parts if (one.area > 0) * 2 + (one.length > 0) == highest]
    return SoughtArea(shapes.title, _together(kept))


def _fine(shape: Any) -> float:
    """Return a length after which an edge is broken up: a part of the whole."""
    x_min, y_min, x_max, y_max = shape.bounds
    return float(max(x_max - x_min, y_max - y_min) / 32 or 1.0)


def footprint(grid: Grid) -> list[Any]:
    """Return the outline of a grid in longitude and latitude, as polygons.

    Raises GridMismatch for a grid without a place, or one whose edge lies nowhere on the earth.
    """
    rows, columns = grid.shape
    along = np.linspace(0, 1, _EDGE)[:-1]
    zero, one = np.zeros_like(along), np.ones_like(along)
    c = np.concatenate([along, one, 1 - along, zero]) * columns
    r = np.concatenate([zero, along, one, 1 - along]) * rows
    return [_ring(grid, c, r)]


def on_earth(grid: Grid, part: Any, size: Sequence[int]) -> Any:
    """Return a polygon in pixels of a grid resized to (rows, columns) in longitude and latitude."""
    import shapely

    fine = shapely.segmentize(part, max(size) / _EDGE)
    scale = np.array([grid.columns / size[1], grid.rows / size[0]])
    rings = [_lonlat(grid, *(np.asarray(ring.coords) * scale).T)
             for ring in (fine.exterior, *fine.interiors)]  # fmt: skip
    return _sound(shapely.Polygon(rings[0], rings[1:]))


def _sound(shape: Any) -> Any:
    """Return a valid polygon without positions that lie on a straight line between others."""
    import shapely

    x_min, y_min, x_max, y_max = shape.bounds
    slim = shapely.simplify(shape, 2e-6 * max(x_max - x_min, y_max - y_min))
    shape = shape if slim.is_empty else slim
    return shape if shape.is_valid else shapely.make_valid(shape)


def _ring(grid: Grid, columns: Any, rows: Any) -> Any:
    """Return a ring of pixel positions as a polygon in longitude and latitude."""
    import shapely

    return _sound(shapely.Polygon(_lonlat(grid, columns, rows)))


def _lonlat(grid: Grid, columns: Any, rows: Any) -> Any:
    """Return pixel positions of a ring as (n, 2) longitudes and latitudes."""
    if not grid.placed or grid.crs_text is None:
        raise GridMismatch("the raster has no place on the earth: it has no coordinate system; say "
                           "which it has (spectrane amend --crs)")  # fmt: skip
    x, y = grid.to_map(columns, rows)
    if grid.crs_text != LONLAT:
        x, y = way_between(grid.crs_text, LONLAT).transform(x, y)
    if not (np.isfinite(x).all() and np.isfinite(y).all()):
        raise GridMismatch("the raster's edge lies in part nowhere on the earth")
    x = np.unwrap(x, period=360.0)  # an edge goes the short way over the antimeridian
    return np.column_stack([x, y])


def _polygons(geometry: Mapping[str, Any]) -> Any:
    return _together(_parts(geometry))


def _parts(geometry: Mapping[str, Any]) -> list[Any]:
    import shapely

    found = shapely.geometry.shape(geometry)
    return list(getattr(found, "geoms", [found]))


def _together(parts: Sequence[Any]) -> Any:
    """Return parts as one geometry, moved by whole turns to lie beside the first."""
    import shapely

    middle = parts[0].centroid.x
    moved = []
    for part in parts:
        near = float(turned(np.array([part.centroid.x]), middle, 360.0)[0])
        by = near - part.centroid.x
        moved.append(_shifted(part, by))
    # Boxes that were cut at the antimeridian grow together again.
    return shapely.union_all(moved) if len(moved) > 1 else moved[0]


def _shifted(shape: Any, by: float) -> Any:
    import shapely

    return shapely.transform(shape, lambda points: points + np.array([by, 0.0]))


def geometry_on(area: SoughtArea, geometry: Mapping[str, Any]) -> Any:
    """Return an item's geometry on an area's equal-area map.

    Raises LookError for a geometry that is none.
    """
    import shapely

    try:
        parts = [one if one.is_valid else shapely.make_valid(one) for one in _parts(geometry)]
        return area.onto(_together(parts))
    except (shapely.errors.ShapelyError, ValueError, TypeError, KeyError, IndexError,
            AttributeError) as error:  # fmt: skip
        raise LookError(f"its geometry cannot be understood: {error}") from error


def split_geometry(parts: Sequence[Any]) -> dict[str, Any]:
    """Return polygons in longitude and latitude as GeoJSON, cut where they cross the antimeridian
    (RFC 7946, section 3.1.9).

    >>> import shapely
    >>> split_geometry([shapely.box(170, 0, 190, 10)])["type"]
    'MultiPolygon'
    """
    import shapely

    cut: list[Any] = []
    for part in parts:
        west, south, east, north = part.bounds
        first = int((west + 180) // 360)
        for turn in range(first, int((east + 180 - 1e-12) // 360) + 1):
            window = shapely.box(turn * 360 - 180, south - 1, turn * 360 + 180, north + 1)
            piece = shapely.intersection(part, window)
            moved = _shifted(piece, -360.0 * turn)
            cut += [one for one in getattr(moved, "geoms", [moved]) if one.area > 0]
    shape = shapely.MultiPolygon(cut) if len(cut) != 1 else cut[0]
    made: dict[str, Any] = _plain(shapely.geometry.mapping(shapely.orient_polygons(shape)))
    return made


def _plain(given: Any) -> Any:
    """Return a GeoJSON mapping with lists, and numbers to a tenth of a millimetre or so."""
    if isinstance(given, Mapping):
        return {key: _plain(value) for key, value in given.items()}
    if isinstance(given, list | tuple):
        return [_plain(one) for one in given]
    return round(given, 9) if isinstance(given, float) else given


def box_of(geometry: Mapping[str, Any]) -> list[float]:
    """Return west, south, east, north of a GeoJSON geometry; west is the greater where it crosses
    the antimeridian (RFC 7946, section 5.2).

    >>> box_of(box_geometry(170, 0, -175, 9))
    [170.0, 0.0, -175.0, 9.0]
    """
    bounds = [one.bounds for one in _parts(geometry)]
    south, north = min(one[1] for one in bounds), max(one[3] for one in bounds)
    west = [one[0] for one in bounds]
    east = [one[2] for one in bounds]
    crosses = 180.0 in east and -180.0 in west and not (min(west) == -180 and max(
        one[2] - one[0] for one in bounds) >= 360)  # fmt: skip
    if crosses:
        lefts = [one[0] for one in bounds if one[2] == 180.0]
        rights = [one[2] for one in bounds if one[0] == -180.0]
        return [float(min(lefts)), float(south), float(max(rights)), float(north)]
    return [float(min(west)), float(south), float(max(east)), float(north)]
