"""Rasters on other grids: right to a fraction of a pixel; refused where nothing relates them."""

from __future__ import annotations

import pickle
import warnings

import numpy as np
import pyproj
import pytest
from tests.conftest import values_of
from tests.kernels.test_gathering import at_point

from spectrane.engine.memory import ArraySource
from spectrane.model.band import Band
from spectrane.model.errors import DataWarning, GridMismatch, LookError
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.spatial import coordinates, grids
from spectrane.spatial.coordinates import Mapping
from spectrane.spatial.regridded import regrid
from spectrane.spatial.shifted import Shifted
from spectrane.spatial.subset import Subset

ROTATED = Grid(
    (60, 80),
    ((9.0, 3.0, 480100.0), (2.5, -9.5, 7359900.0), (0, 0, 1)),
    "EPSG:32727",
    y_up=True,
    placed=True,
)


@pytest.fixture
def source(rng, utm):
    values = rng.integers(1, 60000, (2, 70, 90)).astype("u2")
    values[:, 20:30, 40:60] = 0
    return ArraySource(values, grid=utm, bands=[Band("a", nodata=0), Band("b", nodata=0)])


def exact_positions(target, source_grid, row, column):
    x, y = target.center(row=row, column=column)
    turn = pyproj.Transformer.from_crs(target.crs, source_grid.crs, always_xy=True)
    return source_grid.position(x=turn.transform(x, y)[0], y=turn.transform(x, y)[1])


@pytest.mark.parametrize("name", ["bilinear", "cubic", "lagrange", "lanczos", "area"])
@pytest.mark.parametrize("kind", ["rotated", "zone", "coarse"])
def test_each_pixel_is_the_kernel_at_its_place(source, name, kind):
    target = {
        "rotated": ROTATED,
        "zone": grids.suggested(source.grid, "EPSG:32728"),
        "coarse": grids.suggested(source.grid, pixel_size=33.0),
    }[kind]
    made = regrid(source, target, resample=name, tolerance=0)
    found = made.read([0], ((0, target.rows), (0, target.columns)))
    plane = np.where(values_of(source)[0] == 0, np.nan, values_of(source)[0]).astype("f8")
    for row in range(0, target.rows, 7):
        for column in range(0, target.columns, 5):
            c, r = exact_positions(target, source.grid, row, column)
            wanted = at_point(name, plane, r, c, made.scales)
            assert found.valid[0, row, column] == np.isfinite(wanted), (row, column)
            if np.isfinite(wanted):
                stored = np.clip(np.floor(wanted + 0.5), 0, 65535)
                assert abs(float(found.values[0, row, column]) - stored) <= max(1, stored * 1e-5)


def test_nearest_and_majority_keep_classes(source, utm):
    classes = ArraySource(
        (values_of(source)[:1] % 5).astype("u1"),
        grid=utm,
        bands=[Band("class", nodata=0)],
        look=Look(classes={1: ("#000000", "x")}),
    )
    made = regrid(classes, ROTATED)
    assert made.resample == "nearest"
    found = made.read([0], ((0, 60), (0, 80)))
    c, r = exact_positions(ROTATED, utm, 11, 17)
    assert found.values[0, 11, 17] == values_of(classes)[0, int(r), int(c)]
    coarse = regrid(classes, pixel_size=40)
    assert coarse.resample == "majority"
    block = values_of(classes)[0, 4:8, 8:12]
    counts = np.bincount(block[block > 0].ravel())
    assert coarse.read([0], ((1, 2), (2, 3))).values[0, 0, 0] == counts.argmax()
    with pytest.raises(LookError, match="names of classes"):
        regrid(classes, ROTATED, resample="cubic")
    assert regrid(classes, ROTATED, resample="cubic", force=True).resample == "cubic"


@pytest.mark.parametrize("name", ["nearest", "cubic"])
def test_a_window_is_a_part_of_the_whole(source, name):
    made = regrid(source, crs="EPSG:4326", resample=name)
    rows, columns = made.shape
    everything = made.read([0, 1], ((0, rows), (0, columns)))
    part = pickle.loads(pickle.dumps(made)).read([1], ((13, 51), (7, 66)))
    np.testing.assert_array_equal(part.values[0], everything.values[1, 13:51, 7:66])
    np.testing.assert_array_equal(part.valid[0], everything.valid[1, 13:51, 7:66])
    cropped = Subset(made, [0], ((5, 40), (10, 30)))
    np.testing.assert_array_equal(
        cropped.read([0], ((0, 35), (0, 20))).values[0], everything.values[0, 5:40, 10:30]
    )


def test_pixels_that_coincide_are_not_resampled(source, utm):
    moved = utm.cropped(((-5, 50), (10, 120)))
    made = regrid(source, moved)
    assert isinstance(made, Shifted)
    found = made.read([0], ((0, 55), (0, 110)))
    np.testing.assert_array_equal(found.values[0, 5:, :80], values_of(source)[0, :50, 10:])
    assert not found.valid[0, :5].any()
    assert not found.valid[0, :, 80:].any()
    assert regrid(source, utm) is source
    small = made.read([0], ((10, 50), (0, 80)), (20, 40), "area")
    np.testing.assert_array_equal(
        small.values, source.read([0], ((5, 45), (10, 90)), (20, 40), "area").values
    )


def test_a_valid_value_never_becomes_nodata(utm):
    values = np.full((1, 20, 20), 1, "u1")
    values[0, ::2] = 2
    source = ArraySource(
        values, grid=Grid.from_corner((20, 20), x=0, y=0, pixel_size=1), bands=[Band("a", nodata=2)]
    )
    shifted = Grid.from_corner((30, 30), x=0.3, y=-0.2, pixel_size=0.6)
    found = regrid(source, shifted, resample="bilinear").read([0], ((0, 30), (0, 30)))
    assert (found.values[found.valid] != 2).all()


@pytest.mark.parametrize("crs", ["EPSG:32728", "EPSG:4326", "EPSG:3031", "EPSG:3857"])
def test_the_lattice_keeps_its_bound(crs):
    grid = Grid.from_corner((900, 1100), x=300000, y=7600000, pixel_size=300, crs="EPSG:32727")
    target = grids.suggested(grid, crs)
    window = ((100, 700), (33, 800))
    for tolerance in (0.05, 1e-3):
        near = Mapping(target, grid, tolerance).positions(window)
        true = Mapping(target, grid, 0).positions(window)
        for one, other in zip(near, true):
            assert np.abs(one - other).max() <= tolerance
    part = Mapping(target, grid).positions(((300, 310), (400, 431)))
    whole = Mapping(target, grid).positions(window)
    np.testing.assert_allclose(part[0], whole[0][200:210, 367:398], atol=1e-9)


@pytest.mark.parametrize("crs", ["EPSG:32728", "EPSG:4326", "EPSG:3857"])
def test_the_suggested_grid_covers_all_of_the_input(crs):
    grid = Grid.from_corner((300, 400), x=480000, y=7360000, pixel_size=10, crs="EPSG:32727")
    target = grids.suggested(grid, crs)
    turn = pyproj.Transformer.from_crs(grid.crs, target.crs, always_xy=True)
    for row in range(0, 301, 20):
        for column in range(0, 401, 20):
            x, y = turn.transform(480000 + column * 10, 7360000 - row * 10)
            c, r = target.position(x=x, y=y)
            assert -1e-3 <= c <= target.columns + 1e-3
            assert -1e-3 <= r <= target.rows + 1e-3
    if crs == "EPSG:32728":
        assert target.pixel_size == (10, 10)


def test_across_the_antimeridian_and_over_a_pole(rng):
    wide = Grid.from_corner((40, 60), x=170, y=20, pixel_size=0.5, crs="EPSG:4326")  # to 200
    values = rng.normal(size=(1, 40, 60)).astype("f4")
    over = regrid(ArraySource(values, grid=wide), crs="EPSG:32601", resample="nearest")
    back = Grid.from_corner((10, 20), x=-180, y=15, pixel_size=0.5, crs="EPSG:4326")
    found = regrid(over, back, resample="nearest", tolerance=0)
    assert found.read([0], ((0, 10), (0, 20))).valid.mean() > 0.9
    zone = Grid.from_corner((50, 70), x=300000, y=1000000, pixel_size=10000, crs="EPSG:32660")
    bounds = grids.suggested(zone, "EPSG:4326").bounds
    assert bounds[0] < 180 < bounds[2] < 185
    polar = Grid.from_corner((100, 100), x=-5e5, y=5e5, pixel_size=1e4, crs="EPSG:3031")
    x_min, y_min, x_max, _ = grids.suggested(polar, "EPSG:4326").bounds
    assert (x_min, x_max) == (pytest.approx(-180, abs=0.5), pytest.approx(180, abs=0.5))
    assert y_min == pytest.approx(-90, abs=0.5)
    globe = Grid.from_corner((180, 360), x=-180, y=90, pixel_size=1, crs="EPSG:4326")
    with pytest.raises(GridMismatch, match="has no place in EPSG:2193"):
        grids.suggested(globe, "EPSG:2193")


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"crs_text": None}, "names no coordinate system"),
        ({"placed": False, "crs_text": None}, "has a place on a map and the other has none"),
    ],
)
def test_grids_that_cannot_be_related_are_refused(source, utm, change, message):
    from dataclasses import replace

    with pytest.raises(GridMismatch, match=message):
        regrid(source, replace(utm, **change))
    far = Grid.from_corner((10, 10), x=0, y=0, pixel_size=10, crs="EPSG:32727")
    for target in (far, replace(far, crs_text="EPSG:32728")):
        with pytest.raises(GridMismatch, match="do not meet"):
            regrid(source, target)
    for given in (
        {},
        {"grid": utm, "crs": "EPSG:4326"},
        {"pixel_size": -1},
        {"pixel_size": 1e-9},
        {"grid": "utm"},
    ):
        with pytest.raises(GridMismatch):
            regrid(source, **given)


def test_a_better_datum_transformation_that_is_missing_is_told():
    old = Grid.from_corner((10, 10), x=-75, y=40, pixel_size=0.01, crs="EPSG:4267")
    new = Grid.from_corner((10, 10), x=-75, y=40, pixel_size=0.01, crs="EPSG:4326")
    with pytest.warns(DataWarning, match="may be off by up to .* not installed"):
        coordinates.warn_of_datum(new, old)
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        coordinates.warn_of_datum(
            Grid.from_corner((9, 9), x=0, y=0, pixel_size=1, crs="EPSG:32728"),
            Grid.from_corner((9, 9), x=5e5, y=7e6, pixel_size=1, crs="EPSG:32727"),
        )


def test_large_grids_are_shown_small_from_smaller_ones(rng):
    grid = Grid.from_corner((300, 300), x=480000, y=7360000, pixel_size=100, crs="EPSG:32727")
    smooth = np.add.outer(np.arange(300), np.arange(300))[None].astype("f4")
    made = regrid(ArraySource(smooth, grid=grid), crs="EPSG:32728", pixel_size=8, resample="cubic")
    assert made.shape[0] * made.shape[1] > 4 << 20
    rows, columns = made.shape
    found = made.read([0], ((0, rows), (0, columns)), (100, 100), "area")
    middle = made.grid.resized((100, 100))
    c, r = exact_positions(middle, grid, 50, 50)
    assert found.values[0, 50, 50] == pytest.approx(r + c - 1, abs=0.5)


@pytest.mark.parametrize("first", [-180.0, 0.0, 150.0, -270.0])
def test_longitudes_are_taken_round_the_middle_of_the_source(first):
    """A grid whose x runs on beyond 180, or from 0, is met by a map that knows no such numbers."""
    width = 80 if first == 150.0 else 360
    source = Grid.from_corner((60, width), x=first, y=30, pixel_size=1, crs="EPSG:4326")
    target = Grid.from_corner((9, 9), x=-4e6, y=2e6, pixel_size=1e6, crs="EPSG:3832")
    columns, rows = np.meshgrid(np.arange(9) + 0.5, np.arange(9) + 0.5)
    x, y = target.to_map(columns, rows)
    lon, lat = pyproj.Transformer.from_crs(3832, 4326, always_xy=True).transform(x, y)
    found, down = Mapping(target, source).exact(columns, rows)
    middle = first + width / 2
    wanted = lon + 360 * np.round((middle - lon) / 360) - first
    np.testing.assert_allclose(found % 360, wanted % 360, atol=1e-6)
    assert (np.abs(found - width / 2) <= 180).all()
    np.testing.assert_allclose(down, 30 - lat, atol=1e-6)
