"""Arrays as sources: rasters of (bands, rows, columns), volumes of (frames, i, j, k)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from spectrane.engine.lazy_arrays import LazyArray, LazyVolume, is_lazy
from spectrane.engine.memory import ArraySource, parts_first
from spectrane.engine.volumes import VolumeSource
from spectrane.model.asking import NoDataLike
from spectrane.model.band import Band, bands_of, numbered
from spectrane.model.errors import MetadataError
from spectrane.model.grid import Grid
from spectrane.model.nodata import NoDataRule, nodata_value, per_band
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, relative, whole
from spectrane.spatial.described import with_nodata


def array_source(
    array: ArrayLike, *, grid: Grid | None = None, bands: Iterable[Band | str] | None = None,
    nodata: NoDataLike = None, band_axis: int | None = None,
) -> Source:  # fmt: skip
    """Return a source of an array (rows, columns) or (bands, rows, columns), not copied."""
    if is_lazy(array):
        return _under(_lazy_source(array, grid, bands, band_axis), nodata)
    values = np.asanyarray(array)
    mask = None
    if isinstance(values, np.ma.MaskedArray):
        mask = ~np.ma.getmaskarray(values)
        values = values.data
    if values.ndim == 3:
        values = parts_first(values, band_axis, "bands", "band_axis")
        mask = None if mask is None else np.moveaxis(mask, band_axis or 0, 0)
    if values.ndim == 2:
        values, mask = values[np.newaxis], None if mask is None else mask[np.newaxis]
    source: Source = ArraySource(
        values, grid=grid, bands=None if bands is None else bands_of(bands), mask=mask
    )
    return _under(source, nodata)


def _under(source: Source, nodata: NoDataLike) -> Source:
    if nodata is None:
        return source
    rules = per_band(nodata, len(source.bands))
    return with_nodata(source, {k + 1: v for k, v in rules.items()})


def _lazy_source(
    array: Any, grid: Grid | None, bands: Iterable[Band | str] | None, axis: int | None
) -> Source:
    """Return a source of an array that computes its parts when they are read."""
    if array.ndim == 3:
        array = parts_first(array, axis, "bands", "band_axis")
    array = array[np.newaxis] if array.ndim == 2 else array
    return LazyArray(array, grid=grid, bands=None if bands is None else bands_of(bands))


def volume_source(
    array: ArrayLike, *, affine: ArrayLike, bands: Sequence[Band] | None = None,
    nodata: NoDataLike = None, frame_axis: int | None = None,
) -> Source:  # fmt: skip
    """Return a source of an array (i, j, k) or (frames, i, j, k), not copied; ``affine`` is 4x4."""
    lazy = is_lazy(array)
    values: Any = array if lazy else np.asarray(array)
    values = values[np.newaxis] if values.ndim == 3 else values
    if values.ndim == 4:
        values = parts_first(values, frame_axis, "frames", "frame_axis")
    if values.ndim != 4 or 0 in values.shape:
        raise MetadataError(f"array: expected (i, j, k) or (frames, i, j, k), not {values.shape}")
    matrix = tuple(map(tuple, np.asarray(affine, float).tolist()))
    grid = Grid(values.shape[1:], matrix, placed=True)
    if bands is not None and len(bands) != len(values):
        raise MetadataError(f"frames: {len(bands)} named, {len(values)} in the array")
    said = numbered(len(values)) if bands is None else bands
    named = [replace(b, nodata=nodata_value(nodata)) for b in said]
    return LazyVolume(values, grid=grid, bands=named) if lazy else HeldVolume(values, grid, named)


class HeldVolume(VolumeSource):
    """Frames held as an array (frames, i, j, k)."""

    def __init__(self, values: NDArray[Any], grid: Grid, bands: Sequence[Band]) -> None:
        if values.dtype.kind not in "biuf" or values.dtype.itemsize > 8:
            raise MetadataError(f"array: expected integers or floats up to 64 bits: {values.dtype}")
        self._values, self.grid, self.bands = values, grid, tuple(bands)
        self.held_values = values
        self.dtype = values.dtype.newbyteorder("=")
        i, j, k = values.shape[1:]
        self.block_shape = (i, j, max(1, min(k, (1 << 20) // max(1, i * j))))

    def in_memory(self, band: int) -> NDArray[Any] | None:
        """Return a frame (k, j, i) as it is held; None where some number means no-data."""
        held = self._values[band]
        nothing = self.bands[band].rule != NoDataRule()
        return None if nothing or held.dtype != self.dtype else held.T

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from memory."""
        i, j, k = relative(window, whole(self.shape))
        part = self._values[:, i, j, k]  # the window first: picking bands copies
        one = len(bands) == 1
        part = part[bands[0] : bands[0] + 1] if one else part[list(bands)]
        part = part.astype(self.dtype, copy=False)
        return Pixels(part, rules=[self.bands[band].rule for band in bands])
