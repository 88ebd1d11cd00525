"""Cutting through a volume at any angle: trilinear, without mixing in what is invalid."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.choice import Twin
from spectrane.kernels.gathering import HALF
from spectrane.kernels.storing import as_stored

F64 = NDArray[np.float64]
EDGE = 0.5 + 1e-6
"""Half a voxel, and what rounding adds to it: how far outside a centre there still is one."""


def trilinear_reference(
    volume: NDArray[Any], origin: F64, down: F64, across: F64, out: NDArray[Any]
) -> None:
    """Fill ``out`` (rows, columns) from a volume (a, b, c) of numbers, NaN where invalid.

    Output (r, c) lies at voxel index ``origin`` + r * ``down`` + c * ``across``; whole numbers are
    voxels' centres. Taps outside are left out; positions more than half a voxel outside are NaN,
    and so is what has less than half of its weight in valid voxels.
    """
    rows = np.arange(out.shape[0])[:, np.newaxis]
    columns = np.arange(out.shape[1])[np.newaxis, :]
    at = [o + rows * d + columns * a for o, d, a in zip(origin, down, across, strict=True)]
    inside = np.ones(out.shape, bool)
    for one, length in zip(at, volume.shape, strict=True):
        inside &= (one >= -EDGE) & (one <= length - 1 + EDGE)
    first = [np.floor(one) for one in at]
    total, weight, full = (np.zeros(out.shape) for _ in range(3))
    for corner in np.ndindex(2, 2, 2):
        index = [f.astype(np.intp) + d for f, d in zip(first, corner, strict=True)]
        share = np.ones(out.shape)
        seen = np.ones(out.shape, bool)
        for k, one in enumerate(at):
            part = one - first[k]
            share = share * (part if corner[k] else 1 - part)
            seen &= (index[k] >= 0) & (index[k] < volume.shape[k])
        share = np.where(seen, share, 0.0)
        value = volume[tuple(i.clip(0, n - 1) for i, n in zip(index, volume.shape, strict=True))]
        valid = np.isfinite(value)
        full += share
        weight += np.where(valid, share, 0)
        total += np.where(valid, share * value, 0)
    enough = inside & (weight >= HALF * full) & (weight > 0)
    out[...] = np.where(enough, total / np.where(enough, weight, 1), np.nan)


def nearest_voxels(
    volume: NDArray[Any], origin: F64, down: F64, across: F64, out: NDArray[Any]
) -> None:
    """Fill ``out`` with the voxel each position lies in; NaN outside. As ``trilinear`` else."""
    rows = np.arange(out.shape[0])[:, np.newaxis]
    columns = np.arange(out.shape[1])[np.newaxis, :]
    inside = np.ones(out.shape, bool)
    index = []
    for first, by_row, by_column, length in zip(origin, down, across, volume.shape, strict=True):
        at = np.floor(first + rows * by_row + columns * by_column + 0.5)
        inside &= (at >= 0) & (at < length)
        index.append(at.clip(0, length - 1).astype(np.intp))
    out[...] = np.where(inside, volume[tuple(index)], np.nan)


def put(numbers: NDArray[Any], values: NDArray[Any], mask: NDArray[np.bool_]) -> None:
    """Bring a plane to the type of ``values``, and tell where it holds a number; 0 elsewhere."""
    np.logical_not(np.isnan(numbers), out=mask)
    values[...] = as_stored(np.where(mask, numbers, 0), values.dtype)


def stored_reference(
    volume: NDArray[Any], origin: F64, down: F64, across: F64, values: NDArray[Any],
    mask: NDArray[np.bool_],
) -> None:  # fmt: skip
    """Fill ``values`` in their own type and ``mask`` as ``trilinear_reference`` fills floats."""
    wide = np.float64 if values.dtype.itemsize > 2 and values.dtype != np.float32 else np.float32
    numbers = np.empty(values.shape, wide)
    trilinear_reference(volume, origin, down, across, numbers)
    put(numbers, values, mask)


WAYS = ("maximum", "minimum", "mean")


def slab_reference(
    volume: NDArray[Any], origin: F64, down: F64, across: F64, step: F64, count: int, way: int,
    out: NDArray[Any],
) -> None:  # fmt: skip
    """Fill ``out`` with the projection of ``count`` planes, each ``step`` from the one before.

    ``way`` is a place in ``WAYS``; planes are those of ``trilinear_reference``, and what none of
    them reaches is NaN.
    """
    total, seen = np.zeros(out.shape), np.zeros(out.shape, np.int64)
    plane = np.empty(out.shape, out.dtype)
    out[...] = np.nan
    for depth in range(count):
        trilinear_reference(volume, origin + depth * step, down, across, plane)
        if WAYS[way] == "mean":
            valid = ~np.isnan(plane)
            total += np.where(valid, plane, 0)
            seen += valid
        else:
            (np.fmax if WAYS[way] == "maximum" else np.fmin)(out, plane, out=out)
    if WAYS[way] == "mean":
        out[...] = np.where(seen > 0, total / np.maximum(seen, 1), np.nan)


slab = Twin(slab_reference, "spectrane.kernels.slicing_loops", "slab", 0.4)
"""``slab_reference`` or its compiled twin."""
stored = Twin(stored_reference, "spectrane.kernels.slicing_loops", "stored", 0.4)
"""``stored_reference`` or its compiled twin."""
trilinear = Twin(trilinear_reference, "spectrane.kernels.slicing_loops", "trilinear", 0.4)
"""``trilinear_reference`` or its compiled twin; equal to rounding, with equal validity."""


def along_axes(
    volume: NDArray[Any], origin: F64, down: F64, across: F64, out: NDArray[Any]
) -> bool:
    """Fill ``out`` as ``trilinear`` would, where the plane lies along the volume's own axes.

    Then the weights are products, and one axis after the other is interpolated: some thirty times
    faster than ``trilinear_reference``; its compiled twin, once loaded, is a third faster still
    (512 x 512, 600 x 512). Returns False, and leaves ``out``, where it does not lie so or a voxel
    is invalid.
    """
    rows, columns = _only_axis(down, len(out)), _only_axis(across, out.shape[1])
    if rows is None or columns is None or rows == columns or not np.isfinite(volume).all():
        return False
    deep = 3 - rows - columns
    plane = volume.transpose(deep, rows, columns)
    for axis, start, step, count in (
        (0, origin[deep], 0.0, 1), (1, origin[rows], down[rows], len(out)),
        (2, origin[columns], across[columns], out.shape[1]),
    ):  # fmt: skip
        plane = _along(plane, axis, start + step * np.arange(count))
    out[...] = plane[0]
    return True


def _only_axis(step: F64, count: int) -> int | None:
    """Return the axis that ``count`` steps follow; None where they leave it by a millionth."""
    axis = int(np.abs(step).argmax())
    away = np.delete(step, axis)
    return axis if (np.abs(away) * count < 1e-6).all() else None


def _along(values: NDArray[Any], axis: int, at: F64) -> NDArray[Any]:
    """Interpolate along one axis; the last taps alone up to half a voxel outside, then NaN."""
    length = values.shape[axis]
    first = np.floor(at)
    share = at - first
    below, above = ((first + k).clip(0, length - 1).astype(np.intp) for k in (0, 1))
    outside = (at < -EDGE) | (at > length - 1 + EDGE)
    result = values.take(below, axis).astype(np.float64)
    if share.any():
        shape = [1] * 3
        shape[axis] = len(at)
        result += (values.take(above, axis) - result) * share.reshape(shape)
    if outside.any():
        result[(slice(None),) * axis + (outside,)] = np.nan
    return result
