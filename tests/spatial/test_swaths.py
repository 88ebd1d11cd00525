"""Swaths: pixels with longitudes and latitudes of their own, brought to a grid and probed."""

from __future__ import annotations

import pickle

import h5py
import numpy as np
import pytest

import spectrane as sp
from spectrane.model.errors import DataWarning, GridMismatch, LookError

ROWS, COLUMNS, STEP = 300, 260, 0.004


def positions(start):
    """Rows run askew to the meridians, 13 degrees from the north."""
    row, column = np.mgrid[0:ROWS, 0:COLUMNS].astype("f8")
    turn = np.radians(13)
    east = STEP * (column * np.cos(turn) - row * np.sin(turn)) / np.cos(np.radians(23.5))
    north = -STEP * (column * np.sin(turn) + row * np.cos(turn))
    return (start + east + 180) % 360 - 180, -23 + north


@pytest.fixture(params=["coordinates", "beside it", "packed"])
def swath(request, tmp_path):
    def make(start=-21.0):
        longitude, latitude = positions(start)
        latitude[5:9, 5:9] = np.nan
        if request.param == "packed":
            longitude, latitude = (np.round(one * 1e6) * 1e-6 for one in (longitude, latitude))
        with h5py.File(tmp_path / "a.nc", "w") as file:
            file.attrs["Conventions"] = "CF-1.11"
            for name, values, units in (("lon", longitude, "degrees_east"),
                                        ("lat", latitude, "degrees_north")):  # fmt: skip
                if request.param == "packed":
                    stored = np.where(np.isfinite(values), np.round(values * 1e6), -(2**31))
                    file[name] = stored.astype("i4")
                    file[name].attrs["scale_factor"] = 1e-6
                    file[name].attrs["_FillValue"] = np.int32(-(2**31))
                else:
                    file[name] = values
                file[name].attrs["units"] = units
            data = file.create_dataset("t", data=np.stack([latitude, latitude + 1]) * 100,
                                       chunks=(1, 64, 64))  # fmt: skip
            if request.param != "beside it":
                data.attrs["coordinates"] = "lon lat"
        return sp.open(tmp_path / "a.nc"), longitude, latitude

    return make


def test_it_opens_as_what_it_is(swath):
    raster, longitude, latitude = swath()
    assert sp.members(raster.source).name.tolist() == ["t"]
    assert not raster.grid.placed
    assert "a swath" in str(raster.describe())
    with pytest.warns(DataWarning, match="drawn as they are stored"):
        sp.render(raster, size=(30, 26))
    part = raster.crop(rows=(50, 200), columns=(20, 200)).select([2])
    part = type(part)(pickle.loads(pickle.dumps(part._source)))
    for one, row, column in ((raster, 100, 50), (part, 50, 30)):
        with pytest.warns(DataWarning, match="a swath"):
            found = sp.probe(one, x=longitude[100, 50] + 5e-4, y=latitude[100, 50])
        assert found[["row", "column"]].values.tolist()[0] == [row, column]
    with pytest.raises(GridMismatch, match="lies off the swath"), pytest.warns(DataWarning):
        sp.probe(raster, x=10, y=10)


@pytest.mark.parametrize("start", [-21.0, 179.6])
def test_nearest_within_a_stated_distance(swath, start):
    raster, _, _ = swath(start)
    placed = raster.regrid(crs="EPSG:4326")
    assert placed.grid.crs_text == "EPSG:4326"
    assert placed.grid.pixel_size == (STEP, STEP)
    bounds = placed.grid.bounds
    assert bounds[2] - bounds[0] < 2 * STEP * COLUMNS
    row, column = np.mgrid[0 : placed.shape[1], 0 : placed.shape[2]]
    _, y = placed.grid.to_map(column + 0.5, row + 0.5)
    found = placed.pixels(1)[0]
    assert 0.6 < found.count() / found.size < 0.9
    assert np.abs(found / 100 - y).max() < 1.6 * STEP
    assert placed.metadata["swath"]["within metres"] == pytest.approx(1.5 * 445, rel=0.01)
    close = raster.regrid(placed.grid, within=100).pixels(1)[0]
    assert 0 < close.count() < found.count() / 4
    np.testing.assert_array_equal(close[~close.mask], found[~close.mask])
    window = placed.pixels(1, rows=(40, 90), columns=(100, 170))[0]
    np.testing.assert_array_equal(window, found[40:90, 100:170])


def test_area_is_the_mean_of_what_lies_in_a_pixel(swath):
    raster, longitude, latitude = swath()
    grid = sp.Grid.from_corner(
        (12, 14), x=-21.20000037, y=-23.05000041, pixel_size=0.07, crs="EPSG:4326"
    )
    found = raster.regrid(grid, resample="area").pixels(1)[0]
    column = np.floor((longitude + 21.20000037) / 0.07)
    row = np.floor((-23.05000041 - latitude) / 0.07)
    for k in range(12):
        for j in range(14):
            inside = (row == k) & (column == j)
            if not inside.any():
                assert found.mask[k, j]
            else:
                wanted = latitude[inside].mean() * 100
                assert found[k, j] == pytest.approx(wanted, abs=2e-4)
    on_map = raster.regrid(crs="EPSG:32727", pixel_size=3000, resample="area")
    assert on_map.pixels(2).count() > 300


def test_what_cannot_be_is_named(swath):
    raster, _, _ = swath()
    with pytest.raises(LookError, match="by nearest or area"):
        raster.regrid(crs="EPSG:4326", resample="cubic")
    with pytest.raises(LookError, match="expected metres above 0"):
        raster.regrid(crs="EPSG:4326", within=0)
    with pytest.raises(GridMismatch, match="needs a grid with a place"):
        raster.regrid(sp.Grid((3, 3)))
    plain = sp.from_array(np.zeros((3, 3)), grid=sp.Grid.from_corner(
        (3, 3), x=0, y=0, pixel_size=1, crs="EPSG:4326"))  # fmt: skip
    with pytest.raises(LookError, match="within is for swaths"):
        plain.regrid(crs="EPSG:32727", within=5)
