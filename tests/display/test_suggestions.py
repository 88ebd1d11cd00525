"""Looks that are offered, why a picture looks as it does, and decibels."""

from __future__ import annotations

import json
import shlex

import numpy as np
import pytest

import spectrane as sp
from spectrane.model.errors import BandError, LookError, MetadataError

RANDOM = np.random.default_rng(3)
NOISE = RANDOM.integers(100, 4000, (8, 40, 50))


def raster(values, *roles, **fields):
    names = roles or [f"band {k + 1}" for k in range(len(np.atleast_3d(values)))]
    bands = [sp.Band(name, role=role or None, **fields) for name, role in
             zip(names, roles or [None] * len(names), strict=True)]  # fmt: skip
    return sp.from_array(values, bands=bands if values.ndim == 3 else None)


EIGHT = ("blue", "green", "yellow", "red", "nir", "swir16", "swir22", "lwir")
OFFERED = [
    (raster(NOISE.astype("u2"), *EIGHT), 8, ["--channels natural", "--channels infrared",
     "--channels shortwave", "--compute ndvi", "--compute ndwi"]),
    (raster(NOISE[:3].astype("u2"), "green", "red", "nir"), 8, ["--channels infrared",
     "--compute ndvi"]),
    (raster(NOISE[:5].astype("u2")), 8, ["--channels 1,2,3", "--channels 3,2,1"]),
    (sp.from_array(NOISE[0].astype("f4"), bands=[sp.Band("depth", unit="m")]), 8,
     ["estuary reversed", "--curve", "kiln", "equalise", "--invert"]),
    (sp.from_array(NOISE[0] - 2000.0), 8, ["ebbflow"]),
    (sp.from_array(RANDOM.gamma(1, 0.05, (40, 50)).astype("f4"), bands=[sp.Band("VV")]), 8,
     ["VV_db=db(band(1))", "--curve log"]),
]  # fmt: skip


@pytest.mark.parametrize(("scene", "count", "options"), OFFERED)
def test_eight_looks_that_fit_each_with_the_options_that_give_it(
    scene, count, options, run, tmp_path
):
    offered = sp.suggest_looks(scene)
    assert len({one.options for one in offered}) == len(offered) == count
    together = "\n".join(one.options for one in offered)
    for text in options:
        assert text in together
    scene.save(tmp_path / "a.tif")
    kept = sp.open_raster(tmp_path / "a.tif")
    for one in sp.suggest_looks(kept):
        status, out, err = run("render", tmp_path / "a.tif", "-o", tmp_path / "o.png",
                               "--overwrite", "--json", *shlex.split(one.options))  # fmt: skip
        assert status == 0, err
        wanted = sp.render(sp.Raster(one.source), one.look).scales
        found = json.loads(out)["results"][0]["scales"]
        assert [(s["band"], s["low"], s["high"], s["curve"]) for s in found] == [
            (s.band, s.low, s.high, s.curve) for s in wanted]  # fmt: skip


def test_classes_and_undeclared_fill(run, tmp_path):
    classes = {k: ("#336699", f"class {k}") for k in (1, 2, 3)}
    flat = sp.from_array((NOISE[0] % 3 + 1).astype("u1")).with_look(sp.Look(classes=classes))
    filled = NOISE[:3].copy()
    filled[:, :, :12] = 0
    offered = sp.suggest_looks(sp.from_array(filled.astype("u2")))
    assert all(one.options.startswith("--nodata 0 ") for one in offered)
    assert [one.why for one in sp.suggest_looks(flat)][:1] == ["the classes"]


def test_the_sheet_is_one_command(run, demo, tmp_path):
    sheet = tmp_path / "s.png"
    status, out, _ = run("compare", demo / "sound_8band.tif", "--suggest", "-o", sheet)
    assert (status, "8 looks that may fit" in out) == (0, True)
    assert f"spectrane render {demo / 'sound_8band.tif'} --nodata 0 --channels natural" in out
    told = run("compare", demo / "habitats.tif", "--suggest", "-o", sheet, "--overwrite", "--json",
               "--bar", "bottom")[1]  # fmt: skip
    panels = json.loads(told)["results"][0]["panels"]
    assert panels[0]["title"] == "The classes"
    for wrong in (["--vary", "curve=sqrt"], ["--colormap", "kiln"], ["--mode", "swipe"],
                  [demo / "sound_depth.tif"]):  # fmt: skip
        assert run("compare", demo / "sound_8band.tif", "--suggest", "-o", sheet, *wrong)[0] == 2


PROPOSED = [
    (("blue", "green", "red", "nir"), "natural"), (("nir", "red", "green"), "infrared"),
    (("swir22", "nir", "red"), "shortwave"), (("nir", "lwir"), (1,)),
]  # fmt: skip


@pytest.mark.parametrize(("roles", "channels"), PROPOSED)
def test_a_composite_is_proposed_for_many_bands(roles, channels):
    scene = raster(NOISE[: len(roles)].astype("u2"), *roles)
    assert scene.propose_look().channels == channels
    assert scene.propose_look(2).channels == (2,)


EXPLAINED = [
    (np.full((9, 9), 3, "u1"), None, ["Black: the mean level is 1%", "every value is 3"]),
    (RANDOM.integers(3, 9, (50, 60)).astype("u1"), None,
     ["nearly all values lie from 3 to 8, and the limits are 0 to 255", "percentile:2,98"]),
    (np.full((9, 9), 252, "u1") - np.eye(9, dtype="u1"), None, ["White: "]),
    (np.where(np.arange(900).reshape(30, 30) == 7, 9e5, NOISE[0, :30, :30] / 100.0),
     sp.Look(limits="minmax"), ["Black: ", "single values reach 9e+05"]),
    (np.full((9, 9), 7, "u2"), None, ["Flat: ", "every value is 7: there is nothing to see"]),
    (np.stack([NOISE[0] % 256] * 3).astype("u1"), None, ["Grey: the three bands are nearly alike"]),
    (NOISE.astype("u2"), None, ["Grey: one band of 8 is shown", "--roles"]),
    (NOISE.astype("u2"), sp.Look(channels=(2, 2, 2)), ["Grey: the same band", "that is asked"]),
    (np.where(NOISE[0] > 2000, np.nan, NOISE[0]), None, ["Clear: ", "hidden, by NaN"]),
    (NOISE[0].astype("u2"), None, ["Nothing about it looks wrong."]),
]  # fmt: skip


@pytest.mark.filterwarnings("ignore")
@pytest.mark.parametrize(("values", "look", "texts"), EXPLAINED)
def test_why_a_picture_looks_as_it_does(values, look, texts):
    said = "\n".join(sp.explain(sp.from_array(values), look))
    assert said.startswith("Shown: ")
    for text in texts:
        assert text in said
    assert ("Nothing" in said) == ("Nothing" in texts[0])


def test_explanations_by_roles_and_by_the_command(run, demo):
    turned = raster(NOISE[:3].astype("u2"), "blue", "green", "red")
    said = "\n".join(sp.explain(turned, sp.Look(channels=("blue", "green", "red"))))
    assert "Odd colours: blue is shown as red" in said
    status, out, _ = run("describe", demo / "sound_8band.tif", "--explain")
    assert (status, "How it comes out" in out, "since their roles say so" in out) == (0, True, True)
    facts = json.loads(run("describe", demo / "comet.fits", "--explain", "--json")[1])
    assert facts["results"][0]["explanation"][-1] == "Nothing about it looks wrong."
    assert run("describe", demo / "fetlock.nii.gz", "--explain")[0] == 2


DECIBELS = [("db(band(1))", 10 * np.log10(NOISE[0]), "dB"), ("log10(band(1))", np.log10(NOISE[0]),
            None), ("db(band(1) * band(1))", 20 * np.log10(NOISE[0]), "dB"),
            ("db(band(1)) - db(band(2))", 10 * np.log10(NOISE[0] / NOISE[1]), "dB")]  # fmt: skip


@pytest.mark.parametrize(("text", "wanted", "unit"), DECIBELS)
def test_decibels(text, wanted, unit):
    made = raster(NOISE[:2].astype("f8")).compute({"x": text})
    np.testing.assert_allclose(made.pixels()[0], wanted, rtol=1e-10)
    assert made.bands[0].unit == unit


def test_what_has_no_decibels():
    made = sp.from_array(np.array([[0.0, -1.0, 100.0]])).compute({"x": "db(band(1))"}).pixels()
    assert made.mask.tolist() == [[[True, True, False]]]
    assert made.compressed().tolist() == [20.0]
    with pytest.raises(MetadataError, match="10·log10"):
        sp.from_array(np.ones((2, 2)), bands=[sp.Band("a", unit="1")]).convert("dB")
    with pytest.raises(LookError, match="db takes 1"):
        raster(NOISE[:2]).compute({"x": "db(band(1), 2)"})
    with pytest.raises(BandError):
        raster(NOISE[:2]).propose_look("nothing")


POWER = [
    ("VV", RANDOM.gamma(1, 0.05, 4000), None, True),
    ("sigma0 of the sea", RANDOM.gamma(1, 0.05, 4000), "1", True),
    ("band 1", np.exp(RANDOM.normal(0, 1.5, 4000)), None, True),
    ("band 1", RANDOM.normal(50, 5, 4000), None, False),
    ("VV", -10 * RANDOM.gamma(1, 1, 4000), "dB", False),
    ("VV", RANDOM.normal(0, 1, 4000), None, False),
    ("red", np.exp(RANDOM.normal(0, 1.5, 4000)), None, False),
]  # fmt: skip


@pytest.mark.parametrize(("name", "values", "unit", "power"), POWER)
def test_what_looks_like_power_is_offered_in_decibels(name, values, unit, power):
    role = name if name == "red" else None
    scene = sp.from_array(
        values.reshape(40, 100).astype("f4"), bands=[sp.Band(name, unit=unit, role=role)]
    )
    offered = "\n".join(one.options for one in sp.suggest_looks(scene))
    assert ("db(band(1))" in offered) == power
    assert (str(scene.propose_look().curve) == "log") == power
    said = "\n".join(sp.explain(scene))
    assert ("decibels show all" in said) == power
    if power:
        made = next(one for one in sp.suggest_looks(scene) if "db(" in one.options)
        assert made.source.bands[0].unit == "dB"


def test_suggestions_are_drawn_on_one_sheet():
    scene = sp.from_array(NOISE[0].astype("u2"))
    offered = sp.suggest_looks(scene)
    figure = sp.figures.suggestions(scene, bar="right", size=(700, 1200), caption="one of these")
    said = " ".join(text.get_text() for text in figure.texts)
    for one in offered:
        assert one.title.split()[0] in said
        assert one.options.split()[-1] in said
    wide, high = figure.get_size_inches() * figure.dpi
    assert wide <= 1200
    assert high <= 700
