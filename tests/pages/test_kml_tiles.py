"""KML and map tiles: where they lie by their own formulas, written and read back."""

from __future__ import annotations

import json
import math
import os
import zipfile

import numpy as np
import pytest
from defusedxml.ElementTree import fromstring
from PIL import Image

import spectrane as sp
from spectrane.engine.memory import ArraySource
from spectrane.pages import read_kml, tiles, write_kml
from spectrane.pages.tile_matrices import SCHEMES
from spectrane.pages.tiles import TileDrawer

GREY = sp.Look(limits=(0, 255))


@pytest.fixture
def picture(rng, utm):
    values = np.kron(rng.integers(1, 255, (1, 14, 18)), np.ones((5, 5), int)).astype("u1")
    return sp.Raster(ArraySource(values, grid=utm, bands=[sp.Band("grey", nodata=0)]))


@pytest.mark.parametrize("quad", [False, True])
@pytest.mark.parametrize("ending", ["kml", "kmz"])
def test_ground_overlays_are_read_back_where_they_lie(picture, tmp_path, quad, ending):
    path = tmp_path / f"a & b.{ending}"
    layers = [sp.Layer(picture, GREY, name="low <1>"),
              sp.Layer(picture, GREY, opacity=0.4, visible=False, name="high")]  # fmt: skip
    write_kml(layers, path, quad=quad, size=(700, 900))
    found = read_kml(path)
    assert [(one.name, one.visible) for one in found] == [("low <1>", True), ("high", False)]
    assert found[1].opacity == pytest.approx(0.4, abs=0.002)
    back = sp.stack([sp.Layer(picture, GREY), found[0]], size=(140, 180)).layers
    inner = (slice(20, 120), slice(20, 160))
    off = np.abs(back[0].rgba.astype(int) - back[1].rgba)[inner]
    assert np.median(off) == 0
    assert (off > 40).mean() < 0.12  # the blocks' edges, half a pixel this way or that
    if ending == "kmz":
        assert zipfile.ZipFile(path).namelist()[0] == "doc.kml"
        root = fromstring(zipfile.ZipFile(path).read("doc.kml"))
        assert root.tag == "{http://www.opengis.net/kml/2.3}kml"


def kml(place, href="a.png", color="80ffffff"):
    return (f"<kml><GroundOverlay><color>{color}</color><Icon><href>{href}</href></Icon>{place}"
            "</GroundOverlay></kml>")  # fmt: skip


BOX = "<LatLonBox><north>1</north><south>0</south><east>2</east><west>0</west>{}</LatLonBox>"


@pytest.mark.filterwarnings("ignore:pixels come out stretched")
def test_boxes_are_turned_and_cross_the_antimeridian(picture, tmp_path):
    sp.from_array(picture.pixels()[0]).save(tmp_path / "a.png")
    path = tmp_path / "a.kml"
    path.write_text(kml(BOX.format("<rotation>90</rotation>")))
    (turned,) = read_kml(path)
    assert turned.opacity == pytest.approx(128 / 255)
    assert turned.source.grid.bounds == pytest.approx((0.5, -0.5, 1.5, 1.5))
    assert turned.source.grid.corners[0] == pytest.approx((0.5, -0.5))
    path.write_text(
        kml(BOX.format("").replace("<east>2", "<east>-179").replace("<west>0", "<west>179"))
    )
    assert read_kml(path)[0].source.grid.bounds == pytest.approx((179, 0, 181, 1))


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("<kml/>", "holds 0 ground overlays"),
        ("<kml", "not KML"),
        ('<!DOCTYPE a [<!ENTITY b "c">]><kml>&b;</kml>', "not KML"),
        (kml("", "a.png"), "without LatLonBox or LatLonQuad"),
        (kml(BOX.format(""), "../a.png"), "lies elsewhere"),
        (kml(BOX.format(""), "http://x/a.png"), "lies elsewhere"),
        (kml(BOX.format("").replace("<north>1", "<north>x")), "north is 'x'"),
        (kml(BOX.format("").replace("<north>1</north>", "")), "expected north, south"),
        (kml(BOX.format(""), color="zzffffff"), "expected aabbggrr"),
        (kml("<LatLonQuad><coordinates>0,0 1,1</coordinates></LatLonQuad>"), "expected 4 corners"),
        (kml("<LatLonQuad><coordinates>0,0 0,0 0,0 0,0</coordinates></LatLonQuad>"), "no sense"),
    ],
)
def test_broken_kml_is_refused(picture, tmp_path, text, message):
    sp.from_array(picture.pixels()[0]).save(tmp_path / "a.png")
    (tmp_path / "b.kml").write_text(text)
    with pytest.raises(sp.FormatError, match=message):
        read_kml(tmp_path / "b.kml")
    with zipfile.ZipFile(tmp_path / "b.kmz", "w") as archive:
        archive.writestr("doc.kml", text)
    with pytest.raises(sp.FormatError):
        read_kml(tmp_path / "b.kmz")
    (tmp_path / "c.kmz").write_bytes((tmp_path / "b.kmz").read_bytes()[:-9])
    with pytest.raises(sp.FormatError, match="broken archive"):
        read_kml(tmp_path / "c.kmz")


def test_what_has_no_place_makes_no_kml_or_tiles(picture, tmp_path):
    loose = sp.from_array(np.ones((5, 5), np.uint8))
    for call in (lambda: write_kml([sp.Layer(loose)], tmp_path / "a.kmz"),
                 lambda: tiles([sp.Layer(loose)], tmp_path / "t")):  # fmt: skip
        with pytest.raises(sp.GridMismatch, match="no place in a known coordinate system"):
            call()
    with pytest.raises(sp.FormatError, match=r"\.kml or \.kmz"):
        write_kml([sp.Layer(picture)], tmp_path / "a.xml")
    with pytest.raises(sp.LookError, match="expected mercator, geographic"):
        tiles([sp.Layer(picture)], tmp_path / "t", scheme="polar")
    with pytest.raises(sp.LookError, match="first <= last"):
        tiles([sp.Layer(picture)], tmp_path / "t", zooms=(5, 3))


def tile_pixel(scheme, zoom, longitude, latitude):
    """The tile, and the pixel in it, by the matrices' own formulas."""
    n = 256 * 2**zoom
    if scheme == "mercator":
        u = (longitude + 180) / 360 * n
        v = (1 - math.asinh(math.tan(math.radians(latitude))) / math.pi) / 2 * n
    else:
        u, v = (longitude + 180) / 360 * 2 * n, (90 - latitude) / 180 * n
    return int(u // 256), int(v // 256), int(v % 256), int(u % 256)


@pytest.mark.parametrize("scheme", SCHEMES)
def test_tiles_lie_where_the_matrices_say(picture, tmp_path, scheme):
    told = []
    layer = sp.Layer(picture, GREY)
    done = tiles([layer], tmp_path / "t", scheme=scheme, title="a & b",
                 progress=lambda at, total: told.append((at, total)))  # fmt: skip
    import pyproj

    turn = pyproj.Transformer.from_crs(picture.grid.crs, "EPSG:4326", always_xy=True)
    zoom = done.zooms[1]
    stored = picture.pixels()[0]
    for row, column in ((12, 12), (37, 52), (62, 82)):
        longitude, latitude = turn.transform(*picture.grid.center(row=row, column=column))
        x, y, r, c = tile_pixel(scheme, zoom, longitude, latitude)
        with Image.open(tmp_path / f"t/{zoom}/{x}/{y}.png") as tile:
            assert abs(tile.convert("RGBA").getpixel((c, r))[0] - int(stored[row, column])) <= 3
    names = [name for _, _, files in os.walk(tmp_path / "t") for name in files]
    assert sum(name.endswith(".png") for name in names) == done.count
    assert told[-1][0] == told[-1][1]
    about = json.loads((tmp_path / "t/tiles.json").read_text())
    assert (about["tilejson"], about["maxzoom"]) == ("3.0.0", zoom)
    wmts = fromstring((tmp_path / "t/wmts.xml").read_bytes())
    scales = [float(one.text) for one in wmts.iter() if one.tag.endswith("ScaleDenominator")]
    finest = {"mercator": 559082264.0287178, "geographic": 279541132.0143589}[scheme]
    assert scales[-1] == pytest.approx(finest / 2**zoom, rel=1e-7)
    with pytest.raises(sp.ExistingFile, match="holds other files"):
        tiles([layer], tmp_path / "t", scheme=scheme)
    again = tiles([layer], tmp_path / "t", scheme=scheme, overwrite=True)
    assert again.count == done.count


def test_tiles_with_nothing_in_them_are_told(picture, tmp_path):
    told = r"no tile of zoom 2 has anything in it: their pixels are larger .* zooms \d+ to \d+ fit"
    with pytest.warns(sp.DataWarning, match=told):
        assert tiles([picture], tmp_path / "t", zooms=(2, 2)).count == 0


def test_tiles_go_on_where_they_stopped(picture, tmp_path, monkeypatch):
    layer = sp.Layer(picture, GREY)
    drawn = []
    plain = TileDrawer.drawn

    def counted(self, tile):
        drawn.append(tile)
        return plain(self, tile)

    monkeypatch.setattr(TileDrawer, "drawn", counted)

    def interrupted(done, total):
        raise KeyboardInterrupt

    zooms = (12, 18)
    with pytest.raises(KeyboardInterrupt):
        tiles([layer], tmp_path / "t", zooms=zooms, progress=interrupted)
    first = list(drawn)
    assert len(first) == 16
    tiles([layer], tmp_path / "t", zooms=zooms)
    tiles([layer], tmp_path / "u", zooms=zooms)
    assert not set(first) & set(drawn[16 : len(drawn) // 2])

    def held(folder):
        return {path.relative_to(folder): path.read_bytes() for path in folder.rglob("*.*")}

    assert held(tmp_path / "t") == held(tmp_path / "u")
