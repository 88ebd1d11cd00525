"""Grids, bands, no-data, looks and views: the plain declarations everything stands on."""

from __future__ import annotations

import numpy as np
import pytest

import spectrane.model.errors as errors
from spectrane.model.band import Band, find_band, find_bands, numbered, preset_bands
from spectrane.model.colors import parse_color
from spectrane.model.errors import BandError, GridMismatch, LookError, MetadataError
from spectrane.model.grid import Grid
from spectrane.model.limits import Limits
from spectrane.model.look import Look
from spectrane.model.nodata import nodata_rule, nodata_value
from spectrane.model.physical import physical
from spectrane.model.pixels import Pixels
from spectrane.model.view import View, fitted


def test_every_error_has_the_root_and_a_builtin():
    kinds = [kind for kind in vars(errors).values()
             if isinstance(kind, type) and issubclass(kind, Exception)]  # fmt: skip
    ours = [k for k in kinds if k not in (errors.SpectraneError, errors.DataWarning)]
    assert all(issubclass(kind, errors.SpectraneError) for kind in ours)
    assert all(
        issubclass(kind, ValueError | LookupError | OSError | MemoryError | TypeError)
        for kind in ours
    )
    assert sorted(k.__name__ for k in kinds) == errors.__all__
    assert all(kind.__name__ in errors.__doc__ for kind in kinds)


ROTATED = Grid((7, 9), ((8, 3, 1e5), (3, -8, 2e5), (0, 0, 1)), None, True, True)


UPRIGHT = Grid.from_corner((7, 9), x=5, y=6, pixel_size=(2, 3))


@pytest.mark.parametrize("grid", [ROTATED, UPRIGHT, Grid((7, 9))])
def test_grid_positions_come_back(grid):
    for row, column in ((0, 0), (6, 8), (3, 4)):
        x, y = grid.center(row=row, column=column)
        assert grid.locate(x=x, y=y) == (row, column)
        assert grid.position(x=x, y=y) == pytest.approx((column + 0.5, row + 0.5))


def test_crop_and_resize_keep_positions():
    for grid in (ROTATED, Grid((7, 9))):
        part = grid.cropped(((2, 6), (3, 9)))
        assert part.shape == (4, 6)
        assert part.center(row=1, column=2) == pytest.approx(grid.center(row=3, column=5))
        half = grid.cropped(((0, 6), (0, 8))).resized((3, 4))
        np.testing.assert_allclose(half.corners, grid.cropped(((0, 6), (0, 8))).corners)
        assert half.pixel_size == pytest.approx(tuple(2 * n for n in grid.pixel_size))


def test_a_volume_grid_is_the_same_model():
    affine = ((2, 0, 0, -10), (0, 3, 0, -20), (0, 0, 4, -30), (0, 0, 0, 1))
    grid = Grid((8, 8, 8), affine)
    assert grid.pixel_size == (2, 3, 4)
    assert grid.cropped(((1, 5), (2, 6), (3, 7))).affine[2][3] == -30 + 3 * 4
    # Centres: half as many voxels start half a voxel further in.
    assert grid.resized((4, 4, 4)).affine[0] == (4, 0, 0, -9)


@pytest.mark.parametrize(
    ("affine", "flips"),
    [
        (((10, 0, 0), (0, -10, 0), (0, 0, 1)), (False, False)),
        (((10, 0, 0), (0, 10, 0), (0, 0, 1)), (True, False)),
        (((-10, 0, 0), (0, -10, 0), (0, 0, 1)), (False, True)),
        (((8, 3, 0), (3, 8, 0), (0, 0, 1)), (False, False)),
    ],
)
def test_upright(affine, flips):
    grid = Grid((4, 5), affine, None, True, True)
    assert grid.flips() == flips
    assert grid.upright().bounds == grid.bounds
    assert grid.upright().flips() == (False, False)
    assert Grid((4, 5)).flips() == (False, False)  # no place: y runs down the page


@pytest.mark.parametrize(
    ("bounds", "window"),
    [
        ((20, 10, 40, 40), ((6, 9), (2, 4))),
        ((21, 11, 39, 39), ((6, 9), (2, 4))),  # snapped outward
        ((20 - 1e-9, 10, 40 + 1e-9, 40), ((6, 9), (2, 4))),  # but not for a rounding error
        ((-50, 10, 40, 40), ((6, 9), (-5, 4))),
    ],
)
def test_bounds_snap_outward(bounds, window):
    grid = Grid.from_corner((10, 10), x=0, y=100, pixel_size=10)
    assert grid.window_of(bounds) == window


@pytest.mark.parametrize(("off", "snapped"), [(0, True), (9e-7, True), (-9e-7, True),
                                              (2e-6, False), (-2e-6, False)])  # fmt: skip
def test_bounds_within_a_millionth_of_a_pixel_are_on_its_edge(off, snapped):
    grid = Grid.from_corner((20, 30), x=500000, y=7000000, pixel_size=1, crs="EPSG:32727")
    wanted = ((3, 9), (4, 11))
    x_min, y_min, x_max, y_max = grid.cropped(wanted).bounds
    found = grid.window_of((x_min - off, y_min - off, x_max + off, y_max + off))
    assert (found == wanted) == (snapped or off < 0)
    inner = grid.window_of((x_min + off, y_min + off, x_max - off, y_max - off))
    assert (inner == wanted) == (snapped or off > 0)


def test_wrong_grids_are_told():
    with pytest.raises(MetadataError, match="no area"):
        Grid((4, 4), ((0, 0, 1), (0, 0, 1), (0, 0, 1)))
    with pytest.raises(MetadataError, match="3x3"):
        Grid((4, 4), ((1, 0), (0, 1)))
    with pytest.raises(GridMismatch, match="x min < x max"):
        Grid((4, 4)).window_of((5, 0, 1, 1))
    assert Grid((4, 4)).crs is None


BANDS = (Band("B1", "blue"), Band("B4", wavelength=665), Band("7", "nir"), Band("NIR broad"))


@pytest.mark.parametrize(
    ("wanted", "index"),
    [(1, 0), ("2", 1), ("B4", 1), ("b4", 1), ("red", 1), ("7", 2), ("nir", 2), ("nir broad", 3),
     (np.int64(4), 3)],
)  # fmt: skip
def test_bands_by_number_name_and_role(wanted, index):
    assert find_band(BANDS, wanted) == index


@pytest.mark.parametrize(
    ("wanted", "match"),
    [
        (0, "no band 0; bands are counted from 1; the bands are 1 B1"),
        (9, "no band 9; the bands are"),
        (-1, "no band -1"),
        ("B44", "called 'B44'.*did you mean 'b4'"),
        ("green", "no band has the role 'green'"),
        ("", "called ''"),
    ],
)
def test_bands_that_are_not_there(wanted, match):
    with pytest.raises(BandError, match=match):
        find_band(BANDS, wanted)


def test_several_bands_and_presets():
    assert find_bands(BANDS, None) == [0, 1, 2, 3]
    assert find_bands(BANDS, "red") == [1]
    assert find_bands(BANDS, ["nir", 1]) == [2, 0]
    with pytest.raises(BandError, match="no band was asked for"):
        find_bands(BANDS, [])
    with pytest.raises(BandError, match="no band has the role green"):
        preset_bands(BANDS, "natural")
    assert len(numbered(3)) == 3


@pytest.mark.parametrize(
    ("given", "dtype", "values", "invalid"),
    [
        (0, "u1", [0, 1], [True, False]),
        (-9999, "u1", [0, 241], [False, False]),  # cannot be held, so it never matches
        (0.5, "i2", [0, 1], [False, False]),
        (0.1, "f4", [0.1, 0.2], [True, False]),  # cast to the stored type before comparing
        (1e300, "f4", [np.inf, 1], [False, False]),  # overflows: never matches
        (np.inf, "f4", [np.inf, 1], [True, False]),
        (None, "f8", [np.nan, 1], [True, False]),
        (float("nan"), "i4", [0, 1], [False, False]),
        ((0, (250, 300)), "u1", [0, 249, 250, 255], [True, False, True, True]),
        (((-1.5, 1.5),), "i2", [-2, -1, 1, 2], [False, True, True, False]),
        (((300, 400),), "u1", [44, 144], [False, False]),
        (2**63, "u8", [2**63, 0], [True, False]),
        (1, "?", [True, False], [True, False]),
    ],
)
def test_nodata_is_compared_in_the_stored_type(given, dtype, values, invalid):
    stored = np.array(values, dtype)
    assert nodata_rule(given).invalid(stored).tolist() == invalid


@pytest.mark.parametrize("given", ["0", [1, [2]], [[5, 4]], True, {"a": 1}, [None]])
def test_nodata_that_is_no_number(given):
    with pytest.raises(MetadataError, match="no-data: expected"):
        nodata_value(given)


@pytest.mark.parametrize("given", [{"scale": 0}, {"scale": np.nan}, {"offset": np.inf}])
def test_a_scale_of_which_no_numbers_come(given):
    with pytest.raises(MetadataError, match="a scale that is not 0"):
        Band("a", **given)


def test_validity_of_pixels():
    values = np.array([[[0, 0, 5]], [[0, 7, 0]]], np.uint8)
    rules = (nodata_rule(0), nodata_rule(0))
    each = Pixels(values, rules=rules)
    assert each.valid.tolist() == [[[False, False, True]], [[False, True, False]]]
    assert each.shown.tolist() == [[False, False, False]]
    together = Pixels(values, rules=rules, when="all")
    assert together.shown.tolist() == [[False, True, True]]
    masked = Pixels(values, mask=np.array([[[True, True, False]]]), rules=rules, when="all")
    assert masked.shown.tolist() == [[False, True, False]]
    clear = Pixels(values, alpha=np.array([[0, 9, 255]], np.uint8))
    assert clear.shown.tolist() == [[False, True, True]]
    assert each.cut((slice(None), slice(2, 3))).valid.tolist() == [[[True]], [[False]]]


def test_physical_values_are_computed_in_float64():
    band = Band("t", scale=0.01, offset=273.15)
    found = physical(np.array([-27315, 100], np.int16), band)
    assert found.dtype == np.float32
    assert found.tolist() == pytest.approx([0.0, 274.15], abs=1e-12, rel=1e-7)
    assert physical(np.array([1], np.int32), band).dtype == np.float64


@pytest.mark.parametrize(
    ("given", "text"),
    [("auto", "auto"), ((0, 3000), "fixed:0,3000"), ("percentile:2,98", "percentile:2,98"),
     ("fixed:5,-5", "fixed:5,-5"), ("deviation:2.5", "deviation:2.5")],
)  # fmt: skip
def test_limits_are_read(given, text):
    assert str(Limits.of(given)) == text


@pytest.mark.parametrize(
    ("fields", "match"),
    [
        ({"limits": "percentil:2,98"}, "expected one of auto, deviation, fixed"),
        ({"limits": "percentile:2"}, "takes 2 numbers, not 1: percentile:low,high"),
        ({"limits": "percentile:2,101"}, "high 101: expected 0 to 100"),
        ({"limits": "deviation:0"}, "above 0"),
        ({"limits": "fixed:0,inf"}, "must be finite"),
        ({"limits": "fixed:0,x"}, "is not 2 numbers"),
        ({"limits": ["auto", "auto"]}, "one per channel"),
        ({"channels": "1,2"}, "expected 1 band"),
        ({"channels": (1, 2, "")}, "expected 1 band"),
        ({"curve": "bent"}, "expected one of asinh"),
        ({"limits_from": "moon"}, "expected one of image, view"),
        ({"nodata_when": "some"}, "expected one of any, all"),
        ({"resample": "sinc"}, "expected one of nearest"),
        ({"nodata_color": "red"}, "expected #rrggbb"),
        ({"classes": {1: ("blue", "sea")}}, "expected #rrggbb"),
    ],
)
def test_looks_that_cannot_be_carried_out(fields, match):
    with pytest.raises(LookError, match=match):
        Look(**fields)


def test_colours_and_channels_are_read():
    assert parse_color("#01020304") == (1, 2, 3, 4)
    assert Look(channels="natural").channels == "natural"
    assert Look(channels=3).channels == (3,)
    assert Look(channels=" nir, red ,green").channels == ("nir", "red", "green")


@pytest.mark.parametrize(
    ("view", "window"),
    [
        (View(), ((0, 100), (0, 200))),
        (View(rows=(10, 20)), ((10, 20), (0, 200))),
        (View(rows=(90, 500), columns=(-4, 3)), ((90, 100), (0, 3))),
        (View(bounds=(100, 200, 300, 400)), ((60, 80), (10, 30))),
        (View(center=(505, 505), pixel=5, size=(20, 40)), ((44, 55), (40, 61))),
    ],
)
def test_views_find_their_window(view, window):
    assert view.window(Grid.from_corner((100, 200), x=0, y=1000, pixel_size=10)) == window


@pytest.mark.parametrize(
    ("fields", "kind", "match"),
    [
        ({"bounds": (0, 0, 1, 1), "rows": (0, 1)}, LookError, "not two"),
        ({"center": (0, 0)}, LookError, "go together"),
        ({"center": (0, 0), "pixel": 0}, LookError, "above 0"),
        ({"size": (0, 5)}, LookError, "positive whole numbers"),
        ({"rows": (5, 5)}, LookError, "start < stop"),
        ({"rows": (500, 600)}, GridMismatch, "lie outside the raster's rows 0 to 100"),
        ({"bounds": (1e7, 1e7, 2e7, 2e7)}, GridMismatch, "does not touch the raster"),
    ],
)
def test_views_that_see_nothing(fields, kind, match):
    with pytest.raises(kind, match=match):
        View(**fields).window(Grid.from_corner((100, 200), x=0, y=1000, pixel_size=10))


@pytest.mark.parametrize(
    ("extent", "size", "shape"),
    [
        ((20000, 20000), (800, 1280), (800, 800)),
        ((1592, 2547), (800, 1280), (800, 1280)),  # within a pixel: taken at its word
        ((50, 100), (800, 1280), (640, 1280)),
        ((5000, 100), None, (2048, 41)),
        ((30, 40), None, (30, 40)),
        ((1, 100000), (10, 10), (1, 10)),
    ],
)
def test_pictures_are_never_stretched(extent, size, shape):
    assert fitted(tuple((0, n) for n in extent), size) == shape
