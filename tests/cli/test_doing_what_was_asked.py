"""What is asked for on the command line is done, or it is said why not."""

from __future__ import annotations

import json

import numpy as np
import pytest

import spectrane as sp


@pytest.fixture
def kelvin(tmp_path, utm):
    values = np.linspace(2800, 3000, 6300).astype("u2").reshape(1, 70, 90)
    band = sp.Band("temperature", unit="K", scale=0.1)
    raster = sp.from_array(values, grid=utm, bands=[band])
    raster.save(tmp_path / "k.tif", look=sp.Look(limits=(283.15, 293.15)))
    sp.amend(tmp_path / "k.tif", look=sp.Look(limits=(283.15, 293.15)))
    return tmp_path / "k.tif"


def test_a_unit_holds_for_pictures_numbers_and_legends(kelvin, run, tmp_path):
    given = ("render", kelvin, "-o", tmp_path / "a.png", "--overwrite", "--legend",
             tmp_path / "l.png", "--json")  # fmt: skip
    plain, other = (json.loads(run(*given, *more)[1])["results"][0]["scales"][0]
                    for more in ([], ["--unit", "celsius"]))  # fmt: skip
    assert (plain["low"], plain["high"]) == (283.15, 293.15)
    assert (other["low"], other["high"]) == pytest.approx((10, 20))
    drawn = [sp.render(one).rgba for one in (sp.open(kelvin), sp.open(kelvin).convert("celsius"))]
    np.testing.assert_array_equal(*drawn)
    facts = json.loads(run("histogram", kelvin, "--unit", "celsius", "--json")[1])["results"][0][
        "channels"
    ][0]
    assert (facts["unit"], facts["low"]) == ("celsius", pytest.approx(10))
    row = json.loads(run("probe", kelvin, "--pixel-at", "0,0", "--unit", "celsius", "--json")[1])[
        "results"
    ][0]
    assert (row["unit"], row["physical"]) == ("celsius", pytest.approx(280 - 273.15))
    status, out, _ = run("compare", kelvin, "--vary", "curve=sqrt", "--vary", "curve=linear",
                         "--unit", "celsius", "-o", tmp_path / "c.png")  # fmt: skip
    assert (status, "2 panels at the same place" in out) == (0, True)


def test_a_look_of_several_files_is_kept_once(tmp_path, run, rng):
    for name in ("a", "b"):
        sp.from_array(rng.integers(0, 255, (1, 9, 9)).astype("u1")).save(tmp_path / f"{name}.tif")
    look = tmp_path / "x.look.toml"
    files = [tmp_path / "a.tif", tmp_path / "b.tif"]
    status, _, told = run("render", *files, "--out-dir", tmp_path / "o", "--curve", "sqrt",
                          "--save-look", look)  # fmt: skip
    assert (status, told) == (0, "")
    assert str(sp.Look.load(look).curve) == "sqrt"
    again = run("render", *files, "--out-dir", tmp_path / "p", "--save-look", look)
    assert again[0] == 1
    assert not list(tmp_path.glob("p/*.png"))  # said before anything is drawn


@pytest.mark.parametrize(("most", "told"), [(3000, True), (60000, False)])
def test_a_dark_picture_file_is_told(tmp_path, rng, most, told):
    import warnings

    raster = sp.from_array(rng.integers(0, most, (1, 90, 90)).astype("u2"))
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always")
        raster.save(tmp_path / "a.png")
        raster.save(tmp_path / "b.png", dtype="uint8", rescale="limits")
        raster.save(tmp_path / "c.tif")
    said = [str(one.message) for one in caught if "nearly black" in str(one.message)]
    assert len(said) == told


def test_a_display_picture_is_not_measured_in_silence(tmp_path, rng, run):
    raster = sp.from_array(rng.integers(0, 3000, (3, 40, 40)).astype("u2"))
    sp.render(raster).save(tmp_path / "a.png")
    raster.save(tmp_path / "b.tif", dtype="uint8", rescale="limits")
    raster.save(tmp_path / "c.png", dtype="uint8", rescale="limits")
    for name in ("a.png", "b.tif", "c.png"):
        shown = sp.open(tmp_path / name)
        for measured in (lambda r: r.statistics(), lambda r: r.histogram(),
                         lambda r: sp.probe(r, row=1, column=1),
                         lambda r: sp.profile(r, [{"row": 1, "column": 1}])):  # fmt: skip
            with pytest.warns(sp.DataWarning, match=f"{name}: says of itself that it is a display"):
                measured(shown)
    _, _, told = run("histogram", tmp_path / "a.png", "-o", tmp_path / "h.png")
    assert "display picture and not data" in told


def advice(raster, look=None):
    import warnings

    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always")
        sp.render(raster, look)
    return [str(one.message) for one in caught]


def scene(rng):
    return rng.integers(0, 3000, (90, 90)).astype("u2")


@pytest.mark.parametrize(
    ("make", "look", "said"),
    [
        (scene, sp.Look(limits=(1000, 1100)), None),
        (scene, None, None),
        (lambda rng: rng.random((90, 90)).astype("f4") * 300, None, None),
        (lambda rng: rng.integers(0, 2, (90, 90)).astype(bool), None, None),
        (lambda rng: np.kron([[0, 1], [0, 1]], np.ones((45, 45))).astype(bool), None, None),
        (scene, sp.Look(limits=(5000, 6000)),
         "no more than 2 tones: the limits .band 1 5000 to 6000. leave nothing between"),
        (scene, sp.Look(limits=(1500, 1500.1)), "no more than 2 tones"),
    ],
)  # fmt: skip
def test_advice_does_not_nag(rng, make, look, said):
    import re

    told = advice(sp.from_array(make(rng)), look)
    assert (len(told) == 1 and re.search(said, told[0])) if said else not told
    assert not any("nodata" in one["fix"] for one in sp.from_array(make(rng)).describe().warnings)


def test_a_survey_says_once_what_files_share(tmp_path, rng, run):
    grid = sp.Grid.from_corner((9, 9), x=0, y=0, pixel_size=1)
    for k in range(5):
        sp.from_array(rng.integers(0, 9, (1, 9, 9)).astype("u1"), grid=grid).save(
            tmp_path / f"{k}.tif"
        )
    out = run("survey", tmp_path)[1]
    assert out.count("coordinate system") == 1
    assert "5 files (0.tif, 1.tif, 2.tif and 2 more): " in out


UNREAD = [
    ("overlay --layers demo/sound.layers.toml -o o.png", "--opacity 0.5"),
    ("overlay --layers demo/sound.layers.toml -o o.png", "--limits minmax"),
    ("overlay --layers demo/sound.layers.toml -o o.png", "--outline-color #ff0000"),
    ("overlay --layers demo/sound.layers.toml -o o.png", "--base"),
    ("page --layers demo/sound.layers.toml -o o.html", "--colormap kiln"),
    ("page demo/sound_thermal.tif -o o.html", "--quad"),
    ("page demo/sound_thermal.tif -o o.kmz", "--no-values"),
    ("overlay demo/sound_thermal.tif -o o.png", "--outline-color #ff0000"),
    ("overlay demo/sound_thermal.tif -o o.png", "--sun 315,45"),
    ("overlay demo/sound_thermal.tif -o o.png", "--area-crs EPSG:4326"),
    ("probe demo/fetlock.nii.gz --at 12,0,9", "--compute a=1"),
    ("probe demo/fetlock.nii.gz --at 12,0,9", "--limits minmax"),
    ("probe demo/fetlock.nii.gz --at 12,0,9", "--points-crs EPSG:4326"),
    ("probe demo/sound_8band.tif --points demo/stations.csv --keep-spectra s.toml", "--curve sqrt"),
    ("probe demo/sound_8band.tif --points demo/stations.csv", "--size 640x400"),
    ("histogram demo/fetlock.nii.gz -o h.png", "--unit m"),
    ("histogram demo/fetlock.nii.gz -o h.png", "--row-range 0,9"),
    ("histogram demo/sound_thermal.tif --json", "--size 640x400"),
    ("clip demo/sound_8band.tif -o o.tif --row-range 0,9", "--keep touching"),
    ("clip demo/sound_8band.tif -o o.tif --row-range 0,9", "--outside"),
    ("clip demo/sound_8band.tif -o o.tif --row-range 0,9", "--mask-as alpha"),
    ("clip demo/sound_8band.tif -o o.tif --row-range 0,9", "--grow 2"),
    ("clip demo/sound_8band.tif -o o.tif --row-range 0,9", "--area-crs EPSG:4326"),
    ("clip demo/sound_8band.tif -o o.tif --row-range 0,9", "--band 2"),
    ("clip demo/sound_8band.tif -o o.tif --shape demo/sound_north.tif", "--soft 3"),
    ("render demo/sound_8band.tif -o o.png", "--area-crs EPSG:4326"),
    ("place demo/barrage_plan.png -o o.tif --bounds 0,0,900,420", "--leave-out 2"),
    ("place demo/barrage_plan.png -o o.tif --bounds 0,0,900,420", "--resample cubic"),
    ("tiles demo/sound_thermal.tif -o t", "--stored"),
]


@pytest.mark.parametrize(("command", "more"), UNREAD)
def test_an_option_that_is_not_read_is_refused_before_anything_is_written(
    demo, run, tmp_path, monkeypatch, command, more
):
    monkeypatch.chdir(tmp_path)
    words = [str(demo / one[5:]) if one.startswith("demo/") else one for one in command.split()]
    status, _, told = run(*words, *more.split())
    assert status in (1, 2), told
    assert more.split()[0].lstrip("-").replace("-", " ") in told.replace("-", " "), told
    assert not list(tmp_path.iterdir())
