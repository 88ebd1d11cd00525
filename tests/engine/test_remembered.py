"""Statistics found once are kept in the user's cache, and never beside the data."""

from __future__ import annotations

import json
import os

import fsspec
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


def _scene_of(number):
    return np.add.outer(np.arange(600), np.arange(700)).astype("u2") + np.uint16(number)


def _raw(folder, run):
    path = folder / "flat.bin"
    _scene_of(0).astype(">u2").tofile(path)
    layout = ["raw", path, "--rows", "600", "--columns", "700", "--type", "uint16", "--overwrite"]
    run(*layout, "--order", "little")
    return path, lambda: run(*layout, "--order", "big")


def _store(folder, run):
    path = folder / "a.zarr"
    sp.from_array(_scene_of(9)).save(path)
    other = folder / "b.zarr"
    sp.from_array(_scene_of(0)).save(other)

    def change():
        for chunk in other.rglob("c/**/*"):
            if chunk.is_file():
                (path / chunk.relative_to(other)).write_bytes(chunk.read_bytes())

    return path, change


def _stack(folder, run):
    for name, number in (("a", 9), ("b", 9)):
        sp.from_array(_scene_of(number)).save(folder / f"{name}.tif")
    path = folder / "both.stack.toml"
    run("export", folder / "b.tif", folder / "a.tif", "-o", path, "--join", "--linked")
    return path, lambda: sp.from_array(_scene_of(0)).save(folder / "b.tif", overwrite=True)


def _item(folder, run):
    assets = {}
    for name in ("b", "a"):
        sp.from_array(_scene_of(9)).save(folder / f"{name}.tif")
        assets[name] = {"href": f"{name}.tif", "roles": ["data"],
                        "type": "image/tiff; application=geotiff"}  # fmt: skip
    path = folder / "item.json"
    path.write_text(json.dumps({
        "type": "Feature", "stac_version": "1.0.0", "id": "one", "geometry": None, "links": [],
        "properties": {"datetime": "2031-05-01T00:00:00Z"}, "assets": assets,
    }))  # fmt: skip
    return path, lambda: sp.from_array(_scene_of(0)).save(folder / "b.tif", overwrite=True)


def _far_item(folder, run):
    storage = fsspec.filesystem("memory")
    path, change = _item(folder, run)

    def sent():
        for one in (path, folder / "a.tif", folder / "b.tif"):
            storage.pipe(f"memory://kept/{one.name}", one.read_bytes())

    sent()
    return "memory://kept/item.json", lambda: (change(), sent())


@pytest.mark.filterwarnings("ignore:.*looks scrambled")
@pytest.mark.parametrize("made", [_raw, _store, _stack, _item, _far_item])
def test_whatever_changes_the_numbers_is_noticed(made, tmp_path, run, monkeypatch):
    """A layout put right, a chunk written anew in place, a file that another names."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    path, change = made(tmp_path, run)

    def highest():
        code, out, told = run("render", path, "--limits", "minmax", "--channels", "1", "-o",
                              tmp_path / "a.png", "--overwrite", "--json")  # fmt: skip
        assert code == 0, told
        return json.loads(out)["results"][0]["scales"][0]["high"]

    before = highest(), sp.open(path).statistics(1)["max"].iloc[0]
    change()
    after = highest(), sp.open(path).statistics(1)["max"].iloc[0]
    assert after == (1298, 1298)
    assert 1298 not in before


@pytest.mark.filterwarnings("ignore:.*looks scrambled")
def test_reduced_copies_are_of_one_reading(tmp_path, run):
    """A second raster in a file, and the same bytes under another layout, are not shown by them."""
    import h5py

    with h5py.File(tmp_path / "two.h5", "w") as file:
        file["a"], file["b"] = _scene_of(0), 60000 - _scene_of(0)
    run("amend", tmp_path / "two.h5", "--overviews")
    size = {"size": (4, 4), "resample": "area"}
    for member, overviews in ((None, 2), ("a", 2), (2, 0), ("b", 0)):
        raster = sp.open(tmp_path / "two.h5", member=member)
        assert len(raster.overviews) == overviews, member
        close = raster.pixels(**size)[0].mean() - raster.pixels()[0].mean()
        assert abs(close) < 2, member
    path, change = _raw(tmp_path, run)
    run("amend", path, "--overviews")
    change()
    with pytest.warns(sp.DataWarning, match="made of another state"):
        assert sp.open(path).pixels(**size).max() < 1298


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
