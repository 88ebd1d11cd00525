"""The live view of volumes: planes, the free one, looks, tests, and what is left with."""

from __future__ import annotations

import json
import random
import shlex

import numpy as np
import pandas
import pytest
from click.testing import CliRunner
from starlette.testclient import TestClient

import spectrane as sp
from spectrane.cli.entry import commands
from spectrane.model.errors import GridMismatch, LookError, SpectraneError
from spectrane.viewing.server import HEADER, Live, served_page
from spectrane.viewing.volume_session import VolumeSession
from spectrane.viewing.volume_state import PANES, VolumeGiven, free_turn
from spectrane.viewing.volumes import VolumeView

AFFINE = np.array([[-2.0, 0, 0, 20], [0, 1.5, 0, -15], [0, 0, 3.0, -12], [0, 0, 0, 1]])


@pytest.fixture
def files(tmp_path, rng):
    """Anatomy of two frames, and a map on another grid, both as files."""
    ct = rng.integers(-900, 1500, (2, 20, 22, 10)).astype("i2")
    sp.volume_from_array(ct, affine=AFFINE).save(tmp_path / "ct.nii.gz")
    effect = rng.normal(0, 2, (12, 14, 9)).astype("f4")
    effect[3:6, 3:6, 3:6] += 9
    turned = np.eye(4)
    turned[:3, :3] = free_turn(9, 4) @ np.diag([3, 2.5, 3.5])
    turned[:3, 3] = [-16, -14, -12]
    sp.volume_from_array(effect, affine=turned).save(tmp_path / "effect.nii.gz")
    return tmp_path


@pytest.fixture
def view(files):
    layers = [
        sp.VolumeLayer(sp.open_volume(files / "ct.nii.gz"), sp.Look(limits="window:bone")),
        sp.VolumeLayer(sp.open_volume(files / "effect.nii.gz"),
                       sp.Look(colormap="ebbflow", limits="fixed:-9,9"),
                       threshold="abs(band(1)) >= 4", opacity=0.7),
    ]  # fmt: skip
    known = [VolumeGiven(layer, str(files / name), role) for layer, name, role in zip(
        layers, ("ct.nii.gz", "effect.nii.gz"), ("anatomy", "map"), strict=True)]  # fmt: skip
    session = VolumeSession.of(layers, known)
    session.resize(90, 120)
    session.change({"do": "whole"})
    return VolumeView(session, str(files / "out"))


WAYS = [
    {"do": "goto", "text": "2, -3.5, 4"}, {"do": "goto", "text": "voxel 4, 5, 6"},
    {"do": "planes", "side": "neurological"}, {"do": "planes", "slab": 9, "project": "mean"},
    {"do": "zoom", "factor": 2.2, "panel": 1, "column": 20, "row": 30},
    {"do": "look", "layer": 0, "limits": "fixed:0,900"}, {"do": "layer", "layer": 0, "frame": 2},
    {"do": "layer", "layer": 1, "faded": 0.3}, {"do": "step", "count": 2, "panel": 0},
]  # fmt: skip


def test_planes_are_the_slices_that_are_drawn(view):
    session = view.session
    for action in WAYS:
        session.change(action)
        state = session.state
        for number, (rgba, told) in enumerate(view.draw(before=False)[:3]):
            pane = session.pane(number)
            whole = sp.slice_picture(
                session.layers(), PANES[number], at=pane.at, side=state.side, slab=state.slab,
                project=state.project, size=(600, 600), labels=False,
            )  # fmt: skip
            # The same colours at the same millimetres: looked up where pixels of both are sure.
            own, other = [], []
            for row in range(5, 90, 9):
                for column in range(5, 120, 9):
                    x, y = pane.grid.center(row=row, column=column)
                    r, c = whole.grid.locate(x=x, y=y)
                    if 1 <= r < whole.rgba.shape[0] - 1 and 1 <= c < whole.rgba.shape[1] - 1:
                        near = whole.rgba[r - 1 : r + 2, c - 1 : c + 2].reshape(-1, 4).astype(int)
                        own.append(rgba[row, column].astype(int))
                        other.append((near.min(0) - 3, near.max(0) + 3))
            inside = [(low <= one).all() and (one <= high).all()
                      for one, (low, high) in zip(own, other, strict=True)]  # fmt: skip
            assert len(inside) > 20
            assert np.mean(inside) > 0.8, (action, told["plane"])


def test_a_free_plane_holds_the_values_at_its_millimetres(files):
    plain = np.fromfunction(lambda i, j, k: 3 * i + 5 * j + 7 * k, (24, 24, 24))
    ball = sp.volume_from_array(plain, affine=np.eye(4))
    session = VolumeSession.of([(ball, sp.Look(limits=(0, 345)))])
    session.resize(60, 80)
    view = VolumeView(session)
    for turn, tilt in ((0, 0), (30, 0), (25, 40), (-70, 65)):
        session.change({"do": "planes", "turn": turn, "tilt": tilt})
        rgba = view.draw(before=False)[3][0]
        pane = session.pane(3)
        checked = 0
        for row in range(0, 60, 7):
            for column in range(0, 80, 7):
                x, y, z = pane.millimetres(column + 0.5, row + 0.5)
                if min(x, y, z) > 0.5 and max(x, y, z) < 22.5:
                    checked += 1
                    value = (3 * x + 5 * y + 7 * z) / 345 * 255
                    assert rgba[row, column, 0] == pytest.approx(value, abs=5.6)  # half a voxel
                    assert pane.position((x, y, z)) == pytest.approx((column + 0.5, row + 0.5))
        assert checked > 8
    assert session.pane(3).letters["right"] == "AL"
    session.change({"do": "planes", "turn": 0, "tilt": 0})
    assert session.pane(3).letters == session.pane(0).letters


def test_everything_can_be_undone_and_restored(view):
    session, rng = view.session, random.Random(5)
    states = [session.state]
    for _ in range(30):
        session.change(rng.choice([*WAYS,
            {"do": "point", "panel": 2, "column": rng.uniform(0, 120), "row": rng.uniform(0, 90)},
            {"do": "pan", "panel": 3, "columns": 3, "rows": rng.uniform(-9, 9)},
            {"do": "panel", "alone": rng.random() < 0.5}, {"do": "active", "layer": 1},
        ]))  # fmt: skip
        if session.state != states[-1]:
            states.append(session.state)
    told = json.loads(json.dumps(session.to_dict()))
    for state in reversed(states[:-1]):
        assert session.undo()
        assert session.state == state
    session.change({"do": "restore", **told})
    assert session.state == states[-1]


def test_a_position_of_a_panel_stays_where_it_is_zoomed(view):
    session = view.session
    for panel in range(4):
        here = session.pane(panel).millimetres(33, 21)
        session.change({"do": "zoom", "factor": 1.7, "panel": panel, "column": 33, "row": 21})
        there = session.pane(panel).millimetres(33, 21)
        assert there == pytest.approx(here, abs=1e-9)
        session.change({"do": "point", "panel": panel, "column": 33, "row": 21})
        assert session.state.point == pytest.approx(here)


WRONG = [
    ({"do": "dance"}, "dance"), ({"do": "goto", "text": "here"}, "here"),
    ({"do": "layer", "frame": 3}, "frame"), ({"do": "layer", "layer": 2}, "layer 2"),
    ({"do": "layer", "opacity": 2}, "opacity"), ({"do": "layer", "mood": 2}, "mood"),
    ({"do": "planes", "side": "left"}, "side"), ({"do": "planes", "slab": -1}, "slab"),
    ({"do": "planes", "tilted": 4}, "tilted"), ({"do": "look", "limits": "x"}, "limits"),
    ({"do": "point", "x": float("nan"), "y": 0, "z": 0}, "point"), ({"do": "step"}, "step"),
    ({"do": "zoom", "factor": -1}, "factor"), ({"do": "restore"}, "restore"),
]  # fmt: skip


@pytest.mark.parametrize(("action", "said"), WRONG)
def test_a_wrong_change_changes_nothing(view, action, said):
    before = view.session.state
    with pytest.raises(SpectraneError, match=said):
        view.change(action)
    assert view.session.state == before


def test_groups_are_those_of_clusters(view):
    layer = view.session.layers()[1]
    for threshold in ("abs(band(1)) >= 4", "abs(band(1)) >= 7"):
        view.change({"do": "layer", "layer": 1, "threshold": threshold})
        told = view.answers["groups"]({"layer": "1"})
        table = sp.clusters(sp.VolumeLayer(layer.source, threshold=threshold))
        assert told["count"] == len(table)
        assert [one["voxels"] for one in told["groups"]] == table["voxels"].tolist()
        assert told["groups"][0]["peak"] == pytest.approx(table["peak"].iloc[0])


@pytest.mark.parametrize("alone", [None, 1, 3])
def test_the_command_and_the_python_draw_what_is_saved(view, files, monkeypatch, alone):
    for action in ({"do": "goto", "text": "2, -3.5, 4"}, {"do": "planes", "side": "neurological"},
                   {"do": "layer", "layer": 0, "frame": 2},
                   {"do": "planes", "turn": 20, "tilt": 35, "slab": 0 if alone is None else 4},
                   {"do": "panel", "panel": alone or 1, "alone": alone is not None}):  # fmt: skip
        view.change(action)
    monkeypatch.chdir(files)
    saved = sp.open_raster(view.savers["picture"](str(files / "out"), 8)[0]).pixels().data
    words = shlex.split(view.state()["command"])
    done = CliRunner().invoke(commands, words[1:])
    assert done.exit_code == 0, (done.output, done.exception)
    np.testing.assert_array_equal(sp.open_raster("view.png").pixels().data, saved)
    exec(compile(view.state()["python"], "view.py", "exec"), {})
    np.testing.assert_array_equal(sp.open_raster("view.png").pixels().data, saved)
    view.change({"do": "look", "layer": 0, "brightness": 0.2})
    assert view.state()["command"] is None  # no option of slices says that


def test_what_the_page_asks(view, files):
    client = TestClient(served_page(live := Live(view, str(files / "out"))),
                        base_url="http://127.0.0.1:8000", headers={HEADER: live.token})  # fmt: skip
    state = client.get("/state", params={"words": "yes"}).json()
    assert (state["kind"], state["panels"]) == ("volume", 4)
    actions = json.dumps([{"do": "goto", "text": "2, -3.5, 4"}, {"do": "mark"}])
    assert client.get("/frame", params={"n": 1, "actions": actions}).status_code == 200
    there = client.get("/values").json()
    probe = sp.probe(view.session.layers(), x=2, y=-3.5, z=4)
    assert [row["stored"] for row in there["rows"]] == probe["stored"].tolist()
    counts = client.get("/counts").json()["channels"][0]
    assert sum(counts["counts"]) > 300
    course = client.get("/spectra").json()["marks"][0]
    assert course == probe["physical"][:2].tolist()
    (path,) = view.savers["marks"](str(files / "out"), 8)
    assert len(pandas.read_csv(path)) == len(probe)
    reads = view.drawer.reads
    client.get("/frame", params={"n": 2, "actions": json.dumps([{"do": "panel", "panel": 2}])})
    assert view.drawer.reads == reads  # another panel is chosen: nothing is drawn again
    client.get("/frame", params={"n": 3, "actions": json.dumps([{"do": "step", "count": 1}])})
    assert view.drawer.reads == reads + 1  # the one that is stepped: the free one holds x too
    assert client.post("/keep", json={"agreed": True}).json()["saved"] == (
        "ct.nii.gz.spectrane.toml")  # fmt: skip
    with sp.open_volume(files / "ct.nii.gz") as kept:
        assert str(kept.look.limits[0]) == "window:bone"


def test_volumes_and_rasters_do_not_mix(files):
    ct = sp.open_volume(files / "ct.nii.gz")
    with pytest.raises(GridMismatch):
        sp.view([ct, sp.from_array(np.eye(4))])
    with pytest.raises(LookError, match="16|8 bits"):
        VolumeView(VolumeSession.of([ct])).savers["picture"](str(files), 16)
    done = CliRunner().invoke(commands, ["view", str(files / "ct.nii.gz"), "--channels", "natural"])
    assert "--channels is not used" in done.output
