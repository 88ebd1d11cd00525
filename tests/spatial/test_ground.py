"""What a map measures, and where north lies, against pyproj's own factors and geodesics."""

from __future__ import annotations

import pyproj
import pytest

from spectrane.model.errors import GridMismatch
from spectrane.model.grid import IMAGE_PLANE, Grid
from spectrane.spatial.ground import ground_at


def grid_at(crs, x=0.0, y=1.0, **given):
    return Grid.from_corner((1, 1), x=x, y=y, pixel_size=1, crs=crs, **given)


@pytest.mark.parametrize(
    ("crs", "x", "y"),
    [
        ("EPSG:32727", 490000, 7357000), ("EPSG:32727", 800000, 7357000),
        ("EPSG:3031", 100000, 2000000), ("EPSG:3857", 0, 8400000), ("EPSG:2263", 980000, 200000),
    ],
)  # fmt: skip
def test_projected_maps(crs, x, y):
    found = ground_at(grid_at(crs, x, y), x, y)
    factors = pyproj.Proj(crs).get_factors(*found.lonlat)
    assert found.north == pytest.approx(-factors.meridian_convergence, abs=1e-4)
    unit = pyproj.CRS(crs).axis_info[0].unit_conversion_factor
    near = abs(factors.parallel_scale - 1) < 0.005
    # The scale of the ellipsoid; the web's map is drawn on a sphere, hence the hundredth.
    assert found.across == pytest.approx(unit if near else 1 / factors.parallel_scale, rel=6e-3)
    assert (found.corrected is None) == near


@pytest.mark.parametrize("latitude", [0.0, -23.9, 60.0, 89.0])
def test_degrees(latitude):
    found = ground_at(grid_at("EPSG:4326"), 10.0, latitude)
    globe = pyproj.Geod(ellps="WGS84")
    east = globe.inv(9.5, latitude, 10.5, latitude)[2]
    assert found.across == pytest.approx(east, rel=1e-4)
    assert found.north == 0.0


def test_planes_of_patients_are_in_millimetres_and_others_are_refused():
    plane = Grid((9, 9), placed=True, crs_name=IMAGE_PLANE)
    assert ground_at(plane, 1, 1).across == 1e-3
    for grid, said in ((Grid((9, 9)), "no place"), (grid_at(None), "no coordinate system")):
        with pytest.raises(GridMismatch, match=said):
            ground_at(grid, 1, 1)
