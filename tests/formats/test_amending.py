"""Corrections made once: in the sidecar, inside the file, and taken back."""

from __future__ import annotations

import numpy as np
import pytest
from tests.conftest import natural
from tests.formats import fits_builder
from tests.tiff_builder import image, tiff

import spectrane as sp
from spectrane.engine.memory import ArraySource
from spectrane.formats.tiff import amending
from spectrane.model.errors import FormatError, MetadataError
from spectrane.model.source import source_of
from spectrane.raster import Raster

CHANGES = {
    "nodata": {"nodata": 0},
    "ranges": {"nodata": [0, (5, 9)]},
    "none": {"nodata": None},
    "when": {"nodata_when": "all"},
    "bands": {"bands": {1: {"name": "blue", "role": "blue"}, 2: {"unit": "K", "scale": 0.1}}},
    "crs": {"crs": "EPSG:3035"},
    "bounds": {"bounds": (0, 0, 90, 70)},
    "look": {"look": sp.Look(channels=(2,), limits="percentile:2,98")},
    "notes": {"notes": "seen by ✓ <us>"},
}


@pytest.fixture
def scene(tmp_path, rng):
    array = natural(rng, (2, 300, 310), "u2")
    sp.from_array(array, nodata=3).save(tmp_path / "a.tif")
    return tmp_path / "a.tif", array


def facts(path):
    with sp.open(path) as raster:
        return (raster.bands, raster.grid, raster.look, raster.metadata.get("notes"),
                source_of(raster).nodata_when)  # fmt: skip


@pytest.mark.parametrize("inside", [False, True])
@pytest.mark.parametrize("name", CHANGES)
def test_the_next_load_has_it_and_undo_takes_it_back(scene, inside, name):
    path, array = scene
    before, old = facts(path), path.read_bytes()
    sp.amend(path, inside=inside, **CHANGES[name])
    after = facts(path)
    assert after != before
    np.testing.assert_array_equal(sp.open(path).pixels().data, array)
    assert path.with_name("a.tif.spectrane.toml").exists() != inside
    change = CHANGES[name]
    if "nodata" in change:
        wanted = tuple(change["nodata"]) if name == "ranges" else change["nodata"]
        assert {band.nodata for band in after[0]} == {wanted}
    if name == "bounds":
        assert after[1].bounds == (0, 0, 90, 70)
    if name == "look":
        assert after[2] == change["look"]
    if name == "notes":
        assert after[3] == change["notes"]
    sp.amend(path, undo=True)
    assert facts(path) == before
    assert path.read_bytes() == old
    with pytest.raises(MetadataError, match="no correction to take back"):
        sp.amend(path, undo=True)
    assert sorted(p.name for p in path.parent.iterdir()) == ["a.tif"]


def test_corrections_add_up_and_are_taken_back_one_by_one(scene):
    path, _ = scene
    sp.amend(path, nodata=0)
    sp.amend(path, bands={"band 1": {"name": "first"}})
    sp.amend(path, bands={"first": {"unit": "m"}}, inside=True)
    band = sp.open(path).bands[0]
    assert (band.name, band.unit, band.nodata) == ("first", "m", 0)
    for wanted in (("first", None, 0), ("band 1", None, 0), ("band 1", None, 3)):
        sp.amend(path, undo=True)
        band = sp.open(path).bands[0]
        assert (band.name, band.unit, band.nodata) == wanted


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize("big", [False, True])
def test_inside_any_tiff(tmp_path, rng, order, big):
    array = natural(rng, (3, 40, 50), "u2")
    second = natural(rng, (1, 9, 9), "u2")
    path = tmp_path / "a.tif"
    path.write_bytes(tiff(image(array, order=order, strip_rows=7), image(second, order=order),
                          order=order, big=big))  # fmt: skip
    sp.amend(path, nodata=9, crs="EPSG:32727", corner=(10, 20), pixel_size=(2, 3), inside=True)
    raster = sp.open(path)
    np.testing.assert_array_equal(raster.pixels().data, array)
    assert raster.bands[2].nodata == 9
    assert (raster.grid.crs_text, raster.grid.bounds) == ("EPSG:32727", (10, -100, 110, 20))
    np.testing.assert_array_equal(sp.open(path, member=2).pixels()[0], second[0])


def test_an_interrupted_change_leaves_the_old_file(scene, monkeypatch):
    path, array = scene
    before = facts(path)
    syncs = []

    def stop(file):
        syncs.append(file)
        raise KeyboardInterrupt

    monkeypatch.setattr(amending.os, "fsync", stop)
    with pytest.raises(KeyboardInterrupt):
        sp.amend(path, nodata=0, inside=True)
    assert syncs  # the new directory was there, and nothing pointed to it yet
    assert facts(path) == before
    np.testing.assert_array_equal(sp.open(path).pixels().data, array)


@pytest.mark.parametrize("kind", ["filled", "masked", "planes and alpha"])
def test_overviews_are_made_anew_where_the_new_rule_reaches(tmp_path, rng, kind):
    array = natural(rng, (2, 600, 700), "u2") % 60000
    array[:, :90] = array[0, 300:320, 200:450] = 7
    path = tmp_path / "a.tif"
    mask = rng.random((1, 600, 700)) > 0.2 if kind == "masked" else None
    alpha = array[0] if kind == "planes and alpha" else None
    source = Raster(ArraySource(array, mask=mask, alpha=alpha))
    source.save(path, planes="chunky" if alpha is None else "planar")
    before = path.read_bytes()
    for nodata in (7, 65535):  # the second reaches no pixel
        size = path.stat().st_size
        sp.amend(path, nodata=nodata, inside=True)
        sp.open(path).save(tmp_path / "fresh.tif", overwrite=True)
        amended, fresh = sp.open(path), sp.open(tmp_path / "fresh.tif")
        assert amended.overviews == ((300, 350), (150, 175))
        for wanted in amended.overviews:
            found = [one.pixels(size=wanted, resample="area") for one in (amended, fresh)]
            np.testing.assert_array_equal(found[0].mask, found[1].mask)
            np.testing.assert_array_equal(found[0].filled(0), found[1].filled(0))
    small = path.stat().st_size
    sp.amend(path, nodata=65534, inside=True)
    assert path.stat().st_size - small < 3000 < small - size  # they stay where nothing changes
    for _ in range(3):
        sp.amend(path, undo=True)
    assert path.read_bytes() == before


def test_cards_of_a_fits_file(tmp_path):
    stored = np.array([[1, 2, 3]], "i2")
    path = tmp_path / "a.fits"
    path.write_bytes(fits_builder.image(stored, extra=[("BUNIT", "adu"), ("OTHER", 4)]))
    old = path.read_bytes()
    sp.amend(path, nodata=2, bands={1: {"unit": "K", "scale": 0.5, "name": "sky"}}, inside=True)
    raster = sp.open(path)
    band = raster.bands[0]
    assert (band.name, band.unit, band.scale, band.nodata) == ("sky", "K", 0.5, 2)
    assert raster.metadata["OTHER"] == 4
    assert raster.pixels().tolist() == [[[1, None, 3]]]
    sp.amend(path, undo=True)
    assert path.read_bytes() == old
    for wrong, match in (({"crs": "EPSG:4326"}, "no field for grid"),
                         ({"nodata": [1, 2]}, "one whole number")):  # fmt: skip
        with pytest.raises(FormatError, match=match):
            sp.amend(path, inside=True, **wrong)
    assert path.read_bytes() == old


def test_blank_is_counted_before_the_sign_is_turned(tmp_path):
    path = tmp_path / "a.fits"
    path.write_bytes(fits_builder.image(np.array([[-32768, 5]], "i2"), extra=[("BZERO", 32768.0)]))
    sp.amend(path, nodata=0, inside=True)
    assert sp.open(path).metadata["BLANK"] == -32768
    assert sp.open(path).pixels().tolist() == [[[None, 32773]]]


def test_text_of_a_png(tmp_path, rng):
    array = rng.integers(0, 255, (1, 9, 9)).astype("u1")
    sp.from_array(array).save(tmp_path / "a.png")
    old = (tmp_path / "a.png").read_bytes()
    for size in (2.0, 3.0):  # the second time it is replaced
        sp.amend(tmp_path / "a.png", corner=(0, 0), pixel_size=(size, size), crs="EPSG:3035",
                 nodata=4, inside=True)  # fmt: skip
    raster = sp.open(tmp_path / "a.png")
    assert (raster.grid.pixel_size, raster.grid.crs_text) == ((3.0, 3.0), "EPSG:3035")
    assert raster.bands[0].nodata == 4
    np.testing.assert_array_equal(raster.pixels().data, array)
    for _ in range(2):
        sp.amend(tmp_path / "a.png", undo=True)
    assert (tmp_path / "a.png").read_bytes() == old


WRONG = [
    ({}, "nothing to amend"),
    ({"bands": {"redd": {"name": "x"}}}, "no band is called 'redd'"),
    ({"bands": {1: {"nam": "x"}}}, "did you mean 'name'"),
    ({"crs": "EPSG:999999"}, "not a code or WKT"),
    ({"bounds": (1, 2, 3, 4), "affine": [[1, 0, 0], [0, 1, 0]]}, "give bounds, or corner"),
    ({"look": {"limits": "strong"}}, "expected one of auto"),
]


@pytest.mark.parametrize(("given", "match"), WRONG)
def test_what_cannot_be_is_refused_and_nothing_kept(scene, given, match):
    path, _ = scene
    with pytest.raises(sp.SpectraneError, match=match):
        sp.amend(path, **given)
    assert [p.name for p in path.parent.iterdir()] == ["a.tif"]


def test_formats_without_a_place_inside(tmp_path):
    np.save(tmp_path / "a.npy", np.zeros((4, 5)))
    with pytest.raises(FormatError, match="NPY has no place inside"):
        sp.amend(tmp_path / "a.npy", nodata=0, inside=True)


def test_a_file_changed_since_is_left_alone(scene):
    path, _ = scene
    sp.amend(path, nodata=0, inside=True)
    path.write_bytes(path.read_bytes() + b"more")
    with pytest.raises(MetadataError, match="changed since it was amended"):
        sp.amend(path, undo=True)
