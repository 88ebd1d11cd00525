"""Overviews that are made for files that have none: inside TIFF, beside any other."""

from __future__ import annotations

import json

import numpy as np
import pytest

import spectrane as sp
from spectrane.analysis import checks
from spectrane.formats.reduced_files import Halved, reduced_name
from spectrane.model.errors import FormatError, MetadataError
from spectrane.model.window import whole

RANDOM = np.random.default_rng(6)
VALUES = RANDOM.integers(1, 3000, (2, 600, 700)).astype("u2")
VALUES[:, 100:300, 50:250] = 0


def saved(path, **more):
    raster = sp.from_array(VALUES, bands=[sp.Band("a", nodata=0), sp.Band("b", nodata=0)])
    raster.save(path, **more)
    return path


def means(values, factor=2):
    """Means of the valid numbers of squares, where at least half are, by hand."""
    rows, columns = (n // factor * factor for n in values.shape)
    parts = values[:rows, :columns].reshape(rows // factor, factor, columns // factor, factor)
    parts = parts.swapaxes(1, 2).reshape(rows // factor, columns // factor, -1).astype(float)
    valid = parts > 0
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = parts.sum(-1) / valid.sum(-1)
    return np.where(valid.mean(-1) >= 0.5, mean, np.nan)


FORMATS = [("a.tif", {"overviews": False}), ("a.fits", {}), ("a.npy", {}), ("a.nc", {}),
           ("a.raw", {})]  # fmt: skip


@pytest.mark.filterwarnings("ignore:.* has no field", "ignore:.*NPY", "ignore:FITS takes")
@pytest.mark.parametrize(("name", "more"), FORMATS)
def test_smaller_sizes_come_from_them_and_pixels_stay(name, more, tmp_path, run):
    path = saved(tmp_path / name, **more)
    bytes_before = path.read_bytes()
    with sp.open_raster(path) as raster:
        before = raster.pixels()
        assert raster.overviews == ()
    dry = run("amend", path, "--overviews", "--dry-run")
    assert (dry[0], path.read_bytes() == bytes_before) == (0, True)
    status, out, err = run("amend", path, "--overviews", "--json")
    facts = json.loads(out)["results"][0]
    inside = name.endswith(".tif")
    assert (status, facts["inside"]) == (0, inside), err
    assert (path.read_bytes() == bytes_before) != inside
    assert inside or facts["output"] == reduced_name(str(path))
    with sp.open_raster(path) as raster:
        assert raster.overviews[0] == (300, 350)
        np.testing.assert_array_equal(raster.pixels().filled(0), before.filled(0))
        half = raster.pixels(1, size=(300, 350), resample="area")[0]
        wanted = means(VALUES[0])
        got = half.astype(float).filled(np.nan)
        assert (np.isnan(got) == np.isnan(wanted)).all()
        assert np.nanmax(np.abs(got - wanted)) <= 0.5
        small = raster.pixels(1, size=(75, 88), resample="area")[0]
        assert abs(float(small.mean()) - VALUES[0][VALUES[0] > 0].mean()) < 10
    if inside:
        sp.amend(path, undo=True)
        assert path.read_bytes()[: len(bytes_before)] == bytes_before
        assert sp.open_raster(path).overviews == ()
    rows = sp.survey(tmp_path)
    assert len(rows) == 1


@pytest.mark.filterwarnings("ignore:FITS")
def test_a_copy_of_another_state_is_left_aside_and_told(tmp_path):
    path = saved(tmp_path / "a.fits")
    sp.amend(path, overviews=True)
    assert sp.open_raster(path).overviews
    sp.amend(path, nodata=7)
    with pytest.warns(sp.DataWarning, match="another state of the file"):
        assert sp.open_raster(path).overviews == ()
    sp.amend(path, undo=True)
    assert sp.open_raster(path).overviews
    sp.from_array(VALUES[:, ::-1].copy()).save(path, overwrite=True)
    with pytest.warns(sp.DataWarning, match="another state of the file"):
        assert sp.open_raster(path).overviews == ()


@pytest.mark.parametrize("shape", [(5, 7), (601, 702), (1, 9), (300, 1)])
def test_odd_edges_are_means_of_what_is_there(shape):
    values = RANDOM.integers(1, 3000, (1, *shape)).astype("f8")
    values[0, 0, 0] = np.nan
    made = Halved(sp.from_array(values)._source)
    got = made.read([0], whole(made.shape)).values[0]
    for row, column in ((0, 0), (-1, -1), (made.shape[0] // 2, 0)):
        top, left = 2 * (row % made.shape[0]), 2 * (column % made.shape[1])
        part = values[0, top : top + 2, left : left + 2]
        known = np.isfinite(part).mean() >= 0.5
        assert not known or got[row, column] == pytest.approx(np.nanmean(part))


def test_no_data_of_the_sidecar_goes_inside_with_them(tmp_path):
    path = tmp_path / "a.tif"
    sp.from_array(VALUES).save(path, overviews=False)
    sp.amend(path, nodata=0)
    sp.amend(path, overviews=True)
    raster = sp.open_raster(path)
    assert raster.overviews[0] == (300, 350)
    wanted = means(VALUES[1])
    got = raster.pixels(2, size=(300, 350), resample="area")[0].astype(float).filled(np.nan)
    assert (np.isnan(got) == np.isnan(wanted)).all()
    assert np.nanmax(np.abs(got - wanted)) <= 0.5


def test_classes_are_not_mixed(tmp_path):
    path = tmp_path / "a.png"
    classes = {k: ("#336699", str(k)) for k in (1, 5, 9)}
    labels = RANDOM.choice([1, 5, 9], (400, 500), p=[0.2, 0.6, 0.2]).astype("u1")
    sp.from_array(labels).with_look(sp.Look(classes=classes)).save(path)
    sp.amend(path, overviews=True)
    raster = sp.open_raster(path)
    small = raster.pixels(size=(100, 125), resample="majority")
    assert set(np.unique(small.compressed())) <= {1, 5, 9}


def test_they_are_suggested_and_refused(tmp_path, run, monkeypatch):
    path = saved(tmp_path / "a.tif", overviews=False)
    monkeypatch.setattr(checks, "_LARGE", 1000)
    assert "amend a.tif --overviews" in run("describe", path)[1].replace(f"{tmp_path}/", "")
    monkeypatch.setattr("spectrane.cli.render._SLOW", 0.0)
    assert "--overviews" in run("render", path, "-o", tmp_path / "o.png")[1]
    sp.amend(path, overviews=True)
    assert "--overviews" not in run("describe", path)[1]
    sp.volume_from_array(np.zeros((4, 4, 4), "i2"), affine=np.eye(4)).save(tmp_path / "v.nii")
    with pytest.raises(FormatError, match="for rasters"):
        sp.amend(tmp_path / "v.nii", overviews=True)
    with pytest.raises(MetadataError, match="made alone"):
        sp.amend(path, overviews=True, nodata=3)
    assert run("amend", path, "--overviews", "--nodata", "1")[0] == 2
