"""Clouds over an area, not over the whole scene: counted in the scene's own mask or classes."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from contextlib import closing
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.catalogs.areas import SoughtArea
from spectrane.catalogs.items import Asset, Item, storage_options
from spectrane.formats.registry import open_source
from spectrane.model.errors import SpectraneError
from spectrane.model.grid import Grid
from spectrane.model.source import Source
from spectrane.model.systems import LONLAT, way_between

_FINEST = 512
"""Pixels along the longer side that are looked at."""
_CLOUD = ("cloud", "cirrus")
_OTHERS = ("shadow", "no cloud", "not cloud", "cloud free", "cloudless", "clear")
_NOTHING = ("no data", "nodata", "fill", "outside")
"""Words of the names of classes, in small letters and with blanks between words."""


def cloud_over(item: Item, area: SoughtArea) -> float | None:
    """Return the percentage of cloud over an area, of what is seen of it; None where no asset says.

    An asset says it by classes or bits with names (STAC extension classification), or by the role
    ``cloud``: there what is not 0 is cloud. Raises what opening the asset raises.
    """
    for asset in item.assets.values():
        if not asset.is_mask or asset.is_picture:
            continue
        with closing(
            open_source(asset.href, storage_options=storage_options(item, asset))
        ) as source:
            read = _read(source, area)
            if read is None:
                continue
            values, valid = read
            cloud = _cloudy(asset, values)
            if cloud is None:
                continue
            seen = valid & ~_named(asset, values, _NOTHING, ())
            return float(100.0 * (cloud & seen).sum() / seen.sum()) if seen.any() else None
    return None


def has_mask(item: Item) -> bool:
    """Tell whether an item has an asset that may say where clouds are."""
    return any(asset.is_mask and not asset.is_picture for asset in item.assets.values())


def _read(source: Source, area: SoughtArea) -> tuple[NDArray[Any], NDArray[np.bool_]] | None:
    """Return the numbers under an area and which are valid and inside it; None where none are."""
    import shapely

    window = _window(source.grid, area)
    if window is None:
        return None
    rows, columns = (stop - start for start, stop in window)
    shrink = max(1.0, max(rows, columns) / _FINEST)
    size = (max(1, round(rows / shrink)), max(1, round(columns / shrink)))
    pixels = source.read([0], window, size, "nearest")
    grid = source.grid.cropped(window).resized(size)
    c, r = np.meshgrid(np.arange(size[1]) + 0.5, np.arange(size[0]) + 0.5)
    x, y = grid.to_map(c, r)
    if source.grid.crs_text != LONLAT:
        x, y = way_between(str(source.grid.crs_text), LONLAT).transform(x, y)
    middle = area.middle[0]
    x = middle + (x - middle + 180.0) % 360.0 - 180.0
    inside = shapely.contains_xy(area.lonlat, x, y)
    valid = inside & pixels.validity[0]
    return (pixels.values[0], valid) if valid.any() else None


def _window(grid: Grid, area: SoughtArea) -> Any:
    """Return the part of a grid that holds an area; None where they do not meet."""
    import shapely

    if grid.crs_text is None or not grid.placed:
        return None
    points = shapely.get_coordinates(shapely.segmentize(area.lonlat, 0.25))
    x, y = points.T
    if grid.crs_text != LONLAT:
        x, y = way_between(LONLAT, grid.crs_text).transform(x, y)
    elif grid.turn:
        x = x + (grid.near(float(x[0])) - float(x[0]))
    columns, rows = grid.from_map(x, y)
    found = []
    for at, length in ((rows, grid.rows), (columns, grid.columns)):
        fine = at[np.isfinite(at)]
        if not fine.size:
            return None
        low, high = max(0, int(np.floor(fine.min()))), min(length, int(np.ceil(fine.max())))
        if low >= high:
            return None
        found.append((low, high))
    return tuple(found)


def _cloudy(asset: Asset, values: NDArray[Any]) -> NDArray[np.bool_] | None:
    if any(True for _ in _classes(asset)):
        return _named(asset, values, _CLOUD, _OTHERS)
    if "cloud" in asset.roles:
        return np.asarray(values != 0)
    return None


def _named(
    asset: Asset, values: NDArray[Any], words: tuple[str, ...], others: tuple[str, ...]
) -> NDArray[np.bool_]:
    """Return where numbers are of classes whose names hold one of some words and none of others."""
    found = np.zeros(values.shape, bool)
    whole = values.astype(np.int64)
    for shift, mask, value, name in _classes(asset):
        if any(word in name for word in words) and not any(word in name for word in others):
            found |= (whole >> shift & mask) == value
    return found


def _classes(asset: Asset) -> Iterator[tuple[int, int, int, str]]:
    """Yield (shift, mask, value, name in small letters) of an asset's classes and bits."""
    places: list[Mapping[str, Any]] = [asset.fields]
    for key in ("bands", "raster:bands", "eo:bands"):
        listed = asset.fields.get(key)
        places += [one for one in (listed or [])[:1] if isinstance(one, Mapping)]
    for place in places:
        for one in _mappings(place.get("classification:classes")):
            yield from _class(one, 0, -1)
        for field in _mappings(place.get("classification:bitfields")):
            offset, length = field.get("offset"), field.get("length", 1)
            if isinstance(offset, int) and isinstance(length, int) and 0 <= offset < 63 and length:
                for one in _mappings(field.get("classes")):
                    yield from _class(one, offset, (1 << min(length, 62)) - 1,
                                      str(field.get("name", "")))  # fmt: skip


def _class(
    given: Mapping[str, Any], shift: int, mask: int, field: str = ""
) -> Iterator[tuple[int, int, int, str]]:
    value = given.get("value")
    if isinstance(value, int):
        said = [given.get(key) for key in ("name", "title", "description")]
        text = " ".join(str(one) for one in said if one) or field
        yield shift, mask, value, re.sub(r"[-_ ]+", " ", text.lower())


def _mappings(given: Any) -> list[Mapping[str, Any]]:
    return [one for one in given if isinstance(one, Mapping)] if isinstance(given, list) else []


def measured_cloud(item: Item, area: SoughtArea) -> tuple[float | None, str]:
    """Return the cloud over an area, and what went wrong where it could not be read."""
    try:
        return cloud_over(item, area), ""
    except SpectraneError as error:
        return None, str(error)
