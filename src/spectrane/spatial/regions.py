"""A part of a raster as people say it: bounds, rows and columns, or a polygon."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from typing import Any

from spectrane.model.addresses import has_ending
from spectrane.model.errors import GridMismatch, LookError, nearest
from spectrane.model.grid import CrsLike
from spectrane.model.regular_files import ReadingAs
from spectrane.model.source import Source
from spectrane.model.systems import system_text_or_none
from spectrane.model.view import View
from spectrane.model.window import Window, whole
from spectrane.spatial.clipping import Within
from spectrane.spatial.onto_pixels import polygons_of
from spectrane.spatial.point_files import read_points
from spectrane.spatial.rolled import seen
from spectrane.spatial.shapes import Feature, Shapes, shapes_of

Place = tuple[str, int, int]
"""A point's name, and the row and column (from 0) it lies at."""
_KEYS = ("bounds", "rows", "columns", "polygon")


def region_of(source: Source, region: Any) -> tuple[Source, Window]:
    """Return a source and the window of it that a region is; a polygon masks what lies outside.

    ``region`` is None (everything), a View, map bounds, a mapping with ``bounds``, ``rows`` and
    ``columns`` or ``polygon``, or shapes, as ``spatial.shapes`` reads them.

    Raises GridMismatch where the region misses the raster, LookError for what is no region.
    """
    if region is None:
        return source, whole(source.shape)
    if isinstance(region, View):
        return seen(source, region)
    if isinstance(region, Mapping) and "type" not in region:
        return _from_mapping(source, region)
    if isinstance(region, tuple | list) and len(region) == 4:
        return seen(source, View(bounds=tuple(region)))
    polygons = polygons_of(source.grid, region)
    window = polygons.window(source.shape)
    if window is None:
        raise GridMismatch(
            f"the polygon does not touch the raster, which covers {source.grid.bounds}"
        )
    return Within(source, polygons), window


def _from_mapping(source: Source, region: Mapping[str, Any]) -> tuple[Source, Window]:
    for key in region:
        if key not in _KEYS:
            raise LookError(f"region: no key {key!r}{nearest(str(key), _KEYS)}")
    if "polygon" in region:
        return region_of(source, region["polygon"])
    with ReadingAs("region", LookError, problem="is none"):
        given: dict[str, Any] = {key: tuple(value) for key, value in region.items()}
        view = View(**given)
    return seen(source, view)


Zone = tuple[str, Source, Window | None]
"""A zone's name, the source masked to it, and the window that holds it; None outside the raster."""


def zones_of(source: Source, points: Any, crs: CrsLike | None = None) -> list[Zone]:
    """Return points, a pixel each, and polygons, masked; some may lie outside the raster.

    ``points``: shapes of points and polygons, or what ``point_places`` takes. Raises GridMismatch
    where all lie outside.
    """
    if not _are_shapes(points):
        return [_pixel(source, place) for place in point_places(source, points, crs)]
    shapes = shapes_of(points, crs=crs, option="points_crs")
    zones: list[Zone] = []
    missed: GridMismatch | None = None
    for feature in shapes.features:
        try:
            if feature.geometry.get("type") == "Point":
                zones.append(_pixel(source, point_places(source, [_point(shapes, feature)])[0]))
            else:
                zones.append((feature.name, *region_of(source, shapes.only(feature))))
        except GridMismatch as error:
            zones.append((feature.name, source, None))
            missed = error
    if missed is not None and all(window is None for _, _, window in zones):
        raise missed
    return zones


def _are_shapes(points: Any) -> bool:
    if isinstance(points, str | os.PathLike):
        return not has_ending(os.fspath(points), ".csv")
    return isinstance(points, Shapes) or hasattr(points, "__geo_interface__") or (
        isinstance(points, Mapping) and "type" in points
    )  # fmt: skip


def _pixel(source: Source, place: Place) -> Zone:
    name, row, column = place
    inside = is_inside(source, place)
    return name, source, ((row, row + 1), (column, column + 1)) if inside else None


def point_places(source: Source, points: Any, crs: CrsLike | None = None) -> list[Place]:
    """Return (name, row, column) of points: shapes, a CSV path, a table, or mappings.

    A mapping has x and y (in ``crs``, or the raster's own system), or row and column (from 0),
    and a name. Some may lie outside the raster. Raises GridMismatch where all do, LookError for
    what is no point.
    """
    places = [_place(source, point, number, crs)
              for number, point in enumerate(named_points(points, crs), 1)]  # fmt: skip
    if places and not any(is_inside(source, place) for place in places):
        name, row, column = places[0]
        rows, columns = source.shape
        raise GridMismatch(
            f"point {name}: row {row}, column {column} lie outside the raster's {rows} rows and "
            f"{columns} columns, which cover {source.grid.bounds}"
            + ("; so do all the others" if len(places) > 1 else "")
        )
    return places


def is_inside(source: Source, place: Place) -> bool:
    """Tell whether a place is one of a raster's pixels."""
    _, row, column = place
    return 0 <= row < source.shape[0] and 0 <= column < source.shape[1]


def listed_points(points: Any, crs: CrsLike | None = None) -> Iterable[Mapping[str, Any]]:
    """Return mappings of points given as a CSV path, shapes, a table, or mappings."""
    if isinstance(points, str | os.PathLike) and has_ending(os.fspath(points), ".csv"):
        return read_points(points)
    if _are_shapes(points):
        shapes = shapes_of(points, crs=crs, option="points_crs")
        return [_point(shapes, feature) for feature in shapes.features]
    if hasattr(points, "to_dict"):
        records: list[Mapping[str, Any]] = points.to_dict("records")
        return records
    return [points] if isinstance(points, Mapping) else list(points)


def named_points(points: Any, crs: CrsLike | None = None) -> Iterable[Mapping[str, Any]]:
    """Return points that say which number is which, or raise LookError."""
    listed = listed_points(points, crs)
    for number, one in enumerate(listed, 1):
        if not isinstance(one, Mapping):
            raise LookError(f"point {number}: {one!r} does not say which number is which; expected "
                            'such as {"x": 1, "y": 2}, or {"row": 1, "column": 2}; of volumes '
                            '{"x": 1, "y": 2, "z": 3} in mm, or i, j and k')  # fmt: skip
    return listed


def _point(shapes: Shapes, feature: Feature) -> Mapping[str, Any]:
    parts = list(shapes.parts(feature))
    if len(parts) != 1 or parts[0].kind != "point":
        kind = feature.geometry.get("type")
        raise LookError(f"{shapes.title}: {feature.name} is a {kind}; expected points")
    shapes.only(feature).check_degrees()
    x, y = parts[0].rings[0][0].tolist()
    return {"name": feature.name, "x": x, "y": y, "crs": shapes.crs}


def _pixel_at(source: Source, x: float, y: float, crs: CrsLike | None) -> tuple[int, int]:
    """Return the row and column of a map position; of a swath, those of the nearest pixel."""
    if source.geolocation is None or source.grid.placed:
        x, y = View(center=(x, y), pixel=1.0, size=(1, 1), crs=crs).middle(source.grid)
        return source.grid.locate(x=x, y=y)
    from spectrane.spatial.swaths import located

    return located(source.geolocation, x, y, system_text_or_none(crs))


def _place(source: Source, given: Mapping[str, Any], number: int, crs: CrsLike | None) -> Place:
    name = str(given.get("name") or number)
    try:
        if given.get("x") is not None and given.get("y") is not None:
            x, y = float(given["x"]), float(given["y"])
            row, column = _pixel_at(source, x, y, given.get("crs") or crs)
        else:
            row, column = int(given["row"]), int(given["column"])
    except (KeyError, ValueError, TypeError, OverflowError) as error:
        if isinstance(error, LookError | GridMismatch):
            raise
        raise LookError(
            f"point {name}: expected x and y, or row and column, not {dict(given)!r}"
        ) from error
    return name, row, column
