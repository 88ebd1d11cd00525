"""What a live view says is to be looked at twice, and the small pictures of its bands."""

from __future__ import annotations

import os
import shlex

import numpy as np
import pytest
from click.testing import CliRunner
from tests.viewing.conftest import session_of

import spectrane as sp
from spectrane.cli.entry import commands
from spectrane.viewing.rasters import RasterView
from spectrane.viewing.session import Session
from spectrane.viewing.state import Opened


def doubts_of(session):
    return RasterView(session).answers["doubts"]({})["doubts"]


def test_doubts_have_cures(rng, utm, tmp_path):
    values = rng.integers(100, 900, (3, 70, 90)).astype("u2")
    values[:, :20] = 0
    bands = [sp.Band(name, name) for name in ("blue", "green", "red")]
    raster = sp.from_array(values, grid=utm, bands=bands)
    session = session_of(sp.Layer(raster, sp.Look(channels=(1, 2, 3), limits="deviation:0.5")))
    doubts = doubts_of(session)
    texts = " ".join(one["text"] for one in doubts)
    for what in ("nobody declared", "cut off", "blue as red"):
        assert what in texts
    for one in doubts:
        for cure in one["cures"]:
            session.change(cure["change"])
    left = [one["text"] for one in doubts_of(session)]
    assert [text.partition(": ")[2] for text in left] == [
        "29% of its pixels in view are hidden, as no-data or by a mask"]  # fmt: skip
    assert session.layers()[0].source.bands[0].nodata == (0,)
    assert session.state.layers[0].look.channels == "natural"


def test_what_the_data_themselves_need_is_a_command_to_copy(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    long = sp.Grid.from_corner((40, 30), x=0, y=80, pixel_size=(1, 2))
    values = np.arange(1200, dtype="u2").reshape(40, 30)
    raster = sp.from_array(values, grid=long)
    raster.save("my data.tif")
    sp.render(sp.open("my data.tif")).save("seen.png")
    for name, told, words in (
        ("my data.tif", "1 by 2", ["export", "my data.tif", "-o", "my data_square.tif",
                                   "--pixel-size", "1.0"]),
        ("seen.png", "do not measure on it; it was made from my data.tif", ["view", "my data.tif"]),
    ):  # fmt: skip
        given = sp.Layer(sp.open_raster(name))
        session = Session.of([given], [Opened(given, name)])
        session.resize(80, 60)
        doubts = [one for one in doubts_of(session) if told in one["text"]]
        assert [shlex.split(cure["copy"]) for one in doubts for cure in one["cures"]] == [
            ["spectrane", *words]]  # fmt: skip
    assert CliRunner().invoke(commands, ["export", "my data.tif", "-o", "square.tif",
                                         "--pixel-size", "1.0"]).exit_code == 0  # fmt: skip
    assert sp.open("square.tif").grid.pixel_size == (1, 1)
    with pytest.warns(sp.DataWarning, match=r"measure on my data\.tif"):
        sp.open("seen.png").statistics()
    os.remove("my data.tif")
    assert [one["cures"] for one in doubts_of(session) if "display picture" in one["text"]] == [[]]


@pytest.mark.parametrize(("names", "found"), [
    (None, ["red", "green", "blue", "nir"]), ('["nir"]', ["nir"]),
    ('["blue", "red"]', ["blue", "red"]),
])  # fmt: skip
def test_small_pictures_of_bands(scene, names, found):
    said = RasterView(session_of(scene)).answers["thumbnails"]({"of": names})["bands"]
    assert [one["band"] for one in said] == found
    assert all(np.shape(one["levels"]) == (56, 72) for one in said)


def test_small_pictures_that_nobody_asked_for_are_quick_or_none(scene, monkeypatch):
    monkeypatch.setattr("spectrane.display.thumbnails.QUICK", 1000)
    answer = RasterView(session_of(scene)).answers["thumbnails"]
    assert answer({"of": '["red"]'})["bands"] == []
    assert len(answer({})["bands"]) == 4
