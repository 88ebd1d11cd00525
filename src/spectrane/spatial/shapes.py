"""Shapes as people give them: GeoJSON, files of it, shapely geometries; brought onto a raster."""

from __future__ import annotations

import json
import os
import warnings
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.model.errors import DataWarning, GridMismatch, LookError
from spectrane.model.grid import Grid
from spectrane.model.source import Source
from spectrane.spatial.polygons import Polygons, Ring

_LARGEST = 512 << 20
_CURVED = 0.05
"""Edges that another system bends by more than so many pixels are broken up."""
_BREAKS = 12
LONLAT = "EPSG:4326"


def loaded(shape: Any) -> tuple[bool, Mapping[str, Any]]:
    """Return whether it is in longitude and latitude, and the GeoJSON object."""
    if hasattr(shape, "__geo_interface__") and not isinstance(shape, Mapping):
        return False, shape.__geo_interface__
    if isinstance(shape, tuple | list) and len(shape) == 4:
        return False, _box(shape)
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
    named = _crs_name(shape)
    return not named or "CRS84" in named or named.endswith(":4326"), shape


def _box(bounds: Sequence[Any]) -> Mapping[str, Any]:
    """Return bounds (x min, y min, x max, y max) as a polygon."""
    try:
        x_min, y_min, x_max, y_max = (float(value) for value in bounds)
    except (TypeError, ValueError) as error:
        raise LookError(f"bounds {bounds!r}: expected four numbers") from error
    if not (x_min < x_max and y_min < y_max):
        raise LookError(f"bounds {tuple(bounds)}: expected x min < x max and y min < y max")
    ring = [(x_min, y_min), (x_max, y_min), (x_max, y_max), (x_min, y_max)]
    return {"type": "Polygon", "coordinates": [ring]}


def _crs_name(shape: Mapping[str, Any]) -> str:
    member = shape.get("crs")
    said = member.get("properties") if isinstance(member, Mapping) else None
    return str(said.get("name", "")) if isinstance(said, Mapping) else ""


def features_of(shape: Any) -> list[tuple[str, Any]]:
    """Return (name, GeoJSON geometry) of each feature; a bare geometry is one, without a name."""
    _, found = loaded(shape)
    named = []
    for number, feature in enumerate(_features(found), 1):
        said = feature.get("properties")
        said = said if isinstance(said, Mapping) else {}
        name = str(said.get("name") or said.get("id") or feature.get("id") or number)
        if not isinstance(feature.get("geometry"), Mapping):
            continue  # RFC 7946 allows features without a place
        named.append((name, feature["geometry"]))
    return named


def _features(found: Mapping[str, Any]) -> Sequence[Mapping[str, Any]]:
    if found.get("type") == "FeatureCollection":
        listed = found.get("features", [])
        if not isinstance(listed, list) or not all(isinstance(one, Mapping) for one in listed):
            raise LookError("GeoJSON: features is not a list of features")
        return listed
    return [found if found.get("type") == "Feature" else {"geometry": found}]


def polygons_of(
    source: Source, shape: Any, *, crs: str | None = None, lonlat: bool | None = None
) -> Polygons:
    """Return a shape's polygons in pixel positions of a raster.

    GeoJSON is longitude and latitude (RFC 7946) unless it names another system; a bare geometry,
    or bounds, are in the raster's own. ``crs`` says otherwise. A ring that crosses itself is
    mended, with a warning. Raises LookError for what holds no polygon, GridMismatch for what
    cannot be brought to the raster's system.
    """
    told, _ = loaded(shape)
    given = crs or _named_crs(shape) or (
        LONLAT if (told if lonlat is None else lonlat) else None)  # fmt: skip
    found: list[list[Ring]] = []
    for _, geometry in features_of(shape):
        found += _polygons(geometry)
    if not found:
        raise LookError("region: expected a Polygon or MultiPolygon with at least one ring")
    found = _mended(found)
    way = way_to(source.grid, given)
    inverse = np.asarray(np.linalg.inv(source.grid.matrix), np.float64)
    exteriors = [brought(polygon[0], way, inverse) for polygon in found]
    holes = [brought(ring, way, inverse) for polygon in found for ring in polygon[1:]]
    return Polygons.of(exteriors, holes)


def _named_crs(shape: Any) -> str | None:
    """Return the system that older GeoJSON names, where it is not longitude and latitude."""
    lonlat, found = loaded(shape)
    return None if lonlat else _crs_name(found) or None


def _polygons(geometry: Any) -> list[list[Ring]]:
    if not isinstance(geometry, Mapping):
        return []
    kind = geometry.get("type")
    if kind == "Polygon":
        return [_checked(geometry.get("coordinates"))]
    if kind == "MultiPolygon":
        parts = geometry.get("coordinates")
        return [_checked(part) for part in (parts if isinstance(parts, list | tuple) else ())]
    if kind == "GeometryCollection":
        return [one for part in parts_of(geometry) for one in _polygons(part)]
    return []


def parts_of(collection: Mapping[str, Any]) -> Sequence[Any]:
    """Return the geometries of a GeometryCollection."""
    found = collection.get("geometries")
    return found if isinstance(found, list | tuple) else ()


def _checked(rings: Any) -> list[Ring]:
    found = []
    try:
        for ring in rings:
            array = np.asarray(ring, np.float64)
            if array.ndim != 2 or array.shape[1] < 2 or not np.isfinite(array[:, :2]).all():
                raise ValueError
            if len(array) > 1 and (array[0, :2] == array[-1, :2]).all():
                array = array[:-1]
            if len(array) < 3:
                raise ValueError
            found.append(np.ascontiguousarray(array[:, :2]))
    except (TypeError, ValueError) as error:
        raise LookError(
            "polygon: expected rings of three or more positions, each two finite numbers"
        ) from error
    if not found:
        raise LookError("polygon: has no ring")
    return found


def _mended(polygons: list[list[Ring]]) -> list[list[Ring]]:
    """Return the polygons with rings that cross themselves taken apart, and say so."""
    import shapely

    made = np.array([
        shapely.polygons(
            shapely.linearrings(rings[0]), [shapely.linearrings(hole) for hole in rings[1:]] or None
        )
        for rings in polygons
    ])  # fmt: skip
    valid = shapely.is_valid(made)
    if valid.all():
        return polygons
    wrong = np.flatnonzero(~valid)
    reason = shapely.is_valid_reason(made[wrong[0]])
    warnings.warn(
        f"{len(wrong)} of {len(polygons)} polygons cross or touch themselves ({reason}) and were "
        "mended by the even-odd rule; check that the area is the one meant", DataWarning,
        stacklevel=3,
    )  # fmt: skip
    found = [polygons[k] for k in np.flatnonzero(valid)]
    for part in shapely.get_parts(shapely.make_valid(made[wrong])).tolist():
        for one in shapely.get_parts(part).tolist():
            if one.geom_type == "Polygon" and not one.is_empty:
                rings = [one.exterior, *one.interiors]
                found.append([np.asarray(ring.coords)[:-1, :2] for ring in rings])
    if not found:
        raise LookError("the polygons have no area")
    return found


def way_to(grid: Grid, given: str | None) -> Any:
    """Return the way from a shape's system to a grid's; None where they are one or unknown."""
    system = grid.crs
    if given is None or system is None or not grid.placed:
        return None
    import pyproj

    try:
        if pyproj.CRS.from_user_input(given) == system:
            return None
        return pyproj.Transformer.from_crs(given, system, always_xy=True)
    except pyproj.exceptions.ProjError as error:
        raise GridMismatch(f"shape: its system {given!r} cannot be used: {error}") from error


def brought(
    points: Ring, way: Any, inverse: NDArray[np.float64], *, closed: bool = True,
    curved: float = _CURVED,
) -> Ring:  # fmt: skip
    """Return a line's pixel positions, with more points where straight edges become bent ones.

    ``inverse`` takes the map to pixels; an edge is broken up where it bends by more than ``curved``
    of them. Raises GridMismatch where a point has no place on the map.
    """
    for _ in range(_BREAKS if way is not None and len(points) > 1 else 0):
        following = np.roll(points, -1, axis=0)
        ends, middles = _through(points, way), _through((points + following) / 2, way)
        off = (middles - (ends + np.roll(ends, -1, axis=0)) / 2) @ inverse[:2, :2].T
        bent = np.hypot(off[:, 0], off[:, 1]) > curved
        if not closed:
            bent[-1] = False
        where = np.flatnonzero(bent)
        if not where.size:
            break
        points = np.insert(points, where + 1, ((points + following) / 2)[where], axis=0)
    placed = points if way is None else _through(points, way)
    return np.asarray(placed @ inverse[:2, :2].T + inverse[:2, 2])


def _through(points: Ring, way: Any) -> Ring:
    x, y = way.transform(points[:, 0], points[:, 1])
    if not (np.isfinite(x).all() and np.isfinite(y).all()):
        raise GridMismatch("the shape cannot be brought to the raster's coordinate system")
    return np.column_stack([x, y])
