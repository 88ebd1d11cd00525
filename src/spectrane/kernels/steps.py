"""Exact display levels of float32 values for any monotone curve.

The float64 definition of a curve, from a float32 number to a level, is a staircase. Its steps
are found once, by bisection over float32 bit patterns; then each pixel needs one cell look-up
and one comparison, and has exactly the level of the definition.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple, TypeAlias

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.choice import Twin
from spectrane.kernels.ranks import distinct
from spectrane.kernels.records import record

F32: TypeAlias = NDArray[np.float32]
_ROWS = 64
_FIRST_CELLS, _MOST_CELLS = 4096, 65536


class Line(NamedTuple):
    """A linear curve's definition in float64, for loops that compute it faster than look it up.

    u = clip((v * scale + offset - low) / span, 0, 1), t = u or 1 - u (``invert``); span not 0.
    """

    scale: float
    offset: float
    low: float
    span: float
    invert: bool


@record(frozen=True)
class Staircase:
    """The steps of a curve, and cells that hold at most one step each.

    ``steps`` are the least float32 values that reach ordinal 1, 2, …; a value's ordinal is
    how many steps it has reached, and ``levels[ordinal]`` its level. A value v lies in cell
    ``int(clip((v - origin) * density, 0, cells - 1))``; ``edge[cell]`` is the step in it (or
    infinity), ``below[cell]`` the ordinal before it. ``edge`` is None where no cell size that is
    tried separates all the steps; then the steps are searched. ``line`` is the same curve where
    it is a straight line.
    """

    steps: F32
    levels: NDArray[np.uint8]
    origin: np.float32
    density: np.float32
    edge: F32 | None
    below: NDArray[np.uint8]
    above: NDArray[np.uint8]
    line: Line | None = None


def staircase(level: Callable[[NDArray[np.float64]], NDArray[np.float64]]) -> Staircase:
    """Find the steps of ``level``: float64 values to levels 0...255, monotone either way.

    >>> stair = staircase(lambda v: np.floor(np.clip(v / 10, 0, 1) * 255 + 0.5))
    >>> levels_of(np.float32([[0, 5, 10, 99]]), stair).tolist()
    [[0, 128, 255, 255]]
    """
    ends = level(np.array([-np.inf, np.inf]))
    falling = bool(ends[0] > ends[1])
    levels = np.arange(256, dtype=np.uint8)
    levels = levels[::-1].copy() if falling else levels

    def ordinal(values: NDArray[np.float64]) -> NDArray[np.float64]:
        return 255.0 - level(values) if falling else level(values)

    steps = _bisected(ordinal)
    return _with_cells(steps, levels)


def _bisected(ordinal: Callable[[NDArray[np.float64]], NDArray[np.float64]]) -> F32:
    wanted = np.arange(1, 256, dtype=np.float64)
    low = np.full(255, _key(np.float32(-np.inf)), np.int64)
    high = np.full(255, _key(np.float32(np.inf)), np.int64)
    reached = ordinal(np.array([np.inf]))[0] >= wanted
    while (high - low > 1).any():
        middle = (low + high) // 2
        up = ordinal(_from_key(middle).astype(np.float64)) >= wanted
        high, low = np.where(up, middle, high), np.where(up, low, middle)
    from_start = ordinal(np.array([-np.inf]))[0] >= wanted
    steps = np.where(from_start, np.float32(-np.inf), _from_key(high))
    # A level that even +infinity does not reach gets NaN, which no value is at or above.
    return np.where(reached, steps, np.float32(np.nan)).astype(np.float32)


def _key(value: np.float32) -> int:
    bits = int(np.array(value, np.float32).view(np.int32))
    return bits if bits >= 0 else -(bits & 0x7FFFFFFF)


def _from_key(keys: NDArray[np.int64]) -> F32:
    bits = np.where(keys >= 0, keys, (-keys) | 0x80000000)
    return bits.astype(np.uint32).view(np.float32)


def _with_cells(steps: F32, levels: NDArray[np.uint8]) -> Staircase:
    finite = distinct(steps[np.isfinite(steps)])
    origin = finite[0] if len(finite) else np.float32(0)
    span = float(finite[-1]) - float(origin) if len(finite) else 0.0
    cells = _FIRST_CELLS
    while cells <= _MOST_CELLS:
        with np.errstate(over="ignore"):
            density = np.float32((cells - 2) / span) if span > 0 else np.float32(1)
        stair = _filled(steps, levels, finite, origin, density, cells)
        if stair is not None:
            return stair
        cells *= 2
    ordinals = np.zeros(1, np.uint8)
    return Staircase(steps, levels, origin, np.float32(0), None, ordinals, ordinals)


def _filled(
    steps: F32,
    levels: NDArray[np.uint8],
    finite: F32,
    origin: np.float32,
    density: np.float32,
    cells: int,
) -> Staircase | None:
    if not np.isfinite(density) or density == 0:
        return None
    # Cell 0 takes what lies before the first step, so the steps' own cells start at 1.
    own = _cell(finite, origin, density, cells)
    if len(distinct(own)) < len(finite):
        return None
    edge = np.full(cells, np.inf, np.float32)
    edge[own] = finite
    counts = np.searchsorted(np.sort(steps[~np.isnan(steps)]), finite, side="right")
    jump = np.zeros(cells, np.int64)
    start = int((steps == -np.inf).sum())
    jump[own] = np.diff(np.concatenate([[start], counts]))
    after = start + np.cumsum(jump)
    below = levels[(after - jump).astype(np.uint8)]
    above = levels[after.astype(np.uint8)]
    # Infinity reaches the step "infinity" of a cell without one; it must not change the level.
    return Staircase(steps, levels, origin, density, edge, below, above)


def _cell(values: F32, origin: np.float32, density: np.float32, cells: int) -> NDArray[np.intp]:
    """Return the cell of each value; NaN's is any number, also of none."""
    with np.errstate(invalid="ignore", over="ignore"):
        place = values - origin
        place *= density
        place += np.float32(1)
        np.clip(place, np.float32(0), np.float32(cells - 1), out=place)
        return place.astype(np.intp)


def levels_of(values: F32, stair: Staircase) -> NDArray[np.uint8]:
    """Return the level of each value, any shape; NaN gets level 0."""
    if stair.edge is None:
        ordered = np.sort(stair.steps[~np.isnan(stair.steps)])
        found = stair.levels[np.searchsorted(ordered, values, side="right")]
    else:
        cell = _cell(values, stair.origin, stair.density, len(stair.edge))
        reached = values >= np.take(stair.edge, cell, mode="clip")
        cell *= 2
        cell += reached
        found = np.take(np.stack([stair.below, stair.above], axis=1), cell, mode="clip")
    nothing = np.isnan(values)
    return np.where(nothing, np.uint8(0), found) if nothing.any() else found


def step_words_reference(
    values: F32,
    stair: Staircase,
    palette: NDArray[np.uint32],
    nodata: float,
    hidden: int,
    out: NDArray[np.uint32],
) -> None:
    """Fill ``out`` with ``palette[level]``, and ``hidden`` where NaN or equal to ``nodata``.

    ``values`` and ``out`` are (rows, columns); ``palette`` has 256 words; ``nodata`` NaN for
    none.
    """
    for start in range(0, len(values), _ROWS):
        part = values[start : start + _ROWS]
        word = np.take(palette, levels_of(part, stair))
        invalid = np.isnan(part) | (part == np.float32(nodata))
        out[start : start + _ROWS] = np.where(invalid, np.uint32(hidden), word)


def step_levels_reference(values: F32, stair: Staircase, out: NDArray[np.uint8]) -> None:
    """Fill ``out`` with the level of each value; NaN gets level 0. Shapes (rows, columns)."""
    for start in range(0, len(values), _ROWS):
        out[start : start + _ROWS] = levels_of(values[start : start + _ROWS], stair)


_LOOPS = "spectrane.kernels.steps_loops"
step_words = Twin(step_words_reference, _LOOPS, "step_words", 0.012)
step_levels = Twin(step_levels_reference, _LOOPS, "step_levels", 0.012)


def packed_words(planes: list[NDArray[Any]], alpha: NDArray[Any], out: NDArray[np.uint32]) -> None:
    """Fill ``out`` with words from three planes of levels and one of alpha, all uint8."""
    view = out.view(np.uint8).reshape(*out.shape, 4)
    for channel, plane in enumerate([*planes, alpha]):
        view[..., channel] = plane
