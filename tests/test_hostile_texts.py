"""Small text files made to hurt: each ends in one of our errors, which names the file."""

from __future__ import annotations

import numpy as np
import pytest

import spectrane as sp

DEEP, LOOK = 5000, "a.look.toml"
GRID = (
    '[[layer]]\nfile = "a.tif"\n[grid]\nbounds = [0, 0, 9, {}]\npixel_size = {}\ncrs = "EPSG:32727"'
)
TEXTS = [
    (sp.Look.load, LOOK, "x = " + "[" * DEEP + "]" * DEEP),
    (sp.Look.load, LOOK, "limits = {0 = 1}"), (sp.Look.load, LOOK, "sharpen = []"),
    (sp.Look.load, LOOK, "channels = [[1]]"), (sp.Look.load, LOOK, b"\xff\xfe"),
    (sp.Look.load, LOOK, "limits = [1e400, 3]"), (sp.Look.load, LOOK, "curve = 3"),
    (sp.Colormap.load, "a.csv", b"red,green,blue\n\xff\xff,1,2\n"),
    (sp.Colormap.load, "a.csv", "red,green,blue\n1,2\r3,4\n"), (sp.Colormap.load, "a.csv", ""),
    (sp.Colormap.load, "a.toml", "colors = 3"), (sp.Colormap.load, "a.toml", "colors = [1]"),
    (sp.load_layers, "a.layers.toml", GRID.format("inf", 1)),
    (sp.load_layers, "a.layers.toml", GRID.format(9, "nan")),
    (sp.load_layers, "a.layers.toml", GRID.format(9, 0)),
    (sp.load_layers, "a.layers.toml", "layer = 1"), (sp.load_layers, "a.layers.toml", b"\x00"),
    (sp.Spectra.load, "a.toml", "wavelengths = 3"), (sp.Spectra.load, "a.toml", "spectra = 3"),
    (sp.read_shapes, "a.geojson", "[" * DEEP),
    (sp.read_shapes, "a.geojson", '{"type": "FeatureCollection", "features": [3]}'),
    (sp.read_shapes, "a.geojson", '{"type": "GeometryCollection", "geometries": [' * 900),
]  # fmt: skip


@pytest.mark.parametrize(("load", "name", "text"), TEXTS)
def test_a_text_made_to_hurt_is_one_clear_error(tmp_path, load, name, text):
    sp.from_array(np.ones((9, 9), "u1")).save(tmp_path / "a.tif")
    (tmp_path / name).write_bytes(text if isinstance(text, bytes) else text.encode())
    with pytest.raises(sp.SpectraneError) as caught:
        load(tmp_path / name)
    assert name in str(caught.value)
    assert len(str(caught.value)) < 1000
