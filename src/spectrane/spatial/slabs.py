"""Slabs parallel to stored planes: stored voxels are projected first, then cut as one plane.

A stored plane counts by the share of its thickness that lies in the slab; for the maximum and the
minimum it counts where that is at least a half, and the nearest one always does.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.derived import Derived
from spectrane.engine.volumes import VolumeSource
from spectrane.model.physical import value_dtype
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, extent

F64 = NDArray[np.float64]
_STRAIGHT = 1e-6
"""Of a spacing: how far an axis may lean and still count as parallel to a patient's."""
_PIECE = 32 << 20
"""Numbers that are projected at a time, at most."""
_HALF = 0.5 - 1e-9


def parallel(volume: Source, across: int) -> int | None:
    """Return the stored axis along a patient's axis, where the others are square to it; else None.

    >>> from spectrane import volume_from_array
    >>> held = volume_from_array(np.zeros((2, 3, 4)), affine=np.diag([2, 2, 3, 1]))
    >>> parallel(held._source, 2)
    2
    """
    turn = volume.grid.matrix[:3, :3]
    spacing = np.linalg.norm(turn, axis=0)
    stored = int(np.argmax(np.abs(turn[across]) / spacing))
    own = abs(turn[across, stored]) >= spacing[stored] * (1 - _STRAIGHT)
    others = np.delete(np.abs(turn[across]) / spacing, stored).max() <= _STRAIGHT
    return stored if own and others else None


class Slab(Derived, VolumeSource):
    """One thick plane of voxels, the projection of those of a volume; NaN where none is valid."""

    def __init__(
        self, volume: Source, axis: int, across: int, at: float, thickness: float, project: str
    ) -> None:
        grid = volume.grid
        self.axis, self.project = axis, project
        step = grid.matrix[across, axis]
        middle = (at - grid.matrix[across, 3]) / step
        half = thickness / abs(step) / 2
        self.first, self.shares = _shares(middle, half, grid.shape[axis], project == "mean")
        matrix = grid.matrix.copy()
        matrix[:3, 3] += matrix[:3, axis] * middle
        matrix[:3, axis] *= max(2 * half, 1.0)
        shape = list(grid.shape)
        shape[axis] = 1
        held = replace(grid, shape=tuple(shape), affine=tuple(map(tuple, matrix.tolist())))
        super().__init__(volume, grid=held, dtype=value_dtype(volume.dtype), has_mask=True,
                         between=volume.between)  # fmt: skip
        self.block_shape = tuple(shape)

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the parent, some stored planes at a time."""
        flat = [n for k, n in enumerate(extent(window)) if k != self.axis]
        found = np.empty((len(bands), *flat), self.dtype)
        for place, band in enumerate(bands):
            found[place] = self._projected(band, window)
        values = np.expand_dims(found, 1 + self.axis)
        return Pixels(values, mask=np.isfinite(values))

    def _projected(self, band: int, window: Window) -> NDArray[Any]:
        flat = tuple(n for k, n in enumerate(extent(window)) if k != self.axis)
        step = max(1, _PIECE // max(1, int(np.prod(flat))))
        run = _Mean(flat) if self.project == "mean" else _Extreme(flat, self.project)
        for start in range(0, len(self.shares), step):
            shares = self.shares[start : start + step]
            part = list(window)
            part[self.axis] = (self.first + start, self.first + start + len(shares))
            pixels = self.parent.read([band], tuple(part))
            valid = pixels.valid
            everything = valid.size == 1 and bool(valid.all())
            if not everything and pixels.values.dtype.kind != "f":
                valid = np.broadcast_to(valid, pixels.values.shape)
                everything = bool(valid.all())
            run.take(pixels.values[0], None if everything else valid[0], shares, self.axis)
        return run.found()


class _Extreme:
    """The greatest or least of valid values, taken part by part."""

    def __init__(self, shape: tuple[int, ...], project: str) -> None:
        self.reduce = np.fmax if project == "maximum" else np.fmin
        self.value: NDArray[Any] = np.full(shape, np.nan)

    def take(
        self, values: NDArray[Any], valid: NDArray[np.bool_] | None, shares: F64, axis: int
    ) -> None:
        """Hold stored planes against what was found before."""
        if valid is not None:
            values = np.where(valid, values.astype(value_dtype(values.dtype)), np.nan)
        whole = np.maximum if self.reduce is np.fmax else np.minimum
        way = self.reduce if values.dtype.kind == "f" else whole
        self.value = self.reduce(self.value, way.reduce(values, axis=axis))

    def found(self) -> NDArray[Any]:
        """Return the extreme; NaN where nothing is valid."""
        return self.value


class _Mean:
    """The mean of valid values by their planes' shares, taken part by part."""

    def __init__(self, shape: tuple[int, ...]) -> None:
        self.total, self.weight = np.zeros(shape), np.zeros(shape)

    def take(
        self, values: NDArray[Any], valid: NDArray[np.bool_] | None, shares: F64, axis: int
    ) -> None:
        """Add stored planes, each by its share."""
        if valid is None and values.dtype.kind == "f" and not np.isfinite(values).all():
            valid = np.isfinite(values)
        if valid is None:
            whole = np.flatnonzero(shares == 1.0)
            run = slice(whole[0], whole[-1] + 1) if whole.size else slice(0, 0)
            kind = np.int64 if values.dtype.kind in "iub" else np.float64
            inner = np.moveaxis(values, axis, 0)
            self.total += inner[run].sum(axis=0, dtype=kind)
            for k in np.flatnonzero(shares != 1.0).tolist():
                self.total += inner[k] * shares[k]
            self.weight += shares.sum()
            return
        inner, known = np.moveaxis(values, axis, 0), np.moveaxis(valid, axis, 0)
        for plane, seen, share in zip(inner, known, shares.tolist(), strict=True):
            self.total += np.where(seen, plane, 0) * share
            self.weight += seen * share

    def found(self) -> NDArray[Any]:
        """Return the mean; NaN where nothing is valid."""
        some = self.weight > 0
        return np.where(some, self.total / np.where(some, self.weight, 1.0), np.nan)


def _shares(middle: float, half: float, count: int, weighted: bool) -> tuple[int, F64]:
    """Return the first stored plane that counts, and the share of each from there on.

    >>> _shares(3.0, 1.0, 10, True)[1].tolist(), _shares(3.0, 1.0, 10, False)[0]
    ([0.5, 1.0, 0.5], 2)
    """
    index = np.arange(count)
    low, high = np.maximum(index - 0.5, middle - half), np.minimum(index + 0.5, middle + half)
    shares = np.clip(high - low, 0.0, 1.0)
    shares[shares > 1 - 1e-9] = 1.0
    nearest = int(np.clip(np.floor(middle + 0.5), 0, count - 1))
    counts = shares > 1e-9 if weighted else shares >= _HALF
    counts[nearest] = True
    if not weighted or shares[nearest] == 0:
        shares = np.where(counts, 1.0, 0.0)
    kept = np.flatnonzero(counts)
    return int(kept[0]), shares[kept[0] : kept[-1] + 1]
