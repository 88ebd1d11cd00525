"""Volumes made from volumes: a part, or the same on another grid."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from spectrane.engine.derived import Derived
from spectrane.engine.threads import in_parallel
from spectrane.engine.volumes import VolumeSource
from spectrane.kernels.slicing import nearest_voxels, put, trilinear
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.grid import Grid
from spectrane.model.patient import axis_apart
from spectrane.model.pixels import Pixels
from spectrane.model.resampling import check_unmixed
from spectrane.model.source import Source
from spectrane.model.window import Window, extent, intersection, whole
from spectrane.spatial.slicing import interpolated, kernel_for, voxels_to_cut

KERNELS = ("trilinear", "nearest")


class RegriddedVolume(Derived, VolumeSource):
    """A volume's values at the voxel centres of another grid; outside it nothing is valid.

    ``resample`` None is ``nearest`` for labels and masks, which cannot be interpolated, else
    ``trilinear``, which keeps fractions: see ``slicing.interpolated``.
    """

    def __init__(
        self, parent: Source, grid: Grid, resample: str | None = None, force: bool = False
    ) -> None:
        resample = resample or kernel_for(parent)
        if resample not in KERNELS:
            raise LookError(f"resample {resample!r}: expected {' or '.join(KERNELS)}")
        check_unmixed(parent.mixable, resample, force)
        super().__init__(parent, grid=grid, has_mask=True, **interpolated(parent, resample))
        self.resample = resample
        i, j, k = grid.shape
        self.block_shape = (i, j, max(1, min(k, (1 << 20) // max(1, i * j))))
        apart = axis_apart(grid, parent.grid)
        if apart:
            raise GridMismatch(f"the volumes do not meet anywhere: {apart}")

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer a window, plane by plane."""
        values = np.zeros((len(bands), *extent(window)), self.dtype)
        mask = np.zeros(values.shape, bool)
        turn = np.linalg.solve(self.parent.grid.matrix, self.grid.matrix)
        needed = self._needed(turn, window)
        if needed is None:
            return Pixels(values, mask=mask)
        shift = np.array([a for a, _ in needed], float)
        for number, band in enumerate(bands):
            cube = voxels_to_cut(self.parent, band, needed)
            self._fill(cube, turn, shift, window, values[number], mask[number])
        return Pixels(values, mask=mask)

    def _fill(
        self, cube: Any, turn: Any, shift: Any, window: Window, values: Any, mask: Any
    ) -> None:
        (i0, _), (j0, _), (k0, k1) = window
        cut = trilinear.choose(values.size)

        def one(k: int) -> None:
            out = np.empty((values.shape[1], values.shape[0]), cube.dtype)
            origin = (turn @ (i0, j0, k0 + k, 1.0))[:3] - shift
            if self.resample == "nearest":
                nearest_voxels(cube, origin[::-1], turn[:3, 1][::-1], turn[:3, 0][::-1], out)
            else:
                cut(cube, origin[::-1], turn[:3, 1][::-1], turn[:3, 0][::-1], out)
            put(out, values[..., k].T, mask[..., k].T)

        in_parallel(range(k1 - k0), lambda: one)

    def _needed(self, turn: Any, window: Window) -> Window | None:
        corners = np.array([(i, j, k, 1.0) for i in (window[0][0], window[0][1] - 1)
                            for j in (window[1][0], window[1][1] - 1)
                            for k in (window[2][0], window[2][1] - 1)])  # fmt: skip
        places = (corners @ turn.T)[:, :3]
        wanted = tuple((int(np.floor(low)) - 1, int(np.floor(high)) + 3)
                       for low, high in zip(places.min(0), places.max(0), strict=True))  # fmt: skip
        return intersection(wanted, whole(self.parent.shape))
