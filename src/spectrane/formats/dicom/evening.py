"""A stack of unevenly spaced planes as even ones, by linear interpolation between neighbours."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.derived import Derived
from spectrane.engine.volumes import VolumeSource
from spectrane.model.grid import Grid
from spectrane.model.physical import as_stored
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window


class EvenedVolume(Derived, VolumeSource):
    """A volume along k, evenly; ``depths`` (mm, from 0) are where the stored planes lie.

    The source's affine tells the even step. A voxel is invalid where its nearer neighbour is.
    """

    def __init__(self, stack: Source, depths: NDArray[np.float64], step: float) -> None:
        super().__init__(stack, has_mask=True)
        self.depths, self.step = depths, step
        i, j, _ = stack.shape
        count = int(np.floor(depths[-1] / step + 0.01)) + 1
        self.grid = Grid((i, j, count), stack.grid.affine, placed=stack.grid.placed)
        self.block_shape = (i, j, max(1, min(count, stack.block_shape[2])))
        self.metadata = {**stack.metadata, "evened": f"from {len(depths)} planes to {count}"}

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the two planes around each even one."""
        across, down, (first, last) = window
        wanted = np.clip(np.arange(first, last) * self.step, 0, self.depths[-1])
        above = np.clip(np.searchsorted(self.depths, wanted), 1, len(self.depths) - 1)
        below = above - 1
        share = (wanted - self.depths[below]) / (self.depths[above] - self.depths[below])
        low, high = int(below.min()), int(above.max()) + 1
        pixels = self.parent.read(bands, (across, down, (low, high)))
        valid = pixels.validity
        one, other = pixels.values[..., below - low], pixels.values[..., above - low]
        here, there = valid[..., below - low], valid[..., above - low]
        if not self.mixable:
            values = np.where(share < 0.5, one, other)
            return Pixels(values, mask=np.where(share < 0.5, here, there))
        weight = np.where(here & there, share, np.where(there, 1.0, 0.0))
        mixed = one * (1 - weight) + other * weight
        kept = np.where(share < 0.5, here, there)
        return Pixels(as_stored(np.where(kept, mixed, 0), self.dtype), mask=kept)
