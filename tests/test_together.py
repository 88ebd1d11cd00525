"""Several rasters brought together, as a person does it through the public face."""

from __future__ import annotations

import pickle

import numpy as np
import pandas
import pytest
from scipy import ndimage

import spectrane as sp

GRID = sp.Grid.from_corner((120, 160), x=480000, y=7360000, pixel_size=10, crs="EPSG:32727")


def smooth(seed, sigma=5):
    field = ndimage.gaussian_filter(np.random.default_rng(seed).normal(size=(120, 160)), sigma)
    return (1000 + 3000 * (field - field.min()) / np.ptp(field)).astype("u2")


def raster(values, grid=GRID, **kept):
    return sp.from_array(values, grid=grid, **kept)


@pytest.fixture
def halves():
    """Two rasters of one scene that overlap; the right one is darker and a pixel off."""
    truth = smooth(3, 3)
    left = raster(truth[:, :100], GRID.cropped(((0, 120), (0, 100))), nodata=0)
    moved = np.roll(truth, (1, 1), (0, 1))
    right = raster((moved[:, 60:] * 0.8).astype("u2"), GRID.cropped(((0, 120), (60, 160))),
                   nodata=0)  # fmt: skip
    return truth, left, right


def test_the_halves_become_one(halves, tmp_path):
    truth, left, right = halves
    found = sp.align(right, left)
    assert (found.rows, found.columns) == (pytest.approx(-1, abs=0.1),) * 2
    assert "-1.0" in str(found)
    assert sp.align(sp.apply_alignment(right, left, found), left).rows == pytest.approx(0, abs=0.1)
    joined = sp.mosaic([left, right], align="shift", balance="gain", rule="seam", width=6)
    table = sp.overlaps(joined)
    assert list(table.columns) == ["first", "second", "band", "pixels", "area", "before", "unit",
                                   "after"]  # fmt: skip
    assert abs(table["after"][0]) < 2 < abs(table["before"][0])
    # Moved by fractions of a pixel, the right one leaves a rim of its own: look inside.
    pixels = joined.pixels()[0, 4:-4, 4:-8].astype(float)
    level = (pixels / truth[4 : 4 + pixels.shape[0], 4 : 4 + pixels.shape[1]]).ravel()
    assert np.std(level) < 0.04  # of a scene whose values vary by a third
    joined.save(tmp_path / "joined.tif", resume=True)
    with sp.open(tmp_path / "joined.tif") as back:
        np.testing.assert_array_equal(back.pixels().filled(0), joined.pixels().filled(0))
        assert back.overviews == () or back.overviews[0][0] < back.shape[1]
    assert pickle.loads(pickle.dumps(joined)).pixels()[0, 60, 80] == joined.pixels()[0, 60, 80]
    with pytest.raises(sp.GridMismatch, match="expected what mosaic returns"):
        sp.overlaps(left)


def test_black_borders_are_told_by_all_bands_and_trimmed(halves):
    truth, _, _ = halves
    values = np.stack([truth % 200, truth % 180, truth % 90]).astype("u1")
    values[:, :10] = 0
    values[0, 50, 50] = 0
    photo = raster(values)
    shown = sp.mosaic([photo], nodata=0, nodata_when="all").pixels()
    assert shown.mask[:, :10].all()
    assert not shown.mask[:, 50, 50].any()
    trimmed = sp.mosaic([photo], nodata=0, nodata_when="all", trim=3).pixels()
    assert trimmed.mask[:, :13].all()
    assert not trimmed.mask[0, 13, 20:140].any()


def test_order_grid_and_reference(halves):
    _, left, right = halves
    top = sp.mosaic([left, right]).pixels()[0]
    turned = sp.mosaic([left, right], order="distance:480300,7359500").pixels()[0]
    assert (top[:, 60:100] == right.pixels()[0][:, :40]).all()
    assert (turned[:, 60:100] == left.pixels()[0][:, 60:]).all()
    coarse = sp.mosaic([left, right], grid=GRID.resized((60, 80)), resample="area")
    assert coarse.shape == (1, 60, 80)
    even = sp.mosaic([left, right], balance="histogram", reference=2, rule="average")
    assert sp.overlaps(even)["after"].abs()[0] < 15
    with pytest.raises(sp.LookError, match="there are 2 rasters"):
        sp.mosaic([left, right], balance="histogram", reference=5)


def test_regridding_forth_and_back_loses_little(halves):
    truth, _, _ = halves
    there = raster(smooth(5, 8)).regrid(crs="EPSG:4326")
    back = there.regrid(GRID).pixels()[0]
    inner = (slice(6, -6), slice(6, -6))
    assert np.abs(back.astype(float) - smooth(5, 8))[inner].max() < 8
    assert there.grid.crs.is_geographic
    assert raster(truth).regrid(pixel_size=20, resample="area").pixels()[0, 3, 4] == pytest.approx(
        truth[6:8, 8:10].mean(), abs=0.51
    )


def test_a_mask_never_leaks(halves):
    truth, _, _ = halves
    holed = truth.copy()
    holed[40:60, 50:90] = 60000  # a fill value that would show wherever it was mixed in
    source = raster(holed, nodata=60000)
    for kernel in ("bilinear", "cubic", "lagrange", "lanczos", "area"):
        for target in (GRID.resized((90, 111)), None):
            made = (source.regrid(target, resample=kernel) if target
                    else source.regrid(crs="EPSG:32728", resample=kernel))  # fmt: skip
            values = made.pixels()[0].compressed()
            assert values.max() < truth.max() * 1.15, kernel


def test_placing_and_its_table(tmp_path):
    drawing = sp.from_array(np.arange(5000, dtype="u2").reshape(50, 100))
    points = pandas.DataFrame(
        [(0, 0, 100, 900), (0, 100, 300, 900), (50, 100, 300, 800), (50, 0, 101, 800)],
        columns=["row", "column", "x", "y"],
    )
    points.to_csv(tmp_path / "points.csv", index=False)
    placed = sp.place(drawing, points=tmp_path / "points.csv")
    table = sp.residuals(placed)
    assert len(table) == 4
    assert table["miss"].max() < 0.5
    assert sp.placement(drawing, points=points, fit="similarity").rms > 0
    placed.save(tmp_path / "placed.tif")
    back = sp.open(tmp_path / "placed.tif").grid
    np.testing.assert_allclose(back.affine, placed.grid.affine)
    assert sp.residuals(sp.place(drawing, bounds=(0, 0, 2, 1))).empty


def test_masks_and_clips_go_together(halves, tmp_path):
    truth, left, right = halves
    scene = raster(truth, nodata=0)
    high = sp.mask(scene, range=(2500, None)) | sp.mask(scene, values=[1200, 1201])
    chosen = (truth >= 2500) | np.isin(truth, (1200, 1201))
    np.testing.assert_array_equal(high.pixels()[0], chosen)
    np.testing.assert_array_equal((~high).pixels()[0], ~chosen)
    kept = scene.masked(high.areas(least=30).shrink(1))
    assert 0 < (~kept.pixels().mask).sum() < chosen.sum()
    both = sp.join_bands([scene, high])
    assert both.dtype == np.uint16
    assert both.bands[1].name == "mask"
    inside = scene.clip(right)
    np.testing.assert_array_equal(inside.pixels()[0].filled(0), truth[:, 60:])
    outside = scene.clip(left, outside=True, extent="full").pixels()[0]
    assert outside.mask[:, :100].all()
    assert not outside.mask[:, 100:].any()
    far = raster(truth, sp.Grid.from_corner((120, 160), x=0, y=0, pixel_size=10, crs="EPSG:32727"))
    with pytest.raises(sp.GridMismatch, match="do not meet|lies outside"):
        scene.clip(far)
    with pytest.raises(sp.GridMismatch, match="regrid it first"):
        sp.join_bands([scene, left])
    with pytest.raises(sp.LookError, match="one of values, range"):
        sp.mask(scene, values=1, bits="bit 0 = 1")
    clear = scene.masked(high, keep="alpha")
    clear.save(tmp_path / "clear.tif")
    with sp.open(tmp_path / "clear.tif") as back:
        np.testing.assert_array_equal(~back.pixels().mask[0], chosen)
        np.testing.assert_array_equal(back.pixels().data[0], truth)
