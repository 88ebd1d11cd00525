"""Area means on a grid whose rows and columns run along those of the input: axis by axis.

The same means as ``gathering`` finds at any positions, several times sooner.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.gathering import HALF, tap_weights

_ROWS = 64
"""Outputs that are summed at a time, so that what they are summed from stays in the cache."""


def area_means(
    plane: NDArray[Any], valid: NDArray[np.bool_] | None, rows: NDArray[np.float64],
    columns: NDArray[np.float64], scales: tuple[float, float], out: NDArray[Any],
) -> None:  # fmt: skip
    """Fill ``out`` (len(rows), len(columns)) with area means around corner-based positions.

    ``plane`` is float, ``valid`` where it means something (None: everywhere); it must reach to the
    raster's edge or beyond all taps. NaN where a position is outside, or less than half of what
    lies inside is valid. ``scales`` are the inputs that an output covers along rows and columns.

    >>> found = np.empty((1, 2))
    >>> area_means(np.array([[1.0, 3.0, 5.0]]), None, np.array([0.5]), np.array([0.75, 2.25]),
    ...            (1.0, 1.5), found)
    >>> found.round(6).tolist()
    [[1.666667, 4.333333]]
    """
    down, across = _Axis(rows, scales[0], plane.shape[0]), _Axis(columns, scales[1], plane.shape[1])
    filled = plane if valid is None else np.where(valid, plane, plane.dtype.type(0))
    kept = None if valid is None else valid.astype(plane.dtype)
    for start in range(0, len(rows), _ROWS):
        part = slice(start, start + _ROWS)
        full = np.multiply.outer(down.full[part], across.full)
        total = _across(across, down.summed(filled, part))
        if kept is None:
            used, enough = full, full > 0
        else:
            used = _across(across, down.summed(kept, part))
            enough = (used >= HALF * full * (1 - 1e-6)) & (used > 0)
        with np.errstate(invalid="ignore", divide="ignore"):
            means = total / used
        out[part] = means if enough.all() else np.where(enough, means, np.nan)


class _Axis:
    """The taps of outputs along one axis; those outside weigh nothing, nor does all of an output
    whose position lies outside.
    """

    def __init__(self, at: NDArray[np.float64], scale: float, length: int) -> None:
        first, weights = tap_weights("area", at, scale)
        inside = (at >= 0) & (at < length)
        self.taps = []
        self.full = np.zeros(len(at))
        for k, weight in enumerate(weights):
            index = first + k
            own = np.where(inside & (index >= 0) & (index < length), weight, 0.0)
            self.full += own
            if own.any():
                self.taps.append((index.clip(0, length - 1), own))

    def summed(self, plane: NDArray[Any], part: slice = slice(None)) -> NDArray[Any]:
        """Return the weighted sums of some outputs along the first axis."""
        count = len(self.full[part])
        out = np.zeros((count, plane.shape[1]), plane.dtype)
        some = np.empty_like(out)
        for index, weight in self.taps:
            plane.take(index[part], axis=0, out=some, mode="clip")  # all are inside: clipped before
            some *= weight[part, np.newaxis].astype(plane.dtype)
            out += some
        return out


def _across(axis: _Axis, plane: NDArray[Any]) -> NDArray[Any]:
    """Return the weighted sums along the second axis; turned once, not for each tap."""
    return axis.summed(np.ascontiguousarray(plane.T)).T
