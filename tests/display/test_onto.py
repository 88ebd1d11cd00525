"""Rasters drawn onto other grids: limits of the whole raster, edges where they are, no leaks."""

from __future__ import annotations

import pickle

import numpy as np
import pytest
from tests.conftest import values_of

import spectrane as sp
from spectrane.display import limits
from spectrane.display.layers import planned
from spectrane.display.onto import covers
from spectrane.engine.memory import ArraySource
from spectrane.model.band import Band
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.spatial import regridded
from spectrane.spatial.regridded import regrid

NEXT_ZONE = "EPSG:32728"


def drawn_onto(source, look, grid):
    return sp.stack([sp.Layer(source, look)], grid=grid).layers[0]


@pytest.fixture
def source(rng, utm):
    values = rng.integers(1, 4000, (3, 70, 90)).astype("u2")
    values[:, :, :10] = 0
    bands = [Band(name, name, nodata=0) for name in ("red", "green", "blue")]
    return ArraySource(values, grid=utm, bands=bands)


def test_limits_are_those_of_the_whole_raster(source, utm):
    part = utm.cropped(((0, 20), (30, 60)))
    look = Look(limits="minmax")
    drawn = drawn_onto(source, look, part)
    assert [(s.low, s.high) for s in drawn.scales] == [
        (band[band > 0].min(), band.max()) for band in values_of(source)
    ]
    seen = drawn_onto(source, Look(limits="minmax", limits_from="view"), part)
    cut = values_of(source)[:, :20, 30:60]
    assert [(s.low, s.high) for s in seen.scales] == [(b.min(), b.max()) for b in cut]
    whole = sp.render(sp.Raster(source), look)
    np.testing.assert_array_equal(drawn.rgba, whole.rgba[:20, 30:60])


@pytest.mark.parametrize("target", ["same", "zone", "coarse"])
def test_what_is_not_there_is_clear_and_nodata_has_its_color(source, utm, target):
    grid = {
        "same": utm.cropped(((-10, 80), (-10, 100))),
        "zone": regrid(source, crs=NEXT_ZONE).grid,
        "coarse": utm.resized((14, 18)),
    }[target]
    look = Look(limits=(0, 4000), nodata_color="#ff00ff")
    drawn = drawn_onto(source, look, grid).rgba
    hidden = (drawn == (255, 0, 255, 255)).all(axis=-1)
    assert hidden.mean() == pytest.approx(0.08, abs=0.05)
    if target == "same":
        assert (drawn[:10] == 0).all()
        assert (drawn[10:80, 10:20] == (255, 0, 255, 255)).all()
    if target == "zone":
        assert (drawn[0, 0] == 0).all()


def test_classes_are_looked_up_never_mixed(rng, utm):
    classes = {1.0: ("#ff0000", "a"), 2.0: ("#00ff00", "b"), 7.0: ("#0000ff", "c")}
    values = rng.choice([1, 2, 7], (1, 70, 90)).astype("u1")
    source = ArraySource(values, grid=utm, look=Look(classes=classes))
    for grid in (regrid(source, crs=NEXT_ZONE).grid, utm.resized((20, 30)), utm.resized((140, 90))):
        colors = drawn_onto(source, None, grid).rgba.reshape(-1, 4)
        seen = {bytes(color) for color in np.unique(colors, axis=0)}
        assert seen <= {b"\xff\0\0\xff", b"\0\xff\0\xff", b"\0\0\xff\xff", b"\0\0\0\0"}


def test_settled_layers_look_the_same_and_find_nothing_anew(source, utm, monkeypatch):
    layer = sp.Layer(source, Look(channels="natural", limits="percentile:2,98", curve="sqrt"))
    outline = sp.Outline({"type": "Point", "coordinates": [0, 0]})
    once, same = planned([layer, outline])
    assert same.shape.features[0].geometry == outline.shape  # read by now
    monkeypatch.setattr(limits, "valid_values", None)  # nothing is looked for again
    monkeypatch.setattr(limits, "walk", None)
    again = pickle.loads(pickle.dumps(once))
    for one in (once, again):
        np.testing.assert_array_equal(
            sp.overlay([one], grid=utm).rgba, drawn_onto(source, layer.look, utm).rgba
        )
    assert covers(source, utm)
    assert not covers(source, Grid.from_corner((5, 5), x=0, y=0, pixel_size=1, crs="EPSG:32727"))


def test_large_needs_are_met_in_parts(source, monkeypatch):
    plain = regrid(source, crs=NEXT_ZONE).read([0, 2], ((0, 75), (0, 94)))
    monkeypatch.setattr(regridded, "AT_ONCE", 2000)
    monkeypatch.setattr(regridded, "_PIECE", 3000)
    parts = regrid(source, crs=NEXT_ZONE).read([0, 2], ((0, 75), (0, 94)))
    np.testing.assert_array_equal(parts.values, plain.values)
    np.testing.assert_array_equal(parts.valid, plain.valid)


def test_alpha_is_regridded_with_the_bands(rng, utm):
    alpha = np.zeros((70, 90), "u1")
    alpha[20:50, 20:60] = 200
    values = np.full((3, 70, 90), 100, "u1")
    values[:, alpha == 0] = 255  # what is hidden must not show through
    source = ArraySource(values, grid=utm, alpha=alpha)
    for kernel in ("nearest", "cubic", "area"):
        made = regrid(source, crs=NEXT_ZONE, resample=kernel)
        pixels = made.read([0, 1, 2], ((0, made.shape[0]), (0, made.shape[1])))
        assert pixels.alpha.max() == 200
        assert (pixels.values[0][pixels.valid[0]] == 100).all()
        share = (pixels.alpha > 100).sum() / 1200
        assert share == pytest.approx(1, rel=0.06)
