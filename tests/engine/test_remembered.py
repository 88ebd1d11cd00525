"""Statistics found once are kept in the user's cache, and never beside the data."""

from __future__ import annotations

import os

import numpy as np
import pytest

import spectrane as sp
from spectrane.analysis import statistics
from spectrane.engine import remembered


@pytest.fixture
def scene(tmp_path, rng, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    (tmp_path / "data").mkdir()
    array = rng.integers(0, 60000, (2, 600, 700)).astype("u2")
    sp.from_array(array).save(tmp_path / "data" / "a.tif")
    return tmp_path / "data" / "a.tif"


@pytest.fixture
def walks(monkeypatch):
    seen = []
    plain = statistics.told_blocks

    def counted(*arguments):
        seen.append(arguments)
        return plain(*arguments)

    monkeypatch.setattr(statistics, "told_blocks", counted)
    return seen


def test_the_second_time_nothing_is_read(scene, walks):
    first = sp.open(scene).statistics()
    assert walks
    walks.clear()
    again = sp.open(scene).statistics()
    assert walks == []
    assert first.equals(again)
    assert [p.name for p in scene.parent.iterdir()] == ["a.tif"]


def test_any_and_all_are_remembered_apart(tmp_path, rng):
    """The same no-data value hides less when only pixels without any valid band are hidden."""
    array = rng.integers(0, 3, (2, 600, 700)).astype("u2")
    sp.from_array(array).save(tmp_path / "a.tif")
    for when, valid in (("any", array > 0), ("all", np.broadcast_to(array.max(0) > 0, array.shape)),
                        ("any", array > 0)):  # fmt: skip
        found = sp.open(tmp_path / "a.tif").with_nodata(0, when=when).statistics()
        assert found["valid"].tolist() == valid.sum((1, 2)).tolist()


@pytest.mark.parametrize(
    "change",
    [
        lambda raster: raster.with_nodata(0),
        lambda raster: raster.with_bands({1: {"scale": 2.0}}),
        lambda raster: raster.select([2, 1]),
        lambda raster: raster.crop(rows=(0, 599)),
    ],
)
def test_another_meaning_is_measured_anew(scene, walks, change):
    sp.open(scene).statistics()
    walks.clear()
    change(sp.open(scene)).statistics()
    assert walks


def test_a_changed_file_is_measured_anew(scene, walks):
    sp.open(scene).statistics()
    os.utime(scene, (1, 1))
    walks.clear()
    sp.open(scene).statistics()
    assert walks


def test_small_rasters_and_arrays_are_not_kept(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    sp.from_array(np.zeros((900, 900), "u1")).statistics()
    assert not os.path.exists(remembered.folder())


def test_what_cannot_be_kept_or_read_is_no_error(tmp_path, monkeypatch):
    blocked = tmp_path / "file"
    blocked.write_text("in the way")
    monkeypatch.setenv("XDG_CACHE_HOME", str(blocked))
    remembered.keep(("a",), [1])
    assert remembered.recall(("a",)) is None
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    remembered.keep(("a",), [1])
    assert remembered.recall(("a",)) == [1]
    for name in os.listdir(remembered.folder()):
        with open(os.path.join(remembered.folder(), name), "w") as file:
            file.write("{broken")
    assert remembered.recall(("a",)) is None
