"""Longitudes: a place has one in every turn; which is meant, and which a grid has."""

from __future__ import annotations

import math
from collections.abc import Sequence

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
    slack = 1e-9 * turn  # spans that only touch do not meet
    (low, high), (first, last) = span, (of[0] + slack, of[1] - slack)
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


def together(spans: Sequence[tuple[float, float]], turn: float) -> list[float]:
    """Return the whole turns by which spans lie nearest together, the first of which stays.

    Nothing moves where they are as near as they can be already.

    >>> together([(150.0, 230.0), (-170.0, -155.0)], 360.0)
    [0.0, 360.0]
    >>> together([(-180.0, 0.0), (0.0, 180.0)], 360.0)
    [0.0, 0.0]
    """
    low, high = np.array(spans, np.float64).T
    moved, best = np.zeros(len(low)), float(high.max() - low.min())
    if best <= turn / 2:
        return moved.tolist()  # the other way round is no shorter
    for start in np.unique(low % turn):
        shift = np.floor((low - start) / turn + 1e-9) * -turn
        width = float((high + shift).max() - (low + shift).min())
        if width < best - 1e-9 * turn:
            moved, best = shift, width
    return [float(one) + 0.0 for one in moved - moved[0]]


def plain_degrees(longitude: float) -> float:
    """Return degrees of longitude by whole turns from -180 on, and below 180.

    >>> plain_degrees(190.0), plain_degrees(-180.0), plain_degrees(540.0)
    (-170.0, -180.0, -180.0)
    """
    return (longitude + 180.0) % 360.0 - 180.0


def between_antimeridians(west: float, east: float) -> tuple[float, float]:
    """Return degrees from west to east within -180...180; west is the greater across 180 degrees.

    >>> between_antimeridians(150, 230), between_antimeridians(190, 230)
    ((150.0, -130.0), (-170.0, -130.0))
    >>> between_antimeridians(0, 360)
    (-180.0, 180.0)
    """
    if east - west >= 360.0 - 1e-9:
        return -180.0, 180.0
    first = plain_degrees(west)
    last = first + east - west
    return first, last if last <= 180.0 + 1e-9 else last - 360.0
