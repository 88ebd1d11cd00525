"""render with looks, histogram, compare, probe as a person runs them on the demo data."""

from __future__ import annotations

import json

import numpy as np
import pytest
from PIL import Image


def test_one_look_for_many_files(run, demo, tmp_path):
    status, _, _ = run("render", demo / "sound_8band.tif", "-o", tmp_path / "a.png", "--channels",
                       "infrared", "--limits", "percentile:2,98", "--nodata", "0",
                       "--save-look", tmp_path / "red.look.toml", "--sharpen", "1,0.5")  # fmt: skip
    assert status == 0
    files = (demo / "sound_8band.tif", demo / "none.tif")
    status, _, err = run("render", *files, "--look", tmp_path / "red.look.toml", "--out-dir",
                         tmp_path / "out", "--nodata", "0", "-q")  # fmt: skip
    assert (status, err.count("error:")) == (1, 1)
    with Image.open(tmp_path / "a.png") as a, Image.open(tmp_path / "out/sound_8band.png") as b:
        np.testing.assert_array_equal(np.asarray(a), np.asarray(b))


def test_limits_of_a_region(run, demo, tmp_path):
    scene = demo / "sound_8band.tif"
    part = ["--limits-region", "488000,7354000,490000,7356000"]
    out = run("render", scene, "-o", tmp_path / "a.png", "--limits", "minmax", *part, "--json")[1]
    again = run("render", scene, "-o", tmp_path / "b.png", "--limits", "minmax", "--json",
                "--limits-from", "view", "--area", part[1])[1]  # fmt: skip
    assert [s["high"] for s in json.loads(out)["results"][0]["scales"]] == [
        s["high"] for s in json.loads(again)["results"][0]["scales"]
    ]
    assert run("render", scene, "-o", tmp_path / "c.png", "--limits-region", "1,2")[0] == 2


def test_an_index_with_a_fitting_map_and_its_legend(run, demo, tmp_path):
    status, out, _ = run("render", demo / "sound_8band.tif", "-o", tmp_path / "n.png", "--compute",
                         "ndvi", "--colormap", "auto", "--nodata", "0", "--legend",
                         tmp_path / "l.png")  # fmt: skip
    assert (status, "an index, shown with the colour map sward" in out) == (0, True)
    with Image.open(tmp_path / "l.png") as legend:
        assert len(legend.convert("RGB").getcolors(1 << 20)) > 100


def test_histogram(run, demo, tmp_path):
    status, out, _ = run("histogram", demo / "sound_8band.tif", "-o", tmp_path / "h.png",
                         "--nodata", "0", "--limits", "percentile:2,98")  # fmt: skip
    assert (status, "red   = B3" in out, "2.0% below" in out) == (0, True, True)
    told = run("histogram", demo / "comet.fits", "--limits", "minmax", "--json")[1]
    facts = json.loads(told)["results"][0]
    assert sum(facts["channels"][0]["levels"]) == 480 * 640
    assert run("histogram", demo / "comet.fits")[0] == 2


def test_compare(run, demo, tmp_path):
    scene, thermal = demo / "sound_8band.tif", demo / "sound_thermal.tif"
    status, out, _ = run("compare", scene, "--vary", "channels=natural", "--vary",
                         "channels=infrared", "--limits", "percentile:2,98", "--nodata", "0",
                         "-o", tmp_path / "c.png", "--histograms")  # fmt: skip
    assert (status, "2 panels at the same place" in out) == (0, True)
    keyed, again = tmp_path / "k.png", tmp_path / "again.png"
    for file in (scene, thermal):
        status, out, _ = run("render", file, "--size", "400x300", "--bar", "right", "--caption",
                             "Sound", "-o", keyed, "--overwrite", "--json")  # fmt: skip
        with Image.open(keyed) as picture:
            facts = json.loads(out)["results"][0]
            assert (status, facts["columns"], facts["rows"]) == (0, *picture.size)
    assert run("compare", thermal, "--vary", "colormap=kiln", "--vary", "sharpen=2,1", "--bar",
               "bottom", "-o", again)[0] == 0  # fmt: skip
    for mode in ("checker", "swipe"):
        status, _, _ = run("compare", scene, thermal, "--colormap", "auto", "--mode", mode, "-o",
                           tmp_path / f"{mode}.png", "--limits", "percentile:2,98",
                           "--nodata", "0")  # fmt: skip
        assert status == 0
    for wrong in (["--vary", "limit=3"], ["--vary", "channels"], ["--vary", "sharpen=x"]):
        status, _, err = run("compare", scene, "-o", tmp_path / "x.png", *wrong)
        assert (status, err.count("\n")) == (2, 1)
    assert run("compare", scene, "-o", tmp_path / "x.png")[0] == 1


def test_probe(run, demo, tmp_path):
    scene, thermal = demo / "sound_8band.tif", demo / "sound_thermal.tif"
    status, out, _ = run("probe", scene, thermal, "--at", "490000,7357000", "--csv",
                         tmp_path / "t.csv")  # fmt: skip
    assert (status, "sound_thermal.tif" in out, "B8" in out) == (0, True, True)
    assert (tmp_path / "t.csv").read_text().startswith("point,layer,row,column,band,stored")
    rows = json.loads(run("probe", scene, "--pixel-at", "100,100", "--json")[1])["results"]
    assert [row["band"] for row in rows][:2] == ["B1", "B2"]
    (tmp_path / "p.csv").write_text("name,row,column\nwater,130,60\nland,30,200\n")
    status, out, _ = run("probe", scene, "--points", tmp_path / "p.csv", "--profile",
                         tmp_path / "p.png", "--keep-spectra", tmp_path / "s.toml")  # fmt: skip
    assert status == 0
    status, out, _ = run("probe", scene, "--pixel-at", "131,61", "--spectra", tmp_path / "s.toml")
    assert "nearest are water" in out
    for wrong, code in ((["--at", "1,2", "--points", "x.csv"], 2), ([], 2), (["--at", "0,0"], 1)):
        status, _, err = run("probe", scene, *wrong)
        lines = [line for line in err.splitlines() if not line.startswith("warning: ")]
        assert (status, len(lines)) == (code, 1)


USAGE = [
    ("render", ("--curve", "bent"), "expected one of asinh"),
    ("render", ("--colormap", "kilm"), "did you mean 'kiln'"),
    ("render", ("--brightness", "3"), "expected -1 to 1"),
    ("render", ("--sharpen", "0,1"), "radius above 0"),
    ("render", ("--center", "1,2"), "center and pixel go together"),
]


@pytest.mark.parametrize(("command", "arguments", "part"), USAGE)
def test_wrong_looks_are_wrong_usage(run, demo, tmp_path, command, arguments, part):
    status, out, err = run(command, demo / "comet.fits", "-o", tmp_path / "x.png", *arguments)
    assert (status, out, err.count("\n")) == (2, "", 1)
    assert part in err
    assert not (tmp_path / "x.png").exists()
