"""What a notebook shows of things: tables and small pictures, quick, with nothing unescaped."""

from __future__ import annotations

import base64
import io
import re
import time

import numpy as np
import pytest
from PIL import Image

import spectrane as sp

HOSTILE = "<img src=x onerror=alert(1)>"


def pictures_in(html):
    found = re.findall(r"data:image/png;base64,([^']+)'", html)
    return [np.asarray(Image.open(io.BytesIO(base64.b64decode(one)))) for one in found]


def test_a_raster_shows_its_table_and_a_small_picture(tmp_path, rng):
    values = rng.integers(0, 999, (3, 600, 900)).astype("u2")
    path = tmp_path / "a.tif"
    raster = sp.from_array(values, bands=[sp.Band(HOSTILE, role="red"), "b", "c"])
    raster.save(path, overviews=True)
    html = sp.open(path)._repr_html_()
    (small,) = pictures_in(html)
    assert small.shape == (128, 192, 4)
    assert HOSTILE not in html
    assert "&lt;img" in html
    assert "600 rows" in html
    south_up = sp.Grid((600, 900), ((1, 0, 0), (0, 1, 0), (0, 0, 1)), "EPSG:32727", y_up=True,
                       placed=True)  # fmt: skip
    steps = sp.from_array(np.repeat(np.arange(600), 900).reshape(600, 900), grid=south_up)
    (drawn,) = pictures_in(steps._repr_html_())
    assert drawn[0, 0, 0] > drawn[-1, 0, 0]


def test_what_would_take_long_is_left_out(tmp_path):
    large = sp.from_array(np.zeros((4000, 4000), "u1"))
    assert pictures_in(large._repr_html_()) == []
    large.save(tmp_path / "a.tif", overviews=True)
    opened = sp.open(tmp_path / "a.tif")
    opened._repr_html_()
    begun = time.process_time()
    assert len(pictures_in(opened._repr_html_())) == 1
    assert time.process_time() - begun < 5  # and not minutes: benchmarks say how quick


@pytest.mark.parametrize("kind", ["uint8", "int16", "float32", "bool"])
def test_every_type_and_a_volume_have_a_picture(kind, rng):
    values = (rng.random((20, 30, 25)) * 2).astype(kind)
    assert len(pictures_in(sp.from_array(values[0])._repr_html_())) == 1
    if kind != "bool":
        volume = sp.volume_from_array(values, affine=np.diag([2, 2, 3, 1]))
        (planes,) = pictures_in(volume._repr_html_())
        assert planes.shape[1] > planes.shape[0]
        assert "Voxels" in volume._repr_html_()


def test_looks_maps_histograms_bands_and_frames(rng):
    look = sp.Look(colormap="kiln", limits=(0, 9), curve="gamma:2")
    html = look._repr_html_()
    np.testing.assert_array_equal(pictures_in(html)[0][0], sp.colormaps["kiln"].entries)
    assert "gamma:2" in html
    assert len(pictures_in(sp.colormaps._repr_html_())) == len(sp.colormaps)
    raster = sp.from_array(rng.random((2, 9, 9)), bands=[sp.Band(HOSTILE, unit="K"), "b"])
    html = raster.histogram()._repr_html_()
    assert (html.count("<svg"), HOSTILE in html) == (2, False)
    assert HOSTILE not in raster.bands._repr_html_()
    assert "<td>K</td>" in raster.bands._repr_html_()
    assert raster.bands == tuple(raster.bands)
    volume = sp.volume_from_array(np.ones((2, 3, 4)), affine=np.eye(4), frames=["rest"])
    assert "<td>rest</td>" in volume.frames._repr_html_()


def test_completion_holds_what_exists():
    assert {"open", "colormaps", "settings", "from_xarray"} <= set(dir(sp))
    assert sp.colormaps._ipython_key_completions_() == list(sp.colormaps)
    assert "threads" in dir(sp.settings)
    assert {"to_xarray", "to_polygons"} <= set(dir(sp.Raster))
