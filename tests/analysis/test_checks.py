"""What looks wrong is found, with the command that mends it; what is right is left alone."""

from __future__ import annotations

import numpy as np
import pytest

import spectrane as sp
from spectrane.analysis.checks import findings
from spectrane.analysis.sampling import sample_of
from spectrane.model.grid import Grid
from spectrane.model.source import source_of


@pytest.fixture
def plain(rng, utm):
    """Nothing to find fault with."""
    array = rng.integers(1, 255, (3, 70, 90)).astype("u1")
    bands = [sp.Band(name, role=name) for name in ("red", "green", "blue")]
    return {"array": array, "grid": utm, "bands": bands}


def codes(array, look=None, **options):
    raster = sp.from_array(array, **options)
    raster = raster if look is None else raster.with_look(look)
    return [one.code for one in findings(source_of(raster))]


def test_a_good_raster_has_none(plain):
    assert codes(**plain) == []


def test_a_filled_edge(plain):
    plain["array"][:, :, :9] = 0
    assert codes(**plain) == ["fill"]
    found = findings(source_of(sp.from_array(**plain)))[0]
    assert "10% of the pixels, from the edges inward, are exactly 0" in found.message
    assert found.fix.endswith("--nodata 0")
    assert codes(**plain, nodata=0) == []


def test_no_data_that_the_type_cannot_hold_hides_nothing(plain):
    assert codes(**plain, nodata=-9999) == ["nodata"]
    plain["array"][:, :, :9] = 0
    found = findings(source_of(sp.from_array(**plain, nodata=-9999)))
    assert [one.code for one in found] == ["nodata", "fill"]
    assert "-9999 is none that uint8 can hold" in found[0].message
    assert {one.fix.rpartition("--")[2] for one in found} == {"nodata 0"}


def test_what_is_no_fill(plain):
    plain["array"][:, 20:50, 30:60] = 0  # a lake, not an edge
    assert codes(**plain) == []
    plain["array"][0, :, :9] = 0  # one band only
    assert codes(**plain) == []
    masked = np.ma.masked_equal(plain["array"], 0)
    assert codes(masked, grid=plain["grid"], bands=plain["bands"]) == []


def test_stored_order(plain):
    plain["bands"] = plain["bands"][::-1]
    assert codes(**plain) == ["order"]
    found = findings(source_of(sp.from_array(**plain)))[0]
    assert "red, green, blue are bands 3,2,1" in found.message


def test_wavelengths_in_micrometres(plain):
    plain["bands"] = [
        sp.Band(f"b{k}", wavelength=wave) for k, wave in enumerate((0.49, 0.56, 0.842))
    ]
    assert codes(**plain) == ["wavelength"]
    found = findings(source_of(sp.from_array(**plain)))[0]
    assert "0.49 to 0.842 nm: they look like micrometres" in found.message
    assert found.fix.endswith("--wavelengths 490,560,842")


def test_bands_without_names(rng):
    assert codes(rng.integers(0, 255, (5, 9, 9)).astype("u1")) == ["unnamed"]


def with_grid(crs="EPSG:32727", x=0.0, y=0.0, size=10.0):
    return Grid.from_corner((70, 90), x=x, y=y, pixel_size=size, crs=crs)


PLACES = [
    (with_grid(crs=None), ["no-crs"]),
    (with_grid(size=(10.0, 60.0)), ["pixel-size"]),
    (with_grid(crs="EPSG:4326", size=10.0), ["pixel-size"]),
    (with_grid(crs="EPSG:4326", size=0.01, x=500000.0), ["pixel-size"]),
    (with_grid(size=0.0001), ["pixel-size"]),
    (with_grid(crs="EPSG:4326", size=0.01), []),
    (with_grid(crs="somewhere"), []),
]


@pytest.mark.parametrize(("grid", "wanted"), PLACES)
def test_places(plain, grid, wanted):
    assert codes(**(plain | {"grid": grid})) == wanted


VALUES = [
    (lambda rng: rng.uniform(0, 1, (70, 90)).astype("f4"), {}, []),
    (lambda rng: rng.uniform(0, 300, (70, 90)).astype("f4"), {}, []),
    (lambda rng: rng.uniform(0, 300, (70, 90)), {"look": sp.Look(limits="minmax")}, []),
    (lambda rng: rng.integers(200, 3000, (70, 90)).astype("u2"), {}, []),  # auto stretches
    (lambda rng: rng.integers(90, 99, (70, 90)).astype("u1"), {}, ["narrow"]),
    (lambda rng: rng.integers(0, 2, (70, 90)).astype(bool), {}, []),
    (lambda rng: rng.integers(0, 60000, (70, 90)).astype("u2"), {}, []),
    (lambda rng: rng.uniform(0, 1, (70, 90)).astype("f4"), {"look": sp.Look(limits=(5, 9))},
     ["display-range"]),
    (lambda rng: rng.uniform(0, 1, (70, 90)).astype("f4"), {"look": sp.Look(limits=(0, 65535))},
     ["display-range"]),
    (lambda rng: np.full((70, 90), np.nan, "f4"), {}, ["empty"]),
    (lambda rng: rng.integers(-9000, 9000, (70, 90)).astype("i2"),
     {"bands": [sp.Band("ndvi")]}, ["index-range"]),
    (lambda rng: rng.integers(-9000, 9000, (70, 90)).astype("i2"),
     {"bands": [sp.Band("ndvi", scale=1e-4)]}, []),
]  # fmt: skip


@pytest.mark.parametrize(("make", "options", "wanted"), VALUES)
def test_values(rng, utm, make, options, wanted):
    assert codes(make(rng), grid=utm, **options) == wanted


def test_what_the_header_claims(rng, tmp_path):
    from tests.formats import fits_builder

    data = rng.uniform(0, 1, (20, 30)).astype("f4")
    for claim, wanted in (((5.0, 9.0), ["header-range"]), ((0.0, 1.0), [])):
        extra = [("DATAMIN", claim[0]), ("DATAMAX", claim[1])]
        (tmp_path / "a.fits").write_bytes(fits_builder.image(data, extra=extra))
        with sp.open(tmp_path / "a.fits") as raster:
            assert [one.code for one in findings(source_of(raster))] == wanted


def test_a_large_raster_is_sampled_and_not_read(tmp_path, utm, monkeypatch):
    array = np.random.default_rng(2).integers(500, 60000, (1, 2200, 2100)).astype("u2")
    array[:, :300] = 0
    sp.from_array(array).save(tmp_path / "a.tif")
    source = source_of(sp.open(tmp_path / "a.tif"))
    sample = sample_of(source)
    assert not sample.complete
    assert sum(part.pixels.values[0].size for part in sample.parts) <= 9 * 256 * 256
    found = [one for one in findings(source) if one.code == "fill"]
    assert found[0].message.startswith("about ")


def test_text_from_files_is_escaped(plain):
    plain["bands"] = [sp.Band("<b>\x1b[2J", role="red"), *plain["bands"][1:]]
    said = sp.from_array(**plain).describe()
    assert "\x1b" not in str(said)
    assert "<b>" not in said._repr_html_()
    assert "&lt;b&gt;?[2J" in said._repr_html_()


def test_describe_says_where_it_lies(utm):
    said = sp.from_array(np.zeros((70, 90), "u1"), grid=utm).describe()
    assert said.facts["pixel_unit"] == "metre"
    assert "Pixel size    10 metres" in str(said)
    x, y = said.facts["corners_lonlat"][0]
    assert (-22 < x < -21, -24 < y < -23) == (True, True)
