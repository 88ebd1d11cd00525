"""What a coordinate system says is found once, and is found again where anything differs."""

from __future__ import annotations

import dataclasses

import numpy as np
import pyproj
import pytest

import spectrane as sp
from spectrane.analysis.coordinate_systems import system_facts


def _file(tmp_path, grid):
    path = tmp_path / "a.tif"
    sp.from_array(np.ones((70, 90), np.uint8), grid=grid).save(path, overwrite=True)
    return sp.open(path)


def test_a_second_look_parses_nothing(tmp_path, utm, monkeypatch):
    with _file(tmp_path, utm) as raster:
        first = raster.describe().to_dict()
    turn = pyproj.Transformer.from_crs("EPSG:32727", "EPSG:4326", always_xy=True)
    assert first["corners_lonlat"][0] == pytest.approx(turn.transform(*utm.corners[0]), abs=1e-8)
    monkeypatch.setattr(pyproj.CRS, "from_user_input", None)
    with sp.open(tmp_path / "a.tif") as raster:
        assert raster.describe().to_dict() == first


@pytest.mark.parametrize("change", [{"crs_text": "EPSG:32627"}, {"shape": (71, 90)}])
def test_what_differs_is_found_anew(tmp_path, utm, change):
    with _file(tmp_path, utm) as raster:
        known = system_facts(raster._source)
        raster._source.grid = dataclasses.replace(utm, **change)
        assert system_facts(raster._source) != known


def test_a_text_that_names_no_system_leaves_its_own_words(tmp_path, utm):
    with _file(tmp_path, utm) as raster:
        raster._source.grid = dataclasses.replace(utm, crs_text="my own", crs_name="local")
        assert system_facts(raster._source) == ("local", None, False, None)
