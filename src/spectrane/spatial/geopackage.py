"""Vector layers of a GeoPackage (OGC 12-128r19): SQLite tables with geometry blobs.

What is read is data only: the file is opened read-only, its own triggers and functions are not
trusted, and a query that takes too long is stopped.
"""

from __future__ import annotations

import contextlib
import json
import os
import sqlite3
import struct
import time
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from spectrane.model.errors import LookError, nearest
from spectrane.model.regular_files import ReadingAs, open_regular
from spectrane.model.systems import LONLAT

MARK = b"SQLite format 3\0"
_ENVELOPES = {0: 0, 1: 32, 2: 48, 3: 48, 4: 64}
"""Bytes of the envelope before the geometry, by its code in the blob's flags (2.1.3)."""
_SECONDS = 60.0
_MOST = 10_000_000
Row = tuple[Any, Mapping[str, Any], Mapping[str, Any]]
"""A feature: its number, its GeoJSON geometry, and its attributes."""


def is_geopackage(path: str) -> bool:
    """Tell whether a file is an SQLite database."""
    try:
        with os.fdopen(open_regular(path), "rb") as file:
            return bool(file.read(len(MARK)) == MARK)
    except OSError:
        return False


def read_layer(path: str, layer: str | None = None) -> tuple[list[Row], str | None]:
    """Return the features of a layer, and the text of its coordinate system.

    None: the table says "undefined Cartesian" (srs_id -1). Without a name the only layer is read.
    Raises LookError for what is no GeoPackage, or has no such layer, or several and none is named.
    """
    problem = "not a GeoPackage that can be read"
    with ReadingAs(path, LookError, problem=problem), contextlib.closing(_opened(path)) as base:
        table, column, srs = _chosen(path, _layers(base), layer)
        system = _system(base, srs)
        return list(_features(base, path, table, column)), system


def _opened(path: str) -> sqlite3.Connection:
    """Open a database for reading; one that nobody may write beside is read as it stands."""
    address = Path(path).absolute().as_uri()
    until = time.monotonic() + _SECONDS
    last: Exception | None = None
    for more in ("?mode=ro", "?mode=ro&immutable=1"):
        try:
            base = sqlite3.connect(address + more, uri=True)
            base.execute("PRAGMA trusted_schema = OFF")
            base.set_progress_handler(lambda: time.monotonic() > until, 100_000)
            base.execute("SELECT 1 FROM sqlite_master LIMIT 1").fetchall()
            return base
        except sqlite3.Error as error:
            last = error
    raise LookError(f"{path}: not a GeoPackage that can be read: {last}")


def _layers(base: sqlite3.Connection) -> dict[str, tuple[str, int]]:
    """Return the geometry column and system of each layer of features."""
    rows = base.execute(
        "SELECT c.table_name, g.column_name, g.srs_id FROM gpkg_contents c "
        "JOIN gpkg_geometry_columns g ON lower(g.table_name) = lower(c.table_name) "
        "WHERE c.data_type = 'features' ORDER BY c.rowid LIMIT 10000"
    )
    return {str(table): (str(column), int(srs)) for table, column, srs in rows}


def _chosen(
    path: str, layers: Mapping[str, tuple[str, int]], layer: str | None
) -> tuple[str, str, int]:
    if not layers:
        raise LookError(f"{path}: holds no layer of features")
    if layer is None:
        if len(layers) > 1:
            raise LookError(
                f"{path}: holds {len(layers)} layers; say which: --layer NAME, or "
                f"read_shapes(path, layer=…): {', '.join(layers)}"
            )
        layer = next(iter(layers))
    if layer not in layers:
        raise LookError(f"{path}: no layer {layer!r}{nearest(layer, layers)}")
    return layer, *layers[layer]


def _system(base: sqlite3.Connection, srs: int) -> str | None:
    if srs in (0, -1):
        return LONLAT if srs == 0 else None  # undefined geographic, undefined Cartesian
    row = base.execute(
        "SELECT organization, organization_coordsys_id, definition FROM gpkg_spatial_ref_sys "
        "WHERE srs_id = ?", (srs,),
    ).fetchone()  # fmt: skip
    if row is None:
        return f"EPSG:{srs}"
    organization, code, definition = row
    known = str(organization).upper() in ("EPSG", "OGC", "ESRI")
    return f"{str(organization).upper()}:{code}" if known else str(definition)


def _features(base: sqlite3.Connection, path: str, table: str, column: str) -> Iterator[Row]:
    rows = base.execute(f"SELECT * FROM {_quoted(table)} LIMIT {_MOST}")
    names = [str(one[0]) for one in rows.description]
    keys = {str(row[1]) for row in base.execute(f"PRAGMA table_info({_quoted(table)})") if row[5]}
    if column not in names:
        raise LookError(f"{path}: the layer {table!r} has no column {column!r}")
    for number, row in enumerate(rows, 1):
        held = dict(zip(names, row, strict=True))
        blob = held.pop(column)
        own = [held.pop(key) for key in keys if key in held]
        geometry = None if blob is None else _geometry(blob, f"{path}: {table}: row {number}")
        if geometry is not None:
            said = {key: value for key, value in held.items() if not isinstance(value, bytes)}
            yield own[0] if own else number, geometry, said


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _geometry(blob: Any, where: str) -> Mapping[str, Any] | None:
    """Return the GeoJSON geometry of a blob: a header of its own, then ISO well-known binary."""
    import shapely

    if not isinstance(blob, bytes) or len(blob) < 8 or blob[:2] != b"GP":
        raise LookError(f"{where}: the geometry does not begin with GP, as a GeoPackage's does")
    flags = blob[3]
    envelope = _ENVELOPES.get(flags >> 1 & 7)
    if envelope is None or flags & 0x20:
        raise LookError(f"{where}: a geometry of an extended kind (flags {flags:#04x})")
    struct.unpack_from("<i" if flags & 1 else ">i", blob, 4)
    if flags & 0x10:
        return None  # empty
    try:
        found = shapely.from_wkb(blob[8 + envelope :])
    except (shapely.errors.ShapelyError, ValueError) as error:
        raise LookError(f"{where}: the geometry cannot be read: {error}") from error
    if found is None or found.is_empty:
        return None
    geometry: Mapping[str, Any] = json.loads(shapely.to_geojson(found))
    return geometry
