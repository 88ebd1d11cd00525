"""Items of a catalogue, by the open STAC specification 1.1 and 1.0: what a scene says of itself.

With its extensions projection (``proj:``, 2.0 and 1.x), electro-optical (``eo:``) and raster
(``raster:``); of bands the common ``bands`` of 1.1, or ``eo:bands`` and ``raster:bands`` of 1.0.
"""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import field
from datetime import datetime
from typing import Any
from urllib.parse import urljoin

from spectrane.catalogs.dates import has_zone, read_moment
from spectrane.kernels.records import record
from spectrane.model.addresses import file_stem, is_address, is_web
from spectrane.model.errors import FormatError
from spectrane.model.regular_files import found_from
from spectrane.model.roles import ROLES

_PICTURES = ("thumbnail", "overview", "visual")
_DATA_ROLES = ("data", "reflectance", "temperature", "backscatter", "amplitude")
_NO_DATA = ("thumbnail", "overview", "metadata", "cloud", "cloud-shadow", "data-mask", "saturation",
            "snow-ice", "water-mask", "iso-19115", "sun-azimuth", "sun-elevation")  # fmt: skip
_RASTERS = ("tif", "tiff", "jp2", "png", "jpg", "jpeg", "nc", "h5", "zarr", "fits", "npy", "toml")


@record(frozen=True)
class AssetBand:
    """What a catalogue says of one band; None for what it does not."""

    name: str | None = None
    role: str | None = None
    wavelength: float | None = None
    unit: str | None = None
    scale: float | None = None
    offset: float | None = None
    nodata: float | None = None
    description: str | None = None


@record(frozen=True)
class Asset:
    """A file of a scene: where it lies, what it is for, and its bands."""

    key: str
    href: str
    title: str | None = None
    media_type: str | None = None
    roles: tuple[str, ...] = ()
    bands: tuple[AssetBand, ...] = ()
    fields: Mapping[str, Any] = field(default_factory=dict, repr=False)

    @property
    def is_picture(self) -> bool:
        """Whether it is a small picture to look at."""
        return bool({"thumbnail", "overview"} & set(self.roles)) or self.key in _PICTURES[:2]

    @property
    def is_data(self) -> bool:
        """Whether it holds what was measured, by its roles, or else by its kind."""
        if set(self.roles) & set(_DATA_ROLES):
            return True
        if set(self.roles) & set(_NO_DATA) or self.key in _PICTURES:
            return False
        kind = (self.media_type or "").lower()
        if kind:
            return kind.startswith("image/") or any(word in kind for word in ("netcdf", "hdf"))
        place = self.href.partition("::")[0].partition("?")[0]  # not the archive, nor a question
        return place.rpartition(".")[2].lower() in _RASTERS

    @property
    def is_mask(self) -> bool:
        """Whether it says of each pixel what it is: cloud, a class, valid or not."""
        words = {"cloud", "data-mask", "classification", "cloud-shadow"}
        return bool(words & set(self.roles)) or "classification:classes" in self.fields


@record(frozen=True)
class Item:
    """A scene of a catalogue.

    ``start`` and ``end`` are moments in UTC, both the same for a moment, None where it says none;
    ``cloud`` percent. ``geometry`` is GeoJSON in longitude and latitude, None where it says none;
    ``notes`` what about it is unusual. ``href`` is where it was read from. ``sp.open(item)`` gives
    the bands of its assets as one raster.

    >>> square = {"type": "Polygon", "coordinates": [[[0, 0], [1, 0], [1, 1], [0, 0]]]}
    >>> found = item_of({"type": "Feature", "id": "a", "geometry": square, "assets": {},
    ...     "properties": {"datetime": "2026-04-12T10:30:00Z", "eo:cloud_cover": 5}}, "a.json")
    >>> found.id, found.date.day, found.cloud, found.notes
    ('a', 12, 5.0, ('has no assets',))
    """

    id: str
    geometry: Mapping[str, Any] | None
    start: datetime | None
    end: datetime | None
    cloud: float | None
    assets: Mapping[str, Asset]
    properties: Mapping[str, Any] = field(repr=False)
    href: str = ""
    collection: str | None = None
    notes: tuple[str, ...] = ()
    content: Mapping[str, Any] = field(default_factory=dict, repr=False)
    """All that its document says."""
    options: Mapping[str, Any] | None = field(default=None, repr=False)
    """Those of the storage that its catalogue lies in."""

    @property
    def date(self) -> datetime | None:
        """The moment it was taken, or the first of a span."""
        return self.start or self.end

    def data_assets(self) -> list[Asset]:
        """Return the assets that hold what was measured, each band once.

        >>> Item("a", None, None, None, None, {}, {}).data_assets()
        []
        """
        found, seen = [], set()
        for asset in self.assets.values():
            names = tuple(band.role or band.name for band in asset.bands) or (asset.key,)
            if asset.is_data and not asset.is_picture and names not in seen:
                seen.add(names)
                found.append(asset)
        return found

    def picture(self) -> Asset | None:
        """Return the small picture it has, if any.

        >>> Item("a", None, None, None, None, {}, {}).picture() is None
        True
        """
        return next((one for one in self.assets.values() if one.is_picture), None)


def storage_options(item: Item, asset: Asset) -> Mapping[str, Any] | None:
    """Return what opens an asset beside its address: nothing for files, and for the web."""
    return item.options if is_address(asset.href) and not is_web(asset.href) else None


def resolved(href: str, base: str) -> str:
    """Return where a link leads, as seen from the document that holds it.

    >>> resolved("./a/b.json", "https://example.org/c/catalog.json")
    'https://example.org/c/a/b.json'
    >>> resolved("../x.tif", "cat/items/a.json")
    'cat/x.tif'
    >>> resolved("b.json", "zip://cat/catalog.json::/data/a.zip")
    'zip://cat/b.json::/data/a.zip'
    """
    if "://" in href:
        return href
    if href.startswith("file:"):
        return href.removeprefix("file:")
    if is_web(base):
        return urljoin(base, href)
    found = found_from(href, base)
    return found if "://" in found or os.path.isabs(href) else os.path.normpath(found)


def item_of(given: Any, href: str, collection: Mapping[str, Any] | None = None) -> Item:
    """Return the item of a document. Raises FormatError: what is missing, and where.

    ``collection`` holds the summaries and ``item_assets`` of the collection it belongs to.
    """
    if not isinstance(given, Mapping) or given.get("type") != "Feature":
        raise FormatError(f"{href}: is no item of a catalogue: expected a GeoJSON Feature with "
                          "stac_version")  # fmt: skip
    said = given.get("properties")
    properties: Mapping[str, Any] = said if isinstance(said, Mapping) else {}
    own = str(given.get("id") or file_stem(href))
    notes: list[str] = []
    start, end = _moments(properties, notes)
    geometry = _geometry(given, notes)
    cloud = _cloud(properties, notes)
    listed = given.get("assets")
    assets = {}
    for key, value in listed.items() if isinstance(listed, Mapping) else ():
        if isinstance(value, Mapping) and isinstance(value.get("href"), str) and value["href"]:
            assets[str(key)] = _asset(str(key), value, href, properties, collection)
    if not assets:
        notes.append("has no assets")
    called = given.get("collection")
    return Item(own, geometry, start, end, cloud, assets, properties, href,
                str(called) if called else None, tuple(notes), given)  # fmt: skip


def _moments(
    properties: Mapping[str, Any], notes: list[str]
) -> tuple[datetime | None, datetime | None]:
    """Return the first and last moment: of ``datetime``, or where that is null of its span."""
    moment = properties.get("datetime")
    ends = (properties.get("start_datetime"), properties.get("end_datetime"))
    said = [one for one in ((moment,) if moment is not None else ends) if one is not None]
    if any(read_moment(one) is None for one in said):
        notes.append(f"its date {said[0]!r:.60} is none")
    elif any(not has_zone(one) for one in said):
        notes.append("its date names no zone; UTC is taken")
    if moment is not None:
        found = read_moment(moment)
        return found, found
    start, end = (read_moment(one) for one in ends)
    if start is None and end is None and not said:
        notes.append("has no date")
    if start is not None and end is not None and end < start:
        notes.append("its span ends before it starts; taken the other way round")
        return end, start
    return start, end


def _geometry(given: Mapping[str, Any], notes: list[str]) -> Mapping[str, Any] | None:
    """Return the geometry, or where it has none its box as one (RFC 7946, section 5)."""
    geometry = given.get("geometry")
    if isinstance(geometry, Mapping) and geometry.get("coordinates"):
        return geometry
    box = given.get("bbox")
    numbers = [one for one in box if isinstance(one, int | float)] if isinstance(box, list) else []
    if len(numbers) in (4, 6) and len(numbers) == len(box or []):
        half = len(numbers) // 2
        west, south, east, north = numbers[0], numbers[1], numbers[half], numbers[half + 1]
        notes.append("has no geometry; its box is taken")
        return box_geometry(west, south, east, north)
    notes.append("has no geometry")
    return None


def box_geometry(west: float, south: float, east: float, north: float) -> dict[str, Any]:
    """Return a box as GeoJSON; where west lies east of east it crosses the antimeridian, and is two
    (RFC 7946, section 5.2).

    >>> len(box_geometry(170, -10, -170, 10)["coordinates"])
    2
    """

    def ring(first: float, last: float) -> list[list[list[float]]]:
        return [[[first, south], [last, south], [last, north], [first, north], [first, south]]]

    if west <= east:
        return {"type": "Polygon", "coordinates": ring(west, east)}
    return {"type": "MultiPolygon", "coordinates": [ring(west, 180.0), ring(-180.0, east)]}


def _cloud(properties: Mapping[str, Any], notes: list[str]) -> float | None:
    said = properties.get("eo:cloud_cover", properties.get("cloud_cover"))
    if said is None:
        return None
    if isinstance(said, bool) or not isinstance(said, int | float) or not 0 <= said <= 100:
        notes.append(f"its cloud cover {said!r:.40} is no percentage")
        return None
    return float(said)


def _asset(
    key: str, given: Mapping[str, Any], base: str, properties: Mapping[str, Any],
    collection: Mapping[str, Any] | None,
) -> Asset:  # fmt: skip
    """Return an asset; what its collection says of it stands where it says nothing itself."""
    common = (collection or {}).get("item_assets")
    shared = common.get(key) if isinstance(common, Mapping) else None
    said: dict[str, Any] = {**(shared if isinstance(shared, Mapping) else {}), **given}
    roles = said.get("roles")
    listed = tuple(str(one) for one in roles) if isinstance(roles, Sequence) and not isinstance(
        roles, str) else ()  # fmt: skip
    fields = {
        name: properties[name] for name in properties if name.startswith(("proj:", "raster:"))
    }
    title, kind = said.get("title"), said.get("type")
    return Asset(
        key, resolved(str(given["href"]), base), str(title) if title else None,
        str(kind) if kind else None, listed, _bands(said, properties), fields | said,
    )  # fmt: skip


def _bands(said: Mapping[str, Any], properties: Mapping[str, Any]) -> tuple[AssetBand, ...]:
    """Return the bands of an asset, by 1.1 or by the two lists of 1.0, side by side."""
    listed = _mappings(said.get("bands"))
    optical, stored = _mappings(said.get("eo:bands")), _mappings(said.get("raster:bands"))
    count = max(len(listed), len(optical), len(stored))
    known = {str(one.get("name")): one for one in _mappings(properties.get("eo:bands"))}
    found = []
    for k in range(count):
        merged: dict[str, Any] = {name: said[name] for name in _OF_BANDS if name in said}
        for part in (listed, stored, optical):
            merged |= part[k] if k < len(part) else {}
        merged = {**known.get(str(merged.get("name")), {}), **merged}
        found.append(_band(merged))
    if not found and any(name in said for name in _OF_BANDS):
        found.append(_band({**said, "name": None}))
    return tuple(found)


_OF_BANDS = ("nodata", "unit", "raster:scale", "raster:offset", "eo:common_name",
             "eo:center_wavelength")  # fmt: skip
"""Fields that 1.1 allows at the asset, for all its bands."""


def _mappings(given: Any) -> list[Mapping[str, Any]]:
    return (
        [one if isinstance(one, Mapping) else {} for one in given]
        if isinstance(given, list)
        else []
    )


def _band(said: Mapping[str, Any]) -> AssetBand:
    role = said.get("eo:common_name", said.get("common_name"))
    wave = _number(said.get("eo:center_wavelength", said.get("center_wavelength")))
    name, unit, description = (said.get(key) for key in ("name", "unit", "description"))
    return AssetBand(
        str(name) if name else None, str(role) if role in ROLES else None,
        None if wave is None else round(wave * 1000, 6),  # micrometres
        str(unit) if unit else None, _number(said.get("raster:scale", said.get("scale"))),
        _number(said.get("raster:offset", said.get("offset"))), _nodata(said.get("nodata")),
        str(description) if description else None,
    )  # fmt: skip


def _number(given: Any) -> float | None:
    return float(given) if isinstance(given, int | float) and not isinstance(given, bool) else None


def _nodata(given: Any) -> float | None:
    """Return a no-data value; the extension writes those JSON has no number for as words."""
    words = {"nan": float("nan"), "inf": float("inf"), "-inf": float("-inf")}
    return words.get(given.lower()) if isinstance(given, str) else _number(given)
