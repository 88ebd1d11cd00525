"""Area means on a grid whose rows and columns run along those of the input: axis by axis.

The same means as ``gathering`` finds at any positions, several times sooner.
"""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.gathering import HALF, tap_weights

_Taps: TypeAlias = list[tuple[NDArray[np.intp], NDArray[Any]]]
"""Which input each output takes, and its weight, tap by tap."""
_AT_A_TIME = 1 << 16
"""Numbers that are summed at a time, so that they stay in the cache."""


def area_means(
    plane: NDArray[Any], valid: NDArray[np.bool_] | None, rows: NDArray[np.float64],
    columns: NDArray[np.float64], scales: tuple[float, float], out: NDArray[Any],
) -> None:  # fmt: skip
    """Fill ``out`` (len(rows), len(columns)), of floats, with area means around corner-based
    positions.

    ``plane`` holds numbers of any type, ``valid`` where they mean something (None: wherever they
    are finite); it must reach to the raster's edge or beyond all taps. NaN where a position is
    outside, or less than half of what lies inside is valid. ``scales`` are the inputs that an
    output covers along rows and columns.

    >>> found = np.empty((1, 2))
    >>> area_means(np.array([[1, 3, 5]]), None, np.array([0.5]), np.array([0.75, 2.25]),
    ...            (1.0, 1.5), found)
    >>> found.round(6).tolist()
    [[1.666667, 4.333333]]
    """
    down = _Axis(rows, scales[0], plane.shape[0], out.dtype)
    across = _Axis(columns, scales[1], plane.shape[1], out.dtype)
    zero = plane.dtype.type(0)
    step = max(16, _AT_A_TIME // max(1, plane.shape[1]))
    for start in range(0, len(rows), step):
        part = slice(start, start + step)
        low, high = down.reach(part)
        some, means = plane[low:high], out[part]
        kept = None if valid is None else valid[low:high]
        if plane.dtype.kind == "f":
            kept = np.isfinite(some) if kept is None else kept & np.isfinite(some)
        full = np.multiply.outer(down.full[part], across.full)
        used, enough = full, full > 0
        if kept is not None and not kept.all():
            some = np.where(kept, some, zero)
            used = _summed(kept, down.part(part, low), across.taps, np.empty_like(full))
            enough = (used >= HALF * full * (1 - 1e-6)) & (used > 0)
        _summed(some, down.part(part, low), across.taps, means)
        with np.errstate(invalid="ignore", divide="ignore"):
            means /= used
        if not enough.all():
            means[~enough] = np.nan


class _Axis:
    """The taps of outputs along one axis; those outside weigh nothing, nor does all of an output
    whose position lies outside.
    """

    def __init__(
        self, at: NDArray[np.float64], scale: float, length: int, dtype: np.dtype[Any]
    ) -> None:
        first, weights = tap_weights("area", at, scale)
        inside = (at >= 0) & (at < length)
        self.taps: _Taps = []
        self.full = np.zeros(len(at), dtype)
        for k, weight in enumerate(weights):
            index = first + k
            own = np.where(inside & (index >= 0) & (index < length), weight, 0.0).astype(dtype)
            self.full += own
            if own.any():
                self.taps.append((index.clip(0, length - 1), own))

    def reach(self, part: slice) -> tuple[int, int]:
        """Return the inputs (half-open) that some outputs are summed from."""
        if not self.taps:
            return 0, 0
        return int(self.taps[0][0][part].min()), int(self.taps[-1][0][part].max()) + 1

    def part(self, part: slice, low: int) -> _Taps:
        """Return the taps of some outputs along the first axis, counted from an input on."""
        return [(index[part] - low, weight[part, np.newaxis]) for index, weight in self.taps]


def _summed(plane: NDArray[Any], down: _Taps, across: _Taps, out: NDArray[Any]) -> NDArray[Any]:
    """Fill ``out`` with the weighted sums of what taps along both axes take."""
    lines = np.empty((len(out), plane.shape[1]), out.dtype)
    _weighed(plane, 0, down, lines)
    _weighed(lines, 1, across, out)
    return out


def _weighed(plane: NDArray[Any], axis: int, taps: _Taps, out: NDArray[Any]) -> None:
    """Fill ``out`` with the sums of what each tap takes along an axis, times its weights."""
    taken, term = np.empty(out.shape, plane.dtype), np.empty_like(out)
    if not taps:
        out[...] = 0
    for k, (index, weight) in enumerate(taps):
        plane.take(index, axis, out=taken, mode="clip")  # all are inside: quicker than asking
        np.multiply(taken, weight, out=term if k else out)
        if k:
            out += term
