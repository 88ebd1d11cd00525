"""Layers on one another: blending by formula, one grid, masks, relief, outlines, layer files."""

from __future__ import annotations

import json

import numpy as np
import pytest
from tests.conftest import values_of

import spectrane as sp
from spectrane.display.layer_file import read_layers
from spectrane.engine.memory import ArraySource
from spectrane.kernels import blending
from spectrane.kernels.oklab import to_oklab
from spectrane.spatial.relief import Relief, Sun


def over(layers):
    """The W3C's formulas in float64, straight alpha in and out."""
    color, cover = np.zeros((*layers[0][0].shape[:2], 3)), np.zeros(layers[0][0].shape[:2])
    for rgba, opacity, mode in layers:
        top, alpha = rgba[..., :3] / 255, rgba[..., 3] / 255 * opacity
        straight = color / np.where(cover > 0, cover, 1)[..., None]
        mixed = {"normal": top, "multiply": top * straight,
                 "screen": top + straight - top * straight}[mode]  # fmt: skip
        a, b = alpha[..., None], cover[..., None]
        color = top * a * (1 - b) + color * (1 - a) + a * b * mixed
        cover = alpha + cover * (1 - alpha)
    safe = np.where(cover > 0, cover, 1)[..., None]
    return np.dstack([color / safe, cover]) * 255


@pytest.mark.parametrize("modes", [["normal"] * 5, ["normal", "multiply", "screen", "normal"]])
def test_layers_are_blended_within_a_level(form, rng, modes):
    layers = [(rng.integers(0, 256, (50, 37, 4)).astype("u1"), float(o), mode)
              for mode, o in zip(modes, (1, 0.3, 0.85, 1, 0))]  # fmt: skip
    out = np.empty((50, 37, 4), "u1")
    blending.blended(layers, out, slice(0, 50), 1)
    wanted = over(layers)
    assert np.abs(out[..., 3] - wanted[..., 3]).max() <= 1
    seen = wanted[..., 3] > 8
    assert np.abs(out[..., :3] - wanted[..., :3])[seen].max() <= 1


def test_hue_takes_lightness_from_below(rng):
    below = rng.integers(60, 200, (20, 20, 4)).astype("u1")
    below[..., 3] = 255
    top = np.full((20, 20, 4), (200, 60, 40, 255), "u1")
    out = np.empty_like(below)
    blending.blended([(below, 1.0, "normal"), (top, 1.0, "hue")], out, slice(0, 20), 1)
    light = to_oklab(out[..., :3] / 255.0)[..., 0] - to_oklab(below[..., :3] / 255.0)[..., 0]
    assert np.abs(light).max() < 0.02
    hue = to_oklab(out[..., :3] / 255.0)
    assert (hue[..., 1] > 0).all()


@pytest.fixture
def rasters(rng, utm):
    below = sp.Raster(ArraySource(rng.integers(0, 256, (3, 70, 90)).astype("u1"), grid=utm))
    top = sp.from_array(rng.normal(5, 2, (30, 40)), grid=utm.cropped(((20, 50), (30, 70))))
    return below, top


def test_one_layer_is_what_render_draws(rasters):
    below, _ = rasters
    look = sp.Look(limits="percentile:5,95", curve="gamma:1.4")
    for where in ({}, {"size": (35, 45)}, {"view": sp.View(rows=(10, 40), columns=(5, 65))}):
        plain = sp.render(below, look, **where)
        laid = sp.render([sp.Layer(below, look)], **where)
        np.testing.assert_array_equal(laid.rgba, plain.rgba)
        assert laid.grid == plain.grid


def test_layers_lie_where_they_belong(rasters):
    below, top = rasters
    grey = sp.Look(limits=(0, 10))
    stack = sp.stack([sp.Layer(below, name="photo"), sp.Layer(top, grey, opacity=0.5, name="heat")])
    first, second = stack.layers
    assert (second.title, first.scales[0].band) == ("heat", "band 1")
    assert second.rgba[20:50, 30:70, 3].min() == 255
    assert second.rgba[..., 3].sum() == 30 * 40 * 255
    mixed = stack.picture().rgba[30, 40].astype(int)
    wanted = (first.rgba[30, 40].astype(int) + second.rgba[30, 40]) / 2
    assert np.abs(mixed - wanted).max() <= 1
    assert "Layer 2: heat, opacity 0.5, normal" in stack.picture().description
    moved = top.regrid(crs="EPSG:32728", resample="nearest")
    again = sp.stack([sp.Layer(below), sp.Layer(moved, grey)]).layers[1].rgba
    same = (again == second.rgba).all(axis=-1)
    assert same[25:45, 35:65].mean() > 0.4  # each of two looks up its nearest
    assert again[..., 3].sum() / 255 == pytest.approx(1200, rel=0.03)


def test_masks_thresholds_and_hidden_layers(rasters, utm):
    below, top = rasters
    mask = sp.mask(below, range=(0, 127), band=1)
    shown = sp.stack([sp.Layer(below), sp.Layer(top, threshold="band(1) > 5"),
                      sp.Layer(below, mask=mask)])  # fmt: skip
    values = top.pixels()[0]
    np.testing.assert_array_equal(shown.layers[1].rgba[20:50, 30:70, 3] > 0, values > 5)
    np.testing.assert_array_equal(shown.layers[2].rgba[..., 3] > 0, below.pixels()[0] <= 127)
    alone = sp.render([sp.Layer(below, base=True), sp.Layer(top, visible=False),
                       sp.Layer(top, base=True)])  # fmt: skip
    np.testing.assert_array_equal(alone.rgba, sp.render(below).rgba)
    grid = utm.cropped(((0, 10), (0, 10)))
    with pytest.warns(sp.DataWarning, match="not in the area shown"):
        picture = sp.overlay([sp.Layer(below), sp.Layer(top, name="t")], grid=grid)
    assert picture.grid == grid
    with pytest.raises(sp.GridMismatch, match="do not meet the area shown"):
        sp.overlay([sp.Layer(top)], grid=grid)
    for hiding in ({"threshold": "band(1) > 1e9"}, {"mask": sp.mask(below, values=-1, band=1)}):
        with pytest.warns(sp.DataWarning, match="^hidden: no valid pixel in the area shown"):
            sp.overlay([sp.Layer(below), sp.Layer(top, name="hidden", **hiding)])


@pytest.mark.parametrize(
    ("given", "message"),
    [
        ({"opacity": 1.5}, "0 \\(clear\\) to 1"),
        ({"mode": "multipy"}, "did you mean 'multiply'"),
        ({"threshold": "band(7) > 1"}, "there is no band 7"),
    ],
)
def test_layers_that_make_no_sense_are_refused(rasters, given, message):
    with pytest.raises((sp.LookError, sp.BandError), match=message):
        sp.render([sp.Layer(rasters[0], **given)])
    with pytest.raises(sp.GridMismatch, match="has a place on a map and the other has none"):
        sp.render([sp.Layer(rasters[0]), sp.Layer(sp.from_array(np.ones((5, 5))))])


@pytest.mark.parametrize("azimuth", [0, 90, 225])
def test_relief_is_the_cosine_to_the_sun(utm, azimuth):
    east, north = np.meshgrid(10.0 * np.arange(90), -10.0 * np.arange(70))
    plane = ArraySource((100 + 0.3 * east + 0.1 * north)[None], grid=utm)
    lit = Relief(plane, 0, [Sun(azimuth, 40)], 2.0).read([0], ((1, 69), (1, 89))).values[0]
    normal = np.array([-0.6, -0.2, 1.0]) / np.sqrt(0.36 + 0.04 + 1)
    flat = np.cos(np.radians(40))
    sun = (np.sin(np.radians(azimuth)) * flat, np.cos(np.radians(azimuth)) * flat,
           np.sin(np.radians(40)))  # fmt: skip
    np.testing.assert_allclose(lit, max(0, normal @ sun), atol=1e-6)
    both = Relief(plane, 0, [Sun(azimuth, 40, 3), Sun(azimuth + 180, 40)], 2.0)
    other = normal @ (-sun[0], -sun[1], sun[2])
    np.testing.assert_allclose(
        both.read([0], ((9, 10), (9, 10))).values,
        (3 * max(0, normal @ sun) + max(0, other)) / 4,
        atol=1e-6,
    )
    holed = ArraySource(np.where(np.eye(70, 90)[None] > 0, np.nan, values_of(plane)), grid=utm)
    found = Relief(holed).read([0], ((0, 70), (0, 90)))
    np.testing.assert_array_equal(found.valid[0], np.eye(70, 90) == 0)


SHAPES = {"type": "FeatureCollection", "features": [
    {"type": "Feature", "properties": {"name": "rig", "kind": "raft"},
     "geometry": {"type": "Polygon", "coordinates": [
         [[480200, 7359500], [480600, 7359500], [480600, 7359800], [480200, 7359800]]]}},
    {"type": "Feature", "properties": {"name": "post", "kind": "pole"},
     "geometry": {"type": "Point", "coordinates": [480750, 7359350]}},
]}  # fmt: skip


def test_outlines_are_drawn_where_they_lie(rasters):
    below, _ = rasters
    line = sp.Outline(SHAPES, color="#ff0000", width=2, crs="EPSG:32727")
    drawn = sp.stack([sp.Layer(below), line], size=(700, 900)).layers[1].rgba
    assert drawn[200, 400].tolist() == [255, 0, 0, 255]
    assert drawn[350, 400, 3] == 0
    assert drawn[650, 750, 3] == 255  # the point
    filled = sp.Outline(SHAPES, fill="#00ff0080", label="kind", crs="EPSG:32727")
    inner = sp.stack([sp.Layer(below), filled], size=(700, 900)).layers[1].rgba
    assert inner[300, 300].tolist() == [0, 255, 0, 128]
    assert (inner != drawn).any()
    with pytest.raises(sp.LookError, match="no feature property 'size'; there are name, kind"):
        sp.render([sp.Layer(below), sp.Outline(SHAPES, label="size", crs="EPSG:32727")])
    with pytest.raises(sp.LookError, match="colour 'red'"):
        sp.Outline(SHAPES, color="red")


def test_a_layer_file_is_drawn_like_its_layers(rasters, tmp_path):
    below, top = rasters
    below.save(tmp_path / "photo.tif")
    top.save(tmp_path / "heat.tif")
    (tmp_path / "shapes.geojson").write_text(json.dumps(SHAPES))
    path = tmp_path / "both.layers.toml"
    path.write_text("""
        [[layer]]
        file = "photo.tif"
        base = true
        [[layer]]
        file = "heat.tif"
        look = {limits = "fixed:0,10"}
        opacity = 0.4
        threshold = "band(1) > 4"
        [[layer]]
        file = "heat.tif"
        relief = {exaggeration = 3}
        mode = "multiply"
        [[layer]]
        outline = "shapes.geojson"
        crs = "EPSG:32727"
    """)
    found = sp.load_layers(path)
    by_hand = [sp.Layer(below), sp.Layer(top, sp.Look(limits=(0, 10)), opacity=0.4,
                                         threshold="band(1) > 4"),
               sp.Layer(top.relief(exaggeration=3), mode="multiply"),
               sp.Outline(SHAPES, crs="EPSG:32727")]  # fmt: skip
    np.testing.assert_array_equal(sp.overlay(found.layers).rgba, sp.overlay(by_hand).rgba)
    path.write_text('[grid]\ncrs = "EPSG:32727"\npixel_size = 20\n'
                    "bounds = [480000, 7359300, 480900, 7360000]\n"
                    '[[layer]]\nfile = "photo.tif"')  # fmt: skip
    assert read_layers(path).grid.shape == (35, 45)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("layer = 3", "layer: input should be a valid list"),
        ("", "layer: field required"),
        ("[[layers]]", "no key 'layers'; did you mean 'layer'"),
        ('[[layer]]\nfile = "x.tif"\nrelief = {azimut = 3}', "azimut'; did you mean 'azimuth'"),
        (
            '[[layer]]\nfile = "x.tif"\nopacty = 1',
            "no key 'layer.1.opacty'; did you mean 'opacity'",
        ),
        ("[[layer]]\nname = 'x'", "layer 1: expected a file, or an outline"),
        ("[[layer", "not TOML"),
    ],
)
def test_what_is_wrong_in_a_layer_file_is_told(tmp_path, text, message):
    path = tmp_path / "a.layers.toml"
    path.write_text(text)
    with pytest.raises(sp.LookError, match=message):
        read_layers(path)
    with pytest.raises(sp.MissingFile, match="no such layer file"):
        read_layers(tmp_path / "none.toml")


def test_what_the_lowest_layer_cuts_is_told_and_union_shows_all(rng, utm):
    grids = [utm.cropped(((0, 70), (0, 90))), utm.cropped(((0, 70), (45, 135))),
             utm.cropped(((200, 220), (0, 20)))]  # fmt: skip
    low, high, far = (
        sp.Layer(sp.from_array(np.full((1, *g.shape), 9, "u1"), grid=g), sp.Look(limits=(0, 9)),
                 name=name)
        for g, name in zip(grids, ("low", "high", "far"), strict=True)
    )  # fmt: skip
    with pytest.warns(sp.DataWarning, match="50% of high: outside the area of the bottom"):
        assert sp.overlay([low, high]).rgba.shape[:2] == (70, 90)
    both = sp.overlay([low, high], area="union")
    assert both.rgba.shape[:2] == (70, 135)
    assert both.rgba[..., 3].all()
    outline = sp.Outline((490000, 7350000, 490010, 7350010), name="beds", crs=utm)
    with pytest.warns(sp.DataWarning, match="far, beds: not in the area shown"):
        sp.overlay([low, far, outline])
    with pytest.raises(sp.LookError, match="area 'all'"):
        sp.overlay([low], area="all")
    view = sp.View(rows=(0, 10))
    assert sp.overlay([low, high], view=view).rgba.shape[:2] == (10, 90)  # asked for: not told


def test_images_of_other_planes_are_told():
    from dataclasses import replace

    from spectrane.model.grid import IMAGE_PLANE

    plane = sp.Grid((9, 9), placed=True, crs_name=IMAGE_PLANE, plane=("1.2", "axial", "10.00"))
    one, same, other, unknown = (
        sp.Layer(sp.from_array(np.ones((1, 9, 9), "u1"), grid=replace(plane, plane=key)), name=name)
        for name, key in (("a", plane.plane), ("b", plane.plane),
                          ("c", ("1.2", "axial", "30.00")), ("d", None))
    )  # fmt: skip
    with pytest.warns(sp.DataWarning, match="^c, d: millimetres of another plane"):
        sp.overlay([one, same, other, unknown])
