"""A volume with voxels made invalid where another volume says so, on that one's own grid."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.derived import Derived
from spectrane.engine.volumes import VolumeSource
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, extent
from spectrane.spatial.volumetric import RegriddedVolume


class MaskedVolume(Derived, VolumeSource):
    """A volume kept where a mask is valid and not 0 (with ``inverted``: where it is not).

    The mask's first frame counts; on another grid, the voxel nearest to each centre decides, and
    what lies outside it is not kept.
    """

    def __init__(self, parent: Source, mask: Source, *, inverted: bool = False) -> None:
        same = mask.grid.shape == parent.grid.shape and np.allclose(
            mask.grid.matrix, parent.grid.matrix, atol=1e-6)  # fmt: skip
        near = mask if same else RegriddedVolume(mask, parent.grid, "nearest")
        super().__init__(parent, near, has_mask=True)
        self.mask, self.inverted = near, inverted

    def zone(self, window: Window) -> NDArray[np.bool_]:
        """Return which voxels of a window the mask chooses."""
        pixels = self.mask.read([0], window)
        valid = pixels.validity[0]
        chosen = valid & (pixels.values[0] != 0)
        return np.asarray(~chosen if self.inverted else chosen).reshape(extent(window))

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the parent, with what is not chosen made invalid."""
        return self.parent.read(bands, window).only(self.zone(window))
