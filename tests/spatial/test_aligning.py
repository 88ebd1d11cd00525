"""Shifts between rasters of one place: made up, found to a tenth of a pixel, and taken out."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import ndimage
from tests.conftest import values_of

from spectrane.engine.memory import ArraySource
from spectrane.model.band import Band
from spectrane.model.errors import DataWarning, GridMismatch, LookError
from spectrane.model.grid import Grid
from spectrane.model.window import whole
from spectrane.spatial.aligning import aligned, find_alignment, realigned
from spectrane.spatial.regridded import regrid

GRID = Grid.from_corner((200, 260), x=480000, y=7360000, pixel_size=2, crs="EPSG:32727")


def ground(rows, columns, seed=3):
    """A smooth field that is known between its pixels too."""
    rng = np.random.default_rng(seed)
    total = np.zeros(np.broadcast(rows, columns).shape)
    for _ in range(90):
        u, v = rng.normal(0, 0.22, 2)
        total += rng.normal() * np.cos(u * rows + v * columns + rng.uniform(0, 6.3))
    return total


def shot(matrix, gain=1.0, noise=0.0, grid=GRID, hole=False):
    """The ground as seen when pixel p of the file really lies at matrix @ p."""
    r, c = np.mgrid[: grid.rows, : grid.columns] + 0.5
    column, row = (matrix[k, 0] * c + matrix[k, 1] * r + matrix[k, 2] for k in (0, 1))
    values = 1000 + 60 * gain * ground(row, column)
    values += np.random.default_rng(1).normal(0, noise, values.shape)
    if hole:
        values[30:90, 40:120] = 0
    return ArraySource(values[None].astype("f4"), grid=grid, bands=[Band("grey", nodata=0)])


def shift(columns, rows):
    return np.array([[1, 0, columns], [0, 1, rows], [0, 0, 1.0]])


@pytest.mark.parametrize(("columns", "rows"), [(0, 0), (-11.45, 7.2), (0.25, 0.1)])
@pytest.mark.parametrize(("gain", "noise", "hole"), [(1, 0, False), (0.6, 20, True)])
def test_a_shift_is_found_to_a_tenth_of_a_pixel(columns, rows, gain, noise, hole):
    fixed = shot(np.eye(3))
    moving = shot(shift(columns, rows), gain, noise, hole=hole)
    found = find_alignment(moving, fixed)
    assert found.columns == pytest.approx(columns, abs=0.1)
    assert found.rows == pytest.approx(rows, abs=0.1)
    assert found.certainty > (0.6 if noise else 0.8)
    again = find_alignment(realigned(moving, fixed, found), fixed)
    assert abs(again.columns) < 0.1
    assert abs(again.rows) < 0.1


def test_an_affine_is_found_and_taken_out():
    big = Grid.from_corner((420, 600), x=480000, y=7360000, pixel_size=2, crs="EPSG:32727")
    turn = np.array([[1.004, 0.003, -2.0], [-0.002, 0.997, 3.5], [0, 0, 1]])
    fixed, moving = shot(np.eye(3), grid=big), shot(turn, grid=big)
    found = find_alignment(moving, fixed, kind="affine")
    for c, r in ((100, 100), (500, 350), (300, 200)):
        wanted = turn @ (c, r, 1)
        assert np.abs(np.array(found.matrix) @ (c, r, 1) - wanted)[:2].max() < 0.25
    flat = regrid(realigned(moving, fixed, found), big).read([0], whole(big.shape))
    inner = (slice(60, -60), slice(60, -60))
    off = (flat.values[0] - values_of(fixed)[0])[inner]
    before = (values_of(moving)[0] - values_of(fixed)[0])[inner]
    assert np.std(off) < 0.2 * np.std(before)


def test_rasters_in_other_systems_are_moved_too():
    fixed = shot(np.eye(3))
    wrong = Grid(
        GRID.shape,
        tuple(map(tuple, (GRID.matrix @ shift(4, -3)).tolist())),
        "EPSG:32727",
        y_up=True,
        placed=True,
    )
    other = regrid(ArraySource(values_of(fixed), grid=wrong), crs="EPSG:32728")
    found = find_alignment(other, fixed)
    assert (found.columns, found.rows) == (pytest.approx(-4, abs=0.15), pytest.approx(3, abs=0.15))
    again = find_alignment(realigned(other, fixed, found), fixed)
    assert max(abs(again.columns), abs(again.rows)) < 0.15


def test_what_shows_nothing_in_common_is_told(rng):
    fixed = shot(np.eye(3))
    noise = ArraySource(rng.normal(500, 20, (1, 200, 260)).astype("f4"), grid=GRID)
    assert find_alignment(noise, fixed).certainty < 0.3
    with pytest.warns(DataWarning, match="agrees with an array in memory only by"):
        done, rows = aligned([fixed, noise], "shift")
    assert done[1].grid == GRID
    assert not rows[0]["taken out"]
    far = ArraySource(
        values_of(fixed),
        grid=Grid.from_corner((200, 260), x=480510, y=7360000, pixel_size=2, crs="EPSG:32727"),
    )
    with pytest.raises(GridMismatch, match="at least 24 x 24"):
        find_alignment(far, fixed)
    with pytest.raises(LookError, match="shift or affine"):
        find_alignment(fixed, fixed, kind="similarity")
    empty = ArraySource(np.zeros((1, 200, 260), "f4"), grid=GRID, bands=[Band("a", nodata=0)])
    with pytest.raises(GridMismatch, match="too few valid pixels"):
        find_alignment(empty, fixed)


def test_all_are_moved_onto_those_before():
    first, second = shot(np.eye(3)), shot(shift(2.5, -1.5))
    done, rows = aligned([first, second, shot(shift(-3, 1))], "shift")
    assert [row["taken out"] for row in rows] == [True, True]
    seen = [regrid(one, GRID).read([0], ((40, 160), (40, 200))).values for one in done]
    assert ndimage.standard_deviation(seen[1] - seen[0]) < 8
    assert ndimage.standard_deviation(seen[2] - seen[0]) < 8
