"""Items written of rasters: places of every kind, what bands mean, and what cannot be said."""

from __future__ import annotations

import json

import numpy as np
import pyproj
import pytest

import spectrane as sp
from spectrane.catalogs.items import item_of
from spectrane.catalogs.writing import date_in
from spectrane.model.errors import GridMismatch

LAEA = "+proj=laea +lat_0=-24 +lon_0=-21 +datum=WGS84 +units=m"


def raster_on(grid, dtype="u1", **band):
    numbers = np.ones(grid.shape, dtype)
    return sp.from_array(numbers, grid=grid, bands=[sp.Band(**{"name": "b"} | band)])


def made(raster, name="a_20260412.tif"):
    document = sp.to_item(raster, name)
    return document, item_of(document, name)


@pytest.mark.parametrize("crs", ["EPSG:32727", "EPSG:3857", "EPSG:4326", pyproj.CRS(LAEA).to_wkt()])
def test_corners_are_where_pyproj_has_them(crs):
    way = pyproj.Transformer.from_crs("EPSG:4326", crs, always_xy=True)
    x, y = way.transform(-21.1, -23.9)
    side = 0.001 if crs == "EPSG:4326" else 100
    grid = sp.Grid.from_corner((30, 40), x=x, y=y, pixel_size=side, crs=crs)
    document, _ = made(raster_on(grid))
    ring = np.array(document["geometry"]["coordinates"][0])
    for corner in grid.corners:
        lon, lat = way.transform(*corner, direction="INVERSE")
        assert np.abs(ring - (lon, lat)).sum(axis=1).min() < 1e-6
    asset = document["assets"]["data"]
    assert ("proj:wkt2" in asset) != ("proj:code" in asset)


def test_a_turned_grid_has_its_own_outline():
    affine = ((8.0, -6.0, 500000.0), (-6.0, -8.0, 7e6), (0.0, 0.0, 1.0))
    grid = sp.Grid((20, 30), affine, "EPSG:32727", y_up=True, placed=True)
    document, found = made(raster_on(grid))
    assert document["assets"]["data"]["proj:transform"][:6] == [8, -6, 500000, -6, -8, 7e6]
    west, south, east, north = document["bbox"]
    assert west < east
    assert south < north
    assert found.geometry["type"] == "Polygon"


@pytest.mark.parametrize(
    ("dtype", "nodata", "said"),
    [("u1", 0, 0), ("i2", -9999, -9999), ("f4", float("nan"), "nan"), ("f4", 0.5, 0.5),
     ("f4", float("-inf"), "-inf"), ("u1", None, None), ("u1", [0, (250, 255)], None)],
)  # fmt: skip
def test_nodata_as_json_holds_it(utm, dtype, nodata, said):
    document, found = made(raster_on(utm, dtype, nodata=nodata))
    band = document["assets"]["data"]["bands"][0]
    assert band.get("nodata") == said
    json.dumps(document, allow_nan=False)
    assert str(found.assets["data"].bands[0].nodata) == str(None if said is None else float(said))


def test_what_bands_mean_comes_back(utm):
    given = {"name": "B5", "role": "nir", "wavelength": 842.0, "unit": "1", "scale": 1e-4,
             "offset": -0.1, "description": "near infrared"}  # fmt: skip
    document, found = made(raster_on(utm, "u2", **given))
    band = found.assets["data"].bands[0]
    assert {name: getattr(band, name) for name in given} == given
    assert {url.split("/")[3] for url in document["stac_extensions"]} == {
        "projection",
        "eo",
        "raster",
    }
    assert document["assets"]["data"]["data_type"] == "uint16"


@pytest.mark.parametrize(
    ("name", "day"),
    [
        ("s_20260412T104021_B02.tif", "2026-04-12"), ("2026.04.12.tif", "2026-04-12"),
        ("a_20260412_20260501.tif", None), ("a_20261399.tif", None), ("120260412.tif", None),
        ("/2026-01-01/a.tif", None),
    ],
)  # fmt: skip
def test_days_in_names(name, day):
    found = date_in(name)
    assert (None if found is None else found.isoformat()[:10]) == day


def test_what_has_no_place_has_no_item():
    for raster in (sp.from_array(np.ones((3, 3))), raster_on(sp.Grid.from_corner(
            (3, 3), x=0, y=0, pixel_size=1))):  # fmt: skip
        with pytest.raises(GridMismatch, match="no place on the earth"):
            sp.to_item(raster, "a_20260412.tif")
