"""The state of a live view: changes, undoing, positions, and what makes the same picture again."""

from __future__ import annotations

import random
import shlex

import numpy as np
import pytest
from click.testing import CliRunner

import spectrane as sp
from spectrane.cli.entry import commands
from spectrane.model.errors import GridMismatch, LookError
from spectrane.viewing.drawing import Drawer
from spectrane.viewing.leaving import look_words, render_command, render_python
from spectrane.viewing.session import Opened, Session

FIELD = {"type": "Polygon", "coordinates": [[[480100, 7359500], [480500, 7359500],
         [480500, 7359800], [480100, 7359500]]]}  # fmt: skip


@pytest.fixture
def scene(rng, utm):
    bands = [sp.Band(name, name, scale=1e-2) for name in ("red", "green", "blue", "nir")]
    return sp.from_array(rng.integers(0, 4000, (4, 70, 90)).astype("u2"), grid=utm, bands=bands)


@pytest.fixture
def depth(rng):
    grid = sp.Grid.from_corner((50, 60), x=480300, y=7359900, pixel_size=15, crs="EPSG:32727")
    values = rng.normal(10, 3, (50, 60)).astype("f4")
    values[:10] = np.nan
    return sp.from_array(values, grid=grid, bands=[sp.Band("depth", unit="m")])


def session_of(*layers, size=(80, 120)):
    session = Session.of(list(layers))
    session.resize(*size)
    session.change({"do": "whole"})
    return session


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
]  # fmt: skip


@pytest.mark.parametrize(("action", "said"), WRONG)
def test_a_wrong_change_changes_nothing(scene, depth, action, said):
    session = session_of(scene, depth, sp.Outline(FIELD, crs=32727))
    before = session.state
    with pytest.raises((LookError, GridMismatch), match=said):
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
