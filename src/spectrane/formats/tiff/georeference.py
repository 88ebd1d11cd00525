"""GeoTIFF 1.1 (OGC 19-008r4): where an image lies, read from and written to its keys."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import numpy as np

from spectrane.formats.tiff.structure import Directory
from spectrane.formats.tiff.systems import UnknownSystemError, system_of
from spectrane.formats.tiff.tags import Tag
from spectrane.model.grid import Affine, Grid
from spectrane.model.telling import warn_caller

MODEL_TYPE, RASTER_TYPE, CITATION = 1024, 1025, 1026
GEODETIC, GEODETIC_CITATION, PROJECTED, PROJECTED_CITATION, VERTICAL = 2048, 2049, 3072, 3073, 4096
ANGULAR_UNITS, LINEAR_UNITS = 2054, 3076
USER_DEFINED = 32767
PIXEL_IS_AREA, PIXEL_IS_POINT = 1, 2
MODEL_NAMES = {1: "projected", 2: "geographic", 3: "geocentric"}

KEY_NAMES = {
    1024: "GTModelType", 1025: "GTRasterType", 1026: "GTCitation", 2048: "GeodeticCRS",
    2049: "GeodeticCitation", 2050: "GeodeticDatum", 2051: "PrimeMeridian",
    2052: "GeogLinearUnits", 2054: "GeogAngularUnits", 2056: "Ellipsoid",
    2057: "EllipsoidSemiMajorAxis", 2058: "EllipsoidSemiMinorAxis",
    2059: "EllipsoidInvFlattening", 3072: "ProjectedCRS", 3073: "ProjectedCitation",
    3074: "Projection", 3075: "ProjMethod", 3076: "ProjLinearUnits", 4096: "Vertical",
    4097: "VerticalCitation", 4099: "VerticalUnits",
}  # fmt: skip


def read_keys(directory: Directory) -> dict[int, Any]:
    """Return the GeoKeys of a directory by number: short, double(s) or text."""
    if Tag.GeoKeyDirectory not in directory:
        return {}
    entries = directory.numbers(Tag.GeoKeyDirectory, most=4 + 4 * 4096).tolist()
    if len(entries) < 4:
        raise directory.fail(Tag.GeoKeyDirectory, "is shorter than its header of 4 numbers")
    if entries[0] != 1:
        raise directory.fail(Tag.GeoKeyDirectory, f"version {entries[0]}; expected 1")
    doubles = _doubles(directory, Tag.GeoDoubleParams)
    text = directory.text(Tag.GeoAsciiParams) or ""
    keys: dict[int, Any] = {}
    rows = zip(*[iter(entries[4 : 4 + 4 * entries[3]])] * 4, strict=False)
    for key, place, count, value in rows:
        if place == 0:
            keys[key] = value
        elif place == Tag.GeoDoubleParams and value + count <= len(doubles):
            found = doubles[value : value + count]
            keys[key] = found[0] if count == 1 else found
        elif place == Tag.GeoAsciiParams:
            keys[key] = text[value : value + count].split("|")[0].strip("\0 ")
        else:
            raise directory.fail(Tag.GeoKeyDirectory, f"key {key} points outside its values")
    return keys


def _doubles(directory: Directory, tag: Tag) -> list[float]:
    if tag not in directory:
        return []
    found: list[float] = directory.numbers(tag, most=1 << 16).astype(np.float64).tolist()
    return found


def georeferenced_grid(directory: Directory, shape: tuple[int, int]) -> Grid:
    """Return where an image lies; a grid without a place when the file says nothing usable.

    Warns (DataWarning) of a coordinate system that is only cited, and of tie points that fix no
    regular grid.
    """
    keys = read_keys(directory)
    affine = _affine(directory)
    crs = crs_text(keys, directory.head.file.name)
    name = next((str(keys[k]) for k in (CITATION, PROJECTED_CITATION, GEODETIC_CITATION)
                 if keys.get(k)), None)  # fmt: skip
    if affine is None:
        if Tag.RPCCoefficients in directory:
            _warn(directory, "its place is known only by a model that is not applied (rational "
                  "polynomials, tag 50844): it has no place on a regular grid")  # fmt: skip
        return Grid(shape, crs_text=crs, crs_name=name)
    if keys.get(RASTER_TYPE) == PIXEL_IS_POINT:
        # The tie point names the centre of a pixel; a grid's affine maps its corner.
        moved = np.asarray(affine) @ np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1]])
        affine = tuple(map(tuple, moved.tolist()))
    if not np.isfinite(affine).all() or np.linalg.det(np.asarray(affine)) == 0:
        _warn(directory, f"its place {affine} is not usable and was left out")
        return Grid(shape, crs_text=crs, crs_name=name)
    return Grid(shape, affine, crs, y_up=True, placed=True, crs_name=name)


def _affine(directory: Directory) -> Affine | None:
    if Tag.ModelTransformation in directory:
        m = _doubles(directory, Tag.ModelTransformation)
        if len(m) < 16:
            raise directory.fail(Tag.ModelTransformation, f"has {len(m)} numbers; expected 16")
        return (m[0], m[1], m[3]), (m[4], m[5], m[7]), (0.0, 0.0, 1.0)
    ties = _doubles(directory, Tag.ModelTiepoint)
    if Tag.ModelPixelScale not in directory:
        if ties:
            _warn(directory, f"has {len(ties) // 6} tie points but no pixel scale, so it has no "
                  "place on a regular grid")  # fmt: skip
        return None
    scale = _doubles(directory, Tag.ModelPixelScale)
    if len(scale) < 2:
        raise directory.fail(Tag.ModelPixelScale, f"has {len(scale)} numbers; expected 3")
    if len(ties) < 6:
        _warn(directory, "has a pixel scale but no tie point, so it has no place")
        return None
    column, row, _, x, y, _ = ties[:6]
    dx, dy = scale[:2]
    return (dx, 0.0, x - column * dx), (0.0, -dy, y + row * dy), (0.0, 0.0, 1.0)


def crs_text(keys: Mapping[int, Any], name: str) -> str | None:
    """Return the coordinate system: its EPSG code, the WKT of what the keys define, or a citation.

    Warns of a citation alone.
    """
    model = keys.get(MODEL_TYPE)
    order = (GEODETIC, PROJECTED) if model == 2 else (PROJECTED, GEODETIC)
    code = next((keys[k] for k in order if _is_code(keys.get(k))), None)
    if model == 1 and not _is_code(keys.get(PROJECTED)):
        code = None  # the base of a projection nobody named is not the projection
    if code is not None:
        vertical = keys.get(VERTICAL)
        return f"EPSG:{code}+{vertical}" if _is_code(vertical) else f"EPSG:{code}"
    cited = next((str(keys[k]) for k in (PROJECTED_CITATION, CITATION, GEODETIC_CITATION)
                  if keys.get(k)), None)  # fmt: skip
    if cited is not None and _WKT.match(cited):
        return cited
    why = "it has no code and no keys that define it"
    try:
        defined = system_of(keys)
        if defined is not None:
            return defined
    except UnknownSystemError as error:
        why = str(error)
    if cited is None and model in MODEL_NAMES and len(keys) > 2:
        cited = f"user-defined {MODEL_NAMES[model]} system"
    if cited is not None:
        warn_caller(
            f"{name}: the coordinate system is only the text {cited[:200]!r} ({why}): positions "
            "are right within the file but cannot be brought to another system; spectrane amend "
            f"{name} --crs EPSG:CODE says which it is"
        )
    return cited


_WKT = re.compile(r"(PROJ|GEOG|GEOD|COMPD|COMPOUND|BOUND|ENG|LOCAL|VERT)[A-Z_]*\s*\[")


def _is_code(value: Any) -> bool:
    return isinstance(value, int) and 1024 <= value < USER_DEFINED


def _warn(directory: Directory, problem: str) -> None:
    warn_caller(f"{directory.head.file.name}: {problem}")


def named_keys(keys: Mapping[int, Any]) -> dict[str, Any]:
    """Return GeoKeys under the names of the standard."""
    return {KEY_NAMES.get(key, f"key {key}"): value for key, value in keys.items()}


def geo_fields(grid: Grid) -> list[tuple[Tag, str, Any]]:
    """Return the fields (tag, NumPy type code or "S", values) that say where a grid lies."""
    if not grid.placed and grid.crs_text is None:
        return []
    fields: list[tuple[Tag, str, Any]] = []
    a, b, c, d, e, f = grid.coefficients
    if grid.placed and b == d == 0 and a > 0 and e < 0:
        fields.append((Tag.ModelPixelScale, "f8", [a, -e, 0.0]))
        fields.append((Tag.ModelTiepoint, "f8", [0.0, 0.0, 0.0, c, f, 0.0]))
    elif grid.placed:
        rows = [a, b, 0.0, c, d, e, 0.0, f, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0]
        fields.append((Tag.ModelTransformation, "f8", rows))
    return fields + _key_fields(grid)


def _key_fields(grid: Grid) -> list[tuple[Tag, str, Any]]:
    keys: list[tuple[int, int | str]] = [(RASTER_TYPE, PIXEL_IS_AREA)]
    if grid.crs_text is not None:
        keys += _crs_keys(grid)
    text, entries = "", []
    for key, value in sorted(keys):
        if isinstance(value, str):
            safe = value.encode("ascii", "replace").decode().replace("|", "/") + "|"
            entries += [key, int(Tag.GeoAsciiParams), len(safe), len(text)]
            text += safe
        else:
            entries += [key, 0, 1, value]
    fields: list[tuple[Tag, str, Any]] = [
        (Tag.GeoKeyDirectory, "u2", [1, 1, 1, len(entries) // 4, *entries])
    ]
    return fields + ([(Tag.GeoAsciiParams, "S", text)] if text else [])


def _crs_keys(grid: Grid) -> list[tuple[int, int | str]]:
    """Return the keys of a coordinate system: its code where it has one, else its text."""
    text = grid.crs_text or ""
    crs = grid.crs
    if crs is None:
        return [(CITATION, text)]
    vertical = crs.sub_crs_list[1].to_epsg() if crs.is_compound else None
    horizontal = crs.sub_crs_list[0] if crs.is_compound else crs
    code = horizontal.to_epsg()
    if code is None:
        return [(CITATION, crs.to_wkt())]
    geographic = horizontal.is_geographic
    keys: list[tuple[int, int | str]] = [
        (MODEL_TYPE, 2 if geographic else 1),
        (CITATION, crs.name),
        (GEODETIC if geographic else PROJECTED, code),
    ]
    return keys + ([(VERTICAL, vertical)] if vertical else [])
