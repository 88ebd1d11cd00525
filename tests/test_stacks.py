"""Bands of several files on one grid: written, linked, named, and scaled by notes."""

from __future__ import annotations

import json
import pickle

import numpy as np
import pytest
from scipy.interpolate import RegularGridInterpolator

import spectrane as sp
from spectrane.formats.notes import read_notes
from spectrane.model.errors import FormatError, GridMismatch, MetadataError
from spectrane.model.roles import role_in, wavelength_in
from spectrane.stacks import apart, scaled_by

RANDOM = np.random.default_rng(4)


def ground(side, rows, columns, *, x=500_000.0, y=7_300_000.0):
    return sp.Grid.from_corner((rows, columns), x=x, y=y, pixel_size=side, crs="EPSG:32727")


@pytest.fixture
def parts(tmp_path):
    """A fine band, another, and a coarse one that covers more; each a file of its own."""
    fine, coarse = ground(10, 40, 60), ground(20, 22, 32, x=499_980.0, y=7_300_020.0)
    blue = RANDOM.integers(100, 3000, (40, 60)).astype("u2")
    blue[:4, :5] = 0
    smooth = RANDOM.normal(500, 100, (22, 32)).cumsum(0).cumsum(1) / 40
    files = {"sound_B02_2026": (blue, fine, {"unit": "1", "scale": 1e-4, "nodata": 0}),
             "sound_nir_2026": (blue + np.uint16(500), fine, {"unit": "1"}),
             "sound_1610nm_2026": (smooth.astype("f4"), coarse, {"unit": "K"})}  # fmt: skip
    paths = []
    for name, (values, grid, band) in files.items():
        paths.append(tmp_path / f"{name}.tif")
        sp.from_array(values, grid=grid, bands=[sp.Band("band 1", **band)]).save(paths[-1])
    return paths


def test_a_stack_is_what_each_part_is_on_one_grid(parts):
    rasters = [sp.open_raster(path) for path in parts]
    stack = sp.join_bands(rasters, regrid=True)
    assert [(b.name, b.role, b.wavelength, b.unit, b.scale) for b in stack.bands] == [
        ("B02", None, None, "1", 1e-4), ("nir", "nir", None, "1", 1.0),
        ("1610nm", "swir16", 1610.0, "K", 1.0)]  # fmt: skip
    assert stack.grid == rasters[0].grid
    got = stack.pixels()
    np.testing.assert_array_equal(got[0].compressed(), rasters[0].pixels().compressed())
    assert got.mask[0, :4, :5].all()
    assert got.mask[0].sum() == 20
    # the coarse band against an independent interpolation at the centres of the fine pixels
    rows, columns = np.mgrid[:40, :60]
    at = ((rows + 0.5) / 2 + 1 - 0.5, (columns + 0.5) / 2 + 1 - 0.5)
    coarse = rasters[2].pixels()[0].filled(0).astype(float)
    wanted = RegularGridInterpolator((np.arange(22), np.arange(32)), coarse)(at)
    linear = sp.join_bands(rasters, regrid=True, resample="bilinear").pixels()[2]
    np.testing.assert_allclose(linear, wanted, rtol=1e-5)
    other = sp.join_bands(rasters, grid=rasters[2])
    assert other.grid == rasters[2].grid
    with pytest.raises(GridMismatch, match="regrid it first"):
        sp.join_bands(rasters)


def test_the_command_writes_or_links(parts, run, tmp_path):
    whole, linked = tmp_path / "whole.tif", tmp_path / "sub" / "a.stack.toml"
    linked.parent.mkdir()
    status, out, _ = run("export", *parts, "-o", whole, "--join", "--roles", "blue,-,swir16",
                         "--names", "a,b,c", "--json")  # fmt: skip
    facts = json.loads(out)["results"][0]
    assert (status, facts["shape"], facts["inputs"]) == (0, [3, 40, 60], list(map(str, parts)))
    assert run("export", *parts, "-o", linked, "--join", "--linked", "--roles", "blue,-,swir16",
               "--names", "a,b,c")[0] == 0  # fmt: skip
    assert "../sound_B02_2026.tif" in linked.read_text()
    one, other = sp.open_raster(whole), sp.open_raster(linked)
    assert [(b.name, b.role, b.unit, b.scale) for b in one.bands] == [
        (b.name, b.role, b.unit, b.scale) for b in other.bands] == [
        ("a", "blue", "1", 1e-4), ("b", None, "1", 1.0), ("c", "swir16", "K", 1.0)]  # fmt: skip
    np.testing.assert_array_equal(one.pixels().filled(-1), other.pixels().filled(-1))
    again = pickle.loads(pickle.dumps(other))
    np.testing.assert_array_equal(again.pixels().filled(-1), other.pixels().filled(-1))
    assert sp.survey(linked.parent)["format"].tolist() == ["stack"]
    assert sp.member_rows(linked)[0]["bands"] == 3
    before = other._source.state
    sp.from_array(np.ones((40, 60), "u2"), grid=one.grid).save(parts[1], overwrite=True)
    changed = sp.open_raster(linked)
    assert changed._source.state != before
    assert changed.pixels("b").max() == 1


HOSTILE = [
    ('kind = "stack"\n', "grid"), ('kind = "stack"\n[grid\n', "not TOML"),
    ('kind = "stack"\n[grid]\nrows = 1\ncolumns = 1\n[[band]]\nfile = "no.tif"\n', "no.tif"),
    ('kind = "stack"\n[grid]\nrows = 1\ncolumns = 1\n[[band]]\nfile = "a.stack.toml"\n', "itself"),
    ('kind = "stack"\n[grid]\nrows = 1\ncolumns = 1\nband = []\n', "band"),
    ('# a note\nkind = "stack"\n[grid]\nrows = 40\ncolumns = 60\n[[band]]\nfile = '
     '"sound_B02_2026.tif"\nnumber = 9\n', "there is no band 9"),
    ('kind = "stack"\nextra = 1\n[grid]\nrows = 1\ncolumns = 1\n[[band]]\nfile = "x"\n', "extra"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "told"), HOSTILE)
def test_a_broken_stack_file_says_what_is_wrong(text, told, parts, tmp_path):
    path = tmp_path / "a.stack.toml"
    path.write_text(text)
    with pytest.raises((FormatError, sp.BandError), match=told):
        sp.open_raster(path)


NOTES = [
    ("scale = 0.5\noffset = -1\n", None, [(0.5, -1), (0.5, -1), (0.5, -1)]),
    ("B02.scale: 0.5\nscale_B03 = 0.25\noffset: 7\n", None, [(0.5, 7), (0.25, 7), (1, 7)]),
    ("REFLECTANCE_MULT_BAND_2 = 2.0E-05\nREFLECTANCE_ADD_BAND_2 = -0.1\n"
     "RADIANCE_MULT_BAND_2 = 0.01\nREFLECTANCE_MULT_BAND_3 = 3e-5\n", "reflectance",
     [(2e-5, -0.1), (3e-5, 0), (1, 0)]),
    ("# told by hand\n[GROUP]\nnir gain = 4\nband 2 slope 9\nB03 bias = 2 ;\n", None,
     [(1, 0), (1, 2), (4, 0)]),
]  # fmt: skip


@pytest.mark.parametrize(("text", "quantity", "wanted"), NOTES)
def test_scales_come_from_notes_that_are_named(text, quantity, wanted, tmp_path):
    path = tmp_path / "notes.txt"
    path.write_text(text)
    bands = [sp.Band("B02"), sp.Band("B03"), sp.Band("nir")]
    made = scaled_by(read_notes(path), bands, quantity, "notes.txt")
    assert [(band.scale, band.offset) for band in made] == wanted
    grid = ground(10, 2, 3)
    rasters = [sp.from_array(np.ones((2, 3), "u2"), grid=grid, bands=[band]) for band in bands]
    asked = str(path) if quantity is None else f"{path},{quantity}"
    stack = sp.join_bands(rasters, regrid=True, notes=asked)
    assert [(band.scale, band.offset) for band in stack.bands] == wanted
    assert {band.scale for band in sp.join_bands(rasters, regrid=True).bands} == {1.0}


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("REFLECTANCE_MULT_BAND_2 = 1\nRADIANCE_MULT_BAND_2 = 2\n", "says several of B02"),
        ("scale = 1\nscale = 2\n", "several of B02: scale 1, scale 2"),
        ("scale = high\n", "expected a number"), ("colour = blue\n", "says no scale or offset"),
        ("\n\n", "holds no notes"), ("scale_B11 = 2\n", "says no scale"),
    ],
)  # fmt: skip
def test_notes_that_do_not_fit(text, told, tmp_path):
    path = tmp_path / "notes.txt"
    path.write_text(text)
    band = sp.from_array(np.ones((2, 3), "u2"), bands=["B02"])
    with pytest.raises(MetadataError, match=told):
        sp.join_bands([band], regrid=True, notes=path)


def test_roles_wavelengths_and_names_that_names_say():
    said = {"sound_NIR_10m": "nir", "B04": None, "Red Edge 1": "rededge", "swir2": "swir22",
            "thermal infrared": "lwir", "near-infrared": "nir", "red_blue": None, "reduced": None,
            "PAN": "pan", "coastal aerosol": "coastal", "nir08": "nir08"}  # fmt: skip
    assert {text: role_in(text) for text in said} == said
    waves = {"a_665nm": 665.0, "1.61um": 1610.0, "0.84 µm": 840.0, "B665": None, "665nmx": None}
    assert {text: wavelength_in(text) for text in waves} == waves
    assert apart(["a_b_1_z", "a_b_2_z", "a_b_30_z"]) == ["1", "2", "30"]
    assert apart(["x", "x"]) == ["x", "x"]
    stack = sp.join_bands([sp.from_array(np.ones((2, 2))), sp.from_array(np.ones((2, 2)))],
                          regrid=True, roles=["red", None])  # fmt: skip
    assert [band.name for band in stack.bands] == ["band 1", "band 2"]
    for wrong, told in (({"roles": ["rot", None]}, "role 'rot'"), ({"names": ["a"]}, "1 for 2")):
        with pytest.raises(MetadataError, match=told):
            sp.join_bands([stack], regrid=True, **wrong)


def test_wrong_uses_of_join(parts, run, tmp_path):
    target = tmp_path / "o.tif"
    for wrong in (["--linked"], ["--join", "--linked"], ["--names", "a"], ["--join", "--crs",
                  "EPSG:4326"], ["--join", "--where", "band(1) > 0"]):  # fmt: skip
        assert run("export", *parts[:1], "-o", target, *wrong)[0] in (1, 2)
        assert not target.exists()
    assert run("export", *parts, "-o", tmp_path / "o.stack.toml", "--join")[0] == 2
    assert run("export", *parts, "--out-dir", tmp_path, "--join")[0] == 2


def test_roles_bring_wavelengths_that_are_marked(run, tmp_path):
    bands = [sp.Band("a", role="red"), sp.Band("b", role="nir", wavelength=842.0), sp.Band("c")]
    path = tmp_path / "a.tif"
    sp.from_array(np.ones((3, 4, 5)), bands=bands).save(path)
    table = sp.profile(sp.open_raster(path), {"row": 1, "column": 1})
    np.testing.assert_array_equal(table["wavelength"], [657.5, 842.0, np.nan])
    assert table["nominal"].tolist() == [True, False, False]
    status, _, err = run("probe", path, "--pixel-at", "1,1", "--keep-spectra", tmp_path / "s.toml")
    assert (status, "wavelengths of c are not known" in err) == (0, True)
    assert "nominal = true" in (tmp_path / "s.toml").read_text()
    kept = sp.Spectra.load(tmp_path / "s.toml")
    np.testing.assert_array_equal(kept.wavelengths, [657.5, 842.0, np.nan])
    assert "about 657.5" in run("describe", path)[1]


SHAPED = [
    (["--bands", "1610nm,B02"], lambda made, whole: made.pixels()[0] - whole.pixels()[2]),
    (["--row-range", "3,9"], lambda made, whole: made.pixels() - whole.pixels(rows=(3, 9))),
    (["--physical", "--bands", "B02"],
     lambda made, whole: made.pixels() - whole.pixels("B02", physical=True)),
    (["--compute", "x=nir * 2"],
     lambda made, whole: made.pixels() - 2 * whole.pixels("nir", physical=True)),
    (["--grid-of", "2"], None),
    (["--nodata", "none", "--bands", "B02"], lambda made, whole: made.pixels().mask.sum()),
    (["--resample", "nearest"], None),
]  # fmt: skip


@pytest.mark.filterwarnings("ignore")
@pytest.mark.parametrize(("options", "difference"), SHAPED)
def test_a_stack_takes_the_options_of_an_export(options, difference, parts, run, tmp_path):
    said = [str(parts[2]) if one == "2" else one for one in options]
    status, _, err = run("export", *parts, "-o", tmp_path / "o.tif", "--join", *said)
    assert status == 0, err
    rasters = [sp.open_raster(path) for path in parts]
    made, whole = sp.open_raster(tmp_path / "o.tif"), sp.join_bands(rasters, regrid=True)
    if difference is not None:
        assert np.abs(difference(made, whole)).max() < 1e-3
    elif "--grid-of" in options:
        assert made.grid == rasters[2].grid
    else:
        values = sp.join_bands(rasters, regrid=True, resample="nearest").pixels()[2]
        np.testing.assert_array_equal(made.pixels()[2], values)
