"""Resampling at any positions, without ever mixing in what is invalid: for regridding.

Where ``convolving`` serves even steps along rows and columns, here every output has a position
of its own. Planes are float32 or float64 with NaN where nothing is valid. Both the summed
absolute and the summed signed weight of the valid taps must reach half of what lies inside the
raster; where a tap is invalid, the rest is renormalised and clamped to the range of its taps.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.choice import Twin
from spectrane.kernels.convolving import KERNELS

CODES = {"bilinear": 0, "cubic": 1, "lagrange": 2, "lanczos": 3, "area": 4}
"""Kernels by number, for the compiled form."""
HALF = 0.5 * (1 - 1e-9)
NEAR_ONE = 1.01
"""Up to so many inputs per output, a kernel is not widened: zones of one projection differ so."""
_CHUNK = 1 << 16


def tap_count(kernel: str, scale: float) -> int:
    """Return how many taps an output has along an axis on which it covers ``scale`` inputs."""
    if kernel == "area":
        return int(np.ceil(max(scale, 1e-6))) + 1
    _, reach, widens = KERNELS[kernel]
    wide = scale if widens and scale > NEAR_ONE else 1.0
    return 2 * reach if wide == 1.0 else int(np.ceil(2 * reach * wide)) + 1


def tap_weights(
    kernel: str, at: NDArray[np.float64], scale: float
) -> tuple[NDArray[np.intp], list[NDArray[np.float64]]]:
    """Return the first tap and the weight of each, for corner-based positions."""
    count = tap_count(kernel, scale)
    if kernel == "area":
        half = max(scale, 1e-6) / 2
        first = np.floor(at - half)
        ends = (at - half - first, at + half - first)
        weights = [np.clip(np.minimum(k + 1, ends[1]) - np.maximum(k, ends[0]), 0, None)
                   for k in range(count)]  # fmt: skip
        return first.astype(np.intp), weights
    function, reach, widens = KERNELS[kernel]
    wide = scale if widens and scale > NEAR_ONE else 1.0
    centre = at - 0.5
    first = np.floor(centre - reach * wide) + 1
    return first.astype(np.intp), [function((first + k - centre) / wide) for k in range(count)]


def gathered_reference(
    plane: NDArray[Any], columns: NDArray[np.float64], rows: NDArray[np.float64], kernel: str,
    scales: tuple[float, float], out: NDArray[Any],
) -> None:  # fmt: skip
    """Fill ``out`` with what ``plane`` holds at corner-based positions, NaN where nothing is.

    ``plane`` must reach to the raster's edge or beyond all taps; ``scales`` are the inputs that
    an output covers along rows and along columns. Positions outside the plane give NaN.
    """
    flat = (columns.ravel(), rows.ravel(), out.reshape(-1))
    for start in range(0, len(flat[0]), _CHUNK):
        c, r, o = (part[start : start + _CHUNK] for part in flat)
        with np.errstate(invalid="ignore"):
            inside = (c >= 0) & (c < plane.shape[1]) & (r >= 0) & (r < plane.shape[0])
        o[...] = np.nan
        if inside.any():
            o[inside] = _gathered(plane, c[inside], r[inside], kernel, scales)


def _gathered(
    plane: NDArray[Any],
    columns: NDArray[np.float64],
    rows: NDArray[np.float64],
    kernel: str,
    scales: tuple[float, float],
) -> NDArray[np.float64]:
    """Sum blindly where all taps lie inside; only what is not finite then, with care."""
    first_row, down = tap_weights(kernel, rows, scales[0])
    first_column, across = tap_weights(kernel, columns, scales[1])
    inner = (first_row >= 0) & (first_row <= plane.shape[0] - len(down))
    inner &= (first_column >= 0) & (first_column <= plane.shape[1] - len(across))
    flat, width = plane.ravel(), plane.shape[1]
    start = np.where(inner, first_row * width + first_column, 0)
    values, weight = np.zeros(columns.shape), np.zeros(columns.shape)
    with np.errstate(invalid="ignore"):
        for k, weight_down in enumerate(down):
            line, each = np.zeros(columns.shape), np.zeros(columns.shape)
            for j, weight_across in enumerate(across):
                line += flat.take(start + (k * width + j), mode="clip") * weight_across
                each += weight_across
            values += line * weight_down
            weight += each * weight_down
        values /= weight
    careful = ~(inner & np.isfinite(values))
    if careful.any():
        values[careful] = _carefully(plane, columns[careful], rows[careful], kernel, scales)
    return values


def _carefully(
    plane: NDArray[Any],
    columns: NDArray[np.float64],
    rows: NDArray[np.float64],
    kernel: str,
    scales: tuple[float, float],
) -> NDArray[np.float64]:
    """Leave out what is invalid or outside; NaN where less than half is left."""
    first_row, down = tap_weights(kernel, rows, scales[0])
    first_column, across = tap_weights(kernel, columns, scales[1])
    shape = columns.shape
    total, full, signed, magnitude, whole = (np.zeros(shape) for _ in range(5))
    low, high = np.full(shape, np.inf), np.full(shape, -np.inf)
    lost = np.zeros(shape, bool)
    for k, weight_down in enumerate(down):
        row = first_row + k
        for j, weight_across in enumerate(across):
            column = first_column + j
            weight = weight_down * weight_across
            outside = (row < 0) | (row >= plane.shape[0]) | (column < 0)
            outside |= column >= plane.shape[1]
            weight = np.where(outside, 0.0, weight)
            value = plane[row.clip(0, plane.shape[0] - 1), column.clip(0, plane.shape[1] - 1)]
            valid = np.isfinite(value)
            full += weight
            whole += np.abs(weight)
            used = np.where(valid, weight, 0.0)
            lost |= ~valid & (weight != 0)
            signed += used
            magnitude += np.abs(used)
            total += used * np.where(valid, value, 0.0)
            taking = valid & (weight != 0)
            low = np.where(taking, np.minimum(low, value), low)
            high = np.where(taking, np.maximum(high, value), high)
    enough = (magnitude >= HALF * whole) & (signed >= HALF * full) & (signed > 0)
    values = total / np.where(enough, signed, 1.0)
    values = np.where(lost, np.clip(values, low, high), values)
    return np.where(enough, values, np.nan)


gathered = Twin(gathered_reference, "spectrane.kernels.gathering_loops", "gathered", 0.5)
"""``gathered_reference`` or its compiled twin; equal to rounding, with equal validity."""


def bilinear_cell_reference(
    nodes: NDArray[np.float64], first: tuple[float, float], step: float, out: NDArray[np.float64]
) -> None:
    """Fill ``out`` (rows, columns) bilinearly from a lattice of nodes.

    Output (i, j) lies at ``first`` + (i, j), in nodes' steps of ``step``; the lattice covers it.
    """
    down = (first[0] + np.arange(out.shape[0])) / step
    across = (first[1] + np.arange(out.shape[1])) / step
    r = np.minimum(down.astype(np.intp), nodes.shape[0] - 2)
    c = np.minimum(across.astype(np.intp), nodes.shape[1] - 2)
    rows = nodes[r] + (down - r)[:, np.newaxis] * (nodes[r + 1] - nodes[r])
    np.add(rows[:, c], (across - c) * (rows[:, c + 1] - rows[:, c]), out=out)


bilinear_cells = Twin(
    bilinear_cell_reference, "spectrane.kernels.gathering_loops", "bilinear_cells", 0.02
)
"""``bilinear_cell_reference`` or its compiled twin."""


def nearest_along(
    at: NDArray[np.float64], length: int
) -> tuple[NDArray[np.intp], NDArray[np.bool_]]:
    """Return which of ``length`` pixels along an axis holds each position, and where one does.

    >>> [found.tolist() for found in nearest_along(np.array([-0.1, 0.9, 1.0, 2.0]), 2)]
    [[0, 0, 1, 0], [False, True, True, False]]
    """
    with np.errstate(invalid="ignore"):
        inside = (at >= 0) & (at < length)
    return np.where(inside, at, 0).astype(np.intp), inside


def majority_at(
    plane: NDArray[Any], valid: NDArray[np.bool_], columns: NDArray[np.float64],
    rows: NDArray[np.float64], scales: tuple[float, float],
) -> tuple[NDArray[Any], NDArray[np.bool_]]:  # fmt: skip
    """Return the value that covers most of each output's area, and where half of it is valid.

    Ties go to the lowest value; the area outside the plane is left out.
    """
    first_row, down = tap_weights("area", rows, max(scales[0], 1.0))
    first_column, across = tap_weights("area", columns, max(scales[1], 1.0))
    kinds = np.unique(plane[valid])
    best, total, whole = (np.zeros(columns.shape) for _ in range(3))
    values = np.zeros(columns.shape, plane.dtype)
    taps = []
    for k, weight_down in enumerate(down):
        for j, weight_across in enumerate(across):
            row, column = first_row + k, first_column + j
            outside = (row < 0) | (row >= plane.shape[0]) | (column < 0)
            outside |= column >= plane.shape[1]
            weight = np.where(outside, 0.0, weight_down * weight_across)
            where = row.clip(0, plane.shape[0] - 1), column.clip(0, plane.shape[1] - 1)
            whole += weight
            taps.append((np.where(valid[where], weight, 0.0), plane[where]))
    for kind in kinds:
        share = np.zeros(columns.shape)
        for weight, value in taps:
            share += np.where(value == kind, weight, 0.0)
        better = share > best + 1e-9
        values[better] = kind
        best = np.maximum(best, share)
        total += share
    with np.errstate(invalid="ignore"):
        inside = (columns >= 0) & (columns < plane.shape[1])
        inside &= (rows >= 0) & (rows < plane.shape[0])
    return values, inside & (total >= HALF * whole) & (total > 0)
