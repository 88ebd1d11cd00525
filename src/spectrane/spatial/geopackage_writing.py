"""Writing a GeoPackage (OGC 12-128r19): one layer of features, in its own coordinate system."""

from __future__ import annotations

import contextlib
import sqlite3
import struct
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from spectrane.model.systems import parsed_system
from spectrane.spatial.shapes import Shapes

_APPLICATION = 0x47504B47
"""``GPKG``, which the header of the database holds (1.1.1.1.1)."""
_VERSION = 10300
_UNDEFINED = [("Undefined Cartesian", -1, "NONE", -1, "undefined"),
              ("Undefined geographic", 0, "NONE", 0, "undefined")]  # fmt: skip
_TABLES = """
CREATE TABLE gpkg_spatial_ref_sys (srs_name TEXT NOT NULL, srs_id INTEGER NOT NULL PRIMARY KEY,
  organization TEXT NOT NULL, organization_coordsys_id INTEGER NOT NULL, definition TEXT NOT NULL,
  description TEXT);
CREATE TABLE gpkg_contents (table_name TEXT NOT NULL PRIMARY KEY, data_type TEXT NOT NULL,
  identifier TEXT UNIQUE, description TEXT DEFAULT '', last_change DATETIME NOT NULL,
  min_x DOUBLE, min_y DOUBLE, max_x DOUBLE, max_y DOUBLE, srs_id INTEGER,
  CONSTRAINT fk_gc_r_srs_id FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys(srs_id));
CREATE TABLE gpkg_geometry_columns (table_name TEXT NOT NULL, column_name TEXT NOT NULL,
  geometry_type_name TEXT NOT NULL, srs_id INTEGER NOT NULL, z TINYINT NOT NULL,
  m TINYINT NOT NULL, CONSTRAINT pk_geom_cols PRIMARY KEY (table_name, column_name),
  CONSTRAINT fk_gc_tn FOREIGN KEY (table_name) REFERENCES gpkg_contents(table_name),
  CONSTRAINT fk_gc_srs FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys (srs_id));
"""


def geopackage_bytes(shapes: Shapes, layer: str) -> bytes:
    """Return a GeoPackage of one layer. Properties are columns; what is no number is text."""
    with contextlib.closing(sqlite3.connect(":memory:")) as base:
        base.execute(f"PRAGMA application_id = {_APPLICATION}")
        base.execute(f"PRAGMA user_version = {_VERSION}")
        base.executescript(_TABLES)
        number = _systems(base, shapes.crs)
        _write_features(base, shapes, layer, number)
        base.commit()
        return base.serialize()


def _systems(base: sqlite3.Connection, crs: str | None) -> int:
    """Write the coordinate systems that must be there, and the layer's own; return its number."""
    rows = [*_UNDEFINED, _row("EPSG:4326")]
    system = None if crs is None else parsed_system(crs)
    own = rows[0] if crs is None or system is None else _row(crs)
    rows += [] if own[1] in {row[1] for row in rows} else [own]
    base.executemany("INSERT INTO gpkg_spatial_ref_sys VALUES (?, ?, ?, ?, ?, NULL)", rows)
    return own[1]


def _row(crs: str) -> tuple[str, int, str, int, str]:
    """Return a system as its table has it: by its code, else as the first of our own numbers."""
    from pyproj.enums import WktVersion

    system: Any = parsed_system(crs)
    older = next(one for one in WktVersion if one.name.startswith("WKT1"))  # what 1.1.2 asks for
    text = system.to_wkt(older) or system.to_wkt()
    found = system.to_authority(min_confidence=100)
    if found is not None and found[1].isdecimal():
        return system.name, int(found[1]), found[0], int(found[1]), text
    return system.name, 100_000, "NONE", 100_000, text


def _write_features(base: sqlite3.Connection, shapes: Shapes, layer: str, number: int) -> None:
    import shapely
    from shapely.geometry import shape

    held = [shape(feature.geometry) for feature in shapes.features]
    columns = _columns(feature.properties for feature in shapes.features)
    table = _quoted(layer)
    listed = "".join(f", {_quoted(name)} {kind}" for name, kind in columns.items())
    base.execute(f"CREATE TABLE {table} (fid INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL, "
                 f"geom GEOMETRY{listed})")  # fmt: skip
    bounds = shapely.total_bounds(held).tolist() if held else [None] * 4
    now = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S.000Z")
    base.execute("INSERT INTO gpkg_contents VALUES (?, 'features', ?, '', ?, ?, ?, ?, ?, ?)",
                 (layer, layer, now, *bounds, number))  # fmt: skip
    base.execute("INSERT INTO gpkg_geometry_columns VALUES (?, 'geom', 'GEOMETRY', ?, 0, 0)",
                 (layer, number))  # fmt: skip
    slots = ", ".join("?" * (1 + len(columns)))
    names = "".join(f", {_quoted(name)}" for name in columns)
    base.executemany(
        f"INSERT INTO {table} (geom{names}) VALUES ({slots})",
        [(_blob(one, number), *(_cell(feature.properties.get(name)) for name in columns))
         for one, feature in zip(held, shapes.features, strict=True)],
    )  # fmt: skip


def _columns(properties: Any) -> dict[str, str]:
    """Return the names of columns and their types."""
    kinds: dict[str, set[str]] = {}
    for said in properties:
        for name, value in said.items():
            whole = isinstance(value, int)
            kind = "INTEGER" if whole else "REAL" if isinstance(value, float) else "TEXT"
            kinds.setdefault(str(name), set()).update([] if value is None else [kind])
    taken = {"fid", "geom"}
    return {name: _type_of(found) for name, found in kinds.items() if name.lower() not in taken}


def _type_of(kinds: set[str]) -> str:
    if len(kinds) == 1:
        return next(iter(kinds))
    return "REAL" if kinds == {"INTEGER", "REAL"} else "TEXT"


def _cell(value: Any) -> Any:
    if isinstance(value, Mapping | Sequence) and not isinstance(value, str):
        return str(value)
    return value if value is None or isinstance(value, int | float | str) else str(value)


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _blob(geometry: Any, number: int) -> bytes:
    """Return a geometry as a GeoPackage holds it: header, envelope, WKB (2.1.3)."""
    import shapely

    empty = geometry.is_empty
    flags = 0x01 | (0x10 if empty else 0x02)  # little-endian; empty, or an envelope of x and y
    head = b"GP" + struct.pack("<BBi", 0, flags, number)
    x_min, y_min, x_max, y_max = geometry.bounds if not empty else (0.0,) * 4
    envelope = b"" if empty else struct.pack("<4d", x_min, x_max, y_min, y_max)
    return head + envelope + bytes(shapely.to_wkb(geometry, byte_order=1))
