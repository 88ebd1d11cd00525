"""Positions as people write them."""

from __future__ import annotations

import json

import numpy as np
import pytest
from pyproj import Transformer

import spectrane as sp
from spectrane.model.errors import LookError
from spectrane.spatial.positions import read_position

MAP = sp.Grid.from_corner((100, 200), x=486_000, y=7_362_000, pixel_size=50, crs="EPSG:32727")
SOUTH = -(23 + 54 / 60 + 30.6 / 3600)
WEST = -(21 + 3 / 60)
READ = [
    ("490000,7357000", 490_000, 7_357_000, None), ("490000 7357000", 490_000, 7_357_000, None),
    ("4.9e5, 7357000.5", 490_000, 7_357_000.5, None), ("-21.1,-23.87", -21.1, -23.87, "EPSG:4326"),
    ("23°54'30.6\"S 21°3'W", WEST, SOUTH, "EPSG:4326"),
    ("21°3'W, 23°54'30.6\"S", WEST, SOUTH, "EPSG:4326"),
    ("S 23 54 30.6 W 21 3", WEST, SOUTH, "EPSG:4326"),
    ("23:54:30.6S,21:03:00W", WEST, SOUTH, "EPSG:4326"),
    ("23.9085 S, 21.05 W", -21.05, -23.9085, "EPSG:4326"),
    ("N48.5 E12.25", 12.25, 48.5, "EPSG:4326"),
    ("27K VP 90000 57000", 490_000.5, 7_357_000.5, "EPSG:32727"),
    ("27kvp9057", 490_500, 7_357_500, "EPSG:32727"), ("27KVP", 450_000, 7_350_000, "EPSG:32727"),
    ("4QFJ12345678", 612_345, 2_356_785, "EPSG:32604"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "x", "y", "crs"), READ)
def test_positions_and_how_they_were_read(text, x, y, crs):
    found = read_position(text, MAP)
    assert (found.x, found.y, found.crs) == (pytest.approx(x), pytest.approx(y), crs)
    assert found.said


# references whose latitude and longitude are published
KNOWN = [("4QFJ1234056780", 21.309433, -157.916867), ("31NAA6602100000", 0.0, 0.0)]


@pytest.mark.parametrize(("text", "latitude", "longitude"), KNOWN)
def test_references_that_are_known(text, latitude, longitude):
    found = read_position(text)
    east, north = Transformer.from_crs(found.crs, "EPSG:4326", always_xy=True).transform(
        found.x, found.y)  # fmt: skip
    assert (east, north) == (pytest.approx(longitude, abs=2e-4), pytest.approx(latitude, abs=2e-4))


@pytest.mark.parametrize("zone", [1, 2, 3, 27, 60])
@pytest.mark.parametrize("latitude", [-79.5, -56, -24.5, -0.5, 0.5, 33, 71.9, 83.5])
def test_every_band_and_set_of_squares_finds_itself_again(zone, latitude):
    """A reference is written here by the definition, and read back."""
    north = latitude >= 0
    crs = f"EPSG:{(32600 if north else 32700) + zone}"
    way = Transformer.from_crs("EPSG:4326", crs, always_xy=True)
    east, northing = way.transform(zone * 6 - 183 + 1.3, latitude)
    band = "CDEFGHJKLMNPQRSTUVWXX"[int((latitude + 80) // 8)]
    column = ("ABCDEFGH", "JKLMNPQR", "STUVWXYZ")[(zone - 1) % 3][int(east // 1e5) - 1]
    rows = "ABCDEFGHJKLMNPQRSTUV" if zone % 2 else "FGHJKLMNPQRSTUVABCDE"
    row = rows[int(northing // 1e5) % 20]
    text = f"{zone}{band}{column}{row}{int(east % 1e5):05}{int(northing % 1e5):05}"
    found = read_position(text)
    assert found.crs == crs
    assert (found.x, found.y) == (pytest.approx(east, abs=1), pytest.approx(northing, abs=1))


WRONG = [("north of the barrage", "expected x,y"), ("23°54'S 21°3'S", "two latitudes"),
         ("23°64'S 21°3'W", "below 60"), ("95N 10E", "cannot be"), ("27KIP1234", "expected x,y"),
         ("27KVP123", "even number"), ("61KVP12", "up to 60"), ("27KAP12", "a column of"),
         ("1,2,3", "expected x,y"), ("nan,3", "expected x,y"), ("27FVP12", "not in band"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "told"), WRONG)
def test_what_is_no_position(text, told):
    with pytest.raises(LookError, match=told):
        read_position(text, MAP)


def test_numbers_are_of_the_map_first():
    near = sp.Grid.from_corner((100, 100), x=-50, y=50, pixel_size=1, crs="EPSG:32727")
    assert read_position("10,20", near).crs is None
    assert read_position("10,20", MAP).crs is None  # neither lies in it
    assert read_position("10,20", MAP, crs="EPSG:4326").crs == "EPSG:4326"
    assert "in EPSG:4326" in read_position("10,20", MAP, crs="EPSG:4326").said


def test_the_command_goes_there_and_says_how_it_read(run, tmp_path):
    path = tmp_path / "a.tif"
    values = np.arange(20_000.0).reshape(100, 200)
    sp.from_array(values, grid=MAP).save(path)
    points = tmp_path / "points.csv"
    points.write_text("name,x,y\nbarrage,490000,7360000\nquay,489000,7359000\n")
    x, y = 490_000, 7_360_000
    lon, lat = Transformer.from_crs("EPSG:32727", "EPSG:4326", always_xy=True).transform(x, y)
    sides = f"{-lat:.8f} S {-lon:.8f} W"
    for text in (f"{x},{y}", f"{lon:.9f},{lat:.9f}", sides, "27KVP9000060000",
                 f"barrage in {points}"):  # fmt: skip
        status, out, err = run(
            "render", path, "--center", text, "--pixel-size", "50", "--size", "9x9", "-o",
            tmp_path / "o.png", "--overwrite", "--json",
        )  # fmt: skip
        assert status == 0, err
        facts = json.loads(out)["results"][0]
        bounds = facts["bounds"]
        assert (bounds[0] + bounds[2]) / 2 == pytest.approx(x, abs=1)
        assert (bounds[1] + bounds[3]) / 2 == pytest.approx(y, abs=1)
        assert facts["notes"][-1].startswith("center: ")
    for command in ("overlay", "compare", "histogram", "page"):
        more = ["--vary", "curve=sqrt", "--vary", "curve=linear"] if command == "compare" else []
        ending = "html" if command == "page" else "png"
        status, out, err = run(
            command, path, *more, "--center", f"barrage in {points}", "--pixel-size", "50", "-o",
            tmp_path / f"x.{ending}", "--overwrite",
        )  # fmt: skip
        assert (status, "center: barrage in" in out) == (0, True), err
    status, _, err = run("render", path, "--center", f"barage in {points}", "--pixel-size", "50",
                         "-o", tmp_path / "n.png")  # fmt: skip
    assert (status, "barrage" in err) == (2, True)
