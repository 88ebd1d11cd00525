"""The one door of vector shapes: files, systems, longitudes, labels."""

from __future__ import annotations

import json
import sqlite3
import struct

import numpy as np
import pyproj
import pytest
import shapely

import spectrane as sp

UTM = "EPSG:32727"
SQUARE = [[480100, 7359900], [480300, 7359900], [480300, 7359800], [480100, 7359800]]
CUT = ((10, 20), (10, 30))
"""The rows and columns of the square on the grid of 10 m pixels."""


def lonlat(points):
    way = pyproj.Transformer.from_crs(UTM, 4326, always_xy=True)
    return [way.transform(*point) for point in points]


def polygon(points, **members):
    return {"type": "Polygon", "coordinates": [[*points, points[0]]], **members}


def features(*pairs, **members):
    listed = [{"type": "Feature", "properties": said, "geometry": one} for one, said in pairs]
    return {"type": "FeatureCollection", "features": listed, **members}


def named(name):
    return {"crs": {"type": "name", "properties": {"name": name}}}


def write_geopackage(path, layers):
    """Write layers of (name, srs_id, rows of (blob, label)) as OGC 12-128r19 says."""
    with sqlite3.connect(path) as base:
        base.executescript(
            "PRAGMA application_id = 0x47504B47;"
            "CREATE TABLE gpkg_spatial_ref_sys (srs_name, srs_id PRIMARY KEY, organization,"
            " organization_coordsys_id, definition, description);"
            "INSERT INTO gpkg_spatial_ref_sys VALUES ('', 32727, 'EPSG', 32727, '', ''),"
            " ('', 4326, 'EPSG', 4326, '', ''), ('', 900, 'NONE', 900, 'EPSG:32727', '');"
            "CREATE TABLE gpkg_contents (table_name PRIMARY KEY, data_type, identifier, srs_id);"
            "CREATE TABLE gpkg_geometry_columns (table_name, column_name, geometry_type_name,"
            " srs_id, z, m);"
        )
        for name, srs, rows in layers:
            base.execute(f'CREATE TABLE "{name}" (fid INTEGER PRIMARY KEY, geom BLOB, label TEXT)')
            base.execute("INSERT INTO gpkg_contents VALUES (?, 'features', '', ?)", (name, srs))
            base.execute("INSERT INTO gpkg_geometry_columns VALUES (?, 'geom', '', ?, 0, 0)",
                         (name, srs))  # fmt: skip
            base.executemany(f'INSERT INTO "{name}" (geom, label) VALUES (?, ?)', rows)
    base.close()
    return path


def blob(geometry, *, envelope=1, order="<", srs=32727):
    bounds = {0: (), 1: (0.0,) * 4, 2: (0.0,) * 6, 4: (0.0,) * 8}[envelope]
    head = struct.pack(f"{order}2sBBi", b"GP", 0, envelope << 1 | (order == "<"), srs)
    return head + struct.pack(f"{order}{len(bounds)}d", *bounds) + shapely.to_wkb(geometry)


@pytest.fixture
def raster(utm, rng):
    return sp.from_array(rng.random((2, 70, 90)), grid=utm)


FORMS = {
    "degrees": lambda path: polygon(lonlat(SQUARE)),
    "a member": lambda path: polygon(SQUARE, **named("urn:ogc:def:crs:EPSG::32727")),
    "CRS84": lambda path: polygon(lonlat(SQUARE), **named("urn:ogc:def:crs:OGC:1.3:CRS84")),
    "a geometry": lambda path: shapely.Polygon(SQUARE),
    "bounds": lambda path: (480100, 7359800, 480300, 7359900),
    "a package": lambda path: write_geopackage(
        path / "a.gpkg", [("beds", 32727, [(blob(shapely.Polygon(SQUARE)), "x")])]
    ),
    "a package in degrees": lambda path: write_geopackage(
        path / "a.gpkg",
        [("b", 4326, [(blob(shapely.Polygon(lonlat(SQUARE)), envelope=0, order=">"), "x")])],
    ),
    "a system by its text": lambda path: write_geopackage(
        path / "a.gpkg",
        [("b", 900, [(blob(shapely.Polygon([(*p, 7.0) for p in SQUARE]), envelope=4), None)])],
    ),
    "one of two layers": lambda path: sp.read_shapes(
        write_geopackage(
            path / "a.gpkg",
            [("a", 4326, []), ("the beds", 32727, [(blob(shapely.Polygon(SQUARE)), "x")])],
        ),
        layer="the beds",
    ),
}


@pytest.mark.parametrize("form", FORMS)
def test_every_form_means_the_same_place_everywhere(tmp_path, raster, form):
    shape = FORMS[form](tmp_path)
    inside = raster.pixels().data[(slice(None), *(slice(*pair) for pair in CUT))]
    np.testing.assert_array_equal(raster.clip(shape).pixels().data, inside)
    assert raster.statistics(region=shape)["mean"].iloc[0] == pytest.approx(inside[0].mean())
    drawn = sp.overlay([raster, sp.Outline(shape, "#ff0000", width=0, fill="#00ff00")]).rgba
    green = (drawn[..., :3] == (0, 255, 0)).all(axis=2)
    rows, columns = np.nonzero(green)
    assert ((rows.min(), rows.max() + 1), (columns.min(), columns.max() + 1)) == CUT
    if not isinstance(shape, tuple):
        assert sp.profile(raster, shape)["mean"].iloc[0] == pytest.approx(inside[0].mean())


@pytest.mark.parametrize("crs", [UTM, 32727, "32727", pyproj.CRS(32727), "the grid", "a raster"])
def test_a_system_is_said_in_any_way(utm, raster, crs):
    given = {"the grid": utm, "a raster": raster}.get(crs, crs) if isinstance(crs, str) else crs
    shape = polygon(SQUARE)
    assert raster.clip(shape, crs=given).shape == (2, 10, 20)
    assert raster.regrid(crs=given, pixel_size=20).grid.crs_text == UTM
    assert sp.probe(raster, x=480105, y=7359895, crs=given)["row"].tolist() == [10, 10]
    assert sp.View(bounds=raster.grid.bounds, crs=given).window(utm) == ((0, 70), (0, 90))
    assert sp.Outline(shape, crs=given)
    assert sp.Grid(utm.shape, utm.affine, given, placed=True).crs_text == UTM


def test_what_the_caller_says_holds_and_another_word_of_the_file_is_told(raster):
    shape = polygon(SQUARE, **named("EPSG:4326"))
    with pytest.warns(sp.DataWarning, match="says that it is in EPSG:4326, and is taken to be"):
        assert raster.clip(shape, crs=UTM).shape == (2, 10, 20)


WRONG = [
    (polygon(SQUARE), "480100, 7359900 cannot be degrees; say which system .*crs=EPSG:CODE"),
    (polygon(lonlat(SQUARE), crs={"type": "link", "properties": {"href": "x"}}), "names no system"),
    (polygon(SQUARE, **named("no such system")), "no such system"),
    (polygon(SQUARE[:2]), "three or more positions"),
    ("nothing.geojson", "no such file of shapes"),
]


@pytest.mark.parametrize(("shape", "message"), WRONG)
def test_what_cannot_be_placed_is_refused_by_all(raster, shape, message):
    for action in (
        lambda: raster.clip(shape), lambda: raster.statistics(region=shape),
        lambda: sp.profile(raster, shape), lambda: sp.overlay([raster, sp.Outline(shape)]),
    ):  # fmt: skip
        with pytest.raises(sp.SpectraneError, match=message):
            action()


PACKAGES = [
    ([("a", 32727, []), ("b", 32727, [])], "2 layers; say which: --layer NAME.*: a, b"),
    ([], "holds no layer of features"),
    ([("a", 32727, [(b"no", "x")])], "does not begin with GP"),
    ([("a", 32727, [(blob(shapely.Point(0, 0))[:-4], "x")])], "cannot be read"),
]


@pytest.mark.parametrize(("layers", "message"), PACKAGES)
def test_a_broken_package_is_told(tmp_path, raster, layers, message):
    path = write_geopackage(tmp_path / "a.gpkg", layers)
    with pytest.raises(sp.LookError, match=message):
        raster.clip(path)


def test_a_package_that_never_ends_is_stopped(tmp_path, raster, monkeypatch):
    path = write_geopackage(tmp_path / "a.gpkg", [("a", 32727, [])])
    with sqlite3.connect(path) as base:
        base.execute('DROP TABLE "a"')
        base.execute(
            'CREATE VIEW "a" AS WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) '
            "SELECT x AS fid, NULL AS geom FROM n"
        )
    base.close()
    monkeypatch.setattr("spectrane.spatial.geopackage._SECONDS", 0.3)
    with pytest.raises(sp.LookError, match="interrupted"):
        raster.clip(path)


def test_a_feature_without_the_property_has_no_label(raster):
    shape = features(
        (polygon(SQUARE), {"name": "a"}), (polygon(SQUARE), {"other": 1}), **named(UTM)
    )
    for label in ("name", "other"):
        assert sp.overlay([raster, sp.Outline(shape, label=label)]).rgba.any()
    with pytest.raises(sp.LookError, match="no feature property 'kind'; there are name, other"):
        sp.overlay([raster, sp.Outline(shape, label="kind")])


ROUND = [
    # the grid's longitudes, the shape's, and the columns of one degree that lie in it
    ((150, 230), (170, 175), [(20, 25)]),
    ((150, 230), (-175, -170), [(35, 40)]),
    ((150, 230), (175, 185), [(25, 35)]),
    ((0, 360), (-180, 180), [(0, 360)]),
    ((0, 360), (-10, 10), [(0, 10), (350, 360)]),
    ((-180, 180), (350, 370), [(170, 190)]),
    ((-180, 180), (200, 210), [(20, 30)]),
    ((-540, -500), (-170, -150), [(10, 30)]),
]


@pytest.mark.parametrize(("grid", "shape", "columns"), ROUND)
@pytest.mark.parametrize("crs", ["EPSG:4326", "OGC:CRS84", "EPSG:4258"])
def test_shapes_lie_on_every_turn_of_the_globe(grid, shape, columns, crs):
    west, east = grid
    wide = sp.Grid.from_corner((10, east - west), x=west, y=5, pixel_size=1, crs=crs)
    raster = sp.from_array(np.ones((1, 10, east - west), np.uint8), grid=wide)
    (x0, x1) = shape
    ring = polygon([(x0, -5), (x1, -5), (x1, 5), (x0, 5)])
    cut = raster.clip(ring, extent="full", crs="EPSG:4326").pixels().mask[0, 5]
    expected = np.zeros(east - west, bool)
    for first, last in columns:
        expected[first:last] = True
    np.testing.assert_array_equal(~cut, expected)


def test_a_projected_shape_over_the_antimeridian_stays_one(tmp_path):
    grid = sp.Grid.from_corner((40, 800), x=150, y=2, pixel_size=0.1, crs="EPSG:4326")
    raster = sp.from_array(np.ones((1, 40, 800), np.uint8), grid=grid)
    box = shapely.box(-100000, -100000, 400000, 100000)  # metres about 180 degrees
    about = "+proj=eqc +lon_0=180 +datum=WGS84"
    cut = ~raster.clip(box, crs=about, extent="full").pixels().mask[0]
    rows, columns = np.nonzero(cut)
    assert (columns.min(), columns.max()) == (291, 335)
    assert cut[rows.min() : rows.max() + 1, 291:336].all()


def test_the_command_line_says_layers_and_systems(tmp_path, run, raster, utm):
    raster.save(tmp_path / "a.tif")
    write_geopackage(tmp_path / "s.gpkg", [("no", 32727, []), ("beds", 32727, [
        (blob(shapely.Polygon(SQUARE)), "x")])])  # fmt: skip
    (tmp_path / "s.geojson").write_text(json.dumps(polygon(SQUARE)))
    file, out, picture = (str(tmp_path / name) for name in ("a.tif", "o.tif", "o.png"))
    package, plain = str(tmp_path / "s.gpkg"), str(tmp_path / "s.geojson")
    (tmp_path / "l.layers.toml").write_text(
        '[[layer]]\nfile = "a.tif"\n[[layer]]\noutline = "s.geojson"\ncrs = 32727\n'
        '[[layer]]\noutline = "s.gpkg"\nlayer = "beds"\n'
    )
    for command, wanted in (
        (["clip", file, "-o", out, "--shape", package, "--layer", "beds"], None),
        (["clip", file, "-o", out, "--shape", package], "say which: --layer NAME"),
        (["clip", file, "-o", out, "--shape", plain, "--shape-crs", UTM], None),
        (["clip", file, "-o", out, "--shape", plain], "--shape-crs EPSG:CODE"),
        (["overlay", file, "-o", picture, "--outline", plain, "--outline-crs", UTM], None),
        (["overlay", file, "-o", picture, "--outline", plain], "--outline-crs EPSG:CODE"),
        (["overlay", file, "-o", picture, "--outline", package, "--layer", "beds"], None),
        (["overlay", "--layers", str(tmp_path / "l.layers.toml"), "-o", picture], None),
        (["probe", file, "--points", package, "--layer", "beds", "--json"], None),
        (["probe", file, "--points", plain], "--points-crs EPSG:CODE"),
    ):
        more = [] if command[0] == "probe" else ["--overwrite"]
        code, _, told = run(*command, *more)
        assert (code != 0) == bool(wanted), (command, told)
        assert (wanted or "") in told
        if command[0] == "clip" and not wanted:
            assert sp.open(out).pixels().shape == (2, 10, 20)
