"""Rasters and volumes to xarray and back: equal, validity, place and meaning included."""

from __future__ import annotations

import pickle

import numpy as np
import pytest
import xarray

import spectrane as sp
from spectrane.model.number_types import NUMBER_TYPES

GRIDS = {
    "map": sp.Grid.from_corner((6, 5), x=500_000, y=9_000_000, pixel_size=(10, 20),
                               crs="EPSG:32727"),
    "degrees": sp.Grid.from_corner((6, 5), x=-31.5, y=12.25, pixel_size=0.25, crs="EPSG:4326"),
    "rotated": sp.Grid((6, 5), ((8, 6, 100), (6, -8, 200), (0, 0, 1)), "EPSG:32727", y_up=True,
                       placed=True),
    "south up": sp.Grid((6, 5), ((2, 0, 10), (0, 2, 20), (0, 0, 1)), "EPSG:32727", placed=True),
    "without a system": sp.Grid((6, 5), ((2, 0, 10), (0, -2, 20), (0, 0, 1)), placed=True),
    "none": None,
}  # fmt: skip
MEANING = [
    sp.Band("deep red", role="red", wavelength=665.0, unit="1", scale=1e-4, description="a field"),
    sp.Band("nir", role="nir", unit="1", scale=1e-4, offset=-0.5),
]


def numbers(dtype, rng):
    if np.dtype(dtype).kind == "b":
        return rng.random((2, 6, 5)) < 0.5
    values = rng.integers(0, 100, (2, 6, 5)).astype(dtype)
    return values if values.dtype.kind in "iu" else values / 7


def same(one, other):
    assert (one.shape, one.dtype, one.grid) == (other.shape, other.dtype, other.grid)
    first, second = one.pixels(), other.pixels()
    np.testing.assert_array_equal(np.ma.getmaskarray(first), np.ma.getmaskarray(second))
    np.testing.assert_array_equal(first.filled(0), second.filled(0))
    assert one.bands == other.bands


@pytest.mark.parametrize("chunks", [None, "blocks", {"y": 2}])
@pytest.mark.parametrize("invalid", ["none", "declared", "mask", "ranges"])
@pytest.mark.parametrize("dtype", [*NUMBER_TYPES, "bool"])
def test_every_type_comes_back_as_it_was(dtype, invalid, chunks, rng):
    held = numbers(dtype, rng)
    nodata = {"declared": float(held[0, 0, 0]), "ranges": [(90, 95), 7]}.get(invalid)
    if np.dtype(dtype).kind == "b":
        nodata = None
    array = np.ma.MaskedArray(held, rng.random(held.shape) < 0.3) if invalid == "mask" else held
    raster = sp.from_array(array, grid=GRIDS["map"], bands=["a", "b"], nodata=nodata)
    made = raster.to_xarray(chunks=chunks)
    assert made.dims == ("band", "y", "x")
    assert (made.chunks is None) is (chunks is None)
    again = sp.from_xarray(made)
    if invalid == "mask" and made.dtype.kind == "f":
        np.testing.assert_array_equal(np.isnan(made.values), np.ma.getmaskarray(array))
    same(raster, again)
    same(raster, sp.from_xarray(pickle.loads(pickle.dumps(made))))


@pytest.mark.parametrize("name", GRIDS)
def test_places_and_meaning_come_back_also_of_a_part(name, rng):
    raster = sp.from_array(numbers("uint16", rng), grid=GRIDS[name], bands=MEANING, nodata=0)
    raster = raster.with_look(sp.Look(channels=("nir",), limits=(0.0, 1.0)))
    with pytest.warns(sp.DataWarning, match="offsets"):
        made = raster.to_xarray()
    again = sp.from_xarray(made)
    same(raster, again)
    assert (again.grid.y_up, again.grid.placed) == (raster.grid.y_up, raster.grid.placed)
    assert again.look == raster.look
    rows, columns = made.sizes["y"], made.sizes["x"]
    at = made[:, 2, 1]
    x, y = (at.xc, at.yc) if name == "rotated" else (at.x, at.y)
    assert (float(x), float(y)) == pytest.approx(raster.grid.center(row=2, column=1))
    part = sp.from_xarray(made.isel(band=[1], y=slice(1, 5), x=slice(2, None)))
    same(raster.select("nir").crop(rows=(1, 5), columns=(2, columns)), part)
    turned = sp.from_xarray(made.isel(y=slice(None, None, -1), band=[1, 0]))
    np.testing.assert_array_equal(turned.pixels(), raster.pixels()[::-1, ::-1])
    assert turned.grid.center(row=0, column=0) == pytest.approx(
        raster.grid.center(row=rows - 1, column=0))  # fmt: skip
    assert [band.offset for band in turned.bands] == [-0.5, 0.0]
    every = sp.from_xarray(made[:, ::2, ::2])
    assert every.grid.center(row=1, column=2) == pytest.approx(
        raster.grid.center(row=2, column=4))  # fmt: skip


def test_attributes_are_those_of_cf_and_physical_values_have_nan(rng):
    band = sp.Band("air", unit="K", scale=0.5, offset=200.0, nodata=0)
    raster = sp.from_array(np.array([[0, 7], [9, 1]], "u2"), bands=[band], grid=sp.Grid.from_corner(
        (2, 2), x=0, y=2, pixel_size=1, crs="EPSG:4326"))  # fmt: skip
    made = raster.to_xarray()
    assert made.attrs["units"] == "K"
    assert (made.attrs["_FillValue"], made.attrs["scale_factor"]) == (0, 0.5)
    assert made.attrs["long_name"] == "air"
    assert made.coords[made.attrs["grid_mapping"]].attrs["crs_wkt"].startswith("GEOG")
    assert made.x.attrs["standard_name"] == "longitude"
    values = raster.to_xarray(physical=True)
    np.testing.assert_array_equal(values.values, [[[np.nan, 203.5], [204.5, 200.5]]])
    assert "scale_factor" not in values.attrs
    doubled = sp.from_xarray(values * 2)
    np.testing.assert_array_equal(doubled.pixels(physical=True).compressed(), [407, 409, 401])
    assert doubled.grid == raster.grid


def others(**said):
    """An array as another program makes it: x first, latitudes rising, times as dates."""
    return xarray.DataArray(
        np.arange(24.0).reshape(3, 4, 2), dims=("lon", "lat", "time"),
        coords={"lon": ("lon", [10.0, 11, 12], {"units": "degrees_east"}),
                "lat": ("lat", [1.0, 2, 3, 4], {"units": "degrees_north"}),
                "time": np.array(["2026-01-01", "2026-01-08"], "datetime64[ns]")},
        attrs={"units": "degC", "_FillValue": 5.0, "long_name": "warmth"} | said, name="warmth",
    )  # fmt: skip


def test_arrays_of_others_are_understood_by_cf():
    raster = sp.from_xarray(others())
    assert raster.shape == (2, 4, 3)
    assert raster.grid.center(row=3, column=0) == (10.0, 4.0)
    assert raster.grid.crs.to_epsg() == 4326
    assert [band.name for band in raster.bands] == ["2026-01-01", "2026-01-08"]
    assert {(band.unit, band.nodata) for band in raster.bands} == {("degC", 5.0)}
    assert raster.pixels()[1, 2, 0] is np.ma.masked
    assert raster.pixels()[0, 1, 2] == 18.0
    dataset = xarray.Dataset({"warmth": others(), "wet": others()})
    with pytest.raises(sp.ArgumentError, match="variable="):
        sp.from_xarray(dataset)
    assert sp.from_xarray(dataset, variable="wet").shape == (2, 4, 3)
    with pytest.raises(sp.ArgumentError, match=r"xarray\.DataArray"):
        sp.from_xarray(np.zeros((2, 2)))
    with pytest.raises(sp.ArgumentError, match="two or more axes"):
        sp.from_xarray(others()[0, 0])


@pytest.mark.parametrize("chunks", [None, "blocks", 3])
@pytest.mark.parametrize("kind", ["int16", "float32", "masked"])
def test_volumes_come_back_also_parts_of_them(kind, chunks, rng):
    affine = np.array([[0, -2, 0, 5], [1.5, 0, 0, -7], [0, 0, 3, 1], [0, 0, 0, 1.0]])
    held = rng.integers(-9, 99, (2, 6, 5, 4)).astype("float32" if kind == "float32" else "int16")
    frames = [sp.Frame("rest", "HU", 0.5, 3.0, 0.0), sp.Frame("walk", "HU", 0.5, 3.0, 2.5, "t(9)")]
    volume = sp.volume_from_array(held, affine=affine, frames=frames, nodata=7)
    if kind == "masked":
        volume = volume.with_nodata({1: 3, 2: 8})
    made = volume.to_xarray(chunks=chunks)
    assert made.dims == ("frame", "i", "j", "k")
    assert made.time.values.tolist() == [0.0, 2.5]
    assert ("validity" in made.coords) is (kind == "masked")
    again = sp.from_xarray(made)
    assert (again.frames, again.grid, again.dtype) == (volume.frames, volume.grid, volume.dtype)
    part = sp.from_xarray(made.isel(frame=[1], i=slice(2, 5), k=slice(None, None, -1)))
    for one, other in (
        (volume.voxels(2), again.voxels(2)),
        (volume.voxels(2, i=(2, 5))[:, :, ::-1], part.voxels()),
    ):
        np.testing.assert_array_equal(np.ma.getmaskarray(one), np.ma.getmaskarray(other))
        np.testing.assert_array_equal(one.filled(0), other.filled(0))
    np.testing.assert_allclose(part.affine @ (0, 0, 0, 1), affine @ (2, 0, 3, 1))
    with pytest.raises(sp.MetadataError, match="patient"):
        sp.from_xarray(made.drop_vars("patient"))
