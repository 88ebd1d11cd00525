"""A scene of a catalogue as one raster: the bands of its assets, named and scaled as it says."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from contextlib import ExitStack, closing
from dataclasses import replace
from typing import Any

from spectrane.catalogs.items import Asset, AssetBand, Item, item_of, storage_options
from spectrane.engine.byte_file import ByteFile
from spectrane.engine.derived import state_of_parts
from spectrane.engine.described import Described
from spectrane.formats.registry import open_source
from spectrane.formats.table import Probe
from spectrane.model.band import Band, scaling_said, unnamed
from spectrane.model.errors import BandError, FormatError, SpectraneError, nearest
from spectrane.model.member import Member, find_member
from spectrane.model.source import Source
from spectrane.stacks import bands_on_one_grid

_LARGEST = 16 << 20


def open_item(
    item: Item, assets: Sequence[str] | None = None, *, damaged: str = "error"
) -> Source:  # fmt: skip
    """Return the bands of an item's assets on one grid, that of the finest pixels among them.

    ``assets`` names them by key, band name or role; None takes all that hold measured values. What
    the files say of their bands stands; what they do not say comes from the item. Nothing but
    headers is read. Raises FormatError where an asset cannot be opened, BandError for a name that
    there is not.
    """
    chosen = assets_named(item, assets)
    if not chosen:
        known = ", ".join(item.assets) or "none"
        raise FormatError(
            f"{item.id}: has no asset that holds measured values; its assets: {known}"
        )
    with ExitStack() as opened:
        parts = []
        for asset, wanted in chosen:
            part = _opened(item, asset, damaged)
            opened.callback(part.close)
            parts.append(_chosen(_described(part, asset), asset, wanted))
        source: Source = parts[0] if len(parts) == 1 else bands_on_one_grid(parts)
        opened.pop_all()
    title = item.properties.get("title") or item.id
    metadata = {"title": title, "STAC": {"id": item.id, "collection": item.collection,
                                         **item.properties}}  # fmt: skip
    if item.properties.get("datetime") is None and item.date is not None:
        metadata["date"] = item.date.isoformat()
    made = Described(source, metadata=metadata)
    made.name, made.format = item.href or item.id, "STAC item"
    return made


def assets_named(
    item: Item, names: Sequence[str] | None
) -> list[tuple[Asset, tuple[int, ...] | None]]:
    """Return assets by their names, with which of their bands are meant (None: all).

    A name is an asset's key, or the name or role of a band. Raises BandError for one there is not.
    """
    if names is None:
        return [(asset, None) for asset in item.data_assets()]
    found: list[tuple[Asset, tuple[int, ...] | None]] = []
    for name in names:
        if name in item.assets:
            found.append((item.assets[name], None))
            continue
        bands = [(asset, k, band) for asset in item.data_assets()
                 for k, band in enumerate(asset.bands)]  # fmt: skip
        held = next(((asset, k) for asset, k, band in bands if name in (band.role, band.name)),
                    None)  # fmt: skip
        if held is None:
            words = [word for _, _, band in bands for word in (band.role, band.name) if word]
            known = list(dict.fromkeys([*item.assets, *words]))
            raise BandError(f"{item.id}: no asset or band {name!r}{nearest(name, known)}")
        found.append((held[0], (held[1],)))
    return found


def _opened(item: Item, asset: Asset, damaged: str) -> Source:
    try:
        part = open_source(asset.href, damaged=damaged,
                           storage_options=storage_options(item, asset))  # fmt: skip
    except SpectraneError as error:
        raise FormatError(f"{item.id}: asset {asset.key}: {error}") from error
    if len(part.shape) != 2:
        part.close()
        raise FormatError(f"{item.id}: asset {asset.key} is a volume; expected a raster")
    return part


def _chosen(source: Source, asset: Asset, wanted: tuple[int, ...] | None) -> Source:
    from spectrane.model.window import whole
    from spectrane.spatial.subset import Subset

    if wanted is None or len(source.bands) == 1:
        return source
    return Subset(source, list(wanted), whole(source.shape))


def _described(source: Source, asset: Asset) -> Source:
    """Lay what an item says of an asset's bands under what the file says itself."""
    if asset.bands and len(asset.bands) != len(source.bands):
        raise FormatError(f"{asset.href}: has {len(source.bands)} bands, and the catalogue says "
                          f"{len(asset.bands)} of asset {asset.key}")  # fmt: skip
    said = asset.bands or (AssetBand(),) * len(source.bands)
    alone = len(source.bands) == 1
    bands = [_band(band, one, k, asset.key if alone else None)
             for k, (band, one) in enumerate(zip(source.bands, said, strict=True))]  # fmt: skip
    return Described(source, bands)


def _band(band: Band, said: AssetBand, index: int, key: str | None) -> Band:
    given: dict[str, Any] = {}
    if unnamed(band, index) or key is not None:
        given["name"] = said.name or key or said.role or band.name
    if band.wavelength is None and said.wavelength is not None:
        given["wavelength"] = said.wavelength
    if said.role is not None and (band.role is None or band.wavelength is None):
        given["role"] = said.role
    if band.unit is None and said.unit is not None:
        given["unit"] = said.unit
    if band.nodata is None and said.nodata is not None:
        given["nodata"] = int(said.nodata) if math.isfinite(said.nodata) and (
            said.nodata.is_integer()) else said.nodata  # fmt: skip
    if band.scale == 1 and band.offset == 0:
        scale, offset = (other if one is None else one for one, other in (
            (said.scale, band.scale), (said.offset, band.offset)))  # fmt: skip
        given["scale"], given["offset"] = scaling_said(band.name, scale, offset)
    if not band.description and said.description:
        given["description"] = said.description
    return replace(band, **given)


class ItemReader:
    """Reads the document of an item as the raster that its assets make."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether a text is a GeoJSON feature of a catalogue."""
        return b'"stac_version"' in probe.head or b'"assets"' in probe.head

    def members(self, file: ByteFile) -> list[Member]:
        """Return the one raster it makes."""
        with closing(open_item(_item(file))) as source:
            rows, columns = source.shape
            return [Member(1, "", rows, columns, len(source.bands), source.dtype.name)]

    def open(self, file: ByteFile, member: int | str | None = None) -> Source:
        """Open its assets. Raises FormatError where one is missing, or the document is no item."""
        if member is not None:
            find_member(self.members(file), member, file.name)
        item = _item(file)
        source = open_item(item, damaged="keep" if file.keeps_damaged else "error")
        source.state = state_of_parts(file.key, source)
        file.close()
        return source


def _item(file: ByteFile) -> Item:
    if file.size > _LARGEST:
        raise FormatError(f"{file.name}: is larger than an item can be ({_LARGEST} bytes)")
    try:
        document = json.loads(file.read(0, file.size))
    except (ValueError, RecursionError) as error:
        raise FormatError(f"{file.name}: is no JSON document: {error}") from error
    return item_of(document, file.name)
