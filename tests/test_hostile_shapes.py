"""Hostile GeoJSON, KML and layer files: a result or an error of ours, never anything else."""

from __future__ import annotations

import json
import warnings

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import spectrane as sp
from spectrane.display.layer_file import read_layers
from spectrane.pages import read_kml, write_kml

RASTER = sp.from_array(
    np.ones((20, 30), np.uint8),
    grid=sp.Grid.from_corner((20, 30), x=480000, y=7360000, pixel_size=10, crs="EPSG:32727"),
)
NUMBERS = st.one_of(st.floats(), st.integers(-(10**30), 10**30), st.floats(-30, 30))
JUNK = st.recursive(
    st.one_of(st.none(), st.booleans(), NUMBERS, st.text(max_size=5)),
    lambda inner: st.one_of(st.lists(inner, max_size=4),
                            st.dictionaries(st.text(max_size=4), inner, max_size=3)),
    max_leaves=8,
)  # fmt: skip
KINDS = ["Polygon", "MultiPolygon", "GeometryCollection", "Feature", "FeatureCollection", "Point",
         "LineString", "Circle"]  # fmt: skip
RINGS = st.lists(st.lists(st.lists(NUMBERS, min_size=1, max_size=3), max_size=6), max_size=3)


@st.composite
def shapes(draw):
    kind = draw(st.sampled_from(KINDS))
    held = {"type": kind, "coordinates": draw(st.one_of(RINGS, st.lists(RINGS, max_size=2), JUNK))}
    if kind == "Feature":
        held = {"type": kind, "properties": draw(JUNK), "geometry": draw(st.one_of(JUNK, shapes()))}
    if kind in ("FeatureCollection", "GeometryCollection"):
        name = "features" if kind.startswith("F") else "geometries"
        held = {"type": kind, name: draw(st.one_of(JUNK, st.lists(shapes(), max_size=3)))}
    if draw(st.booleans()):
        held["crs"] = draw(st.one_of(JUNK, st.just({"properties": {"name": "EPSG:32727"}})))
    return held


def ends_well(action):
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            action()
        except sp.SpectraneError as error:
            assert str(error)


@settings(max_examples=200, deadline=None, suppress_health_check=list(HealthCheck))
@given(shapes())
def test_any_geojson_clips_or_is_refused(shape):
    ends_well(lambda: RASTER.clip(shape, extent="full").pixels())
    ends_well(lambda: RASTER.statistics(region=shape))
    ends_well(lambda: sp.render([sp.Layer(RASTER), sp.Outline(shape, label=True, fill="#ffffff")]))


@settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.data())
def test_any_layer_file_is_read_or_refused(tmp_path, data):
    path = tmp_path / "a.layers.toml"
    key = data.draw(
        st.sampled_from(
            [
                "opacity",
                "mode",
                "look",
                "nodata",
                "relief",
                "clip",
                "width",
                "compute",
                "threshold",
                "base",
                "crs",
                "label",
                "other",
            ]
        )
    )
    value = data.draw(st.sampled_from(['"x"', "-1", "[1, [2]]", '{a = "b1"}', "nan", "true", "''"]))
    kind = data.draw(st.sampled_from(["file = 'a.tif'", "outline = 'a.geojson'"]))
    path.write_text(f"[[layer]]\n{kind}\n{key} = {value}\n")
    if not (tmp_path / "a.tif").exists():
        RASTER.save(tmp_path / "a.tif")
        (tmp_path / "a.geojson").write_text(json.dumps({"type": "Point", "coordinates": [1, 2]}))

    def drawn():
        sp.overlay([sp.Layer(RASTER), *read_layers(path).layers])

    ends_well(drawn)


@pytest.mark.parametrize("ending", ["kml", "kmz"])
def test_mutated_kml_is_read_or_refused(tmp_path, ending):
    path = tmp_path / f"a.{ending}"
    write_kml([sp.Layer(RASTER), sp.Layer(RASTER, opacity=0.5)], path, quad=True)
    good = path.read_bytes()
    rng = np.random.default_rng(5)
    for _ in range(150):
        bad = bytearray(good)
        for _ in range(rng.integers(1, 6)):
            place = int(rng.integers(0, len(bad)))
            if rng.random() < 0.5:
                bad[place] = int(rng.integers(0, 256))
            else:
                del bad[place : place + int(rng.integers(1, 40))]
        path.write_bytes(bytes(bad))
        ends_well(lambda: [layer.source.read([0], ((0, 1), (0, 1))) for layer in read_kml(path)])
