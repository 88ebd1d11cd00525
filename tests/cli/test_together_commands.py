"""place, clip, mosaic, overlay, page and tiles as a person runs them on the demo data."""

from __future__ import annotations

import json
import zipfile

import numpy as np
import pytest
from PIL import Image

import spectrane as sp

BLACK = ["--nodata", "0", "--nodata-when", "all"]


def test_place_tells_how_well_it_fits(run, demo, tmp_path):
    plan, points = demo / "barrage_plan.png", demo / "barrage_points.csv"
    status, out, _ = run("place", plan, "-o", tmp_path / "p.tif", "--points", points, "--crs",
                         "EPSG:32727")  # fmt: skip
    assert (status, "worst: point 5" in out) == (0, True)
    with sp.open(tmp_path / "p.tif") as placed, sp.open(plan) as picture:
        assert placed.grid.crs.to_epsg() == 32727
        np.testing.assert_array_equal(placed.pixels().data, picture.pixels().data)
        x, y = placed.grid.center(row=250, column=90)
        assert (x, y) == (pytest.approx(493150, abs=12), pytest.approx(7357700, abs=12))
    facts = json.loads(run("place", plan, "-o", tmp_path / "q.tif", "--points", points, "--fit",
                           "projective", "--crs", "EPSG:32727", "--json")[1])  # fmt: skip
    facts = facts["results"][0]
    assert facts["placement"]["fit"] == "projective"
    assert len(facts["placement"]["points"]) == 6
    bounds = "-21.07,-23.93,-21.06,-23.89"
    assert (
        run("place", plan, "-o", tmp_path / "p.kmz", "--bounds", bounds, "--crs", "EPSG:4326")[0]
        == 0
    )
    assert zipfile.ZipFile(tmp_path / "p.kmz").testzip() is None
    assert run("place", plan, "-o", tmp_path / "r.tif")[0] == 2
    assert run("place", plan, "-o", tmp_path / "r.tif", "--corners", "1,2 3")[0] == 2


def test_clip_by_shape_mask_and_footprint(run, demo, tmp_path):
    scene = demo / "sound_8band.tif"
    status, out, _ = run("clip", scene, "-o", tmp_path / "bed.tif", "--nodata", "0", "--shape",
                         demo / "eelgrass.geojson")  # fmt: skip
    assert (status, "8 bands" in out) == (0, True)
    kinds = sp.open(demo / "habitats.tif")
    with sp.open(tmp_path / "bed.tif") as bed:
        seen = kinds.regrid(bed).pixels()[0][~bed.pixels(1).mask[0]]
        assert 0.2 < (seen == 3).mean() < 1
    green = ["--where", "ndvi > 0.4", "--least-area", "20", "--nodata", "0"]
    assert run("clip", scene, "-o", tmp_path / "green.tif", *green)[0] == 0
    with sp.open(tmp_path / "green.tif") as kept:
        values = kept.compute({"n": "ndvi"}).pixels().compressed()
        assert values.min() > 0.4
    assert run("clip", scene, "-o", tmp_path / "both.tif", *green, "--mask-as", "band")[0] == 0
    assert len(sp.open(tmp_path / "both.tif").bands) == 9
    assert run("clip", scene, "-o", tmp_path / "n.tif", "--shape", demo / "sound_north.tif")[0] == 0
    north = sp.open(demo / "sound_north.tif").grid.bounds
    assert sp.open(tmp_path / "n.tif").grid.bounds == pytest.approx(north, abs=45)
    assert run("clip", scene, "-o", tmp_path / "x.tif", "--least-area", "5")[0] == 2
    status, _, err = run("clip", demo / "sound_north.tif", "-o", tmp_path / "x.tif", "--shape",
                         demo / "lease.geojson", "--area", "0,0,1,1")  # fmt: skip
    assert (status, err.count("\n")) == (1, 1)


def test_the_photographs_come_together_without_a_seam(run, demo, tmp_path):
    photos = [demo / "sound_north.tif", demo / "sound_south.tif"]
    evened = [*BLACK, "--trim", "1", "--align", "shift", "--balance", "gain"]
    for rule in ("feather", "seam"):
        out = tmp_path / f"{rule}.tif"
        facts = json.loads(run("mosaic", *photos, "-o", out, *evened, "--rule", rule, "--width",
                               "20", "--json")[1])["results"][0]  # fmt: skip
        moved = facts["alignment"][0]
        assert (moved["rows"], moved["columns"]) == (pytest.approx(-1, abs=0.1),) * 2
        assert all(abs(row["after"]) < 0.2 < abs(row["before"]) for row in facts["overlaps"])
    evenly = {"trim": 1, "align": "shift", "balance": "gain", "rule": "feather", "width": 20}
    plain, even = (seam_step(photos, given) for given in ({}, evenly))
    assert plain > 10
    assert even < 1
    status, out, _ = run("mosaic", *photos, "-o", tmp_path / "t.tif", *BLACK, "--csv",
                         tmp_path / "t.csv")  # fmt: skip
    assert (status, "overlap" in out) == (0, True)
    assert (tmp_path / "t.csv").read_text().startswith("first,second,band,pixels,area,before")
    assert run("mosaic", *photos, "-o", tmp_path / "t.tif")[0] == 1
    status, _, err = run("mosaic", *photos, demo / "sound_thermal.tif", "-o", tmp_path / "u.tif")
    assert (status, "has no band like red" in err) == (1, True)


def seam_step(photos, given):
    """The step in brightness, in levels, where the southern photograph begins.

    What the northern one shows there, as bright as above the edge, is taken off: what is left is
    the seam's.
    """
    north, south = map(sp.open, photos)
    joined = sp.mosaic([north, south], nodata=0, nodata_when="all", **given)
    row = joined.grid.locate(x=0, y=south.grid.bounds[3])[0]
    columns = (joined.shape[2] // 5, joined.shape[2] * 4 // 5)
    seen, alone = (one.pixels(rows=(row - 6, row + 9), columns=columns).astype(float)
                   for one in (joined, north.regrid(joined)))  # fmt: skip
    gain = seen[:, :6].mean(axis=(1, 2)) / alone[:, :6].mean(axis=(1, 2))
    below = (seen - alone * gain[:, None, None])[:, 4:].mean(axis=2)
    return float(np.abs(np.diff(below, axis=1)).max())


def test_overlay_and_its_layer_file(run, demo, tmp_path):
    scene, thermal = demo / "sound_8band.tif", demo / "sound_thermal.tif"
    given = ["--opacity", "1,0.6", "--colormap", "auto", "--nodata", "0", "--outline",
             demo / "lease.geojson", "--label", "name", "--relief", f"{demo / 'sound_depth.tif'},5",
             "--sun", "315,40", "--sun", "60,30"]  # fmt: skip
    status, out, _ = run("overlay", scene, thermal, "-o", tmp_path / "o.png", *given)
    assert status == 0
    assert "4 layers" in out
    assert "relief: opacity 1, multiply" in out
    with Image.open(tmp_path / "o.png") as picture:
        assert picture.text["Description"].count("Layer ") == 4
        assert len(picture.convert("RGB").getcolors(1 << 22)) > 5000
    toml = tmp_path / "a.layers.toml"
    toml.write_text(f'[[layer]]\nfile = "{scene}"\nnodata = 0\nlook = {{channels = "infrared"}}\n')
    assert run("overlay", "--layers", toml, "-o", tmp_path / "p.png", "--size", "300x200")[0] == 0
    assert run("overlay", scene, "--layers", toml, "-o", tmp_path / "q.png")[0] == 2
    assert run("overlay", "-o", tmp_path / "q.png")[0] == 2
    assert run("overlay", scene, "-o", tmp_path / "q.png", "--opacity", "1,2")[0] == 2


def test_page_kml_and_tiles(run, demo, tmp_path):
    scene = demo / "sound_8band.tif"
    look = ["--channels", "natural", "--limits", "percentile:2,98", "--nodata", "0"]
    status, out, _ = run("page", scene, "-o", tmp_path / "m.html", *look)
    assert (status, ": 1 layer," in out) == (0, True)
    assert run("page", scene, "-o", tmp_path / "m.kmz", *look, "--quad")[0] == 0
    facts = json.loads(run("tiles", scene, "-o", tmp_path / "t", *look, "--json")[1])["results"][0]
    assert facts["tiles"] == len(list((tmp_path / "t").rglob("*.png"))) > 4
    assert run("tiles", scene, "-o", tmp_path / "t", *look)[0] == 1


def test_export_on_another_grid(run, demo, tmp_path):
    thermal, scene = demo / "sound_thermal.tif", demo / "sound_8band.tif"
    assert run("export", thermal, "-o", tmp_path / "a.tif", "--grid-of", scene)[0] == 0
    assert sp.open(tmp_path / "a.tif").grid == sp.open(scene).grid
    assert run("export", thermal, "-o", tmp_path / "b.tif", "--crs", "EPSG:4326")[0] == 0
    assert run("export", thermal, "-o", tmp_path / "c.tif", "--resample", "cubic")[0] == 2


def test_tests_look_at_the_mask_file_on_its_own_grid(run, tmp_path, utm):
    scene = np.arange(2 * 70 * 90, dtype="u2").reshape(2, 70, 90)
    flags = np.zeros((1, 35, 45), "u1")
    flags[0, :10] = 0b10  # its own pixels are twice as large
    sp.from_array(scene, grid=utm).save(tmp_path / "a.tif")
    sp.from_array(flags, grid=utm.resized((35, 45))).save(tmp_path / "qa.tif")
    sp.from_array(np.concatenate([flags * 0, flags]), grid=utm.resized((35, 45))).save(
        tmp_path / "two.tif"
    )
    file, out = tmp_path / "a.tif", tmp_path / "o.tif"
    for more in (["--mask", tmp_path / "qa.tif"],
                 ["--mask", tmp_path / "two.tif", "--band", "2"]):  # fmt: skip
        for test, share in ((["--bits", "bit 1 = 1"], 20 / 70), (["--values", "2"], 20 / 70),
                            (["--range", "0..1"], 50 / 70)):  # fmt: skip
            status, told, _ = run("clip", file, "-o", out, *more, *test, "--overwrite", "--json")
            assert (status, json.loads(told)["results"][0]["kept"]) == (0, pytest.approx(share))
            kept = ~sp.open(out).pixels().mask[0]
            assert (kept[:20].all(), kept[20:].any()) == ((True, False) if share < 0.5 else
                                                          (False, True))  # fmt: skip
    for refused in (["--bits", "bit 1 = 1"], ["--mask", tmp_path / "two.tif", "--values", "2"]):
        status, _, told = run("clip", file, "-o", out, *refused, "--overwrite")
        assert (status, "has 2 bands; say which one is tested" in told) == (1, True)
    _, told, _ = run("clip", file, "-o", out, "--mask", tmp_path / "qa.tif", "--bits", "bit 1 = 1",
                     "--overwrite")  # fmt: skip
    assert "keeps 28.6% of the pixels" in told
