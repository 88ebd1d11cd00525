"""Shapes and points as GeoJSON (RFC 7946) and GeoPackage files."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from typing import Any

from spectrane.kernels.quiet import quiet
from spectrane.model.addresses import file_stem
from spectrane.model.asking import PointsLike, ShapeLike
from spectrane.model.errors import FormatError, LookError
from spectrane.model.grid import CrsLike
from spectrane.model.systems import LONLAT, same_system
from spectrane.model.targets import Target, local_place
from spectrane.model.whole_files import written_whole
from spectrane.spatial.shapes import Feature, Shapes, shapes_of

_PLACES = (("x", "y"), ("longitude", "latitude"), ("lon", "lat"))


@quiet
def save_shapes(
    shapes: ShapeLike | PointsLike, path: Target, *, crs: CrsLike | None = None,
    layer: str | None = None, overwrite: bool = False, ending: str | None = None,
    storage_options: Mapping[str, Any] | None = None,
) -> None:  # fmt: skip
    """Write shapes, or a table of points, as ``.geojson`` or ``.gpkg``.

    ``shapes`` is whatever takes shapes elsewhere: GeoJSON such as ``mask.to_polygons()``, an
    ``Outline``, a geometry, a grid; or a table (or list of mappings) with x and y, or longitude and
    latitude, whose other columns become properties. ``crs`` is their system where they do not say
    it. GeoJSON is brought to longitude and latitude, as RFC 7946 wants it; where no system is known
    the numbers stay, and ``crs`` is null. A GeoPackage keeps their own; ``layer`` names its layer
    (else the file's name). ``path`` may be an fsspec URL, with ``storage_options``, or an open
    binary file, whose format ``ending`` says. Raises FormatError for another ending, LookError for
    what is no shape, ExistingFile, AccessError.

    >>> import json, pathlib, spectrane as sp, tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = pathlib.Path(folder, "a.geojson")
    ...     sp.save_shapes([{"lon": 12.0, "lat": 48.0, "name": "weir"}], path)
    ...     json.loads(path.read_text())["features"][0]["geometry"]
    {'type': 'Point', 'coordinates': [12.0, 48.0]}
    """
    found = _points(shapes, crs) or shapes_of(shapes, crs=crs)
    with local_place(path, ending=ending, overwrite=overwrite,
                     storage_options=storage_options) as place:  # fmt: skip
        data = _data_of(found, place, layer)
        with written_whole(place, overwrite=overwrite) as file:
            file.write(data)


def _data_of(found: Shapes, name: str, layer: str | None) -> bytes:
    """Return shapes as a file of the format that a name's ending says."""
    ending = os.path.splitext(name)[1].lower()
    if ending in (".geojson", ".json"):
        if layer is not None:
            raise LookError(f"{name}: layer {layer!r}: GeoJSON has no layers")
        return json.dumps(geojson_of(found), ensure_ascii=False).encode()
    if ending == ".gpkg":
        from spectrane.spatial.geopackage_writing import geopackage_bytes

        title = layer or file_stem(name)
        return geopackage_bytes(found, title)
    raise FormatError(f"{name}: shapes are written as .geojson or .gpkg")


def geojson_of(shapes: Shapes) -> dict[str, Any]:
    """Return shapes as a FeatureCollection, in longitude and latitude where a system is known."""
    crs = shapes.crs
    if crs is not None and not same_system(crs, LONLAT):
        shapes = _in_degrees(shapes)
    member = {"crs": None} if crs is None else {}
    features = [{"type": "Feature", "properties": _plain(one.properties), "geometry": one.geometry}
                for one in shapes.features]  # fmt: skip
    return {"type": "FeatureCollection", **member, "features": features}


def _in_degrees(shapes: Shapes) -> Shapes:
    import pyproj
    import shapely
    from shapely.geometry import mapping, shape

    way = pyproj.Transformer.from_crs(shapes.crs, LONLAT, always_xy=True)
    features = []
    for one in shapes.features:
        moved = shapely.transform(shape(one.geometry), lambda at: _moved(way, at))
        features.append(Feature(one.name, mapping(moved), one.properties))
    return Shapes(shapes.title, tuple(features), LONLAT)


def _moved(way: Any, positions: Any) -> Any:
    import numpy as np

    x, y = way.transform(positions[:, 0], positions[:, 1])
    if not np.isfinite([x, y]).all():
        raise LookError("shapes: some positions have no longitude and latitude in their system")
    return np.round(np.stack([x, y], axis=1), 9)  # a tenth of a millimetre


def _plain(properties: Mapping[str, Any]) -> dict[str, Any]:
    """Return properties as JSON has them: what it has no word for is null or text."""
    found = {}
    for name, value in properties.items():
        value = value.item() if hasattr(value, "item") else value
        if isinstance(value, float) and value - value != 0:
            value = None
        kept = value is None or isinstance(value, bool | int | float | str | list | dict)
        found[str(name)] = value if kept else str(value)
    return found


def _points(given: Any, crs: CrsLike | None) -> Shapes | None:
    """Return a table's rows as points; None where it is no table of positions."""
    if isinstance(given, list | tuple) and given and all(isinstance(one, Mapping) for one in given):
        rows = [dict(one) for one in given]
    elif hasattr(given, "to_dict") and hasattr(given, "columns"):
        rows = given.reset_index().to_dict("records") if given.index.name else (
            given.to_dict("records"))  # fmt: skip
    else:
        return None
    keys = next((pair for pair in _PLACES if rows and set(pair) <= rows[0].keys()), None)
    if keys is None:
        if hasattr(given, "columns"):
            raise LookError("points: a table needs the columns x and y, or longitude and latitude")
        return None
    features = []
    for number, row in enumerate(rows, 1):
        at = [float(row.pop(key)) for key in keys]
        name = str(row.get("name", row.get("point", number)))
        features.append(Feature(name, {"type": "Point", "coordinates": at}, _plain(row)))
    said = LONLAT if keys != ("x", "y") and crs is None else crs
    return shapes_of(Shapes("the points", tuple(features), None), crs=said)
