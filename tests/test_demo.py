"""The demo scene: the same at every making, and with the troubles it is there for."""

from __future__ import annotations

import importlib.util

import numpy as np
import pytest

import spectrane as sp
from spectrane.demo.example import run_example
from spectrane.demo.fields import along_line, noise
from spectrane.demo.files import HABITATS


@pytest.fixture
def folder(demo):
    return demo


def test_the_scene_is_made_of_believable_spectra(folder):
    sound, habitats = sp.open(folder / "sound_8band.tif"), sp.open(folder / "habitats.tif")
    assert sound.shape == (8, 275, 375)
    values = sound.with_nodata(0).pixels(physical=True)
    kinds = habitats.pixels()[0]

    def mean(role, label):
        band = [one.role for one in sound.bands].index(role)
        number = next(n for n, (_, name) in HABITATS.items() if name == label)
        return float(np.ma.median(values[band][kinds == number]))

    assert mean("nir", "woodland") > 5 * mean("red", "woodland")
    assert mean("nir", "deep water") < 0.02 < mean("blue", "deep water")
    assert mean("swir16", "arable") > mean("nir", "mudflat")
    assert mean("red", "beach") > 0.2
    assert set(np.unique(kinds.compressed())) == set(HABITATS)


def test_the_scene_has_its_troubles(folder):
    sound = sp.open(folder / "sound_8band.tif")
    assert [band.role for band in sound.bands][:3] == ["blue", "green", "red"]
    assert all(band.nodata is None for band in sound.bands)
    stored = sound.pixels().data
    edge = (stored == 0).all(axis=0)
    assert 0.02 < edge.mean() < 0.2
    assert not (stored[:, ~edge] == 0).any()
    statistics = sound.with_nodata(0).statistics("red")
    assert statistics.loc["B3", "max"] > 3 * statistics.loc["B3", "p50"]  # cloud and glint


def test_the_example_draws_its_pictures(folder):
    told = []
    written = run_example(folder, told=lambda path, what: told.append(path))
    assert written == told
    assert all(path.stat().st_size > 5000 for path in written)
    with pytest.raises(sp.ExistingFile):
        run_example(folder)


def test_noise_is_a_field_of_positions():
    x, y = np.linspace(0, 900, 40, dtype="f4"), np.linspace(0, 700, 30, dtype="f4")
    fast = noise(x[None, :], y[:, None], 300, 5)
    full = noise(*np.meshgrid(x, y), 300, 5)
    np.testing.assert_allclose(fast, full, atol=1e-5)
    assert np.abs(fast).max() < 2


def test_distances_along_a_line():
    x, y = np.array([[0.0, 5.0, 12.0]]), np.array([[3.0]])
    distance, share = along_line(x, y, [(0, 0), (10, 0), (20, 0)])
    np.testing.assert_allclose(distance[0], [3, 3, 3])
    np.testing.assert_allclose(share[0], [0, 0.25, 0.6])


def test_the_demo_runs_without_what_is_an_extra(tmp_path, monkeypatch, run):
    before = importlib.util.find_spec
    monkeypatch.setattr(importlib.util, "find_spec", lambda name, *more: (
        None if name == "h5py" else before(name, *more)))  # fmt: skip
    status, _, told = run("demo", tmp_path / "d", "--scale", "0.05", "--data-only")
    assert (status, "left out: netCDF needs pip install" in told) == (0, True)
