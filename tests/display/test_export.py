"""Handing on data: every format, told costs, provenance, and nothing half-written."""

from __future__ import annotations

import os

import numpy as np
import pytest
from tests.conftest import natural

import spectrane as sp
from spectrane.model.errors import AccessError, DataWarning, FormatError

ENDINGS = [".tif", ".fits", ".npy", ".nc", ".zarr", ".raw"]


@pytest.fixture
def scene(tmp_path, rng, utm):
    bands = [sp.Band("blue", role="blue", unit="1", scale=1e-4, nodata=0),
             sp.Band("green", role="green", unit="1", scale=1e-4, nodata=0),
             sp.Band("red", role="red", unit="1", scale=1e-4, nodata=0)]  # fmt: skip
    array = natural(rng, (3, 70, 90), "u2")
    array[:, :5] = 0
    sp.from_array(array, grid=utm, bands=bands).save(tmp_path / "scene.tif")
    return sp.open(tmp_path / "scene.tif"), array


@pytest.mark.filterwarnings("ignore::spectrane.DataWarning")
@pytest.mark.parametrize("ending", ENDINGS)
def test_bands_in_another_order_and_a_part(tmp_path, scene, ending):
    raster, array = scene
    part = raster.select(["red", "blue"]).crop(rows=(2, 40), columns=(10, 60))
    part.save(tmp_path / f"a{ending}")
    back = sp.open(tmp_path / f"a{ending}")
    wanted = array[[2, 0], 2:40, 10:60]
    got = back.pixels()
    if ending == ".fits":
        got = got[:, ::-1]  # written upright: the lowest row first
    np.testing.assert_array_equal(got.data, wanted)
    np.testing.assert_array_equal(got.mask, wanted == 0)
    assert [band.name for band in back.bands] == ["red", "blue"]
    assert back.bands[0].scale == 1e-4
    assert back.grid.bounds == part.grid.bounds
    assert back.grid.crs_text == "EPSG:32727"


def test_it_says_where_it_comes_from(tmp_path, scene):
    raster, _ = scene
    raster.select("red").save(tmp_path / "a.tif", dtype="uint8", rescale="full")
    said = sp.open(tmp_path / "a.tif").metadata["ImageDescription"]
    assert said.startswith("Rescaled for display, not data: do not measure on it.")
    assert "from scene.tif; bands red; uint16 to uint8; rescaled for display, not data" in said
    assert str(tmp_path) not in said


def test_what_is_out_of_range_is_counted_and_told(tmp_path, scene):
    raster, array = scene
    outside = int((array > 255).sum())
    with pytest.warns(DataWarning, match=f"of the valid numbers, {outside} clamped"):
        raster.save(tmp_path / "a.tif", dtype="uint8", overviews=False)
    assert sp.open(tmp_path / "a.tif").pixels().max() == 255


def test_never_in_place(tmp_path, scene):
    raster, array = scene
    with pytest.raises(AccessError, match="is the file being read"):
        raster.save(tmp_path / "scene.tif", overwrite=True)
    os.symlink(tmp_path / "scene.tif", tmp_path / "other.tif")
    with pytest.raises(AccessError, match="is the file being read"):
        raster.save(tmp_path / "other.tif", overwrite=True)
    np.testing.assert_array_equal(raster.pixels().data, array)


@pytest.mark.parametrize("ending", [*ENDINGS, ".png", ".jpg"])
@pytest.mark.filterwarnings("ignore::spectrane.DataWarning")
def test_nothing_is_overwritten_or_left_half_written(tmp_path, scene, ending, monkeypatch):
    raster = scene[0].select(1)
    options = {"dtype": "uint8", "rescale": "full"}
    target = tmp_path / f"a{ending}"
    raster.save(target, **options)
    with pytest.raises(sp.ExistingFile, match="exists already"):
        raster.save(target, **options)
    raster.save(target, overwrite=True, **options)
    before = sorted(p.name for p in tmp_path.iterdir())

    def stop(done, total):
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        raster.save(tmp_path / f"b{ending}", progress=stop, **options)
    after = sorted(p.name for p in tmp_path.iterdir() if not p.name.startswith("b."))
    assert after == before
    with pytest.raises(AccessError, match="there is no folder"):
        raster.save(tmp_path / "no" / f"a{ending}", **options)


@pytest.mark.parametrize(
    ("name", "options", "match"),
    [
        ("a.xyz", {}, "cannot write .xyz"),
        ("a", {}, "without an ending"),
        ("a.tif", {"quality": 3}, "quality means nothing for this format; its options are"),
        ("a.npy", {"compress": "zstd"}, "compress means nothing"),
        ("a.tif", {"compress": "best"}, "compress 'best': expected one of"),
    ],
)
def test_what_is_wrong_is_named(tmp_path, scene, name, options, match):
    with pytest.raises(FormatError, match=match):
        scene[0].save(tmp_path / name, **options)


def test_a_display_range_kept_with_the_file_is_used(tmp_path, scene):
    sp.amend(tmp_path / "scene.tif", look=sp.Look(channels=(3,), limits=(0, 5)))
    kept = sp.open(tmp_path / "scene.tif")
    picture = sp.render(kept)
    assert [(s.band, s.low, s.high) for s in picture.scales] == [("red", 0, 5)]
    # A look that leaves the limits to be found finds those of the file.
    assert sp.render(kept, sp.Look(channels=(1,))).scales[0].high == 5
    assert sp.render(kept, sp.Look(limits="minmax", channels=1)).scales[0].high != 5


def test_channels_kept_with_the_file_are_the_default(scene):
    raster, _ = scene
    kept = raster.with_look(
        sp.Look(channels=("blue", "red", "green"), limits=[(0, 4), (0, 5), (0, 6)])
    )
    drawn = sp.render(kept, sp.Look(curve="sqrt"))
    assert [s.band for s in drawn.scales] == ["blue", "red", "green"]
    assert [s.high for s in drawn.scales] == [4, 5, 6]
    alone = sp.render(kept, sp.Look(channels="red"))  # three ranges are not one band's
    assert alone.scales[0].limits == "percentile:1,99"


def test_one_that_misses_the_data_is_passed_over(scene):
    raster, _ = scene
    odd = raster.with_look(sp.Look(channels=(1,), limits=(900, 901)))
    with pytest.warns(DataWarning, match="misses the data altogether"):
        picture = sp.render(odd)
    assert picture.scales[0].limits == "percentile:1,99"
