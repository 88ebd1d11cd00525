"""Matplotlib and we draw the same values in the same colours."""

from __future__ import annotations

import pickle

import matplotlib
import numpy as np
import pytest

import spectrane as sp


@pytest.mark.parametrize("name", sp.colormaps)
def test_our_colour_maps_are_exact_at_their_entries(name):
    ours = sp.colormaps[name]
    theirs = ours.to_matplotlib()
    np.testing.assert_array_equal(theirs(np.arange(len(ours.entries)), bytes=True), ours.entries)
    assert theirs(np.ma.masked, bytes=True)[3] == 0
    again = sp.Colormap.from_matplotlib(theirs)
    np.testing.assert_array_equal(again.entries, ours.entries)
    assert (again.under, again.over, again.nodata) == (None, None, None)


def test_ends_and_no_data_are_kept_both_ways():
    ours = sp.Colormap.from_points([(0, "#102030"), (1, "#f0f0e0")], under="#ff0000",
                                   over="#00ff0080", nodata="#0000ff")  # fmt: skip
    theirs = ours.to_matplotlib()
    for value, color in ((-1.0, "#ff0000ff"), (2.0, "#00ff0080"), (np.nan, "#0000ffff")):
        assert bytes(theirs(value, bytes=True)).hex() == color[1:]
    again = sp.Colormap.from_matplotlib(theirs)
    assert (again.under, again.over, again.nodata) == (ours.under, ours.over, ours.nodata)


CURVES = ["linear", "sqrt", "square", "gamma:1.8", "log:3", "asinh:5", "logistic:8", "equalise"]


@pytest.mark.parametrize("falling", [False, True])
@pytest.mark.parametrize("ends", [None, "#ff0000"])
@pytest.mark.parametrize("curve", CURVES)
@pytest.mark.parametrize("dtype", ["uint8", "float32"])
def test_a_norm_and_a_map_give_the_colours_of_the_picture(dtype, curve, ends, falling, rng):
    values = rng.integers(0, 255, (40, 50)).astype(dtype)
    raster = sp.from_array(values, bands=[sp.Band("heat", scale=0.5, offset=-7.0)], nodata=9)
    look = sp.Look(colormap=sp.Colormap("own", sp.colormaps["kiln"].entries, ends, ends, "#123456"),
                   limits=(90.0, 3.0) if falling else (3.0, 90.0), curve=curve)  # fmt: skip
    picture = sp.render(raster, look)
    norm = pickle.loads(pickle.dumps(picture.scales[0].to_norm()))
    drawn = look.colormap.to_matplotlib()(norm(raster.pixels(physical=True)[0]), bytes=True)
    np.testing.assert_array_equal(drawn, picture.rgba)
    assert (norm.vmin, norm.vmax) == (3.0, 90.0)
    middle = norm.inverse(0.4)
    assert norm(middle) == pytest.approx(0.4, abs=0.02)


def test_looks_take_their_maps_by_name_or_themselves(run, tmp_path):
    raster = sp.from_array(np.arange(256.0).reshape(16, 16))
    theirs = matplotlib.colormaps["cividis"]
    pictures = [
        sp.render(raster, sp.Look(colormap=one, limits=(0, 256)))
        for one in (theirs, "matplotlib:cividis", sp.Colormap.from_matplotlib(theirs))
    ]
    for picture in pictures:
        np.testing.assert_array_equal(
            picture.rgba.reshape(-1, 4), theirs(np.arange(256), bytes=True)
        )
    look = sp.Look(colormap=theirs)
    assert look.to_dict()["colormap"] == "matplotlib:cividis"
    look.save(tmp_path / "a.look.toml")
    assert sp.Look.load(tmp_path / "a.look.toml") == look
    raster.save(tmp_path / "a.tif")
    status, _, said = run("render", tmp_path / "a.tif", "-o", tmp_path / "a.png", "--colormap",
                          "matplotlib:cividis", "--limits", "fixed:0,256")  # fmt: skip
    assert (status, said) == (0, "")
    with pytest.raises(sp.LookError, match="did you mean 'cividis'"):
        sp.Look(colormap="matplotlib:cividus")
    assert sp.register_colormaps() == sp.register_colormaps()
    np.testing.assert_array_equal(matplotlib.colormaps["spectrane:kiln_r"](0, bytes=True),
                                  sp.colormaps["kiln"].entries[-1])  # fmt: skip
    with pytest.raises(sp.LookError, match="of no picture"):
        type(pictures[0].scales[0])("a", 0, 1, "linear", False, None, True, "").to_norm()


def charts(rng):
    raster = sp.from_array(rng.random((30, 40)) * 9)
    volume = sp.volume_from_array(rng.normal(size=(6, 6, 6)), affine=np.eye(4))
    table = sp.profile(raster, {"row": 3, "column": 4, "name": "costs $5 or $6"})
    survivors = sp.survivors(sp.VolumeLayer(volume, threshold="band(1) >= 1"))
    look = sp.Look(colormap="kiln", limits=(0, 9))
    return {
        "histogram": lambda **on: sp.figures.histogram(raster, **on),
        "profile": lambda **on: sp.figures.profile(table, **on),
        "line_profile": lambda **on: sp.figures.line_profile(
            sp.along(raster, (1, 1), (20, 20)), **on),
        "survivors": lambda **on: sp.figures.survivors(survivors, **on),
        "colorbar": lambda **on: sp.figures.colorbar(sp.render(raster, look), **on),
        "swatches": lambda **on: sp.figures.swatches(**on),
        "compare": lambda **on: sp.figures.compare([raster, (raster, look)], bar="right", **on),
        "suggestions": lambda **on: sp.figures.suggestions(raster, **on),
        "sheet": lambda **on: sp.figures.sheet(raster, paper="A6", **on),
        "slice_sheet": lambda **on: sp.figures.slice_sheet(volume, count=2, paper="A6", **on),
    }  # fmt: skip


@pytest.mark.parametrize("name", charts(np.random.default_rng(0)))
def test_charts_are_drawn_where_the_caller_wants_them(name, rng):
    import matplotlib.pyplot as plt

    draw = charts(rng)[name]
    alone = draw()
    assert alone._repr_png_()[:4] == b"\x89PNG"
    assert plt.get_fignums() == []
    own = matplotlib.figure.Figure(figsize=(9, 7))
    assert draw(figure=own) is own
    assert len(own.axes) == len(alone.axes)
    if "sheet" in name:
        return
    figure, (left, right) = plt.subplots(1, 2, figsize=(14, 8))
    place = right.get_position()
    assert draw(ax=right) is figure
    right.set_title("the caller's own")
    figure.canvas.draw()
    for axes in figure.axes[1:]:
        box = axes.get_position().transformed(axes.figure.transSubfigure)
        middle = figure.transFigure.inverted().transform((box.x0 + box.width / 2, box.y0))
        assert place.x0 - 0.01 < middle[0] < place.x1 + 0.01
    right.set_position((0.1, 0.1, 0.3, 0.3))  # as layouts do, too
    figure.canvas.draw()
    last = figure.axes[-1].get_window_extent()
    assert right is figure.axes[1]
    assert last.x1 < 0.5 * figure.bbox.width
    part = figure.subfigures()
    assert draw(figure=part) is figure
    plt.close(figure)
    with pytest.raises(sp.LookError, match="not both"):
        draw(figure=own, ax=left)
