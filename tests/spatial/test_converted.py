"""Other types by told rules, and other units without touching a pixel."""

from __future__ import annotations

import numpy as np
import pytest

import spectrane as sp
from spectrane.display.export import converted
from spectrane.model.errors import LookError, MetadataError
from spectrane.model.source import source_of
from spectrane.spatial.converted import conversion


def changed(array, dtype, rescale=None, look=None, **options):
    raster = sp.from_array(np.atleast_2d(array), **options)
    source = converted(source_of(raster), dtype, rescale, look)
    return sp.Raster(source), source


KEPT = [
    (np.float64([0.4, 0.5, 1.5, 2.5, -0.5]), "u1", [0, 1, 2, 3, 0], 0),
    (np.float64([-1.0, 255.4, 255.5, 300, 0]), "u1", [0, 255, 255, 255, 0], 3),
    (np.int16([-5, 0, 200, 256, 300]), "u1", [0, 0, 200, 255, 255], 3),
    (np.uint8([0, 7, 255]), "i2", [0, 7, 255], 0),
    (np.int64([2**53 + 1, -1, 2**63 - 1]), "u8", [2**53 + 1, 0, 2**63 - 1], 1),
    (np.uint64([2**64 - 1, 5]), "i8", [2**63 - 1, 5], 1),
    (np.float32([1e20, -1e20, 3]), "i8", [2**63 - 1, -(2**63), 3], 2),
    (np.float64([1.1, 2.0]), "f4", [np.float32(1.1), 2.0], 0),
]


@pytest.mark.parametrize(("array", "dtype", "wanted", "clamped"), KEPT)
def test_numbers_are_kept_rounded_half_up_and_clamped(array, dtype, wanted, clamped):
    raster, source = changed(array, dtype)
    assert raster.dtype == np.dtype(dtype)
    assert raster.pixels().data[0, 0].tolist() == wanted
    assert getattr(source, "changes", {}).get("clamped", 0) == clamped


def test_invalid_numbers_get_a_no_data_value_of_the_new_type():
    raster, source = changed(np.float32([np.nan, 3.2, -9999]), "u1", nodata=-9999)
    assert raster.pixels().tolist() == [[[None, 3, None]]]
    assert raster.bands[0].nodata is None  # a mask tells: no number of the type is free for it
    assert source.changes == {"rounded": 1}
    raster, source = changed(np.float32([0, 0.4, -5, 300, 7]), "u1", nodata=0)
    assert raster.pixels().tolist() == [[[None, 1, 1, 255, 7]]]
    assert source.changes == {"clamped": 2, "rounded": 1, "moved": 2}
    raster.pixels()
    assert source.changes == {
        "clamped": 2,
        "rounded": 1,
        "moved": 2,
    }  # reading again counts no more
    raster, _ = changed(np.int16([7, -1]), "i4", nodata=-1)
    assert raster.bands[0].nodata == -1
    raster, _ = changed(np.int16([7, -1]), "f4", nodata=[-1, (100, 200)])
    assert raster.pixels().tolist() == [[[7.0, None]]]


STRETCHED = [
    ("full", "u1", np.uint16([0, 32768, 65535]), None, [0, 128, 255]),
    ("full", "u2", np.uint8([0, 1, 255]), None, [0, 257, 65535]),
    ("full", "u1", np.float32([10, 15, 20]), None, [0, 128, 255]),
    ("full", "i1", np.uint8([0, 255]), None, [-128, 127]),
    ("limits", "u1", np.uint16([0, 50, 100, 900]), sp.Look(limits=(0, 100)), [0, 128, 255, 255]),
    ("limits", "f4", np.uint16([0, 50, 100]), sp.Look(limits=(0, 100)), [0.0, 0.5, 1.0]),
]


@pytest.mark.parametrize(("rescale", "dtype", "array", "look", "wanted"), STRETCHED)
def test_ranges_are_stretched(rescale, dtype, array, look, wanted):
    raster, _ = changed(array, dtype, rescale, look)
    assert raster.pixels().data[0, 0].tolist() == wanted
    assert raster.metadata["display only"]
    assert not raster.bands[0].scaled


def test_the_lowest_number_is_kept_for_what_is_invalid():
    raster, _ = changed(np.uint16([9, 0, 100]), "u1", "limits", sp.Look(limits=(0, 100)), nodata=9)
    assert raster.pixels().data[0, 0].tolist() == [0, 1, 255]
    assert raster.pixels().mask[0, 0].tolist() == [True, False, False]


def test_limits_are_physical():
    band = sp.Band("t", unit="K", scale=0.01, offset=100)
    raster, _ = changed(np.int16([0, 500, 1000]), "u1", "limits", sp.Look(limits=(100, 110)),
                        bands=[band])  # fmt: skip
    assert raster.pixels().data[0, 0].tolist() == [0, 128, 255]
    assert raster.bands[0].unit is None


def test_blocks_and_windows_agree(rng):
    array = rng.normal(100, 60, (2, 600, 700)).astype("f4")
    raster, source = changed(array[0], "u1")
    whole = raster.pixels().data
    for window, pixels in source.blocks([0], ((0, 600), (0, 700))):
        part = whole[(slice(None), *(slice(*pair) for pair in window))]
        np.testing.assert_array_equal(pixels.values, part)


@pytest.mark.parametrize(
    ("options", "error", "match"),
    [
        ({"dtype": "uint9"}, MetadataError, "type 'uint9': expected one of uint8"),
        ({"dtype": "complex64"}, MetadataError, "complex64"),
        ({"dtype": "u1", "rescale": "some"}, LookError, "expected one of none, full, limits"),
    ],
)
def test_what_is_wrong_is_named(options, error, match):
    with pytest.raises(error, match=match):
        changed(np.uint8([1]), **options)


UNITS = [
    ("K", "celsius", 300.0, 26.85),
    ("K", "degC", 273.15, 0.0),
    ("degC", "K", 26.85, 300.0),
    ("degC", "degF", 100.0, 212.0),
    ("m", "mm", 1.5, 1500.0),
    ("mm", "m", 1500.0, 1.5),
    ("W m-2 sr-1 um-1", "W m-2 sr-1 nm-1", 1000.0, 1.0),
    ("m s-1", "km h-1", 10.0, 36.0),
    ("1", "%", 0.5, 50.0),
    ("HU", "HU", -1000.0, -1000.0),
]


@pytest.mark.parametrize(("given", "wanted", "value", "result"), UNITS)
def test_units_of_the_standards(given, wanted, value, result):
    factor, shift = conversion(given, wanted)
    assert value * factor + shift == pytest.approx(result, abs=1e-9)


def test_convert_changes_the_meaning_and_no_number():
    band = sp.Band("t", unit="K", scale=0.01, offset=0)
    raster = sp.from_array(np.int16([[29000, 30000]]), bands=[band])
    warm = raster.convert("celsius")
    assert warm.bands[0].unit == "celsius"
    assert warm.pixels().tolist() == raster.pixels().tolist()
    assert warm.pixels(physical=True)[0, 0].tolist() == pytest.approx([16.85, 26.85], abs=1e-4)
    assert warm.statistics().loc["t", "max"] == pytest.approx(26.85)


@pytest.mark.parametrize(
    ("unit", "wanted", "match"),
    [(None, "K", "has no unit"), ("m", "K", "'m' to 'K'"), ("qwx", "K", "qwx"), ("K", "?", "\\?")],
)
def test_what_does_not_convert_is_told(unit, wanted, match):
    raster = sp.from_array(np.int16([[1]]), bands=[sp.Band("t", unit=unit)])
    with pytest.raises(MetadataError, match=match):
        raster.convert(wanted)
