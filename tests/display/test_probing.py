"""What stands under a point agrees with the numbers and with the picture; spectra by place."""

from __future__ import annotations

import json

import numpy as np
import pytest

import spectrane as sp
from spectrane.analysis.spectra import Spectra
from spectrane.model.errors import GridMismatch, LookError, MetadataError


@pytest.fixture
def scene(rng, utm):
    bands = [sp.Band("blue", wavelength=490.0, unit="1", scale=1e-4),
             sp.Band("red", wavelength=665.0, unit="1", scale=1e-4),
             sp.Band("nir", wavelength=842.0, unit="1", scale=1e-4)]  # fmt: skip
    array = rng.integers(1, 9000, (3, 70, 90)).astype("u2")
    array[:, :5, :5] = 0
    return sp.from_array(array, grid=utm, bands=bands, nodata=0), array


LOOKS = [
    sp.Look(channels=("nir", "red", "blue"), limits="percentile:2,98"),
    sp.Look(channels=("red",), limits=(0.1, 0.7), curve="gamma:2", invert=True),
    sp.Look(channels=("red",), limits=(0, 1), colormap="kiln"),
    sp.Look(channels=("red",), limits=(0, 1), sharpen=(1.0, 0.5)),
]


@pytest.mark.filterwarnings("ignore:.*cut off")
@pytest.mark.parametrize("look", LOOKS)
def test_it_agrees_with_the_numbers_and_the_picture(scene, look):
    raster, array = scene
    picture = sp.render(raster, look)
    for row, column in ((10, 20), (69, 89), (40, 3)):
        table = sp.probe((raster, look), row=row, column=column).set_index("band")
        assert table["stored"].tolist() == array[:, row, column].tolist()
        np.testing.assert_allclose(table["physical"], array[:, row, column] * 1e-4)
        assert (table["unit"] == "1").all()
        drawn = "#" + bytes(picture.rgba[row, column, :3].tolist()).hex()
        shown = [scale.band for scale in picture.scales]
        assert set(table.loc[shown, "color"]) == {drawn}
        assert table["shown"].sum() == len(shown)
        if look.colormap is None and look.sharpen is None:
            levels = picture.rgba[row, column, : len(shown)].tolist()
            assert table.loc[shown, "level"].tolist() == levels


def test_by_map_position_in_any_system_and_invalid(scene):
    raster, array = scene
    x, y = raster.grid.center(row=30, column=40)
    assert sp.probe(raster, x=x, y=y)["stored"].tolist() == array[:, 30, 40].tolist()
    import pyproj

    lon, lat = pyproj.Transformer.from_crs("EPSG:32727", "EPSG:4326", always_xy=True).transform(
        x, y
    )
    assert sp.probe(raster, x=lon, y=lat, crs="EPSG:4326")["row"].tolist() == [30] * 3
    table = sp.probe(raster, row=2, column=2)
    assert table["physical"].isna().all()
    assert not table["shown"].any()
    with pytest.raises(GridMismatch, match="point 1: row -1"):
        sp.probe(raster, row=-1, column=0)
    with pytest.raises(LookError, match="expected x and y, or row and column"):
        sp.probe(raster, row=3)


def points_file(folder, kind, raster):
    x, y = raster.grid.center(row=30, column=40)
    if kind == "csv":
        (folder / "p.csv").write_text(f"name,x,y\nmiddle,{x},{y}\n")
        return folder / "p.csv"
    if kind == "rows":
        (folder / "p.csv").write_text("name,row,column\nmiddle,30,40\n")
        return folder / "p.csv"
    import pyproj

    turn = pyproj.Transformer.from_crs("EPSG:32727", "EPSG:4326", always_xy=True)
    lon, lat = turn.transform(x, y)
    feature = {"type": "Feature", "properties": {"name": "middle"},
               "geometry": {"type": "Point", "coordinates": [lon, lat]}}  # fmt: skip
    (folder / "p.geojson").write_text(
        json.dumps({"type": "FeatureCollection", "features": [feature]})
    )
    return folder / "p.geojson"


@pytest.mark.parametrize("kind", ["csv", "rows", "geojson"])
def test_points_from_files(tmp_path, scene, kind):
    raster, array = scene
    path = points_file(tmp_path, kind, raster)
    table = sp.probe(raster, points=path)
    assert table["point"].tolist() == ["middle"] * 3
    assert table["stored"].tolist() == array[:, 30, 40].tolist()
    profile = sp.profile(raster, path)
    np.testing.assert_allclose(profile["mean"], array[:, 30, 40] * 1e-4)
    assert profile["wavelength"].tolist() == [490.0, 665.0, 842.0]


def test_layers_are_linked_by_map_position(scene, rng):
    raster, _ = scene
    coarse = rng.integers(0, 9, (14, 18)).astype("u1")
    x, y = raster.grid.bounds[0], raster.grid.bounds[3]
    grid = sp.Grid.from_corner((14, 18), x=x, y=y, pixel_size=50, crs="EPSG:32727")
    table = sp.probe([raster, sp.from_array(coarse, grid=grid)], row=33, column=47)
    assert table["stored"].tolist()[-1] == coarse[6, 9]
    assert table["layer"].nunique() == 2


def test_zones_of_polygons(scene):
    raster, array = scene
    x, y = raster.grid.bounds[0], raster.grid.bounds[3]
    ring = [(x, y), (x + 100, y), (x + 100, y - 100), (x, y - 100)]

    class Shape:
        __geo_interface__ = {"type": "Polygon", "coordinates": [ring]}

    table = sp.profile(raster, Shape()).set_index("band")
    inside = array[1, :10, :10]
    assert table.loc["red", "count"] == (inside > 0).sum() == 75
    assert table.loc["red", "invalid"] == pytest.approx(0.25)
    assert table.loc["red", "mean"] == pytest.approx(inside[inside > 0].mean() * 1e-4)
    assert table.loc["red", "std"] == pytest.approx(inside[inside > 0].std() * 1e-4)
    statistics = raster.statistics("red", region=Shape())
    assert statistics["valid"].tolist() == [75]
    assert raster.histogram("red", region=Shape()).counts[0].sum() == 75


def test_named_spectra_are_kept_and_ranked(tmp_path):
    known = Spectra([490.0, 842.0], unit="1")
    known.add("water", [0.05, 0.01])
    known.add("grass", [0.03, 0.4])
    known.save(tmp_path / "s.toml")
    back = Spectra.load(tmp_path / "s.toml")
    assert back == known
    ranked = back.ranked([0.10, 0.02])
    assert ranked[0] == ("water", pytest.approx(0.0, abs=1e-7))
    assert ranked[1][1] == pytest.approx(np.arctan2(0.4, 0.03) - np.arctan2(0.01, 0.05))
    assert back.ranked([np.nan, 0.3])[0][1] == pytest.approx(0.0, abs=1e-7)
    with pytest.raises(MetadataError, match="3 values for 2 wavelengths"):
        known.add("x", [1, 2, 3])
    with pytest.raises(LookError, match="did you mean 'grass'"):
        known["gras"]
    (tmp_path / "bad.toml").write_text("wavelengths = 'x'")
    with pytest.raises(MetadataError, match="not a file of spectra"):
        Spectra.load(tmp_path / "bad.toml")


def test_look_files_come_back(tmp_path):
    look = sp.Look(channels="infrared", limits=["minmax", (0, 1), "window:lung"], curve="log:2",
                   sharpen=(1.5, 0.5), saturation=1.2, nodata_color="#102030")  # fmt: skip
    look.save(tmp_path / "a.look.toml")
    assert sp.Look.load(tmp_path / "a.look.toml") == look
    with pytest.raises(sp.ExistingFile):
        look.save(tmp_path / "a.look.toml")
    own = sp.Look(colormap=sp.Colormap.from_points([(0, "#000000"), (1, "#ffffff")]), channels=1)
    own.save(tmp_path / "b.look.toml")
    raster = sp.from_array(np.uint8([[0, 255]]))
    drawn = sp.render(raster, sp.Look.load(tmp_path / "b.look.toml")).rgba
    np.testing.assert_array_equal(drawn, sp.render(raster, own).rgba)
    for text, match in (("limit = 3", "did you mean 'limits'"), ("x = [", "not TOML"),
                        ("limits = 'strong'", "expected one of")):  # fmt: skip
        (tmp_path / "c.look.toml").write_text(text)
        with pytest.raises(LookError, match=match):
            sp.Look.load(tmp_path / "c.look.toml")
    with pytest.raises(sp.MissingFile):
        sp.Look.load(tmp_path / "none.look.toml")


def test_limits_are_found_once_and_rasters_stay_picklable(rng, monkeypatch):
    import pickle

    from spectrane.display import limits

    raster = sp.from_array(rng.integers(0, 60000, (50, 60)).astype("u2"))
    for look in (sp.Look(limits="percentile:2,98"), sp.Look(limits="minmax", curve="equalise")):
        first = sp.render(raster, look)
        monkeypatch.setattr(limits, "count_small", None)  # nothing is counted again
        np.testing.assert_array_equal(sp.render(raster, look).rgba, first.rgba)
        monkeypatch.undo()
    assert pickle.loads(pickle.dumps(raster)).shape == raster.shape


def test_a_stored_order_taken_for_the_display_order_is_hinted_at(utm, rng):
    bands = [sp.Band(name, role=name) for name in ("blue", "green", "red")]
    raster = sp.from_array(rng.integers(0, 255, (3, 70, 90)).astype("u1"), grid=utm, bands=bands)
    with pytest.warns(sp.DataWarning, match="natural colours are 3,2,1"):
        sp.render(raster, sp.Look(channels=(1, 2, 3)))


TRAPS = [
    (np.full((9, 9), 65535, "u2"), sp.Look(limits=(0, 65535)), "saturated"),
    (
        np.arange(100, dtype="u2").reshape(10, 10),
        sp.Look(limits=(140, 160)),
        "no more than 2 tones",
    ),
    (np.full((9, 9), np.nan, "f4"), sp.Look(limits=(0, 1)), "no valid pixel"),
]


@pytest.mark.parametrize(("array", "look", "match"), TRAPS)
def test_traps_are_warned_of(array, look, match):
    with pytest.warns(sp.DataWarning, match=match):
        sp.render(sp.from_array(array), look)


def test_two_bands_and_their_channels():
    raster = sp.from_array(np.arange(8, dtype="u1").reshape(2, 2, 2))
    assert [s.band for s in sp.render(raster, sp.Look(limits="minmax")).scales] == ["band 1"]
    look = sp.Look(channels=(2, 1, 1), limits="minmax")
    assert [s.band for s in sp.render(raster, look).scales] == ["band 2", "band 1", "band 1"]
    with pytest.raises(LookError, match="expected 1 band"):
        sp.Look(channels=(1, 2))
