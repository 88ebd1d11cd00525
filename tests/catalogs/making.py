"""Catalogues made by hand."""

from __future__ import annotations

import json

import numpy as np

import spectrane as sp


def square(west, south, east, north):
    ring = [[west, south], [east, south], [east, north], [west, north], [west, south]]
    return {"type": "Polygon", "coordinates": [ring]}


def item(name="a", box=(0, 0, 2, 2), date="2026-04-12T10:30:00Z", cloud=5, **given):
    """Return the document of an item."""
    properties = {"datetime": date} | ({} if cloud is None else {"eo:cloud_cover": cloud})
    return {
        "type": "Feature", "stac_version": "1.1.0", "id": name, "geometry": square(*box),
        "bbox": list(box), "properties": properties | given.pop("properties", {}), "links": [],
        "assets": {},
    } | given  # fmt: skip


def catalog(folder, items, **given):
    """Write a catalogue of items into a folder, and return its path."""
    links = []
    for one in items:
        path = folder / f"{one['id']}.json"
        path.write_text(json.dumps(one))
        links.append({"rel": "item", "href": f"./{path.name}"})
    document = {"type": "Catalog", "stac_version": "1.1.0", "id": "c", "description": "",
                "links": links} | given  # fmt: skip
    (folder / "catalog.json").write_text(json.dumps(document))
    return folder / "catalog.json"


def band_file(folder, name, value=7, *, shape=(20, 30), side=10.0, corner=(500000, 7e6), **band):
    """Write a raster of one band and return its name."""
    grid = sp.Grid.from_corner(shape, x=corner[0], y=corner[1], pixel_size=side, crs="EPSG:32727")
    numbers = np.full(shape, value, np.uint16) if np.isscalar(value) else value
    raster = sp.from_array(numbers, grid=grid, bands=[sp.Band(**{"name": "band 1"} | band)])
    raster.save(folder / name)
    return name
