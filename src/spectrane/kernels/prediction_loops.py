"""Compiled forms of ``prediction``."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.compiling import loop


@loop
def _undo_one(block: Any, skip: Any, sample: Any, out: Any) -> None:
    for row in range(out.shape[0]):
        line, plane = block[row], out[row]
        value = line[0, sample]
        for column in range(1, skip + 1):
            value += line[column, sample]
        plane[0] = value
        rest = line[skip:]
        for column in range(1, plane.shape[0]):
            value += rest[column, sample]
            plane[column] = value


@loop
def _undo_four(block: Any, a: Any, b: Any, c: Any, d: Any) -> None:
    for row in range(a.shape[0]):
        line = block[row]
        first, second, third, fourth = a[row], b[row], c[row], d[row]
        v, w, x, y = line[0, 0], line[0, 1], line[0, 2], line[0, 3]
        first[0], second[0], third[0], fourth[0] = v, w, x, y
        for column in range(1, first.shape[0]):
            v += line[column, 0]
            w += line[column, 1]
            x += line[column, 2]
            y += line[column, 3]
            first[column], second[column], third[column], fourth[column] = v, w, x, y


@loop
def _undo_three(block: Any, i: Any, j: Any, k: Any, a: Any, b: Any, c: Any) -> None:
    for row in range(a.shape[0]):
        line = block[row]
        first, second, third = a[row], b[row], c[row]
        u, v, w = line[0, i], line[0, j], line[0, k]
        first[0], second[0], third[0] = u, v, w
        for column in range(1, first.shape[0]):
            u += line[column, i]
            v += line[column, j]
            w += line[column, k]
            first[column], second[column], third[column] = u, v, w


def undo_differences(
    block: NDArray[Any], window: tuple[slice, slice], samples: list[int], out: list[NDArray[Any]]
) -> None:
    """Do as ``prediction.undo_differences_reference``, leaving ``block`` as it is."""
    rows, columns = window
    part = block[rows]
    if columns.start == 0 and samples == [0, 1, 2, 3] and block.shape[2] == 4:
        _undo_four(part, *out)
    elif columns.start == 0 and len(samples) == 3:
        _undo_three(part, *map(np.uint64, samples), *out)
    else:
        for sample, plane in zip(samples, out, strict=True):
            _undo_one(part, np.int64(columns.start), np.int64(sample), plane)
