"""Pictures given a place: fits recovered from made-up points, misses told, nonsense refused."""

from __future__ import annotations

import numpy as np
import pyproj
import pytest
from tests.conftest import values_of

from spectrane.engine.memory import ArraySource
from spectrane.model.errors import DataWarning, GridMismatch, LookError, MissingFile
from spectrane.spatial.fitting import FITS, fit, misses
from spectrane.spatial.placing import give_place
from spectrane.spatial.regridded import regrid

PIXELS = np.array(
    [[5, 8], [190, 12], [180, 95], [15, 90], [100, 50], [60, 20], [140, 80], [30, 60], [170, 40]],
    float,
)


def true_map(kind, columns, rows):
    u, v = columns / 100, rows / 100
    if kind == "similarity":
        return 500 + 30 * u + 12 * v, 900 + 12 * u - 30 * v
    if kind == "affine":
        return 500 + 30 * u + 9 * v, 900 + 2 * u - 25 * v
    if kind == "projective":
        below = 1 + 0.2 * u + 0.1 * v
        return (500 + 90 * u + 9 * v) / below, (900 + 12 * u - 85 * v) / below
    return 500 + 30 * u + 3 * v + 4 * u * u + u * v, 900 + 2 * u - 25 * v + 2 * v * v - u * v


@pytest.fixture
def picture(rng):
    return ArraySource(rng.integers(0, 255, (1, 100, 200)).astype("u1"))


@pytest.mark.parametrize("kind", FITS)
def test_each_fit_finds_what_made_the_points(kind):
    places = np.column_stack(true_map(kind, *PIXELS.T))
    found = fit(PIXELS, places, kind)
    c, r = np.meshgrid(np.linspace(0, 200, 9), np.linspace(0, 100, 7))
    x, y = true_map(kind, c, r)
    np.testing.assert_allclose(found.forward(c, r), (x, y), atol=1e-6)
    np.testing.assert_allclose(found.inverse(x, y), (c, r), atol=1e-4)
    table = misses([str(k) for k in range(9)], PIXELS, places, found)
    assert max(one.miss for one in table) < 1e-6
    assert max(one.miss_alone for one in table) < 1e-5


def test_misses_are_told_in_pixels_and_map_units_and_the_worst_is_named(picture):
    x, y = true_map("affine", *PIXELS.T)
    points = [
        {"name": f"p{k}", "row": r, "column": c, "x": a, "y": b}
        for k, ((c, r), a, b) in enumerate(zip(PIXELS, x, y))
    ]
    points[3]["x"] += 5.0
    with pytest.warns(DataWarning, match="point p3 is likely wrong"):
        made, placement = give_place(picture, points=points)
    assert placement.worst == "p3"
    worst = next(one for one in placement.misses if one.point == "p3")
    design = np.column_stack([np.ones(9), PIXELS])
    leverage = (design @ np.linalg.inv(design.T @ design) @ design.T)[3, 3]
    assert worst.miss_x == pytest.approx(-5 * (1 - leverage))
    assert worst.miss_alone == pytest.approx(5.0)
    slope = np.array([[0.30, 0.09], [0.02, -0.25]])
    assert worst.miss_pixels == pytest.approx(
        np.linalg.norm(np.linalg.solve(slope, (worst.miss_x, 0))), rel=0.2
    )
    assert placement.rms == pytest.approx(np.sqrt(np.mean([m.miss**2 for m in placement.misses])))
    assert made.grid.rotated
    assert made.metadata["placement"]["worst"] == "p3"
    np.testing.assert_array_equal(made.read([0], ((0, 100), (0, 200))).values, values_of(picture))


@pytest.mark.filterwarnings("ignore:pixels come out stretched")
@pytest.mark.parametrize("kind", ["polynomial", "projective"])
def test_what_is_not_affine_is_regridded(picture, kind):
    x, y = true_map(kind, *PIXELS.T)
    points = [(r, c, a, b) for (c, r), a, b in zip(PIXELS, x, y)]
    made, _ = give_place(picture, points=points, fit_kind=kind, resample="nearest")
    rows, columns = made.shape
    found = made.read([0], ((0, rows), (0, columns)))
    assert 0.3 < found.valid.mean() <= 1
    for row, column in ((50, 40), (20, 150), (70, 100)):
        px, py = true_map(kind, column + 0.5, row + 0.5)
        r, c = made.grid.locate(x=float(px), y=float(py))
        near = values_of(picture)[0, row - 2 : row + 3, column - 2 : column + 3]
        assert found.values[0, r, c] in near


@pytest.mark.filterwarnings("ignore:pixels come out stretched")
def test_corners_and_bounds(picture):
    made, _ = give_place(picture, bounds=(0, 0, 400, 100))
    assert made.grid.bounds == (0, 0, 400, 100)
    assert made.grid.pixel_size == pytest.approx((2, 1))
    two, _ = give_place(picture, corners=[(10, 90), (50, 70)])
    assert two.grid.corners[2] == pytest.approx((50, 70))
    four, _ = give_place(picture, corners=[(0, 0), (40, 10), (45, -10), (5, -20)])
    assert four.grid.rotated
    assert four.grid.corners[3] == pytest.approx((5, -20))
    skewed, placement = give_place(picture, corners=[(0, 0), (40, 10), (60, -10), (5, -20)])
    assert placement.transformation.kind == "projective"
    assert skewed.grid.bounds[0] <= 0 < 60 <= skewed.grid.bounds[2]


def test_corners_in_degrees_land_right_on_a_map_in_metres(rng):
    west, south, east, north = -21.2, -24.0, -20.8, -23.8
    values = np.zeros((1, 400, 800), "u1")
    values[0, 120, 640] = 200
    picture = ArraySource(values)
    made, _ = give_place(
        picture,
        bounds=(west, south, east, north),
        points_crs="EPSG:4326",
        crs="EPSG:32727",
        resample="nearest",
        pixel_size=10,
    )
    assert made.grid.crs_text == "EPSG:32727"
    lon = west + (640.5 / 800) * (east - west)
    lat = north - (120.5 / 400) * (north - south)
    x, y = pyproj.Transformer.from_crs(4326, 32727, always_xy=True).transform(lon, lat)
    row, column = made.grid.locate(x=x, y=y)
    assert made.read([0], ((row, row + 1), (column, column + 1))).values == 200
    straight = give_place(picture, bounds=(west, south, east, north), crs="EPSG:4326")[0]
    again = regrid(straight, made.grid, resample="nearest")
    np.testing.assert_array_equal(
        again.read([0], ((0, 50), (0, 50))).values, made.read([0], ((0, 50), (0, 50))).values
    )
    points = [
        {
            "row": r,
            "column": c,
            "x": west + c / 800 * (east - west),
            "y": north - r / 400 * (north - south),
        }
        for r in (0, 400)
        for c in (0, 400, 800)
    ]
    _, tied = give_place(picture, points=points, points_crs="EPSG:4326", crs="EPSG:32727")
    assert tied.crs == "EPSG:32727"
    assert 0 < tied.rms < 60


LINE = [(k, 2 * k, 10.0 * k, 20.0 * k + 1) for k in range(6)]


@pytest.mark.parametrize(
    ("given", "message"),
    [
        ({"points": LINE}, "lie on one line"),
        ({"points": [(0, 0, 1, 1), (9, 0, 1, 1), (0, 9, 1, 1)]}, "map positions lie on one line"),
        ({"points": LINE[:1], "fit_kind": "similarity"}, "at least 2 points; there are 1"),
        ({"points": [(0, 0, 1)]}, "expected row, column, x and y"),
        ({"points": [(0, 0, 1, float("nan"))] * 3}, "finite"),
        ({"points": []}, "there are none"),
        ({"corners": [(0, 0), (0, 9)]}, "on one line along an axis"),
        ({"corners": [(0, 0), (1, 1), (2, 0)]}, "expected 2 or 4"),
        ({"corners": [(0, 0), (1, 1), (1, 0), (0, 1)], "fit_kind": "projective"}, "order round"),
        ({"bounds": (5, 0, 1, 2)}, "x min < x max"),
        ({"bounds": (0, 0, 1)}, "expected 4"),
        ({"bounds": (0, 0, 1, 1), "points": LINE}, "one of them"),
        ({"points": LINE, "fit_kind": "spline"}, "expected one of similarity"),
    ],
)
def test_what_settles_no_fit_is_refused(picture, given, message):
    with pytest.raises(GridMismatch, match=message):
        give_place(picture, **given)
    with pytest.raises(MissingFile, match="no such file of points"):
        give_place(picture, points="nowhere.csv")


CORNERS = [[0, 0], [200, 0], [200, 100], [0, 100]]


def doubted(pixels, wrong, *, sheared=False, noise=0.0, kind=None):
    """Place a picture by tie points of which one is 900 m off."""
    pixels = np.array(pixels, float)
    x, y = true_map("affine" if sheared else "similarity", *(pixels * 100).T)
    points = [{"name": f"p{k}", "row": r, "column": c, "x": a, "y": b}
              for k, ((c, r), a, b) in enumerate(zip(pixels, x, y))]  # fmt: skip
    if wrong is not None:
        points[wrong]["x"] += 900
    for k, point in enumerate(points):
        point["y"] += noise * (-1) ** k
    source = ArraySource(np.zeros((1, 100, 200), "u1"))
    return give_place(source, points=points, fit_kind=kind)[1]


@pytest.mark.parametrize("noise", [0.0, 1.0])
@pytest.mark.parametrize(
    ("pixels", "wrong", "sheared", "kind", "suspects"),
    [
        *[([*CORNERS, [100, 50]], k, False, None, (f"p{k}",)) for k in range(5)],
        ([*CORNERS, [100, 50]], 4, True, None, ("p4",)),
        ([*CORNERS, [100, 50]], 0, True, None, ("p0", "p2")),  # opposite corners pull alike
        (CORNERS, 1, False, None, ("p1",)),
        (CORNERS, 1, True, None, ("p0", "p1", "p2", "p3")),
        (PIXELS, 3, True, None, ("p3",)),
        (PIXELS, 3, False, "projective", ("p3",)),
    ],
)
def test_the_wrong_point_is_named_or_said_to_be_untold(
    pixels, wrong, sheared, kind, suspects, noise
):
    told = f"point {suspects[0]} is likely wrong" if len(suspects) == 1 else (
        f"do not tell which of {', '.join(suspects[:-1])} and {suspects[-1]} is wrong")  # fmt: skip
    with pytest.warns(DataWarning, match=told):
        found = doubted(pixels, wrong, sheared=sheared, noise=noise, kind=kind)
    assert found.suspects == suspects
    assert found.worst == (suspects[0] if len(suspects) == 1 else None)


def test_points_that_fit_are_not_doubted_and_any_can_be_left_out(picture):
    assert doubted(PIXELS, None, noise=0.5).suspects == ()
    x, y = true_map("affine", *PIXELS.T)
    points = [{"name": f"p{k}", "row": r, "column": c, "x": a, "y": b}
              for k, ((c, r), a, b) in enumerate(zip(PIXELS, x, y))]  # fmt: skip
    points[3]["x"] += 500
    _, found = give_place(picture, points=points, leave_out=["p3"])
    assert found.rms < 1e-6
    assert [one.point for one in found.misses] == [f"p{k}" for k in range(9) if k != 3]
    with pytest.raises(GridMismatch, match="no such tie point"):
        give_place(picture, points=points, leave_out=["q"])


DOUBTS = [
    ({"bounds": (-35.42, 120.21, -35.40, 120.24), "crs": "EPSG:4326"}, "longitude first, which"),
    ({"bounds": (120.21, -95, 120.4, -94), "crs": "EPSG:4326"}, "latitudes end at 90; check"),
    ({"corners": [(-35, 120), (-36, 121)], "crs": 32727, "points_crs": 4326}, "longitude first"),
]
TOLD = [
    ({"bounds": (500000, 7000000, 501000, 7002000), "crs": "EPSG:32727"}, "turned by a quarter"),
    ({"bounds": (500000, 7000000, 509000, 7001000), "crs": "EPSG:32727"}, "pixels come out stretc"),
    ({"bounds": (7000000, 500000, 7002000, 501000), "crs": "EPSG:32727"}, "the other way round"),
]


@pytest.mark.parametrize(("given", "message"), DOUBTS)
def test_latitudes_that_are_none_are_refused(picture, given, message):
    with pytest.raises(GridMismatch, match=message):
        give_place(picture, **given)


@pytest.mark.parametrize(("given", "message"), TOLD)
def test_a_doubtful_place_is_told_with_its_likely_cure(picture, given, message):
    with pytest.warns(DataWarning, match=message):
        give_place(picture, **given)


@pytest.mark.parametrize(
    "given",
    [
        {"bounds": (500000, 7000000, 502000, 7001000), "crs": 32727},
        {"bounds": (10, 59.5, 12, 60.5), "crs": 4326},  # square in degrees
        {"bounds": (10, 59.5, 12, 60.0), "crs": 4326},  # square on the ground
        {"bounds": (178, 10, 182, 12), "crs": 4326},
    ],
)
def test_a_likely_place_is_not(picture, given):
    import warnings

    with warnings.catch_warnings():
        warnings.simplefilter("error")
        give_place(picture, **given)


TABLES = [
    "name,x,y\na,480105,7359895\nb,480115,7359885\n",
    "Name;X;Y\na;480105,0;7359895,25\nb;480.115,5;7359885\n",
    "\ufeffname\tx\ty\na\t480105\t7359895\nb\t480115,5\t7359885\n",
    "sep=;\nNAME; X; Y\na; 480105; 7359895\n\nb; 480115; 7359885\n",
]


@pytest.mark.parametrize("text", TABLES)
def test_tables_of_points_as_spreadsheets_write_them(tmp_path, utm, text):
    import spectrane as sp

    raster = sp.from_array(np.arange(6300, dtype="u2").reshape(1, 70, 90), grid=utm)
    (tmp_path / "p.csv").write_bytes(text.encode())
    found = sp.probe(raster, points=tmp_path / "p.csv")
    assert found[["point", "row", "column"]].to_numpy().tolist() == [["a", 10, 10], ["b", 11, 11]]


def test_a_table_that_cannot_be_told_apart_is_refused(tmp_path, picture):
    (tmp_path / "p.csv").write_text("name,x,y\na,480105,5,7359895,5\n")
    with pytest.raises(LookError, match="line 2: has more fields .* put semicolons"):
        give_place(picture, points=tmp_path / "p.csv")


def test_one_point_outside_has_a_row_that_says_so(tmp_path, utm, run):
    import spectrane as sp

    raster = sp.from_array(np.arange(12600, dtype="u2").reshape(2, 70, 90), grid=utm)
    points = [{"name": "in", "x": 480105, "y": 7359895}, {"name": "out", "x": 0, "y": 0}]
    found = sp.probe(raster, points=points)
    assert found["point"].tolist() == ["in", "in", "out"]
    assert (found["note"] == "outside the raster").tolist() == [False, False, True]
    zones = sp.profile(raster, points)
    assert zones["count"].tolist() == [1, 1, 0, 0]
    assert zones["note"].isna().tolist() == [True, True, False, False]
    for call in (sp.probe, sp.profile):
        with pytest.raises(GridMismatch, match="outside the raster's 70 rows"):
            call(raster, points[1:]) if call is sp.profile else call(raster, points=points[1:])
    raster.save(tmp_path / "a.tif")
    (tmp_path / "p.csv").write_text("name,x,y\nin,480105,7359895\nout,0,0\n")
    code, out, _ = run("probe", str(tmp_path / "a.tif"), "--points", str(tmp_path / "p.csv"))
    assert (code, out.count("outside the raster")) == (0, 1)


@pytest.mark.parametrize("corners", [["0,100", "200,0"], ["0,100 200,0"], ["0,100;200,0"],
                                     ["-0,100", "200,100", "200,0", "0,0"]])  # fmt: skip
def test_corners_need_no_quotes(tmp_path, run, corners):
    import spectrane as sp

    sp.from_array(np.ones((1, 10, 20), "u1")).save(tmp_path / "a.png")
    code, _, told = run("place", str(tmp_path / "a.png"), "--corners", *corners,
                        "-o", str(tmp_path / "o.tif"))  # fmt: skip
    assert code == 0, told
    assert sp.open(tmp_path / "o.tif").grid.bounds == (0, 0, 200, 100)
