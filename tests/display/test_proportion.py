"""Pixels that are not square on the map: drawn in true proportion, or pixel for pixel if asked."""

from __future__ import annotations

import re

import numpy as np
import pytest

import spectrane as sp
from spectrane.display.linked import linked
from spectrane.model.source import source_of
from spectrane.pages import overlay_page


def disc(pixel_size, shape, crs="EPSG:32727"):
    """A raster of a circle of 900 units about its middle, whatever its pixels are."""
    grid = sp.Grid.from_corner(shape, x=480000, y=7360000, pixel_size=pixel_size, crs=crs)
    rows, columns = np.mgrid[: shape[0], : shape[1]] + 0.5
    x, y = (columns - shape[1] / 2) * pixel_size[0], (rows - shape[0] / 2) * pixel_size[1]
    return sp.from_array(np.where(np.hypot(x, y) < 900, 200, 20).astype("u1")[None], grid=grid)


def sides(rgba):
    """How many pixels high and wide the circle is."""
    bright = rgba[..., 0] > 120
    return tuple(int(bright.any(axis=axis).sum()) for axis in (1, 0))


@pytest.mark.parametrize(
    ("pixel_size", "shape", "picture", "stored"),
    [
        ((10, 25), (120, 200), (300, 200), (120, 200)),
        ((25, 10), (300, 120), (300, 300), (300, 120)),
        ((10, 70), (40, 280), (280, 280), (40, 280)),
        ((10, 10.001), (300, 300), (300, 300), (300, 300)),
        ((1, 30), (90, 2700), (68, 2048), (68, 2048)),  # hardly one unit
    ],
)
@pytest.mark.parametrize("size", [None, (150, 400)])
def test_a_circle_stays_a_circle(tmp_path, pixel_size, shape, picture, stored, size):
    raster = disc(pixel_size, shape)
    drawn = sp.render(raster, size=size)
    over = sp.overlay([raster], size=size)
    if size is None:
        assert drawn.rgba.shape[:2] == picture
        assert sp.render(raster, view=sp.View(stored=True)).rgba.shape[:2] == stored
    if pixel_size != (1, 30):
        for one in (drawn, over):
            high, wide = sides(one.rgba)
            assert high == pytest.approx(wide, abs=pixel_size[1] / 10 + 2)
            assert one.grid.pixel_size[0] == pytest.approx(one.grid.pixel_size[1], rel=0.01)
    other = disc((10, 10), (300, 200))
    panels = linked([(name, source_of(one), None) for name, one in (("a", raster), ("b", other))],
                    sp.View(), (400, 400))  # fmt: skip
    if pixel_size == (10, 25):
        assert sides(panels[0].rgba) == pytest.approx(sides(panels[1].rgba), abs=6)
        overlay_page([sp.Layer(raster)], tmp_path / "p.html")
        held = re.search(r'"rows": *(\d+), *"columns": *(\d+)', (tmp_path / "p.html").read_text())
        rows, columns = (int(n) for n in held.groups())
        assert 2 * rows == pytest.approx(3 * columns, abs=4)


@pytest.mark.parametrize(
    ("affine", "said"),
    [
        (((10, 0, 0), (0, -25, 0), (0, 0, 1)), "pixels of 10 x 25 are drawn in true proportion"),
        (((1, 0, 0), (0, -90, 0), (0, 0, 1)), "pixels of 1 x 90 are drawn as squares"),
        (((10, 0, 0), (0, 10, 0), (0, 0, 1)), "runs from south to north, and is drawn north up"),
        (((-10, 0, 0), (0, -10, 0), (0, 0, 1)), "runs from east to west"),
        (((8, 6, 0), (6, -8, 0), (0, 0, 1)), "rows run 36.87 degrees from the x axis"),
        (((10, 0, 0), (0, -10, 0), (0, 0, 1)), None),
    ],
)
def test_what_is_unlike_a_picture_is_told(tmp_path, run, affine, said):
    grid = sp.Grid((30, 30), affine, "EPSG:32727", y_up=True, placed=True)
    raster = sp.from_array(np.arange(900, dtype="u2").reshape(1, 30, 30), grid=grid)
    for notes in (sp.render(raster).notes, sp.stack([sp.Layer(raster)]).notes):
        assert any(said in note for note in notes) if said else not any("pixel" in n for n in notes)
    raster.save(tmp_path / "a.tif")
    for command in ("render", "overlay"):
        _, out, _ = run(command, str(tmp_path / "a.tif"), "-o", str(tmp_path / f"{command}.png"))
        assert (said or "a.png") in out or not said


@pytest.mark.parametrize("pixel", [0.62, 10.0, 25.0])
@pytest.mark.parametrize("up", [True, False])
def test_a_view_around_a_centre_has_exactly_the_pixels_asked_for(tmp_path, run, pixel, up):
    """Every picture pixel is what lies at its own centre, and transparent outside the raster."""
    affine = ((10, 0, 480000), (0, -10 if up else 10, 7360000), (0, 0, 1))
    grid = sp.Grid((18, 24), affine, "EPSG:32727", y_up=up, placed=True)
    values = np.arange(432, dtype="u1").reshape(1, 18, 24) % 200 + 20
    raster = sp.from_array(values, grid=grid)
    x, y = grid.center(row=2, column=3)
    view = sp.View(center=(x, y), pixel=pixel, size=(67, 102))
    look = sp.Look(limits=(0, 255), resample="nearest")
    for drawn in (sp.render(raster, look, view=view), sp.overlay([(raster, look)], view=view)):
        assert drawn.rgba.shape[:2] == (67, 102)
        assert drawn.grid.pixel_size == pytest.approx((pixel, pixel))
        assert drawn.grid.to_map(51, 33.5) == pytest.approx((x, y))
        for row, column in ((0, 0), (33, 51), (50, 60), (66, 101), (10, 100)):
            r, c = grid.locate(**dict(zip("xy", drawn.grid.center(row=row, column=column))))
            inside = 0 <= r < 18 and 0 <= c < 24
            assert drawn.rgba[row, column, 3] == 255 * inside
            if inside and pixel <= 10:
                assert drawn.rgba[row, column, 0] == values[0, r, c]
    plain = sp.render(raster, look, view=sp.View(center=(x, y), pixel=pixel))
    assert plain.rgba.shape[:2] == (800, 1280)
    raster.save(tmp_path / "a.tif")
    where = ["--center", f"{x},{y}", "--pixel", str(pixel)]
    for command in (["render"], ["compare", tmp_path / "a.tif"], ["overlay"]):
        status, _, told = run(*command, tmp_path / "a.tif", "-o", tmp_path / f"{command[0]}.png",
                              *where)  # fmt: skip
        assert status == 0, told
