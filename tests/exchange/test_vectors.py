"""Areas as polygons, shapes as files: against shapely, and read back."""

from __future__ import annotations

import json

import numpy as np
import pytest
import shapely
from scipy.ndimage import label
from shapely.geometry import box, shape

import spectrane as sp

GRIDS = {
    "none": None,
    "map": sp.Grid.from_corner((9, 11), x=500_000, y=7_000_000, pixel_size=10, crs="EPSG:32727"),
    "rotated": sp.Grid((9, 11), ((8, 6, 100), (6, -8, 200), (0, 0, 1)), "EPSG:32727", placed=True),
    "south up": sp.Grid((9, 11), ((2, 0, 10), (0, 2, 20), (0, 0, 1)), "EPSG:32727", placed=True),
}  # fmt: skip


@pytest.mark.parametrize("name", GRIDS)
def test_areas_are_exact_along_pixel_edges(name, rng):
    for share in (0.35, 0.5, 0.65, 1.0):
        held = np.where(rng.random((9, 11)) < share, 3, rng.integers(1, 3, (9, 11)))
        raster = sp.from_array(held.astype("u1"), grid=GRIDS[name], nodata=2)
        found = raster.to_polygons()
        assert ("crs" in found) is True
        for value in (1, 3):
            areas, count = label(held == value)
            mine = [one for one in found["features"] if one["properties"]["value"] == value]
            assert len(mine) == count
            assert sum(one["properties"]["pixels"] for one in mine) == (held == value).sum()
            for number, one in enumerate(mine, 1):
                polygon = shape(one["geometry"])
                assert polygon.is_valid
                assert shapely.is_ccw(polygon.exterior)
                pixels = [box(c, r, c + 1, r + 1) for r, c in np.argwhere(areas == number)]
                whole = shapely.transform(shapely.union_all(pixels), lambda at: np.stack(
                    raster.grid.to_map(at[:, 0], at[:, 1]), axis=1))  # fmt: skip
                assert polygon.symmetric_difference(whole).area < 1e-6
                assert sum(map(len, one["geometry"]["coordinates"])) == shapely.get_num_coordinates(
                    whole.simplify(0))  # fmt: skip


def test_what_is_asked_for_and_what_is_not_there():
    look = sp.Look(classes={1: ("#ff0000", "eelgrass"), 2: ("#00ff00", "sand")})
    raster = sp.from_array(np.array([[1, 2, 1]], "u1")).with_look(look)
    named = raster.to_polygons(["sand"])["features"]
    assert [one["properties"] for one in named] == [{"value": 2, "name": "sand", "pixels": 1}]
    with pytest.raises(sp.LookError, match="did you mean 'sand'"):
        raster.to_polygons("sond")
    with pytest.raises(sp.LookError, match="no classes"):
        sp.from_array(np.array([[0.5, 1.5]])).to_polygons()
    mask = sp.mask(raster, values=1)
    assert len(mask.to_polygons()["features"]) == 2
    assert mask.__geo_interface__ == mask.to_polygons()
    assert sp.from_array(np.ones((1, 3))).clip(mask).pixels().count() == 2  # of no system either
    clipped = raster.clip(mask.to_polygons())
    assert clipped.pixels().tolist() == [[[1, None, 1]]]


def test_what_no_pixel_has_is_told(tmp_path, run, monkeypatch):
    raster = sp.from_array(np.array([[1, 2, 1]], "u1"))
    nothing = sp.mask(raster, values=9)
    for ask, told in (
        (lambda: raster.to_polygons([2, 7]), "no pixel is of class 7; what occurs is 1, 2"),
        (lambda: raster.to_polygons([7, 8]), "no pixel is of classes 7, 8"),
        (nothing.to_polygons, "no pixel is chosen"),
        (raster.masked(nothing).to_polygons, "no pixel is valid"),
    ):
        with pytest.warns(sp.DataWarning, match=told):
            ask()
    monkeypatch.chdir(tmp_path)
    raster.save("a.tif")
    for command, told in (
        ("clip a.tif -o b.tif --values 9", "a.tif: the mask keeps no pixel"),
        ("export a.tif -o b.geojson --where band(1)>9", "no pixel is chosen"),
        ("export a.tif -o c.geojson --classes 9", "no pixel is of class 9"),
    ):
        assert told in run(*command.split())[2]


@pytest.mark.parametrize("ending", ["geojson", "gpkg"])
def test_shapes_are_written_and_read_back_where_they_lie(tmp_path, ending, rng):
    grid = GRIDS["map"]
    raster = sp.from_array((rng.random((9, 11)) < 0.5).astype("u1"), grid=grid)
    mask = sp.mask(raster, values=1)
    path = tmp_path / f"areas.{ending}"
    sp.save_shapes(mask.to_polygons(), path)
    read = sp.read_shapes(path)
    assert read.crs == {"geojson": "EPSG:4326", "gpkg": "EPSG:32727"}[ending]
    again = raster.clip(read, extent="full").pixels()
    np.testing.assert_array_equal(~np.ma.getmaskarray(again), mask.pixels().data)
    assert sum(one.properties["pixels"] for one in read.features) == mask.pixels().sum()
    with pytest.raises(sp.ExistingFile):
        sp.save_shapes(mask, path)
    for given in (
        mask,
        raster,
        grid,
        sp.Outline(mask.to_polygons()),
        read,
        sp.Outline(path),
        shapely.box(500_000, 6_999_950, 500_050, 7_000_000),
    ):
        said = {"crs": "EPSG:32727"} if hasattr(given, "geom_type") else {}
        sp.save_shapes(given, path, overwrite=True, **said)
        bounds = shapely.total_bounds(
            [shape(one.geometry) for one in sp.read_shapes(path).features]
        )
        inside = sp.Grid.from_corner((9, 11), x=500_000, y=7_000_000, pixel_size=10, crs=32727)
        reach = inside.bounds if ending == "gpkg" else (-21.0001, -27.2, -20.998, -27.1)
        assert reach[0] - 1e-6 <= bounds[0] < bounds[2] <= reach[2] + 1e-3
        assert reach[1] - 1e-3 <= bounds[1] < bounds[3] <= reach[3] + 1e-6


def test_points_keep_their_columns(tmp_path):
    import pandas

    table = pandas.DataFrame({"name": ["weir", "gauge"], "x": [1.5, 2.5], "y": [3.0, 4.0],
                              "depth": [0.25, np.nan], "count": [3, 4]})  # fmt: skip
    for ending in ("geojson", "gpkg"):
        path = tmp_path / f"points.{ending}"
        sp.save_shapes(table, path, layer="stations" if ending == "gpkg" else None)
        first, second = sp.read_shapes(path).features
        assert (first.name, first.geometry["coordinates"][:2]) == ("weir", [1.5, 3.0])
        assert (first.properties["depth"], second.properties["depth"]) == (0.25, None)
        assert second.properties["count"] == 4
    assert json.loads((tmp_path / "points.geojson").read_text())["crs"] is None
    assert sp.read_shapes(tmp_path / "points.gpkg", layer="stations").crs is None
    for given, name, match in (
        (table, "a.shp", "geojson or .gpkg"),
        (table[["x"]], "a.gpkg", "x and y"),
    ):
        with pytest.raises(sp.SpectraneError, match=match):
            sp.save_shapes(given, tmp_path / name)


@pytest.mark.parametrize(("words", "areas"), [
    ([], {"sand": 2, "silt": 1}), (["--classes", "sand"], {"sand": 2}),
    (["--classes", "2"], {"silt": 1}), (["--where", "habitat == 1"], {"True": 2}),
    (["--row-range", "1,3"], {"sand": 1, "silt": 1}),
])  # fmt: skip
def test_the_command_writes_areas(words, areas, tmp_path, run):
    grid = sp.Grid.from_corner((3, 4), x=0, y=30, pixel_size=10, crs="EPSG:32727")
    values = np.array([[1, 1, 0, 1], [2, 2, 0, 1], [2, 0, 0, 0]], "u1")
    look = sp.Look(classes={1: ("#ffcc00", "sand"), 2: ("#884400", "silt")})
    raster = sp.from_array(values, grid=grid, bands=["habitat"], nodata=0)
    raster.with_look(look).save(tmp_path / "a.tif")
    for ending in (".gpkg", ".geojson"):
        target = tmp_path / f"o{ending}"
        status, out, err = run("export", tmp_path / "a.tif", "-o", target, *words, "--json")
        assert (status, json.loads(out)["results"][0]["areas"]) == (0, areas), err
        shapes = sp.read_shapes(target)
        pixels = sum(one.properties["pixels"] for one in shapes.features)
        surface = sum(shapely.geometry.shape(one.geometry).area for one in shapes.features)
        assert len(shapes.features) == sum(areas.values())
        assert ending == ".geojson" or surface == 100 * pixels
    kept = target.read_bytes()
    for more, problem in ((["--type", "uint8"], "--type is not used for shapes"), ([], "exists"),
                          (["--classes", "sond"], "did you mean 'sand'")):  # fmt: skip
        status, _, err = run("export", tmp_path / "a.tif", "-o", target, *more)
        assert status != 0
        assert problem in err
    assert target.read_bytes() == kept
    assert "--classes is not used except for shapes" in run(
        "export", tmp_path / "a.tif", "-o", tmp_path / "o.tif", "--classes", "1")[2]  # fmt: skip
