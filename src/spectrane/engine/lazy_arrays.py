"""Arrays that compute their parts when asked for them, as sources: Dask's, say."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.full import FullSource
from spectrane.engine.volumes import VolumeSource
from spectrane.model.band import Band, numbered
from spectrane.model.errors import BandError, GridMismatch, MetadataError
from spectrane.model.grid import Grid
from spectrane.model.pixels import Pixels
from spectrane.model.window import Window

_BLOCK = 1 << 20
"""Numbers of a band that are asked for at once where the array has no chunks."""


def is_lazy(array: Any) -> bool:
    """Tell whether an array computes its numbers only when asked (Dask's protocol)."""
    graph = getattr(array, "__dask_graph__", None)
    return graph is not None and graph() is not None


class LazyArray(FullSource):
    """Bands of an array (bands, rows, columns) that is sliced when read; nothing is held.

    ``valid`` is another, of true and false, of what is valid.
    """

    def __init__(
        self, values: Any, *, grid: Grid | None = None, bands: Sequence[Band] | None = None,
        valid: Any = None,
    ) -> None:  # fmt: skip
        dtype = np.dtype(values.dtype)
        if dtype.kind not in "biuf" or dtype.itemsize > 8:
            raise MetadataError(f"array: expected integers or floats up to 64 bits, not {dtype}")
        lengths = tuple(map(int, values.shape[1:])) if not any(
            math.isnan(n) for n in values.shape) else ()  # fmt: skip
        if len(lengths) not in (2, 3) or 0 in (*lengths, values.shape[0]):
            raise MetadataError(f"array: expected bands and two or three axes of known length, "
                                f"none of them 0; got {values.shape}")  # fmt: skip
        self._values, self._valid = values, valid
        self.dtype = dtype.newbyteorder("=")
        self.grid = grid or Grid(lengths)
        self.bands = tuple(bands or numbered(values.shape[0]))
        if len(self.bands) != values.shape[0]:
            raise BandError(f"bands: {len(self.bands)} described, {values.shape[0]} in the array")
        if self.grid.shape != lengths:
            raise GridMismatch(f"grid: {self.grid.shape}, array {lengths}")
        self.has_mask = valid is not None
        chunks = getattr(values, "chunksize", None)
        rows = max(1, min(lengths[0], _BLOCK // max(1, math.prod(lengths[1:]))))
        self.block_shape = (rows, *lengths[1:]) if chunks is None else tuple(map(int, chunks[1:]))

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Compute a window."""
        mask = None if self._valid is None else self._part(self._valid, bands, window, bool)
        values = self._part(self._values, bands, window, self.dtype)
        rules = [self.bands[band].rule for band in bands]
        return Pixels(values, mask=mask, rules=rules, when=self.nodata_when)

    @staticmethod
    def _part(array: Any, bands: Sequence[int], window: Window, dtype: Any) -> NDArray[Any]:
        first, last = min(bands), max(bands) + 1
        where = (slice(first, last), *(slice(*pair) for pair in window))
        found = np.asarray(array[where])
        picked = [band - first for band in bands]
        chosen = found if picked == list(range(len(found))) else found[picked]
        return chosen.astype(dtype, copy=False)


class LazyVolume(LazyArray, VolumeSource):
    """Frames of an array (frames, i, j, k) that is sliced when read."""
