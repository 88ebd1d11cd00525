"""What is to be said of how a raster's pixels lie on the map, where it is not as pictures do."""

from __future__ import annotations

import math

from spectrane.model.grid import Grid
from spectrane.model.view import View, proportion
from spectrane.model.window import whole


def lying(grid: Grid, view: View) -> list[str]:
    """Say how pixels are drawn that are not square, and which way rows and columns run."""
    if not grid.placed:
        return []
    said = []
    width, height = (f"{one:.6g}" for one in grid.pixel_size)
    sides = proportion(grid, whole(grid.shape))
    if sides != (1.0, 1.0):
        how = "pixel for pixel" if view.stored else "in true proportion"
        said.append(f"pixels of {width} x {height} are drawn {how}")
    elif not math.isclose(*grid.pixel_size, rel_tol=0.5):
        said.append(f"pixels of {width} x {height} are drawn as squares: no axis can be that long")
    rows, columns = grid.flips()
    if rows or columns:
        ways = ["from south to north"] * rows + ["from east to west"] * columns
        said.append(f"the raster runs {' and '.join(ways)}, and is drawn north up")
    if grid.rotated:
        a, _, _, d, _, _ = grid.coefficients
        said.append(f"rows run {math.degrees(math.atan2(d, a)):.4g} degrees from the x axis; drawn "
                    "along them (regrid turns it upright)")  # fmt: skip
    return said
