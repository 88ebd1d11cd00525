"""Measuring float32 numbers where they lie: extremes, moments, and counts in bins, exactly.

Values are (rows, columns) with columns side by side in memory; NaN, infinities and one no-data
value (NaN: none) are left out.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.choice import Twin
from spectrane.kernels.records import record

F32 = NDArray[np.float32]
_MOST_BINS = 65536


class Spread(NamedTuple):
    """How many count, least, greatest, mean, and the sum of squared deviations from it."""

    valid: int
    low: float
    high: float
    mean: float
    squares: float


NOTHING = Spread(0, np.inf, -np.inf, 0.0, 0.0)


def numbers_that_count(values: F32, nodata: float) -> F32:
    """Return the numbers that count, flat."""
    return np.asarray(values[np.isfinite(values) & (values != np.float32(nodata))])


def extremes_reference(values: F32, nodata: float) -> tuple[int, float, float]:
    """Return how many numbers count, the least and the greatest.

    >>> extremes_reference(np.float32([[3, np.nan, 7, -1]]), -1.0)
    (2, 3.0, 7.0)
    """
    numbers = numbers_that_count(values, nodata)
    if not numbers.size:
        return NOTHING[:3]
    return numbers.size, float(numbers.min()), float(numbers.max())


def spread_reference(values: F32, nodata: float) -> Spread:
    """Return the moments of the numbers that count, in float64."""
    numbers = numbers_that_count(values, nodata).astype(np.float64)
    if not numbers.size:
        return NOTHING
    mean = float(numbers.mean())
    away = numbers - mean
    return Spread(numbers.size, float(numbers.min()), float(numbers.max()), mean,
                  float(np.dot(away, away)))  # fmt: skip


@record(frozen=True, eq=False)
class Bins:
    """Even bins of physical values as bounds of stored numbers: exact whatever the rounding.

    ``edges`` (bins + 2) are, for w = v * ``sign``, the least w of each bin, +inf, and NaN for what
    lies outside; ``top`` is the greatest w of the last, closed bin. A number's place in even steps
    is right unless it lies within ``doubt`` of an edge, and next to right there; ``simple`` tells
    that doubts are small enough for that.
    """

    sign: np.float32
    edges: F32
    top: np.float32
    density: np.float32
    doubt: float

    @property
    def simple(self) -> bool:
        """Whether places in even steps are of use."""
        return self.doubt < 0.25

    @property
    def count(self) -> int:
        """How many bins there are."""
        return len(self.edges) - 2

    @classmethod
    def of(cls, edges: NDArray[np.float64], scale: float, offset: float) -> Bins:
        """Return the bins between ``edges`` of v * scale + offset, ascending; scale not 0.

        A bin holds its lower edge, the last one both, as computed in float64.
        """
        sign = np.float32(-1.0 if scale < 0 else 1.0)
        step = abs(scale)
        bounds = _least(edges, step, offset)
        with np.errstate(over="ignore"):
            above = _least(np.nextafter(edges[-1:], np.inf), step, offset)
            top = np.nextafter(above, np.float32(-np.inf))[0]
        count = len(edges) - 1
        span = float(bounds[-1]) - float(bounds[0])
        finite = np.isfinite(span) and span > 0
        density = np.float32(count / span) if finite else np.float32(0)
        far = np.float32(max(abs(bounds[0]), abs(bounds[-1])))
        with np.errstate(over="ignore"):
            coarse = float(np.spacing(far)) * float(density)
        fit = finite and bool(np.isfinite(density)) and count <= _MOST_BINS
        doubt = 2 * coarse + count * 2.0**-21 if fit else np.inf
        ends = np.array([np.inf, np.nan], np.float32)
        return cls(
            sign, np.concatenate([bounds[:-1], ends]), np.float32(top), density, float(doubt)
        )


def _least(wanted: NDArray[np.float64], scale: float, offset: float) -> F32:
    """Return the least float32 w with w * scale + offset at or above each wanted value."""

    def reached(w: F32) -> NDArray[np.bool_]:
        return w.astype(np.float64) * scale + offset >= wanted

    with np.errstate(over="ignore", invalid="ignore"):
        bound = ((wanted - offset) / scale).astype(np.float32)
        for _ in range(4):
            if (there := reached(bound)).all():
                break
            bound = np.where(there, bound, np.nextafter(bound, np.float32(np.inf)))
        for _ in range(4):
            below = np.nextafter(bound, np.float32(-np.inf))
            if not (there := reached(below)).any():
                break
            bound = np.where(there, below, bound)
    return bound


def bin_counts_reference(values: F32, nodata: float, bins: Bins, counts: NDArray[np.int64]) -> None:
    """Add to ``counts`` how many numbers lie in each bin; what lies outside is left out.

    >>> counts = np.zeros(2, np.int64)
    >>> bins = Bins.of(np.array([0.0, 1.0, 2.0]), 1.0, 0.0)
    >>> bin_counts_reference(np.float32([[0, 1, 2, 3, np.nan]]), np.nan, bins, counts)
    >>> counts.tolist()
    [1, 2]
    """
    w = numbers_that_count(values, nodata) * bins.sign
    w = w[(w >= bins.edges[0]) & (w <= bins.top)]
    place = np.searchsorted(bins.edges[: bins.count], w, side="right") - 1
    counts += np.bincount(place, minlength=bins.count)


def rows_of(values: F32) -> tuple[F32, int, int, int]:
    """Return values as one flat array, and rows, the step from row to row, and columns.

    A copy is made only where columns do not lie side by side.
    """
    if values.strides[1] != values.itemsize or values.strides[0] < 0:
        values = np.ascontiguousarray(values)
    rows, columns = values.shape
    step = values.strides[0] // values.itemsize if rows > 1 else columns
    if step * values.itemsize != values.strides[0] and rows > 1:
        return rows_of(np.ascontiguousarray(values))
    length = (rows - 1) * step + columns if rows else 0
    flat: Any = np.lib.stride_tricks.as_strided(values, (length,), (values.itemsize,))
    return flat, rows, step, columns


_LOOPS = "spectrane.kernels.measuring_loops"
extremes = Twin(extremes_reference, _LOOPS, "extremes", 0.004)
spread = Twin(spread_reference, _LOOPS, "spread", 0.012)
bin_counts = Twin(bin_counts_reference, _LOOPS, "bin_counts", 0.04)
