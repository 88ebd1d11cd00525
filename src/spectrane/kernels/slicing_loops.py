"""Compiled form of ``slicing``."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from spectrane.kernels.compiling import contracted
from spectrane.kernels.gathering import HALF
from spectrane.kernels.slicing import EDGE, stored_reference


@contracted
def _careful(volume: Any, a: float, b: float, c: float) -> float:
    """Leave out what is invalid or outside; NaN where less than half is left."""
    na, nb, nc = volume.shape
    if not (a >= -EDGE and a <= na - 1 + EDGE and b >= -EDGE and b <= nb - 1 + EDGE):
        return math.nan
    if not (c >= -EDGE and c <= nc - 1 + EDGE):
        return math.nan
    fa, fb, fc = math.floor(a), math.floor(b), math.floor(c)
    total = weight = full = 0.0
    for i in range(2):
        p = int(fa) + i
        if p < 0 or p >= na:
            continue
        wa = a - fa if i else 1.0 - (a - fa)
        for j in range(2):
            q = int(fb) + j
            if q < 0 or q >= nb:
                continue
            wb = wa * (b - fb if j else 1.0 - (b - fb))
            for k in range(2):
                r = int(fc) + k
                if r < 0 or r >= nc:
                    continue
                share = wb * (c - fc if k else 1.0 - (c - fc))
                full += share
                value = float(volume[p, q, r])
                if math.isfinite(value):
                    weight += share
                    total += share * value
    if weight > 0.0 and weight >= HALF * full:
        return total / weight
    return math.nan


@contracted
def _inside(first: float, step: float, length: int, low: int, high: int) -> tuple[int, int]:
    """Narrow a range of steps to those that surely have both neighbours along an axis."""
    last = length - 1.0
    if step == 0.0:
        return (low, high) if 0.0 <= first < last else (0, 0)
    start, stop = -first / step, (last - first) / step
    if step < 0.0:
        start, stop = stop, start
    # A step is left to either end: rounding may not tell it.
    return max(low, math.ceil(min(max(start, 0.0), 1e9)) + 1), min(
        high, math.floor(min(max(stop, 0.0), 1e9)) - 1)  # fmt: skip


@contracted
def _row(
    volume: Any, a: float, b: float, c: float, da: float, db: float, dc: float, out: Any
) -> None:
    na, nb, nc = volume.shape
    flat = volume.reshape(na * nb * nc)
    real = out.dtype.type
    plane, line = np.uint64(nb * nc), np.uint64(nc)
    one = np.uint64(1)
    count = out.shape[0]
    low, high = _inside(a, da, na, 0, count)
    low, high = _inside(b, db, nb, low, high)
    low, high = _inside(c, dc, nc, low, high)
    low = min(low, count)
    high = max(low, high)
    for j in range(low):
        out[j] = _careful(volume, a + j * da, b + j * db, c + j * dc)
    for j in range(low, high):
        x, y, z = a + j * da, b + j * db, c + j * dc
        fx, fy, fz = int(x), int(y), int(z)
        u, v, w = real(x - fx), real(y - fy), real(z - fz)
        k = np.uint64((fx * nb + fy) * nc + fz)
        below = k + line
        m, n = k + plane, k + plane + line
        p, q, r, s = real(flat[k]), real(flat[below]), real(flat[m]), real(flat[n])
        p += w * (real(flat[k + one]) - p)
        q += w * (real(flat[below + one]) - q)
        r += w * (real(flat[m + one]) - r)
        s += w * (real(flat[n + one]) - s)
        p += v * (q - p)
        r += v * (s - r)
        found = p + u * (r - p)
        out[j] = found if math.isfinite(found) else _careful(volume, x, y, z)
    for j in range(high, count):
        out[j] = _careful(volume, a + j * da, b + j * db, c + j * dc)


@contracted
def _trilinear(volume: Any, origin: Any, down: Any, across: Any, out: Any) -> None:
    for i in range(out.shape[0]):
        _row(volume, origin[0] + i * down[0], origin[1] + i * down[1], origin[2] + i * down[2],
             across[0], across[1], across[2], out[i])  # fmt: skip


def trilinear(volume: Any, origin: Any, down: Any, across: Any, out: Any) -> None:
    """Fill ``out`` as ``slicing.trilinear_reference`` does."""
    _trilinear(np.ascontiguousarray(volume), *(np.asarray(one, np.float64) for one in
                                               (origin, down, across)), out)  # fmt: skip


@contracted
def _stored(
    volume: Any, origin: Any, down: Any, across: Any, row: Any, values: Any, mask: Any, ends: Any
) -> None:
    low, high = ends
    whole = low < high
    for i in range(values.shape[0]):
        _row(volume, origin[0] + i * down[0], origin[1] + i * down[1], origin[2] + i * down[2],
             across[0], across[1], across[2], row)  # fmt: skip
        into, seen = values[i], mask[i]
        for j in range(row.shape[0]):
            value = row[j]
            known = value == value
            seen[j] = known
            number = float(value) if known else 0.0
            if whole:
                number = min(max(math.floor(number + 0.5), low), high)
            into[j] = number


def stored(volume: Any, origin: Any, down: Any, across: Any, values: Any, mask: Any) -> None:
    """Fill ``values`` and ``mask`` as ``slicing.stored_reference`` does."""
    kind = values.dtype
    if kind.kind == "b":
        stored_reference(volume, origin, down, across, values, mask)
        return
    ends = (0.0, 0.0)
    if kind.kind in "iu":
        ends = (float(np.iinfo(kind).min), float(np.iinfo(kind).max))
    wide = np.float64 if kind.itemsize > 2 and kind != np.float32 else np.float32
    row = np.empty(values.shape[1], wide)
    places = (np.asarray(one, np.float64) for one in (origin, down, across))
    _stored(np.ascontiguousarray(volume), *places, row, values, mask, ends)


@contracted
def _slab(
    volume: Any, origin: Any, down: Any, across: Any, step: Any, count: int, way: int, row: Any,
    total: Any, seen: Any, out: Any,
) -> None:  # fmt: skip
    for i in range(out.shape[0]):
        best = out[i]
        for j in range(best.shape[0]):
            best[j], total[j], seen[j] = math.nan, 0.0, 0
        for d in range(count):
            _row(volume, origin[0] + i * down[0] + d * step[0],
                 origin[1] + i * down[1] + d * step[1], origin[2] + i * down[2] + d * step[2],
                 across[0], across[1], across[2], row)  # fmt: skip
            for j in range(best.shape[0]):
                value = row[j]
                if value != value:
                    continue
                seen[j] += 1
                if way == 2:
                    total[j] += value
                elif seen[j] == 1 or (value > best[j] if way == 0 else value < best[j]):
                    best[j] = value
        if way == 2:
            for j in range(best.shape[0]):
                if seen[j]:
                    best[j] = total[j] / seen[j]


def slab(
    volume: Any, origin: Any, down: Any, across: Any, step: Any, count: int, way: int, out: Any
) -> None:
    """Fill ``out`` as ``slicing.slab_reference`` does."""
    columns = out.shape[1]
    places = (np.asarray(one, np.float64) for one in (origin, down, across, step))
    _slab(np.ascontiguousarray(volume), *places, count, way, np.empty(columns, out.dtype),
          np.empty(columns), np.empty(columns, np.int64), out)  # fmt: skip
