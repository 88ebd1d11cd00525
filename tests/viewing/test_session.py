"""The state of a live view: changes, undoing, positions, and what makes the same picture again."""

from __future__ import annotations

import json
import random
import shlex

import numpy as np
import pandas
import pytest
from click.testing import CliRunner
from tests.viewing.conftest import session_of

import spectrane as sp
from spectrane.analysis.spectra import Spectra
from spectrane.cli.entry import commands
from spectrane.model.errors import GridMismatch, LookError, MetadataError
from spectrane.model.systems import LONLAT, way_between
from spectrane.viewing.drawing import Drawer
from spectrane.viewing.keeping import save_layers, save_marks, save_spectra
from spectrane.viewing.leaving import look_words, render_command, render_python
from spectrane.viewing.naming import named_places
from spectrane.viewing.reading import outlines_of, spectra_of, values_at
from spectrane.viewing.session import Session
from spectrane.viewing.state import Opened

FIELD = {"type": "Polygon", "coordinates": [[[480100, 7359500], [480500, 7359500],
         [480500, 7359800], [480100, 7359500]]]}  # fmt: skip


@pytest.fixture
def depth(rng):
    grid = sp.Grid.from_corner((50, 60), x=480300, y=7359900, pixel_size=15, crs="EPSG:32727")
    values = rng.normal(10, 3, (50, 60)).astype("f4")
    values[:10] = np.nan
    return sp.from_array(values, grid=grid, bands=[sp.Band("depth", unit="m")])


CHANGES = [
    {"do": "whole"}, {"do": "zoom", "factor": 3.3, "column": 80, "row": 40},
    {"do": "look", "layer": 1, "limits": "fixed:8,12", "curve": "sqrt"},
    {"do": "look", "layer": 0, "saturation": 0.4}, {"do": "pan", "columns": 7.5, "rows": -3},
    {"do": "layer", "layer": 1, "mode": "multiply"}, {"do": "order", "order": [0, 2, 1]},
    {"do": "layer", "layer": 1, "threshold": "depth > 10"},
    {"do": "layer", "layer": 2, "visible": False},
]  # fmt: skip


def test_what_is_seen_is_what_render_gives(scene, depth):
    outline = sp.Outline(FIELD, crs=32727)
    session = session_of(
        sp.Layer(scene, sp.Look(channels="natural", limits="percentile:2,98")),
        sp.Layer(depth, sp.Look(colormap="kiln"), opacity=0.5), outline,
    )  # fmt: skip
    drawer = Drawer()
    for action in CHANGES:
        session.change(action)
        frame = drawer.frame(session)
        np.testing.assert_array_equal(
            frame.rgba, sp.render(session.layers(), view=session.view()).rgba
        )


def test_another_look_reads_nothing(scene):
    session = session_of(scene)
    drawer = Drawer()
    drawer.frame(session)
    reads = drawer.reads
    for look in (
        {"limits": "fixed:0,9"},
        {"curve": "gamma:2"},
        {"invert": True},
        {"brightness": 0.2},
    ):
        session.change({"do": "look", **look})
        drawer.frame(session)
    assert drawer.reads == reads
    session.change({"do": "look", "channels": ["nir"], "colormap": "kiln"})
    drawer.frame(session)
    assert drawer.reads == reads + 1


def test_kept_pixels_are_bounded(scene):
    session, drawer = session_of(scene), Drawer(most=300_000)
    for factor in (1.1, 1.2, 1.3, 1.4):
        session.change({"do": "zoom", "factor": factor})
        drawer.frame(session)
    assert drawer.held <= 300_000


def test_everything_can_be_undone(scene, depth):
    session = session_of(scene, depth)
    rng = random.Random(3)
    states = [session.state]
    for _ in range(40):
        session.change(rng.choice([
            {"do": "zoom", "factor": rng.uniform(0.5, 2)}, {"do": "pan", "columns": 3, "rows": 4},
            {"do": "look", "layer": 0, "limits": f"fixed:0,{rng.randint(1, 99)}"},
            {"do": "layer", "layer": 1, "opacity": rng.random()}, {"do": "order", "order": [1, 0]},
            {"do": "mark", "column": 5, "row": rng.random()}, {"do": "active", "layer": 0},
        ]))  # fmt: skip
        if session.state != states[-1]:
            states.append(session.state)
    for state in reversed(states[:-1]):
        assert session.undo()
        assert session.state == state
    for state in states[1:]:
        assert session.redo()
        assert session.state == state
    assert not session.redo()


def test_the_steps_of_a_drag_are_one(scene):
    session = session_of(scene)
    before = session.state
    session.change({"do": "pan", "columns": 1, "rows": 0})
    for _ in range(9):
        session.change({"do": "pan", "columns": 1, "rows": 0, "together": True})
    session.undo()
    assert session.state == before


def test_zooming_keeps_what_lies_under_the_pointer(scene):
    session = session_of(scene)
    here = session.at(17, 61)
    for factor in (2, 1.7, 0.3):
        session.change({"do": "zoom", "factor": factor, "column": 17, "row": 61})
        assert session.at(17, 61) == pytest.approx(here)
    session.change({"do": "one"})
    assert session.state.pixel == 10
    session.change({"do": "zoom", "factor": 1e5})
    assert session.state.pixel >= 10 / 256


def test_places_as_people_write_them(scene):
    session = session_of(scene)
    for text in ("480421,7359810", "-21.1923,-23.8731", "23°52.386'S 21°11.538'W"):
        session.change({"do": "goto", "text": text})
        assert session.state.center == pytest.approx((480421, 7359810), abs=5)
        assert session.told


WRONG = [
    ({"do": "dance"}, "dance"), ({"do": "look", "limits": "fixed:1"}, "limits"),
    ({"do": "look", "limit": "auto"}, "limit"), ({"do": "look", "layer": 7}, "layer 7"),
    ({"do": "layer", "opacity": 2}, "opacity"), ({"do": "layer", "mode": "burn"}, "burn"),
    ({"do": "zoom", "factor": 0}, "factor"), ({"do": "zoom", "factor": "x"}, "factor"),
    ({"do": "order", "order": [0, 0]}, "order"), ({"do": "goto", "text": "nowhere"}, "nowhere"),
    ({"do": "pan", "columns": float("nan"), "rows": 0}, "columns"), ({"do": "pan"}, "pan"),
    ({"do": "layer", "threshold": "depth >"}, "depth >"), ({"do": "look", "layer": 2}, "no look"),
    ({"do": "panels", "count": 3}, "panels 3"), ({"do": "panel", "panel": 1}, "panel 1"),
    ({"do": "nodata", "layer": 0, "items": ["x"]}, "no.?data"),
    ({"do": "nodata", "layer": 2, "items": [1]}, "no"),
    ({"do": "restore", "panels": [[]], "order": [0, 1, 2], "active": 0, "center": [0, 0],
      "pixel": 1}, "3 layers"),
]  # fmt: skip


@pytest.mark.parametrize(("action", "said"), WRONG)
def test_a_wrong_change_changes_nothing(scene, depth, action, said):
    session = session_of(scene, depth, sp.Outline(FIELD, crs=32727))
    before = session.state
    with pytest.raises((LookError, GridMismatch, MetadataError), match=said):
        session.change(action)
    assert session.state == before
    assert len(session.before) <= 1


def test_outlines_alone_are_no_view():
    with pytest.raises(LookError, match="at least one raster"):
        Session.of([sp.Outline(FIELD)])


LOOKS = [
    {"channels": "natural", "limits": "percentile:2,98"}, {"channels": ["nir"], "colormap": "kiln"},
    {"channels": ["nir", "red", "green"], "limits": ["fixed:0,9", "fixed:0,20", "minmax"]},
    {"channels": [2], "curve": "gamma:1.8", "invert": True, "brightness": 0.2, "contrast": 1.3},
    {"limits": "deviation:2", "shared": True, "saturation": 0.5, "sharpen": [1.0, 0.5]},
]  # fmt: skip


@pytest.mark.parametrize("look", LOOKS)
def test_the_command_and_the_python_give_the_same_picture(scene, tmp_path, look, monkeypatch):
    path = tmp_path / "a b's.tif"
    scene.save(path)
    raster = sp.open_raster(path).with_nodata(7)
    session = Session.of([raster], [Opened(None, str(path), ("--nodata", "7"), ".with_nodata(7)")])
    session.resize(64, 100)
    for action in (
        {"do": "whole"},
        {"do": "zoom", "factor": 2.7, "column": 3, "row": 9},
        {"do": "look", **look},
    ):
        session.change(action)
    shown = Drawer().frame(session).rgba
    monkeypatch.chdir(tmp_path)
    words = shlex.split(render_command(session))
    done = CliRunner().invoke(commands, words[1:])
    assert done.exit_code == 0, (done.output, done.exception)
    np.testing.assert_array_equal(
        sp.open_raster("view.png").pixels().data, np.moveaxis(shown, 2, 0)[:3]
    )
    exec(compile(render_python(session), "view.py", "exec"), {})
    np.testing.assert_array_equal(
        sp.open_raster("view.png").pixels().data, np.moveaxis(shown, 2, 0)[:3]
    )


def test_no_command_where_none_alone_does(scene, depth):
    session = session_of(scene, depth)
    assert render_command(session) is None
    assert "opacity=0.5" in _python(session, {"do": "layer", "opacity": 0.5})
    assert look_words(sp.Look(classes={1: "#ff0000"})) is None
    assert look_words(sp.Look(limits_from={"bounds": [0, 0, 1, 1]})) is None


def _python(session, action):
    session.change(action)
    return render_python(session)


SIGHTS = {
    "own looks": [{"do": "panels", "count": 2}, {"do": "panel", "panel": 1},
                  {"do": "look", "layer": 0, "invert": True}],
    "own files": [{"do": "panels", "count": 4}, {"do": "panel", "panel": 2, "only": 1},
                  {"do": "zoom", "factor": 3}],
    "swiped": [{"do": "panels", "count": 2, "swiped": True}],
    "no-data": [{"do": "nodata", "layer": 0, "items": [0, [3000, 4000]]}],
    "reordered": [{"do": "zoom", "factor": 2}, {"do": "order", "order": [1, 0]}],
}  # fmt: skip


@pytest.mark.parametrize("name", SIGHTS)
def test_panels_are_what_render_gives_and_can_be_restored(scene, depth, name):
    other = sp.Grid.from_corner((90, 90), x=-131500, y=7346200, pixel_size=15, crs="EPSG:32728")
    depth = depth.regrid(other) if name == "own files" else depth
    session = session_of(sp.Layer(scene, sp.Look(channels="natural")), sp.Layer(depth))
    for action in SIGHTS[name]:
        session.change(action)
    drawer = Drawer()
    for panel in range(len(session.state.panels)):
        expected = sp.render(session.layers(panel), view=session.view()).rgba
        np.testing.assert_array_equal(drawer.frame(session, panel).rgba, expected)
    again = session_of(sp.Layer(scene, sp.Look(channels="natural")), sp.Layer(depth))
    again.change({"do": "restore", **json.loads(json.dumps(session.to_dict()))})
    assert again.state == session.state
    assert again.undo()


def test_panels_begin_as_the_one_that_is_changed(scene, depth):
    session = session_of(scene, depth)
    session.change({"do": "panels", "count": 2, "swiped": True})
    assert [one.visible for one in session.state.panels[1]] == [True, False]  # what lies on top
    session.change({"do": "panel", "panel": 1})
    session.change({"do": "panels", "count": 1})
    assert [one.visible for one in session.state.layers] == [True, False]
    assert (session.state.panel, session.state.swiped) == (0, False)


def test_one_look_for_all_has_the_limits_of_all(scene, rng, utm):
    bands = [sp.Band(name, name) for name in ("red", "green", "blue")]
    other = sp.from_array(rng.integers(0, 900, (3, 70, 90)).astype("u2"), grid=utm, bands=bands)
    session = session_of(sp.Layer(scene, sp.Look(channels="natural", limits="minmax")), other)
    session.change({"do": "panels", "count": 2})
    session.change({"do": "panel", "panel": 1, "only": 1})
    session.change({"do": "panel", "panel": 0, "only": 0})
    session.change({"do": "alike"})
    for channel, rule in enumerate(session.state.panels[1][1].look.limits):
        both = [one.pixels([channel + 1], physical=True) for one in (scene, other)]
        assert rule.low == pytest.approx(min(float(one.min()) for one in both))
        assert rule.high == pytest.approx(max(float(one.max()) for one in both))
    assert session.state.panels[0][0].look == session.state.panels[1][1].look


def test_another_lowest_raster_keeps_the_place(scene, depth):
    west = depth.regrid(sp.Grid.from_corner((90, 90), x=1091700, y=7347900, pixel_size=15,
                                            crs="EPSG:32726"))  # fmt: skip
    session = session_of(scene, west)
    session.change({"do": "goto", "text": "row 20, column 30"})
    session.change({"do": "mark", "column": 60, "row": 40})
    lon, lat = way_between("EPSG:32727", LONLAT).transform(*session.state.center)
    session.change({"do": "order", "order": [1, 0]})
    turned = way_between("EPSG:32726", LONLAT)
    assert turned.transform(*session.state.center) == pytest.approx((lon, lat), abs=1e-7)
    assert turned.transform(*session.state.marks[0]) == pytest.approx((lon, lat), abs=1e-5)


def test_the_view_before_and_the_next(scene):
    session = session_of(scene)
    session.earlier.clear()
    places = [session.state.place]
    for factor in (2, 3):
        session.change({"do": "zoom", "factor": factor})
        session.change({"do": "look", "invert": factor == 2})
        session.change({"do": "pan", "columns": 1, "rows": 0, "together": True})
        places.append(session.state.place)
    session.change({"do": "back"})
    session.change({"do": "back"})
    assert session.state.place == places[0]
    with pytest.raises(LookError, match="no view before"):
        session.change({"do": "back"})
    session.change({"do": "forth"})
    session.change({"do": "forth"})
    assert session.state.place == places[2]
    assert session.undo()  # going back and forth can be undone too


GOTO = {
    "row 20, column 30": ("row 20, column 30", None), "r20 c30": ("row 20, column 30", None),
    "buoy": ("buoy in points.csv", (480210.5, 7359410.25)),
    "BUOY in points.csv": ("buoy in points.csv", (480210.5, 7359410.25)),
    "field": ("field in outlines", (480300.0, 7359650.0)),
}  # fmt: skip


@pytest.mark.parametrize(("text", "found"), GOTO.items())
def test_places_of_what_is_loaded(scene, tmp_path, text, found):
    (tmp_path / "points.csv").write_text("name,x,y\nbuoy,480210.5,7359410.25\n")
    named = {"type": "Feature", "properties": {"name": "field"}, "geometry": FIELD}
    session = session_of(scene)
    session.names = named_places(session.base, [str(tmp_path / "points.csv")],
                                 [sp.Outline(named, crs=32727)])  # fmt: skip
    session.change({"do": "goto", "text": text})
    said, place = found
    assert session.told == said
    assert session.state.center == pytest.approx(place or scene.grid.center(row=20, column=30))


def test_no_other_file_is_read_for_a_name(scene, tmp_path):
    (tmp_path / "secret.csv").write_text("name,x,y\nbuoy,1,2\n")
    session = session_of(scene)
    with pytest.raises(LookError, match="no point of that name"):
        session.change({"do": "goto", "text": f"buoy in {tmp_path / 'secret.csv'}"})


def test_outlines_are_measured_and_kept(scene, tmp_path):
    session = session_of(scene, size=(70, 90))
    session.change({"do": "mark", "column": 10.5, "row": 20.5})
    session.change({"do": "outline", "points": [[10, 10], [40, 10], [40, 30], [10, 30]]})
    ring = [session.at(c, r) for c, r in ((10, 10), (40, 10), (40, 30), (10, 30))]
    region = {"type": "Polygon", "coordinates": [[list(at) for at in (*ring, ring[0])]]}
    region = sp.Outline(region, crs=32727).ready().shape
    table = scene.statistics(region=region)
    told = outlines_of(session)
    assert [row["mean"] for row in told["rows"]] == pytest.approx(list(table["mean"]))
    assert [row["count"] for row in told["rows"]] == list(table["valid"])
    assert sum(told["counts"]["counts"]) == table["valid"].iloc[0]
    paths = save_marks(session, str(tmp_path))
    assert [path.rpartition("/")[2] for path in paths] == [
        "marks.geojson", "marks.csv", "outlines.csv"]  # fmt: skip
    read = sp.read_shapes(paths[0])
    assert [feature.name for feature in read.features] == ["mark 1", "outline 1"]
    assert scene.statistics(region=read.only(read.features[1]))["valid"].tolist() == (
        table["valid"].tolist())  # fmt: skip
    assert pandas.read_csv(paths[1])["stored"].tolist() == [
        row["stored"] for row in values_at(session, 10.5, 20.5)["rows"]]  # fmt: skip
    for wrong in ([[1, 1], [2, 2]], [[1, 1], [2, "x"], [3, 3]]):
        with pytest.raises(LookError):
            session.change({"do": "outline", "points": wrong})


def test_layers_and_spectra_are_saved(scene, depth, tmp_path):
    scene.save(tmp_path / "scene.tif")
    depth.save(tmp_path / "depth.tif")
    files = [sp.open_raster(tmp_path / name) for name in ("scene.tif", "depth.tif")]
    layers = [sp.Layer(one) for one in files]
    known = [Opened(layer, str(tmp_path / name), (), "", {"file": str(tmp_path / name)})
             for layer, name in zip(layers, ("scene.tif", "depth.tif"), strict=True)]  # fmt: skip
    session = Session.of(layers, known)
    session.resize(80, 120)
    for action in ({"do": "whole"}, {"do": "look", "layer": 0, "channels": "natural"},
                   {"do": "look", "layer": 1, "limits": "fixed:5,15", "colormap": "kiln"},
                   {"do": "layer", "layer": 1, "opacity": 0.5, "threshold": "depth > 9"},
                   {"do": "nodata", "layer": 0, "items": [0]}, {"do": "active", "layer": 0},
                   {"do": "mark", "column": 70, "row": 40}):  # fmt: skip
        session.change(action)
    kept = sp.load_layers(save_layers(session, str(tmp_path / "out"))[0])
    shown = sp.render(session.layers(), view=session.view()).rgba
    np.testing.assert_array_equal(sp.render(kept.layers, view=session.view()).rgba, shown)
    words = shlex.split(render_command(session, str(tmp_path / "o.png"), str(tmp_path / "out")))
    assert CliRunner().invoke(commands, words[1:]).exit_code == 0
    with sp.open_raster(tmp_path / "o.png") as drawn:
        np.testing.assert_array_equal(np.moveaxis(drawn.pixels().data, 0, 2)[..., :3],
                                      shown[..., :3])  # fmt: skip
    library = Spectra.load(save_spectra(session, str(tmp_path / "out"))[0])
    told = spectra_of(session, library)
    assert told["nearest"][0][0][0] == "mark 1"
    assert told["nearest"][0][0][1] == pytest.approx(0, abs=1e-5)
