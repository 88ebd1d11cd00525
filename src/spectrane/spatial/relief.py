"""Relief shading: how a surface of heights would be lit by one sun or several.

Slopes are those of Horn (1981): over the eight neighbours of a pixel, the nearer ones twice. What
a sun gives is the cosine between the surface's normal and the direction to it, 0 where it is below.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.derived import PLACE, Derived
from spectrane.engine.full import FullSource
from spectrane.kernels.records import record
from spectrane.model.band import Band
from spectrane.model.errors import LookError
from spectrane.model.look import Look
from spectrane.model.physical import physical
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, extent, intersection, relative, whole

_METRES_PER_DEGREE = 111_320.0
"""Along a meridian, of a sphere as large as the Earth."""


@record(frozen=True)
class Sun:
    """Where light comes from: ``azimuth`` clockwise from north and ``altitude``, in degrees."""

    azimuth: float = 315.0
    altitude: float = 45.0
    weight: float = 1.0

    def __post_init__(self) -> None:
        """Check the numbers."""
        if not (math.isfinite(self.azimuth) and 0 < self.altitude <= 90 and self.weight > 0):
            raise LookError(
                f"sun {self.azimuth}, {self.altitude}, {self.weight}: expected azimuth, altitude "
                "above 0 and up to 90 degrees, weight above 0"
            )


class Relief(Derived, FullSource):
    """A band of heights, lit: one band of 0...1 in float32."""

    def __init__(
        self, parent: Source, band: int = 0, suns: Sequence[Sun] = (Sun(),),
        exaggeration: float = 1.0,
    ) -> None:  # fmt: skip
        if not 0 < exaggeration < 1e6:
            raise LookError(f"exaggeration {exaggeration}: expected a factor above 0")
        if not suns:
            raise LookError("relief: expected at least one sun")
        parent.check_bands([band])
        super().__init__(
            parent, keep=PLACE, bands=(Band("relief", description="relief shading"),),
            dtype=np.dtype(np.float32), has_mask=True, look=Look(limits=(0, 1)),
        )  # fmt: skip
        self.band, self.suns, self.exaggeration = band, tuple(suns), float(exaggeration)

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Light one window; slopes at its edge see the pixels beyond."""
        wide = intersection(tuple((a - 1, b + 1) for a, b in window), whole(self.shape))
        assert wide is not None
        pixels = self.parent.read([self.band], wide)
        height = physical(pixels.values[0], self.parent.bands[self.band], np.float64)
        valid = pixels.validity[0] & np.isfinite(height)
        lit = self._lit(np.where(valid, height, np.nan), wide)
        part = relative(window, wide)
        shown = valid[part]
        return Pixels(np.where(shown, lit[part], 0)[np.newaxis], mask=shown[np.newaxis])

    def _lit(self, height: NDArray[np.float64], window: Window) -> NDArray[np.float32]:
        by_column, by_row = slopes(height)
        dx, dy = self._steps(window)
        turn = self.grid.matrix[:2, :2] / np.hypot.reduce(self.grid.matrix[:2, :2], axis=0)
        by_column, by_row = by_column / dx, by_row / dy
        # Along the map's own axes, whichever way rows and columns run.
        inverse = np.linalg.inv(turn)
        east = by_column * inverse[0, 0] + by_row * inverse[1, 0]
        north = by_column * inverse[0, 1] + by_row * inverse[1, 1]
        if not self.grid.y_up:
            north = -north
        east, north = east * self.exaggeration, north * self.exaggeration
        length = np.sqrt(1 + east**2 + north**2)
        total, weights = np.zeros(height.shape), 0.0
        for sun in self.suns:
            azimuth, altitude = np.radians(sun.azimuth), np.radians(sun.altitude)
            flat = np.cos(altitude)
            x, y, z = np.sin(azimuth) * flat, np.cos(azimuth) * flat, np.sin(altitude)
            total += sun.weight * np.maximum(0, (z - east * x - north * y) / length)
            weights += sun.weight
        return (total / weights).astype(np.float32)

    def _steps(self, window: Window) -> tuple[NDArray[np.float64], float]:
        """Return the ground's metres per column, by row, and per row."""
        dx, dy = self.grid.pixel_size
        rows = extent(window)[0]
        system = self.grid.crs if self.grid.placed else None
        if system is not None and system.is_geographic:
            at = np.arange(*window[0], dtype=np.float64) + 0.5
            _, latitude = self.grid.to_map(np.zeros_like(at), at)
            shrink = np.maximum(np.cos(np.radians(latitude)), 1e-6)
            step = dx * _METRES_PER_DEGREE * shrink
            return step[:, np.newaxis], dy * _METRES_PER_DEGREE
        factor = 1.0
        if system is not None:
            factor = float(system.axis_info[0].unit_conversion_factor or 1.0)
        return np.full((rows, 1), dx * factor), dy * factor


def slopes(height: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return the rise per column and per row; a missing neighbour is as high as the pixel itself.

    >>> slopes(np.add.outer(np.arange(3.0) * 2, np.arange(3.0)))[1][1, 1].item()
    2.0
    """
    padded = np.pad(height, 1, constant_values=np.nan)
    rows, columns = height.shape

    def near(r: int, c: int) -> NDArray[np.float64]:
        plane = padded[1 + r : 1 + r + rows, 1 + c : 1 + c + columns]
        return np.where(np.isnan(plane), height, plane)

    (a, b, c), (d, f), (g, h, i) = (
        [near(-1, k) for k in (-1, 0, 1)], [near(0, -1), near(0, 1)],
        [near(1, k) for k in (-1, 0, 1)],
    )  # fmt: skip
    across = ((c + 2 * f + i) - (a + 2 * d + g)) / 8
    down = ((g + 2 * h + i) - (a + 2 * b + c)) / 8
    return across, down
