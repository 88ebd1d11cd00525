"""Compiled form of ``slicing``."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from spectrane.kernels.compiling import contracted
from spectrane.kernels.gathering import HALF
from spectrane.kernels.slicing import EDGE


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
                value = volume[p, q, r]
                if math.isfinite(value):
                    weight += share
                    total += share * value
    if weight > 0.0 and weight >= HALF * full:
        return total / weight
    return math.nan


@contracted
def _row(
    volume: Any, a: float, b: float, c: float, da: float, db: float, dc: float, out: Any
) -> None:
    na, nb, nc = volume.shape
    flat = volume.reshape(na * nb * nc)
    real = volume.dtype.type
    plane, line = np.uint64(nb * nc), np.uint64(nc)
    one = np.uint64(1)
    for j in range(out.shape[0]):
        x, y, z = a + j * da, b + j * db, c + j * dc
        inner = x >= 0.0 and y >= 0.0 and z >= 0.0 and x < na - 1.0 and y < nb - 1.0
        found = real(math.nan)
        if inner and z < nc - 1.0:
            fx, fy, fz = int(x), int(y), int(z)
            u, v, w = real(x - fx), real(y - fy), real(z - fz)
            k = np.uint64((fx * nb + fy) * nc + fz)
            below = k + line
            m, n = k + plane, k + plane + line
            p = flat[k] + w * (flat[k + one] - flat[k])
            q = flat[below] + w * (flat[below + one] - flat[below])
            r = flat[m] + w * (flat[m + one] - flat[m])
            s = flat[n] + w * (flat[n + one] - flat[n])
            p += v * (q - p)
            r += v * (s - r)
            found = p + u * (r - p)
        out[j] = found if math.isfinite(found) else _careful(volume, x, y, z)


@contracted
def _trilinear(volume: Any, origin: Any, down: Any, across: Any, out: Any) -> None:
    for i in range(out.shape[0]):
        _row(volume, origin[0] + i * down[0], origin[1] + i * down[1], origin[2] + i * down[2],
             across[0], across[1], across[2], out[i])  # fmt: skip


def trilinear(volume: Any, origin: Any, down: Any, across: Any, out: Any) -> None:
    """Fill ``out`` as ``slicing.trilinear_reference`` does."""
    _trilinear(np.ascontiguousarray(volume), *(np.asarray(one, np.float64) for one in
                                               (origin, down, across)), out)  # fmt: skip
