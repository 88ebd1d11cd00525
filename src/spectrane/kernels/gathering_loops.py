"""Compiled forms of ``gathering``."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from spectrane.kernels.compiling import contracted, loop
from spectrane.kernels.convolving import NOTHING
from spectrane.kernels.gathering import CODES, HALF, NEAR_ONE, tap_count


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
def _cubic_row(plane: Any, columns: Any, rows: Any, down: Any, across: Any, out: Any) -> None:
    """Four by four taps, summed blindly; only where the sum is not finite with care."""
    height, width = plane.shape
    for j in range(out.shape[0]):
        c, r = columns[j] - 0.5, rows[j] - 0.5
        # A comparison that NaN fails, too.
        if not (c >= -0.5 and c < width - 0.5 and r >= -0.5 and r < height - 0.5):
            out[j] = math.nan
            continue
        fc, fr = math.floor(c), math.floor(r)
        t, u = c - fc, r - fr
        column, row = int(fc) - 1, int(fr) - 1
        a0 = ((-0.5 * t + 1.0) * t - 0.5) * t
        a1 = (1.5 * t - 2.5) * t * t + 1.0
        a2 = ((-1.5 * t + 2.0) * t + 0.5) * t
        a3 = (0.5 * t - 0.5) * t * t
        b0 = ((-0.5 * u + 1.0) * u - 0.5) * u
        b1 = (1.5 * u - 2.5) * u * u + 1.0
        b2 = ((-1.5 * u + 2.0) * u + 0.5) * u
        b3 = (0.5 * u - 0.5) * u * u
        if column >= 0 and row >= 0 and column + 4 <= width and row + 4 <= height:
            k = np.uint64(column)
            p0, p1 = plane[np.uint64(row)], plane[np.uint64(row + 1)]
            p2, p3 = plane[np.uint64(row + 2)], plane[np.uint64(row + 3)]
            k1, k2, k3 = k + np.uint64(1), k + np.uint64(2), k + np.uint64(3)
            found = (
                b0 * (a0 * p0[k] + a1 * p0[k1] + a2 * p0[k2] + a3 * p0[k3])
                + b1 * (a0 * p1[k] + a1 * p1[k1] + a2 * p1[k2] + a3 * p1[k3])
                + b2 * (a0 * p2[k] + a1 * p2[k1] + a2 * p2[k2] + a3 * p2[k3])
                + b3 * (a0 * p3[k] + a1 * p3[k1] + a2 * p3[k2] + a3 * p3[k3])
            )
            if math.isfinite(found):
                out[j] = found
                continue
        across[0], across[1], across[2], across[3] = a0, a1, a2, a3
        down[0], down[1], down[2], down[3] = b0, b1, b2, b3
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
def _cubic(plane: Any, columns: Any, rows: Any, down: Any, across: Any, out: Any) -> None:
    for i in range(out.shape[0]):
        _cubic_row(plane, columns[i], rows[i], down, across, out[i])


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
        _cubic(plane, columns, rows, down, across, out)
        return
    reach = 0.0 if kernel == "area" else {"bilinear": 1.0, "lanczos": 3.0}.get(kernel, 2.0)
    wide = [max(s, 1e-6) if kernel == "area" else s if s > NEAR_ONE and kernel != "lagrange" else 1
            for s in scales]  # fmt: skip
    _any(plane, columns, rows, CODES[kernel], reach, float(wide[0]), float(wide[1]), down, across,
         out)  # fmt: skip


@loop
def _cells(nodes: Any, top: float, left: float, step: float, line: Any, out: Any) -> None:
    last = nodes.shape[1] - 2
    for i in range(out.shape[0]):
        down = (top + i) / step
        r = min(int(down), nodes.shape[0] - 2)
        above, below = nodes[r], nodes[r + 1]
        u = down - r
        for c in range(line.shape[0]):
            line[c] = above[c] + u * (below[c] - above[c])
        row = out[i]
        for j in range(row.shape[0]):
            across = (left + j) / step
            c = min(int(across), last)
            row[j] = line[c] + (across - c) * (line[c + 1] - line[c])


def bilinear_cells(nodes: Any, first: tuple[float, float], step: float, out: Any) -> None:
    """Fill ``out`` as ``gathering.bilinear_cell_reference`` does."""
    _cells(nodes, first[0], first[1], float(step), np.empty(nodes.shape[1]), out)
