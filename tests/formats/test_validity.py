"""Which pixels are valid, and their numbers, survive every writer, whatever says so."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from tests.conftest import natural

import spectrane as sp
from spectrane.engine.memory import ArraySource
from spectrane.model.errors import FormatError
from spectrane.raster import Raster

pytestmark = pytest.mark.filterwarnings("ignore::spectrane.DataWarning")
ENDINGS = [".tif", ".nc", ".zarr", ".fits", ".npy", ".raw", ".png"]
RULES = {
    "none": [None, None, None],
    "one": [9, 9, 9],
    "each its own": [9, 40, None],
    "several": [(9, 40), (9, 40), (9, 40)],
    "a range": [((9, 40),), ((9, 40),), ((9, 40),)],
}
MASKS = {"no mask": None, "one mask": (1, 40, 30), "masks": (3, 40, 30)}
CASES = list(itertools.product(RULES, MASKS, ("any", "all")))


def made(rng, dtype, rule, mask, when):
    array = natural(rng, (3, 40, 30), "i4").view("u4").astype("u1") % 60
    array[0, :3], array[1:, 1] = 9, 40
    array[:, 5] = 9
    array = array > 30 if dtype == "?" else array.astype(dtype)
    if array.dtype.kind == "f":
        array[:, 7, ::3] = np.nan
    shape = MASKS[mask]
    source = ArraySource(
        array, mask=None if shape is None else rng.random(shape) > 0.3,
        bands=[sp.Band(f"b{k}", nodata=one) for k, one in enumerate(RULES[rule])],
    )  # fmt: skip
    source.nodata_when = when
    return source


def everything(source):
    pixels = source.read(range(len(source.bands)), tuple((0, n) for n in source.shape))
    return pixels.values, pixels.validity


def saved(source, path, **options):
    Raster(source).save(path, **options)
    return everything(sp.open(path)._source)


@pytest.mark.parametrize("ending", ENDINGS)
@pytest.mark.parametrize("dtype", ["u1", "i2", "u4", "f4", "?"])
def test_valid_numbers_stay_valid_and_equal(tmp_path, rng, ending, dtype):
    if ending == ".png" and dtype != "u1":
        dtype = "u2"
    for number, (rule, mask, when) in enumerate(CASES):
        if ending == ".fits" and dtype == "f4" and when == "all":
            continue  # where each band's NaN counts by itself, which is warned of
        source = made(rng, dtype, rule, mask, when)
        values, valid = everything(source)
        got, kept = saved(source, tmp_path / f"{number}{ending}")
        np.testing.assert_array_equal(kept, valid, err_msg=f"{rule}, {mask}, {when}")
        np.testing.assert_array_equal(got[valid], values[valid], err_msg=f"{rule}, {mask}, {when}")


@pytest.mark.parametrize("ending", [".fits", ".npy", ".raw", ".png", ".tif"])
def test_with_every_number_in_use_nothing_is_lost_in_silence(tmp_path, rng, ending):
    array = np.tile(np.arange(256, dtype="u1"), (3, 20, 1))
    mask = np.ones(array.shape, bool)
    mask[0, 4] = False
    source = ArraySource(array, mask=mask)
    wanted = r"every number of uint8, so that none is left .* write \.nc or \.zarr"
    with pytest.raises(FormatError, match=wanted):
        saved(source, tmp_path / f"a{ending}")
    assert not list(tmp_path.iterdir())
    got, kept = saved(source, tmp_path / "a.nc")
    np.testing.assert_array_equal(kept, mask)
    np.testing.assert_array_equal(got, array)
    array[array == 255] = 7
    got, kept = saved(source, tmp_path / f"b{ending}")
    np.testing.assert_array_equal(kept, mask)


CONVERTED = [
    (np.uint16([0, 1, 2, 300, 400]), 400, "uint8", [0, 1, 2, 255, None], "1 clamped"),
    (np.float32([0.4, -5, np.nan, 7]), None, "uint16", [0, 0, None, 7], "1 clamped, 1 rounded"),
    (np.float32([0.4, 254.6, 0, 300]), 0, "uint8", [1, 255, None, 255],
     "1 clamped, 2 rounded, 1 moved"),
    (np.int16([-3, 255, 300, 254]), 255, "uint8", [0, None, 254, 254], "2 clamped, 1 moved"),
    (np.float64([1e300, 2, -9999]), -9999, "float32", [np.finfo("f4").max, 2, None], "1 clamped"),
]  # fmt: skip


@pytest.mark.parametrize("ending", [".tif", ".nc", ".fits"])
@pytest.mark.parametrize(("array", "nodata", "dtype", "wanted", "told"), CONVERTED)
def test_no_valid_number_becomes_no_data_in_another_type(
    tmp_path, array, nodata, dtype, wanted, told, ending
):
    raster = sp.from_array(array[np.newaxis], nodata=nodata)
    with pytest.warns(sp.DataWarning, match=f"of the valid numbers, {told}"):
        raster.save(tmp_path / f"a{ending}", dtype=dtype)
    assert sp.open(tmp_path / f"a{ending}").pixels().tolist() == [[wanted]]


def test_mosaics_keep_what_all_share_and_change_no_number(tmp_path, utm):
    def piece(values, nodata, left):
        array = np.full((70, 45), values[-1], "u1")
        array[0, : len(values)] = values
        grid = utm.cropped(((0, 70), (left, left + 45)))
        return sp.from_array(array, grid=grid, nodata=nodata)

    both = sp.mosaic([piece([0, 3, 255], 0, 0), piece([0, 3, 255], 255, 45)])
    both.save(tmp_path / "a.tif")
    row = sp.open(tmp_path / "a.tif").pixels(rows=(0, 1))[0, 0]
    assert row[:3].tolist() == [None, 3, 255]
    assert row[45:48].tolist() == [0, 3, None]
    same = sp.mosaic([piece([0, 3, 7], 0, 0), piece([0, 4, 8], 0, 45)])
    assert same.bands[0].nodata == 0


@pytest.mark.parametrize("ending", [".nc", ".zarr", ".fits", ".npy", ".raw", ".tif", ".png"])
def test_what_bands_mean_is_kept_where_a_format_has_no_field(tmp_path, utm, ending):
    bands = [
        sp.Band("Température", role="lwir11", unit="°C", scale=0.01, offset=-20, nodata=7),
        sp.Band("haze", wavelength=443.0, description="by Ilka's filter", nodata=7),
        sp.Band("c", role="nir", unit="K"),
    ]
    array = np.arange(70 * 90 * 3, dtype="u2").reshape(3, 70, 90)
    for name, count in (("a", 3), ("b", 1)):
        raster = sp.from_array(array[:count], grid=utm, bands=bands[:count])
        raster.save(tmp_path / f"{name}{ending}")
        back = sp.open(tmp_path / f"{name}{ending}")
        if ending in (".nc", ".zarr", ".fits") and count == 3:
            # Where the bands' no-data differ, a mask or another value tells.
            kept = [sp.Band(**(vars(b) | {"nodata": None})) for b in back.bands]
            assert kept == [sp.Band(**(vars(b) | {"nodata": None})) for b in bands[:count]]
        else:
            assert list(back.bands) == bands[:count]
        assert back.grid.bounds == utm.bounds
        assert back.grid.crs_text == "EPSG:32727"
    if ending not in (".tif", ".npy", ".raw"):  # which have a place of their own for all of it
        with pytest.warns(sp.DataWarning, match="has no field for.*other programs"):
            raster.save(tmp_path / f"c{ending}")
