"""Compiled forms of ``shrinking``."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.compiling import loop
from spectrane.kernels.shrinking import Spans


@loop
def _add_row(values: Any, weight: Any, line: Any) -> None:
    for k in range(line.shape[0]):
        line[k] += values[k] * weight


@loop
def _add_valid_row(values: Any, valid: Any, weight: Any, line: Any, kept: Any) -> None:
    for k in range(line.shape[0]):
        line[k] += line.dtype.type(values[k]) * weight if valid[k] else line.dtype.type(0)
        kept[k] += weight if valid[k] else np.float32(0)


@loop
def _fold(line: Any, start: Any, stop: Any, head: Any, tail: Any, out: Any) -> None:
    for j in range(start.shape[0]):
        part = line[start[j] : stop[j]]
        last = part.shape[0] - 1
        total = np.float64(part[0]) * head[j]
        if last > 0:
            total += np.float64(part[last]) * tail[j]
        for k in range(1, last):
            total += part[k]
        out[j] += total


@loop
def _add_area(
    values: Any, start: Any, stop: Any, head: Any, tail: Any,
    cstart: Any, cstop: Any, chead: Any, ctail: Any, sums: Any, line: Any,
) -> None:  # fmt: skip
    for i in range(start.shape[0]):
        line[:] = 0
        last = stop[i] - 1
        for row in range(start[i], stop[i]):
            weight = head[i] if row == start[i] else (tail[i] if row == last else np.float32(1))
            _add_row(values[row], weight, line)
        _fold(line, cstart, cstop, chead, ctail, sums[i])


@loop
def _add_valid_area(
    values: Any, valid: Any, start: Any, stop: Any, head: Any, tail: Any,
    cstart: Any, cstop: Any, chead: Any, ctail: Any,
    sums: Any, weights: Any, line: Any, kept: Any,
) -> None:  # fmt: skip
    for i in range(start.shape[0]):
        line[:] = 0
        kept[:] = 0
        last = stop[i] - 1
        for row in range(start[i], stop[i]):
            weight = head[i] if row == start[i] else (tail[i] if row == last else np.float32(1))
            _add_valid_row(values[row], valid[row], weight, line, kept)
        _fold(line, cstart, cstop, chead, ctail, sums[i])
        _fold(kept, cstart, cstop, chead, ctail, weights[i])


def add_area(
    values: NDArray[Any],
    valid: NDArray[np.bool_] | None,
    rows: Spans,
    columns: Spans,
    sums: NDArray[np.float64],
    weights: NDArray[np.float64] | None,
) -> None:
    """Do as ``shrinking.add_area_reference``."""
    plain = np.require(values, requirements=["C", "W"])
    if plain.dtype not in (np.uint8, np.uint16, np.float32, np.float64):
        plain = plain.astype(np.float32 if plain.dtype.itemsize <= 2 else np.float64)
    wide = np.float64 if plain.dtype == np.float64 else np.float32
    line = np.empty(plain.shape[1], wide)
    along = (rows.start, rows.stop, rows.head, rows.tail)
    across = (columns.start, columns.stop, columns.head, columns.tail)
    where = (rows.outputs, columns.outputs)
    if valid is None:
        _add_area(plain, *along, *across, sums[where], line)
        return
    assert weights is not None
    kept = np.empty(plain.shape[1], np.float32)
    mask = np.require(valid, requirements=["C", "W"])
    _add_valid_area(plain, mask, *along, *across, sums[where], weights[where], line, kept)
