"""A part of a raster as people say it: bounds, rows and columns, or a polygon."""

from __future__ import annotations

import csv
import json
import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

import numpy as np

from spectrane.model.errors import GridMismatch, LookError, MetadataError, nearest
from spectrane.model.source import Source
from spectrane.model.view import View
from spectrane.model.window import Window, whole
from spectrane.spatial.polygons import Ring, Within, bounds_of

Place = tuple[str, int, int]
"""A point's name, and the row and column (from 0) it lies at."""
_KEYS = ("bounds", "rows", "columns", "polygon")
_LARGEST = 512 << 20


def region_of(source: Source, region: Any, lonlat: bool | None = None) -> tuple[Source, Window]:
    """Return a source and the window of it that a region is; a polygon masks what lies outside.

    ``region`` is None (everything), a View, map bounds, a mapping with ``bounds``, ``rows`` and
    ``columns`` or ``polygon``, a GeoJSON mapping or path, or a shapely geometry. GeoJSON is
    longitude and latitude (RFC 7946); a bare geometry is in the raster's own system; ``lonlat``
    says otherwise.

    Raises GridMismatch where the region misses the raster, LookError for what is no region.
    """
    if region is None:
        return source, whole(source.shape)
    if isinstance(region, View):
        return source, region.window(source.grid)
    if isinstance(region, Mapping) and "type" not in region:
        return _from_mapping(source, region)
    if isinstance(region, tuple | list) and len(region) == 4:
        return source, View(bounds=tuple(region)).window(source.grid)
    rings = rings_of(source, region, lonlat)
    window = bounds_of(rings, source.shape)
    if window is None:
        raise GridMismatch(
            f"the polygon does not touch the raster, which covers {source.grid.bounds}"
        )
    return Within(source, rings), window


def _from_mapping(source: Source, region: Mapping[str, Any]) -> tuple[Source, Window]:
    for key in region:
        if key not in _KEYS:
            raise LookError(f"region: no key {key!r}{nearest(str(key), _KEYS)}")
    if "polygon" in region:
        return region_of(source, region["polygon"])
    given: dict[str, Any] = {key: tuple(value) for key, value in region.items()}
    return source, View(**given).window(source.grid)


def rings_of(source: Source, shape: Any, lonlat: bool | None = None) -> list[Ring]:
    """Return a shape's rings in corner-based (column, row) positions of a raster."""
    told, geometry = _geometry(shape)
    lonlat = told if lonlat is None else lonlat
    found = [np.asarray(ring, np.float64)[:, :2] for ring in _rings(geometry)]
    if not found:
        raise LookError("region: expected a Polygon or MultiPolygon with at least one ring")
    if lonlat:
        found = [_to_map(source, ring) for ring in found]
    inverse = np.linalg.inv(source.grid.matrix)
    return [ring @ inverse[:2, :2].T + inverse[:2, 2] for ring in found]


def zones_of(
    source: Source, points: Any, crs: str | None = None
) -> list[tuple[str, Source, Window]]:
    """Return (name, source, window) of points, a pixel each, and of polygons, masked.

    ``points``: GeoJSON of points and polygons, or what ``point_places`` takes.
    """
    if not _is_geojson(points):
        return [_pixel(source, place) for place in point_places(source, points, crs)]
    found = []
    lonlat, _ = _loaded(points)
    for name, geometry in features_of(points):
        if geometry["type"] == "Point":
            one = _point(name, geometry, lonlat)
            found.append(_pixel(source, point_places(source, [one])[0]))
        else:
            found.append((name, *region_of(source, geometry, lonlat)))
    return found


def _is_geojson(points: Any) -> bool:
    if isinstance(points, str | os.PathLike):
        return not os.fspath(points).lower().endswith(".csv")
    return hasattr(points, "__geo_interface__") or (
        isinstance(points, Mapping) and "type" in points
    )


def _pixel(source: Source, place: Place) -> tuple[str, Source, Window]:
    name, row, column = place
    return name, source, ((row, row + 1), (column, column + 1))


def point_places(source: Source, points: Any, crs: str | None = None) -> list[Place]:
    """Return (name, row, column) of points: GeoJSON, a CSV path, a table, or mappings.

    A mapping has x and y (in ``crs``, or the raster's own system), or row and column (from 0),
    and a name. Raises GridMismatch for a point outside, LookError for what is no point.
    """
    return [_place(source, one, number, crs) for number, one in enumerate(listed_points(points), 1)]


def listed_points(points: Any) -> Iterable[Mapping[str, Any]]:
    """Return mappings of points given as a CSV path, GeoJSON, a table, or mappings."""
    if isinstance(points, str | os.PathLike) and os.fspath(points).lower().endswith(".csv"):
        try:
            with open(points, newline="", encoding="utf-8-sig") as file:
                return [dict(row) for row in csv.DictReader(file, skipinitialspace=True)]
        except (OSError, ValueError, csv.Error) as error:
            raise LookError(f"{os.fspath(points)}: points cannot be read: {error}") from error
    if _is_geojson(points):
        lonlat, _ = _loaded(points)
        return [_point(name, geometry, lonlat) for name, geometry in features_of(points)]
    if hasattr(points, "to_dict"):
        records: list[Mapping[str, Any]] = points.to_dict("records")
        return records
    return [points] if isinstance(points, Mapping) else list(points)


def _point(name: str, geometry: Mapping[str, Any], lonlat: bool) -> Mapping[str, Any]:
    if geometry["type"] != "Point":
        raise LookError(f"points: {name} is a {geometry['type']}; expected points")
    x, y = geometry["coordinates"][:2]
    return {"name": name, "x": x, "y": y} | ({"crs": "EPSG:4326"} if lonlat else {})


def _place(source: Source, given: Mapping[str, Any], number: int, crs: str | None) -> Place:
    name = str(given.get("name") or number)
    try:
        if given.get("x") is not None and given.get("y") is not None:
            view = View(center=(float(given["x"]), float(given["y"])), pixel=1.0, size=(1, 1),
                        crs=given.get("crs", crs))  # fmt: skip
            x, y = view.middle(source.grid)
            row, column = source.grid.locate(x=x, y=y)
        else:
            row, column = int(given["row"]), int(given["column"])
    except (KeyError, ValueError, TypeError, OverflowError) as error:
        if isinstance(error, LookError | GridMismatch):
            raise
        raise LookError(
            f"point {name}: expected x and y, or row and column, not {dict(given)!r}"
        ) from error
    rows, columns = source.shape
    if not (0 <= row < rows and 0 <= column < columns):
        raise GridMismatch(
            f"point {name}: row {row}, column {column} lie outside the raster's {rows} rows and "
            f"{columns} columns, which cover {source.grid.bounds}"
        )
    return name, row, column


def features_of(shape: Any) -> list[tuple[str, Any]]:
    """Return (name, GeoJSON geometry) of each feature; a bare geometry is one, without a name."""
    _, found = _loaded(shape)
    if found.get("type") == "FeatureCollection":
        features = found.get("features", [])
    else:
        features = [found if found.get("type") == "Feature" else {"geometry": found}]
    named = []
    for number, feature in enumerate(features, 1):
        said = feature.get("properties") or {}
        name = str(said.get("name") or said.get("id") or feature.get("id") or number)
        named.append((name, feature["geometry"]))
    return named


def _geometry(shape: Any) -> tuple[bool, Mapping[str, Any]]:
    lonlat, found = _loaded(shape)
    if found.get("type") == "FeatureCollection":
        parts = [feature["geometry"] for feature in found.get("features", [])]
        return lonlat, {"type": "GeometryCollection", "geometries": parts}
    return lonlat, found["geometry"] if found.get("type") == "Feature" else found


def _loaded(shape: Any) -> tuple[bool, Mapping[str, Any]]:
    """Return whether it is in longitude and latitude, and the GeoJSON object."""
    if hasattr(shape, "__geo_interface__") and not isinstance(shape, Mapping):
        return False, shape.__geo_interface__
    if isinstance(shape, str | os.PathLike):
        name = os.fspath(shape)
        try:
            if os.path.getsize(name) > _LARGEST:
                raise LookError(f"{name}: is larger than {_LARGEST >> 20} MB")
            with open(name, encoding="utf-8") as file:
                shape = json.load(file)
        except (OSError, ValueError) as error:
            raise LookError(f"{name}: not GeoJSON: {error}") from error
    if not isinstance(shape, Mapping) or "type" not in shape:
        raise LookError(f"region: expected bounds, a GeoJSON object or path, not {shape!r:.80}")
    named = (shape.get("crs") or {}).get("properties", {}).get("name", "")
    return not named or "CRS84" in named or named.endswith(":4326"), shape


def _rings(geometry: Mapping[str, Any]) -> Iterator[Sequence[Any]]:
    kind = geometry.get("type")
    if kind == "Polygon":
        yield from geometry["coordinates"]
    elif kind == "MultiPolygon":
        for polygon in geometry["coordinates"]:
            yield from polygon
    elif kind == "GeometryCollection":
        for part in geometry.get("geometries", []):
            yield from _rings(part)


def _to_map(source: Source, ring: Ring) -> Ring:
    """Bring longitude and latitude to the raster's system; as they are where it has none."""
    try:
        system = source.grid.crs
    except MetadataError:
        system = None
    if system is None or not source.grid.placed:
        return ring
    import pyproj

    turn = pyproj.Transformer.from_crs("EPSG:4326", system, always_xy=True)
    x, y = turn.transform(ring[:, 0], ring[:, 1])
    if not (np.isfinite(x).all() and np.isfinite(y).all()):
        raise GridMismatch("the shape cannot be brought to the raster's coordinate system")
    return np.column_stack([x, y])
