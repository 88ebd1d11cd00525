"""Items written of rasters: where they lie, when they are of, what their bands are (STAC 1.1).

With the extensions projection 2.0, electro-optical 2.0, raster 2.0.
"""

from __future__ import annotations

import re
from datetime import datetime
from typing import Any

import numpy as np

from spectrane.catalogs.areas import box_of, footprint, split_geometry
from spectrane.catalogs.dates import moment_text
from spectrane.catalogs.footprints import valid_parts
from spectrane.model.addresses import amend_command, file_name, file_stem
from spectrane.model.band import Band
from spectrane.model.errors import GridMismatch
from spectrane.model.nodata import NoDataRule
from spectrane.model.said import cloud_of, date_of, read_date, title_of
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller

_EXTENSIONS = {
    "proj:": "https://stac-extensions.github.io/projection/v2.0.0/schema.json",
    "eo:": "https://stac-extensions.github.io/eo/v2.0.0/schema.json",
    "raster:": "https://stac-extensions.github.io/raster/v2.0.0/schema.json",
}
_MEDIA = {
    "TIFF": "image/tiff; application=geotiff", "PNG": "image/png", "JPEG": "image/jpeg",
    "JPEG 2000": "image/jp2", "HDF5": "application/x-netcdf", "Zarr": "application/vnd+zarr",
    "KMZ": "application/vnd.google-earth.kmz",
}  # fmt: skip
_NAMED_DATE = re.compile(
    r"(?<!\d)(19\d\d|20\d\d)[-_.]?(0[1-9]|1[0-2])[-_.]?(0[1-9]|[12]\d|3[01])(?!\d)"
)


def item_document(
    source: Source, href: str | None = None, *, parts: list[Any] | None = None
) -> dict[str, Any]:
    """Return a STAC Item of a raster, as JSON holds it.

    ``parts`` are its footprint in longitude and latitude, where it is less than its grid. Geometry
    that crosses the antimeridian is cut there (RFC 7946, section 3.1.9). Raises GridMismatch for a
    raster without a place.
    """
    where = href or source.name or ""
    if len(source.shape) != 2:
        raise GridMismatch("an item of a catalogue is of a raster, not of a volume")
    geometry = split_geometry(footprint(source.grid) if parts is None else parts)
    properties = _properties(source, where)
    asset = {
        "href": where, "type": _MEDIA.get(source.format or ""), "roles": ["data"],
        "title": title_of(source.metadata), "data_type": _number_type(source.dtype),
        "bands": [_band(band) for band in source.bands],
    } | _projection(source)  # fmt: skip
    asset = {key: value for key, value in asset.items() if value is not None}
    said = str([*properties, *asset, *(key for band in asset["bands"] for key in band)])
    extensions = [url for prefix, url in _EXTENSIONS.items() if prefix in said]
    return {
        "type": "Feature", "stac_version": "1.1.0", "stac_extensions": extensions,
        "id": _name(where), "geometry": geometry, "bbox": box_of(geometry),
        "properties": properties, "links": [], "assets": {"data": asset},
    }  # fmt: skip


def item_of_source(source: Source, href: str | None = None) -> dict[str, Any]:
    """Return a STAC Item of a raster, its footprint where pixels are valid.

    Warns where the raster says no date, which an item must have.
    """
    found = item_document(source, href, parts=valid_parts(source))
    if found["properties"]["datetime"] is None:
        said = amend_command(source.name or "FILE", "--set date=…")
        warn_caller(f"{source.name or 'the raster'}: says no date, which an item of a catalogue "
                    f"must have; say it with: {said}")  # fmt: skip
    return found


def date_in(name: str) -> datetime | None:
    """Return the day that a file's name says; None where it says none, or several.

    >>> date_in("sound_20260412_B02.tif"), date_in("a_2026-04-12.tif"), date_in("B0412.tif")
    (datetime.datetime(2026, 4, 12, 0, 0), datetime.datetime(2026, 4, 12, 0, 0), None)
    """
    found = {"".join(one) for one in _NAMED_DATE.findall(file_name(name))}
    return read_date(found.pop()) if len(found) == 1 else None


def _name(where: str) -> str:
    return file_stem(where.rstrip("/")) or "raster"


def _properties(source: Source, where: str) -> dict[str, Any]:
    date = date_of(source.metadata) or date_in(where)
    cloud, title = cloud_of(source.metadata), title_of(source.metadata)
    said: dict[str, Any] = {"datetime": None if date is None else moment_text(date)}
    said |= {} if title is None else {"title": title}
    return said | ({} if cloud is None else {"eo:cloud_cover": cloud})


def _projection(source: Source) -> dict[str, Any]:
    """Return what the projection extension says of a grid: its system, shape and affine."""
    grid = source.grid
    text = grid.crs_text or ""
    said: dict[str, Any] = {"proj:code": text if re.fullmatch(r"[A-Z]+:\w+", text) else None}
    system = grid.crs
    if said["proj:code"] is None and system is not None:
        code = system.to_authority()
        said["proj:code"] = None if code is None else ":".join(code)
        if code is None:
            said["proj:wkt2"] = system.to_wkt()
    return said | {
        "proj:shape": list(grid.shape), "proj:bbox": list(grid.bounds),
        "proj:transform": [*grid.coefficients, 0.0, 0.0, 1.0],
    }  # fmt: skip


def _number_type(dtype: Any) -> str:
    name = str(np.dtype(dtype).name)
    return "uint8" if name == "bool" else name


def _band(band: Band) -> dict[str, Any]:
    said: dict[str, Any] = {
        "name": band.name, "description": band.description or None, "unit": band.unit,
        "eo:common_name": band.role, "nodata": _nodata(band),
        "eo:center_wavelength": None if band.wavelength is None else band.wavelength / 1000,
        "raster:scale": band.scale if band.scale != 1 or band.offset else None,
        "raster:offset": band.offset if band.scale != 1 or band.offset else None,
    }  # fmt: skip
    return {key: value for key, value in said.items() if value is not None}


def _nodata(band: Band) -> Any:
    """Return the one no-data value of a band, which is all an item can say."""
    value: Any = band.nodata
    if isinstance(value, NoDataRule | list | tuple) or value is None:
        return None
    number = float(value)
    if number != number:
        return "nan"
    if number in (float("inf"), float("-inf")):
        return "inf" if number > 0 else "-inf"
    return int(number) if number.is_integer() else number
