"""Names of bands stay unique through selecting, joining and writing."""

from __future__ import annotations

import numpy as np
import pytest

import spectrane as sp


def of(count, *, names=None, path=None):
    raster = sp.from_array(np.arange(count * 6, dtype="u1").reshape(count, 2, 3), bands=names)
    if path is None:
        return raster
    raster.save(path)
    return sp.open(path)


def test_a_band_without_a_name_is_called_by_its_own_number(tmp_path, run):
    raster = of(3, path=tmp_path / "a.tif")
    picked = raster.select([3, 1])
    assert [band.name for band in picked.bands] == ["band 1", "band 2"]
    assert [band.name for band in picked.select([2]).bands] == ["band 1"]
    np.testing.assert_array_equal(picked.pixels("band 1"), raster.pixels(3))
    assert run("export", tmp_path / "a.tif", "-o", tmp_path / "b.tif", "--bands", "3,2,1")[0] == 0
    written = sp.open(tmp_path / "b.tif")
    assert [band.name for band in written.bands] == ["band 1", "band 2", "band 3"]
    np.testing.assert_array_equal(written.pixels("band 3"), raster.pixels(1))


@pytest.mark.parametrize(
    ("parts", "names"),
    [
        ([("x", 1, None), ("y", 1, None)], ["x", "y"]),
        ([("x", 2, None), ("y", 1, None)], ["x 1", "x 2", "y"]),
        ([("x", 1, ["nir"]), ("y", 1, ["red"])], ["nir", "red"]),
        ([("x", 1, ["nir"]), ("y", 1, ["nir"])], ["x nir", "y nir"]),
        ([("x", 1, None), ("x", 1, None)], ["x x", "x x (2)"]),
        ([(None, 1, None), (None, 1, None)], ["band 1", "band 2"]),
        ([(None, 1, ["b"]), (None, 1, ["b"])], ["b", "b (2)"]),
    ],
)
def test_joined_bands_have_names_of_their_own(tmp_path, parts, names):
    rasters = []
    for number, (stem, count, given) in enumerate(parts):
        (tmp_path / str(number)).mkdir()
        path = None if stem is None else tmp_path / str(number) / f"{stem}.tif"
        rasters.append(of(count, names=given, path=path))
    joined = sp.join_bands(rasters)
    assert [band.name for band in joined.bands] == names
    for number, name in enumerate(names, 1):
        np.testing.assert_array_equal(joined.pixels(name), joined.pixels(number))


def test_a_name_of_several_bands_is_an_error():
    raster = of(3, names=["b", "B", "b"])
    assert raster.select("B").pixels()[0, 0, 0] == 6
    with pytest.raises(sp.BandError, match="2 bands are called 'b': numbers 1, 3; say"):
        raster.select("b")
