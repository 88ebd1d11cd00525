"""Band expressions: what they give, and what they have no place for."""

from __future__ import annotations

import numpy as np
import pytest

import spectrane as sp
from spectrane.model.errors import BandError, LookError

RED = np.array([[1.0, 2.0, 0.0, 4.0]], "f4")
NIR = np.array([[3.0, 2.0, 0.0, 9.0]], "f4")


@pytest.fixture
def raster():
    bands = [sp.Band("B4", role="red"), sp.Band("near infrared", role="nir")]
    return sp.from_array(np.stack([RED, NIR]), bands=bands, nodata={1: 4})


VALUES = [
    ("red + nir", [4, 4, 0, None]),
    ("band(2) - band(1)", [2, 0, 0, None]),
    ('band("near infrared") * 2', [6, 4, 0, 18]),
    ("nir / red", [3, 1, None, None]),
    ("-red ** 2", [-1, -4, 0, None]),
    ("(nir - red) / (nir + red)", [0.5, 0, None, None]),
    ("ndvi", [0.5, 0, None, None]),
    ("nir > 2", [1, 0, 0, 1]),
    ("1 <= red < 2", [1, 0, 0, None]),
    ("nir > 2 and red == 1", [1, 0, 0, None]),
    ("not (nir > 2)", [0, 1, 1, 0]),
    ("nir > 2 or red > 1", [1, 1, 0, None]),
    ("where(nir > red, nir, -1)", [3, -1, -1, None]),
    ("abs(red - nir)", [2, 0, 0, None]),
    ("sqrt(nir)", [3**0.5, 2**0.5, 0, 3]),
    ("log(nir)", [np.log(3), np.log(2), None, np.log(9)]),
    ("exp(red)", [np.e, np.e**2, 1, None]),
    ("min(red, nir) + max(red, nir)", [4, 4, 0, None]),
    ("clip(nir, 1, 2)", [2, 2, 1, 2]),
    ("nir + True", [4, 3, 1, 10]),
]


@pytest.mark.parametrize(("text", "wanted"), VALUES)
def test_each_expression_gives_its_value(raster, text, wanted):
    got = raster.compute({"x": text})
    assert [band.name for band in got.bands] == ["x"]
    for have, want in zip(got.pixels()[0, 0].tolist(), wanted, strict=True):
        assert have == (None if want is None else pytest.approx(want, rel=1e-6))


WRONG = [
    ("__import__('os')", LookError, "no function '__import__'"),
    ("red.__class__", LookError, "has no place"),
    ("[red for red in nir]", LookError, "has no place"),
    ("red if nir else 1", LookError, "has no place"),
    ("lambda: red", LookError, "has no place"),
    ("red @ nir", LookError, "has no place"),
    ("red // nir", LookError, "has no place"),
    ("'red'", LookError, "has no place"),
    ("1j * red", LookError, "has no place"),
    ("red +", LookError, "cannot be read"),
    ("sqrt(red, nir)", LookError, "takes 1 values, not 2"),
    ("sqrtt(red)", LookError, "did you mean 'sqrt'"),
    ("1 + 2", LookError, "names no band"),
    ("band(red)", LookError, "one name in quotes"),
    ("redd + 1", BandError, "did you mean 'red'"),
    ("band(3) + 1", BandError, "no band 3"),
    ("band(0) + 1", BandError, "counted from 1"),
    ("b2 + 1", BandError, r"no band is called 'b2'; the band of that number is band\(2\)"),
    ("(" * 80 + "red" + ")" * 80 + " ** 2" * 80, LookError, "deeper|cannot be read"),
    ("red + " * 2000 + "red", LookError, "longer than"),
]


@pytest.mark.parametrize(("text", "error", "match"), WRONG)
def test_what_has_no_place_is_named_and_nothing_runs(raster, text, error, match):
    with pytest.raises(error, match=match):
        raster.compute({"x": text})


def test_physical_values_units_and_shrinking(rng):
    array = rng.integers(1, 5000, (2, 60, 80)).astype("u2")
    bands = [sp.Band("a", scale=0.5, offset=1.0), sp.Band("b", scale=2.0)]
    raster = sp.from_array(array, bands=bands).compute({"s": "a + b", "d": "a - b"}, unit="m")
    wanted = array[0] * 0.5 + 1 + array[1] * 2.0
    np.testing.assert_allclose(raster.pixels("s")[0], wanted.astype("f4"))
    assert raster.bands[1].unit == "m"
    assert raster.dtype == np.float32
    small = raster.pixels("s", size=(6, 8), resample="area")[0]
    np.testing.assert_allclose(small, wanted.reshape(6, 10, 8, 10).mean(axis=(1, 3)), rtol=1e-5)


def test_windows_blocks_and_files_agree(tmp_path, rng):
    array = rng.integers(1, 5000, (2, 300, 310)).astype("u2")
    sp.from_array(array).save(tmp_path / "a.tif")
    raster = sp.open(tmp_path / "a.tif").compute({"r": "band(1) / band(2)"})
    whole = raster.pixels()[0]
    np.testing.assert_array_equal(
        raster.pixels(rows=(5, 9), columns=(7, 300))[0], whole[5:9, 7:300]
    )
    assert raster.statistics().loc["r", "max"] == pytest.approx(float(whole.max()))
    raster.save(tmp_path / "r.tif")
    np.testing.assert_array_equal(sp.open(tmp_path / "r.tif").pixels()[0], whole)


def test_an_index_needs_its_roles():
    with pytest.raises(BandError, match="no band is called 'nir'"):
        sp.from_array(np.zeros((2, 2, 2))).compute({"x": "ndvi"})


FOLLOWS = [
    ("b", ("K", "nir", 842.0)),
    ("clip(b, 250, 300)", ("K", "nir", 842.0)),
    ("where(a > 3, b, 0)", ("K", "nir", 842.0)),
    ("max(a, b)", ("K", None, None)),
    ("a - b", ("K", None, None)),
    ("(a - b) / (a + b)", ("1", None, None)),
    ("abs(-a)", ("K", None, None)),
    ("b - 273.15", (None, None, None)),
    ("2 * b", (None, None, None)),
    ("a * b", (None, None, None)),
    ("a > b", (None, None, None)),
    ("a + c", (None, None, None)),
    ("c", (None, "red", None)),
    ("savi", ("1", None, None)),
]


def test_units_and_roles_are_kept_where_they_follow():
    bands = [sp.Band("a", unit="K"), sp.Band("b", wavelength=842, unit="K"),
             sp.Band("c", role="red")]  # fmt: skip
    raster = sp.from_array(np.ones((3, 2, 2)), bands=bands)
    for text, wanted in FOLLOWS:
        band = raster.compute({"x": text}).bands[0]
        assert (band.unit, band.role, band.wavelength) == wanted, text


def test_physical_values_become_the_numbers(tmp_path):
    bands = [sp.Band("a", wavelength=842, unit="1", scale=1e-4, offset=-0.1, nodata=0)]
    raster = sp.from_array(np.uint16([[0, 2000]]), bands=bands).physical()
    raster.save(tmp_path / "a.tif")
    back = sp.open(tmp_path / "a.tif")
    assert back.pixels().tolist() == [[[None, pytest.approx(0.1, rel=1e-6)]]]
    band = back.bands[0]
    assert (band.role, band.wavelength, band.unit, band.scaled) == ("nir", 842.0, "1", False)
