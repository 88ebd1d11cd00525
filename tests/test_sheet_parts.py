"""Parts of a sheet: coordinates along the frame, insets, pictures of one's own, what is refused."""

from __future__ import annotations

import json

import numpy as np
import pyproj
import pytest
from click.testing import CliRunner
from PIL import Image

import spectrane as sp
from spectrane.cli.entry import commands
from spectrane.display.layer_file import layer_tables, read_layers, write_layers
from spectrane.display.sheet_settings import SheetSettings, paper_size, scale_of
from spectrane.figures.sheets.elements import Globe, Overview, ScaleBar, scale_text
from spectrane.figures.sheets.framing import extent_of, framed, round_scale
from spectrane.figures.sheets.insets import Inset
from spectrane.figures.sheets.maps import maps_of
from spectrane.figures.sheets.pen import Box, Pen
from spectrane.figures.sheets.sheet import drawn_sheet
from spectrane.figures.sheets.ticks import ticks_of
from spectrane.model.errors import FormatError, GridMismatch, LookError

ROOM = Box(20, 20, 180, 140)


def frame_of(grid, **given):
    settings = SheetSettings(**given)
    return framed(extent_of(grid, settings), [ROOM], settings.scale)[0]


def scene(grid, dtype="f4"):
    numbers = np.arange(grid.rows * grid.columns).reshape(grid.shape).astype(dtype)
    return sp.from_array(numbers, grid=grid, bands=[sp.Band("depth", unit="m")])


def test_map_coordinates_stand_where_they_are(utm):
    frame = frame_of(utm, scale="1:5000")
    below, left = ticks_of(frame, "map")
    assert [tick.text for tick in below] == ["480 000", "480 200", "480 400", "480 600", "480 800"]
    assert [tick.at for tick in below] == pytest.approx([0, 40, 80, 120, 160])
    first = left[0]
    y = float(first.text.replace(" ", ""))
    assert first.at == pytest.approx((7360000 - y) / 5)


@pytest.mark.parametrize("x", [500000, 850000])
def test_degrees_stand_where_pyproj_has_them(x):
    grid = sp.Grid.from_corner((900, 1200), x=x, y=7360000, pixel_size=50, crs="EPSG:32727")
    frame = frame_of(grid)
    box, turn = frame.box, pyproj.Transformer.from_crs(32727, 4326, always_xy=True)
    x_min, y_min, x_max, y_max = frame.extent.bounds
    below, left = ticks_of(frame, "degrees")
    assert len(below) > 2
    assert len(left) > 1
    for tick in below:
        degrees, minutes = tick.text.rstrip("WE").replace("′", "").split("°")
        lon = -(float(degrees) + float(minutes or 0) / 60)
        at = x_min + tick.at / box.width * (x_max - x_min)
        assert turn.transform(at, y_min)[0] == pytest.approx(lon, abs=2e-5)
    for tick in left:
        degrees, minutes = tick.text.rstrip("NS").replace("′", "").split("°")
        at = y_max - tick.at / box.height * (y_max - y_min)
        assert turn.transform(x_min, at)[1] == pytest.approx(
            -(float(degrees) + float(minutes or 0) / 60), abs=2e-5
        )


def test_a_map_in_degrees_is_not_stretched_at_its_middle():
    grid = sp.Grid.from_corner((100, 100), x=10, y=61, pixel_size=0.02, crs="EPSG:4326")
    box = frame_of(grid).box
    assert box.width / box.height == pytest.approx(55800 / 111412, rel=1e-3)  # at 60° north
    below, left = ticks_of(frame_of(grid), "map")
    assert {tick.text for tick in left} >= {"59°N", "60°N"}
    assert all(tick.text.endswith("E") for tick in below)


@pytest.mark.parametrize(
    ("least", "round_one"), [(61234, 70000), (75000, 75000), (99999, 100000), (1.01, 1.2)]
)
def test_scales_are_round(least, round_one):
    assert round_scale(least) == round_one


def test_scales_and_papers_are_read_as_people_write_them():
    assert [scale_of(text) for text in ("1:25000", "1: 25 000", 25000, "2:1", None)] == [
        25000, 25000, 25000, 0.5, None]  # fmt: skip
    assert [scale_text(n) for n in (25000, 1.8, 0.25, 500)] == [
        "1:25 000", "1:1.8", "4:1", "1:500"]  # fmt: skip
    assert paper_size("A4") == (210, 297)
    for wrong in ("1:0", "-5", "1:x", True, "a:b"):
        with pytest.raises(LookError, match="1:25000"):
            scale_of(wrong)
    for wrong in ("A99", "10x10", "300"):
        with pytest.raises(LookError, match="paper"):
            paper_size(wrong)


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({"titel": "x"}, "no key titel.*title"), ({"title": 5}, "expected a text"),
        ({"lines": "yes"}, "true or false"), ({"put": "top"}, "a table"),
        ({"put": {"north": "middle"}}, "top-left"), ({"margin": 200}, "margin"),
        ({"dots": 5}, "dots"), ({"orientation": "upright"}, "orientation"),
        ({"area": [1, 2]}, "x min"), ({"coordinates": "grid"}, "coordinates"),
    ],
)  # fmt: skip
def test_a_wrong_sheet_table_is_told(given, said):
    with pytest.raises(LookError, match=said):
        SheetSettings.from_dict(given)


def test_settings_survive_a_file():
    given = SheetSettings(title="A", scale=5000, put={"north": "none"}, area=(0, 0, 1, 1))
    assert SheetSettings.from_dict(given.to_dict()) == given
    assert SheetSettings().to_dict() == {}


def test_the_inset_is_the_raster_where_the_map_is_a_part_of_it(utm, tmp_path):
    layers = maps_of([scene(utm)], False)[0]
    part = {"area": (480450, 7359300, 480900, 7359650)}
    found = {}
    asked = {"whole": {}, "part": part, "globe": part | {"inset": "globe"},
             "none": {"inset": "none"}, "put": {"put": {"inset": "none"}}}  # fmt: skip
    for name, given in asked.items():
        settings = SheetSettings(**given)
        found[name] = Inset(layers, settings).of(extent_of(utm, settings))
    assert isinstance(found["whole"], Globe)
    assert found["whole"].lonlat == pytest.approx((-21.192, -23.875), abs=0.01)
    assert isinstance(found["globe"], Globe)
    assert found["none"] is None
    assert found["put"] is None
    part_of = found["part"]
    assert isinstance(part_of, Overview)
    xs, ys = zip(*part_of.outline, strict=True)
    assert (min(xs), max(xs), min(ys), max(ys)) == pytest.approx((0.5, 1, 0.5, 1), abs=0.01)
    far = sp.Grid.from_corner((9, 9), x=1e5, y=2e6, pixel_size=10, crs="EPSG:32727")
    scene(far).save(tmp_path / "far.tif")
    with pytest.raises(GridMismatch, match="does not lie on it"):
        Inset(layers, SheetSettings(inset=str(tmp_path / "far.tif"))).of(
            extent_of(utm, SheetSettings())
        )


def test_a_picture_of_ones_own_keeps_its_proportions(utm, tmp_path):
    Image.new("RGB", (80, 20), "#336699").save(tmp_path / "mark.png")
    drawn = drawn_sheet([scene(utm)], SheetSettings(picture=str(tmp_path / "mark.png")))
    box = dict(drawn.elements)["picture"]
    assert box.width / box.height == pytest.approx(4)
    (tmp_path / "bad.png").write_bytes(b"not a picture")
    with pytest.raises(LookError, match=r"bad.png"):
        drawn_sheet([scene(utm)], SheetSettings(picture=str(tmp_path / "bad.png")))


def test_texts_are_broken_to_fit():
    pen = Pen(sp.figures.sheet([sp.from_array(np.eye(3))]))
    for line in pen.wrapped("some words and one" + "x" * 300, 40):
        assert pen.length(line) <= 40


def test_the_bar_says_kilometres_and_millimetres(utm):
    frame = frame_of(utm, scale="1:5000")
    metres, long = ScaleBar(frame).length(60)
    assert (metres, long) == (200, pytest.approx(40))


def test_no_figure_interprets_a_text():
    raster = sp.from_array(np.arange(64.0).reshape(8, 8), bands=[sp.Band("cost $a$ and $b$")])
    for figure in (
        sp.figures.compare([raster, raster], bar="right", caption="$x^2$"),
        sp.figures.histogram(raster),
        sp.figures.profile(sp.profile(raster, [{"name": "$p$", "row": 1, "column": 1}])),
        sp.figures.sheet([raster], title="$\\frac{1"),
    ):
        figure.canvas.draw()  # where a wrong formula would end in an error
        texts = [text for text in figure.findobj(lambda one: hasattr(one, "get_parse_math"))
                 if "$" in text.get_text() and "mathdefault" not in text.get_text()]  # fmt: skip
        assert texts
        assert not any(text.get_parse_math() for text in texts)


def run(*words):
    return CliRunner().invoke(commands, [str(word) for word in words])


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--plane", "axial"), "of maps, only of volumes"), (("--put", "north"), "ELEMENT=PLACE"),
        (("--center", "480300,7359900"), "needs --scale"), (("--pixel-size", "5"), "say --scale"),
        (("--scale", "big"), "1:25000"), (("--notes", "a", "--notes-file", "b"), "say one of"),
        (("--notes-file", "none.txt"), "none.txt"), (("--area-crs", "4326"), "without --area"),
        (("--paper", "B5x"), "WIDTHxHEIGHT"), (("--keep-as", "a.json"), "ends with .toml"),
    ],
)  # fmt: skip
def test_what_the_command_refuses(utm, tmp_path, words, said):
    scene(utm).save(tmp_path / "sea.tif")
    done = run("sheet", tmp_path / "sea.tif", "-o", tmp_path / "a.pdf", *words)
    assert done.exit_code in (1, 2)
    assert said in done.output + str(done.exception)
    assert not (tmp_path / "a.pdf").exists()


def test_the_command_takes_a_place_and_rows(utm, tmp_path):
    scene(utm).save(tmp_path / "sea.tif")
    for words, bounds in (
        (("--center", "480300,7359900", "--scale", "1:1000", "--paper", "120x90"), None),
        (("--row-range", "10,20", "--column-range", "0,30"), (480000, 7359800, 480300, 7359900)),
        (("--area=-21.195,-23.876,-21.193,-23.875", "--area-crs", "EPSG:4326"), None),
    ):
        done = run("sheet", tmp_path / "sea.tif", "-o", tmp_path / "a.pdf", "--json", "--overwrite",
                   *words)  # fmt: skip
        assert done.exit_code == 0, done.output
        facts = json.loads(done.output)["results"][0]
        assert bounds is None or facts["bounds"] == pytest.approx(bounds)
        middle = (facts["bounds"][0] + facts["bounds"][2]) / 2
        assert "--center" not in words or middle == pytest.approx(480300)


def test_layer_files_are_written_as_they_are_read(utm, tmp_path):
    scene(utm).save(tmp_path / "sea.tif")
    path = str(tmp_path / "a.layers.toml")
    tables = [{"file": "sea.tif", "nodata": [0], "opacity": 0.5, "unit": "km",
               "look": {"limits": "fixed:0,9"}}]  # fmt: skip
    write_layers(path, tables, {"title": "Sea"})
    kept = read_layers(path)
    assert kept.sheet.title == "Sea"
    assert kept.layers[0].source.bands[0].unit == "km"
    assert layer_tables(path)["layer"][0]["file"] == str(tmp_path / "sea.tif")
    with pytest.raises(LookError, match="no key"):
        write_layers(path, [{"flie": "sea.tif"}], overwrite=True)
    with pytest.raises(FormatError, match="toml"):
        write_layers(str(tmp_path / "a.json"), tables)
