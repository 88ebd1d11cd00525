"""Cutting by polygons, against shapely's own points and areas."""

from __future__ import annotations

import json

import numpy as np
import pytest
import shapely
from shapely.geometry import MultiPolygon, Polygon, box, mapping

from spectrane.engine.memory import ArraySource
from spectrane.model.errors import DataWarning, SpectraneError
from spectrane.model.grid import Grid
from spectrane.spatial.clipping import clip
from spectrane.spatial.onto_pixels import polygons_of
from spectrane.spatial.polygons import Polygons

ROWS, COLUMNS = 60, 80
GRID = Grid.from_corner((ROWS, COLUMNS), x=0, y=ROWS, pixel_size=1)


@pytest.fixture
def source(rng):
    return ArraySource(rng.integers(1, 200, (2, ROWS, COLUMNS)).astype("u1"), grid=GRID)


def star(rng, x, y, size, points=40):
    angle = np.sort(rng.uniform(0, 2 * np.pi, points))
    reach = rng.uniform(0.3, 1, points) * size
    return Polygon(np.column_stack([x + reach * np.cos(angle), y + reach * np.sin(angle)]))


@pytest.fixture(params=range(4))
def shape(request):
    rng = np.random.default_rng(request.param)
    outer = star(rng, 40, 30, 28)
    hole = star(rng, 40, 30, 7)
    extra = star(rng, 62, 15, 14)
    return [outer, outer.difference(hole), outer.union(extra), extra.difference(hole)][
        request.param
    ]


def everything(source):
    return source.read([0], ((0, source.shape[0]), (0, source.shape[1])))


def centres():
    rows, columns = np.mgrid[:ROWS, :COLUMNS] + 0.5
    return columns, ROWS - rows


def test_centres_are_exactly_those_a_point_in_polygon_test_finds(source, shape):
    made = clip(source, shape, extent_of="full")
    x, y = centres()
    np.testing.assert_array_equal(everything(made).valid[0], shapely.contains_xy(shape, x, y))
    part = made.read([1], ((7, 44), (11, 71)))
    np.testing.assert_array_equal(part.valid[0], shapely.contains_xy(shape, x, y)[7:44, 11:71])
    out = clip(source, shape, outside=True)
    np.testing.assert_array_equal(everything(out).valid[0], ~shapely.contains_xy(shape, x, y))


def test_touching_and_coverage_are_areas(source, shape):
    pixels = [[box(c, ROWS - r - 1, c + 1, ROWS - r) for c in range(COLUMNS)] for r in range(ROWS)]
    share = shapely.area(shapely.intersection(np.array(pixels), shape))
    made = clip(source, shape, keep="touching", extent_of="full")
    np.testing.assert_array_equal(everything(made).valid[0], share > 0)
    soft = clip(source, shape, antialias=True, extent_of="full")
    np.testing.assert_allclose(everything(soft).alpha / 255, share, atol=0.03)
    assert soft.alpha == "straight"


def test_adjoining_polygons_share_no_pixel_and_leave_none(rng):
    points = np.array(
        [
            [0, 0],
            [37.5, 0],
            [80, 0],
            [0, 22.5],
            [31.5, 30.5],
            [80, 40],
            [0, 60],
            [44, 60],
            [80, 60],
        ],
        float,
    )
    cells = [(0, 1, 4, 3), (1, 2, 5, 4), (3, 4, 7, 6), (4, 5, 8, 7)]
    counts = sum(
        Polygons.of([points[list(cell)]]).inside(((0, 60), (0, 80))).astype(int) for cell in cells
    )
    assert (counts == 1).all()


def test_overlapping_polygons_are_united_and_holes_stay_holes(source):
    first = Polygon(
        [(5, 5), (40, 5), (40, 40), (5, 40)], [[(10, 10), (30, 10), (30, 30), (10, 30)]]
    )
    both = MultiPolygon([first, box(25, 25, 60, 50)])
    features = {
        "type": "FeatureCollection",
        "features": [
            {"type": "Feature", "properties": {}, "geometry": mapping(one)} for one in both.geoms
        ],
    }
    made = clip(source, features, extent_of="full")
    x, y = centres()
    union = shapely.union_all(list(both.geoms))
    np.testing.assert_array_equal(everything(made).valid[0], shapely.contains_xy(union, x, y))


def test_rings_that_cross_themselves_are_mended_and_told(source):
    bow = {"type": "Polygon", "coordinates": [[(10, 10), (50, 40), (50, 10), (10, 40), (10, 10)]]}
    with pytest.warns(DataWarning, match="1 of 1 polygons .* mended by the even-odd rule"):
        made = clip(source, bow, extent_of="full")
    mended = shapely.make_valid(Polygon(bow["coordinates"][0]))
    x, y = centres()
    np.testing.assert_array_equal(everything(made).valid[0], shapely.contains_xy(mended, x, y))


def test_the_extent_is_the_smallest_that_covers_the_shape_or_the_full_one(source):
    made = clip(source, box(10.3, 20.7, 30.2, 41))
    assert made.shape == (21, 21)
    assert made.grid.bounds == (10, 20, 31, 41)
    full = clip(source, box(10.3, 20.7, 30.2, 41), extent_of="full")
    assert full.grid == source.grid


def test_a_soft_edge_rises_inwards(source):
    made = clip(source, box(10, 10, 50, 50), soft=4, extent_of="full")
    alpha = everything(made).alpha[30]
    assert alpha[9] == 0
    np.testing.assert_allclose(alpha[10:15] / 255, [0.125, 0.375, 0.625, 0.875, 1], atol=0.005)
    part = made.read([0], ((30, 31), (8, 16)))
    np.testing.assert_array_equal(part.alpha[0], alpha[8:16])


def test_geojson_is_longitude_and_latitude_and_bends(utm, rng):
    import pyproj

    source = ArraySource(rng.integers(1, 200, (1, 70, 90)).astype("u1"), grid=utm)
    turn = pyproj.Transformer.from_crs(utm.crs, "EPSG:4326", always_xy=True)
    x_min, y_min, x_max, y_max = utm.bounds
    lon, lat = turn.transform([x_min + 100, x_max - 100], [y_min + 100, y_max - 100])
    shape = mapping(box(lon[0], lat[0], lon[1], lat[1]))
    made = clip(source, shape, extent_of="full")
    x, y = np.meshgrid(x_min + 10 * (np.arange(90) + 0.5), y_max - 10 * (np.arange(70) + 0.5))
    east, north = turn.transform(x, y)
    wanted = (east > lon[0]) & (east < lon[1]) & (north > lat[0]) & (north < lat[1])
    assert (everything(made).valid[0] != wanted).mean() < 1e-3
    crs84 = {"name": "urn:ogc:def:crs:OGC:1.3:CRS84"}
    named = {**shape, "crs": {"type": "name", "properties": crs84}}
    np.testing.assert_array_equal(
        everything(clip(source, named, extent_of="full")).valid, everything(made).valid
    )
    bounds = (lon[0], lat[0], lon[1], lat[1])
    by_bounds = clip(source, bounds, crs="EPSG:4326", extent_of="full")
    np.testing.assert_array_equal(everything(by_bounds).valid, everything(made).valid)
    far = Grid.from_corner((10, 10), x=200000, y=8000000, pixel_size=100000, crs="EPSG:32727")
    straight = polygons_of(far, mapping(box(-30, -20, -15, -19)))
    assert len(straight.x0) > 4  # its long edges were broken up


@pytest.mark.parametrize(
    ("given", "message"),
    [
        (
            {"shape": box(500, 500, 600, 600)},
            r"the shape covers \(500, 500, 600, 600\), the raster",
        ),
        ({"shape": box(10.6, 10.6, 10.9, 10.9)}, "no pixel's centre lies in the shape"),
        (
            {"shape": {"type": "Polygon", "coordinates": [[(0, 0), (1, 1)]]}},
            "three or more positions",
        ),
        ({"shape": {"type": "Point", "coordinates": [1, 1]}}, "expected a Polygon"),
        ({"shape": {"type": "Polygon", "coordinates": 7}}, "without a ring"),
        ({"shape": {"type": "FeatureCollection", "features": 3}}, "not a list"),
        ({"shape": "nowhere.geojson"}, "no such file of shapes"),
        ({"shape": box(1, 1, 9, 9), "keep": "corners"}, "expected centers or touching"),
        ({"shape": box(1, 1, 9, 9), "soft": 2, "antialias": True}, "not with antialias"),
        ({"shape": box(1, 1, 9, 9), "extent_of": "all"}, "expected shape or full"),
    ],
)
def test_what_cannot_be_cut_is_refused(source, given, message):
    with pytest.raises(SpectraneError, match=message):
        clip(source, **given)


def test_many_vertices_and_many_polygons(tmp_path):
    source = ArraySource(
        np.ones((1, 1000, 1000), "u1"),
        grid=Grid.from_corner((1000, 1000), x=0, y=1000, pixel_size=1),
    )
    turn = np.linspace(0, 2 * np.pi, 200_000, endpoint=False)
    reach = 400 + 50 * np.sin(301 * turn)
    ring = np.column_stack([500 + reach * np.cos(turn), 500 + reach * np.sin(turn)])
    assert 0.4 < everything(clip(source, Polygon(ring), extent_of="full")).valid.mean() < 0.6
    corners = np.argwhere(np.ones((50, 40))) * (20, 25)
    many = MultiPolygon([box(x, y, x + 10, y + 10) for x, y in corners.tolist()])
    path = tmp_path / "many.geojson"
    path.write_text(json.dumps(mapping(many)))
    assert everything(clip(source, path, extent_of="full")).valid.sum() == 2000 * 100
