"""What a person says of a raster: kept beside or inside, shown, and used where a date is needed."""

from __future__ import annotations

import json
from datetime import datetime

import numpy as np
import pytest

import spectrane as sp
from spectrane.model.errors import FormatError, GridMismatch, MetadataError
from spectrane.model.marks import PICTURE, picture_bounds
from spectrane.model.said import cloud_of, date_of, filled_in, read_date, title_of

pytestmark = pytest.mark.filterwarnings("ignore:.* has no field", "ignore:the picture is nearly")
ENDINGS = (".tif", ".png", ".fits")
GIVEN = {"title": "Sound, low tide", "date": "2026-04-12T10:30:00", "cloud": 12.5}


@pytest.fixture
def scene(tmp_path, utm):
    def save(ending, value=1):
        path = tmp_path / f"a{value}{ending}"
        sp.from_array(np.full((40, 50), value, "u1"), grid=utm.cropped(((0, 40), (0, 50)))).save(
            path, overwrite=True)  # fmt: skip
        return path

    return save


@pytest.mark.parametrize("inside", [False, True])
@pytest.mark.parametrize("ending", ENDINGS)
def test_what_is_said_is_kept_shown_and_taken_back(ending, inside, scene, run):
    path = scene(ending)
    before = path.read_bytes()
    more = ["--inside"] if inside else []
    asked = "title=Sound, low tide,date=2026-04-12T10:30:00,cloud=12.5"
    assert run("amend", path, "--set", asked, "--set", "orbit=7", *more)[0] == 0
    assert (path.read_bytes() == before) != inside
    metadata = sp.open_raster(path).metadata
    assert title_of(metadata) == GIVEN["title"]
    assert date_of(metadata) == datetime(2026, 4, 12, 10, 30)
    assert cloud_of(metadata) == 12.5
    facts = json.loads(run("describe", path, "--json")[1])["results"][0]
    assert (facts["title"], facts["date"], facts["cloud"]) == (
        "Sound, low tide", "2026-04-12 10:30:00", 12.5)  # fmt: skip
    assert "Sound, low tide" in run("describe", path)[1]
    if ending != ".fits" or not inside:
        assert facts["given"]["orbit"] == 7
    sp.amend(path, nodata=0, inside=inside)  # another correction leaves it
    assert title_of(sp.open_raster(path).metadata) == GIVEN["title"]
    sp.amend(path, undo=True)
    sp.amend(path, undo=True)
    assert path.read_bytes() == before
    assert date_of(sp.open_raster(path).metadata) is None


def test_keys_are_replaced_taken_away_and_go_along(scene, tmp_path):
    path = scene(".tif")
    sp.amend(path, metadata=GIVEN)
    sp.amend(path, metadata={"title": None, "cloud": 3})
    metadata = sp.open_raster(path).metadata
    assert (title_of(metadata), metadata["given"]) == (None, {"date": GIVEN["date"], "cloud": 3})
    sp.open_raster(path).save(tmp_path / "copy.tif")
    assert sp.open_raster(tmp_path / "copy.tif").metadata["given"]["cloud"] == 3


WRONG = [({"date": "yesterday"}, "2026-04-12"), ({"cloud": 120}, "0 to 100"),
         ({"cloud": "much"}, "0 to 100"), ({"a b": 1}, "expected a key"), ({"Title": "x"}, "title"),
         ({"x": [1]}, "a text or a number"), ({}, "nothing to amend")]  # fmt: skip


@pytest.mark.parametrize(("given", "told"), WRONG)
def test_what_cannot_be_said_is_not_kept(given, told, scene):
    path = scene(".tif")
    with pytest.raises(MetadataError, match=told):
        sp.amend(path, metadata=given)
    assert list(path.parent.glob("*.toml")) == []


def test_a_key_that_a_format_has_no_field_for(scene, run):
    path = scene(".fits")
    for key in ("a_very_long_key", "naxis1"):
        with pytest.raises(FormatError, match="no keyword for"):
            sp.amend(path, metadata={key: 1}, inside=True)
    assert run("amend", path, "--set", "title")[0] == 2


DATES = {
    "2026-04-12": (2026, 4, 12), "2026:04:12 10:30:05": (2026, 4, 12, 10, 30, 5),
    "2026-04-12T10:30:00+02:00": (2026, 4, 12, 8, 30), "20260412": (2026, 4, 12),
    "2026-04-12T10:30:00.5Z": (2026, 4, 12, 10, 30, 0, 500000), "20260412T103000":
    (2026, 4, 12, 10, 30), "12.4.2026": None, "": None,
}  # fmt: skip


@pytest.mark.parametrize("text", DATES)
def test_dates(text):
    assert read_date(text) == (None if DATES[text] is None else datetime(*DATES[text]))


def test_mosaics_captions_and_panels_use_it(scene, run, tmp_path):
    first, second = scene(".tif", 1), scene(".tif", 2)
    with pytest.raises(MetadataError, match="--set date="):
        sp.mosaic([sp.open_raster(first), sp.open_raster(second)], order="date")
    for path, day, cloud in ((first, 20, 60), (second, 10, 5)):
        sp.amend(path, metadata={"date": f"2026-04-{day}", "cloud": cloud, "title": f"day {day}"})
    rasters = [sp.open_raster(first), sp.open_raster(second)]
    assert sp.mosaic(rasters, order="date").pixels()[0, 9, 9] == 1
    assert sp.mosaic(rasters, order="cloud").pixels()[0, 9, 9] == 2
    said = " ".join(text.get_text() for text in sp.figures.compare(rasters).texts)
    assert "day 20, 2026-04-20" in said
    picture = tmp_path / "p.png"
    caption = "{title} of {date}: {cloud} % cloud, {file}"
    for command in ("render", "overlay"):
        assert run(command, first, "-o", picture, "--caption", caption, "--overwrite")[0] == 0
        told = sp.open_raster(picture).metadata["Description"]
        assert "Caption: day 20 of 2026-04-20: 60 % cloud, a1.tif" in told
    status, _, err = run("render", first, "-o", picture, "--caption", "{tide}", "--overwrite")
    assert (status, "--set tide=" in err) == (1, True)
    assert filled_in("{ } {a b}", {}, "x") == "{ } {a b}"


def test_a_picture_of_ours_opens_in_its_place(scene, run, tmp_path):
    raster = sp.open_raster(scene(".tif"))
    sp.render(raster).save(tmp_path / "p.png")
    sp.render(raster).save(tmp_path / "keyed.png", bar="right")
    placed = sp.open_raster(tmp_path / "p.png")
    assert placed.grid.crs_text == raster.grid.crs_text
    np.testing.assert_allclose(placed.grid.bounds, raster.grid.bounds)
    assert not sp.open_raster(tmp_path / "keyed.png").grid.placed
    with pytest.warns(sp.DataWarning, match="display picture"):
        placed.statistics()
    sp.amend(tmp_path / "p.png", bounds=(0, 0, 5, 4))
    assert sp.open_raster(tmp_path / "p.png").grid.bounds == (0, 0, 5, 4)
    for text in ("Bounds: 1, 2, 3", "Bounds: 3, 2, 1, 4 (EPSG:4326)", "Bounds: a, b, c, d (x)"):
        assert picture_bounds(f"{PICTURE}\n{text}") is None
    assert picture_bounds("Bounds: 0, 0, 1, 1 (EPSG:4326)") is None


def test_a_kmz_opens_placed(scene, run, tmp_path):
    raster, kmz = sp.open_raster(scene(".tif")), tmp_path / "a.kmz"
    sp.pages.write_kml([raster, sp.Layer(raster, name="again")], kmz, size=(64, 64))
    rows = sp.member_rows(kmz)
    assert [row["name"] for row in rows][1] == "again"
    opened = sp.open_raster(kmz, member="again")
    assert (opened.format, opened.grid.crs_text, opened.metadata["title"]) == (
        "KMZ", "EPSG:4326", "again")  # fmt: skip
    west, south, east, north = opened.grid.bounds
    around = raster.regrid(crs="EPSG:4326").grid.bounds
    assert west == pytest.approx(around[0], abs=1e-4)
    assert north == pytest.approx(around[3], abs=1e-4)
    assert east > west
    assert north > south
    assert "KMZ" in set(sp.survey(tmp_path)["format"])
    (tmp_path / "b.kmz").write_bytes(kmz.read_bytes()[:300])
    with pytest.raises(FormatError, match="broken archive"):
        sp.open_raster(tmp_path / "b.kmz")
    with pytest.raises((FormatError, GridMismatch), match="no member"):
        sp.open_raster(kmz, member=9)
