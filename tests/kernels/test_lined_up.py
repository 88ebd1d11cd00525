"""Area means along rows and columns: the same as at any positions."""

from __future__ import annotations

import numpy as np
import pytest

import spectrane as sp
from spectrane.kernels.gathering import gathered_reference
from spectrane.kernels.lined_up import area_means
from spectrane.spatial.regridded import Regridded


@pytest.mark.parametrize("scales", [(1.0, 1.0), (1.3, 2.7), (0.4, 5.0), (7.1, 1.01)])
@pytest.mark.parametrize("holes", [0.0, 0.3, 0.9])
def test_as_at_any_positions(rng, scales, holes):
    plane = rng.normal(50, 20, (40, 33))
    valid = rng.random(plane.shape) >= holes
    rows = np.sort(rng.uniform(-3, 43, 150))
    columns = np.sort(rng.uniform(-3, 36, 70))
    found, wanted = np.empty((150, 70)), np.empty((150, 70))
    area_means(plane, None if valid.all() else valid, rows, columns, scales, found)
    across, down = np.meshgrid(columns, rows)
    gathered_reference(np.where(valid, plane, np.nan), across, down, "area", scales, wanted)
    np.testing.assert_allclose(found, wanted, rtol=1e-9)


@pytest.mark.parametrize("dtype", ["u1", "i2", "f4"])
@pytest.mark.parametrize("method", ["area", "nearest"])
def test_a_grid_along_the_raster_is_what_each_position_gives(rng, utm, dtype, method, monkeypatch):
    values = rng.uniform(0, 200, (2, 70, 90)).astype(dtype)
    bands = [sp.Band("one", nodata=7), sp.Band("two")]
    source = sp.from_array(values, grid=utm, bands=bands)._source
    grid = sp.Grid.from_corner((47, 61), x=479963, y=7360021, pixel_size=13.7, crs="EPSG:32727")
    window = ((3, 40), (5, 55))
    lined_up = Regridded(source, grid, method)
    quick = lined_up.read([0, 1], window)
    part = lined_up.read([1], ((20, 31), (9, 23)))
    np.testing.assert_array_equal(part.values[0], quick.values[1, 17:28, 4:18])
    monkeypatch.setattr("spectrane.spatial.coordinates.Mapping.straight", False)
    slow = Regridded(source, grid, method).read([0, 1], window)
    np.testing.assert_array_equal(quick.validity, slow.validity)
    tolerance = 1 if method == "area" and dtype != "f4" else 1e-4
    shown = slow.validity
    np.testing.assert_allclose(quick.values[shown].astype(float), slow.values[shown].astype(float),
                               atol=tolerance)  # fmt: skip
    assert (quick.values[shown] == slow.values[shown]).mean() > (0.999 if dtype != "f4" else 0.1)
