"""Longitudes: a place has one in every turn; which is meant, and which a grid has."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]
_MOST = 8
"""What reaches round the globe more often is no longitude."""


def turned(x: F64, middle: float, turn: float = 360.0) -> F64:
    """Return longitudes by whole turns within half a turn of a middle.

    >>> turned(np.array([-179.0, 10.0]), 180.0).tolist()
    [181.0, 10.0]
    """
    start = middle - turn / 2
    return np.where(np.isfinite(x), (x - start) % turn + start, x)


def shifts(span: tuple[float, float], of: tuple[float, float], turn: float) -> list[float]:
    """Return by which whole turns a span of longitudes meets another, which stays: none, or many.

    >>> shifts((-175.0, -170.0), (150.0, 230.0), 360.0)
    [360.0]
    >>> shifts((-180.0, 180.0), (0.0, 360.0), 360.0), shifts((20.0, 30.0), (40.0, 50.0), 360.0)
    ([0.0, 360.0], [])
    """
    (low, high), (first, last) = span, of
    least, most = math.floor((first - high) / turn) + 1, math.ceil((last - low) / turn) - 1
    return [k * turn for k in range(least, min(most, least + _MOST) + 1)]


def nearest_shift(span: tuple[float, float], of: tuple[float, float], turn: float) -> float:
    """Return the whole turns that bring a span furthest over another, or else nearest to it.

    >>> nearest_shift((-175.0, -170.0), (150.0, 230.0), 360.0)
    360.0
    >>> nearest_shift((-160.0, -150.0), (150.0, 190.0), 360.0)
    360.0
    """
    found = shifts(span, of, turn)
    if not found:
        return round((sum(of) - sum(span)) / 2 / turn) * turn

    def common(shift: float) -> float:
        return min(span[1] + shift, of[1]) - max(span[0] + shift, of[0])

    return max(found, key=common)
