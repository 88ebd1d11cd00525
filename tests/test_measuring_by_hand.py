"""Areas of classes, lines, angles, ellipses, rectangles, and values over time."""

from __future__ import annotations

import json
from itertools import pairwise

import numpy as np
import pandas
import pytest
from pyproj import CRS, Geod

import spectrane as sp
from spectrane.model.areas import pixel_areas
from spectrane.model.errors import GridMismatch, LookError, MetadataError

CLASSES = {1: ("#ff0000", "sand"), 2: ("#00ff00", "grass"), 9: ("#0000ff", "unseen")}
UTM = sp.Grid.from_corner((4, 6), x=500_000, y=7_000_000, pixel_size=(20, 10), crs="EPSG:32727")
DEGREES = sp.Grid.from_corner((4, 6), x=10, y=61, pixel_size=(0.5, 0.25), crs="EPSG:4326")
FEET = sp.Grid.from_corner((4, 6), x=0, y=0, pixel_size=100, crs="EPSG:2227")
TURNED = sp.Grid((4, 6), ((0.4, 0.1, 10), (0.1, -0.2, 61), (0, 0, 1)), "EPSG:4326", placed=True)
VALUES = np.array([[1, 1, 1, 2, 2, 0], [1, 1, 2, 2, 2, 0], [2, 2, 2, 2, 2, 0], [3, 3, 0, 0, 0, 0]])


def classed(grid):
    return sp.from_array(VALUES.astype("u1"), grid=grid, nodata=0).with_look(sp.Look(
        classes=CLASSES))  # fmt: skip


def geodesic_areas(grid):
    """Areas of pixels as polygons on the ellipsoid, edges densified along parallels."""
    geod = Geod(ellps="WGS84")
    areas = np.zeros(grid.shape)
    for row in range(grid.rows):
        for column in range(grid.columns):
            ring = np.array([(column, row), (column + 1, row), (column + 1, row + 1),
                             (column, row + 1), (column, row)], float)  # fmt: skip
            dense = np.concatenate([np.linspace(a, b, 200, endpoint=False)
                                    for a, b in pairwise(ring)])  # fmt: skip
            x, y = grid.to_map(dense[:, 0], dense[:, 1])
            areas[row, column] = abs(geod.polygon_area_perimeter(x, y)[0])
    return areas


GROUND = [
    (UTM, np.full((4, 6), 200.0), 1e-12), (DEGREES, geodesic_areas(DEGREES), 1e-6),
    (TURNED, geodesic_areas(TURNED), 2e-5), (FEET, np.full((4, 6), (100 * 1200 / 3937) ** 2), 1e-9),
]  # fmt: skip


@pytest.mark.filterwarnings("ignore:areas are those of the map")
@pytest.mark.parametrize(("grid", "areas", "near"), GROUND)
def test_areas_of_classes_against_hand_counts(grid, areas, near):
    found = pixel_areas(grid, (0, 4), (0, 6))
    np.testing.assert_allclose(np.broadcast_to(found, (4, 6)), areas, rtol=near)
    table = classed(grid).statistics()
    assert table.index.tolist() == [1, 2, 3]
    assert table["label"].tolist() == ["sand", "grass", "3"]
    assert table["pixels"].tolist() == [5, 10, 2]
    np.testing.assert_allclose(table["share"], np.array([5, 10, 2]) / 17)
    wanted = [areas[value == VALUES].sum() for value in (1, 2, 3)]
    np.testing.assert_allclose(table["hectares"] * 1e4, wanted, rtol=near)
    np.testing.assert_allclose(table["km2"] * 1e6, wanted, rtol=near)


def test_the_whole_earth_and_grids_without_ground():
    world = sp.Grid.from_corner((180, 2), x=-180, y=90, pixel_size=(180, 1), crs="EPSG:4326")
    total = np.broadcast_to(pixel_areas(world, (0, 180), (0, 2)), (180, 2)).sum()
    ellipsoid = CRS("EPSG:4326").ellipsoid
    major, minor = ellipsoid.semi_major_metre, ellipsoid.semi_minor_metre
    e = np.sqrt(1 - (minor / major) ** 2)
    assert total == pytest.approx(2 * np.pi * (major**2 + minor**2 * np.arctanh(e) / e), rel=1e-12)
    bare = classed(sp.Grid((4, 6))).statistics()
    assert bare["pixels"].sum() == 17
    assert bare["hectares"].isna().all()
    mercator = sp.Grid.from_corner((4, 6), x=0, y=8_000_000, pixel_size=10, crs="EPSG:3857")
    with pytest.warns(sp.DataWarning, match="too large; regrid to an equal-area"):
        classed(mercator).statistics()


def square(x1, y1, x2, y2, name):
    ring = [[x1, y1], [x2, y1], [x2, y2], [x1, y2], [x1, y1]]
    return {"type": "Feature", "properties": {"name": name},
            "geometry": {"type": "Polygon", "coordinates": [ring]}}  # fmt: skip


def test_zones_have_rows_of_their_own(tmp_path, run):
    left, right = (500_000, 6_999_960, 500_060, 7_000_000), (500_060, 6_999_960, 500_120, 7_000_000)
    path, zones = tmp_path / "a.tif", tmp_path / "zones.geojson"
    zones.write_text(json.dumps({
        "type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": "EPSG:32727"}},
        "features": [square(*left, "left"), square(*right, "right")]}))  # fmt: skip
    classed(UTM).save(path)
    table = sp.open_raster(path).statistics(zones=zones)
    assert table.index.tolist() == [("left", 1), ("left", 2), ("left", 3), ("right", 2)]
    assert table["pixels"].tolist() == [5, 4, 2, 6]
    assert table.loc[("right", 2), "share"] == 1
    facts = json.loads(run("describe", path, "--zones", zones, "--json")[1])["results"][0]
    assert [row["hectares"] for row in facts["statistics"]] == pytest.approx(
        [0.1, 0.08, 0.04, 0.12]
    )
    told = run("describe", path, "--statistics")[1]
    assert "Hectares" in told
    assert "grass" in told
    plain = sp.from_array(VALUES.astype("f4"), grid=UTM, nodata=0).statistics(zones=zones)
    assert plain.loc[("left", "band 1"), "mean"] == pytest.approx(VALUES[:, :3][VALUES[:, :3] > 0]
                                                                  .mean())  # fmt: skip
    with pytest.raises(LookError, match="region or zones"):
        classed(UTM).statistics(region=left, zones=zones)


RAMP = sp.from_array(np.arange(600.0).reshape(20, 30), bands=[sp.Band("ramp", unit="m")])


def test_lines_take_the_pixels_they_pass():
    table = sp.along(RAMP, (0.5, 0.5), (29.5, 19.5))
    assert (table["row"].iloc[0], table["column"].iloc[0]) == (0, 0)
    assert (table["row"].iloc[-1], table["column"].iloc[-1]) == (19, 29)
    np.testing.assert_array_equal(table["value"], table["row"] * 30 + table["column"])
    assert table.attrs["length"] == pytest.approx(np.hypot(29, 19))
    assert len(table) >= np.hypot(29, 19)
    outside = sp.along(RAMP, (-5, 0.5), (4.5, 0.5))
    assert outside["value"].isna().sum() == outside["row"].isna().sum() == 6
    holes = sp.from_array(np.where(np.eye(9) > 0, np.nan, 1.0))
    assert sp.along(holes, (0.5, 0.5), (8.5, 8.5))["value"].isna().all()
    with pytest.raises(GridMismatch, match="does not touch"):
        sp.along(RAMP, (-5, -5), (-1, -9))
    with pytest.raises(LookError, match="no length"):
        sp.along(RAMP, (1, 1), (1, 1))


def test_distances_and_directions_on_the_ellipsoid_and_in_mm():
    table = sp.along(sp.from_array(np.ones((4, 6)), grid=DEGREES), (10.1, 60.9), (12.9, 60.1))
    forward, _, length = Geod(ellps="WGS84").inv(10.1, 60.9, 12.9, 60.1)
    assert table.attrs["unit"] == "metre"
    assert table.attrs["azimuth"] == pytest.approx(forward % 360)
    assert table.attrs["length"] == pytest.approx(length, rel=2e-3)  # straight on the map
    volume = sp.volume_from_array(
        np.arange(1000.0).reshape(10, 10, 10), affine=np.diag([2, 2, 3, 1])
    )
    cut = volume.slice("axial", at=9)
    x, y = cut.grid.center(row=5, column=2)
    there, back = cut.grid.center(row=5, column=7)
    line = sp.along(cut, (x, y), (there, back))
    assert (line.attrs["unit"], line.attrs["length"]) == ("mm", pytest.approx(10))
    assert line["value"].tolist() == cut.pixels()[0, 5, 2:8].tolist()
    region = sp.profile(cut, sp.ellipse(x, y, radii=(3, 5)))
    rows, columns = np.mgrid[:10, :10]
    cx, cy = cut.grid.to_map(columns + 0.5, rows + 0.5)
    inside = ((cx - x) / 3) ** 2 + ((cy - y) / 5) ** 2 < 1
    chosen = cut.pixels()[0][inside]
    assert region[["count", "mean", "std"]].iloc[0].tolist() == pytest.approx(
        [inside.sum(), chosen.mean(), chosen.std()])  # fmt: skip


ELLIPSES = [((15, 10), (6, 3), 0), ((15, 10), (6, 3), 30), ((12.3, 9.1), (4.2, 7.7), -75)]


@pytest.mark.parametrize(("middle", "radii", "turned"), ELLIPSES)
def test_ellipses_count_the_pixels_whose_centres_lie_inside(middle, radii, turned):
    found = sp.profile(RAMP, sp.ellipse(*middle, radii=radii, turned=turned)).iloc[0]
    y, x = np.mgrid[:20, :30] + 0.5
    angle = np.radians(turned)
    u = (x - middle[0]) * np.cos(angle) + (y - middle[1]) * np.sin(angle)
    v = -(x - middle[0]) * np.sin(angle) + (y - middle[1]) * np.cos(angle)
    inside = (u / radii[0]) ** 2 + (v / radii[1]) ** 2 < 1
    chosen = RAMP.pixels()[0][inside]
    assert (found["count"], found["mean"]) == (inside.sum(), pytest.approx(chosen.mean()))
    assert found["std"] == pytest.approx(chosen.std())


def test_angles_and_what_is_no_shape():
    assert sp.angle((1, 0), (0, 0), (0, 1)) == 90
    assert sp.angle((0, 0, 0), (0, 0, 5), (0, 5, 5)) == 90
    assert sp.angle((0, 0), (1, 0), (2, 0)) == 180
    for wrong in (lambda: sp.angle((0, 0), (0, 0), (1, 1)),
                  lambda: sp.ellipse(0, 0, radii=(0, 1)), lambda: sp.rectangle((0, 0, 0, 5)),
                  lambda: sp.ellipse(np.nan, 0, radii=(1, 1))):  # fmt: skip
        with pytest.raises(LookError):
            wrong()


@pytest.fixture
def dated(tmp_path):
    """Three files that are not in the order of their dates."""
    paths = []
    for day, top in ((20, 9), (10, 5), (15, 7)):
        paths.append(tmp_path / f"day{day}.tif")
        sp.from_array(np.full((30, 40), top, "u2") + np.eye(30, 40, dtype="u2"), grid=UTM.resized(
            (30, 40))).save(paths[-1])  # fmt: skip
        sp.amend(paths[-1], metadata={"date": f"2026-04-{day}"})
    return paths


def test_values_over_time(dated, run, tmp_path):
    rasters = [sp.open_raster(path) for path in dated]
    table = sp.over_time(rasters, [{"name": "a", "row": 0, "column": 3}])
    assert table["time"].tolist() == [pandas.Timestamp(f"2026-04-{day}") for day in (10, 15, 20)]
    assert table["mean"].tolist() == [5, 7, 9]
    figure = sp.figures.profile(table)
    assert figure.axes[0].lines[0].get_ydata().tolist() == [5, 7, 9]
    status, out, _ = run("probe", *dated, "--pixel-at", "0,3", "--profile", tmp_path / "p.png",
                         "--json")  # fmt: skip
    means = [row["mean"] for row in json.loads(out)["results"] if "mean" in row]
    assert (status, means) == (0, [5, 7, 9])
    sp.amend(dated[0], metadata={"date": None})
    with pytest.raises(MetadataError, match="--set date="):
        sp.over_time([sp.open_raster(path) for path in dated], {"row": 0, "column": 0})
    with pytest.raises(LookError, match="expected several"):
        sp.over_time(rasters[:1], {"row": 0, "column": 0})


@pytest.mark.filterwarnings("ignore")
def test_a_moving_picture_has_one_pair_of_limits(dated, run, tmp_path):
    from PIL import Image

    target = tmp_path / "m.png"
    status, out, _ = run("compare", *dated, "--mode", "moving", "-o", target, "--limits", "minmax",
                         "--pace", "200", "--json")  # fmt: skip
    facts = json.loads(out)["results"][0]
    assert (status, facts["limits_of"]) == (0, "all")
    with Image.open(target) as moving:
        assert moving.n_frames == 3
        assert moving.size == (facts["columns"], facts["rows"])
        levels = []
        for frame in range(3):
            moving.seek(frame)
            levels.append(np.asarray(moving.convert("RGB"))[5, -5, 0])
    assert levels == [0, 102, 204]  # 5, 7 and 9 between 5 and 10
    for wrong in (["--bar", "right"], ["--vary", "curve=sqrt"]):
        assert run("compare", *dated, "--mode", "moving", "-o", target, *wrong)[0] == 2
    assert run("compare", *dated[:2], "-o", target, "--pace", "9")[0] == 2


def test_lines_and_angles_by_the_command(run, tmp_path):
    path = tmp_path / "a.tif"
    sp.from_array(np.arange(600.0).reshape(20, 30), grid=UTM.resized((20, 30))).save(path)
    grid = sp.open_raster(path).grid
    first, last = (",".join(map(str, grid.center(row=r, column=c))) for r, c in ((2, 3), (2, 9)))
    status, out, _ = run("probe", path, "--line", first, last, "--csv", tmp_path / "l.csv",
                         "--profile", tmp_path / "l.png", "--json")  # fmt: skip
    facts = json.loads(out)["results"][0]
    assert (status, facts["azimuth"]) == (0, pytest.approx(90))
    assert [row["value"] for row in facts["line"]] == list(range(63, 70))
    assert len((tmp_path / "l.csv").read_text().splitlines()) == 8
    status, out, _ = run("probe", path, "--angle", "0,1", "0,0", "1,0")
    assert (status, "90 degrees" in out) == (0, True)
    status, out, _ = run("probe", path, "--ellipse", f"{first},40,20", "--rectangle",
                         f"{first},{last[:-1]}1")  # fmt: skip
    assert (status, "ellipse 1" in out, "rectangle 1" in out) == (0, True, True)
    for wrong in (["--line", first, last, "--curve", "sqrt"], ["--angle", "0,1", "0,0", "1,0",
                  "--csv", "x.csv"], ["--ellipse", "0,0,1,1", "--at", "0,0"]):  # fmt: skip
        assert run("probe", path, *wrong)[0] == 2
