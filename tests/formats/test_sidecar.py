"""The sidecar: what it says wins, and what is wrong in it is named."""

from __future__ import annotations

import numpy as np
import pytest
from tests.conftest import natural

import spectrane as sp
from spectrane.formats import sidecar
from spectrane.formats.keeping import to_toml
from spectrane.model.errors import MetadataError


@pytest.fixture
def scene(tmp_path, rng, utm):
    bands = [sp.Band("B1", wavelength=490.0, scale=0.1), sp.Band("B2", wavelength=842.0)]
    raster = sp.from_array(natural(rng, (2, 70, 90), "u2"), grid=utm, bands=bands, nodata=7)
    raster.save(tmp_path / "a.tif")
    return tmp_path / "a.tif"


def beside(scene, text):
    scene.with_name("a.tif.spectrane.toml").write_text(text)
    return sp.open(scene)


def test_it_wins_over_the_file_and_leaves_the_rest(scene):
    raster = beside(
        scene,
        """
        version = 1
        notes = "the scale was wrong"
        [nodata]
        value = [0, [9000, 9010]]
        when = "all"
        [[bands]]
        number = 1
        name = "blau"
        scale = 0.5
        [[bands]]
        number = 2
        nodata = -1
        [look]
        channels = [2]
        limits = "fixed:0,10"
    """,
    )
    first, second = raster.bands
    assert (first.name, first.scale, first.wavelength, first.role) == ("blau", 0.5, 490.0, "blue")
    assert first.nodata == (0, (9000, 9010))
    assert second.nodata == -1
    assert raster.look == sp.Look(channels=2, limits=(0, 10))
    assert raster.metadata["notes"] == "the scale was wrong"
    assert raster.grid.crs_text == "EPSG:32727"
    assert "the scale was wrong" in str(raster.describe())


PLACES = {
    "bounds": ("bounds = [0, 0, 180, 140]", ((2, 0, 0), (0, -2, 140))),
    "corner": ("corner = [5, 9]\npixel_size = [2, 3]", ((2, 0, 5), (0, -3, 9))),
    "affine": ("affine = [[0, 1, 2], [3, 0, 4]]", ((0, 1, 2), (3, 0, 4))),
}


@pytest.mark.parametrize("name", PLACES)
def test_a_place_in_each_way(scene, name):
    text, affine = PLACES[name]
    grid = beside(scene, f"[grid]\ncrs = 'EPSG:3035'\n{text}").grid
    assert grid.affine[:2] == affine
    assert (grid.crs_text, grid.placed, grid.shape) == ("EPSG:3035", True, (70, 90))


WRONG = [
    ("nodata = 3\n", "nodata: .*found 3"),
    ("[nodata]\nvalu = 3\n", r"no key 'nodata\.valu'; did you mean 'value'"),
    ("[[bands]]\nnumber = 1\nwavelenght = 5\n", "wavelenght'; did you mean 'wavelength'"),
    ("[[bands]]\nname = 'x'\n", r"bands\.1\.number: field required"),
    ("[[bands]]\nnumber = 3\n", "speaks of band 3; the file has 2"),
    ("[[bands]]\nnumber = 0\n", "greater than or equal to 1"),
    ("version = 2\n", "version: input should be 1"),
    ("[look]\nlimit = 'minmax'\n", "no field 'limit'; did you mean 'limits'"),
    ("[look]\nlimits = 'strong'\n", "expected one of auto"),
    ("[raw]\nrows = 1\ncolumns = 1\ntype = 'uint9'\n", "no type 'uint9'; did you mean 'uint8'"),
    ("[grid]\ncorner = [1, 2]\n", "corner and pixel_size go together"),
    ("[grid]\nbounds = [1, 2, 3, 4]\naffine = [[1, 0, 0], [0, 1, 0]]\n", "give bounds, or corner"),
    ("[grid]\nbounds = [3, 2, 1, 4]\n", "x min, y min, x max, y max"),
    ("this is not toml", "not TOML"),
    ("[nodata]\nvalue = [[9, 1]]\n", "low <= high"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "match"), WRONG)
def test_what_is_wrong_is_named(scene, text, match):
    with pytest.raises(MetadataError, match=match):
        beside(scene, text)


def test_one_that_is_no_text_or_too_long(scene):
    path = scene.with_name("a.tif.spectrane.toml")
    path.write_bytes(b"\xff\xfe\0")
    with pytest.raises(MetadataError, match="not UTF-8"):
        sp.open(scene)
    path.write_bytes(b"#" * (5 << 20))
    with pytest.raises(MetadataError, match="larger than a sidecar"):
        sp.open(scene)


def test_comments_and_order_are_kept():
    before = "# mine\nnotes = 'old' # why\n\n[nodata]\nvalue = 1 # sea\n"
    after = to_toml({"nodata": {"value": 2}, "look": {"invert": True}}, before)
    assert after.startswith("# mine\nnotes = 'old' # why")
    assert "value = 2 # sea" in after
    assert "[look]\ninvert = true" in after
    assert "invert" not in to_toml({"look": {"invert": None}}, after)


def test_it_is_found_beside_files_elsewhere(scene):
    import fsspec

    for name in ("a.tif", "a.tif.spectrane.toml"):
        with fsspec.open(f"memory://side/{name}", "wb") as file:
            file.write(scene.read_bytes() if name == "a.tif" else b"[nodata]\nvalue = 3\n")
    assert sp.open("memory://side/a.tif").bands[0].nodata == 3
    assert sidecar.text_of("memory://side/none.tif") is None


def test_overviews_of_another_rule_are_not_used(tmp_path, rng):
    array = natural(rng, (1, 700, 700), "u2")
    array[:, :40] = 0
    sp.from_array(array).save(tmp_path / "a.tif")
    assert sp.open(tmp_path / "a.tif").overviews
    raster = beside(tmp_path / "a.tif", "[nodata]\nvalue = 0\n")
    assert raster.overviews == ()
    shrunk = raster.pixels(size=(70, 70), resample="area")
    assert shrunk.mask[0, :4].all()
    assert not shrunk.mask[0, 4:].any()


@pytest.mark.parametrize(
    "look",
    [
        sp.Look(channels=("nir", 2, "B1"), limits=["minmax", (0, 1), "auto"], invert=True),
        sp.Look(classes={1: ("#102030", "one"), 2.5: ("#405060", "")}, nodata_color="#000000"),
        sp.Look(),
    ],
)
def test_looks_come_back(look):
    import tomllib

    kept = tomllib.loads(to_toml({"look": look.to_dict()}, "version = 1"))
    assert sp.Look.from_dict(kept["look"]) == look


def test_nothing_beside_nothing_changed(scene):
    raster = sp.open(scene)
    assert raster.bands[0].nodata == 7
    assert np.ma.count_masked(raster.pixels()) == (raster.pixels().data == 7).sum()
