"""Vector shapes as people give them: the one door, with one rule of coordinate systems.

GeoJSON (RFC 7946; a mapping, a file, anything with ``__geo_interface__``), GeoPackage files, and
bounds. Their system is what the caller says; else what the file says; else, of GeoJSON, longitude
and latitude, and of bare geometries and bounds the raster's own.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.quiet import quiet
from spectrane.kernels.records import record
from spectrane.model.addresses import FileLike, file_name, is_address
from spectrane.model.errors import LookError, MetadataError, MissingFile
from spectrane.model.grid import CrsLike
from spectrane.model.regular_files import (
    ReadingAs,
    called_instead,
    given_name,
    open_regular,
    read_small,
    read_small_text,
)  # fmt: skip
from spectrane.model.systems import LONLAT, same_system, system_text, system_text_or_none
from spectrane.model.telling import warn_caller

Ring = NDArray[np.float64]
_LARGEST = 512 << 20
_FURTHEST = 1080.0
"""Longitudes beyond three turns are none."""
_SINGLE = {"Point": "point", "LineString": "line", "Polygon": "polygon"}
_LEAST = {"point": (1, "one position"), "line": (2, "two or more positions"),
          "polygon": (3, "three or more positions a ring")}  # fmt: skip


@record(frozen=True)
class Feature:
    """A shape: its name, its GeoJSON geometry, and what is said of it."""

    name: str
    geometry: Mapping[str, Any]
    properties: Mapping[str, Any]


@record(frozen=True)
class ShapePart:
    """A point, line or polygon: its rings or its only line, each (n, 2), not closed."""

    kind: str
    rings: tuple[Ring, ...]


@record(frozen=True)
class Shapes:
    """Features in one coordinate system: ``crs``; None: that of the raster they are brought to.

    ``assumed`` tells that nobody has said it, so that it is longitude and latitude (RFC 7946).
    ``option`` is what a caller sets to say another.

    >>> shapes = shapes_of({"type": "Point", "coordinates": [12, 48]})
    >>> shapes.crs, len(shapes.features)
    ('EPSG:4326', 1)
    """

    title: str
    features: tuple[Feature, ...]
    crs: str | None
    assumed: bool = False
    option: str = "crs"

    def __repr__(self) -> str:
        of = "the raster's own system" if self.crs is None else self.crs[:60]
        return f"<Shapes {self.title}: {len(self.features)} features in {of}>"

    @property
    def __geo_interface__(self) -> dict[str, Any]:
        """The features as GeoJSON, in their own coordinates."""
        features = [{"type": "Feature", "properties": dict(one.properties),
                     "geometry": one.geometry} for one in self.features]  # fmt: skip
        return {"type": "FeatureCollection", **system_member(self.crs), "features": features}

    def only(self, feature: Feature) -> Shapes:
        """Return one of the features alone.

        >>> shapes = shapes_of({"type": "Point", "coordinates": [12, 48]})
        >>> len(shapes.only(shapes.features[0]).features)
        1
        """
        return replace(self, features=(feature,))

    def parts(self, feature: Feature) -> Iterator[ShapePart]:
        """Yield the points, lines and polygons of a feature. Raises LookError for broken ones.

        >>> shapes = shapes_of({"type": "Point", "coordinates": [12, 48]})
        >>> [part.rings[0].tolist() for part in shapes.parts(shapes.features[0])]
        [[[12.0, 48.0]]]
        """
        for kind, held in _flat(feature.geometry):
            yield ShapePart(kind, tuple(_rings(kind, held, f"{self.title}: {feature.name}")))

    def check_degrees(self) -> None:
        """Raise LookError where the system was assumed and positions cannot be degrees.

        >>> shapes_of({"type": "Point", "coordinates": [12, 48]}).check_degrees()
        """
        if not self.assumed:
            return
        for feature in self.features:
            for part in self.parts(feature):
                for ring in part.rings:
                    far = (np.abs(ring) > (_FURTHEST, 90.0)).any(axis=1)
                    if far.any():
                        x, y = ring[int(far.argmax())].tolist()
                        raise LookError(
                            f"{self.title}: names no coordinate system, so that its positions are "
                            f"longitude and latitude (RFC 7946), and {x:.10g}, {y:.10g} cannot be "
                            f"degrees; say which system they are in: {self._said()}"
                        )

    def _said(self) -> str:
        if self.option == "crs":
            return "crs=EPSG:CODE; as an option --shape-crs, --points-crs or --outline-crs"
        return f"{self.option}=EPSG:CODE, or --{self.option.replace('_', '-')} EPSG:CODE"


def system_member(crs: str | None) -> dict[str, Any]:
    """Return what older GeoJSON (2008) says of a coordinate system: nothing of longitude and
    latitude, null where none is known.

    >>> system_member("EPSG:4326"), system_member(None)
    ({}, {'crs': None})
    """
    if crs == LONLAT:
        return {}
    return {"crs": None if crs is None else {"type": "name", "properties": {"name": crs}}}


@quiet
def read_shapes(
    path: FileLike, *, layer: str | None = None, crs: CrsLike | None = None,
    storage_options: Mapping[str, Any] | None = None,
) -> Shapes:  # fmt: skip
    """Read vector shapes from a GeoJSON or GeoPackage file; wherever shapes go, they go too.

    ``layer`` names one of a GeoPackage's layers; ``crs`` their coordinate system, where the file
    does not say it, or says it wrong. ``path`` may be an fsspec URL, with ``storage_options``,
    bytes or an open binary file. Raises LookError for what is neither, or holds no such layer.

    >>> import json, pathlib, tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = pathlib.Path(folder, "a.geojson")
    ...     _ = path.write_text(json.dumps({"type": "Point", "coordinates": [12, 48]}))
    ...     read_shapes(path).crs
    'EPSG:4326'
    """
    return shapes_of(path, crs=crs, layer=layer, storage_options=storage_options)


def shapes_of(
    given: Any, *, crs: Any = None, layer: str | None = None, option: str = "crs",
    storage_options: Mapping[str, Any] | None = None,
) -> Shapes:  # fmt: skip
    """Return shapes however they were given: see the module. ``option`` is for messages."""
    if hasattr(given, "ready") and hasattr(given, "shape"):  # an outline that is to be drawn
        given = given.ready().shape
    if isinstance(given, Shapes):
        return given if crs is None else replace(given, crs=system_text(crs), assumed=False)
    asked = system_text_or_none(crs)
    if is_address(given) or isinstance(given, bytes) or hasattr(given, "read") or storage_options:
        shapes, said, lonlat = _from_elsewhere(given, layer, storage_options)
    elif isinstance(given, str | os.PathLike):
        shapes, said, lonlat = _from_file(os.fspath(given), layer)
    else:
        shapes, said, lonlat = _from_object(given)
    if asked is not None and said is not None and not _same(asked, said):
        warn_caller(
            f"{shapes.title}: says that it is in {said[:80]}, and is taken to be in {asked[:80]}, "
            "as asked"
        )
    assumed = lonlat and asked is None and said is None
    return replace(shapes, crs=asked or said or (LONLAT if assumed else None), assumed=assumed,
                   option=option)  # fmt: skip


def _same(first: str, second: str) -> bool:
    try:
        return same_system(first, second)
    except MetadataError:
        return False


_Found = tuple[Shapes, str | None, bool]
"""Shapes, the system that they name themselves, and whether it is by RFC 7946 else."""


def _from_elsewhere(given: Any, layer: str | None, options: Mapping[str, Any] | None) -> _Found:
    name = given_name(given)
    data = read_small(given, _LARGEST, LookError, "GeoJSON or a GeoPackage", options)
    import tempfile

    with tempfile.TemporaryDirectory() as folder:  # SQLite reads files
        copy = os.path.join(folder, file_name(name))
        with open(copy, "wb") as file:
            file.write(data)
        with called_instead(copy, name):
            return _from_file(copy, layer)


def _from_file(name: str, layer: str | None) -> _Found:
    from spectrane.spatial.geopackage import is_geopackage, read_layer  # brings SQLite along

    title = file_name(name)
    try:
        os.close(open_regular(name))
    except MissingFile as error:
        raise MissingFile(f"{name}: no such file of shapes") from error
    if is_geopackage(name):
        rows, system = read_layer(name, layer)
        features = [_feature(geometry, said, number) for number, geometry, said in rows]
        return Shapes(title, tuple(features), None), system, False
    if layer is not None:
        raise LookError(f"{name}: layer {layer!r}: only GeoPackage files have layers")
    what = "GeoJSON or a GeoPackage"
    text = read_small_text(name, _LARGEST, LookError, what)
    with ReadingAs(name, LookError, what):
        return _from_mapping(json.loads(text), title, lonlat=True)


def _from_object(given: Any) -> _Found:
    if hasattr(given, "__geo_interface__") and not isinstance(given, Mapping):
        shapes, said, _ = _from_mapping(given.__geo_interface__, "the shape", lonlat=False)
        own = system_text_or_none(getattr(given, "crs", None))
        return shapes, said or own or getattr(getattr(given, "grid", None), "crs_text", None), False
    if isinstance(given, tuple | list) and len(given) == 4:
        return _from_mapping(_box(given), "the bounds", lonlat=False)
    return _from_mapping(given, "the shape", lonlat=True)


def _from_mapping(shape: Any, title: str, *, lonlat: bool) -> _Found:
    if not isinstance(shape, Mapping) or "type" not in shape:
        raise LookError(f"{title}: expected bounds, a GeoJSON object or path, not {shape!r:.80}")
    features = []
    for number, feature in enumerate(_listed(shape, title), 1):
        said, geometry = feature.get("properties"), feature.get("geometry")
        said = said if isinstance(said, Mapping) else {}
        if isinstance(geometry, Mapping):  # RFC 7946 allows features without a place
            features.append(_feature(geometry, said, feature.get("id") or number))
    lonlat = lonlat and not ("crs" in shape and shape["crs"] is None)  # null: no one knows (2008)
    return Shapes(title, tuple(features), None), _named_system(shape, title), lonlat


def _feature(geometry: Mapping[str, Any], said: Mapping[str, Any], number: Any) -> Feature:
    return Feature(str(said.get("name") or said.get("id") or number), geometry, said)


def _listed(shape: Mapping[str, Any], title: str) -> Sequence[Mapping[str, Any]]:
    if shape.get("type") == "FeatureCollection":
        listed = shape.get("features", [])
        if not isinstance(listed, list | tuple) or not all(
            isinstance(feature, Mapping) for feature in listed
        ):
            raise LookError(f"{title}: features is not a list of features")
        return listed
    return [shape if shape.get("type") == "Feature" else {"geometry": shape}]


def _named_system(shape: Mapping[str, Any], title: str) -> str | None:
    """Return the system that the ``crs`` member of older GeoJSON (2008) names."""
    member = shape.get("crs")
    if member is None:
        return None
    said = member.get("properties") if isinstance(member, Mapping) else None
    name = said.get("name") if isinstance(said, Mapping) else None
    if not isinstance(name, str) or not name:
        raise LookError(
            f"{title}: its crs member {member!r:.80} names no system (a link is not followed); say "
            "it by crs"
        )
    return LONLAT if "CRS84" in name else name


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


def _flat(geometry: Any, depth: int = 0) -> Iterator[tuple[str, Any]]:
    """Yield the kind and coordinates of the points, lines and polygons of a geometry."""
    if not isinstance(geometry, Mapping) or depth > 32:
        return
    kind, held = str(geometry.get("type")), geometry.get("coordinates")
    if kind in _SINGLE:
        yield _SINGLE[kind], held
    elif kind in ("MultiPoint", "MultiLineString", "MultiPolygon"):
        for one in held if isinstance(held, list | tuple) else ():
            yield _SINGLE[kind[5:]], one
    elif kind == "GeometryCollection":
        parts = geometry.get("geometries")
        for one in parts if isinstance(parts, list | tuple) else ():
            yield from _flat(one, depth + 1)


def _rings(kind: str, held: Any, where: str) -> Iterator[Ring]:
    if kind == "point":
        yield _positions([held], kind, where)
    elif kind == "line":
        yield _positions(held, kind, where)
    else:
        if not isinstance(held, list | tuple | np.ndarray) or not len(held):
            raise LookError(f"{where}: a polygon without a ring")
        for ring in held:
            yield _positions(ring, kind, where)


def _positions(points: Any, kind: str, where: str) -> Ring:
    """Return positions as (n, 2) numbers; heights and what follows them are left out."""
    try:
        array = np.array([[float(v) for v in point[:2]] for point in points], np.float64)
        if array.ndim != 2 or array.shape[1] != 2:
            raise ValueError("not two numbers each")
    except (TypeError, ValueError, OverflowError, KeyError) as error:
        raise LookError(f"{where}: a {kind}'s positions are no numbers: {error}") from error
    if kind == "polygon" and len(array) > 1 and (array[0] == array[-1]).all():
        array = array[:-1]
    least, said = _LEAST[kind]
    if len(array) < least or not np.isfinite(array).all():
        raise LookError(f"{where}: a {kind} needs {said}, each two finite numbers")
    return array
