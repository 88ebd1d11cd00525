"""One place, whichever turn of the globe a grid, a view or a neighbour has it on."""

from __future__ import annotations

import json

import numpy as np
import pytest
from defusedxml.ElementTree import fromstring
from PIL import Image

import spectrane as sp
from spectrane.pages import read_kml, tiles, write_kml

GREY = sp.Look(limits=(0, 255))


def globe(west, east, crs="EPSG:4326", south=-10, north=10):
    """A raster of 1 degree whose number says which meridian and parallel it is."""
    grid = sp.Grid.from_corner((north - south, east - west), x=west, y=north, pixel_size=1, crs=crs)
    lon, lat = np.meshgrid(np.arange(west, east) % 360, np.arange(north, south, -1))
    return sp.from_array((lon * 100 + lat + 50)[None].astype(np.uint16), grid=grid)


def number(lon, lat):
    """The number at a longitude and latitude."""
    return int(np.floor(lon) % 360) * 100 + int(np.ceil(lat)) + 50


GRIDS = [(-180, 180), (0, 360), (150, 230), (-210, -130), (-540, -180)]


@pytest.mark.parametrize("grid", GRIDS)
@pytest.mark.parametrize("crs", ["EPSG:4326", "OGC:CRS84"])
def test_a_point_a_crop_and_a_region_find_their_place(grid, crs):
    raster = globe(*grid, crs)
    for lon in (-175.5, 184.5, 179.5, -180.0, 160.25, 520.25):
        found = sp.probe(raster, x=lon, y=3.5)["stored"].iloc[0]
        assert found == number(lon, 3.5)
        assert sp.probe(raster, x=lon, y=3.5, crs=4326)["stored"].iloc[0] == found
        points = {"type": "Point", "coordinates": [lon, 3.5]}
        assert sp.probe(raster, points=points)["stored"].iloc[0] == found
        assert sp.profile(raster, points)["mean"].iloc[0] == found
    for west, east in ((165, 172), (-175, -170), (175, 185), (175, -175), (-185, -175)):
        bounds = (west, 0, east, 5)
        part = raster.crop(bounds=bounds)
        width = (east - west) % 360
        assert part.shape == (1, 5, width)
        wanted = [[number(west + c + 0.5, 4.5 - r) for c in range(width)] for r in range(5)]
        np.testing.assert_array_equal(part.pixels()[0], wanted)
        np.testing.assert_array_equal(raster.pixels(bounds=bounds)[0], wanted)
        assert raster.statistics(region=bounds)["mean"].iloc[0] == pytest.approx(np.mean(wanted))
        drawn = sp.render(raster, sp.Look(limits=(0, 36000)), view=sp.View(bounds=bounds))
        assert drawn.rgba.shape[:2] == (5, width)
        assert (drawn.grid.bounds[0] - west) % 360 == 0
        assert sp.probe(part, x=west + 0.5, y=4.5)["stored"].iloc[0] == wanted[0][0]


@pytest.mark.parametrize("grid", GRIDS)
@pytest.mark.parametrize("other", GRIDS)
@pytest.mark.parametrize("kernel", ["nearest", "cubic"])
def test_regridding_wraps(grid, other, kernel):
    raster, onto = globe(*grid), globe(*other)
    found = raster.regrid(onto.grid, resample=kernel).pixels()[0]
    wanted = onto.pixels()[0].astype(int)
    lon = (np.arange(*other) + 0.5 - grid[0]) % 360
    inside = np.broadcast_to(lon < grid[1] - grid[0], wanted.shape)
    np.testing.assert_array_equal(~np.ma.getmaskarray(found), inside)
    assert inside.any()
    np.testing.assert_array_equal(found.data[inside], wanted[inside])


@pytest.mark.parametrize(
    ("spans", "west", "east"),
    [
        ([(150, 230), (-170, -155)], 150, 230),
        ([(150, 180), (-180, -160)], 150, 200),
        ([(-180, -160), (150, 180)], -210, -160),
        ([(-180, -90), (90, 180)], -270, -90),
        ([(-180, 0), (0, 180)], -180, 180),
        ([(0, 360), (-20, -10)], 0, 360),
        ([(-180, -90), (-90, 0), (0, 90), (90, 180)], -180, 180),
        ([(10, 20), (380, 390)], 10, 30),
    ],
)
def test_a_mosaic_is_as_narrow_as_it_can_be(spans, west, east):
    made = sp.mosaic([globe(*span) for span in spans])
    assert (made.grid.bounds[0], made.grid.bounds[2]) == (west, east)
    values = made.pixels()[0]
    for span in spans:
        for lon in (span[0] + 0.5, span[1] - 0.5):
            assert values[5, int(np.floor((lon - west) % 360))] == number(lon, 4.5)


def test_layers_and_panels_meet_round_the_globe():
    below, top = globe(150, 230), globe(-180, -160)
    look = sp.Look(limits=(0, 36000))
    stack = sp.stack([sp.Layer(below, look), sp.Layer(top, look)])
    drawn = [layer.rgba for layer in stack.layers]
    np.testing.assert_array_equal(drawn[0][:, 30:50], drawn[1][:, 30:50])
    assert not drawn[1][:, :30, 3].any()
    rows = sp.probe([below, top], x=-170.5, y=2.5)
    assert rows["stored"].tolist() == [number(-170.5, 2.5)] * 2
    over = sp.overlay([sp.Layer(globe(0, 360), look)], view=sp.View(bounds=(-30, -5, 30, 5)))
    assert over.rgba.shape[:2] == (10, 60)
    assert over.rgba[..., 3].all()


@pytest.mark.parametrize("scheme", ["mercator", "geographic"])
@pytest.mark.parametrize("crs", ["EPSG:4326", "OGC:CRS84"])
def test_tiles_lie_on_both_sides_of_the_antimeridian(tmp_path, scheme, crs):
    grid = sp.Grid.from_corner((40, 80), x=150, y=20, pixel_size=1, crs=crs)
    raster = sp.from_array(np.full((1, 40, 80), 200, np.uint8), grid=grid)
    done = tiles([sp.Layer(raster, GREY)], tmp_path / "t", scheme=scheme, zooms=(3, 3))
    across = 8 * (2 if scheme == "geographic" else 1)
    columns = {int(path.parent.name) for path in (tmp_path / "t/3").glob("*/*.png")}
    first, last = int((150 + 180) / 360 * across), int((230 - 180) / 360 * across)
    assert columns == {*range(first, across), *range(last + 1)}
    with Image.open(next((tmp_path / f"t/3/{across - 1}").glob("*.png"))) as tile:
        assert np.asarray(tile.convert("RGBA"))[..., 3].any()
    assert done.bounds == (150, -20, 230, 20)
    about = json.loads((tmp_path / "t/tiles.json").read_text())
    assert about["bounds"] == [-180, -20, 180, 20]  # TileJSON: must not wrap
    assert about["center"][0] == -170
    wmts = fromstring((tmp_path / "t/wmts.xml").read_bytes())
    boxes = [[corner.text for corner in one] for one in wmts.iter()
             if one.tag.endswith("WGS84BoundingBox")]  # fmt: skip
    assert boxes == [["150.0 -20.0", "180.0 20.0"], ["-180.0 -20.0", "-130.0 20.0"]]


@pytest.mark.parametrize(("west", "box"), [(150, (150, -130)), (190, (-170, -90)), (0, (0, 80))])
def test_kml_keeps_to_its_degrees(tmp_path, west, box):
    grid = sp.Grid.from_corner((40, 80), x=west, y=20, pixel_size=1, crs="EPSG:4326")
    raster = sp.from_array(np.full((1, 40, 80), 200, np.uint8), grid=grid)
    write_kml([sp.Layer(raster, GREY)], tmp_path / "a.kml")
    written = fromstring((tmp_path / "a.kml").read_bytes()).iter()
    sides = {one.tag.split("}")[1]: one.text for one in written}
    assert (float(sides["west"]), float(sides["east"])) == box
    back = read_kml(tmp_path / "a.kml")[0].source.grid.bounds
    assert (back[2] - back[0], (back[0] - west) % 360) == (80, 0)
    if west == 150:
        with pytest.raises(sp.GridMismatch, match="across the antimeridian"):
            write_kml([sp.Layer(raster, GREY)], tmp_path / "b.kml", quad=True)


def test_bounds_that_meet_a_raster_at_both_ends_are_told():
    grid = sp.Grid.from_corner((2, 340), x=-170, y=2, pixel_size=1, crs="EPSG:4326")
    raster = sp.from_array(np.arange(680.0).reshape(2, 340), grid=grid)
    with pytest.warns(sp.DataWarning, match="at both its ends"):
        part = raster.pixels(bounds=(150, 0, 210, 2))  # 150 to 170, and -170 to -150
    assert part.shape == (1, 2, 20)
