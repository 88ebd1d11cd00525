"""survey, raw, amend, export as a person runs them on the demo data."""

from __future__ import annotations

import json
import os
import re

import numpy as np
import pytest
from PIL import Image

import spectrane as sp


@pytest.fixture
def demo(made, tmp_path):
    """A copy of the demo that a test may amend."""
    import shutil

    return shutil.copytree(made, tmp_path / "demo")


def test_survey(run, demo):
    (demo / "broken.tif").write_bytes(b"II*\0\xff\xff\xff\xff")
    status, out, err = run("survey", demo)
    assert (status, err) == (0, "")
    assert re.search(r"comet\.fits +FITS", out)
    for part in ("(2 members)", "netCDF-4", "broken.tif: ",
                 "1 of them broken", "not stored in display order"):  # fmt: skip
        assert part in out
    status, out, _ = run("survey", demo, "--json")
    assert {one["format"] for one in json.loads(out)["results"]} >= {
        "TIFF",
        "FITS",
        "PNG",
        "netCDF-4",
    }
    assert run("survey", demo / "none")[0] == 1


def test_amend_makes_the_next_load_right(run, demo):
    scene = demo / "sound_8band.tif"
    status, out, _ = run("amend", scene, "--nodata", "0", "--channels", "infrared", "--limits",
                         "percentile:2,98", "--notes", "edge is fill")  # fmt: skip
    assert status == 0
    assert "sound_8band.tif.spectrane.toml" in out
    _, out, _ = run("describe", scene, "--json")
    facts = json.loads(out)["results"][0]
    assert facts["warnings"] == []
    assert facts["look"] == {"channels": "infrared", "limits": "percentile:2,98"}
    _, out, _ = run("render", scene, "-o", demo / "a.png")
    assert "red   = B5" in out
    with Image.open(demo / "a.png") as picture:
        assert np.asarray(picture)[100, 0, 3] == 0
    _, out, _ = run("amend", scene, "--undo")
    assert "took back the sidecar" in out
    assert sp.open(scene).bands[0].nodata is None


def test_amend_many_bands_at_once(run, demo):
    status, _, err = run(
        "amend", demo / "sound_weekly.nc", "--names", "one,two,three,-", "--unit", "K",
        "--band", "4:name=last,description=the end", "--band", "1:scale=0.5",
    )  # fmt: skip
    assert (status, err.count("warning:")) == (0, 1)
    assert "bands 2, 3, 4 said degC and now say K: the numbers stay as they are" in err
    bands = sp.open(demo / "sound_weekly.nc").bands
    assert [b.name for b in bands] == ["one", "two", "three", "last"]
    assert {b.unit for b in bands} == {"K"}
    assert (bands[0].scale, bands[3].description) == (0.5, "the end")


def test_amend_inside_and_many_files(run, demo):
    files = (demo / "sound_thermal.tif", demo / "none.tif", demo / "sound_depth.tif")
    status, _, err = run("amend", *files, "--notes", "checked", "--inside", "-q")
    assert status == 1
    assert err.count("error:") == 1
    assert sp.open(files[0]).metadata["notes"] == sp.open(files[2]).metadata["notes"] == "checked"


def test_raw_keeps_a_layout_that_fits(run, demo):
    pan = demo / "sound_pan.bin"
    note = (demo / "sound_pan.txt").read_text().split()
    rows, columns = (int(note[note.index(word) + 1]) for word in ("rows", "columns"))
    status, _, err = run("raw", pan, "--rows", rows, "--columns", columns + 1)
    assert status == 1
    assert "bytes too few" in err
    status, out, _ = run("raw", pan, "--rows", rows, "--columns", columns, "--guess", "--preview",
                         demo / "g.png")  # fmt: skip
    assert "likely fault: rows and columns are swapped" in out
    with Image.open(demo / "g.png") as picture:
        assert picture.size[0] > 400
    status, out, _ = run("raw", pan, "--rows", rows, "--columns", columns, "--guess", "--keep-best")
    raster = sp.open(pan)
    assert raster.shape == (1, columns, rows)
    status, _, err = run("raw", pan, "--rows", rows, "--columns", columns)
    assert (status, "describes another layout already" in err) == (1, True)
    assert run("raw", pan, "--rows", rows, "--columns", columns, "--overwrite")[0] == 0
    assert run("raw", pan)[0] == 2
    found = json.loads(run("raw", pan, "--guess", "--json")[1])["results"]
    assert (found[0]["rank"], found[0]["layout"]["columns"]) == (1, rows)


def test_export_in_another_order_with_a_preview(run, demo):
    status, out, err = run(
        "export", demo / "sound_8band.tif", "-o", demo / "rgb.tif", "--bands", "red,green,blue",
        "--area", "490000,7355000,495000,7358000", "--preview", demo / "p.png",
    )  # fmt: skip
    assert (status, err) == (0, "")
    assert "rgb.tif: 125 x 75, 3 bands" in out
    assert [b.role for b in sp.open(demo / "rgb.tif").bands] == ["red", "green", "blue"]
    with Image.open(demo / "p.png") as picture:
        assert picture.size[1] > 75


@pytest.mark.parametrize("ending", ["fits", "npy", "nc", "zarr", "raw"])
def test_export_to_every_format(run, demo, ending):
    target = demo / f"out.{ending}"
    status, out, _ = run("export", demo / "sound_depth.tif", "-o", target, "--json")
    assert status == 0
    assert json.loads(out)["results"][0]["output"] == str(target)
    assert sp.open(target).shape == sp.open(demo / "sound_depth.tif").shape


def test_export_of_pictures(run, demo):
    target = demo / "q.png"
    status, _, err = run("export", demo / "sound_8band.tif", "-o", target, "--bands", "3,2,1")
    assert (status, "place" in err) == (0, True)
    status, _, err = run(
        "export", demo / "sound_8band.tif", "-o", demo / "q.jpg", "--bands", "3,2,1"
    )
    assert (status, "JPEG holds uint8, not uint16" in err) == (1, True)
    status, _, _ = run("export", demo / "sound_8band.tif", "-o", demo / "q.jpg", "--bands", "3,2,1",
                       "--type", "uint8", "--rescale", "limits", "--limits", "0,0.3")  # fmt: skip
    assert status == 0


def test_export_in_another_unit_and_of_many(run, demo):
    out = demo / "out"
    files = (demo / "sound_thermal.tif", demo / "none.tif", demo / "sound_weekly.nc")
    status, _, err = run("export", *files, "--out-dir", out, "--unit", "celsius", "-q")
    assert status == 1
    assert err.count("error:") == 1
    assert sorted(p.name for p in out.iterdir()) == ["sound_thermal.tif", "sound_weekly.tif"]
    warm = sp.open(out / "sound_thermal.tif").statistics()
    assert 5 < warm["mean"].iloc[0] < 30
    assert warm["unit"].iloc[0] == "celsius"


USAGE = [
    (2, ("export", "a.tif"), "say where the output goes"),
    (2, ("amend", "a.tif", "--band", "1"), "expected BAND:FIELD=VALUE"),
    (2, ("amend", "a.tif", "--band", "1:nam=x"), "expected BAND:FIELD=VALUE"),
    (2, ("amend", "a.tif", "--wavelengths", "x"), "expected a number"),
    (2, ("amend", "a.tif", "--limits", "strong"), "expected one of auto"),
    (1, ("amend", "a.tif", "--nodata", "0"), "no such file"),
    (2, ("raw", "a.bin", "--rows", "0", "--columns", "3"), "--rows"),
    (1, ("raw", "a.bin", "--rows", "1", "--columns", "3"), "no such file"),
    (1, ("export", "a.tif", "-o", "b.xyz"), "no such file"),
]


@pytest.mark.parametrize(("status", "arguments", "part"), USAGE)
def test_each_mistake_is_one_clear_line(run, tmp_path, monkeypatch, status, arguments, part):
    monkeypatch.chdir(tmp_path)
    code, out, err = run(*arguments)
    assert (code, out) == (status, "")
    assert part in err
    assert err.count("\n") == 1


@pytest.mark.parametrize(("status", "said", "part"), [
    (2, "--names a,b", "--names: 2 for 3 bands of a.tif; say one for each"),
    (2, "--wavelengths 490,560,665,842", "4 for 3 bands"),
    (1, "--roles bleu,-,red", "role 'bleu'; did you mean 'blue'?"),
    (1, "--band 2:role=x", "role 'x'; expected one of pan"),
    (1, "--scale 0", "bands.1.scale: expected a number other than 0; found 0"),
    (1, "--offset inf", "bands.1.offset: input should be a finite number"),
])  # fmt: skip
def test_what_is_said_of_bands_fits_them(run, tmp_path, monkeypatch, status, said, part):
    monkeypatch.chdir(tmp_path)
    sp.from_array(np.zeros((3, 4, 5), "u1")).save("a.tif")
    code, _, err = run("amend", "a.tif", *said.split())
    assert (code, part in err) == (status, True), err
    assert os.listdir() == ["a.tif"]
    with open("a.tif.spectrane.toml", "w") as file:  # by hand
        file.write("version = 1\n[[bands]]\nnumber = 2\nrole = 'bleu'\n")
    told = run("describe", "a.tif")[1]
    assert "band 2: its role 'bleu' is no common name; did you mean 'blue'?" in told


def test_members_of_a_file(run, demo):
    status, out, _ = run("describe", demo / "comet.fits", "--members")
    assert (status, "WEIGHT" in out) == (0, True)
    status, out, _ = run("describe", demo / "comet.fits", demo / "habitats.tif", "--json")
    assert [one["format"] for one in json.loads(out)["results"]] == ["FITS", "TIFF"]
    status, out, _ = run("render", demo / "comet.fits", "--member", "WEIGHT", "-o", demo / "w.png")
    assert status == 0
