"""The public face: one list of names, thin methods, and the whole round a user makes."""

from __future__ import annotations

import pickle

import numpy as np
import pytest

import spectrane as sp


def test_every_public_name_is_there():
    assert sp.__all__ == sorted(sp.__all__)
    assert set(sp.__all__) == set(sp._HOME_OF)
    for name in sp.__all__:
        assert getattr(sp, name).__doc__, name
    assert set(sp.__all__) <= set(dir(sp))
    with pytest.raises(AttributeError, match="no attribute 'nothing'"):
        _ = sp.nothing


@pytest.fixture
def raster(rng):
    array = rng.integers(1, 4000, (4, 60, 80)).astype("u2")
    array[:, :, :5] = 0
    bands = [sp.Band(n, wavelength=w, scale=1e-4) for n, w in
             (("B1", 490), ("B2", 560), ("B3", 665), ("B4", 842))]  # fmt: skip
    grid = sp.Grid.from_corner((60, 80), x=480000, y=7360000, pixel_size=10, crs="EPSG:32727")
    return sp.from_array(array, grid=grid, bands=bands, nodata=0)


def test_from_array_to_file_and_back(tmp_path, raster):
    raster.save(tmp_path / "a.tif")
    with sp.open(tmp_path / "a.tif") as back:
        assert back.bands == raster.bands
        assert back.grid == raster.grid
        assert (back.shape, back.dtype) == (raster.shape, raster.dtype)
        assert (back.format, back.source) == ("TIFF", str(tmp_path / "a.tif"))
        assert back.metadata["compression"] == "DEFLATE"
        np.testing.assert_array_equal(back.pixels().filled(0), raster.pixels().filled(0))
        again = pickle.loads(pickle.dumps(back))
        np.testing.assert_array_equal(again.pixels("red").filled(0), back.pixels(3).filled(0))
        assert back.load().bands == back.bands
    assert back.pixels(1).shape == (1, 60, 80)  # closed files open again
    with pytest.raises(sp.FormatError, match="known endings: .tif, .tiff"):
        raster.save(tmp_path / "a.xyz")


def test_lazy_operations_chain(raster):
    part = raster.select(["nir", "red"]).crop(rows=(10, 50), columns=(5, 60)).crop(rows=(0, 10))
    assert part.shape == (2, 10, 55)
    np.testing.assert_array_equal(part.pixels()[0], raster.pixels("nir")[0, 10:20, 5:60])
    named = raster.with_bands({"nir": {"name": "near infrared"}}).with_nodata({1: None})
    assert named.bands[3].name == "near infrared"
    assert named.bands[0].nodata is None


def test_measures_are_tables(raster):
    table = raster.statistics(["red", "nir"])
    assert list(table.columns) == ["valid", "invalid", "min", "max", "mean", "std", "p1", "p50",
                                   "p99", "unit"]  # fmt: skip
    assert list(table.index) == ["B3", "B4"]
    red = raster.pixels("red", physical=True)
    assert table.loc["B3", "mean"] == pytest.approx(float(red.mean()), rel=1e-5)
    assert table.loc["B3", "invalid"] == 300
    region = raster.statistics("red", region=(480100, 7359800, 480200, 7359900))
    assert region.loc["B3", "valid"] == 100
    assert raster.histogram("red").counts[0].sum() == 60 * 75


def test_pictures_and_descriptions(tmp_path, raster):
    look = sp.Look(channels="natural", limits="percentile:2,98")
    picture = sp.render(raster, look, view=sp.View(rows=(0, 30)))
    assert picture.rgba.shape == (30, 80, 4)
    assert [scale.band for scale in picture.scales] == ["B3", "B2", "B1"]
    picture.save(tmp_path / "a.png")
    assert "80 columns x 60 rows" in str(raster.describe())
    assert "std" in raster.describe(statistics=True).to_dict()["statistics"][0]
    assert "<table>" in raster._repr_html_()
    assert repr(raster) == "<Raster memory: 4 bands, 60 rows x 80 columns, uint16>"


def test_masked_arrays_keep_their_mask():
    array = np.ma.MaskedArray(np.arange(4.0).reshape(2, 2), [[True, False], [False, False]])
    assert sp.from_array(array).pixels().tolist() == [[[None, 1.0], [2.0, 3.0]]]
