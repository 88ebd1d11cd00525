"""The first look at a large file pays; later ones recall it, and notice every change."""

from __future__ import annotations

import os

import numpy as np
import pytest

import spectrane as sp
from spectrane.display import hurry
from spectrane.engine import reduced_copies, remembered
from spectrane.engine.answers import answers


@pytest.fixture
def counted(monkeypatch, tmp_path):
    """A large file for these purposes, and how many blocks of it were read."""
    monkeypatch.setattr(reduced_copies, "LARGE", 10_000)
    monkeypatch.setattr(reduced_copies, "_SIDE", 100)
    monkeypatch.setattr(remembered, "WORTH_KEEPING", 1000)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    path = tmp_path / "a.tif"
    values = np.random.default_rng(8).integers(10, 900, (3, 300, 400)).astype("u2")
    values[:, :40, :50] = 0
    bands = [sp.Band(role, role=role, nodata=0) for role in ("red", "green", "blue")]
    sp.from_array(values, bands=bands).save(path, overviews=False)
    reads: list[int] = []
    from spectrane.formats.tiff.source import TiffSource

    whole_read = TiffSource.read
    monkeypatch.setattr(TiffSource, "read", lambda self, *given, **more: (
        reads.append(1), whole_read(self, *given, **more))[1])  # fmt: skip
    return path, reads


def look(path, *, size=(60, 80), **fields):
    answers.clear()  # as a new process would
    with sp.open_raster(path) as raster:
        return sp.render(raster, sp.Look(**({"limits": "percentile:2,98"} | fields)), size=size)


def copies(tmp_path):
    folder = tmp_path / "cache" / "spectrane" / "reduced"
    return sorted(folder.iterdir()) if folder.exists() else []


def test_later_looks_are_the_same_and_read_nothing(counted, tmp_path):
    path, reads = counted
    first = look(path)
    assert reads
    assert len(copies(tmp_path)) == 1
    reads.clear()
    again = look(path)
    assert not reads
    np.testing.assert_array_equal(again.rgba, first.rgba)
    assert again.scales == first.scales
    assert (first.rgba[..., 3] == 0).any()


CHANGES = {
    "pixels": lambda path: sp.from_array(np.full((3, 300, 400), 5, "u2")).save(
        path, overwrite=True, overviews=False),
    "no-data": lambda path: sp.amend(path, nodata=500), "time": lambda path: os.utime(path, (1, 1)),
    "units": lambda path: sp.amend(path, bands={1: {"scale": 0.5}}),
}  # fmt: skip


@pytest.mark.filterwarnings("ignore")
@pytest.mark.parametrize("change", CHANGES)
def test_a_change_is_noticed(change, counted, tmp_path):
    path, reads = counted
    look(path)
    CHANGES[change](path)
    reads.clear()
    found = look(path)
    assert reads
    with sp.open_raster(path) as raster:
        values = raster.pixels(1, physical=True).compressed()
    low, high = np.percentile(values, (2, 98))
    assert (found.scales[0].low, found.scales[0].high) == pytest.approx((low, high))


@pytest.mark.parametrize("asked", [{"size": (40, 50)}, {"channels": (1,)}, {"resample": "nearest"}])
def test_another_question_is_not_answered_by_the_copy(asked, counted):
    path, reads = counted
    look(path)
    reads.clear()
    look(path, **asked)
    assert reads


def test_the_cache_is_bounded_and_the_least_used_goes_first(counted, tmp_path, monkeypatch):
    path, _ = counted
    monkeypatch.setenv(remembered.SETTING, "0.13")
    sizes = [(60, 80), (60, 79), (60, 78)]
    for number, size in enumerate(sizes):
        look(path, size=size)
        os.utime(copies(tmp_path)[-1], (number, number))
    held = sum(one.stat().st_size for folder in copies(tmp_path) for one in folder.iterdir())
    assert 0 < held <= 130_000
    monkeypatch.setenv(remembered.SETTING, "0")
    before = copies(tmp_path)
    look(path, size=(50, 60))
    assert copies(tmp_path) == before


def test_a_broken_copy_is_none(counted, tmp_path):
    path, reads = counted
    first = look(path)
    for one in copies(tmp_path):
        (one / "values.npy").write_bytes(b"\x93NUMPY spoiled")
    reads.clear()
    np.testing.assert_array_equal(look(path).rgba, first.rgba)
    assert reads


def test_nothing_is_kept_of_a_patient(counted, tmp_path):
    path, _ = counted
    with sp.open_raster(path) as raster:
        source = raster._source
        assert remembered.may_be_kept(source)
        source.identity = ("PatientName",)
        assert not remembered.may_be_kept(source)
        source.identity, source.format = (), "DICOM"
        assert not remembered.may_be_kept(source)
    volume = sp.volume_from_array(np.zeros((4, 4, 4)), affine=np.eye(4))
    volume._source.state = ("known",)
    assert not remembered.may_be_kept(volume._source)


@pytest.mark.filterwarnings("ignore:.* cut off")
def test_a_probe_takes_limits_that_are_known_or_a_samples(counted, monkeypatch):
    path, reads = counted
    monkeypatch.setattr("spectrane.display.limits.QUICK", 1000)
    monkeypatch.setattr("spectrane.display.probing.QUICK", 1000)
    monkeypatch.setattr("spectrane.display.limits.GLANCE", 500)
    assert hurry.QUICK == 4_000_000
    given = sp.Look(limits="percentile:2,98")

    def probed():
        answers.clear()
        with sp.open_raster(path) as raster:
            return sp.probe((raster, given), row=200, column=100)

    table = probed()
    assert table["note"].str.contains("limits of a sample").all()
    picture = look(path)
    reads.clear()
    after = probed()
    assert after["note"].isna().all()
    with sp.open_raster(path) as raster:
        plan = sp.render(raster, given, view=sp.View(rows=(200, 201), columns=(100, 101))).plan
        assert plan.scales == picture.scales
        assert after["level"].tolist() == plan.level(
            [raster.pixels(k, rows=(200, 201), columns=(100, 101)).item() for k in (1, 2, 3)]
        ).tolist()  # fmt: skip
