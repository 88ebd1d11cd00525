"""Scenes over an area: shares by true area, ranks, reasons, the fewest; against hand counts."""

from __future__ import annotations

import json
import warnings

import numpy as np
import pytest
import shapely
from tests.catalogs.making import band_file, catalog, item, square

import spectrane as sp
from spectrane.catalogs.areas import area_of, box_of, footprint, geometry_on, split_geometry
from spectrane.catalogs.finding import fewest, find_scenes
from spectrane.catalogs.items import box_geometry
from spectrane.model.errors import FormatError, GridMismatch, LookError, MissingFile

CLOUD = {"classification:classes": [{"value": 1, "name": "clear"}, {"value": 2, "name": "cloud"},
                                    {"value": 3, "name": "cloud_shadow"}]}  # fmt: skip


def found(folder, **given):
    return {scene.item.id: scene for scene in find_scenes(str(folder), **given).found}


def reasons(folder, **given):
    return {scene.item.id: scene.left_out for scene in find_scenes(str(folder), **given).left_out}


@pytest.mark.parametrize(
    ("over", "box", "share"),
    [
        ((0, 0, 2, 2), (0, 0, 2, 2), 1.0), ((0, 0, 2, 2), (1, 0, 5, 2), 0.5),
        ((0, 0, 2, 2), (1, 1, 5, 5), 0.25), ((0, 60, 1, 61), (0, 60, 0.5, 61), 0.5),
        ((-1, -1, 1, 1), (0, -1, 5, 1), 0.5),
    ],
)  # fmt: skip
def test_shares_are_of_true_area(over, box, share):
    area = area_of(over)
    assert area.share(geometry_on(area, square(*box))) == pytest.approx(share, abs=2e-3)


def test_an_area_is_as_large_as_it_is():
    # A degree square at the equator on the WGS 84 ellipsoid: 12 308.8 km².
    assert area_of((0, 0, 1, 1)).shape.area / 1e6 == pytest.approx(12308.8, rel=1e-4)


@pytest.mark.parametrize(
    "geometry",
    [
        box_geometry(175, -10, -175, 10), square(175, -10, 185, 10), square(-185, -10, -175, 10),
        {"type": "GeometryCollection", "geometries": [square(175, -10, 180, 10),
                                                      square(-180, -10, -175, 10)]},
    ],
)  # fmt: skip
def test_the_antimeridian_is_no_edge(geometry):
    area = area_of((170, -10, -170, 10))
    assert area.bounds() == (170.0, -10.0, -170.0, 10.0)
    assert area.share(geometry_on(area, geometry)) == pytest.approx(0.5, abs=1e-6)


def test_footprints_are_cut_at_the_antimeridian():
    grid = sp.Grid.from_corner((10, 20), x=179, y=5, pixel_size=0.1, crs="EPSG:4326")
    cut = split_geometry(footprint(grid))
    assert (cut["type"], box_of(cut)) == ("MultiPolygon", [179.0, 4.0, -179.0, 5.0])
    for ring in (part[0] for part in cut["coordinates"]):
        assert shapely.LinearRing(ring).is_ccw  # RFC 7946, section 3.1.6
    near = sp.Grid.from_corner((90, 90), x=400000, y=8e6, pixel_size=100, crs="EPSG:32601")
    west, _, east, _ = box_of(split_geometry(footprint(near)))
    assert west < east


@pytest.mark.parametrize(
    "over",
    [(0, 0), (0, 2, 2, 0), (0, 0, "x", 1), (0, -95, 1, 0), "none.tif", {"type": "Point"}, [1] * 4],
)
def test_what_is_no_area_is_said(over):
    with pytest.raises((LookError, MissingFile, GridMismatch)):
        area_of(over)


def test_areas_of_rasters_files_lines_and_points(tmp_path, utm):
    raster = sp.from_array(np.ones((70, 90), "u1"), grid=utm)
    raster.save(tmp_path / "a.tif")
    for over in (raster, utm, str(tmp_path / "a.tif")):
        assert area_of(over).shape.area == pytest.approx(900 * 700, rel=2e-3)
    line = area_of({"type": "LineString", "coordinates": [[0, 0], [2, 0]]})
    assert line.share(geometry_on(line, square(-1, -1, 1, 1))) == pytest.approx(0.5, abs=1e-6)
    point = area_of({"type": "Point", "coordinates": [1, 1]})
    for box, share in (((0, 0, 2, 2), 1), ((2, 2, 3, 3), 0)):
        assert point.share(geometry_on(point, square(*box))) == share
    with pytest.raises(GridMismatch, match="no place"):
        area_of(sp.from_array(np.ones((2, 2))))
    field = shapely.box(480000, 7359500, 480500, 7360000)
    assert area_of(field, crs=32727).shape.area == pytest.approx(250000, rel=2e-3)


SCENES = [
    item("all", (0, 0, 4, 4), cloud=30), item("all clear", (-1, -1, 4, 4), cloud=2),
    item("newer", (-1, -1, 4, 4), cloud=2, date="2026-05-01T00:00:00Z"),
    item("half", (0, 0, 1, 2), cloud=0), item("unknown", (0, 0, 4, 4), cloud=None),
    item("far", (10, 10, 12, 12)), item("cloudy", (0, 0, 4, 4), cloud=96),
    item("old", (0, 0, 4, 4), date="2025-12-31T23:59:59Z"),
    item("late", (0, 0, 4, 4), date="2026-07-01T00:00:00Z"),
    item("no date", (0, 0, 4, 4), date=None), item("no place", geometry=None, bbox=None),
]  # fmt: skip


def test_ranks_and_reasons(tmp_path):
    catalog(tmp_path, SCENES)
    asked = {"over": (0, 0, 2, 2), "start": "2026", "end": "2026-06-30", "cloud": 40}
    assert list(found(tmp_path, **asked)) == ["newer", "all clear", "all", "unknown", "half"]
    assert reasons(tmp_path, **asked) == {
        "far": "misses the area", "cloudy": "cloud 96 %, more than 40",
        "old": "taken before 2026-01-01", "late": "taken after 2026-06-30",
        "no date": "says not when it was taken", "no place": "says not where it lies",
    }  # fmt: skip
    assert found(tmp_path, **asked)["half"].share == pytest.approx(0.5, abs=1e-3)


def test_nothing_asked_leaves_nothing_out(tmp_path):
    catalog(tmp_path, SCENES)
    everything = find_scenes(str(tmp_path))
    assert len(everything.found) == len(SCENES)
    assert everything.covered is None
    assert everything.found[-1].item.cloud is None
    first = find_scenes(str(tmp_path), over=(0, 0, 2, 2), first=2)
    assert [one.item.id for one in first.found] == ["newer", "all clear"]
    told = {one.left_out for one in first.left_out}
    assert told == {"not among the first 2", "misses the area", "says not where it lies"}


@pytest.mark.parametrize("given", [{"cloud": -1}, {"cloud": 101}, {"first": 0}, {"start": "x"}])
def test_wrong_questions_are_said(tmp_path, given):
    with pytest.raises(LookError):
        find_scenes(str(tmp_path), **given)


@pytest.mark.parametrize(
    ("boxes", "few"),
    [
        ({"a": (0, 0, 1, 2), "b": (0, 0, 2, 2)}, ["b"]),
        ({"a": (0, 0, 1.2, 2), "b": (0.5, 0, 1.5, 2), "c": (1, 0, 2, 2)}, ["a", "c"]),
        ({"a": (0, 0, 1, 1), "b": (1, 0, 2, 1), "c": (0, 1, 2, 2), "d": (0, 0, 2, 1)}, ["c", "d"]),
        ({"a": (0, 0, 1, 2)}, ["a"]), ({}, []),
    ],
)  # fmt: skip
def test_the_fewest_that_show_all(tmp_path, boxes, few):
    catalog(tmp_path, [item(name, box) for name, box in boxes.items()])
    got = find_scenes(str(tmp_path), over=(0, 0, 2, 2))
    assert sorted(one.item.id for one in got.fewest) == few
    union = shapely.union_all([shapely.box(*box) for box in boxes.values()])
    assert got.covered == pytest.approx(union.area / 4, abs=2e-3)


def test_of_many_scenes_each_adds_most(tmp_path):
    strips = [item(f"s{k:02}", (k / 10, 0, k / 10 + 0.1, 2)) for k in range(20)]
    catalog(tmp_path, [*strips, item("wide", (0, 0, 1.5, 2))])
    got = find_scenes(str(tmp_path), over=(0, 0, 2, 2))
    assert len(got.fewest) == 6
    assert got.covered == pytest.approx(1.0)
    assert fewest([], area_of((0, 0, 1, 1))) == ([], 0.0)


def mask_scene(folder, fields, numbers, **given):
    name = band_file(folder, "mask.tif", numbers, nodata=0)
    asset = {"href": f"./{name}", "roles": ["classification"]} | fields
    with sp.open_raster(folder / name) as raster:
        geometry = raster.to_item("a_20260412.tif")["geometry"]
    return item("a", geometry=geometry, cloud=50, assets={"mask": asset}, **given)


@pytest.mark.parametrize(
    ("fields", "percent"),
    [
        (CLOUD, 25.0),
        ({"bands": [{"name": "m"} | CLOUD]}, 25.0),
        (
            {
                "classification:bitfields": [
                    {
                        "offset": 1,
                        "length": 1,
                        "name": "cloud",
                        "classes": [
                            {"value": 0, "name": "not_cloud"},
                            {"value": 1, "name": "cloud"},
                        ],
                    }
                ]
            },
            50.0,
        ),
        ({"classification:classes": [{"value": 2, "name": "cloud free"}]}, 0.0),
        ({"roles": ["cloud"]}, 100.0),
        ({"classification:classes": [{"value": 2, "description": "Thin cirrus"}]}, 25.0),
    ],
)
def test_cloud_over_the_area_is_counted(tmp_path, fields, percent):
    numbers = np.ones((20, 30), np.uint16)
    numbers[:10, :15] = 2  # a quarter
    numbers[10:, :15] = 3  # another, of which the second bit is set too
    catalog(tmp_path, [mask_scene(tmp_path, fields, numbers)])
    area = sp.Grid.from_corner((20, 30), x=500000, y=7e6, pixel_size=10, crs="EPSG:32727")
    scene = found(tmp_path, over=area)["a"]
    assert scene.cloud_over == pytest.approx(percent, abs=0.01)
    assert found(tmp_path, over=area, measure_cloud=False)["a"].cloud == 50


def test_cloud_of_half_the_scene_over_the_other_half(tmp_path):
    numbers = np.ones((20, 30), np.uint16)
    numbers[:, :15] = 2
    numbers[:2] = 0  # where nothing was seen counts for nothing
    catalog(tmp_path, [mask_scene(tmp_path, CLOUD, numbers)])
    for x, percent in ((500000, 100.0), (500150, 0.0)):
        half = sp.Grid.from_corner((20, 15), x=x, y=7e6, pixel_size=10, crs="EPSG:32727")
        assert found(tmp_path, over=half)["a"].cloud_over == pytest.approx(percent, abs=0.1)
    assert "over the area, more than 20" in reasons(
        tmp_path, over=sp.Grid.from_corner((20, 15), x=500000, y=7e6, pixel_size=10,
                                           crs="EPSG:32727"), cloud=20)["a"]  # fmt: skip


def test_a_mask_that_cannot_be_read_is_told(tmp_path):
    scene = mask_scene(tmp_path, CLOUD, np.ones((20, 30), np.uint16))
    scene["assets"]["mask"]["href"] = "./gone.tif"
    catalog(tmp_path, [scene])
    area = sp.Grid.from_corner((20, 30), x=500000, y=7e6, pixel_size=10, crs="EPSG:32727")
    got = find_scenes(str(tmp_path), over=area)
    assert got.found[0].cloud == 50
    assert any("gone.tif" in note for note in got.notes)


def test_a_folder_of_rasters_is_a_catalogue(tmp_path):
    numbers = np.full((60, 80), 5, np.uint16)
    numbers[:, :40] = 0
    band_file(tmp_path, "sound_20260412_red.tif", numbers, shape=(60, 80), nodata=0)
    band_file(tmp_path, "whole.tif", np.arange(600, dtype=np.uint16).reshape(20, 30))
    sp.amend(tmp_path / "whole.tif", metadata={"date": "2026-05-01", "cloud": 12})
    sp.from_array(np.ones((4, 4), "u1")).save(tmp_path / "bare.png")
    sp.render(sp.open_raster(tmp_path / "whole.tif")).save(tmp_path / "picture.png")
    (tmp_path / "broken.tif").write_bytes(b"II*\0\x08\0\0\0garbage")
    got = find_scenes(str(tmp_path))
    by_name = {one.item.id: one.item for one in got.found}
    assert by_name["whole.tif"].cloud == 12
    dates = {name: one.date.isoformat()[:10] for name, one in by_name.items()}
    assert dates == {"sound_20260412_red.tif": "2026-04-12", "whole.tif": "2026-05-01"}
    notes = " | ".join(got.notes)
    assert "bare.png: has no place" in notes
    assert "picture.png: is a display picture" in notes
    assert "broken.tif" in notes
    half = sp.Grid.from_corner((60, 40), x=500000, y=7e6, pixel_size=10, crs="EPSG:32727")
    assert "sound_20260412_red.tif" in reasons(tmp_path, over=half)
    with sp.open(by_name["whole.tif"]) as raster:
        assert raster.pixels().max() == 599


def test_the_table_has_all_of_it(tmp_path):
    catalog(tmp_path, SCENES)
    table = sp.scenes(tmp_path, over=(0, 0, 2, 2), cloud=40)
    assert table["rank"].dropna().tolist() == list(range(1, table["rank"].count() + 1))
    assert len(table) == len(SCENES)
    assert table.attrs["fewest"] == ["newer"]
    assert table[table["id"] == "unknown"]["cloud"].isna().all()
    empty = tmp_path / "empty"
    empty.mkdir()
    catalog(empty, [])
    assert sp.scenes(empty).empty
    assert "holds no items" in sp.scenes(empty).attrs["notes"][0]


def test_what_is_no_catalogue_is_said(tmp_path):
    (tmp_path / "a.json").write_text(json.dumps({"type": "FeatureCollection", "features": [5]}))
    assert "no item" in sp.scenes(tmp_path / "a.json").attrs["notes"][0]
    for content in (b"{", b'{"type": "Topology"}', b"5"):
        (tmp_path / "a.json").write_bytes(content)
        with pytest.raises(FormatError, match=r"a\.json"):
            sp.scenes(tmp_path / "a.json")
    with pytest.raises(MissingFile):
        sp.scenes(tmp_path / "none.json")


def test_an_item_of_ones_own_opens_again(tmp_path, utm):
    numbers = np.arange(6300, dtype=np.uint16).reshape(1, 70, 90)
    band = sp.Band("red", "red", 665.0, "1", 1e-4, 0.5, nodata=0)
    sp.from_array(numbers, grid=utm, bands=[band]).save(tmp_path / "a.tif")
    sp.amend(tmp_path / "a.tif", metadata={"date": "2026-04-12T10:30:00Z", "cloud": 3})
    with sp.open_raster(tmp_path / "a.tif") as raster:
        document = raster.to_item("./a.tif")
        pixels = raster.pixels()
    (tmp_path / "a.json").write_text(json.dumps(document))
    asset = document["assets"]["data"]
    assert asset["proj:shape"] == [70, 90]
    assert asset["proj:transform"][:6] == [10.0, 0.0, 480000.0, 0.0, -10.0, 7360000.0]
    assert document["properties"] == {"datetime": "2026-04-12T10:30:00Z", "eo:cloud_cover": 3.0}
    with sp.open_raster(tmp_path / "a.json") as again:
        assert again.bands[0].scale == 1e-4
        assert again.grid == utm
        np.testing.assert_array_equal(again.pixels(), pixels)
    bare = sp.from_array(numbers, grid=utm)
    with pytest.warns(sp.DataWarning, match="no date"):
        bare.to_item()
    with warnings.catch_warnings(), pytest.raises(GridMismatch):
        sp.to_item(sp.from_array(numbers))
