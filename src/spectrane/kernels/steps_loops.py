"""Compiled forms of ``steps``."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels import steps
from spectrane.kernels.compiling import loop

_CHUNK = 512


@loop
def _cells(values: Any, origin: Any, density: Any, last: Any, out: Any) -> None:
    # Kept apart from the gathers below, so that it compiles to vector instructions.
    for k in range(values.shape[0]):
        place = (values[k] - origin) * density + np.float32(1)
        place = place if place > np.float32(0) else np.float32(0)  # NaN goes to 0 too
        place = place if place < last else last
        out[k] = np.uint32(np.int32(place))


@loop
def _line_words(values: Any, line: Any, palette: Any, nodata: Any, out: Any) -> None:
    scale, offset, low, span, turn, sign = line
    entry = np.empty(2 * _CHUNK, np.uint32)
    for row in range(values.shape[0]):
        for start in range(0, values.shape[1], 2 * _CHUNK):
            part = values[row, start : start + 2 * _CHUNK]
            words = out[row, start : start + 2 * _CHUNK]
            for k in range(part.shape[0]):
                v = part[k]
                u = (np.float64(v) * scale + offset - low) / span
                u = u if u > 0.0 else 0.0
                u = u if u < 1.0 else 1.0
                level = np.uint32(np.int32((turn + sign * u) * 255.0 + 0.5))
                entry[k] = level if (v == v) & (v != nodata) else np.uint32(256)
            for k in range(part.shape[0]):
                words[k] = palette[entry[k]]


@loop
def _step_words(
    values: Any, origin: Any, density: Any, edge: Any, below: Any, above: Any,
    nodata: Any, hidden: Any, out: Any,
) -> None:  # fmt: skip
    cell = np.empty(_CHUNK, np.uint32)
    last = np.float32(edge.shape[0] - 1)
    for row in range(values.shape[0]):
        for start in range(0, values.shape[1], _CHUNK):
            part = values[row, start : start + _CHUNK]
            words = out[row, start : start + _CHUNK]
            _cells(part, origin, density, last, cell)
            for k in range(part.shape[0]):
                v = part[k]
                c = cell[k]
                word = above[c] if v >= edge[c] else below[c]
                words[k] = word if (v == v) & (v != nodata) else hidden


@loop
def _step_levels(
    values: Any, origin: Any, density: Any, edge: Any, below: Any, above: Any, out: Any
) -> None:
    cell = np.empty(_CHUNK, np.uint32)
    last = np.float32(edge.shape[0] - 1)
    for row in range(values.shape[0]):
        for start in range(0, values.shape[1], _CHUNK):
            part = values[row, start : start + _CHUNK]
            levels = out[row, start : start + _CHUNK]
            _cells(part, origin, density, last, cell)
            for k in range(part.shape[0]):
                v = part[k]
                c = cell[k]
                level = above[c] if v >= edge[c] else below[c]
                levels[k] = level if v == v else np.uint8(0)


def step_words(
    values: NDArray[np.float32],
    stair: steps.Staircase,
    palette: NDArray[np.uint32],
    nodata: float,
    hidden: int,
    out: NDArray[np.uint32],
) -> None:
    """Do as ``steps.step_words_reference``."""
    if stair.line is not None:
        scale, offset, low, span, invert = stair.line
        line = (scale, offset, low, span, *((1.0, -1.0) if invert else (0.0, 1.0)))
        colors = np.append(palette, np.uint32(hidden))
        plain = np.require(values, requirements=["C", "W"])
        _line_words(plain, line, colors, np.float32(nodata), out)
        return
    if stair.edge is None:
        steps.step_words_reference(values, stair, palette, nodata, hidden, out)
        return
    below, above = palette[stair.below], palette[stair.above]
    plain = np.require(values, requirements=["C", "W"])
    _step_words(
        plain, stair.origin, stair.density, stair.edge, below, above,
        np.float32(nodata), np.uint32(hidden), out,
    )  # fmt: skip


def step_levels(
    values: NDArray[np.float32], stair: steps.Staircase, out: NDArray[np.uint8]
) -> None:
    """Do as ``steps.step_levels_reference``."""
    if stair.edge is None:
        steps.step_levels_reference(values, stair, out)
        return
    plain = np.require(values, requirements=["C", "W"])
    _step_levels(plain, stair.origin, stair.density, stair.edge, stair.below, stair.above, out)
