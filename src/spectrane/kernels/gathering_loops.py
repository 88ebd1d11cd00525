"""Compiled forms of ``gathering``."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from spectrane.kernels.compiling import contracted, loop
from spectrane.kernels.convolving import NOTHING
from spectrane.kernels.gathering import CODES, HALF, NEAR_ONE, tap_count

RUN = 512
"""Outputs whose weights are found together, so that they are found side by side."""


@loop
def _kernel(code: int, x: float) -> float:
    a = abs(x)
    if code == 0:
        return max(0.0, 1.0 - a)
    if code == 1:
        if a <= 1.0:
            return (1.5 * a - 2.5) * a * a + 1.0
        return ((-0.5 * a + 2.5) * a - 4.0) * a + 2.0 if a < 2.0 else 0.0
    if code == 2:
        if a <= 1.0:
            return (1.0 - a * a) * (2.0 - a) / 2.0
        return (1.0 - a) * (2.0 - a) * (3.0 - a) / 6.0 if a < 2.0 else 0.0
    if a >= 3.0:
        return 0.0
    if a < 1e-12:
        return 1.0
    turn = math.pi * a
    found = math.sin(turn) * math.sin(turn / 3.0) * 3.0 / (turn * turn)
    return found if abs(found) >= NOTHING else 0.0


@loop
def _fill_weights(code: int, at: float, scale: float, reach: float, weights: Any) -> int:
    """Fill an axis's weights; return the first tap."""
    if code == 4:
        half = scale / 2.0
        first = float(math.floor(at - half))
        low, high = at - half - first, at + half - first
        for k in range(weights.shape[0]):
            weights[k] = max(0.0, min(k + 1.0, high) - max(float(k), low))
        return int(first)
    centre = at - 0.5
    first = math.floor(centre - reach * scale) + 1.0
    for k in range(weights.shape[0]):
        weights[k] = _kernel(code, (first + k - centre) / scale)
    return int(first)


@loop
def _careful(plane: Any, row: int, column: int, down: Any, across: Any) -> float:
    """Leave out what is invalid or outside; NaN where less than half is left."""
    total = full = signed = magnitude = whole = 0.0
    low, high = math.inf, -math.inf
    lost = False
    for k in range(down.shape[0]):
        r = row + k
        if r < 0 or r >= plane.shape[0]:
            continue
        for j in range(across.shape[0]):
            c = column + j
            if c < 0 or c >= plane.shape[1]:
                continue
            weight = down[k] * across[j]
            full += weight
            whole += abs(weight)
            value = plane[r, c]
            if math.isfinite(value):
                signed += weight
                magnitude += abs(weight)
                total += weight * value
                if weight != 0.0:
                    low = min(low, value)
                    high = max(high, value)
            elif weight != 0.0:
                lost = True
    if not (magnitude >= HALF * whole and signed >= HALF * full and signed > 0.0):
        return math.nan
    found = total / signed
    return min(max(found, low), high) if lost else found


@contracted
def _cubic_weights(
    columns: Any, rows: Any, place: Any, weights: Any, height: Any, width: Any
) -> None:
    """Fill a run's weights, and the first tap's place; -1 where a tap lies outside."""
    real = weights.dtype.type
    half, one, two = real(0.5), real(1.0), real(2.0)
    three, five = real(1.5), real(2.5)
    a0, a1, a2, a3 = weights[0], weights[1], weights[2], weights[3]
    b0, b1, b2, b3 = weights[4], weights[5], weights[6], weights[7]
    for j in range(columns.shape[0]):
        c, r = columns[j] - 0.5, rows[j] - 0.5
        # A comparison that NaN fails, too.
        inner = c >= 1.0 and r >= 1.0 and c < width - 2.0 and r < height - 2.0
        c, r = c if inner else 1.0, r if inner else 1.0
        fc, fr = math.floor(c), math.floor(r)
        # In the plane's own precision: no number is widened on its way into a sum.
        t, u = real(c - fc), real(r - fr)
        at = (np.int64(fr) - 1) * np.int64(width) + np.int64(fc) - 1
        place[j] = at if inner else np.int64(-1)
        a0[j] = ((one - half * t) * t - half) * t
        a1[j] = (three * t - five) * t * t + one
        a2[j] = ((two - three * t) * t + half) * t
        a3[j] = (half * t - half) * t * t
        b0[j] = ((one - half * u) * u - half) * u
        b1[j] = (three * u - five) * u * u + one
        b2[j] = ((two - three * u) * u + half) * u
        b3[j] = (half * u - half) * u * u


@contracted
def _cubic_sums(flat: Any, width: Any, place: Any, weights: Any, out: Any) -> None:
    """Sum four by four taps blindly; NaN where they are not all inside."""
    w1 = np.uint64(width)
    w2, w3 = w1 + w1, w1 + w1 + w1
    n1, n2, n3 = np.uint64(1), np.uint64(2), np.uint64(3)
    a0, a1, a2, a3 = weights[0], weights[1], weights[2], weights[3]
    b0, b1, b2, b3 = weights[4], weights[5], weights[6], weights[7]
    for j in range(out.shape[0]):
        at = place[j]
        k = np.uint64(at if at >= 0 else 0)
        below, third, fourth = k + w1, k + w2, k + w3
        x0, x1, x2, x3 = a0[j], a1[j], a2[j], a3[j]
        found = (
            b0[j] * (x0 * flat[k] + x1 * flat[k + n1] + x2 * flat[k + n2] + x3 * flat[k + n3])
            + b1[j]
            * (
                x0 * flat[below]
                + x1 * flat[below + n1]
                + x2 * flat[below + n2]
                + x3 * flat[below + n3]
            )
            + b2[j]
            * (
                x0 * flat[third]
                + x1 * flat[third + n1]
                + x2 * flat[third + n2]
                + x3 * flat[third + n3]
            )
            + b3[j]
            * (
                x0 * flat[fourth]
                + x1 * flat[fourth + n1]
                + x2 * flat[fourth + n2]
                + x3 * flat[fourth + n3]
            )
        )
        out[j] = found if at >= 0 else math.nan


@contracted
def _cubic_again(plane: Any, columns: Any, rows: Any, down: Any, across: Any, out: Any) -> None:
    """Do what is not finite with care."""
    height, width = plane.shape
    for j in range(out.shape[0]):
        if math.isfinite(out[j]):
            continue
        c, r = columns[j], rows[j]
        if not (c >= 0 and c < width and r >= 0 and r < height):
            out[j] = math.nan
            continue
        column = _fill_weights(1, c, 1.0, 2.0, across)
        row = _fill_weights(1, r, 1.0, 2.0, down)
        out[j] = _careful(plane, row, column, down, across)


@contracted
def _any_row(
    plane: Any, columns: Any, rows: Any, code: int, reach: float, row_scale: float,
    column_scale: float, down: Any, across: Any, out: Any,
) -> None:  # fmt: skip
    height, width = plane.shape
    for j in range(out.shape[0]):
        c, r = columns[j], rows[j]
        if not (c >= 0 and c < width and r >= 0 and r < height):
            out[j] = math.nan
            continue
        column = _fill_weights(code, c, column_scale, reach, across)
        row = _fill_weights(code, r, row_scale, reach, down)
        n, m = down.shape[0], across.shape[0]
        if column >= 0 and row >= 0 and column + m <= width and row + n <= height:
            found = weight = 0.0
            for k in range(n):
                line = plane[row + k, column : column + m]
                part = each = 0.0
                for i in range(m):
                    part += across[i] * line[i]
                    each += across[i]
                found += down[k] * part
                weight += down[k] * each
            found /= weight
            if math.isfinite(found):
                out[j] = found
                continue
        out[j] = _careful(plane, row, column, down, across)


@contracted
def _cubic(
    plane: Any, columns: Any, rows: Any, down: Any, across: Any, place: Any, weights: Any, out: Any
) -> None:  # fmt: skip
    height, width = plane.shape
    flat = plane.reshape(height * width)
    for i in range(out.shape[0]):
        for start in range(0, out.shape[1], RUN):
            c, r = columns[i, start : start + RUN], rows[i, start : start + RUN]
            part = out[i, start : start + RUN]
            if height >= 4 and width >= 4:
                _cubic_weights(c, r, place, weights, height, width)
                _cubic_sums(flat, width, place, weights, part)
            else:
                part[:] = math.nan
            _cubic_again(plane, c, r, down, across, part)


@contracted
def _any(
    plane: Any, columns: Any, rows: Any, code: int, reach: float, row_scale: float,
    column_scale: float, down: Any, across: Any, out: Any,
) -> None:  # fmt: skip
    for i in range(out.shape[0]):
        _any_row(plane, columns[i], rows[i], code, reach, row_scale, column_scale, down, across,
                 out[i])  # fmt: skip


def gathered(
    plane: Any, columns: Any, rows: Any, kernel: str, scales: tuple[float, float], out: Any
) -> None:
    """Fill ``out`` as ``gathering.gathered_reference`` does."""
    down, across = (np.zeros(tap_count(kernel, scale)) for scale in scales)
    plane = np.ascontiguousarray(plane)
    plain = all(scale <= NEAR_ONE for scale in scales)
    if kernel == "cubic" and plain:
        place, weights = np.empty(RUN, np.int64), np.empty((8, RUN), plane.dtype)
        _cubic(plane, columns, rows, down, across, place, weights, out)
        return
    reach = 0.0 if kernel == "area" else {"bilinear": 1.0, "lanczos": 3.0}.get(kernel, 2.0)
    wide = [max(s, 1e-6) if kernel == "area" else s if s > NEAR_ONE and kernel != "lagrange" else 1
            for s in scales]  # fmt: skip
    _any(plane, columns, rows, CODES[kernel], reach, float(wide[0]), float(wide[1]), down, across,
         out)  # fmt: skip


@loop
def _cells(nodes: Any, top: float, left: float, step: float, line: Any, out: Any) -> None:
    last = nodes.shape[1] - 2
    width = out.shape[1]
    for i in range(out.shape[0]):
        down = (top + i) / step
        r = min(int(down), nodes.shape[0] - 2)
        above, below = nodes[r], nodes[r + 1]
        u = down - r
        for c in range(line.shape[0]):
            line[c] = above[c] + u * (below[c] - above[c])
        row = out[i]
        begin = 0
        while begin < width:
            # A cell at a time: within one, positions go in even steps.
            c = min(int((left + begin) / step), last)
            end = width if c == last else min(width, math.ceil((c + 1) * step - left))
            end = max(end, begin + 1)
            slope = (line[c + 1] - line[c]) / step
            start = line[c] + (left + begin - c * step) * slope
            part = row[begin:end]
            for j in range(part.shape[0]):
                part[j] = start + j * slope
            begin = end


def bilinear_cells(nodes: Any, first: tuple[float, float], step: float, out: Any) -> None:
    """Fill ``out`` as ``gathering.bilinear_cell_reference`` does."""
    _cells(nodes, first[0], first[1], float(step), np.empty(nodes.shape[1]), out)
