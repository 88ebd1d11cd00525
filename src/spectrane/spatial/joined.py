"""The bands of several sources on one grid, as one source."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.model.errors import GridMismatch
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, extent
from spectrane.spatial.grids import offset_on


class Joined(Derived, FullSource):
    """Bands of sources whose pixels coincide, in the order given."""

    def __init__(self, parents: Sequence[Source]) -> None:
        if not parents:
            raise GridMismatch("join_bands: there are no rasters")
        first = parents[0]
        for one in parents[1:]:
            if one.shape != first.shape or offset_on(one.grid, first.grid) != (0, 0):
                raise GridMismatch(
                    f"join_bands: {one.name or 'a raster'} does not lie on the first one's pixels "
                    f"({one.shape} at {one.grid.bounds}; {first.shape} at {first.grid.bounds}); "
                    "regrid it first"
                )
        super().__init__(
            *parents, bands=tuple(band for one in parents for band in one.bands),
            dtype=np.result_type(*[one.dtype for one in parents]),
            has_mask=any(one.has_mask or one.alpha for one in parents),
            nodata_when="any", alpha=None, look=None, metadata={},
        )  # fmt: skip

    def at_full(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from each source that holds a band asked for."""
        values = np.empty((len(bands), *extent(window)), self.dtype)
        mask = np.ones(values.shape, bool)
        start = 0
        for one in self.parents:
            places = [k for k, band in enumerate(bands) if start <= band < start + len(one.bands)]
            if places:
                pixels = one.read([bands[k] - start for k in places], window)
                values[places] = pixels.values
                mask[places] = pixels.validity
            start += len(one.bands)
        return Pixels(values, mask=None if mask.all() else mask)
